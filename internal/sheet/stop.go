package sheet

import (
	"errors"
	"io"
	"os"
)

// ErrStopped is what reading ends with when nobody wants the rest of a source that keeps
// its reader waiting.
var ErrStopped = errors.New("the rest of the sheet is not wanted any more")

// A stoppable reads from what may keep its reader waiting, such as a pipe, until stop is
// closed. What is read after that goes nowhere.
type stoppable struct {
	source  io.Reader
	stop    <-chan struct{}
	pending chan piece // that is being read; nil: none
	now     piece
}

type piece struct {
	data []byte
	err  error
}

// unlessStopped returns a source that can be stopped, if it might keep its reader waiting.
func unlessStopped(source io.Reader, stop <-chan struct{}) io.Reader {
	if file, ok := source.(*os.File); ok {
		if stat, err := file.Stat(); err == nil && stat.Mode().IsRegular() {
			return source
		}
	}
	if stop == nil {
		return source
	}
	return &stoppable{source: source, stop: stop}
}

func (s *stoppable) Read(p []byte) (int, error) {
	if len(s.now.data) == 0 && s.now.err == nil {
		if s.pending == nil {
			s.pending = make(chan piece, 1)
			go func(source io.Reader, pending chan<- piece) {
				data := make([]byte, 64<<10)
				n, err := source.Read(data)
				pending <- piece{data[:n], err}
			}(s.source, s.pending)
		}
		select {
		case s.now = <-s.pending:
			s.pending = nil
		case <-s.stop:
			return 0, ErrStopped
		}
	}
	n := copy(p, s.now.data)
	if s.now.data = s.now.data[n:]; len(s.now.data) == 0 {
		return n, s.now.err
	}
	return n, nil
}
