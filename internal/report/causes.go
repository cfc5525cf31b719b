package report

import (
	"iter"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/batch"
)

// rowsNamed is how many rows are named for one cause.
const rowsNamed = 8

// A Cause is findings that are of one kind, about one column.
type Cause struct {
	First account.Finding
	Rows  []int    // the first few
	Count int      // of rows; 0: it is about the sheet as a whole
	In    []string // the systems of a set that it is so in; none: there is one, or all of them
	Said  []Said   // what is said of the rows, each once, the first few
	More  int      // rows of which something else is said

	last int // row that was counted
	now  int // of Said, that was said last
}

// Said is what findings of one cause say of some rows.
type Said struct {
	Message, Remedy string
	Rows            []int // the first few
	Count           int
}

// saidNamed is how many different messages of one cause are told.
const saidNamed = 8

// Causes gathers findings. The zero Causes has none.
type Causes struct {
	list   []*Cause
	byKey  map[[5]string]*Cause
	recent *Cause
}

// Add takes a finding in. Findings of one row come together.
func (c *Causes) Add(f account.Finding) {
	if k := c.recent; k != nil && f.Row > 0 && f.Code != account.BriefCheck && f.Code == k.First.Code && f.Level == k.First.Level && f.Column == k.First.Column && f.Field == k.First.Field {
		k.add(f) // as most are
		return
	}
	key := [5]string{string(f.Level), string(f.Code), f.Column, f.Field}
	if f.Code == account.BriefCheck || f.Row == 0 {
		key[4] = f.Message
	}
	if c.byKey == nil {
		c.byKey = map[[5]string]*Cause{}
	}
	known := c.byKey[key]
	if known == nil {
		known = &Cause{First: f}
		c.byKey[key] = known
		c.list = append(c.list, known)
	}
	if c.recent = known; f.Row > 0 {
		known.add(f)
	}
}

// say takes in what is said of a row.
func (k *Cause) say(f account.Finding) {
	at := k.now
	if at >= len(k.Said) || k.Said[at].Message != f.Message || k.Said[at].Remedy != f.Remedy {
		at = slices.IndexFunc(k.Said, func(s Said) bool { return s.Message == f.Message && s.Remedy == f.Remedy })
	}
	if at < 0 {
		if len(k.Said) == saidNamed {
			k.More++
			return
		}
		at, k.Said = len(k.Said), append(k.Said, Said{Message: f.Message, Remedy: f.Remedy})
	}
	s := &k.Said[at]
	k.now = at
	if s.Count++; len(s.Rows) < rowsNamed {
		s.Rows = append(s.Rows, f.Row)
	}
}

func (k *Cause) add(f account.Finding) {
	k.say(f)
	row := f.Row
	if row == k.last {
		return
	}
	k.Count, k.last = k.Count+1, row
	if len(k.Rows) < rowsNamed {
		k.Rows = append(k.Rows, row)
	}
}

// AddAll takes findings in.
func (c *Causes) AddAll(findings []account.Finding) {
	for _, f := range findings {
		c.Add(f)
	}
}

// AddEntries takes in the findings of entries, of those that are told; nil: all are.
func (c *Causes) AddEntries(entries iter.Seq2[batch.Entry, error], told func(batch.Entry) bool) error {
	for e, err := range entries {
		if err != nil {
			return err
		}
		if told == nil || told(e) {
			c.AddAll(e.Findings)
		}
	}
	return nil
}

// Sorted lists the causes, gravest and most frequent first.
func (c *Causes) Sorted() []*Cause {
	ranks := map[account.Level]int{account.Error: 0, account.Warning: 1, account.Note: 2}
	list := slices.Clone(c.list)
	slices.SortStableFunc(list, func(a, b *Cause) int {
		if d := ranks[a.First.Level] - ranks[b.First.Level]; d != 0 {
			return d
		}
		if open := a.First.Code == account.MaySignIn; open != (b.First.Code == account.MaySignIn) { // it cannot wait
			return map[bool]int{true: -1, false: 1}[open]
		}
		return b.Count - a.Count
	})
	return list
}

// says is all that a cause says, in whatever order it came.
func (k *Cause) says() string {
	messages := []string{k.First.Message}
	for _, said := range k.Said {
		messages = append(messages, said.Message)
	}
	slices.Sort(messages)
	return strings.Join(slices.Compact(messages), "\n")
}

// alsoSaid takes in the rows of which another system says the same.
func (k *Cause) alsoSaid(of Said) {
	i := slices.IndexFunc(k.Said, func(s Said) bool { return s.Message == of.Message && s.Remedy == of.Remedy })
	if i < 0 {
		k.Said = append(k.Said, of)
		return
	}
	s := &k.Said[i]
	s.Rows = slices.Clone(s.Rows)
	for _, row := range of.Rows {
		if !slices.Contains(s.Rows, row) && len(s.Rows) < rowsNamed {
			s.Rows = append(s.Rows, row)
		}
	}
	s.Count = max(s.Count, of.Count, len(s.Rows))
}

// Together is the causes that sheets have in several systems: what is alike in some of them
// stands once, with their names. Of a single system they are its own.
func Together(systems []string, of []*Causes) *Causes {
	if len(of) == 1 {
		return of[0]
	}
	all := &Causes{}
	type alike struct {
		code                account.Code
		level               account.Level
		column, field, says string
	}
	known := map[alike]*Cause{}
	for i, causes := range of {
		for _, k := range causes.Sorted() {
			key := alike{k.First.Code, k.First.Level, k.First.Column, k.First.Field, k.says()}
			once := known[key]
			if once == nil {
				once = &Cause{First: k.First, Said: slices.Clone(k.Said), More: k.More}
				known[key] = once
				all.list = append(all.list, once)
			}
			once.In = append(once.In, systems[i])
			once.Count = max(once.Count, k.Count)
			for _, row := range k.Rows { // those of all, as far as they are named
				if !slices.Contains(once.Rows, row) && len(once.Rows) < rowsNamed {
					once.Rows = append(once.Rows, row)
				}
			}
			once.Count = max(once.Count, len(once.Rows))
			for _, said := range k.Said {
				once.alsoSaid(said)
			}
		}
	}
	for _, k := range all.list {
		if len(k.In) == len(systems) {
			k.In = nil
		}
	}
	return all
}
