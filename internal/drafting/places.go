package drafting

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/words"
)

// places are those of a directory that rows name and that do not exist: they are made
// first, where the brief says so.
type places struct {
	kind  string
	field account.Field
	there map[string]bool // by key
	names []string
	makes []membership.Make
}

// lookForPlaces reads which places there are, if the brief has missing ones made.
func (d *making) lookForPlaces(ctx context.Context) error {
	for _, f := range d.brief.Fields {
		if !f.MakeMissing {
			continue
		}
		at := slices.IndexFunc(d.about.Kinds, func(k account.ThingKind) bool { return k.Place == f.Name })
		if at < 0 || !d.about.Can.Makes {
			return &account.Mistake{Message: fmt.Sprintf("the brief has what “%s” names made where it is missing, and the system makes none", f.Name), Remedy: "Take “make_missing” out of the brief."}
		}
		d.places = &places{kind: d.about.Kinds[at].Name, field: f.Field, there: map[string]bool{}}
		for t, err := range d.System.Things(ctx, d.places.kind, false) {
			if err != nil {
				return err
			}
			d.places.there[f.Key(t.Name)] = true
			d.places.names = append(d.places.names, t.Name)
		}
		return nil
	}
	return nil
}

// count counts the places that an entry wants made, with those above them.
func (p *places) count(e *batch.Entry) {
	if p == nil || !e.Outcome.Waits() {
		return
	}
	for _, c := range e.Changes {
		if c.Field != p.field.Name || !c.After.Filled() || p.there[p.field.Key(c.After.Text())] {
			continue
		}
		for _, path := range downTo(c.After.Text()) {
			if !p.there[p.field.Key(path)] {
				p.want(path)
			}
		}
	}
}

func (p *places) want(path string) {
	for i := range p.makes {
		if p.field.Key(p.makes[i].Name) == p.field.Key(path) {
			p.makes[i].Rows++
			return
		}
	}
	p.makes = append(p.makes, membership.Make{Kind: p.kind, Name: path, Near: words.Nearest(path, p.names), Rows: 1})
}

// downTo lists the places on the way down a path, itself the last: a slash behind a
// backslash is a part of a name.
func downTo(path string) (all []string) {
	path = strings.Trim(path, "/")
	for i := 0; i < len(path); i++ {
		switch path[i] {
		case '\\':
			i++
		case '/':
			all = append(all, path[:i])
		}
	}
	return append(all, path)
}
