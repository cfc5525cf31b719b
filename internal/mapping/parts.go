package mapping

import (
	"maps"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
)

// findParts finds the columns of the parts of field i: those with one number make
// one value.
func (m *Mapper) findParts(i int, f brief.Field, twice map[string][]string) {
	values := map[int][]int{}
	put := func(number, part, column int) {
		if values[number] == nil {
			values[number] = slices.Repeat([]int{-1}, len(f.Parts))
		}
		values[number][part] = column
		if m.from[i] < 0 {
			m.from[i] = column
		}
	}
	for n, part := range f.Parts {
		if part.From == "" {
			continue
		}
		if strings.HasSuffix(part.From, "*") {
			columns, numbers := m.familyOf(part.From, f.Name)
			for _, column := range columns {
				put(numbers[column], n, column)
			}
			if len(columns) == 0 {
				m.missing(account.Warning, part.From, f.Name)
			}
			continue
		}
		if at, ok := m.use(part.From, twice); ok {
			m.columns[at].Fields = append(m.columns[at].Fields, f.Name)
			put(0, n, at)
		} else {
			m.missing(account.Error, part.From, f.Name)
		}
	}
	for _, number := range slices.Sorted(maps.Keys(values)) {
		m.parts[i] = append(m.parts[i], values[number])
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
			value, s := w.value(i, &plain, columns[n], w.cells[columns[n]])
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
