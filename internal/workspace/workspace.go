// Package workspace finds and reads the folder in which the work is kept: the
// file evenledger.yaml with the systems, the briefs, and the ledger's place.
//
// It promises that no secret stands in a Workspace: where one is needed, there
// is a Secret that knows where to look and is opened at the moment of use.
package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"evenledger/internal/secret"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// File is the name of the file that makes a folder a workspace.
const File = "evenledger.yaml"

// A Workspace is what evenledger.yaml says.
type Workspace struct {
	Dir     string // absolute
	Ledger  string // absolute path of the ledger
	Systems []System
}

// A System is how one system is reached.
type System struct {
	Name     string
	Kind     string // "scim"
	URL      string // base of the protocol, without a slash at the end
	Token    Secret // bearer token, or
	User     string // user name and
	Password Secret // password
	CA       string // absolute path of a PEM file with the certificate authority, or empty
	Together int    // requests in flight at once
	Rate     float64
	Page     int               // accounts asked for in one page
	Settle   time.Duration     // how long a new account may stay unseen
	Timeout  time.Duration     // for one request
	NoPatch  bool              // changes are sent whole, by PUT, whatever the system promises
	Aliases  map[string]string // short name → the system's full attribute name
	Line     int               // in evenledger.yaml

	Memberships map[string]Kind     // kinds of things, such as "courses", where the system doesn't say
	Elevated    map[string][]string // kind → patterns of names that give rights over others
	Protect     []string            // patterns of accounts that no batch may change
	Renew       string              // field that makes a person choose another password; empty: none
	Passwords   secret.Rules        // that the system has for passwords
}

// A Kind says where a system keeps one kind of thing.
type Kind struct {
	Endpoint  string         // of resources, or
	Attribute string         // of the account
	Members   string         // attribute of the resources that lists who is in them
	Role      string         // sub-attribute of a member
	Section   string         // likewise
	Seats     map[string]int // how many may have a thing, where the system doesn't say
}

// A Secret is where a secret is kept: "env:NAME" or "file:PATH".
type Secret struct {
	reference string
	dir       string
}

// Kinds of system that a workspace may name.
var kinds = []string{"scim"}

// NotFound is returned when no folder from Dir upwards is a workspace.
type NotFound struct {
	Dir     string
	Foreign string // one that was found above and belongs to somebody else; empty: none
}

func (e *NotFound) Error() string {
	if e.Foreign != "" {
		return fmt.Sprintf("%s belongs to somebody else, so it is not obeyed; if it is meant, name its folder with --workspace", e.Foreign)
	}
	return fmt.Sprintf("no %s in %s or any folder above it", File, e.Dir)
}

// Find reads the workspace that dir lies in.
func Find(dir string) (*Workspace, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	for at := dir; ; at = filepath.Dir(at) {
		stat, err := os.Stat(filepath.Join(at, File))
		if err == nil && at != dir && !mine(stat) {
			return nil, &NotFound{dir, filepath.Join(at, File)}
		}
		if err == nil {
			return Read(at)
		}
		if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) {
			return nil, err
		}
		if at == filepath.Dir(at) {
			return nil, &NotFound{dir, ""}
		}
	}
}

// Read reads the workspace at dir. Mistakes in its file are yamldoc.Problems.
func Read(dir string) (*Workspace, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	data, err := yamldoc.ReadFile(filepath.Join(dir, File))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &NotFound{dir, ""}
	}
	if err != nil {
		return nil, err
	}
	doc, err := yamldoc.Parse(File, data)
	if err != nil {
		return nil, err
	}
	w := &Workspace{Dir: dir, Ledger: filepath.Join(dir, "ledger.db")}
	for _, pair := range doc.Root().Pairs("ledger", "systems") {
		switch pair.Key {
		case "ledger":
			if path := pair.Value.Text(); path != "" {
				w.Ledger = w.path(path)
			}
		case "systems":
			for _, system := range pair.Value.Pairs() {
				w.Systems = append(w.Systems, w.readSystem(system))
			}
		}
	}
	if err := doc.Err(); err != nil {
		return nil, err
	}
	return w, nil
}

func (w *Workspace) path(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(w.Dir, path)
}

func (w *Workspace) readSystem(pair yamldoc.Pair) System {
	s := System{Name: pair.Key, Together: 4, Page: 200, Settle: 5 * time.Second, Timeout: 30 * time.Second}
	s.Line, _ = pair.At.Position()
	if !isName(s.Name) {
		pair.At.Fail("Use small letters, digits and hyphens, beginning with a letter.", "“%s” cannot be the name of a system", s.Name)
	}
	var hasURL, hasToken, hasUser, hasPassword bool
	for _, p := range pair.Value.Pairs("kind", "url", "token", "user", "password", "ca", "together", "rate", "page", "settle", "timeout", "patch", "aliases", "memberships", "elevated", "protect", "change_at_sign_in", "password_rules") {
		switch p.Key {
		case "kind":
			s.Kind = p.Value.OneOf(kinds...)
		case "url":
			hasURL, s.URL = true, readURL(p.Value)
		case "token":
			hasToken, s.Token = true, w.secret(p.Value)
		case "user":
			hasUser, s.User = true, p.Value.Text()
		case "password":
			hasPassword, s.Password = true, w.secret(p.Value)
		case "ca":
			s.CA = w.path(p.Value.Text())
		case "together":
			s.Together = p.Value.Whole(1, 100)
		case "rate":
			s.Rate = readRate(p.Value)
		case "page":
			s.Page = p.Value.Whole(1, 10000)
		case "settle":
			s.Settle = readDuration(p.Value)
		case "timeout":
			s.Timeout = readDuration(p.Value)
		case "patch":
			s.NoPatch = !p.Value.Bool()
		case "memberships":
			s.Memberships = map[string]Kind{}
			for _, kind := range p.Value.Pairs() {
				s.Memberships[kind.Key] = readKind(kind)
			}
		case "elevated":
			s.Elevated = map[string][]string{}
			for _, kind := range p.Value.Pairs() {
				s.Elevated[kind.Key] = kind.Value.Texts()
			}
		case "protect":
			s.Protect = p.Value.Texts()
		case "change_at_sign_in":
			s.Renew = p.Value.Text()
		case "password_rules":
			for _, rule := range p.Value.Pairs("shortest", "longest", "kinds", "weak") {
				switch rule.Key {
				case "shortest":
					s.Passwords.Shortest = rule.Value.Whole(1, 1000)
				case "longest":
					s.Passwords.Longest = rule.Value.Whole(8, 100000)
				case "kinds":
					s.Passwords.Kinds = rule.Value.Whole(1, 4)
				case "weak":
					s.Passwords.Weak = rule.Value.OneOf("refuse", "tell") == "tell"
				}
			}
		case "aliases":
			s.Aliases = map[string]string{}
			for _, alias := range p.Value.Pairs() {
				s.Aliases[alias.Key] = alias.Value.Text()
			}
		}
	}
	if s.Kind == "" {
		s.Kind = "scim"
	}
	switch {
	case !hasURL:
		pair.At.Fail("Add “url: https://…/scim/v2”.", "system %s has no url", s.Name)
	case hasToken && (hasUser || hasPassword):
		pair.At.Fail("Keep “token”, or “user” with “password”.", "system %s has both a token and a user", s.Name)
	case hasUser != hasPassword:
		pair.At.Fail("“user” and “password” belong together.", "system %s has only one of user and password", s.Name)
	case !hasToken && !hasUser:
		pair.At.Fail("Add “token: env:NAME” or “token: file:PATH”.", "system %s has no token and no user", s.Name)
	}
	return s
}

func readKind(pair yamldoc.Pair) Kind {
	k := Kind{}
	for _, p := range pair.Value.Pairs("endpoint", "attribute", "members", "role", "section", "seats") {
		switch p.Key {
		case "endpoint":
			k.Endpoint = "/" + strings.Trim(p.Value.Text(), "/")
		case "attribute":
			k.Attribute = p.Value.Text()
		case "members":
			k.Members = p.Value.Text()
		case "role":
			k.Role = p.Value.Text()
		case "section":
			k.Section = p.Value.Text()
		case "seats":
			k.Seats = map[string]int{}
			for _, thing := range p.Value.Pairs() {
				k.Seats[thing.Key] = thing.Value.Whole(0, 1e9)
			}
		}
	}
	if k.Endpoint != "" && k.Attribute != "" {
		pair.At.Fail("Keep one of them.", "%s have both an endpoint and an attribute", pair.Key)
	}
	return k
}

func isName(name string) bool {
	for i, c := range name {
		if !(c >= 'a' && c <= 'z' || i > 0 && (c >= '0' && c <= '9' || c == '-')) {
			return false
		}
	}
	return name != "" && len(name) <= 40
}

// readURL accepts https, and http only to this machine: a token must not travel
// in clear.
func readURL(node yamldoc.Node) string {
	text := strings.TrimRight(node.Text(), "/")
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		node.Fail("Write it as https://host/path.", "“%s” is not the address of a server", text)
	case u.User != nil:
		node.Fail("Take them out of the address and use “user” and “password”.", "the address has a user name or password in it")
	case u.Scheme == "http" && !onThisMachine(u.Hostname()):
		node.Fail("Use https.", "http would send the token in clear to %s", u.Hostname())
	case u.RawQuery != "" || u.Fragment != "":
		node.Fail("Keep what comes before “?” and “#”.", "the address has a query or fragment in it")
	}
	return text
}

func onThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func readRate(node yamldoc.Node) float64 {
	number, unit, _ := strings.Cut(strings.ReplaceAll(node.Text(), " ", ""), "/")
	n, err := strconv.ParseFloat(number, 64)
	per := map[string]float64{"s": 1, "min": 60, "h": 3600}[unit]
	if err != nil || per == 0 || !(n > 0 && n < 1e9) {
		node.Fail("Write it as 20/s, 300/min or 5000/h.", "“%s” is not a pace", node.Text())
		return 0
	}
	return n / per
}

func readDuration(node yamldoc.Node) time.Duration {
	d, err := time.ParseDuration(strings.ReplaceAll(node.Text(), " ", ""))
	if err != nil || d <= 0 || d > time.Hour {
		node.Fail("Write it as 500ms, 30s or 2m.", "“%s” is not a length of time up to an hour", node.Text())
	}
	return d
}

func (w *Workspace) secret(node yamldoc.Node) Secret {
	secret, err := NewSecret(node.Text(), w.Dir)
	if err != nil {
		node.Fail("Put the secret into an environment variable or a file and write env:NAME or file:PATH here.", "%s", err)
	}
	return secret
}

// NewSecret reads a reference to a secret; paths in it are taken from dir. The
// error doesn't repeat the text, which may be the secret itself.
func NewSecret(reference, dir string) (Secret, error) {
	kind, where, found := strings.Cut(reference, ":")
	if !found || where == "" || kind != "env" && kind != "file" {
		return Secret{}, errors.New("secrets do not stand here, only where to find them")
	}
	return Secret{reference, dir}, nil
}

func (s Secret) String() string { return s.reference }

// Given reports whether there is a reference at all.
func (s Secret) Given() bool { return s.reference != "" }

// Open fetches the secret. Its errors never hold it.
func (s Secret) Open() (string, error) {
	kind, where, _ := strings.Cut(s.reference, ":")
	if kind == "env" {
		value := strings.TrimSpace(os.Getenv(where))
		if value == "" {
			return "", fmt.Errorf("the environment variable %s is not set", where)
		}
		return value, nil
	}
	if !filepath.IsAbs(where) {
		where = filepath.Join(s.dir, where)
	}
	stat, err := os.Stat(where)
	if err != nil {
		return "", fmt.Errorf("the secret's file cannot be read: %w", err)
	}
	if !stat.Mode().IsRegular() {
		return "", fmt.Errorf("the secret's file %s is not a plain file", where)
	}
	if stat.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("the secret's file %s may be read by others (mode %04o): run chmod 600 %s", where, stat.Mode().Perm(), where)
	}
	data, err := os.ReadFile(where)
	if err != nil {
		return "", fmt.Errorf("the secret's file cannot be read: %w", err)
	}
	value := strings.TrimSpace(string(data))
	if value == "" {
		return "", fmt.Errorf("the secret's file %s is empty", where)
	}
	return value, nil
}

// System returns the system of that name; without a name, the only one.
func (w *Workspace) System(name string) (System, error) {
	names := make([]string, len(w.Systems))
	for i, s := range w.Systems {
		names[i] = s.Name
	}
	if name == "" && len(w.Systems) == 1 {
		return w.Systems[0], nil
	}
	if i := slices.Index(names, name); i >= 0 {
		return w.Systems[i], nil
	}
	switch near := words.Nearest(name, names); {
	case len(names) == 0:
		return System{}, fmt.Errorf("%s names no system", File)
	case name == "":
		return System{}, fmt.Errorf("there are several systems: say which with --system (%s)", strings.Join(names, ", "))
	case near != "":
		return System{}, fmt.Errorf("%s has no system “%s”: did you mean “%s”?", File, name, near)
	}
	return System{}, fmt.Errorf("%s has no system “%s”: it has %s", File, name, strings.Join(names, ", "))
}

// BriefPath returns the file of the brief that a person means by name: a path,
// or a brief in the workspace's folder with or without its ending.
func (w *Workspace) BriefPath(name string) (string, error) {
	if strings.ContainsAny(name, `/\`) || strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml") {
		if _, err := os.Stat(name); err == nil {
			return name, nil
		}
	}
	folder := filepath.Join(w.Dir, "briefs")
	for _, ending := range []string{"", ".yaml", ".yml"} {
		path := filepath.Join(folder, filepath.Base(name)+ending)
		if stat, err := os.Stat(path); err == nil && !stat.IsDir() {
			return path, nil
		}
	}
	names := w.Briefs()
	if near := words.Nearest(name, names); near != "" {
		return "", fmt.Errorf("there is no brief “%s”: did you mean “%s”?", name, near)
	}
	if len(names) == 0 {
		return "", fmt.Errorf("there is no brief “%s”, nor any other in %s", name, folder)
	}
	return "", fmt.Errorf("there is no brief “%s”; there are %s", name, strings.Join(names, ", "))
}

// Briefs lists the names of the briefs in the workspace's folder.
func (w *Workspace) Briefs() []string {
	entries, err := os.ReadDir(filepath.Join(w.Dir, "briefs"))
	if err != nil {
		return nil
	}
	var names []string
	for _, entry := range entries {
		if ext := filepath.Ext(entry.Name()); !entry.IsDir() && (ext == ".yaml" || ext == ".yml") {
			names = append(names, strings.TrimSuffix(entry.Name(), ext))
		}
	}
	return names
}
