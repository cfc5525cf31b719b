package cli

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	feeds "evenledger/internal/feed/kinds"
	"evenledger/internal/system/kinds"
	"evenledger/internal/workspace"
)

func (a *front) initCommand() *cobra.Command {
	var schema bool
	cmd := &cobra.Command{
		Use:     "init [DIR]",
		GroupID: "prepare",
		Short:   "Make a workspace: evenledger.yaml, briefs/ and an example",
		Example: "  evenledger init\n  evenledger init crew-accounts\n  evenledger init --schema > evenledger.schema.json",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if schema {
				data, err := workspace.Schema(workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()})
				if err != nil {
					return err
				}
				_, err = fmt.Fprintf(a.out, "%s\n", data)
				return err
			}
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
			lines := []string{fmt.Sprintf("A workspace in %s:", absolute)}
			for _, file := range made {
				lines = append(lines, "  "+file)
			}
			return a.tell(cmd.Context(), answer.Done{
				Holds: map[string]any{"workspace": absolute, "files": made},
				Lines: append(lines, "", "Say in evenledger.yaml how your system is reached. To practise without one:"),
				Next:  []string{"evenledger standin --token file:crewdesk.token", "evenledger brief check starters"},
			})
		},
	}
	cmd.Flags().BoolVar(&schema, "schema", false, "make nothing; print the JSON Schema of evenledger.yaml, for editors")
	return cmd
}
