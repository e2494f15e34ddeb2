#!/usr/bin/env bash
# Makes a Debian in a temporary folder, in which there is nothing but R, clones the checkout into it, and runs the README's
# two commands there as a newcomer would; says how long each took and takes all away again. Needs root and debootstrap.
# What is not committed is left out.
#   GOAL=demo      the first command alone
#   AS=user        as an ordinary user, for whom root has installed the system packages that set-up asked for
#   LISTS=present  with the package lists there; else without, as images are shipped
set -euo pipefail
checkout=$(cd "$(dirname "$0")/.." && pwd)
goals=${GOAL:-demo test} who=${AS:-root} lists=${LISTS:-emptied}
[ "$(id -u)" = 0 ] || { echo "fresh: this makes a system of its own, which takes root: sudo make fresh" >&2 && exit 1; }
command -v debootstrap >/dev/null || "$checkout/tools/apt-install.sh" debootstrap

machine=$(mktemp -d "${TMPDIR:-/tmp}/civicatlas-fresh-XXXXXX")
chmod 755 "$machine"  # its root, which others than root have to enter
trap 'rm -rf --one-file-system "$machine" "$machine.log"' EXIT
trap 'exit 130' INT TERM

# Runs a command in the machine, in name spaces of its own: nothing that it starts or mounts outlives it.
inside() {
  # shellcheck disable=SC2016
  unshare --pid --mount --fork --kill-child sh -c 'mount -t proc proc "$0/proc" && mount --rbind /dev "$0/dev" && exec chroot "$0" "$@"' "$machine" \
    /usr/bin/env -i HOME=/root LANG=C.UTF-8 PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin "$@"
}

# Runs a step and says how long it took.
timed() {
  local name=$1 began=$SECONDS code=0
  shift
  "$@" || code=$?
  printf 'fresh: %s: %s, %d min %02d s\n' "$name" "$([ $code = 0 ] && echo passed || echo FAILED)" $(((SECONDS - began) / 60)) $(((SECONDS - began) % 60))
  return $code
}

make_machine() {
  # shellcheck disable=SC1091
  . /etc/os-release
  local mirror
  mirror=$(sed -n 's/^URIs: *//p; s/^deb [^h]*\(http[^ ]*\).*/\1/p' /etc/apt/sources.list.d/debian.sources /etc/apt/sources.list 2>/dev/null | head -n 1)
  # In a name space of mounts too, as it mounts /proc.
  unshare --mount debootstrap --variant=minbase --include=ca-certificates "$VERSION_CODENAME" "$machine" "${mirror:-http://deb.debian.org/debian}" >"$machine.log" 2>&1 ||
    { tail -n 20 "$machine.log" >&2 && return 1; }
  # This machine's apt sources and settings, its certificates, and how it finds the network.
  rm -rf "$machine/etc/apt/sources.list" "$machine/etc/apt/sources.list.d"
  local debian
  mkdir -p "$machine/etc/apt/sources.list.d"
  for debian in /etc/apt/sources.list /etc/apt/sources.list.d/debian*; do [ ! -e "$debian" ] || cp "$debian" "$machine/etc/apt/$([[ $debian == */sources.list ]] || echo sources.list.d/)"; done
  cp /etc/apt/apt.conf.d/* "$machine/etc/apt/apt.conf.d/"
  cp -r /usr/local/share/ca-certificates "$machine/usr/local/share/"
  cp -L /etc/ssl/certs/ca-certificates.crt "$machine/etc/ssl/certs/"
  cp -L /etc/resolv.conf /etc/hosts "$machine/etc/"
}

install_r() {
  inside sh -c 'apt-get -qq update && DEBIAN_FRONTEND=noninteractive apt-get -qq install -y --no-install-recommends r-base-core make' >"$machine/root/r.log" 2>&1 ||
    { tail -n 20 "$machine/root/r.log" >&2 && return 1; }
  cp /etc/R/Rprofile.site "$machine/etc/R/"
  if [ "$lists" = emptied ]; then rm -rf "$machine"/var/lib/apt/lists/*; fi
}

# The sum of the files that set-up depends on, in the clone.
clone_checkout() {
  git clone -q --no-local "$checkout" "$machine/home/civicatlas"
  "$machine/home/civicatlas/tools/fresh-sum.sh" >"$machine/home/civicatlas/tools/fresh.lock"
}

as_newcomer() {
  if [ "$who" = root ]; then inside sh -c "cd /home/civicatlas && $1"; else inside runuser -u analyst -- env HOME=/home/analyst sh -c "cd /home/civicatlas && $1"; fi
}

# Set-up as the ordinary user, whose root installs what it asks for, to the letter, until it asks no more.
set_up_as_user() {
  local log="$machine/root/set-up.log" asked
  for _ in 1 2 3; do
    as_newcomer "tools/setup.sh $1" 2>&1 | tee "$log" && return 0
    asked=$(sed -n 's/^ *sudo apt-get install/apt-get -qq install -y --no-install-recommends/p' "$log")
    [ -n "$asked" ] || return 1
    inside sh -c "apt-get -qq update && DEBIAN_FRONTEND=noninteractive $asked >/dev/null 2>&1"
  done
}

timed "a bare Debian" make_machine
timed "R" install_r
clone_checkout
if [ "$who" = user ]; then
  inside useradd --create-home analyst
  inside chown -R analyst /home/civicatlas
fi
for goal in $goals; do
  [ "$who" = root ] || timed "set-up for make $goal, root asked for system packages" set_up_as_user "$goal"
  timed "make $goal, as $who, package lists $lists" as_newcomer "make $goal"
done
if [ "$goals" = "demo test" ] && [ "$who" = root ]; then
  cp "$machine/home/civicatlas/tools/fresh.lock" "$checkout/tools/fresh.lock"
  echo "fresh: both commands passed; commit tools/fresh.lock"
fi
