package answer

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/inquiry"
	"evenledger/internal/report"
)

// Asked is the answer to a question about a system.
type Asked struct {
	System   string
	Question inquiry.Question
	Table    inquiry.Table
	File     string // to which it was written; empty: it is shown
}

// Document implements Answer.
func (s Asked) Document(context.Context) any {
	lines := make([]map[string]string, len(s.Table.Lines))
	for i, line := range s.Table.Lines {
		lines[i] = map[string]string{}
		for n, cell := range line.Cells {
			lines[i][camel(s.Table.Headings[n])] = cell
		}
		if line.Account != "" {
			lines[i]["id"] = line.Account
		}
	}
	return map[string]any{"system": s.System, "question": s.Question.Name, "lines": lines}
}

// Draw implements Answer.
func (s Asked) Draw(_ context.Context, page *report.Page) error {
	switch {
	case len(s.Table.Lines) == 0:
		page.Line("%s", s.Question.None)
	case s.File != "":
		page.Line("%s: %s.", s.File, report.Counted(len(s.Table.Lines), "line", "lines"))
		if s.Table.AboutAccounts() {
			page.Text(page.Dim, "The last column says which account a line is about: what you write beside it can be handed back in.")
			page.Next(fmt.Sprintf("evenledger draft %s --system %s", report.Quoted(s.File), s.System))
		}
	default:
		page.Table(s.Table)
		if s.Question.Name == inquiry.OfTrials {
			page.Next(removals(s.Table)...)
			break
		}
		page.Next(fmt.Sprintf("evenledger report %s %s -o %s.csv", s.System, s.Question.Name, s.Question.Name))
	}
	return nil
}

// removals are the commands that take the accounts of trials away.
func removals(table inquiry.Table) (commands []string) {
	for _, line := range table.Lines {
		command := "evenledger reverse --trial-run " + report.Quoted(line.Cells[0]) + " --remove"
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
