; Two versions side by side, each in a folder of its own, and an App Paths entry that leads to the newer one.
Unicode true
Name "Churnwright Label Fonts"
OutFile "label-fonts.exe"
InstallDir "$PROGRAMFILES64\Churnwright\Label Fonts"
RequestExecutionLevel admin
SilentInstall silent
!define LIST "Software\Microsoft\Windows\CurrentVersion\Uninstall\Label Fonts"
Section
  SetRegView 64
  SetOutPath "$INSTDIR\1.0"
  File /oname=fonts.exe program.exe
  SetOutPath "$INSTDIR\1.1"
  File /oname=fonts.exe program.exe
  File notes.txt
  WriteRegStr HKLM "Software\Churnwright\Label Fonts\1.0" "Folder" "$INSTDIR\1.0"
  WriteRegStr HKLM "Software\Churnwright\Label Fonts\1.1" "Folder" "$INSTDIR\1.1"
  WriteRegStr HKLM "Software\Microsoft\Windows\CurrentVersion\App Paths\fonts.exe" "" "$INSTDIR\1.1\fonts.exe"
  WriteRegStr HKLM "${LIST}" "DisplayName" "Churnwright Label Fonts"
  WriteRegStr HKLM "${LIST}" "DisplayVersion" "1.1"
  WriteRegStr HKLM "${LIST}" "Publisher" "Churnwright"
  WriteRegStr HKLM "${LIST}" "InstallLocation" "$INSTDIR"
  WriteRegStr HKLM "${LIST}" "UninstallString" '"$INSTDIR\uninstall.exe"'
  WriteUninstaller "$INSTDIR\uninstall.exe"
SectionEnd
Section Uninstall
  RMDir /r "$INSTDIR"
SectionEnd
