package test

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// book writes a workbook whose first tab holds these rows; change may spoil it.
func (f folder) book(name string, rows [][]any, change func(book *excelize.File) error) {
	book := excelize.NewFile()
	for i, row := range rows {
		require.NoError(f.t, book.SetSheetRow("Sheet1", "A"+string(rune('1'+i)), &row))
	}
	if change != nil {
		require.NoError(f.t, change(book))
	}
	require.NoError(f.t, book.SaveAs(filepath.Join(f.dir, name)))
	require.NoError(f.t, book.Close())
}

// A workbook that says nothing of how its cells look is read, and given back as a plain one.
func TestWorkbookWithoutStyles(t *testing.T) {
	t.Parallel()
	f := workspace(t, practice(t), "")
	f.write("briefs/crew.yaml", crewBrief)
	f.book("whole.xlsx", [][]any{{"No", "First", "Last", "Position"}, {"x y", "Ana", "", "Pilot"}}, nil)
	for name, styles := range map[string]string{"none.xlsx": "", "empty.xlsx": `<styleSheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"/>`, "nameless.xlsx": `<styleSheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><fonts count="1"><font/></fonts><cellXfs count="1"><xf/></cellXfs></styleSheet>`} {
		whole, err := zip.OpenReader(filepath.Join(f.dir, "whole.xlsx"))
		require.NoError(t, err)
		var out bytes.Buffer
		w := zip.NewWriter(&out)
		for _, part := range whole.File {
			if part.Name == "xl/styles.xml" {
				if styles != "" {
					to, err := w.Create(part.Name)
					require.NoError(t, err)
					_, err = to.Write([]byte(styles))
					require.NoError(t, err)
				}
				continue
			}
			require.NoError(t, w.Copy(part))
		}
		require.NoError(t, errors.Join(w.Close(), whole.Close()))
		f.write(name, out.String())
		code, told, errOut := f.run("check", name, "-b", "crew", "-o", "marked-"+name)
		assert.Equal(t, 1, code, told+errOut)
		assert.Contains(t, told+errOut, "cannot be given back as it was (it says nothing of how its cells look)", name)
		marked, err := excelize.OpenFile(filepath.Join(f.dir, "marked-"+name))
		require.NoError(t, err, name)
		require.NoError(t, marked.Close())
	}
}

// A workbook that comes back is the one that went in: its tabs, widths, fills and
// formats, with columns beside its rows, and the account with its chart in a tab.
func TestWorkbookGivenBack(t *testing.T) {
	t.Parallel()
	f := workspace(t, practice(t), "")
	var grey int
	f.book("crew.xlsx", [][]any{{"No", "First", "Last", "Position"}, {"00417", "Ana", "Reyes", "Pilot"}, {"", "Tom", "Kaya", "Bosun"}}, func(book *excelize.File) (err error) {
		if grey, err = book.NewStyle(&excelize.Style{Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"DDDDDD"}}, NumFmt: 49}); err != nil {
			return err
		}
		if _, err := book.NewSheet("Rota"); err != nil {
			return err
		}
		for _, err := range []error{book.SetCellStyle("Sheet1", "A3", "B3", grey), book.SetColWidth("Sheet1", "B", "B", 31), book.SetCellFormula("Rota", "A1", "1+1")} {
			if err != nil {
				return err
			}
		}
		return nil
	})
	f.write("briefs/crew.yaml", strings.Replace(crewBrief, "{from: No}", "{from: No, required: true}", 1))
	before, err := os.ReadFile(filepath.Join(f.dir, "crew.xlsx"))
	require.NoError(t, err)

	look := func(name, heading, beside string) *excelize.File {
		book, err := excelize.OpenFile(filepath.Join(f.dir, name))
		require.NoError(t, err)
		t.Cleanup(func() { _ = book.Close() })
		width, err := book.GetColWidth("Sheet1", "B")
		require.NoError(t, err)
		assert.InDelta(t, 31, width, 0.01)
		formula, err := book.GetCellFormula("Rota", "A1")
		require.NoError(t, err)
		assert.Equal(t, "1+1", formula)
		style, err := book.GetCellStyle("Sheet1", "B3")
		require.NoError(t, err)
		looks, err := book.GetStyle(style)
		require.NoError(t, err)
		assert.Equal(t, []string{"DDDDDD"}, looks.Fill.Color, "a cell without fault looks as it did")
		rows, err := book.GetRows("Sheet1")
		require.NoError(t, err)
		assert.Equal(t, []string{"00417", "Ana", "Reyes", "Pilot"}, rows[1][:4])
		assert.Equal(t, heading, rows[0][4])
		assert.Contains(t, strings.Join(rows[2], " "), beside)
		return book
	}
	code, out, errOut := f.run("check", "crew.xlsx", "-b", "crew", "-o", "marked.xlsx")
	require.Equal(t, 1, code, errOut)
	assert.Contains(t, out, "marked.xlsx")
	book := look("marked.xlsx", "Even Ledger reasons", "must be there and is blank")
	style, err := book.GetCellStyle("Sheet1", "A3")
	require.NoError(t, err)
	looks, err := book.GetStyle(style)
	require.NoError(t, err)
	assert.NotEqual(t, []string{"DDDDDD"}, looks.Fill.Color, "the cell at fault is coloured")
	assert.Equal(t, 49, looks.NumFmt, "and keeps its format")

	code, _, errOut = f.run("draft", "crew.xlsx", "-b", "crew")
	require.Equal(t, 1, code, errOut)
	code, _, errOut = f.run("report", "1", "-o", "outcomes.xlsx")
	require.Zero(t, code, errOut)
	book = look("outcomes.xlsx", "Even Ledger row of batch 1", "refused")
	assert.Len(t, book.GetSheetList(), 3, "the account has a tab of its own")
	_, charted := book.Pkg.Load("xl/charts/chart1.xml")
	assert.True(t, charted)
	// The same again writes over what the first time added, and nothing else.
	code, _, errOut = f.run("check", "marked.xlsx", "-b", "crew", "-o", "twice.xlsx")
	require.Equal(t, 1, code, errOut)
	rows, err := look("twice.xlsx", "Even Ledger reasons", "must be there").GetRows("Sheet1")
	require.NoError(t, err)
	assert.Len(t, rows[0], 5)

	for _, over := range [][]string{{"check", "crew.xlsx", "-b", "crew", "-o", "crew.xlsx"}, {"check", "crew.xlsx", "-b", "crew", "-o", "./crew.xlsx", "--force"}, {"report", "1", "-o", "crew.xlsx", "--force"}} {
		code, _, errOut := f.run(over...)
		assert.Equal(t, 2, code, "%v: %s", over, errOut)
	}
	after, err := os.ReadFile(filepath.Join(f.dir, "crew.xlsx"))
	require.NoError(t, err)
	assert.Equal(t, before, after, "the sheet that went in is as it was")
}

// What spreadsheet programs do to cells without being asked is told, and a cell of
// which nothing sure can be said is refused.
func TestWorkbookDamage(t *testing.T) {
	t.Parallel()
	f := workspace(t, practice(t), "")
	f.write("briefs/dated.yaml", "brief: Dated\nsystem: crewdesk\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  title: {from: Job}\n  start: {from: From, as: date, send: false}\n")
	day := func(month time.Month, day int) time.Time {
		return time.Date(2027, month, day, 0, 0, 0, 0, time.UTC)
	}
	people := func(dates ...any) [][]any {
		rows := [][]any{{"Login", "Job", "From"}}
		for i, date := range dates {
			rows = append(rows, []any{[]string{"ana", "tom", "zoe", "mei", "kai", "leo"}[i], "Clerk", date})
		}
		return rows
	}
	for _, c := range []struct {
		name   string
		rows   [][]any
		change func(book *excelize.File) error
		exit   int
		says   string
	}{
		{"dates as they are", people(day(3, 14), day(5, 20)), nil, 0, "Fine                2"},
		{"dates made of texts, month first", people(day(4, 3), "14/3/2027", day(6, 5), "25/12/2027"), nil, 1, "swapped-date"},
		{"a number where all are dates", people(day(3, 14), day(5, 20), 41), nil, 1, "row 4"},
		{"a workbook to be calculated anew on opening", people("2027-03-14"), func(book *excelize.File) error {
			again := true
			if err := book.SetCalcProps(&excelize.CalcPropsOptions{FullCalcOnLoad: &again}); err != nil {
				return err
			}
			return errors.Join(book.SetCellInt("Sheet1", "B2", 0), book.SetCellFormula("Sheet1", "B2", "1+1"))
		}, 1, "not-calculated · Job"},
		{"cells that are one", people("2027-03-14", "2027-03-15"), func(book *excelize.File) error {
			return book.MergeCell("Sheet1", "B2", "B3")
		}, 0, "merged-cell · Job"},
		{"numbers with zeros that only the format shows", [][]any{{"Login", "Job"}, {"ana", 417}}, func(book *excelize.File) error {
			style, err := book.NewStyle(&excelize.Style{CustomNumFmt: new(`[Red]"BSF-"0000`)})
			if err != nil {
				return err
			}
			return book.SetCellStyle("Sheet1", "B2", "B2", style)
		}, 0, "BSF-0417"},
	} {
		f.book("spoiled.xlsx", c.rows, c.change)
		command := []string{"check", "spoiled.xlsx", "-b", "dated"}
		if strings.HasPrefix(c.says, "BSF") {
			command = []string{"brief", "try", "spoiled.xlsx", "--row", "2"}
		}
		code, out, errOut := f.run(command...)
		assert.Equal(t, c.exit, code, "%s: %s%s", c.name, out, errOut)
		assert.Contains(t, out, c.says, c.name)
	}
}

// A fix sheet in CSV guards texts that a spreadsheet program would run. Typed over into
// a workbook and handed back in, the guard is not taken for a part of the name.
func TestGuardsThroughAWorkbook(t *testing.T) {
	t.Parallel()
	f := workspace(t, practice(t), "")
	f.write("briefs/crew.yaml", strings.Replace(crewBrief, "{from: No}", "{from: No, required: true}", 1))
	f.write("crew.csv", "No,First,Last,Position\n,Ana,Reyes,=Pilot\n,'Tom,Kaya,Deck;=Bosun\n")
	code, _, errOut := f.run("draft", "crew.csv", "-b", "crew")
	require.Equal(t, 1, code, errOut)
	code, _, errOut = f.run("fixes", "1", "-o", "again.csv")
	require.Zero(t, code, errOut)
	file, err := os.Open(filepath.Join(f.dir, "again.csv"))
	require.NoError(t, err)
	defer file.Close()
	rows, err := csv.NewReader(file).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, "'=Pilot", rows[1][3])
	var typed [][]any
	for i, row := range rows {
		cells := make([]any, len(row))
		for j, cell := range row {
			cells[j] = strings.TrimPrefix(cell, "\ufeff")
		}
		if i > 0 {
			cells[0] = "10" + string(rune('0'+i))
		}
		typed = append(typed, cells)
	}
	f.book("again.xlsx", typed, nil)
	code, out, errOut := f.run("draft", "again.xlsx", "-b", "crew", "--json")
	require.Zero(t, code, errOut)
	for _, value := range []string{`"=Pilot"`, `"Deck;=Bosun"`, `"'Tom"`} {
		assert.Contains(t, out, value)
	}
	assert.NotContains(t, out, `"'=Pilot"`)
}
