package membership

import (
	"context"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// A Register knows who is a member of what. The zero Register knows nobody.
type Register struct {
	of map[string]map[string]map[string]account.Membership // account → kind → thing
}

// Add takes a membership in.
func (r *Register) Add(m account.Membership) {
	if r.of == nil {
		r.of = map[string]map[string]map[string]account.Membership{}
	}
	kinds := r.of[m.Account]
	if kinds == nil {
		kinds = map[string]map[string]account.Membership{}
		r.of[m.Account] = kinds
	}
	if kinds[m.Kind] == nil {
		kinds[m.Kind] = map[string]account.Membership{}
	}
	kinds[m.Kind][m.Thing] = m
}

// Of returns what an account has of a kind, by thing. The map must not be changed.
func (r *Register) Of(id, kind string) map[string]account.Membership { return r.of[id][kind] }

// In returns an account's membership of a thing, if it has one.
func (r *Register) In(id, kind, thing string) (m account.Membership, is bool) {
	m, is = r.of[id][kind][thing]
	return m, is
}

// Read takes in the memberships of these things of a kind, of all if things is nil, as far
// as they are of accounts that are wanted; told is told how many were looked at.
func (r *Register) Read(ctx context.Context, s system.System, kind string, things []string, wanted func(id string) bool, told func(looked int)) error {
	looked := 0
	for m, err := range s.Members(ctx, kind, things) {
		if err != nil {
			return err
		}
		if wanted(m.Account) {
			m.Kind = kind
			r.Add(m)
		}
		looked++
		told(looked)
	}
	return nil
}

// Anyone is for Read: every account is wanted.
func Anyone(string) bool { return true }

// Silent is for Read: nobody is told.
func Silent(int) {}
