package scim

import (
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"evenledger/internal/secret"
)

// longestTraced is how much of a body stands in a trace, in bytes.
const longestTraced = 16 << 10

// A tracer writes each request and its answer down for the server's keepers: lines
// that begin with > were sent, those with < came back, and the number tells which
// belong together. The credentials and passwords are left out. The nil tracer writes
// nothing.
type tracer struct {
	mu   sync.Mutex
	out  io.Writer
	mask *secret.Mask
	n    int
}

func newTracer(out io.Writer, mask *secret.Mask) *tracer {
	if out == nil {
		return nil
	}
	return &tracer{out: out, mask: mask}
}

func (t *tracer) request(r *http.Request, body []byte) (n int) {
	if t == nil {
		return 0
	}
	t.mu.Lock()
	t.n++
	n = t.n
	t.mu.Unlock()
	t.write(n, ">", fmt.Sprintf("%s %s %s", time.Now().UTC().Format("2006-01-02T15:04:05.000Z"), r.Method, r.URL), r.Header, body)
	return n
}

func (t *tracer) answer(n int, got *answer, took time.Duration) {
	if t != nil {
		t.write(n, "<", fmt.Sprintf("%d %s, after %s", got.status, http.StatusText(got.status), took.Round(time.Millisecond)), got.header, got.body)
	}
}

func (t *tracer) broken(n int, err error, took time.Duration) {
	if t != nil {
		t.write(n, "<", fmt.Sprintf("no answer, after %s: %s", took.Round(time.Millisecond), cause(err)), nil, nil)
	}
}

func (t *tracer) write(n int, mark, first string, header http.Header, body []byte) {
	var text strings.Builder
	fmt.Fprintf(&text, "%d %s %s\n", n, mark, t.mask.Hide(first))
	for _, name := range slices.Sorted(maps.Keys(header)) {
		value := strings.Join(header[name], ", ")
		if name == "Authorization" || name == "Set-Cookie" || name == "Cookie" {
			value = "(hidden)"
		}
		fmt.Fprintf(&text, "%d %s %s: %s\n", n, mark, name, t.mask.Hide(value))
	}
	if len(body) > 0 {
		shown := t.mask.Hide(string(body[:min(len(body), longestTraced)]))
		if len(body) > longestTraced {
			shown = shown[:max(0, len(shown)-1<<10)] + fmt.Sprintf("… (%d bytes)", len(body)) // the cut may go through a secret
		}
		fmt.Fprintf(&text, "%d %s %s\n", n, mark, strings.ReplaceAll(shown, "\n", "\n"+fmt.Sprintf("%d %s ", n, mark)))
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	_, _ = io.WriteString(t.out, text.String()) // a trace that cannot be written stops no work
}
