package drafting

import (
	"context"
	"fmt"
	"math/bits"
	"strconv"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
)

// numbers are the numbers of a range for a field, and which of them somebody has.
type numbers struct {
	index int // of the field, in the brief
	field brief.Field
	taken []uint64 // a bit each
	first int      // word that may have a free one
}

// lookForNumbers gets ready to give numbers, if the brief does.
func (d *making) lookForNumbers() {
	for i, f := range d.brief.Fields {
		if f.Next.High > 0 {
			d.numbers = append(d.numbers, &numbers{index: i, field: f, taken: make([]uint64, (f.Next.High-f.Next.Low)/64+1)})
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
				n.take(text)
			}
		}
		read++
		d.tell("looked at numbers", read)
	}
	return nil
}

// given takes out the numbers that a row gives itself.
func (d *making) given(w *mapping.Wanted) {
	for _, n := range d.numbers {
		n.take(w.Values[n.index].Text())
	}
}

func (n *numbers) take(text string) {
	at, err := strconv.Atoi(text)
	if at -= n.field.Next.Low; err == nil && at >= 0 && at <= n.field.Next.High-n.field.Next.Low {
		n.taken[at/64] |= 1 << (at % 64)
	}
}

// next returns the lowest number that is free, and takes it.
func (n *numbers) next() (number int, free bool) {
	for ; n.first < len(n.taken); n.first++ {
		bit := bits.TrailingZeros64(^n.taken[n.first])
		at := n.first*64 + bit
		if bit == 64 {
			continue
		}
		if at > n.field.Next.High-n.field.Next.Low {
			return 0, false
		}
		n.taken[n.first] |= 1 << bit
		return n.field.Next.Low + at, true
	}
	return 0, false
}

// number gives an account that is to be made the numbers that its row does not give.
func (d *making) number(e *batch.Entry, w *mapping.Wanted) {
	for _, n := range d.numbers {
		if e.Intent != account.Create || e.Outcome != account.Waiting || w.Values[n.index].Filled() {
			continue
		}
		next, free := n.next()
		if !free {
			d.ties.Return(e.Steps)
			e.Find(account.Error, account.NoFreeValue, n.field.Name, d.Mapper.Heading(n.index), fmt.Sprintf("every number from %d to %d is taken", n.field.Next.Low, n.field.Next.High))
			e.Refuse()
			return
		}
		e.Changes = append(e.Changes, account.Change{Field: n.field.Name, After: account.Of(strconv.Itoa(next))})
	}
}
