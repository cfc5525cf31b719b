package report

import (
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"html/template"
	"io"
	"iter"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/outcome"
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
}

// WritePage writes a batch as one page that needs nothing else: to keep, to print
// or to send. Nothing out of a sheet or a system can act in it: texts are escaped,
// and no script runs but the page's own, whose hash it names.
func WritePage(w io.Writer, b *batch.Batch, counts account.Counts, waiting map[account.Intent]int, causes *outcome.Causes, entries iter.Seq2[batch.Entry, error]) error {
	script, err := pageFiles.ReadFile("page/page.js")
	if err != nil {
		return err
	}
	pages, err := template.New("").Funcs(template.FuncMap{"number": Number, "unmade": unmade, "one": func(kind string) string { return strings.TrimSuffix(kind, "s") }, "before": func(c account.Change) string { before, _ := Shown(c); return before }, "after": func(c account.Change) string { _, after := Shown(c); return after }}).ParseFS(pageFiles, "page/*.html")
	if err != nil {
		return err
	}
	hash := sha256.Sum256(script)
	head := NewHead(b, counts)
	document := map[string]any{
		"Head": head, "Made": b.Made.Local().Format("2 Jan 2006 15:04"), "Posted": posted(b), "Taken": b.Taken, "Total": counts.Total(),
		"In": slices.DeleteFunc(In(b), func(s Side) bool { return s.N == 0 && s.Label != "Rows in" }), "Seats": b.Seats, "Makes": b.Makes, "Unmakes": b.Unmakes, "Read": ReadText(b.Read), "ReadEven": b.Read.Even(), "Held": b.Held, "CameIn": b.Rows + b.Unlisted,
		"Sides": slices.DeleteFunc(Sides(counts, waiting), func(s Side) bool { return s.N == 0 }), "Bars": bars(counts), "Causes": pageCauses(causes),
		"Outcomes": account.Outcomes(), "ScriptHash": template.HTMLAttr("sha256-" + base64.StdEncoding.EncodeToString(hash[:])),
	}
	if err := pages.ExecuteTemplate(w, "head.html", document); err != nil {
		return err
	}
	row := pages.Lookup("row.html")
	for e, err := range entries {
		if err != nil {
			return err
		}
		if err := row.Execute(w, map[string]any{"Row": e.Row, "Name": pageRow(e.Row), "Steps": e.Steps, "Key": e.Key, "Outcome": e.Outcome, "Became": became(&e), "Account": e.Account, "Create": e.Intent == account.Create, "Changes": e.Changes, "Findings": e.Findings}); err != nil {
			return err
		}
	}
	return pages.ExecuteTemplate(w, "foot.html", template.JS(script))
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

func pageCauses(causes *outcome.Causes) []pageCause {
	var list []pageCause
	for _, cause := range causes.Sorted() {
		f := cause.First
		told := pageCause{Level: f.Level, Code: string(f.Code), Column: f.Column, Message: f.Message, Remedy: f.Remedy}
		if cause.Count > 0 {
			told.Rows = rowList(cause)
		}
		list = append(list, told)
	}
	return list
}
