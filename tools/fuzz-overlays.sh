#!/usr/bin/env bash
# Overlays random layers and checks that every result is valid and adds up.
# usage: tools/fuzz-overlays.sh [cases, 1000000 by default]; another seed each time.
set -euo pipefail
cd "$(dirname "$0")/.."
cmake -S tests/kernel -B .build/fast-tests -DCIVIC_SANITIZE= -Wno-dev --log-level=WARNING
cmake --build .build/fast-tests -j "$(nproc)" -- -s
cases=${1:-1000000} workers=$(nproc) seed=${CIVIC_OVERLAY_SEED:-$(($(date +%s) % 1000000 * 1000))}
for worker in $(seq "$workers"); do
  CIVIC_OVERLAY_RUNS=$((cases / workers)) CIVIC_OVERLAY_SEED=$((seed + worker * 100000000)) \
    .build/fast-tests/kernel_tests "overlays of random*" --durations yes &
done
wait -n && wait -n
