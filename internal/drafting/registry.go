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
	"evenledger/internal/system"
)

// registry is what a draft gathers besides the rows themselves: memberships,
// people who are referred to, and accounts that no row lists.
type registry struct {
	ties   *membership.Decider
	named  map[string]map[string]bool // kind → names or ids that rows write
	has    membership.Register
	people map[string]*account.Account // that have memberships of interest

	rows       map[string]map[string]int // field that is referred to → value → row
	references []reference

	listed map[string]map[string]bool // match field → values in the sheet
	unsure string                     // why a row may be anybody's; or empty
	gone   []account.Account          // in scope and in no row
	scope  int                        // accounts in scope
}

// prepare reads what things the system has, and adds the fields that will be
// looked at.
func (d *making) prepare(ctx context.Context) error {
	d.named, d.people = map[string]map[string]bool{}, map[string]*account.Account{}
	d.rows, d.listed = map[string]map[string]int{}, map[string]map[string]bool{}
	b := d.brief
	look := func(field string) {
		if field != "" && !slices.Contains(d.Batch.Fields, field) {
			d.Batch.Fields = append(d.Batch.Fields, field)
		}
	}
	if b.Intent() >= 0 || b.Gone != "" {
		look(d.about.Suspension.Field)
	}
	for _, change := range slices.Concat(b.Suspending.Set, b.Resuming, d.extra()) {
		look(change.Field)
	}
	if !b.NamesThings() {
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
	d.ties = &membership.Decider{Brief: b, Catalogue: catalogue, Allow: d.Allow, Has: d.has.Of}
	return nil
}

// Catalogue reads the things of a system that a brief speaks of.
func Catalogue(ctx context.Context, s system.System, b *brief.Brief, tell func(stage string, n int)) (*membership.Catalogue, error) {
	catalogue := &membership.Catalogue{}
	described, err := s.Describe(ctx)
	if err != nil {
		return nil, err
	}
	for _, about := range described.Kinds {
		if !b.Names(about.Name) {
			continue
		}
		if err := mayTie(described, about, b); err != nil {
			return nil, err
		}
		catalogue.AddKind(about)
		// Of others it does not matter how many have one.
		for t, err := range s.Things(ctx, about.Name, about.Name == "licences" || about.Seated) {
			if err != nil {
				return nil, err
			}
			catalogue.Add(about.Name, t)
			tell("read "+about.Name, len(catalogue.Things(about.Name)))
		}
	}
	return catalogue, nil
}

// mayTie returns why the memberships of a kind that a brief speaks of cannot be had, or nil.
func mayTie(described *system.Description, about account.ThingKind, b *brief.Brief) error {
	switch {
	case !b.Ties(about.Name):
		return nil
	case about.Blind != "":
		return system.Blind(about.Name, about.Blind)
	case described.Can.Ties == 0 && about.Field == "":
		return &account.Mistake{Message: fmt.Sprintf("the brief has accounts join or leave %s, and the system lets nobody", about.Name), Remedy: "Take them out of the brief."}
	case !described.Can.Makes && slices.ContainsFunc(b.Memberships, func(m brief.Memberships) bool { return m.Kind == about.Name && m.MakeMissing }):
		return &account.Mistake{Message: fmt.Sprintf("the brief has %s made that do not exist, and the system makes none", about.Name), Remedy: "Take “make_missing” out of the brief."}
	}
	return nil
}

// note remembers what a row names.
func (d *making) note(w *mapping.Wanted) {
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
	if d.unsure == "" && slices.ContainsFunc(w.Findings, func(f account.Finding) bool { return f.Code == account.AnotherList }) {
		d.unsure = fmt.Sprintf("another list seems to begin in row %d", w.Row)
	}
	for n, name := range d.brief.Match {
		i := d.brief.Field(name)
		if i >= len(w.Values) {
			continue
		}
		if value := w.Values[i]; value.Filled() {
			set(d.listed, name, strings.Clone(d.brief.Fields[i].Key(value.Text())), true)
			if i == d.brief.Numbered() && w.Base != "" { // what it was before a number was put behind
				set(d.listed, name, strings.Clone(d.brief.Fields[i].Key(w.Base)), true)
			}
		} else if n == 0 && !w.Aside && d.unsure == "" {
			d.unsure = fmt.Sprintf("row %d has no usable %s", w.Row, name)
		}
	}
}

func set[V any](of map[string]map[string]V, key, inner string, value V) {
	if of[key] == nil {
		of[key] = map[string]V{}
	}
	of[key][inner] = value
}

// ask lists the fields to ask for.
func (d *making) ask() []string {
	fields := append([]string{d.about.Naming, "displayName"}, d.Batch.Fields...)
	fields = append(slices.Concat(fields, d.about.Can.Names), d.brief.Match...)
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
	if len(d.brief.Notices) > 0 {
		fields = append(fields, "email")
	}
	return slices.Compact(slices.Sorted(slices.Values(fields)))
}

// register reads the memberships of the accounts that were found, and the names of
// those that they refer to.
func (d *making) register(ctx context.Context, index *batch.Index) error {
	maps.Copy(d.people, index.Accounts())
	for i := range d.gone {
		d.people[d.gone[i].ID] = &d.gone[i]
	}
	if err := d.nameReferred(ctx, index); err != nil || d.ties == nil || len(d.people) == 0 {
		return err
	}
	concerned := func(id string) bool { return d.people[id] != nil }
	for _, kind := range brief.Kinds() {
		about, ok := d.ties.Catalogue.Kind(kind)
		if !ok {
			continue
		}
		if about.Field != "" {
			for id, a := range d.people {
				for _, item := range account.Items(a.Field(about.Field).Text()) {
					d.has.Add(account.Membership{Kind: kind, Thing: item, Account: id})
				}
			}
			continue
		}
		things := d.concerned(kind)
		if len(things) == 0 {
			continue
		}
		if err := d.has.Read(ctx, d.System, kind, things, concerned, func(looked int) { d.tell("looked at members of "+kind, looked) }); err != nil {
			return err
		}
	}
	return nil
}

// concerned lists the things whose members matter: those that rows name, and those
// that may be left.
func (d *making) concerned(kind string) []string {
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
