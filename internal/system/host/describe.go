package host

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// mostTogether is how many orders one block of commands carries out.
const mostTogether = 50

// probe asks what the host is like: who we are, what is set for new accounts, and which
// tools there are.
const probe = `k() { printf '%s K %s %s\n' "$M" "$1" "$2"; }
k uid "$(id -u)"
k host "$(uname -n) $(cat /etc/machine-id 2>/dev/null)"
[ -r /etc/shadow ] && k shadow yes
for w in useradd usermod userdel groupadd groupdel gpasswd chpasswd chage sed; do have $w || k missing $w; done
sed -nE "s/^[[:space:]]*(UID_MIN|GID_MIN|ENCRYPT_METHOD)[[:space:]]+([^[:space:]]+).*/$M K \1 \2/p" /etc/login.defs
useradd -D 2>/dev/null | sed -nE "s/^(HOME|SHELL)=(.*)/$M K \1 \2/p"
sed -nE "s|^(/[^[:space:]#]+).*|$M K shell \1|p" /etc/shells
S=$(sed -nE 's/^passwd:(.*)/\1/p' /etc/nsswitch.conf 2>/dev/null | sed 's/\[[^]]*\]//g; s/#.*//' | tr ' \t' '\n\n' | grep -vxE 'files|compat|systemd|db|' | tr '\n' ' ')
k sources "$S"
find / -maxdepth 0 -printf '' -execdir true {} + 2>/dev/null && have awk && k find yes
for s in /usr/sbin/nologin /sbin/nologin /bin/false; do [ -x $s ] && k shell $s; done
:
`

// facts are what was learned of a host.
type facts struct {
	uid, host  string
	shadow     bool
	missing    []string // tools
	least      int      // number of people's accounts
	leastGroup int
	method     string // of hashing passwords
	homes      string // folder of new home folders
	shells     []string
	attributes []account.Attribute
	sources    []string // that names of accounts come from besides the host's own files
	find       bool     // its find can do what a walk takes
}

// line takes in a line of the probe's answer.
func (f *facts) line(kind, text string) {
	if kind != "K" {
		return
	}
	key, value, _ := strings.Cut(text, " ")
	number, err := strconv.Atoi(value)
	switch {
	case key == "uid":
		f.uid = value
	case key == "host":
		f.host = value
	case key == "shadow":
		f.shadow = true
	case key == "missing":
		f.missing = append(f.missing, value)
	case key == "UID_MIN" && err == nil:
		f.least = number
	case key == "GID_MIN" && err == nil:
		f.leastGroup = number
	case key == "ENCRYPT_METHOD":
		f.method = value
	case key == "sources":
		f.sources = strings.Fields(value)
	case key == "find":
		f.find = true
	case key == "HOME":
		f.homes = strings.TrimSuffix(value, "/")
	case key == "shell" && !slices.Contains(f.shells, value):
		f.shells = append(f.shells, value)
	}
}

// usable says why accounts cannot be kept on the host, if they cannot.
func (f *facts) usable(c *connection) error {
	f.least = cmp.Or(f.least, 1000)
	f.leastGroup, f.homes = cmp.Or(f.leastGroup, f.least), cmp.Or(f.homes, "/home")
	f.attributes = f.fields()
	switch {
	case f.uid != "0" && c.sudo:
		return &system.Unavailable{Message: fmt.Sprintf("sudo makes %s another than root on %s", c.User, c.At), Remedy: "Allow it there to become root."}
	case f.uid != "0":
		return &system.Unavailable{Message: fmt.Sprintf("%s is not root on %s", c.User, c.At), Remedy: "Add “root: sudo” to the system in evenledger.yaml, and allow it there without a password."}
	case len(f.missing) > 0:
		return &system.Unavailable{Message: fmt.Sprintf("%s has no %s", c.At, strings.Join(f.missing, ", ")), Remedy: "Accounts are kept with the tools of shadow-utils (the package passwd or shadow): install it there."}
	case !f.shadow:
		return &system.Unavailable{Message: fmt.Sprintf("/etc/shadow cannot be read on %s", c.At), Remedy: "Even root may be kept from it by the host's security rules; or it keeps its passwords elsewhere (pwconv moves them)."}
	}
	return nil
}

// person reports whether a number is that of a person's account: the system's own are below,
// and two are nobody's (nobody, and what stands for none).
func (f *facts) person(uid int) bool {
	return uid >= f.least && uid != 65534 && uid != 65535 && uid < 1<<32-1
}

// local is the field that says whether the host keeps an account in its own files.
const local = account.Local

// renew is the field that has a person choose another password.
const renew = "changeAtSignIn"

// Describe implements system.System.
func (c *client) Describe(ctx context.Context) (*system.Description, error) {
	_, f, err := c.open(ctx)
	if err != nil {
		return nil, err
	}
	schema := &account.Schema{
		Naming: "userName", Suspension: account.Suspension{Field: "active", On: "true", Off: "false"}, Renewal: renew,
		Attributes: f.attributes,
		Along:      map[string]string{"uidNumber": "gidNumber"}, Owners: [2]string{"uidNumber", "gidNumber"},
		Composed: []account.Composed{{Field: "gecos", Of: [][]string{{"displayName"}, {"formattedName"}, {"givenName", "familyName"}}}},
	}
	return &system.Description{
		Schema: schema,
		Kinds:  []account.ThingKind{{Name: groups}},
		Can:    system.Abilities{Finds: mostFound, Unlisted: len(f.sources) > 0, Reowns: f.find, Piecemeal: true, Versions: true, Moves: true, AtOnce: mostTogether, Together: []system.Verb{system.Creates, system.Changes, system.Removes, system.Renews}, Bulk: true, Removes: true, Renews: true, Ties: mostTies, Makes: true, Unmakes: true},
	}, nil
}

// fields are what the host's files hold of an account.
func (f *facts) fields() []account.Attribute {
	also := map[string]string{}
	for _, shell := range slices.Backward(f.shells) {
		also[shell[strings.LastIndex(shell, "/")+1:]] = shell
	}
	return []account.Attribute{
		{Field: "userName", Path: "passwd: name", Kind: account.Login, Required: true, Unique: true, Exact: true, Longest: 32, Rule: account.ByLetter, Refuses: noName},
		{Field: "uidNumber", Path: "passwd: UID", Kind: account.Number, Unique: true, Refuses: f.noNumber},
		{Field: "gidNumber", Path: "passwd: GID", Kind: account.Number, Refuses: f.noGroup},
		{Field: "gecos", Path: "passwd: comment", Description: "The person's name, for people to read; a room and telephone numbers behind it.", Behind: ",", Refuses: plain},
		{Field: "homeDirectory", Path: "passwd: directory", Rule: account.ByLetter, Exact: true, Refuses: noPath},
		{Field: "loginShell", Path: "passwd: shell", Allowed: f.shells, Also: also, Rule: account.ByLetter, Exact: true},
		{Field: "expires", Path: "shadow: expire", Kind: account.Date, Description: "From this day on the account is closed."},
		{Field: "active", Path: "shadow: locked and expired", Kind: account.YesNo},
		{Field: local, Path: "in /etc/passwd", Kind: account.YesNo, Description: "The host keeps the account in files of its own, and not only a directory that it asks.", Loses: "the password that the host itself kept of the account goes for good; its home folder and its groups stay"},
		{Field: renew, Path: "shadow: last change", Kind: account.YesNo, Description: "The person has to choose another password at the next sign-in."},
	}
}
