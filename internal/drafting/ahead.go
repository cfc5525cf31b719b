package drafting

import (
	"context"

	"evenledger/internal/batch"
	"evenledger/internal/store"
)

// spooledRows are some of the rows that were taken in.
type spooledRows struct {
	rows []store.Spooled
	err  error
}

// readAhead begins to read the rows taken in beyond a row, while something else is done.
func (d *making) readAhead(ctx context.Context, after int) <-chan spooledRows {
	read := make(chan spooledRows, 1)
	go func() {
		rows, err := d.Ledger.Spooled(ctx, d.Batch.ID, after, chunk)
		read <- spooledRows{rows, err}
	}()
	return read
}

// A behind writes entries while the next are decided: one lot at a time, in their order.
type behind struct {
	write func([]batch.Entry) error
	done  chan error // of what is being written; nil: nothing is
}

func newBehind(write func([]batch.Entry) error) *behind { return &behind{write: write} }

// begin begins to write entries, once those before are written.
func (b *behind) begin(entries []batch.Entry) error {
	if err := b.wait(); err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() { done <- b.write(entries) }()
	b.done = done
	return nil
}

// wait waits until everything is written.
func (b *behind) wait() error {
	if b.done == nil {
		return nil
	}
	err := <-b.done
	b.done = nil
	return err
}
