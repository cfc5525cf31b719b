package app

import (
	"context"
	"errors"

	"evenledger/internal/account"
	"evenledger/internal/profile"
	"evenledger/internal/sheet"
)

// Looked is a sheet that is looked at without a brief.
type Looked struct {
	*sheet.Sheet
	local   *Local
	options sheet.Options
}

// Secrets tells which columns hold passwords. What is piped in can be read only once: there their
// headings alone tell.
func (l *Looked) Secrets() ([]bool, error) {
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
func (l *Looked) Close() error { return errors.Join(l.Sheet.Close(), l.local.Close()) }

// Look opens a sheet without a brief.
func (a *App) Look(ctx context.Context, name string, of Request, headingRow int) (*Looked, error) {
	local, err := a.Local(ctx, name, of.Again, false)
	if err != nil {
		return nil, err
	}
	known := account.NewHeadings()
	options := sheet.Options{Tab: of.Tab, Encoding: of.Encoding, AnyTab: true, Stop: ctx.Done(), HeadingRow: headingRow, Recognise: func(h string) bool { _, ok := known.Field(h); return ok }}
	s, err := sheet.Open(local.Path, a.In, options)
	if err != nil {
		return nil, errors.Join(err, local.Close())
	}
	return &Looked{s, local, options}, nil
}
