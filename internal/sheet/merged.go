package sheet

import (
	"bytes"
	"errors"
	"io"
	"regexp"
	"slices"
	"strconv"
)

// A merge is a larger cell made of several: columns and rows from and to, columns
// from 0.
type merge struct{ left, right, top, bottom int }

// merges are those of a tab, by their first row.
type merges struct {
	list   []merge
	active []merge // of list, those that reach the row at hand
	next   int     // of list
}

// mostMerges bounds how many merged cells are looked at.
const mostMerges = 200000

func newMerges(list []merge) merges {
	slices.SortFunc(list, func(a, b merge) int { return a.top - b.top })
	return merges{list: slices.Compact(list)}
}

// in lists the columns of a row whose cells are part of a merged one that begins in
// another cell. Rows are asked for in their order.
func (m *merges) in(row int) (columns []int) {
	for ; m.next < len(m.list) && m.list[m.next].top <= row; m.next++ {
		m.active = append(m.active, m.list[m.next])
	}
	m.active, columns = covered(m.active, row)
	return columns
}

// covered drops the merged cells that end above a row, and lists the columns of it
// that the others cover. Merged cells don't overlap, so what goes beyond the columns of
// a sheet is a file made to take time, and is not looked at.
func covered(active []merge, row int) (left []merge, columns []int) {
	active = slices.DeleteFunc(active, func(c merge) bool { return c.bottom < row })
	active = active[:min(len(active), MaxColumns)]
	for _, c := range active {
		for column := c.left; column <= c.right && column < MaxColumns && len(columns) < MaxColumns; column++ {
			if column > c.left || row > c.top {
				columns = append(columns, column)
			}
		}
	}
	return active, columns
}

// headings lists the headings that stretch over columns to their right.
func (m *merges) headings(headings []string, row int) (stretched []string) {
	for _, c := range m.list {
		if c.top <= row && row <= c.bottom && c.left < c.right && c.left < len(headings) && !slices.Contains(stretched, headings[c.left]) {
			stretched = append(stretched, headings[c.left])
		}
	}
	return stretched
}

var (
	mergeTag  = []byte("mergeCell ")
	mergeArea = regexp.MustCompile(`^[^>]*?ref="([A-Z]{1,3})([0-9]{1,7}):([A-Z]{1,3})([0-9]{1,7})"`)
)

// findMerged finds what is merged in the tab. It stands below the rows, so the part
// is gone through for it; looking for the tags in its text is many times faster than
// reading it as XML.
func (s *xlsxSource) findMerged() (merges, error) {
	r, err := s.p.open(s.part)
	if err != nil {
		return merges{}, err
	}
	var list []merge
	buf := make([]byte, 0, sampleSize)
	const longest = 200 // of such a tag
	for len(list) < mostMerges {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		last := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !last {
			return merges{}, s.p.broken(err)
		}
		rest := buf
		for {
			at := bytes.Index(rest, mergeTag)
			if at < 0 {
				rest = rest[max(0, len(rest)-len(mergeTag)):]
				break
			}
			if rest = rest[at:]; len(rest) < longest && !last {
				break
			}
			if found := mergeArea.FindSubmatch(rest[:min(len(rest), longest)]); found != nil {
				left, _ := columnNumber(append(bytes.Clone(found[1]), '1'))
				right, _ := columnNumber(append(bytes.Clone(found[3]), '1'))
				top, _ := strconv.Atoi(string(found[2])) // the expression saw to it
				bottom, _ := strconv.Atoi(string(found[4]))
				list = append(list, merge{left, right, top, bottom})
			}
			rest = rest[len(mergeTag):]
		}
		buf = append(buf[:0], rest...)
		if last {
			break
		}
	}
	return newMerges(list), nil
}

// readOut reads a part to its end, so that what is damaged or cut off behind the
// rows is noticed too: the archive has a checksum.
func (p parts) readOut(r io.Reader) error {
	if _, err := io.Copy(io.Discard, r); err != nil {
		return p.broken(err)
	}
	return io.EOF
}
