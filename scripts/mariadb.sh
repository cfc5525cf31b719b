#!/usr/bin/env bash
# Starts a MariaDB of Debian's in a folder of its own, which nothing else on this machine has
# to do with, and stays until it is stopped: scripts/mariadb.sh FOLDER PORT.
#
# It listens on 127.0.0.1 and on FOLDER/socket. The user “ferries” may do anything in its database
# “ferries”, with the password in FOLDER/password. FOLDER/ca.pem is the authority of its certificate.
set -euo pipefail

dir=$1 port=$2
server=$(command -v mariadbd || echo /usr/sbin/mariadbd)
if [ ! -x "$server" ]; then
  echo "MariaDB is not installed; on Debian: apt-get install mariadb-server" >&2
  exit 1
fi
mkdir -p "$dir"
dir=$(cd "$dir" && pwd)
user=$(id -un)
if [ "$user" = root ]; then
  user=mysql
  chown mysql "$dir"
fi
if [ ! -d "$dir/data" ]; then
  head -c 18 /dev/urandom | base64 | tr -d '+/=\n' >"$dir/password"
  openssl req -x509 -newkey rsa:2048 -nodes -days 3650 -subj "/CN=Brindle Sound test authority" \
    -addext "subjectAltName=IP:127.0.0.1,DNS:localhost" -keyout "$dir/key.pem" -out "$dir/ca.pem" 2>/dev/null
  [ "$user" != mysql ] || chown mysql "$dir/key.pem" "$dir/ca.pem"
  mariadb-install-db --no-defaults --user="$user" --datadir="$dir/data" --skip-test-db --auth-root-authentication-method=normal >/dev/null
  cat >"$dir/start.sql" <<SQL
create database if not exists ferries character set utf8mb4;
create user if not exists ferries@'%' identified by '$(cat "$dir/password")';
grant all on ferries.* to ferries@'%';
SQL
  chmod 644 "$dir/start.sql"
fi
exec "$server" --no-defaults --user="$user" --datadir="$dir/data" --socket="$dir/socket" --pid-file="$dir/pid" --port="$port" --bind-address=127.0.0.1 \
  --init-file="$dir/start.sql" --ssl-cert="$dir/ca.pem" --ssl-key="$dir/key.pem" --innodb-flush-log-at-trx-commit=0 --log-error="$dir/log" --skip-networking=0
