package answer

import (
	"context"
	"fmt"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

// A Try is what becomes of one row under a brief.
type Try struct {
	Job      *app.Job
	Path     string
	Number   int // of the row
	At       *app.Found
	Fields   []TriedField
	Findings []account.Finding
	Again    string // the flags with which it was asked for
}

// NewTry tries a row; what is secret in it is hidden.
func NewTry(j *app.Job, path string, number int, at *app.Found, again string) Try {
	t := Try{Job: j, Path: path, Number: number, At: at, Fields: becomes(j, at), Again: again, Findings: append(append([]account.Finding{}, at.Wanted.Findings...), at.Later...)}
	for i, cell := range j.Mapper.Conceal(at.Row.Cells) {
		if cell != at.Row.Cells[i] {
			at.Row.Cells[i] = "(hidden)"
		}
	}
	return t
}

// Came is what the row comes to: fine, aside or refused.
func (t Try) Came() string {
	switch {
	case t.At.Wanted.Aside:
		return "aside"
	case account.HasError(t.Findings):
		return "refused"
	}
	return "fine"
}

// Document implements Answer.
func (t Try) Document(context.Context) any {
	return map[string]any{"row": t.Number, "headings": t.Job.Sheet.Info().Headings, "cells": t.At.Row.Cells, "fields": t.Fields, "findings": t.Findings, "outcome": t.Came()}
}

// Draw implements Answer.
func (t Try) Draw(_ context.Context, page *report.Page) error {
	of, j, info := "", t.Job, t.Job.Sheet.Info()
	if j.Target.Name != "" {
		of = " · " + j.Target.Name
	}
	page.Line("%s · row %d of %s%s", page.Bold(j.Brief.Name), t.Number, info.Name, of)
	page.Line("")
	trialCells(page, info.Headings, t.At.Row)
	trialFields(page, t.At.Wanted.Aside, t.Fields)
	if trier, is := j.System.(system.Trier); is && t.Came() == "fine" {
		if request, err := trier.Preview(j.Account(t.At)); err == nil {
			page.Line("")
			page.Line("%s", page.Bold("The request that would make it"))
			for line := range strings.Lines(request) {
				page.Line("  %s", page.Dim(report.Clip(strings.TrimRight(line, "\n"), page.Columns()-4)))
			}
		}
	}
	causes := &report.Causes{}
	causes.AddAll(t.Findings)
	page.Findings(causes)
	page.Line("")
	switch t.Came() {
	case "aside":
		page.Line("The row is set aside: %s", LeftOut(j.Brief))
	case "refused":
		page.Line("%s", page.Level(account.Error, "The row is refused."))
	default:
		page.Line("The row is fine. Whether its account exists is looked up by “draft”.")
	}
	page.Next("evenledger draft " + report.Quoted(t.Path) + t.Again + fmt.Sprintf(" --rows %d", t.Number))
	return nil
}

// A TriedField is what became of one field.
type TriedField struct {
	Field  string         `json:"field"`
	Value  account.Value  `json:"value"`
	Origin mapping.Origin `json:"origin"`
	How    string         `json:"how"`
	Sent   bool           `json:"sent"`
}

// becomes lists what the row's cells become, and how.
func becomes(j *app.Job, at *app.Found) []TriedField {
	worker := j.Mapper.NewWorker()
	fixed := map[int]string{}
	if n := j.Brief.Numbered(); n >= 0 && at.Wanted.Base != "" && at.Wanted.Values[n].Text() != at.Wanted.Base {
		fixed[n] = at.Wanted.Values[n].Text()
	}
	worker.Map(at.Row, fixed, &mapping.Wanted{})
	var fields []TriedField
	for i, f := range j.Brief.Fields {
		fields = append(fields, TriedField{f.Name, at.Wanted.Values[i], worker.Origin(i), how(j, &j.Brief.Fields[i], i, worker.Origin(i), at), f.Send})
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
		fields = append(fields, TriedField{of.Kind, account.Of(account.MembershipText(tie.Name, tie.Role, tie.Section)), mapping.FromCell, how, true})
	}
	return fields
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
func trialFields(page *report.Page, aside bool, fields []TriedField) {
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

// LeftOut says which rows a brief takes.
func LeftOut(b *brief.Brief) string {
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
