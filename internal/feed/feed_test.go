package feed_test

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/clock"
	"evenledger/internal/feed"
	"evenledger/internal/reach"
)

var noon = time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC)

// Of several files the newest is meant; one older than what was taken is none, and one of tomorrow does not make all
// that come later older.
func TestNewest(t *testing.T) {
	at := func(name string, hours int) feed.Candidate {
		return feed.Candidate{Name: name, Modified: noon.Add(time.Duration(hours) * time.Hour), Regular: true}
	}
	taken := func(name string, hours int) feed.Last {
		return feed.Last{Delivery: feed.Delivery{Name: name, Modified: noon.Add(time.Duration(hours) * time.Hour), Brought: noon.Add(-time.Minute)}}
	}
	folder := feed.Candidate{Name: "z.csv", Modified: noon}
	for name, c := range map[string]struct {
		files []feed.Candidate
		last  feed.Last
		want  string // empty: nothing
		same  bool
	}{
		"the newest":                  {[]feed.Candidate{at("b.csv", -2), at("a.csv", -1), at("c.txt", 0), at(".d.csv", 0), folder}, feed.Last{}, "a.csv", false},
		"of one moment the last name": {[]feed.Candidate{at("a.csv", -1), at("b.csv", -1)}, feed.Last{}, "b.csv", false},
		"older than what was taken":   {[]feed.Candidate{at("a.csv", -3)}, taken("b.csv", -2), "", true},
		"asked for again":             {[]feed.Candidate{at("a.csv", -3)}, feed.Last{Delivery: taken("b.csv", -2).Delivery, Again: true}, "a.csv", false},
		"of tomorrow":                 {[]feed.Candidate{at("a.csv", 24), at("b.csv", -1)}, feed.Last{}, "a.csv", false},
		"after one of tomorrow":       {[]feed.Candidate{at("a.csv", 24), at("b.csv", 0)}, taken("a.csv", 24), "b.csv", false},
		"none":                        {nil, feed.Last{}, "", false},
	} {
		got, err := feed.Newest("*.csv", "in", c.files, c.last, noon)
		var nothing *feed.Nothing
		if c.want == "" {
			require.ErrorAs(t, err, &nothing, name)
			assert.Equal(t, c.same, nothing.Same, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.want, got.Name, name)
	}
	_, err := feed.Newest("[", "in", []feed.Candidate{at("a", 0)}, feed.Last{}, noon)
	assert.Error(t, err)
}

// What is brought lies in a private file, whatever it is called, and what is too much is told.
func TestSpool(t *testing.T) {
	beneath := filepath.Join(t.TempDir(), "ledger.spool")
	for name, want := range map[string]string{"a.csv": "a.csv", "../../etc/passwd": "passwd", "x\ny\\z.csv": "x_y_z.csv", "": "sheet", "..": "sheet", strings.Repeat("n", 300): "sheet"} {
		s, err := feed.NewSpool(beneath, 10)
		require.NoError(t, err)
		file, err := s.Create(name)
		require.NoError(t, err)
		_, err = file.Write([]byte("12345"))
		require.NoError(t, err)
		d, err := file.Delivery()
		require.NoError(t, err)
		assert.Equal(t, want, d.Name, name)
		stat, err := os.Stat(d.Path)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), stat.Mode().Perm())
		assert.Equal(t, "5994471abb01112afcc18159f6cc74b4f511b99806da59b3caf5a9c173cacfc5", d.Sum)
		require.NoError(t, feed.Sweep(beneath), "what is in use is left alone")
		assert.FileExists(t, d.Path)
		more, err := s.Create("more.csv")
		require.NoError(t, err)
		_, err = io.Copy(more, strings.NewReader("12345678901"))
		var much *reach.Unavailable
		require.ErrorAs(t, err, &much)
		assert.Contains(t, much.Message, "more than 10 bytes")
		require.NoError(t, s.Close())
	}
	assert.NoDirExists(t, beneath, "nothing is left")
}

// A file that grows while it is read is not whole.
func TestSettled(t *testing.T) {
	sizes := []int64{5, 6}
	s, err := feed.NewSpool(filepath.Join(t.TempDir(), "spool"), 0)
	require.NoError(t, err)
	defer s.Close()
	read := func(sizes []int64) (feed.Delivery, error) {
		n := 0
		return feed.Settled(t.Context(), s, fmt.Sprint(sizes), feed.Work{Clock: clock.NewFake(noon)}, func() (int64, time.Time, error) {
			n++
			return sizes[n-1], noon.Add(-time.Hour), nil
		}, func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("12345")), nil })
	}
	_, err = read(sizes)
	var nothing *feed.Nothing
	require.ErrorAs(t, err, &nothing)
	assert.Contains(t, nothing.Message, "still being written")
	d, err := read([]int64{5, 5})
	require.NoError(t, err)
	assert.Equal(t, noon.Add(-time.Hour), d.Modified)
}

func TestAside(t *testing.T) {
	there := map[string]bool{"a.csv": true, "a-20270301-1.csv": true}
	name, err := feed.Aside("a.csv", noon, func(name string) error {
		if there[name] {
			return nil
		}
		return os.ErrNotExist
	})
	require.NoError(t, err)
	assert.Equal(t, "a-20270301-2.csv", name)
	away := errors.New("the line broke")
	_, err = feed.Aside("a.csv", noon, func(string) error { return away })
	assert.ErrorIs(t, err, away, "it is not asked for ever")
}

// What only the post knows is put where it belongs, and nowhere else.
func TestGive(t *testing.T) {
	o := feed.Order{Values: map[string]string{"login": "ana"}, Body: map[string]string{"who": "‹id›", "text": "of ‹id› and {id}"}}
	o.Give("id", "‹id›", "u-7")
	assert.Equal(t, map[string]string{"login": "ana", "id": "u-7"}, o.Values)
	assert.Equal(t, map[string]string{"who": "u-7", "text": "of u-7 and {id}"}, o.Body)
}
