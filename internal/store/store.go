// Package store says what the program needs of a ledger: the store of batches, their
// entries and steps, of what was claimed to be sent and of what came of it.
//
// An engine is a package beneath this one. Every one promises that what it has said to
// have written is on disk, that what was written together is there together or not at
// all, and that nobody else can read it. Deciding and sending are left to others.
package store

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/told"
)

// Errors that an engine tells.
var (
	ErrNoBatch = told.New(told.Wrong, "there is no such batch", "“evenledger batches” lists them.")
	// ErrChanged means that somebody else saved the batch since it was read.
	ErrChanged = told.New(told.Held, "somebody else was at the batch meanwhile", "“evenledger batches” shows what became of it.")
	// ErrFenced means that a worker was not heard of for as long as its lease, so that others may
	// have its work by now: it must send nothing more.
	ErrFenced = told.New(told.Away, "this process was not heard of for too long, and others may have taken its work over", "Look with “evenledger batches”, then post the batch again: what is open is looked up first.")
	// ErrNotEmpty is returned when a ledger is to be moved into one that has something already.
	ErrNotEmpty = told.New(told.Wrong, "the ledger cannot be moved there: there is something in it already", "Name a place that has no ledger yet, such as another database or search_path.")
	// ErrBusy means that another process is at the same work.
	ErrBusy = errors.New("another process is at it")
	// ErrOld is returned when a ledger that may only be read is of another version than this
	// program's: opening it to write brings an older one up to it.
	ErrOld = errors.New("it is of another version, and has to be opened once where it can be written")
)

// Moved means that a ledger is not to be used, as it was moved elsewhere or is being moved.
type Moved struct {
	To   string // where to; with Half, from where
	Done bool   // it was: the other is to be used
	Half bool   // it is the one that is being filled
}

func (m *Moved) Error() string {
	switch {
	case m.Done:
		return "the ledger was moved to " + m.To
	case m.Half:
		return "the ledger " + m.To + " is being moved into this one, or that was cut short"
	}
	return "the ledger is being moved to " + m.To + ", or that was cut short"
}

// Tell implements told.Error.
func (m *Moved) Tell() told.Telling {
	switch {
	case m.Done:
		return told.Telling{Message: m.Error(), Remedy: "Write “ledger: …” into evenledger.yaml as “ledger move” said, or as a colleague has it."}
	case m.Half:
		return told.Telling{Class: told.Held, Message: m.Error(), Remedy: "Until that is done, " + m.To + " is the ledger that counts: evenledger.yaml has to name it. Run “evenledger ledger move” there again."}
	}
	return told.Telling{Class: told.Held, Message: m.Error(), Remedy: "Wait until that is done. If it was cut short, run the same “evenledger ledger move” again."}
}

// Unlike means that two ledgers which should be the same are not.
type Unlike struct{ Table, Key, Column string }

func (u *Unlike) Error() string {
	if u.Column == "" {
		return fmt.Sprintf("only one of the ledgers has %s of %s", u.Key, u.Table)
	}
	return fmt.Sprintf("the ledgers differ in %s of %s of %s", u.Column, u.Key, u.Table)
}

// A Store is an open ledger. It may be used by several goroutines.
type Store interface {
	Drafts
	Posts

	// Working returns who is at which batch, in order of the batches.
	Working(ctx context.Context) ([]At, error)
	// Attempts returns the times that a row's request was claimed to be sent, in order.
	Attempts(ctx context.Context, id, row int) ([]Attempt, error)
	// History is that of a batch, Runs are those of briefs, and Upkeep is of the ledger as a whole.
	History(id int) History
	Runs() Runs
	Upkeep() Upkeep
	Close() error
}

// Runs are the times that briefs went the whole way with nobody at the keyboard.
type Runs interface {
	// Save notes a run; one that has no number yet gets the next.
	Save(ctx context.Context, r *Run) error
	// List returns the newest first, at most limit; 0: all.
	List(ctx context.Context, limit int) ([]Run, error)
}

// Upkeep is what is done with a ledger as a whole.
type Upkeep interface {
	// InUse returns why the ledger is not to be used: a *Moved. ID is the identifier of the ledger,
	// which stays when it is moved.
	InUse(ctx context.Context) error
	ID(ctx context.Context) (string, error)
	// Move moves all of the ledger into another, which is new or was being filled by a move that was
	// cut short, and compares every row; from and called are what they are called, without secrets. Then
	// the other is to be used, and not before. Told gets how many rows are done; it may be nil.
	Move(ctx context.Context, to Store, from, called string, told func(stage string, rows int)) error
	// Check reads all of the ledger, and Copy writes all of it to a new file and returns the
	// size in bytes. CutJournal takes what was deleted out of the engine's journal as well.
	Check(ctx context.Context) (Soundness, error)
	Copy(ctx context.Context, path string) (size int64, err error)
	CutJournal(ctx context.Context) error
}

// A History is that of one batch: the hashes of all that was drafted and of all that became of it, each made with the one
// before, and the signatures of people.
type History interface {
	// Problems returns what of the batch is not as its history says, in words.
	Problems(ctx context.Context) ([]string, error)
	// ToDo returns how many accounts the batch was drafted to change, as its entries have it.
	ToDo(ctx context.Context) (int, error)
	// Sign adds a person's signature, in the place of an earlier one of theirs as the same; ErrChanged: a Poster signed what
	// is not the newest of it. Signatures returns them in the order in which they were given.
	Sign(ctx context.Context, s Signature) error
	Signatures(ctx context.Context) ([]Signature, error)
	// NoteHeads adds where the histories of the batch's workers stand, and returns the hash
	// of that: whoever signs it signs all that became of the batch. Ends returns the signature of a
	// Poster with which the history ends; nil: it does not end with one.
	NoteHeads(ctx context.Context) (hash string, err error)
	Ends(ctx context.Context) (*Signature, error)
	// Head returns where the history stands, and Lacks which hash of an earlier head is no longer there; empty: none.
	Head(ctx context.Context) (Head, error)
	Lacks(ctx context.Context, head Head) (missing string, err error)
}

// Passwords are those that one batch keeps, sealed.
type Passwords interface {
	// Count returns how many there are.
	Count(ctx context.Context) (PasswordCounts, error)
	// Wipe takes those of rows away for good; of all if rows is nil.
	Wipe(ctx context.Context, rows []int) error
	// Key returns the key that they are sealed with, sealed itself; empty: there is none. KeepKey keeps it,
	// unless there is one already, and ForgetKey destroys it.
	Key(ctx context.Context) (sealed string, err error)
	KeepKey(ctx context.Context, sealed string) error
	ForgetKey(ctx context.Context) error
}

// PasswordCounts are how many passwords a batch keeps.
type PasswordCounts struct {
	Got     int // generated ones that accounts have got, and that are to be handed out
	Waiting int // generated ones that wait to be sent
	Mailed  int // that mails are still to tell, given ones as well
	Given   int // by the sheet
}

// A Run is one time that a brief went the whole way with nobody at the keyboard.
type Run struct {
	ID       int            `json:"run"`
	Brief    string         `json:"brief"`
	By       string         `json:"by"`
	Began    time.Time      `json:"began"`
	Ended    time.Time      `json:"ended,omitzero"` // zero: it is under way, or was killed
	Came     Ending         `json:"came"`
	Sheet    string         `json:"sheet,omitempty"`
	Batch    int            `json:"batch,omitempty"` // that it made; 0: none
	Outcomes account.Counts `json:"outcomes,omitempty"`
	Message  string         `json:"message,omitempty"` // why it ended otherwise than posted
	Remains  string         `json:"remains,omitempty"` // what was posted and is not done, or not known to be
	Handed   string         `json:"handed,omitempty"`  // what was handed over, and waits for somebody to give it to an application
	Settled  string         `json:"settled,omitempty"` // what became of what earlier runs handed over
}

// An Ending is what a run came to.
type Ending string

// The endings.
const (
	RunPosted  Ending = "posted"
	RunDrafted Ending = "drafted" // as was asked
	RunNothing Ending = "nothing" // the feed brought nothing new
	RunHeld    Ending = "held"    // back by a guard
	RunFailed  Ending = "failed"
)

// Reader reads entries.
type Reader interface {
	// Entries yields the entries of a batch in the order of their rows.
	Entries(ctx context.Context, id int, filter Filter) iter.Seq2[batch.Entry, error]
	// Counts returns how many rows of the batch came to each outcome, and for those
	// waiting, what is intended with them.
	Counts(ctx context.Context, id int) (account.Counts, map[account.Intent]int, error)
	// Count returns how many entries a filter picks, whatever it says of After, Limit and Last.
	Count(ctx context.Context, id int, filter Filter) (int, error)
	// Accounts returns the account of each of the rows, and what became of the row.
	Accounts(ctx context.Context, id int, rows []int) (accounts map[int]string, outcomes map[int]account.Outcome, err error)
}

// Unnumbered is the number of a batch that is to have none, as it will be thrown away.
const Unnumbered = -1

// Drafts is what making a batch needs.
type Drafts interface {
	Reader
	// Begin makes batches in state Drafting, at which the worker is, and gives them the next
	// numbers, one after the other; those that say Unnumbered get none that a batch could have.
	// Before that it throws away what drafts left unfinished whose worker is dead.
	Begin(ctx context.Context, worker Worker, batches ...*batch.Batch) error
	// Drafting is the making of one of them.
	Drafting(id int) Drafting
	// Save writes what is known of the batch as a whole; ErrChanged: somebody else did since it
	// was read.
	Save(ctx context.Context, b *batch.Batch) error
	Lease(id int, worker Worker) Lease
	// InFlight is as in Posts.
	InFlight(ctx context.Context, id int, part Part) ([]InFlight, error)
	// Past is what earlier batches did in a system.
	Past(system string) Past
}

// A Drafting is a batch that is being made. A power cut may take back what was written of it until the batch is saved.
type Drafting interface {
	// Add adds entries, with their cells and sealed passwords; Decide writes anew, but for their cells, some that were added.
	Add(ctx context.Context, entries []batch.Entry) error
	Decide(ctx context.Context, entries []batch.Entry) error
	// WithoutAccount returns which of the rows have no account and will get none.
	WithoutAccount(ctx context.Context, rows []int) (map[int]bool, error)
	// Seal begins the history of the batch with what was drafted, and notes its hash in it:
	// from then on nothing of it can be altered unseen. The caller saves the batch.
	Seal(ctx context.Context, b *batch.Batch) error
	// Discard takes away a batch whose making failed. If others have been begun since, its
	// number is not given again, and the batch is there in state Unmade.
	Discard(ctx context.Context) error
}

// The Past is what earlier batches did in one system.
type Past interface {
	// Suspended returns the accounts that batches of a brief suspended before a time,
	// and that no batch has changed since, in the order in which they were.
	Suspended(ctx context.Context, brief string, before time.Time) ([]Suspension, error)
	// Used hands over the values of a field that batches gave accounts, and those that they had before.
	Used(ctx context.Context, field string, each func(value string)) error
	// MadeSince hands over the entries whose accounts were made since a time,
	// and those of which it is open whether they were: Did is empty then. Accounts that a
	// batch removed again since are left out. So are all that were handed over, whenever that was, and whatever was
	// to be done with them.
	MadeSince(ctx context.Context, since time.Time, each func(id int, e *batch.Entry, at time.Time)) error
}

// Posts is what carrying a batch out needs.
type Posts interface {
	Reader
	Save(ctx context.Context, b *batch.Batch) error
	// Batches returns every batch, newest first, and Batch one: ErrNoBatch means that there is none.
	Batches(ctx context.Context) ([]batch.Batch, error)
	Batch(ctx context.Context, id int) (*batch.Batch, error)
	// Lock takes the work of that name, such as the run of a brief, for this process until unlock
	// is called or the process ends. ErrBusy means that another has it.
	Lock(work string) (unlock func() error, err error)
	Lease(id int, worker Worker) Lease
	Passwords(id int) Passwords
	// Proofs returns how many rows of those whose account's own step is done were proven in which way.
	Proofs(ctx context.Context, id int) (map[batch.Proof]int, error)
	// InFlight returns the entries of a part that were claimed and not settled, in the order of
	// their rows.
	InFlight(ctx context.Context, id int, part Part) ([]InFlight, error)
	// LastEnded returns when the last result of a batch was noted; zero: there is none.
	LastEnded(ctx context.Context, id int) (time.Time, error)
	// Changing returns the identifiers, as they were drafted, of the accounts of which a
	// batch changes fields.
	Changing(ctx context.Context, id int) (map[string]bool, error)
	// Steps returns how many steps that do this the batch has, by name and what became of
	// them, in order of the names.
	Steps(ctx context.Context, id int, does membership.Verb) ([]StepCount, error)
	// Does returns what the steps of the batch do, each once.
	Does(ctx context.Context, id int) ([]membership.Verb, error)
}

// A Suspension is an account that a batch suspended, and that no batch has changed since.
type Suspension struct {
	Account string
	Version string // that the system gave it then; empty: none
	Batch   int
	At      time.Time
}

// A Filter picks entries. The zero value picks all.
type Filter struct {
	Outcomes []account.Outcome // empty: any, but for Intents
	Intents  []account.Intent  // also entries that wait for these; empty: any, but for Outcomes
	Rows     []int             // empty: any
	Findings bool              // only entries with findings
	Cells    bool              // with the cells of the row
	Secrets  bool              // with the sealed password
	Open     bool              // only entries whose account's own step waits
	Steps    bool              // only entries whose account's own step is done and others wait
	Unproven bool              // only entries whose account's own step is done and that are to be read back
	Does     membership.Verb   // only entries with a step that does this; empty: any
	Gives    *account.Change   // only entries with this change, to the letter; nil: any
	Mails    bool              // with what mails hold
	After    int               // only rows beyond this one
	Upto     int               // only rows up to this one; 0: any
	Limit    int               // 0: no limit
	Last     bool              // from the last row backwards
}

// A StepCount is how many steps of a name came to a result.
type StepCount struct {
	Name   string            `json:"name"`
	Result membership.Result `json:"result"` // empty: they wait
	N      int               `json:"n"`
}

// A Lease is a worker's place at a batch, making it or posting it. It runs until it is renewed or over, and
// what the worker does after that is refused with ErrFenced; whatever is noted renews it.
type Lease interface {
	// Join makes the worker one of those at the batch; the first begins with nothing of it taken.
	Join(ctx context.Context) (Share, error)
	Renew(ctx context.Context) (Share, error)
	// Leave returns whether it was the last.
	Leave(ctx context.Context) (last bool, err error)

	// Take gives the worker a part of a stage: for Whole all of it, else rows that wait, at most so
	// many. What a dead worker had is given first, and a worker has one part at a time. Wait means
	// that others have the rest of the stage, and Over that it has ended.
	Take(ctx context.Context, stage Stage, most int) (Part, Turn, error)
	// End notes that a part is done, and Return that it is not: another may take it.
	End(ctx context.Context, part Part) error
	Return(ctx context.Context, part Part) error

	// Claim notes that the worker is about to send the requests of entries, which are of a part that
	// it has: that is on disk when it returns.
	Claim(ctx context.Context, entries []batch.Entry, now time.Time) (Claim, error)
	// ClaimSteps notes, in the same way, that the worker is about to carry out steps of entries: by
	// their place among an entry's steps, the rows whose step there it is.
	ClaimSteps(ctx context.Context, rows map[int][]int) error
	// Settle notes what became of entries. It is on disk when it returns.
	Settle(ctx context.Context, results []Result, now time.Time) error
	// Prove notes how rows were proven.
	Prove(ctx context.Context, proof batch.Proof, rows []int) error
}

// A Worker is one of the processes that are at a batch.
type Worker struct {
	Name string        // that no other has
	Who  string        // for people: the person and the machine
	Term time.Duration // for which its lease runs unless it is renewed
}

// An At says that somebody is at a batch.
type At struct {
	Batch int       `json:"batch"`
	Who   string    `json:"who"`
	Began time.Time `json:"began"` // by the ledger's clock
	Until time.Time `json:"until"` // if it is not heard of before
}

// A Role is what a person signed a batch as.
type Role string

// The roles.
const (
	Drafter Role = "drafter" // drafted it: of its seal
	Second  Role = "second"  // looked at the draft and wants it posted: of its seal
	Poster  Role = "poster"  // saw what became of it: of the newest hash of its history
)

// A Signature is that of a person, of a batch.
type Signature struct {
	As        Role      `json:"as"`
	Person    string    `json:"person"`
	Key       string    `json:"key"` // public
	Of        string    `json:"of"`  // the hash that is signed
	Signature string    `json:"signature"`
	At        time.Time `json:"at"`
}

// A Head is where the history of a batch stands: of it no hash can be altered without all that
// follows being written anew.
type Head struct {
	Batch   int               `json:"batch"`
	Seal    string            `json:"seal"`
	Hash    string            `json:"hash"`
	Workers map[string]string `json:"workers,omitempty"` // by worker's name
}

// A Share is how many workers are at batches of a system, and which of them one is, from 0 on.
type Share struct {
	Of, Rank int
	Others   []string // who else is at the batch itself
}

// A Stage is a kind of work that is over before the next begins.
type Stage struct {
	Name  string
	Whole bool // one worker does all of it
	After bool // it is for the rows whose account's own step is done
}

// A Part is a range of a batch's rows that one worker has at a stage.
type Part struct {
	Stage     string
	Low, High int  // rows, both included
	N         int  // how many of them waited
	Again     bool // another had it, or it was given back
}

// A Turn is what there is for a worker at a stage.
type Turn int

// The turns.
const (
	Over Turn = iota // nothing more
	Wait             // others are at it
	Got              // a part
)

// A Claim is the number of a note that requests are about to be sent.
type Claim int64

// A Result is what became of an entry whose request was claimed. An entry that is still
// waiting had no effect.
type Result struct {
	Entry batch.Entry
	Claim Claim
}

// An InFlight is an entry that was claimed and not settled: a post was cut short while
// its request was on its way.
type InFlight struct {
	Entry batch.Entry
	Claim Claim
	First time.Time // when it was first claimed, of the times whose result is not known
	Sent  time.Time // and last
}

// An Attempt is one time that a row's request was claimed to be sent, with the result if
// it is the last.
type Attempt struct {
	Sent   time.Time
	Ended  time.Time // zero: not known
	Result account.Outcome
}

// Soundness is what reading all of a ledger found.
type Soundness struct {
	Batches  int
	Entries  int
	Problems []string // in words; none: it is sound
}
