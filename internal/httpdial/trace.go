package httpdial

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

	"evenledger/internal/clock"
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

// sent is a request that was sent.
type sent struct {
	n     int64
	at    time.Time
	clock clock.Clock
}

func (s sent) after() slog.Attr {
	return slog.String("after", s.clock.Now().Sub(s.at).Round(time.Millisecond).String())
}

func (t *tracer) request(r *http.Request, of Request, clock clock.Clock) sent {
	if t == nil {
		return sent{}
	}
	s, address := sent{t.n.Add(1), clock.Now(), clock}, r.URL.String()
	if of.URL != nil { // a person wrote it, perhaps with a key in it
		address = shown(address)
	}
	t.write("sent", slog.Int64("n", s.n), slog.String("method", r.Method), slog.String("url", t.mask.Hide(address)), t.headers(r.Header), t.shown(of.Body))
	return s
}

// answer logs an answer, and its body if it was read whole.
func (t *tracer) answer(s sent, got *http.Response, body []byte) {
	if t != nil {
		t.write("answered", slog.Int64("n", s.n), slog.Int("status", got.StatusCode), s.after(), t.headers(got.Header), t.shown(body))
	}
}

func (t *tracer) broken(s sent, err error) {
	if t != nil {
		t.write("no answer", slog.Int64("n", s.n), slog.String("why", t.mask.Hide(cause(err))), s.after())
	}
}

func (t *tracer) write(what string, attrs ...slog.Attr) {
	t.log.LogAttrs(context.Background(), slog.LevelInfo, what, attrs...)
}

func (t *tracer) headers(h http.Header) slog.Attr {
	var all []any
	for _, name := range slices.Sorted(maps.Keys(h)) {
		value := t.mask.Hide(strings.Join(h[name], ", "))
		if private[name] {
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
