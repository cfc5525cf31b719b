#!/usr/bin/env bash
# A 389 Directory Server for scripts/directory.sh, which says what FOLDER, PORT and EMPTY are. It listens on PORT + 1 as well, with TLS. Ports it must
# have: if PORT is 0, those of a network of its own, where nobody else is. It sees to what its plug-ins see to as they come: who is in what (memberOf,
# referential integrity without managers) and that sign-in names and addresses are unique.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
dir=$1 port=$2 base=dc=brindlesound,dc=example
server=$(command -v ns-slapd || echo /usr/sbin/ns-slapd)
if [ ! -x "$server" ]; then
  echo "389 Directory Server is not installed; on Debian: apt-get install 389-ds-base ldap-utils" >&2
  exit 1
fi
as=()
if [ "$(id -u)" = 0 ]; then
  as=(setpriv --reuid=dirsrv --regid=dirsrv --clear-groups --)
  chown -R dirsrv "$dir"
fi
alone=()
if [ "$port" = 0 ]; then
  alone=(unshare -n) port=3389
fi
export PREFIX=$dir/root HOME=$dir PATH=$dir/bin:$PATH
home=$dir/root/etc/dirsrv/slapd-harbour

if [ ! -e "$dir/ready" ]; then
  rm -rf "$dir/root" "$dir/bin"
  "${as[@]}" mkdir -p "$dir/bin"
  "${as[@]}" dscreate ds-root "$dir/root" "$dir/bin" >"$dir/create.log" 2>&1
  plugins=$(find /usr/lib /usr/lib64 -type d -path "*/dirsrv/plugins" 2>/dev/null | head -1 || true)
  sed -i "s|/usr/lib64|${plugins%/dirsrv/plugins}|" "$dir/root/share/dirsrv/inf/defaults.inf"
  cat >"$dir/instance" <<END
[general]
config_version = 2
full_machine_name = localhost
strict_host_checking = False
selinux = False
systemd = False
[slapd]
instance_name = harbour
port = $port
secure_port = $((port + 1))
root_password = $(tr -d '/' <"$dir/password")
[backend-userroot]
suffix = $base
create_suffix_entry = True
END
  # It starts once while it is made, on all addresses: here there are none.
  unshare -n "${as[@]}" dscreate from-file "$dir/instance" >>"$dir/create.log" 2>&1 || { tail -5 "$dir/create.log" >&2; exit 1; }
  rm "$dir/instance"
  kill "$(cat "$dir/root/run/dirsrv/slapd-harbour.pid")"
  while [ -e "$dir/root/run/dirsrv/slapd-harbour.pid" ] && kill -0 "$(cat "$dir/root/run/dirsrv/slapd-harbour.pid")" 2>/dev/null; do sleep 0.1; done
  # Lines that were folded become one, so that an entry can be changed by its lines.
  sed -e ':a;N;$!ba;s/\n //g' "$home/dse.ldif" | awk -v dir="$dir" -v base="$base" '
    /^dn: / { entry = $0 }
    entry ~ /^dn: cn=config$/ && /^nsslapd-(listenhost|securelistenhost|ldapifilepath):/ { next }
    entry ~ /^dn: cn=(MemberOf Plugin|attribute uniqueness|referential integrity postoperation),/ && /^nsslapd-pluginEnabled:/ { $2 = "on" }
    entry ~ /^dn: cn=attribute uniqueness,/ && /^uniqueness-attribute-name:/ { print; $2 = "mail" }
    { print }
    entry ~ /^dn: cn=config$/ && /^dn: / { pending = 1 }
    pending && /^objectClass:/ { print "nsslapd-listenhost: 127.0.0.1"; print "nsslapd-securelistenhost: 127.0.0.1"; print "nsslapd-ldapifilepath: " dir "/ldapi"; pending = 0 }
  ' >"$dir/dse.new"
  cat "$dir/dse.new" >"$home/dse.ldif"
  rm "$dir/dse.new"
  cp "$home/ca.crt" "$dir/ca.pem"
fi
"${alone[@]}" "${as[@]}" "$server" -D "$home" -i "$dir/pid" -d 0 &
pid=$!
stop() { # one that does not end when it is asked to is ended
  kill "$pid"
  for ((tenths = 0; tenths < 50; tenths++)); do
    kill -0 "$pid" 2>/dev/null || exit 0
    sleep 0.1
  done
  kill -KILL "$pid"
  exit 1
}
trap stop INT TERM
if [ ! -e "$dir/ready" ]; then
  admin=(-H "ldapi://${dir//\//%2F}%2Fldapi" -x -D 'cn=Directory Manager' -w "$(tr -d '/' <"$dir/password")")
  until ldapwhoami "${admin[@]}" >/dev/null 2>&1; do sleep 0.1; kill -0 "$pid"; done
  {
    cat <<END
dn: $base
changetype: modify
add: aci
aci: (targetattr="*")(version 3.0; acl "who keeps the accounts"; allow (all) userdn="ldap:///cn=evenledger,ou=services,$base";)

dn: cn=attribute uniqueness,cn=plugins,cn=config
changetype: modify
replace: aci
aci: (targetattr="*")(version 3.0; acl "who keeps the accounts"; allow (read, search, compare) userdn="ldap:///cn=evenledger,ou=services,$base";)

END
    awk 'BEGIN { RS = ""; FS = "\n" } { sub(/(^|\n)dn: [^\n]*/, "&\nchangetype: add"); print $0 "\n" }' "$dir/start.ldif"
  } >"$dir/load.ldif"
  ldapmodify "${admin[@]}" -c -f "$dir/load.ldif" >"$dir/load.log" 2>&1 || true
  touch "$dir/ready"
fi
wait
