package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/compose"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

func TestQuoted(t *testing.T) {
	for word, want := range map[string]string{"starters.csv": "starters.csv", "my file.csv": "'my file.csv'", "it's": `'it'\''s'`, "$(id)": "'$(id)'", "a;b": "'a;b'", "": ""} {
		assert.Equal(t, want, report.Quoted(word), word)
	}
	f := sheetFlags{app.Request{Brief: "starters", Rows: "3-9,12", Only: `title == "x"`, First: 2}}
	assert.Equal(t, ` -b starters --rows 3-9,12 --only 'title == "x"' --first 2`, f.flags())
}

func TestBytesIn(t *testing.T) {
	for text, want := range map[string]int{"": 0, "800": 800, "5MB": 5_000_000, "5 mb": 5_000_000, "2KiB": 2000, "1g": 1_000_000_000} {
		n, err := app.BytesIn(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, n, text)
	}
	for _, text := range []string{"-1", "0", "MB", "5 apples", "1.5MB"} {
		_, err := app.BytesIn(text)
		assert.Error(t, err, text)
	}
}

func TestBriefName(t *testing.T) {
	for name, want := range map[string]string{"starters.csv": "starters", "Season starters 2027.xlsx": "season-starters-2027", "Ångström.csv.gz": "angstrom", "田中.csv": "sheet", "../../etc.csv": "sheet", "standard input": "standard-input"} {
		assert.Equal(t, want, compose.NameOf(name), name)
	}
}

func TestAbout(t *testing.T) {
	for want, info := range map[string]sheet.Info{
		"a.csv · CSV, comma between cells, UTF-8 · headings in row 2": {Name: "a.csv", Format: "CSV", Separator: "comma", Encoding: "UTF-8", HeadingRow: 2},
		"a.xlsx · XLSX, tab “Crew” of 3 · headings in row 1":          {Name: "a.xlsx", Format: "XLSX", Tab: "Crew", Tabs: []string{"a", "b", "Crew"}, HeadingRow: 1},
		"a.gz · JSON lines in gzip, UTF-8":                            {Name: "a.gz", Format: "JSON lines", Compressed: true, Encoding: "UTF-8"},
	} {
		assert.Equal(t, want, answer.About(info))
	}
}
