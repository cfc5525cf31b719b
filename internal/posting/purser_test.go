package posting_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"iter"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/posting"
	"evenledger/internal/system"
)

// The least of a kind that hands over: a purser who takes slips out of a pigeonhole, and hangs out a list of the crew each day.
type purser struct {
	system.Base
	holes map[string]string // name of a file → slips, one a line
	crew  []account.Account // as the list has them
	hung  time.Time
}

func (p *purser) Describe(context.Context) (*system.Description, error) {
	return &system.Description{Schema: &account.Schema{Naming: "userName", Attributes: []account.Attribute{{Field: "userName", Required: true, Unique: true}, {Field: "givenName"}}},
		Can: system.Abilities{Finds: 1000, Around: len(p.crew)}}, nil
}

func (p *purser) List(context.Context, []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		for _, a := range p.crew {
			if !yield(a, nil) {
				return
			}
		}
	}
}

func (p *purser) Find(ctx context.Context, _ string, _, fields []string) iter.Seq2[account.Account, error] {
	return p.List(ctx, fields)
}

func (p *purser) Get(_ context.Context, id string, _ []string) (account.Account, error) {
	for _, a := range p.crew {
		if a.ID == id {
			return a, nil
		}
	}
	return account.Account{}, system.ErrGone
}

// Apply carries out nothing: who takes files gets no orders.
func (p *purser) Apply(context.Context, system.Permit, []system.Order, []string) ([]system.Result, error) {
	return nil, system.ErrCannot
}

func (p *purser) Layout() string                                  { return "slips" }
func (p *purser) HoldsPasswords() bool                            { return false }
func (p *purser) Whole() bool                                     { return false }
func (p *purser) Exported(context.Context) (time.Time, error)     { return p.hung, nil }
func (p *purser) Failures(string) (all []system.Failure, _ error) { return nil, nil }

func (p *purser) Hand(_ context.Context, batch, part int, _ time.Time) (system.Handing, error) {
	return &slips{purser: p, name: fmt.Sprintf("slips-%d-%d", batch, part)}, nil
}

// slips are those of one part, while they are written.
type slips struct {
	*purser
	name string
	text strings.Builder
	rows int
}

func (s *slips) Add(i system.Intended) (file string, line int, full bool, why []account.Finding, err error) {
	if i.Does != account.Create {
		return "", 0, false, []account.Finding{account.Find(account.Error, account.CannotBeWritten, "the purser takes only new people")}, nil
	}
	s.rows++
	for _, c := range i.Changes {
		fmt.Fprintf(&s.text, "%s=%s ", c.Field, c.After.Text())
	}
	fmt.Fprintln(&s.text)
	return s.name, s.rows, false, nil, nil
}

func (s *slips) End() ([]system.HandedFile, error) {
	if s.rows == 0 {
		return nil, nil
	}
	sum := sha256.Sum256([]byte(s.text.String()))
	return []system.HandedFile{{Name: s.name, Rows: s.rows, Sum: hex.EncodeToString(sum[:]), Bytes: int64(s.text.Len())}}, nil
}

func (s *slips) Put(context.Context, system.Seal, map[string]string) ([]system.HandedFile, error) {
	if _, there := s.holes[s.name]; there || s.rows == 0 {
		return nil, nil
	}
	s.holes[s.name] = s.text.String()
	return s.End()
}

func (s *slips) Close() error { return nil }

// What became of each slip is told by the list that is hung out later, and is open until then.
func TestPurser(t *testing.T) {
	w := newWorld(t)
	p := &purser{holes: map[string]string{}, hung: w.clock.Now().Add(-time.Hour), crew: []account.Account{{ID: "ana", Fields: map[string]account.Value{"userName": account.Of("ana"), "givenName": account.Of("Ana")}}}}
	w.target = p
	b := w.draft("match: [userName]\nknown: update\nfields:\n  userName: {from: Login, required: true}\n  givenName: {from: First}\n", "Login,First\nana,Anna\nzoe,Zoë\nbo,Bo\n")
	hand := func(settles *posting.Settlement) account.Counts {
		require.NoError(t, (&posting.Post{Ledger: w.ledger, Worker: worker(), System: p, Batch: b, Together: 1, Later: true, Settles: settles, Vault: w.vaults.Of(b.ID, ""), Clock: w.clock}).Run(t.Context()))
		return w.even(b)
	}
	assert.Equal(t, account.Counts{account.Refused: 1, account.HandedOver: 2}, hand(nil), "a change cannot be written on a slip")
	assert.Equal(t, map[string]string{fmt.Sprintf("slips-%d-1", b.ID): "userName=zoe givenName=Zoë \nuserName=bo givenName=Bo \n"}, p.holes)
	assert.Equal(t, 2, hand(&posting.Settlement{Shows: true})[account.HandedOver], "the list is older than the slips")

	require.NoError(t, w.clock.Wait(t.Context(), 24*time.Hour))
	p.hung = w.clock.Now()
	p.crew = append(p.crew, account.Account{ID: "zoe", Fields: map[string]account.Value{"userName": account.Of("zoe"), "givenName": account.Of("Zoë")}})
	hand(&posting.Settlement{Shows: true, Listed: true, Failures: []system.Failure{{Row: 1, Line: 2, Keys: map[string]string{"userName": "bo"}, Reason: "no berth is free"}}, File: b.Files[0].Name})
	assert.Equal(t, account.Counts{account.Refused: 1, account.Failed: 1, account.Created: 1}, w.even(b))
	assert.Equal(t, batch.Posted, b.State)
}
