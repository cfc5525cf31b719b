package drafting

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"math"

	"evenledger/internal/account"
	"evenledger/internal/mapping"
	"evenledger/internal/told"
)

// Scratch is where the rows of a large sheet wait. It is private, and gone once it is closed.
type Scratch interface {
	io.Writer
	io.ReaderAt
	io.Closer
}

// unkept means that there is no room for the rows of a sheet.
type unkept struct{ err error }

func (u *unkept) Error() string {
	return "the rows of the sheet cannot be kept while they are looked at: " + u.err.Error()
}
func (u *unkept) Unwrap() error { return u.err }

// Tell implements told.Error.
func (u *unkept) Tell() told.Telling {
	return told.Telling{Message: u.Error(), Remedy: "They wait beside the ledger, about as many bytes as the sheet has. Make room there, and draft again: nothing of this draft is left."}
}

// broken means that the rows of a sheet are not as they were kept.
type broken struct{ err error }

func (b *broken) Error() string {
	return "the rows of the sheet, as they were kept while they were looked at, cannot be read again: " + b.err.Error()
}

// Tell implements told.Error.
func (b *broken) Tell() told.Telling {
	return told.Telling{Message: b.Error(), Remedy: "Look at the disk that the ledger lies on, and draft again: nothing of this draft is left."}
}

// spoolBytes is how much of a sheet's rows is held in memory.
const spoolBytes = 1 << 20

// A spool has the rows of a sheet wait between being read and being decided: a few in memory, many in a scratch.
type spool struct {
	open    func() (Scratch, error) // nil: all are held in memory
	scratch Scratch                 // nil: none was needed
	held    []byte                  // what is not in the scratch
	size    int64                   // of what is in it
	rows    int                     // that were taken in
}

// add takes a row in.
func (s *spool) add(cells []string, w *mapping.Wanted) error {
	record, err := appendRow(nil, cells, w)
	if err != nil {
		return err
	}
	s.held = append(binary.AppendUvarint(s.held, uint64(len(record))), record...)
	s.rows++
	if len(s.held) < spoolBytes || s.open == nil {
		return nil
	}
	return s.write()
}

// end says that no more comes: it can be read from now on.
func (s *spool) end() error {
	if s.scratch == nil {
		return nil
	}
	defer func() { s.held = nil }()
	return s.write()
}

func (s *spool) write() error {
	if s.scratch == nil {
		scratch, err := s.open()
		if err != nil {
			return &unkept{err}
		}
		s.scratch = scratch
	}
	if _, err := s.scratch.Write(s.held); err != nil {
		return &unkept{err}
	}
	s.size, s.held = s.size+int64(len(s.held)), s.held[:0]
	return nil
}

// Close gives up what was taken in.
func (s *spool) Close() error {
	s.held = nil
	if s.scratch == nil {
		return nil
	}
	return s.scratch.Close()
}

// read begins to read the rows again, from the first.
func (s *spool) read() *spooled {
	if s.scratch == nil {
		return &spooled{from: bufio.NewReader(bytes.NewReader(s.held)), left: s.rows}
	}
	return &spooled{from: bufio.NewReaderSize(io.NewSectionReader(s.scratch, 0, s.size), 256<<10), left: s.rows}
}

// spooled are rows that were taken in, one after the other.
type spooled struct {
	from *bufio.Reader
	left int // rows that are still to come: each that was taken in comes back, or it is told
	buf  bytes.Buffer
}

// next is the next row, with its cells; io.EOF: there is none.
func (r *spooled) next() (*mapping.Wanted, error) {
	if r.left == 0 {
		return nil, io.EOF
	}
	n, err := binary.ReadUvarint(r.from)
	if r.buf.Reset(); err == nil {
		_, err = io.CopyN(&r.buf, r.from, int64(min(n, math.MaxInt64)))
	}
	if err != nil {
		return nil, &broken{err}
	}
	r.left--
	return readRow(r.buf.String())
}

// some are the next rows, at most limit; none: that was all.
func (r *spooled) some(limit int) (rows []*mapping.Wanted, err error) {
	for len(rows) < limit {
		w, err := r.next()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return nil, err
		}
		rows = append(rows, w)
	}
	return rows, nil
}

// A row stands as its number, its cells, its values, and all else that it has as JSON, if it has anything else. A text begins with its
// length; that of a value is one more, with a bit for whether it is the fallback, and 0 is what is absent.
func appendRow(to []byte, cells []string, w *mapping.Wanted) ([]byte, error) {
	to = binary.AppendUvarint(to, uint64(w.Row))
	to = binary.AppendUvarint(to, uint64(len(cells)))
	for _, cell := range cells {
		to = append(binary.AppendUvarint(to, uint64(len(cell))), cell...)
	}
	to = binary.AppendUvarint(to, uint64(len(w.Values)))
	for i, v := range w.Values {
		n := uint64(0)
		if v.Present() {
			n = uint64(len(v.Text()) + 1)
		}
		n <<= 1
		if w.IsFallback(i) {
			n |= 1
		}
		to = append(binary.AppendUvarint(to, n), v.Text()...)
	}
	if isPlain(w) {
		return to, nil
	}
	rest, err := json.Marshal(w)
	return append(to, rest...), err
}

// isPlain reports whether a row has nothing but cells and values, as most have.
func isPlain(w *mapping.Wanted) bool {
	return !w.Aside && !w.NeedsKeysOnly && w.Base+w.Password+w.Pattern+w.Weak == "" && len(w.Others)+len(w.Spoken)+len(w.Ties)+len(w.Said)+len(w.Findings)+len(w.Kinds) == 0
}

func readRow(record string) (*mapping.Wanted, error) {
	amiss := false
	number := func() int {
		n, size := binary.Uvarint([]byte(record[:min(len(record), binary.MaxVarintLen64)]))
		if amiss = amiss || size <= 0 || n > 1<<40; amiss {
			return 0
		}
		record = record[size:]
		return int(n)
	}
	text := func(n int) (text string) {
		if amiss = amiss || n > len(record); amiss {
			return ""
		}
		text, record = record[:n], record[n:]
		return text
	}
	count := func() int { // of texts, each of which is one byte at least
		n := number()
		if amiss = amiss || n > len(record); amiss {
			return 0
		}
		return n
	}
	w := &mapping.Wanted{Row: number()}
	w.Cells = make([]string, count())
	for i := range w.Cells {
		w.Cells[i] = text(number())
	}
	n := count()
	w.Values, w.ByFallback = make([]account.Value, n), make([]bool, n)
	for i := range w.Values {
		n := number()
		if w.ByFallback[i] = n&1 != 0; n > 1 {
			w.Values[i] = account.Of(text(n>>1 - 1))
		}
	}
	if amiss {
		return nil, &broken{errors.New("a row is not as it was written")}
	}
	if record == "" {
		return w, nil
	}
	if err := json.Unmarshal([]byte(record), w); err != nil {
		return nil, &broken{err}
	}
	return w, nil
}
