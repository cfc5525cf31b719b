package report

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/feed"
	"evenledger/internal/membership"
)

// An Order is something that a draft would have done, with all the rows that have it.
type Order struct {
	Does  string   `json:"does"`
	Rows  int      `json:"rows"`
	First []string `json:"first"`          // people, the first few
	Says  []string `json:"says,omitempty"` // what goes out for the first of them, word for word
}

// Orders sum up all that a draft would have done, for who is to say that it is right: entry for
// entry they are too many to read, and none is left out.
type Orders struct {
	All []*Order
	at  map[string]*Order
}

// firstPeople is how many people an order names.
const firstPeople = 3

// Add takes in an entry; its steps have to be read with what mails hold.
func (o *Orders) Add(e *batch.Entry) {
	if !e.Outcome.Waits() {
		return
	}
	who := e.Key
	if name := nameIn(e.Left()); name != "" && name != e.Key {
		who = name + " (" + e.Key + ")"
	}
	if e.Intent == account.Create {
		does := "create, with"
		for _, c := range e.Changes {
			does += " " + c.Field
		}
		o.note(does, who)
	} else {
		if e.Intent != account.Update {
			o.note(string(e.Intent), who)
		}
		for _, c := range e.Changes {
			before, after := Shown(c)
			o.note("change "+c.Field, fmt.Sprintf("%s (%s → %s)", who, before, after))
		}
	}
	if e.Secret != "" {
		o.note("set a password", who)
	}
	for _, s := range e.Steps {
		does, whom := s.Text(), who
		if s.Do == membership.Notify {
			does, whom = "mail "+s.Name, s.To
		}
		if does == "" {
			continue
		}
		if one := o.note(does, whom); one.Rows == 1 && s.Sent != "" {
			one.Says = sentWords(s.Sent)
		}
	}
}

func (o *Orders) note(does, who string) *Order {
	if o.at == nil {
		o.at = map[string]*Order{}
	}
	one := o.at[does]
	if one == nil {
		one = &Order{Does: does}
		o.at[does] = one
		o.All = append(o.All, one)
	}
	if one.Rows++; len(one.First) < firstPeople {
		one.First = append(one.First, who)
	}
	return one
}

// OrderWords are the statement or call of an order, with its values.
func OrderWords(order feed.Order) []string {
	data, err := json.Marshal(order)
	if err != nil {
		return []string{err.Error()}
	}
	return sentWords(string(data))
}

// sentWords are those of what is sent, as the ledger has it.
func sentWords(text string) []string {
	var parts map[string]any
	if err := json.Unmarshal([]byte(text), &parts); err != nil {
		return []string{"it cannot be read out of the ledger: " + err.Error()}
	}
	return linesOf("", parts)
}

// linesOf are lines of all that is in parts, in the order of their names.
func linesOf(before string, parts map[string]any) (lines []string) {
	names := make([]string, 0, len(parts))
	for name := range parts {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int { // a mail as one reads it
		at := func(name string) int { return slices.Index([]string{"text", "subject", "to"}, name) }
		return cmp.Or(at(b)-at(a), strings.Compare(a, b))
	})
	for _, name := range names {
		called := strings.TrimPrefix(before+"."+name, ".")
		switch part := parts[name].(type) {
		case nil:
		case map[string]any:
			lines = append(lines, linesOf(called, part)...)
		case []any:
			for i, one := range part {
				if within, is := one.(map[string]any); is {
					lines = append(lines, linesOf(fmt.Sprintf("%s.%d", called, i+1), within)...)
				} else {
					lines = append(lines, fmt.Sprintf("%s: %v", called, one))
				}
			}
		default:
			if text := fmt.Sprint(part); text != "" {
				lines = append(lines, called+": "+text)
			}
		}
	}
	return lines
}

// Orders writes all that a draft would have done, for who signs it.
func (p *Page) Orders(b *batch.Batch, all *Orders) {
	p.Line("")
	p.Line("%s", p.Bold("What is signed: all that is done when this batch is posted"))
	around := func(when string, all []batch.Whole) {
		for _, w := range all {
			p.Line("  %s in feed %s", when, w.Feed)
			p.says(OrderWords(w.Order))
		}
	}
	around("before all", b.Begin)
	for _, o := range all.All {
		more := ""
		if o.Rows > len(o.First) {
			more = fmt.Sprintf(" and %s more", group(o.Rows-len(o.First)))
		}
		p.Line("  %s %s", p.Bold(Pad(group(o.Rows), 6)), Harmless(o.Does))
		p.beneath("         ", "", p.Dim, strings.Join(o.First, " · ")+more)
		p.says(o.Says)
	}
	around("after all", b.End)
	if len(b.ReportTo) > 0 {
		p.Line("  report, with everybody in it, to %s", strings.Join(b.ReportTo, ", "))
	}
	for _, limit := range b.Limits {
		p.Line("  limit: %s", limit)
	}
	if len(b.Protect) > 0 {
		p.Line("  not touched: %s", strings.Join(b.Protect, ", "))
	}
}

func (p *Page) says(lines []string) {
	for _, line := range lines {
		for _, part := range strings.Split(line, "\n") {
			p.beneath("         | ", "", p.Plain, brief.Spoken(part))
		}
	}
}
