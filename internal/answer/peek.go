package answer

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/mapping"
	"evenledger/internal/profile"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

// About says in a line what a sheet is.
func About(info sheet.Info) string {
	parts := []string{info.Format}
	if info.Compressed {
		parts[0] += " in gzip"
	}
	if info.Separator != "" {
		parts = append(parts, info.Separator+" between cells")
	}
	if info.Encoding != "" {
		parts = append(parts, info.Encoding)
	}
	if info.Tab != "" {
		tab := "tab “" + info.Tab + "”"
		if len(info.Tabs) > 1 {
			tab += fmt.Sprintf(" of %d", len(info.Tabs))
		}
		for i, below := range info.Below {
			if tab += fmt.Sprintf(" and “%s”, whose row 1 is counted as row %d", below.Name, below.Before+1); i == 0 {
				tab = strings.Replace(tab, "tab ", "tabs ", 1)
			}
		}
		parts = append(parts, tab)
	}
	text := info.Name + " · " + strings.Join(parts, ", ")
	if info.HeadingRow > 0 {
		text += fmt.Sprintf(" · headings in row %d", info.HeadingRow)
	}
	return text
}

// A Peek is what is in a sheet, and what each column would be.
type Peek struct {
	Path  string
	Info  sheet.Info
	Found *profile.Profile
}

// Document implements Answer.
func (p Peek) Document(context.Context) any {
	f := p.Found
	return map[string]any{"sheet": p.Info, "rows": f.Rows, "hiddenRows": f.Hidden, "raggedRows": f.Ragged, "mergedCells": f.Merged, "strayRows": f.Strays, "columns": f.Columns}
}

// Draw implements Answer.
func (p Peek) Draw(_ context.Context, page *report.Page) error {
	info, found := p.Info, p.Found
	page.Line("%s · %s %s", About(info), report.Number(found.Rows), report.Plural(found.Rows, "row", "rows"))
	page.Read(info.Read)
	for _, above := range info.Above {
		if text := profile.Concealed(strings.TrimSpace(strings.Join(above, " "))); text != "" {
			page.Line("  %s", page.Dim("above the headings: "+report.Clip(text, 80)))
		}
	}
	if len(info.Tabs) > 1 {
		page.Line("  %s", page.Dim("tabs: "+strings.Join(info.Tabs, ", ")))
	}
	page.Line("")
	table := page.Listing(report.Column{Title: "Column", Width: 21}, report.Column{Title: "would be", Width: 17}, report.Column{Title: "kind", Width: 10},
		report.Column{Title: "filled", Width: 7, Right: true}, report.Column{Title: "blank", Width: 6, Right: true, Rank: 1}, report.Column{Title: "distinct", Width: 8, Right: true, Rank: 3}, report.Column{Title: "length", Width: 6, Right: true, Rank: 4},
		report.Column{Title: "examples", Rank: 2})
	for i, c := range found.Columns {
		heading := c.Heading
		if heading == "" {
			heading = "(column " + sheet.ColumnName(i) + ")"
		}
		would := c.Field
		switch {
		case would != "":
			if c.Negated {
				would = "not " + would
			}
		case c.Ties != "":
			would = c.Ties
		case c.Action:
			would = "intent"
		case c.Beside != "":
			would = "their " + c.Beside
		}
		field := report.Cell{Text: would}
		if would == "" {
			field = report.Cell{Text: "not used", Style: page.Dim}
		}
		distinct := report.Number(c.Distinct)
		if c.More {
			distinct = "over " + distinct
		}
		examples := strings.Join(c.Examples, " · ")
		if c.Secret {
			examples = "(like passwords, not shown)"
		} else if c.Filled > 0 && len(c.Examples) == 0 {
			examples = "(not shown)"
		}
		table.Row(report.Cell{Text: heading}, field, report.Cell{Text: c.Kind}, report.Cell{Text: report.Number(c.Filled)}, report.Cell{Text: report.Number(c.Blank)}, report.Cell{Text: distinct},
			report.Cell{Text: span(c.Shortest, c.Longest)}, report.Cell{Text: examples, Style: page.Dim})
	}
	oddities(page, info, found)
	page.Next("evenledger brief new "+report.Quoted(p.Path), "evenledger check "+report.Quoted(p.Path)+" --offline")
	return page.Err()
}

// where says how many cells an oddity is in, and in which rows.
func where(o profile.Oddity) string {
	var rows []string
	for _, row := range o.Rows {
		rows = append(rows, strconv.Itoa(row))
	}
	text := report.Plural(len(rows), "row ", "rows ") + strings.Join(rows, ", ")
	switch {
	case len(rows) == 0 && o.Count == 0:
		return ""
	case o.Count > len(rows):
		text = report.Number(o.Count) + " cells, " + text + ", …"
	}
	return text + ": "
}

// span says how long the values are, in characters.
func span(shortest, longest int) string {
	if shortest == longest {
		return report.Number(longest)
	}
	return report.Number(shortest) + "–" + report.Number(longest)
}

func oddities(page *report.Page, info sheet.Info, found *profile.Profile) {
	title := false
	say := func(where, message string) {
		if !title {
			page.Line("")
			page.Line("%s", page.Bold("To look at"))
			title = true
		}
		page.Line("  %s %s", page.Level(account.Warning, report.Pad(report.Clip(where, 21), 21)), message)
	}
	for _, c := range found.Columns {
		if c.Field != "" && c.Why != "its heading" {
			say(c.Heading, "would be "+c.Field+" by "+strings.TrimPrefix(c.Why, "by "))
		}
		for _, o := range c.Odd {
			say(c.Heading, report.Clip(where(o)+o.Message, page.Columns()-26))
		}
	}
	for i, heading := range info.Hidden {
		if i == mostTold {
			say("", fmt.Sprintf("%d more columns are hidden", len(info.Hidden)-i))
			break
		}
		say(heading, "the column is hidden in the spreadsheet program")
	}
	for i, heading := range info.Merged {
		if i == mostTold {
			say("", fmt.Sprintf("%d more headings stretch over columns to their right", len(info.Merged)-i))
			break
		}
		say(heading, "the heading stretches over columns to its right, which have none")
	}
	if found.Merged > 0 {
		say("", fmt.Sprintf("%d %s blank as part of a larger one: only the first of such cells has the value", found.Merged, report.Plural(found.Merged, "cell reads", "cells read")))
	}
	for _, row := range found.Strays {
		say("", fmt.Sprintf("row %d: %s", row.Row, row.Why))
	}
	for _, f := range mapping.GuessedEncoding(info) {
		say("", f.Message)
	}
	if found.Hidden > 0 {
		say("", fmt.Sprintf("%d %s hidden in the spreadsheet program, and read like the others", found.Hidden, report.Plural(found.Hidden, "row is", "rows are")))
	}
	if found.Ragged > 0 {
		say("", fmt.Sprintf("%d %s values to the right of the last heading", found.Ragged, report.Plural(found.Ragged, "row has", "rows have")))
	}
}

// mostTold is how many columns are told of one kind of oddity.
const mostTold = 5

// Rows are rows of a sheet as they were read.
type Rows struct {
	Info      sheet.Info
	Rows      []Row
	Selection sheet.Selection
}

// A Row is one of them.
type Row struct {
	Row   int    `json:"row"`
	Cells []Cell `json:"cells"`
}

// A Cell is one of its cells.
type Cell struct {
	Heading string `json:"heading"`
	Value   string `json:"value"`
	Kind    string `json:"kind,omitempty"`
	Hidden  bool   `json:"notShown,omitempty"`
}

// NewRow is a row as it is shown; secret says of which columns nothing is.
func NewRow(r sheet.Row, headings []string, secret []bool) Row {
	shown := Row{Row: r.Number, Cells: []Cell{}}
	for i, text := range r.Cells {
		c := Cell{Value: text, Kind: kindName(r.Kind(i))}
		if i < len(headings) {
			c.Heading = headings[i]
		}
		if text != "" && (i < len(secret) && secret[i] || profile.Concealed(text) != text) {
			c.Value, c.Hidden = "", true
		}
		shown.Cells = append(shown.Cells, c)
	}
	return shown
}

// Document implements Answer.
func (s Rows) Document(context.Context) any { return map[string]any{"sheet": s.Info, "rows": s.Rows} }

// Draw implements Answer.
func (s Rows) Draw(_ context.Context, page *report.Page) error {
	page.Line("%s", About(s.Info))
	for _, r := range s.Rows {
		page.Line("")
		page.Line("%s", page.Bold(fmt.Sprintf("Row %d", r.Row)))
		for _, c := range r.Cells {
			value := report.Styled(report.Clip(visible(c.Value), page.Columns()-42))
			switch {
			case c.Hidden:
				value = page.Dim("(not shown)")
			case c.Value == "":
				value = page.Dim("(blank)")
			}
			page.Line("    %s  %s  %s", report.Pad(report.Clip(c.Heading, 24), 24), value, page.Dim(c.Kind))
		}
	}
	if len(s.Rows) == 0 {
		page.Line("The sheet has none of these rows: %s.", s.Selection.String())
	}
	return page.Err()
}

// visible writes out what cannot be seen in a cell.
func visible(text string) string {
	return strings.NewReplacer("\u00a0", "[no-break space]", "\u200b", "[zero width]", "\ufeff", "[zero width]", "\n", " ↵ ", "\t", "[tab]", "\u202e", "[turned round]").Replace(text)
}

func kindName(kind sheet.CellKind) string {
	return [...]string{"", "number", "date", "yes or no", "error", "not calculated", "list"}[kind]
}
