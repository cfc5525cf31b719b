package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/answer"
	"evenledger/internal/system"
	"evenledger/internal/words"
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
			about, err := client.Describe(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) < 2 {
				return a.lookupKinds(cmd.Context(), target, client, about.Kinds)
			}
			kind := args[1]
			var names []string
			for _, about := range about.Kinds {
				names = append(names, about.Name)
			}
			if !slices.Contains(names, kind) {
				remedy := "It has: " + strings.Join(names, ", ") + "."
				if near := words.Nearest(kind, names); near != "" {
					remedy = fmt.Sprintf("Did you mean “%s”?", near)
				}
				return wrong(fmt.Sprintf("%s has no %s", target.Name, kind), remedy)
			}
			return a.lookup(cmd.Context(), target, client, kind, args[2:])
		},
	}
}

func (a *front) lookupKinds(ctx context.Context, target workspace.System, client system.System, kinds []account.ThingKind) error {
	counts := map[string]int{}
	for _, kind := range kinds {
		for _, err := range client.Things(ctx, kind.Name, false) {
			if err != nil {
				return err
			}
			counts[kind.Name]++
		}
	}
	return a.tell(ctx, answer.Kinds{System: target.Name, Kinds: kinds, Counts: counts})
}

func (a *front) lookup(ctx context.Context, target workspace.System, client system.System, kind string, wanted []string) error {
	found := answer.Things{System: target.Name, Kind: kind, Called: map[string]int{}, Things: []account.Thing{}}
	for t, err := range client.Things(ctx, kind, true) {
		if err != nil {
			return err
		}
		found.Total++
		found.Called[words.Key(t.Name)]++
		if isWanted(t, wanted) {
			found.Things = append(found.Things, t)
		}
	}
	slices.SortFunc(found.Things, func(x, y account.Thing) int { return strings.Compare(words.Key(x.Name), words.Key(y.Name)) })
	return a.tell(ctx, found)
}

// isWanted reports whether a thing has all the words in its name, or one of them
// as its id.
func isWanted(t account.Thing, wanted []string) bool {
	if slices.Contains(wanted, t.ID) {
		return true
	}
	name := words.Key(t.Name)
	return !slices.ContainsFunc(wanted, func(w string) bool { return !strings.Contains(name, words.Key(w)) })
}
