package cli

import (
	"strconv"

	"github.com/spf13/cobra"

	"evenledger/internal/report"
)

// Completion in the shell: what cannot be found out is left to be typed.

func (a *front) completeBriefs(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	w, err := a.FindWorkspace()
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	return w.Briefs(), cobra.ShellCompDirectiveDefault
}

func (a *front) completeSystems(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	w, err := a.FindWorkspace()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, s := range w.Systems {
		names = append(names, s.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// completeTargets completes what a sheet may be for: a system, or a set of several.
func (a *front) completeTargets(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	names, directive := a.completeSystems(cmd, args, begun)
	if w, err := a.FindWorkspace(); err == nil {
		for _, s := range w.Sets {
			names = append(names, s.Name)
		}
	}
	return names, directive
}

func (a *front) completeBatches(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	_, l, err := a.OpenLedger(cmd.Context(), true)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer l.Close()
	all, err := l.Batches(cmd.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var numbers []string
	for _, b := range all {
		numbers = append(numbers, strconv.Itoa(b.ID)+"\t"+report.Harmless(b.Sheet)+", "+string(b.State))
	}
	return numbers, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
}
