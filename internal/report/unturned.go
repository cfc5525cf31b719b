package report

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// An Unturned writes JSON in which characters that turn the direction of writing, so that a
// text reads as another than it is, are escaped.
type Unturned struct {
	W    io.Writer
	rest []byte // the beginning of a character
}

// Write implements io.Writer.
func (u *Unturned) Write(p []byte) (int, error) {
	text := append(u.rest, p...)
	whole := len(text)
	for back := 1; back <= min(len(text), utf8.UTFMax-1); back++ {
		if b := text[len(text)-back]; utf8.RuneStart(b) {
			if !utf8.FullRune(text[len(text)-back:]) {
				whole = len(text) - back
			}
			break
		}
	}
	u.rest = append([]byte(nil), text[whole:]...)
	if _, err := u.W.Write(turning.replace(text[:whole])); err != nil {
		return 0, err
	}
	return len(p), nil
}

// directions are characters that turn the direction of writing (Unicode Standard Annex 9).
type directions string

const turning directions = "\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069"

func (d directions) replace(text []byte) []byte {
	if !bytes.ContainsAny(text, string(d)) {
		return text
	}
	var out bytes.Buffer
	for _, r := range string(text) {
		if strings.ContainsRune(string(d), r) {
			fmt.Fprintf(&out, "\\u%04x", r)
		} else {
			out.WriteRune(r)
		}
	}
	return out.Bytes()
}
