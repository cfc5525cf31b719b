package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/workspace"
	"evenledger/internal/yamldoc"
)

func (a *front) briefShowCommand() *cobra.Command {
	return &cobra.Command{
		Use:               "show BRIEF",
		Short:             "Say in sentences what a brief does",
		Example:           "  evenledger brief show starters",
		Args:              one("a brief's name or file"),
		ValidArgsFunction: a.completeBriefs,
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := a.brief(args[0])
			if err != nil {
				return err
			}
			return a.tell(cmd.Context(), answer.Brief{Brief: b, Called: args[0]})
		},
	}
}

func (a *front) briefListCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the briefs of the workspace",
		Example: "  evenledger brief list",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.FindWorkspace()
			if err != nil {
				return err
			}
			return a.briefList(cmd.Context(), w)
		},
	}
}

func (a *front) briefList(ctx context.Context, w *workspace.Workspace) error {
	lines := answer.Briefs{}
	for _, name := range w.Briefs() {
		l := answer.BriefLine{Name: name}
		if b, err := a.LoadBrief(w, name, "", ""); err != nil {
			l.Mistakes = err.Error()
			var problems yamldoc.Problems
			if errors.As(err, &problems) && len(problems) > 1 {
				l.Mistakes = fmt.Sprintf("%d mistakes: %s", len(problems), l.Mistakes)
			}
		} else {
			l.Title, l.System, l.BasedOn, l.Fields = b.Name, b.System, b.BasedOn, len(b.Fields)
		}
		lines = append(lines, l)
	}
	return a.tell(ctx, lines)
}
