#!/usr/bin/env python3
"""Writes a source for wixl for each condition, so that the package installer can be asked what it makes of it.

    condition-packages.py CONDITIONS FOLDER
"""
import sys
from html import escape
from pathlib import Path

SOURCE = """<?xml version="1.0" encoding="utf-8"?>
<Wix xmlns="http://schemas.microsoft.com/wix/2006/wi">
  <Product Id="C0DD0000-0000-4000-8000-0000000{number:05}" Name="Quernlight Trial {number}" Manufacturer="Fennelgate Instruments Ltd" Version="1.0.{number}" Language="1033" UpgradeCode="C0DD1111-0000-4000-8000-0000000{number:05}">
    <Package InstallerVersion="200" Compressed="yes" InstallScope="perMachine"/>
    <Media Id="1" Cabinet="trial.cab" EmbedCab="yes"/>
    <Property Id="NUMBER" Value="42"/>
    <Property Id="TEXT" Value="Scale"/>
    <Property Id="LABELFOLDER"><RegistrySearch Id="Folder" Root="HKLM" Key="SOFTWARE\\Fennelgate\\Label Bridge" Name="InstallFolder" Type="raw" Win64="yes"/></Property>
    <Upgrade Id="B4E8F6D2-1A3C-4957-8E0D-6F2B7A9C4D13">
      <UpgradeVersion Minimum="1.0.0" Maximum="4.0.0" OnlyDetect="yes" Property="WEIGH3FOUND"/>
    </Upgrade>
    <Condition Message="This trial does not hold.">{condition}</Condition>
    <Directory Id="TARGETDIR" Name="SourceDir">
      <Directory Id="ProgramFiles64Folder">
        <Directory Id="INSTALLDIR" Name="Quernlight Trial {number}">
          <Component Id="Notes" Guid="C0DD2222-0000-4000-8000-0000000{number:05}" Win64="yes">
            <File Id="notes.txt" Name="notes.txt" Source="notes.txt" KeyPath="yes"/>
          </Component>
        </Directory>
      </Directory>
    </Directory>
    <Feature Id="Main" Level="1"><ComponentRef Id="Notes"/></Feature>
  </Product>
</Wix>
"""


def main():
    conditions = Path(sys.argv[1]).read_text(encoding="utf-8").splitlines()
    for number, condition in enumerate(filter(None, conditions), 1):
        text = SOURCE.format(number=number, condition=escape(condition, quote=False))
        Path(sys.argv[2], f"trial-{number}.wxs").write_text(text, encoding="utf-8")


main()
