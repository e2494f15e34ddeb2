#!/usr/bin/env bash
# Installs what a goal needs and nothing that is already there; ended in the middle, it goes on where it was.
# usage: tools/setup.sh demo|test|bench|lint|docs|site|check|threads|windows
set -euo pipefail
cd "$(dirname "$0")/.."
goal=${1:?usage: tools/setup.sh demo|test|bench|lint|docs|site|check|threads|windows}

mkdir -p .build
exec 9>.build/setup.lock
flock -n 9 || { echo "set-up: another set-up of this checkout is running; waiting for it" && flock 9; }

system=(r-base-core r-base-dev g++ make zlib1g-dev fonts-dejavu-core)
testing=(chromium cmake catch2 libsimdjson-dev postgresql)
case $goal in
  test) system+=("${testing[@]}") ;;
  threads) system+=(cmake catch2 libsimdjson-dev) ;;
  windows) system+=(cmake catch2 g++-mingw-w64-x86-64-posix libz-mingw-w64-dev wine64) ;;
  bench) system+=(time) ;;
  lint) system+=(clang-format-14 clang-14 libc++-14-dev libc++abi-14-dev libsimdjson-dev) ;;
  check) system+=("${testing[@]}" pandoc qpdf tidy) ;;
  site) system+=(pandoc) ;;
esac

# Those of the packages named that are not installed whole.
missing_of() {
  { dpkg-query -W -f='${Package} ${Status}\n' "$@" 2>/dev/null || true; } | sed -n 's/ install ok installed$//p' | sort -u |
    comm -13 - <(printf '%s\n' "$@" | sort -u)
}

missing=()
if command -v dpkg-query >/dev/null; then
  mapfile -t missing < <(missing_of "${system[@]}")
else
  command -v Rscript >/dev/null || { echo "set-up: R is missing; install R 4.2 or later, then run this again" >&2 && exit 1; }
fi

if ! command -v Rscript >/dev/null; then
  if [ "$(id -u)" -ne 0 ]; then
    printf 'set-up: these system packages are missing:\n  sudo apt-get install %s\n' "${missing[*]}" >&2
    exit 1
  fi
  echo "set-up: R, from Debian"
  tools/apt-install.sh "${missing[@]}"
  missing=()
fi

exec Rscript --no-save --no-restore tools/setup.R "$goal" "${missing[@]}"
