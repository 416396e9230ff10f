#!/usr/bin/env bash
# Makes a Windows to test on, in Wine: scripts/windows-prefix.sh DIR. What is installed in it stays in DIR.
set -euo pipefail
dir=$(realpath -m "${1:?a folder that is not there yet}")
here=$(cd "$(dirname "$0")/.." && pwd)
[ ! -e "$dir/prefix" ] || exit 0
mkdir -p "$dir/home"
export HOME=$dir/home XDG_DATA_HOME=$dir/home WINEPREFIX=$dir/prefix WINEDEBUG=-all
export WINEDLLOVERRIDES="winemenubuilder.exe=d;winedbg.exe=d;mscoree=d;mshtml=d"
unset DISPLAY
wineboot -i >/dev/null 2>&1
# Windows without a display, and no questions after a crash.
wine reg add 'HKCU\Software\Wine\Drivers' /v Graphics /d null /f >/dev/null 2>&1
wine reg add 'HKCU\Software\Wine\WineDbg' /v ShowCrashDialog /t REG_DWORD /d 0 /f >/dev/null 2>&1
wine winecfg -v win10 >/dev/null 2>&1
wineserver -k -w || true
x86_64-w64-mingw32-gcc -shared -O1 -s -o "$dir/prefix/drive_c/windows/system32/bcryptprimitives.dll" \
  "$here/judges/products/rng.c" -ladvapi32
# Nothing in the prefix leads out of it.
find "$dir/prefix/drive_c/users" -type l | while read -r link; do
  rm "$link"
  mkdir -p "$link"
done
rm -f "$dir/prefix/dosdevices/z:"
