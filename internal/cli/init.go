package cli

import (
	"path/filepath"

	"github.com/spf13/cobra"

	"evenledger/internal/workspace"
)

func (a *app) initCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "init [DIR]",
		GroupID: "prepare",
		Short:   "Make a workspace: evenledger.yaml, briefs/ and an example",
		Example: "  evenledger init\n  evenledger init crew-accounts",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			dir := "."
			if len(args) == 1 {
				dir = args[0]
			}
			made, err := workspace.Create(dir)
			if err != nil {
				return wrong(err.Error(), "Name another folder.")
			}
			absolute, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			if a.json {
				return a.writeJSON(map[string]any{"workspace": absolute, "files": made})
			}
			page := a.page()
			page.Line("A workspace in %s:", absolute)
			for _, file := range made {
				page.Line("  %s", file)
			}
			page.Line("")
			page.Line("Say in evenledger.yaml how your system is reached. To practise without one:")
			page.Next("evenledger standin --token file:crewdesk.token", "evenledger brief check starters")
			return page.Err()
		},
	}
}
