package check_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/check"
	"evenledger/internal/mapping"
	"evenledger/internal/sheet"
)

// run checks a sheet and returns what is wanted by row, and all findings as
// "row column code" in the order they were told.
func run(t require.TestingT, briefText, csv string, schema *account.Schema) (map[int]map[string]account.Value, []string, *mapping.Mapper) {
	b, err := brief.Parse("b.yaml", []byte(briefText), brief.Options{Today: "2026-11-23"})
	require.NoError(t, err)
	s, err := sheet.Read("s.csv", strings.NewReader(csv), sheet.Options{HeadingRow: b.HeadingRow})
	require.NoError(t, err)
	m := mapping.New(b, s.Info())
	checker := check.New(m, schema)
	var told []string
	tell := func(findings []account.Finding) {
		for _, f := range findings {
			_, listed := account.Explain(f.Code)
			assert.True(t, listed, "the code %s is not listed", f.Code)
			assert.NotEmpty(t, f.Message)
			where := f.Column
			if where == "" {
				where = f.Field
			}
			told = append(told, fmt.Sprintf("%d %s %s", f.Row, where, f.Code))
		}
	}
	tell(m.Findings())
	tell(checker.Schema())
	wanted := map[int]map[string]account.Value{}
	for checked, err := range checker.Rows(context.Background(), s.Rows()) {
		require.NoError(t, err)
		tell(checked.Earlier)
		tell(checked.Wanted.Findings)
		values := map[string]account.Value{}
		for i, f := range b.Fields {
			if v := checked.Wanted.Values[i]; v.Present() {
				values[f.Name] = v
			}
		}
		if checked.Wanted.Aside {
			values = nil
		}
		wanted[checked.Wanted.Row] = values
	}
	return wanted, told, m
}

const people = `match: [employeeNumber]
only: col["Status"] != "Offer"
fields:
  employeeNumber: {from: Staff no, required: true}
  givenName: {from: First name, required: true}
  familyName: {from: Surname, required: true}
  userName: {make: 'fold(givenName) + "." + fold(familyName)', unique: number}
  email: {from: E-mail, make: 'userName + "@brindlesound.example"', unique: refuse}
  country: {from: Country, fallback: PT}
  title: {from: Position, clear_when_blank: true}
  department: {from: Department}
  timezone: {from: Base, via: {Northport: Europe/London}}
  startDate: {from: Start, as: date, send: false}
checks:
  - {that: startDate >= today(), say: the start date is in the past}
  - {that: 'department != "Deck" || title != ""', say: deck crew need a position, level: warning}
`

const headings = "Staff no,First name,Surname,E-mail,Country,Position,Department,Base,Start,Status\n"

func TestFindings(t *testing.T) {
	for name, c := range map[string]struct {
		rows string
		want []string
	}{
		"fine":                 {"1,Ana,Reyes,,Spain,Clerk,Office,Northport,2027-01-01,\n", nil},
		"blank required":       {"1,Ana,,,,,,,,\n", []string{"2 Surname blank-required"}},
		"only white space":     {"1,Ana, \u00a0 ,,,,,,,\n", []string{"2 Surname blank-required"}},
		"aside has no faults":  {"1,Ana,,nonsense,,,,,,Offer\n", []string{"2  not-wanted"}},
		"white space":          {"1,Ana\u00a0,Re\u200byes,,,,,,,\n", []string{"2 First name odd-white-space", "2 Surname odd-white-space"}},
		"line break in a name": {"1,\"Ana\nMaría\",Reyes,,,,,,,\n", []string{"2 First name odd-white-space"}},
		"control character":    {"1,Ana\x07,Reyes,,,,,,,\n", []string{"2 First name broken-text"}},
		"turned direction":     {"1,Ana\u202e,Reyes,,,,,,,\n", []string{"2 First name broken-text"}},
		"kinds":                {"1,Ana,Reyes,ana@,Atlantis,,,,soon,\n", []string{"2 E-mail not-an-email", "2 Country not-a-country", "2 Start not-a-date"}},
		"via":                  {"1,Ana,Reyes,,,,,Southport,,\n", []string{"2 Base via-unlisted"}},
		"checks":               {"1,Ana,Reyes,,,,Deck,,2020-01-01,\n", []string{"2 Start brief-check", "2  brief-check"}},
		"a blank date is none": {"1,Ana,Reyes,,,,,,,\n", nil},
		"too many cells":       {"1,Ana,Reyes,,,,,,,,x\n", []string{"2  ragged-row"}},
		"blank cells beyond":   {"1,Ana,Reyes,,,,,,,,, \n", nil},
		"too few cells":        {"1,Ana,Reyes\n", []string{"2  short-row"}},
		"same key":             {"1,Ana,Reyes,,,,,,,\n1,Tom,Reyes,,,,,,,\n", []string{"2 Staff no same-account", "3 Staff no same-account"}},
		"same value":           {"1,Ana,Reyes,X@x.example,,,,,,\n2,Tom,Kaya,x@X.example,,,,,,\n", []string{"2 E-mail same-value", "3 E-mail same-value"}},
		"three of one":         {"1,A,B,x@x.example,,,,,,\n2,C,D,x@x.example,,,,,,\n3,E,F,x@x.example,,,,,,\n", []string{"2 E-mail same-value", "3 E-mail same-value", "2 E-mail same-value", "4 E-mail same-value"}},
		"aside shares nothing": {"1,Ana,Reyes,,,,,,,Offer\n1,Ana,Reyes,,,,,,,\n", []string{"2  not-wanted"}},
		"too long":             {"1,Ana," + strings.Repeat("x", 9000) + ",,,,,,,\n", []string{"2 Surname too-long"}},
		"login of nothing":     {"1,田,中,,,,,,,\n", []string{"2 userName not-sign-in-name"}},
	} {
		t.Run(name, func(t *testing.T) {
			_, told, _ := run(t, people, headings+c.rows, nil)
			assert.Equal(t, c.want, told)
		})
	}
}

func TestColumnWithoutHeading(t *testing.T) {
	_, told, _ := run(t, people, "Staff no,First name,,Surname,Status\n1,Ana,,Reyes,\n2,Tom,stray,Kaya,\n", nil)
	var rows []string
	for _, line := range told {
		if !strings.HasPrefix(line, "0 ") {
			rows = append(rows, line)
		}
	}
	assert.Equal(t, []string{"3  no-heading"}, rows)
}

// What a cell means: absent, blank and filled are kept apart.
func TestThreeStates(t *testing.T) {
	wanted, _, _ := run(t, people, headings+"1,Zoë,Ångström,,,,,,,\n2,Zoe,Angstrom,own@x.example,UK,Bosun,Deck,Northport,,\n", nil)
	assert.Equal(t, "zoe.angstrom", wanted[2]["userName"].Text())
	assert.Equal(t, "zoe.angstrom@brindlesound.example", wanted[2]["email"].Text(), "made, as the cell is blank")
	assert.Equal(t, "PT", wanted[2]["country"].Text(), "a blank becomes the fallback")
	assert.Equal(t, account.Blank(), wanted[2]["title"], "a blank clears")
	assert.NotContains(t, wanted[2], "department", "a blank leaves alone")
	assert.Equal(t, "zoe.angstrom2", wanted[3]["userName"].Text(), "the second gets a number")
	assert.Equal(t, "own@x.example", wanted[3]["email"].Text(), "the cell goes before what would be made")
	assert.Equal(t, "GB", wanted[3]["country"].Text())
	assert.Equal(t, "Europe/London", wanted[3]["timezone"].Text())

	// Without their columns, fields are not touched, nor what is made from them; only a
	// new account gets the fallback.
	wanted, told, m := run(t, strings.ReplaceAll(people, ", required: true", ""), "STAFF_NO,Status\n7,\n", nil)
	assert.Equal(t, map[string]account.Value{"employeeNumber": account.Of("7"), "country": account.Of("PT")}, wanted[2])
	assert.Contains(t, told, "0 Surname unknown-column")
	assert.False(t, account.HasError(m.Findings()), "absent columns are no errors")
}

func TestSheetAsAWhole(t *testing.T) {
	for name, c := range map[string]struct {
		headings string
		want     []string
		fatal    bool
	}{
		"required column":   {"Staff no,First nam,Surname,Status", []string{"0 First name unknown-column", "0 First nam unknown-heading"}, true},
		"column of only":    {"Staff no,First name,Surname", []string{"0 Status unknown-column"}, true},
		"same heading used": {"Staff no,First name,Surname,SURNAME,Status", []string{"0 Surname same-heading"}, true},
		"not used":          {"Staff no,First name,Surname,Status,Shoe size", []string{"0 Shoe size unknown-heading"}, false},
		"of a fix sheet":    {"Staff no,First name,Surname,Status,Even Ledger row,Even Ledger reasons", nil, false},
		"could be used":     {"Staff no,First name,Surname,Status,Mobile", []string{"0 Mobile unknown-heading"}, false},
	} {
		t.Run(name, func(t *testing.T) {
			b, err := brief.Parse("b.yaml", []byte(people), brief.Options{})
			require.NoError(t, err)
			m := mapping.New(b, sheet.Info{Headings: strings.Split(c.headings, ",")})
			var told []string
			for _, f := range m.Findings() {
				// Optional columns that are missing are told as well.
				if f.Code != account.UnknownColumn || f.Level == account.Error {
					told = append(told, fmt.Sprintf("%d %s %s", f.Row, f.Column, f.Code))
				}
			}
			assert.Equal(t, c.want, told)
			assert.Equal(t, c.fatal, account.HasError(m.Findings()))
		})
	}
}

func TestSchema(t *testing.T) {
	schema := &account.Schema{Attributes: []account.Attribute{
		{Field: "employeeNumber"}, {Field: "givenName"}, {Field: "familyName"}, {Field: "country"}, {Field: "department"}, {Field: "timezone"},
		{Field: "userName", Required: true, Unique: true}, {Field: "email", ReadOnly: true}, {Field: "title", Allowed: []string{"Bosun", "Clerk"}},
		{Field: "displayName", Required: true},
	}}
	_, told, _ := run(t, people, headings+"1,Ana,Reyes,,,bosun,,,,\n2,Tom,Kaya,,,Pilot,,,,\n", schema)
	assert.Equal(t, []string{"0 email read-only-field", "0 displayName blank-required", "3 Position not-allowed-value"}, told)
	wanted, _, _ := run(t, people, headings+"1,Ana,Reyes,,,bosun,,,,\n", schema)
	assert.Equal(t, "Bosun", wanted[2]["title"].Text(), "in the system's spelling")
	_, told, _ = run(t, people, headings, &account.Schema{Attributes: schema.Attributes[:6]})
	assert.Contains(t, told, "0 userName unknown-field")

	// What is set with suspending may be blank, of any kind, but where the system wants something.
	schema.Attributes = append(schema.Attributes, account.Attribute{Field: "startDate", Kind: account.Date}, account.Attribute{Field: "nickName", Kind: account.Login})
	schema.Attributes[6].Kind = account.Login
	_, told, _ = run(t, "match: [employeeNumber]\nfields: {employeeNumber: {from: Staff no}}\nsuspend: {set: {startDate: '', nickName: '', title: '', userName: '', email: ''}}\n", headings, schema)
	assert.Equal(t, []string{"0 userName not-allowed-value"}, slices.DeleteFunc(told, func(f string) bool { return !strings.Contains(f, "not-allowed") }))
}

// Whatever the rows, they come out in order, each once, and numbers make the
// numbered field unique among those that want it.
func TestRowsKeepOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := rapid.SliceOfN(rapid.SampledFrom([]string{"Ana", "ANA", "Tom", "ana2", ""}), 0, 700).Draw(t, "names")
		var csv strings.Builder
		csv.WriteString("No,Name\n")
		for i, name := range names {
			fmt.Fprintf(&csv, "%d,%s\n", i, name)
		}
		wanted, _, _ := run(t, "match: [employeeNumber]\nfields:\n  employeeNumber: {from: No}\n  userName: {make: 'lower(col[\"Name\"])', unique: number}\n", csv.String(), nil)
		require.Len(t, wanted, len(names))
		seen := map[string]bool{}
		for i := range names {
			w := wanted[i+2]
			require.Equal(t, fmt.Sprint(i), w["employeeNumber"].Text())
			if v := w["userName"]; v.Filled() {
				require.False(t, seen[v.Text()], "%s was given twice", v.Text())
				seen[v.Text()] = true
			}
		}
	})
}

// Where a value is taken the further formulas are tried in turn, then numbers.
func TestFree(t *testing.T) {
	taken := map[string]bool{"ana.reyes": true, "a.reyes": true, "areyes": true, "areyes2": true}
	has := func(text string) bool { return taken[text] }
	for _, c := range []struct {
		base   string
		others []string
		number bool
		want   string
		ok     bool
	}{
		{"zoe", []string{"z"}, true, "zoe", true},
		{"ana.reyes", nil, true, "ana.reyes2", true},
		{"ana.reyes", []string{"a.reyes", "ar"}, true, "ar", true},
		{"ana.reyes", []string{"a.reyes", "areyes"}, true, "areyes3", true},
		{"ana.reyes", []string{"a.reyes", "areyes"}, false, "", false},
	} {
		got, ok := check.Free(brief.Field{Number: c.number}, c.base, c.others, has)
		assert.Equal(t, []any{c.want, c.ok}, []any{got, ok})
	}
	const text = `match: [employeeNumber]
fields:
  employeeNumber: {from: No}
  givenName: {from: First}
  userName:
    make: lower(givenName)
    unique: ['lower(givenName) + ".b"', 'first(givenName, 9999999999)']
  email: {make: 'userName + "@x.example"'}
`
	wanted, told, _ := run(t, text, "No,First\n1,Ana\n2,Ana\n3,ana\n4,Ana\n5,Ana\n", nil)
	names := map[int]string{}
	for row, values := range wanted {
		names[row] = values["email"].Text()
	}
	assert.Equal(t, map[int]string{2: "ana@x.example", 3: "ana.b@x.example", 4: "ana@x.example", 5: "ana@x.example", 6: "ana@x.example"}, names)
	assert.Equal(t, []string{"4 userName no-free-value", "5 userName no-free-value", "6 userName no-free-value"}, told)
}

// Rows that are left out have no faults; hidden ones are told once.
func TestLeftAndHidden(t *testing.T) {
	b, err := brief.Parse("b.yaml", []byte(people), brief.Options{Today: "2026-11-23"})
	require.NoError(t, err)
	m := mapping.New(b, sheet.Info{Headings: []string{"Staff no", "First name", "Surname", "Status"}, Hidden: []string{"Surname", "Status"}, Merged: []string{"First name"}})
	codes := map[string]int{}
	for _, f := range m.Findings() {
		codes[string(f.Code)]++
	}
	assert.Equal(t, 1, codes["hidden-column"], "two are told together")
	assert.Equal(t, 1, codes["merged-heading"])
	rows := func(yield func(sheet.Row, error) bool) {
		for i := range 6 {
			row := sheet.Row{Number: i + 2, Cells: []string{fmt.Sprint(i % 5), "Ana", "", ""}, Left: i < 2, Hidden: i%2 == 1}
			if !yield(row, nil) {
				return
			}
		}
	}
	outcomes := ""
	for checked, err := range check.New(m, nil).Rows(context.Background(), rows) {
		require.NoError(t, err)
		hidden := 0
		for _, f := range checked.Wanted.Findings {
			if f.Code == account.HiddenRow {
				hidden++
			}
		}
		switch {
		case checked.Wanted.Aside:
			outcomes += "aside "
			require.Len(t, checked.Wanted.Findings, 1)
			assert.Equal(t, account.NotSelected, checked.Wanted.Findings[0].Code)
		case checked.Wanted.Refused():
			outcomes += fmt.Sprintf("refused/%d ", hidden)
		}
	}
	assert.Equal(t, "aside aside refused/0 refused/1 refused/0 refused/1 ", outcomes)
}
