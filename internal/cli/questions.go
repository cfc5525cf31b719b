package cli

import (
	"context"

	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/inquiry"
)

// answerAbout answers a question about a system.
func (a *front) answerAbout(ctx context.Context, name, asked, out string, overwrite bool) error {
	q, err := inquiry.Named(asked)
	if err != nil {
		return err
	}
	if out != "" {
		if err := app.MayWrite(out, overwrite, "and may have been edited"); err != nil {
			return err
		}
	}
	target, client, err := a.target([]string{name})
	if err != nil {
		return err
	}
	bar := a.progress()
	table, err := a.Ask(ctx, target, client, q, out, bar.Stage)
	bar.End()
	if err != nil {
		return err
	}
	return a.tell(ctx, answer.Asked{System: target.Name, Question: q, Table: table, File: out})
}
