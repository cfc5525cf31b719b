package answer

import (
	"context"

	"evenledger/internal/account"
	"evenledger/internal/report"
)

// Codes are what codes of findings mean.
type Codes []account.Explanation

// Document implements Answer.
func (all Codes) Document(context.Context) any {
	return map[string]any{"codes": []account.Explanation(all)}
}

// Draw implements Answer.
func (all Codes) Draw(_ context.Context, page *report.Page) error {
	for _, code := range all {
		page.Line("%s", page.Bold(string(code.Code)))
		page.Line("    %s", code.Meaning)
		page.Line("    %s", page.Dim("→ "+code.Remedy))
	}
	return nil
}
