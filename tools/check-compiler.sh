#!/usr/bin/env bash
# Stops where R's C++ compiler does not know C++20, with what mends it.
set -euo pipefail
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
cat >"$folder/twenty.cpp" <<'CODE'
#include <bit>
#include <compare>
#include <span>
struct Point {
  int x, y;
  friend auto operator<=>(const Point&, const Point&) = default;
};
int main() {
  const int values[] = {1, 2};
  return std::span<const int>(values).size() == 2 && Point{1, 2} < Point{1, 3} && std::popcount(3u) == 2 ? 0 : 1;
}
CODE
compiler="$(R CMD config CXX20) $(R CMD config CXX20STD)"
if ! $compiler "$folder/twenty.cpp" -o "$folder/twenty" 2>"$folder/log"; then
  head -n 5 "$folder/log" >&2
  printf 'R compiles with "%s", which does not know C++20. Install g++ 10 or later (sudo apt-get install g++), or name\n' "$compiler" >&2
  printf 'another compiler in ~/.R/Makevars (CXX20 = clang++, CXX20STD = -std=c++20), then run this again.\n' >&2
  exit 1
fi
