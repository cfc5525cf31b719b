package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/mapping"
	"evenledger/internal/profile"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

func (a *front) peekCommand() *cobra.Command {
	var flags sheetFlags
	var headingRow int
	cmd := &cobra.Command{
		Use:     "peek SHEET",
		GroupID: "prepare",
		Short:   "See what is in a sheet, and what each column would be",
		Long: `Tells a sheet's format and where its headings stand, and of each column which field
it would be, what kind of values it has, how many differ, and what looks wrong.
With --rows the rows are shown as they were read. What looks like a password is
never shown. “-” reads what is piped in.`,
		Example: `  evenledger peek starters.xlsx
  evenledger peek starters.xlsx --tab Crew
  evenledger peek starters.csv --rows 3-5
  cat feed.jsonl | evenledger peek -`,
		Args: one("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			selection, err := flags.Selects()
			if err != nil {
				return err
			}
			s, err := a.look(cmd.Context(), args[0], flags, headingRow)
			if err != nil {
				return err
			}
			defer s.Close()
			if !selection.All() {
				return a.peekRows(s, selection)
			}
			bar := a.progress()
			found, err := profile.Of(s.Info(), s.Rows(), func(rows int) { bar.stageDone("looked at", rows) })
			bar.end()
			if err != nil {
				return err
			}
			return a.peek(args[0], s.Info(), found)
		},
	}
	flags.addRows(cmd)
	cmd.Flags().IntVar(&headingRow, "heading-row", 0, "the `ROW` of the headings, if it isn't found by looking")
	return cmd
}

// looked is a sheet that is looked at without a brief.
type looked struct {
	*sheet.Sheet
	local   *app.Local
	options sheet.Options
}

// secrets tells which columns hold passwords. What is piped in can be read only once: there their
// headings alone tell.
func (l looked) secrets() ([]bool, error) {
	headings := l.Info().Headings
	if l.local.Path == sheet.StandardInput {
		return profile.Secrets(headings, func(func(sheet.Row, error) bool) {})
	}
	ahead, err := sheet.Open(l.local.Path, nil, l.options)
	if err != nil {
		return nil, err
	}
	defer ahead.Close()
	return profile.Secrets(headings, ahead.Rows())
}

// Close closes the sheet, and takes away what a feed brought.
func (l looked) Close() error { return errors.Join(l.Sheet.Close(), l.local.Close()) }

// look opens a sheet without a brief.
func (a *front) look(ctx context.Context, name string, flags sheetFlags, headingRow int) (looked, error) {
	local, err := a.Local(ctx, name, flags.Again, false)
	if err != nil {
		return looked{}, err
	}
	known := account.NewHeadings()
	options := sheet.Options{Tab: flags.Tab, Encoding: flags.Encoding, AnyTab: true, Stop: a.stop, HeadingRow: headingRow, Recognise: func(h string) bool { _, ok := known.Field(h); return ok }}
	s, err := sheet.Open(local.Path, a.In, options)
	if err != nil {
		return looked{}, errors.Join(err, local.Close())
	}
	return looked{s, local, options}, nil
}

func (a *front) peek(path string, info sheet.Info, found *profile.Profile) error {
	if a.json {
		return a.writeJSON(map[string]any{"sheet": info, "rows": found.Rows, "hiddenRows": found.Hidden, "raggedRows": found.Ragged, "mergedCells": found.Merged, "strayRows": found.Strays, "columns": found.Columns})
	}
	page := a.page()
	page.Line("%s · %s %s", about(info), report.Number(found.Rows), plural(found.Rows, "row", "rows"))
	page.Read(info.Read)
	if !info.Read.Even() {
		a.exit = exitRows
	}
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
	peekOddities(page, info, found)
	page.Next("evenledger brief new "+quoted(path), "evenledger check "+quoted(path)+" --offline")
	return page.Err()
}

// where says how many cells an oddity is in, and in which rows.
func where(o profile.Oddity) string {
	var rows []string
	for _, row := range o.Rows {
		rows = append(rows, strconv.Itoa(row))
	}
	text := plural(len(rows), "row ", "rows ") + strings.Join(rows, ", ")
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

func peekOddities(page *report.Page, info sheet.Info, found *profile.Profile) {
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
		say("", fmt.Sprintf("%d %s blank as part of a larger one: only the first of such cells has the value", found.Merged, plural(found.Merged, "cell reads", "cells read")))
	}
	for _, row := range found.Strays {
		say("", fmt.Sprintf("row %d: %s", row.Row, row.Why))
	}
	for _, f := range mapping.GuessedEncoding(info) {
		say("", f.Message)
	}
	if found.Hidden > 0 {
		say("", fmt.Sprintf("%d %s hidden in the spreadsheet program, and read like the others", found.Hidden, plural(found.Hidden, "row is", "rows are")))
	}
	if found.Ragged > 0 {
		say("", fmt.Sprintf("%d %s values to the right of the last heading", found.Ragged, plural(found.Ragged, "row has", "rows have")))
	}
}

// mostTold is how many columns are told of one kind of oddity.
const mostTold = 5

// peekRows shows rows as they were read.
func (a *front) peekRows(s looked, selection sheet.Selection) error {
	info := s.Info()
	secret, err := s.secrets()
	if err != nil {
		return err
	}
	type cell struct {
		Heading string `json:"heading"`
		Value   string `json:"value"`
		Kind    string `json:"kind,omitempty"`
		Hidden  bool   `json:"notShown,omitempty"`
	}
	type row struct {
		Row   int    `json:"row"`
		Cells []cell `json:"cells"`
	}
	rows := []row{}
	for r, err := range selection.Of(s.Rows()) {
		if err != nil {
			return err
		}
		if r.Left {
			continue
		}
		shown := row{Row: r.Number, Cells: []cell{}}
		for i, text := range r.Cells {
			c := cell{Value: text, Kind: kindName(r.Kind(i))}
			if i < len(info.Headings) {
				c.Heading = info.Headings[i]
			}
			if text != "" && (i < len(secret) && secret[i] || profile.Concealed(text) != text) {
				c.Value, c.Hidden = "", true
			}
			shown.Cells = append(shown.Cells, c)
		}
		if rows = append(rows, shown); len(rows) == 1000 {
			a.remark("Only the first 1000 of these rows are shown.")
			break
		}
	}
	if info = s.Info(); a.json {
		return a.writeJSON(map[string]any{"sheet": info, "rows": rows})
	}
	page := a.page()
	page.Line("%s", about(info))
	for _, r := range rows {
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
	if len(rows) == 0 {
		page.Line("The sheet has none of these rows: %s.", selection.String())
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
