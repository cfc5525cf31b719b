package drafting

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/mapping"
	"evenledger/internal/sheet"
)

// full is a disk that has no room any more after so many bytes.
type full struct {
	*os.File
	room int
}

func (f *full) Write(p []byte) (int, error) {
	if f.room -= len(p); f.room < 0 {
		return 0, errors.New("no space left on device")
	}
	return f.File.Write(p)
}

// Rows come back as they were taken in, however many there are and whatever stands in them.
func TestSpool(t *testing.T) {
	odd := func(row int) (cells []string, w *mapping.Wanted) {
		cells = []string{"", "Ñandú", "\x00\xff", strings.Repeat("ж", row%3000)}
		w = &mapping.Wanted{Row: row, Values: []account.Value{{}, account.Blank(), account.Of(cells[3])}, ByFallback: []bool{false, false, row%2 == 0}}
		switch row % 5 {
		case 1:
			w.Aside, w.Findings = true, []account.Finding{{Row: row, Level: account.Error, Code: account.NotWanted, Message: "“x”"}}
		case 2:
			w.Base, w.Others, w.Spoken = "kai", []string{"kai2"}, []bool{false, true}
			w.Ties, w.Kinds = []mapping.Tie{{Of: 1, Name: "Night watch", Role: "lead"}}, []sheet.CellKind{sheet.Plain, sheet.Dated}
		case 3:
			w.Password, w.Pattern, w.Weak, w.NeedsKeysOnly = "given:sealed", "9", "short", true
			w.Said = map[int]account.Value{2: account.Of("Mei"), 0: {}}
		}
		return cells, w
	}
	scratch := func() (Scratch, error) { return os.Create(filepath.Join(t.TempDir(), "rows")) }
	for _, c := range []struct {
		name string
		rows int
		open func() (Scratch, error)
		file bool
	}{{"none", 0, scratch, false}, {"few", 50, scratch, false}, {"many", 2500, scratch, true}, {"many in memory", 2500, nil, false}} {
		t.Run(c.name, func(t *testing.T) {
			s := &spool{open: c.open}
			for row := 1; row <= c.rows; row++ {
				require.NoError(t, s.add(odd(row)))
			}
			require.NoError(t, s.end())
			assert.Equal(t, c.file, s.scratch != nil)
			for range 2 { // it can be read again
				read := s.read()
				for row := 1; row <= c.rows; row++ {
					got, err := read.next()
					require.NoError(t, err)
					cells, w := odd(row)
					w.Cells = cells
					require.Equal(t, w, got)
				}
				_, err := read.next()
				require.ErrorIs(t, err, io.EOF)
			}
			require.NoError(t, s.Close())
		})
	}

	t.Run("a row with anything else is not plain", func(t *testing.T) {
		of := reflect.TypeFor[mapping.Wanted]()
		for i := range of.NumField() {
			if of.Field(i).Tag.Get("json") == "-" {
				continue
			}
			w := reflect.New(of)
			switch f := w.Elem().Field(i); f.Kind() {
			case reflect.Bool:
				f.SetBool(true)
			case reflect.String:
				f.SetString("x")
			case reflect.Slice:
				f.Set(reflect.MakeSlice(f.Type(), 1, 1))
			case reflect.Map:
				f.Set(reflect.MakeMap(f.Type()))
				f.SetMapIndex(reflect.Zero(f.Type().Key()), reflect.Zero(f.Type().Elem()))
			}
			assert.False(t, isPlain(w.Interface().(*mapping.Wanted)), of.Field(i).Name)
		}
		assert.True(t, isPlain(&mapping.Wanted{Row: 2, Values: []account.Value{account.Of("x")}, Cells: []string{"x"}}))
	})

	t.Run("no room", func(t *testing.T) {
		s := &spool{open: func() (Scratch, error) {
			file, err := os.Create(filepath.Join(t.TempDir(), "rows"))
			return &full{file, 2 * spoolBytes}, err
		}}
		var err error
		for row := 1; row < 10_000 && err == nil; row++ {
			err = s.add(odd(row))
		}
		assert.ErrorContains(t, err, "no space left")
		require.NoError(t, s.Close())
		s = &spool{open: func() (Scratch, error) { return nil, os.ErrPermission }}
		for err = nil; err == nil; {
			err = s.add(odd(2999))
		}
		assert.ErrorIs(t, err, os.ErrPermission)
		assert.NoError(t, s.Close())
	})

	t.Run("broken", func(t *testing.T) {
		s := &spool{}
		require.NoError(t, s.add(odd(2998)))
		for _, held := range []string{string(s.held[:len(s.held)-1]), "", "\xff", "\xff\xff\xff\xff\xff\xff\xff\xff\x7fa", "\x05\x01\x7fabc", "\x03\x01\x00\x7f", "\x05\x01\x00\x00{]"} {
			s.held = []byte(held)
			_, err := s.read().next()
			assert.ErrorContains(t, err, "cannot be read again", "%.5q", held)
			assert.NotErrorIs(t, err, io.EOF, "a row that is missing is not the end")
		}
	})
}
