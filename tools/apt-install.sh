#!/usr/bin/env bash
# Installs Debian packages, refreshing the package lists only where they are missing or older than a day.
set -euo pipefail
export DEBIAN_FRONTEND=noninteractive
if [ -z "$(find /var/lib/apt/lists -name '*Packages*' -mtime -1 -print -quit 2>/dev/null)" ]; then
  apt-get update -qq
fi
apt-get install -y -qq --no-install-recommends "$@" >/tmp/civicatlas-apt.log 2>&1 ||
  { tail -n 20 /tmp/civicatlas-apt.log >&2; exit 1; }
