package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"evenledger/internal/app"
	"evenledger/internal/inquiry"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
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
	var table inquiry.Table
	if q.Name == inquiry.OfTrials {
		table, err = a.askTrials(ctx, client, target, bar.stageDone)
	} else {
		table, err = q.Ask(ctx, client, bar.stageDone)
	}
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
			accounts := table.AboutAccounts() // such a sheet can be handed back in, as an export can
			for _, line := range append([]inquiry.Line{{Cells: table.Headings, Account: sheet.AccountHeading}}, table.Lines...) {
				cells := line.Cells
				if accounts {
					cells = append(slices.Clip(cells), line.Account)
				}
				if err := w.Write(cells); err != nil {
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
			for n, cell := range line.Cells {
				lines[i][camel(table.Headings[n])] = cell
			}
			if line.Account != "" {
				lines[i]["id"] = line.Account
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
		if table.AboutAccounts() {
			page.Text(page.Dim, "The last column says which account a line is about: what you write beside it can be handed back in.")
			page.Next(fmt.Sprintf("evenledger draft %s --system %s", quoted(out), target.Name))
		}
	default:
		page.Table(table)
		if q.Name == inquiry.OfTrials {
			page.Next(removals(table)...)
			break
		}
		page.Next(fmt.Sprintf("evenledger report %s %s -o %s.csv", target.Name, q.Name, q.Name))
	}
	return page.Err()
}

// askTrials has the ledger and the system answer together.
func (a *front) askTrials(ctx context.Context, client system.System, target workspace.System, told func(string, int)) (table inquiry.Table, err error) {
	_, l, err := a.OpenLedger(ctx, true)
	if err != nil {
		return table, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	return inquiry.Trials(ctx, client, l, target.Name, target.Together, told)
}

// removals are the commands that take the accounts of trials away.
func removals(table inquiry.Table) (commands []string) {
	for _, line := range table.Lines {
		command := "evenledger reverse --trial-run " + quoted(line.Cells[0]) + " --remove"
		if line.Cells[5] != "gone" && !slices.Contains(commands, command) {
			commands = append(commands, command)
		}
	}
	return commands
}

// camel writes a heading as a key of a document.
func camel(heading string) string {
	parts := strings.Fields(strings.ToLower(heading))
	for i := 1; i < len(parts); i++ {
		parts[i] = strings.ToUpper(parts[i][:1]) + parts[i][1:]
	}
	return strings.Join(parts, "")
}
