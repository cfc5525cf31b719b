// Package answer says what commands found: for a person as a page of text, and for programs as a
// document in JSON.
//
// It promises that both tell the same, and that a page ends with what may be typed next. It decides
// nothing and changes nothing: what of a ledger or a system it shows, it only reads.
package answer

import (
	"context"
	"io"

	"evenledger/internal/report"
)

// An Answer is what a command found.
type Answer interface {
	// Document is what --json gives: a value for encoding/json, or a Stream.
	Document(ctx context.Context) any
	Draw(ctx context.Context, page *report.Page) error
}

// A Stream writes a document in JSON of which not all is held at once.
type Stream func(w io.Writer) error
