#!/usr/bin/env bash
# Builds the one static program, with the commit and its date in it.
#   scripts/build.sh [FILE]      (dist/evenledger)
set -euo pipefail
cd "$(dirname "$0")/.."

out=${1:-dist/evenledger}
mkdir -p "$(dirname "$out")"
CGO_ENABLED=0 go build -buildvcs=auto -trimpath -ldflags="-s -w" -o "$out" ./cmd/evenledger
if ldd "$out" 2>/dev/null | grep -q '=>'; then
  echo "$out is not static" >&2
  exit 1
fi
