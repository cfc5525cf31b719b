#!/usr/bin/env bash
# Runs every test. Needs Go alone; where a C compiler is present, the core is
# tested for races as well. The page of a batch is tried in a browser: on Debian it
# is installed if it is missing and this may be done.
set -euo pipefail
cd "$(dirname "$0")/.."

if ! command -v chromedriver >/dev/null && command -v apt-get >/dev/null && [ "$(id -u)" = 0 ]; then
  export DEBIAN_FRONTEND=noninteractive
  apt-get update -qq
  apt-get install -y -qq --no-install-recommends chromium chromium-driver >/dev/null
fi

go test -timeout 10m ./...
if command -v gcc >/dev/null; then
  CGO_ENABLED=1 go test -race -timeout 10m ./internal/...
fi
