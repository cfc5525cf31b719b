package mapping

import (
	"fmt"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/words"
)

// A Tie is a membership that a row names.
type Tie struct {
	Of         int    // index in the brief's Memberships
	Name       string // of the thing, or its id, as it is written
	Role       string
	Section    string
	Column     string // heading; empty: it comes of a rule or a fallback
	ByFallback bool   // it comes of the fallback
}

// tieColumns are where the memberships of one entry of the brief stand.
type tieColumns struct {
	names   []int // indexes of columns
	roles   []int // beside each of names: index of the column with its role, or -1
	section []int
}

// findTies finds the columns that name memberships.
func (m *Mapper) findTies(twice map[string][]string) {
	single := func(heading, kind string, level account.Level) int {
		if heading == "" {
			return -1
		}
		at, ok := m.use(heading, twice)
		if !ok {
			m.missing(level, heading, kind)
			return -1
		}
		m.columns[at].Fields = append(m.columns[at].Fields, kind)
		return at
	}
	for _, of := range m.brief.Memberships {
		var t tieColumns
		if !of.Column.Family() {
			if at := single(of.Column.From, of.Kind, account.Warning); at >= 0 {
				t.names, t.roles, t.section = []int{at}, []int{single(of.Role, of.Kind, account.Error)}, []int{single(of.Section, of.Kind, account.Error)}
			}
			m.ties = append(m.ties, t)
			continue
		}
		columns, stars := m.familyOf(of.Column.From, of.Kind)
		if len(columns) == 0 {
			m.missing(account.Warning, of.Column.From, of.Kind)
		}
		beside := func(from string) []int {
			at := make([]int, len(columns))
			var others []int
			var othersStars map[int]string
			if from != "" {
				others, othersStars = m.familyOf(from, of.Kind)
			}
			for i, column := range columns {
				at[i] = -1
				for _, other := range others {
					if othersStars[other] == stars[column] {
						at[i] = other
					}
				}
			}
			return at
		}
		t.names, t.roles, t.section = columns, beside(of.Role), beside(of.Section)
		m.ties = append(m.ties, t)
	}
	m.password = single(m.brief.Password.From, "password", account.Error)
}

// memberships reads what the row says of memberships.
func (w *Worker) memberships() {
	if len(w.brief.Memberships) == 0 {
		return
	}
	w.wants.Spoken = make([]bool, len(w.brief.Memberships))
	for n := range w.brief.Memberships {
		w.named(n)
	}
	for _, rule := range w.brief.Rules {
		if w.anyFaulty(rule.When) {
			continue // it has been told, and the row is refused
		}
		holds, err := rule.When.True(w.scope)
		if err != nil {
			w.find(account.Error, account.ExpressionFailed, "", "", fmt.Sprintf("the rule “%s” could not be worked out: %s", rule.When.Source, err))
			continue
		}
		for n := range w.brief.Memberships { // in the brief's order
			if !holds {
				break
			}
			for _, name := range rule.Names[n] {
				w.tie(Tie{Of: n, Name: name})
			}
		}
	}
}

func (w *Worker) anyFaulty(e *brief.Expr) bool {
	for _, i := range e.Uses {
		if w.state[i] == faulty {
			return true
		}
	}
	return false
}

// named reads the columns of one entry of the brief's memberships.
func (w *Worker) named(n int) {
	of, columns := &w.brief.Memberships[n], &w.ties[n]
	if of.Untouched {
		return
	}
	found, faults := false, false
	for i, column := range columns.names {
		role, ok := w.besides(of, &of.RoleVia, columns.roles[i])
		section, fine2 := w.besides(of, &brief.Field{}, columns.section[i])
		faults = faults || !ok || !fine2
		if column >= len(w.cells) {
			continue
		}
		for _, part := range w.itemsIn(&of.Column, column) {
			value, s := w.value(-1, &of.Column, column, part)
			if s == faulty {
				faults = true
			}
			if !value.Filled() {
				continue
			}
			found = true
			w.tie(Tie{Of: n, Name: value.Text(), Role: role, Section: section, Column: w.headings[column]})
		}
		if !found && role+section != "" {
			w.find(account.Warning, account.RoleAlone, w.headings[column], of.Kind, fmt.Sprintf("“%s” stands beside a blank cell", role+section))
		}
	}
	if found || faults {
		w.wants.Spoken[n] = true
		return
	}
	switch {
	case len(of.Fallback) > 0:
		w.wants.Spoken[n] = true
		for _, name := range of.Fallback {
			w.tie(Tie{Of: n, Name: name, ByFallback: true})
		}
	case len(columns.names) == 0 && of.Column.From != "":
	case of.ClearWhenBlank, of.Column.From == "":
		w.wants.Spoken[n] = true
	}
}

// split cuts a cell into the values in it. A backslash stands before a separator that is part of one, and before such a backslash.
func split(cell string, f *brief.Field) []string {
	if len(f.Split) != 1 || strings.IndexByte(cell, '\\') < 0 {
		return strings.Split(cell, f.Split)
	}
	parts := []string{""}
	for i := 0; i < len(cell); i++ {
		switch {
		case cell[i] == '\\' && i+1 < len(cell) && (cell[i+1] == '\\' || cell[i+1] == f.Split[0]):
			i++
			parts[len(parts)-1] += cell[i : i+1]
		case cell[i] == f.Split[0]:
			parts = append(parts, "")
		default:
			parts[len(parts)-1] += cell[i : i+1]
		}
	}
	return parts
}

// besides reads the role or section in a column beside the name.
func (w *Worker) besides(of *brief.Memberships, through *brief.Field, column int) (text string, ok bool) {
	if column < 0 || column >= len(w.cells) {
		return "", true
	}
	plain := *through
	plain.Field = account.Field{Name: of.Kind, Label: of.Column.Label}
	value, s := w.value(-1, &plain, column, w.cell(column))
	return value.Text(), s != faulty
}

// tie adds a membership that the row names, once.
func (w *Worker) tie(t Tie) {
	if w.brief.Memberships[t.Of].Untouched {
		return
	}
	for _, has := range w.wants.Ties {
		if has.Of == t.Of && words.NameKey(has.Name) == words.NameKey(t.Name) && has.Role == t.Role && has.Section == t.Section {
			return
		}
	}
	w.wants.Ties = append(w.wants.Ties, t)
}

// passwords reads the row's password, or makes the pattern for one.
func (w *Worker) passwords() {
	p := &w.brief.Password
	if w.Mapper.password >= 0 && w.Mapper.password < len(w.cells) {
		w.wants.Password = w.cells[w.Mapper.password] // to the letter: white space may be meant
	}
	if p.Make == nil || w.anyFaulty(p.Make) {
		return
	}
	pattern, err := p.Make.Text(w.scope)
	if err != nil || pattern == "" {
		w.find(account.Error, account.ExpressionFailed, "", "password", "the pattern of the password could not be made")
		return
	}
	w.wants.Pattern = pattern
}

// PasswordColumn returns the index of the column with passwords, or -1.
func (m *Mapper) PasswordColumn() int { return m.password }
