#!/usr/bin/env bash
# The machine's contract and a whole clear and putback on a real NTFS volume: an image made with
# mkntfs and mounted with ntfs-3g. Needs root, FUSE and loop devices, and the Debian packages
# ntfs-3g and attr. Says so and ends well where the computer has none of that.
set -euo pipefail
cd "$(dirname "$0")/.."

skip() { echo "skipped: $1"; exit 0; }
[ "$(id -u)" = 0 ] || skip "this is not root"
[ -c /dev/fuse ] || skip "there is no FUSE here"
for tool in mkntfs ntfs-3g setfattr; do
  command -v "$tool" >/dev/null || skip "$tool is not installed (packages ntfs-3g and attr)"
done

[ -n "${STUBBLE_BUILT:-}" ] || cargo build --locked --quiet
stubble=$PWD/target/debug/stubble
work=$(mktemp -d)
drive=$work/drive
mkdir "$drive"
unmount() { mountpoint -q "$drive" && umount "$drive"; }
trap 'unmount || true; rm -rf "$work"' EXIT
mount_image() { ntfs-3g -o streams_interface=xattr,windows_names "$1" "$drive"; }

echo "-- a volume with the demo's machine on it"
truncate -s 256M "$work/disk.img"
mkntfs -F -Q -q "$work/disk.img" >/dev/null 2>&1
mount_image "$work/disk.img" || skip "FUSE refuses to mount here"
"$stubble" demo --broken-only --keep "$work/demo" >/dev/null
cp -a "$work/demo/bench/disk/." "$drive/"

# What only NTFS has, in places that will be taken: a stream, an access list of its own,
# attributes, a time of creation, a short name, a junction, a second name of one file; and what is odd anywhere: holes,
# folders 200 deep, names of 255 units, of blanks, and in letters that are spelled in two ways.
desk="$drive/Program Files/Fennelgate/Scale Desk"
setfattr -n user.note -v "weighed by maren" "$desk/tray.exe"
acl=0x010004841400000024000000000000003400000001020000000000052000000020020000010200000000000520000000200200000200480003000000000014009f01120001010000000000051200000000001800ff011f0001020000000000052000000020020000000014008900120001010000000000010000000000
setfattr -n system.ntfs_acl -v "$acl" "$desk/bridge.exe" 2>/dev/null || true
setfattr -h -n system.ntfs_attrib -v 0x26000000 "$desk/readme.txt"
setfattr -h -n system.ntfs_attrib -v 0x26000000 "$drive/Users/maren/NTUSER.DAT"
setfattr -n system.ntfs_crtime -v 0x0080a1b2c3d4d501 "$desk/readme.txt"
mkdir "$drive/A folder without a short name"
setfattr -h -n system.ntfs_dos_name -v "PROGRA~1" "$drive/Program Files"
# A junction: tag, length, then the target as Windows' own and as people write it.
junction() {
  python3 -c '
import struct, sys
own, shown = ("\\??\\" + sys.argv[1]).encode("utf-16-le"), sys.argv[1].encode("utf-16-le")
names = own + b"\0\0" + shown + b"\0\0"
data = struct.pack("<HHHH", 0, len(own), len(own) + 2, len(shown)) + names
print("0x" + (struct.pack("<IHH", 0xA0000003, len(data), 0) + data).hex())' "$1"
}
mkdir "$desk/lists"
setfattr -h -n system.ntfs_reparse_data -v "$(junction 'C:\Users\maren\Documents')" "$desk/lists"
ln -s ../tray.exe "$desk/labels/tray"
ln "$desk/readme.txt" "$desk/labels/readme again.txt"
truncate -s 20M "$desk/labels/image.bin"
printf 'a label' | dd of="$desk/labels/image.bin" bs=1M seek=9 conv=notrunc status=none
mkdir -p "$desk/deep/$(printf 'd/%.0s' {1..200})"
echo odd >"$desk/labels/$(printf 'n%.0s' {1..255})"
echo odd >"$desk/labels/ begins with a blank"
echo odd >"$desk/labels/$(printf 'e\xcc\x81t\xc3\xa9 \xe2\x98\x83 \xf0\x9f\xa7\x80')"
touch -h -r "$desk/tray.exe" "$desk" "$desk/labels"
unmount
cp --sparse=always "$work/disk.img" "$work/before.img"

echo "-- the contract suite"
mount_image "$work/disk.img"
STUBBLE_NTFS=$drive cargo test --locked -q --workspace --test suite -- --ignored real_ntfs
unmount
cp --sparse=always "$work/before.img" "$work/disk.img"

echo "-- clear and putback"
mount_image "$work/disk.img"
cd "$work"
rights() {
  for what in acl attrib crtime; do
    find "$drive" -type f \( -name SOFTWARE -o -name SYSTEM -o -name NTUSER.DAT -o -name UsrClass.dat \) \
      -not -path '*/$Stubble/*' -exec getfattr -h -n "system.ntfs_$what" -e hex {} + 2>/dev/null | grep -v '^$' | sort
  done
}
rights > rights-before
"$stubble" capture before.capture --on "disk:$drive" >/dev/null
"$stubble" open "Quernlight Scale Desk" --on "disk:$drive" >/dev/null
"$stubble" trace >/dev/null || true
"$stubble" plan >/dev/null
"$stubble" clear --yes | tail -n 2
unmount
cp --sparse=always "$work/disk.img" "$work/cleared.img"
mount_image "$work/disk.img"
"$stubble" putback --yes | tail -n 1
"$stubble" compare before.capture
rights > rights-after
diff rights-before rights-after && grep -q ntfs_acl rights-after
unmount
cd - >/dev/null

echo "-- rights on a folder that setup writes to"
cp --sparse=always "$work/before.img" "$work/rights.img"
mount_image "$work/rights.img"
# Owner and group are administrators; everybody is denied to add (0x6), the system may do everything.
denied=0x010004801400000024000000000000003400000001020000000000052000000020020000010200000000000520000000200200000200300002000000010014000600000001010000000000010000000000001400ff011f00010100000000000512000000
setfattr -h -n system.ntfs_acl -v "$denied" "$desk"
cd "$work"
"$stubble" open "Quernlight Scale Desk" --on "disk:$drive" --case rights >/dev/null
"$stubble" check --case rights >rights.txt || true
grep -q "Setup may not write to the folder" rights.txt
grep -q "denies that to Everyone" rights.txt
cd - >/dev/null
unmount

echo "-- files that Windows keeps in another way"
cp --sparse=always "$work/before.img" "$work/kept.img"
mount_image "$work/kept.img"
# Tags of one content for several files, and of compression for the system: the driver shows both as links.
find "$drive/Users" -name '*.qwl' >"$work/lists"
echo "$drive/Program Files/Common Files/Fennelgate/Runtime/flgrt64.dll" >"$work/runtime"
tagged() { # TAG FILE
  rm "$2"
  : >"$2"
  setfattr -h -n system.ntfs_reparse_data -v "$1" "$2"
}
while read -r file; do tagged 0x13000080080000000102030405060708 "$file"; done <"$work/lists"
tagged 0x17000080080000000102030405060708 "$(cat "$work/runtime")"
unmount
mount_image "$work/kept.img"
[ -L "$(head -n 1 "$work/lists")" ] && [ -L "$(cat "$work/runtime")" ]
cd "$work"
"$stubble" open "Quernlight Scale Desk" --on "disk:$drive" --case kept >/dev/null
"$stubble" trace --case kept --json >kept.json || true
python3 - kept.json <<'PY'
import json
import sys

taken = [one["place"] for one in json.load(open(sys.argv[1]))["remnants"] if one["decision"] == "remove"]
taken = [place["path"] for place in taken if place["kind"] in ("file", "folder")]
wrong = [path for path in taken if path.endswith(("flgrt64.dll", "Runtime", "Lists", ".qwl"))]
sys.exit(f"taken, since it looked like a link: {wrong}" if wrong else 0)
PY

echo "-- a plan that names what everybody shares by its short name"
"$stubble" plan --case kept >/dev/null
python3 - kept/plan.toml <<'PY'
import re
import sys

text = open(sys.argv[1]).read()
pattern = r"""(kind = "folder", path = )'[^']*'"""
text, count = re.subn(pattern, lambda found: found.group(1) + r"'C:\PROGRA~1'", text, count=1)
assert count == 1
open(sys.argv[1], "w").write(text)
PY
if "$stubble" clear --yes --case kept >/dev/null 2>short.txt; then
  echo "it was accepted"
  exit 1
fi
grep -q "is never taken" short.txt
[ -d "$drive/Program Files/Fennelgate" ]
cd - >/dev/null
unmount

echo "-- another reader's comparison of the images"
STUBBLE_BEFORE=$work/before.img STUBBLE_CLEARED=$work/cleared.img STUBBLE_AFTER=$work/disk.img \
  cargo test --locked -q --manifest-path judges/Cargo.toml --target-dir target --test images -- --ignored
