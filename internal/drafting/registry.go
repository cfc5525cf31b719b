package drafting

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
)

// registry is what a draft gathers besides the rows themselves: memberships,
// people who are referred to, and accounts that no row lists.
type registry struct {
	ties   *membership.Decider
	named  map[string]map[string]bool                          // kind → names or ids that rows write
	has    map[string]map[string]map[string]account.Membership // account → kind → thing
	people map[string]*account.Account                         // that have memberships of interest

	rows       map[string]map[string]int // field that is referred to → value → row
	references []reference

	listed map[string]map[string]bool // match field → values in the sheet
	unsure int                        // a row that nobody can tell whose it is; 0: none
	gone   []account.Account          // in scope and in no row
	scope  int                        // accounts in scope
}

// reference is a row that refers to an account of another, or to a known one.
type reference struct {
	row    int    // that refers
	own    string // its account, if it has one
	field  string
	target int    // row referred to, or
	id     string // the account
}

// prepare reads what things the system has, and adds the fields that will be
// looked at.
func (d *Draft) prepare(ctx context.Context) error {
	d.named, d.has, d.people = map[string]map[string]bool{}, map[string]map[string]map[string]account.Membership{}, map[string]*account.Account{}
	d.rows, d.listed = map[string]map[string]int{}, map[string]map[string]bool{}
	b := d.brief
	look := func(field string) {
		if !slices.Contains(d.Batch.Fields, field) {
			d.Batch.Fields = append(d.Batch.Fields, field)
		}
	}
	if b.Intent() >= 0 || b.Gone != "" {
		look("active")
	}
	for _, change := range slices.Concat(b.Suspending.Set, b.Resuming, d.extra()) {
		look(change.Field)
	}
	if len(b.Memberships)+len(b.Suspending.Leave) == 0 {
		return nil
	}
	catalogue, err := Catalogue(ctx, d.System, b, d.tell)
	if err != nil {
		return err
	}
	catalogue.Elevated = d.Elevated
	for _, kind := range brief.Kinds() {
		if about, ok := catalogue.Kind(kind); ok && about.Field != "" {
			look(about.Field)
		}
	}
	d.ties = &membership.Decider{Brief: b, Catalogue: catalogue, Allow: d.Allow, Has: func(id, kind string) map[string]account.Membership { return d.has[id][kind] }}
	return nil
}

// Catalogue reads the things of a system that a brief speaks of.
func Catalogue(ctx context.Context, s system.System, b *brief.Brief, tell func(stage string, n int)) (*membership.Catalogue, error) {
	catalogue := &membership.Catalogue{}
	keeper, ok := s.(system.Keeper)
	if !ok {
		return catalogue, nil
	}
	kinds, err := keeper.ThingKinds(ctx)
	if err != nil {
		return nil, err
	}
	for _, about := range kinds {
		if len(b.Suspending.Leave[about.Name]) == 0 && !slices.ContainsFunc(b.Memberships, func(m brief.Memberships) bool { return m.Kind == about.Name }) {
			continue
		}
		catalogue.AddKind(about)
		// Only of licences it matters how many have one.
		for t, err := range keeper.Things(ctx, about.Name, about.Name == "licences") {
			if err != nil {
				return nil, err
			}
			catalogue.Add(about.Name, t)
			tell("read "+about.Name, len(catalogue.Things(about.Name)))
		}
	}
	return catalogue, nil
}

// note remembers what a row names.
func (d *Draft) note(w *mapping.Wanted) {
	for _, tie := range w.Ties {
		kind := d.brief.Memberships[tie.Of].Kind
		if d.named[kind] == nil {
			d.named[kind] = map[string]bool{}
		}
		if !d.named[kind][tie.Name] {
			d.named[kind][strings.Clone(tie.Name)] = true
		}
	}
	for _, f := range d.brief.Fields {
		if i := d.brief.Field(f.Refers); f.Refers != "" && i >= 0 && !w.Aside && !w.Refused() && w.Values[i].Filled() {
			set(d.rows, f.Refers, strings.Clone(d.brief.Fields[i].Key(w.Values[i].Text())), w.Row)
		}
	}
	if !d.looksForGone() {
		return
	}
	for n, name := range d.brief.Match {
		i := d.brief.Field(name)
		if i >= len(w.Values) {
			continue
		}
		if value := w.Values[i]; value.Filled() {
			set(d.listed, name, strings.Clone(d.brief.Fields[i].Key(value.Text())), true)
		} else if n == 0 && !w.Aside && d.unsure == 0 {
			d.unsure = w.Row
		}
	}
}

func set[V any](of map[string]map[string]V, key, inner string, value V) {
	if of[key] == nil {
		of[key] = map[string]V{}
	}
	of[key][inner] = value
}

// rowOf finds the row of the sheet whose field has a value, other than the one
// that is being decided.
func (d *Draft) rowOf(now *sheet.Row) func(account.Field, string) int {
	return func(f account.Field, value string) int {
		if row := d.rows[f.Name][f.Key(value)]; row != now.Number {
			return row
		}
		return 0
	}
}

// ask lists the fields to ask for.
func (d *Draft) ask() []string {
	fields := append([]string{"userName"}, d.Batch.Fields...)
	fields = append(fields, d.brief.Match...)
	if d.looksForGone() {
		for _, i := range d.brief.Scope.Only[0].Uses {
			fields = append(fields, d.brief.Scope.Fields[i].Name)
		}
	}
	for _, f := range d.brief.Fields {
		if f.Refers != "" {
			fields = append(fields, f.Refers)
		}
	}
	return slices.Compact(slices.Sorted(slices.Values(fields)))
}

// looksForGone reports whether accounts that no row lists are looked for. Where
// only a part of the sheet was taken, nobody can say what the rest lists.
func (d *Draft) looksForGone() bool { return d.brief.Gone == brief.Suspend && !d.Part }

// listAll looks at every account, and keeps those in scope that no row lists.
func (d *Draft) listAll(ctx context.Context, ask []string, take func(account.Account)) error {
	condition := d.brief.Scope
	scope := condition.NewScope(func(string) (string, bool) { return "", false })
	for a, err := range d.System.List(ctx, ask) {
		if err != nil {
			return err
		}
		take(a)
		for _, i := range condition.Only[0].Uses {
			scope.Set(i, a.Field(condition.Fields[i].Name).Text())
		}
		in, err := condition.Only[0].True(scope)
		if err != nil {
			return fmt.Errorf("“scope” could not be worked out for the account %s: %w", a.Label(), err)
		}
		if !in {
			continue
		}
		d.scope++
		known, keyed := false, false
		for _, name := range d.brief.Match {
			value := a.Field(name)
			keyed = keyed || value.Filled()
			known = known || value.Filled() && d.listed[name][batch.NamedField(name).Key(value.Text())]
		}
		// An account without any key, such as a service's, is in no list of people.
		if keyed && !known {
			d.gone = append(d.gone, a)
		}
	}
	return nil
}

// register reads the memberships of the accounts that were found, and the names of
// those that they refer to.
func (d *Draft) register(ctx context.Context, index *batch.Index) error {
	maps.Copy(d.people, index.Accounts())
	for i := range d.gone {
		d.people[d.gone[i].ID] = &d.gone[i]
	}
	if err := d.nameReferred(ctx, index); err != nil || d.ties == nil || len(d.people) == 0 {
		return err
	}
	keep := func(m account.Membership) {
		if d.people[m.Account] == nil {
			return
		}
		if d.has[m.Account] == nil {
			d.has[m.Account] = map[string]map[string]account.Membership{}
		}
		set(d.has[m.Account], m.Kind, m.Thing, m)
	}
	for _, kind := range brief.Kinds() {
		about, ok := d.ties.Catalogue.Kind(kind)
		if !ok {
			continue
		}
		if about.Field != "" {
			for id, a := range d.people {
				for _, item := range account.Items(a.Field(about.Field).Text()) {
					keep(account.Membership{Kind: kind, Thing: item, Account: id})
				}
			}
			continue
		}
		registrar, ok := d.System.(system.Registrar)
		things := d.concerned(kind)
		if !ok || len(things) == 0 {
			continue
		}
		looked := 0
		for m, err := range registrar.Members(ctx, kind, things) {
			if err != nil {
				return err
			}
			keep(m)
			looked++
			d.tell("looked at members of "+kind, looked)
		}
	}
	return nil
}

// concerned lists the things whose members matter: those that rows name, and those
// that may be left.
func (d *Draft) concerned(kind string) []string {
	patterns := slices.Clone(d.brief.Suspending.Leave[kind])
	for _, m := range d.brief.Memberships {
		if m.Kind == kind && m.Mode == brief.Exact {
			if patterns = append(patterns, m.Within...); len(m.Within) == 0 {
				patterns = append(patterns, "*")
			}
		}
	}
	wanted := map[*account.Thing]bool{}
	for name := range d.named[kind] {
		if t := d.ties.Catalogue.Meant(kind, name); t != nil {
			wanted[t] = true
		}
	}
	var ids []string
	for _, t := range d.ties.Catalogue.Things(kind) {
		if wanted[t] || account.Fits(t.Name, patterns) {
			ids = append(ids, t.ID)
		}
	}
	return ids
}

// nameReferred finds out the names of accounts that those found refer to.
func (d *Draft) nameReferred(ctx context.Context, index *batch.Index) error {
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
	_, err := system.Fetch(ctx, d.System, map[string][]string{system.ByID: ids}, []string{"userName"}, d.Together, func(a account.Account) {
		if _, wanted := slices.BinarySearch(ids, a.ID); wanted {
			index.Names[a.ID] = a.Label()
		}
	})
	return err
}

// decideGone makes entries of the accounts that no row lists.
func (d *Draft) decideGone(ctx context.Context, decider *batch.Decider) error {
	if len(d.gone) == 0 {
		return nil
	}
	slices.SortFunc(d.gone, func(x, y account.Account) int { return strings.Compare(x.Label(), y.Label()) })
	var entries []batch.Entry
	for i := range d.gone {
		e := batch.Entry{Row: batch.UnlistedRow(len(entries) + 1)}
		decider.Unlist(&e, &d.gone[i])
		if e.Outcome == account.Unchanged {
			continue
		}
		if d.unsure > 0 && e.Outcome == account.Waiting {
			d.ties.Return(e.Steps)
			e.Find(account.Error, "perhaps-listed", d.brief.Match[0], "", fmt.Sprintf("row %d has no usable %s, so it may be this account's", d.unsure, d.brief.Match[0]))
			e.Refuse()
		}
		entries = append(entries, e)
	}
	d.Batch.Unlisted = len(entries)
	return d.Ledger.Add(ctx, d.Batch.ID, entries)
}

// refers remembers whom an entry refers to.
func (d *Draft) refers(e *batch.Entry) {
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
func (d *Draft) settleReferences(ctx context.Context, decider *batch.Decider) error {
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
		none, err := d.Ledger.WithoutAccount(ctx, d.Batch.ID, targets)
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
				e.Find(account.Error, "unknown-person", r.field, "", fmt.Sprintf("the %s is in row %d, from which no account comes", r.field, r.target))
				e.Refuse()
			}); err != nil {
				return err
			}
		}
	}
	return d.noteCircles(ctx, refused)
}

// noteCircles notes rows whose references lead back to themselves.
func (d *Draft) noteCircles(ctx context.Context, refused map[int]bool) error {
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
					e.Find(account.Note, "reference-circle", field, "", fmt.Sprintf("by their %s the rows %s stand above each other in a circle", field, join(circle)))
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
func (d *Draft) amend(ctx context.Context, row int, change func(*batch.Entry)) error {
	for e, err := range d.Ledger.Entries(ctx, d.Batch.ID, entryAt(row)) {
		if err != nil {
			return err
		}
		change(&e)
		return d.Ledger.Decide(ctx, d.Batch.ID, []batch.Entry{e})
	}
	return nil
}

func accounts(n int) string {
	if n == 1 {
		return "1 account"
	}
	return fmt.Sprintf("%d accounts", n)
}

// hold holds the batch back if it would do more than the brief allows.
func (d *Draft) hold(ctx context.Context) error {
	if d.ties != nil {
		d.Batch.Seats = d.ties.Seats()
	}
	if len(d.brief.Limits) == 0 {
		return nil
	}
	_, waiting, err := d.Ledger.Counts(ctx, d.Batch.ID)
	if err != nil {
		return err
	}
	total, of := d.scope, "accounts in scope"
	if !d.looksForGone() {
		of = "accounts of the system"
		if sizer, ok := d.System.(system.Sizer); ok {
			if total, err = sizer.Count(ctx); err != nil {
				return err
			}
		}
	}
	for _, intent := range account.Intents() {
		limit, limited := d.brief.Limits[intent]
		if n := waiting[intent]; limited && n > limit.Allows(total) {
			allowed := limit.Text
			if limit.Share > 0 {
				allowed = fmt.Sprintf("%s of the %d %s, which is %d", limit.Text, total, of, limit.Allows(total))
			}
			d.Batch.Held = append(d.Batch.Held, fmt.Sprintf("it would %s %s, and the brief allows %s", intent, accounts(n), allowed))
		}
	}
	if d.looksForGone() && d.Batch.Rows == 0 && len(d.gone) > 0 {
		d.Batch.Held = append(d.Batch.Held, "the sheet has no rows, so that everyone within “scope” would be gone")
	}
	return nil
}
