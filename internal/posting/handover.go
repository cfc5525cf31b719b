package posting

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// Where an application takes files, what is to be done with an account, its references, memberships and password stand
// in one line of one. A part of the waiting rows, as many as the files take, is noted with the files' hashes before they
// are put, so that a post which was cut off between goes on with the same bytes.

// handWindow is how many entries are made ready together.
const handWindow = 2000

// hander is the system if it takes files; nil: it does not.
func (p *run) hander() system.Hander {
	hander, _ := p.System.(system.Hander)
	return hander
}

// handOver puts all that waits, or of a trial its share, into files.
func (p *run) handOver(ctx context.Context) error {
	hander := p.hander()
	if err := p.reload(ctx); err != nil {
		return err
	}
	low, part := 0, 1
	if files := p.Batch.Files; len(files) > 0 {
		last := files[len(files)-1]
		if err := p.handAgain(ctx, hander, last.Part); err != nil {
			return err
		}
		low, part = last.High+1, last.Part+1
	}
	left := p.Trial
	for ctx.Err() == nil {
		h := &handed{run: p, part: part, low: low, trial: left}
		if err := h.make(ctx, hander); err != nil || len(h.results) == 0 {
			return err
		}
		if err := h.note(ctx, hander.Layout()); err != nil {
			return err
		}
		if err := h.put(ctx, nil); err != nil {
			return err
		}
		if low, part = h.high+1, part+1; !h.full {
			return nil
		}
		if left -= len(h.results); p.Trial > 0 && left <= 0 {
			return nil
		}
	}
	return nil
}

// handAgain ends the last part that was noted, if an earlier post was cut off before all its rows were noted as handed over.
func (p *run) handAgain(ctx context.Context, hander system.Hander, part int) error {
	var of batch.File
	was := map[string]string{}
	for _, f := range p.Batch.Files {
		if f.Part == part {
			of, was[f.Name] = f, f.Sum
		}
	}
	cut := false
	for _, err := range p.Ledger.Entries(ctx, p.Batch.ID, store.Filter{Outcomes: []account.Outcome{account.Waiting}, Open: true, After: of.Low - 1, Upto: of.High, Limit: 1}) {
		if cut = true; err != nil {
			return err
		}
	}
	if !cut {
		return nil
	}
	if of.Layout != hander.Layout() {
		return &batch.Guard{Message: fmt.Sprintf("the post of batch %d was cut off within file %s, and the layout is another since", p.Batch.ID, of.Name), Remedy: "Put the layout back as it was, and post again."}
	}
	h := &handed{run: p, part: part, low: of.Low, high: of.High, again: true}
	if err := h.make(ctx, hander); err != nil {
		return err
	}
	return h.put(ctx, was)
}

// A handed is one part of a batch on its way into files.
type handed struct {
	*run
	part      int
	low, high int  // rows
	trial     int  // no more than so many; 0: all
	again     bool // it was noted before: the rows are known to be right, and the files are to be the same
	full      bool // more waits
	handing   system.Handing
	results   []store.Result
}

// make makes the files of the part. Rows that cannot be in them are refused.
func (h *handed) make(ctx context.Context, hander system.Hander) (err error) {
	at := h.Clock.Now()
	for _, f := range h.Batch.Files {
		if f.Part == h.part {
			at = f.At
		}
	}
	if h.handing, err = hander.Hand(ctx, h.Batch.ID, h.part, at); err != nil {
		return err
	}
	outcomes := []account.Outcome{account.Waiting}
	if h.again {
		outcomes = append(outcomes, account.HandedOver)
	}
	for after := h.low - 1; !h.full && ctx.Err() == nil; {
		var window []batch.Entry
		for e, err := range h.Ledger.Entries(ctx, h.Batch.ID, store.Filter{Outcomes: outcomes, Open: true, Secrets: h.Batch.Secrets != "", After: after, Upto: h.high, Limit: handWindow}) {
			if err != nil {
				return h.dropped(err)
			}
			window = append(window, e)
		}
		if len(window) == 0 {
			break
		}
		after = window[len(window)-1].Row
		if err := h.window(ctx, window); err != nil {
			return h.dropped(err)
		}
	}
	if err := ctx.Err(); err != nil {
		return h.dropped(nil)
	}
	if n := len(h.results); n > 0 && !h.again {
		h.low, h.high = h.results[0].Entry.Row, h.results[n-1].Entry.Row
	}
	if len(h.results) == 0 {
		return h.dropped(nil)
	}
	return nil
}

// dropped takes away files that are not to be put.
func (h *handed) dropped(err error) error {
	h.results = nil
	return errors.Join(err, h.handing.Close())
}

// window puts entries into the files until they are full.
func (h *handed) window(ctx context.Context, window []batch.Entry) error {
	if !h.again {
		if err := h.refuseStale(ctx, window); err != nil {
			return err
		}
	}
	referred, err := h.referred(ctx, window)
	if err != nil {
		return err
	}
	var refused []store.Result
	for i := range window {
		e := &window[i]
		if h.trial > 0 && len(h.results) == h.trial {
			h.full = true
			break
		}
		if !h.again && waits(e) {
			if err := h.look(ctx, e); err != nil {
				return err
			}
		}
		if !e.Outcome.Waits() && !h.again {
			refused = append(refused, store.Result{Entry: *e})
			h.advance(1)
			continue
		}
		intended, err := h.intended(e, referred)
		if err != nil {
			return err
		}
		file, line, full, why, err := h.handing.Add(intended)
		switch {
		case err != nil:
			return err
		case full:
			h.full = true
		case why != nil && h.again: // it may stand in a file that was put and taken
			return &batch.Guard{Message: fmt.Sprintf("the post of batch %d was cut off while its files were put, and the export is another since: row %d could not be written into them any more (%s)", h.Batch.ID, e.Row, why[0].Message), Remedy: "Let “accounts” in evenledger.yaml be the export that the batch was posted with, and post again."}
		case why != nil:
			for _, f := range why {
				e.Find(f.Level, f.Code, f.Field, "", f.Message)
			}
			h.refuse(e)
			refused = append(refused, store.Result{Entry: *e})
			h.advance(1)
		default:
			e.Outcome, e.Place = account.HandedOver, &batch.Place{File: file, Line: line}
			e.Changes, e.Known, e.Cells, e.Secret = nil, nil, nil, "" // the ledger has them
			h.results = append(h.results, store.Result{Entry: *e})
		}
		if h.full {
			break
		}
	}
	return h.settle(ctx, refused)
}

// look sees that an account that is there is as it was when the batch was drafted.
func (h *handed) look(ctx context.Context, e *batch.Entry) error {
	if e.Intent == account.Create {
		return nil
	}
	if name, is := h.protected(e, nil); is {
		h.refuseProtected(e, name)
		return nil
	}
	_, _, err := h.settleChange(ctx, e, false)
	return err
}

// referred are the identifiers, as they are or will be, of the rows that entries refer to.
func (h *handed) referred(ctx context.Context, window []batch.Entry) (map[int]string, error) {
	var rows []int
	for i := range window {
		for _, s := range window[i].Steps {
			if s.Do == membership.Refer {
				rows = append(rows, s.Row)
			}
		}
	}
	if len(rows) == 0 {
		return nil, nil
	}
	ids := map[int]string{}
	for e, err := range h.Ledger.Entries(ctx, h.Batch.ID, store.Filter{Rows: rows}) {
		if err != nil {
			return nil, err
		}
		if !e.Outcome.IsBad() {
			ids[e.Row] = h.willBe(&e)
		}
	}
	return ids, nil
}

// willBe is the identifier that an entry's account has, or will have once it is made.
func (p *run) willBe(e *batch.Entry) string {
	if e.Account != "" {
		return e.Account
	}
	i := slices.IndexFunc(e.Changes, func(c account.Change) bool { return c.Field == p.about.Naming })
	if i < 0 {
		return ""
	}
	return e.Changes[i].After.Text()
}

// intended is all that is to be done with an entry's account, with what its steps and its password add.
func (h *handed) intended(e *batch.Entry, referred map[int]string) (all system.Intended, err error) {
	all = e.Intended()
	all.Changes = slices.Clone(all.Changes)
	for _, s := range e.Steps {
		if id := referred[s.Row]; s.Do == membership.Refer && id != "" {
			all.Changes = append(all.Changes, account.Change{Field: s.Kind, After: account.Of(id)})
		}
	}
	if e.Secret != "" && h.hander().HoldsPasswords() {
		wanted, err := h.wantedOf(e)
		if err != nil {
			return all, err
		}
		all.Password = wanted.Password
	}
	return all, nil
}

// note notes which rows are about to be put into which files.
func (h *handed) note(ctx context.Context, layout string) error {
	files, err := h.handing.End()
	if err != nil {
		return h.dropped(err)
	}
	if err := h.claim(ctx); err != nil {
		return h.dropped(err)
	}
	for _, f := range files {
		h.Batch.Files = append(h.Batch.Files, batch.File{Name: f.Name, Part: h.part, Rows: f.Rows, Low: h.low, High: h.high, Sum: f.Sum, Bytes: f.Bytes, Sealed: f.Sealed, At: h.Clock.Now(), Layout: layout})
	}
	if err := h.Ledger.Save(ctx, h.Batch); err != nil {
		return h.dropped(err)
	}
	return nil
}

// claim notes that the rows are about to be handed over.
func (h *handed) claim(ctx context.Context) error {
	entries := make([]batch.Entry, len(h.results))
	for i := range h.results {
		entries[i].Row = h.results[i].Entry.Row
	}
	claim, err := h.at.Lease.Claim(ctx, entries, h.Clock.Now())
	for i := range h.results {
		h.results[i].Claim = claim
	}
	return err
}

// put has the files be where they are fetched, and notes that their rows are handed over. Was has the hashes of those
// that an earlier post noted.
func (h *handed) put(ctx context.Context, was map[string]string) error {
	if len(h.results) == 0 {
		return nil
	}
	if was != nil {
		if _, err := h.handing.End(); err != nil {
			return h.dropped(err)
		}
		if err := h.claim(ctx); err != nil { // which answers for the one that was cut off as well
			return h.dropped(err)
		}
	}
	seal, err := h.seal(ctx)
	if err != nil {
		return h.dropped(err)
	}
	if err := h.at.May(); err != nil {
		return h.dropped(err)
	}
	// From here on it is the application's: that is noted, whoever wants to stop.
	after := context.WithoutCancel(ctx)
	put, err := h.handing.Put(after, seal, was)
	if err == nil && was != nil {
		err = h.noteOther(after, put, was)
	}
	if err == nil {
		for some := range slices.Chunk(h.results, handWindow) {
			if err = h.settle(after, some); err != nil {
				break
			}
			h.advance(len(some))
		}
	}
	return errors.Join(err, h.handing.Close())
}

// noteOther notes what was put by a post that went on, where it is otherwise than the one that was cut off had noted: the
// export that lines are written from may be a newer one.
func (h *handed) noteOther(ctx context.Context, put []system.HandedFile, was map[string]string) error {
	other := false
	for _, p := range put {
		i := slices.IndexFunc(h.Batch.Files, func(f batch.File) bool { return f.Part == h.part && f.Name == p.Name })
		switch {
		case i < 0: // a value that names a file is another now
			f := h.Batch.Files[slices.IndexFunc(h.Batch.Files, func(f batch.File) bool { return f.Part == h.part })]
			f.Name, f.Rows, f.Sum, f.Bytes, f.Sealed = p.Name, p.Rows, p.Sum, p.Bytes, p.Sealed
			h.Batch.Files = append(h.Batch.Files, f)
			other = true
		case p.Sum != was[p.Name]:
			h.Batch.Files[i].Rows, h.Batch.Files[i].Sum, h.Batch.Files[i].Bytes = p.Rows, p.Sum, p.Bytes
			other = true
		}
	}
	if !other {
		return nil
	}
	return h.Ledger.Save(ctx, h.Batch)
}

// seal is what files with passwords are sealed with; nil: there are none.
func (h *handed) seal(ctx context.Context) (system.Seal, error) {
	if !h.hander().HoldsPasswords() {
		return nil, nil
	}
	if h.Batch.FilesKey == "" {
		key, err := h.Vault.NewFileKey()
		if err != nil {
			return nil, err
		}
		h.Batch.FilesKey = key
		if err := h.Ledger.Save(ctx, h.Batch); err != nil {
			return nil, err
		}
	}
	return func(content []byte) ([]byte, error) { return h.Vault.SealFile(h.Batch.FilesKey, content) }, nil
}
