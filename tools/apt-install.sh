#!/usr/bin/env bash
# Installs Debian packages in one go, or with --refresh only sees to it that the package lists are there and of today.
# usage: tools/apt-install.sh PACKAGE... | --refresh
set -euo pipefail
export DEBIAN_FRONTEND=noninteractive
log=${TMPDIR:-/tmp}/civicatlas-apt.log
apt() { apt-get -qq -o DPkg::Lock::Timeout=300 -o Acquire::Retries=3 "$@" >"$log" 2>&1; }

stop() {
  tail -n 20 "$log" >&2
  printf 'set-up: %s\n' "$1" >&2
  exit 1
}

lists=/var/lib/apt/lists
# The lists bear the registry's times; the folder that they arrive in tells when they were last asked for.
if ! compgen -G "$lists/*Packages*" >/dev/null || [ -z "$(find $lists/partial -maxdepth 0 -mtime -1 2>/dev/null)" ]; then
  apt update || stop "apt-get update failed; mend the network or the lines of /etc/apt/sources.list.d, then run this again"
  compgen -G "$lists/*Packages*" >/dev/null || stop "apt-get update brought no package lists; is there a network?"
fi
[ "$1" = --refresh ] && exit 0

dpkg --configure -a >"$log" 2>&1 || stop "an installation that broke off cannot be ended; see: dpkg --configure -a"
apt install -y --no-install-recommends "$@" || stop "apt-get could not install $*; once that is mended, run this again"
