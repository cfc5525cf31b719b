package layout_test

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/layout"
	"evenledger/internal/yamldoc"
)

const today = "2027-03-01"

// desk and mess differ in everything, and hold the same.
const desk = `
layout: Desk
file: {separator: ";", name: "p-{batch}-{part}.csv"}
above: ["people;3"]
columns:
  - {heading: Do, action: {create: New, update: Change, suspend: Stop, resume: Change, remove: Erase}}
  - {heading: Login, field: userName, longest: 20}
  - {heading: Blocked, field: active, words: {true: "N", false: "Y"}}
  - {heading: Start, field: startDate, date: DD/MM/YYYY}
  - {heading: Place, field: locality}
  - {heading: Team, groups: true, split: ","}
  - {heading: 'Training *', courses: thing, most: 3}
  - {heading: 'As *', courses: role, words: {learner: L, teacher: T}}
`

const mess = `
layout: Mess
file: {separator: tab, encoding: utf-16le, mark: true, line_end: lf, quote: always}
each: action
columns:
  - {heading: Ort, field: locality}
  - {heading: Kurse, courses: thing, split: "|", most: 3}
  - {heading: Rollen, courses: role, split: "|"}
  - {heading: Kennung, field: userName}
  - {heading: Beginn, field: startDate, date: D.M.YY}
  - {heading: Aktiv, field: active, words: {true: "ja", false: "nein"}}
  - {heading: 'Gruppe *', groups: thing, most: 4}
  - {heading: Art, make: '"person"'}
`

func parse(t require.TestingT, text string) *layout.Layout {
	l, err := layout.Parse("layout.yaml", []byte(text), today)
	require.NoError(t, err)
	return l
}

// write writes lines into one file of a folder.
func write(t require.TestingT, l *layout.Layout, path string, lines []layout.Line) {
	var out bytes.Buffer
	w, err := l.NewWriter(&out)
	require.NoError(t, err)
	for i := range lines {
		cells, problems := l.Cells(&lines[i], nil)
		require.Empty(t, problems)
		require.NoError(t, w.Write(cells))
	}
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(path, out.Bytes(), 0o600))
}

func read(t require.TestingT, l *layout.Layout, path string) (all []layout.Found) {
	_, err := l.ReadExport(path, func(f layout.Found) error { all = append(all, f); return nil })
	require.NoError(t, err)
	return all
}

// Whatever people are called, what layouts that differ in everything write is read back as it was.
func TestWrittenIsReadBack(t *testing.T) {
	folder := t.TempDir()
	layouts := map[string]*layout.Layout{"csv": parse(t, desk), "utf-16": parse(t, mess),
		"xlsx": parse(t, strings.Replace(desk, "{separator: \";\", name: \"p-{batch}-{part}.csv\"}", "{format: xlsx}", 1)),
		"json": parse(t, strings.Replace(strings.Replace(desk, "above: [\"people;3\"]", "", 1), "{separator: \";\", name: \"p-{batch}-{part}.csv\"}", "{format: jsonl}", 1))}
	// An apostrophe before a sign is taken for one that keeps a spreadsheet program from seeing a formula: applications do that.
	word := rapid.StringMatching(`[A-Za-zÀ-ž0-9’.=+@;"( )-]{0,12}[A-Za-zÀ-ž]`)
	rapid.Check(t, func(t *rapid.T) {
		var lines []layout.Line
		for i := range rapid.IntRange(1, 8).Draw(t, "people") {
			id := fmt.Sprintf("p%d.%s", i, rapid.StringMatching(`[a-z]{1,8}`).Draw(t, "login"))
			line := layout.Line{Does: account.Create, Account: account.Account{ID: id, Fields: map[string]account.Value{
				"userName": account.Of(id), "locality": account.ValueOr(strings.TrimSpace(word.Draw(t, "place"))),
				"active":    account.Of(fmt.Sprint(rapid.Bool().Draw(t, "active"))),
				"startDate": account.ValueOr(rapid.SampledFrom([]string{"", "2027-01-31", "2026-12-01", "2027-02-03"}).Draw(t, "start"))}}}
			for _, name := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"deck", "pilots", "Zoë's", "north quay", "7"}), 0, 4, rapid.ID).Draw(t, "teams") {
				line.Ties = append(line.Ties, account.Membership{Kind: "groups", Thing: name, Account: id})
			}
			for _, name := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"Marine radio", "Mooring", "Ropes; knots"}), 0, 3, rapid.ID).Draw(t, "courses") {
				line.Ties = append(line.Ties, account.Membership{Kind: "courses", Thing: name, Account: id, Role: rapid.SampledFrom([]string{"learner", "teacher"}).Draw(t, "role")})
			}
			lines = append(lines, line)
		}
		for name, l := range layouts {
			path := filepath.Join(folder, "file."+strings.Replace(l.File.Format, "jsonl", "jsonl", 1))
			write(t, l, path, lines)
			found := read(t, l, path)
			require.Len(t, found, len(lines), name)
			for i, f := range found {
				want := lines[i].Account.Fields
				maps.DeleteFunc(want, func(_ string, v account.Value) bool { return !v.Filled() })
				maps.DeleteFunc(f.Account.Fields, func(_ string, v account.Value) bool { return !v.Filled() })
				assert.Equal(t, want, f.Account.Fields, name)
				byKind := func(a, b account.Membership) int { return strings.Compare(a.Kind, b.Kind) }
				assert.Equal(t, slices.SortedStableFunc(slices.Values(lines[i].Ties), byKind), slices.SortedStableFunc(slices.Values(f.Ties), byKind), name)
			}
		}
	})
}

// What a file cannot hold is told, with the heading, before one is written.
func TestCannotBeWritten(t *testing.T) {
	of := func(field, value string) layout.Line {
		return layout.Line{Does: account.Create, Account: account.Account{Fields: map[string]account.Value{"userName": account.Of("ana"), field: account.Of(value)}}}
	}
	in := func(kind string, names ...string) layout.Line {
		line := of("locality", "")
		for _, name := range names {
			line.Ties = append(line.Ties, account.Membership{Kind: kind, Thing: name})
		}
		return line
	}
	columns := "columns: [{heading: Login, field: userName}, {heading: Place, field: locality, %s}, {heading: Team, groups: true, split: ',', most: 2}, {heading: 'Course *', courses: thing, most: 2}]"
	for why, c := range map[string]struct {
		layout string
		line   layout.Line
	}{
		"“Place”: “Lagos Quay” has 10 characters, and “Place” takes 5":                                       {fmt.Sprintf(columns, "longest: 5"), of("locality", "Lagos Quay")},
		"“Place”: “Lagos” is none of those that “Place” takes: North, South":                                 {fmt.Sprintf(columns, "one_of: [North, South]"), of("locality", "Lagos")},
		"“Place”: “Lagos” is not as “Place” wants it: [a-z]+":                                                {fmt.Sprintf(columns, "pattern: '[a-z]+'"), of("locality", "Lagos")},
		"“Place”: “a\nb” has a line break in it, and “Place” takes none":                                     {fmt.Sprintf(columns, "one_line: true"), of("locality", "a\nb")},
		"“Place”: “Place” has to be filled in every row, and there is no locality":                           {fmt.Sprintf(columns, "required: true"), of("title", "Mate")},
		"“Place”: “a;b” has a separator, a quote or a line break in it, and the application knows no quotes": {"file: {separator: ';', quote: never}\n" + fmt.Sprintf(columns, "fixed: false"), of("locality", "a;b")},
		"“Place”: “Łódź” has letters that windows-1252 does not have, in which the application's files are":  {"file: {encoding: windows-1252}\n" + fmt.Sprintf(columns, "fixed: false"), of("locality", "Łódź")},
		"“Team”: the account would be in 3 groups, and there is room for 2 beneath “Team”":                   {fmt.Sprintf(columns, "fixed: false"), in("groups", "a", "b", "c")},
		"“Team”: “a,b” has “,” in it, which stands between several beneath “Team”":                           {fmt.Sprintf(columns, "fixed: false"), in("groups", "a,b")},
		"“Course *”: the account would be in 3 courses, and there is room for 2 beneath “Course *”":          {fmt.Sprintf(columns, "fixed: false"), in("courses", "a", "b", "c")},
		"“Do”: “suspend” is nothing that the application has a word for beneath “Do”":                        {"columns: [{heading: Login, field: userName}, {heading: Do, action: {create: New}}]", layout.Line{Does: account.Suspend, Account: account.Account{Fields: map[string]account.Value{"userName": account.Of("ana")}}}},
	} {
		_, problems := parse(t, c.layout).Cells(&c.line, nil)
		var told []string
		for _, p := range problems {
			told = append(told, "“"+p.Column+"”: "+p.Why)
		}
		assert.Equal(t, []string{why}, told)
	}
}

// Codes are written as the application wants them, and read whichever way it writes them.
func TestCodes(t *testing.T) {
	l := parse(t, "columns: [{heading: Login, field: userName}, {heading: Land, field: country, as: alpha-3}, {heading: State, field: region}, {heading: Tongue, field: preferredLanguage, as: name}]")
	line := layout.Line{Does: account.Create, Account: account.Account{ID: "ana", Fields: map[string]account.Value{"userName": account.Of("ana"), "country": account.Of("PT"), "preferredLanguage": account.Of("pt")}}}
	cells, problems := l.Cells(&line, nil)
	assert.Empty(t, problems)
	assert.Equal(t, []string{"ana", "PRT", "", "Portuguese"}, cells)
	path := filepath.Join(t.TempDir(), "a.csv")
	write(t, l, path, []layout.Line{line})
	assert.Equal(t, line.Account.Fields["country"], read(t, l, path)[0].Account.Field("country"))
	assert.Equal(t, "pt", read(t, l, path)[0].Account.Field("preferredLanguage").Text())
	line.Account.Fields["country"] = account.Of("XX")
	_, problems = l.Cells(&line, nil)
	assert.Len(t, problems, 1)
}

// Mistakes in a layout are told at their line and column, with the nearest right word.
func TestMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"columns: []": "1:1: the layout has no columns",
		"columns:\n  - {heading: Login, field: userName}\n  - {heading: login, field: email}":                   "3:5: the heading “login” stands here a second time",
		"columns:\n  - {heading: Login, field: userName}\n  - {heading: Sign-in, field: userName}":              "3:5: two columns have the same",
		"columns:\n  - {heading: Login, feild: userName}":                                                       "2:22: unknown key “feild”",
		"columns:\n  - {heading: Login, field: userName, date: DD/MM}":                                          "2:45: “DD/MM” does not say how a date is written",
		"columns:\n  - {heading: Login, field: userName, pattern: '['}":                                         "2:48: the pattern cannot be read",
		"columns:\n  - {heading: Surname, field: familyName}":                                                   "1:1: nothing says by which field the application knows an account",
		"key: user\ncolumns:\n  - {heading: Login, field: userName}":                                            "1:6: no column has the field “user”",
		"columns:\n  - {heading: Login, field: userName}\n  - {heading: 'As *', courses: role}":                 "3:5: “As *” has a part of the courses, and no column has them",
		"columns:\n  - {heading: Login, field: userName}\n  - {heading: 'T *', courses: thing}":                 "3:5: nothing says how many columns “T *” stands for",
		"columns:\n  - {heading: Login, field: userName}\n  - {heading: Kind, make: 'usrName'}":                 "3:28: ",
		"file: {separator: ';;'}\ncolumns: [{heading: Login, field: userName}]":                                 "1:19: “;;” is no separator",
		"file: {encoding: latin-99}\ncolumns: [{heading: Login, field: userName}]":                              "1:18: there is no encoding “latin-99”",
		"file: {name: 'people.csv'}\ncolumns: [{heading: Login, field: userName}]":                              "1:1: two files would be called alike",
		"file: {name: 'out/{batch}-{part}.csv'}\ncolumns: [{heading: Login, field: userName}]":                  "1:1: the name of a file has a folder in it",
		"limits: {bytes: many}\ncolumns: [{heading: Login, field: userName}]":                                   "1:17: “many” is no size",
		"results: {message: Reason}\ncolumns: [{heading: Login, field: userName}]":                              "1:10: nothing says which row a failure is of",
		"each: crew\ncolumns: [{heading: Login, field: userName}]":                                              "1:7: no column has the field “crew”",
		"columns:\n  - {heading: Login, field: userName, groups: true}":                                         "2:5: a column is filled by one thing",
		"columns:\n  - {heading: L, field: userName}\n  - {heading: A, groups: true, split: ';', words: [a]}\n": "3:51: expected keys",
	} {
		_, err := layout.Parse("layout.yaml", []byte(text), today)
		var problems yamldoc.Problems
		require.True(t, errors.As(err, &problems), text)
		assert.Contains(t, problems.Error(), "layout.yaml:"+want, text)
		assert.Equal(t, strings.Contains(want, "by which field"), strings.Contains(problems.Error(), "by which field"), text)
	}
}

// An export that is not the application's, was cut off or cannot tell two accounts apart is refused; a list of failures likewise.
func TestWhatIsReadIsNotBelieved(t *testing.T) {
	l := parse(t, desk+"export: {columns: {Sign-in name: userName}, words: {active: {true: open, false: shut}}}\nresults: {key: {Login: userName}, line: Row, first_line: 1, message: Reason}\n")
	path := filepath.Join(t.TempDir(), "export.csv")
	for text, want := range map[string]string{
		"Name;Town\nAna;Lagos\n":                                   "has no column with the userName",
		"Sign-in name;Place\nana;Lagos\nANA;Faro\n":                "rows 2 and 3 have the same userName, “ANA”",
		"Sign-in name;Place;Start\nana;Lagos;01/01/2027\n;Faro;\n": "row 3 has no userName",
		"Sign-in name;Place;Start\nana;Lagos;01/01/2027\nbo;Fa":    "seems to break off",
	} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := l.ReadExport(path, func(layout.Found) error { return nil })
		assert.ErrorContains(t, err, want)
	}
	require.NoError(t, os.WriteFile(path, []byte("Place;Sign-in name;Blocked;Training 2;As 2\nLagos;ana;shut;Ropes;T\n"), 0o600))
	found := read(t, l, path)
	require.Len(t, found, 1)
	assert.Equal(t, "false", found[0].Account.Field("active").Text(), "in the words of the exports")
	assert.Equal(t, []account.Membership{{Kind: "courses", Thing: "Ropes", Account: "ana", Role: "teacher"}}, found[0].Ties)

	require.NoError(t, os.WriteFile(path, []byte("Row;Login;Reason\n2;ana;Taken\n"), 0o600))
	failures, err := l.ReadResults(path)
	require.NoError(t, err)
	assert.Equal(t, []layout.Failure{{Row: 2, Line: 4, Keys: map[string]string{"userName": "ana"}, Reason: "Taken"}}, failures)
	require.NoError(t, os.WriteFile(path, []byte("Line;Who\n2;ana\n"), 0o600))
	_, err = l.ReadResults(path)
	assert.ErrorContains(t, err, "has no column “Reason”")
}
