package cli

import (
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/feed"
	"evenledger/internal/inquiry"
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

// completeReports completes “report”: a batch, or a system and a question about it.
func (a *front) completeReports(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 1 && !areBatches(args[0]) {
		return inquiry.Names(), cobra.ShellCompDirectiveNoFileComp
	}
	batches, directive := a.completeBatches(cmd, args, begun)
	if len(args) == 0 {
		targets, _ := a.completeTargets(cmd, args, begun)
		batches = append(batches, targets...)
	}
	return batches, directive
}

// completeLookups completes “lookup”: a system, and a kind of things it may have.
func (a *front) completeLookups(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	switch len(args) {
	case 0:
		return a.completeSystems(cmd, args, begun)
	case 1:
		return brief.Kinds(), cobra.ShellCompDirectiveNoFileComp
	}
	return nil, cobra.ShellCompDirectiveNoFileComp
}

// completeSheets completes a sheet: a file, or a feed of the workspace.
func (a *front) completeSheets(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	w, err := a.FindWorkspace()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveDefault
	}
	var names []string
	for _, f := range w.Feeds {
		names = append(names, feed.Prefix+f.Name)
	}
	return names, cobra.ShellCompDirectiveDefault
}

// completeFlag completes a flag that was just added, which is all that could be wrong.
func completeFlag(cmd *cobra.Command, flag string, with cobra.CompletionFunc) {
	if err := cmd.RegisterFlagCompletionFunc(flag, with); err != nil {
		panic(err)
	}
}

// oneOf completes with one of these words.
func oneOf(words ...string) cobra.CompletionFunc {
	return cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp)
}

// listOf completes a list with commas, leaving out what it has already.
func listOf(words ...string) cobra.CompletionFunc {
	return func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		before := begun[:strings.LastIndex(begun, ",")+1]
		var lists []string
		for _, word := range words {
			if !strings.Contains(","+before, ","+word+",") {
				lists = append(lists, before+word)
			}
		}
		return lists, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
	}
}

func outcomeNames() (names []string) {
	for _, outcome := range account.Outcomes() {
		names = append(names, string(outcome))
	}
	return names
}

// fieldNames are the fields that every system may have; its own are left to be typed.
func fieldNames() (names []string) {
	for _, f := range account.Fields() {
		names = append(names, f.Name)
	}
	return names
}
