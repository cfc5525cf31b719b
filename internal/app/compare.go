package app

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"slices"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/readback"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
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

// ReadBack tells whether the system is still as a batch left it, looking again for a while if it is not. Where it is, and
// all that the ledger says was done with it, that is signed.
func (a *App) ReadBack(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, within time.Duration, progress func(stage string, rows int)) (readback.Result, error) {
	if b.Posted.IsZero() {
		return readback.Result{}, mistake(fmt.Sprintf("batch %d was never posted, so there is nothing to read back", b.ID), "")
	}
	target, err := SystemOf(w, b)
	if err != nil {
		return readback.Result{}, err
	}
	client, err := a.Connect(target)
	if err != nil {
		return readback.Result{}, err
	}
	reading := &readback.Reading{Ledger: l, System: client, Batch: b, Together: target.Together, Within: within, Clock: a.Clock, Progress: progress}
	read, err := reading.Read(ctx)
	if err != nil || len(read.Rows) > 0 {
		return read, err
	}
	problems, err := l.History(b.ID).Problems(ctx)
	if err == nil && len(problems) == 0 {
		err = a.Endorse(ctx, w, l, b.ID)
	}
	return read, err
}

// WriteDifferences writes what is otherwise to a file, as a page or as a sheet with a line for each, and returns how many
// lines there are.
func WriteDifferences(path string, c report.Comparison, lines iter.Seq2[[][]string, error]) (n int, err error) {
	return writeWhole(path, func(file *os.File) (n int, err error) {
		if isPage(path) {
			return c.WritePage(file, lines)
		}
		w, err := sheetWriter(file, path)(sheet.Form{})
		if err != nil {
			return 0, err
		}
		defer func() { err = errors.Join(err, w.Close()) }()
		if err := w.Write(c.Headings()); err != nil {
			return 0, err
		}
		for of, err := range lines {
			if err != nil {
				return n, err
			}
			for _, line := range of {
				if err := w.Write(line); err != nil {
					return n, err
				}
				n++
			}
		}
		return n, nil
	})
}
