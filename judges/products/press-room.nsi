; A program with a scheduled task, and with a device that has a driver package and a service in the system.
Unicode true
Name "Curdmere Press Room"
OutFile "press-room.exe"
InstallDir "$PROGRAMFILES64\Curdmere\Press Room"
RequestExecutionLevel admin
SilentInstall silent
!define LIST "Software\Microsoft\Windows\CurrentVersion\Uninstall\Press Room"
Section
  SetRegView 64
  SetShellVarContext all
  SetOutPath "$INSTDIR"
  File /oname=press.exe program.exe
  SetOutPath "$INSTDIR\driver"
  File device.exe
  File /oname=oem7.inf press.inf
  File /oname=pressport.sys notes.txt
  nsExec::Exec '"$INSTDIR\driver\device.exe" "$INSTDIR\driver\oem7.inf" ROOT\CurdmerePress'
  File /oname=update.xml press-update.xml
  nsExec::Exec 'schtasks /create /tn "\Curdmere\Curdmere Press Room Update" /xml "$INSTDIR\driver\update.xml"'
  WriteRegStr HKLM "Software\Curdmere\Press Room" "Folder" "$INSTDIR"
  WriteRegStr HKLM "${LIST}" "DisplayName" "Curdmere Press Room"
  WriteRegStr HKLM "${LIST}" "DisplayVersion" "1.2"
  WriteRegStr HKLM "${LIST}" "Publisher" "Curdmere Pressing"
  WriteRegStr HKLM "${LIST}" "InstallLocation" "$INSTDIR"
  WriteRegStr HKLM "${LIST}" "UninstallString" '"$INSTDIR\uninstall.exe"'
  WriteUninstaller "$INSTDIR\uninstall.exe"
SectionEnd
Section Uninstall
  RMDir /r "$INSTDIR"
SectionEnd
