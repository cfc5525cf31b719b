package report

import "strings"

// A Column is one of a listing's.
type Column struct {
	Title string
	Width int  // of its cells; 0: what is left of the line, as the last of a listing
	Right bool // its cells stand at its right
	Rank  int  // of several that do not fit, those with the highest are left out; 0: it always stands
}

// A Cell is a text in a listing.
type Cell struct {
	Text  string
	Style func(string) Styled // nil: plain
}

// A Listing is lines of cells beneath each other, with as many columns as fit the screen.
type Listing struct {
	page    *Page
	columns []Column
	shown   []bool
}

// leastLeft is how wide the last column has to be, at least, to stand there.
const leastLeft = 16

// Listing begins a listing with the titles of its columns.
func (p *Page) Listing(columns ...Column) *Listing {
	t := &Listing{page: p, columns: columns, shown: make([]bool, len(columns))}
	for i := range t.shown {
		t.shown[i] = true
	}
	for t.width() > p.Columns() {
		worst := -1
		for i, c := range columns {
			if t.shown[i] && c.Rank > 0 && (worst < 0 || c.Rank > columns[worst].Rank) {
				worst = i
			}
		}
		if worst < 0 {
			break // what is left always stands
		}
		t.shown[worst] = false
	}
	titles := make([]Cell, len(columns))
	for i, c := range columns {
		titles[i] = Cell{c.Title, p.Bold}
	}
	t.Row(titles...)
	return t
}

// width is how wide the columns are that stand.
func (t *Listing) width() (n int) {
	for i, c := range t.columns {
		if t.shown[i] {
			n += 2 + max(c.Width, map[bool]int{true: leastLeft}[c.Width == 0])
		}
	}
	return n
}

// Row writes a line of cells, one for each column.
func (t *Listing) Row(cells ...Cell) {
	var line strings.Builder
	last := len(cells) - 1
	for last > 0 && !t.shown[last] {
		last--
	}
	left := t.page.Columns()
	for i, cell := range cells {
		if !t.shown[i] {
			continue
		}
		width := t.columns[i].Width
		if width == 0 {
			width = max(leastLeft, left-2)
		}
		left -= 2 + width
		text := Clip(cell.Text, width)
		switch {
		case t.columns[i].Right:
			text = strings.Repeat(" ", max(0, width-len([]rune(text)))) + text
		case i < last:
			text = Pad(text, width)
		}
		style := cell.Style
		if style == nil {
			style = t.page.Plain
		}
		line.WriteString("  " + string(style(text)))
	}
	t.page.Line("%s", Styled(line.String()))
}
