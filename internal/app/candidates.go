package app

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/candidates"
	"evenledger/internal/drafting"
	"evenledger/internal/mapping"
)

// nameFields are the fields that hold what a person is called.
func nameFields() []string {
	return []string{"givenName", "middleName", "familyName", "displayName", "formattedName", "nickName", "gecos"}
}

// A Pairing is what looking for candidates came to.
type Pairing struct {
	Rows       int `json:"rows"`
	Known      int `json:"known"`      // a key finds their account
	Aside      int `json:"aside"`      // left out
	Candidates int `json:"candidates"` // have some
	Without    int `json:"without"`    // have none
	Accounts   int `json:"accounts"`   // looked at

	First []Candidates `json:"first"` // a few, to show
}

// Candidates are a row's, with what names it.
type Candidates struct {
	Row   int                    `json:"row"`
	Key   string                 `json:"key"`
	Best  []candidates.Candidate `json:"best"`
	Label string                 `json:"label"` // of the first
}

// Candidates writes a sheet of the rows of a job that no key finds an account for, each with the
// accounts that it may mean.
func (a *App) Candidates(ctx context.Context, j *Job, out string, tell func(stage string, n int)) (*Pairing, error) {
	if len(j.Brief.Like) == 0 {
		return nil, mistake("the brief does not say by what those are compared that no key finds", "End its “match” in {like: [givenName, familyName, email]}.")
	}
	p := &Pairing{}
	found, index, labels, err := a.everyone(ctx, j, p, tell)
	if err != nil {
		return nil, err
	}
	_, err = writeWhole(out, func(file *os.File) (int, error) {
		w, err := candidates.NewWriter(sheetWriter(file, out), j.Target.Name, j.Sheet.Info().Headings)
		if err != nil {
			return 0, err
		}
		for checked, err := range j.Checker().Rows(ctx, j.Rows()) {
			if err != nil {
				return 0, err
			}
			tell("compared", p.Rows)
			p.Rows++
			row := checked.Wanted
			switch {
			case row.Aside:
				p.Aside++
				continue
			case found.knows(j, row):
				p.Known++
				continue
			}
			best := index.Best(personOf(j, row), candidates.Offered)
			if p.Without++; len(best) > 0 {
				p.Without--
				p.Candidates++
			}
			named := make([]candidates.Named, len(best))
			for i, c := range best {
				named[i] = candidates.Named{Candidate: c, Label: labels[c.ID]}
			}
			if len(p.First) < 12 {
				one := Candidates{Row: row.Row, Key: strings.Join(drafting.Alike(j.Brief, row), " "), Best: best}
				if len(named) > 0 {
					one.Label = named[0].Label
				}
				p.First = append(p.First, one)
			}
			if err := w.Write(row.Row, j.Mapper.Conceal(checked.Row.Cells), drafting.Alike(j.Brief, row), named); err != nil {
				return 0, err
			}
		}
		return p.Candidates + p.Without, w.Close()
	})
	return p, err
}

// keyed are the values of keys that accounts have.
type keyed map[string]map[string]bool

// knows reports whether a key of a row finds an account.
func (k keyed) knows(j *Job, w *mapping.Wanted) bool {
	return slices.ContainsFunc(j.Brief.Match, func(name string) bool {
		i := j.Brief.Field(name)
		return w.Values[i].Filled() && !w.IsFallback(i) && k[name][j.Brief.Fields[i].Key(w.Values[i].Text())]
	})
}

// everyone reads all accounts of the system, by their keys and to be compared.
func (a *App) everyone(ctx context.Context, j *Job, p *Pairing, tell func(stage string, n int)) (keyed, *candidates.Index, map[string]string, error) {
	found, index, labels := keyed{}, candidates.NewIndex(), map[string]string{}
	names := nameFields()
	fields := []string{j.Schema.Naming, "email"}
	for _, name := range slices.Concat(names, j.Brief.Like, j.Brief.Match) {
		if _, has := j.Schema.Attribute(name); has && !slices.Contains(fields, name) {
			fields = append(fields, name)
		}
	}
	for acc, err := range j.System.List(ctx, fields) {
		if err != nil {
			return nil, nil, nil, err
		}
		for _, name := range j.Brief.Match {
			if v := acc.Field(name); v.Filled() {
				if found[name] == nil {
					found[name] = map[string]bool{}
				}
				found[name][j.Brief.Fields[j.Brief.Field(name)].Key(v.Text())] = true
			}
		}
		who := candidates.Person{Email: acc.Field("email").Text(), Login: acc.Field(j.Schema.Naming).Text(), Other: map[string]string{}}
		var said []string
		for _, name := range names {
			text := acc.Field(name).Text()
			if name == "gecos" { // a room and telephone numbers may stand behind it
				text, _, _ = strings.Cut(text, ",")
			}
			if text != "" {
				who.Names = append(who.Names, text)
				said = append(said, text)
			}
		}
		for _, name := range j.Brief.Like {
			if f, v := j.Schema.Field(name), acc.Field(name); v.Filled() && !slices.Contains(names, name) && name != "email" && name != j.Schema.Naming {
				who.Other[f.Label] = v.Text()
			}
		}
		index.Add(acc.ID, who)
		labels[acc.ID] = acc.Label()
		for _, whole := range []string{"formattedName", "displayName"} {
			if text := acc.Field(whole).Text(); text != "" {
				said = []string{text}
			}
		}
		if text := strings.Join(said, " "); text != "" && text != acc.Label() {
			labels[acc.ID] += " (" + text + ")"
		}
		p.Accounts++
		tell("looked at accounts", p.Accounts)
	}
	return found, index, labels, nil
}

// personOf is what a row says of whom it means.
func personOf(j *Job, w *mapping.Wanted) candidates.Person {
	who := candidates.Person{Other: map[string]string{}}
	like := slices.Clone(j.Brief.Like) // names in their own order: the given name first
	slices.SortStableFunc(like, func(a, b string) int { return slices.Index(nameFields(), a) - slices.Index(nameFields(), b) })
	for _, name := range like {
		text := w.Says(j.Brief.Field(name)).Text()
		switch {
		case text == "":
		case name == "email":
			who.Email = text
		case name == "userName":
			who.Login = text
		case slices.Contains(nameFields(), name):
			who.Names = append(who.Names, text)
		default:
			field, _ := account.FieldNamed(name)
			if j.Schema != nil {
				field = j.Schema.Field(name)
			}
			who.Other[field.Label] = text
		}
	}
	return who
}

// pairs reads whom a person said that rows mean, of the sheets that are named the one for the
// job's system; nil: none is.
func (j *Job) pairs() (list *candidates.List, err error) {
	for _, path := range j.Request.Pairs {
		one, err := candidates.Read(path)
		if err != nil {
			return nil, err
		}
		if one.System != j.Target.Name {
			if j.Request.among == nil {
				return nil, mistake(fmt.Sprintf("%s was written for the system %s, and not for %s", path, one.System, j.Target.Name), "Write one for this system: evenledger candidates.")
			}
			continue
		}
		if list != nil {
			return nil, mistake(fmt.Sprintf("two sheets of candidates are named for %s", j.Target.Name), "Name one of them.")
		}
		list = one
	}
	if len(j.Request.Pairs) > 0 && len(j.Brief.Like) == 0 {
		return nil, mistake("--pairs says whom rows mean, and the brief does not say by what those are compared that no key finds", "End its “match” in {like: [givenName, familyName, email]}.")
	}
	return list, nil
}
