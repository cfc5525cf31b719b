package sheet

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A markup reads the XML of a workbook's parts token by token: tags and the text between them, whose bytes are valid until
// the next. It takes what encoding/xml takes in its raw form, and nothing else, and makes nothing of what cells do not need:
// comments, instructions and declarations are passed over.
type markup struct {
	from io.Reader
	buf  []byte
	at   int   // of the next token in buf
	err  error // of from, once it has ended
	line int

	name  []byte // of a tag, without its prefix
	attrs []attr
	text  []byte // characters, decoded
	ends  bool   // the tag that was given is closed by itself
	plain []byte // where text is decoded
}

// An attr is an attribute of a tag.
type attr struct{ prefix, name, value []byte }

// A tokenKind says what a token is.
type tokenKind uint8

// The kinds of token.
const (
	startTag tokenKind = iota
	endTag
	characters
)

func newMarkup(from io.Reader) *markup {
	return &markup{from: from, buf: make([]byte, 0, sampleSize), line: 1}
}

func (m *markup) fail(format string, args ...any) error {
	return &xml.SyntaxError{Msg: fmt.Sprintf(format, args...), Line: m.line}
}

// fill reads more behind what is in buf, and reports whether there was any.
func (m *markup) fill() bool {
	if m.err != nil {
		return false
	}
	if m.at > 0 && (m.at == len(m.buf) || len(m.buf) == cap(m.buf)) {
		m.buf = m.buf[:copy(m.buf, m.buf[m.at:])]
		m.at = 0
	}
	if len(m.buf) == cap(m.buf) {
		m.buf = append(make([]byte, 0, 2*cap(m.buf)), m.buf...)
	}
	for range 100 {
		n, err := m.from.Read(m.buf[len(m.buf):cap(m.buf)])
		m.buf, m.err = m.buf[:len(m.buf)+n], err
		if n > 0 || err != nil {
			return n > 0
		}
	}
	m.err = io.ErrNoProgress
	return false
}

// upTo returns the place, from at on, behind which some bytes stand for the first time, reading more as is needed.
func (m *markup) upTo(mark string, skip int) (int, bool) {
	for seen := skip; ; {
		if i := bytes.Index(m.buf[m.at+seen:], []byte(mark)); i >= 0 {
			return seen + i, true
		}
		seen = max(skip, len(m.buf)-m.at-len(mark)+1)
		if !m.fill() {
			return 0, false
		}
	}
}

// has reports whether what comes next begins so.
func (m *markup) has(prefix string) bool {
	for len(m.buf)-m.at < len(prefix) {
		if !bytes.HasPrefix([]byte(prefix), m.buf[m.at:]) || !m.fill() {
			return false
		}
	}
	return bytes.HasPrefix(m.buf[m.at:], []byte(prefix))
}

func (m *markup) take(n int) []byte {
	taken := m.buf[m.at : m.at+n]
	m.at += n
	m.line += bytes.Count(taken, []byte("\n"))
	return taken
}

// ended is the error of a source that ends in the midst of something.
func (m *markup) ended() error {
	if m.err != nil && m.err != io.EOF {
		return m.err
	}
	return m.fail("unexpected EOF")
}

// next reads the next token, or io.EOF.
func (m *markup) next() (tokenKind, error) {
	if m.ends {
		m.ends = false
		return endTag, nil
	}
	m.plain = m.plain[:0]
	for {
		if m.at == len(m.buf) && !m.fill() {
			return 0, m.err
		}
		if m.buf[m.at] != '<' {
			return characters, m.chars()
		}
		switch {
		case m.has("<!--"):
			n, ok := m.upTo("--", 4)
			if !ok {
				return 0, m.ended()
			}
			if m.take(n + 2); !m.has(">") {
				if m.at == len(m.buf) {
					return 0, m.ended()
				}
				return 0, m.fail(`invalid sequence "--" not allowed in comments`)
			}
			m.take(1)
		case m.has("<![CDATA["):
			n, ok := m.upTo("]]>", 9)
			if !ok {
				return 0, m.ended()
			}
			inner := m.take(n + 3)
			return characters, m.decode(inner[9:n], false, 0)
		case m.has("<!"):
			if err := m.declaration(); err != nil {
				return 0, err
			}
		case m.has("<?"):
			n, ok := m.upTo("?>", 2)
			if !ok {
				return 0, m.ended()
			}
			if err := m.instruction(m.take(n + 2)[2:n]); err != nil {
				return 0, err
			}
		default:
			return m.tag()
		}
	}
}

// chars reads what stands up to the next tag.
func (m *markup) chars() error {
	seen := 0
	for {
		if i := bytes.IndexByte(m.buf[m.at+seen:], '<'); i >= 0 {
			seen += i
			break
		}
		if seen = len(m.buf) - m.at; !m.fill() {
			break
		}
	}
	if m.err != nil && m.err != io.EOF && m.at+seen == len(m.buf) {
		return m.err
	}
	return m.decode(m.take(seen), true, 0)
}

// isPlainText reports whether text stands for itself.
func isPlainText(text []byte) bool {
	for _, c := range text {
		if c < ' ' && c != '\n' && c != '\t' || c >= utf8.RuneSelf || c == '&' || c == ']' {
			return false
		}
	}
	return true
}

// decode puts what text stands for into m.text.
func (m *markup) decode(text []byte, entities bool, quote byte) error {
	if isPlainText(text) {
		m.text = text
		return nil
	}
	if quote == 0 && entities && bytes.Contains(text, []byte("]]>")) {
		return m.fail("unescaped ]]> not in CDATA section")
	}
	from := len(m.plain)
	for i := 0; i < len(text); {
		c := text[i]
		switch {
		case c == '\r':
			if m.plain = append(m.plain, '\n'); i+1 < len(text) && text[i+1] == '\n' {
				i++
			}
			i++
		case c == '&' && entities:
			n, err := m.entity(text[i:])
			if err != nil {
				return err
			}
			i += n
		case c < utf8.RuneSelf:
			if c < ' ' && c != '\n' && c != '\t' {
				return m.fail("illegal character code %U", rune(c))
			}
			m.plain = append(m.plain, c)
			i++
		default:
			r, size := utf8.DecodeRune(text[i:])
			if r == utf8.RuneError && size == 1 {
				return m.fail("invalid UTF-8")
			}
			if !isXMLCharacter(r) {
				return m.fail("illegal character code %U", r)
			}
			m.plain = append(m.plain, text[i:i+size]...)
			i += size
		}
	}
	m.text = m.plain[from:]
	return nil
}

// isXMLCharacter reports whether XML may hold a character (XML 1.0, production 2).
func isXMLCharacter(r rune) bool {
	return r == 0x09 || r == 0x0A || r == 0x0D || r >= 0x20 && r <= 0xD7FF || r >= 0xE000 && r <= 0xFFFD || r >= 0x10000 && r <= 0x10FFFF
}

// entity decodes the reference with which text begins, and returns how long it is.
func (m *markup) entity(text []byte) (int, error) {
	end := bytes.IndexByte(text[:min(len(text), 100)], ';')
	if end < 0 {
		return 0, m.fail("invalid character entity %s (no semicolon)", text[:min(len(text), 12)])
	}
	name := text[1:end]
	switch string(name) {
	case "lt":
		m.plain = append(m.plain, '<')
	case "gt":
		m.plain = append(m.plain, '>')
	case "amp":
		m.plain = append(m.plain, '&')
	case "apos":
		m.plain = append(m.plain, '\'')
	case "quot":
		m.plain = append(m.plain, '"')
	default:
		digits, isNumber := bytes.CutPrefix(name, []byte("#"))
		base := 10
		if hex, isHex := bytes.CutPrefix(digits, []byte("x")); isHex {
			digits, base = hex, 16
		}
		n := 0
		for _, c := range digits {
			d := 99
			switch {
			case c >= '0' && c <= '9':
				d = int(c - '0')
			case c >= 'a' && c <= 'f':
				d = int(c-'a') + 10
			case c >= 'A' && c <= 'F':
				d = int(c-'A') + 10
			}
			if d >= base || n > unicode.MaxRune {
				isNumber = false
				break
			}
			n = n*base + d
		}
		r := rune(n)
		if n > 0xD7FF && n < 0xE000 {
			r = utf8.RuneError // as encoding/xml has half a pair
		}
		if !isNumber || len(digits) == 0 || n > unicode.MaxRune || !isXMLCharacter(r) {
			return 0, m.fail("invalid character entity %s", text[:end+1])
		}
		m.plain = utf8.AppendRune(m.plain, r)
	}
	return end + 1, nil
}

// tag reads a tag.
func (m *markup) tag() (tokenKind, error) {
	end, err := m.tagEnd()
	if err != nil {
		return 0, err
	}
	tag := m.take(end + 1)
	inner, kind := tag[1:end], startTag
	if len(inner) > 0 && inner[0] == '/' {
		inner, kind = inner[1:], endTag
	}
	n := nameLength(inner)
	if n == 0 {
		return 0, m.fail("expected element name after %s", map[tokenKind]string{startTag: "<", endTag: "</"}[kind])
	}
	var ok bool
	if _, m.name, ok = m.cutName(inner[:n]); !ok {
		return 0, m.fail("expected element name after %s", map[tokenKind]string{startTag: "<", endTag: "</"}[kind])
	}
	rest := inner[n:]
	if kind == endTag {
		if rest = trimSpace(rest); len(rest) > 0 {
			return 0, m.fail("invalid characters between </%s and >", m.name)
		}
		return endTag, nil
	}
	return startTag, m.attributes(rest)
}

// tagEnd finds the > of a tag that begins at m.at, outside of quotes.
func (m *markup) tagEnd() (int, error) {
	quote := byte(0)
	for i := 1; ; i++ {
		for m.at+i >= len(m.buf) {
			if !m.fill() {
				return 0, m.ended()
			}
		}
		c := m.buf[m.at+i]
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			} else if c == '<' {
				return 0, m.fail("unescaped < inside quoted string")
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '>':
			return i, nil
		case c == '<':
			return 0, m.fail("expected attribute name in element")
		}
	}
}

// attributes reads the attributes of a tag.
func (m *markup) attributes(rest []byte) error {
	m.attrs, m.ends = m.attrs[:0], false
	for {
		rest = trimSpace(rest)
		if len(rest) == 0 {
			return nil
		}
		if rest[0] == '/' {
			if len(rest) > 1 {
				return m.fail("expected /> in element")
			}
			m.ends = true
			return nil
		}
		n := nameLength(rest)
		if n == 0 {
			return m.fail("expected attribute name in element")
		}
		prefix, name, ok := m.cutName(rest[:n])
		if !ok {
			return m.fail("expected attribute name in element")
		}
		rest = trimSpace(rest[n:])
		if len(rest) == 0 || rest[0] != '=' {
			return m.fail("attribute name without = in element")
		}
		rest = trimSpace(rest[1:])
		if len(rest) == 0 || rest[0] != '"' && rest[0] != '\'' {
			return m.fail("unquoted or missing attribute value in element")
		}
		end := bytes.IndexByte(rest[1:], rest[0])
		if end < 0 {
			return m.ended()
		}
		if err := m.decode(rest[1:1+end], true, rest[0]); err != nil {
			return err
		}
		m.attrs = append(m.attrs, attr{prefix, name, m.text})
		rest = rest[end+2:]
	}
}

func trimSpace(text []byte) []byte {
	for len(text) > 0 && (text[0] == ' ' || text[0] == '\n' || text[0] == '\t' || text[0] == '\r') {
		text = text[1:]
	}
	return text
}

// nameLength is how much of a text is its name.
func nameLength(text []byte) int {
	for i := 0; i < len(text); {
		c := text[i]
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c == '_', c == ':':
			i++
		case c >= '0' && c <= '9', c == '-', c == '.':
			if i == 0 {
				return 0
			}
			i++
		case c >= utf8.RuneSelf:
			r, size := utf8.DecodeRune(text[i:])
			if r == utf8.RuneError || !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) {
				return 0
			}
			i += size
		default:
			return i
		}
	}
	return len(text)
}

// cutName cuts a name into its prefix and what stands behind it.
func (m *markup) cutName(name []byte) (prefix, local []byte, ok bool) {
	prefix, local, found := bytes.Cut(name, []byte(":"))
	switch {
	case !found:
		return nil, name, true
	case bytes.IndexByte(local, ':') >= 0:
		return nil, nil, false
	case len(prefix) == 0 || len(local) == 0:
		return nil, name, true
	}
	return prefix, local, true
}

// declaration passes over one, with those within it.
func (m *markup) declaration() error {
	depth, quote := 0, byte(0)
	for i := 2; ; i++ {
		for m.at+i >= len(m.buf) {
			if !m.fill() {
				return m.ended()
			}
		}
		c := m.buf[m.at+i]
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '<':
			depth++
		case c == '>' && depth == 0:
			m.take(i + 1)
			return nil
		case c == '>':
			depth--
		}
	}
}

// instruction looks at one, which may say in what encoding the part is.
func (m *markup) instruction(text []byte) error {
	n := nameLength(text)
	if n == 0 {
		return m.fail("expected target name after <?")
	}
	if string(text[:n]) != "xml" {
		return nil
	}
	said := string(text[n:])
	if version := pseudo(said, "version"); version != "" && version != "1.0" {
		return fmt.Errorf("xml: unsupported version %q; only version 1.0 is supported", version)
	}
	if encoding := pseudo(said, "encoding"); encoding != "" && !strings.EqualFold(encoding, "utf-8") {
		return fmt.Errorf("xml: encoding %q declared, which no part of a workbook is in", encoding)
	}
	return nil
}

// pseudo is the value of something like an attribute in an instruction.
func pseudo(text, name string) string {
	_, behind, found := strings.Cut(text, name+"=")
	if !found || len(behind) < 2 || behind[0] != '"' && behind[0] != '\'' {
		return ""
	}
	value, _, _ := strings.Cut(behind[1:], behind[:1])
	return value
}
