package mapping_test

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

const text = `match: [userName]
fields:
  userName: {from: Login, make: 'lower(givenName)'}
  givenName: {from: First name}
  title: {from: Position, via: {Deck hand: Deckhand, none: ""}}
  department: {from: Department, fallback: Deck}
  locality: {from: Base}
  timezone: {from: Base, via: {Northport: Europe/London}}
  displayName: {make: 'givenName + " (" + department + ")"'}
  country: {fallback: GB}
  costCenter: {make: 'col["Cost code"] == "" ? "none" : col["Cost code"]'}
`

func mapper(t *testing.T, headings string) (*brief.Brief, *mapping.Mapper) {
	b, err := brief.Parse("b.yaml", []byte(text), brief.Options{})
	require.NoError(t, err)
	return b, mapping.New(b, sheet.Info{Headings: strings.Split(headings, "|")})
}

// values maps one row and shows what is wanted, absent fields left out.
func values(t *testing.T, headings, row string, fixed map[int]string) (map[string]string, []account.Finding) {
	b, m := mapper(t, headings)
	var wanted mapping.Wanted
	m.NewWorker().Map(sheet.Row{Number: 7, Cells: strings.Split(row, "|")}, fixed, &wanted)
	got := map[string]string{}
	for i, f := range b.Fields {
		if wanted.Values[i].Present() {
			got[f.Name] = wanted.Values[i].Text()
		}
	}
	for _, f := range wanted.Findings {
		assert.Equal(t, 7, f.Row)
	}
	return got, wanted.Findings
}

func TestColumns(t *testing.T) {
	_, m := mapper(t, "LOGIN|Positon|Base|Shoe size||Cost code")
	columns := map[string]mapping.Column{}
	for _, c := range m.Columns() {
		columns[c.Heading] = c
	}
	assert.Equal(t, []string{"userName"}, columns["LOGIN"].Fields)
	assert.Equal(t, []string{"locality", "timezone"}, columns["Base"].Fields, "a column may serve several fields")
	assert.True(t, columns["Cost code"].Used && len(columns["Cost code"].Fields) == 0, "an expression reads it")
	assert.False(t, columns["Shoe size"].Used)
	remedies := map[string]string{}
	for _, f := range m.Findings() {
		remedies[string(f.Code)+" "+f.Column] = f.Remedy
	}
	assert.Equal(t, "Did you mean “Positon”?", remedies["unknown-column Position"])
	assert.Equal(t, "Did you mean “Position”?", remedies["unknown-heading Positon"])
	assert.Contains(t, remedies, "unknown-heading Shoe size")
	assert.False(t, account.HasError(m.Findings()))
}

func TestMap(t *testing.T) {
	const headings = "Login|First name|Position|Department|Base|Cost code"
	for name, c := range map[string]struct {
		headings, row string
		fixed         map[int]string
		want          map[string]string
		codes         string
	}{
		"all there": {headings, "ana|Ana|deck  HAND|Engine|Northport|77", nil,
			map[string]string{"country": "GB", "userName": "ana", "givenName": "Ana", "title": "Deckhand", "department": "Engine", "locality": "Northport", "timezone": "Europe/London", "displayName": "Ana (Engine)", "costCenter": "77"}, ""},
		"blanks": {headings, "|Ana||||", nil,
			map[string]string{"country": "GB", "userName": "ana", "givenName": "Ana", "department": "Deck", "displayName": "Ana (Deck)", "costCenter": "none"}, ""},
		"a table's word for nothing": {headings, "ana||NONE|||", nil,
			map[string]string{"country": "GB", "userName": "ana", "department": "Deck", "displayName": "(Deck)", "costCenter": "none"}, ""},
		"absent columns": {"Login|Cost code", "ana|x", nil,
			map[string]string{"country": "GB", "userName": "ana", "department": "Deck", "costCenter": "x"}, ""},
		"an error stays alone": {headings, "ana|Ana|Captain|Engine|Southport|", nil,
			map[string]string{"country": "GB", "userName": "ana", "givenName": "Ana", "department": "Engine", "locality": "Southport", "displayName": "Ana (Engine)", "costCenter": "none"}, "via-unlisted via-unlisted"},
		"a given value": {headings, "|Ana||||", map[int]string{1: "ana2"},
			map[string]string{"country": "GB", "userName": "ana2", "givenName": "Ana", "department": "Deck", "displayName": "Ana (Deck)", "costCenter": "none"}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			got, findings := values(t, c.headings, c.row, c.fixed)
			assert.Equal(t, c.want, got)
			var codes []string
			for _, f := range findings {
				codes = append(codes, string(f.Code))
			}
			assert.Equal(t, c.codes, strings.Join(codes, " "))
		})
	}
}

// A worker's memory is used again from row to row, and nothing of a row may show
// in the next.
func TestRowsDoNotMix(t *testing.T) {
	b, m := mapper(t, "Login|First name|Position|Department|Base|Cost code")
	worker := m.NewWorker()
	var wanted mapping.Wanted
	worker.Map(sheet.Row{Number: 2, Cells: []string{"ana\x00", "Ana", "Captain", "Engine", "Northport", "1", "beyond"}}, nil, &wanted)
	require.True(t, wanted.Refused())
	worker.Map(sheet.Row{Number: 3, Cells: []string{"tom"}}, nil, &wanted)
	assert.False(t, wanted.Refused())
	assert.Equal(t, 3, wanted.Row)
	for _, f := range wanted.Findings {
		assert.Equal(t, account.ShortRow, f.Code)
	}
	assert.Equal(t, "tom", wanted.Value(b, "userName").Text())
	assert.False(t, wanted.Value(b, "locality").Present() || wanted.Value(b, "nothing").Present())
}

// naughty are texts that break programs.
var naughty = []string{
	"NULL", "null", "undefined", "None", "NaN", "Infinity", "true", "0", "-1", "1e309", "0x1F", "1/0", "=1+1", "=cmd|'/C calc'!A0", "@SUM(A1)", "+1", "-2+3", "'; DROP TABLE people; --", `" or ""="`, "<script>alert(1)</script>", "{{7*7}}", "${HOME}", "$(id)", "`id`", "../../etc/passwd", "%s%n%x", "\\", "\\n", "a\x00b", "a\x07b", "\x1b[31mred\x1b[0m", "a\u202eb", "a\u2066b", "\u200b", "\ufeff", "a\u200db", "a\u00adb", "\u00a0", "zoe\u0308", "Ω≈ç√∫", "田中さん", "مرحبا", "👩‍👩‍👧‍👦", "🇵🇹", "ﬁ", "ⅷ", "Ａｎａ", "İ", "ß", "ı", "\xff\xfe", "a\xc3(", "\ud7ff", "\U0010ffff", "\n", "\r\n", "a\nb", "a\tb", "'", "''", "'=1", "#N/A", "#REF!", "4.17E+10", "3-Apr", "_x0041_", "&amp;", "]]>", "*)(uid=*", "ana\" or userName pr", strings.Repeat("a", 9000), strings.Repeat("é", 5000),
}

// Each of them, as every kind of cell, gives the right value or a finding: never
// a crash, never a changed meaning.
func TestNaughtyCells(t *testing.T) {
	for _, kind := range account.KindNames() {
		b, err := brief.Parse("b.yaml", []byte("phones: GB\nmatch: [x]\nfields:\n  x: {from: X, as: "+kind+", send: true}\n"), brief.Options{Aliases: func(string) []string { return []string{"x"} }})
		require.NoError(t, err)
		m := mapping.New(b, sheet.Info{Headings: []string{"X"}})
		worker := m.NewWorker()
		for _, text := range naughty {
			var wanted, again mapping.Wanted
			worker.Map(sheet.Row{Number: 2, Cells: []string{text}}, nil, &wanted)
			value := wanted.Values[0].Text()
			require.True(t, utf8.ValidString(value), "%q", text)
			_, control := words.ControlCharacter(value)
			require.False(t, control, "%q", text)
			if wanted.Refused() {
				assert.Empty(t, value, "%q as %s is refused and has a value", text, kind)
				continue
			}
			worker.Map(sheet.Row{Number: 2, Cells: []string{value}}, nil, &again)
			assert.Equal(t, value, again.Values[0].Text(), "%q as %s reads otherwise the second time", text, kind)
			if kind == "text" {
				clean, _ := words.Clean(text)
				clean, _ = words.OneLine(clean)
				assert.Equal(t, clean, value)
			}
		}
	}
}

func TestSpoiledCells(t *testing.T) {
	b, m := mapper(t, "Login|Position|Department|Base|Cost code")
	worker := m.NewWorker()
	for name, c := range map[string]struct {
		cell string
		kind sheet.CellKind
		code string
	}{
		"error":             {"#N/A", sheet.Faulty, "error-cell"},
		"error as text":     {"#DIV/0!", sheet.Plain, "error-cell"},
		"hash tag":          {"#deck", sheet.Plain, ""},
		"not calculated":    {"", sheet.Uncalculated, "not-calculated"},
		"long number":       {"12345678901234600000", sheet.Numeric, "lost-digits"},
		"fifteen digits":    {"123456789012345", sheet.Numeric, ""},
		"written short":     {"1,2E+19", sheet.Plain, "lost-digits"},
		"date":              {"2027-03-04", sheet.Dated, "became-a-date"},
		"looks like a date": {"Mar-04", sheet.Plain, "became-a-date"},
		"a name":            {"May-Britt", sheet.Plain, ""},
	} {
		var wanted mapping.Wanted
		worker.Map(sheet.Row{Number: 2, Cells: []string{"ana", "", c.cell, "", ""}, Kinds: []sheet.CellKind{0, 0, c.kind, 0, 0}}, nil, &wanted)
		code := ""
		if len(wanted.Findings) > 0 {
			code = string(wanted.Findings[0].Code)
			assert.Equal(t, "Department", wanted.Findings[0].Column)
		}
		assert.Equal(t, c.code, code, name)
		if !wanted.Refused() {
			assert.Equal(t, c.cell, wanted.Value(b, "department").Text(), name)
		}
	}
}

// Memberships are read from cells, from columns that pair up by their number, from
// fallbacks and from rules; values of several parts likewise.
func TestMemberships(t *testing.T) {
	b, err := brief.Parse("b.yaml", []byte(`match: [userName]
fields:
  userName: {from: Login}
  department: {from: Dept, via: {Deck: Deck, Engine: Engine}}
  phoneNumbers: {parts: {type: "Kind *", value: "Number *"}}
  emails: {parts: {type: =work, value: Mail}}
groups: {from: Crews, split: ";", fallback: [all hands], mode: exact}
courses: {from: 'Training *', role: 'Attends * as'}
licences: {from: Licence, via: {yes: charts, no: ""}}
rules:
  - {when: 'department == "Deck"', groups: [deck], roles: [mate]}
password: {new: given, from: Secret}
`), brief.Options{})
	require.NoError(t, err)
	headings := "Login|Dept|Crews|Training ashore|Attends ashore as|Training aboard|Attends aboard as|Licence|Kind 1|Number 1|Number 2|Mail|Secret"
	m := mapping.New(b, sheet.Info{Headings: strings.Split(headings, "|")})
	require.False(t, account.HasError(m.Findings()), "%v", m.Findings())
	assert.Equal(t, 12, m.PasswordColumn())
	for row, want := range map[string]string{
		"ana|Deck|pilots; Pilots ;||||||||||":                                  "g pilots, g deck, r mate | true false false true",
		"ana|Engine|||||||||||":                                                "g all hands | true false false true",
		"ana||x|First aid||Radio|tutor|YES|home|+44 1|+44 2|a@x.example| p w ": "g x, c First aid, c Radio (tutor), l charts | true true true true | home\t+44 1\n\t+44 2 | work\ta@x.example | ' p w '",
		"ana||x|||||no|||||":                                                   "g x | true false false true",
		"ana||x|||||maybe|||||":                                                "g x | true false true true | via-unlisted",
		"ana||x||tutor||||||||":                                                "g x | true false false true | role-alone",
		"ana|Bridge|x||||||||||":                                               "g x | true false false true | via-unlisted",
		"ana||#REF!||||||||||":                                                 " | true false false true | error-cell",
		"ana||x|Rad\x00io|||||||||":                                            "g x | true true false true | broken-text",
	} {
		var w mapping.Wanted
		m.NewWorker().Map(sheet.Row{Number: 2, Cells: strings.Split(row, "|")}, nil, &w)
		var ties, rest []string
		for _, tie := range w.Ties {
			ties = append(ties, b.Memberships[tie.Of].Kind[:1]+" "+account.MembershipText(tie.Name, tie.Role, tie.Section))
		}
		rest = append(rest, strings.Join(ties, ", "), strings.Trim(fmt.Sprint(w.Spoken), "[]"))
		for _, name := range []string{"phoneNumbers{type,value}", "emails{type,value}"} {
			if v := w.Value(b, name); v.Filled() {
				rest = append(rest, v.Text())
			}
		}
		if w.Password != "" {
			rest = append(rest, "'"+w.Password+"'")
		}
		for _, f := range w.Findings {
			rest = append(rest, string(f.Code))
		}
		assert.Equal(t, want, strings.Join(rest, " | "), row)
	}
	missing := mapping.New(b, sheet.Info{Headings: []string{"Login", "Training aboard"}})
	var told []string
	for _, f := range missing.Findings() {
		told = append(told, string(f.Level)+" "+f.Column)
	}
	assert.Subset(t, told, []string{"warning Crews", "warning Licence", "error Secret", "error Mail"})
}

// What a table does not have is refused, or read as it is where the brief says so; roles go through a table of their own.
func TestOpenTablesAndRoles(t *testing.T) {
	b, err := brief.Parse("b.yaml", []byte("match: [userName]\nfields:\n  userName: {from: Login}\n  country: {from: Land, via: {Inselreich: GB}, else: as it is}\ncourses: {from: Course, role: As, via: {Funk: Radio}, else: as it is, role_via: {Lernende: learner}}\n"), brief.Options{})
	require.NoError(t, err)
	m := mapping.New(b, sheet.Info{Headings: []string{"Login", "Land", "Course", "As"}})
	for cells, want := range map[string]string{
		"ana|Inselreich|Funk|Lernende": "GB Radio (learner)",
		"ana|Portugal|Ropes|":          "PT Ropes",
		"ana|Nowhere|Ropes|":           "not-a-country",
		"ana|PT|Ropes|Teaching":        "via-unlisted",
	} {
		var w mapping.Wanted
		m.NewWorker().Map(sheet.Row{Number: 2, Cells: strings.Split(cells, "|")}, nil, &w)
		got := w.Value(b, "country").Text()
		for _, tie := range w.Ties {
			got += " " + account.MembershipText(tie.Name, tie.Role, "")
		}
		for _, f := range w.Findings {
			got = string(f.Code)
		}
		assert.Equal(t, want, got, cells)
	}
}
