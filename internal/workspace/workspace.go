// Package workspace finds and reads the folder in which the work is kept: the
// file evenledger.yaml with the systems, the briefs, and the ledger's place.
//
// It promises that no secret stands in a Workspace: where one is needed, there
// is a Secret that knows where to look and is opened at the moment of use.
package workspace

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"evenledger/internal/feed"
	"evenledger/internal/mail"
	"evenledger/internal/pgdial"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/system"
	"evenledger/internal/told"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// File is the name of the file that makes a folder a workspace.
const File = "evenledger.yaml"

// A Workspace is what evenledger.yaml says.
type Workspace struct {
	Dir      string // absolute
	Ledger   Ledger
	Lease    time.Duration // for which who is heard of no more keeps the work
	People   []Person
	Identity secret.Reference // where the identity of who is at work is kept; not given: the usual place
	Systems  []System
	Sets     []Set
	Feeds    []Feed
	Mail     *mail.Server // nil: nothing says how mails are sent
}

// A Ledger says where the ledger is.
type Ledger struct {
	Path string           // absolute, of its file; of one that is shared, of what is kept beside it here
	at   string           // address of one that is shared, without a password
	kept secret.Reference // where such an address is kept
}

// Shared reports whether the ledger is none of this workspace's files.
func (l Ledger) Shared() bool { return l.at != "" || l.kept.Given() }

// Address is where the ledger is; it may hold a password.
func (l Ledger) Address() (string, error) {
	switch {
	case l.kept.Given():
		return l.kept.Open()
	case l.at != "":
		return l.at, nil
	}
	return l.Path, nil
}

// String says where the ledger is, without a password.
func (l Ledger) String() string {
	switch {
	case l.kept.Given():
		return l.kept.String()
	case l.at != "":
		return l.at
	}
	return l.Path
}

// Kinds are those that evenledger.yaml may name.
type Kinds struct {
	Systems []system.Kind // the first is meant where none is named
	Feeds   []feed.Kind
}

// A Person is one of those who share the ledger.
type Person struct {
	Name  string // as the machines know them
	Opens string // public key that opens passwords (age, X25519); empty: none
	Signs string // public key that signs; empty: none
}

// A Feed is what is said of one feed.
type Feed struct {
	Name    string
	Kind    feed.Kind
	Source  feed.Source
	Line    int           // in evenledger.yaml
	Timeout time.Duration // for a server to answer, and for each wait for more
	Most    int64         // bytes that it may bring; 0: as package feed has it
}

// A Set is several systems under one name.
type Set struct {
	Name    string
	Systems []string
}

// A System is what is said of one system.
type System struct {
	Name       string
	Kind       system.Kind
	Connection system.Connection // how it is reached
	Line       int               // in evenledger.yaml

	Together   int               // requests in flight at once
	SignedFrom int               // changes from which on a second person has to sign; 0: none has to
	Shared     bool              // that holds for all workers together, as it was said
	Settle     time.Duration     // how long a new account may stay unseen
	Timeout    time.Duration     // for one request
	Unproven   bool              // what a post did is not read back
	Aliases    map[string]string // short name → the system's full attribute name

	Elevated  map[string][]string // kind → patterns of names that give rights over others
	Protect   []string            // patterns of accounts that no batch may change
	Renew     string              // field that makes a person choose another password; empty: none
	Passwords secret.Rules        // that the system has for passwords
}

// URL is where the system is; of no system, empty.
func (s System) URL() string {
	if s.Connection == nil {
		return ""
	}
	return s.Connection.Address()
}

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

// Tell implements told.Error.
func (e *NotFound) Tell() told.Telling {
	return told.Telling{Message: e.Error(), Remedy: "Make a workspace with “evenledger init”, or name one with --workspace."}
}

// Find reads the workspace that dir lies in.
func Find(dir string, kinds Kinds) (*Workspace, error) {
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
			return Read(at, kinds)
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
func Read(dir string, kinds Kinds) (*Workspace, error) {
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
	w := &Workspace{Dir: dir, Ledger: Ledger{Path: filepath.Join(dir, "ledger.db")}, Lease: 30 * time.Second}
	var sets yamldoc.Node
	doc.Root().Read(w.keys(kinds, &sets))
	w.readSets(sets)
	if err := doc.Err(); err != nil {
		return nil, err
	}
	return w, nil
}

// readLedger reads where the ledger is.
func (w *Workspace) readLedger(node yamldoc.Node) {
	if node.Text() == "" {
		return
	}
	at, err := w.LedgerAt(node.Text())
	if err != nil {
		node.Fail("Put the address into an environment variable or a file and write env:NAME or file:PATH here, or leave the password to PGPASSFILE.", "%s", err)
	}
	w.Ledger = at
}

// LedgerAt is the ledger that a text means: a file, an address of a shared one without a password,
// or where such an address is kept.
func (w *Workspace) LedgerAt(text string) (Ledger, error) {
	shared := Ledger{Path: filepath.Join(w.Dir, "ledger")}
	if at, err := url.Parse(text); err == nil && pgdial.Is(text) {
		if _, has := at.User.Password(); has {
			return shared, errors.New("there is a password in the address of the ledger")
		}
		shared.at = text
		return shared, nil
	}
	if kept, err := secret.NewReference(text, w.Dir); err == nil {
		shared.kept = kept
		return shared, nil
	}
	if text == "" || strings.Contains(text, "://") {
		return shared, errors.New("that is no address of a ledger")
	}
	return Ledger{Path: w.path(text)}, nil
}

// readSets reads the sets, when the systems are known.
func (w *Workspace) readSets(node yamldoc.Node) {
	names := w.systemNames()
	for _, pair := range node.Pairs() {
		set := Set{pair.Key, pair.Value.Texts()}
		switch {
		case !isName(set.Name):
			pair.At.Fail("Use small letters, digits and hyphens, beginning with a letter.", "“%s” cannot be the name of a set", set.Name)
		case slices.Contains(names, set.Name):
			pair.At.Fail("Call one of them otherwise.", "there are a set and a system “%s”", set.Name)
		case len(set.Systems) == 0:
			pair.At.Fail("Write it as “"+set.Name+": [SYSTEM, SYSTEM]”.", "the set %s has no systems", set.Name)
		}
		seen := map[string]bool{}
		for _, item := range pair.Value.Items() {
			name := item.Text()
			switch near := words.Nearest(name, names); {
			case seen[name]:
				item.Fail("Keep one of them.", "the set %s has %s twice", set.Name, name)
			case slices.Contains(names, name):
			case near != "":
				item.Fail("Did you mean “"+near+"”?", "there is no system “%s”", name)
			default:
				item.Fail("Name it under “systems”.", "there is no system “%s”", name)
			}
			seen[name] = true
		}
		w.Sets = append(w.Sets, set)
	}
}

func (w *Workspace) systemNames() []string {
	names := make([]string, len(w.Systems))
	for i, s := range w.Systems {
		names[i] = s.Name
	}
	return names
}

// Set returns the set of that name.
func (w *Workspace) Set(name string) (Set, bool) {
	i := slices.IndexFunc(w.Sets, func(s Set) bool { return s.Name == name })
	if i < 0 {
		return Set{}, false
	}
	return w.Sets[i], true
}

func (w *Workspace) path(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(w.Dir, path)
}

func (w *Workspace) readSystem(pair yamldoc.Pair, kinds []system.Kind) System {
	s := System{Name: pair.Key, Kind: kindOf(pair.Value, kinds), Settle: 5 * time.Second, Timeout: 30 * time.Second}
	s.Line, _ = pair.At.Position()
	s.Together = cmp.Or(s.Kind.Together, 4)
	if !isName(s.Name) {
		pair.At.Fail("Use small letters, digits and hyphens, beginning with a letter.", "“%s” cannot be the name of a system", s.Name)
	}
	s.Connection = s.Kind.Read(reach.Part{Name: s.Name, Dir: w.Dir, At: pair.At}, pair.Value, s.keys(kindNames(kinds))...)
	return s
}

// readFeed reads what is said of one feed.
func (w *Workspace) readFeed(pair yamldoc.Pair, kinds []feed.Kind) Feed {
	f := Feed{Name: pair.Key, Timeout: time.Minute}
	f.Line, _ = pair.At.Position()
	if !isName(f.Name) {
		pair.At.Fail("Use small letters, digits and hyphens, beginning with a letter.", "“%s” cannot be the name of a feed", f.Name)
	}
	var names []string
	for _, k := range kinds {
		if names = append(names, k.Name); k.Name == pair.Value.Word("kind") {
			f.Kind = k
		}
	}
	if f.Kind.Settings == nil {
		pair.At.Fail("Add “kind”: one of "+strings.Join(names, ", ")+".", "feed %s does not say of which kind it is", f.Name)
		return f
	}
	f.Source = f.Kind.Read(reach.Part{Name: f.Name, Dir: w.Dir, At: pair.At}, pair.Value, f.keys(names)...)
	return f
}

// Feed returns the feed of that name.
func (w *Workspace) Feed(name string) (Feed, error) {
	var names []string
	for _, f := range w.Feeds {
		if f.Name == name {
			return f, nil
		}
		names = append(names, f.Name)
	}
	switch near := words.Nearest(name, names); {
	case len(names) == 0:
		return Feed{}, fmt.Errorf("%s names no feed", File)
	case near != "":
		return Feed{}, fmt.Errorf("%s has no feed “%s”: did you mean “%s”?", File, name, near)
	}
	return Feed{}, fmt.Errorf("%s has no feed “%s”: it has %s", File, name, strings.Join(names, ", "))
}

// kindOf returns the kind that a system's part names; the first where it names none that
// there is.
func kindOf(part yamldoc.Node, kinds []system.Kind) system.Kind {
	name := part.Word("kind")
	for _, k := range kinds {
		if k.Name == name {
			return k
		}
	}
	return kinds[0]
}

func kindNames(kinds []system.Kind) []string {
	names := make([]string, len(kinds))
	for i, k := range kinds {
		names[i] = k.Name
	}
	return names
}

func isName(name string) bool {
	for i, c := range name {
		if !(c >= 'a' && c <= 'z' || i > 0 && (c >= '0' && c <= '9' || c == '-')) {
			return false
		}
	}
	return name != "" && len(name) <= 40
}

func readDuration(node yamldoc.Node) time.Duration {
	d, err := time.ParseDuration(strings.ReplaceAll(node.Text(), " ", ""))
	if err != nil || d <= 0 || d > time.Hour {
		node.Fail("Write it as 500ms, 30s or 2m.", "“%s” is not a length of time up to an hour", node.Text())
	}
	return d
}

// System returns the system of that name; without a name, the only one.
func (w *Workspace) System(name string) (System, error) {
	names := w.systemNames()
	if name == "" && len(w.Systems) == 1 {
		return w.Systems[0], nil
	}
	if i := slices.Index(names, name); i >= 0 {
		return w.Systems[i], nil
	}
	_, set := w.Set(name)
	for _, s := range w.Sets {
		names = append(names, s.Name) // which may be what is meant
	}
	switch near := words.Nearest(name, names); {
	case set:
		return System{}, fmt.Errorf("“%s” is a set of systems, and this is done with one: name one of %s", name, strings.Join(w.systemNames(), ", "))
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
