package cli

import (
	"context"
	"fmt"
	netmail "net/mail"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/drafting"
	"evenledger/internal/mapping"
	"evenledger/internal/store"
)

// mailsTo sees that what mails are to go to is one address.
func mailsTo(text string) error {
	if text == "" {
		return nil
	}
	if at, err := netmail.ParseAddress(text); err != nil || at.Address != text {
		return wrong(fmt.Sprintf("--mails-to: “%s” is no address", text), "Give one such as crewing@brindlesound.example.")
	}
	return nil
}

func (a *front) draftCommand() *cobra.Command {
	var flags sheetFlags
	var fields []string
	cmd := &cobra.Command{
		Use:     "draft SHEET",
		GroupID: "carry",
		Short:   "Make a batch: what would happen to whom, before and after",
		Long: `Checks the sheet, finds the accounts its rows mean, and writes into the ledger
what would be done with each row. The system is only read. Look at the batch, then
carry it out with “post”.

The draft says how many seats of each licence it takes, and refuses rows for which
none is left. Roles and groups that give rights over others are refused unless
--allow-elevated is given. A batch that would do more than the brief's “limits” is
drafted, and held back.`,
		Example: `  evenledger draft starters.csv -b starters
  evenledger draft starters.xlsx -b starters --rows 3-9,12
  evenledger draft starters.csv --system crewdesk     without a brief
  evenledger draft crew.csv -b crew --system quays    a batch for each system of a set
  evenledger draft crew.csv -b crew --pairs pairs.xlsx    whom rows mean, as a person answered
  evenledger draft accounts.xlsx --fields manager,title   touch nothing else`,
		Args: oneOrBrief("a sheet"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.longWork()
			flags.Fields = fields
			if err := mailsTo(flags.MailsTo); err != nil {
				return err
			}
			return a.draft(cmd.Context(), first(args), flags)
		},
	}
	flags.add(a, cmd)
	cmd.Flags().StringSliceVar(&fields, "fields", nil, "touch only these `FIELDS` of accounts that exist, such as manager,title")
	completeFlag(cmd, "fields", listOf(fieldNames()...))
	cmd.Flags().StringVar(&flags.Rest, "rest", "", "with --pairs: what rows are that nobody answered for: `new` people (else they are refused)")
	completeFlag(cmd, "rest", oneOf("new"))
	cmd.Flags().StringSliceVar(&flags.Pairs, "pairs", nil, "whom rows mean that no key finds: the `SHEET` of “candidates”, with the answers")
	cmd.Flags().StringVar(&flags.Trial, "trial-run", "", "mark the batch as a trial of this `NAME`: no mails but to --mails-to, no follow-ups; “report SYSTEM trials” lists its accounts until they are removed")
	cmd.Flags().StringVar(&flags.MailsTo, "mails-to", "", "with --trial-run: send its mails to this `ADDRESS` instead of people")
	cmd.Flags().BoolVar(&a.refusedOK, "refused-ok", false, "end with 0 although rows were refused, for scripts in which something else says so")
	cmd.Flags().BoolVar(&flags.Elevated, "allow-elevated", false, "allow roles and groups that give rights over others")
	ofDeeds.tell(cmd, "fields", "pairs", "rest", "trial-run", "mails-to", "allow-elevated")
	return cmd
}

func (a *front) draft(ctx context.Context, path string, flags sheetFlags) error {
	if w, err := a.FindWorkspace(); err == nil {
		w.NoteDraft(0) // until it is made
	}
	return a.onSheets(ctx, path, flags, func(members []app.Member, set string, l store.Store) error {
		bar := a.progress()
		made := a.DraftSet(ctx, l, members, set, bar.Stage)
		bar.End()
		if err := a.drafted(ctx, l, members, made); err != nil {
			return err
		}
		return a.tellSystems(ctx, ofMembers(members))
	})
}

// drafted shows the batches that were made, for which members one could be.
func (a *front) drafted(ctx context.Context, l store.Store, members []app.Member, made []*drafting.Made) error {
	var batches []*batch.Batch
	for i, m := range made {
		if m == nil {
			continue
		}
		b := m.Batch
		if batches = append(batches, b); b.Delivery != nil && b.Delivery.Ahead {
			a.exit = max(a.exit, exitRows)
		}
		if len(b.Held) > 0 {
			a.exit = exitGuard
		}
		for _, f := range m.Findings() {
			if members[i].Findings = append(members[i].Findings, f); a.json {
				a.remark("%s.", f.Message)
			}
		}
	}
	if len(batches) == 0 {
		return nil
	}
	a.made(batches[0])
	if len(members) > 1 {
		return a.showSet(ctx, l, batches, members)
	}
	of, err := answer.NewBatch(ctx, l, batches[0])
	if err != nil {
		return err
	}
	j := members[0].Job
	return a.came(ctx, &answer.Draft{Batch: of, Job: j, More: append(j.Findings, mapping.GuessedEncoding(j.Sheet.Info())...), Way: made[0].Way})
}

// made remembers which batch “last” is from now on.
func (a *front) made(b *batch.Batch) {
	if w, err := a.FindWorkspace(); err == nil {
		w.NoteDraft(b.ID)
	}
}
