#!/usr/bin/env bash
# Makes a release in target/release-files: stubble.exe and the Linux program, completions, manual pages, schemas and documents in one
# archive, with checksums. Needs what scripts/windows-suite.sh installs.
set -euo pipefail
cd "$(dirname "$0")/.."
version=$(sed -n 's/^version = "\(.*\)"/\1/p' Cargo.toml | head -n 1)
dist=$PWD/target/release-files
name=stubble-$version
rm -rf "$dist"
mkdir -p "$dist/$name"

echo "-- Linux"
cargo build --profile dist --locked -q -p stubble
cp target/dist/stubble "$dist/$name/stubble"

echo "-- Windows"
env PATH="/usr/bin:$PATH" RUSTC=/usr/bin/rustc RUSTC_BOOTSTRAP=1 CARGO_TARGET_DIR="$PWD/target/windows" \
  /usr/bin/cargo build -q --profile dist -Zbuild-std=std,panic_unwind --target x86_64-pc-windows-gnu --locked -p stubble
cp target/windows/x86_64-pc-windows-gnu/dist/stubble.exe "$dist/$name/"
x86_64-w64-mingw32-strip "$dist/$name/stubble.exe"
size=$(stat -c %s "$dist/$name/stubble.exe")
[ "$size" -lt 10000000 ] || { echo "stubble.exe has $size bytes, 10,000,000 are allowed"; exit 1; }

echo "-- completions, manual pages, schemas, documents"
cargo run --locked -q --manifest-path release/Cargo.toml --target-dir target -- "$dist/$name"
cp -r docs/schemas "$dist/$name/schemas"
cp docs/commands.md docs/format-*.md LICENSE-* "$dist/$name/"

(cd "$dist/$name" && find . -type f ! -name SHA256SUMS -print0 | sort -z | xargs -0 sha256sum >SHA256SUMS)
tar -C "$dist" --sort=name --owner=0 --group=0 --numeric-owner -czf "$dist/$name.tar.gz" "$name"
(cd "$dist" && sha256sum "$name.tar.gz" >"$name.tar.gz.sha256")
(cd "$dist/$name" && sha256sum -c --quiet SHA256SUMS)
ls -l "$dist" "$dist/$name" | awk '{ print $5, $9 }'
