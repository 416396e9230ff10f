#!/usr/bin/env bash
# Builds Stubble for Windows and tests it there: its own tests, and the whole job on products that are really
# installed. The Windows is Wine's; docs/proof.md tells what that proves and what not. `--build` only builds, `--needs`
# lists the Debian packages.
set -euo pipefail
cd "$(dirname "$0")/.."

packages=(rustc-web cargo-web rust-web-src gcc-mingw-w64-x86-64 wine wine64 wixl msitools nsis)
if [ "${1:-}" = --needs ]; then
  echo "${packages[@]}"
  exit 0
fi
missing=()
for package in "${packages[@]}"; do
  dpkg -s "$package" >/dev/null 2>&1 || missing+=("$package")
done
if [ "${#missing[@]}" -gt 0 ]; then
  sudo=""
  [ "$(id -u)" = 0 ] || sudo=sudo
  $sudo apt-get update -qq
  $sudo apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi

# Debian's Rust has the sources of its own library, and so can build it for Windows.
target=x86_64-pc-windows-gnu
built=$PWD/target/windows/$target/debug
for_windows() {
  env PATH="/usr/bin:$PATH" RUSTC=/usr/bin/rustc RUSTC_BOOTSTRAP=1 CARGO_TARGET_DIR="$PWD/target/windows" \
    /usr/bin/cargo "$1" -Zbuild-std=std,panic_unwind --target "$target" --locked "${@:2}"
}
echo "-- building for Windows"
# All at once: what the program and its tests share is built once. Of the program's own tests only the golden
# cases run there. Tests inside of crates, and those of what computes the same everywhere, run there in the exhaustive
# run.
mkdir -p target/windows
inside=() wanted=2
[ "${STUBBLE_PROOF:-}" != all ] || { inside=(--lib -p stubble-core -p stubble-hive); wanted=8; }
for_windows test -q --no-run "${inside[@]}" --test golden --test suite -p stubble -p stubble-machine \
  --message-format=json-render-diagnostics 2>target/windows/build.txt |
  python3 -c 'import json, sys
for line in sys.stdin:
    built = json.loads(line)
    name = built.get("target", {}).get("name")
    package = built.get("package_id", "").rsplit("/", 1)[-1].split("#")[0]
    if built.get("executable") and built.get("profile", {}).get("test") and (package, name) != ("cli", "suite"):
        print(f"{package}-{name}", built["executable"])' >target/windows/tests.txt || { tail -n 40 target/windows/build.txt; exit 1; }
[ "${1:-}" != --build ] || exit 0

# Every golden case, or those of one command; `STUBBLE_CASES= scripts/windows-suite.sh` runs all as well.
cases=clear/
[ "${STUBBLE_PROOF:-}" != all ] || cases=
stage=$(mktemp -d)
server() { HOME=$stage/one/home WINEPREFIX=$stage/one/prefix wineserver "$@" || true; }
trap 'server -k -w; rm -rf "$stage"' EXIT
# The prefix is made once, and again when what it is made of changes.
base=$PWD/target/windows/base
made_of=$(cat scripts/windows-prefix.sh judges/products/rng.c <(wine --version) | sha256sum)
if [ "$(cat "$base/made-of" 2>/dev/null)" != "$made_of" ]; then
  rm -rf "$base"
  scripts/windows-prefix.sh "$base"
  echo "$made_of" >"$base/made-of"
fi
cp -a "$base" "$stage/base"

echo "-- the program's own tests, there"
mkdir -p "$stage/one"
cp -a "$stage/base/." "$stage/one"
tests=$stage/one/prefix/drive_c/tests
mkdir -p "$tests"
cp -r crates/cli/tests "$tests/golden"
# A stick, and a second fixed drive.
mkdir -p "$stage/one/prefix/drive_c/stick" "$stage/one/prefix/drive_d"
ln -s ../drive_c/stick "$stage/one/prefix/dosdevices/s:"
ln -s ../drive_d "$stage/one/prefix/dosdevices/d:"
in_one() {
  HOME=$stage/one/home XDG_DATA_HOME=$stage/one/home WINEPREFIX=$stage/one/prefix WINEDEBUG=-all \
    WINEDLLOVERRIDES="winemenubuilder.exe=d;winedbg.exe=d" timeout 1200 wine "$@"
}
in_one reg add 'HKLM\Software\Wine\Drives' /v s: /d floppy /f >/dev/null 2>&1
server -k -w
# It stays: one that ends with the last program refuses the next, now and then.
server -p
cp "$built/stubble.exe" "$tests/"
ran=0
while read -r name program; do
  # Thousands of edits of hives prove nothing more there than here.
  skip=()
  [ "$name" != hive-suite ] || skip=(--skip rounds::)
  cp "$program" "$tests/test.exe"
  (cd "$tests" && export STUBBLE_TEST_WINDOWS=1 STUBBLE_TESTS='C:\tests\golden' \
    STUBBLE_PROGRAM='C:\tests\stubble.exe' STUBBLE_CASES="${STUBBLE_CASES-$cases}" &&
    in_one test.exe --test-threads 2 "${skip[@]}" >"$stage/out.txt" 2>&1) || { cat "$stage/out.txt"; exit 1; }
  grep "^test result" "$stage/out.txt" | sed "s/^/$name: /"
  ran=$((ran + 1))
done <target/windows/tests.txt
[ "$ran" -ge "$wanted" ] || { echo "only $ran programs were tested"; exit 1; }
server -k -w

echo "-- real installs"
mkdir -p "$stage/packages"
sources=$stage/sources
cp -r judges/products "$sources"
x86_64-w64-mingw32-gcc -O1 -s -o "$sources/program.exe" "$sources/program.c"
x86_64-w64-mingw32-gcc -O1 -s -mwindows -o "$sources/desk.exe" "$sources/desk.c"
x86_64-w64-mingw32-gcc -O1 -s -o "$sources/service.exe" "$sources/service.c" -ladvapi32
x86_64-w64-mingw32-gcc -O1 -s -o "$sources/device.exe" "$sources/device.c" -lsetupapi -lnewdev
printf 'a run-time that two products share' >"$sources/runtime.dll"
python3 scripts/condition-packages.py judges/conditions/conditions.txt "$sources"
for source in "$sources"/*.wxs; do
  (cd "$sources" && wixl -a x64 -o "$stage/packages/$(basename "$source" .wxs).msi" "$source")
done
for source in "$sources"/*.nsi; do
  (cd "$sources" && makensis -V1 "-XTarget amd64-unicode" "$(basename "$source")" && mv "$(basename "$source" .nsi).exe" "$stage/packages/")
done
# Two of the bench's packages, by their products: what our own writer makes is installed for real as well.
[ -n "${STUBBLE_BUILT:-}" ] || cargo build --locked --quiet
target/debug/stubble demo --broken-only --keep "$stage/demo" >/dev/null
for package in "$stage"/demo/bench/disk/Windows/Installer/*.msi; do
  case $(msiinfo export "$package" Property) in
    *"Sievewell Batch Clock"*) cp "$package" "$stage/packages/made-clock.msi" ;;
    *"Quernstone Recipes"*) cp "$package" "$stage/packages/made-recipes.msi" ;;
  esac
done
# A deferred action that runs an installed program and waits for it, which wixl does not write.
stalls="$stage/packages/stalls.msi"
msibuild "$stalls" -q "INSERT INTO \`CustomAction\` (\`Action\`, \`Type\`, \`Source\`, \`Target\`) VALUES ('PairScale', 1042, 'pair.exe', 'pair with the scale')"
msibuild "$stalls" -q "INSERT INTO \`InstallExecuteSequence\` (\`Action\`, \`Condition\`, \`Sequence\`) VALUES ('PairScale', 'NOT Installed', 4100)"
cp "$built/stubble.exe" "$stage/"
cp -a "$stage/base/prefix" "$stage/prefix"
mkdir "$stage/prefix/drive_d"
ln -s ../drive_d "$stage/prefix/dosdevices/d:"
judges() { # ARGUMENTS OF THE TEST PROGRAM
  STUBBLE_WINDOWS=$stage timeout 3000 cargo test --locked --manifest-path judges/Cargo.toml --target-dir target \
    --test windows -- --ignored "$@"
}
installed() { # TESTS
  judges --nocapture --test-threads 3 --exact "$@" 2>&1 | tee "$stage/installed.txt"
}
# Half of them in a turn; see `.ci/run`.
mapfile -t all < <(judges --list 2>/dev/null | sed -n 's/: test$//p' | sort)
[ "${#all[@]}" -gt 10 ] || { echo "only ${#all[@]} real installs are known"; exit 1; }
chosen=("${all[@]}")
case ${STUBBLE_TURN:-all} in
  0) echo "-- not in this turn"; exit 0 ;;
  1 | 2) mapfile -t chosen < <(printf '%s\n' "${all[@]}" | awk -v turn="$STUBBLE_TURN" 'NR % 2 == turn - 1') ;;
esac
echo "-- ${#chosen[@]} of ${#all[@]}"
installed "${chosen[@]}" && exit 0
# Wine itself stands still now and then. What did not end for that reason alone is tried once more, on new machines.
mapfile -t again < <(sed -n 's/^test \(.*\) \.\.\. FAILED$/\1/p' "$stage/installed.txt" | sort -u)
stood=$(grep -c '^Wine stood still' "$stage/installed.txt" || true)
[ "${#again[@]}" -gt 0 ] && [ "$stood" = "${#again[@]}" ] || exit 1
echo "-- Wine stood still $stood times: once more ${again[*]}"
installed "${again[@]}"
