package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/expr"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/words"
	"evenledger/internal/workspace"
)

func (a *app) exportCommand() *cobra.Command {
	var out, only string
	var fields, memberships []string
	var each string
	var overwrite, all bool
	cmd := &cobra.Command{
		Use:     "export [SYSTEM] -o FILE",
		GroupID: "look",
		Short:   "Write a system's accounts to a sheet, to edit and hand back in",
		Long: `Writes the accounts of a system to a sheet, one a row, with headings in plain words.
Edit it and hand it back in with no brief: what differs is updated, and a cell you
emptied leaves the field as it is. Other accounts, such as managers, stand there by
their user names. The last column has the system's identifier of the account, by which
it is found when the sheet comes back; a row whose keys find nobody is refused then,
unless “draft --new create” says that there are new people in it.

With --memberships a column of each kind lists all of an account's groups, courses,
licences or roles, with role and section in brackets; handed back in, what was taken
out of the list is left. With --each there is a row for each membership of one kind.`,
		Example: `  evenledger export crewdesk -o accounts.xlsx
  evenledger export crewdesk -o deck.csv --only 'department == "Deck"'
  evenledger export crewdesk -o managers.jsonl --fields employeeNumber,userName,title
  evenledger export crewdesk -o groups.xlsx --memberships groups,licences
  evenledger export crewdesk -o all.xlsx --all
  evenledger export crewdesk -o enrolments.csv --each courses`,
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeSystems,
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			if out == "" {
				return wrong("say which file to write", "For example: evenledger export -o accounts.xlsx")
			}
			if err := mayWrite(out, overwrite, "and may have been edited"); err != nil {
				return err
			}
			target, client, err := a.target(args)
			if err != nil {
				return err
			}
			schema, err := client.Describe(cmd.Context())
			if err != nil {
				return err
			}
			if each != "" && len(fields) == 0 {
				fields = []string{"userName"}
			}
			columns, err := blankColumns(schema, fields, all)
			if err != nil {
				return err
			}
			kinds, err := thingKinds(cmd.Context(), client)
			if err != nil {
				return err
			}
			e := &export{client: client, columns: columns, kinds: memberships, each: each}
			switch {
			case all && each == "":
				e.kinds, e.left = kinds, leftOutOf(schema, columns, nil)
			case len(fields) == 0:
				e.left = leftOutOf(schema, columns, slices.DeleteFunc(kinds, func(kind string) bool { return slices.Contains(memberships, kind) }))
			}
			if each != "" {
				if len(memberships) > 0 {
					return wrong("--each and --memberships cannot both be given", "Keep one of them.")
				}
				e.kinds = []string{each}
			}
			if err := e.condition(schema, only, a.today()); err != nil {
				return err
			}
			if err := e.register(cmd.Context()); err != nil {
				return err
			}
			return a.export(cmd.Context(), e, target, out)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `FILE` to write, "+sheet.Formats)
	cmd.Flags().StringSliceVar(&fields, "fields", nil, "only these `FIELDS`, in this order")
	cmd.Flags().StringSliceVar(&memberships, "memberships", nil, "also these `KINDS` of memberships, such as groups,courses")
	cmd.Flags().StringVar(&each, "each", "", "a row for each membership of this `KIND`")
	cmd.Flags().BoolVar(&all, "all", false, "also the system's own fields, and all memberships")
	cmd.Flags().StringVar(&only, "only", "", "only accounts for which this `EXPRESSION` holds")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over a file that exists")
	return cmd
}

// export is accounts on their way to a sheet.
type export struct {
	client  system.System
	columns []blankColumn
	only    *brief.Brief // with one condition; nil: every account
	scope   *expr.Scope
	names   []string // of the fields to ask for
	looked  int      // accounts looked at
	left    string   // what has no column

	kinds   []string                                   // of memberships
	each    string                                     // the kind whose memberships are the rows; empty: accounts are
	ties    map[string]map[string][]account.Membership // account → kind
	things  map[string]map[string]string               // kind → id → name
	persons map[string]string                          // id → user name, if other accounts are named
}

// register reads the memberships, and the names of accounts that others refer to.
func (e *export) register(ctx context.Context) error {
	e.ties, e.things = map[string]map[string][]account.Membership{}, map[string]map[string]string{}
	named := slices.ContainsFunc(e.columns, func(c blankColumn) bool { return c.field.Kind == account.Person })
	if e.only != nil {
		named = named || slices.ContainsFunc(e.only.Only[0].Uses, func(i int) bool { return e.only.Fields[i].Kind == account.Person })
	}
	if named {
		e.persons = map[string]string{}
		for a, err := range e.client.List(ctx, []string{"userName"}) {
			if err != nil {
				return err
			}
			e.persons[a.ID] = a.Label()
		}
	}
	if len(e.kinds) == 0 {
		return nil
	}
	registrar, ok := e.client.(system.Registrar)
	if !ok {
		return wrong("the system keeps no memberships", "")
	}
	known, err := registrar.ThingKinds(ctx)
	if err != nil {
		return err
	}
	for _, kind := range e.kinds {
		if !slices.ContainsFunc(known, func(about account.ThingKind) bool { return about.Name == kind }) {
			var names []string
			for _, about := range known {
				names = append(names, about.Name)
			}
			return wrong(fmt.Sprintf("the system has no %s", kind), "It has: "+strings.Join(names, ", ")+".")
		}
		e.things[kind] = map[string]string{}
		for t, err := range registrar.Things(ctx, kind, false) {
			if err != nil {
				return err
			}
			e.things[kind][t.ID] = t.Name
		}
		for m, err := range registrar.Members(ctx, kind, nil) {
			if err != nil {
				return err
			}
			if e.ties[m.Account] == nil {
				e.ties[m.Account] = map[string][]account.Membership{}
			}
			e.ties[m.Account][kind] = append(e.ties[m.Account][kind], m)
		}
	}
	return nil
}

// headings are those of the sheet.
func (e *export) headings() []string {
	var headings []string
	for _, c := range e.columns {
		headings = append(headings, c.Heading)
	}
	if e.each != "" {
		return append(headings, words.Title(strings.TrimSuffix(e.each, "s")), sheet.AccountHeading)
	}
	for _, kind := range e.kinds {
		headings = append(headings, brief.All+kind)
	}
	return append(headings, sheet.AccountHeading)
}

// names of an account's memberships of a kind, as a cell has them.
func (e *export) tied(id, kind string) []string {
	var texts []string
	for _, m := range e.ties[id][kind] {
		name := e.things[kind][m.Thing]
		if name == "" {
			name = m.Thing
		}
		texts = append(texts, account.MembershipText(name, m.Role, m.Section))
	}
	slices.Sort(texts)
	return texts
}

// condition readies the expression, which may speak of any field.
func (e *export) condition(schema *account.Schema, only, today string) error {
	for _, c := range e.columns {
		e.names = append(e.names, c.field.Field)
	}
	if only == "" {
		return nil
	}
	var fields []account.Field
	for _, f := range toldFields(schema) {
		name := f.name()
		field, known := account.FieldNamed(name)
		if !known {
			field = account.Field{Name: name, Label: name, Kind: f.Kind}
		}
		fields = append(fields, field)
	}
	var err error
	if e.only, err = brief.Condition(fields, only, today); err != nil {
		return err
	}
	e.scope = e.only.NewScope(nil)
	for _, i := range e.only.Only[0].Uses {
		if name := e.only.Fields[i].Name; !slices.Contains(e.names, name) {
			e.names = append(e.names, name)
		}
	}
	return nil
}

// takes reports whether the condition holds for an account.
func (e *export) takes(a account.Account) (bool, error) {
	if e.only == nil {
		return true, nil
	}
	for _, i := range e.only.Only[0].Uses {
		value := a.Field(e.only.Fields[i].Name).Text()
		if name := e.persons[value]; e.only.Fields[i].Kind == account.Person && name != "" {
			value = name // people know each other by their names
		}
		e.scope.Set(i, value)
	}
	holds, err := e.only.Only[0].True(e.scope)
	if err != nil {
		return false, wrong(fmt.Sprintf("--only could not be worked out for the account %s: %s", a.Label(), err), "Make it cope with fields that are blank.")
	}
	return holds, nil
}

// write writes the accounts and returns how many.
func (e *export) write(ctx context.Context, out sheet.Writer, told func(looked int)) (rows int, err error) {
	if err := out.Write(e.headings()); err != nil {
		return 0, err
	}
	cells := make([]string, len(e.columns))
	for a, err := range e.client.List(ctx, e.names) {
		if err != nil {
			return rows, err
		}
		e.looked++
		told(e.looked)
		takes, err := e.takes(a)
		if err != nil {
			return rows, err
		}
		if !takes {
			continue
		}
		for i, c := range e.columns {
			cells[i] = a.Field(c.field.Field).Text()
			switch {
			case c.field.Kind == account.List:
				cells[i] = sheet.JoinItems(account.Items(cells[i]))
			case c.field.Kind == account.Person && e.persons[cells[i]] != "":
				cells[i] = e.persons[cells[i]]
			}
		}
		if e.each != "" {
			for _, text := range e.tied(a.ID, e.each) {
				if err := out.Write(append(cells, text, a.ID)); err != nil {
					return rows, err
				}
				rows++
			}
			continue
		}
		all := cells
		for _, kind := range e.kinds {
			all = append(all, sheet.JoinItems(e.tied(a.ID, kind)))
		}
		if err := out.Write(append(all, a.ID)); err != nil {
			return rows, err
		}
		rows++
	}
	return rows, nil
}

func (a *app) export(ctx context.Context, e *export, target workspace.System, out string) error {
	bar := a.progress()
	rows, err := writeWhole(out, func(file *os.File) (rows int, err error) {
		w, err := sheetWriter(file, out)(sheet.Form{})
		if err != nil {
			return 0, err
		}
		defer func() { err = errors.Join(err, w.Close()) }()
		return e.write(ctx, w, func(looked int) { bar.stageDone("looked at accounts", looked) })
	})
	bar.end()
	if err != nil {
		return err
	}
	if a.json {
		return a.writeJSON(map[string]any{"system": target.Name, "file": out, "accounts": e.looked, "rows": rows, "headings": e.headings(), "note": e.left})
	}
	page := a.page()
	if e.each != "" {
		page.Line("%s: %s %s of %s, a row each.", out, report.Number(rows), e.each, target.Name)
		page.Next("evenledger draft " + quoted(out) + " --system " + target.Name)
		return page.Err()
	}
	page.Line("%s: %s of the %s %s of %s, with %d columns.", out, report.Number(rows), report.Number(e.looked), plural(e.looked, "account", "accounts"), target.Name, len(e.headings()))
	page.Line("Edit it and hand it back in; a cell that you empty leaves its field as it is. The last column says")
	page.Line("which account a row is, whatever else of it you change.")
	if e.left != "" {
		page.Text(page.Dim, e.left)
	}
	page.Next("evenledger draft " + quoted(out) + " --system " + target.Name)
	return page.Err()
}
