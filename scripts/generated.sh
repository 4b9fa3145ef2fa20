#!/usr/bin/env bash
# generated.sh check: fails where generated code is not that of its source.
# generated.sh sign: notes the source that the queries' code was just made of.
# (Building sqlc takes minutes, so that its source is compared by its digest; the
# front end's types are made again.)
set -euo pipefail
cd "$(dirname "$0")/.."
signed=server/store/gen/source.sum
source() { cat sqlc.yaml server/store/migrations/*.sql server/store/queries/*.sql | sha256sum | cut -d ' ' -f 1; }
case ${1:-} in
sign) source >"$signed" ;;
check)
  if [ "$(source)" != "$(cat "$signed")" ]; then
    echo "server/store/gen is not made of the SQL as it is; run make sql" >&2
    exit 1
  fi
  fresh=$(mktemp --suffix .d.ts)
  trap 'rm -f "$fresh"' EXIT
  (cd web && npx openapi-typescript ../server/api/openapi.json --default-non-nullable false -o "$fresh" >/dev/null)
  if ! cmp -s "$fresh" web/src/api/schema.d.ts; then
    echo "web/src/api/schema.d.ts is not made of server/api/openapi.json as it is; run make types" >&2
    exit 1
  fi
  ;;
*) echo "generated.sh check|sign" >&2 && exit 2 ;;
esac
