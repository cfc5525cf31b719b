package sheet

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"evenledger/internal/words"
)

// AllTabs stands for every tab that is shown and has the headings of the one that fits best.
const AllTabs = "all"

// further are the tabs that are read as one sheet with the first, as if they stood below it.
type further struct {
	tabs   []*Sheet
	places [][]int // of each: in which column of the first each of its own belongs
	below  []TabBelow
}

// together opens several tabs of one shape as one sheet.
func together(name string, tabs []tab, options Options) (*Sheet, error) {
	all := len(options.Tabs) == 1 && words.Key(options.Tabs[0]) == AllTabs
	wanted := options.Tabs
	var others []OtherTab
	if all {
		first := options
		first.Tabs, first.AnyTab = nil, true
		best, err := pickTab(name, tabs, first)
		if err != nil {
			return nil, err
		}
		wanted = []string{best.Info().Tab}
		for _, t := range tabs {
			if t.name != wanted[0] && !t.hidden {
				wanted = append(wanted, t.name)
			}
		}
		others = slices.DeleteFunc(best.info.Others, func(o OtherTab) bool { return !o.Hidden })
	}
	var whole *Sheet
	for _, tab := range wanted {
		one := options
		one.Tabs, one.Tab = nil, tab
		s, err := pickTab(name, tabs, one)
		switch {
		case isDamage(err):
			return nil, unread(name, tab, err)
		case err != nil && all:
			continue // it has nothing in it
		case err != nil:
			return nil, err
		case whole == nil:
			whole = s
			continue
		}
		places, odd := placesOf(s.info.Headings, whole.info.Headings)
		if odd != "" && all && !whole.fit.like(s.fit) {
			continue // a tab of another kind
		}
		if odd != "" {
			return nil, &Error{Name: name, Message: fmt.Sprintf("the tabs “%s” and “%s” are to be read as one sheet, and %s", whole.Info().Tab, s.Info().Tab, odd), Remedy: "Give both the same headings, or name the tabs that have the same: “sheet: {tabs: [" + whole.Info().Tab + ", …]}”."}
		}
		whole.further.tabs, whole.further.places = append(whole.further.tabs, s), append(whole.further.places, places)
	}
	whole.info.Others = others
	return whole, nil
}

// placesOf says in which column of others each column belongs, or why they are not of one shape.
func placesOf(headings, others []string) (places []int, odd string) {
	keys := make([]string, len(others))
	for i, other := range others {
		keys[i] = words.Key(other)
	}
	if slices.Equal(headings, others) {
		for i := range headings {
			places = append(places, i)
		}
		return places, ""
	}
	taken := map[int]bool{}
	for _, heading := range headings {
		at := slices.Index(keys, words.Key(heading))
		if at < 0 || taken[at] {
			return nil, fmt.Sprintf("only the second has the heading “%s”", heading)
		}
		taken[at], places = true, append(places, at)
	}
	for i, other := range others {
		if !taken[i] {
			return nil, fmt.Sprintf("only the first has the heading “%s”", other)
		}
	}
	return places, ""
}

// rows yields the rows of all tabs, numbered as if each stood below the one before.
func (f *further) rows(first *Sheet) iter.Seq2[Row, error] {
	return func(yield func(Row, error) bool) {
		last := 0
		for row, err := range first.rows() {
			if last = row.Number; !yield(row, err) || err != nil {
				return
			}
		}
		f.below = nil
		for i, s := range f.tabs {
			before := last
			f.below = append(f.below, TabBelow{s.Info().Tab, before})
			for row, err := range s.rows() {
				if err != nil {
					yield(Row{}, err)
					return
				}
				f.place(i, &row, len(first.info.Headings))
				row.Number += before
				if last = row.Number; !yield(row, nil) {
					return
				}
			}
		}
	}
}

// place puts the cells of a row of tab i where the first tab has them.
func (f *further) place(i int, row *Row, width int) {
	places := f.places[i]
	at := func(column int) int {
		if column < len(places) {
			return places[column]
		}
		return column + width - len(places) // beyond the headings
	}
	cells := make([]string, max(width, len(row.Cells)+width-len(places)))
	var kinds []CellKind
	if row.Kinds != nil {
		kinds = make([]CellKind, len(cells))
	}
	for column, cell := range row.Cells {
		if cells[at(column)] = cell; kinds != nil {
			kinds[at(column)] = row.Kind(column)
		}
	}
	row.Cells, row.Kinds = cells, kinds
	row.Merged = slices.Clone(row.Merged)
	for n, column := range row.Merged {
		row.Merged[n] = at(column)
	}
}

// describe adds what was read of the further tabs.
func (f *further) describe(info *Info) {
	info.Below = f.below
	for _, s := range f.tabs {
		own := s.Info()
		r, more := &info.Read, own.Read
		r.Records, r.Blank, r.Above, r.Headings = r.Records+more.Records, r.Blank+more.Blank, r.Above+more.Above, r.Headings+more.Headings
		r.Rows, r.Repeated, r.Ended = r.Rows+more.Rows, r.Repeated+more.Repeated, r.Ended && more.Ended
		info.Hidden, info.Merged = union(info.Hidden, own.Hidden), union(info.Merged, own.Merged)
	}
}

func union(some, more []string) []string {
	for _, text := range more {
		if !slices.Contains(some, text) {
			some = append(slices.Clone(some), text)
		}
	}
	return some
}

// listTabs names the tabs of a workbook.
func listTabs(tabs []tab) (all []string, list string) {
	all = make([]string, len(tabs))
	for i, t := range tabs {
		all[i] = t.name
	}
	return all, strings.Join(all[:min(len(all), 20)], ", ")
}
