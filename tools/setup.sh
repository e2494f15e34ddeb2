#!/usr/bin/env bash
# Installs what a goal needs and nothing that is already there.
# usage: tools/setup.sh demo|test|bench|lint|docs|check
set -euo pipefail
cd "$(dirname "$0")/.."
goal=${1:?usage: tools/setup.sh demo|test|bench|lint|docs|check}

system=(r-base-core r-base-dev g++ make zlib1g-dev fonts-dejavu-core)
case $goal in
  test) system+=(chromium cmake catch2 libcairo2-dev libfontconfig1-dev libfreetype6-dev libsimdjson-dev libpq-dev postgresql) ;;
  bench) system+=(time) ;;
  lint) system+=(clang-format-14) ;;
  check) system+=(pandoc) ;;
esac

missing=()
for name in "${system[@]}"; do
  dpkg-query -W -f='${Status}' "$name" 2>/dev/null | grep -q 'ok installed' || missing+=("$name")
done

if [ ${#missing[@]} -gt 0 ]; then
  if [ "$(id -u)" -ne 0 ]; then
    printf 'These system packages are missing:\n  %s\nInstall them, then run this again:\n  sudo apt-get install %s\n' \
      "${missing[*]}" "${missing[*]}" >&2
    exit 1
  fi
  printf 'set-up: system packages: %s\n' "${missing[*]}"
  tools/apt-install.sh "${missing[@]}"
fi

exec Rscript --vanilla tools/setup.R "$goal"
