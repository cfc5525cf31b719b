#!/usr/bin/env bash
# A directory in the style of AD, Samba's, for scripts/directory.sh, which says what FOLDER and PORT are. Its ports are fixed: it listens on an address of
# its own, 127.x.y.z made of PORT, which FOLDER/url has. Accounts are made by cn=evenledger,cn=Users, who may do anything; there are the units people
# and groups, and nobody in them. It takes root.
set -euo pipefail
dir=$1 base=dc=brindlesound,dc=example
ip=127.77.$(($2 / 256)).$(($2 % 256))
if ! command -v samba >/dev/null; then
  echo "Samba's directory is not installed; on Debian: apt-get install samba samba-ad-dc samba-ad-provision samba-dsdb-modules samba-vfs-modules ldb-tools python3-dnspython python3-markdown" >&2
  exit 1
fi
admin="Aa1-$(cat "$dir/password")"
if [ ! -e "$dir/ready" ]; then
  rm -rf "$dir/ad"
  samba-tool domain provision --domain=BRINDLESOUND --realm=BRINDLESOUND.EXAMPLE --host-name=harbour --adminpass="$admin" --server-role=dc --dns-backend=NONE \
    --targetdir="$dir/ad" --option="server services=ldap" --option="interfaces=$ip/8" --option="bind interfaces only=yes" >"$dir/create.log" 2>&1 || { tail -5 "$dir/create.log" >&2; exit 1; }
  openssl req -x509 -newkey rsa:2048 -nodes -days 3650 -subj "/CN=Brindle Sound test authority" -addext "subjectAltName=IP:$ip,DNS:localhost" \
    -keyout "$dir/key.pem" -out "$dir/ca.pem" 2>/dev/null
  chmod 600 "$dir/key.pem"
  sed -i "s|^\[global\]|[global]\n\ttls certfile = $dir/ca.pem\n\ttls keyfile = $dir/key.pem\n\ttls cafile =\n\tpid directory = $dir|; s|^\tlog file = .*|\tlog file = $dir/log.%m|" "$dir/ad/etc/smb.conf"
  printf %s "ldaps://$ip" >"$dir/url"
  data=$dir/ad/private/sam.ldb
  printf 'dn: ou=%s,'"$base"'\nobjectClass: organizationalUnit\n\n' people groups >"$dir/start.ldif"
  ldbadd -H "$data" "$dir/start.ldif" >>"$dir/create.log" 2>&1
  samba-tool user create evenledger "$admin" -H "$data" >>"$dir/create.log" 2>&1
  samba-tool group addmembers "Domain Admins" evenledger -H "$data" >>"$dir/create.log" 2>&1
  printf %s "$admin" >"$dir/password"
  rm "$dir/start.ldif"
  touch "$dir/ready"
fi
exec samba -F --no-process-group -M single -s "$dir/ad/etc/smb.conf" >>"$dir/log" 2>&1
