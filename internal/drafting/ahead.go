package drafting

import (
	"evenledger/internal/batch"
	"evenledger/internal/mapping"
)

// someRows are some of the rows that were taken in.
type someRows struct {
	rows []*mapping.Wanted
	err  error
}

// readAhead begins to read the next rows that were taken in, while something else is done.
func readAhead(waiting *spooled) <-chan someRows {
	read := make(chan someRows, 1)
	go func() {
		rows, err := waiting.some(chunk)
		read <- someRows{rows, err}
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
