#!/usr/bin/env bash
# Compiles the core without a warning: by g++, and by clang++ with libc++, as on macOS.
set -euo pipefail
cd "$(dirname "$0")/../src"
flags=(-std=c++20 -DCIVIC_SYSTEM_SIMDJSON -I. -fsyntax-only -Wall -Wextra -Wconversion -Wshadow -Werror)
printf '%s\n' kernel/*/*.cpp | xargs -P "$(nproc)" -I{} g++ "${flags[@]}" {}
printf '%s\n' kernel/*/*.cpp | xargs -P "$(nproc)" -I{} clang++-14 -stdlib=libc++ "${flags[@]}" {}
