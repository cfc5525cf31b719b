package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
	"evenledger/internal/yamldoc"
)

func TestProgress(t *testing.T) {
	var out bytes.Buffer
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	p := &progress{w: &out, every: 10 * time.Second, now: func() time.Time { return now }, begun: now, told: now}
	for range 60 {
		now = now.Add(time.Second)
		p.of("accounts", int(now.Sub(p.begun).Seconds())*100, 12000)
	}
	p.end()
	assert.Equal(t, 6, bytes.Count(out.Bytes(), []byte("\n")), "in a pipe a line every ten seconds")
	assert.Contains(t, out.String(), "posted 6 000 of 12 000 accounts · 100/s · 1m0s left\n")

	out.Reset()
	p = &progress{w: &out, terminal: true, every: 100 * time.Millisecond, now: func() time.Time { return now }, begun: now, told: now}
	now = now.Add(time.Second)
	p.stageDone("checked", 1234)
	p.stageDone("checked", 1235)
	assert.Equal(t, 1, bytes.Count(out.Bytes(), []byte("\r")), "on a terminal the line is written over, not too often")
	assert.Contains(t, out.String(), "checked 1 234")
	p.end()
	assert.NotContains(t, out.String(), "\n")
}

// Every kind of trouble has its exit code.
func TestExitCodes(t *testing.T) {
	over, cancel := context.WithCancel(t.Context())
	cancel()
	for _, c := range []struct {
		ctx  context.Context
		err  error
		code int
	}{
		{t.Context(), wrong("x", ""), exitWrong},
		{t.Context(), fmt.Errorf("y: %w", guard("x", "")), exitGuard},
		{t.Context(), &system.Unavailable{Message: "x"}, exitUnavailable},
		{t.Context(), errors.Join(errors.New("more"), &system.Unavailable{Message: "x"}), exitUnavailable},
		{t.Context(), &system.Unclear{Err: errors.New("x")}, exitUnavailable},
		{t.Context(), &sheet.Error{Name: "s.csv", Message: "x"}, exitWrong},
		{t.Context(), &workspace.NotFound{Dir: "x"}, exitWrong},
		{t.Context(), yamldoc.Problems{{File: "b.yaml", Message: "x"}}, exitWrong},
		{t.Context(), store.ErrNoBatch, exitWrong},
		{t.Context(), errors.New("anything else"), exitWrong},
		{over, context.Canceled, exitInterrupted},
		{over, guard("x", ""), exitGuard},
	} {
		got := explained(c.ctx, c.err)
		assert.Equal(t, c.code, got.code, "%v", c.err)
		assert.NotEmpty(t, got.message)
	}
}
