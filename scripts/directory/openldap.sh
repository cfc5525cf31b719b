#!/usr/bin/env bash
# An OpenLDAP for scripts/directory.sh, which says what FOLDER and PORT are. With DURABLE=1 it
# waits for the disk, as directories in earnest do; with ODD=1 entries of the class errAuxObject answer what they are made to.
# OVERLAYS says what it sees to by itself: "memberof refint unique ppolicy", or fewer of them; none as Debian installs it.
# Whoever runs it is its administrator on FOLDER/ldapi.
set -euo pipefail

here=$(cd "$(dirname "$0")" && pwd)
dir=$1 port=$2
overlays=" ${OVERLAYS-memberof refint unique ppolicy} "
# What passwords have to be like, where the server sees to it.
policy() {
  cat <<LDIF
dn: cn=policy,$base
objectClass: organizationalRole
objectClass: pwdPolicy
cn: policy
pwdAttribute: userPassword
pwdLockout: TRUE
pwdMinLength: 10
pwdCheckQuality: 2
LDIF
}
has() { [[ $overlays == *" $1 "* ]]; }
base=dc=brindlesound,dc=example
slapd=$(command -v slapd || echo /usr/sbin/slapd)
if [ ! -x "$slapd" ]; then
  echo "slapd is not installed; on Debian: apt-get install slapd ldap-utils" >&2
  exit 1
fi

mkdir -p "$dir/data"
if [ ! -s "$dir/slapd.conf" ]; then
  openssl req -x509 -newkey rsa:2048 -nodes -days 3650 -subj "/CN=Brindle Sound test authority" \
    -addext "subjectAltName=IP:127.0.0.1,DNS:localhost" -keyout "$dir/key.pem" -out "$dir/ca.pem" 2>/dev/null
  cat >"$dir/slapd.conf" <<CONF
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
include /etc/ldap/schema/nis.schema
include $here/ferries.schema
pidfile $dir/slapd.pid
TLSCertificateFile $dir/ca.pem
TLSCertificateKeyFile $dir/key.pem
TLSCACertificateFile $dir/ca.pem
TLSVerifyClient try
sizelimit 500
modulepath /usr/lib/ldap
moduleload back_mdb
$(for one in memberof refint unique ppolicy; do if has $one; then echo "moduleload $one"; fi; done)
${ODD:+moduleload retcode
}authz-regexp "gidNumber=$(id -g)[+]uidNumber=$(id -u),cn=peercred,cn=external,cn=auth" "cn=admin,$base"
authz-regexp "^cn=evenledger$" "cn=evenledger,ou=services,$base"

database mdb
suffix $base
rootdn cn=admin,$base
directory $dir/data
${DURABLE:+# }dbnosync
maxsize 1073741824
index objectClass,uid,mail,employeeNumber,cn,sn,manager,member,uniqueMember,memberUid,entryUUID,entryCSN eq
limits dn.exact="cn=evenledger,ou=services,$base" size=unlimited size.pr=unlimited
access to attrs=userPassword by dn.exact="cn=evenledger,ou=services,$base" write by anonymous auth by * none
access to dn.exact="cn=evenledger,ou=services,$base" by anonymous auth by * none
access to * by dn.exact="cn=evenledger,ou=services,$base" write by users read by * none
$(if has ppolicy; then printf 'overlay ppolicy\nppolicy_default "cn=policy,%s"\nppolicy_hash_cleartext\n' "$base"; fi)
$(if has memberof; then echo "overlay memberof"; fi)
$(if has refint; then printf 'overlay refint\nrefint_attributes member uniqueMember manager\n'; fi)
${ODD:+overlay retcode
retcode-parent "ou=odd,$base"
retcode-indir
}
$(if has unique; then printf 'overlay unique\nunique_uri "ldap:///ou=people,%s?mail,employeeNumber?sub"\n' "$base"; fi)
CONF
  {
    cat <<LDIF
dn: $base
objectClass: domain
dc: brindlesound

$(if has ppolicy; then policy; fi)

LDIF
    cat "$dir/start.ldif"
  } >"$dir/all.ldif"
  "${slapd%slapd}slapadd" -q -f "$dir/slapd.conf" -l "$dir/all.ldif" >"$dir/load.log" 2>&1 || { cat "$dir/load.log" >&2; exit 1; }
  rm "$dir/start.ldif" "$dir/all.ldif"
fi
listen="ldapi://${dir//\//%2F}%2Fldapi"
[ "$port" = 0 ] || listen="ldap://127.0.0.1:$port $listen"
exec "$slapd" -d "${DEBUG:-0}" -f "$dir/slapd.conf" -h "$listen"
