package answer

import (
	"context"
	"fmt"

	"evenledger/internal/report"
	"evenledger/internal/secret"
)

// An Identity is who a person is to those who share the ledger.
type Identity struct {
	*secret.Identity
	Name, File string
	Made       bool // just now
}

// Document implements Answer. There is nothing secret in it.
func (i Identity) Document(context.Context) any {
	return map[string]any{"name": i.Name, "file": i.File, "made": i.Made, "opens": i.Opens(), "signs": i.Signs()}
}

// Draw implements Answer.
func (i Identity) Draw(_ context.Context, page *report.Page) error {
	if i.Made {
		page.Line("Your identity is in %s now. Whoever has that file is you: keep a copy where nobody else can read it.", i.File)
	} else {
		page.Line("Your identity is in %s.", i.File)
	}
	page.Line("")
	page.Line("Write this into evenledger.yaml, under “people”:")
	page.Line("")
	page.Line("  %s", page.Bold(fmt.Sprintf("%s: {opens: %s, signs: \"%s\"}", i.Name, i.Opens(), i.Signs())))
	return nil
}
