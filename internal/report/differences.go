package report

import (
	"io"
	"iter"
	"slices"
	"strconv"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
)

// A Comparison is what was held against what, and how the two sides stand.
type Comparison struct {
	Title     string
	Told      string // beneath it
	In, Sides []Side // without sides, of several systems
	Even      bool
	Systems   bool     // each line begins with its system
	Kinds     []string // how two sides may stand, of those that are otherwise
}

// Headings head the lines.
func (c Comparison) Headings() []string {
	if c.Systems {
		return append([]string{"System"}, DifferenceHeadings()...)
	}
	return DifferenceHeadings()
}

// WritePage writes the comparison as one page, with the promises of WritePage, and returns how many lines it has.
func (c Comparison) WritePage(w io.Writer, lines iter.Seq2[[][]string, error]) (n int, err error) {
	pages, script, hash, err := pageParts()
	if err != nil {
		return 0, err
	}
	total := 0
	for _, side := range c.Sides {
		total += side.N
	}
	if err := pages.ExecuteTemplate(w, "comparison.html", map[string]any{"Title": c.Title, "Told": c.Told, "In": c.In, "Sides": c.Sides, "Total": total, "Even": c.Even, "Kinds": c.Kinds, "Headings": c.Headings(), "Outcomes": account.Outcomes(), "ScriptHash": hash}); err != nil {
		return 0, err
	}
	row, found := pages.Lookup("comparisonrow.html"), slices.Index(c.Headings(), "Found")
	for of, err := range lines {
		if err != nil {
			return n, err
		}
		for _, line := range of {
			if err := row.Execute(w, map[string]any{"Cells": line, "Found": line[found], "At": slices.Index(c.Headings(), "In the system now")}); err != nil {
				return n, err
			}
			n++
		}
	}
	return n, pages.ExecuteTemplate(w, "foot.html", script)
}

// DifferenceHeadings head the sheet of what was found to be otherwise, a line a field or
// membership. None of them is the heading of a field: handed in by mistake, the sheet does nothing.
func DifferenceHeadings() []string {
	return []string{"Row", "Found", "Person", "Account id", "What", "Wanted", "In the system now", "Reason"}
}

// Differences are the lines about an entry of b that was made to compare: one for each field and each
// membership, or a single one that says why there are none. Found is how the two sides stand.
func Differences(b *batch.Batch, e *batch.Entry, found string) (lines [][]string) {
	row := strconv.Itoa(e.Row)
	if batch.Unlisted(e.Row) > 0 {
		row = ""
	}
	line := func(what, wanted, now, reason string) {
		lines = append(lines, []string{row, found, named(b, e), e.Account, what, wanted, now, reason})
	}
	for _, f := range e.Findings {
		if f.Level == account.Error || f.Code == account.DoesNotFit {
			line(InFull(b.Words, f.Field), "", "", f.Message)
		}
	}
	if batch.Unlisted(e.Row) > 0 { // nothing of it is wanted
		line("", "", "", "")
		return lines
	}
	for _, c := range e.Changes {
		before, after := Shown(c)
		if !c.Before.Filled() {
			before = ""
		}
		if !c.After.Filled() {
			after = ""
		}
		line(InFull(b.Words, c.Field), after, before, "")
	}
	for _, s := range e.Steps {
		switch tie := account.MembershipText(s.Name, s.Role, s.Section); {
		case s.Do == membership.Join && s.Was == nil:
			line(s.Kind, tie, "", "")
		case s.Do == membership.Join:
			line(s.Kind, tie, account.MembershipText(s.Name, s.Was[0], s.Was[1]), "")
		case s.Do == membership.Leave:
			line(s.Kind, "", tie, "")
		case s.Within():
			line(s.Kind, s.Text(), "", "")
		}
	}
	if lines == nil {
		line("", "", "", "")
	}
	return lines
}

// named is whom an entry is about: name and key, or the key alone.
func named(b *batch.Batch, e *batch.Entry) string {
	if name := nameOf(b.Words, b.Headings, e); name != "" && name != e.Key {
		return name + " · " + e.Key
	}
	return e.Key
}
