package sheet

import (
	"bytes"
	"io"
)

// A newlines reads text in which every line ends with a line feed, whatever it ended with: CR, CR LF, NEL, LS, PS or a form feed, mixed
// as they come (Unicode Standard section 5.8). A line tabulation stays: programs write it within cells.
type newlines struct {
	from io.Reader
	out  []byte // to be given
	held []byte // may begin a line end
	last byte
	err  error
}

func (n *newlines) Read(p []byte) (int, error) {
	for len(n.out) == 0 {
		if n.err != nil {
			return 0, n.err
		}
		in := make([]byte, len(n.held)+sampleSize)
		copy(in, n.held)
		var read int
		read, n.err = n.from.Read(in[len(n.held):])
		in = in[:len(n.held)+read]
		n.held = nil
		n.take(in)
	}
	given := copy(p, n.out)
	n.out = n.out[given:]
	return given, nil
}

// take makes what is to be given of some text.
func (n *newlines) take(in []byte) {
	out, last := in[:0], n.last // what is given is never longer
	defer func() {
		if n.out = out; len(out) > 0 {
			last = out[len(out)-1]
		}
		n.last = last
	}()
	for len(in) > 0 {
		at := len(in)
		for _, end := range [...]string{"\r", "\f", "\u0085", "\u2028", "\u2029"} {
			if i := bytes.Index(in[:at], []byte(end)); i >= 0 {
				at = i
			}
		}
		if at == len(in) { // a line end may be cut
			keep := len(in)
			for i := max(0, len(in)-2); i < len(in) && n.err == nil; i++ {
				if in[i] == 0xc2 || in[i] == 0xe2 {
					keep = min(keep, i)
				}
			}
			out, n.held = append(out, in[:keep]...), bytes.Clone(in[keep:])
			return
		}
		if in[at] == '\r' && at+1 == len(in) && n.err == nil {
			out, n.held = append(out, in[:at]...), []byte("\r")
			return
		}
		if out = append(out, in[:at]...); len(out) > 0 {
			last = out[len(out)-1]
		}
		page := in[at] == '\f'
		switch in[at] {
		case '\r':
			at++
			if at < len(in) && in[at] == '\n' {
				at++
			}
		case '\f':
			at++
		case 0xc2:
			at += 2
		default:
			at += 3
		}
		if in = in[at:]; !page || last != '\n' { // else the line ended before the page did
			out, last = append(out, '\n'), '\n'
		}
	}
}
