; A program for one user alone, in his profile and his registry.
Unicode true
Name "Rindwell Cheese Ledger"
OutFile "cheese-ledger.exe"
InstallDir "$LOCALAPPDATA\Programs\Rindwell\Cheese Ledger"
RequestExecutionLevel user
SilentInstall silent
!define LIST "Software\Microsoft\Windows\CurrentVersion\Uninstall\Cheese Ledger"
Section
  SetShellVarContext current
  SetOutPath "$INSTDIR"
  File /oname=ledger.exe program.exe
  CreateDirectory "$SMPROGRAMS\Rindwell"
  CreateShortcut "$SMPROGRAMS\Rindwell\Cheese Ledger.lnk" "$INSTDIR\ledger.exe"
  CreateDirectory "$LOCALAPPDATA\Rindwell\Cheese Ledger\Cache"
  FileOpen $0 "$LOCALAPPDATA\Rindwell\Cheese Ledger\Cache\pages.dat" w
  FileWrite $0 "pages of the ledger"
  FileClose $0
  WriteRegStr HKCU "Software\Rindwell\Cheese Ledger" "Folder" "$INSTDIR"
  WriteRegStr HKCU "Software\Classes\.qledger" "" "Rindwell.Ledger"
  WriteRegStr HKCU "Software\Classes\Rindwell.Ledger\shell\open\command" "" '"$INSTDIR\ledger.exe" "%1"'
  WriteRegStr HKCU "${LIST}" "DisplayName" "Rindwell Cheese Ledger"
  WriteRegStr HKCU "${LIST}" "DisplayVersion" "1.4"
  WriteRegStr HKCU "${LIST}" "Publisher" "Rindwell"
  WriteRegStr HKCU "${LIST}" "InstallLocation" "$INSTDIR"
  WriteRegStr HKCU "${LIST}" "UninstallString" '"$INSTDIR\uninstall.exe"'
  WriteUninstaller "$INSTDIR\uninstall.exe"
SectionEnd
Section Uninstall
  RMDir /r "$INSTDIR"
SectionEnd
