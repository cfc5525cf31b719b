package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

func (a *front) briefTryCommand() *cobra.Command {
	var flags sheetFlags
	var row int
	var offline bool
	cmd := &cobra.Command{
		Use:   "try SHEET",
		Short: "Show what becomes of one row, stage by stage",
		Long: `Takes one row of a sheet through a brief and shows each stage: its cells, the value
of each field and where it came from, what is wrong, and the account that is
wanted. The rows above count, as two may not share what must be unique.`,
		Example: `  evenledger brief try starters.xlsx -b starters --row 7
  evenledger brief try starters.xlsx --row 7 --offline      without a brief`,
		Args: one("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if row < 1 {
				return wrong("say which row", "For example: --row 7")
			}
			a.Offline = offline
			members, _, err := a.OpenSet(cmd.Context(), args[0], flags.Request)
			if err != nil {
				return err
			}
			defer app.CloseSet(members)
			var systems []string
			for _, m := range members {
				systems = append(systems, m.System)
			}
			return a.several("systems", systems, func(i int) error {
				if members[i].Err != nil {
					return members[i].Err
				}
				exit := a.exit // of the worst
				err := a.briefTry(cmd.Context(), members[i].Job, args[0], flags, row)
				a.exit = max(a.exit, exit)
				return err
			})
		},
	}
	cmd.Flags().StringVarP(&flags.Brief, "brief", "b", "", "the `BRIEF`: its name in briefs/, or a file")
	cmd.Flags().StringVar(&flags.System, "system", "", "the `SYSTEM`, if the brief doesn't say or there is none")
	cmd.Flags().StringVar(&flags.Tab, "tab", "", "the `TAB` of a workbook")
	cmd.Flags().StringVar(&flags.Encoding, "encoding", "", "the `NAME` of the encoding of a text file")
	cmd.Flags().IntVar(&row, "row", 0, "the `ROW`, as a spreadsheet program numbers it")
	cmd.Flags().BoolVar(&offline, "offline", false, "do not ask the system which fields it takes")
	completeFlag(cmd, "brief", a.completeBriefs)
	completeFlag(cmd, "system", a.completeTargets)
	return cmd
}

// tried is what became of one field.
type tried struct {
	Field  string         `json:"field"`
	Value  account.Value  `json:"value"`
	Origin mapping.Origin `json:"origin"`
	How    string         `json:"how"`
	Sent   bool           `json:"sent"`
}

// becomes lists what the row's cells become, and how.
func becomes(j *app.Job, at *app.Found) []tried {
	worker := j.Mapper.NewWorker()
	fixed := map[int]string{}
	if n := j.Brief.Numbered(); n >= 0 && at.Wanted.Base != "" && at.Wanted.Values[n].Text() != at.Wanted.Base {
		fixed[n] = at.Wanted.Values[n].Text()
	}
	worker.Map(at.Row, fixed, &mapping.Wanted{})
	var fields []tried
	for i, f := range j.Brief.Fields {
		fields = append(fields, tried{f.Name, at.Wanted.Values[i], worker.Origin(i), how(j, &j.Brief.Fields[i], i, worker.Origin(i), at), f.Send})
	}
	for _, tie := range at.Wanted.Ties {
		how := "from a rule, or the fallback"
		if tie.Column != "" {
			how = "from “" + tie.Column + "”"
		}
		of := j.Brief.Memberships[tie.Of]
		if of.Mode != brief.Add {
			how += "; " + string(of.Mode)
		}
		fields = append(fields, tried{of.Kind, account.Of(account.MembershipText(tie.Name, tie.Role, tie.Section)), mapping.FromCell, how, true})
	}
	return fields
}

func (a *front) briefTry(ctx context.Context, j *app.Job, path string, flags sheetFlags, number int) error {
	at, err := j.Row(ctx, number)
	if err != nil {
		return err
	}
	if at == nil {
		return wrong(fmt.Sprintf("%s has no row %d, or it is blank", path, number), "Rows are numbered as in a spreadsheet program; the headings are a row too.")
	}
	fields := becomes(j, at)
	for i, cell := range j.Mapper.Conceal(at.Row.Cells) {
		if cell != at.Row.Cells[i] {
			at.Row.Cells[i] = "(hidden)"
		}
	}
	findings := append(at.Wanted.Findings, at.Later...)
	came := "fine"
	switch {
	case at.Wanted.Aside:
		came = "aside"
	case account.HasError(findings):
		came = "refused"
	}
	a.exit = a.rowsExit(map[string]int{"refused": 1}[came])
	info := j.Sheet.Info()
	if a.json {
		if findings == nil {
			findings = []account.Finding{}
		}
		return a.writeJSON(map[string]any{"row": number, "headings": info.Headings, "cells": at.Row.Cells, "fields": fields, "findings": findings, "outcome": came})
	}
	page := a.page()
	of := ""
	if j.Target.Name != "" {
		of = " · " + j.Target.Name
	}
	page.Line("%s · row %d of %s%s", page.Bold(j.Brief.Name), number, info.Name, of)
	page.Line("")
	trialCells(page, info.Headings, at.Row)
	trialFields(page, at.Wanted.Aside, fields)
	if trier, is := j.System.(system.Trier); is && came == "fine" {
		if request, err := trier.Preview(j.Account(at)); err == nil {
			page.Line("")
			page.Line("%s", page.Bold("The request that would make it"))
			for line := range strings.Lines(request) {
				page.Line("  %s", page.Dim(report.Clip(strings.TrimRight(line, "\n"), page.Columns()-4)))
			}
		}
	}
	causes := &report.Causes{}
	for _, f := range findings {
		causes.Add(f)
	}
	page.Findings(causes)
	page.Line("")
	switch came {
	case "aside":
		page.Line("The row is set aside: %s", leftOut(j.Brief))
	case "refused":
		page.Line("%s", page.Level(account.Error, "The row is refused."))
	default:
		page.Line("The row is fine. Whether its account exists is looked up by “draft”.")
	}
	page.Next("evenledger draft " + quoted(path) + flags.flags() + fmt.Sprintf(" --rows %d", number))
	return page.Err()
}

// trialCells shows the cells of a row as they stand.
func trialCells(page *report.Page, headings []string, row sheet.Row) {
	page.Line("%s", page.Bold("The cells"))
	for i, cell := range row.Cells {
		if clean, _ := words.Clean(cell); clean == "" {
			continue
		}
		heading := "(beyond the headings)"
		if i < len(headings) {
			heading = headings[i]
		}
		page.Line("  %s %s  %s", report.Pad(report.Clip(heading, 24), 24), report.Clip(visible(cell), page.Columns()-44), page.Dim(kindName(row.Kind(i))))
	}
	page.Line("")
}

// trialFields shows what fields they become, and how.
func trialFields(page *report.Page, aside bool, fields []tried) {
	page.Line("%s", page.Bold("What they become"))
	if aside {
		page.Line("  nothing: the row is set aside")
	}
	for _, f := range fields {
		if aside || f.Origin == mapping.FromNowhere && !f.Value.Present() {
			continue
		}
		value := report.Styled(report.Pad(report.Clip(f.Value.Text(), 36), 36))
		if !f.Value.Filled() {
			value = page.Dim(report.Pad("(blank)", 36))
		}
		page.Line("  %s %s  %s", report.Pad(report.Clip(f.Field, 24), 24), value, page.Dim(report.Clip(f.How, max(20, page.Columns()-68))))
	}
}

func leftOut(b *brief.Brief) string {
	var conditions []string
	for _, only := range b.Only {
		conditions = append(conditions, only.Source)
	}
	return "the brief takes only rows with " + strings.Join(conditions, " and ") + "."
}

// how says in words where a value came from.
func how(j *app.Job, f *brief.Field, i int, origin mapping.Origin, at *app.Found) string {
	text := ""
	switch heading := j.Mapper.Heading(i); origin {
	case mapping.FromCell:
		text = "from “" + heading + "”"
		if f.Kind != account.Text {
			text += ", read as " + f.Kind.InWords()
		}
	case mapping.FromTable:
		text = "from “" + heading + "” through the table"
	case mapping.FromFormula:
		text = "made: " + f.Make.Source
	case mapping.FromFallback:
		text = "the fallback, for a new account"
		if f.FallbackFor == brief.ForEmpty {
			text = "the fallback, where the system has nothing"
		} else if f.FallbackFor == brief.ForAll {
			text = "the fallback"
		}
	case mapping.FromGiven:
		text = "“" + at.Wanted.Base + "” is taken by a row above"
	case mapping.FromNowhere:
		text = "no column speaks of it"
		if heading != "" {
			text = "“" + heading + "” is blank"
		}
	}
	if !f.Send {
		text += "; not sent"
	}
	return text
}
