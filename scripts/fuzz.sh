#!/usr/bin/env bash
# Fuzzes every target, one after the other: fuzz.sh TIME [PROCESSES] [FOLDER ...].
# Without folders it is all of core, instrument and agent/wire.
set -euo pipefail
cd "$(dirname "$0")/.."
time=${1:-1m} processes=${2:-2}
shift $(($# < 2 ? $# : 2))
[ $# -gt 0 ] || set -- core instrument agent/wire
grep -rn --include='*_test.go' '^func Fuzz' "$@" | while IFS=: read -r file _ text; do
  name=$(sed 's/^func \([A-Za-z]*\).*/\1/' <<<"$text")
  echo "== $name in $(dirname "$file"), $time"
  log=$(mktemp)
  if ! go test "./$(dirname "$file")" -run '^$' -fuzz "^$name\$" -fuzztime "$time" -parallel "$processes" 2>&1 | tee "$log"; then
    # The tool also fails when the time runs out in the middle of an input; what
    # it found, it writes down.
    if grep -q 'Failing input written' "$log" || ! grep -qx ' *context deadline exceeded' "$log"; then
      rm -f "$log"
      exit 1
    fi
    echo "(the time ran out in the middle of an input: no finding)"
  fi
  rm -f "$log"
done
