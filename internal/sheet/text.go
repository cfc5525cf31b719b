package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	letters "unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"evenledger/internal/words"
)

// A textReader turns the bytes of a file into UTF-8 with line feeds.
//
// A file that begins as plain ASCII may turn out, a million rows below, to be in
// some encoding of one byte a letter: the first byte that is no UTF-8 shows it, as
// everything before reads the same in all of them. Which one it is nobody says, so
// the words of the next part of the file decide, by the letters that languages write names
// with, and it is told as a guess with the words for which it matters; where they fit two
// encodings about as well, that is told as a doubt. If proper UTF-8 beyond ASCII came first,
// the byte is damage and becomes U+FFFD, which is told at its row.
type textReader struct {
	src      io.Reader
	encoding string
	certain  Certainty
	wide     bool // UTF-8 beyond ASCII was seen
	macLines bool // lines end in a lone carriage return
	buf      []byte
	carry    []byte // the beginning of a character cut in two
	out      []byte // decoded, not yet handed out
	err      error

	line    int // of what was read
	guesses []Guess
}

// newTextReader reads text in the encoding of that name, or in the one that it looks
// like. A byte order mark counts for more.
func newTextReader(src io.Reader, sample []byte, named string) (*textReader, error) {
	t := &textReader{src: src, encoding: "UTF-8", buf: make([]byte, 32<<10), line: 1}
	switch {
	case bytes.HasPrefix(sample, []byte("\xef\xbb\xbf")):
		if _, err := io.CopyN(io.Discard, src, 3); err != nil {
			t.err = err
		}
	case bytes.HasPrefix(sample, []byte("\xff\xfe")):
		t.utf16(unicode.LittleEndian, "UTF-16LE")
	case bytes.HasPrefix(sample, []byte("\xfe\xff")):
		t.utf16(unicode.BigEndian, "UTF-16BE")
	case named != "":
		if err := t.named(named, sample); err != nil {
			return nil, err
		}
	case zeros(sample, 1) > len(sample)/8:
		t.utf16(unicode.LittleEndian, "UTF-16LE")
	case zeros(sample, 0) > len(sample)/8:
		t.utf16(unicode.BigEndian, "UTF-16BE")
	}
	if !strings.HasPrefix(t.encoding, "UTF-16") {
		t.macLines = bytes.IndexByte(sample, '\n') < 0 && bytes.IndexByte(sample, '\r') >= 0
	}
	return t, nil
}

// KnowsEncoding reports whether there is an encoding of that name.
func KnowsEncoding(name string) bool {
	_, _, err := FindEncoding(name)
	return err == nil
}

var errUnknownEncoding = errors.New("there is no such encoding")

// named decodes by the encoding of that name.
func (t *textReader) named(name string, sample []byte) error {
	encoding, as, err := FindEncoding(name)
	if err != nil {
		return fmt.Errorf("cannot be read in the encoding “%s”, which nobody knows", name)
	}
	t.encoding = as
	if t.encoding == "utf-8" {
		t.encoding, t.wide = "UTF-8", true // what is no UTF-8 is damage
		return nil
	}
	if whole := sample[:len(sample)-min(len(sample), utf8.UTFMax)]; len(whole) > 0 && !isASCII(whole) && utf8.Valid(sample[:lastRune(sample)]) {
		return fmt.Errorf("is to be read as %s, and is in UTF-8", t.encoding)
	}
	t.src = transform.NewReader(t.src, encoding.NewDecoder())
	return nil
}

// lastRune is the length of what comes before a character that is cut in two.
func lastRune(sample []byte) int {
	for n := len(sample); n > 0 && n > len(sample)-utf8.UTFMax; n-- {
		if utf8.RuneStart(sample[n-1]) {
			if utf8.FullRune(sample[n-1:]) {
				return len(sample)
			}
			return n - 1
		}
	}
	return len(sample)
}

func (t *textReader) describe(info *Info) {
	info.Encoding, info.Guessed, info.Doubted = t.encoding, t.guesses, t.certain == Doubted
}

func (t *textReader) utf16(order unicode.Endianness, name string) {
	t.encoding, t.wide = name, true
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
	if t.certain != Told {
		t.out = data
	} else {
		t.out = t.utf8(data, errors.Is(err, io.EOF))
	}
	if t.macLines {
		t.out = bytes.ReplaceAll(t.out, []byte("\r"), []byte("\n"))
	}
}

// utf8 passes on what is UTF-8, in time that grows with its length alone.
func (t *textReader) utf8(data []byte, last bool) []byte {
	bad := firstBad(data)
	if !t.wide && !isASCII(data[:bad]) {
		t.wide = true
	}
	if bad == len(data) {
		t.line += bytes.Count(data, []byte("\n"))
		return data
	}
	out := make([]byte, 0, len(data)+len(data)/2)
	for {
		out = append(out, data[:bad]...)
		t.line += bytes.Count(data[:bad], []byte("\n"))
		data = data[bad:]
		switch {
		case len(data) == 0:
			return out
		case !last && !utf8.FullRune(data):
			t.carry = bytes.Clone(data)
			return out
		case !t.wide:
			word := len(out) // that has the letter
			for word > 0 && isPlainLetter(rune(out[word-1])) {
				word--
			}
			t.guess(append(bytes.Clone(out[word:]), data...))
			return out[:word]
		}
		out, data = append(out, "\uFFFD"...), data[1:]
		bad = firstBad(data)
	}
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

func isPlainLetter(r rune) bool { return 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' }

// mostGuesses is how many words are told for which the encoding matters.
const mostGuesses = 4

// lookAhead is how much of a file is read to find out its encoding.
const lookAhead = 1 << 20

// guess settles in which encoding the rest of the file is, of which data has been read.
func (t *textReader) guess(data []byte) {
	ahead := bytes.NewBuffer(data)
	_, err := io.CopyN(ahead, t.src, lookAhead)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	words, lines := strangeWords(ahead.Bytes(), t.line)
	found := readings(words)
	best := found[0]
	t.encoding, t.certain = best.name, Guessed
	if isInDoubt(found) {
		t.certain = Doubted
	}
	for i, word := range best.words {
		if len(t.guesses) < mostGuesses {
			t.note(Guess{Line: lines[i], Word: word}, i, found[1:])
		}
	}
	rest := io.MultiReader(ahead, t.src)
	if err != nil {
		rest = io.MultiReader(ahead, failing{err})
	}
	t.src, t.err = transform.NewReader(rest, best.codec.NewDecoder()), nil
}

// note keeps a word beyond ASCII as it reads now and as it would in other encodings where it would
// be letters only, the likeliest first.
func (t *textReader) note(g Guess, i int, others []reading) {
	if slices.ContainsFunc(t.guesses, func(had Guess) bool { return had.Word == g.Word }) {
		return
	}
	had := map[string]bool{g.Word: true}
	for _, other := range others {
		text := other.words[i]
		if had[text] || isMixed(text) || strings.ContainsFunc(text, func(r rune) bool { return r == utf8.RuneError || !letters.IsLetter(r) }) {
			continue
		}
		had[text] = true
		g.Others = append(g.Others, text+" ("+other.name+")")
	}
	t.guesses = append(t.guesses, g)
}

// A failing is a source that ends with an error.
type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

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
	case ':':
		return "colon"
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
