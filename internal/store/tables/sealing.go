package tables

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"hash"
	"iter"
	"slices"
	"sync"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
)

// making are the drafts that this process makes, by batch. What is sealed of an entry is what was decided, not what
// somebody may have made of it on the way: its mark is taken as it is written. Those that were decided anew are read.
type making struct {
	sync.Mutex
	of map[int]*sealing
}

// A sealing has the marks of the entries of a draft, in 20 bytes each, and of sealed passwords in 16.
type sealing struct {
	pages   []markPage
	n       int          // entries
	altered map[int]bool // rows whose marks hold no more
	reads   bool         // all of them: that is less work by now
}

// A digest is what is kept of a hash.
type digest [16]byte

// A markPage has the marks of entries that were written together, in the order of their rows.
type markPage struct {
	rows    []int32
	digests []digest // the zero one: it has to be read
	secrets []digest // the zero one: it has none; empty: none has
}

// add notes the marks of entries as they are written.
func (m *making) add(id int, page markPage) {
	m.Lock()
	defer m.Unlock()
	if m.of == nil {
		m.of = map[int]*sealing{}
	}
	s := m.of[id]
	if s == nil {
		s = &sealing{altered: map[int]bool{}}
		m.of[id] = s
	}
	if s.reads || len(page.rows) == 0 {
		return
	}
	for i, row := range page.rows {
		if page.digests[i] == (digest{}) {
			s.altered[int(row)] = true
		}
	}
	s.pages, s.n = append(s.pages, page), s.n+len(page.rows)
}

// alter notes that marks hold no more: of rows, or of all if rows is nil.
func (m *making) alter(id int, rows []int) {
	m.Lock()
	defer m.Unlock()
	s := m.of[id]
	if s == nil || s.reads {
		return
	}
	if s.reads = rows == nil || len(s.altered)+len(rows) > s.n/2; s.reads {
		s.pages, s.altered = nil, map[int]bool{}
		return
	}
	for _, row := range rows {
		s.altered[row] = true
	}
}

// take returns the marks of a draft that is to be sealed, which are forgotten then; nil: its entries have to be read.
func (m *making) take(id int) *sealing {
	m.Lock()
	defer m.Unlock()
	s := m.of[id]
	if delete(m.of, id); s == nil || s.reads {
		return nil
	}
	// Pages are written side by side.
	slices.SortFunc(s.pages, func(a, b markPage) int { return int(a.rows[0]) - int(b.rows[0]) })
	last := int32(0)
	for _, page := range s.pages {
		for _, row := range page.rows {
			if row <= last { // they would have to be put in order
				return nil
			}
			last = row
		}
	}
	return s
}

// marks yields the marks of all entries, some at a time; those that were altered are read.
func (s *sealing) marks(ctx context.Context, l *Ledger, id, limit int) iter.Seq2[[]marked, error] {
	return func(yield func([]marked, error) bool) {
		var some []marked
		flush := func() bool {
			err := s.readAltered(ctx, l, id, some)
			ok := yield(some, err) && err == nil
			some = nil
			return ok
		}
		for _, page := range s.pages {
			for i, row := range page.rows {
				mark := marked{Row: int(row), Digest: hex.EncodeToString(page.digests[i][:])}
				if len(page.secrets) > 0 && page.secrets[i] != (digest{}) {
					mark.Secret = hex.EncodeToString(page.secrets[i][:])
				}
				if some = append(some, mark); len(some) == limit && !flush() {
					return
				}
			}
		}
		if len(some) > 0 {
			flush()
		}
	}
}

// readAltered reads the marks of those that were altered.
func (s *sealing) readAltered(ctx context.Context, l *Ledger, id int, some []marked) error {
	at := map[int]*marked{}
	var rows []int
	for i := range some {
		if row := some[i].Row; s.altered[row] {
			at[row], rows = &some[i], append(rows, row)
		}
	}
	if len(rows) == 0 {
		return nil
	}
	return l.Read(ctx, func(tx Tx) error {
		read, err := marksIn(ctx, tx, id, "row IN (LISTED(?)) ORDER BY row", jsonText(rows))
		if err == nil && len(read) != len(rows) {
			err = fmt.Errorf("%d of %d entries that were decided anew are not there", len(rows)-len(read), len(rows))
		}
		for _, mark := range read {
			*at[mark.Row] = mark
		}
		return err
	})
}

// draftMarks are the marks of entries as they are being written in columns: after the batch and the row all are texts.
func draftMarks(entries []batch.Entry, lists [][]any, kept func(string) string) markPage {
	page := markPage{rows: make([]int32, len(entries)), digests: make([]digest, len(entries))}
	for i := range entries {
		e, h, sent := &entries[i], sha256.New(), 0
		for _, text := range lists[i][2:] {
			note(h, kept(text.(string)))
		}
		for n, s := range e.Steps {
			c := columnsOf(s)
			c.was.String = kept(c.was.String)
			noteStep(h, [7]string{string(s.Do), kept(s.Kind), kept(c.thing), kept(c.name), kept(c.role), kept(s.Section), string(s.Result)}, n, c.was, s.Row, c.made)
			if s.Sent != "" {
				sent++
			}
		}
		for _, s := range e.Steps {
			if s.Sent != "" {
				note(h, kept(s.Kind+"/"+s.Name), kept(s.Sent))
			}
		}
		page.rows[i] = int32(e.Row)
		if sent < 2 { // else the engine has them in its own order
			page.digests[i] = digest(h.Sum(nil)[:16])
		}
		if e.Secret != "" && e.Outcome != account.Refused {
			if page.secrets == nil {
				page.secrets = make([]digest, len(entries))
			}
			page.secrets[i] = digest(hashOf(e.Secret).Sum(nil)[:16])
		}
	}
	return page
}

// noteStep adds a step to the hash of its entry.
func noteStep(h hash.Hash, texts [7]string, n int, was sql.NullString, target, made int) {
	if made == madeThing {
		texts[2] = "" // it gets one when it is made
	}
	if texts[6] != string(membership.Goes) {
		texts[6] = "" // what became of it is no part of the draft
	}
	note(h, append(texts[:], fmt.Sprint(n, was.Valid, target, made), was.String)...)
}

// secretMark is the mark of a sealed password.
func secretMark(sealed string) string { return digested(hashOf(sealed)) }

func hashOf(text string) hash.Hash {
	h := sha256.New()
	note(h, text)
	return h
}
