package sheet

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"evenledger/internal/words"
)

// A textReader turns the bytes of a file into UTF-8 with line feeds.
//
// A file that begins as plain ASCII may turn out, a million rows below, to be
// Windows-1252: the first byte that is no UTF-8 settles it, as everything before
// reads the same in both. If proper UTF-8 beyond ASCII came first, the byte is
// damage and becomes U+FFFD, which is told at its row.
type textReader struct {
	src      io.Reader
	encoding string
	wide     bool // UTF-8 beyond ASCII was seen
	macLines bool // lines end in a lone carriage return
	buf      []byte
	carry    []byte // the beginning of a character cut in two
	out      []byte // decoded, not yet handed out
	err      error
}

func newTextReader(src io.Reader, sample []byte) *textReader {
	t := &textReader{src: src, encoding: "UTF-8", buf: make([]byte, 32<<10)}
	switch {
	case bytes.HasPrefix(sample, []byte("\xef\xbb\xbf")):
		if _, err := io.CopyN(io.Discard, src, 3); err != nil {
			t.err = err
		}
	case bytes.HasPrefix(sample, []byte("\xff\xfe")):
		t.utf16(unicode.LittleEndian, "UTF-16LE")
	case bytes.HasPrefix(sample, []byte("\xfe\xff")):
		t.utf16(unicode.BigEndian, "UTF-16BE")
	case zeros(sample, 1) > len(sample)/8:
		t.utf16(unicode.LittleEndian, "UTF-16LE")
	case zeros(sample, 0) > len(sample)/8:
		t.utf16(unicode.BigEndian, "UTF-16BE")
	}
	if t.encoding == "UTF-8" {
		t.macLines = bytes.IndexByte(sample, '\n') < 0 && bytes.IndexByte(sample, '\r') >= 0
	}
	return t
}

func (t *textReader) utf16(order unicode.Endianness, name string) {
	t.encoding = name
	t.src = transform.NewReader(t.src, unicode.UTF16(order, unicode.UseBOM).NewDecoder())
}

// zeros counts zero bytes at even (0) or odd (1) places.
func zeros(sample []byte, at int) int {
	n := 0
	for ; at < len(sample); at += 2 {
		if sample[at] == 0 {
			n++
		}
	}
	return n
}

// isBinary reports zero bytes in what is not UTF-16.
func isBinary(sample []byte) bool {
	if bytes.HasPrefix(sample, []byte("\xff\xfe")) || bytes.HasPrefix(sample, []byte("\xfe\xff")) {
		return false
	}
	even, odd := zeros(sample, 0), zeros(sample, 1)
	if even+odd == 0 {
		return false
	}
	// Text in UTF-16 has its zeros all on one side.
	return min(even, odd) > 0 || max(even, odd) <= len(sample)/8
}

func (t *textReader) Read(p []byte) (int, error) {
	for len(t.out) == 0 {
		if t.err != nil {
			return 0, t.err
		}
		t.fill()
	}
	n := copy(p, t.out)
	t.out = t.out[n:]
	return n, nil
}

// fill decodes the next piece of the file into out.
func (t *textReader) fill() {
	kept := copy(t.buf, t.carry)
	t.carry = nil
	n, err := t.src.Read(t.buf[kept:])
	data := t.buf[:kept+n]
	if err != nil {
		t.err = err
	}
	if t.encoding == "Windows-1252" {
		t.out = decode1252(data)
	} else {
		t.out = t.utf8(data, errors.Is(err, io.EOF))
	}
	if t.macLines {
		t.out = bytes.ReplaceAll(t.out, []byte("\r"), []byte("\n"))
	}
}

func (t *textReader) utf8(data []byte, last bool) []byte {
	from := 0
	for from < len(data) {
		bad := firstBad(data[from:])
		if !t.wide && !isASCII(data[from:from+bad]) {
			t.wide = true
		}
		from += bad
		switch {
		case from == len(data):
		case !last && !utf8.FullRune(data[from:]):
			t.carry = append([]byte(nil), data[from:]...)
			return data[:from]
		case !t.wide && t.encoding == "UTF-8":
			t.encoding = "Windows-1252"
			return append(data[:from:from], decode1252(data[from:])...)
		default:
			data = append(data[:from:from], append([]byte("\uFFFD"), data[from+1:]...)...)
			from += len("\uFFFD")
		}
	}
	return data
}

// firstBad returns the place of the first byte that is no UTF-8, or the length.
func firstBad(data []byte) int {
	if utf8.Valid(data) {
		return len(data)
	}
	for i := 0; i < len(data); {
		r, size := utf8.DecodeRune(data[i:])
		if r == utf8.RuneError && size <= 1 {
			return i
		}
		i += size
	}
	return len(data)
}

func isASCII(data []byte) bool {
	for _, c := range data {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

func decode1252(data []byte) []byte {
	out := make([]byte, 0, len(data)+len(data)/8)
	for _, c := range data {
		out = utf8.AppendRune(out, charmap.Windows1252.DecodeByte(c))
	}
	return out
}

// separators are the ones looked for, most usual first.
const separators = ",;\t|"

func separatorName(comma rune) string {
	switch comma {
	case ';':
		return "semicolon"
	case '\t':
		return "tab"
	case '|':
		return "pipe"
	}
	return "comma"
}

// separatorNamed is the inverse of separatorName.
func separatorNamed(name string) rune {
	for _, comma := range separators {
		if separatorName(comma) == name {
			return comma
		}
	}
	return ','
}

// declaredSeparator reads a first line such as "sep=;", which spreadsheet
// programs write for each other and do not count as a row.
func declaredSeparator(start []byte) (comma rune, length int, ok bool) {
	line, _, found := bytes.Cut(start, []byte("\n"))
	text := strings.TrimSuffix(string(line), "\r")
	if !found || len(text) != 5 || !strings.EqualFold(text[:4], "sep=") || !strings.Contains(separators, text[4:]) {
		return 0, 0, false
	}
	return rune(text[4]), len(line) + 1, true
}

// headingSeparator returns the separator that cuts one of the first lines into
// the most known headings, if into two at least.
func headingSeparator(start []byte, known func(heading string) bool) (comma rune, ok bool) {
	if known == nil {
		return 0, false
	}
	most, lines := 1, 0
	for line := range bytes.Lines(start) {
		if lines++; lines > headingDepth {
			break
		}
		for _, candidate := range separators {
			if bytes.IndexByte(line, byte(candidate)) < 0 {
				continue
			}
			n := 0
			for cell := range strings.SplitSeq(string(line), string(candidate)) {
				if clean, _ := words.Clean(strings.Trim(strings.TrimSpace(cell), `"`)); clean != "" && known(clean) {
					n++
				}
			}
			if n > most {
				comma, most, ok = candidate, n, true
			}
		}
	}
	return comma, ok
}

// findSeparator picks the separator that cuts the first lines most evenly: the
// one that stands equally often in the most lines. Commas in decimal numbers may
// be more, but they are not in the headings. Among equals it is the one that the
// first line has, then the one that makes more cells.
func findSeparator(start []byte) rune {
	type fit struct {
		lines int // with the same number of separators
		first bool
		cells int
	}
	better := func(a, b fit) bool {
		switch {
		case a.lines != b.lines:
			return a.lines > b.lines
		case a.first != b.first:
			return a.first
		}
		return a.cells > b.cells
	}
	best, bestFit := ',', fit{}
	for _, comma := range separators {
		counts := countPerLine(start, comma)
		times := map[int]int{} // separators in a line → lines
		for _, n := range counts {
			times[n]++
		}
		for n, lines := range times {
			if f := (fit{lines, len(counts) > 0 && counts[0] > 0, n}); n > 0 && better(f, bestFit) {
				best, bestFit = comma, f
			}
		}
	}
	return best
}

// countPerLine counts a separator outside quotes in each of the first lines that
// are not empty.
func countPerLine(start []byte, comma rune) []int {
	var counts []int
	inQuotes, n, length := false, 0, 0
	for _, c := range string(start) {
		length++
		switch {
		case c == '"':
			inQuotes = !inQuotes
		case c == comma && !inQuotes:
			n++
		case c == '\n' && !inQuotes:
			if length > 1 {
				counts = append(counts, n)
			}
			n, length = 0, 0
		}
		if len(counts) == headingDepth {
			return counts
		}
	}
	if length > 0 {
		counts = append(counts, n)
	}
	return counts
}
