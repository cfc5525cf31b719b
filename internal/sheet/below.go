package sheet

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/words"
)

// An End says where the list ends, of a sheet in which something else stands below it. The zero
// value has it looked for.
type End struct {
	Row   int    // the last row of the list; 0: not by number
	Blank bool   // the first blank row below the headings ends it
	Text  string // the row whose first filled cell is this is none of it, nor are those below
	Never bool   // every row is one of the list, whatever it looks like
}

// ParseEnd reads “57”, “blank”, “never”, or the text of the first cell below the list.
func ParseEnd(text string) (End, error) {
	text = strings.TrimSpace(text)
	if row, err := strconv.Atoi(text); err == nil {
		if row < 1 {
			return End{}, fmt.Errorf("there is no row %d", row)
		}
		return End{Row: row}, nil
	}
	switch text {
	case "":
		return End{}, fmt.Errorf("it is empty")
	case "blank":
		return End{Blank: true}, nil
	case "never":
		return End{Never: true}, nil
	}
	return End{Text: text}, nil
}

// How many rows are looked at before anything is said about what stands in a column.
const (
	learned     = 20   // rows, where nothing parts the rows
	learnedGap  = 3    // rows, where a blank row does
	learnedMost = 2000 // rows that are learned from
	sureShare   = 50   // a kind that one cell in so many has is usual
	lastingOdd  = 3    // rows one behind the other that are of another kind for good
)

// A look is how a cell's text looks, as far as it tells columns apart.
type look uint8

const (
	noLook      look = iota // blank, or neither letters nor digits at its ends
	digitsLook              // begins and ends with a digit
	lettersLook             // begins with a letter
	mailLook                // has an @ within
	looks
)

func lookOf(cell string) look {
	if cell == "" {
		return noLook
	}
	if at := strings.IndexByte(cell, '@'); at > 0 {
		return mailLook
	}
	first, last := cell[0], cell[len(cell)-1]
	switch {
	case first >= '0' && first <= '9':
		if last >= '0' && last <= '9' {
			return digitsLook
		}
	case first >= 'a' && first <= 'z', first >= 'A' && first <= 'Z', first >= 0x80:
		return lettersLook
	}
	return noLook
}

// below finds where another list begins below the first: with headings of its own, or with cells
// of other kinds than stand in their columns.
type below struct {
	end  End
	over bool // the list has ended, as the brief says

	rows    int            // learned from
	filled  int            // cells of them
	seen    [][looks]int32 // by column
	always  []int32        // rows in which a column was filled
	last    int            // number of the row before
	parted  bool           // a blank row stands between the list and this row
	began   int            // the row in which another list began; 0: none did
	why     string         // what showed it
	plain   bool           // no column has only digits or addresses: rows of headings stand out by nothing
	checked bool           // whether plain is known
}

// judge marks a row that is none of the list. It returns whether the row is odd, so that nobody can
// say what it is before it is seen what comes next.
func (b *below) judge(s *Sheet, row *Row) (odd bool) {
	if b.end.Never || row.Aside != "" && row.Aside != headingsAgain {
		return false
	}
	if row.Aside == headingsAgain { // as on every page of a printed list, which goes on there
		b.began, b.parted, b.last = 0, false, row.Number
		return false
	}
	gap := b.last > 0 && row.Number > b.last+1
	b.last = row.Number
	if b.over = b.over || b.ends(row, gap); b.over {
		row.Aside, row.Doubt = "the row stands below the end of the list, as the brief has it", ""
		return false
	}
	if b.end != (End{}) || s.info.HeadingRow == 0 {
		return false
	}
	if b.began > 0 {
		b.refuse(row)
		return false
	}
	b.parted = b.parted || gap && b.rows >= learnedGap
	filled, misfits, sure, missing, loose := b.compare(row)
	if filled >= 2 && (misfits > 0 || b.parted || b.isPlain()) && s.areHeadings(row.Cells, filled, b.parted) {
		b.began, b.why = row.Number, "other headings stand in it"
		b.refuse(row)
		return false
	}
	switch {
	case b.parted && filled >= 2 && (misfits > 0 || missing >= 2) && 2*filled*b.rows <= b.filled:
		b.began, b.why = row.Number, "it stands below a blank row, and has other cells filled than the rows above"
	case b.parted && misfits >= 2 && 5*misfits >= 2*sure:
		b.began, b.why = row.Number, fmt.Sprintf("its cells are of other kinds than those above, such as “%s” in the column “%s”", short(row.Cells[loose]), s.info.Headings[loose])
	case b.rows >= learned && misfits >= 2 && 5*misfits >= 2*sure:
		return true
	case filled == 1 && missing >= 2 && row.Doubt == "":
		row.Doubt = "the row has one cell filled, and is blank where each of those above has something: it seems to be a title"
		return false
	default:
		if filled > 1 {
			b.parted = false
			b.learn(row, filled)
		}
		return false
	}
	b.refuse(row)
	return false
}

// lasts takes rows that were odd for another list's.
func (b *below) lasts(s *Sheet, rows []Row) {
	_, _, _, _, loose := b.compare(&rows[0])
	b.began = rows[0].Number
	b.why = fmt.Sprintf("from there on cells are of other kinds than those above, such as “%s” in the column “%s”", short(rows[0].Cells[loose]), s.info.Headings[loose])
	for i := range rows {
		b.refuse(&rows[i])
	}
}

// refuse tells that a row is of another list.
func (b *below) refuse(row *Row) {
	row.Below, row.Doubt = true, fmt.Sprintf("the row stands in what seems to be another list, which begins in row %d", b.began)
	if row.Number == b.began {
		row.Doubt = "another list seems to begin here: " + b.why
	}
}

func short(text string) string {
	clean, _ := words.Clean(text)
	clean, _ = words.OneLine(clean)
	if r := []rune(clean); len(r) > 30 {
		return string(r[:29]) + "…"
	}
	return clean
}

// ends reports whether the list ends before a row, as the brief says.
func (b *below) ends(row *Row, gap bool) bool {
	switch {
	case b.end.Row > 0:
		return row.Number > b.end.Row
	case b.end.Blank:
		return gap
	case b.end.Text != "":
		at := slices.IndexFunc(row.Cells, func(cell string) bool { return strings.TrimSpace(cell) != "" })
		return at >= 0 && words.NameKey(row.Cells[at]) == words.NameKey(b.end.Text)
	}
	return false
}

// compare holds a row against those that were learned: how many cells it has filled, how many are
// of a kind that their column does not have, of how many that could be said, how many columns are blank
// that never were, and one column that does not fit.
func (b *below) compare(row *Row) (filled, misfits, sure, missing, loose int) {
	enough := int32(learned)
	if b.parted {
		enough = learnedGap
	}
	for i := range max(len(row.Cells), len(b.seen)) {
		cell := ""
		if i < len(row.Cells) {
			cell = row.Cells[i]
		}
		kind := lookOf(cell)
		if cell != "" {
			filled++
		}
		if i >= len(b.seen) {
			continue
		}
		if cell == "" && b.always[i] == int32(b.rows) && b.rows >= learnedGap {
			missing++
		}
		total := b.seen[i][digitsLook] + b.seen[i][lettersLook] + b.seen[i][mailLook]
		if kind == noLook || total < enough {
			continue
		}
		if sure++; b.seen[i][kind]*sureShare < total {
			misfits, loose = misfits+1, i
		}
	}
	return filled, misfits, sure, missing, loose
}

// isPlain reports whether headings have nothing by which they would stand out among the rows.
func (b *below) isPlain() bool {
	if !b.checked {
		b.checked = b.rows >= learned
		b.plain = !slices.ContainsFunc(b.seen, func(n [looks]int32) bool {
			return n[digitsLook]+n[mailLook] >= learnedGap && n[lettersLook] == 0
		})
	}
	return b.plain
}

func (b *below) learn(row *Row, filled int) {
	if b.rows >= learnedMost {
		return
	}
	b.rows, b.filled = b.rows+1, b.filled+filled
	for len(b.seen) < len(row.Cells) {
		b.seen, b.always = append(b.seen, [looks]int32{}), append(b.always, 0)
	}
	for i, cell := range row.Cells {
		if b.seen[i][lookOf(cell)]++; cell != "" {
			b.always[i]++
		}
	}
}

// areHeadings reports whether the cells of a row are headings, of this list in another order or of
// another: most are, and two at least; three, where nothing parts it from the rows above and none is one of the list's own.
func (s *Sheet) areHeadings(cells []string, filled int, parted bool) bool {
	if s.keys == nil {
		s.keys = map[string]bool{}
		for _, heading := range s.info.Headings {
			if key := words.Key(heading); key != "" {
				s.keys[key] = true
			}
		}
	}
	known, own := 0, 0
	for _, cell := range cells {
		kind := lookOf(cell)
		if cell == "" || len(cell) > maxHeading || kind == digitsLook || kind == mailLook {
			continue
		}
		clean, _ := words.Clean(cell)
		switch {
		case s.keys[words.Key(clean)]:
			own++
		case s.recognise != nil && s.recognise(clean):
			known++
		}
	}
	return (own+known > 2 || own+known == 2 && (parted || own > 0)) && 2*(own+known) >= filled
}
