; A program with a service and a folder of data for all users.
Unicode true
Name "Wheywise Vat Monitor"
OutFile "vat-monitor.exe"
InstallDir "$PROGRAMFILES64\Wheywise\Vat Monitor"
RequestExecutionLevel admin
SilentInstall silent
!define LIST "Software\Microsoft\Windows\CurrentVersion\Uninstall\Vat Monitor"
Section
  SetRegView 64
  SetShellVarContext all
  SetOutPath "$INSTDIR"
  File /oname=monitor.exe program.exe
  File /oname=vats.exe service.exe
  SetOutPath "$APPDATA\Wheywise\Vat Monitor\Cache"
  File /oname=curves.dat notes.txt
  WriteRegStr HKLM "Software\Wheywise\Vat Monitor" "Folder" "$INSTDIR"
  nsExec::Exec 'sc create WheywiseVats binPath= "\"$INSTDIR\vats.exe\"" DisplayName= "Wheywise Vats" start= demand'
  WriteRegStr HKLM "${LIST}" "DisplayName" "Wheywise Vat Monitor"
  WriteRegStr HKLM "${LIST}" "DisplayVersion" "7.0"
  WriteRegStr HKLM "${LIST}" "Publisher" "Wheywise"
  WriteRegStr HKLM "${LIST}" "InstallLocation" "$INSTDIR"
  WriteRegStr HKLM "${LIST}" "UninstallString" '"$INSTDIR\uninstall.exe"'
  WriteUninstaller "$INSTDIR\uninstall.exe"
SectionEnd
Section Uninstall
  RMDir /r "$INSTDIR"
SectionEnd
