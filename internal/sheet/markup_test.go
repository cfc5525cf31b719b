package sheet

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// told reads all tokens by the library.
func byLibrary(text string) (tokens []string, err error) {
	d := xml.NewDecoder(strings.NewReader(text))
	for {
		token, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			return tokens, nil
		}
		if err != nil {
			return tokens, err
		}
		switch token := token.(type) {
		case xml.StartElement:
			said := "<" + token.Name.Local
			for _, a := range token.Attr {
				said += fmt.Sprintf(" %s:%s=%q", a.Name.Space, a.Name.Local, a.Value)
			}
			tokens = append(tokens, said)
		case xml.EndElement:
			tokens = append(tokens, "/"+token.Name.Local)
		case xml.CharData:
			tokens = append(tokens, fmt.Sprintf("%q", token))
		}
	}
}

func byMarkup(from io.Reader) (tokens []string, err error) {
	m := newMarkup(from)
	for {
		kind, err := m.next()
		if errors.Is(err, io.EOF) {
			return tokens, nil
		}
		if err != nil {
			return tokens, err
		}
		switch kind {
		case startTag:
			said := "<" + string(m.name)
			for _, a := range m.attrs {
				said += fmt.Sprintf(" %s:%s=%q", a.prefix, a.name, a.value)
			}
			tokens = append(tokens, said)
		case endTag:
			tokens = append(tokens, "/"+string(m.name))
		case characters:
			tokens = append(tokens, fmt.Sprintf("%q", m.text))
		}
	}
}

// Tokens are those that the library reads, of good files and of bad ones, however they come in.
func TestMarkupAsTheLibrary(t *testing.T) {
	pieces := []string{`<?xml version="1.0" encoding="UTF-8" standalone="yes"?>`, `<?xml version="1.1"?>`, `<?xml encoding='latin1'?>`, `<?p?>`, `<row r="2" x:hidden='1'>`, `<c r="A2" t="s"><v>12</v></c>`, `<c/>`, `</row>`, `</row >`, `</ row>`, `<é ü="ö"/>`,
		"text", " ", "\n", "\r\n", "\r", "&amp;", "&lt;&#65;&#x42;", "&#xD800;", "&#0;", "&#x110000;", "&nope;", "&", "&;", "]]>", "]", "<![CDATA[a<b&]]>", "<![CDATA[", "<!-- note -->", "<!-- a -- b -->", "<!--", "<!DOCTYPE x>", "<!DOCTYPE x [<!ENTITY a \"b>\">]>",
		"Zoë", "\xff", "\x01", "\ufffe", "<", ">", "\"", "'", "=", "/", "<a b>", "<a b=c>", "<a b=\"<\">", `<a b="1"c='2'>`, `<a:b:c>`, `<:a>`, `<a:>`, `<a a:="1" :b="2"/>`, "<1a>", "<a/ >", "<a / >", "<a b=\"&amp;\r\n]]>\"/>", strings.Repeat("long ", 30000), `<c a="` + strings.Repeat("y", 70000) + `"/>`}
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom(pieces), 0, 12).Draw(t, "pieces"), "")
		want, wantErr := byLibrary(text)
		for name, from := range map[string]io.Reader{"whole": strings.NewReader(text), "halves": iotest.HalfReader(strings.NewReader(text)), "with its end": iotest.DataErrReader(strings.NewReader(text))} {
			got, err := byMarkup(from)
			require.Equal(t, wantErr == nil, err == nil, "%s: %q: the library says %v, and this %v", name, text[:min(len(text), 300)], wantErr, err)
			if wantErr == nil {
				require.Equal(t, want, got, name)
			}
		}
	})
	_, err := byMarkup(iotest.TimeoutReader(iotest.OneByteReader(strings.NewReader("<a>text</a>"))))
	require.ErrorIs(t, err, iotest.ErrTimeout)
}
