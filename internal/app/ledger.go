package app

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// A Soundness is what reading all of a ledger found, the signatures in it as well.
type Soundness struct {
	store.Soundness
	Alone []int // batches that nobody vouches for: who drafted them had no key that evenledger.yaml knows
}

// CheckLedger reads all of a ledger, and sees whether who signed a batch did.
func CheckLedger(ctx context.Context, w *workspace.Workspace, l store.Store) (s Soundness, err error) {
	if s.Soundness, err = l.Upkeep().Check(ctx); err != nil {
		return s, err
	}
	all, err := l.Batches(ctx)
	if err != nil {
		return s, err
	}
	for i := range all {
		b := &all[len(all)-1-i]
		by, problems, err := checkSignatures(ctx, w, l, b)
		if err != nil {
			return s, err
		}
		s.Problems = append(s.Problems, problems...)
		if len(w.People) > 0 && b.ByKey == "" && by == "" && b.State != batch.Unmade {
			s.Alone = append(s.Alone, b.ID)
		}
	}
	return s, nil
}

// A headLine is a line of a file of heads: that of the ledger comes first.
type headLine struct {
	Ledger string `json:"ledger,omitempty"`
	store.Head
}

// WriteHeads writes where the history of each batch stands, as JSON lines, to be kept elsewhere, and
// returns how many there are: whoever writes a ledger anew with all its hashes cannot write these.
func WriteHeads(ctx context.Context, l store.Store, to io.Writer) (n int, err error) {
	id, err := l.Upkeep().ID(ctx)
	if err != nil {
		return 0, err
	}
	lines := json.NewEncoder(to)
	if err := lines.Encode(map[string]string{"ledger": id}); err != nil {
		return 0, err
	}
	all, err := l.Batches(ctx)
	if err != nil {
		return 0, err
	}
	for i := range all {
		b := &all[len(all)-1-i]
		if b.Seal == "" {
			continue
		}
		head, err := l.History(b.ID).Head(ctx)
		if err == nil {
			err = lines.Encode(head)
		}
		if err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}

// mostHeads is how long a line of a file of heads may be, in bytes.
const mostHeads = 1 << 20

// Against holds a ledger against heads that were kept, and returns what of it was written anew since.
func Against(ctx context.Context, l store.Store, from io.Reader) (problems []string, err error) {
	id, err := l.Upkeep().ID(ctx)
	if err != nil {
		return nil, err
	}
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, mostHeads)
	n := 0
	for ; lines.Scan(); n++ {
		var line headLine
		if err := json.Unmarshal(lines.Bytes(), &line); err != nil || n == 0 && line.Ledger == "" || n > 0 && line.Seal == "" {
			return nil, mistake(fmt.Sprintf("line %d of it is not one that “evenledger ledger head” wrote", n+1), "")
		}
		if n == 0 {
			if line.Ledger != id {
				return nil, mistake(fmt.Sprintf("it is of the ledger %.8s, and this is %.8s", line.Ledger, id), "Is another ledger named in evenledger.yaml, or was this one begun anew?")
			}
			continue
		}
		b, err := l.Batch(ctx, line.Batch)
		switch {
		case errors.Is(err, store.ErrNoBatch):
			problems = append(problems, fmt.Sprintf("batch %d was taken out since", line.Batch))
			continue
		case err != nil:
			return nil, err
		case b.Seal != line.Seal:
			problems = append(problems, fmt.Sprintf("batch %d: its draft was written anew since", line.Batch))
			continue
		}
		missing, err := l.History(line.Head.Batch).Lacks(ctx, line.Head)
		if err != nil {
			return nil, err
		}
		if missing != "" {
			problems = append(problems, fmt.Sprintf("batch %d: what became of it was written anew since: %.12s is no longer in its history", line.Batch, missing))
		}
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	if n == 0 {
		return nil, mistake("there is nothing in it", "“evenledger ledger head -o FILE” writes one.")
	}
	return problems, nil
}
