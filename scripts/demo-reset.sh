#!/usr/bin/env bash
# Forgets the demo's data. Where root runs the demo from a closed folder, the
# data is below /var/tmp; bin/kestite demo --where says which.
set -euo pipefail
dir=.run/demo
[ ! -x bin/kestite ] || dir=$(./bin/kestite demo --where)
if [ -e "$dir/lock" ] && ! flock -n "$dir/lock" true; then
  echo "the demo is running on $dir; stop it first (Ctrl-C)" >&2
  exit 1
fi
rm -rf "$dir"
echo "forgot $dir"
