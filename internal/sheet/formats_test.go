package sheet_test

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"pgregory.net/rapid"

	"evenledger/internal/sheet"
)

// open writes data to a file and opens it.
func open(t testing.TB, data []byte, options sheet.Options) (*sheet.Sheet, error) {
	path := filepath.Join(t.TempDir(), "test.data")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	s, err := sheet.Open(path, nil, options)
	if err == nil {
		t.Cleanup(func() { _ = s.Close() }) // some tests close it themselves
	}
	return s, err
}

// The same table reads the same out of every kind of file.
func TestEveryFormatAlike(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		cell := rapid.OneOf(rapid.StringMatching(`[A-Za-zéß0-9 ,.;'"<&-]{0,10}`), rapid.SampledFrom([]string{"", "00417", "Ångström", "Παπαδόπουλος", "田中", "1,5", "14/3/2027"}))
		n := rapid.IntRange(0, 6).Draw(rt, "rows")
		headings := []string{"First name", "Surname", "Remark"}
		var want []numbered
		table := [][]string{headings}
		for i := range n {
			row := []string{"x" + cell.Draw(rt, "a"), cell.Draw(rt, "b"), cell.Draw(rt, "c")}
			table, want = append(table, row), append(want, numbered{i + 2, row})
		}
		files := map[string][]byte{}
		for _, name := range []string{"t.csv", "t.tsv", "t.xlsx", "written.jsonl"} {
			var out bytes.Buffer
			w, err := sheet.NewWriter(&out, name, sheet.Form{Folder: t.TempDir()})
			require.NoError(rt, err)
			for _, row := range table {
				require.NoError(rt, w.Write(row))
			}
			require.NoError(rt, w.Close())
			files[name] = out.Bytes()
		}
		var packed, lines bytes.Buffer
		gz := gzip.NewWriter(&packed)
		_, err := gz.Write(files["t.csv"])
		require.NoError(rt, errors.Join(err, gz.Close()))
		files["t.csv.gz"] = packed.Bytes()
		content := `<x><table:table table:name="A">`
		for _, row := range table {
			content += `<table:table-row>`
			for _, text := range row {
				var escaped strings.Builder
				require.NoError(rt, xml.EscapeText(&escaped, []byte(text)))
				content += `<table:table-cell office:value-type="string"><text:p>` + escaped.String() + `</text:p></table:table-cell>`
			}
			content += `</table:table-row>`
		}
		files["t.ods"] = openDocument(t, content+`</table:table></x>`)
		for _, row := range table[1:] {
			data, err := json.Marshal(map[string]string{"First name": row[0], "Surname": row[1], "Remark": row[2]})
			require.NoError(rt, err)
			lines.Write(append(data, '\n'))
		}
		if n > 0 {
			files["t.jsonl"] = lines.Bytes()
		}
		for name, data := range files {
			s, err := open(t, data, sheet.Options{Recognise: knows})
			if name == "written.jsonl" && n == 0 {
				require.ErrorContains(rt, err, "is empty")
				continue
			}
			require.NoError(rt, err, name)
			info, rows, err := all(rt, s)
			require.NoError(rt, err, name)
			var got []numbered
			for _, row := range rows {
				cell := func(heading string) string {
					if i := slices.Index(info.Headings, heading); i >= 0 && i < len(row.cells) {
						return row.cells[i]
					}
					return "" // no row has anything there
				}
				number := row.row
				if info.HeadingRow == 0 {
					number++ // JSON has no row of headings
				}
				got = append(got, numbered{number, []string{cell("First name"), cell("Surname"), cell("Remark")}})
			}
			require.Equal(rt, want, got, name)
		}
	})
}

// crew.xlsx and crew.ods were saved by an office program out of crew.fods.
func TestWorkbooks(t *testing.T) {
	for _, format := range []string{"xlsx", "ods"} {
		t.Run(format, func(t *testing.T) {
			path := "testdata/crew." + format
			s, err := sheet.Open(path, nil, sheet.Options{Recognise: knows})
			require.NoError(t, err)
			var rows []sheet.Row
			for row, err := range s.Rows() {
				require.NoError(t, err)
				row.Cells, row.Kinds = append([]string{}, row.Cells...), append([]sheet.CellKind{}, row.Kinds...)
				rows = append(rows, row)
			}
			require.NoError(t, s.Close())
			info := s.Info()
			assert.Equal(t, sheet.Info{Name: "crew." + format, Format: strings.ToUpper(format), Tab: "Crew & pilots", Tabs: []string{"Read me", "Crew & pilots"}, HeadingRow: 4,
				Headings: []string{"Staff no", "First name", "Surname", "Pay grade", "Start date", "Phone", "", "Active", "Card", "Position"},
				Above:    info.Above, Hidden: []string{"Pay grade"}, Merged: []string{"Phone"}, Read: info.Read}, info)
			assert.Equal(t, [5]any{true, true, 1, 1, 2}, [5]any{info.Read.Ended, info.Read.Even(), info.Read.Above, info.Read.Headings, info.Read.Rows})
			assert.Equal(t, []string{"Brindle Sound Ferries"}, info.Above[0])
			require.Len(t, rows, 2)
			const plain = sheet.Plain
			assert.Equal(t, sheet.Row{Number: 5,
				Cells: []string{"00417", "Zoë", "Ångström", "4.5", "2027-03-14", "447700900102", "ext   7", "TRUE", "12345678901234600000", "Deckhand"},
				Kinds: []sheet.CellKind{sheet.Numeric, plain, plain, sheet.Numeric, sheet.Dated, sheet.Numeric, plain, sheet.Logical, sheet.Numeric, plain}}, rows[0])
			assert.Equal(t, []any{9, true, "00012", "=Tom", "O'Neill\nsenior", "#N/A", sheet.Faulty},
				[]any{rows[1].Number, rows[1].Hidden, rows[1].Cells[0], rows[1].Cells[1], rows[1].Cells[2], rows[1].Cells[9], rows[1].Kind(9)})

			s, err = sheet.Open(path, nil, sheet.Options{Tab: "read ME"})
			require.NoError(t, err)
			assert.Equal(t, []string{"Fill in the other tab, please"}, s.Info().Headings)
			require.NoError(t, s.Close())
			_, err = sheet.Open(path, nil, sheet.Options{Tab: "Crew and pilots"})
			assert.ErrorContains(t, err, "has no tab “Crew and pilots”")
		})
	}
}

// workbook makes a small XLSX file of the parts given.
func workbook(t testing.TB, parts map[string]string) []byte {
	whole := map[string]string{
		"xl/workbook.xml":            `<workbook xmlns:r="x"><workbookPr date1904="false"/><sheets><sheet name="One" sheetId="1" r:id="r1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="r1" Type="x/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="r2" Type="x/sharedStrings" Target="/xl/sharedStrings.xml"/></Relationships>`,
		"xl/styles.xml":              `<styleSheet><numFmts><numFmt numFmtId="170" formatCode="[$-409]d\ mmm&quot;day&quot;;@"/><numFmt numFmtId="171" formatCode="000\-00&quot; &quot;00"/><numFmt numFmtId="172" formatCode="[h]:mm"/><numFmt numFmtId="173" formatCode="[$-409]00000"/><numFmt numFmtId="174" formatCode="&quot;BSF-&quot;0000;[Red]-0"/><numFmt numFmtId="175" formatCode="[&lt;1000][Blue]00000;0"/><numFmt numFmtId="176" formatCode="0&quot; days&quot;"/><numFmt numFmtId="177" formatCode="+0"/></numFmts><cellXfs><xf numFmtId="0"/><xf numFmtId="14"/><xf numFmtId="170"/><xf numFmtId="171"/><xf numFmtId="172"/><xf numFmtId="173"/><xf numFmtId="174"/><xf numFmtId="175"/><xf numFmtId="176"/><xf numFmtId="177"/></cellXfs></styleSheet>`,
		"xl/sharedStrings.xml":       `<sst><si><t>Surname</t></si><si><r><t>First</t></r><r><t xml:space="preserve"> name</t></r><rPh><t>no</t></rPh></si></sst>`,
	}
	for name, text := range parts {
		whole[name] = text
	}
	return zipped(t, whole)
}

func openDocument(t testing.TB, content string) []byte {
	return zipped(t, map[string]string{"mimetype": "application/vnd.oasis.opendocument.spreadsheet", "content.xml": content})
}

func zipped(t testing.TB, files map[string]string) []byte {
	var out bytes.Buffer
	archive := zip.NewWriter(&out)
	for name, text := range files {
		w, err := archive.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(w, text)
		require.NoError(t, err)
	}
	require.NoError(t, archive.Close())
	return out.Bytes()
}

const tab = "xl/worksheets/sheet1.xml"

func onTab(rows string) map[string]string {
	return map[string]string{tab: `<worksheet><sheetData><row r="1"><c r="A1" t="s"><v>0</v></c><c r="B1" t="s"><v>1</v></c></row>` + rows + `</sheetData></worksheet>`}
}

func TestStoredValues(t *testing.T) {
	for stored, want := range map[string]struct {
		text string
		kind sheet.CellKind
	}{
		`<c r="A2" t="b"/>`: {"", sheet.Logical},
		`<c r="A2"><v>5</v><extLst><ext><x:v>7</x:v></ext></extLst></c>`:    {"5", sheet.Numeric},
		`<c r="A2" s="9"><v>351282555014</v></c>`:                           {"+351282555014", sheet.Numeric},
		`<c r="A2" s="9"><v>5</v></c>`:                                      {"5", sheet.Numeric},
		`<c r="A2"><v>0.1</v></c>`:                                          {"0.1", sheet.Numeric},
		`<c r="A2"><v>0.30000000000000004</v></c>`:                          {"0.3", sheet.Numeric},
		`<c r="A2"><v>4.17E+10</v></c>`:                                     {"41700000000", sheet.Numeric},
		`<c r="A2" s="1"><v>46460</v></c>`:                                  {"2027-03-14", sheet.Dated},
		`<c r="A2" s="1"><v>46460.75</v></c>`:                               {"2027-03-14 18:00:00", sheet.Dated},
		`<c r="A2" s="1"><v>1</v></c>`:                                      {"1900-01-01", sheet.Dated},
		`<c r="A2" s="1"><v>0.5</v></c>`:                                    {"12:00:00", sheet.Dated},
		`<c r="A2" s="1"><v>-1</v></c>`:                                     {"-1", sheet.Numeric},
		`<c r="A2" s="2"><v>46460</v></c>`:                                  {"2027-03-14", sheet.Dated},
		`<c r="A2" s="3"><v>12345</v></c>`:                                  {"001-23 45", sheet.Numeric},
		`<c r="A2" s="3"><v>123456789</v></c>`:                              {"123456789", sheet.Numeric},
		`<c r="A2" s="5"><v>417</v></c>`:                                    {"00417", sheet.Numeric},
		`<c r="A2" s="6"><v>42</v></c>`:                                     {"BSF-0042", sheet.Numeric},
		`<c r="A2" s="6"><v>123456</v></c>`:                                 {"BSF-123456", sheet.Numeric},
		`<c r="A2" s="7"><v>42</v></c>`:                                     {"00042", sheet.Numeric},
		`<c r="A2" s="7"><v>4200</v></c>`:                                   {"4200", sheet.Numeric},
		`<c r="A2" s="8"><v>5</v></c>`:                                      {"5", sheet.Numeric},
		`<c r="A2" s="4"><v>1.5</v></c>`:                                    {"1.5", sheet.Numeric},
		`<c r="A2" t="d"><v>2027-03-14T00:00:00</v></c>`:                    {"2027-03-14 00:00:00", sheet.Dated},
		`<c r="A2" t="e"><v>#REF!</v></c>`:                                  {"#REF!", sheet.Faulty},
		`<c r="A2"><f>B2</f></c>`:                                           {"", sheet.Uncalculated},
		`<c r="A2" t="inlineStr"><is><t>O_x0027_Neill _x005F_</t></is></c>`: {"O'Neill _", sheet.Plain},
		`<c r="A2" t="inlineStr"><is><t>a_x005F_x000D_b</t></is></c>`:       {"a_x000D_b", sheet.Plain},
		`<c r="A2" t="str"><f>A1</f><v>&lt;b&gt; &amp;</v></c>`:             {"<b> &", sheet.Plain},
		`<c t="inlineStr"><is><t>without a reference</t></is></c>`:          {"without a reference", sheet.Plain},
	} {
		s, err := open(t, workbook(t, onTab(`<row>`+stored+`<c r="B2" t="str"><v>Ana</v></c></row>`)), sheet.Options{})
		require.NoError(t, err, stored)
		assert.Equal(t, []string{"Surname", "First name"}, s.Info().Headings)
		for row, err := range s.Rows() {
			require.NoError(t, err, stored)
			assert.Equal(t, []any{2, want.text, want.kind}, []any{row.Number, row.Cells[0], row.Kind(0)}, stored)
		}
	}
}

// Cells of an OpenDocument spreadsheet, as they are stored.
func TestStoredValuesODS(t *testing.T) {
	for stored, want := range map[string]struct {
		text string
		kind sheet.CellKind
	}{
		`office:value-type="float" office:value="417"><text:p>00417</text:p>`:                              {"00417", sheet.Numeric},
		`office:value-type="float" office:value="417"><text:p>417.00</text:p>`:                             {"417", sheet.Numeric},
		`office:value-type="float" office:value="2012025550143"><text:p>(201) 202-5550143</text:p>`:        {"(201) 202-5550143", sheet.Numeric},
		`office:value-type="float" office:value="42"><text:p>BSF-0042</text:p>`:                            {"BSF-0042", sheet.Numeric},
		`office:value-type="float" office:value="42"><text:p>42 days</text:p>`:                             {"42", sheet.Numeric},
		`office:value-type="string" office:string-value="" table:formula="of:=&quot;&quot;">`:              {"", sheet.Plain},
		`office:value-type="percentage" office:value="0.5"><text:p>50%</text:p>`:                           {"0.5", sheet.Numeric},
		`office:value-type="currency" office:value="1200" office:currency="EUR"><text:p>1.200 €</text:p>`:  {"1200", sheet.Numeric},
		`office:value-type="date" office:date-value="2027-03-14T10:30:00"><text:p>14.3.</text:p>`:          {"2027-03-14 10:30:00", sheet.Dated},
		`office:value-type="boolean" office:boolean-value="false"><text:p>FALSCH</text:p>`:                 {"FALSE", sheet.Logical},
		`office:value-type="string"><text:p>a<text:s text:c="3"/>b<text:tab/>c</text:p><text:p>d</text:p>`: {"a   b\tc\nd", sheet.Plain},
		`office:value-type="string"><text:p>O&apos;<text:span>Neill</text:span></text:p>`:                  {"O'Neill", sheet.Plain},
		`table:formula="of:=[.B1]">`:          {"", sheet.Uncalculated},
		`table:formula="of:=[.B1]"><text:p/>`: {"", sheet.Plain},
		`office:value-type="string" calcext:value-type="error" table:formula="of:=1/0"><text:p>#DIV/0!</text:p>`: {"#DIV/0!", sheet.Faulty},
	} {
		content := `<x><table:table table:name="A"><table:table-row><table:table-cell office:value-type="string"><text:p>Surname</text:p></table:table-cell><table:table-cell office:value-type="string"><text:p>First name</text:p></table:table-cell></table:table-row>` +
			`<table:table-row table:number-rows-repeated="2"><table:table-cell ` + stored + `</table:table-cell><table:table-cell office:value-type="string"><text:p>Ana</text:p></table:table-cell></table:table-row></table:table></x>`
		s, err := open(t, openDocument(t, content), sheet.Options{})
		require.NoError(t, err, stored)
		last := 1
		for row, err := range s.Rows() {
			require.NoError(t, err, stored)
			last++
			assert.Equal(t, []any{last, want.text, want.kind}, []any{row.Number, row.Cells[0], row.Kind(0)}, stored)
		}
		assert.Equal(t, 3, last, "a repeated row is there twice")
	}
	_, err := open(t, openDocument(t, `<x><table:table table:name="A"><table:table-row table:number-rows-repeated="99999999"><table:table-cell office:value-type="string"><text:p>a</text:p></table:table-cell></table:table-row></table:table></x>`), sheet.Options{})
	assert.ErrorContains(t, err, "beyond the last row")
	_, err = open(t, openDocument(t, `<x><table:table table:name="A"><table:table-row><table:table-cell table:number-columns-repeated="9999" office:value-type="string"><text:p>a</text:p></table:table-cell></table:table-row></table:table></x>`), sheet.Options{})
	assert.ErrorContains(t, err, "more than the 2000 columns")
}

// Two tabs that fit alike are told apart by the brief's columns, or not at all; a
// tab that is not shown is not read unless it is named.
func TestWhichTab(t *testing.T) {
	ods := func(tabs ...string) []byte {
		var content strings.Builder
		content.WriteString(`<x xmlns:style="s"><style:style style:name="off"><style:table-properties table:display="false"/></style:style>`)
		for _, tab := range tabs {
			name, headings, _ := strings.Cut(tab, ":")
			style, isHidden := strings.CutPrefix(name, "!")
			content.WriteString(`<table:table table:name="` + style + `" table:style-name="` + map[bool]string{true: "off", false: "on"}[isHidden] + `"><table:table-row>`)
			for heading := range strings.SplitSeq(headings, ",") {
				content.WriteString(`<table:table-cell office:value-type="string"><text:p>` + heading + `</text:p></table:table-cell>`)
			}
			content.WriteString(`</table:table-row></table:table>`)
		}
		return openDocument(t, content.String()+`</x>`)
	}
	for name, c := range map[string]struct {
		tabs    []string
		options sheet.Options
		want    string
	}{
		"hidden first":      {[]string{"!Old:First name,Surname", "Crew:First name,Other"}, sheet.Options{Recognise: knows}, "Crew"},
		"hidden by name":    {[]string{"!Old:First name,Surname", "Crew:First name,Other"}, sheet.Options{Tab: "old"}, "Old"},
		"only hidden":       {[]string{"!Old:First name,Surname"}, sheet.Options{Recognise: knows}, "Old"},
		"the better":        {[]string{"Notes:First name,Other", "Crew:First name,Surname"}, sheet.Options{Recognise: knows}, "Crew"},
		"the brief's":       {[]string{"Crew:First name,Surname", "Season:First name,Berth"}, sheet.Options{Recognise: knows, Named: func(h string) bool { return h == "Berth" }}, "Season"},
		"alike":             {[]string{"Deck:First name,Surname", "Engine:First name,Surname"}, sheet.Options{Recognise: knows}, "two tabs that fit alike, “Deck” and “Engine”"},
		"alike, to look at": {[]string{"Deck:First name,Surname", "Engine:First name,Surname"}, sheet.Options{Recognise: knows, AnyTab: true}, "Deck"},
		"spaces by exact":   {[]string{"Crew 1.1:First name,Surname", "Crew 11:First name,Surname"}, sheet.Options{Tab: "Crew 11"}, "Crew 11"},
		"far too many":      {slices.Repeat([]string{"Deck:First name,Surname"}, 5000), sheet.Options{Recognise: knows}, "has 5000 tabs"},
	} {
		s, err := open(t, ods(c.tabs...), c.options)
		if strings.Contains(c.want, " tabs") {
			assert.ErrorContains(t, err, c.want, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.want, s.Info().Tab, name)
	}
}

// A tab that cannot be read is no reason to read another, and rows that stand on another are told.
func TestTabsBesides(t *testing.T) {
	table := func(name, style string, cells ...string) string {
		out := `<table:table table:name="` + name + `" table:style-name="` + style + `">`
		for _, row := range append([]string{`<text:p>First name</text:p>|<text:p>Surname</text:p>`}, cells...) {
			out += "<table:table-row>"
			for cell := range strings.SplitSeq(row, "|") {
				kind := ` office:value-type="string"`
				if number, is := strings.CutPrefix(cell, "#"); is {
					kind, cell = ` office:value-type="float" office:value="`+number+`"`, "<text:p>1</text:p>"
				}
				out += `<table:table-cell` + kind + `>` + cell + `</table:table-cell>`
			}
			out += "</table:table-row>"
		}
		return out + "</table:table>"
	}
	book := func(tables ...string) []byte {
		return openDocument(t, `<x xmlns:style="s"><style:style style:name="off"><style:table-properties table:display="false"/></style:style>`+strings.Join(tables, "")+`</x>`)
	}
	ana, zoe := `<text:p>Ana</text:p>|<text:p>Reyes</text:p>`, `<text:p>Zoë</text:p>|<text:p>Ångström</text:p>`
	s, err := open(t, book(table("Crew", "on", ana), table("Gone", "on", ana, zoe), table("Old", "off", zoe), table("Empty", "on")), sheet.Options{Recognise: knows, AnyTab: true})
	require.NoError(t, err)
	assert.Equal(t, []sheet.OtherTab{{Name: "Gone", Rows: 2}, {Name: "Old", Hidden: true, Rows: 1}}, s.Info().Others)
	broken := book(table("Crew", "on", `#no number|<text:p>Reyes</text:p>`), table("Gone", "on", zoe))
	_, err = open(t, broken, sheet.Options{Recognise: knows})
	require.ErrorContains(t, err, "the tab “Crew” cannot be read: the workbook is damaged: “no number” is stored as a number and is none")
	s, err = open(t, broken, sheet.Options{Recognise: knows, Tab: "Gone"})
	require.NoError(t, err)
	assert.Empty(t, s.Info().Others, "it was named")
}

// Several tabs of one shape are read as one sheet, whatever the order of their columns.
func TestTabsTogether(t *testing.T) {
	type row = []string
	book := func(tabs ...[]row) []byte {
		f := excelize.NewFile()
		for i, rows := range tabs {
			name := []string{"Crew", "Pilots", "Legend", "Office"}[i]
			_, err := f.NewSheet(name)
			require.NoError(t, err)
			for r, cells := range rows {
				require.NoError(t, f.SetSheetRow(name, fmt.Sprintf("A%d", r+1), &cells))
			}
		}
		require.NoError(t, f.DeleteSheet("Sheet1"))
		var out bytes.Buffer
		require.NoError(t, f.Write(&out))
		return out.Bytes()
	}
	crew := []row{{"First name", "Surname", "No"}, {"Ana", "Reyes", "1"}, {}, {"Zoë", "Ångström", "2"}}
	pilots := []row{{"List of pilots"}, {"No", "Surname", "First name"}, {"7", "Kaya", "Ece", "beyond"}}
	legend := []row{{"Colour", "Meaning"}, {"red", "late"}}
	office := []row{{"First name", "Surname", "Desk"}, {"Bo", "Lind", "4"}}
	for name, c := range map[string]struct {
		book  []byte
		tabs  []string
		rows  []numbered
		error string
	}{
		"all":               {book(crew, pilots, legend), []string{"all"}, []numbered{{2, row{"Ana", "Reyes", "1"}}, {4, row{"Zoë", "Ångström", "2"}}, {7, row{"Ece", "Kaya", "7", "beyond"}}}, ""},
		"by name":           {book(crew, pilots, legend, office), []string{"pilots", "Crew"}, []numbered{{3, row{"7", "Kaya", "Ece", "beyond"}}, {5, row{"1", "Reyes", "Ana"}}, {7, row{"2", "Ångström", "Zoë"}}}, ""},
		"of other columns":  {book(crew, pilots, legend, office), []string{"all"}, nil, "“Crew” and “Office” are to be read as one sheet, and only the second has the heading “Desk”"},
		"that is not there": {book(crew), []string{"Crew", "Pilot"}, nil, "has no tab “Pilot”"},
	} {
		s, err := open(t, c.book, sheet.Options{Tabs: c.tabs, Recognise: knows})
		if c.error != "" {
			assert.ErrorContains(t, err, c.error, name)
			continue
		}
		require.NoError(t, err, name)
		info, rows, err := all(t, s)
		require.NoError(t, err, name)
		assert.Equal(t, c.rows, rows, name)
		assert.True(t, info.Read.Ended && info.Read.Even(), name)
		assert.Equal(t, 3, info.Read.Rows, name)
		require.Len(t, info.Below, 1, name)
	}
}

// A workbook that is written can be read and printed as it is: columns as wide as what stands in them, a filter, the headings on each page.
func TestWorkbookToPrint(t *testing.T) {
	path := filepath.Join(t.TempDir(), "out.xlsx")
	file, err := os.Create(path)
	require.NoError(t, err)
	w, err := sheet.NewWriter(file, path, sheet.Form{HeadingRow: 2, Wide: 2, Account: []sheet.Count{{Label: "Created", N: 375, Color: "4C7A5A"}, {Label: "Refused", N: 25, Color: "B5533C"}}})
	require.NoError(t, err)
	for _, row := range [][]string{{"A title that is longer than its column"}, {"No", "E-mail", "Even Ledger reasons"}, {"1", "zoe.angstrom@brindlesound.example", "why"}} {
		require.NoError(t, w.Write(row, sheet.Mark{Column: 1, Note: strings.Repeat("a long note ", 30)}))
	}
	require.NoError(t, errors.Join(w.Close(), file.Close()))
	f, err := excelize.OpenFile(path)
	require.NoError(t, err)
	defer f.Close()
	for column, least := range map[string]float64{"A": 7, "B": 34, "C": 60} {
		width, err := f.GetColWidth("Sheet", column)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, width, least, column)
		assert.Less(t, width, least+12, column)
	}
	for _, tab := range f.GetSheetList() {
		layout, err := f.GetPageLayout(tab)
		require.NoError(t, err)
		props, err := f.GetSheetProps(tab)
		require.NoError(t, err)
		assert.Equal(t, [3]any{"landscape", 1, 0}, [3]any{*layout.Orientation, *layout.FitToWidth, *layout.FitToHeight}, tab)
		assert.True(t, *props.FitToPage, tab)
	}
	names := ""
	for _, name := range f.GetDefinedName() {
		names += name.Name + " " + name.RefersTo + "\n"
	}
	assert.Contains(t, names, "_xlnm.Print_Titles 'Sheet'!$2:$2")
	archive, err := zip.OpenReader(path)
	require.NoError(t, err)
	defer archive.Close()
	parts := map[string]string{}
	for _, part := range archive.File {
		r, err := part.Open()
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, errors.Join(err, r.Close()))
		parts[part.Name] = string(data)
	}
	assert.Contains(t, parts["xl/worksheets/sheet1.xml"], `<autoFilter ref="$A$2:$C$3"`)
	assert.Contains(t, parts["xl/charts/chart1.xml"], `<min val="0"`)
	assert.Contains(t, parts["xl/charts/chart1.xml"], `<max val="400"`)
}

// What is merged is told cell by cell, in every row it covers.
func TestMergedCells(t *testing.T) {
	rows := ""
	for n := 2; n < 6; n++ {
		rows += fmt.Sprintf(`<row r="%d"><c r="A%d" t="inlineStr"><is><t>x</t></is></c></row>`, n, n)
	}
	part := onTab(rows)
	part[tab] = strings.Replace(part[tab], "</sheetData>", `</sheetData><mergeCells count="3"><mergeCell ref="B2:B4"/><mergeCell ref="B2:B4"/><mergeCell ref="A5:B5"/></mergeCells>`, 1)
	s, err := open(t, workbook(t, part), sheet.Options{})
	require.NoError(t, err)
	covers := map[int][]int{}
	for row, err := range s.Rows() {
		require.NoError(t, err)
		covers[row.Number] = row.Merged
	}
	assert.Equal(t, map[int][]int{2: nil, 3: {1}, 4: {1}, 5: {1}}, covers)
}

// Tabs that are hidden come last, and dates may be counted from 1904.
func TestWorkbookAsAWhole(t *testing.T) {
	two := onTab(`<row r="2"><c r="A2" s="1"><v>45000</v></c></row>`)
	two["xl/workbook.xml"] = `<workbook xmlns:r="x"><workbookPr date1904="1"/><sheets><sheet name="Kept" state="hidden" r:id="r1"/><sheet name="Shown" r:id="r3"/></sheets></workbook>`
	two["xl/_rels/workbook.xml.rels"] = `<Relationships><Relationship Id="r1" Type="x/worksheet" Target="/xl/worksheets/sheet1.xml"/><Relationship Id="r2" Type="x/sharedStrings" Target="sharedStrings.xml"/><Relationship Id="r3" Type="x/worksheet" Target="worksheets/sheet2.xml"/></Relationships>`
	two["xl/worksheets/sheet2.xml"] = `<worksheet><cols><col min="2" max="2" hidden="1"/></cols><sheetData><row r="1"><c r="A1" t="s"><v>0</v></c><c r="B1" t="s"><v>1</v></c></row></sheetData></worksheet>`
	s, err := open(t, workbook(t, two), sheet.Options{})
	require.NoError(t, err)
	assert.Equal(t, []any{"Shown", []string{"Kept", "Shown"}, []string{"First name"}}, []any{s.Info().Tab, s.Info().Tabs, s.Info().Hidden})
	s, err = open(t, workbook(t, two), sheet.Options{Tab: "kept"})
	require.NoError(t, err)
	for row, err := range s.Rows() {
		require.NoError(t, err)
		assert.Equal(t, "2027-03-16", row.Cells[0])
	}
}

func TestJSON(t *testing.T) {
	want := []numbered{{1, []string{"Ana", "Reyes", "a@brindlesound.example", "deck;pilots", "TRUE", ""}}, {2, []string{"Zoë", "", "", "", "", "41700000000"}}}
	objects := []string{`{"name":{"given":"Ana","family":"Reyes"},"emails":[{"value":"a@brindlesound.example"}],"crews":["deck","pilots"],"active":true,"phone":null}`, `{"name":{"given":"Zo\u00eb"},"phone":4.17E+10}`}
	for name, c := range map[string]struct{ data, format string }{
		"array":       {"[" + strings.Join(objects, ",") + "]", "JSON"},
		"lines":       {strings.Join(objects, "\n") + "\n", "JSON lines"},
		"without end": {strings.Join(objects, "\r\n"), "JSON lines"},
		"held by":     {`{"schemas":["urn:x"],"totalResults":2,"Resources":[` + strings.Join(objects, ",") + `],"more":1}`, "JSON"},
		"spread":      {"[\n " + strings.Join(objects, " ,\n\n") + "\n]\n", "JSON"},
		"with a mark": {"\ufeff" + strings.Join(objects, "\n"), "JSON lines"},
		"in UTF-16":   {string(utf16le(strings.Join(objects, "\n"), true)), "JSON lines"},
		"on one line": {strings.Join(objects, " "), "JSON lines"},
		"two arrays":  {"[" + objects[0] + "]\n[" + objects[1] + "]\n", "JSON"},
		"two holders": {`{"data":[` + objects[0] + `],"page":1}` + "\n" + `{"page":2,"data":[` + objects[1] + `]}`, "JSON"},
	} {
		t.Run(name, func(t *testing.T) {
			info, rows, err := read(t, []byte(c.data), sheet.Options{})
			require.NoError(t, err)
			assert.Equal(t, c.format, info.Format)
			assert.Equal(t, [3]any{2, 2, true}, [3]any{info.Read.Records, info.Read.Rows, info.Read.Ended && info.Read.Even()})
			assert.Equal(t, []string{"name.given", "name.family", "emails.1.value", "crews", "active", "phone"}, info.Headings)
			assert.Equal(t, want, rows)
		})
	}
	info, rows, err := read(t, []byte(`[{"crews":["a;b","c"],"one":["x\\y"]},{"crews":["d"],"one":"z"}]`), sheet.Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"crews", "one"}, info.Headings, "a separator within a value changes no list's shape")
	assert.Equal(t, []numbered{{1, []string{`a\;b; c`, `x\\y`}}, {2, []string{"d", "z"}}}, rows)
	assert.Equal(t, []string{"a;b", "c"}, sheet.SplitItems(rows[0].cells[0]))
	var late strings.Builder
	for range 1200 {
		late.WriteString(`{"name":"Ana"}` + "\n")
	}
	_, rows, err = read(t, []byte(late.String()+"\n"+`{"name":"Zoë","rank":"Bosun"}`), sheet.Options{})
	require.NoError(t, err)
	assert.Equal(t, numbered{1202, []string{"Zoë", "rank: Bosun"}}, rows[1200], "what comes late is not lost")
}

// The list of people is found by its shape, wherever it is held, and a person's own lists are none.
func TestJSONByShape(t *testing.T) {
	many := strings.Repeat(`{"Surname":"Reyes","boats":[{"a":1},{"a":2}]},`, 3000)
	for name, c := range map[string]struct {
		text, tab string
		rows      int
		headings  []string
	}{
		"another name":     {`{"page":1,"mannschaft":[{"Surname":"Reyes"},{"Surname":"Kaya"}]}`, "mannschaft", 2, []string{"Surname"}},
		"held deep":        {"{\n \"answer\": {\"meta\": {\"n\": 2}, \"body\": {\"crew\": [{\"Surname\":\"Reyes\"},{\"Surname\":\"Kaya\"}], \"at\": 1}}, \"ok\": true}", "answer.body.crew", 2, []string{"Surname"}},
		"a long one":       {`{"besatzung":[` + many + `{"Surname":"Lin"}],"n":1}`, "besatzung", 3001, []string{"Surname", "boats.1.a", "boats.2.a"}},
		"one person":       {`{"userName":"ana","boats":[{"a":1},{"a":2}]}`, "", 1, []string{"userName", "boats.1.a", "boats.2.a"}},
		"people, of lists": {`{"id":1,"accounts":[{"a":1}]}` + "\n" + `{"id":2,"accounts":[{"a":1}]}`, "", 2, []string{"id", "accounts.1.a"}},
		"a table":          {`[["No","Surname"],[1,"Reyes"],[2,"Kaya;Lin"],[3]]`, "", 3, []string{"No", "Surname"}},
	} {
		s, err := sheet.Read("t", strings.NewReader(c.text), sheet.Options{})
		require.NoError(t, err, name)
		info, rows, err := all(t, s)
		require.NoError(t, err, name)
		assert.Equal(t, c.tab, info.Tab, name)
		assert.Len(t, rows, c.rows, name)
		assert.Equal(t, c.headings, info.Headings, name)
	}
	s, err := sheet.Read("t", strings.NewReader(`{"a":{"crew":[{"Surname":"Reyes"}],"boats":[{"Surname":"x"}]}}`), sheet.Options{Tab: "a.boats"})
	require.NoError(t, err)
	_, rows, err := all(t, s)
	require.NoError(t, err)
	assert.Equal(t, []numbered{{1, []string{"x"}}}, rows)
	s, err = sheet.Read("t", strings.NewReader(`{"a":{"crew":[{"Surname":"Reyes"}],"boats":[{"Surname":"x"}]}}`), sheet.Options{})
	if err == nil {
		_, _, err = all(t, s)
	}
	assert.ErrorContains(t, err, "two lists of objects")
}

// Of two lists the named one is read; of two values of one key neither is believed.
func TestJSONInDoubt(t *testing.T) {
	_, rows, err := read(t, []byte(`{"teams":[{"a":1}],"users":[{"a":2}]}`), sheet.Options{Tab: "teams"})
	require.NoError(t, err)
	assert.Equal(t, []numbered{{1, []string{"1"}}}, rows)
	s, err := sheet.Read("t", strings.NewReader(`[{"a":"x","b":"y","a":"z"},{"a":"x","a":"x","n":{"k":1},"n.k":1}]`), sheet.Options{})
	require.NoError(t, err)
	var twice [][]int
	for row, err := range s.Rows() {
		require.NoError(t, err)
		twice = append(twice, slices.Clone(row.Twice))
	}
	assert.Equal(t, [][]int{{0}, {}}, twice)
}

func TestCompressed(t *testing.T) {
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, err := io.WriteString(w, "First name;Surname\nAna;Reyes\n")
	require.NoError(t, err)
	require.NoError(t, w.Close())
	s, err := sheet.Open("-", bytes.NewReader(packed.Bytes()), sheet.Options{})
	require.NoError(t, err)
	info, rows, err := all(t, s)
	require.NoError(t, err)
	assert.True(t, info.Compressed)
	assert.Equal(t, []numbered{{2, []string{"Ana", "Reyes"}}}, rows)
	_, _, err = read(t, packed.Bytes()[:packed.Len()-12], sheet.Options{})
	assert.ErrorContains(t, err, "cannot be unpacked")
}

// What is no sheet, or a broken one, is told in words and never crashes.
func TestUnreadableFiles(t *testing.T) {
	crew, err := os.ReadFile("testdata/crew.xlsx")
	require.NoError(t, err)
	bomb := workbook(t, onTab(`<row r="2"><c r="A2" t="str"><v>`+strings.Repeat("a", 70<<20)+`</v></c></row>`))
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"cut short":          {crew[:len(crew)/2], "cut short or damaged"},
		"bomb":               {bomb, "made to fill a memory"},
		"long cell":          {workbook(t, onTab(`<row r="2"><c r="A2" t="str"><v>`+strings.Repeat("a", 5<<20)+`</v></c></row>`)), "over 4 MiB long"},
		"not calculated":     {workbook(t, onTab(`<row r="2"><c r="A2" t="s"><v>9</v></c></row>`)), "which is not there"},
		"rows out of order":  {workbook(t, onTab(`<row r="1"/>`)), "stands below row 1"},
		"cells out of order": {workbook(t, onTab(`<row r="2"><c r="B2"/><c r="A2"/></row>`)), "out of its order"},
		"breaks off":         {workbook(t, map[string]string{tab: `<worksheet><sheetData><row r="1"><c r="A1"><v>1`}), "damaged"},
		"no tab":             {workbook(t, nil), "no tab with cells"},
		"binary workbook":    {zipped(t, map[string]string{"xl/workbook.bin": ""}), "xlsb"},
		"word processor":     {zipped(t, map[string]string{"word/document.xml": ""}), "not a spreadsheet"},
		"other archive":      {zipped(t, map[string]string{"a.csv": ""}), "a zip archive"},
		"old workbook":       {[]byte("\xd0\xcf\x11\xe0\xa1\xb1"), "old kind"},
		"with a password":    {append([]byte("\xd0\xcf\x11\xe0"), utf16le("EncryptedPackage", false)...), "with a password"},
		"a web page":         {[]byte("<!DOCTYPE html>"), "web page"},
		"JSON breaks off":    {[]byte(`[{"a":1},{"b"`), "cut short"},
		"JSON of numbers":    {[]byte(`[{"a":1}, 2]`), "item 2 is no object"},
		"JSON without":       {[]byte(`[]`), "no objects"},
		"rows beyond":        {workbook(t, map[string]string{tab: `<worksheet><sheetData><row r="50000000"><c r="A50000000"><v>1</v></c></row></sheetData></worksheet>`}), "row 50000000 is beyond the last"},
		"number of a row":    {workbook(t, onTab(`<row r="999999999999999999"/>`)), "beyond the last"},
		"columns beyond":     {workbook(t, onTab(`<row r="2"><c r="XFE2"/></row>`)), "column 16385 is beyond"},
		"headings far down":  {workbook(t, map[string]string{tab: `<worksheet><sheetData><row r="1000000"><c r="A1000000"><v>1</v></c></row></sheetData></worksheet>`}), "row 1000000"},
		"rows end missing":   {workbook(t, map[string]string{tab: onTab("")[tab][:len(onTab("")[tab])-len("</sheetData></worksheet>")]}), "damaged"},
		"texts end missing":  {workbook(t, map[string]string{tab: onTab("")[tab], "xl/sharedStrings.xml": "<sst><si><t>Surname</t></si><si><t>First name</t></si>"}), "damaged"},
		"JSON behind":        {[]byte(`[{"a":1}] and so on`), "the JSON cannot be read"},
		"JSON, two lists":    {[]byte(`{"data":[{"a":1}],"more":[{"a":2}]}`), "two lists of objects, “data” and “more”"},
		"JSON, list before":  {[]byte(`{"teams":[{"a":1}],"users":[{"a":2}]}`), "two lists of objects, “users” and “teams”"},
		"JSON, holder open":  {[]byte(`{"data":[{"a":1}]`), "cut short"},
		"JSON, array open":   {[]byte(`[{"a":1}`), "cut short"},
		"JSON nested":        {[]byte(`[` + strings.Repeat(`{"a":`, 40)), "nested more than 12 deep"},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := open(t, c.data, sheet.Options{})
			if err == nil {
				_, _, err = all(t, s)
			}
			var told *sheet.Error
			require.ErrorAs(t, err, &told)
			assert.Contains(t, told.Error()+told.Remedy, c.says)
			assert.NotEmpty(t, told.Remedy)
		})
	}
}

// FuzzTab and FuzzContent fuzz what stands in the parts of workbooks.
func FuzzTab(f *testing.F) {
	f.Add(`<row r="1"><c r="A1" t="s"><v>0</v></c></row>`, `<si><t>a</t></si>`)
	f.Add(`<row><c s="1"><v>1e300</v></c><c t="e"/></row><mergeCell ref="A1:B1"/>`, ``)
	f.Fuzz(func(t *testing.T, rows, shared string) {
		fuzzed(t, workbook(t, map[string]string{tab: "<worksheet><sheetData>" + rows + "</sheetData></worksheet>", "xl/sharedStrings.xml": "<sst>" + shared + "</sst>"}))
	})
}

func FuzzContent(f *testing.F) {
	f.Add(`<table:table table:name="a"><table:table-row table:number-rows-repeated="3"><table:table-cell office:value-type="float" office:value="1"><text:p>1</text:p></table:table-cell></table:table-row></table:table>`)
	f.Fuzz(func(t *testing.T, content string) { fuzzed(t, openDocument(t, content)) })
}

// fuzzed sees that a file is read, or told to be broken.
func fuzzed(t *testing.T, data []byte) {
	s, err := open(t, data, sheet.Options{})
	last, rows := 0, 0
	if err == nil {
		for row, problem := range s.Rows() {
			if err = problem; err != nil {
				break
			}
			require.Greater(t, row.Number, last, fmt.Sprint("after ", last))
			if last = row.Number; rows > 2000 {
				break
			}
			rows++
		}
		s.Info()
	}
	if err != nil {
		var told *sheet.Error
		require.ErrorAs(t, err, &told)
	}
}

// A blank has its headings on the first tab, lists to choose from and checks.
func TestBlank(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, sheet.WriteBlank(&out, sheet.Blank{
		Columns: []sheet.BlankColumn{{Heading: "User name", Required: true, Lacks: " ", Note: "must be there"}, {Heading: "Watch", Allowed: []string{"Day", "Night"}}, {Heading: "Email", Holds: "@"}},
		Notes:   [][]string{{"Column", "Example"}, {"User name", "=ana"}},
	}))
	data := bytes.Clone(out.Bytes())
	s, err := open(t, data, sheet.Options{Tab: "People"})
	require.NoError(t, err)
	assert.Equal(t, []string{"User name", "Watch", "Email"}, s.Info().Headings)
	assert.Equal(t, []string{"People", "Notes", "Lists"}, s.Info().Tabs, "the hidden one comes last")
	s, err = open(t, data, sheet.Options{Tab: "Notes"})
	require.NoError(t, err)
	_, rows, err := all(t, s)
	require.NoError(t, err)
	assert.Equal(t, []numbered{{2, []string{"User name", "=ana"}}}, rows)
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	part, err := archive.Open("xl/worksheets/sheet1.xml")
	require.NoError(t, err)
	text, err := io.ReadAll(part)
	require.NoError(t, err)
	for _, want := range []string{`sqref="B2:B2001" type="list"><formula1>Lists!$A$1:$A$2</formula1>`, `ISERROR(FIND(" ",A2))`, `ISNUMBER(FIND("@",C2))`} {
		assert.Contains(t, string(text), want)
	}
}

// Merged cells don't overlap. A workbook that says they do, a thousand times over, takes
// no more than one that has as many columns merged as there are.
func TestMergedCellsBeyondReason(t *testing.T) {
	var merges strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&merges, `<mergeCell ref="A1:XFD%d"/>`, 1000+i)
	}
	parts := onTab(`<row r="2"><c r="A2" t="str"><v>Reyes</v></c><c r="B2" t="str"><v>Ana</v></c></row>`)
	parts[tab] = strings.Replace(parts[tab], "</sheetData>", "</sheetData><mergeCells>"+merges.String()+"</mergeCells>", 1)
	s, err := open(t, workbook(t, parts), sheet.Options{})
	require.NoError(t, err)
	rows := 0
	for row, err := range s.Rows() {
		require.NoError(t, err)
		assert.LessOrEqual(t, len(row.Merged), sheet.MaxColumns)
		rows++
	}
	assert.Equal(t, 1, rows)
}
