package report

import (
	"io"
	"unicode/utf8"

	"evenledger/internal/words"
)

// An Unturned writes JSON in which characters that steer a terminal or turn the direction of writing are escaped.
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
	if _, err := u.W.Write(words.EscapeJSON(text[:whole])); err != nil {
		return 0, err
	}
	return len(p), nil
}
