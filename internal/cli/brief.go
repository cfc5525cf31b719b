package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/brief"
	"evenledger/internal/report"
)

func (a *front) briefCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "brief",
		GroupID: "prepare",
		Short:   "Write, check, explain and try briefs",
		Example: "  evenledger brief new starters.xlsx --system crewdesk\n  evenledger brief try starters.xlsx -b starters --row 7",
		Args:    cobra.NoArgs,
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.briefNewCommand(), a.briefShowCommand(), a.briefListCommand(), a.briefTryCommand(), &cobra.Command{
		Use:   "check BRIEF",
		Short: "Tell every mistake in a brief, with line and column",
		Long: `Reads a brief, and tells every mistake in it at its line and column. The groups,
courses, licences and roles that the brief itself names are looked up in its system.`,
		Example:           "  evenledger brief check starters\n  evenledger brief check path/to/brief.yaml",
		Args:              one("a brief's name or file"),
		ValidArgsFunction: a.completeBriefs,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.FindWorkspace()
			if err != nil {
				return err
			}
			b, err := a.LoadBrief(w, args[0], "", "")
			if err != nil {
				return err
			}
			problems, doubts, _ := a.Mentioned(cmd.Context(), w, b)
			for _, doubt := range doubts {
				a.remark("%s", doubt)
			}
			if len(problems) > 0 {
				return problems
			}
			return a.briefFine(b, args[0])
		},
	}, &cobra.Command{
		Use:     "schema",
		Short:   "Print the JSON Schema of a brief",
		Example: "  evenledger brief schema > brief.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			schema, err := brief.Schema()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out, "%s\n", schema)
			return err
		},
	})
	return cmd
}

// brief loads a brief of the workspace.
func (a *front) brief(name string) (*brief.Brief, error) {
	w, err := a.FindWorkspace()
	if err != nil {
		return nil, err
	}
	return a.LoadBrief(w, name, "", "")
}

// briefFine tells what a brief without mistakes says.
func (a *front) briefFine(b *brief.Brief, name string) error {
	type field struct {
		Field string `json:"field"`
		Kind  string `json:"kind"`
		From  string `json:"from,omitempty"`
		Make  string `json:"make,omitempty"`
	}
	var fields []field
	for _, f := range b.Fields {
		told := field{Field: f.Name, Kind: f.Kind.String(), From: f.From}
		if f.Make != nil {
			told.Make = f.Make.Source
		}
		fields = append(fields, told)
	}
	if a.json {
		return a.writeJSON(map[string]any{"brief": b.Name, "system": b.System, "match": b.Match, "new": b.New, "known": b.Known, "fields": fields, "checks": len(b.Checks), "problems": []string{}})
	}
	page := a.page()
	page.Line("%s is in order: %s, %s of its own.", name, report.Counted(len(b.Fields), "field", "fields"), report.Counted(len(b.Checks), "check", "checks"))
	page.Line("Fields are worked out in this order:")
	for _, f := range fields {
		var source string
		switch {
		case f.Make != "" && f.From != "":
			source = fmt.Sprintf("“%s”, else %s", f.From, f.Make)
		case f.Make != "":
			source = f.Make
		case f.From != "":
			source = "“" + f.From + "”"
		default:
			source = "the fallback"
		}
		page.Line("  %s %s %s", report.Pad(f.Field, 20), page.Dim(report.Pad(f.Kind, 9)), source)
	}
	page.Next("evenledger check SHEET -b " + name)
	return page.Err()
}
