package app

import (
	"context"
	"errors"
	"iter"
	"os"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/check"
	"evenledger/internal/drafting"
	"evenledger/internal/mapping"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

// rowCounts counts rows while a sheet is checked. A row can turn out to be refused
// after it was counted, when a later one has the same key.
type rowCounts struct {
	rows, aside, refused int
	isRefused            map[int]bool
	marked               *marked // nil: none is to be written
}

func (c *rowCounts) add(w *mapping.Wanted) {
	c.rows++
	switch {
	case w.Aside:
		c.aside++
	case w.Refused():
		c.refuse(w.Row)
	}
}

func (c *rowCounts) refuse(row int) {
	if !c.isRefused[row] {
		c.isRefused[row] = true
		c.refused++
	}
}

// findings checks the rows and yields each finding.
func (c *rowCounts) findings(ctx context.Context, j *Job, told func(stage string, n int)) iter.Seq2[account.Finding, error] {
	return func(yield func(account.Finding, error) bool) {
		for checked, err := range j.Checker().Rows(ctx, j.Rows()) {
			if err != nil {
				yield(account.Finding{}, err)
				return
			}
			c.add(checked.Wanted)
			c.marked.note(checked)
			for _, f := range checked.Earlier {
				c.refuse(f.Row)
				if !yield(f, nil) {
					return
				}
			}
			for _, f := range checked.Wanted.Findings {
				if !yield(f, nil) {
					return
				}
			}
			if why := checked.Wanted.Weak; why != "" {
				f := account.Find(account.Warning, account.WeakPassword, "if it makes an account, the row is refused: "+why)
				f.Row, f.Field = checked.Row.Number, "password"
				if !yield(f, nil) {
					return
				}
			}
			told("checked", c.rows)
		}
	}
}

// newCounts begins to check a sheet, which is written to out with its faults marked if that is named.
func newCounts(j *Job, out string) *rowCounts {
	c := &rowCounts{isRefused: map[int]bool{}}
	if out != "" {
		c.marked = &marked{path: j.Path, out: out, options: j.Options, later: map[int][]account.Finding{}}
	}
	return c
}

// ReadThings reads what rows may name, from a system that is asked.
func ReadThings(ctx context.Context, j *Job, told func(stage string, n int)) (err error) {
	if j.System != nil && j.Brief.NamesThings() {
		j.Things, err = drafting.Catalogue(ctx, j.System, j.Brief, told)
	}
	return err
}

// marked writes a sheet again as it came, with the reasons beside its rows. What
// a row is at fault for can turn out far below it, so the sheet is gone through
// twice: only those later findings are kept meanwhile.
type marked struct {
	path, out string
	options   sheet.Options
	width     int    // of the widest row
	plain     string // why the workbook could not be given back as it was
	later     map[int][]account.Finding
}

// note takes in a row of the first time through.
func (m *marked) note(checked check.Checked) {
	if m == nil {
		return
	}
	m.width = max(m.width, len(checked.Row.Cells))
	for _, f := range checked.Earlier {
		m.later[f.Row] = append(m.later[f.Row], f)
	}
}

// write goes through the sheet for the second time.
func (m *marked) write(ctx context.Context, j *Job) error {
	again, err := sheet.Open(m.path, nil, m.options)
	if err != nil {
		return err
	}
	defer again.Close()
	_, err = writeWhole(m.out, func(file *os.File) (rows int, err error) {
		info := again.Info()
		if info.Traits().Workbook && sheet.TraitsOf(m.out).Workbook {
			var to *sheet.Beside
			if to, m.plain, err = sheet.OpenBeside(m.path, info, m.width, []string{sheet.ReasonsHeading}); to != nil || err != nil {
				return m.beside(ctx, j, again, to, file, err)
			}
		}
		headings := slices.Clone(info.Headings)
		for len(headings) < m.width {
			headings = append(headings, sheet.BeyondHeading)
		}
		out, err := sheetWriter(file, m.out)(sheet.Form{Separator: info.Separator, HeadingRow: info.HeadingRow, Wide: len(headings)})
		if err != nil {
			return 0, err
		}
		defer func() { err = errors.Join(err, out.Close()) }()
		for _, above := range info.Above {
			if err := out.Write(above); err != nil {
				return 0, err
			}
		}
		if err := out.Write(append(slices.Clone(headings), sheet.ReasonsHeading)); err != nil {
			return 0, err
		}
		last := max(info.HeadingRow, 1)
		for checked, err := range j.Checker().Rows(ctx, j.Selection.Of(again.Rows())) {
			if err != nil {
				return rows, err
			}
			for last++; info.HeadingRow > 0 && last < checked.Row.Number; last++ {
				if err := out.Write(nil); err != nil { // blank rows keep the numbers right
					return rows, err
				}
			}
			if len(checked.Row.Cells) > len(headings) {
				return rows, mistake(m.path+" changed while it was read", "Let nobody write to it, and try again.")
			}
			findings := append(checked.Wanted.Findings, m.later[checked.Row.Number]...)
			cells := slices.Clone(j.Mapper.Conceal(checked.Row.Cells)) // passwords are not to stand in a second file
			cells = append(cells, make([]string, len(headings)-len(cells))...)
			if err := out.Write(append(cells, report.Reasons(findings)), report.Marks(findings, headings, len(headings))...); err != nil {
				return rows, err
			}
			rows++
		}
		return rows, nil
	})
	return err
}

// beside writes the reasons into a copy of the workbook.
func (m *marked) beside(ctx context.Context, j *Job, again *sheet.Sheet, to *sheet.Beside, file *os.File, err error) (rows int, _ error) {
	if err != nil {
		return 0, err
	}
	headings := again.Info().Headings
	for checked, err := range j.Checker().Rows(ctx, j.Selection.Of(again.Rows())) {
		if err != nil {
			return rows, err
		}
		findings := append(checked.Wanted.Findings, m.later[checked.Row.Number]...)
		var hidden []int
		for i, cell := range j.Mapper.Conceal(checked.Row.Cells) {
			if cell != checked.Row.Cells[i] {
				hidden = append(hidden, i)
			}
		}
		if err := to.Write(checked.Row.Number, []string{report.Reasons(findings)}, report.Marks(findings, headings, to.Width()), hidden); err != nil {
			return rows, err
		}
		rows++
	}
	return rows, to.Save(file, nil)
}

// writeMarked writes the sheet with its faults marked, if that is wanted, and returns why a workbook could not be given
// back as it was; empty: it could.
func (c *rowCounts) writeMarked(ctx context.Context, j *Job) (plain string, err error) {
	if c.marked == nil {
		return "", nil
	}
	err = c.marked.write(ctx, j)
	return c.marked.plain, err
}
