package report_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"html"
	"iter"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/inquiry"
	"evenledger/internal/membership"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

func page(write func(*report.Page)) string {
	var out bytes.Buffer
	p := &report.Page{W: &out}
	write(p)
	return out.String()
}

func TestAccount(t *testing.T) {
	got := page(func(p *report.Page) {
		assert.True(t, p.Account([]report.Side{{Label: "Rows in", N: 40}}, report.Sides(&batch.Batch{},
			account.Counts{account.Waiting: 35, account.Unchanged: 2, account.Aside: 1, account.Refused: 2},
			map[account.Intent]int{account.Create: 31, account.Update: 4})))
	})
	assert.Equal(t, `
  Rows in       40        To create          31
                          To update           4
                          Nothing to change   2
                          Set aside           1
                          Refused             2
                ──                           ──
                40                           40   even
                ══                           ══
`, got)
	got = page(func(p *report.Page) {
		assert.True(t, p.Account([]report.Side{{Label: "Rows in", N: 1234567}}, []report.Side{{Label: "Created", N: 1234567}}))
	})
	assert.Contains(t, got, "Rows in       1 234 567        Created            1 234 567")
	got = page(func(p *report.Page) {
		assert.False(t, p.Account([]report.Side{{Label: "Rows in", N: 3}}, []report.Side{{Label: "Created", N: 2}}))
	})
	assert.Contains(t, got, "NOT EVEN")
	got = page(func(p *report.Page) { assert.True(t, p.Account([]report.Side{{Label: "Rows in", N: 0}}, nil)) })
	assert.Contains(t, got, "even")
	sides := report.Sides(&batch.Batch{Progress: batch.Progress{Reading: batch.Reading{MayEnter: 2}}}, account.Counts{account.Created: 1, account.Waiting: 1, account.Failed: 3}, map[account.Intent]int{account.Create: 1})
	assert.Equal(t, []report.Side{{Label: "May sign in, failed", N: 2, Grave: true}, {Label: "Still to create", N: 1}}, sides[:2], "what cannot wait comes first")
}

// Nothing out of a sheet or a system steers the terminal.
func TestHarmless(t *testing.T) {
	hostile := "a\x1b[31mb\x9bc\u202ed\x07\r\ne"
	e := batch.Entry{Row: 2, Key: hostile, Intent: account.Update, Outcome: account.Failed, Account: hostile,
		Changes:  []account.Change{{Field: "title", Before: account.Of(hostile), After: account.Of(hostile)}},
		Findings: []account.Finding{{Row: 2, Level: account.Error, Code: account.Stale, Column: hostile, Message: hostile, Remedy: hostile}},
		Cells:    []string{hostile}}
	got := page(func(p *report.Page) {
		p.Title(&batch.Batch{Draft: batch.Draft{By: hostile, Source: batch.Source{Sheet: hostile}}})
		p.EntryLine(e)
		p.Entry(e, []string{hostile})
		e.Changes = nil
		p.Entry(e, []string{hostile})
		causes := &report.Causes{}
		causes.Add(e.Findings[0])
		p.Findings(causes)
		p.Text(p.Dim, hostile)
		p.Next(hostile)
	})
	for _, bad := range []string{"\x1b", "\x9b", "\u202e", "\x07", "\r"} {
		assert.NotContains(t, got, bad)
	}
	var out bytes.Buffer
	colored := &report.Page{W: &out, Color: true}
	colored.Line("%s %s", colored.Bold(hostile), hostile)
	assert.Equal(t, 2, strings.Count(out.String(), "\x1b"), "only our own styling: %q", out.String())
}

func TestWidths(t *testing.T) {
	assert.Equal(t, "田中  |", report.Pad("田中", 6)+"|")
	assert.Equal(t, "田…", report.Clip("田中太郎", 4))
	assert.Equal(t, "Ångström", report.Clip("Ångström", 8))
	assert.Equal(t, "Ångstr…", report.Clip("Ångström", 7))
	got := page(func(p *report.Page) {
		p.Width = 60
		p.Text(func(s string) report.Styled { return report.Styled(s) }, strings.Repeat("wording ", 20))
	})
	for line := range strings.Lines(got) {
		assert.LessOrEqual(t, len(line), 60)
	}
}

func TestFindingsByCause(t *testing.T) {
	causes := &report.Causes{}
	add := func(row int, level account.Level, code account.Code, column, message string) {
		causes.Add(account.Finding{Row: row, Level: level, Code: code, Column: column, Message: message, Remedy: "do it"})
	}
	add(0, account.Note, "unknown-heading", "A", "A is not used")
	for row := 2; row < 14; row++ {
		add(row, account.Warning, "brief-check", "", "too early")
	}
	add(3, account.Warning, "brief-check", "", "too late")
	add(9, account.Error, "stale", "", "changed")
	add(4, account.Error, "blank-required", "Surname", "blank")
	add(4, account.Error, "blank-required", "Surname", "blank")
	add(7, account.Error, "blank-required", "Surname", "blank")
	got := page(func(p *report.Page) { p.Findings(causes) })
	assert.Regexp(t, `(?s)Errors.*blank-required · Surname +2 rows: 4, 7\n.*stale +row 9.*Warnings.*12 rows: 2, 3, 4, 5, 6, 7, 8, 9, ….*too early.*row 3.*too late.*Notes.*unknown-heading · A\n`, got)
}

func list(entries ...batch.Entry) iter.Seq2[batch.Entry, error] {
	return func(yield func(batch.Entry, error) bool) {
		for _, e := range entries {
			if !yield(e, nil) {
				return
			}
		}
	}
}

func TestDocument(t *testing.T) {
	b := &batch.Batch{ID: 17, Draft: batch.Draft{System: "crewdesk", Made: time.Date(2026, 11, 23, 10, 41, 0, 0, time.UTC), Source: batch.Source{Sheet: "s.csv", Rows: 2, Headings: []string{"First", "Last"}, Words: map[string]string{"givenName": "First", "familyName": "Last"}}}, Progress: batch.Progress{State: batch.Posted}}
	var out bytes.Buffer
	require.NoError(t, report.WriteBatch(&out, report.NewHead(b, account.Counts{account.Created: 1}), b, list(batch.Entry{Row: 2, Outcome: account.Created}, batch.Entry{Row: 3, Outcome: account.Refused, Cells: []string{"Zoë", "Ångström"}})))
	var got map[string]any
	require.NoError(t, json.Unmarshal(out.Bytes(), &got))
	assert.Equal(t, false, got["even"], "one row in two is missing")
	assert.Len(t, got["outcomes"], len(account.Outcomes()), "every outcome is counted, be it zero")
	assert.Len(t, got["entries"], 2)
	assert.Equal(t, "Zoë Ångström", got["entries"].([]any)[1].(map[string]any)["who"], "who is refused is named as well")
	assert.Equal(t, []any{}, got["entries"].([]any)[0].(map[string]any)["findings"], "a list is never null")

	out.Reset()
	broken := func(yield func(int, error) bool) {
		if yield(1, nil) {
			yield(0, errors.New("the line \"went\" dead"))
		}
	}
	assert.ErrorContains(t, report.WriteJSON(&out, map[string]int{"a": 1}, "list", broken, func() any { return map[string]int{"b": 2} }), "went")
	require.NoError(t, json.Unmarshal(out.Bytes(), &got), "what breaks off is still one document: %s", out.String())
	assert.Contains(t, got["error"].(map[string]any)["message"], "went")

	out.Reset()
	none := func(func(int, error) bool) {}
	require.NoError(t, report.WriteJSON(&out, map[string]int{"a": 1}, "list", none, func() any { return map[string]int{"b": 2} }))
	assert.JSONEq(t, `{"a":1,"list":[],"b":2}`, out.String())
}

// A fix sheet has the rows as they came, below the headings where they were, and
// goes back in.
func TestFixes(t *testing.T) {
	b := &batch.Batch{Draft: batch.Draft{Source: batch.Source{Separator: "semicolon", Headings: []string{"No", "Surname"}, Above: [][]string{{"Brindle Sound Ferries"}, nil}}}}
	find := func(level account.Level, column, message string) account.Finding {
		return account.Finding{Level: level, Column: column, Message: message, Remedy: "Correct it."}
	}
	var out bytes.Buffer
	rows, err := report.WriteFixes(func(form sheet.Form) (sheet.Writer, error) { return sheet.NewWriter(&out, "again.csv", form) }, b, list(
		batch.Entry{Row: 4, Cells: []string{"1"}, Findings: []account.Finding{find(account.Error, "Surname", "is blank"), find(account.Note, "", "a note")}},
		batch.Entry{Row: 9, Cells: []string{"=2", " Reyes ", "", ""}, Findings: []account.Finding{find(account.Error, "", "a"), find(account.Error, "No", "No is odd")}},
		batch.Entry{Row: 12, Cells: []string{"3", "Kaya", "extra"}}))
	require.NoError(t, err)
	assert.Equal(t, 3, rows)
	s, err := sheet.Read("again.csv", &out, sheet.Options{HeadingRow: 3})
	require.NoError(t, err)
	assert.Equal(t, []string{"No", "Surname", "Even Ledger beyond", "Even Ledger row of batch 0", "Even Ledger reasons"}, s.Info().Headings)
	var got [][]string
	for row, err := range s.Rows() {
		require.NoError(t, err)
		got = append(got, append([]string{}, row.Cells...))
	}
	assert.Equal(t, [][]string{
		{"1", "", "", "4", "Surname: is blank (Correct it)"},
		{"=2", " Reyes ", "", "9", "a (Correct it); No is odd (Correct it)"},
		{"3", "Kaya", "extra", "12", ""},
	}, got)
}

// The page shows every row once, lets nothing out of a sheet act, and runs its own
// script only.
func TestPage(t *testing.T) {
	b := &batch.Batch{ID: 17, Draft: batch.Draft{System: "crewdesk", Made: time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC), By: "mvance", Policies: "Accounts are found by userName.", Source: batch.Source{Sheet: "<b>starters</b>.csv", Rows: 4, Taken: "rows 2 to 5"}}, Progress: batch.Progress{State: batch.Posted, Posted: time.Date(2026, 11, 24, 11, 0, 0, 0, time.UTC)}}
	const attack = `</script><script>alert("x")</script><img src=x onerror=alert(1)>`
	causes := &report.Causes{}
	finding := account.Finding{Row: 3, Column: attack, Level: account.Error, Code: account.BriefCheck, Message: attack, Remedy: attack}
	causes.Add(finding)
	entries := []batch.Entry{
		{Row: 2, Key: "ana", Intent: account.Create, Outcome: account.Created, Account: "u-1", Changes: []account.Change{{Field: "title", After: account.Of(attack)}}},
		{Row: 3, Key: attack, Outcome: account.Refused, Findings: []account.Finding{finding}},
		{Row: 4, Key: "tom", Intent: account.Update, Outcome: account.Updated, Account: "u-2", Changes: []account.Change{{Field: "title", Before: account.Of("Pilot"), After: account.Blank()}}},
		{Row: 5, Key: "zoe", Intent: account.Update, Outcome: account.Waiting},
	}
	var out bytes.Buffer
	counts := account.Counts{account.Created: 1, account.Refused: 1, account.Updated: 1, account.Waiting: 1}
	require.NoError(t, report.WritePage(&out, b, counts, map[account.Intent]int{account.Update: 1}, causes, list(entries...)))
	page := out.String()
	for _, want := range []string{`<b class="even">even</b>`, "(rows 2 to 5)", "posted 11:00 on 24 Nov", `<rect class="b-created" x="0" width="250"`, "Pilot → (blank)", ">to update<", "Still to update"} {
		assert.Contains(t, page, want)
	}
	assert.Equal(t, len(entries), strings.Count(page, "<tr id=\"row-"), "every row once")
	assert.Equal(t, 1, strings.Count(page, "<script"), "no script but its own")
	assert.NotContains(t, page, "<img")
	assert.NotContains(t, page, "<b>starters")
	assert.NotContains(t, page, "://", "it needs nothing from elsewhere")
	_, script, _ := strings.Cut(page, "<script>")
	script, _, _ = strings.Cut(script, "</script>")
	hash := sha256.Sum256([]byte(script))
	assert.Contains(t, html.UnescapeString(page), "script-src 'sha256-"+base64.StdEncoding.EncodeToString(hash[:])+"'", "the script is the one it names")
	counts[account.Created] = 7
	out.Reset()
	require.NoError(t, report.WritePage(&out, b, counts, nil, causes, list(entries...)))
	assert.Contains(t, out.String(), "not even")
}

// Steps, seats, accounts that no row lists and other people's names are told in
// words.
func TestMembershipsTold(t *testing.T) {
	e := batch.Entry{Row: 4, Key: "ana", Intent: account.Update, Outcome: account.Waiting, Account: "u1",
		Changes: []account.Change{{Field: "manager", Before: account.Of("u7"), After: account.Of("u8"), Names: &[2]string{"tom", "zoe"}}, {Field: "manager", Before: account.Of("u7"), After: account.Blank(), Names: &[2]string{"tom", ""}}},
		Steps: []membership.Step{
			{Do: membership.Refer, Kind: "manager", Name: "77", Row: 9}, {Do: membership.Leave, Kind: "groups", Name: "Deck", Was: &[2]string{"boss", ""}, Result: membership.Done},
			{Do: membership.Join, Kind: "groups", Name: "Pilots"}, {Do: membership.Join, Kind: "courses", Name: "Radio", Role: "tutor", Section: "Spring", Result: membership.Failed},
			{Do: membership.Join, Kind: "courses", Name: "Aid", Role: "tutor", Was: &[2]string{"", ""}},
		}}
	gone := batch.Entry{Row: batch.UnlistedRow(2), Key: "bo", Intent: account.Suspend, Outcome: account.Suspended}
	half := batch.Entry{Row: 5, Key: "mei", Intent: account.Create, Did: account.Created, Outcome: account.Waiting}
	got := page(func(p *report.Page) {
		p.Width = 200
		p.EntryLine(e)
		p.EntryLine(gone)
		p.EntryLine(half)
		p.Entry(e, nil)
		p.Entry(gone, nil)
		p.Seats([]membership.Seats{{Name: "charts", Has: 20, Taken: 1200, Needs: 3, Given: 1, Refused: 1}, {Name: "rota", Has: 5}})
		p.Seats(nil)
	})
	for _, want := range []string{
		"row    4  to update   ana               manager: tom → zoe; manager: tom → (blank); manager: 77; in course Aid: (no role) → (tutor); leaves Deck; joins Pilots, Radio (tutor, Spring)\n",
		"unlisted  suspended   bo", "row    5  to finish   mei", "Row 4  to update  ana  account u1\n", "    groups              leaves group Deck (boss)  done\n",
		"    courses             joins course Radio (tutor, Spring)  failed\n", "Unlisted 2  suspended  bo", "charts                            20  1 200      3           1 -1 182   none left for 1 row\n",
	} {
		assert.Contains(t, got, want)
	}
	counts := account.Counts{account.Suspended: 1, account.Waiting: 2}
	assert.Equal(t, []report.Side{{Label: "Still to update", N: 1}, {Label: "Still to finish", N: 1}, {Label: "Suspended", N: 1}},
		slices.DeleteFunc(report.Sides(&batch.Batch{}, counts, map[account.Intent]int{account.Update: 1, account.Finish: 1}), func(s report.Side) bool { return s.N == 0 }))

	b := &batch.Batch{ID: 3, Draft: batch.Draft{Unlisted: 1, Held: []string{"it would suspend <everyone>"}, Seats: []membership.Seats{{Name: "charts"}}, Source: batch.Source{Rows: 2}, Undone: batch.Undone{Reverses: 1}}}
	var out bytes.Buffer
	require.NoError(t, report.WriteBatch(&out, report.NewHead(b, counts), b, list(e, gone)))
	var document map[string]any
	require.NoError(t, json.Unmarshal(out.Bytes(), &document))
	assert.Equal(t, []any{true, 1.0, 1.0}, []any{document["even"], document["unlisted"], document["reverses"]})
	entries := document["entries"].([]any)
	assert.Equal(t, []any{0.0, 2.0}, []any{entries[1].(map[string]any)["row"], entries[1].(map[string]any)["unlisted"]})
	assert.Len(t, entries[0].(map[string]any)["steps"], 5)
	out.Reset()
	require.NoError(t, report.WritePage(&out, b, counts, map[account.Intent]int{account.Update: 1}, &report.Causes{}, list(e, gone)))
	for _, want := range []string{"Not listed</span><span class=\"n\">1", "This batch is held back: it would suspend &lt;everyone&gt;.", "<td>charts</td>", "joins course Radio (tutor, Spring) · failed", "tom → zoe", "not listed</td><td>bo"} {
		assert.Contains(t, out.String(), want)
	}
}

func TestTableWritesNumbersForPeople(t *testing.T) {
	text := page(func(p *report.Page) {
		p.Table(inquiry.Table{Headings: []string{"Name", "Members"}, Numbers: 1, Lines: []inquiry.Line{{Cells: []string{"12000", "12000"}}, {Cells: []string{"Odd", "?"}}}})
	})
	assert.Contains(t, strings.ReplaceAll(text, "\u202f", " "), "12000   12 000")
	assert.Contains(t, text, "?")
}

// Whose row it is stands in its line, also where it was refused before there was an account: the row says it.
func TestWhoseRow(t *testing.T) {
	b := &batch.Batch{Draft: batch.Draft{Source: batch.Source{Headings: []string{"No", "First", "Last", ""}, Words: map[string]string{"givenName": "First", "familyName": "Last", "title": "Rank"}}}}
	bad := []account.Finding{{Level: account.Error, Message: "no such rank"}}
	for _, of := range []struct {
		entry batch.Entry
		want  string
	}{
		{batch.Entry{Outcome: account.Refused, Key: "7", Findings: bad, Cells: []string{"7", " Zoë ", "Ångström"}}, "Zoë Ångström · no such rank"},
		{batch.Entry{Outcome: account.Refused, Key: "7", Findings: bad, Cells: []string{"7", "Zoë"}}, "Zoë · no such rank"},
		{batch.Entry{Outcome: account.Refused, Key: "7", Findings: bad, Cells: []string{"7"}}, "no such rank"},
		{batch.Entry{Outcome: account.Aside, Key: "7", Findings: bad, Cells: []string{"7", "Zoë", "Ångström"}}, "Zoë Ångström · no such rank"},
		{batch.Entry{Outcome: account.Aside, Key: "7", Cells: []string{"7", "Zoë", ""}}, "Zoë"},
		{batch.Entry{Outcome: account.Failed, Intent: account.Create, Key: "7", Findings: bad, Known: map[string]account.Value{"displayName": account.Of("Wei Li")}, Cells: []string{"7", "Li", "Wei"}}, "Wei Li · no such rank"},
		{batch.Entry{Outcome: account.Refused, Key: "Zoë Ångström", Findings: bad, Cells: []string{"", "Zoë", "Ångström"}}, "no such rank"},
		{batch.Entry{Outcome: account.Unchanged, Intent: account.Keep, Key: "7", Known: map[string]account.Value{"displayName": account.Of("Wei Li")}}, "Wei Li"},
	} {
		page(func(p *report.Page) {
			p.Speak(b)
			assert.Equal(t, of.want, p.Summary(of.entry))
		})
	}
	lines := report.Differences(b, &batch.Entry{Row: 2, Key: "7", Cells: []string{"7", "Zoë", "Ångström"}, Changes: []account.Change{{Field: "title", After: account.Of("Mate")}}}, "differs")
	assert.Equal(t, [][]string{{"2", "differs", "Zoë Ångström · 7", "", "Rank (title)", "Mate", "", ""}}, lines)
}
