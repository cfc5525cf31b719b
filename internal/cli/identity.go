package cli

import (
	"fmt"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
)

func (a *front) identityCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "identity [NAME]",
		GroupID: "around",
		Short:   "Who you are to those who share the ledger: make it, and print its public part",
		Long: `Makes your identity if you have none: a file that you alone can read, with the key that
opens the passwords of the team's batches and the key that countersigns. It prints the
public keys, as they are written into evenledger.yaml; they are no secret. NAME is what you are
to be called there, if that is not the name that you sign in to this machine with.`,
		Example: "  evenledger identity\n  evenledger identity ana.reyes",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			name := a.By
			if len(args) > 0 {
				name = strings.TrimSpace(args[0])
			}
			if name == "" || name == nobody || strings.ContainsFunc(name, func(r rune) bool { return unicode.IsControl(r) || strings.ContainsRune(":{}[]#,\"'", r) }) {
				return wrong(fmt.Sprintf("“%s” is no name to be known by", name), "Say what you are to be called: evenledger identity NAME")
			}
			who, path, made, err := a.OwnIdentity()
			if err != nil {
				return err
			}
			return a.tell(cmd.Context(), answer.Identity{Identity: who, Name: name, File: path, Made: made})
		},
	}
}
