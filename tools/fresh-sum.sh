#!/usr/bin/env bash
# The checksum of the files that set-up depends on, as tools/fresh.lock keeps it from the last `make fresh` that passed. The order in
# which R reads our own files is none of them.
set -euo pipefail
cd "$(dirname "$0")/.."
{
  awk '/^[^ ]/ { skip = /^Collate:/ } !skip' DESCRIPTION
  sha256sum Makefile $(LC_ALL=C ls tools/* | grep -v '^tools/fresh.lock$')
} | sha256sum | cut -d ' ' -f 1
