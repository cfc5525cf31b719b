package app

import (
	"context"
	"iter"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/mapping"
	"evenledger/internal/report"
)

// A Checking is how a sheet is checked.
type Checking struct {
	Out   string // where the sheet is written with its faults marked; empty: nowhere
	Keeps bool   // each finding is kept; else only their causes are
	Told  func(stage string, n int)
}

// A Checked is what checking a sheet for one system came to.
type Checked struct {
	System   string            `json:"system"`
	Rows     int               `json:"rows"`
	Fine     int               `json:"fine"`
	Aside    int               `json:"aside"`
	Refused  int               `json:"refused"`
	Findings []account.Finding `json:"findings"`

	Even   bool           `json:"-"` // all of the sheet was read
	Plain  string         `json:"-"` // why a workbook could not be given back as it was; empty: it could
	Causes *report.Causes `json:"-"`
	Job    *Job           `json:"-"`
}

// Draft is what is known of a batch that would be drafted of it.
func (c *Checked) Draft() *batch.Batch {
	return &batch.Batch{Draft: batch.Draft{System: c.System, Source: batch.Source{Rows: c.Rows, Read: c.Job.Sheet.Info().Read}}}
}

// Check checks a sheet for each system that it is for. What cannot be asked leaves the others alone, and says so in its member.
func Check(ctx context.Context, members []Member, how Checking) (all []Checked, err error) {
	for i := range members {
		m := &members[i]
		if m.Err == nil {
			m.Err = ReadThings(ctx, m.Job, how.Told)
		}
		if m.Err != nil {
			continue
		}
		one := Checked{System: m.System, Findings: Findings(members, i), Causes: &report.Causes{}, Job: m.Job}
		one.Causes.AddAll(one.Findings)
		t := newCounts(m.Job, how.Out)
		for f, err := range t.findings(ctx, m.Job, how.Told) {
			if err != nil {
				return all, err
			}
			if one.Causes.Add(f); how.Keeps {
				one.Findings = append(one.Findings, f)
			}
		}
		guessed := mapping.GuessedEncoding(m.Sheet.Info())
		one.Causes.AddAll(guessed)
		one.Findings = append(one.Findings, guessed...)
		if one.Plain, err = t.writeMarked(ctx, m.Job); err != nil {
			return all, err
		}
		one.count(t)
		all = append(all, one)
	}
	return all, nil
}

// count takes the counts over, once all was read.
func (c *Checked) count(t *rowCounts) {
	c.Rows, c.Fine, c.Aside, c.Refused = t.rows, t.rows-t.aside-t.refused, t.aside, t.refused
	c.Even = c.Job.Sheet.Info().Read.Even()
}

// CheckFindings checks a sheet for one system and yields each finding as it is met. Its counts are in the Checked once all were.
func CheckFindings(ctx context.Context, j *Job, how Checking) (*Checked, iter.Seq2[account.Finding, error], error) {
	c := &Checked{Job: j}
	if err := ReadThings(ctx, j, how.Told); err != nil {
		return nil, nil, err
	}
	return c, func(yield func(account.Finding, error) bool) {
		for _, f := range j.Findings {
			if !yield(f, nil) {
				return
			}
		}
		t := newCounts(j, how.Out)
		for f, err := range t.findings(ctx, j, how.Told) {
			if !yield(f, err) || err != nil {
				return
			}
		}
		for _, f := range mapping.GuessedEncoding(j.Sheet.Info()) {
			if !yield(f, nil) {
				return
			}
		}
		var err error
		if c.Plain, err = t.writeMarked(ctx, j); err != nil {
			yield(account.Finding{}, err)
		}
		c.count(t)
	}, nil
}
