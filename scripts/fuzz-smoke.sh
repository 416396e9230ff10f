#!/usr/bin/env bash
# A short run of every fuzz target on a seed corpus made by our own writer. `SECONDS_EACH=600`
# makes it a long one. The targets hold no unsafe code, so that they run without a sanitizer, on
# the stable compiler.
set -euo pipefail
cd "$(dirname "$0")/.."

command -v cargo-fuzz >/dev/null || cargo install --locked --quiet cargo-fuzz
export RUSTC_BOOTSTRAP=1
corpus=$PWD/fuzz/corpus
cargo run --quiet --manifest-path fuzz/Cargo.toml --no-default-features --target-dir target --bin seeds -- "$corpus"
for target in ${TARGETS:-read replay edit reg content package plan log events footprint condition}; do
  echo "-- $target"
  cargo fuzz run --sanitizer none "$target" "$corpus/$target" -- \
    -max_total_time="${SECONDS_EACH:-15}" -rss_limit_mb=1024 -timeout=5 -max_len=65536 -print_final_stats=1 2>&1 |
    grep -E 'panicked|ERROR|number_of_executed_units|slowest_unit|peak_rss' || true
  if ls fuzz/artifacts/"$target"/* >/dev/null 2>&1; then
    echo "a crash is kept in fuzz/artifacts/$target" >&2
    exit 1
  fi
done
