package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"evenledger/internal/app"
	"evenledger/internal/inquiry"
	"evenledger/internal/sheet"
)

// answerAbout answers a question about a system.
func (a *front) answerAbout(ctx context.Context, name, asked, out string, overwrite bool) error {
	q, err := inquiry.Named(asked)
	if err != nil {
		return err
	}
	if out != "" {
		if err := app.MayWrite(out, overwrite, "and may have been edited"); err != nil {
			return err
		}
	}
	target, client, err := a.target([]string{name})
	if err != nil {
		return err
	}
	bar := a.progress()
	table, err := q.Ask(ctx, client, bar.stageDone)
	bar.end()
	if err != nil {
		return err
	}
	if out != "" {
		_, err := app.WriteWhole(out, func(file *os.File) (rows int, err error) {
			w, err := app.SheetWriter(file, out)(sheet.Form{})
			if err != nil {
				return 0, err
			}
			defer func() { err = errors.Join(err, w.Close()) }()
			for _, line := range append([][]string{table.Headings}, table.Lines...) {
				if err := w.Write(line); err != nil {
					return 0, err
				}
			}
			return len(table.Lines), nil
		})
		if err != nil {
			return err
		}
	}
	if a.json {
		lines := make([]map[string]string, len(table.Lines))
		for i, line := range table.Lines {
			lines[i] = map[string]string{}
			for n, cell := range line {
				lines[i][camel(table.Headings[n])] = cell
			}
		}
		return a.writeJSON(map[string]any{"system": target.Name, "question": q.Name, "lines": lines})
	}
	page := a.page()
	switch {
	case len(table.Lines) == 0:
		page.Line("%s", q.None)
	case out != "":
		page.Line("%s: %s.", out, counted(len(table.Lines), "line", "lines"))
	default:
		page.Table(table)
		page.Next(fmt.Sprintf("evenledger report %s %s -o %s.csv", target.Name, q.Name, q.Name))
	}
	return page.Err()
}

// camel writes a heading as a key of a document.
func camel(heading string) string {
	parts := strings.Fields(strings.ToLower(heading))
	for i := 1; i < len(parts); i++ {
		parts[i] = strings.ToUpper(parts[i][:1]) + parts[i][1:]
	}
	return strings.Join(parts, "")
}
