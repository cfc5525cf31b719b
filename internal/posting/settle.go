package posting

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/readback"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// A Settlement is what an application says of what was handed over to it.
type Settlement struct {
	Shows    bool             // its newest export is to be looked at
	Listed   bool             // there is a list of what it did not take
	Failures []system.Failure // that stand in the list
	File     string           // that the list is of; empty: of any of the batch
}

// A settling finds out what became of what was handed over.
type settling struct {
	*run
	*Settlement
	hander  system.Hander
	at      time.Time // of the export; zero: there is none
	reading *readback.Reading
	failed  map[int]*system.Failure // by row
	refused map[string]int          // file → rows of it that the list names
	taken   map[string]int          // file → rows of it that the export shows
	shows   map[int]shown           // by row
}

// shown is how much of an entry the export shows.
type shown uint8

const (
	nothing shown = iota
	aPart
	all
)

// settleHanded settles what was handed over, as far as the application says what became of it.
func (p *run) settleHanded(ctx context.Context) error {
	s := &settling{run: p, Settlement: p.Settles, hander: p.hander(), failed: map[int]*system.Failure{}, refused: map[string]int{}, taken: map[string]int{}, shows: map[int]shown{},
		reading: &readback.Reading{Ledger: p.Ledger, System: p.System, Batch: p.Batch, Together: p.Together, Clock: p.Clock}}
	var err error
	if s.at, err = s.hander.Exported(ctx); err != nil {
		return err
	}
	if s.Listed {
		if err := s.match(ctx); err != nil {
			return err
		}
	}
	total := 0
	if err := s.windows(ctx, func(entries []batch.Entry) error {
		total += len(entries)
		if !s.Shows {
			return nil
		}
		return s.look(ctx, entries)
	}); err != nil {
		return err
	}
	p.begin("settled", total)
	return s.windows(ctx, func(entries []batch.Entry) error {
		var results []store.Result
		for i := range entries {
			if s.one(&entries[i]) {
				results = append(results, store.Result{Entry: entries[i]})
			}
		}
		p.advance(len(entries))
		if err := p.settle(ctx, results); err != nil || p.Batch.Secrets == "" {
			return err
		}
		return p.wipe(ctx, results)
	})
}

// windows goes through the rows that were handed over.
func (s *settling) windows(ctx context.Context, each func([]batch.Entry) error) error {
	for after := 0; ctx.Err() == nil; {
		var window []batch.Entry
		for e, err := range s.Ledger.Entries(ctx, s.Batch.ID, store.Filter{Outcomes: []account.Outcome{account.HandedOver}, Secrets: s.Batch.Secrets != "", After: after, Limit: handWindow}) {
			if err != nil {
				return err
			}
			window = append(window, e)
		}
		if len(window) == 0 {
			return nil
		}
		after = window[len(window)-1].Row
		if err := each(window); err != nil {
			return err
		}
	}
	return context.Cause(ctx)
}

// match finds the row that each failure is of. One that is of none means that the list is another's.
func (s *settling) match(ctx context.Context) error {
	lines, keys := map[batch.Place]*batch.Entry{}, map[string]*batch.Entry{}
	know := func(key string, e *batch.Entry) {
		if other := keys[key]; other != nil && other != e {
			e = &batch.Entry{} // of no row: an address that one has and another gets tells of neither
		}
		keys[key] = e
	}
	for e, err := range s.Ledger.Entries(ctx, s.Batch.ID, store.Filter{}) {
		if err != nil {
			return err
		}
		if e.Place == nil || s.File != "" && e.Place.File != s.File {
			continue
		}
		slim := &batch.Entry{Row: e.Row, Place: e.Place, Account: e.Account}
		lines[*e.Place] = slim
		know(s.keyOf(s.about.Naming, s.willBe(&e)), slim)
		for _, c := range e.Changes {
			if slices.Contains(s.Batch.Match, c.Field) && c.After.Filled() {
				know(s.keyOf(c.Field, c.After.Text()), slim)
			}
		}
		for _, field := range s.Batch.Match {
			if v := e.Known[field]; v.Filled() {
				know(s.keyOf(field, v.Text()), slim)
			}
		}
	}
	var strange []string
	for i := range s.Failures {
		f := &s.Failures[i]
		e := s.of(f, lines, keys)
		if e == nil {
			strange = append(strange, f.String())
			continue
		}
		s.failed[e.Row] = f
		s.refused[e.Place.File]++
	}
	if len(strange) > 0 {
		n := len(strange)
		if n > 3 {
			strange = append(strange[:3], "…")
		}
		return &account.Mistake{Message: fmt.Sprintf("%d of the %d rows of the list are of nobody whom batch %d handed over: %s", n, len(s.Failures), s.Batch.ID, strings.Join(strange, "; ")), Remedy: "Give the list of just this file; if the batch has several and the list only has lines, name the file with --file."}
	}
	return nil
}

func (s *settling) keyOf(field, value string) string {
	return field + "\x1f" + s.about.Field(field).Key(value)
}

// of is the entry that a failure is of; nil: there is none, or the list contradicts itself.
func (s *settling) of(f *system.Failure, lines map[batch.Place]*batch.Entry, keys map[string]*batch.Entry) (found *batch.Entry) {
	for field, value := range f.Keys {
		if value == "" {
			continue
		}
		e := keys[s.keyOf(field, value)]
		if e != nil && e.Row == 0 {
			continue
		}
		if e == nil || found != nil && found != e {
			return nil
		}
		found = e
	}
	if found != nil || f.Line == 0 {
		return found
	}
	name := s.File
	if names := fileNames(s.Batch); name == "" && len(names) == 1 {
		name = names[0]
	}
	return lines[batch.Place{File: name, Line: f.Line}]
}

// fileNames are those of a batch's files.
func fileNames(b *batch.Batch) (names []string) {
	for _, f := range b.Files {
		names = append(names, f.Name)
	}
	return names
}

// look sees how much of entries the export shows.
func (s *settling) look(ctx context.Context, entries []batch.Entry) error {
	asDone := make([]batch.Entry, len(entries))
	for i, e := range entries {
		e.Steps = slices.Clone(e.Steps)
		s.did(&e)
		asDone[i] = e
	}
	rows, err := s.reading.Compare(ctx, asDone)
	if err != nil {
		return err
	}
	handedAt := map[string]time.Time{}
	for _, f := range s.Batch.Files {
		handedAt[f.Name] = f.At
	}
	differ := map[int]readback.Row{}
	for _, row := range rows {
		differ[row.Row] = row
	}
	for i := range asDone {
		e := &asDone[i]
		row, differs := differ[e.Row]
		of := len(e.Changes)
		for _, step := range e.Steps {
			if step.Within() && step.Do != membership.Renew {
				of++
			}
		}
		if s.at.Before(handedAt[e.Place.File]) {
			continue // it was exported before
		}
		gone := slices.ContainsFunc(row.Differences, func(d readback.Difference) bool { return d.Of == readback.OfAccount })
		switch {
		case !differs:
			s.shows[e.Row] = all
		case gone, e.Did != account.Created && len(row.Differences) >= of:
			continue
		default:
			s.shows[e.Row] = aPart
		}
		s.taken[e.Place.File]++
	}
	return nil
}

// did marks an entry as if all of it had been done.
func (s *settling) did(e *batch.Entry) {
	e.Account, e.Did = s.willBe(e), e.Intent.Comes()
	for i := range e.Steps {
		if e.Steps[i].Within() && e.Steps[i].Waits() {
			e.Steps[i].Result = membership.Done
		}
	}
}

// one settles an entry, and reports whether it could.
func (s *settling) one(e *batch.Entry) bool {
	f, shows := s.failed[e.Row], s.shows[e.Row]
	where := fmt.Sprintf("%s, line %d", e.Place.File, e.Place.Line)
	exported := s.at.Local().Format("2 Jan 15:04")
	switch {
	case shows == all:
		s.did(e)
		e.Proof = batch.Proven
		if f != nil {
			e.Find(account.Warning, account.SaidOtherwise, "", "", fmt.Sprintf("the application's list says that it did not take the row (“%s”), and its export shows it as it was to be", s.Mask.Told(f.Reason)))
		}
	case f != nil && shows == nothing:
		s.fail(e, account.SystemRefused, "", fmt.Sprintf("the application did not take it: %s (%s)", s.Mask.Told(f.Reason), where))
		return true
	case shows == aPart:
		s.did(e) // what is otherwise is told when it is read back
		if f != nil {
			e.Find(account.Warning, account.SystemRefused, "", "", fmt.Sprintf("the application says of it: %s (%s)", s.Mask.Told(f.Reason), where))
		}
	case s.hander.Whole() && s.refused[e.Place.File] > 0:
		s.fail(e, account.SystemRefused, "", fmt.Sprintf("the application took none of the rows of %s, as it did not take %d of them", e.Place.File, s.refused[e.Place.File]))
		return true
	case s.taken[e.Place.File] > 0:
		s.fail(e, account.NotProven, "", fmt.Sprintf("the export of %s shows %d others of %s, and does not show this row done (line %d)", exported, s.taken[e.Place.File], e.Place.File, e.Place.Line))
		return true
	case s.Listed && s.at.IsZero() && (s.File == "" || s.File == e.Place.File):
		s.did(e) // the list is all that there is
	default:
		return false
	}
	s.clear(e)
	e.Settle()
	return true
}
