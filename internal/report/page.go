package report

import (
	"bufio"
	"context"
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"errors"
	"html/template"
	"io"
	"iter"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

//go:embed page
var pageFiles embed.FS

// bar is one outcome in the chart.
type bar struct {
	Outcome account.Outcome
	N       int
	X       float64 // of a thousand
	Width   float64
}

// pageCause is what caused findings, for the page.
type pageCause struct {
	Level   account.Level
	Code    string
	Column  string
	Message string
	Remedy  string
	Rows    string
	In      string     // the systems of a set that it is so in
	Said    []pageSaid // where it says several things: each
	More    string     // of those that are not named
}

// pageSaid is one of several things that a cause says.
type pageSaid struct{ Message, Rows, Remedy string }

// WritePage writes a batch as one page that needs nothing else: to keep, to print
// or to send. Nothing out of a sheet or a system can act in it: texts are escaped,
// and no script runs but the page's own, whose hash it names.
func WritePage(w io.Writer, b *batch.Batch, counts account.Counts, waiting map[account.Intent]int, causes *Causes, entries iter.Seq2[batch.Entry, error]) error {
	pages, script, hash, err := pageParts()
	if err != nil {
		return err
	}
	head := NewHead(b, counts)
	document := map[string]any{
		"Head": head, "Made": b.Made.Local().Format("2 Jan 2006 15:04"), "Posted": posted(b), "Taken": b.Taken, "Total": counts.Total(),
		"In": slices.DeleteFunc(In(b), func(s Side) bool { return s.N == 0 && s.Label != "Rows in" }), "Seats": b.Seats, "Makes": b.Makes, "Unmakes": b.Removals(), "Read": ReadText(b.Read), "ReadEven": b.Read.Even(), "Held": b.Held, "Proof": proofOf(b), "CameIn": b.Rows + b.Unlisted,
		"Sides": slices.DeleteFunc(Sides(b, counts, waiting), func(s Side) bool { return s.N == 0 }), "Bars": bars(counts), "Causes": pageCauses(causes),
		"Outcomes": account.Outcomes(), "ScriptHash": hash,
	}
	if err := pages.ExecuteTemplate(w, "head.html", document); err != nil {
		return err
	}
	row := pages.Lookup("row.html")
	for e, err := range entries {
		if err != nil {
			return err
		}
		if err := row.Execute(w, map[string]any{"Row": e.Row, "Name": pageRow(e.Row), "Steps": e.Steps, "Key": e.Key, "Who": nameOf(b.Words, b.Headings, &e), "Outcome": e.Outcome, "Became": became(&e), "Account": e.Account, "Create": e.Intent == account.Create, "Changes": e.Changes, "Words": b.Words, "Findings": e.Findings}); err != nil {
			return err
		}
	}
	return pages.ExecuteTemplate(w, "foot.html", script)
}

// A proofLine is what reading back came to, for the page.
type proofLine struct {
	Text  string
	Level account.Level
}

func proofOf(b *batch.Batch) proofLine {
	text, level := ProofText(b)
	return proofLine{text, level}
}

// pageParts are the templates of pages, and the one script with its hash, which names it.
func pageParts() (pages *template.Template, script template.JS, hash template.HTMLAttr, err error) {
	text, err := pageFiles.ReadFile("page/page.js")
	if err != nil {
		return nil, "", "", err
	}
	pages, err = template.New("").Funcs(template.FuncMap{"number": Number, "class": func(o account.Outcome) string { return strings.ReplaceAll(string(o), " ", "-") }, "kind": func(text string) string { return strings.ReplaceAll(text, " ", "-") }, "unmade": unmade, "one": func(kind string) string { return strings.TrimSuffix(kind, "s") }, "called": InFull, "before": func(c account.Change) string { before, _ := Shown(c); return before }, "after": func(c account.Change) string { _, after := Shown(c); return after }}).ParseFS(pageFiles, "page/*.html")
	sum := sha256.Sum256(text)
	return pages, template.JS(text), template.HTMLAttr("sha256-" + base64.StdEncoding.EncodeToString(sum[:])), err
}

// line is one of the accounts of a set, side by side.
type line struct {
	Label string
	Cells []string
}

// cell is what a row comes to in one system of a set.
type cell struct {
	Outcome  account.Outcome
	Became   string
	Create   bool
	Changes  []account.Change
	Steps    []membership.Step
	Findings []account.Finding
}

// WriteSetPage writes the batches of a set as one page, with the promises of WritePage.
func WriteSetPage(w io.Writer, s Set, causes *Causes, rows iter.Seq2[SetRow, error]) error {
	pages, script, hash, err := pageParts()
	if err != nil {
		return err
	}
	b := s.Batches[0]
	table := s.sides(func(i int) []Side { return Sides(s.Batches[i], s.Counts[i], s.Waiting[i]) })
	var systems, held []string
	lines := []line{{Label: "Rows in"}}
	for _, of := range s.Batches {
		systems = append(systems, of.System)
		lines[0].Cells = append(lines[0].Cells, Number(of.Rows+of.Unlisted))
		for _, why := range of.Held {
			held = append(held, of.System+" is held back: "+why+".")
		}
	}
	seen := map[account.Outcome]bool{}
	for _, counts := range s.Counts {
		for o, n := range counts {
			seen[o] = seen[o] || n > 0
		}
	}
	for _, word := range table.words {
		l := line{Label: word}
		for i := range s.Batches {
			text := ""
			if n := table.counts[i][word]; n > 0 {
				text = Number(n)
			}
			l.Cells = append(l.Cells, text)
		}
		lines = append(lines, l)
	}
	proven := line{Label: "Proven"}
	for _, of := range s.Batches {
		proven.Cells = append(proven.Cells, provenOf(of))
	}
	if strings.Join(proven.Cells, "") != "" {
		lines = append(lines, proven)
	}
	document := map[string]any{
		"Title": s.Title(), "Sheet": b.Sheet, "Systems": systems, "Made": b.Made.Local().Format("2 Jan 2006 15:04"), "By": b.By, "Lines": lines, "Totals": table.totals, "Even": s.even(table), "Policies": b.Policies, "Held": held,
		"Causes": pageCauses(causes), "ScriptHash": hash, "Outcomes": slices.DeleteFunc(account.Outcomes(), func(o account.Outcome) bool { return !seen[o] }),
	}
	if err := pages.ExecuteTemplate(w, "set.html", document); err != nil {
		return err
	}
	row := pages.Lookup("setrow.html")
	for r, err := range rows {
		if err != nil {
			return err
		}
		cells := make([]cell, len(r.Entries))
		for i, e := range r.Entries {
			if e != nil {
				cells[i] = cell{e.Outcome, became(e), e.Intent == account.Create, e.Changes, e.Steps, e.Findings}
			}
		}
		if err := row.Execute(w, map[string]any{"Row": r.Row, "Name": pageRow(r.Row), "Key": r.Key, "Cells": cells, "Words": b.Words}); err != nil {
			return err
		}
	}
	return pages.ExecuteTemplate(w, "foot.html", script)
}

// pageRow names an entry's row on the page.
func pageRow(row int) string {
	if batch.Unlisted(row) > 0 {
		return "not listed"
	}
	return Number(row)
}

func posted(b *batch.Batch) string {
	if b.Posted.IsZero() {
		return ""
	}
	text := b.Posted.Local().Format("15:04")
	if b.Posted.Sub(b.Made) > 12*time.Hour {
		text += b.Posted.Local().Format(" on 2 Jan")
	}
	return text
}

func bars(counts account.Counts) []bar {
	total, x := max(1, counts.Total()), 0.0
	var list []bar
	for _, outcome := range account.Outcomes() {
		if n := counts[outcome]; n > 0 {
			width := 1000 * float64(n) / float64(total)
			list = append(list, bar{outcome, n, x, width})
			x += width
		}
	}
	return list
}

func pageCauses(causes *Causes) []pageCause {
	var list []pageCause
	for _, cause := range causes.Sorted() {
		f := cause.First
		told := pageCause{Level: f.Level, Code: string(f.Code), Column: f.Column, Message: f.Message, Remedy: f.Remedy}
		told.In = strings.Join(cause.In, ", ")
		if cause.Count > 0 {
			told.Rows = rowList(cause.Count, cause.Rows)
		}
		if len(cause.Said) > 1 {
			told.Remedy = alikeRemedy(cause)
			for _, s := range cause.Said {
				said := pageSaid{Message: s.Message, Rows: rowList(s.Count, s.Rows)}
				if told.Remedy == "" {
					said.Remedy = s.Remedy
				}
				told.Said = append(told.Said, said)
			}
			told.More = moreOf(cause)
		}
		list = append(list, told)
	}
	return list
}

// PageOf writes the page of a batch and returns how many rows are on it.
func PageOf(ctx context.Context, l store.Reader, b *batch.Batch, to io.Writer) (rows int, err error) {
	counts, waiting, err := l.Counts(ctx, b.ID)
	if err != nil {
		return 0, err
	}
	causes := &Causes{}
	if err := causes.AddEntries(l.Entries(ctx, b.ID, store.Filter{Findings: true}), nil); err != nil {
		return 0, err
	}
	buffered := bufio.NewWriter(to)
	err = WritePage(buffered, b, counts, waiting, causes, l.Entries(ctx, b.ID, store.Filter{Cells: true}))
	return counts.Total(), errors.Join(err, buffered.Flush())
}
