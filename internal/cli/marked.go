package cli

import (
	"context"
	"errors"
	"os"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/check"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

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
func (m *marked) write(ctx context.Context, j *app.Job) error {
	if m == nil {
		return nil
	}
	again, err := sheet.Open(m.path, nil, m.options)
	if err != nil {
		return err
	}
	defer again.Close()
	_, err = app.WriteWhole(m.out, func(file *os.File) (rows int, err error) {
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
		out, err := app.SheetWriter(file, m.out)(sheet.Form{Separator: info.Separator, HeadingRow: info.HeadingRow, Wide: len(headings)})
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
				return rows, wrong(m.path+" changed while it was read", "Let nobody write to it, and try again.")
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
func (m *marked) beside(ctx context.Context, j *app.Job, again *sheet.Sheet, to *sheet.Beside, file *os.File, err error) (rows int, _ error) {
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
