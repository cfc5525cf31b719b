package drafting

import (
	"errors"

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

// A behind writes entries while the next are decided: some are readied while those before are written.
type behind struct {
	write func([]batch.Entry) error
	done  chan error // what became of each lot that is being written
	under int        // lots that are
}

// mostBehind is how many lots are under way.
const mostBehind = 2

func newBehind(write func([]batch.Entry) error) *behind {
	return &behind{write: write, done: make(chan error, mostBehind)}
}

// begin begins to write entries.
func (b *behind) begin(entries []batch.Entry) error {
	if b.under == mostBehind {
		b.under--
		if err := <-b.done; err != nil {
			return err
		}
	}
	b.under++
	go func() { b.done <- b.write(entries) }()
	return nil
}

// wait waits until everything is written.
func (b *behind) wait() (err error) {
	for ; b.under > 0; b.under-- {
		err = errors.Join(err, <-b.done)
	}
	return err
}
