#!/usr/bin/env bash
# The core's tests under ThreadSanitizer, but for those that mutate what one thread reads.
set -euo pipefail
cd "$(dirname "$0")/.."
cmake -S tests/kernel -B .build/thread-tests -DCMAKE_BUILD_TYPE=Debug -DCIVIC_SANITIZE=thread -Wno-dev --log-level=WARNING
cmake --build .build/thread-tests -j "$(nproc)" -- -s
TSAN_OPTIONS=halt_on_error=1 .build/thread-tests/kernel_tests "~mutated*" "~overlays of random*"
