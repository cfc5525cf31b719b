package drafting

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"strconv"
	"sync"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
	"evenledger/internal/system"
)

// A pool is what batches of one sheet share: the ranges of which they give numbers.
type pool struct {
	several bool // there is more than one batch
	owning  int  // in systems whose accounts own files by a number
	ranges  []*numbers
}

// numbers are the numbers of a range for a field, which of them somebody has, and which row
// got which.
type numbers struct {
	name   string
	of     brief.Range
	same   bool // a person's number is the same in several systems
	within bool // and of this range, also where there is an account already

	mu    sync.Mutex
	taken []uint64 // a bit each
	first int      // word that may have a free one

	// With same:
	given   map[int]int       // row → number
	row     map[int]int       // number → row that got it
	holders map[int]int       // number → accounts that have it, of all systems
	held    map[int][]holding // row → numbers that its accounts have, one for each system
}

// A holding is a number that an account has.
type holding struct {
	number int
	listed bool // the account is one that the system lists, and was counted
}

// A numbered is a field of a brief that gets numbers.
type numbered struct {
	*numbers
	index int // of the field, in the brief
	field brief.Field
}

// rangeOf returns the numbers of a field's range.
func (p *pool) rangeOf(f brief.Field) *numbers {
	for _, n := range p.ranges {
		if n.name == f.Name && n.of == f.Next {
			n.within = n.within || f.Renumber
			return n
		}
	}
	n := &numbers{name: f.Name, of: f.Next, same: p.several || f.Renumber, within: f.Renumber, taken: make([]uint64, (f.Next.High-f.Next.Low)/64+1)}
	if n.same {
		n.given, n.row, n.holders, n.held = map[int]int{}, map[int]int{}, map[int]int{}, map[int][]holding{}
	}
	p.ranges = append(p.ranges, n)
	return n
}

// lookForNumbers gets ready to give numbers, if the brief does.
func (d *making) lookForNumbers() {
	if d.about.Owners[0] != "" {
		d.pool.owning++
	}
	for i, f := range d.brief.Fields {
		if f.Next.High > 0 && f.Send {
			d.numbers = append(d.numbers, numbered{d.pool.rangeOf(f), i, f})
			d.Batch.Numbers = append(d.Batch.Numbers, f.Name)
		}
	}
}

// readNumbers reads which numbers accounts have. A system cannot be asked for a free one,
// so that all are looked at.
func (d *making) readNumbers(ctx context.Context) error {
	if len(d.numbers) == 0 {
		return nil
	}
	read := 0
	for a, err := range d.System.List(ctx, d.Batch.Numbers) {
		if err != nil {
			return err
		}
		for _, n := range d.numbers {
			for _, text := range account.Items(a.Field(n.field.Name).Text()) {
				n.take(text, true)
			}
		}
		read++
		d.tell("looked at numbers", read)
	}
	for _, n := range d.numbers {
		if foreseer, is := d.System.(system.Foreseer); is {
			left, err := foreseer.Leftovers(ctx, n.field.Name)
			if err != nil {
				return err
			}
			for _, text := range left {
				n.take(text, false)
			}
		}
		if n.field.Again {
			continue
		}
		// Who gets a number that another had gets what still belongs to it, such as files.
		if err := d.Ledger.Past(d.Batch.System).Used(ctx, n.field.Name, func(text string) { n.take(text, false) }); err != nil {
			return err
		}
	}
	if !d.about.Can.Unlisted {
		return nil
	}
	for _, n := range d.numbers {
		if err := d.seekNumbers(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

// seekNumbers looks whether those numbers are free that would be given next, in a system that
// does not list everyone.
func (d *making) seekNumbers(ctx context.Context, n numbered) error {
	for looked := map[int]bool{}; ; {
		var ask []string
		for _, number := range n.ahead(d.Batch.Rows) {
			if !looked[number] {
				looked[number] = true
				ask = append(ask, strconv.Itoa(number))
			}
		}
		if len(ask) == 0 {
			return nil
		}
		if _, err := system.Fetch(ctx, d.System, map[string][]string{n.field.Name: ask}, []string{n.field.Name}, d.Together, func(a account.Account) {
			n.take(a.Field(n.field.Name).Text(), false)
		}); err != nil {
			return err
		}
	}
}

// holders notes which numbers the accounts of each row have by now, where a person is to have
// one number.
func (d *making) holders(ctx context.Context) error {
	matcher := &batch.Decider{Brief: d.brief, Schema: d.about.Schema, Index: d.index, Column: d.Mapper.Heading}
	for _, n := range d.numbers {
		if !n.same {
			continue
		}
		for waiting := d.spool.read(); ; {
			w, err := waiting.next()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return err
			}
			if a := matcher.Find(w); a != nil {
				if number, err := strconv.Atoi(a.Field(n.field.Name).Text()); err == nil {
					n.held[w.Row] = append(n.held[w.Row], holding{number, a.Refuses[account.ID] == ""})
				}
			}
		}
	}
	return nil
}

// given takes out the numbers that a row gives itself.
func (d *making) given(w *mapping.Wanted) {
	for _, n := range d.numbers {
		if text := w.Values[n.index].Text(); text != "" {
			n.take(text, false)
		}
	}
}

// take notes that somebody has a number, or is to have it.
func (n *numbers) take(text string, has bool) {
	number, err := strconv.Atoi(text)
	if err != nil {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if has && n.same {
		n.holders[number]++
	}
	if n.has(number) {
		at := number - n.of.Low
		n.taken[at/64] |= 1 << (at % 64)
	}
}

// ahead are the next numbers that would be given.
func (n *numbers) ahead(count int) (all []int) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for word := n.first; word < len(n.taken) && len(all) < count; word++ {
		for bit := range 64 {
			number := n.of.Low + word*64 + bit
			if n.taken[word]&(1<<bit) == 0 && number <= n.of.High && len(all) < count {
				all = append(all, number)
			}
		}
	}
	return all
}

// has reports whether a number is of the range.
func (n *numbers) has(number int) bool { return number >= n.of.Low && number <= n.of.High }

// next returns the lowest number that is free, and takes it.
func (n *numbers) next() (number int, free bool) {
	for ; n.first < len(n.taken); n.first++ {
		bit := bits.TrailingZeros64(^n.taken[n.first])
		at := n.first*64 + bit
		if bit == 64 {
			continue
		}
		if at > n.of.High-n.of.Low {
			return 0, false
		}
		n.taken[n.first] |= 1 << bit
		return n.of.Low + at, true
	}
	return 0, false
}

// give returns the number of a row: the one that it got before, else the first of those its
// accounts have that nobody else has anywhere, else the lowest that is free.
func (n *numbers) give(row int) (number int, free bool) {
	if !n.same {
		return n.next()
	}
	if number, free = n.given[row]; free {
		return number, true
	}
	for _, h := range n.held[row] {
		number, own := h.number, 0
		for _, other := range n.held[row] {
			if other.number == number && other.listed {
				own++
			}
		}
		if _, gone := n.row[number]; !gone && n.holders[number] == own && (n.has(number) || !n.within) {
			n.given[row], n.row[number] = number, row
			return number, true
		}
	}
	if number, free = n.next(); free {
		n.given[row], n.row[number] = number, row
	}
	return number, free
}

// number gives an account that is to be made the numbers that its row does not give, and one
// that is there the number that the person has everywhere.
func (d *making) number(e *batch.Entry, w *mapping.Wanted) {
	d.needsNumber(e)
	for _, n := range d.numbers {
		known := n.field.Renumber && e.Account != "" && (e.Outcome.Waits() && e.Intent != account.Remove || e.Outcome == account.Unchanged && e.Intent == account.Keep)
		made := e.Intent == account.Create && e.Outcome.Waits()
		if !made && !known || w.Values[n.index].Filled() {
			continue
		}
		number, free := n.give(e.Row)
		if !free {
			d.ties.Return(e.Steps)
			e.Find(account.Error, account.NoFreeValue, n.field.Name, d.Mapper.Heading(n.index), fmt.Sprintf("every number from %d to %d is taken", n.of.Low, n.of.High))
			e.Refuse()
			return
		}
		after := account.Of(strconv.Itoa(number))
		before := e.Known[n.field.Name]
		if before.Text() == after.Text() {
			continue
		}
		e.Changes = append(e.Changes, account.Change{Field: n.field.Name, Before: before, After: after})
		if e.Outcome == account.Unchanged {
			e.Intent, e.Outcome = account.Update, account.Waiting
			if batch.Protects(d.about.Schema, d.Batch.Protect, &account.Account{ID: e.Account, Fields: e.Known}) {
				e.Find(account.Error, account.ProtectedAccount, "", "", fmt.Sprintf("the account %s is protected, and the row would change its number", e.Key))
				e.Refuse()
			}
		}
	}
}

// needsNumber refuses an account that several systems of a set would each give another number.
func (d *making) needsNumber(e *batch.Entry) {
	owner := d.about.Owners[0]
	if d.Compare || d.pool.owning < 2 || owner == "" || e.Intent != account.Create || !e.Outcome.Waits() {
		return
	}
	for _, n := range d.numbers {
		if n.field.Name == owner {
			return
		}
	}
	for _, c := range e.Changes {
		if c.Field == owner && c.After.Filled() {
			return
		}
	}
	d.ties.Return(e.Steps)
	e.Find(account.Error, account.BlankRequired, owner, "", fmt.Sprintf("no %s is given, and each system of the set would choose another", owner))
	e.Findings[len(e.Findings)-1].Remedy = fmt.Sprintf("Fill it in, or have the brief choose one for all of them: “%s: {next: 20000-29999}”.", owner)
	e.Refuse()
}
