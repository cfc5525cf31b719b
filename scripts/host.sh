#!/usr/bin/env bash
# Runs a Unix host of its own in the folder DIR until it is stopped: OpenSSH's server on
# 127.0.0.1:PORT, with an /etc, a /home and a /srv that nobody else sees, so that accounts can be
# made and removed in it with this machine's own tools. It has this machine's system accounts and
# nobody else. root gets in by the key in DIR/key, and so does evenledger, who may become root by
# sudo where there is one; DIR/known_hosts has the host's key. Where there is libnss-extrausers,
# the host asks a directory as well: it serves what stands in DIR/directory/passwd and group.
# Tools in DIR/tools stand for its own. Takes root, and mount namespaces.
#
#   scripts/host.sh DIR PORT
set -euo pipefail
dir=$(realpath "$1") port=$2
mkdir -p "$dir"/{etc,home,mail,srv,directory} "$dir"/run/sshd
chmod 755 "$dir" "$dir"/{etc,home,mail,srv,directory,run}
cd "$dir"

if [ ! -e etc/passwd ]; then # a host that is started again is as it was
  for name in default login.defs security shells skel pam.d nsswitch.conf ld.so.cache ld.so.conf ld.so.conf.d sudo.conf machine-id localtime environment alternatives; do
    [ ! -e /etc/$name ] || cp -a /etc/$name etc/
  done
  system='$3 < 1000 || $3 > 60000'
  awk -F: "$system" /etc/passwd >etc/passwd
  awk -F: -v OFS=: "$system {\$4 = \"\"; print}" /etc/group >etc/group
  sed 's/:.*/:*:20000:0:99999:7:::/' etc/passwd >etc/shadow
  sed 's/:.*/:*::/' etc/group >etc/gshadow
  [ ! -d /var/lib/extrausers ] || sed -i -E 's/^(passwd|group|shadow):.*/\1: files extrausers/' etc/nsswitch.conf
  : >etc/subuid
  : >etc/subgid
  chmod 600 etc/shadow etc/gshadow
  echo 'evenledger:x:499:65534::/:/bin/sh' >>etc/passwd
  echo 'evenledger:*:20000:0:99999:7:::' >>etc/shadow
  mkdir -p etc/sudoers.d
  printf 'root ALL=(ALL) ALL\nevenledger ALL=(root) NOPASSWD: /bin/sh, /usr/bin/sh\n' >etc/sudoers
  chmod 440 etc/sudoers
fi

[ -e key ] || ssh-keygen -q -t ed25519 -N '' -f key
[ -e host ] || ssh-keygen -q -t ed25519 -N '' -f host
echo "[127.0.0.1]:$port $(cat host.pub)" >known_hosts
cat >sshd_config <<END
Port $port
ListenAddress 127.0.0.1
HostKey $dir/host
AuthorizedKeysFile $dir/key.pub
StrictModes no
UsePAM no
PermitRootLogin yes
PasswordAuthentication no
PidFile none
END

exec unshare --mount --propagation private sh -c '
  for at in etc home srv run; do mount --bind "$0/$at" /$at; done
  mount --bind "$0/mail" /var/mail
  [ ! -d "$0/tools" ] || mount --bind "$0/tools" /usr/local/sbin
  [ ! -d /var/lib/extrausers ] || mount --bind "$0/directory" /var/lib/extrausers
  exec /usr/sbin/sshd -D -e -f "$0/sshd_config" 2>"$0/log"' "$dir"
