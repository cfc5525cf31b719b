package cli

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// A purpose is what flags are for: help tells flags of one purpose together.
type purpose string

const (
	ofSheet   purpose = "Which sheet, and how it is read"
	ofRows    purpose = "Which rows"
	ofDeeds   purpose = "What is done"
	ofWriting purpose = "What is written"
)

// helpColumns is how wide the lines about flags are at most: a terminal that nobody has widened.
const helpColumns = 80

// purposeKey is the annotation that keeps a flag's purpose.
const purposeKey = "purpose"

// tell says what flags that were just added are for.
func (p purpose) tell(cmd *cobra.Command, names ...string) {
	for _, name := range names {
		if err := cmd.Flags().SetAnnotation(name, purposeKey, []string{string(p)}); err != nil {
			panic(err) // there is no such flag
		}
	}
}

// usage writes how a command is called, with its flags by what they are for.
func usage(cmd *cobra.Command) error {
	var text strings.Builder
	section := func(title, lines string) {
		if lines = strings.TrimRight(lines, "\n "); lines != "" {
			fmt.Fprintf(&text, "\n%s:\n%s\n", title, lines)
		}
	}
	calls := ""
	if cmd.Runnable() {
		calls = "  " + cmd.UseLine() + "\n"
	}
	if cmd.HasAvailableSubCommands() {
		calls += "  " + cmd.CommandPath() + " [command]\n"
	}
	section("Usage", calls)
	section("Examples", cmd.Example)
	list := func(group string) (lines string) {
		for _, c := range cmd.Commands() {
			if c.GroupID == group && (c.IsAvailableCommand() || c.Name() == "help") {
				lines += fmt.Sprintf("  %-*s %s\n", c.NamePadding(), c.Name(), c.Short)
			}
		}
		return lines
	}
	for _, group := range cmd.Groups() {
		section(strings.TrimSuffix(group.Title, ":"), list(group.ID))
	}
	section("Commands", list(""))

	by := map[purpose]*pflag.FlagSet{}
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
		of := purpose(cmp.Or(first(f.Annotations[purposeKey]), "Flags"))
		if by[of] == nil {
			by[of] = pflag.NewFlagSet(string(of), pflag.ContinueOnError)
		}
		by[of].AddFlag(f)
	})
	for _, of := range []purpose{ofSheet, ofRows, ofDeeds, ofWriting, "Flags"} {
		if by[of] != nil {
			section(string(of), by[of].FlagUsagesWrapped(helpColumns))
		}
	}
	section("Flags of every command", cmd.InheritedFlags().FlagUsagesWrapped(helpColumns))
	if cmd.HasAvailableSubCommands() {
		fmt.Fprintf(&text, "\nUse “%s [command] --help” for more about a command.\n", cmd.CommandPath())
	}
	_, err := fmt.Fprint(cmd.OutOrStdout(), strings.TrimLeft(text.String(), "\n"))
	return err
}
