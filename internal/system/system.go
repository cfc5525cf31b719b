// Package system says what the program needs of an application or directory
// whose accounts are kept, and holds what every kind of system shares.
//
// A kind of system is a package beneath this one. It speaks its protocol, bounds
// what it reads, verifies whom it talks to, and tells its troubles as the errors
// below; deciding and accounting are left to the rooms above.
package system

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/told"
)

// A System is one application or directory. It may be used by several goroutines at
// once. Values are in the standard forms of their fields' kinds.
//
// The first five methods every kind of system has of its own. The others are what a kind
// may lack: it embeds Base, which says no for it, and Describe tells beforehand what
// there is, so that nobody has to try. A System that is put around another embeds that,
// and passes on what it has nothing to say about.
//
// An account's identifier is written in one way only, wherever it stands: as its ID, in a
// field that refers to it, in a membership.
//
// Once its context is done, a method sends nothing more: waiting and reading end. A change that was sent is let to end,
// within the system's timeout; what it came to is returned. What changes something takes a Permit.
//
// Besides the errors of this package, methods return the context's, and the Permit's.
type System interface {
	// Describe returns what the system takes of an account and what it can do. A server is
	// asked once; what was learned of it since is in the next Description.
	Describe(ctx context.Context) (*Description, error)

	// List yields every account with the given fields. A listing that the system
	// cut short is an error, never a short list.
	List(ctx context.Context, fields []string) iter.Seq2[account.Account, error]

	// Find yields the accounts whose field has one of the values, and perhaps
	// others. ErrCannotFind means that the caller has to List.
	Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error]

	// Get returns one account by the system's identifier, or ErrGone.
	Get(ctx context.Context, id string, fields []string) (account.Account, error)

	// Apply carries out orders, and returns what became of each, in their order: several at once as
	// Abilities.AtOnce and Together say, else one. How many go in a request or a session is the
	// kind's matter. An error means that nothing was done, or if it is an Unclear, that anything
	// may have been.
	Apply(ctx context.Context, may Permit, orders []Order, fields []string) ([]Result, error)

	// Count returns how many accounts there are; ErrCannotFind means that they may not be
	// listed. Without Abilities.Counts nobody can say.
	Count(ctx context.Context) (int, error)

	// Things yields every thing of a kind that Describe lists. Without counted, how many
	// members each has need not be told.
	Things(ctx context.Context, kind string, counted bool) iter.Seq2[account.Thing, error]

	// Members yields the memberships of these things of a kind, and perhaps of others of the
	// kind; of all if things is nil.
	Members(ctx context.Context, kind string, things []string) iter.Seq2[account.Membership, error]

	// Tie makes the changes to one thing's members, all or none, up to Abilities.Ties at once.
	Tie(ctx context.Context, may Permit, kind, thing string, ties []Tie) error

	// MakeThing makes a thing of that name. Where a thing of the kind is never empty, first
	// has the ties of its first members, which it is made with; else it may be nil.
	MakeThing(ctx context.Context, may Permit, kind, name string, first []Tie) (account.Thing, error)

	// RemoveThing removes a thing for good; ErrGone means that it is not there.
	RemoveThing(ctx context.Context, may Permit, kind, thing string) error
}

// A Description is what a system takes and what it can do, as plain data.
type Description struct {
	*account.Schema
	Can   Abilities
	Rules secret.Rules        // that the system tells it has for passwords, of new accounts at least
	AsOf  string              // what it is known from, where that is not the system itself; empty: it is
	Kinds []account.ThingKind // of things that accounts can be tied to, in order of name; none: it has none
}

// Kind returns what is said of a kind of things.
func (d *Description) Kind(name string) (account.ThingKind, bool) {
	i := slices.IndexFunc(d.Kinds, func(k account.ThingKind) bool { return k.Name == name })
	if i < 0 {
		return account.ThingKind{}, false
	}
	return d.Kinds[i], true
}

// Abilities are what a system can do besides the five methods that every one has. Each
// says what becomes of the work without it.
type Abilities struct {
	Finds     int      // values that one request of Find looks for; 0: accounts are found by listing all
	Reads     int      // identifiers that one request of Find looks for, where that is fewer than Finds; 0: as many
	Page      int      // accounts that one request of List gives; 0: all
	Around    int      // how many accounts there are, as far as one can tell without counting; 0: nobody knows
	Unlisted  bool     // accounts can be found that List does not give; a number that seems free is looked for as well
	Piecemeal bool     // an account is made by several changes, and one that was cut off may lack some; without it no order Completes
	Counts    bool     // without it all are listed to be counted, and finding is never given up for listing
	Versions  bool     // accounts are changed and removed as of the version that is named or not at all; without it the account is looked at before
	Names     []string // fields that make the name of an account, which no two of the same place share; none: there is no such name
	Refers    bool     // others refer to accounts by that name; without it references are by identifier. The system is a Follower then
	Moves     bool     // an account's identifier may change with it; without it an identifier is for ever
	AtOnce    int      // orders that Apply takes at once; below 2: it takes one
	Together  []Verb   // that it takes others with
	Bulk      bool     // what is taken at once goes as one request; else it is on its way together
	Rate      float64  // requests a second that are allowed; 0: nothing says
	Removes   bool     // without it rows that ask for it are refused
	Unkeyed   bool     // new accounts get no password from here; briefs that give one are refused
	Renews    bool     // accounts that are there can be given another password; without it rows that ask for it are refused
	Ties      int      // changes that Tie makes at once; 0: the things are there to look at, and nobody joins or leaves
	Makes     bool     // things can be made; without it rows that name one which is missing are refused
	Reowns    bool     // files can be given to the new numbers of accounts; without it briefs that ask for it are refused
	Unmakes   bool     // and removed again; without it those that a batch made stay when it is undone, which is told
}

// Base says no to what a kind of system lacks.
type Base struct{}

// ErrCannot is the error of what a system cannot do; its Description says so beforehand.
var ErrCannot = errors.New("the system cannot do this")

// Count implements System.
func (Base) Count(context.Context) (int, error) { return 0, ErrCannot }

// Things implements System.
func (Base) Things(context.Context, string, bool) iter.Seq2[account.Thing, error] {
	return no[account.Thing]
}

// Members implements System.
func (Base) Members(context.Context, string, []string) iter.Seq2[account.Membership, error] {
	return no[account.Membership]
}

func no[T any](yield func(T, error) bool) {
	var none T
	yield(none, ErrCannot)
}

// Tie implements System.
func (Base) Tie(context.Context, Permit, string, string, []Tie) error { return ErrCannot }

// MakeThing implements System.
func (Base) MakeThing(context.Context, Permit, string, string, []Tie) (account.Thing, error) {
	return account.Thing{}, ErrCannot
}

// RemoveThing implements System.
func (Base) RemoveThing(context.Context, Permit, string, string) error { return ErrCannot }

// Folders are where files are looked for: on the device of each folder alone, unless Across
// says otherwise. Links are never followed.
type Folders struct {
	In     []string `json:"in"`
	Across bool     `json:"across,omitempty"`
}

// A Renumbered is an account's numbers before and after; both alike: it keeps that one.
type Renumbered struct {
	User  [2]int `json:"user"`
	Group [2]int `json:"group"`
}

// String has the numbers of the user, and then of the group.
func (r *Renumbered) String() string {
	return fmt.Sprintf("%d %d %d %d", r.User[0], r.User[1], r.Group[0], r.Group[1])
}

// Back has the numbers of before given again.
func (r *Renumbered) Back() *Renumbered {
	return &Renumbered{User: [2]int{r.User[1], r.User[0]}, Group: [2]int{r.Group[1], r.Group[0]}}
}

// Owned counts the files that a Renumbered has by its numbers before.
type Owned struct {
	User, Group int // by the number of the account, of the group
	Both        int // of those: by both
	After       int // that one of its numbers after has already
	Marked      int // of those: with bits or capabilities that a change of owner takes away, and that are put back
	Listed      int // entries of access lists, of whosever files, that name a number before
}

// A Tie is a change of one account's membership of a thing.
type Tie struct {
	Account string
	Role    string
	Section string
	Was     bool // it is a member already, in another role or section
	Leave   bool // it is a member no more
}

// ByID is what Find takes for a field to find accounts by their identifiers.
const ByID = "id"

// Errors that say something about one account.
var (
	ErrGone    = told.New(told.Away, "the account is no longer in the system", tryTraced)
	ErrChanged = told.New(told.Away, "the account changed in the meantime", tryTraced)
)

// tryTraced is what can be done where such an error is not of a row.
const tryTraced = "Try again; --trace FILE writes down what was sent and answered."

// ErrCannotFind is returned by Find when the system has no filter for the field.
var ErrCannotFind = told.New(told.Away, "the system cannot be searched by this field", tryTraced)

// Close gives back what a system holds of a server's: connections and shells. Nothing is asked of it any more.
func Close(s System) error {
	if holds, is := s.(io.Closer); is {
		return holds.Close()
	}
	return nil
}

// A Permit says why nothing that changes something may be sent any more, or nil. It is asked just before anything is: a request may have
// waited for long before its turn comes, and the process may have slept. Where it is nil, anything may be sent.
type Permit func() error

// Err asks.
func (may Permit) Err() error {
	if may == nil {
		return nil
	}
	return may()
}

// Blind is the error of a kind of things of which nobody can say who is in them, and why.
func Blind(kind, why string) error {
	return &Unavailable{Message: fmt.Sprintf("who is in which of the %s cannot be read: %s", kind, why), Remedy: fmt.Sprintf("Name the attribute that lists them in evenledger.yaml: memberships: {%s: {members: …}}.", kind)}
}

// A Reference is what refers to an account by a name: a group that it is a member of, or another account.
type Reference struct {
	Account string // that is referred to
	Kind    string // of the thing; or the field that refers
	Holder  string // identifier of the thing, or of the account that has the field
	Name    string // what the holder is called
	Why     string // with what could not be done: why; empty: nobody says
}

// A Follower is a system in which others refer to an account by a name, which it loses when one of the fields in
// Abilities.Names changes, or when it is removed. Servers see to what refers to it late, in part, or not at all.
type Follower interface {
	// Follows says in words what the server itself sees to, as far as it can be read; empty: nobody knows.
	Follows(ctx context.Context) (string, error)
	// Referring yields what refers to accounts by the names that they have, which their versions say.
	Referring(ctx context.Context, accounts []account.Account) iter.Seq2[Reference, error]
	// Moving tells that accounts lose the names which their versions say: what refers by them means them, unless another has the
	// name by then.
	Moving(accounts []account.Account)
	// Follow has what refers to accounts by the names which their versions say refer to them as they are called now, or not at all
	// where they are gone: it gives the server time to see to it, and does what is left. It returns what it did itself, and what could
	// not be done. Doing it once more does no harm.
	Follow(ctx context.Context, may Permit, accounts []account.Account) (done, left []Reference, err error)
}

// Intended is all that is to be done with one account.
type Intended struct {
	Row      int
	Known    account.Account // as it was read, without an identifier if it is to be made
	Does     account.Intent
	Changes  []account.Change
	Ties     []IntendedTie
	Password string // that it is to get
}

// An IntendedTie is a change of a membership of a thing of a kind.
type IntendedTie struct {
	Kind, Thing string
	Tie
}

// A Divider is a system in which sections can be added to things of kinds that are account.ThingKind.Divides.
type Divider interface {
	// AddSection adds a section to a thing; one that it has already does no harm.
	AddSection(ctx context.Context, may Permit, kind, thing, section string) error
}

// A Reowner is a system in which files belong to the numbers of accounts, where Abilities.Reowns.
type Reowner interface {
	// Reown gives files to the new numbers of accounts, in one walk, or with dry only counts
	// them. Doing it once more does no harm. told gets how many files were looked at. An error
	// means that not all may have been.
	Reown(ctx context.Context, may Permit, in Folders, numbers []Renumbered, dry bool, told func(files int)) ([]Owned, error)
}

// Reown gives files to new numbers where the system is a Reowner; else the error is ErrCannot.
func Reown(ctx context.Context, may Permit, s System, in Folders, numbers []Renumbered, dry bool, told func(files int)) ([]Owned, error) {
	if r, is := s.(Reowner); is {
		return r.Reown(ctx, may, in, numbers, dry, told)
	}
	return nil, ErrCannot
}

// An Asker is a system that can be asked what became of something it took in to carry it out later.
type Asker interface {
	// Ask asks, at what Unclear.Ask said, about an account that was to be made. A Refusal says that it came to nothing, an
	// Unclear that it is not carried out yet, ErrGone that the system knows nothing of it (any more).
	Ask(ctx context.Context, at string, fields []string) (account.Account, error)
}

// A Foreseer can tell beforehand what would be refused when it is sent, and what one should know of it.
type Foreseer interface {
	// Foresee returns what there is to tell of each; an error among it would be a refusal. It changes nothing.
	Foresee(ctx context.Context, all []Intended) ([][]account.Finding, error)
	// Leftovers yields the numbers of a field to which something still belongs that no account has.
	Leftovers(ctx context.Context, field string) ([]string, error)
}

// A Refusal is the system's no to a request about one account.
type Refusal struct {
	Code  account.Code
	Field string // the field at fault, where the system says so
	// By is the account that has what is taken, where the system shows it; without an identifier: nobody knows.
	By      account.Account
	Message string // in plain words, with the system's own at the end
}

func (e *Refusal) Error() string { return e.Message }

// Tell implements told.Error, where a refusal is not of a row.
func (e *Refusal) Tell() told.Telling {
	return told.Telling{Class: told.Away, Message: e.Message, Remedy: "Ask who runs the system; --trace FILE writes down what was sent and answered."}
}

// Unavailable means that the system cannot be reached, turns the program away or
// answers what cannot be understood; no other request would fare better.
type Unavailable = reach.Unavailable

// Unclear means that a request to change something was sent and no clear answer
// came: it may or may not have been carried out.
type Unclear = reach.Unclear

// Partial means that a change was carried out in part: its first requests were, and the
// one that followed was refused or came to nothing.
type Partial struct {
	Now  account.Account  // the account as it is known to be now
	Done []account.Change // that were made
	Err  error            // why the others were not: a Refusal, Unavailable or Unclear
}

func (e *Partial) Error() string { return "a part of the changes was made, and then: " + e.Err.Error() }
func (e *Partial) Unwrap() error { return e.Err }

// Way is how accounts were looked up.
type Way struct {
	Listed   bool // all accounts were listed; else they were found by filter
	Requests int  // planned
}

func (w Way) String() string {
	if w.Listed {
		return "listing all accounts"
	}
	return "asking for the accounts by key"
}

// Keys are values by which accounts are to be found, by field. They need not all be held at once.
type Keys interface {
	// Count returns how many there are of each field.
	Count() map[string]int
	// Some yields all of them, some at a time.
	Some() iter.Seq2[map[string][]string, error]
}

type values map[string][]string

func (v values) Count() map[string]int {
	counts := map[string]int{}
	for field, of := range v {
		counts[field] = len(of)
	}
	return counts
}

func (v values) Some() iter.Seq2[map[string][]string, error] {
	return func(yield func(map[string][]string, error) bool) { yield(v, nil) }
}

// Fetch yields every account whose field has one of the values under keys, and
// perhaps others, each possibly several times. It finds by filter or lists all,
// whichever takes fewer requests, with up to together requests at once.
func Fetch(ctx context.Context, s System, keys map[string][]string, fields []string, together int, got func(account.Account)) (Way, error) {
	return FetchBy(ctx, s, values(keys), fields, together, got)
}

// FetchBy is Fetch with keys that need not all be held at once.
func FetchBy(ctx context.Context, s System, keys Keys, fields []string, together int, got func(account.Account)) (Way, error) {
	counts := keys.Count()
	way, size, err := plan(ctx, s, counts)
	if err != nil {
		return way, err
	}
	for !way.Listed {
		err = findAll(ctx, s, keys, fields, size, together, got)
		if !errors.Is(err, ErrCannotFind) {
			return way, err
		}
		// It may have turned out that it finds by fewer values than it seemed.
		seemed := size
		if way, size, err = plan(ctx, s, counts); err != nil {
			return way, err
		}
		if size >= seemed {
			way.Listed = true
		}
	}
	for a, err := range s.List(ctx, fields) {
		if err != nil {
			return way, err
		}
		got(a)
	}
	return way, nil
}

// Looks says how accounts would be looked up by n values, as Fetch would, once there are so many
// more accounts.
func Looks(ctx context.Context, s System, n, more int) (Way, error) {
	way, _, err := plan(ctx, s, map[string]int{ByID: n})
	if err != nil || !way.Listed {
		return way, err
	}
	about, err := s.Describe(ctx)
	if err != nil {
		return way, err
	}
	if about.Can.Finds == 0 && about.Can.Around == 0 && about.Can.Counts { // there was no need yet to know how many there are
		count, err := s.Count(ctx)
		if err != nil && !errors.Is(err, ErrCannotFind) {
			return way, err
		}
		way.Requests = about.pages(count)
	}
	if more == 0 {
		return way, nil
	}
	finds := n
	if size := about.Can.Finds; size > 0 {
		size = about.Can.sizeOf(ByID, size)
		finds = (n + size - 1) / size
	}
	if way.Requests += about.pages(more); about.Can.Finds > 0 && finds < way.Requests {
		way = Way{Requests: finds}
	}
	return way, nil
}

// sizeOf is how many values of a field one request of Find looks for, at most size.
func (a Abilities) sizeOf(field string, size int) int {
	if field == ByID && a.Reads > 0 {
		return min(a.Reads, size)
	}
	return size
}

// ByIDs is how many identifiers one request of Find looks for; 0: accounts are found by listing all.
func (a Abilities) ByIDs() int { return a.sizeOf(ByID, a.Finds) }

func plan(ctx context.Context, s System, counts map[string]int) (Way, int, error) {
	about, err := s.Describe(ctx)
	if err != nil {
		return Way{}, 0, err
	}
	size, finds := about.Can.Finds, 0
	if size == 0 {
		return Way{Listed: true, Requests: about.pages(about.Can.Around)}, 0, nil
	}
	for field, n := range counts {
		finds += (n + about.Can.sizeOf(field, size) - 1) / about.Can.sizeOf(field, size)
	}
	count := about.Can.Around
	if finds <= 2 || count == 0 && !about.Can.Counts { // not worth asking how many there are
		return Way{Requests: finds}, size, nil
	}
	if count == 0 {
		count, err = s.Count(ctx)
		if errors.Is(err, ErrCannotFind) {
			return Way{Requests: finds}, size, nil // finding is all there is
		}
		if err != nil {
			return Way{}, 0, err
		}
	}
	if pages := about.pages(count); pages < finds {
		return Way{Listed: true, Requests: pages}, 0, nil
	}
	return Way{Requests: finds}, size, nil
}

// pages is how many requests listing so many accounts takes.
func (d *Description) pages(count int) int {
	page := d.Can.Page
	if page == 0 {
		page = max(1, count)
	}
	return (count + page - 1) / page
}

func findAll(ctx context.Context, s System, keys Keys, fields []string, size, together int, got func(account.Account)) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(1, together))
	found := make(chan account.Account)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for a := range found {
			got(a)
		}
	}()
	find := func(field string, values []string) {
		group.Go(func() error {
			for a, err := range s.Find(ctx, field, values, fields) {
				if err != nil {
					return err
				}
				found <- a
			}
			return nil
		})
	}
	left := map[string][]string{} // fewer than one request takes
	err := func() error {
		for some, err := range keys.Some() {
			if err != nil || ctx.Err() != nil {
				return err
			}
			for field, values := range some {
				values = append(left[field], values...)
				for ; len(values) >= size; values = values[size:] {
					find(field, values[:size:size])
				}
				left[field] = slices.Clone(values)
			}
		}
		return nil
	}()
	for field, values := range left {
		if len(values) > 0 && err == nil && ctx.Err() == nil {
			find(field, values)
		}
	}
	if ended := group.Wait(); err == nil {
		err = ended
	}
	close(found)
	<-done
	return err
}

// Carried returns the changes that an account has by now, of those that give it something else than
// it had.
func Carried(schema *account.Schema, changes []account.Change, now account.Account) (carried []account.Change) {
	for _, c := range changes {
		f := schema.Field(c.Field)
		if f.Same(c.After.Text(), now.Field(c.Field).Text()) && !f.Same(c.Before.Text(), c.After.Text()) {
			carried = append(carried, c)
		}
	}
	return carried
}

// NotKept compares an account as the system has it with the changes that were
// sent, and says which fields it kept otherwise.
func NotKept(schema *account.Schema, sent []account.Change, now account.Account) []account.Finding {
	var findings []account.Finding
	for _, change := range sent {
		kept, want := now.Fields[change.Field].Text(), change.After.Text()
		if kept == want {
			continue
		}
		if schema.Field(change.Field).Same(kept, want) {
			continue
		}
		said := "kept nothing"
		if kept != "" {
			said = fmt.Sprintf("kept “%s”", kept)
		}
		f := account.Find(account.Warning, account.NotKept, fmt.Sprintf("“%s” was sent for %s, and the system %s", want, change.Field, said))
		f.Field = change.Field
		findings = append(findings, f)
	}
	return findings
}

// A Tried is one step of trying a system out.
type Tried struct {
	What       string     `json:"what"` // in words
	Requests   []Exchange `json:"requests"`
	Understood []string   `json:"understood"`      // what was taken out of it
	Amiss      string     `json:"amiss,omitempty"` // what is wrong; empty: nothing
	Remedy     string     `json:"remedy,omitempty"`
}

// An Exchange is a request, and what was answered.
type Exchange struct {
	Request string `json:"request"` // method and address
	Sent    string `json:"sent,omitempty"`
	Status  int    `json:"status,omitempty"` // 0: it was not sent
	Answer  string `json:"answer,omitempty"` // as it came, cut short
}

// A Trier can be tried out step by step, with what is sent and answered, as its words were described by a person.
type Trier interface {
	// Try reads what there is to read. As is an account that a create would send, nil: one of its own. With write, that one
	// is made, changed and removed again; a system that is not there to be tried out on is a *account.Mistake.
	Try(ctx context.Context, as *account.Account, write bool, told func(Tried)) error
	// Preview is the request that would make an account, without secrets in it.
	Preview(a account.Account) (string, error)
}
