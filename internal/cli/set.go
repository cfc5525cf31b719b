package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
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

// leftTo tells what of a sheet only some systems of a set have.
func leftTo(page *report.Page, members []app.Member) {
	for _, m := range members {
		if len(m.Left) > 0 {
			page.Line("  %s", page.Dim(fmt.Sprintf("%s has no %s: left to the others.", m.System, strings.Join(m.Left, ", "))))
		}
	}
}

// setShown is how many rows of a set are shown at its head, and how many that were refused or
// failed.
const setShown = 12

// showSet shows what several batches of one sheet come to, system beside system.
func (a *front) showSet(ctx context.Context, l store.Store, batches []*batch.Batch, members []app.Member) error {
	s, err := report.ReadSet(ctx, l, batches)
	if err != nil {
		return err
	}
	bad, waits := 0, 0
	for i := range batches {
		bad += s.Counts[i].Bad()
		waits += total(s.Waiting[i])
	}
	a.exit = max(a.exit, a.rowsExit(bad))
	if a.json {
		return a.writeSet(ctx, l, s, store.Filter{})
	}
	page := a.page()
	if !page.Set(s) {
		a.exit = max(a.exit, exitRows)
	}
	leftTo(page, members)
	if err := a.heldBack(ctx, page, l, batches); err != nil {
		return err
	}
	if err := a.setBefore(ctx, page, l, s); err != nil {
		return err
	}
	if err := a.setFindings(ctx, page, l, s, members); err != nil {
		return err
	}
	if s.OneSheet() {
		if err := a.setRows(ctx, page, l, s); err != nil {
			return err
		}
	}
	for i, b := range batches {
		for _, why := range b.Held {
			page.Line("")
			page.Text(func(text string) report.Styled { return page.Level(account.Error, text) }, fmt.Sprintf("%s is held back: %s.", s.Called(i), why))
		}
	}
	if batches[0].Posted.IsZero() {
		page.Line("")
		for i, b := range batches {
			same := !slices.ContainsFunc(batches, func(other *batch.Batch) bool { return other.Policies != b.Policies })
			if said := b.Policies + taken(b); same && i == 0 {
				page.Text(page.Dim, said+" Nothing has been changed.")
			} else if !same {
				page.Text(page.Dim, s.Called(i)+": "+said)
			}
		}
	}
	var next []string
	var handed report.Set
	for i, b := range batches {
		if s.Counts[i].Elsewhere() > 0 {
			if err := a.handedOverOf(ctx, page, l, b); err != nil {
				return err
			}
			handed.Batches = append(handed.Batches, b)
		}
	}
	if len(handed.Batches) > 0 {
		next = append(next, "evenledger settle "+handed.Numbers())
	}
	for i, b := range batches {
		if a.toSign(page, b, total(s.Waiting[i]), true) {
			next = []string{signNext(s.Numbers())}
		}
	}
	if waits > 0 && !slices.ContainsFunc(next, func(n string) bool { return strings.Contains(n, "countersign") }) {
		flags := ""
		if slices.ContainsFunc(batches, (*batch.Batch).MakesPasswords) {
			flags = credentialsWanted
		}
		next = append(next, "evenledger post "+s.Numbers()+flags, fmt.Sprintf("evenledger post %d%s --trial 1    # one row of one system first", batches[0].ID, flags))
	}
	if bad > 0 {
		next = append(next, fmt.Sprintf("evenledger fixes %s -o %s", s.Numbers(), freeName("again", batches[0])))
	}
	if len(next) == 0 {
		next = []string{"evenledger show " + s.Numbers()}
	}
	page.Next(next...)
	return page.Err()
}

// setBefore tells what should be known of each system before it is posted: what is made, seats,
// and whom it is gravest for.
func (a *front) setBefore(ctx context.Context, page *report.Page, l store.Store, s report.Set) error {
	for i, b := range s.Batches {
		grave := s.Waiting[i][account.Remove]+s.Waiting[i][account.Suspend]+s.Waiting[i][account.Resume] > 0
		if s.Counts[i].Waiting() == 0 || !grave && len(b.Seats)+len(b.Makes) == 0 && b.Secrets == "" && b.Renames == nil {
			continue
		}
		page.Line("")
		page.Line("%s", page.Bold(s.Called(i)))
		if err := a.beforeIt(ctx, page, l, b, s.Waiting[i]); err != nil {
			return err
		}
		if err := a.gravest(ctx, page, l, b, s.Waiting[i]); err != nil {
			return err
		}
	}
	return nil
}

// setFindings tells the findings of all, those that are alike once.
func (a *front) setFindings(ctx context.Context, page *report.Page, l store.Store, s report.Set, members []app.Member) error {
	causes, err := a.setCauses(ctx, l, s, members)
	if err == nil {
		page.Findings(causes)
	}
	return err
}

func (a *front) setCauses(ctx context.Context, l store.Store, s report.Set, members []app.Member) (*report.Causes, error) {
	var systems []string
	var all []*report.Causes
	for at, b := range s.Batches {
		causes := &report.Causes{}
		for i, m := range members {
			if m.System == b.System {
				causes.AddAll(app.Findings(members, i))
			}
		}
		if err := causes.AddEntries(l.Entries(ctx, b.ID, store.Filter{Findings: true}), nil); err != nil {
			return nil, err
		}
		systems, all = append(systems, s.Called(at)), append(all, causes)
	}
	return report.Together(systems, all), nil
}

// setRows shows the first rows, those that are to be looked at, and the last; and, where
// numbers are given, what becomes of them.
func (a *front) setRows(ctx context.Context, page *report.Page, l store.Store, s report.Set) error {
	var first, bad, last []report.SetRow
	for r, err := range s.Rows(ctx, l, store.Filter{Cells: true}) {
		switch {
		case err != nil:
			return err
		case len(first) < setShown:
			first = append(first, r)
		case r.Bad() && len(bad) < setShown:
			bad = append(bad, r)
		default:
			last = append(last, r)
			if len(last) > shown {
				last = last[1:]
			}
		}
	}
	shown := slices.Concat(first, bad, last)
	slices.SortFunc(shown, func(x, y report.SetRow) int { return cmp.Compare(x.Row, y.Row) })
	write := func(title string, say func(*batch.Entry) string) {
		page.SetHeadings(s, title)
		before := 0
		for _, r := range shown {
			if before > 0 && r.Row > before+1 {
				page.Line("  %s", page.Dim("…"))
			}
			page.SetRow(s, r, say)
			before = r.Row
		}
	}
	write("Row by row", nil)
	if slices.ContainsFunc(s.Batches, func(b *batch.Batch) bool { return b.Reown != nil && b.Posted.IsZero() }) {
		write("Files to re-own", func(e *batch.Entry) string {
			for _, step := range e.Steps {
				if step.Do == membership.Reown {
					files, _, _ := strings.Cut(step.Name, " (") // whose group they have as well the row itself says
					return files
				}
			}
			return ""
		})
	}
	var fields []string
	for _, b := range s.Batches {
		for _, field := range b.Numbers {
			if !slices.Contains(fields, field) && b.Posted.IsZero() {
				fields = append(fields, field)
			}
		}
	}
	for _, field := range fields {
		write(field, func(e *batch.Entry) string { return report.ChangeOf(e, field) })
	}
	return nil
}

// writeSet writes several batches as one document.
func (a *front) writeSet(ctx context.Context, l store.Store, s report.Set, filter store.Filter) error {
	heads, even := []report.Head{}, true
	for i, b := range s.Batches {
		head := report.NewHead(b, s.Counts[i])
		heads, even = append(heads, head), even && head.Even
	}
	if !s.OneSheet() {
		return a.writeJSON(map[string]any{"batches": heads, "even": even})
	}
	filter.Cells = true
	return report.WriteJSON(a.out, map[string]any{"set": s.Name, "batches": heads, "even": even}, "entries", setEntries(s, s.Rows(ctx, l, filter)), nil)
}

func setEntries(s report.Set, rows iter.Seq2[report.SetRow, error]) iter.Seq2[report.SetEntry, error] {
	return func(yield func(report.SetEntry, error) bool) {
		for r, err := range rows {
			if !yield(report.NewSetEntry(s, r), err) {
				return
			}
		}
	}
}

// fixesOfSet yields the rows that were refused or failed in any of the systems, with the
// reasons of all.
func fixesOfSet(s report.Set, rows iter.Seq2[report.SetRow, error]) iter.Seq2[batch.Entry, error] {
	return func(yield func(batch.Entry, error) bool) {
		for r, err := range rows {
			if err != nil {
				yield(batch.Entry{}, err)
				return
			}
			if !r.Bad() {
				continue
			}
			var out *batch.Entry
			in := map[string][]string{} // message → systems
			var findings []account.Finding
			for i, e := range r.Entries {
				if e == nil || !e.Outcome.IsBad() {
					continue
				}
				if out == nil {
					one := *e
					out = &one
				}
				for _, f := range e.Findings {
					if in[f.Message] == nil {
						findings = append(findings, f)
					}
					in[f.Message] = append(in[f.Message], s.Batches[i].System)
				}
			}
			for i, f := range findings {
				if of := in[f.Message]; len(of) < len(s.Batches) {
					findings[i].Message = strings.Join(of, ", ") + ": " + f.Message
				}
			}
			out.Findings = findings
			if !yield(*out, nil) {
				return
			}
		}
	}
}

// showDiffers shows the first of the rows that are otherwise in one of the systems.
func showDiffers(page *report.Page, s report.Set, differs iter.Seq2[report.SetRow, error]) error {
	said := 0
	for r, err := range differs {
		if err != nil {
			return err
		}
		if said == 0 {
			page.SetHeadings(s, "Not even")
		}
		if said++; said > 2*setShown {
			page.Line("  %s", page.Dim("…"))
			break
		}
		page.SetRow(s, r, func(e *batch.Entry) string { return string(app.StateOf(e)) })
		for i, e := range r.Entries {
			if e == nil || app.StateOf(e) != app.Differs || page.Summary(*e) == "" {
				continue
			}
			page.Line("            %s", page.Dim(s.Called(i)+": "+page.Summary(*e)))
		}
	}
	return nil
}
