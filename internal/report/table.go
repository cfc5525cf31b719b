package report

import (
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/inquiry"
)

// Table writes a table.
func (p *Page) Table(t inquiry.Table) {
	lines := [][]string{t.Headings}
	for _, one := range t.Lines {
		line := slices.Clone(one.Cells)
		for i := len(line) - t.Numbers; i < len(line); i++ {
			if n, err := strconv.Atoi(line[i]); err == nil {
				line[i] = Number(n)
			}
		}
		lines = append(lines, line)
	}
	widths := make([]int, len(t.Headings))
	most := max(16, (p.Columns()-8)/len(t.Headings))
	for _, line := range lines {
		for i, cell := range line {
			widths[i] = max(widths[i], min(most, len([]rune(Harmless(cell)))))
		}
	}
	write := func(line []string, style func(string) Styled) {
		text := ""
		for i, cell := range line {
			cell = Clip(cell, widths[i])
			if i >= len(line)-t.Numbers {
				text += strings.Repeat(" ", max(0, widths[i]-len([]rune(cell)))) + cell + "  "
			} else {
				text += Pad(cell, widths[i]) + "  "
			}
		}
		p.Line("  %s", style(strings.TrimRight(text, " ")))
	}
	write(t.Headings, p.Bold)
	for _, line := range lines[1:] {
		write(line, p.Plain)
	}
}
