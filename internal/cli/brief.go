package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/brief"
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
			return a.tell(cmd.Context(), answer.SoundBrief{Brief: b, Called: args[0]})
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
