package answer

import (
	"context"
	"fmt"
	"strings"

	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// A ToSign is a draft that somebody is to countersign: all that it would have done, and what is otherwise in it
// than in one that was signed before.
type ToSign struct {
	Batch
	Orders *report.Orders
	Since  *app.Since // nil: none was
	Signed store.Signature
}

// NewToSign reads a draft.
func NewToSign(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) (*ToSign, error) {
	of, err := NewBatch(ctx, l, b)
	if err != nil {
		return nil, err
	}
	s := &ToSign{Batch: of, Orders: &report.Orders{}}
	for e, err := range l.Entries(ctx, b.ID, store.Filter{Mails: true, Secrets: true}) {
		if err != nil {
			return nil, err
		}
		s.Orders.Add(&e)
	}
	s.Since, err = app.SignedBefore(ctx, w, l, b)
	return s, err
}

// Draw implements Answer.
func (s *ToSign) Draw(ctx context.Context, page *report.Page) error {
	if err := s.Batch.Draw(ctx, page); err != nil {
		return err
	}
	page.Orders(s.Of, s.Orders)
	if s.Since != nil {
		page.Line("")
		page.Text(page.Bold, s.Since.String())
		if len(s.Since.First) > 0 {
			page.Text(page.Plain, "Among them: "+strings.Join(s.Since.First, ", "))
		}
	}
	page.Line("")
	return nil
}

// Countersign is what was signed. All that it does was shown before.
type Countersign struct{ Batches []*ToSign }

// Called names the batches.
func (c Countersign) Called() string { return strings.Join(c.numbers(), ", ") }

func (c Countersign) numbers() (numbers []string) {
	for _, s := range c.Batches {
		numbers = append(numbers, fmt.Sprint(s.Of.ID))
	}
	return numbers
}

// Document implements Answer.
func (c Countersign) Document(context.Context) any {
	var signed []map[string]any
	for _, s := range c.Batches {
		b := s.Of
		signed = append(signed, map[string]any{"batch": b.ID, "person": s.Signed.Person, "seal": s.Signed.Of, "at": s.Signed.At, "orders": s.Orders.All, "begin": b.Begin, "end": b.End, "reportTo": b.ReportTo, "limits": b.Limits, "since": s.Since})
	}
	return map[string]any{"countersigned": signed}
}

// Draw implements Answer.
func (c Countersign) Draw(_ context.Context, page *report.Page) error {
	for _, s := range c.Batches {
		page.Line("Batch %d is countersigned by %s. Seal of the draft: %s", s.Of.ID, s.Signed.Person, shortSeal(s.Of))
	}
	page.Next("evenledger post " + strings.Join(c.numbers(), ","))
	return nil
}
