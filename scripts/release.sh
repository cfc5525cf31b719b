#!/usr/bin/env bash
# Makes the archives that people have the program from without Go, one for each kind
# of machine, with the docs, the manual, completions for shells and the licence, and SHA256SUMS beside them.
#   scripts/release.sh [VERSION]      (dist/evenledger-VERSION-SYSTEM-MACHINE.tar.gz or .zip)
set -euo pipefail
cd "$(dirname "$0")/.."

if ! command -v zip >/dev/null; then
  if ! command -v apt-get >/dev/null || [ "$(id -u)" != 0 ]; then
    echo "zip is needed for the archives of Windows: install it first" >&2
    exit 1
  fi
  DEBIAN_FRONTEND=noninteractive apt-get update -qq
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends zip >/dev/null
fi

version=${1:-$(git describe --tags --always --dirty 2>/dev/null || echo source)}
mkdir -p dist
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

SOURCE_DATE_EPOCH=$(git log -1 --format=%ct 2>/dev/null || date +%s) go run ./cmd/manual "$work/beside"
archives=()
for target in linux/amd64 linux/arm64 linux/386 linux/arm darwin/amd64 darwin/arm64 windows/amd64 windows/arm64 windows/386; do
  name="evenledger-$version-${target%/*}-${target#*/}"
  folder="$work/$name"
  program="$folder/evenledger"
  case $target in windows/*) program+=.exe ;; esac
  mkdir "$folder"
  CGO_ENABLED=0 GOOS=${target%/*} GOARCH=${target#*/} go build -trimpath -buildvcs=auto -ldflags='-s -w' -o "$program" ./cmd/evenledger
  cp -R README.md CHANGELOG.md LICENSE docs "$work/beside/man" "$work/beside/completions" "$folder"
  case $target in
    windows/*) archive="$name.zip"; rm -f "dist/$archive"; (cd "$work" && zip -qr - "$name") >"dist/$archive" ;;
    *) archive="$name.tar.gz"; tar -C "$work" --numeric-owner -czf "dist/$archive" "$name" ;;
  esac
  archives+=("$archive")
  echo "dist/$archive"
done
cd dist
if command -v sha256sum >/dev/null; then sha256sum "${archives[@]}"; else shasum -a 256 "${archives[@]}"; fi >SHA256SUMS
echo "dist/SHA256SUMS"
