package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/answer"
	"evenledger/internal/words"
)

func (a *front) explainCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "explain [CODE]",
		GroupID: "look",
		Short:   "Say what a finding's code means, and what to do about it",
		Example: "  evenledger explain same-value\n  evenledger explain              every code",
		Args:    cobra.MaximumNArgs(1),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return codeNames(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			list := account.Codes()
			if len(args) == 1 {
				code, ok := account.Explain(account.Code(args[0]))
				if !ok {
					remedy := "“evenledger explain” lists them."
					if near := words.Nearest(args[0], codeNames()); near != "" {
						remedy = fmt.Sprintf("Did you mean “%s”?", near)
					}
					return wrong(fmt.Sprintf("there is no code “%s”", args[0]), remedy)
				}
				list = []account.Explanation{code}
			}
			return a.tell(cmd.Context(), answer.Codes(list))
		},
	}
}

func codeNames() []string {
	var names []string
	for _, code := range account.Codes() {
		names = append(names, string(code.Code))
	}
	return names
}
