package answer

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/description"
	"evenledger/internal/report"
	"evenledger/internal/system"
)

// How many lines are shown of what is sent and answered; --json has more.
const (
	mostSent     = 30
	mostAnswered = 14
)

// Tried shows one step of a walk through an application.
func Tried(page *report.Page, n int, s system.Tried) {
	page.Line("%s", page.Bold(fmt.Sprintf("%d. %s", n, s.What)))
	block := func(text string, most int) {
		n := 0
		for line := range strings.Lines(text) {
			if n++; n > most {
				page.Line("     %s", page.Dim("…"))
				return
			}
			page.Line("     %s", page.Dim(report.Clip(strings.TrimRight(line, "\n"), page.Columns()-6)))
		}
	}
	for i, x := range s.Requests {
		request := x.Request
		if x.Status != 0 {
			request = fmt.Sprintf("%s → %d", request, x.Status)
		}
		page.Line("   %s", report.Clip(request, page.Columns()-4))
		if block(x.Sent, mostSent); len(s.Requests) == 1 || x.Status >= 300 || s.Amiss != "" && i == len(s.Requests)-1 {
			block(x.Answer, mostAnswered)
		}
	}
	for _, line := range s.Understood {
		page.Line("   %s", report.Clip(line, page.Columns()-4))
	}
	if s.Amiss != "" {
		page.Told("amiss: "+s.Amiss, s.Remedy)
	}
	page.Line("")
}

// A Description is one of an application's web interface without mistakes.
type Description struct {
	*description.Interface
	Path string
}

// can says what can and what cannot be done with accounts, and to what they are tied.
func (d Description) can() (can, cannot, kinds []string) {
	i := d.Interface
	can, kinds = []string{"listed", "read"}, []string{}
	for _, of := range []struct {
		what string
		can  bool
	}{
		{"made", i.Create != nil}, {"changed", len(i.Changes) > 0}, {"suspended", i.Suspend != nil || i.Seen() && len(i.Changes) > 0}, {"removed", i.Remove != nil},
		{"given other passwords", i.Password != nil}, {"found by a value", i.Finding != nil}, {"made several at once", i.Together != nil},
	} {
		if of.can {
			can = append(can, of.what)
		} else {
			cannot = append(cannot, of.what)
		}
	}
	for _, t := range i.Things {
		kinds = append(kinds, t.Kind)
	}
	return can, cannot, kinds
}

// Document implements Answer.
func (d Description) Document(context.Context) any {
	can, _, kinds := d.can()
	return map[string]any{"interface": d.Name, "fields": d.Account.Names(), "can": can, "things": kinds, "problems": []string{}}
}

// Draw implements Answer.
func (d Description) Draw(_ context.Context, page *report.Page) error {
	can, cannot, kinds := d.can()
	page.Line("%s is in order: %s of an account.", d.Path, report.Counted(len(d.Account.Fields), "field", "fields"))
	page.Text(page.Plain, "Fields: "+strings.Join(d.Account.Names(), ", "))
	page.Text(page.Plain, "Accounts can be "+strings.Join(can, ", ")+".")
	if cannot != nil {
		page.Text(page.Dim, "They cannot be "+strings.Join(cannot, ", ")+".")
	}
	if len(kinds) > 0 {
		page.Text(page.Plain, "They are tied to "+strings.Join(kinds, ", ")+".")
	}
	name := strings.TrimSuffix(filepath.Base(d.Path), filepath.Ext(d.Path))
	page.Next(fmt.Sprintf("evenledger system try %s    # once evenledger.yaml says: %s: {kind: web, url: ADDRESS, description: %s, token: env:NAME}", name, name, d.Path))
	return nil
}

// A Walk is what came of walking through an application; its steps are shown as they are taken.
type Walk struct {
	System string
	Steps  []system.Tried
	Amiss  int // of them
}

// Add adds a step that was taken.
func (w *Walk) Add(s system.Tried) {
	w.Steps = append(w.Steps, s)
	if s.Amiss != "" {
		w.Amiss++
	}
}

// Document implements Answer.
func (w Walk) Document(context.Context) any {
	steps := w.Steps
	if steps == nil {
		steps = []system.Tried{}
	}
	return map[string]any{"system": w.System, "steps": steps, "amiss": w.Amiss}
}

// Draw implements Answer.
func (w Walk) Draw(_ context.Context, page *report.Page) error {
	if w.Amiss > 0 {
		page.Line("%s", page.Level(account.Error, fmt.Sprintf("%s of %d steps %s amiss.", report.Number(w.Amiss), len(w.Steps), report.Plural(w.Amiss, "is", "are"))))
		page.Next("evenledger system try " + w.System + "    # once the description is corrected")
		return nil
	}
	page.Line("%s", page.Bold(fmt.Sprintf("All %d steps are in order.", len(w.Steps))))
	page.Next("evenledger fields " + w.System)
	return nil
}
