package answer

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/codes"
	"evenledger/internal/report"
)

// A Brief is what a brief does, in sentences.
type Brief struct {
	*brief.Brief
	Called string // by whom it was asked for
}

// Document implements Answer.
func (b Brief) Document(context.Context) any {
	return map[string]any{"brief": b.Name, "system": b.System, "sentences": briefSentences(b.Brief)}
}

// Draw implements Answer.
func (b Brief) Draw(_ context.Context, page *report.Page) error {
	page.Line("%s", page.Bold(b.Name))
	for _, s := range briefSentences(b.Brief) {
		page.Text(page.Plain, s)
	}
	page.Next("evenledger brief try SHEET -b " + report.Quoted(b.Called) + " --row 2")
	return nil
}

// Briefs are those of a workspace.
type Briefs []BriefLine

// A BriefLine is one of them.
type BriefLine struct {
	Name     string   `json:"name"`
	Title    string   `json:"brief,omitempty"`
	System   string   `json:"system,omitempty"`
	BasedOn  []string `json:"basedOn,omitempty"`
	Fields   int      `json:"fields"`
	Mistakes string   `json:"mistakes,omitempty"`
}

// Document implements Answer.
func (all Briefs) Document(context.Context) any { return map[string]any{"briefs": all} }

// Draw implements Answer.
func (all Briefs) Draw(_ context.Context, page *report.Page) error {
	if len(all) == 0 {
		page.Line("There is no brief yet.")
		page.Next("evenledger brief new SHEET")
		return nil
	}
	for _, l := range all {
		about := fmt.Sprintf("%s · %d fields", l.System, l.Fields)
		if len(l.BasedOn) > 0 {
			about += " · based on " + strings.Join(l.BasedOn, ", ")
		}
		if l.Mistakes != "" {
			page.Line("  %s %s", report.Pad(l.Name, 20), page.Level(account.Error, report.Clip(strings.Split(l.Mistakes, "\n")[0], page.Columns()-24)))
			continue
		}
		page.Line("  %s %s %s", report.Pad(l.Name, 20), report.Pad(report.Clip(l.Title, 32), 32), page.Dim(about))
	}
	page.Next("evenledger brief show " + report.Quoted(all[0].Name))
	return nil
}

// briefSentences says what a brief does.
func briefSentences(b *brief.Brief) []string {
	var all []string
	say := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	all = append(all, sheetSentences(b)...)
	say("%s", batch.Policies(b))
	for i := range b.Fields {
		all = append(all, fieldSentence(&b.Fields[i]))
	}
	for i := range b.Memberships {
		all = append(all, membershipSentence(&b.Memberships[i]))
	}
	for _, r := range b.Rules {
		var given []string
		for _, n := range slices.Sorted(maps.Keys(r.Names)) {
			given = append(given, b.Memberships[n].Kind+" "+strings.Join(r.Names[n], ", "))
		}
		say("Rows for which %s get: %s.", r.When.Source, strings.Join(given, "; "))
	}
	all = append(all, leaverSentences(b)...)
	for _, intent := range account.Intents() {
		if limit, ok := b.Limits[intent]; ok {
			say("A batch that would %s more than %s is held back.", intent, limit.Text)
		}
	}
	if b.Refused != nil {
		say("A batch of which more than %s of the rows are refused is held back.", b.Refused.Text)
	}
	if b.Fewer != nil {
		say("A list that is more than %s shorter than the last time is held back.", b.Fewer.Text)
	}
	if len(b.Protect) > 0 {
		say("Accounts called %s are not changed.", strings.Join(b.Protect, ", "))
	}
	switch b.Password.New {
	case "generate":
		say("New accounts get a password that the program makes.")
	case "given":
		say("New accounts get the password in the column “%s”.", b.Password.From)
	}
	switch b.Password.Known {
	case "generate":
		say("Accounts that are there get another password that the program makes.")
	case "given":
		say("Accounts that are there get the password in the column “%s”, where it gives one.", b.Password.From)
	}
	all = append(all, noticeSentences(b)...)
	for _, c := range b.Checks {
		what := map[account.Level]string{account.Error: "refuses the row", account.Warning: "gives a warning", account.Note: "gives a note"}[c.Level]
		say("Unless %s, it says “%s” and %s.", c.That.Source, c.Say, what)
	}
	return all
}

// noticeSentences says who gets which mail.
func noticeSentences(b *brief.Brief) (all []string) {
	for _, n := range b.Notices {
		var on []string
		for _, intent := range n.On {
			on = append(on, string(intent))
		}
		to := n.To.Address
		if n.To.Field >= 0 {
			to = "the address in " + b.Fields[n.To.Field].Name
			if b.Fields[n.To.Field].Kind == account.Person {
				to = "the person in " + b.Fields[n.To.Field].Name
			}
		} else if n.To.Made != nil {
			to = "an address made for the row"
		}
		if n.When != nil {
			to += ", if " + n.When.Source
		}
		all = append(all, fmt.Sprintf("After it was posted to %s an account, the mail “%s” goes to %s.", strings.Join(on, " or "), n.Name, to))
	}
	for _, f := range b.FollowUps {
		var on []string
		for _, intent := range f.On {
			on = append(on, string(intent))
		}
		where := "the feed " + f.Feed
		if f.When != nil {
			where += ", if " + f.When.Source
		}
		all = append(all, fmt.Sprintf("After it was posted to %s an account, “%s” is done in %s.", strings.Join(on, " or "), f.Name, where))
	}
	if len(b.ReportTo) > 0 {
		all = append(all, fmt.Sprintf("The report of each batch is mailed to %s.", strings.Join(b.ReportTo, ", ")))
	}
	return all
}

// sheetSentences says how the brief has a sheet read.
func sheetSentences(b *brief.Brief) []string {
	var all []string
	say := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	if b.System != "" {
		say("It is for the accounts of %s.", b.System)
	}
	if len(b.BasedOn) > 0 {
		say("What it does not say itself it takes from %s.", strings.Join(b.BasedOn, ", which takes it from "))
	}
	if b.Feed != "" {
		say("Where no sheet is named, the feed %s brings it.", b.Feed)
	}
	if b.Tab != "" {
		say("It reads the tab “%s”.", b.Tab)
	}
	if b.HeadingRow > 0 {
		say("The headings stand in row %d.", b.HeadingRow)
	}
	switch b.Dates {
	case codes.DayFirst:
		say("Dates such as 3/4/2027 have the day first.")
	case codes.MonthFirst:
		say("Dates such as 3/4/2027 have the month first.")
	}
	if b.Phones != "" {
		say("Telephone numbers without a country code are numbers of %s.", b.Phones)
	}
	for _, only := range b.Only {
		say("Only rows for which %s are taken; the others are set aside.", only.Source)
	}
	return all
}

// leaverSentences says what becomes of people who are suspended or resumed.
func leaverSentences(b *brief.Brief) []string {
	var all []string
	say := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	for _, kind := range brief.Kinds() {
		if patterns := b.Suspending.Leave[kind]; len(patterns) > 0 {
			say("Who is suspended leaves %s called %s.", kind, strings.Join(patterns, ", "))
		}
	}
	if days := b.Suspending.RemoveAfter; days > 0 {
		say("Whom it suspended is removed after %d days, if nobody touched the account since.", days)
	}
	for _, of := range []struct {
		when string
		set  []account.Change
	}{{"suspended", b.Suspending.Set}, {"resumed", b.Resuming}} {
		for _, change := range of.set {
			say("With who is %s, %s is set to “%s”.", of.when, change.Field, change.After.Text())
		}
	}
	return all
}

func membershipSentence(m *brief.Memberships) string {
	kind := strings.ToUpper(m.Kind[:1]) + m.Kind[1:]
	text := kind + " follow from rules"
	if m.Column.From != "" {
		text = kind + " come from the column “" + m.Column.From + "”"
	} else if len(m.Fallback) > 0 {
		text = kind + " are " + strings.Join(m.Fallback, ", ")
	}
	if m.Role != "" {
		text += ", with the role from “" + m.Role + "”"
	}
	if m.Section != "" {
		text += ", with the section from “" + m.Section + "”"
	}
	switch m.Mode {
	case brief.Exact:
		text += "; others are left"
	case brief.Drop:
		text += "; they are taken away"
	}
	if m.Column.From != "" && len(m.Fallback) > 0 {
		text += "; where that is blank they are " + strings.Join(m.Fallback, ", ")
	}
	if m.MakeMissing {
		text += "; those that do not exist are made"
	}
	return text + "."
}

func fieldSentence(f *brief.Field) string {
	var sources []string
	if len(f.Parts) > 0 {
		var parts []string
		for _, part := range f.Parts {
			if part.From == "" {
				parts = append(parts, part.Name+" “"+part.Fixed+"”")
			} else {
				parts = append(parts, part.Name+" from “"+part.From+"”")
			}
		}
		sources = append(sources, "has "+strings.Join(parts, " and "))
	}
	if f.From != "" {
		text := "comes from the column “" + f.From + "”"
		if f.Via != nil {
			text += fmt.Sprintf(" through a table of %d", len(f.ViaWords))
		}
		sources = append(sources, text)
	}
	if f.Make != nil {
		sources = append(sources, "is made: "+f.Make.Source)
	}
	if f.Fallback.Present() {
		sources = append(sources, "is “"+f.Fallback.Text()+"”")
	}
	name := strings.ToUpper(f.Label[:1]) + f.Label[1:] + " (" + f.Name + ")"
	if f.Label == f.Name {
		name = f.Name
	}
	text := name + " " + strings.Join(sources, "; where that is blank it ")
	if f.Kind != account.Text && f.From != "" {
		text += ", read as " + f.Kind.InWords()
	}
	text += "."
	if f.Refers != "" {
		text = strings.TrimSuffix(text, ".") + ", by its " + f.Refers + "."
	}
	if f.Required {
		text += " It must be there."
	}
	if len(f.OneOfWords) > 0 {
		text += " It is one of " + strings.Join(f.OneOfWords, ", ") + "."
	}
	if f.ClearWhenBlank {
		text += " A blank cell empties it."
	}
	switch f.Unique {
	case brief.UniqueRefuse:
		text += " No two accounts may share it."
	case brief.UniqueInUnit:
		text += " Where somebody of the same unit has it, a number is put behind it."
	case brief.UniqueNumber:
		text += " If it is taken"
		for _, other := range f.Others {
			text += ", " + other.Source + " is tried"
		}
		if f.Number {
			text += ", the next free number is put behind"
		} else {
			text += ", and else the row is refused"
		}
		text += "."
	}
	if !f.Send {
		text += " It is not sent."
	}
	return text
}
