package host

import (
	"evenledger/internal/system"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// prelude is what the shell is told first. Commands are carried out by “try”, which keeps
// what a command said and what it ended with; nothing that a command prints reaches the
// answer but in one line of bounded length.
//
//	try STEP COMMAND…   carries it out, as the named step of an account's own
//	slow STEP COMMAND…  the same, of what may take long with many files: it says meanwhile
//	                    that it lives
//	pw LINE             has chpasswd set a hash; printf is the shell's own, so that no hash
//	                    stands on a command line, and no file is written
//	filled HOME LAST    whether a new home has all of /etc/skel; of the last account of a block
//	                    it is looked at closely
//	own                 begins an account; when the host can take no more, nothing is begun
//	end N               tells what became of the Nth account
//	grab, release       keep two of these shells from one host's files at once, where there
//	                    is flock; a shell that was cut off holds it until its last command ends
//
// Where the user database cannot be locked or written at all, no further account would
// fare better, and each attempt may take a quarter of a minute.
const prelude = `LC_ALL=C; export LC_ALL; PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin; export PATH; umask 022; cd /
n='
'
try() { step=$1; shift; e=$("$@" 2>&1 </dev/null); c=$?; [ $c = 0 ] || stuck; return $c; }
slow() { step=$1; shift; beat; e=$("$@" 2>&1 </dev/null); c=$?; still; [ $c = 0 ] || stuck; return $c; }
beat() { { while sleep 3; do printf '%s H\n' "$M"; done; } 9>&- & h=$!; }
still() { kill $h 2>/dev/null; wait $h 2>/dev/null; }
exec 7>&1
pw() { step=password; e=$(printf '%s\n' "$1" | chpasswd -e 2>&1); c=$?; [ $c = 0 ] || stuck; return $c; }
stuck() { case $e in *'annot lock'*|*'lock file'*|*'annot open /etc/'*|*'No space left'*|*'ead-only file system'*|*'uota exceeded'*) halt=1;; esac; }
own() { step=; c=0; e=; [ -z "$halt" ] || { step=halted; c=255; return 1; }; }
no() { step=$1; c=254; e=$2; return 254; }
end() { while :; do case $e in *"$n"*) e="${e%%"$n"*} ${e#*"$n"}";; *) break;; esac; done; printf '%s R %s %s %s %.600s\n' "$M" "$1" "${step:-none}" "$c" "$e"; }
filled() {
  [ "$r" = -r ] && [ -d /etc/skel ] || return 0
  for f in /etc/skel/* /etc/skel/.[!.]*; do [ ! -e "$f" ] || [ -e "$1/${f##*/}" ] && { [ ! -s "$f" ] || [ -s "$1/${f##*/}" ]; } || { halt=1; no home-short; return; }; done
  [ -z "$2" ] || ! have diff || diff -rq /etc/skel "$1" >/dev/null 2>&1 || { halt=1; no home-short; }
}
have() { command -v "$1" >/dev/null 2>&1; }
locks=
if have flock && ( : >>/run/evenledger.lock ) 2>/dev/null; then exec 9>>/run/evenledger.lock; locks=1; fi
grab() { halt=; [ -n "$locks" ] || return 0; i=0; until flock -w 5 9; do printf '%s H\n' "$M"; i=$((i+1)); [ $i -lt 12 ] || { halt=1; printf '%s B\n' "$M"; break; }; done; }
release() { [ -z "$locks" ] || flock -u 9; }
numbered() { sed -nE "s/^([^:]*):[^:]*:($1):.*/\\1/p" /etc/passwd | sed 's/[].[^$*+?{}()|\\\/]/\\&/g' | paste -sd '|' -; }
line() { sed -nE "s/^($1):[^:]*:(.*)/\\1:\\2/p" /etc/passwd; sed -nE "s/^($1):([!*]?)([^:]?)[^:]*:([^:]*):[^:]*:[^:]*:[^:]*:[^:]*:([^:]*):.*/\\1:\\2:\\3:\\4:\\5/p" /etc/shadow; }
look() { sed -nE "s/^($1):[^:]*:(.*)/$M P \\1:\\2/p" /etc/passwd; sed -nE "s/^($1):([!*]?)([^:]?)[^:]*:([^:]*):[^:]*:[^:]*:[^:]*:[^:]*:([^:]*):.*/$M S \\1:\\2:\\3:\\4:\\5/p" /etc/shadow; }
served() { for s in $S; do getent -s "passwd:$s" passwd -- "$@" 2>/dev/null | sed "s/^/$M D $s /"; done; }
inquire() { for s in $S; do l=$(getent -s "passwd:$s" passwd -- "$1" 2>/dev/null) && [ -n "$l" ] && { printf '%s\n' "$l"; return; }; done; return 1; }
groupsof() { N=$1 awk -F: '{k=split($4,m,","); for(i=1;i<=k;i++) if(m[i]==ENVIRON["N"]) print $1}' /etc/group; }
retire() {
  l=$(inquire "$1") || { no not-served; return; }
  [ "$(printf '%s\n' "$l" | cut -d: -f3)" = "$(line "$2" | sed -n 1p | cut -d: -f2)" ] || { no other-number "$(printf '%s\n' "$l" | cut -d: -f3)"; return; }
  gs=$(groupsof "$1"); g=$(line "$2" | sed -n 1p | cut -d: -f3)
  try retire userdel -- "$1" || return
  getent group -- "$g" >/dev/null || try regroup groupadd -g "$g" -- "$1" || return
  IFS=$n; for g in $gs; do try regroup gpasswd -a "$1" -- "$g" || { unset IFS; return 1; }; done; unset IFS
}
restore() {
  l=$(inquire "$1") || { no not-served; return; }
  set -f; IFS=:; set -- $l; unset IFS; set +f
  getent group -- "$4" >/dev/null || try group groupadd -g "$4" -- "$1" || return
  try account useradd -P /. -M -N -u "$3" -g "$4" -c "$5" -d "$6" -s "${7:-/bin/sh}" -- "$1"
}
complete() {
  [ -n "$(line "$2" | sed -n 2p)" ] || try account pwconv || return
  g=$(line "$2" | sed -n 1p | cut -d: -f3)
  getent group -- "$g" >/dev/null || try group groupadd -g "$g" -- "$1" || return
  [ -z "$3" ] || [ -e "$3" ] || try home makehome "$3" "$1"
}
makehome() { u=$(sed -nE 's/^UMASK[[:space:]]+//p' /etc/login.defs); h=$(sed -nE 's/^HOME_MODE[[:space:]]+//p' /etc/login.defs)
  (umask "${u:-022}"; mkdir -- "$1") && { [ -z "$h" ] || chmod "$h" -- "$1"; } && { [ ! -d /etc/skel ] || cp -a /etc/skel/. "$1"; } && chown -hR "$2:" -- "$1"
}
regid() {
  if [ -n "$(sed -nE "/^[^:]*:[^:]*:$3:/p" /etc/group)" ]; then slow account usermod -g "$3" -- "$1"
  elif g=$(sed -nE "s/^([^:]*):[^:]*:$2:.*/\1/p" /etc/group | sed -n 1p) && [ -n "$g" ] && [ "$(cut -d: -f4 /etc/passwd | grep -cx "$2")" = 1 ]; then try group groupmod -g "$3" -- "$g"
  else no no-such-group "$3"; fi
}
leftovers() { for d in "$@"; do [ ! -d "$d" ] || stat -c %u -- "$d"/* "$d"/.[!.]* 2>/dev/null; done | sort -un | sed "s/^/$M L /"; }
keep='own=$1 who=$2; shift 2
for f in "$@"; do
  [ -f "$f" ] && [ ! -L "$f" ] && k=$(stat -c "%i %a" -- "$f") || continue
  { $own -h "$who" -- "$f" && { [ "$(stat -Lc %i /proc/self/fd/8)" != "${k%% *}" ] || chmod "${k#* }" /proc/self/fd/8; }; } 8<"$f"
done'
marked() { ! have getcap || find "$@" -type f ! -name "*$n*" -exec getcap {} + 2>/dev/null | sed -nE 's/^(.*[^=]) (= )?([^ ]+)$/\3 \1/p' | while read -r k f; do stat -c "%i %u %g $k %n" -- "$f"; done; }
premark() {
  rules=$1; shift
  marked "$@" | while read -r i u g k f; do
    u2=$(printf %s "$rules" | tr ';' '\n' | sed -n "s/^u $u \(.*\)/\1/p"); g2=$(printf %s "$rules" | tr ';' '\n' | sed -n "s/^g $g \(.*\)/\1/p")
    [ -z "$u2$g2" ] || ( cd -P -- "${f%/*}/" && f=./${f##*/} && [ "$(stat -c %i -- "$f")" = "$i" ] && b=$(stat -c %a -- "$f") && chown -h "${u2:-$u}:${g2:-$g}" -- "$f" && setcap "$k" "$f" && { [ "$(stat -Lc %i /proc/self/fd/8)" != "$i" ] || chmod "$b" /proc/self/fd/8; } 8<"$f" ) 2>/dev/null
  done
}
listed() { ! have getfacl || find "$@" ! -type l ! -name "*$n*" -exec getfacl -snp -- {} + 2>/dev/null; }
entries() { awk -v R="$1" 'BEGIN { n=split(R,r,";"); for(i=1;i<=n;i++) if(split(r[i],x," ")==3) to[x[1] ":" x[2]]=x[3] }
function out() { if(m!="") print m, d, f; m=""; d="" }
/^# file: / { out(); f=substr($0,9); next }
{ l=$0; p=""; if(sub(/^default:/,"",l)) p="d:"; split(l,q,":"); k=(q[1]=="user" ? "u:" : "g:") q[2]; if(k in to) { m=m (m=="" ? "" : ",") p substr(k,1,2) to[k] ":" substr(q[3],1,3); d=d (d=="" ? "" : ",") p k } }
END { out() }'; }
relist() {
  rules=$1; shift; have setfacl || return 0
  listed "$@" | entries "$rules" | while read -r k g f; do
    f=$(printf '%b' "$(printf %s "$f" | sed 's/\\\([0-7][0-7][0-7]\)/\\0\1/g')")
    { getfacl -snp /proc/self/fd/8 | entries "$rules" | { read -r m d f && setfacl -n -m "$m" -x "$d" /proc/self/fd/8; }; } 8<"$f"
  done 2>/dev/null
}
owners() { printf '%s\0' "$@" | xargs -0 stat -c "$M O %u %n" -- 2>/dev/null; }
seen() { getent passwd -- "$@" 2>/dev/null | sed -nE "s/^([^:]*):[^:]*:([^:]*):.*/$M V \1:\2/p"; }
sessions() { u=$(line "$1" | sed -n 1p | cut -d: -f2); [ "$u" -ge "$2" ] 2>/dev/null || return 0
  if have loginctl; then loginctl terminate-user "$u"; fi >/dev/null 2>&1; if have pkill; then pkill -KILL -u "$u"; fi >/dev/null 2>&1; :
}
rehome() {
  [ ! -e "$2" ] || { no home-there "of user number $(stat -c %u -- "$2")"; return; }
  [ -d "${2%/*}/" ] || { no home-nowhere "${2%/*}"; return; }
  [ ! -d "$1" ] || [ "$(stat -c %d -- "$1")" = "$(stat -c %d -- "${2%/*}/")" ] || [ "$(du -skx -- "$1" 2>/dev/null | cut -f1)" -lt "$(df -Pk -- "${2%/*}/" | sed -n '2s/^[^ ]* *[0-9]* *[0-9]* *\([0-9]*\) .*/\1/p')" ] || { no home-room; return; }
}
movehome() {
  slow home usermod -m -d "$2" -- "$3" && return
  z=$c; y=$e; [ "$(line "$4" | sed -n 1p | cut -d: -f5)" != "$2" ] || [ ! -d "$1" ] || { usermod -d "$1" -- "$3" >/dev/null 2>&1; }
  step=home c=$z e=$y; return $z
}
rename() {
  g=$(sed -nE "s/^([^:]*):[^:]*:$3:.*/\1/p" /etc/group | sed -n 1p)
  [ "$g" = "$1" ] && [ -z "$(getent group -- "$2" 2>/dev/null)" ] || return 0
  try group groupmod -n "$2" -- "$1"
}
`

// quoted is a text as one word of a shell.
func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// words are several, with a space between.
func words(texts ...string) string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = quoted(t)
	}
	return strings.Join(out, " ")
}

// pattern is the extended regular expression, between slashes, for these names and no
// others.
func pattern(names []string) string {
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = strings.ReplaceAll(regexp.QuoteMeta(name), "/", `\/`)
	}
	return strings.Join(out, "|")
}

// A block is the commands of a request about some accounts.
type block struct {
	text  strings.Builder
	names []string // to look at when they were carried out
	owns  int
	may   system.Permit // whether it may be sent, where it changes something
}

// own adds the commands of one account, joined by “&&” and the like.
func (b *block) own(name, commands string) {
	fmt.Fprintf(&b.text, "own && %s; end %d\n", commands, b.owns)
	b.owns++
	b.names = append(b.names, name)
}

// script is the block, with its accounts looked at in the end.
func (b *block) script() string {
	text := b.text.String()
	if b.owns > 0 {
		text = "grab\n" + text + "release\n"
	}
	names := slices.DeleteFunc(slices.Clone(b.names), func(name string) bool {
		return name == "" || strings.ContainsAny(name, ":\n\x00") // which no line of the files can have
	})
	if len(names) > 0 {
		text += "look " + quoted(pattern(names)) + "\n"
	}
	return text
}
