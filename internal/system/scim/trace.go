package scim

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"evenledger/internal/secret"
)

// longestTraced is how much of a body stands in a trace, in bytes.
const longestTraced = 16 << 10

// A tracer logs each request and its answer for the server's keepers; the number tells
// which belong together. The credentials and passwords are left out. The nil tracer logs
// nothing.
type tracer struct {
	log  *slog.Logger
	mask *secret.Mask
	n    atomic.Int64
}

func newTracer(log *slog.Logger, mask *secret.Mask) *tracer {
	if log == nil {
		return nil
	}
	return &tracer{log: log, mask: mask}
}

func (t *tracer) request(r *http.Request, body []byte) (n int64) {
	if t == nil {
		return 0
	}
	n = t.n.Add(1)
	t.write("sent", slog.Int64("n", n), slog.String("method", r.Method), slog.String("url", r.URL.String()), headers(r.Header), t.shown(body))
	return n
}

func (t *tracer) answer(n int64, got *answer, took time.Duration) {
	if t != nil {
		t.write("answered", slog.Int64("n", n), slog.Int("status", got.status), after(took), headers(got.header), t.shown(got.body))
	}
}

func (t *tracer) broken(n int64, err error, took time.Duration) {
	if t != nil {
		t.write("no answer", slog.Int64("n", n), slog.String("why", cause(err)), after(took))
	}
}

func (t *tracer) write(what string, attrs ...slog.Attr) {
	t.log.LogAttrs(context.Background(), slog.LevelInfo, what, attrs...)
}

func after(took time.Duration) slog.Attr {
	return slog.String("after", took.Round(time.Millisecond).String())
}

func headers(h http.Header) slog.Attr {
	var all []any
	for _, name := range slices.Sorted(maps.Keys(h)) {
		value := strings.Join(h[name], ", ")
		if name == "Authorization" || name == "Set-Cookie" || name == "Cookie" {
			value = "(hidden)"
		}
		all = append(all, slog.String(name, value))
	}
	return slog.Group("headers", all...)
}

// shown is a body as it stands in a trace.
func (t *tracer) shown(body []byte) slog.Attr {
	text := t.mask.Hide(string(body[:min(len(body), longestTraced)]))
	if len(body) > longestTraced { // the cut may go through a secret, which is not known then
		text = strings.ToValidUTF8(text[:max(0, len(text)-1<<10)], "") + fmt.Sprintf("… (%d bytes)", len(body))
	}
	return slog.String("body", text)
}
