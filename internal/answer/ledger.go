package answer

import (
	"context"
	"fmt"
	"strings"

	"evenledger/internal/app"
	"evenledger/internal/report"
)

// Sound is what a check of a ledger came to.
type Sound struct {
	Ledger string // its place
	app.Soundness
	Today string
}

// Document implements Answer.
func (s Sound) Document(context.Context) any {
	return map[string]any{"ledger": s.Ledger, "sound": len(s.Problems) == 0, "batches": s.Batches, "unsigned": s.Alone, "entries": s.Entries, "problems": s.Problems}
}

// Draw implements Answer. Of a ledger that is not sound the error tells.
func (s Sound) Draw(_ context.Context, page *report.Page) error {
	page.Line("The ledger is sound: %s with %s, every batch is even, and each is as its history says.", report.Counted(s.Batches, "batch", "batches"), report.Counted(s.Entries, "entry", "entries"))
	if len(s.Alone) > 0 {
		page.Text(page.Dim, fmt.Sprintf("Nobody vouches for %s: who drafted and posted them has no key in evenledger.yaml, and whoever can write to the ledger could have.", batchesText(s.Alone)))
	}
	page.Next("evenledger ledger copy ledger-"+s.Today+".db", "evenledger ledger head -o heads-"+s.Today+".jsonl    # to keep elsewhere")
	return nil
}

// Moved is a ledger that was moved to another place.
type Moved struct {
	From, To string
	As       string // how evenledger.yaml is to name it
	Rows     int
}

// Document implements Answer.
func (m Moved) Document(context.Context) any {
	return map[string]any{"from": m.From, "to": m.To, "rows": m.Rows}
}

// Draw implements Answer.
func (m Moved) Draw(_ context.Context, page *report.Page) error {
	page.Line("All of the ledger is in %s now: %s written and compared.", m.To, report.Counted(m.Rows, "row", "rows"))
	page.Line("%s is marked as moved, and is used no more. Keep it until you have made a copy of the new one.", m.From)
	page.Line("")
	page.Line("Write this into evenledger.yaml, on every machine:")
	page.Line("")
	page.Line("  %s", page.Bold("ledger: "+m.As))
	page.Next("evenledger ledger check")
	return nil
}

// batchesText names batches, the first of many.
func batchesText(ids []int) string {
	const most = 12
	var names []string
	for _, id := range ids[:min(most, len(ids))] {
		names = append(names, fmt.Sprint(id))
	}
	text := "batch " + names[0]
	if len(ids) > 1 {
		text = "batches " + strings.Join(names, ", ")
	}
	if more := len(ids) - most; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}
