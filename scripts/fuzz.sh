#!/usr/bin/env bash
# Fuzzes every target, one after the other: fuzz.sh TIME [PROCESSES] [FOLDER ...].
# Without folders it is all of core and instrument.
set -euo pipefail
cd "$(dirname "$0")/.."
time=${1:-1m} processes=${2:-2}
shift $(($# < 2 ? $# : 2))
[ $# -gt 0 ] || set -- core instrument
grep -rn --include='*_test.go' '^func Fuzz' "$@" | while IFS=: read -r file _ text; do
  name=$(sed 's/^func \([A-Za-z]*\).*/\1/' <<<"$text")
  echo "== $name in $(dirname "$file"), $time"
  go test "./$(dirname "$file")" -run '^$' -fuzz "^$name\$" -fuzztime "$time" -parallel "$processes"
done
