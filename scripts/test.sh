#!/usr/bin/env bash
# Runs every test. Needs Go alone; where a C compiler is present, the core is
# tested for races as well.
set -euo pipefail
cd "$(dirname "$0")/.."

go test -timeout 10m ./...
if command -v gcc >/dev/null; then
  CGO_ENABLED=1 go test -race -timeout 10m ./internal/...
fi
