package cli

import (
	"github.com/spf13/cobra"

	"evenledger/internal/answer"
)

func (a *front) feedsCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "feeds",
		GroupID: "look",
		Short:   "List where sheets come from, and what each brought last",
		Long: `Lists the feeds of evenledger.yaml. Nobody is asked: what stands here is what the ledger has
of them. “feed:NAME” stands wherever a sheet is named.`,
		Example: "  evenledger feeds\n  evenledger peek feed:hr\n  evenledger draft feed:hr -b starters",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			feeds, err := a.Feeds(cmd.Context())
			if err != nil {
				return err
			}
			return a.tell(cmd.Context(), answer.Feeds(feeds))
		},
	}
}
