package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// onSheets opens a sheet for each system that it is for, and the ledger.
func (a *front) onSheets(ctx context.Context, path string, flags sheetFlags, do func(members []app.Member, set string, l store.Store) error) (err error) {
	members, set, err := a.OpenSet(ctx, path, flags.Request)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, app.CloseSet(members)) }()
	_, l, err := a.OpenLedger(ctx, false)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	return do(members, set, l)
}

// onBatches opens the ledger for work on the batches that a text means.
func (a *front) onBatches(ctx context.Context, text string, toRead bool, do func(*workspace.Workspace, store.Store, []*batch.Batch) error) (err error) {
	if !areBatches(text) {
		if !a.isSet(text) {
			return wrong(fmt.Sprintf("“%s” is not a batch's number", text), "“evenledger batches” lists them; “last” is the newest, 12-14 are several, and the name of a set means its newest.")
		}
	}
	w, l, err := a.OpenLedger(ctx, toRead)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	batches, err := app.BatchesNamed(ctx, w, l, text)
	if err != nil {
		return err
	}
	return do(w, l, batches)
}

// isSet reports whether a text is the name of a set.
func (a *front) isSet(text string) bool {
	w, err := a.FindWorkspace()
	if err != nil {
		return false
	}
	_, is := w.Set(text)
	return is
}

// several does something for each of several systems or batches, of which each answers: one below the other, or as one document with
// the answers by their keys.
func (a *front) several(name string, keys []string, do func(i int) error) error {
	if len(keys) == 1 {
		return do(0)
	}
	told := a.out
	defer func() { a.out = told }()
	answers := map[string]json.RawMessage{}
	for i, key := range keys {
		if !a.json {
			if i > 0 {
				a.page().Line("")
			}
			if err := do(i); err != nil {
				return err
			}
			continue
		}
		var answer bytes.Buffer
		a.out = &answer
		if err := do(i); err != nil {
			return err
		}
		answers[key] = answer.Bytes()
	}
	if a.out = told; !a.json {
		return nil
	}
	return a.writeJSON(map[string]any{name: answers})
}

// severalBatches does something for each of several batches, as several does.
func (a *front) severalBatches(batches []*batch.Batch, do func(b *batch.Batch) error) error {
	s := report.Set{Batches: batches}
	var keys []string
	for i := range batches {
		keys = append(keys, s.Called(i))
	}
	return a.several("systems", keys, func(i int) error { return do(batches[i]) })
}

// systemsNamed are those that a name means: of a set all of it.
func systemsNamed(w *workspace.Workspace, name string) []string {
	if set, is := w.Set(name); is {
		return set.Systems
	}
	return []string{name}
}

// inSystem is what went wrong with one of several systems; no error: nothing did.
type inSystem struct {
	name string
	err  error
}

// ofMembers is what went wrong with the members of a set.
func ofMembers(members []app.Member) (all []inSystem) {
	for _, m := range members {
		all = append(all, inSystem{m.System, m.Err})
	}
	return all
}

// tellSystems tells what went wrong with which system. The error is one of theirs.
func (a *front) tellSystems(ctx context.Context, troubles []inSystem) error {
	if len(troubles) == 1 {
		return troubles[0].err
	}
	var all []*failure
	for _, t := range troubles {
		if t.err == nil {
			continue
		}
		one := explained(ctx, t.err)
		if !strings.HasPrefix(one.message, t.name+": ") {
			one.message = t.name + ": " + one.message
		}
		one.err = t.err
		all = append(all, &one)
	}
	if len(all) == 0 {
		return nil
	}
	// What cannot be reached is why others could not be worked on.
	first := max(0, slices.IndexFunc(all, func(f *failure) bool { return f.code == exitUnavailable }))
	for i, one := range all {
		if i != first {
			a.remark("%s", one.message)
		}
	}
	return all[first]
}

// showSet shows what several batches of one sheet come to, system beside system.
func (a *front) showSet(ctx context.Context, l store.Store, batches []*batch.Batch, members []app.Member) error {
	w, err := a.FindWorkspace()
	if err != nil {
		return err
	}
	t, err := answer.NewSet(ctx, l, w, batches, members)
	if err != nil {
		return err
	}
	return a.came(ctx, t)
}
