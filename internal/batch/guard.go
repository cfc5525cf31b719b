package batch

import (
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/membership"
	"evenledger/internal/told"
)

// A Guard is why something may not be done with a batch.
type Guard struct {
	Message string
	Remedy  string
	Wrong   bool // it was asked for something that makes no sense, rather than of danger
}

func (g *Guard) Error() string { return g.Message }

// Tell implements told.Error.
func (g *Guard) Tell() told.Telling {
	class := told.Held
	if g.Wrong {
		class = told.Wrong
	}
	return told.Telling{Class: class, Message: g.Message, Remedy: g.Remedy, Stands: true}
}

// SignFrom has a second person sign the batch from so many changes on, if fewer is not asked for
// already; 0 asks for nothing.
func (b *Batch) SignFrom(changes int) {
	if changes > 0 && (b.SignedFrom == 0 || changes < b.SignedFrom) {
		b.SignedFrom = changes
	}
}

// IsToBeSigned reports whether a second person has to sign the batch before it is posted.
func (b *Batch) IsToBeSigned() bool { return b.SignedFrom > 0 && b.ToDo >= b.SignedFrom }

// Signers is how many people have to sign the batch besides who drafted it: two, if nobody can
// tell who that was.
func (b *Batch) Signers() int {
	if b.ByKey == "" {
		return 2
	}
	return 1
}

// MayPost returns why the batch may not be posted to the system at an address, or nil.
func (b *Batch) MayPost(url string) error {
	if b.State == Unmade {
		return &Guard{Message: fmt.Sprintf("batch %d was never made: its draft broke off", b.ID), Remedy: "Draft its sheet again.", Wrong: true}
	}
	if b.State == Reversed {
		return &Guard{Message: fmt.Sprintf("batch %d was undone by a later batch, so that nothing more of it is done", b.ID), Remedy: "Draft its sheet again.", Wrong: true}
	}
	if b.State == Withdrawing {
		return &Guard{Message: fmt.Sprintf("batch %d is being withdrawn, or that was cut short", b.ID), Remedy: fmt.Sprintf("End it with: evenledger withdraw %d", b.ID), Wrong: true}
	}
	if b.State == Withdrawn {
		return &Guard{Message: fmt.Sprintf("batch %d was withdrawn", b.ID), Remedy: "Draft its sheet again.", Wrong: true}
	}
	if len(b.Held) > 0 {
		return &Guard{Message: fmt.Sprintf("batch %d is held back: %s", b.ID, strings.Join(b.Held, "; ")), Remedy: "Look whether the sheet came whole. If it is right, raise the limit in the brief and draft again."}
	}
	return b.mayReach(url)
}

// MayReverse returns why the batch may not be undone in the system at an address, or nil.
func (b *Batch) MayReverse(url string) error {
	switch {
	case b.State == Reversed:
		return &Guard{Message: fmt.Sprintf("batch %d was reversed already", b.ID), Remedy: "“evenledger batches” shows by which batch.", Wrong: true}
	case b.State == Handed && len(b.Files) == 0:
		return &Guard{Message: fmt.Sprintf("nobody knows yet what became of all that batch %d handed over", b.ID), Remedy: fmt.Sprintf("The system carries it out later. Look again: evenledger post %d; or give its rows up: evenledger post %d --give-up --row ROW", b.ID, b.ID), Wrong: true}
	case b.State == Handed:
		return &Guard{Message: fmt.Sprintf("nobody knows yet what became of all that batch %d handed over", b.ID), Remedy: fmt.Sprintf("Export the accounts in the application, then: evenledger settle %d", b.ID), Wrong: true}
	case b.Posted.IsZero():
		return &Guard{Message: fmt.Sprintf("batch %d was never posted, so there is nothing to undo", b.ID), Wrong: true}
	}
	return b.mayReach(url)
}

func (b *Batch) mayReach(url string) error {
	if b.URL != url {
		return &Guard{Message: fmt.Sprintf("batch %d was drafted for %s, and evenledger.yaml now has %s for %s", b.ID, b.URL, url, b.System), Remedy: "Make a new draft for that address, or put the old one back."}
	}
	return nil
}

// Unmaking reports whether things that a batch undone had made are still to be removed.
func (b *Batch) Unmaking() bool {
	return slices.ContainsFunc(b.Removals(), func(s membership.Step) bool { return s.Result == "" })
}

// telling are the fields by which one person's account is known from another's.
var telling = [...]string{"userName", "employeeNumber", "email", "externalId", "displayName", "givenName", "familyName"}

// Stranger reports whether an account is somebody else's than it was when it was last
// seen: all that tells people apart differs.
func Stranger(schema *account.Schema, known map[string]account.Value, now *account.Account, match []string) bool {
	same, differ := 0, 0
	for _, name := range slices.Compact(slices.Sorted(slices.Values(slices.Concat(telling[:], match, []string{schema.Naming})))) {
		was, is := known[name], now.Field(name)
		switch {
		case name == account.ID, !was.Filled(), !is.Filled():
		case schema.Field(name).One(was.Text(), is.Text()):
			same++
		default:
			differ++
		}
	}
	return same == 0 && differ > 0
}

// OtherSystem is the guard against another system at the address that the batch was
// drafted for: one that was put in its place, or came back from a copy.
func (b *Batch) OtherSystem(why string) error {
	return &Guard{Message: fmt.Sprintf("%s is no longer what batch %d was drafted for: %s", b.System, b.ID, why), Remedy: "Ask whether another system was put in its place, or an old copy restored. If that is right, draft again."}
}
