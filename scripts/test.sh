#!/usr/bin/env bash
# Runs every test; with --quick, in about a minute, those that need no server and no browser, and a few walks with
# the built program. Needs Go alone; where a C compiler is present, the core is
# tested for races as well. The page of a batch is tried in a browser, and directories, databases and
# file servers against real ones: on Debian they are installed if they are missing and this may be done.
set -euo pipefail
cd "$(dirname "$0")/.."

if [ "${1-}" = --quick ]; then
  go vet ./...
  go test -short $(go list ./... | grep -v /test$)
  go test -count=1 -parallel 6 -run 'TestScripts/(walk|mistakes|memberships|undo|handback|cells|values|notices|last)$' ./test
  exit
fi

if command -v apt-get >/dev/null && [ "$(id -u)" = 0 ]; then
  missing=()
  command -v chromedriver >/dev/null || missing+=(chromium chromium-driver)
  [ -x /usr/sbin/slapd ] || missing+=(slapd ldap-utils)
  [ -x /usr/sbin/ns-slapd ] || missing+=(389-ds-base)
  [ -x /usr/sbin/samba ] && [ -x /usr/bin/ldbadd ] || missing+=(samba samba-ad-dc samba-ad-provision samba-dsdb-modules samba-vfs-modules ldb-tools python3-dnspython python3-markdown)
  command -v ip >/dev/null || missing+=(iproute2)
  command -v openssl >/dev/null || missing+=(openssl)
  [ -d /usr/lib/postgresql ] || missing+=(postgresql)
  [ -x /usr/sbin/mariadbd ] || missing+=(mariadb-server)
  { [ -x /usr/sbin/sshd ] && [ -x /usr/bin/sudo ] && [ -d /var/lib/extrausers ]; } || missing+=(openssh-server openssh-client sudo libnss-extrausers)
  command -v setfacl >/dev/null && command -v setcap >/dev/null || missing+=(acl libcap2-bin)
  if [ ${#missing[@]} -gt 0 ]; then
    # Nothing that is installed starts a server of its own.
    [ -e /usr/sbin/policy-rc.d ] || { printf '#!/bin/sh\nexit 101\n' >/usr/sbin/policy-rc.d && chmod +x /usr/sbin/policy-rc.d; }
    export DEBIAN_FRONTEND=noninteractive
    apt-get update -qq
    apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
  fi
fi
for server in /usr/sbin/slapd /usr/sbin/ns-slapd /usr/sbin/samba /usr/lib/postgresql /usr/sbin/mariadbd /usr/sbin/sshd; do
  [ -e $server ] || echo "NOTE: there is no $server on this machine; the tests against a real one are skipped" >&2
done

# What tests write is thrown away: where there is room it stands in memory, and no slow disk is waited for.
memory=/dev/shm
if [ -w $memory ] && [ "$(df --output=avail -k $memory | tail -n1)" -gt 6000000 ]; then
  TMPDIR=$(mktemp -d $memory/ferries.XXXXXX)
  chmod 1777 "$TMPDIR" # as of /tmp: servers run as users of their own
  export TMPDIR
  trap 'rm -rf "$TMPDIR"' EXIT
fi

# Most tests of the built program wait for something: several go side by side, whatever the number of processors.
# What was run before counts for nothing: that the program changed, which they build and drive, go test does not see.
go test -count=1 -vet=off -timeout 80m -parallel 6 ./...
go run ./bench watch # a loss of speed is told, and fails nothing
if command -v gcc >/dev/null; then # where goroutines meet
  rooms_with() { grep -rlE "$1" internal --include='*.go' | xargs -n1 dirname | sort -u; }
  mapfile -t rooms < <(rooms_with 'go func|errgroup|WaitGroup|\.Go\(')
  mapfile -t drawn < <(comm -12 <(printf '%s\n' "${rooms[@]}") <(rooms_with 'pgregory\.net/rapid')) # by chance: in full above, a few times here
  mapfile -t rooms < <(comm -23 <(printf '%s\n' "${rooms[@]}") <(printf '%s\n' "${drawn[@]}"))
  # SQLite, translated from C, and what makes keys of passphrases have no goroutines of ours in them, and take ten times as long
  # when they are watched. What else is not watched is not to be more: generic code is shared between packages.
  watched=(-race "-gcflags=modernc.org/sqlite/lib=-race=false" "-gcflags=golang.org/x/crypto/scrypt=-race=false")
  CGO_ENABLED=1 go test -vet=off "${watched[@]}" -timeout 80m "${rooms[@]/#/./}"
  CGO_ENABLED=1 go test -vet=off "${watched[@]}" -timeout 80m "${drawn[@]/#/./}" -rapid.checks=15
fi
