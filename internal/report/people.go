package report

import (
	"cmp"
	"slices"
	"strings"

	"evenledger/internal/account"
)

// A Table is the answer to a question about a system: lines of cells beneath
// headings. Numbers are the last cells of their lines.
type Table struct {
	Headings []string
	Numbers  int // how many of the last columns are numbers
	Lines    [][]string
}

// Managers lists everyone to whom others report, with how many do, most first. A
// manager who is no account any more is named by the identifier.
func Managers(accounts []account.Account) Table {
	people, byID := map[string]int{}, map[string]*account.Account{}
	for i := range accounts {
		byID[accounts[i].ID] = &accounts[i]
		if manager := accounts[i].Field("manager").Text(); manager != "" {
			people[manager]++
		}
	}
	t := Table{Headings: []string{"Manager", "Name", "Department", "People"}, Numbers: 1}
	for id, n := range people {
		line := []string{id, "(no such account)", "", Number(n)}
		if a := byID[id]; a != nil {
			line = []string{a.Label(), nameOf(a), a.Field("department").Text(), Number(n)}
		}
		t.Lines = append(t.Lines, line)
	}
	slices.SortFunc(t.Lines, func(x, y []string) int {
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

// Listed lists the accounts that pick picks, by user name.
func Listed(accounts []account.Account, pick func(*account.Account) bool) Table {
	t := Table{Headings: []string{"User name", "Name", "Staff no", "Department", "Title"}}
	for i := range accounts {
		if a := &accounts[i]; pick(a) {
			t.Lines = append(t.Lines, []string{a.Label(), nameOf(a), a.Field("employeeNumber").Text(), a.Field("department").Text(), a.Field("title").Text()})
		}
	}
	slices.SortFunc(t.Lines, func(x, y []string) int { return strings.Compare(x[0], y[0]) })
	return t
}

// Duplicates lists accounts that share an address or a staff number, a line each,
// those that share one together.
func Duplicates(accounts []account.Account) Table {
	t := Table{Headings: []string{"Shared", "Value", "User name", "Name"}}
	for _, field := range []string{"email", "employeeNumber"} {
		f, _ := account.FieldNamed(field)
		by := map[string][]*account.Account{}
		for i := range accounts {
			if v := accounts[i].Field(field); v.Filled() {
				by[f.Key(v.Text())] = append(by[f.Key(v.Text())], &accounts[i])
			}
		}
		var lines [][]string
		for _, shared := range by {
			if len(shared) < 2 {
				continue
			}
			for _, a := range shared {
				lines = append(lines, []string{f.Label, a.Field(field).Text(), a.Label(), nameOf(a)})
			}
		}
		slices.SortFunc(lines, func(x, y []string) int {
			return cmp.Or(strings.Compare(f.Key(x[1]), f.Key(y[1])), strings.Compare(x[2], y[2]))
		})
		t.Lines = append(t.Lines, lines...)
	}
	return t
}

// Things lists things by how many accounts are tied to them, most first; licences
// with their seats.
func Things(things []account.Thing, seats bool) Table {
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
		return Number(n)
	}
	for _, thing := range things {
		line := []string{thing.Name, thing.ID, number(thing.Members)}
		if seats && thing.Seats >= 0 && thing.Members >= 0 {
			line = append(line, Number(thing.Seats), Number(thing.Seats-thing.Members))
		} else if seats {
			line = append(line, number(thing.Seats), "?")
		}
		t.Lines = append(t.Lines, line)
	}
	return t
}

// Table writes a table.
func (p *Page) Table(t Table) {
	widths := make([]int, len(t.Headings))
	most := max(16, (p.Columns()-8)/len(t.Headings))
	for _, line := range append([][]string{t.Headings}, t.Lines...) {
		for i, cell := range line {
			widths[i] = max(widths[i], min(most, len([]rune(Harmless(cell)))))
		}
	}
	write := func(line []string, style func(string) Styled) {
		text := ""
		for i, cell := range line {
			cell = Clip(cell, widths[i])
			if i >= len(line)-t.Numbers {
				text += strings.Repeat(" ", max(0, widths[i]-len([]rune(cell)))) + cell + "  "
			} else {
				text += Pad(cell, widths[i]) + "  "
			}
		}
		p.Line("  %s", style(strings.TrimRight(text, " ")))
	}
	write(t.Headings, p.Bold)
	for _, line := range t.Lines {
		write(line, p.Plain)
	}
}
