package sheet

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// cards is a format at its least: a card of “Heading: value” lines for each person, a blank line between two.
func cards() format {
	return format{
		Traits:  Traits{Name: "cards", Short: "cards", Named: true},
		endings: []string{".cards"},
		is:      func(start []byte, _ Options) bool { return bytes.HasPrefix(start, []byte("Staff no: ")) },
		read: func(in input, _ Options) (source, error) {
			in.info.Format, in.info.Headings = "cards", []string{"Staff no", "Surname"}
			return &cardSource{text: bufio.NewScanner(in.decoded), headings: in.info.Headings}, nil
		},
		write: func(w io.Writer, _ Form) (Writer, error) { return &cardWriter{w: w}, nil },
	}
}

type cardSource struct {
	text     *bufio.Scanner
	headings []string
	records  int
}

func (c *cardSource) describe(info *Info) { info.Read.Records = c.records }

func (c *cardSource) read() (r record, err error) {
	r.number, r.cells = c.records+1, make([]string, len(c.headings))
	some := false
	for c.text.Scan() && c.text.Text() != "" {
		heading, value, _ := strings.Cut(c.text.Text(), ": ")
		if at := slices.Index(c.headings, heading); at >= 0 {
			r.cells[at], some = value, true
		}
	}
	if !some {
		return r, io.EOF
	}
	c.records++
	return r, c.text.Err()
}

type cardWriter struct {
	w        io.Writer
	headings []string
}

func (c *cardWriter) Write(cells []string, _ ...Mark) error {
	if c.headings == nil {
		c.headings = slices.Clone(cells)
		return nil
	}
	for i, cell := range cells {
		if _, err := fmt.Fprintf(c.w, "%s: %s\n", c.headings[i], cell); err != nil {
			return err
		}
	}
	_, err := fmt.Fprintln(c.w)
	return err
}

func (*cardWriter) Close() error { return nil }

// A further format is a line of the table: it is told from others by how it begins, read row by row, and written by
// what a file's name ends in.
func TestFormatOfOnesOwn(t *testing.T) {
	all := append(formats{cards()}, known()...)
	var text bytes.Buffer
	w, err := all.writer(&text, "crew.cards", Form{})
	require.NoError(t, err)
	want := [][]string{{"0042", "Þórsdóttir"}, {"0043", "O'Dowd: the younger"}}
	for _, row := range append([][]string{{"Staff no", "Surname"}}, want...) {
		require.NoError(t, w.Write(row))
	}
	require.NoError(t, w.Close())

	for name, c := range map[string]struct {
		text string
		want [][]string
	}{"cards": {text.String(), want}, "CSV": {"Staff no,Surname\n0042,Bastos\n", [][]string{{"0042", "Bastos"}}}} {
		s, err := all.read("crew", strings.NewReader(c.text), Options{})
		require.NoError(t, err, name)
		var got [][]string
		for row, err := range s.Rows() {
			require.NoError(t, err, name)
			got = append(got, slices.Clone(row.Cells))
		}
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, name, s.Info().Format)
		assert.True(t, s.Info().Read.Even(), name)
	}
}
