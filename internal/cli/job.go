package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/app"
	"evenledger/internal/brief"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
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

// about says in a line what a sheet is.
func about(info sheet.Info) string {
	parts := []string{info.Format}
	if info.Compressed {
		parts[0] += " in gzip"
	}
	if info.Separator != "" {
		parts = append(parts, info.Separator+" between cells")
	}
	if info.Encoding != "" {
		parts = append(parts, info.Encoding)
	}
	if info.Tab != "" {
		tab := "tab “" + info.Tab + "”"
		if len(info.Tabs) > 1 {
			tab += fmt.Sprintf(" of %d", len(info.Tabs))
		}
		for i, below := range info.Below {
			if tab += fmt.Sprintf(" and “%s”, whose row 1 is counted as row %d", below.Name, below.Before+1); i == 0 {
				tab = strings.Replace(tab, "tab ", "tabs ", 1)
			}
		}
		parts = append(parts, tab)
	}
	text := info.Name + " · " + strings.Join(parts, ", ")
	if info.HeadingRow > 0 {
		text += fmt.Sprintf(" · headings in row %d", info.HeadingRow)
	}
	return text
}

// exists reports whether there is a file at path.
func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}
