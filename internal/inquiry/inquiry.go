// Package inquiry answers questions about the people and things of a system: who has no
// manager, whom two accounts are of, how many seats of a licence are left.
//
// It reads the system and changes nothing. Memory holds the accounts with the fields that
// the question is about.
package inquiry

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

// A Question is something to be known about a system.
type Question struct {
	Name string
	None string // said when the answer is nobody or nothing

	asks  []string // fields of accounts, besides those that name them; none: it is about things
	about func(*system.Description, []account.Account) Table
}

// OfTrials is the question that the ledger answers with the system: see Trials.
const OfTrials = "trials"

// Questions lists them all.
func Questions() []Question {
	return []Question{
		{"managers", "Nobody has a manager.", []string{"manager"}, func(_ *system.Description, all []account.Account) Table { return managers(all) }},
		{"without-manager", "Everyone has a manager.", []string{"employeeNumber", "title", "manager"}, func(_ *system.Description, all []account.Account) Table {
			return listed(all, func(a *account.Account) bool { return !a.Field("manager").Filled() })
		}},
		{"suspended", "Nobody is suspended.", []string{"employeeNumber", "title"}, func(about *system.Description, all []account.Account) Table {
			return listed(all, func(a *account.Account) bool { return about.IsSuspended(a) })
		}},
		{"duplicates", "No two accounts share an address or a staff number.", []string{"employeeNumber", "email"}, func(_ *system.Description, all []account.Account) Table { return duplicates(all) }},
		{Name: "groups", None: "There are no groups."},
		{Name: "courses", None: "There are no courses."},
		{Name: "licences", None: "There are no licences."},
		{Name: "roles", None: "There are no roles."},
		{Name: "units", None: "There are no units."},
		{Name: OfTrials, None: "No batch that was marked as a trial has made an account there."},
	}
}

// Names lists the names of the questions.
func Names() (names []string) {
	for _, q := range Questions() {
		names = append(names, q.Name)
	}
	return names
}

// Named returns the question of that name, or an *account.Mistake.
func Named(name string) (Question, error) {
	for _, q := range Questions() {
		if q.Name == name {
			return q, nil
		}
	}
	remedy := "It answers: " + strings.Join(Names(), ", ") + "."
	if near := words.Nearest(name, Names()); near != "" {
		remedy = fmt.Sprintf("Did you mean “%s”?", near)
	}
	return Question{}, &account.Mistake{Message: fmt.Sprintf("“%s” is no question about a system", name), Remedy: remedy}
}

// Ask asks the system; told is told how far it is.
func (q Question) Ask(ctx context.Context, s system.System, told func(stage string, n int)) (Table, error) {
	about, err := s.Describe(ctx)
	if err != nil {
		return Table{}, err
	}
	if q.about == nil {
		return q.askThings(ctx, s, about, told)
	}
	fields := append([]string{about.Naming, "displayName", "givenName", "familyName", "department", about.Suspension.Field}, q.asks...)
	var all []account.Account
	for one, err := range s.List(ctx, slices.Compact(slices.Sorted(slices.Values(fields)))) {
		if err != nil {
			return Table{}, err
		}
		all = append(all, one)
		told("looked at accounts", len(all))
	}
	return q.about(about, all), nil
}

func (q Question) askThings(ctx context.Context, s system.System, about *system.Description, told func(stage string, n int)) (Table, error) {
	if _, has := about.Kind(q.Name); !has {
		return Table{}, &account.Mistake{Message: "the system has no " + q.Name}
	}
	var all []account.Thing
	for t, err := range s.Things(ctx, q.Name, true) {
		if err != nil {
			return Table{}, err
		}
		all = append(all, t)
		told("looked at "+q.Name, len(all))
	}
	return things(all, q.Name == "licences"), nil
}

// A Table is the answer to a question about a system: lines of cells beneath
// headings. Numbers are the last cells of their lines.
type Table struct {
	Headings []string
	Numbers  int // how many of the last columns are numbers
	Lines    []Line
}

// A Line of a table is about one account or thing.
type Line struct {
	Cells   []string
	Account string // identifier of the account, empty where the line is about a thing
}

// AboutAccounts says whether the lines are about accounts.
func (t Table) AboutAccounts() bool {
	return slices.ContainsFunc(t.Lines, func(l Line) bool { return l.Account != "" })
}

// managers lists everyone to whom others report, with how many do, most first. A
// manager who is no account any more is named by the identifier.
func managers(accounts []account.Account) Table {
	people, byID := map[string]int{}, map[string]*account.Account{}
	for i := range accounts {
		byID[accounts[i].ID] = &accounts[i]
		if manager := accounts[i].Field("manager").Text(); manager != "" {
			people[manager]++
		}
	}
	t := Table{Headings: []string{"User name", "Name", "Department", "People"}, Numbers: 1} // a column “Manager” would make each of them their own, handed back in
	for id, n := range people {
		line := []string{id, "(no such account)", "", strconv.Itoa(n)}
		if a := byID[id]; a != nil {
			line = []string{a.Label(), nameOf(a), a.Field("department").Text(), strconv.Itoa(n)}
		}
		t.Lines = append(t.Lines, Line{line, id})
	}
	slices.SortFunc(t.Lines, func(one, other Line) int {
		x, y := one.Cells, other.Cells
		return cmp.Or(cmp.Compare(len(y[3]), len(x[3])), strings.Compare(y[3], x[3]), strings.Compare(x[0], y[0]))
	})
	return t
}

func nameOf(a *account.Account) string {
	if name := a.Field("displayName"); name.Filled() {
		return name.Text()
	}
	return strings.TrimSpace(a.Field("givenName").Text() + " " + a.Field("familyName").Text())
}

// listed lists the accounts that pick picks, by user name.
func listed(accounts []account.Account, pick func(*account.Account) bool) Table {
	t := Table{Headings: []string{"User name", "Name", "Staff no", "Department", "Title"}}
	for i := range accounts {
		if a := &accounts[i]; pick(a) {
			t.Lines = append(t.Lines, Line{[]string{a.Label(), nameOf(a), a.Field("employeeNumber").Text(), a.Field("department").Text(), a.Field("title").Text()}, a.ID})
		}
	}
	slices.SortFunc(t.Lines, func(x, y Line) int { return strings.Compare(x.Cells[0], y.Cells[0]) })
	return t
}

// duplicates lists accounts that share an address or a staff number, a line each,
// those that share one together.
func duplicates(accounts []account.Account) Table {
	t := Table{Headings: []string{"Shared", "Value", "User name", "Name"}}
	for _, field := range []string{"email", "employeeNumber"} {
		f, _ := account.FieldNamed(field)
		by := map[string][]*account.Account{}
		for i := range accounts {
			if v := accounts[i].Field(field); v.Filled() {
				by[f.Key(v.Text())] = append(by[f.Key(v.Text())], &accounts[i])
			}
		}
		var lines []Line
		for _, shared := range by {
			if len(shared) < 2 {
				continue
			}
			for _, a := range shared {
				lines = append(lines, Line{[]string{f.Label, a.Field(field).Text(), a.Label(), nameOf(a)}, a.ID})
			}
		}
		slices.SortFunc(lines, func(one, other Line) int {
			x, y := one.Cells, other.Cells
			return cmp.Or(strings.Compare(f.Key(x[1]), f.Key(y[1])), strings.Compare(x[2], y[2]))
		})
		t.Lines = append(t.Lines, lines...)
	}
	return t
}

// things lists things by how many accounts are tied to them, most first; licences
// with their seats.
func things(things []account.Thing, seats bool) Table {
	slices.SortFunc(things, func(x, y account.Thing) int {
		return cmp.Or(cmp.Compare(y.Members, x.Members), strings.Compare(x.Name, y.Name))
	})
	t := Table{Headings: []string{"Name", "Id", "Members"}, Numbers: 1}
	if seats {
		t.Headings, t.Numbers = []string{"Name", "Id", "Used", "Seats", "Left"}, 3
	}
	number := func(n int) string {
		if n < 0 {
			return "?"
		}
		return strconv.Itoa(n)
	}
	for _, thing := range things {
		line := []string{thing.Name, thing.ID, number(thing.Members)}
		if seats && thing.Seats >= 0 && thing.Members >= 0 {
			line = append(line, strconv.Itoa(thing.Seats), strconv.Itoa(thing.Seats-thing.Members))
		} else if seats {
			line = append(line, number(thing.Seats), "?")
		}
		t.Lines = append(t.Lines, Line{Cells: line})
	}
	return t
}
