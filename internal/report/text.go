package report

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/clipperhouse/displaywidth"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// A Page writes for a person. Color turns styling on; words alone say everything
// without it.
type Page struct {
	W     io.Writer
	Color bool
	Width int // of the screen, in columns; 0: 120

	headings map[string]string // field → what the sheet calls it
	columns  []string          // of the sheet

	Outcomes int // how wide the longest of the outcomes is that are shown, beyond 10; 0: none is
	err      error
}

// Columns is how many columns the screen has.
func (p *Page) Columns() int {
	if p.Width == 0 {
		return 120
	}
	return max(p.Width, 60)
}

// Text writes a paragraph, broken at spaces to fit the screen.
func (p *Page) Text(style func(string) Styled, text string) { p.beneath("", "", style, text) }

// Told writes a trouble of a step, and what can be done about it, beneath the step.
func (p *Page) Told(text, remedy string) {
	p.beneath("   ", "", func(line string) Styled { return p.Level(account.Error, line) }, text)
	if remedy != "" {
		p.beneath("   ", "→ ", p.Plain, remedy)
	}
}

// Failure tells why a command failed, and what can be done about it: the mistakes in a file each at its place.
func (p *Page) Failure(message, remedy string, problems yamldoc.Problems) {
	if problems != nil {
		p.Line("%s %d %s in %s:", p.Level(account.Error, "evenledger:"), len(problems), Plural(len(problems), "mistake", "mistakes"), problems[0].File)
		for _, one := range problems {
			p.Line("  %s %s", p.Bold(fmt.Sprintf("%s:%d:%d:", one.File, one.Line, one.Column)), one.Message)
			if one.Remedy != "" {
				p.Line("      %s", p.Dim("→ "+one.Remedy))
			}
		}
		return
	}
	for i, line := range strings.Split(message, "\n") {
		if i == 0 {
			p.Line("%s %s", p.Level(account.Error, "evenledger:"), line)
		} else {
			p.Line("%s", line)
		}
	}
	if remedy != "" {
		p.Remedy(remedy)
	}
}

// Remedy writes what can be done about a trouble, beneath the message.
func (p *Page) Remedy(text string) { p.beneath(strings.Repeat(" ", 12), "→ ", p.Dim, text) }

// beneath writes a paragraph so far in, with a mark before its first line.
func (p *Page) beneath(indent, mark string, style func(string) Styled, text string) {
	for i, line := range broken(text, p.Columns()-8-len(indent)) {
		if mark != "" && i > 0 {
			mark = "  "
		}
		p.Line("%s%s", indent, style(mark+line))
	}
}

// broken cuts a text at spaces into lines of at most width columns.
func broken(text string, width int) []string {
	if displaywidth.String(text) <= width {
		return []string{text}
	}
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		if line != "" && displaywidth.String(line)+1+displaywidth.String(word) > width {
			lines = append(lines, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += Clip(word, width)
	}
	return append(lines, line)
}

// Err returns the first error of writing.
func (p *Page) Err() error { return p.err }

// Styled is text that is safe to write as it is: it was made harmless, and any
// styling in it is ours.
type Styled string

// Line writes a line. Arguments that are plain texts are made harmless first.
func (p *Page) Line(format string, args ...any) {
	for i, arg := range args {
		if text, ok := arg.(string); ok {
			args[i] = Harmless(text)
		}
	}
	if _, err := fmt.Fprintf(p.W, format+"\n", args...); err != nil && p.err == nil {
		p.err = err
	}
}

// Harmless takes out of a text what would steer a terminal.
func Harmless(text string) string {
	if !strings.ContainsFunc(text, words.Steers) {
		return text
	}
	// The lines of an address, or the items of a list.
	text = strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", ", ")
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\t':
			return ' '
		case words.Steers(r):
			return '\uFFFD'
		}
		return r
	}, text)
}

// Few colours: errors red, warnings amber, what came out even green.
const (
	bold  = "\x1b[1m"
	dim   = "\x1b[2m"
	red   = "\x1b[31m"
	amber = "\x1b[33m"
	green = "\x1b[32m"
	off   = "\x1b[0m"
)

func (p *Page) paint(code, text string) Styled {
	text = Harmless(text)
	if !p.Color || text == "" {
		return Styled(text)
	}
	return Styled(code + text + off)
}

// Bold and the others style a text.
func (p *Page) Bold(text string) Styled { return p.paint(bold, text) }

// Plain leaves a text as it is.
func (p *Page) Plain(text string) Styled { return Styled(Harmless(text)) }

// Dim is for what may be read later.
func (p *Page) Dim(text string) Styled { return p.paint(dim, text) }

// Level styles a text as a finding of that level.
func (p *Page) Level(level account.Level, text string) Styled {
	switch level {
	case account.Error:
		return p.paint(red, text)
	case account.Warning:
		return p.paint(amber, text)
	}
	return p.paint(dim, text)
}

// Pad fills a text with spaces to the width it takes on a screen.
func Pad(text string, width int) string {
	text = Harmless(text)
	return text + strings.Repeat(" ", max(0, width-displaywidth.String(text)))
}

// Clip shortens a text to a width on a screen.
func Clip(text string, width int) string {
	text = Harmless(text)
	if displaywidth.String(text) <= width {
		return text
	}
	var out strings.Builder
	used := 0
	for _, r := range text {
		w := displaywidth.Rune(r)
		if used+w > width-1 {
			break
		}
		out.WriteRune(r)
		used += w
	}
	return strings.TrimRight(out.String(), " ") + "…"
}

// A Side is one line of the right side of an account.
type Side struct {
	Label string
	N     int
	Grave bool // somebody has to act on it now
}

// In is the left side of a batch's account: the rows, and accounts that no row lists.
func In(b *batch.Batch) []Side {
	return []Side{{Label: "Rows in", N: b.Rows}, {Label: "Not listed", N: b.Unlisted}}
}

// Account writes the two-sided account: what came in on the left, what became of it
// on the right. Sides that are nothing are left out. It reports whether the two
// come out even, and says so if they don't.
func (p *Page) Account(in, sides []Side) bool {
	return p.AccountSaying(in, sides, p.paint(bold+green, "even"))
}

// AccountSaying does the same, with something else where the two sides meet.
func (p *Page) AccountSaying(in, sides []Side, verdict Styled) bool {
	rows := 0
	for i, s := range in {
		if rows += s.N; i > 0 && s.N == 0 {
			in = in[:i]
		}
	}
	sides = slices.DeleteFunc(slices.Clone(sides), func(s Side) bool { return s.N == 0 })
	total, labels := 0, 0
	for _, s := range sides {
		total += s.N
		labels = max(labels, displaywidth.String(s.Label))
	}
	width := max(len(group(rows)), len(group(total)), 2)
	labels = max(labels, 17)
	p.Line("")
	for i := range max(len(in), len(sides)) {
		label, number := "", ""
		if i < len(in) {
			label, number = in[i].Label, group(in[i].N)
		}
		right := ""
		if i < len(sides) {
			right = fmt.Sprintf("%s  %*s", Pad(sides[i].Label, labels), width, group(sides[i].N))
		}
		line := fmt.Sprintf("  %-14s%*s        ", label, width, number)
		if i < len(sides) && sides[i].Grave {
			p.Line("%s%s", line, p.paint(bold+red, right))
			continue
		}
		p.Line("%s", strings.TrimRight(line+right, " "))
	}
	rule := func(mark string) {
		p.Line("  %14s%s        %s  %s", "", strings.Repeat(mark, width), strings.Repeat(" ", labels), strings.Repeat(mark, width))
	}
	rule("─")
	if total != rows {
		verdict = p.paint(bold+red, "NOT EVEN: this is a fault of the program, please report it")
	}
	p.Line("  %14s%*s        %s  %*s   %s", "", width, group(rows), strings.Repeat(" ", labels), width, group(total), verdict)
	rule("═")
	return total == rows
}

// ReadEven reports whether everything that was in the batch's sheet is accounted for.
func ReadEven(b *batch.Batch) bool {
	return b.Read.Even() && (!b.Read.Ended || b.Read.Rows == b.Rows)
}

// Read says in a line what was in the file besides the rows.
func (p *Page) Read(t sheet.Tally) {
	if !t.Even() {
		p.Line("  %s", p.paint(bold+red, fmt.Sprintf("NOT EVEN: of %d rows and %d lines in the file not all are accounted for; this is a fault of the program, please report it", t.Records, t.Lines)))
	}
	if text := ReadText(t); text != "" {
		p.Line("  %s", p.Dim(text))
	}
}

// ReadText says what was in a file, if that is more than headings and rows.
func ReadText(t sheet.Tally) string {
	parts := []string{Counted(t.Headings, "with the headings", "with the headings")}
	for _, of := range []struct {
		n         int
		one, many string
	}{
		{t.Above, "title above them", "titles above them"}, {t.Blank, "blank", "blank"}, {t.Declared, "that names the separator", "that name the separator"},
		{t.Inner, "that goes on with the cell above", "that go on with the cell above"}, {t.Rows, "row", "rows"},
	} {
		if of.n > 0 {
			parts = append(parts, Counted(of.n, of.one, of.many))
		}
	}
	if len(parts) < 3 && t.Repeated == 0 {
		return ""
	}
	said := "In the file: "
	if t.Lines > 0 {
		said += Counted(t.Lines, "line", "lines") + ", of which "
	} else {
		said += Counted(t.Records, "row", "rows") + ", of which "
	}
	said += strings.Join(parts, ", ")
	if t.Repeated > 0 {
		said += fmt.Sprintf(", %s the headings again", map[bool]string{true: "one of them", false: fmt.Sprint(t.Repeated, " of them")}[t.Repeated == 1])
	}
	return said
}

// group writes a number with a thin space between thousands.
func group(n int) string {
	text := strconv.Itoa(n)
	for at := len(text) - 3; at > 0; at -= 3 {
		text = text[:at] + " " + text[at:]
	}
	return text
}

// Number writes a number as accounts have it.
func Number(n int) string { return group(n) }

// Sides are the right side of a batch's account.
func Sides(b *batch.Batch, counts account.Counts, waiting map[account.Intent]int) []Side {
	still := ""
	for _, done := range []account.Outcome{account.Created, account.Updated, account.Suspended, account.Resumed, account.Removed, account.Failed, account.HandedOver} {
		if counts[done] > 0 {
			still = "still "
		}
	}
	label := func(what string) string {
		text := still + "to " + what
		return strings.ToUpper(text[:1]) + text[1:]
	}
	open := min(b.Reading.MayEnter, counts[account.Failed])
	return []Side{
		{Label: "May sign in, failed", N: open, Grave: true},
		{Label: label("create"), N: waiting[account.Create]},
		{Label: label("update"), N: waiting[account.Update]},
		{Label: label("suspend"), N: waiting[account.Suspend]},
		{Label: label("resume"), N: waiting[account.Resume]},
		{Label: label("remove"), N: waiting[account.Remove]},
		{Label: "Still to finish", N: waiting[account.Finish]},
		{Label: "Handed over", N: counts[account.HandedOver]},
		{Label: "Created", N: counts[account.Created]},
		{Label: "Updated", N: counts[account.Updated]},
		{Label: "Suspended", N: counts[account.Suspended]},
		{Label: "Resumed", N: counts[account.Resumed]},
		{Label: "Removed", N: counts[account.Removed]},
		{Label: "Nothing to change", N: counts[account.Unchanged]},
		{Label: "Set aside", N: counts[account.Aside]},
		{Label: "Refused", N: counts[account.Refused]},
		{Label: "Failed", N: counts[account.Failed] - open},
	}
}

// Title writes the line above a batch's account.
func (p *Page) Title(b *batch.Batch) {
	p.Speak(b)
	said := fmt.Sprintf(" · %s → %s · %s %s by %s", b.Sheet, b.System, batch.Drafted, b.Made.Local().Format("2 Jan 2006 15:04"), b.By)
	if !b.Posted.IsZero() {
		said += fmt.Sprintf(" · %s %s", b.State, b.Posted.Local().Format("15:04"))
		if b.Posted.Sub(b.Made) > 12*time.Hour {
			said += b.Posted.Local().Format(" on 2 Jan")
		}
	}
	if b.Trial != "" {
		said += fmt.Sprintf(" · trial “%s”", b.Trial)
	}
	if b.State == batch.Withdrawn {
		said += " · withdrawn"
	}
	if b.Corrects > 0 {
		said += fmt.Sprintf(" · corrects batch %d", b.Corrects)
	}
	p.Line("%s%s", p.Bold(fmt.Sprintf("Batch %d", b.ID)), said)
}

// Findings writes the causes.
func (p *Page) Findings(causes *Causes) {
	var level account.Level
	for _, c := range unusedOnce(causes.Sorted()) {
		f := c.First
		if f.Level != level {
			level = f.Level
			p.Line("")
			p.Line("%s", p.Bold(map[account.Level]string{account.Error: "Errors", account.Warning: "Warnings", account.Note: "Notes"}[level]))
		}
		where := string(f.Code)
		if f.Column != "" {
			where += " · " + Clip(f.Column, 30)
		}
		if len(c.In) > 0 {
			where += " · " + strings.Join(c.In, ", ")
		}
		if c.Count == 0 {
			p.Line("  %s", p.Level(level, where))
		} else {
			p.Line("  %s  %s", p.Level(level, Pad(where, 44)), rowList(c.Count, c.Rows))
		}
		p.said(c)
	}
}

// unusedOnce makes one cause of the columns that are not used, where nothing more is known of them.
func unusedOnce(causes []*Cause) (list []*Cause) {
	var columns []string
	at := -1
	for _, c := range causes {
		if f := c.First; f.Code == account.UnknownHeading && f.Level == account.Note && !strings.HasPrefix(f.Remedy, "It looks like") && len(c.In) == 0 {
			if columns = append(columns, "“"+f.Column+"”"); at < 0 {
				at = len(list)
				list = append(list, c)
			}
			continue
		}
		list = append(list, c)
	}
	if len(columns) > 1 {
		once := *list[at]
		once.First.Column, once.First.Message = "", fmt.Sprintf("%d columns are not used: %s", len(columns), strings.Join(columns, ", "))
		list[at] = &once
	}
	return list
}

// said writes what a cause says: each message with its rows, where it says several, and what is to be done about them.
func (p *Page) said(c *Cause) {
	if len(c.Said) < 2 {
		p.beneath("      ", "", p.Plain, c.First.Message)
		if c.First.Remedy != "" {
			p.beneath("      ", "→ ", p.Dim, c.First.Remedy)
		}
		return
	}
	remedy := alikeRemedy(c)
	for _, s := range c.Said {
		text := s.Message + " · " + rowList(s.Count, s.Rows)
		if s.Remedy != "" && remedy == "" {
			text += " · " + s.Remedy
		}
		p.beneath("      ", "", p.Plain, text)
	}
	if c.More > 0 {
		p.beneath("      ", "", p.Dim, moreOf(c))
	}
	if remedy != "" {
		p.beneath("      ", "→ ", p.Dim, remedy)
	}
}

// alikeRemedy is what is to be done about all that a cause says; empty: not the same about each.
func alikeRemedy(c *Cause) string {
	if slices.ContainsFunc(c.Said, func(s Said) bool { return s.Remedy != c.First.Remedy }) {
		return ""
	}
	return c.First.Remedy
}

// moreOf says in how many rows a cause says what is not named; empty: all is.
func moreOf(c *Cause) string {
	if c.More == 0 {
		return ""
	}
	return "and others in " + Counted(c.More, "more row", "more rows")
}

// rowList names rows, of which there are so many.
func rowList(count int, rows []int) string {
	slices.Sort(rows)
	names := make([]string, len(rows))
	for i, row := range rows {
		if names[i] = strconv.Itoa(row); batch.Unlisted(row) > 0 {
			names[i] = batch.RowName(row)
		}
	}
	if count == 1 {
		return batch.RowName(rows[0])
	}
	text := group(count) + " rows: " + strings.Join(names, ", ")
	if count > len(names) {
		text += ", …"
	}
	return text
}

// Speak has fields be called from now on as the sheet of a batch calls them.
func (p *Page) Speak(b *batch.Batch) { p.headings, p.columns = b.Words, b.Headings }

// called is what the sheet calls a field.
func called(says map[string]string, field string) string {
	if heading := says[field]; heading != "" {
		return Clip(heading, 30)
	}
	return field
}

// plain is a heading without what is no letter or digit.
func plain(heading string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return r
		}
		return -1
	}, heading)
}

// InFull is what the sheet calls a field, with the field's name beside it where that is another word.
func InFull(says map[string]string, field string) string {
	heading := called(says, field)
	if heading == field || strings.EqualFold(plain(heading), field) {
		return heading
	}
	return heading + " (" + field + ")"
}

// Summary says in a line what an entry is about.
func (p *Page) Summary(e batch.Entry) string {
	said := Summary(e, p.headings)
	who := nameOf(p.headings, p.columns, &e)
	if who == "" || who == e.Key || !e.Outcome.IsBad() && (e.Intent != account.None || e.Outcome != account.Aside) {
		return said // which says who it is
	}
	return strings.TrimSuffix(who+" · "+said, " · ")
}

// EntryLine writes one entry in a line.
func (p *Page) EntryLine(e batch.Entry) { p.Entered(e, p.outcome(e)) }

// Entered writes one entry in a line, with what is said of it.
func (p *Page) Entered(e batch.Entry, said Styled) {
	p.Line("  %s  %s  %s  %s", Pad(rowLabel(e.Row), 8), said, Pad(Clip(e.Key, 16), 16), Clip(p.Summary(e), p.Columns()-42-max(0, p.Outcomes-10)))
}

// rowLabel names an entry's row in a column of them.
func rowLabel(row int) string {
	if batch.Unlisted(row) > 0 {
		return "unlisted"
	}
	return fmt.Sprintf("row %4d", row)
}

// became says what an entry came to, or is to come to.
func became(e *batch.Entry) string {
	switch {
	case !e.Outcome.Waits():
		return string(e.Outcome)
	case e.Did != "":
		return "to " + string(account.Finish)
	}
	return "to " + string(e.Intent)
}

func (p *Page) outcome(e batch.Entry) Styled {
	word := became(&e)
	padded := Pad(word, max(10, p.Outcomes))
	switch e.Outcome {
	case account.Refused, account.Failed:
		return p.paint(red, padded)
	case account.Aside, account.Unchanged:
		return p.paint(dim, padded)
	case account.Created, account.Updated, account.Suspended, account.Resumed, account.Removed:
		return p.paint(green, padded)
	}
	return Styled(padded)
}

// Summary says in a line what an entry is about; says is what the sheet calls fields.
func Summary(e batch.Entry, says map[string]string) string {
	if e.Outcome.IsBad() {
		for _, f := range e.Findings {
			if f.Level == account.Error {
				return f.Message
			}
		}
	}
	var parts []string
	switch e.Intent {
	case account.Create:
		made := map[string]account.Value{}
		for _, c := range e.Changes {
			made[c.Field] = c.After
		}
		who := whoIs(made, e.Key)
		if len(e.Steps) > 0 { // there is more to tell than who it is
			who = strings.Join(strings.SplitN(who, " · ", 3)[:min(2, strings.Count(who, " · ")+1)], " · ")
		}
		if who != "" {
			parts = append(parts, who)
		}
		for _, field := range []string{"uidNumber", "gidNumber", "homeDirectory"} { // which may have been chosen
			if v := made[field]; v.Filled() {
				parts = append(parts, field+" "+v.Text())
			}
		}
	case account.Keep, account.Remove:
		return whoIs(e.Known, e.Key)
	case account.None:
		if e.Outcome == account.Aside && len(e.Findings) > 0 {
			return e.Findings[0].Message
		}
		return ""
	case account.Update, account.Suspend, account.Resume:
		if who := whoIs(map[string]account.Value{"displayName": account.Of(nameIn(e.Known)), "userName": e.Known["userName"]}, e.Key); who != "" {
			parts = append(parts, who)
		}
		for _, c := range e.Changes {
			before, after := Shown(c)
			parts = append(parts, InFull(says, c.Field)+": "+before+" → "+after)
		}
	default:
		return ""
	}
	return strings.Join(append(parts, ties(e.Steps)...), "; ")
}

// mostStays is how much of what refers to an account by name a line says.
const mostStays = 3

// ties says what steps do, those that do the same together.
func ties(steps []membership.Step) (parts []string) {
	said := map[membership.Verb][]string{}
	stays := map[string][]string{}
	var outward []string // what goes out comes last, as it does
	for _, s := range steps {
		switch {
		case s.Do == membership.Join && s.Was == nil || s.Do == membership.Leave:
			said[s.Do] = append(said[s.Do], account.MembershipText(s.Name, s.Role, s.Section))
		case s.Do == membership.Stay:
			if text := s.Text(); text != "" {
				as := strings.TrimSuffix(strings.TrimSuffix(text, " again"), s.Name)
				stays[as] = append(stays[as], s.Name)
			}
		case !s.Within():
			outward = append(outward, s.Text())
		default:
			parts = append(parts, s.Text())
		}
	}
	for _, as := range slices.Sorted(maps.Keys(stays)) {
		names := stays[as]
		if len(names) > mostStays {
			names = append(names[:mostStays-1:mostStays-1], fmt.Sprintf("and %d more", len(names)-mostStays+1))
		}
		parts = append(parts, as+strings.Join(names, ", "))
	}
	for _, verb := range []membership.Verb{membership.Leave, membership.Join} {
		if names := said[verb]; len(names) > 0 {
			parts = append(parts, map[membership.Verb]string{membership.Leave: "leaves ", membership.Join: "joins "}[verb]+strings.Join(names, ", "))
		}
	}
	return append(parts, outward...)
}

// Shown says what a change changes, before and after; other accounts by their
// names.
func Shown(c account.Change) (before, after string) {
	before, after = quoteBlank(c.Before), quoteBlank(c.After)
	if c.Names != nil && c.Names[0] != "" && c.Before.Filled() {
		before = c.Names[0]
	}
	if c.Names != nil && c.Names[1] != "" && c.After.Filled() {
		after = c.Names[1]
	}
	return before, after
}

// whoIs names a person by the fields people know them by, but for the key, which
// stands beside.
func whoIs(fields map[string]account.Value, key string) string {
	var parts []string
	if name := nameIn(fields); name != "" && name != key {
		parts = append(parts, name)
	}
	for _, name := range []string{"userName", "email", "title", "department"} {
		if v := fields[name]; v.Filled() && v.Text() != key {
			parts = append(parts, v.Text())
		}
	}
	return strings.Join(parts, " · ")
}

// nameIn is a person's name, where fields have one.
func nameIn(fields map[string]account.Value) string {
	if name := fields["displayName"]; name.Filled() {
		return name.Text()
	}
	return cmp.Or(strings.TrimSpace(fields["givenName"].Text()+" "+fields["familyName"].Text()), fields["formattedName"].Text())
}

// nameOf is the name of the person whom an entry is about: as the account has it or gets it, else as the row has it, by
// what the sheet calls fields and by its columns.
func nameOf(says map[string]string, columns []string, e *batch.Entry) string {
	if name := nameIn(e.Left()); name != "" {
		return name
	}
	row := map[string]account.Value{}
	for _, c := range e.Changes {
		row[c.Field] = c.After
	}
	if name := nameIn(row); name != "" {
		return name
	}
	for _, field := range []string{"displayName", "givenName", "familyName", "formattedName"} {
		if at := slices.Index(columns, says[field]); says[field] != "" && at >= 0 && at < len(e.Cells) {
			row[field] = account.Of(strings.Join(strings.Fields(e.Cells[at]), " "))
		}
	}
	return nameIn(row)
}

func quoteBlank(v account.Value) string {
	if !v.Filled() {
		return "(blank)"
	}
	return v.Text()
}

// Entry writes an entry in full: before and after of each field, or the row as it
// came where nothing is to be changed, and the findings.
func (p *Page) Entry(e batch.Entry, headings []string) {
	p.Line("")
	wide := 18
	for _, c := range e.Changes {
		wide = min(30, max(wide, displaywidth.String(InFull(p.headings, c.Field))))
	}
	id := ""
	if e.Account != "" {
		id = "account " + e.Account
	}
	name := batch.RowName(e.Row)
	p.Line("%s  %s %s  %s%s", p.Bold(strings.ToUpper(name[:1])+name[1:]), p.outcome(e), e.Key, p.Dim(id), p.proof(e.Proof))
	switch {
	case e.Place != nil && e.Place.Asked != "":
		p.Line("  %s", p.Dim("handed over; what became of it is asked at "+e.Place.Asked))
	case e.Place != nil:
		p.Line("  %s", p.Dim(fmt.Sprintf("handed over in %s, line %d", e.Place.File, e.Place.Line)))
	}
	for _, c := range e.Changes {
		before, after := Shown(c)
		if e.Part != nil && !slices.Contains(e.Part, c.Field) {
			after += "  (not done)"
		}
		if e.Intent == account.Create {
			p.Line("    %s  %s", Pad(InFull(p.headings, c.Field), wide), after)
		} else {
			p.Line("    %s  %s → %s", Pad(InFull(p.headings, c.Field), wide), before, after)
		}
	}
	for _, s := range e.Steps {
		if text := s.Text(); text != "" {
			p.Line("    %s  %s  %s", Pad(s.Kind, wide), text, p.result(s.Result))
		}
	}
	if len(e.Changes)+len(e.Steps) == 0 {
		for i, cell := range e.Cells {
			if i < len(headings) && strings.TrimSpace(cell) != "" {
				p.Line("    %s  %s", p.Dim(Pad(Clip(headings[i], wide), wide)), Clip(cell, p.Columns()-28))
			}
		}
	}
	for _, f := range e.Findings {
		where := ""
		if f.Column != "" {
			where = " · " + f.Column
		}
		p.Line("    %s", p.Level(f.Level, string(f.Level)+": "+string(f.Code)+where))
		p.beneath("        ", "", p.Plain, f.Message)
		if f.Remedy != "" {
			p.beneath("        ", "→ ", p.Dim, f.Remedy)
		}
	}
}

// proof says how what was done with an entry was proven.
func (p *Page) proof(proof batch.Proof) Styled {
	switch proof {
	case batch.Proven:
		return p.Dim(" · proven")
	case batch.Answered:
		return p.Dim(" · proven by its answer")
	case batch.Otherwise:
		return p.paint(red, " · not as it was to be")
	case batch.Unseen:
		return p.Level(account.Warning, " · not shown yet")
	}
	return ""
}

func (p *Page) result(r membership.Result) Styled {
	switch r {
	case membership.Done:
		return p.paint(green, string(r))
	case membership.Failed:
		return p.paint(red, string(r))
	case membership.Already, membership.Goes: // the step says it
		return ""
	}
	return p.paint(dim, string(r))
}

// Renames writes what goes along with accounts that get another name by which others refer to them; nil: none does.
func (p *Page) Renames(n *batch.Renames) {
	if n == nil || n.Memberships+n.References == 0 {
		return
	}
	said := fmt.Sprintf("Of the accounts, %s are moved or renamed. They keep %s memberships, and %s others who refer to them go on doing so: the post looks afterwards, and puts right what the server leaves.",
		Number(n.Accounts), Number(n.Memberships), Number(n.References))
	if n.Server != "" {
		said += " " + strings.ToUpper(n.Server[:1]) + n.Server[1:] + "."
	}
	p.Line("")
	p.beneath("", "", p.Plain, said)
}

// Seats writes how many seats each licence has, and will have left.
func (p *Page) Seats(seats []membership.Seats) {
	if len(seats) == 0 {
		return
	}
	p.Line("")
	p.Line("%s", p.Bold(Pad("Seats", 32)+"   has  taken  needs  given back   left"))
	for _, s := range seats {
		more := Styled("")
		if s.Refused > 0 {
			more = p.paint(red, fmt.Sprintf("   none left for %s", Counted(s.Refused, "row", "rows")))
		}
		p.Line("  %s%6s %6s %6s %11s %6s%s", Pad(Clip(s.Name, 28), 30), group(s.Has), group(s.Taken), group(s.Needs), group(s.Given), group(s.Left()), more)
	}
}

// Makes writes which things will be made first, or taken back if they are empty.
func (p *Page) Makes(b *batch.Batch) {
	if len(b.Makes) > 0 {
		p.Line("")
		p.Line("%s", p.Bold("To be made first, as the system does not have them"))
	}
	for _, m := range b.Makes {
		near := Styled("")
		if m.Near != "" {
			near = p.paint(amber, fmt.Sprintf("   there is “%s”", m.Near))
		}
		p.Line("  %s %s  %s%s", Pad(strings.TrimSuffix(m.Kind, "s"), 10), Pad(Clip(m.Title(), 40), 40), p.Dim("for "+Counted(m.Rows, "row", "rows")), near)
	}
	if len(b.Unmakes) > 0 {
		p.Line("")
		p.Line("%s", p.Bold("What the batch had made first goes, if nobody is in it"))
	}
	for _, s := range b.Removals() {
		p.Line("  %s %s %s", Pad(strings.TrimSuffix(s.Kind, "s"), 10), Pad(Clip(s.Name, 40), 40), p.Dim(unmade(s.Result)))
	}
}

// unmade says what became of a thing that a batch had made, when the batch was undone.
func unmade(r membership.Result) string {
	return map[membership.Result]string{membership.Done: "removed", membership.Unsent: "stays, as somebody is in it, or as the system does not show who is, or does not remove such", membership.Failed: "stays, as the system refused to remove it"}[r]
}

// Counted is how many there are of something, such as “1 row” or “12 rows”.
func Counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return group(n) + " " + many
}

// Quoted is a word as it is typed in a shell.
func Quoted(word string) string {
	if strings.Trim(word, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./,:@") == "" {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// Lines writes a text as it is, with a line between it and what follows.
func (p *Page) Lines(text string) {
	for line := range strings.Lines(text) {
		p.Line("  %s", strings.TrimRight(line, "\n"))
	}
	p.Line("")
}

// Plural is the word for one of something, or that for several.
func Plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Next writes the commands to type next, if there are any.
func (p *Page) Next(commands ...string) {
	if len(commands) > 0 {
		p.Line("")
	}
	for i, command := range commands {
		label := "      "
		if i == 0 {
			label = "Next: "
		}
		command, about, _ := strings.Cut(command, "    # ") // a remark, which a shell passes over
		if about != "" {
			about = "    # " + about
		}
		p.Line("%s%s%s", p.Dim(label), p.Bold(command), p.Dim(about))
	}
}
