package sheet

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"
)

// Bounds of a workbook that is given back with columns added. It is held in memory for
// that, and nothing of it may be written to a temporary folder.
const (
	maxBesideTab = 16 << 20 // bytes of the tab, unpacked
	maxBeside    = 64 << 20 // of all parts
)

// A Beside is a workbook that is given back as it came, with its tabs, widths, fills and
// formats, and with columns beside its rows.
type Beside struct {
	file   *excelize.File
	tab    string
	first  int // column of the first that is added, from 1
	stale  int // columns of an earlier time behind those
	added  []string
	styles map[[2]int]int // style of a cell, and what is to be seen on it → style
	reason int            // style
	font   string         // of the workbook
	size   float64
	notes  int
	last   int // row written last
}

// What is to be seen on a cell.
const (
	asFault = iota
	asReason
)

// OpenBeside opens the workbook at path to add columns with these headings beside the
// rows of the tab that info is about; width is that of its widest row. why says in words
// why that cannot be, if it cannot.
func OpenBeside(path string, info Info, width int, added []string) (b *Beside, why string, err error) {
	if !info.Traits().Beside {
		return nil, "it is no .xlsx workbook", nil
	}
	if len(info.Below) > 0 {
		return nil, "several of its tabs are read as one", nil
	}
	if why, err = besideBounds(path); why != "" || err != nil {
		return nil, why, err
	}
	file, err := excelize.OpenFile(path, excelize.Options{UnzipXMLSizeLimit: maxBeside + 1<<20, UnzipSizeLimit: 2 * maxBeside})
	if err != nil {
		return nil, "it has parts that cannot be written again: " + err.Error(), nil
	}
	at, err := file.GetSheetIndex(info.Tab)
	if err != nil || at < 0 || info.HeadingRow < 1 {
		return nil, "its tab cannot be found again", errors.Join(err, file.Close())
	}
	b = &Beside{file: file, tab: info.Tab, first: max(len(info.Headings), width) + 1, added: added, styles: map[[2]int]int{}, last: info.HeadingRow}
	// What an earlier time added is written over.
	for own := len(info.Headings); own > 1 && width <= len(info.Headings) && isAdded(info.Headings[own-1], added); own-- {
		b.first, b.stale = own, len(info.Headings)-own+1-len(added)
	}
	// Where somebody's own notes are, none is added: they stay as they are.
	if had, err := file.GetComments(info.Tab); err != nil || len(had) > 0 {
		b.notes = maxNotes
	}
	if styles := file.Styles; styles == nil || styles.Fonts == nil || len(styles.Fonts.Font) == 0 || styles.Fonts.Font[0].Name == nil || styles.Fonts.Font[0].Name.Val == nil || styles.CellXfs == nil || len(styles.CellXfs.Xf) == 0 {
		return nil, "it says nothing of how its cells look", file.Close()
	}
	if b.font, err = file.GetDefaultFont(); err != nil || b.font == "" {
		b.font = "Calibri"
	}
	if b.size, err = b.defaultSize(); err != nil {
		b.size = 11
	}
	if err := b.begin(info); err != nil {
		return nil, "", errors.Join(err, file.Close())
	}
	return b, "", nil
}

// besideBounds says why a workbook cannot be given back.
func besideBounds(path string) (why string, err error) {
	archive, err := zip.OpenReader(path)
	if err != nil {
		return "", err
	}
	defer archive.Close()
	total := uint64(0)
	for _, f := range archive.File {
		if f.Name == "xl/vbaProject.bin" {
			return "it has macros", nil
		}
		if total += f.UncompressedSize64; f.UncompressedSize64 > maxBesideTab || total > maxBeside {
			return fmt.Sprintf("it is larger than %d MiB unpacked", maxBesideTab>>20), nil
		}
	}
	return "", nil
}

// isAdded reports whether a heading is of a column that such a time added.
func isAdded(heading string, added []string) bool {
	return IsOurs(heading) && heading != BeyondHeading && (heading != AccountHeading || slices.Contains(added, heading))
}

func (b *Beside) defaultSize() (float64, error) {
	style, err := b.file.GetStyle(0)
	if err != nil || style.Font == nil || style.Font.Size == 0 {
		return 11, err
	}
	return style.Font.Size, nil
}

// begin writes the headings of the added columns, as the last of the workbook's own
// looks.
func (b *Beside) begin(info Info) error {
	own, err := b.file.GetCellStyle(b.tab, cellName(min(b.first-1, len(info.Headings)), info.HeadingRow))
	if err != nil {
		return err
	}
	if err := b.clear(info.HeadingRow); err != nil {
		return err
	}
	for i, heading := range b.added {
		at := cellName(b.first+i, info.HeadingRow)
		if err := errors.Join(b.file.SetCellStr(b.tab, at, heading), b.file.SetCellStyle(b.tab, at, at, own)); err != nil {
			return err
		}
		name, _ := excelize.ColumnNumberToName(b.first + i)
		width := float64(len(heading)) + 2
		if i == len(b.added)-1 {
			width = reasonsWidth
		}
		if err := b.file.SetColWidth(b.tab, name, name, width); err != nil {
			return err
		}
	}
	b.reason, err = b.file.NewStyle(&excelize.Style{Font: &excelize.Font{Family: b.font, Size: b.size, Color: "8A2A12"}, Alignment: &excelize.Alignment{Vertical: "top", WrapText: true}})
	return err
}

// clear empties what an earlier time wrote behind the columns that are added.
func (b *Beside) clear(row int) error {
	for i := range b.stale {
		if err := b.file.SetCellStr(b.tab, cellName(b.first+len(b.added)+i, row), ""); err != nil {
			return err
		}
	}
	return nil
}

func cellName(column, row int) string {
	name, err := excelize.CoordinatesToCellName(column, row)
	if err != nil {
		return "A1" // both are within a spreadsheet's bounds, as they were read from one
	}
	return name
}

// Width is how many columns the rows have before those that are added.
func (b *Beside) Width() int { return b.first - 1 }

// Write writes the added cells of a row, marks cells of it, and blanks those that are
// not to stand in a second file. Row 0 is one below the last.
func (b *Beside) Write(row int, cells []string, marks []Mark, blank []int) error {
	if row == 0 {
		row = b.last + 1
	}
	b.last = max(b.last, row)
	if err := b.clear(row); err != nil {
		return err
	}
	for i, text := range cells {
		at := cellName(b.first+i, row)
		if err := b.file.SetCellStr(b.tab, at, fitCell(text)); err != nil {
			return err
		}
	}
	for _, column := range blank {
		if has, err := b.file.GetCellValue(b.tab, cellName(column+1, row)); err != nil || has == "" {
			continue
		}
		if err := b.file.SetCellStr(b.tab, cellName(column+1, row), ""); err != nil {
			return err
		}
	}
	for _, m := range marks {
		if m.Reason {
			if err := b.writeReason(row, cells[len(cells)-1]); err != nil {
				return err
			}
		} else if err := b.mark(cellName(m.Column+1, row), m.Note); err != nil {
			return err
		}
	}
	return nil
}

func (b *Beside) writeReason(row int, text string) error {
	at := cellName(b.first+len(b.added)-1, row)
	if err := b.file.SetCellStyle(b.tab, at, at, b.reason); err != nil || text == "" {
		return err
	}
	height, err := b.file.GetRowHeight(b.tab, row)
	if wanted := heightOf(text, b.size); err == nil && wanted > height {
		err = b.file.SetRowHeight(b.tab, row, wanted)
	}
	return err
}

// mark colours a cell, keeps the rest of its looks, and puts a note on it.
func (b *Beside) mark(at, note string) error {
	own, err := b.file.GetCellStyle(b.tab, at)
	if err != nil {
		return err
	}
	key := [2]int{own, asFault}
	if b.styles[key] == 0 {
		style, err := b.file.GetStyle(own)
		if err != nil {
			return err
		}
		style.Fill = faultFill()
		if b.styles[key], err = b.file.NewStyle(style); err != nil {
			return err
		}
	}
	if err := b.file.SetCellStyle(b.tab, at, at, b.styles[key]); err != nil || note == "" || b.notes == maxNotes {
		return err
	}
	b.notes++
	return b.file.AddComment(b.tab, noteAt(at, note))
}

// Save writes the workbook, with the account of what became of the rows if there is one.
func (b *Beside) Save(w io.Writer, counts []Count) error {
	err := addAccount(b.file, counts)
	if err == nil {
		_, err = b.file.WriteTo(w)
	}
	return errors.Join(err, b.file.Close())
}

// A Count is a line of the account that stands in a workbook.
type Count struct {
	Label string
	N     int
	Color string // six hexadecimal digits
}

// accountTab is the tab with the account.
const accountTab = "Even Ledger account"

// addAccount adds a tab with what became of the rows, as a table and as a chart.
func addAccount(file *excelize.File, counts []Count) error {
	if len(counts) == 0 {
		return nil
	}
	if at, err := file.GetSheetIndex(accountTab); err == nil && at >= 0 {
		if err := file.DeleteSheet(accountTab); err != nil {
			return err
		}
	}
	if _, err := file.NewSheet(accountTab); err != nil {
		return err
	}
	font, err := file.GetDefaultFont()
	if err != nil || font == "" {
		font = "Calibri"
	}
	bold, err := file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true, Family: font}, Border: []excelize.Border{{Type: "bottom", Style: 1, Color: "444444"}}})
	if err != nil {
		return err
	}
	total, err := file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true, Family: font}, Border: []excelize.Border{{Type: "top", Style: 1, Color: "444444"}, {Type: "bottom", Style: 6, Color: "444444"}}})
	if err != nil {
		return err
	}
	sum, zero := 0, 0.0
	errs := []error{printed(file, accountTab, 1), file.SetColWidth(accountTab, "A", "A", 30), file.SetSheetRow(accountTab, "A1", &[]any{"What became of the rows", "Rows"}), file.SetCellStyle(accountTab, "A1", "B1", bold)}
	quoted := "'" + accountTab + "'"
	var series []excelize.ChartSeries
	for i, c := range counts {
		at := strconv.Itoa(i + 2)
		errs = append(errs, file.SetSheetRow(accountTab, "A"+at, &[]any{c.Label, c.N}))
		series = append(series, excelize.ChartSeries{
			Name: quoted + "!$A$" + at, Categories: quoted + "!$B$1", Values: quoted + "!$B$" + at,
			Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{c.Color}},
		})
		sum += c.N
	}
	end, gap := strconv.Itoa(len(counts)+2), uint(30)
	errs = append(errs, file.SetSheetRow(accountTab, "A"+end, &[]any{"In all", sum}), file.SetCellStyle(accountTab, "A"+end, "B"+end, total))
	all := float64(max(1, sum))
	errs = append(errs, file.AddChart(accountTab, "D1", &excelize.Chart{
		Type:      excelize.BarStacked,
		Series:    series,
		Title:     excelize.ChartTitle{Paragraph: []excelize.RichTextRun{{Text: "What became of the rows"}}},
		Legend:    excelize.ChartLegend{Position: "bottom"},
		PlotArea:  excelize.ChartPlotArea{ShowVal: true},
		XAxis:     excelize.ChartAxis{None: true},
		YAxis:     excelize.ChartAxis{None: true, Minimum: &zero, Maximum: &all},
		GapWidth:  &gap,
		Dimension: excelize.ChartDimension{Width: 680, Height: 240},
	}))
	return errors.Join(errs...)
}

// reasonsWidth is how wide the column with the reasons is, in characters.
const reasonsWidth = 64

// heightOf is how high a row has to be for its reasons to be read, in points.
func heightOf(text string, size float64) float64 {
	lines := 0
	for part := range strings.Lines(text) {
		lines += 1 + len([]rune(part))*10/(reasonsWidth*9) // letters are not all of one width
	}
	return min(409, float64(max(1, lines))*size*1.36)
}

func faultFill() excelize.Fill {
	return excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"F9D9CF"}}
}

// SameFile reports whether two paths are of one file.
func SameFile(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	return err == nil && os.SameFile(x, y)
}
