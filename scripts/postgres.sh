#!/usr/bin/env bash
# Starts a PostgreSQL of Debian's in a folder of its own, which nothing else on this machine
# has to do with, and stays until it is stopped: scripts/postgres.sh FOLDER PORT.
#
# It listens on 127.0.0.1 and on FOLDER/.s.PGSQL.PORT; with an address in LISTEN on that as well, for
# its neighbours. The user “ferries” may do anything in it, with the password in FOLDER/password.
# FOLDER/ca.pem is the authority of its certificate.
set -euo pipefail

dir=$1 port=$2
bin=$(ls -d /usr/lib/postgresql/*/bin 2>/dev/null | tail -1)
if [ -z "$bin" ]; then
  echo "PostgreSQL is not installed; on Debian: apt-get install postgresql" >&2
  exit 1
fi
mkdir -p "$dir"
dir=$(cd "$dir" && pwd)
as=()
if [ "$(id -u)" = 0 ]; then # the server refuses to be root's
  as=(setpriv --reuid=postgres --regid=postgres --clear-groups --)
  chown postgres "$dir"
fi
if [ ! -d "$dir/data" ]; then
  head -c 18 /dev/urandom | base64 | tr -d '+/=\n' >"$dir/password"
  openssl req -x509 -newkey rsa:2048 -nodes -days 3650 -subj "/CN=Brindle Sound test authority" \
    -addext "subjectAltName=IP:127.0.0.1,DNS:localhost${LISTEN:+,IP:$LISTEN}" -keyout "$dir/key.pem" -out "$dir/ca.pem" 2>/dev/null
  [ ${#as[@]} = 0 ] || chown postgres "$dir/key.pem" "$dir/ca.pem" "$dir/password"
  chmod 600 "$dir/key.pem"
  "${as[@]}" "$bin/initdb" -D "$dir/data" -U ferries -A scram-sha-256 --pwfile="$dir/password" --auth-local=trust -E UTF8 --locale=C --no-sync >/dev/null
  [ -z "${LISTEN:-}" ] || echo "host all all samenet scram-sha-256" >>"$dir/data/pg_hba.conf"
fi
cd "$dir"
exec "${as[@]}" "$bin/postgres" -D "$dir/data" -k "$dir" -p "$port" -c listen_addresses="127.0.0.1${LISTEN:+,$LISTEN}" -c fsync="$([ -n "${DURABLE:-}" ] && echo on || echo off)" \
  -c ssl=on -c ssl_cert_file="$dir/ca.pem" -c ssl_key_file="$dir/key.pem" -c logging_collector=off -c log_min_messages=fatal
