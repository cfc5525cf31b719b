package app

import (
	"iter"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
)

// A State is how a row of a sheet and its account stand to each other.
type State string

// The states: every row has exactly one.
const (
	Even     State = "even"
	Missing  State = "missing"  // in the sheet, and not in the system
	Differs  State = "differs"  // otherwise in the system than in the sheet
	Unlisted State = "unlisted" // in the system within the scope, and in no row
	Untold   State = "refused"  // the row has to be corrected before it can be told
	Aside    State = "aside"    // left out
)

// Differs reports whether the two sides are not even.
func (s State) Differs() bool { return s != Even && s != Aside }

// States is how many rows are in each state.
type States map[State]int

// Even reports whether the system is as the sheet has it.
func (s States) Even() bool {
	for state, n := range s {
		if n > 0 && state.Differs() {
			return false
		}
	}
	return true
}

// StateOf is what an entry that was made to compare says of its row.
func StateOf(e *batch.Entry) State {
	switch {
	case batch.Unlisted(e.Row) > 0:
		return Unlisted
	case e.Outcome == account.Unchanged && slices.ContainsFunc(e.Findings, func(f account.Finding) bool { return f.Code == account.DoesNotFit }):
		return Differs
	case e.Outcome == account.Unchanged:
		return Even
	case e.Outcome == account.Aside:
		return Aside
	case e.Outcome == account.Refused:
		return Untold
	case e.Intent == account.Create:
		return Missing
	}
	return Differs
}

// Compare counts what entries that were made to compare say of their rows, and returns why
// those cannot be told of which that is so, and what does not fit together in accounts.
func Compare(entries iter.Seq2[batch.Entry, error]) (counts States, refusals []account.Finding, err error) {
	counts = States{}
	for e, err := range entries {
		if err != nil {
			return nil, nil, err
		}
		state := StateOf(&e)
		counts[state]++
		for _, f := range e.Findings {
			if f.Level == account.Error && state == Untold || f.Code == account.DoesNotFit {
				refusals = append(refusals, f)
			}
		}
	}
	return counts, refusals, nil
}
