package app

import (
	"context"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"

	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// Since is what is otherwise in a draft than in an earlier one of the same list that was signed.
type Since struct {
	Batch int      `json:"batch"` // the earlier
	By    []string `json:"by"`    // who signed it
	More  int      `json:"more"`  // rows that it did not have
	Less  int      `json:"less"`  // rows that it had besides
	Other int      `json:"other"` // rows of which something else is to be done
	First []string `json:"first"` // keys of rows that are new or otherwise, the first few
}

// firstOther is how many rows are named that are otherwise.
const firstOther = 5

// String says it in a sentence.
func (s *Since) String() string {
	if s.More+s.Less+s.Other == 0 {
		return fmt.Sprintf("The same is done as in batch %d of that list, which was signed.", s.Batch)
	}
	return fmt.Sprintf("Since batch %d of that list was signed: rows more: %d, less: %d, with something else to be done: %d.", s.Batch, s.More, s.Less, s.Other)
}

// SignedBefore holds a draft against the newest one before it of the same list that was signed; nil:
// there is none.
func SignedBefore(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch) (*Since, error) {
	all, err := l.Batches(ctx)
	if err != nil {
		return nil, err
	}
	for i := range all { // the newest first
		o := &all[i]
		if o.ID >= b.ID || o.System != b.System || o.Reverses > 0 || !sameList(b, o) {
			continue
		}
		by, err := Signed(ctx, w, l, o)
		if err != nil {
			return nil, err
		}
		if len(by) > 0 {
			return since(ctx, l, b, o, by)
		}
	}
	return nil, nil
}

func since(ctx context.Context, l store.Store, b, o *batch.Batch, by []string) (*Since, error) {
	s := &Since{Batch: o.ID, By: by}
	seed := maphash.MakeSeed()
	was := map[string]uint64{}
	for e, err := range l.Entries(ctx, o.ID, store.Filter{Mails: true}) {
		if err != nil {
			return nil, err
		}
		was[e.Key] += doing(seed, &e)
	}
	seen := map[string]uint64{}
	for e, err := range l.Entries(ctx, b.ID, store.Filter{Mails: true}) {
		if err != nil {
			return nil, err
		}
		seen[e.Key] += doing(seed, &e)
	}
	for _, key := range slices.Sorted(maps.Keys(seen)) {
		is := seen[key]
		before, had := was[key]
		if had && before == is {
			continue
		}
		if s.Other++; !had {
			s.Other, s.More = s.Other-1, s.More+1
		}
		if len(s.First) < firstOther {
			s.First = append(s.First, key)
		}
	}
	for key := range was {
		if _, has := seen[key]; !has {
			s.Less++
		}
	}
	return s, nil
}

// doing is a number of all that is to be done with an entry.
func doing(seed maphash.Seed, e *batch.Entry) uint64 {
	var h maphash.Hash
	h.SetSeed(seed)
	_, _ = h.WriteString(string(e.Intent))
	for _, c := range e.Changes {
		_, _ = h.WriteString(c.Field + "\x00" + c.After.Text() + "\x00")
	}
	for _, s := range e.Steps {
		for _, part := range []string{string(s.Do), s.Kind, s.Name, s.Role, s.Section, s.Choose, fmt.Sprint(s.Tells), s.Sent} {
			_, _ = h.WriteString(part + "\x00")
		}
	}
	return h.Sum64()
}
