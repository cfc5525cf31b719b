package posting

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/keyset"
	"evenledger/internal/membership"
	"evenledger/internal/readback"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// Reading back takes at most this part of the requests that the post itself took, where answers
// can stand for the rest.
const (
	partRead  = 5
	leastRead = 20 // rows that are read in any case
)

// A proving reads back what the batch did, and holds it against what was to be.
type proving struct {
	*run
	reading *readback.Reading
	until   time.Time     // what the system shows late is looked at again
	read    map[int]bool  // of the rows whose answers showed them whole, those that are read all the same; nil: all
	known   []batch.Entry // all that are to be read back, in the order of their rows; nil: the ledger knows
	written *keyset.Set   // the accounts of what this worker wrote down, with their rows
	done    map[int]bool  // rows that were found as they were to be
	spared  []int         // rows that were not read, as their answers showed them whole
	wrong   bool          // an answer was found to have shown what is not so
}

// longWait is how long a wait is of which a person is told.
const longWait = 10 * time.Second

// waits tells, once, that what the system shows late is waited for so long at most.
func (p *run) waits(left time.Duration) {
	if p.Waiting != nil && left > longWait {
		p.telling.Do(func() { p.Waiting(p.Clock.Now().Add(left)) })
	}
}

// prove reads back what was done, before anything goes out that says so. What is otherwise than
// it was to be is settled by what is there, not by what was answered.
func (p *run) prove(ctx context.Context, _ func(error)) error {
	proofs, err := p.Ledger.Proofs(ctx, p.Batch.ID)
	if err != nil {
		return ignoreCancel(ctx, err)
	}
	total := proofs[""] + proofs[batch.Shown] + proofs[batch.Unseen]
	if total == 0 {
		return nil
	}
	p.begin("proof", total)
	w := &proving{run: p, known: p.remembered(total), written: p.wrote, done: map[int]bool{}, until: p.Clock.Now().Add(p.Settle),
		reading: &readback.Reading{Ledger: p.Ledger, System: p.System, Batch: p.Batch, Together: p.slots(), Clock: p.Clock}}
	p.wrote = nil
	if err := w.all(ctx, proofs); err != nil && ctx.Err() == nil {
		return fmt.Errorf("what was done could not be read back: %w", err)
	}
	return nil
}

func (w *proving) all(ctx context.Context, proofs map[batch.Proof]int) error {
	if err := w.spare(ctx, proofs); err != nil {
		return err
	}
	if err := w.skim(ctx, proofs); err != nil {
		return err
	}
	if err := w.windows(ctx); err != nil {
		return err
	}
	if w.wrong && len(w.spared) > 0 { // then no answer stands for anything
		w.read, w.spared = nil, nil
		return w.windows(ctx)
	}
	w.advance(len(w.spared))
	return w.at.Lease.Prove(ctx, batch.Answered, w.spared)
}

// byAnswers reports whether reading so many accounts back would take more than its part of the
// requests that making or changing them takes; so many more are still to be made.
func (p *run) byAnswers(ctx context.Context, n, more int) (bool, error) {
	way, err := system.Looks(ctx, p.System, n, more)
	return err == nil && n > leastRead && way.Requests*partRead > p.requests(n), err
}

// requests is how many it takes to make or change so many accounts, at least.
func (p *run) requests(n int) int {
	atOnce := max(1, p.about.Can.AtOnce)
	return (n + atOnce - 1) / atOnce
}

// spare picks the rows that are read back though the answers about them showed them whole, evenly
// over the batch.
func (w *proving) spare(ctx context.Context, proofs map[batch.Proof]int) error {
	n := proofs[batch.Shown]
	if n == 0 {
		return nil
	}
	spares, err := w.byAnswers(ctx, n+proofs[""], 0)
	if err != nil || !spares {
		return err
	}
	budget := max(leastRead, w.requests(n)/partRead*max(1, w.about.Can.ByIDs())-proofs[""])
	if budget >= n {
		return nil
	}
	w.read = map[int]bool{}
	i := 0
	for e, err := range w.entries(ctx, 0, 0) {
		if err != nil {
			return err
		}
		if e.Proof != batch.Shown {
			continue
		}
		if i*budget/n != (i+1)*budget/n || i == 0 {
			w.read[e.Row] = true
		}
		i++
	}
	return nil
}

// remembered are the entries that are to be read back, in their order, if this worker wrote all of
// so many down; else nil.
func (p *run) remembered(total int) (all []batch.Entry) {
	for _, row := range slices.Sorted(maps.Keys(p.kept)) {
		if e := p.kept[row]; slices.Contains([]batch.Proof{"", batch.Unseen, batch.Shown}, e.Proof) {
			all = append(all, e)
		}
	}
	if p.kept = nil; len(all) != total {
		return nil
	}
	return all
}

// entries yields those that are to be read back, beyond a row.
func (w *proving) entries(ctx context.Context, after, limit int) func(func(batch.Entry, error) bool) {
	if w.known != nil {
		return func(yield func(batch.Entry, error) bool) {
			for _, e := range w.known { // not more than one window
				if e.Row > after && !w.done[e.Row] && !yield(e, nil) {
					return
				}
			}
		}
	}
	return w.Ledger.Entries(ctx, w.Batch.ID, store.Filter{Unproven: true, After: after, Limit: limit})
}

// ready reports whether all that is to be done with an entry in the system was done: what waits is
// proven when it is.
func ready(e *batch.Entry) bool {
	return !slices.ContainsFunc(e.Steps, func(s membership.Step) bool { return s.Within() && s.Waits() })
}

// steps reports whether anything was done in the system besides what was done with the account itself.
func steps(e *batch.Entry) bool {
	return slices.ContainsFunc(e.Steps, func(s membership.Step) bool {
		return s.Within() && (s.Result == membership.Done || s.Result == membership.Already)
	})
}

// skims is how many entries at least are held against one list of all accounts as it comes: of fewer the
// accounts are kept until all are there, unless the entries are at hand.
const (
	skims      = tieWindow
	skimsKnown = 1000
)

// skim lists all accounts once, where there are many entries and finding each takes more requests,
// and proves those that are as they were to be. The others are looked at by themselves.
func (w *proving) skim(ctx context.Context, proofs map[batch.Proof]int) error {
	total, least := proofs[""]+proofs[batch.Shown]+proofs[batch.Unseen], skims
	if w.known != nil {
		least = skimsKnown
	}
	if total <= least || w.read != nil {
		return nil
	}
	way, err := system.Looks(ctx, w.System, total, 0)
	if err != nil || !way.Listed {
		return err
	}
	rows, err := w.accountsOf(ctx, total)
	if err != nil {
		return err
	}
	fields := append(slices.Clone(w.fields()), w.about.Suspension.Field)
	fields = slices.DeleteFunc(fields, func(field string) bool { return field == "" })
	some, at := map[string]account.Account{}, []int{}
	group, comparing := errgroup.WithContext(ctx)
	group.SetLimit(1) // what came is compared while more comes
	flush := func() {
		accounts, rows := some, at
		some, at = map[string]account.Account{}, nil
		group.Go(func() error {
			entries, err := w.ofRows(comparing, rows)
			if err != nil {
				return err
			}
			// Of the others more than their account has to be looked at.
			entries = slices.DeleteFunc(entries, func(e batch.Entry) bool { return !ready(&e) || steps(&e) || e.Did == account.Removed })
			differ, err := w.reading.CompareListed(comparing, entries, accounts)
			if err == nil {
				err = w.so(comparing, entries, differ)
			}
			return err
		})
	}
	for a, err := range w.System.List(comparing, slices.Compact(slices.Sorted(slices.Values(fields)))) {
		if err != nil {
			return errors.Join(err, group.Wait())
		}
		if row := rows.First(a.ID); row != 0 {
			some[a.ID] = a
			if at = append(at, row); len(at) == skims/10 {
				flush()
			}
		}
	}
	flush()
	return group.Wait()
}

// accountsOf are the accounts that are to be read back, with the row of each: so many rows.
func (w *proving) accountsOf(ctx context.Context, total int) (*keyset.Set, error) {
	if w.written.Len() == total {
		return w.written, nil
	}
	rows := keyset.New()
	for e, err := range w.entries(ctx, 0, 0) {
		if err != nil {
			return nil, err
		}
		rows.Add(e.Account, e.Row)
	}
	return rows, nil
}

// ofRows are the entries of rows that are to be read back.
func (w *proving) ofRows(ctx context.Context, rows []int) (entries []batch.Entry, err error) {
	if w.known == nil {
		for e, err := range w.Ledger.Entries(ctx, w.Batch.ID, store.Filter{Unproven: true, Rows: rows}) {
			if err != nil {
				return nil, err
			}
			entries = append(entries, e)
		}
		return entries, nil
	}
	for _, row := range rows {
		if i, there := slices.BinarySearchFunc(w.known, row, func(e batch.Entry, row int) int { return e.Row - row }); there {
			entries = append(entries, w.known[i])
		}
	}
	return entries, nil
}

// windows goes through what is to be read back, many entries at a time.
func (w *proving) windows(ctx context.Context) error {
	for after := 0; ctx.Err() == nil; {
		var window []batch.Entry
		read := 0
		for e, err := range w.entries(ctx, after, tieWindow) {
			if err != nil {
				return ignoreCancel(ctx, err)
			}
			read, after = read+1, e.Row
			switch {
			case !ready(&e):
			case e.Proof == batch.Shown && !steps(&e) && w.read != nil && !w.read[e.Row]:
				w.spared = append(w.spared, e.Row)
			default:
				window = append(window, e)
			}
		}
		if read == 0 {
			return nil
		}
		if err := w.window(ctx, window); err != nil {
			return err
		}
	}
	return nil
}

// window reads entries back until they are as they were to be, or it is too late for them to be.
func (w *proving) window(ctx context.Context, entries []batch.Entry) error {
	closed := false // who may sign in and was not to has been shut out once more
	for pause := 100 * time.Millisecond; len(entries) > 0; pause = min(2*pause, 2*time.Second) {
		differ, err := w.reading.Compare(ctx, entries)
		if err != nil {
			return err
		}
		if err := w.so(ctx, entries, differ); err != nil || len(differ) == 0 {
			return err
		}
		entries = readback.Differing(entries, differ)
		again := false
		if !closed && !w.Later {
			closed = true
			if again, err = w.shutOut(ctx, entries, differ); err != nil {
				return err
			}
			if !w.again { // else somebody may have taken them out since
				joined, err := w.joinAgain(ctx, entries, differ)
				if err != nil {
					return err
				}
				again = again || joined
			}
		}
		left := w.until.Sub(w.Clock.Now())
		if left <= 0 && !again {
			return w.otherwise(ctx, entries, differ)
		}
		if !again {
			w.waits(left)
			if err := w.Clock.Wait(ctx, min(pause, left)); err != nil {
				return err
			}
		}
	}
	return nil
}

// so notes the entries that are as they were to be: all but those that differ.
func (w *proving) so(ctx context.Context, entries []batch.Entry, differ []readback.Row) error {
	bad := map[int]bool{}
	for _, d := range differ {
		bad[d.Row] = true
	}
	var rows []int
	for i := range entries {
		e := &entries[i]
		if bad[e.Row] {
			continue
		}
		if w.known != nil {
			w.done[e.Row] = true
		}
		kept := func(f account.Finding) bool { return f.Code == account.NotKept && f.Field != "password" }
		if e.Proof != batch.Unseen && !slices.ContainsFunc(e.Findings, kept) {
			rows = append(rows, e.Row)
			continue
		}
		// What the answer told is not so.
		e.Findings = slices.DeleteFunc(e.Findings, kept)
		e.Proof = batch.Proven
		w.clear(e)
		w.settled(e)
	}
	w.advance(len(rows))
	return w.at.Lease.Prove(ctx, batch.Proven, rows)
}

// settled notes what became of an entry that was read back.
func (w *proving) settled(e *batch.Entry) {
	e.Settle()
	w.results <- resultOf(e)
	w.advance(1)
}

// shutOut suspends once more who may sign in and was not to, and reports whether there was anybody.
func (w *proving) shutOut(ctx context.Context, entries []batch.Entry, differ []readback.Row) (any bool, err error) {
	open := map[int]bool{}
	for _, d := range differ {
		if slices.ContainsFunc(d.Differences, func(d readback.Difference) bool { return d.Of == readback.OfSignIn }) {
			open[d.Row] = true
		}
	}
	for i := range entries {
		e := &entries[i]
		if !open[e.Row] || ctx.Err() != nil {
			continue
		}
		now, err := w.System.Get(ctx, e.Account, w.fields())
		if err == nil && batch.Stranger(w.about.Schema, e.Left(), &now, w.Batch.Match) {
			continue
		}
		if err == nil {
			now, err = system.Change(ctx, w.may, w.System, now, []account.Change{w.about.Mark(&now, true)}, w.fields())
		}
		var refusal *system.Refusal
		var part *system.Partial
		switch {
		case err == nil:
			e.Version = cmp.Or(now.Version, e.Version)
		case errors.Is(err, system.ErrGone), errors.Is(err, system.ErrChanged), errors.As(err, &refusal), errors.As(err, &part), isOpen(err): // what is there tells
		default:
			return any, err
		}
		any = true
	}
	return any, nil
}

// joinAgain sends memberships once more that were answered well and are not shown, those of one thing together, and reports whether
// there were any.
func (w *proving) joinAgain(ctx context.Context, entries []batch.Entry, differ []readback.Row) (any bool, err error) {
	ties := map[thing][]system.Tie{}
	for i, e := range readback.Differing(entries, differ) {
		for _, d := range differ[i].Differences {
			if s := e.Steps; d.Of == readback.OfStep && s[d.Step].Do == membership.Join && s[d.Step].Was == nil {
				at := thing{s[d.Step].Kind, s[d.Step].Thing}
				ties[at] = append(ties[at], system.Tie{Account: e.Account, Role: s[d.Step].Role, Section: s[d.Step].Section})
			}
		}
	}
	for at, all := range ties {
		for some := range slices.Chunk(all, max(1, w.about.Can.Ties)) {
			err := w.System.Tie(ctx, w.may, at.kind, at.id, some)
			var refusal *system.Refusal
			if err != nil && !errors.Is(err, system.ErrGone) && !errors.Is(err, system.ErrChanged) && !errors.As(err, &refusal) && !isOpen(err) {
				return any, err
			}
			any = true
		}
	}
	return any, nil
}

// otherwise settles entries by what is there.
func (w *proving) otherwise(ctx context.Context, entries []batch.Entry, differ []readback.Row) error {
	of := map[int][]readback.Difference{}
	for _, d := range differ {
		of[d.Row] = d.Differences
	}
	for i := range entries {
		e := &entries[i]
		w.wrong = w.wrong || e.Proof == batch.Shown
		seen := e.Proof != batch.Unseen
		e.Proof = batch.Otherwise
		w.clear(e)
		e.Findings = slices.DeleteFunc(e.Findings, func(f account.Finding) bool { return f.Code == account.NotKept && f.Field != "password" })
		for _, d := range of[e.Row] {
			w.tell(e, d, seen)
		}
		w.settled(e)
	}
	return nil
}

// tell tells one difference. Whether an account that was made is late or not there at all, only a
// further look tells.
func (w *proving) tell(e *batch.Entry, d readback.Difference, first bool) {
	blank := func(text string) string { return cmp.Or(text, "blank") }
	since := ""
	if w.again {
		since = "; it may have been so at first, and somebody changed it since"
	}
	switch {
	case d.Of == readback.OfSignIn:
		e.Find(account.Error, account.MaySignIn, d.What, "", fmt.Sprintf("the account %s may sign in, and was not to: it was suspended, and suspended once more when it was found open", w.named(e)))
	case d.Of == readback.OfAccount && e.Did == account.Created && first:
		e.Proof = batch.Unseen
		w.open(e, 1, fmt.Sprintf("the system answered that the account %s was made, and does not show it within %s, the “settle” of evenledger.yaml", w.named(e), w.Settle))
	case d.Of == readback.OfAccount && e.Did == account.Created:
		e.Find(account.Error, account.NotProven, "", "", fmt.Sprintf("the system answered that the account %s was made, and has not shown it since: it is not there", w.named(e)))
	case d.Of == readback.OfAccount && e.Did == account.Removed:
		e.Find(account.Error, account.NotProven, "", "", fmt.Sprintf("the system answered that the account %s was removed, and %s", w.named(e), d.Found))
	case d.Of == readback.OfAccount:
		e.Find(account.Error, account.AccountGone, "", "", fmt.Sprintf("the account %s is no longer in the system", w.named(e)))
	case d.Of == readback.OfStep && e.Steps[d.Step].Do == membership.Join && e.Steps[d.Step].Was == nil && !w.again:
		// It may be a member all the same: undoing takes it out, whatever is shown.
		e.Steps[d.Step].Result = membership.Unclear
		e.Find(account.Error, account.NotProven, d.What, "", fmt.Sprintf("the system answered twice that the account %s, and does not show it there: it drops members, or shows only some of them%s", e.Steps[d.Step].Text(), since))
	case d.Of == readback.OfStep:
		e.Steps[d.Step].Result = membership.Failed
		e.Find(account.Error, account.NotProven, d.What, "", fmt.Sprintf("the system answered that it was done, and it is otherwise: %s was to be “%s”, and is “%s”%s", d.What, d.Left, blank(d.Found), since))
	default:
		e.Find(account.Error, account.NotProven, d.What, "", fmt.Sprintf("the system answered that it was done, and it is otherwise: %s was to be “%s”, and is “%s”%s", d.What, blank(d.Left), blank(d.Found), since))
	}
}

// mayEnter counts the accounts that were not to sign in, and may.
func (p *run) mayEnter(ctx context.Context, wrong int) (n int, err error) {
	if wrong == 0 {
		return 0, nil
	}
	for e, err := range p.Ledger.Entries(ctx, p.Batch.ID, store.Filter{Outcomes: []account.Outcome{account.Failed}, Findings: true}) {
		if err != nil {
			return 0, err
		}
		if slices.ContainsFunc(e.Findings, func(f account.Finding) bool { return f.Code == account.MaySignIn }) {
			n++
		}
	}
	return n, nil
}

// named names an entry's account for a person.
func (w *proving) named(e *batch.Entry) string {
	a := account.Account{ID: e.Account, Fields: e.Left()}
	if name := a.Label(); name != e.Account {
		return name + " (" + e.Account + ")"
	}
	return cmp.Or(e.Account, e.Key)
}
