package answer

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// A Set is what several batches of one sheet come to, system beside system.
type Set struct {
	Ledger    store.Store
	Set       report.Set
	Members   []app.Member // they were just made of; nil: they are looked at
	Workspace *workspace.Workspace
	Filter    store.Filter
	Even      bool // every row of every one is accounted for, as far as that was drawn
}

// NewSet reads what batches came to.
func NewSet(ctx context.Context, l store.Store, w *workspace.Workspace, batches []*batch.Batch, members []app.Member) (*Set, error) {
	s, err := report.ReadSet(ctx, l, batches)
	return &Set{Ledger: l, Set: s, Members: members, Workspace: w, Even: true}, err
}

// Fine returns how many rows were refused or failed, and whether all are accounted for.
func (t *Set) Fine() (bad int, even bool) { return t.bad(), t.Even }

func (t *Set) bad() (n int) {
	for _, counts := range t.Set.Counts {
		n += counts.Bad()
	}
	return n
}

func (t *Set) toDo() (n int) {
	for i := range t.Set.Batches {
		n += t.Set.ToDo(i)
	}
	return n
}

// Document implements Answer.
func (t *Set) Document(ctx context.Context) any {
	heads, even := []report.Head{}, true
	for i, b := range t.Set.Batches {
		head := report.NewHead(b, t.Set.Counts[i])
		heads, even = append(heads, head), even && head.Even
	}
	if !t.Set.OneSheet() {
		return map[string]any{"batches": heads, "even": even}
	}
	filter := t.Filter
	filter.Cells = true
	return Stream(func(w io.Writer) error {
		return report.WriteJSON(w, map[string]any{"set": t.Set.Name, "batches": heads, "even": even}, "entries", t.Set.Document(t.Set.Rows(ctx, t.Ledger, filter)), nil)
	})
}

// Draw implements Answer.
func (t *Set) Draw(ctx context.Context, page *report.Page) error {
	l, s, batches := t.Ledger, t.Set, t.Set.Batches
	more := make([][]account.Finding, len(batches))
	for i, m := range t.Members {
		for at, b := range batches {
			if m.System == b.System {
				more[at] = app.Findings(t.Members, i)
			}
		}
	}
	even, err := page.Batches(ctx, l, s, LeftTo(t.Members), more)
	if err != nil {
		return err
	}
	t.Even = even
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
			if err := t.handedOver(ctx, page, b); err != nil {
				return err
			}
			handed.Batches = append(handed.Batches, b)
		}
	}
	if len(handed.Batches) > 0 {
		next = append(next, "evenledger settle "+handed.Numbers())
	}
	for i, b := range batches {
		if toSign(page, b, s.ToDo(i), true) {
			next = []string{signNext(s.Numbers())}
		}
	}
	if t.toDo() > 0 && !slices.ContainsFunc(next, func(n string) bool { return strings.Contains(n, "countersign") }) {
		flags := ""
		if slices.ContainsFunc(batches, (*batch.Batch).MakesPasswords) {
			flags = credentialsWanted
		}
		next = append(next, "evenledger post "+s.Numbers()+flags, fmt.Sprintf("evenledger post %d%s --trial 1    # one row of one system first", batches[0].ID, flags))
	}
	if t.bad() > 0 {
		next = append(next, fmt.Sprintf("evenledger fixes %s -o %s", s.Numbers(), freeName("again", batches[0])))
	}
	if len(next) == 0 {
		next = []string{"evenledger show " + s.Numbers()}
	}
	page.Next(next...)
	return nil
}

// handedOver tells which files of a batch an application is to be given.
func (t *Set) handedOver(ctx context.Context, page *report.Page, b *batch.Batch) error {
	target, err := app.SystemOf(t.Workspace, b)
	if err != nil {
		return err
	}
	return handedOver(ctx, page, t.Workspace.Dir, t.Ledger, b, target)
}

// LeftTo tells what of a sheet only some systems of a set have.
func LeftTo(members []app.Member) (lines []string) {
	for _, m := range members {
		if len(m.Left) > 0 {
			lines = append(lines, fmt.Sprintf("%s has no %s: left to the others.", m.System, strings.Join(m.Left, ", ")))
		}
	}
	return lines
}
