package secret

import (
	"encoding/base64"
	"encoding/hex"
	"html"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"
)

// hidden stands where a secret stood.
const hidden = "(hidden)"

// shortestHidden is the shortest secret that is looked for: a shorter one would
// take apart any text.
const shortestHidden = 3

// A Mask takes secrets out of texts that others wrote, such as what a server
// answers. It looks for them in the text as it is, and as it reads once it is
// decoded: from JSON, percent-encoding, HTML, base64 and hexadecimal, one within
// the other. It may be used by several goroutines; the nil Mask hides nothing.
type Mask struct {
	mu       sync.RWMutex
	secrets  map[int]*ofLength // by length, so that a text is looked through once for each
	shortest int               // of the lengths; 0: there is none
}

// ofLength are the secrets of one length, and with which bytes they begin.
type ofLength struct {
	all    map[string]bool
	begins [256]bool
}

// NewMask returns a mask of these secrets.
func NewMask(secrets ...string) *Mask {
	m := &Mask{secrets: map[int]*ofLength{}}
	for _, s := range secrets {
		m.Add(s)
	}
	return m
}

// Add has a secret hidden from now on.
func (m *Mask) Add(secret string) {
	if m == nil || len(secret) < shortestHidden {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, s := range []string{secret, strings.ReplaceAll(secret, " ", "+")} { // as forms have it
		same := m.secrets[len(s)]
		if same == nil {
			same = &ofLength{all: map[string]bool{}}
			m.secrets[len(s)] = same
		}
		same.all[s], same.begins[s[0]] = true, true
		if m.shortest == 0 || len(s) < m.shortest {
			m.shortest = len(s)
		}
	}
}

// A span is where something stands in a text: from one byte up to another.
type span struct{ from, to int }

// A reading is a text as it reads, with where in the text itself each byte of it comes from.
type reading struct {
	text string
	from []span // nil: it is the text itself
}

// at is where the byte comes from.
func (r reading) at(i int) span {
	if r.from == nil {
		return span{i, i + 1}
	}
	return r.from[i]
}

// layers is how many codings that lie one within the other are taken off.
const layers = 3

// Hide returns a text without the secrets.
func (m *Mask) Hide(text string) string {
	if m == nil || len(text) < shortestHidden {
		return text
	}
	m.mu.RLock()
	defer m.mu.RUnlock()
	if len(m.secrets) == 0 {
		return text
	}
	var found []span
	seen := map[string]bool{text: true}
	for layer, readings := 0, []reading{{text: text}}; len(readings) > 0; layer++ {
		var decoded []reading
		for _, r := range readings {
			found = m.findDense(m.find(found, r), r)
			for _, by := range []struct {
				sign   byte // with which each escape begins
				escape func(string) (string, int)
			}{{'\\', jsonEscape}, {'%', percentEscape}, {'&', htmlEscape}} {
				if layer == layers || strings.IndexByte(r.text, by.sign) < 0 {
					continue
				}
				if in := unescaped(r, by.escape); !seen[in.text] {
					seen[in.text] = true
					decoded = append(decoded, in)
				}
			}
		}
		readings = decoded
	}
	return without(text, found)
}

// longestTold is how much of what others said is kept or shown, in bytes.
const longestTold = 2 << 10

// Told returns what others said as it may be kept and shown: without the secrets, and cut where it has
// no end.
func (m *Mask) Told(text string) string {
	if text = m.Hide(text); len(text) <= longestTold {
		return text
	}
	end := longestTold
	for !utf8.RuneStart(text[end]) {
		end--
	}
	return text[:end] + "…"
}

// find adds where the secrets are in what a text reads.
func (m *Mask) find(found []span, r reading) []span {
	for length, secrets := range m.secrets {
		for i := 0; i+length <= len(r.text); i++ {
			if secrets.begins[r.text[i]] && secrets.all[r.text[i:i+length]] {
				found = append(found, span{r.at(i).from, r.at(i + length - 1).to})
			}
		}
	}
	return found
}

// findDense adds where the secrets are in runs of base64 and of hexadecimal digits. They may begin anywhere
// within what was coded.
func (m *Mask) findDense(found []span, r reading) []span {
	for _, of := range []struct {
		is     func(byte) bool
		group  int // characters that are decoded together
		gives  int // bytes that they come to
		decode func(string) []byte
	}{
		{isBase64, 4, 3, fromBase64},
		{isHex, 2, 1, func(run string) []byte { data, _ := hex.DecodeString(run); return data }},
	} {
		for i := 0; i < len(r.text); {
			if !of.is(r.text[i]) {
				i++
				continue
			}
			end := i
			for end < len(r.text) && of.is(r.text[end]) {
				end++
			}
			for from := i; from < i+of.group && (end-from)*of.gives >= m.shortest*of.group; from++ {
				run := r.text[from:end]
				if of.gives == 1 {
					run = run[:len(run)/2*2]
				}
				data := string(of.decode(run))
				if len(data) < m.shortest {
					continue // it is none
				}
				inner := reading{data, make([]span, len(data))}
				for k := range len(data) {
					first, last := from+k*of.group/of.gives, min(from+(k+1)*of.group/of.gives, end-1)
					if of.gives == 1 {
						last = first + 1
					}
					inner.from[k] = span{r.at(first).from, r.at(last).to}
				}
				found = m.find(found, inner)
			}
			i = end
		}
	}
	return found
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}
func isBase64(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '+' || c == '/' || c == '-' || c == '_'
}

// fromBase64 decodes as much of a run as can be, of either alphabet.
func fromBase64(run string) []byte {
	if len(run)%4 == 1 {
		run = run[:len(run)-1]
	}
	if strings.ContainsAny(run, "-_") { // of the other alphabet, or of both
		run = strings.ReplaceAll(strings.ReplaceAll(run, "-", "+"), "_", "/")
	}
	data, err := base64.RawStdEncoding.DecodeString(run)
	if err != nil {
		return nil
	}
	return data
}

// unescaped takes one layer of escapes off. Escape returns what one stands for with which a text begins,
// and its length; 0: it begins with none.
func unescaped(r reading, escape func(string) (plain string, n int)) (decoded reading) {
	var text strings.Builder
	decoded.from = make([]span, 0, len(r.text))
	for i := 0; i < len(r.text); {
		plain, n := escape(r.text[i:])
		if n == 0 {
			plain, n = r.text[i:i+1], 1
		}
		for range len(plain) {
			decoded.from = append(decoded.from, span{r.at(i).from, r.at(i + n - 1).to})
		}
		text.WriteString(plain)
		i += n
	}
	decoded.text = text.String()
	return decoded
}

func percentEscape(text string) (plain string, n int) {
	if len(text) < 3 || text[0] != '%' {
		return "", 0
	}
	c, err := strconv.ParseUint(text[1:3], 16, 8)
	if err != nil {
		return "", 0
	}
	return string([]byte{byte(c)}), 3
}

// longestEntity is that of HTML's names of characters that is looked for.
const longestEntity = 12

func htmlEscape(text string) (plain string, n int) {
	if text[0] != '&' {
		return "", 0
	}
	end := strings.IndexByte(text[:min(len(text), longestEntity)], ';')
	if end < 0 {
		return "", 0
	}
	if plain = html.UnescapeString(text[:end+1]); plain == text[:end+1] {
		return "", 0
	}
	return plain, end + 1
}

func jsonEscape(text string) (plain string, n int) {
	if len(text) < 2 || text[0] != '\\' {
		return "", 0
	}
	if text[1] == 'u' {
		return unicodeEscape(text)
	}
	if at := strings.IndexByte(`"\/bfnrt'`, text[1]); at >= 0 {
		return "\"\\/\b\f\n\r\t'"[at : at+1], 2
	}
	return "", 0
}

// unicodeEscape reads \uXXXX, and two of them where a character takes two.
func unicodeEscape(text string) (plain string, n int) {
	unit := func(text string) (rune, bool) {
		if len(text) < 6 || text[:2] != `\u` {
			return 0, false
		}
		c, err := strconv.ParseUint(text[2:6], 16, 16)
		return rune(c), err == nil
	}
	first, ok := unit(text)
	if !ok {
		return "", 0
	}
	if second, ok := unit(text[6:]); ok && utf16.IsSurrogate(first) {
		if both := utf16.DecodeRune(first, second); both != utf8.RuneError {
			return string(both), 12
		}
	}
	return string(first), 6
}

// without puts a mark in the place of each span.
func without(text string, found []span) string {
	if len(found) == 0 {
		return text
	}
	slices.SortFunc(found, func(a, b span) int { return a.from - b.from })
	var out strings.Builder
	done := 0
	for i := 0; i < len(found); {
		at := found[i]
		for i++; i < len(found) && found[i].from < at.to; i++ { // what overlaps is one
			at.to = max(at.to, found[i].to)
		}
		out.WriteString(text[done:at.from])
		out.WriteString(hidden)
		done = at.to
	}
	out.WriteString(text[done:])
	return out.String()
}
