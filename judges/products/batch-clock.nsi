; A program for everybody, with an entry in the list, a startup entry and a shortcut.
Unicode true
Name "Sievewell Batch Clock"
OutFile "batch-clock.exe"
InstallDir "$PROGRAMFILES64\Sievewell\Batch Clock"
RequestExecutionLevel admin
SilentInstall silent
!define LIST "Software\Microsoft\Windows\CurrentVersion\Uninstall\Batch Clock"
Section
  SetRegView 64
  SetShellVarContext all
  SetOutPath "$INSTDIR"
  File /oname=clock.exe program.exe
  File notes.txt
  CreateDirectory "$SMPROGRAMS\Sievewell"
  CreateShortcut "$SMPROGRAMS\Sievewell\Batch Clock.lnk" "$INSTDIR\clock.exe"
  WriteRegStr HKLM "Software\Sievewell\Batch Clock" "Folder" "$INSTDIR"
  WriteRegDWORD HKLM "Software\Sievewell\Batch Clock" "Vats" 6
  WriteRegStr HKLM "Software\Microsoft\Windows\CurrentVersion\Run" "Batch Clock" '"$INSTDIR\clock.exe" /tray'
  WriteRegStr HKLM "${LIST}" "DisplayName" "Sievewell Batch Clock"
  WriteRegStr HKLM "${LIST}" "DisplayVersion" "2.3"
  WriteRegStr HKLM "${LIST}" "Publisher" "Sievewell"
  WriteRegStr HKLM "${LIST}" "InstallLocation" "$INSTDIR"
  WriteRegStr HKLM "${LIST}" "UninstallString" '"$INSTDIR\uninstall.exe"'
  WriteUninstaller "$INSTDIR\uninstall.exe"
SectionEnd
Section Uninstall
  RMDir /r "$INSTDIR"
SectionEnd
