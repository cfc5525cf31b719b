// Package batch decides what a row comes to: what is wanted, held against the
// accounts that were found, gives an entry.
//
// It is pure: it asks no system, writes nothing, and gives the same entries for
// the same input. Every row it is given comes to exactly one entry.
package batch

import (
	"cmp"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/feed"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/secret"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
)

// A State is how far a batch has come.
type State string

// The states of a batch.
const (
	Drafting State = "drafting" // being made; such a batch is not shown
	Drafted  State = "drafted"
	Posting  State = "posting"
	Stopped  State = "stopped"
	Posted   State = "posted"
	Handed   State = "handed over" // and what became of all of it is not known yet
	Reversed State = "reversed"    // posted, and undone by a later batch

	Withdrawing State = "withdrawing" // its secrets are being destroyed
	Withdrawn   State = "withdrawn"   // drafted, and not to be posted
	Unmade      State = "unmade"      // its draft broke off when others had been begun already
)

// Took reports whether the batch took what its feed brought: something of it was posted,
// and was not undone.
func (b *Batch) Took() bool { return !b.Posted.IsZero() && b.State != Reversed }

// A Batch is what is known of a batch as a whole.
type Batch struct {
	ID       int
	Revision int    // of what the ledger has of it: whoever saves an older one is told
	Seal     string // hash of all that was drafted: the draft, its entries, their steps and passwords
	Draft
	Progress
}

// A Draft is what was drafted of a batch as a whole. Nothing of it changes once it is sealed. The names
// in JSON are those of the ledger, and are kept when a field is called otherwise.
type Draft struct {
	Made       time.Time `json:"drafted"`              // when
	By         string    `json:"by"`                   // who drafted it
	ByKey      string    `json:"byKey,omitempty"`      // the public key that they sign with; empty: nobody the workspace knows
	ToDo       int       `json:"toDo,omitempty"`       // accounts that it would change, one way or another
	SignedFrom int       `json:"signedFrom,omitempty"` // changes from which on a second person has to sign; 0: none has to
	Source
	Undone

	System    string             `json:"system"`
	URL       string             `json:"url"`                 // of the system, as it was drafted for
	Set       string             `json:"set,omitempty"`       // of systems, for which one sheet made a batch each; empty: it stands alone
	Beside    int                `json:"beside,omitempty"`    // with Set: the number of the first of them
	AsOf      string             `json:"asOf,omitempty"`      // what accounts were read from, where that is not the system itself
	Mark      account.Suspension `json:"mark"`                // of an account that may not sign in
	Witnesses []account.Account  `json:"witnesses,omitempty"` // that were there when it was drafted, to know the system again by

	Brief    string             `json:"brief,omitempty"`    // as it was named; empty: recognised headings
	Policies string             `json:"policies"`           // in one sentence
	Fields   []string           `json:"fields"`             // fields of accounts that the batch looks at
	Match    []string           `json:"match"`              // those by which accounts were found
	Numbers  []string           `json:"numbers,omitempty"`  // fields that got a number which nobody else may have by the time it is sent
	Unlisted int                `json:"unlisted,omitempty"` // accounts that no row lists and that something was decided about
	Held     []string           `json:"held,omitempty"`     // why it may not be posted; none: it may
	Limits   []string           `json:"limits,omitempty"`   // in words: how much of each it was allowed, and what was let through
	Protect  []string           `json:"protect,omitempty"`  // patterns of accounts that are not changed
	Trial    string             `json:"trial,omitempty"`    // what it is a trial of, to be undone later; empty: it is none
	Seats    []membership.Seats `json:"seats,omitempty"`    // of licences, as drafted
	Makes    []membership.Make  `json:"makes,omitempty"`    // things that are made first
	Secrets  string             `json:"secrets,omitempty"`  // where passwords come from: "generate", "given", "both" or none
	Key      string             `json:"key,omitempty"`      // what the key is called that a team's passwords are sealed with; empty: it is this machine's
	ReportTo []string           `json:"reportTo,omitempty"` // addresses that get its report
	Begin    []Whole            `json:"begin,omitempty"`    // what is done elsewhere before it
	End      []Whole            `json:"end,omitempty"`      // and when all of it is posted
	Reown    *system.Folders    `json:"reown,omitempty"`    // where files are given to new numbers; nil: nowhere
	Renames  *Renames           `json:"renames,omitempty"`  // accounts that get another name by which others refer to them; nil: none does
}

// A Source is the sheet that a batch was made of.
type Source struct {
	Sheet      string            `json:"sheet"`               // its file name
	Separator  string            `json:"separator,omitempty"` // of its cells
	Headings   []string          `json:"headings"`
	Above      [][]string        `json:"above,omitempty"` // rows above the headings
	HeadingRow int               `json:"headingRow"`
	Encoding   string            `json:"encoding,omitempty"`
	Tab        string            `json:"tab,omitempty"`
	Workbook   bool              `json:"workbook,omitempty"` // it was one
	Path       string            `json:"path,omitempty"`     // of the sheet, if it is a file of the machine that drafted
	Sum        string            `json:"sha256,omitempty"`   // SHA-256 of a workbook that a report can be written into
	Words      map[string]string `json:"words,omitempty"`    // field → heading of the one column that gives it
	Rows       int               `json:"rows"`               // rows in
	Taken      string            `json:"taken,omitempty"`    // which of them were taken, if not all
	Read       sheet.Tally       `json:"read"`               // what was in it
	Delivery   *feed.Delivery    `json:"delivery,omitempty"` // what a feed brought, if the rows are of one
	Corrects   int               `json:"corrects,omitempty"` // the batch from whose fix sheet the rows come; 0: none
}

// Undone is what a batch undoes, if it is one that does.
type Undone struct {
	Reverses int               `json:"reverses,omitempty"` // the batch; 0: none
	After    int               `json:"after,omitempty"`    // how often that had been begun to be posted by then
	Unmakes  []membership.Step `json:"unmakes,omitempty"`  // things that it made, which are removed if nobody is in them
}

// Renames are accounts that get another name by which others refer to them, and what refers to them by it.
type Renames struct {
	Accounts    int    `json:"accounts"`
	Memberships int    `json:"memberships"`
	References  int    `json:"references"`       // of other accounts
	Server      string `json:"server,omitempty"` // in words: what the server sees to; empty: nobody knows
}

// Progress is what became of a batch as a whole since it was drafted.
type Progress struct {
	State      State             `json:"state"`
	Posted     time.Time         `json:"posted,omitzero"`      // when it was last posted; zero: not yet
	Posts      int               `json:"posts,omitempty"`      // how often it was begun to be posted
	HoldMails  bool              `json:"holdMails,omitempty"`  // the last time so that its mails are kept
	MadeThings []membership.Step `json:"madeThings,omitempty"` // that did not exist before it
	Begun      Results           `json:"begun,omitempty"`      // what became of Begin
	Ended      Results           `json:"ended,omitempty"`      // of End
	Unmade     Results           `json:"unmade,omitempty"`     // and of Unmakes
	Reading    Reading           `json:"reading,omitzero"`     // what reading it back came to
	Marked     bool              `json:"marked,omitempty"`     // what a feed brought was marked as taken where it came from
	Handout    *Handout          `json:"handout,omitempty"`    // nil: nobody has begun to hand passwords out
	Files      []File            `json:"files,omitempty"`      // in which rows were handed over, in their order
	FilesKey   string            `json:"filesKey,omitempty"`   // sealed: the identity that opens those with passwords; empty: there are none
}

// A File is one in which rows of a batch were handed over.
type File struct {
	Name   string    `json:"name"`
	Part   int       `json:"part"` // from 1; files of one part were written together
	Rows   int       `json:"rows"`
	Low    int       `json:"low"` // rows of the sheet between which those of the part lie, both included
	High   int       `json:"high"`
	Sum    string    `json:"sha256"` // of what the application gets
	Bytes  int64     `json:"bytes"`
	At     time.Time `json:"at"`
	Layout string    `json:"layout"`           // hash of the layout that it was written by
	Sealed bool      `json:"sealed,omitempty"` // it holds passwords, and lies sealed
}

// A Place is where in a file an entry was handed over, or where it is asked about.
type Place struct {
	File string `json:"file"`
	Line int    `json:"line"` // from 1
	// Asked is where a system that took it in says what became of it, and then there is no file.
	Asked string `json:"asked,omitempty"`
}

// Results are what became of the things of a list, in its order; of those beyond the last nothing did yet.
type Results []membership.Result

// Of is what became of one.
func (r Results) Of(i int) membership.Result {
	if i < len(r) {
		return r[i]
	}
	return ""
}

// Note notes what became of one.
func (r *Results) Note(i int, result membership.Result) {
	for len(*r) <= i {
		*r = append(*r, "")
	}
	(*r)[i] = result
}

// A Whole is something done elsewhere about a batch as a whole.
type Whole struct {
	Feed  string     `json:"feed"`
	Order feed.Order `json:"order"`
}

// WaitsAround reports whether something that is done elsewhere about the batch as a whole is
// still to be done, or did not come to a good end, though the batch was posted.
func (b *Batch) WaitsAround() bool {
	waits := func(all []Whole, became Results) bool {
		for i := range all {
			if became.Of(i) != membership.Done {
				return true
			}
		}
		return false
	}
	return !b.Posted.IsZero() && (waits(b.Begin, b.Begun) || waits(b.End, b.Ended))
}

// Removals are the things to be removed as nobody is in them any more, with what became of each.
func (b *Batch) Removals() []membership.Step {
	all := slices.Clone(b.Unmakes)
	for i := range all {
		all[i].Result = b.Unmade.Of(i)
	}
	return all
}

// unlisted is beyond the row of any sheet: entries for accounts that the sheet
// does not list stand there, in the ledger and in order.
const unlisted = 1 << 30

// UnlistedRow is the row under which the nth account stands that no row lists.
func UnlistedRow(n int) int { return unlisted + n }

// Unlisted returns n for an entry at UnlistedRow(n), and 0 for a row of the sheet.
func Unlisted(row int) int { return max(0, row-unlisted) }

// RowName says which entry is meant.
func RowName(row int) string {
	if n := Unlisted(row); n > 0 {
		return fmt.Sprintf("unlisted %d", n)
	}
	return fmt.Sprintf("row %d", row)
}

// A Proof is what reading back showed of what was done with an entry; empty: it was not read back.
type Proof string

// The proofs.
const (
	Proven    Proof = "proven"    // it is as it was to be
	Shown     Proof = "shown"     // the answer to the last request about the account showed it whole, and it is not read back yet
	Answered  Proof = "answered"  // such an answer stands for it, as those of others that were read back held
	Otherwise Proof = "otherwise" // it is not
	Unseen    Proof = "unseen"    // the system does not show the account yet: it is read back once more
)

// A Reading is what the reading back of a batch came to; the zero Reading is that of a batch in
// which nothing was done.
type Reading struct {
	At       time.Time `json:"at,omitzero"`        // when it was last read back; zero: never
	Of       int       `json:"of"`                 // rows of which something was done
	Proven   int       `json:"proven"`             // that are as they were to be
	Answered int       `json:"answered,omitempty"` // of the proven, those by the answer that they got
	Open     int       `json:"open,omitempty"`     // that are still to be read back
	Wrong    int       `json:"wrong,omitempty"`    // that are not as they were to be
	MayEnter int       `json:"mayEnter,omitempty"` // of the wrong, those who may sign in and were not to
	Left     bool      `json:"left,omitempty"`     // it was not read back, as somebody wanted it so
}

// Sum sums up how many rows were proven in which way.
func (r *Reading) Sum(proofs map[Proof]int) {
	r.Of, r.Proven, r.Answered = 0, proofs[Proven]+proofs[Answered], proofs[Answered]
	r.Open, r.Wrong = proofs[""]+proofs[Shown]+proofs[Unseen], proofs[Otherwise]
	for _, n := range proofs {
		r.Of += n
	}
}

// A Handout says who hands the generated passwords of a batch out, which is noted before any is opened.
type Handout struct {
	By   string    `json:"by"`
	At   time.Time `json:"at"`
	N    int       `json:"n"`              // passwords
	Done bool      `json:"done,omitempty"` // they are in the file, and kept no more
}

// MakesPasswords reports whether passwords were made for accounts, which somebody has to be given.
func (b *Batch) MakesPasswords() bool { return b.Secrets == "generate" || b.Secrets == "both" }

// An Entry is what one row comes to.
type Entry struct {
	Row      int
	Key      string // what names the row for a person
	Intent   account.Intent
	Outcome  account.Outcome
	Account  string                   // the system's identifier; empty before it is created
	Version  string                   // of the account, as drafted
	Did      account.Outcome          // of the account itself, while steps wait; empty: nothing yet
	Changes  []account.Change         // in the brief's order; for a new account all its fields
	Part     []string                 // the fields of Changes that were changed, where not all were; nil: all, if anything was done
	Proof    Proof                    // how what was done was proven
	Steps    []membership.Step        // that follow
	Place    *Place                   // where it was handed over; nil: it was not
	Secret   string                   // the new account's password, sealed; kept apart from the rest
	Known    map[string]account.Value // the account's fields, as drafted
	Findings []account.Finding
	Cells    []string // of the row, as they came
}

// Intended is all that is to be done with an entry's account.
func (e *Entry) Intended() system.Intended {
	all := system.Intended{Row: e.Row, Known: account.Account{ID: e.Account, Fields: e.Known}, Does: e.Intent, Changes: e.Changes}
	for _, s := range e.Steps {
		if s.IsTie() {
			all.Ties = append(all.Ties, system.IntendedTie{Kind: s.Kind, Thing: cmp.Or(s.Thing, s.Name), Tie: system.Tie{Account: e.Account, Role: s.Role, Section: s.Section, Was: s.Was != nil, Leave: s.Do == membership.Leave}})
		}
	}
	return all
}

// HandedOver counts the rows of each of the batch's files of which nobody knows yet what became of them.
func HandedOver(entries iter.Seq2[Entry, error]) (open map[string]int, err error) {
	open = map[string]int{}
	for e, err := range entries {
		if err != nil {
			return nil, err
		}
		if e.Outcome.IsElsewhere() && e.Place != nil && e.Place.File != "" {
			open[e.Place.File]++
		}
	}
	return open, nil
}

// Find adds a finding at the entry's row.
func (e *Entry) Find(level account.Level, code account.Code, field, column, message string) {
	f := account.Find(level, code, message)
	f.Row, f.Field, f.Column = e.Row, field, column
	e.Findings = append(e.Findings, f)
}

// FindOf adds a finding about one of the entry's steps.
func (e *Entry) FindOf(s *membership.Step, level account.Level, code account.Code, message string) {
	e.Find(level, code, "", "", message)
	e.Findings[len(e.Findings)-1].Step = s.Key()
}

// FindingsOf are those about one of the entry's steps under one of the codes.
func (e *Entry) FindingsOf(s *membership.Step, codes ...account.Code) (findings []account.Finding) {
	for _, f := range e.Findings {
		if isOf(f, s, codes...) {
			findings = append(findings, f)
		}
	}
	return findings
}

// Forget takes back what was told of one of the entry's steps under a code.
func (e *Entry) Forget(s *membership.Step, code account.Code) {
	e.Findings = slices.DeleteFunc(e.Findings, func(f account.Finding) bool { return isOf(f, s, code) })
}

// isOf reports whether a finding under one of the codes is about a step. Those that an earlier version of the program noted have
// no key, but the step's name and, of a mail, whom it goes to.
func isOf(f account.Finding, s *membership.Step, codes ...account.Code) bool {
	about := "“" + s.Name + "”"
	if s.Do == membership.Notify {
		about += " to " + s.To + " "
	}
	return slices.Contains(codes, f.Code) && (f.Step == s.Key() || f.Step == "" && (strings.Contains(f.Message, about) || strings.Contains(f.Message, "“"+s.Name+"” ("+s.Target()+")")))
}

// Password is the entry's of what was sealed: of those that were made, the one that counts after others were refused.
func (e *Entry) Password(opened string) (password string, more bool) {
	refused := 0
	for _, f := range e.Findings {
		if f.Code == account.PasswordRemade {
			refused++
		}
	}
	return secret.Choose(opened, refused)
}

// Refuse refuses the entry for the last finding added.
func (e *Entry) Refuse() {
	e.Outcome, e.Intent, e.Changes, e.Steps = account.Refused, account.None, nil, nil
}

// Settle gives the entry its outcome once its account's own step is done: it waits
// while a step does, and has failed if one did.
func (e *Entry) Settle() {
	if e.Did == "" {
		return
	}
	if e.Proof == Unseen {
		e.Outcome = account.Waiting
		return
	}
	if e.Outcome = e.Did; e.Did == account.Updated && len(e.Changes) == 0 && e.allAlready() {
		e.Outcome = account.Unchanged
	}
	if e.Proof == Otherwise || e.Part != nil {
		e.Outcome = account.Failed
	}
	for _, s := range e.Steps {
		switch {
		case s.Waits():
			e.Outcome = account.Waiting
			return
		case s.Result == membership.Failed && s.Do != membership.Notify: // the account is as wanted; the mail is told by itself
			e.Outcome = account.Failed
		}
	}
}

// allAlready reports whether every step in the system found things as they were to be.
func (e *Entry) allAlready() bool {
	return !slices.ContainsFunc(e.Steps, func(s membership.Step) bool { return s.Within() && s.Result != membership.Already })
}

// Done are the changes that were made to the account.
func (e *Entry) Done() []account.Change {
	if e.Part == nil {
		return e.Changes
	}
	return slices.DeleteFunc(slices.Clone(e.Changes), func(c account.Change) bool { return !slices.Contains(e.Part, c.Field) })
}

// Left returns the account's fields as the entry left them.
func (e *Entry) Left() map[string]account.Value {
	left := maps.Clone(e.Known)
	if left == nil {
		left = map[string]account.Value{}
	}
	for _, c := range e.Done() {
		left[c.Field] = c.After
	}
	return left
}

// Key names the row of what is wanted: the first key that has a value, else what people are
// compared by.
func Key(b *brief.Brief, w *mapping.Wanted) string {
	for _, name := range append(slices.Clone(b.Match), "userName", "email") {
		if v := w.Value(b, name); v.Filled() {
			return v.Text()
		}
	}
	var parts []string
	for _, name := range b.Like {
		if i := b.Field(name); i >= 0 && w.Says(i).Filled() {
			parts = append(parts, w.Says(i).Text())
		}
	}
	return strings.Join(parts, " ")
}

// An Index finds accounts by the fields that matter to a batch.
type Index struct {
	byKey map[string]map[string][]*account.Account // field → key of value → accounts
	byID  map[string]*account.Account
	field map[string]account.Field
	want  map[string]Keys // by field

	// Numbered is the field in which an account is wanted as well if its value
	// is a wanted one with a number behind; empty: none.
	Numbered string
	// Names are those of accounts that are referred to, by identifier.
	Names map[string]string
}

// Keys are those of values (Field.Key) of one field.
type Keys interface{ Has(key string) bool }

type listed map[string]bool

func (l listed) Has(key string) bool { return l[key] }

// NewIndex returns an index by the given fields. It keeps only accounts that
// have one of the values wanted there.
func NewIndex(fields []account.Field, want map[string][]string) *Index {
	keys := map[string]Keys{}
	for _, f := range fields {
		of := listed{}
		for _, value := range want[f.Name] {
			of[f.Key(value)] = true
		}
		keys[f.Name] = of
	}
	return IndexOf(fields, keys)
}

// IndexOf is NewIndex with the keys of what is wanted, of each of the fields.
func IndexOf(fields []account.Field, want map[string]Keys) *Index {
	x := &Index{byKey: map[string]map[string][]*account.Account{}, byID: map[string]*account.Account{}, field: map[string]account.Field{}, want: want}
	for _, f := range fields {
		x.byKey[f.Name], x.field[f.Name] = map[string][]*account.Account{}, f
	}
	return x
}

// Add takes an account in if it is wanted.
func (x *Index) Add(a account.Account) {
	kept := x.byID[a.ID]
	for name, f := range x.field {
		value := a.Field(name)
		if !value.Filled() {
			continue
		}
		key := f.Key(value.Text())
		if want := x.want[name]; !want.Has(key) && !(name == x.Numbered && want.Has(account.Unnumbered(key))) {
			continue
		}
		if kept == nil {
			kept = &a
			x.byID[a.ID] = kept
		}
		if !slices.Contains(x.byKey[name][key], kept) {
			x.byKey[name][key] = append(x.byKey[name][key], kept)
		}
	}
}

// label names the account of that identifier, or gives the identifier back.
func (x *Index) label(id string) string {
	if a := x.byID[id]; a != nil {
		return a.Label()
	}
	if name := x.Names[id]; name != "" {
		return name
	}
	return id
}

// Accounts returns every account that was kept, by identifier. The map must not be
// changed.
func (x *Index) Accounts() map[string]*account.Account { return x.byID }

// Find returns the accounts whose field has the value.
func (x *Index) Find(field, value string) []*account.Account {
	if f, ok := x.field[field]; ok {
		return x.byKey[field][f.Key(value)]
	}
	return nil
}

// Policies says in one sentence what a brief does with rows.
func Policies(b *brief.Brief) string {
	what := map[brief.Policy]string{
		brief.Create: "new people get an account",
		brief.Update: "known accounts are updated where they differ",
		brief.Fill:   "known accounts get only what is empty in them",
	}
	newPart, knownPart := what[b.New], what[b.Known]
	switch b.New {
	case brief.Skip:
		newPart = "rows without an account are set aside"
	case brief.Refuse:
		newPart = "rows without an account are refused"
	}
	switch b.Known {
	case brief.Skip:
		knownPart = "rows whose account exists are set aside"
	case brief.Refuse:
		knownPart = "rows whose account exists are refused"
	}
	said := fmt.Sprintf("Accounts are found by %s; %s; %s", strings.Join(b.Match, ", then "), newPart, knownPart)
	switch {
	case len(b.Match) == 0:
		said = fmt.Sprintf("Accounts are found as a person says; %s; %s", newPart, knownPart)
	case len(b.Like) > 0:
		said = fmt.Sprintf("Accounts are found by %s, then as a person says; %s; %s", strings.Join(b.Match, ", then "), newPart, knownPart)
	}
	if b.Intent() >= 0 {
		said += "; what a row itself says is to happen counts for more"
	}
	for _, m := range b.Memberships {
		switch {
		case m.Untouched:
		case m.Mode == brief.Exact:
			said += "; " + m.Kind + " become just those named"
			if len(m.Within) > 0 {
				said += " within " + strings.Join(m.Within, ", ")
			}
		case m.Mode == brief.Drop:
			said += "; " + m.Kind + " named are taken away"
		}
	}
	if b.Gone == brief.Suspend {
		said += "; accounts where " + b.Scope.Only[0].Source + " that no row lists are suspended"
	}
	return said + "."
}
