package cli

import (
	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
)

// target finds the system that a command names and connects to it.
func (a *front) target(args []string) (workspace.System, system.System, error) {
	w, err := a.FindWorkspace()
	if err != nil {
		return workspace.System{}, nil, err
	}
	name := ""
	if len(args) > 0 {
		name = args[0]
	}
	target, err := w.System(name)
	if err != nil {
		return target, nil, wrong(err.Error(), "")
	}
	client, err := a.Connect(target)
	return target, client, err
}

func (a *front) fieldsCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "fields [SYSTEM | SET]",
		GroupID: "prepare",
		Short:   "List the fields a system takes, asked of the system itself",
		Long: `Lists every field the system takes of an account: the name briefs use for it, the
kind of its values, whether a new account must have it, whether it may be changed
later, and which values it allows.`,
		Example:           "  evenledger fields crewdesk\n  evenledger fields crewdesk --json",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeSystems,
		RunE: func(cmd *cobra.Command, args []string) error {
			names := []string{""}
			if w, err := a.FindWorkspace(); err == nil && len(args) > 0 {
				names = systemsNamed(w, args[0])
			}
			return a.several("systems", names, func(i int) error {
				target, client, err := a.target(names[i : i+1])
				if err != nil {
					return err
				}
				about, err := client.Describe(cmd.Context())
				if err != nil {
					return err
				}
				return a.tell(cmd.Context(), answer.Fields{System: target.Name, Schema: about.Schema})
			})
		},
	}
}

func (a *front) lookupCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "lookup [SYSTEM] [KIND] [WORDS...]",
		GroupID: "prepare",
		Short:   "Find the names and ids of what a system has: groups and the like",
		Long: `Lists what a system has besides accounts, with name, id and members. With words,
only what has all of them in its name, or one of them as its id. Without a kind,
the kinds are listed.`,
		Example: `  evenledger lookup crewdesk
  evenledger lookup crewdesk groups
  evenledger lookup crewdesk groups deck`,
		Args:              cobra.ArbitraryArgs,
		ValidArgsFunction: a.completeLookups,
		RunE: func(cmd *cobra.Command, args []string) error {
			target, client, err := a.target(args)
			if err != nil {
				return err
			}
			if len(args) < 2 {
				kinds, counts, err := app.Kinds(cmd.Context(), client)
				if err != nil {
					return err
				}
				return a.tell(cmd.Context(), answer.Kinds{System: target.Name, Kinds: kinds, Counts: counts})
			}
			found, err := app.LookUp(cmd.Context(), target.Name, client, args[1], args[2:])
			if err != nil {
				return err
			}
			return a.tell(cmd.Context(), answer.Things(found))
		},
	}
}
