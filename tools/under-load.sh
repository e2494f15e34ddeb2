#!/usr/bin/env bash
# Runs the tests beside busy processes, two a core: no test may depend on how fast the machine is. The R tests run side by side.
# usage: tools/under-load.sh [times the core's tests, 50 by default] [times the R tests, 3 by default]
set -euo pipefail
cd "$(dirname "$0")/.."
cmake -S tests/kernel -B .build/fast-tests -DCIVIC_SANITIZE= -Wno-dev --log-level=WARNING
cmake --build .build/fast-tests -j "$(nproc)" -- -s
for _ in $(seq $((2 * $(nproc)))); do
  (while :; do :; done) &
done
trap 'kill $(jobs -p) 2>/dev/null' EXIT

r_tests=()
for run in $(seq "${2:-3}"); do
  Rscript tests/run.R . >".build/under-load-$run.log" 2>&1 &
  r_tests+=($!)
done
failed=0 passed=0
for run in $(seq "${1:-50}"); do
  if .build/fast-tests/kernel_tests >.build/under-load.log 2>&1; then passed=$((passed + 1)); else cat .build/under-load.log && failed=1; fi
  echo "the core's tests, run $run: $passed passed"
done
for run in "${!r_tests[@]}"; do
  wait "${r_tests[$run]}" || { cat ".build/under-load-$((run + 1)).log" && failed=1; }
  echo "the R tests, run $((run + 1)): $(tail -n 1 ".build/under-load-$((run + 1)).log")"
done
exit $failed
