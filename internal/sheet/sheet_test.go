package sheet_test

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/sheet"
)

type numbered struct {
	row   int
	cells []string
}

func read(t require.TestingT, data []byte, options sheet.Options) (sheet.Info, []numbered, error) {
	s, err := sheet.Read("test.csv", bytes.NewReader(data), options)
	if err != nil {
		return sheet.Info{}, nil, err
	}
	return all(t, s)
}

func all(t require.TestingT, s *sheet.Sheet) (sheet.Info, []numbered, error) {
	var rows []numbered
	for row, err := range s.Rows() {
		if err != nil {
			return s.Info(), rows, err
		}
		rows = append(rows, numbered{row.Number, append([]string{}, row.Cells...)})
	}
	require.NoError(t, s.Close())
	return s.Info(), rows, nil
}

func knows(heading string) bool { return heading == "Surname" || heading == "First name" }

func utf16le(text string, mark bool) []byte {
	var out []byte
	if mark {
		out = []byte{0xff, 0xfe}
	}
	for _, unit := range utf16.Encode([]rune(text)) {
		out = append(out, byte(unit), byte(unit>>8))
	}
	return out
}

func TestRead(t *testing.T) {
	plain := []numbered{{2, []string{"Ana", "Reyes"}}, {3, []string{"Zoë", "Ångström"}}}
	text := "First name,Surname\nAna,Reyes\nZoë,Ångström\n"
	with := func(separator string) string { return strings.ReplaceAll(text, ",", separator) }
	for name, c := range map[string]struct {
		data      string
		options   sheet.Options
		separator string
		encoding  string
		heading   int
		rows      []numbered
	}{
		"comma":                      {text, sheet.Options{}, "comma", "UTF-8", 1, plain},
		"semicolon":                  {with(";"), sheet.Options{}, "semicolon", "UTF-8", 1, plain},
		"tab":                        {with("\t"), sheet.Options{}, "tab", "UTF-8", 1, plain},
		"pipe":                       {with("|"), sheet.Options{}, "pipe", "UTF-8", 1, plain},
		"decimal commas":             {"a;b;c\n1,5;2,5;3,5\n1,5;2,5;3,5\n1,5;2,5;3,5\n", sheet.Options{}, "semicolon", "UTF-8", 1, []numbered{{2, []string{"1,5", "2,5", "3,5"}}, {3, []string{"1,5", "2,5", "3,5"}}, {4, []string{"1,5", "2,5", "3,5"}}}},
		"comma in a title":           {"Brindle Sound, season, 2027\nFirst name;Surname\nAna;Reyes\n", sheet.Options{Recognise: knows}, "semicolon", "UTF-8", 2, []numbered{{3, plain[0].cells}}},
		"commas in addresses":        {"First name|Surname\nAna|1 Pier, Northport, UK\nTom|2 Pier, Northport, UK\n", sheet.Options{}, "pipe", "UTF-8", 1, []numbered{{2, []string{"Ana", "1 Pier, Northport, UK"}}, {3, []string{"Tom", "2 Pier, Northport, UK"}}}},
		"declared separator":         {"sep=;\r\n" + with(";"), sheet.Options{}, "semicolon", "UTF-8", 1, plain},
		"carriage returns":           {strings.ReplaceAll(text, "\n", "\r\n"), sheet.Options{}, "comma", "UTF-8", 1, plain},
		"only carriage returns":      {strings.ReplaceAll(text, "\n", "\r"), sheet.Options{}, "comma", "UTF-8", 1, plain},
		"byte order mark":            {"\ufeff" + text, sheet.Options{}, "comma", "UTF-8", 1, plain},
		"UTF-16 with mark":           {string(utf16le(text, true)), sheet.Options{}, "comma", "UTF-16LE", 1, plain},
		"UTF-16 without":             {string(utf16le(text, false)), sheet.Options{}, "comma", "UTF-16LE", 1, plain},
		"windows-1252":               {"First name,Surname\nAna,Reyes\nZo\xeb,\xc5ngstr\xf6m\n", sheet.Options{}, "comma", "windows-1252", 1, plain},
		"no line end":                {strings.TrimSuffix(text, "\n"), sheet.Options{}, "comma", "UTF-8", 1, plain},
		"damage after UTF-8":         {"First name,Surname\nZoë,\xc5\n", sheet.Options{}, "comma", "UTF-8", 1, []numbered{{2, []string{"Zoë", "\uFFFD"}}}},
		"blank lines count":          {"First name,Surname\n\nAna,Reyes\n,\n \u00a0,\nZoë,Ångström\n", sheet.Options{}, "comma", "UTF-8", 1, []numbered{{3, plain[0].cells}, {6, plain[1].cells}}},
		"line breaks in cells don't": {"First name,Surname\n\"Ana\nMaría\",\"Reyes\n\nSoto\"\nZoë,Ångström\n", sheet.Options{}, "comma", "UTF-8", 1, []numbered{{2, []string{"Ana\nMaría", "Reyes\n\nSoto"}}, {3, plain[1].cells}}},
		"quotes":                     {"First name,Surname\n\"Ana, \"\"Annie\"\"\",\"Reyes\"\nTom \"Tommy\" B,x\n", sheet.Options{}, "comma", "UTF-8", 1, []numbered{{2, []string{`Ana, "Annie"`, "Reyes"}}, {3, []string{`Tom "Tommy" B`, "x"}}}},
		"ragged":                     {"First name,Surname\nAna\nZoë,Ångström,extra\n", sheet.Options{}, "comma", "UTF-8", 1, []numbered{{2, []string{"Ana"}}, {3, []string{"Zoë", "Ångström", "extra"}}}},
		"title lines above":          {"Brindle Sound Ferries\n\nSeason;2027\nFirst name;Surname\nAna;Reyes\n", sheet.Options{Recognise: knows}, "semicolon", "UTF-8", 4, []numbered{{5, plain[0].cells}}},
		"heading row named":          {"a,b\nc,d\ne,f\n", sheet.Options{HeadingRow: 2}, "comma", "UTF-8", 2, []numbered{{3, []string{"e", "f"}}}},
		"only headings":              {"First name,Surname\n", sheet.Options{}, "comma", "UTF-8", 1, nil},
		"one column":                 {"Surname\nReyes\n", sheet.Options{}, "comma", "UTF-8", 1, []numbered{{2, []string{"Reyes"}}}},
		"wide formulas":              {"First name,Surname\n'＝cmd,'＠x\n", sheet.Options{}, "comma", "UTF-8", 1, []numbered{{2, []string{"＝cmd", "＠x"}}}},
		"guarded formulas":           {"First name,Surname\n'=cmd,''+1\n", sheet.Options{}, "comma", "UTF-8", 1, []numbered{{2, []string{"=cmd", "'+1"}}}},
	} {
		t.Run(name, func(t *testing.T) {
			info, rows, err := read(t, []byte(c.data), c.options)
			require.NoError(t, err)
			assert.Equal(t, c.rows, rows)
			assert.Equal(t, c.separator, info.Separator)
			assert.Equal(t, c.encoding, info.Encoding)
			assert.Equal(t, c.heading, info.HeadingRow)
			assert.Len(t, info.Above, c.heading-1)
		})
	}
}

// A byte that is no UTF-8 far down settles the encoding of a sheet that began as
// plain ASCII, and pieces of characters at the reader's edges stay whole.
func TestEncodingSettledLate(t *testing.T) {
	var late, wide strings.Builder
	late.WriteString("First name,Surname\n")
	wide.WriteString("First name,Surname\n")
	for range 40000 {
		late.WriteString("Ana,Reyes\n")
		wide.WriteString("Zoë,Ångström\n")
	}
	late.WriteString("Zo\xeb,\xc5ngstr\xf6m\n")
	info, rows, err := read(t, []byte(late.String()), sheet.Options{})
	require.NoError(t, err)
	assert.Equal(t, "windows-1252", info.Encoding)
	assert.Equal(t, numbered{40002, []string{"Zoë", "Ångström"}}, rows[40000])
	_, rows, err = read(t, []byte(wide.String()), sheet.Options{})
	require.NoError(t, err)
	for _, row := range rows {
		require.Equal(t, []string{"Zoë", "Ångström"}, row.cells)
	}
}

func TestCannotRead(t *testing.T) {
	many := strings.Repeat("x,", 10000)
	for name, c := range map[string]struct {
		data, says string
		line       int
	}{
		"empty":              {"", "is empty", 0},
		"blank":              {"\n\n,,\n", "has no headings", 0},
		"workbook":           {"PK\x03\x04rest", "a workbook", 0},
		"old workbook":       {"\xd0\xcf\x11\xe0rest", "old kind", 0},
		"PDF":                {"%PDF-1.7", "a PDF", 0},
		"compressed":         {"\x1f\x8b\x08", "gzip", 0},
		"web page":           {"<!DOCTYPE html><html>", "a web page", 0},
		"binary":             {"a\x00\x00\x02b\x00\xff", "binary data", 0},
		"too many columns":   {many + "\n" + many, "10001 columns", 1},
		"quote never shut":   {"a\n1\n\"2\n3\n", "not closed before the end", 3},
		"quote within":       {"No,Name,Last,Crew\n101,Ana,\"Reyes,Deck\n102,Bo,\"Lind\",Deck\n103,Cy,Moe,Deck\n", "not closed rightly", 2},
		"two columns":        {"No,Name\n101,\"Reyes\n102,Lind\n103,Ek\"\n", "looks like rows", 2},
		"two lines of two":   {"No,Name\n101,\"Reyes\n102,Lind\"\n", "looks like rows", 2},
		"one column":         {"Name\n\"Reyes\nLind\"\n", "looks like rows", 2},
		"shut with empties":  {"a,b,c\n1,\"2,3\n4,\"\",6\n7,8\",9\n", "looks like rows", 2},
		"cells run together": {"a,b,c\n1,\"x\" y,\"z\"\n", "not closed rightly", 2},
		"no such encoding":   {"a,b\n", "“latin-99”, which nobody knows", 0},
		"UTF-8 after all":    {"a,b\nŁukasz,x\n1,2\n", "and is in UTF-8", 0},
		"quote left open":    {"a,b,c\n1,\"2,3\n4,5,6\n7,8,9\n", "not closed", 2},
		"huge cell":          {"a,b\n1,\"" + strings.Repeat("x", 5<<20) + "\"\n", "over 4 MiB", 2},
		"huge line":          {"a,b\n" + strings.Repeat("x", 5<<20), "over 4 MiB", 2},
		"huge heading":       {strings.Repeat("h", 2000) + ",b\n1,2\n", "2000 characters", 1},
	} {
		t.Run(name, func(t *testing.T) {
			options := sheet.Options{Encoding: map[string]string{"no such encoding": "latin-99", "UTF-8 after all": "windows-1250"}[name]}
			_, _, err := read(t, []byte(c.data), options)
			var told *sheet.Error
			require.ErrorAs(t, err, &told)
			assert.Contains(t, told.Error(), c.says)
			assert.Equal(t, c.line, told.Line)
		})
	}
	_, _, err := read(t, []byte("a,b\n"), sheet.Options{HeadingRow: 4})
	assert.ErrorContains(t, err, "row 4")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "starters.csv"), []byte("a,b\n"), 0o600))
	var told *sheet.Error
	_, err = sheet.Open(filepath.Join(dir, "startes.csv"), nil, sheet.Options{})
	require.ErrorAs(t, err, &told)
	assert.Contains(t, told.Remedy, "starters.csv")
	_, err = sheet.Open(dir, nil, sheet.Options{})
	assert.ErrorContains(t, err, "is a folder")
}

// However quotes are broken, each line of the file is in a row, or the first that is
// doubtful is told.
func TestNoLineVanishes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		columns := rapid.IntRange(1, 6).Draw(t, "columns")
		cell := rapid.OneOf(rapid.StringMatching(`[a-z]{1,6}`), rapid.SampledFrom([]string{`"Lind, Bo"`, `"x"`, `""`, `"say ""hi"""`}))
		lines := []string{strings.TrimSuffix(strings.Repeat("h,", columns), ",")}
		for range rapid.IntRange(1, 12).Draw(t, "lines") {
			cells := make([]string, columns)
			for i := range cells {
				cells[i] = cell.Draw(t, "cell")
			}
			lines = append(lines, strings.Join(cells, ","))
		}
		text := []byte(strings.Join(lines, "\n") + "\n")
		from := bytes.IndexByte(text, '\n') + 1
		for range rapid.IntRange(0, 3).Draw(t, "breaks") {
			at := rapid.IntRange(from, len(text)-1).Draw(t, "at")
			if text[at] == '"' {
				text = slices.Delete(text, at, at+1)
			} else if text[at] != '\n' {
				text = slices.Insert(text, at, '"')
			}
		}
		info, rows, err := read(t, text, sheet.Options{HeadingRow: 1})
		if err != nil {
			var told *sheet.Error
			require.ErrorAs(t, err, &told)
			require.LessOrEqual(t, len(rows)+1, told.Line-1, "no row is given from beyond the line that is told")
			require.LessOrEqual(t, told.Line, len(lines))
			return
		}
		require.True(t, info.Read.Ended && info.Read.Even(), "%+v", info.Read)
		require.Equal(t, len(lines), info.Read.Rows+info.Read.Blank+1, "%s", text)
	})
}

// Quotes are read as people and programs write them, where nothing can be lost.
func TestQuotes(t *testing.T) {
	for text, want := range map[string][]string{
		`"Ana" , "Reyes",x`:          {"Ana", ` "Reyes"`, "x"},
		`"Ana \"Annie\" R",y,x`:      {`Ana "Annie" R`, "y", "x"},
		`"Ana \"Annie\"",y,x`:        {`Ana "Annie"`, "y", "x"},
		`"C:\crew\",y,x`:             {`C:\crew\`, "y", "x"},
		`Ana "Annie",y,"x""`:         nil,
		`"Reyes, "Annie" Ana",y,x`:   {`Reyes, "Annie" Ana`, "y", "x"},
		"\"Pier 1\nNorthport\",y,x":  {"Pier 1\nNorthport", "y", "x"},
		"\"1, Pier\nNorth, UK\",y,x": {"1, Pier\nNorth, UK", "y", "x"},
	} {
		_, rows, err := read(t, []byte("a,b,c\n"+text+"\n"), sheet.Options{})
		if want == nil {
			assert.ErrorContains(t, err, "not closed", text)
			continue
		}
		require.NoError(t, err, text)
		assert.Equal(t, []numbered{{2, want}}, rows, text)
	}
}

// An encoding that is named is read; one that nobody names is guessed, and told with
// the words that would read otherwise.
func TestEncodings(t *testing.T) {
	for name, c := range map[string]struct{ data, word string }{
		"windows-1250": {"\xa3ukasz", "Łukasz"}, "windows-1254": {"\xddpek", "İpek"}, "windows-1257": {"J\xfbrate", "Jūrate"},
		"macintosh": {"Zo\x91", "Zoë"}, "shift_jis": {"\x93c\x92\x86", "田中"}, "gb18030": {"\xcd\xf5", "王"}, "iso-8859-2": {"\xa3ukasz", "Łukasz"},
	} {
		info, rows, err := read(t, []byte("First name,Surname\n"+c.data+",x\n"), sheet.Options{Encoding: name})
		require.NoError(t, err, name)
		assert.Equal(t, []numbered{{2, []string{c.word, "x"}}}, rows, name)
		assert.Empty(t, info.Guessed, name)
	}
	for data, want := range map[string]struct{ word, other string }{
		"\xa3ukasz":    {"Łukasz", "úukasz (IBM850)"},
		"G\xfcl\xfeah": {"Gülşah", "Gülþah (windows-1252)"}, // the word is whole where its first letter is plain
	} {
		info, _, err := read(t, []byte("First name,Surname\n"+data+",x\n"), sheet.Options{})
		require.NoError(t, err)
		require.Len(t, info.Guessed, 1)
		assert.Equal(t, 2, info.Guessed[0].Line)
		assert.Equal(t, want.word, info.Guessed[0].Word)
		assert.Contains(t, info.Guessed[0].Others, want.other)
	}
}

// Headings that come again, totals and remarks of the page are nobody's; people are.
// Whatever ends the lines of a file, and mixed as it comes, a row is a row, and what stands in quotes is one cell.
func TestLineEnds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		end := rapid.SampledFrom([]string{"\n", "\r", "\r\n", "\u0085", "\u2028", "\u2029", "\f"})
		if rapid.Bool().Draw(t, "one kind") {
			end = rapid.Just(end.Draw(t, "end"))
		}
		rows := rapid.IntRange(1, 3000).Draw(t, "rows")
		var text strings.Builder
		text.WriteString("No,Name" + end.Draw(t, "end"))
		for i := range rows {
			fmt.Fprintf(&text, "%d,\"Zoë%sÅng\"%s", i, end.Draw(t, "within"), end.Draw(t, "end"))
		}
		data := []byte(text.String())
		if rapid.Bool().Draw(t, "wide") {
			data = utf16le(text.String(), true)
		}
		info, got, err := read(t, data, sheet.Options{})
		require.NoError(t, err)
		require.Equal(t, []string{"No", "Name"}, info.Headings)
		require.Len(t, got, rows)
		for i, row := range got {
			require.Equal(t, []string{fmt.Sprint(i), "Zoë\nÅng"}, row.cells)
		}
	})
}

func TestFurniture(t *testing.T) {
	for text, want := range map[string]string{
		"No,First name,SURNAME,Crew": "headings again", "Total: 40,,,": "a total", ",,Total,40": "a total", "Summe,40,,": "a total", "Page 2 of 3,,,": "a remark", "* provisional,,,": "a remark",
		"Please send changes to the crewing office,,,": "a whole sentence", "101,Ana,Reyes,Deck": "", "101,,,": "", "102,Total,Recall,Deck": "", ",Ana,Reyes,": "", "No,,,": "",
	} {
		s, err := sheet.Read("t", strings.NewReader("No,First name,Surname,Crew\n"+text+"\n"), sheet.Options{})
		require.NoError(t, err)
		for row, err := range s.Rows() {
			require.NoError(t, err)
			if said := row.Aside + row.Doubt; want == "" {
				assert.Empty(t, said, text)
			} else {
				assert.Contains(t, said, want, text)
			}
		}
	}
}

// Whatever is written comes back, and no cell begins as a formula does.
func TestWrittenComesBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		cell := rapid.StringMatching(`['=+\-@a-zé ,;"\n]{0,8}`)
		rows := rapid.SliceOfN(rapid.SliceOfN(cell, 4, 4), 1, 5).Draw(t, "rows")
		var out bytes.Buffer
		w, err := sheet.NewWriter(&out, "a.csv", sheet.Form{Separator: "semicolon"})
		require.NoError(t, err)
		require.NoError(t, w.Write([]string{"a", "b", "c", "d"}))
		for _, row := range rows {
			require.NoError(t, w.Write(row))
		}
		require.NoError(t, w.Close())
		raw := csv.NewReader(strings.NewReader(strings.TrimPrefix(out.String(), "\uFEFF")))
		raw.Comma, raw.FieldsPerRecord = ';', -1
		records, err := raw.ReadAll()
		require.NoError(t, err)
		for _, record := range records {
			for _, cell := range record {
				for part := range strings.FieldsFuncSeq(cell, func(r rune) bool { return strings.ContainsRune(",;\t|\n", r) }) {
					assert.False(t, strings.ContainsRune("=+-@", rune(part[0])), "%q would act as a formula", cell)
				}
			}
		}
		var want [][]string
		for _, row := range rows {
			if strings.TrimSpace(strings.Join(row, "")) != "" {
				want = append(want, row)
			}
		}
		_, got, err := read(t, out.Bytes(), sheet.Options{HeadingRow: 1})
		if err != nil && strings.Contains(err.Error(), "looks like rows") {
			return // cells over several lines with separators in them
		}
		require.NoError(t, err)
		require.Len(t, got, len(want))
		for i := range want {
			assert.Equal(t, want[i], got[i].cells)
		}
	})
}

// A workbook holds any text as it is, marks and notes beside, and no formulas; signs
// that none can hold are told apart from all others.
func TestWorkbookComesBack(t *testing.T) {
	folder := t.TempDir()
	rapid.Check(t, func(rt *rapid.T) {
		cell := rapid.OneOf(rapid.StringMatching(`['=+\-@a-zé ,;"<&_x0041\n]{0,8}`), rapid.SampledFrom([]string{"00417", "4.17E+10", "3-4", "TRUE", "_x0041_", "_x005F_x0041_", "a\x07b\r\n", "👩‍👩‍👧", "#N/A", "\u202e"}))
		rows := rapid.SliceOfN(rapid.SliceOfN(cell, 3, 3), 1, 4).Draw(rt, "rows")
		path := filepath.Join(folder, "w.xlsx")
		file, err := os.Create(path)
		require.NoError(rt, err)
		w, err := sheet.NewWriter(file, path, sheet.Form{Folder: folder, Wide: 2})
		require.NoError(rt, err)
		require.NoError(rt, w.Write([]string{"a", "b", "c"}))
		for _, row := range rows {
			require.NoError(rt, w.Write(row, sheet.Mark{Column: 0, Note: "look"}, sheet.Mark{Column: 2, Reason: true}))
		}
		require.NoError(rt, errors.Join(w.Close(), file.Close()))
		left, err := os.ReadDir(folder)
		require.NoError(rt, err)
		require.Len(rt, left, 1, "working files are taken away")
		s, err := sheet.Open(path, nil, sheet.Options{HeadingRow: 1})
		require.NoError(rt, err)
		defer s.Close()
		got := map[int][]string{}
		for row, err := range s.Rows() {
			require.NoError(rt, err)
			require.Nil(rt, row.Kinds, "every cell is text")
			got[row.Number] = append([]string{}, row.Cells...)
		}
		for i, row := range rows {
			if strings.TrimSpace(strings.Join(row, "")) != "" {
				read := append(got[i+2], "", "", "")
				for j, text := range row {
					require.Equal(rt, strings.ReplaceAll(text, "\a", "\ufffd"), read[j])
				}
			}
		}
	})
}

func TestRows(t *testing.T) {
	for text, want := range map[string][]int{"3-5,9": {3, 4, 5, 9}, " 2 , 4-": {2, 4, 5, 6, 7, 8, 9}, "9": {9}} {
		ranges, err := sheet.ParseRows(text)
		require.NoError(t, err)
		var got []int
		for row := 1; row < 10; row++ {
			if (sheet.Selection{Ranges: ranges}).Has(row) {
				got = append(got, row)
			}
		}
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "a", "0", "5-3", "-3", "1,,2"} {
		_, err := sheet.ParseRows(text)
		assert.Error(t, err, text)
	}
}

// A selection marks rows and drops none.
func TestSelection(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(0, 30).Draw(t, "rows")
		s := sheet.Selection{First: rapid.IntRange(0, 10).Draw(t, "first")}
		for range rapid.IntRange(0, 3).Draw(t, "ranges") {
			from := rapid.IntRange(1, 30).Draw(t, "from")
			s.Ranges = append(s.Ranges, [2]int{from, from + rapid.IntRange(0, 9).Draw(t, "more")})
		}
		all := func(yield func(sheet.Row, error) bool) {
			for i := range n {
				if !yield(sheet.Row{Number: i + 2}, nil) {
					return
				}
			}
		}
		seen, taken, in := 0, 0, 0
		for row := range s.Of(all) {
			seen++
			if s.Has(row.Number) {
				in++
			}
			if !row.Left {
				taken++
				require.True(t, s.Has(row.Number))
			}
		}
		require.Equal(t, n, seen)
		if s.First > 0 {
			in = min(in, s.First)
		}
		require.Equal(t, in, taken)
		require.NotEmpty(t, s.String())
	})
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{`{"a":{"b":[1,"x"]}}` + "\n" + `{"c":null}`, `[{"a":1},{"b":[{"c":true}]}]`, `{"items":[{"a":"b"}]}`, "a,b\n1,2\n", "sep=;\na;b\n", "\ufeffa\tb\n\"x\ny\"\t\n", "\xff\xfea\x00,\x00b\x00\n\x00", "a|b\r1|\xe9\r", "\"a", "a,b\n\"\n\n\n"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		_, rows, err := read(t, data, sheet.Options{Recognise: knows})
		last := 0
		for _, row := range rows {
			require.Greater(t, row.row, last, "row numbers rise")
			last = row.row
			for _, cell := range row.cells {
				require.True(t, utf8.ValidString(cell))
			}
		}
		if err != nil {
			var told *sheet.Error
			require.ErrorAs(t, err, &told)
		}
	})
}

// A row full of quotes written \" is read in time that grows with its length alone: were
// the cell copied at each of them, this would take minutes.
func TestQuotesOfAnotherWritingWithoutEnd(t *testing.T) {
	const n = 600_000
	_, rows, err := read(t, []byte(`Login,Job title`+"\n"+`ana,"`+strings.Repeat(`a\"`, n)+`"`+"\n"), sheet.Options{})
	require.NoError(t, err)
	require.Len(t, rows, 1)
	assert.Equal(t, strings.Repeat(`a"`, n), rows[0].cells[1])
}
