package sheet

import (
	"errors"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"
)

// maxNotes is how many notes a workbook gets: spreadsheet programs grow slow with
// more, and the reasons stand in a column as well.
const maxNotes = 2000

// A workbookWriter writes an XLSX workbook in which every cell is text: nothing
// is a formula, and what a person types stays as it was typed.
type workbookWriter struct {
	to      io.Writer
	folder  string // private; holds what does not fit into memory
	file    *excelize.File
	stream  *excelize.StreamWriter
	row     int
	heading int // row of the headings
	notes   int
	ours    bool // it has columns of ours, by which it is known again
	styles  workbookStyles
	account []Count
	wide    int       // column from 0 whose texts are long; 0: none
	first   []heldRow // held until it is known how wide the columns are
	begun   bool      // their widths are written
	columns int       // of the headings
}

// A heldRow is a row that is still to be written.
type heldRow struct {
	cells []string
	marks []Mark
}

// Widths of columns, in characters, and how many rows they are taken from.
const (
	widthRows   = 200
	leastWidth  = 8
	widestPlain = 42
)

type workbookStyles struct{ text, wrapped, heading, marked, reason int }

const (
	tabName       = "Sheet"
	styledColumns = 100 // beyond which only cells with a value are styled
)

// newWorkbook begins a workbook.
func newWorkbook(to io.Writer, form Form) (_ *workbookWriter, err error) {
	w := &workbookWriter{to: to, heading: max(1, form.HeadingRow), account: form.Account, wide: form.Wide}
	if w.folder, err = os.MkdirTemp(form.Folder, ".evenledger-"); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(w.folder))
		}
	}()
	w.file = excelize.NewFile(excelize.Options{TmpDir: w.folder})
	if err := w.file.SetSheetName("Sheet1", tabName); err != nil {
		return nil, err
	}
	if w.styles, err = newStyles(w.file); err != nil {
		return nil, err
	}
	if err = printed(w.file, tabName, w.heading); err != nil {
		return nil, err
	}
	if w.stream, err = w.file.NewStreamWriter(tabName); err != nil {
		return nil, err
	}
	return w, nil
}

// printed lays a tab out for paper: on its side, as wide as one page, the headings on each.
func printed(file *excelize.File, tab string, heading int) error {
	sideways, a4, one, any, fit := "landscape", 9, 1, 0, true
	margin, foot := 0.4, 0.6
	rows := "$" + strconv.Itoa(heading) + ":$" + strconv.Itoa(heading)
	return errors.Join(
		file.SetSheetProps(tab, &excelize.SheetPropsOptions{FitToPage: &fit}),
		file.SetPageLayout(tab, &excelize.PageLayoutOptions{Orientation: &sideways, Size: &a4, FitToWidth: &one, FitToHeight: &any}),
		file.SetPageMargins(tab, &excelize.PageLayoutMarginsOptions{Left: &margin, Right: &margin, Top: &margin, Bottom: &foot}),
		file.SetHeaderFooter(tab, &excelize.HeaderFooterOptions{OddFooter: "&L&F · &A&R&P / &N"}),
		file.SetDefinedName(&excelize.DefinedName{Name: "_xlnm.Print_Titles", RefersTo: "'" + strings.ReplaceAll(tab, "'", "''") + "'!" + rows, Scope: tab}),
	)
}

// begin writes how wide the columns are, by the rows that are held, and then those.
func (w *workbookWriter) begin() error {
	w.begun = true
	var widths []int
	for i, row := range w.first {
		for column, text := range row.cells {
			for column >= len(widths) {
				widths = append(widths, leastWidth)
			}
			if i+1 < w.heading {
				continue // a title runs over the cells beside it
			}
			if i+1 == w.heading {
				w.columns = len(row.cells)
			}
			parts, extra := strings.Split(text, "\n"), 2
			if i+1 == w.heading { // its words go below each other, and the mark of the filter stands beside them
				parts, extra = strings.Fields(text), 5
			}
			for _, part := range parts {
				widths[column] = max(widths[column], min(widestPlain, utf8.RuneCountInString(part)+extra))
			}
		}
	}
	err := errors.Join(w.stream.SetColStyle(1, styledColumns, w.styles.text),
		w.stream.SetPanes(&excelize.Panes{Freeze: true, YSplit: w.heading, TopLeftCell: "A" + strconv.Itoa(w.heading+1), ActivePane: "bottomLeft"}))
	for i, width := range widths {
		if w.wide > 0 && i == w.wide {
			width = reasonsWidth
		}
		err = errors.Join(err, w.stream.SetColWidth(i+1, i+1, float64(width)))
	}
	for _, row := range w.first {
		err = errors.Join(err, w.write(row.cells, row.marks))
	}
	w.first = nil
	return err
}

func newStyles(file *excelize.File) (s workbookStyles, err error) {
	const asText = 49 // the number format "@"
	var errs [5]error
	top := &excelize.Alignment{Vertical: "top"}
	s.text, errs[0] = file.NewStyle(&excelize.Style{NumFmt: asText, Alignment: top})
	s.heading, errs[1] = file.NewStyle(&excelize.Style{NumFmt: asText, Alignment: &excelize.Alignment{Vertical: "bottom", WrapText: true}, Font: ownFont(file, excelize.Font{Bold: true}), Border: []excelize.Border{{Type: "bottom", Style: 1, Color: "444444"}}})
	s.marked, errs[2] = file.NewStyle(&excelize.Style{NumFmt: asText, Alignment: top, Fill: faultFill()})
	s.reason, errs[3] = file.NewStyle(&excelize.Style{NumFmt: asText, Alignment: &excelize.Alignment{Vertical: "top", WrapText: true}, Font: ownFont(file, excelize.Font{Color: "8A2A12"})})
	s.wrapped, errs[4] = file.NewStyle(&excelize.Style{NumFmt: asText, Alignment: &excelize.Alignment{Vertical: "top", WrapText: true}})
	return s, errors.Join(errs[:]...)
}

// Write implements Writer.
func (w *workbookWriter) Write(cells []string, marks ...Mark) error {
	if w.begun {
		return w.write(cells, marks)
	}
	if w.first = append(w.first, heldRow{slices.Clone(cells), slices.Clone(marks)}); len(w.first) < widthRows+w.heading {
		return nil
	}
	return w.begin()
}

func (w *workbookWriter) write(cells []string, marks []Mark) error {
	if w.row++; w.row == w.heading {
		w.ours = slices.ContainsFunc(cells, IsOurs)
	}
	values := make([]any, len(cells))
	for i, text := range cells {
		style := w.styles.text
		switch {
		case w.row == w.heading:
			style = w.styles.heading
		case slices.ContainsFunc(marks, func(m Mark) bool { return m.Column == i && m.Reason }):
			style = w.styles.reason
		case slices.ContainsFunc(marks, func(m Mark) bool { return m.Column == i }):
			style = w.styles.marked
		}
		if text == "" && style == w.styles.text {
			continue
		}
		if w.ours && unguarded(text) != text {
			text = guarded(text) // what reads the sheet again takes one off
		}
		values[i] = excelize.Cell{StyleID: style, Value: fitCell(text)}
	}
	cell, err := excelize.CoordinatesToCellName(1, w.row)
	if err != nil {
		return err
	}
	for _, m := range marks {
		if m.Note == "" || w.notes == maxNotes {
			continue
		}
		w.notes++
		at, err := excelize.CoordinatesToCellName(m.Column+1, w.row)
		if err != nil {
			return err
		}
		if err := w.file.AddComment(tabName, noteAt(at, m.Note)); err != nil {
			return err
		}
	}
	var rows []excelize.RowOpts
	if at := slices.IndexFunc(marks, func(m Mark) bool { return m.Reason }); at >= 0 && marks[at].Column < len(cells) && w.row != w.heading {
		if height := heightOf(cells[marks[at].Column], 11); height > 16 {
			rows = append(rows, excelize.RowOpts{Height: height})
		}
	}
	return w.stream.SetRow(cell, values, rows...)
}

// noteAt is a note on a cell, as high as its text takes.
func noteAt(cell, text string) excelize.Comment {
	lines := 1 // the author's
	for line := range strings.Lines(text) {
		lines += 1 + utf8.RuneCountInString(line)/40
	}
	return excelize.Comment{Cell: cell, Author: "Even Ledger", Text: text, Width: 280, Height: uint(max(60, 18*lines+12))}
}

// ownFont is a font like that of the other cells of a new workbook: where a style names
// none, office programs take one of their own.
func ownFont(file *excelize.File, font excelize.Font) *excelize.Font {
	font.Family, _ = file.GetDefaultFont() // of a new workbook, which has one
	return &font
}

// longestCell is how many characters (of UTF-16) a cell of a workbook holds.
const longestCell = 32767

// fitCell shortens what no cell can hold, and says so.
func fitCell(text string) string {
	if len(text) <= longestCell {
		return text
	}
	const cut = " … (cut: too long for a cell)"
	n, last := 0, 0
	for i, r := range text {
		if n++; r > 0xffff {
			n++
		}
		if n > longestCell {
			return text[:last] + cut
		}
		if n <= longestCell-utf8.RuneCountInString(cut) {
			last = i + utf8.RuneLen(r)
		}
	}
	return text
}

// Close implements Writer.
func (w *workbookWriter) Close() error {
	var err error
	if !w.begun {
		err = w.begin()
	}
	if w.columns > 0 && w.row > w.heading {
		err = errors.Join(err, w.file.AutoFilter(tabName, cellName(1, w.heading)+":"+cellName(w.columns, w.row), nil))
	}
	if err == nil {
		err = w.stream.Flush()
	}
	if err == nil {
		err = addAccount(w.file, w.account)
	}
	if err == nil {
		_, err = w.file.WriteTo(w.to)
	}
	return errors.Join(err, w.file.Close(), os.RemoveAll(w.folder))
}

// A Blank is an empty sheet to be filled in.
type Blank struct {
	Columns []BlankColumn
	Notes   [][]string // rows of the tab beside
}

// A BlankColumn is a column of a blank.
type BlankColumn struct {
	Heading  string
	Note     string   // shown at the heading and when a cell is chosen
	Allowed  []string // the values to choose from; none: any
	Required bool
	Holds    string // what a value must hold, such as "@"; empty: anything
	Lacks    string // what a value must not hold, such as " "; empty: anything
}

// blankRows is how many rows of a blank have the checks and lists.
const blankRows = 2000

// WriteBlank writes a workbook with headings, lists to choose from, and a tab of
// notes. All cells are text, so that zeros in front stay.
func WriteBlank(to io.Writer, b Blank) (err error) {
	file := excelize.NewFile()
	defer func() { err = errors.Join(err, file.Close()) }()
	styles, err := newStyles(file)
	if err != nil {
		return err
	}
	required, err := file.NewStyle(&excelize.Style{NumFmt: 49, Font: ownFont(file, excelize.Font{Bold: true}), Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"FBEFC8"}}, Border: []excelize.Border{{Type: "bottom", Style: 1, Color: "444444"}}})
	if err != nil {
		return err
	}
	const people, notes, lists = "People", "Notes", "Lists"
	if err := file.SetSheetName("Sheet1", people); err != nil {
		return err
	}
	for _, name := range []string{notes, lists} {
		if _, err := file.NewSheet(name); err != nil {
			return err
		}
	}
	long := 0
	for i, c := range b.Columns {
		name, err := excelize.ColumnNumberToName(i + 1)
		if err != nil {
			return err
		}
		style := styles.heading
		if c.Required {
			style = required
		}
		errs := []error{
			file.SetColStyle(people, name, styles.text), file.SetColWidth(people, name, name, float64(max(14, utf8.RuneCountInString(c.Heading)+4))),
			file.SetCellStr(people, name+"1", c.Heading), file.SetCellStyle(people, name+"1", name+"1", style),
		}
		if c.Note != "" {
			errs = append(errs, file.AddComment(people, noteAt(name+"1", c.Note)))
		}
		if len(c.Allowed) > 0 {
			long++
			errs = append(errs, listed(file, lists, long, c.Allowed))
		}
		if v := c.validation(name, lists, long); v != nil {
			errs = append(errs, file.AddDataValidation(people, v))
		}
		if err := errors.Join(errs...); err != nil {
			return err
		}
	}
	if err := writeNotes(file, notes, b.Notes, styles); err != nil {
		return err
	}
	err = errors.Join(
		file.SetSheetVisible(lists, false),
		printed(file, people, 1), printed(file, notes, 1),
		file.SetPanes(people, &excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}),
	)
	if err != nil {
		return err
	}
	file.SetActiveSheet(0)
	_, err = file.WriteTo(to)
	return err
}

// listed writes the values to choose from into a column of a tab, from 1.
func listed(file *excelize.File, tab string, column int, values []string) (err error) {
	for at, value := range values {
		err = errors.Join(err, file.SetCellStr(tab, cellName(column, at+1), value))
	}
	return err
}

// validation is what a column of that name accepts; what may be chosen stands in a column of a tab. nil: it accepts anything.
func (c *BlankColumn) validation(name, tab string, column int) *excelize.DataValidation {
	v := excelize.NewDataValidation(true)
	v.SetSqref(name + "2:" + name + strconv.Itoa(blankRows+1))
	switch {
	case len(c.Allowed) > 0:
		of, _ := excelize.ColumnNumberToName(column) // no blank has too many
		v.SetSqrefDropList(tab + "!$" + of + "$1:$" + of + "$" + strconv.Itoa(len(c.Allowed)))
		v.SetError(excelize.DataValidationErrorStyleStop, c.Heading, "Choose one of the list.")
	case c.Holds != "":
		v.Type, v.Formula1 = "custom", `ISNUMBER(FIND("`+c.Holds+`",`+name+`2))`
		v.SetError(excelize.DataValidationErrorStyleStop, c.Heading, "There must be “"+c.Holds+"” in it.")
	case c.Lacks != "":
		v.Type, v.Formula1 = "custom", `ISERROR(FIND("`+c.Lacks+`",`+name+`2))`
		v.SetError(excelize.DataValidationErrorStyleStop, c.Heading, "There may be no "+map[bool]string{true: "space", false: "“" + c.Lacks + "”"}[c.Lacks == " "]+" in it.")
	default:
		return nil
	}
	return v
}

// writeNotes fills the tab of notes.
func writeNotes(file *excelize.File, tab string, notes [][]string, styles workbookStyles) error {
	var widths []int
	for _, row := range notes {
		for j, text := range row {
			for j >= len(widths) {
				widths = append(widths, leastWidth)
			}
			widths[j] = max(widths[j], min(widestPlain+8, utf8.RuneCountInString(text)+3))
		}
	}
	for j, width := range widths {
		name, _ := excelize.ColumnNumberToName(j + 1)
		if err := file.SetColWidth(tab, name, name, float64(width)); err != nil {
			return err
		}
	}
	for i, row := range notes {
		lines := 1
		for j, text := range row {
			lines = max(lines, 1+utf8.RuneCountInString(text)/widths[j])
		}
		if err := file.SetRowHeight(tab, i+1, float64(15*lines)); err != nil {
			return err
		}
		style := styles.wrapped
		if i == 0 {
			style = styles.heading
		}
		for j, text := range row {
			at := cellName(j+1, i+1)
			if err := errors.Join(file.SetCellStr(tab, at, text), file.SetCellStyle(tab, at, at, style)); err != nil {
				return err
			}
		}
	}
	return nil
}
