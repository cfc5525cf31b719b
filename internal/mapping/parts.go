package mapping

import (
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
)

// findParts finds the columns of the parts of field i: those with the same for
// their star make one value.
func (m *Mapper) findParts(i int, f brief.Field, twice map[string][]string) {
	values := map[string][]int{} // by what stands for the star
	var order []string
	put := func(star string, part, column int) {
		if values[star] == nil {
			values[star] = slices.Repeat([]int{-1}, len(f.Parts))
			order = append(order, star)
		}
		values[star][part] = column
		if m.from[i] < 0 {
			m.from[i] = column
		}
	}
	for n, part := range f.Parts {
		if part.From == "" {
			continue
		}
		if brief.IsFamily(part.From) {
			columns, stars := m.familyOf(part.From, f.Name)
			for _, column := range columns {
				put(stars[column], n, column)
			}
			if len(columns) == 0 {
				m.missing(account.Warning, part.From, f.Name)
			}
			continue
		}
		if at, ok := m.use(part.From, twice); ok {
			m.columns[at].Fields = append(m.columns[at].Fields, f.Name)
			put("", n, at)
		} else {
			m.missing(account.Error, part.From, f.Name)
		}
	}
	for _, star := range order {
		m.parts[i] = append(m.parts[i], values[star])
	}
}

// inParts reads the values of field i, each of several parts. A value none of whose
// columns is filled is none.
func (w *Worker) inParts(i int, f *brief.Field) (account.Value, state) {
	plain := brief.Field{Field: account.Field{Name: f.Name, Label: f.Label}}
	var items []string
	for _, columns := range w.parts[i] {
		texts, filled := make([]string, len(f.Parts)), false
		for n, part := range f.Parts {
			texts[n] = part.Fixed
			if columns[n] < 0 || columns[n] >= len(w.cells) {
				continue
			}
			value, s := w.value(i, &plain, columns[n], w.cell(columns[n]))
			if s == faulty {
				return account.Value{}, faulty
			}
			texts[n] = strings.ReplaceAll(value.Text(), "\t", " ")
			filled = filled || value.Filled()
		}
		if item := strings.Join(texts, "\t"); filled && !slices.Contains(items, item) {
			items = append(items, item)
		}
	}
	if len(items) == 0 {
		return account.Value{}, fine
	}
	return account.Of(account.ListOf(items)), fine
}
