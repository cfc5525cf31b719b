package report

import (
	"fmt"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
)

// ProofText says in a line what reading a batch back came to, and how grave that is; empty: nothing
// was done that could be read back.
func ProofText(b *batch.Batch) (text string, level account.Level) {
	r := b.Reading
	if r.Of == 0 || r.At.IsZero() && !r.Left {
		return "", ""
	}
	passwords := ""
	if b.Secrets != "" {
		passwords = " Passwords cannot be read back."
	}
	if r.Left {
		return fmt.Sprintf("Not proven: %s of %s not read back, as “proof: none” has it.", Number(r.Open), Plural(r.Of, "1 row", Number(r.Of)+" rows")+Plural(r.Open, " was", " were")), account.Warning
	}
	text = fmt.Sprintf("Proven %s of %s", Number(r.Proven), Number(r.Of))
	if r.Answered > 0 {
		text += fmt.Sprintf(": %s by their answers", Number(r.Answered))
	}
	text += ", read back " + r.At.Local().Format("2 Jan 15:04:05")
	var but []string
	if r.Wrong > 0 {
		but = append(but, fmt.Sprintf("%s not as %s to be", Plural(r.Wrong, "1 is", Number(r.Wrong)+" are"), Plural(r.Wrong, "it was", "they were")))
		level = account.Error
	}
	if r.Open > 0 {
		but = append(but, fmt.Sprintf("%s still to be read back", Plural(r.Open, "1 is", Number(r.Open)+" are")))
		if level == "" {
			level = account.Warning
		}
	}
	if len(but) > 0 {
		text += "; " + strings.Join(but, ", ")
	}
	return text + "." + passwords, level
}

// Proof writes that line.
func (p *Page) Proof(b *batch.Batch) {
	text, level := ProofText(b)
	switch {
	case text == "":
	case level == "":
		p.Text(p.Plain, "  "+text)
	default:
		p.Text(func(s string) Styled { return p.Level(level, s) }, "  "+text)
	}
	if n := b.Reading.MayEnter; n > 0 {
		p.Text(func(s string) Styled { return p.paint(bold+red, s) }, fmt.Sprintf("  %s sign in, and %s not to.", Plural(n, "1 account may", Number(n)+" accounts may"), Plural(n, "was", "were")))
	}
}
