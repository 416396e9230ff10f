#!/usr/bin/env bash
# Stubble on made-up disks that came from elsewhere, judged by the program that lies beside them. `STUBBLE_DISKS` names
# their folder, which holds `make.py` and `judge.py`; where it is not there, this says so and ends well.
#
# Nothing may be taken wrongly on any disk, and everything must come back exactly. The score may not fall.
set -euo pipefail
cd "$(dirname "$0")/.."

disks=${STUBBLE_DISKS:-../shared/disks}
least=91
[ -f "$disks/judge.py" ] || { echo "skipped: there are no disks in $disks"; exit 0; }
[ -n "${STUBBLE_BUILT:-}" ] || cargo build --locked --quiet
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
python3 "$disks/make.py" "$work/disks" >/dev/null
mkdir "$work/room"
python3 "$disks/judge.py" "$PWD/target/debug/stubble" "$work/disks" --work "$work/room" >"$work/verdict.txt" || true
sed -n '/^scenario/,$p' "$work/verdict.txt"
python3 - "$work/verdict.txt" "$least" <<'PY'
import re
import sys

lines = open(sys.argv[1], encoding="utf-8").read().splitlines()
start = next(number for number, line in enumerate(lines) if line.startswith("scenario"))
rows = [line for line in lines[start + 1:] if re.match(r"s\d+-", line)]
faults = [row for row in rows if not re.search(r"\s(none)\s.*\s(none)\s+exact\s", row)]
score = float(re.search(r"^score ([\d.]+)", "\n".join(lines), re.M).group(1))
for row in faults:
    print("taken wrongly, damaged, or not back exactly:", row)
if score < float(sys.argv[2]):
    print(f"the score fell below {sys.argv[2]}")
sys.exit(1 if faults or not rows or score < float(sys.argv[2]) else 0)
PY
