package drafting

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/system"
)

// reference is a row that refers to an account of another, or to a known one.
type reference struct {
	row    int    // that refers
	own    string // its account, if it has one
	field  string
	target int    // row referred to, or
	id     string // the account
}

// rowOf finds the row of the sheet whose field has a value, other than its own.
func (d *making) rowOf(own int, f account.Field, value string) int {
	if row := d.rows[f.Name][f.Key(value)]; row != own {
		return row
	}
	return 0
}

// nameReferred finds out the names of accounts that those found refer to.
func (d *making) nameReferred(ctx context.Context, index *batch.Index) error {
	index.Names = map[string]string{}
	var ids []string
	for _, f := range d.brief.Fields {
		if f.Refers == "" {
			continue
		}
		for _, a := range index.Accounts() {
			if id := a.Field(f.Name).Text(); id != "" && index.Accounts()[id] == nil {
				ids = append(ids, id)
			}
		}
	}
	if len(ids) == 0 {
		return nil
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	_, err := system.Fetch(ctx, d.System, map[string][]string{system.ByID: ids}, []string{d.about.Naming}, d.Together, func(a account.Account) {
		if _, wanted := slices.BinarySearch(ids, a.ID); wanted {
			index.Names[a.ID] = a.Label()
		}
	})
	return err
}

// refers remembers whom an entry refers to.
func (d *making) refers(e *batch.Entry) {
	if e.Outcome == account.Refused || e.Outcome == account.Aside {
		return
	}
	for _, s := range e.Steps {
		if s.Do == membership.Refer {
			d.references = append(d.references, reference{e.Row, e.Account, s.Kind, s.Row, ""})
		}
	}
	for _, f := range d.brief.Fields {
		if f.Refers == "" || slices.ContainsFunc(e.Steps, func(s membership.Step) bool { return s.Do == membership.Refer && s.Kind == f.Name }) {
			continue
		}
		id := e.Known[f.Name].Text()
		for _, c := range e.Changes {
			if c.Field == f.Name {
				id = c.After.Text()
			}
		}
		if id != "" {
			d.references = append(d.references, reference{e.Row, e.Account, f.Name, 0, id})
		}
	}
}

// settleReferences refuses rows that refer to an account that will not be made,
// and notes people who stand above each other in a circle.
func (d *making) settleReferences(ctx context.Context) error {
	if len(d.references) == 0 {
		return nil
	}
	refused := map[int]bool{}
	for again := true; again; {
		again = false
		var targets []int
		for _, r := range d.references {
			if r.target > 0 && !refused[r.row] {
				targets = append(targets, r.target)
			}
		}
		none, err := d.Ledger.Drafting(d.Batch.ID).WithoutAccount(ctx, targets)
		if err != nil {
			return err
		}
		for _, r := range d.references {
			if r.target == 0 || refused[r.row] || !none[r.target] {
				continue
			}
			refused[r.row], again = true, true
			if err := d.amend(ctx, r.row, func(e *batch.Entry) {
				d.ties.Return(e.Steps)
				e.Find(account.Error, account.UnknownPerson, r.field, "", fmt.Sprintf("the %s is in row %d, from which no account comes", r.field, r.target))
				e.Refuse()
			}); err != nil {
				return err
			}
		}
	}
	return d.noteCircles(ctx, refused)
}

// noteCircles notes rows whose references lead back to themselves.
func (d *making) noteCircles(ctx context.Context, refused map[int]bool) error {
	byAccount := map[string]int{}
	for _, r := range d.references {
		if r.own != "" {
			byAccount[r.own] = r.row
		}
	}
	next := map[string]map[int]int{}
	for _, r := range d.references {
		target := r.target
		if target == 0 {
			target = byAccount[r.id]
		}
		if target > 0 && !refused[r.row] {
			if next[r.field] == nil {
				next[r.field] = map[int]int{}
			}
			next[r.field][r.row] = target
		}
	}
	for field, to := range next {
		state := map[int]int{} // 1: on the way now, 2: done
		for start := range to {
			var way []int
			at := start
			for to[at] > 0 && state[at] == 0 {
				state[at] = 1
				way = append(way, at)
				at = to[at]
			}
			if state[at] == 1 && to[at] != at {
				circle := way[slices.Index(way, at):]
				slices.Sort(circle)
				if err := d.amend(ctx, circle[0], func(e *batch.Entry) {
					e.Find(account.Note, account.ReferenceCircle, field, "", fmt.Sprintf("by their %s the rows %s stand above each other in a circle", field, join(circle)))
				}); err != nil {
					return err
				}
			}
			for _, row := range way {
				state[row] = 2
			}
		}
	}
	return nil
}

func join(rows []int) string {
	words := make([]string, len(rows))
	for i, row := range rows {
		words[i] = fmt.Sprint(row)
	}
	return strings.Join(words, ", ")
}

// amend changes an entry that was decided before.
func (d *making) amend(ctx context.Context, row int, change func(*batch.Entry)) error {
	for e, err := range d.Ledger.Entries(ctx, d.Batch.ID, entryAt(row)) {
		if err != nil {
			return err
		}
		change(&e)
		return d.Ledger.Drafting(d.Batch.ID).Decide(ctx, []batch.Entry{e})
	}
	return nil
}
