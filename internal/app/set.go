package app

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/drafting"
	"evenledger/internal/sheet"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// A Member is a sheet with all that is needed to work on it for one system of a set.
type Member struct {
	System string
	*Job            // nil: it cannot be worked on
	Err    error    // why not
	Left   []string // of the sheet's fields and kinds of memberships, what the system does not have
}

// OpenSet readies a job for each system of the set that the request or its brief means; of a
// single system one, and then the set has no name. A system that cannot be reached has an
// error, and leaves the others alone. What only some systems have is left to those.
func (a *App) OpenSet(ctx context.Context, path string, request Request) (members []Member, set string, err error) {
	var of workspace.Set
	isSet := false
	if w, err := a.FindWorkspace(); err == nil { // else Open tells what is wrong, or does without
		named, err := systemNamed(w, request)
		if err != nil {
			return nil, "", err
		}
		of, isSet = w.Set(named)
	}
	if !isSet {
		j, err := a.Open(ctx, path, request)
		if err != nil {
			return nil, "", err
		}
		return []Member{{System: j.Target.Name, Job: j}}, "", nil
	}
	if path == sheet.StandardInput {
		return nil, "", mistake("a sheet for a set of systems is read once for each, and standard input can be read but once", "Write it into a file first.")
	}
	members = make([]Member, len(of.Systems))
	open := func(i int, request Request) {
		request.System = of.Systems[i]
		members[i].System = of.Systems[i]
		members[i].Job, members[i].Err = a.Open(ctx, path, request)
	}
	request.among = &among{}
	open(0, request) // what a feed brings is brought once
	if members[0].Job != nil {
		request.among.local = members[0].local
	}
	var all sync.WaitGroup
	for i := range members[1:] {
		all.Go(func() { open(i+1, request) })
	}
	all.Wait()
	if err := a.agree(members); err != nil {
		return nil, "", errors.Join(err, CloseSet(members))
	}
	return members, of.Name, nil
}

// among is what jobs of one set share.
type among struct {
	local *Local // nil: it is not brought yet
}

// CloseSet closes the jobs of a set.
func CloseSet(members []Member) (err error) {
	for _, m := range slices.Backward(members) { // what was brought goes with the first
		if m.Job != nil {
			err = errors.Join(err, m.Close())
		}
	}
	return err
}

// agree sees what is left where. What no system has is a mistake of the sheet's or brief's,
// and so is what is wrong for all of them alike.
func (a *App) agree(members []Member) error {
	var common []string
	reached := 0
	for i := range members {
		m := &members[i]
		if m.Job == nil {
			continue
		}
		m.Left = m.Job.left
		if reached++; reached == 1 {
			common = slices.Clone(m.Left)
		} else {
			common = slices.DeleteFunc(common, func(name string) bool { return !slices.Contains(m.Left, name) })
		}
	}
	if reached == 0 {
		return members[0].Err
	}
	if len(common) > 0 {
		return mistake(fmt.Sprintf("none of the systems has %s", strings.Join(common, ", ")), "Correct the brief, or mark what only expressions use with “send: false”.")
	}
	return nil
}

// systemNamed is the name of the system or set that a request means; empty: none is named.
func systemNamed(w *workspace.Workspace, request Request) (string, error) {
	if request.System != "" || request.Brief == "" {
		return request.System, nil
	}
	path, err := w.BriefPath(request.Brief)
	if err != nil {
		return "", mistake(err.Error(), "")
	}
	return brief.SystemNamed(path)
}

// Findings are those about the sheet as a whole for one of the members. A column that others
// use is not told as one that is not used.
func Findings(members []Member, of int) (findings []account.Finding) {
	if members[of].Job == nil {
		return nil
	}
	for _, f := range members[of].Findings {
		unused := f.Code == account.UnknownHeading
		if unused && slices.ContainsFunc(members, func(m Member) bool {
			return m.Job != nil && !slices.ContainsFunc(m.Findings, func(other account.Finding) bool { return other.Code == f.Code && other.Column == f.Column })
		}) {
			continue
		}
		findings = append(findings, f)
	}
	return findings
}

// givesNumbers reports whether new accounts get numbers that are free.
func (m Member) givesNumbers() bool {
	return m.Job != nil && slices.ContainsFunc(m.Brief.Fields, func(f brief.Field) bool { return f.Next.High > 0 && f.Send })
}

// DraftSet makes a batch for each member that could be opened. Members whose batch could not be
// made have the error.
func (a *App) DraftSet(ctx context.Context, l store.Store, members []Member, set string, progress func(stage string, rows int)) (made []*drafting.Made) {
	return a.draftSet(ctx, l, members, set, nil, progress)
}

// CompareSet makes a batch for each member that could be opened, lets look look at them, and
// throws them away. Members whose batch could not be made have the error.
func (a *App) CompareSet(ctx context.Context, l store.Store, members []Member, set string, progress func(stage string, rows int), look func(made []*drafting.Made) error) (err error) {
	a.draftSet(ctx, l, members, set, func(made []*drafting.Made) { err = look(made) }, progress)
	return err
}

// draftSet drafts batches, or if look is set compares.
func (a *App) draftSet(ctx context.Context, l store.Store, members []Member, set string, look func(made []*drafting.Made), progress func(stage string, rows int)) (made []*drafting.Made) {
	made = make([]*drafting.Made, len(members))
	compare := look != nil
	var drafts []*drafting.Draft
	var of []int
	if i := slices.IndexFunc(members, func(m Member) bool { return m.Err != nil }); i >= 0 && slices.ContainsFunc(members, Member.givesNumbers) && !compare {
		for at := range members {
			if members[at].Err == nil {
				members[at].Err = mistake(fmt.Sprintf("no numbers can be given: which are free in all of the set nobody can tell while %s cannot be looked at", members[i].System), "Draft again when it can be, or for the others alone, without “next” in the brief.")
			}
		}
		return made
	}
	told := &tally{counts: map[string][]int{}, of: len(members), tell: progress}
	for i := range members {
		if members[i].Err != nil {
			continue
		}
		d, err := a.Drafter(ctx, l, members[i].Job)
		if err != nil {
			members[i].Err = err
			continue
		}
		d.Batch.Set, d.Compare, d.Progress = set, compare, func(stage string, rows int) { told.add(i, stage, rows) }
		drafts, of = append(drafts, d), append(of, i)
	}
	if len(drafts) == 0 {
		return made
	}
	take := func(all []*drafting.Made, errs []error) {
		for n, i := range of {
			made[i], members[i].Err = all[n], errs[n]
		}
	}
	all, errs := drafting.MakeAll(ctx, drafts, func(all []*drafting.Made, errs []error) {
		if take(all, errs); compare {
			look(made)
		}
	})
	take(all, errs)
	return made
}

// A tally adds up how far several works that go on side by side have come.
type tally struct {
	mu     sync.Mutex
	counts map[string][]int // stage → done, by work
	of     int
	tell   func(stage string, rows int)
}

func (t *tally) add(work int, stage string, rows int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.counts[stage] == nil {
		t.counts[stage] = make([]int, t.of)
	}
	t.counts[stage][work] = rows
	total := 0
	for _, n := range t.counts[stage] {
		total += n
	}
	if t.tell != nil {
		t.tell(stage, total)
	}
}

// BatchesNamed returns the batches that a text means: numbers such as 17, 12-14 or 12,14; “last”,
// which is the newest with those that stand beside it; or a set, which is its newest batches.
// Several are in order of their numbers.
func BatchesNamed(ctx context.Context, w *workspace.Workspace, l store.Store, text string) (batches []*batch.Batch, err error) {
	if _, is := w.Set(text); is {
		return newestOf(ctx, l, text)
	}
	if text == "last" {
		return lastDrafted(ctx, w, l)
	}
	seen := map[int]bool{}
	for part := range strings.SplitSeq(text, ",") {
		from, to, isRange := strings.Cut(part, "-")
		low, err := strconv.Atoi(strings.TrimSpace(from))
		high := low
		if err == nil && isRange {
			high, err = strconv.Atoi(strings.TrimSpace(to))
		}
		if err != nil || low < 1 || high < low || high-low > 999 {
			return nil, mistake(fmt.Sprintf("“%s” is not a batch's number", text), "“evenledger batches” lists them.")
		}
		for id := low; id <= high; id++ {
			if seen[id] {
				continue
			}
			seen[id] = true
			b, err := l.Batch(ctx, id)
			if errors.Is(err, store.ErrNoBatch) && isRange {
				continue // a draft that was given up leaves its number
			}
			if err != nil {
				return nil, err
			}
			batches = append(batches, b)
		}
	}
	if len(batches) == 0 {
		return nil, store.ErrNoBatch
	}
	slices.SortFunc(batches, func(x, y *batch.Batch) int { return x.ID - y.ID })
	return batches, nil
}

// lastDrafted returns the batch that was drafted last from this folder, with those that stand beside it; where nobody remembers, the
// newest of the ledger. If the last draft failed, what is newest is not what is meant.
func lastDrafted(ctx context.Context, w *workspace.Workspace, l store.Store) (batches []*batch.Batch, err error) {
	all, err := l.Batches(ctx)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, mistake("nothing has been drafted yet", "Draft a sheet: evenledger draft SHEET -b BRIEF")
	}
	id, known := w.LastDraft()
	if known && id == 0 {
		return nil, mistake("the last draft made no batch", fmt.Sprintf("Draft again, or name the batch that is meant by its number: “evenledger batches” lists them; the newest is %d.", all[0].ID))
	}
	at := slices.IndexFunc(all, func(b batch.Batch) bool { return b.ID == id })
	if at < 0 {
		at = 0
	}
	for i := range all {
		if b := &all[i]; i == at || b.Beside > 0 && b.Beside == all[at].Beside {
			batches = append(batches, b)
		}
	}
	slices.Reverse(batches)
	return batches, nil
}

// newestOf returns the newest batches of a set.
func newestOf(ctx context.Context, l store.Store, set string) (batches []*batch.Batch, err error) {
	all, err := l.Batches(ctx)
	if err != nil {
		return nil, err
	}
	for i := range all {
		b := &all[i]
		switch {
		case len(batches) == 0 && b.Set == set:
			batches = append(batches, b)
		case len(batches) > 0 && b.Beside > 0 && b.Beside == batches[0].Beside:
			batches = append(batches, b)
		}
	}
	if len(batches) == 0 {
		return nil, mistake(fmt.Sprintf("no sheet has been drafted for the set %s yet", set), "Draft one: evenledger draft SHEET --system "+set)
	}
	slices.Reverse(batches)
	return batches, nil
}
