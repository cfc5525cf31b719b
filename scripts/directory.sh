#!/usr/bin/env bash
# Starts a directory of Debian's packages in a folder of its own, which nothing else on this machine
# has to do with, and stays until it is stopped: scripts/directory.sh [FOLDER [PORT [FAMILY]]].
# FAMILY is openldap, 389 or ad; each has a script in scripts/directory, which says what is its own.
# The people of the ferries are in the first two; EMPTY=1 leaves them out, ALSO=FILE has more in LDIF.
#
# It listens on 127.0.0.1, unless PORT is 0, and for this machine's users on FOLDER/ldapi; one of the family ad on an address
# of its own, which FOLDER/url has. cn=evenledger,ou=services signs in by a password, which
# stands in FOLDER/password. FOLDER/ca.pem is the authority of its certificate.
set -euo pipefail

here=$(cd "$(dirname "$0")" && pwd)
dir=${1:-harbour}
base=dc=brindlesound,dc=example
mkdir -p "$dir"
dir=$(cd "$dir" && pwd)
if [ ! -s "$dir/password" ]; then
  (umask 077 && head -c 18 /dev/urandom | base64 | tr -d '+/=\n' >"$dir/password")
  {
    cat <<LDIF
dn: ou=services,$base
objectClass: organizationalUnit
ou: services

dn: cn=evenledger,ou=services,$base
objectClass: organizationalRole
objectClass: simpleSecurityObject
cn: evenledger
userPassword: $(cat "$dir/password")

dn: ou=people,$base
objectClass: organizationalUnit
ou: people

dn: ou=groups,$base
objectClass: organizationalUnit
ou: groups

LDIF
    [ -n "${EMPTY:-}" ] || cat "$here/directory/ferries.ldif"
    [ -z "${ALSO:-}" ] || cat "$ALSO"
  } >"$dir/start.ldif"
fi
exec "$here/directory/${3:-openldap}.sh" "$dir" "${2:-3389}"
