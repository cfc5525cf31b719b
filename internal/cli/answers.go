package cli

import (
	"embed"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/words"
)

// answerSchemas are the JSON Schemas of what commands answer with --json, a file a command.
//
//go:embed answers/*.schema.json
var answerSchemas embed.FS

const answerEnding = ".schema.json"

func (a *front) answersCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "answers [COMMAND]",
		GroupID: "around",
		Short:   "Print the JSON Schema of what a command answers with --json",
		Long: `Prints the JSON Schema (draft 2020-12) of the document that a command writes to standard
output with --json; “error” is that of a command that did nothing. Without a command,
lists those that there are. Keys may be added later; one that is required never goes,
and what a key holds never changes its type.`,
		Example: "  evenledger answers\n  evenledger answers draft > draft.schema.json\n  evenledger answers brief check",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return answerNames(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			names := answerNames()
			if len(args) == 0 {
				return a.tell(cmd.Context(), answer.Done{Holds: map[string]any{"commands": names}, Lines: names, Next: []string{"evenledger answers draft"}})
			}
			name := strings.Join(args, "-")
			schema, err := answerSchemas.ReadFile("answers/" + name + answerEnding)
			if err != nil {
				remedy := "“evenledger answers” lists those that there are."
				if near := words.Nearest(name, names); near != "" {
					remedy = fmt.Sprintf("Did you mean “%s”?", strings.ReplaceAll(near, "-", " "))
				}
				return wrong(fmt.Sprintf("there is no schema of “%s”", strings.Join(args, " ")), remedy)
			}
			_, err = a.out.Write(schema)
			return err
		},
	}
}

// answerNames are the commands whose answers have a schema.
func answerNames() (names []string) {
	files, err := answerSchemas.ReadDir("answers")
	if err != nil {
		return nil // it is embedded
	}
	for _, file := range files {
		names = append(names, strings.TrimSuffix(file.Name(), answerEnding))
	}
	return names
}
