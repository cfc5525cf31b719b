package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"unicode"

	"evenledger/internal/account"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/words"
)

// question is something to be known about a system's people or things.
type question struct {
	name  string
	none  string   // said when the answer is nobody or nothing
	asks  []string // fields of accounts; none: it is about things
	about func([]account.Account) report.Table
}

var questions = [...]question{
	{"managers", "Nobody has a manager.", []string{"userName", "displayName", "givenName", "familyName", "department", "manager"}, report.Managers},
	{"without-manager", "Everyone has a manager.", []string{"userName", "displayName", "givenName", "familyName", "employeeNumber", "department", "title", "manager"}, func(all []account.Account) report.Table {
		return report.Listed(all, func(a *account.Account) bool { return !a.Field("manager").Filled() })
	}},
	{"suspended", "Nobody is suspended.", []string{"userName", "displayName", "givenName", "familyName", "employeeNumber", "department", "title", "active"}, func(all []account.Account) report.Table {
		return report.Listed(all, func(a *account.Account) bool { return a.Field("active").Text() == "false" })
	}},
	{"duplicates", "No two accounts share an address or a staff number.", []string{"userName", "displayName", "givenName", "familyName", "employeeNumber", "email"}, report.Duplicates},
	{name: "groups", none: "There are no groups."},
	{name: "courses", none: "There are no courses."},
	{name: "licences", none: "There are no licences."},
	{name: "roles", none: "There are no roles."},
}

func questionNames() []string {
	var names []string
	for _, q := range questions {
		names = append(names, q.name)
	}
	return names
}

// answerAbout answers a question about a system.
func (a *app) answerAbout(ctx context.Context, name, asked, out string, overwrite bool) error {
	var q *question
	for i := range questions {
		if questions[i].name == asked {
			q = &questions[i]
		}
	}
	if q == nil {
		remedy := "It answers: " + strings.Join(questionNames(), ", ") + "."
		if near := words.Nearest(asked, questionNames()); near != "" {
			remedy = fmt.Sprintf("Did you mean “%s”?", near)
		}
		return wrong(fmt.Sprintf("“%s” is no question about a system", asked), remedy)
	}
	if out != "" {
		if err := mayWrite(out, overwrite, "and may have been edited"); err != nil {
			return err
		}
	}
	target, client, err := a.target([]string{name})
	if err != nil {
		return err
	}
	table, err := a.inquire(ctx, client, q)
	if err != nil {
		return err
	}
	if out != "" {
		_, err := writeWhole(out, func(file *os.File) (rows int, err error) {
			w, err := sheetWriter(file, out)(sheet.Form{})
			if err != nil {
				return 0, err
			}
			defer func() { err = errors.Join(err, w.Close()) }()
			for _, line := range append([][]string{table.Headings}, table.Lines...) {
				if err := w.Write(plainNumbers(line, table.Numbers)); err != nil {
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
			for n, cell := range plainNumbers(line, table.Numbers) {
				lines[i][camel(table.Headings[n])] = cell
			}
		}
		return a.writeJSON(map[string]any{"system": target.Name, "question": q.name, "lines": lines})
	}
	page := a.page()
	switch {
	case len(table.Lines) == 0:
		page.Line("%s", q.none)
	case out != "":
		page.Line("%s: %s.", out, counted(len(table.Lines), "line", "lines"))
	default:
		page.Table(table)
		page.Next(fmt.Sprintf("evenledger report %s %s -o %s.csv", target.Name, q.name, q.name))
	}
	return page.Err()
}

// plainNumbers writes numbers without the spaces between thousands.
func plainNumbers(line []string, numbers int) []string {
	plain := append([]string{}, line...)
	for i := len(line) - numbers; i < len(line); i++ {
		plain[i] = strings.Join(strings.FieldsFunc(line[i], unicode.IsSpace), "")
	}
	return plain
}

// camel writes a heading as a key of a document.
func camel(heading string) string {
	parts := strings.Fields(strings.ToLower(heading))
	for i := 1; i < len(parts); i++ {
		parts[i] = strings.ToUpper(parts[i][:1]) + parts[i][1:]
	}
	return strings.Join(parts, "")
}

// inquire asks the system.
func (a *app) inquire(ctx context.Context, client system.System, q *question) (report.Table, error) {
	bar := a.progress()
	defer bar.end()
	if q.about == nil {
		about, err := client.Describe(ctx)
		if err != nil {
			return report.Table{}, err
		}
		if _, has := about.Kind(q.name); !has {
			return report.Table{}, wrong("the system has no "+q.name, "")
		}
		var things []account.Thing
		for t, err := range client.Things(ctx, q.name, true) {
			if err != nil {
				return report.Table{}, err
			}
			things = append(things, t)
			bar.stageDone("looked at "+q.name, len(things))
		}
		return report.Things(things, q.name == "licences"), nil
	}
	var all []account.Account
	for one, err := range client.List(ctx, q.asks) {
		if err != nil {
			return report.Table{}, err
		}
		all = append(all, one)
		bar.stageDone("looked at accounts", len(all))
	}
	return q.about(all), nil
}
