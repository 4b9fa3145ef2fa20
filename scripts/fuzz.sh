#!/usr/bin/env bash
# Fuzzes every target, one after the other: fuzz.sh TIME [PROCESSES].
set -euo pipefail
cd "$(dirname "$0")/.."
grep -rn --include='*_test.go' '^func Fuzz' core instrument | while IFS=: read -r file _ text; do
  name=$(sed 's/^func \([A-Za-z]*\).*/\1/' <<<"$text")
  echo "== $name in $(dirname "$file"), ${1:-1m}"
  go test "./$(dirname "$file")" -run '^$' -fuzz "^$name\$" -fuzztime "${1:-1m}" -parallel "${2:-2}"
done
