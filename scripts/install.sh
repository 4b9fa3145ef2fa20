#!/usr/bin/env bash
# Installs what is missing on a Debian machine. Runs as root, or as a user with sudo.
set -euo pipefail

need() { # need PROGRAM VERSION FOUND: compares versions
  if [ "$(printf '%s\n%s\n' "$2" "$3" | sort -V | head -n 1)" != "$2" ]; then
    echo "install: $1 $2 or later is needed, and this machine has ${3:-none}. Install it, put it on the PATH, and try again." >&2
    exit 1
  fi
}
need Go 1.26 "$(go env GOVERSION 2>/dev/null | sed 's/^go//')"
need Node 20.19 "$(node --version 2>/dev/null | sed 's/^v//')"

as_root=()
[ "$(id -u)" = 0 ] || as_root=(sudo)

missing=()
have() { dpkg-query -W -f '${Status}' "$1" 2>/dev/null | grep -q 'ok installed'; }
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing+=(postgresql-15)
[ -x /usr/bin/chromium-headless-shell ] || [ -x /usr/bin/chromium ] || missing+=(chromium-headless-shell)
command -v nft >/dev/null || [ -x /usr/sbin/nft ] || missing+=(nftables)
command -v ping >/dev/null || missing+=(iputils-ping)
# The tests build networks of namespaces, and compare with what the system's tools measure.
[ -x /usr/sbin/ip ] || command -v ip >/dev/null || missing+=(iproute2)
for tool in traceroute openssl curl; do command -v "$tool" >/dev/null || missing+=("$tool"); done
command -v dig >/dev/null || missing+=(bind9-dnsutils)
have poppler-utils || missing+=(poppler-utils)
[ "$(id -u)" != 0 ] || command -v runuser >/dev/null || missing+=(util-linux)
if [ "${#missing[@]}" -gt 0 ]; then
  echo "installing Debian packages: ${missing[*]}"
  # Keeps Debian from making a system cluster that nobody asked for.
  if [ ! -e /etc/postgresql-common/createcluster.conf ]; then
    "${as_root[@]}" mkdir -p /etc/postgresql-common
    echo 'create_main_cluster = false' | "${as_root[@]}" tee /etc/postgresql-common/createcluster.conf >/dev/null
  fi
  "${as_root[@]}" apt-get update -qq
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi
if [ "$(id -u)" != 0 ] && [ "$(cat /proc/sys/net/ipv4/ping_group_range 2>/dev/null | tr -s '\t' ' ')" = "1 0" ]; then
  echo "letting users ping: net.ipv4.ping_group_range"
  sudo sysctl -q -w net.ipv4.ping_group_range='0 2147483647'
fi
go mod download
