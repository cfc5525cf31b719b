package cli

import (
	"errors"
	"fmt"
	"strconv"
	"time"

	"evenledger/internal/answer"

	"github.com/spf13/cobra"
)

func (a *front) workCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "work [BATCH]",
		GroupID: "carry",
		Short:   "Help with what others post, from this machine",
		Long: `Stays, and does a share of every batch that is posted with the workspace's ledger: of one
that several machines share, or of this machine's own. With a batch's number it helps with
that one and ends with it.

Whoever began to post a batch asks for its passwords' file, its mails to be held or its
report; a worker needs nothing but the systems' secrets. One that is killed does no harm:
what it had is looked up and done by the others when its lease is over.`,
		Example: "  evenledger work                  on a server, until it is stopped\n  evenledger work 17",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			ctx := cmd.Context()
			a.longWork()
			w, l, err := a.OpenLedger(ctx, false)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, l.Close()) }()
			if len(args) == 1 {
				id, err := strconv.Atoi(args[0])
				if err != nil {
					return wrong(fmt.Sprintf("“%s” is not a batch's number", args[0]), "“evenledger batches” lists them.")
				}
				if err := a.Help(ctx, w, l, id); err != nil {
					return err
				}
				return a.tell(ctx, answer.Done{Holds: map[string]any{"batch": id}, Lines: []string{fmt.Sprintf("There is nothing more to do in batch %d.", id)}, Next: []string{fmt.Sprintf("evenledger show %d", id)}})
			}
			a.remark("Waiting for batches to be posted. Ctrl-C stops it.")
			return a.Work(ctx, w, l, func(id int, says string) {
				about := "the ledger"
				if id > 0 {
					about = fmt.Sprintf("batch %d", id)
				}
				a.remark("%s  %s: %s", a.Clock.Now().Format(time.TimeOnly), about, says)
			})
		},
	}
}
