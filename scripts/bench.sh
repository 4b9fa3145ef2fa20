#!/usr/bin/env bash
# All benchmarks, one package after the other, and the front end's bytes.
# docs/benchmarks.md explains the figures. BENCH narrows by name, BENCHTIME lengthens.
set -euo pipefail
cd "$(dirname "$0")/.."
for package in $(grep -rl --include='*_test.go' '^func Benchmark' . | xargs -n1 dirname | sort -u); do
  go test "$package" -run '^$' -bench "${BENCH:-.}" -benchtime "${BENCHTIME:-2s}" -benchmem -timeout 30m
done
(cd web && npm run -s budget)
