#!/usr/bin/env bash
# Builds the core and its tests for Windows with Debian's mingw-w64, and runs them under wine.
# usage: tools/windows-tests.sh [options of the tests]
set -euo pipefail
cd "$(dirname "$0")/.."
build=.build/windows-tests
libraries=$PWD/.build/windows-libraries
mkdir -p "$libraries"
ln -sfn /usr/include/catch2 "$libraries/catch2"
simdjson=$(Rscript -e 'cat(system.file("include", package = "RcppSimdJson"))')
ln -sf "$simdjson/simdjson.h" "$simdjson/simdjson.cpp" "$libraries"
cmake -S tests/kernel -B $build --toolchain "$PWD/tools/windows.cmake" -DCIVIC_SANITIZE= -DCIVIC_LIBRARIES="$libraries" -Wno-dev --log-level=WARNING
cmake --build $build -j "$(nproc)" -- -s
export WINEDEBUG=-all WINEPREFIX=$PWD/.build/wine HOME=$PWD/.build  # wine links to folders of the home
wine=$(command -v wine64 || echo /usr/lib/wine/wine64)
"$wine" $build/kernel_tests.exe "$@"
