package report

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestProgress(t *testing.T) {
	var out bytes.Buffer
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	p := &Progress{w: &out, every: 10 * time.Second, now: func() time.Time { return now }, begun: now, told: now}
	for range 60 {
		now = now.Add(time.Second)
		p.Of("accounts", int(now.Sub(p.begun).Seconds())*100, 12000)
	}
	p.End()
	assert.Equal(t, 6, bytes.Count(out.Bytes(), []byte("\n")), "in a pipe a line every ten seconds")
	assert.Contains(t, out.String(), "posted 6 000 of 12 000 accounts · 100/s · 1m0s left\n")

	out.Reset()
	p = &Progress{w: &out, terminal: true, every: 100 * time.Millisecond, now: func() time.Time { return now }, begun: now, told: now}
	now = now.Add(time.Second)
	p.Stage("checked", 1234)
	p.Stage("checked", 1235)
	assert.Equal(t, 1, bytes.Count(out.Bytes(), []byte("\r")), "on a terminal the line is written over, not too often")
	assert.Contains(t, out.String(), "checked 1 234")
	p.End()
	assert.NotContains(t, out.String(), "\n")
}

// What turns the direction of writing is escaped in JSON, also where a character comes in
// pieces.
func TestUnturned(t *testing.T) {
	var out strings.Builder
	w := &Unturned{W: &out}
	for _, b := range []byte("{\"name\": \"Zoë \u202egnp.exe\u2066 田\u009b2J\"}") {
		n, err := w.Write([]byte{b})
		assert.NoError(t, err)
		assert.Equal(t, 1, n)
	}
	assert.Equal(t, `{"name": "Zoë \u202egnp.exe\u2066 田\u009b2J"}`, out.String())
}
