package sheet

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"os"
	"slices"
	"sort"
)

// Bounds on the memory that the texts of a workbook take.
const (
	pieceBytes  = 256 << 10 // of texts that are kept together
	keptPieces  = 48        // in memory; others are in a file
	aheadPieces = 16        // of those in a file that were asked for lately
)

// texts are the texts that the cells of a workbook share. What is beyond a bound is kept in a file that has no name and whose bytes
// mean nothing without a key that is in memory alone; as cells ask for their texts nearly in the order in which they stand, a few
// pieces of it at hand are enough.
type texts struct {
	ends   []uint32 // of each text in its piece
	firsts []int    // the first text of each piece
	pieces []string // in memory; empty: in the file
	sizes  []int    // of pieces
	places []int64  // in the file
	now    []byte   // the piece that is being filled

	file   *os.File
	size   int64
	key    cipher.Block
	lately []int // pieces of the file that are in memory, the latest last
	last   int   // the piece that was asked for last
}

// add takes in the next text.
func (t *texts) add(text []byte) error {
	if len(t.now) > 0 && len(t.now)+len(text) > pieceBytes {
		if err := t.end(); err != nil {
			return err
		}
	}
	if len(t.now) == 0 {
		t.firsts = append(t.firsts, len(t.ends))
	}
	t.now = append(t.now, text...)
	if len(text) == 0 && len(t.now) == 0 {
		t.now = make([]byte, 0, pieceBytes)
	}
	t.ends = append(t.ends, uint32(len(t.now)))
	return nil
}

// end puts the piece that was filled where it is kept.
func (t *texts) end() error {
	if len(t.firsts) == len(t.pieces) {
		return nil
	}
	piece, place := string(t.now), int64(-1)
	if len(t.pieces) >= keptPieces {
		if err := t.store(t.now); err != nil {
			return err
		}
		piece, place = "", t.size-int64(len(t.now))
	}
	t.pieces, t.sizes, t.places = append(t.pieces, piece), append(t.sizes, len(t.now)), append(t.places, place)
	t.now = t.now[:0]
	return nil
}

// store writes a piece into the file, which is made if there is none.
func (t *texts) store(piece []byte) error {
	if t.file == nil {
		file, err := os.CreateTemp("", "evenledger-texts-*")
		if err != nil {
			return err
		}
		t.file = file // it is closed with the last who holds it
		if err := os.Remove(file.Name()); err != nil {
			return err
		}
		key := make([]byte, 32)
		if _, err := rand.Read(key); err != nil {
			return err
		}
		if t.key, err = aes.NewCipher(key); err != nil {
			return err
		}
	}
	hidden := make([]byte, len(piece))
	t.stream(t.size).XORKeyStream(hidden, piece)
	_, err := t.file.WriteAt(hidden, t.size)
	t.size += int64(len(piece))
	return err
}

// stream is what hides a piece that begins at a place: no two use the same.
func (t *texts) stream(place int64) cipher.Stream {
	var begin [aes.BlockSize]byte
	binary.BigEndian.PutUint64(begin[:8], uint64(place))
	return cipher.NewCTR(t.key, begin[:])
}

// get returns a text by its number, from 0, and whether there is one.
func (t *texts) get(i int) (text string, ok bool, err error) {
	if i < 0 || i >= len(t.ends) {
		return "", false, nil
	}
	n := t.last
	if i < t.firsts[n] || n+1 < len(t.firsts) && i >= t.firsts[n+1] {
		n = sort.SearchInts(t.firsts, i+1) - 1
	}
	from := uint32(0)
	if i > t.firsts[n] {
		from = t.ends[i-1]
	}
	if from == t.ends[i] {
		return "", true, nil
	}
	if t.pieces[n] == "" {
		if err := t.load(n); err != nil {
			return "", false, err
		}
	}
	t.last = n
	return t.pieces[n][from:t.ends[i]], true, nil
}

// load reads a piece out of the file, in place of one that was not asked for of late.
func (t *texts) load(n int) error {
	piece := make([]byte, t.sizes[n])
	if _, err := t.file.ReadAt(piece, t.places[n]); err != nil {
		return errors.Join(errors.New("the texts of the workbook that were laid aside cannot be read again"), err)
	}
	t.stream(t.places[n]).XORKeyStream(piece, piece)
	if len(t.lately) == aheadPieces {
		t.pieces[t.lately[0]] = ""
		t.lately = slices.Delete(t.lately, 0, 1)
	}
	t.pieces[n], t.lately = string(piece), append(t.lately, n)
	return nil
}
