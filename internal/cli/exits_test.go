package cli

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
	"evenledger/internal/yamldoc"
)

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
