package cli

import (
	"os"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/brief"
	"evenledger/internal/report"
	"evenledger/internal/words"
)

// readAs writes how each column is read, for a sheet without a brief.
func readAs(page *report.Page, j *app.Job) {
	page.Line("")
	page.Line("%s", page.Bold("Without a brief, the headings are read as"))
	for _, c := range j.Mapper.Columns() {
		switch {
		case c.Heading == "":
			continue
		case len(c.Fields) > 0 && slices.Contains(brief.Kinds(), c.Fields[0]):
			what := "these are joined"
			if strings.HasPrefix(words.Key(c.Heading), words.Key(brief.All)) {
				what = "just these; others are left"
			}
			page.Line("  %s → %s %s", report.Pad(report.Clip(c.Heading, 28), 28), report.Pad(c.Fields[0], 18), page.Dim(what))
		case len(c.Fields) > 0 && !j.Touches(c.Fields[0]):
			page.Line("  %s → %s %s", report.Pad(report.Clip(c.Heading, 28), 28), report.Pad(c.Fields[0], 18), page.Dim("not touched"))
		case len(c.Fields) > 0:
			field, _ := account.FieldNamed(c.Fields[0])
			page.Line("  %s → %s %s", report.Pad(report.Clip(c.Heading, 28), 28), report.Pad(c.Fields[0], 18), page.Dim(field.Label+", "+field.Kind.String()))
		default:
			page.Line("  %s   %s", report.Pad(report.Clip(c.Heading, 28), 28), page.Dim("not used"))
		}
	}
}

// exists reports whether there is a file at path.
func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}
