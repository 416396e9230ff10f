#!/usr/bin/env bash
# A short run of every fuzz target on a seed corpus made by our own writer, two targets at a time. `SECONDS_EACH=600`
# makes it a long one, `TARGETS="plan log"` chooses. The targets hold no unsafe code, so that they run without a
# sanitizer, on the stable compiler.
set -euo pipefail
cd "$(dirname "$0")/.."

# What libFuzzer needs to see of a program: edges, and the operands of comparisons.
coverage="-Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 -Cllvm-args=-sanitizer-coverage-inline-8bit-counters"
coverage+=" -Cllvm-args=-sanitizer-coverage-pc-table -Cllvm-args=-sanitizer-coverage-trace-compares --cfg fuzzing"
host=$(rustc -vV | sed -n 's/^host: //p')
each=15
[ "${STUBBLE_PROOF:-}" != all ] || each=60
export SECONDS_EACH=${SECONDS_EACH:-$each}

corpus=$PWD/fuzz/corpus
cargo run --quiet --locked --manifest-path fuzz/Cargo.toml --no-default-features --target-dir target --bin seeds -- "$corpus"
all=$(sed -n 's/^path = "fuzz_targets\/\(.*\)\.rs"/\1/p' fuzz/Cargo.toml)
bins=()
for name in $all; do bins+=(--bin "$name"); done
# Built with a target named, so that build scripts are built without the instrumentation.
RUSTFLAGS="$coverage" cargo build --quiet --locked --release --manifest-path fuzz/Cargo.toml --target "$host" \
  --target-dir fuzz/target "${bins[@]}"

one() {
  local target=$1 said
  mkdir -p "fuzz/artifacts/$target"
  if ! said=$("fuzz/target/$2/release/$target" "fuzz/corpus/$target" -artifact_prefix="fuzz/artifacts/$target/" \
    -max_total_time="$SECONDS_EACH" -rss_limit_mb=1024 -timeout=5 -max_len=65536 -print_final_stats=1 2>&1); then
    echo "-- $target: a crash is kept in fuzz/artifacts/$target"
    tail -n 40 <<<"$said"
    return 1
  fi
  echo "-- $target"
  grep -E 'number_of_executed_units|slowest_unit|peak_rss' <<<"$said"
  [ "$(sed -n 's/^stat::number_of_executed_units: *//p' <<<"$said")" -gt 100 ] || { echo "$target hardly ran"; return 1; }
}
export -f one
tr ' ' '\n' <<<"${TARGETS:-$all}" | xargs -P 2 -I {} bash -c 'one "$1" "$2"' _ {} "$host"
