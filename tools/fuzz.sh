#!/usr/bin/env bash
# Feeds each decoder of the core mutated inputs, under the address and undefined-behaviour sanitizers. An input of a few
# hundred bytes that asks for more than 16 MB at once, or takes 50,000 times as long as the middle one, fails.
# usage: tools/fuzz.sh [inputs a decoder, 100000 by default]; another seed each time.
set -euo pipefail
cd "$(dirname "$0")/.."
cmake -S tests/kernel -B .build/kernel-tests -DCMAKE_BUILD_TYPE=Debug -Wno-dev --log-level=WARNING
cmake --build .build/kernel-tests -j "$(nproc)" -- -s
ASAN_OPTIONS=max_allocation_size_mb=16 CIVIC_FUZZ_RUNS=${1:-100000} \
  .build/kernel-tests/kernel_tests "mutated *" --durations yes
