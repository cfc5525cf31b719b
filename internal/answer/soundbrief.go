package answer

import (
	"context"
	"fmt"

	"evenledger/internal/brief"
	"evenledger/internal/report"
)

// A SoundBrief is a brief without mistakes.
type SoundBrief struct {
	*brief.Brief
	Called string // by the person
}

// fieldOf is where the value of a field comes from.
type fieldOf struct {
	Field string `json:"field"`
	Kind  string `json:"kind"`
	From  string `json:"from,omitempty"`
	Make  string `json:"make,omitempty"`
}

func (b SoundBrief) fields() (fields []fieldOf) {
	for _, f := range b.Fields {
		of := fieldOf{Field: f.Name, Kind: f.Kind.String(), From: f.From}
		if f.Make != nil {
			of.Make = f.Make.Source
		}
		fields = append(fields, of)
	}
	return fields
}

// Document implements Answer.
func (b SoundBrief) Document(context.Context) any {
	return map[string]any{"brief": b.Name, "system": b.System, "match": b.Match, "new": b.New, "known": b.Known, "fields": b.fields(), "checks": len(b.Checks), "problems": []string{}}
}

// Draw implements Answer.
func (b SoundBrief) Draw(_ context.Context, page *report.Page) error {
	page.Line("%s is in order: %s, %s of its own.", b.Called, report.Counted(len(b.Fields), "field", "fields"), report.Counted(len(b.Checks), "check", "checks"))
	page.Line("Fields are worked out in this order:")
	for _, f := range b.fields() {
		var source string
		switch {
		case f.Make != "" && f.From != "":
			source = fmt.Sprintf("“%s”, else %s", f.From, f.Make)
		case f.Make != "":
			source = f.Make
		case f.From != "":
			source = "“" + f.From + "”"
		default:
			source = "the fallback"
		}
		page.Line("  %s %s %s", report.Pad(f.Field, 20), page.Dim(report.Pad(f.Kind, 9)), source)
	}
	page.Next("evenledger check SHEET -b " + b.Called)
	return nil
}
