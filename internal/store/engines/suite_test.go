package engines_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
	"evenledger/internal/system"
)

// An opener opens the ledger of a test: the same one each time.
type opener func(t *testing.T) store.Store

// A tamperer runs a statement in the ledger of a test, past all that keeps it.
type tamperer func(t *testing.T, statement string)

// try tries an engine by what the rooms above rely on: what was written is there, nobody does the
// work of another whose lease runs, and what a process left behind when it died is found. Anew
// readies a new ledger.
func try(t *testing.T, anew func(t *testing.T) (opener, tamperer)) {
	for name, of := range map[string]func(*testing.T, opener){
		"what is written is there":      writtenIsThere,
		"changes come back":             changesComeBack,
		"filters":                       filters,
		"claims and results":            claimsAndResults,
		"drafts that broke off":         unfinishedDrafts,
		"steps and secrets":             stepsAndSecrets,
		"steps of every kind":           everyStep,
		"what was made of late":         madeOfLate,
		"parts of a stage":              parts,
		"the dead are taken over":       takenOver,
		"a worker that slept is fenced": fenced,
		"many at once":                  manyAtOnce,
		"somebody else was faster":      changed,
		"locks":                         locks,
		"runs":                          runs,
		"keys and copies":               keysAndCopies,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			open, _ := anew(t)
			of(t, open)
		})
	}
	t.Run("nothing is altered unseen", func(t *testing.T) { altered(t, anew) })
	t.Run("all of a batch is sealed", func(t *testing.T) { whole(t, anew) })
}

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// everything is a part with all rows.
var everything = store.Part{High: math.MaxInt32}

// worker is a process of that name.
func worker(name string) store.Worker {
	return store.Worker{Name: name, Who: name + " on a test", Term: time.Minute}
}

func join(t *testing.T, l store.Store, id int, names ...string) {
	for _, name := range names {
		_, err := l.Lease(id, worker(name)).Join(t.Context())
		require.NoError(t, err)
	}
}

// drafted makes a batch with one entry a row, from row 2 on.
func drafted(t *testing.T, l store.Store, entries ...batch.Entry) *batch.Batch {
	return draftedAs(t, l, batch.Draft{Made: noon, System: "crewdesk", Source: batch.Source{Sheet: "s.csv", Headings: []string{"No"}}}, entries...)
}

func draftedAs(t *testing.T, l store.Store, draft batch.Draft, entries ...batch.Entry) *batch.Batch {
	b := &batch.Batch{Draft: draft}
	b.Rows = len(entries)
	drafter := worker("drafter")
	require.NoError(t, l.Begin(t.Context(), drafter, b))
	for i := range entries {
		entries[i].Row, entries[i].Cells = i+2, []string{fmt.Sprint("cell", i)}
	}
	require.NoError(t, l.Drafting(b.ID).Add(t.Context(), entries))
	require.NoError(t, l.Drafting(b.ID).Seal(t.Context(), b))
	b.State = batch.Drafted
	require.NoError(t, l.Save(t.Context(), b))
	_, err := l.Lease(b.ID, drafter).Leave(t.Context())
	require.NoError(t, err)
	return b
}

func read(t *testing.T, l store.Store, id int, filter store.Filter) []batch.Entry {
	var all []batch.Entry
	for e, err := range l.Entries(t.Context(), id, filter) {
		require.NoError(t, err)
		all = append(all, e)
	}
	return all
}

func rowsOf(list []batch.Entry) (rows []int) {
	for _, e := range list {
		rows = append(rows, e.Row)
	}
	return rows
}

func flying(t *testing.T, l store.Store, id int) (rows []int) {
	open, err := l.InFlight(t.Context(), id, everything)
	require.NoError(t, err)
	for _, f := range open {
		rows = append(rows, f.Entry.Row)
	}
	return rows
}

func writtenIsThere(t *testing.T, open opener) {
	l := open(t)
	want := batch.Entry{
		Key: "1007", Intent: account.Update, Outcome: account.Waiting, Account: "u-1", Version: `W/"3"`,
		Changes:  []account.Change{{Field: "title", Before: account.Of("Clerk"), After: account.Blank()}, {Field: "phone", After: account.Of("=+1")}},
		Known:    map[string]account.Value{"title": account.Of("Clerk")},
		Findings: []account.Finding{{Row: 2, Level: account.Note, Code: account.OddWhiteSpace, Message: "m “?” ?1", Remedy: "r"}},
	}
	b := draftedAs(t, l, batch.Draft{Made: noon, Match: []string{"userName"}, Held: []string{"too many"}, Source: batch.Source{Sum: "abc", HeadingRow: 3}}, want)
	require.Error(t, l.Drafting(b.ID).Seal(t.Context(), b), "a draft is sealed once")
	l = open(t)
	again, err := l.Batch(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, b, again)
	want.Row, want.Cells = 2, []string{"cell0"}
	assert.Equal(t, []batch.Entry{want}, read(t, l, b.ID, store.Filter{Cells: true}))
	_, err = l.Batch(t.Context(), 9)
	assert.ErrorIs(t, err, store.ErrNoBatch)
	many := make([]int, 40000)
	for i := range many {
		many[i] = i
	}
	assert.Len(t, read(t, l, b.ID, store.Filter{Rows: many}), 1, "however many rows are named")
	sound, err := l.Upkeep().Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, store.Soundness{Batches: 1, Entries: 1, Problems: []string{}}, sound)
	id, err := l.Upkeep().ID(t.Context())
	require.NoError(t, err)
	assert.Len(t, id, 32)
}

func changesComeBack(t *testing.T, open opener) {
	l := open(t)
	value := rapid.Custom(func(t *rapid.T) account.Value {
		if rapid.Bool().Draw(t, "absent") {
			return account.Value{}
		}
		return account.Of(rapid.String().Draw(t, "text"))
	})
	rapid.Check(t, func(rt *rapid.T) {
		want := []account.Change{{Field: "title", Before: value.Draw(rt, "before"), After: value.Draw(rt, "after")}}
		b := drafted(t, l, batch.Entry{Changes: want})
		require.Equal(rt, want, read(t, l, b.ID, store.Filter{})[0].Changes)
	})
}

func filters(t *testing.T, open opener) {
	l := open(t)
	finding := []account.Finding{account.Find(account.Error, account.Stale, "x")}
	b := drafted(t, l,
		batch.Entry{Outcome: account.Waiting, Intent: account.Create},
		batch.Entry{Outcome: account.Refused, Findings: finding},
		batch.Entry{Outcome: account.Waiting, Intent: account.Update},
		batch.Entry{Outcome: account.Aside})
	for want, filter := range map[string]store.Filter{
		"[2 3 4 5]": {},
		"[2 4]":     {Outcomes: []account.Outcome{account.Waiting}},
		"[2 3 4]":   {Outcomes: []account.Outcome{account.Waiting, account.Refused}},
		"[3 5]":     {Rows: []int{5, 3, 99}},
		"[3]":       {Findings: true},
		"[4 5]":     {After: 3},
		"[2]":       {Limit: 1},
		"[5 4]":     {Limit: 2, Last: true},
		"[4]":       {Outcomes: []account.Outcome{account.Waiting}, After: 2, Limit: 5},
		"[]":        {Outcomes: []account.Outcome{account.Failed}},
	} {
		assert.Equal(t, want, fmt.Sprint(rowsOf(read(t, l, b.ID, filter))), "%+v", filter)
	}
	counts, waiting, err := l.Counts(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, account.Counts{account.Waiting: 2, account.Refused: 1, account.Aside: 1}, counts)
	assert.Equal(t, map[account.Intent]int{account.Create: 1, account.Update: 1}, waiting)
}

// What was claimed and has no result is in flight until a result of that claim, or of a later
// one, is noted.
func claimsAndResults(t *testing.T, open opener) {
	l, ctx, a := open(t), t.Context(), worker("a")
	waiting := batch.Entry{Outcome: account.Waiting, Intent: account.Create}
	b := drafted(t, l, waiting, waiting, batch.Entry{Outcome: account.Waiting, Intent: account.Update})
	all := read(t, l, b.ID, store.Filter{})
	_, err := l.Lease(b.ID, a).Claim(ctx, all[:2], noon)
	require.ErrorIs(t, err, store.ErrFenced, "nobody claims who is not at the batch")
	assert.Empty(t, flying(t, l, b.ID))
	join(t, l, b.ID, "a")
	first, err := l.Lease(b.ID, a).Claim(ctx, all[:2], noon)
	require.NoError(t, err)
	assert.Equal(t, []int{2, 3}, flying(t, l, b.ID))
	done := all[0]
	done.Outcome, done.Account = account.Created, "u-9"
	require.NoError(t, l.Lease(b.ID, a).Settle(ctx, []store.Result{{Entry: done, Claim: first}}, noon.Add(time.Second)))
	assert.Equal(t, []int{3}, flying(t, l, b.ID))
	require.NoError(t, l.Lease(b.ID, a).Settle(ctx, []store.Result{{Entry: all[1], Claim: first}}, noon)) // had no effect
	assert.Empty(t, flying(t, l, b.ID))
	second, err := l.Lease(b.ID, a).Claim(ctx, all[1:], noon.Add(time.Minute))
	require.NoError(t, err)
	assert.Equal(t, []int{3, 4}, flying(t, l, b.ID))
	failed := all[1]
	failed.Outcome, failed.Findings = account.Failed, []account.Finding{account.Find(account.Error, account.Unclear, "“quoted” \\ text")}
	require.NoError(t, l.Lease(b.ID, a).Settle(ctx, []store.Result{{Entry: failed, Claim: second}}, noon.Add(2*time.Minute)))
	now := read(t, l, b.ID, store.Filter{})
	assert.Equal(t, []account.Outcome{account.Created, account.Failed, account.Waiting}, []account.Outcome{now[0].Outcome, now[1].Outcome, now[2].Outcome})
	assert.Equal(t, "u-9", now[0].Account)
	assert.Equal(t, failed.Findings, now[1].Findings)
	steps, err := l.Attempts(ctx, b.ID, 3)
	require.NoError(t, err)
	require.Len(t, steps, 2)
	assert.Equal(t, account.Failed, steps[1].Result)
	assert.True(t, steps[0].Ended.IsZero() && steps[1].Ended.Equal(noon.Add(2*time.Minute)))
	require.NoError(t, l.Lease(b.ID, a).Settle(ctx, nil, noon), "nothing to note is no fault")
	last, err := l.LastEnded(ctx, b.ID)
	require.NoError(t, err)
	assert.True(t, last.Equal(noon.Add(2*time.Minute)))
}

// A draft that was cut short leaves nothing behind, and takes no number unless others were begun
// since; one that goes on is left alone, and batches only to compare have no number at all.
func unfinishedDrafts(t *testing.T, open opener) {
	l, ctx := open(t), t.Context()
	half := &batch.Batch{Draft: batch.Draft{Made: noon, System: "crewdesk"}}
	short := store.Worker{Name: "short", Term: time.Millisecond}
	require.NoError(t, l.Begin(ctx, short, half))
	require.NoError(t, l.Drafting(half.ID).Add(ctx, []batch.Entry{{Row: 2, Outcome: account.Aside, Cells: []string{"x"}}}))
	all, err := l.Batches(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
	_, err = l.Batch(ctx, half.ID)
	assert.ErrorIs(t, err, store.ErrNoBatch)
	time.Sleep(5 * time.Millisecond)
	b := drafted(t, open(t), batch.Entry{Outcome: account.Aside}) // another process: this one still lives
	assert.Equal(t, 1, b.ID, "the number of the dead is given again")

	going, other := &batch.Batch{Draft: batch.Draft{Made: noon}}, &batch.Batch{Draft: batch.Draft{Made: noon}}
	require.NoError(t, l.Begin(ctx, worker("a"), going))
	compared := &batch.Batch{ID: store.Unnumbered, Draft: batch.Draft{Made: noon}}
	require.NoError(t, l.Begin(ctx, worker("c"), compared))
	require.NoError(t, l.Begin(ctx, worker("b"), other))
	assert.Equal(t, []int{2, -1, 3}, []int{going.ID, compared.ID, other.ID})
	require.NoError(t, l.Drafting(going.ID).Discard(ctx))
	require.NoError(t, l.Drafting(compared.ID).Discard(ctx))
	require.NoError(t, l.Drafting(99).Discard(ctx))
	other.State = batch.Drafted
	require.NoError(t, l.Save(ctx, other))
	all, err = l.Batches(ctx)
	require.NoError(t, err)
	states := map[int]batch.State{}
	for _, b := range all {
		states[b.ID] = b.State
	}
	assert.Equal(t, map[int]batch.State{1: batch.Drafted, 2: batch.Unmade, 3: batch.Drafted}, states, "a number that was passed over says why")
	assert.Len(t, read(t, l, b.ID, store.Filter{}), 1)
	three := []*batch.Batch{{Draft: batch.Draft{Made: noon}}, {Draft: batch.Draft{Made: noon}}, {Draft: batch.Draft{Made: noon}}}
	require.NoError(t, l.Begin(ctx, worker("set"), three...))
	assert.Equal(t, []int{4, 5, 6}, []int{three[0].ID, three[1].ID, three[2].ID}, "a set's stand one after the other")
}

// Steps of every kind come back as they were, and that they are on their way is noted by itself.
func everyStep(t *testing.T, opens opener) {
	l := opens(t)
	steps := []membership.Step{
		{Do: membership.Join, Kind: "courses", Thing: "c1", Name: "Radio", Role: "tutor", Section: "A", Was: &[2]string{"learner", ""}, Divided: true},
		{Do: membership.Stay, Before: "ada=1"}, {Do: membership.Stay, Kind: "manager", Thing: "u3", Name: "Tom", Holder: true, Again: true},
		{Do: membership.Renew, Kind: "password", Choose: "passwordMustChange"},
		{Do: membership.Reown, Kind: "files", Name: "12 files", Numbers: &system.Renumbered{User: [2]int{1000, 2000}, Group: [2]int{100, 100}}},
		{Do: membership.Follow, Kind: "follow_ups", Name: "badge", To: "desk"}, {Do: membership.Notify, Kind: "notices", Name: "welcome", To: "ada@brindlesound.example", Tells: true, Row: 3},
	}
	odd := []membership.Step{{Do: membership.Join, Kind: "groups", Name: "Night\xff\x00watch", Made: true}} // not every engine keeps that
	b := drafted(t, l, batch.Entry{Intent: account.Update, Outcome: account.Waiting, Account: "u1", Steps: steps}, batch.Entry{Intent: account.Update, Outcome: account.Waiting, Account: "u2", Steps: steps},
		batch.Entry{Key: "a\x00b", Outcome: account.Aside}, batch.Entry{Intent: account.Update, Outcome: account.Waiting, Account: "u\xff4"}, batch.Entry{Intent: account.Update, Outcome: account.Waiting, Account: "u5", Steps: odd})
	for _, e := range read(t, l, b.ID, store.Filter{Rows: []int{2, 3}}) {
		assert.Equal(t, steps, e.Steps)
	}
	join(t, l, b.ID, "a")
	require.NoError(t, l.Lease(b.ID, worker("a")).ClaimSteps(t.Context(), map[int][]int{0: {2, 3}, 5: {3}}))
	for i, sending := range [][]int{{0}, {0, 5}} { // of the first two
		want := slices.Clone(steps)
		for _, n := range sending {
			want[n].Result = membership.Sending
		}
		assert.Equal(t, want, read(t, l, b.ID, store.Filter{})[i].Steps)
	}
	came := read(t, l, b.ID, store.Filter{Rows: []int{5, 6}})
	came[0].Did, came[0].Account, came[0].Version, came[0].Outcome = account.Updated, "u\xff\x004", "W/\xff", account.Updated
	came[1].Did, came[1].Outcome, came[1].Steps[0].Thing, came[1].Steps[0].Result = account.Updated, account.Updated, "g\xff\x001", membership.Done
	require.NoError(t, l.Lease(b.ID, worker("a")).Settle(t.Context(), []store.Result{{Entry: came[0]}, {Entry: came[1]}}, noon))
	problems, err := l.History(b.ID).Problems(t.Context())
	require.NoError(t, err)
	assert.Empty(t, problems, "that something is on its way is no part of what became of it")
}

// Steps, names of people and sealed passwords come back as they were, and what was
// done with each step.
func stepsAndSecrets(t *testing.T, opens opener) {
	l := opens(t)
	steps := []membership.Step{
		{Do: membership.Refer, Kind: "manager", Name: "7", Row: 3}, {Do: membership.Leave, Kind: "groups", Thing: "g1", Name: "Deck", Was: &[2]string{"boss", ""}},
		{Do: membership.Join, Kind: "groups", Name: "Night watch", Made: true}, {Do: membership.Join, Kind: "courses", Thing: "c1", Name: "Radio", Role: "tutor"},
	}
	manager := account.Change{Field: "manager", Before: account.Of("u1"), After: account.Of("u2"), Names: &[2]string{"Ana", "Tom\x1fKaya"}}
	shut := account.Change{Field: "active", After: account.Of("false")}
	b := drafted(t, l,
		batch.Entry{Intent: account.Create, Outcome: account.Waiting, Steps: steps, Secret: "sealed", Changes: []account.Change{shut}},
		batch.Entry{Intent: account.Update, Outcome: account.Waiting, Account: "u9", Changes: []account.Change{manager}},
		batch.Entry{Outcome: account.Refused})
	require.NoError(t, l.Drafting(b.ID).Add(t.Context(), []batch.Entry{{Row: batch.UnlistedRow(1), Key: "bo", Intent: account.Suspend, Outcome: account.Waiting}}))
	all := read(t, l, b.ID, store.Filter{})
	require.Len(t, all, 4)
	assert.Equal(t, steps, all[0].Steps)
	assert.Empty(t, all[0].Secret, "it is read only by who asks for it")
	assert.Equal(t, &[2]string{"Ana", "Tom Kaya"}, all[1].Changes[0].Names)
	assert.Equal(t, account.Of("u2"), all[1].Changes[0].After)
	assert.Equal(t, 1, batch.Unlisted(all[3].Row))
	assert.Equal(t, []int{2}, rowsOf(read(t, l, b.ID, store.Filter{Does: membership.Refer})))
	assert.Equal(t, []int{2}, rowsOf(read(t, l, b.ID, store.Filter{Gives: &shut})))
	open, err := l.Count(t.Context(), b.ID, store.Filter{Outcomes: []account.Outcome{account.Waiting}, Open: true})
	require.NoError(t, err)
	assert.Equal(t, 3, open)
	none, err := l.Drafting(b.ID).WithoutAccount(t.Context(), []int{2, 3, 4})
	require.NoError(t, err)
	assert.Equal(t, map[int]bool{4: true}, none, "neither has it an account nor does it get one")
	waiting, err := l.Count(t.Context(), b.ID, store.Filter{Outcomes: []account.Outcome{account.Waiting}, Open: true})
	require.NoError(t, err)
	assert.Equal(t, 3, waiting)

	made := read(t, l, b.ID, store.Filter{Secrets: true})[0]
	assert.Equal(t, "sealed", made.Secret)
	join(t, l, b.ID, "a")
	n, err := l.Lease(b.ID, worker("a")).Claim(t.Context(), []batch.Entry{made}, noon)
	require.NoError(t, err)
	made.Did, made.Account = account.Created, "u7"
	made.Settle()
	require.Equal(t, account.Waiting, made.Outcome, "its steps wait")
	require.NoError(t, l.Lease(b.ID, worker("a")).Settle(t.Context(), []store.Result{{Entry: made, Claim: n}}, noon))
	_, intents, err := l.Counts(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, map[account.Intent]int{account.Finish: 1, account.Update: 1, account.Suspend: 1}, intents)
	assert.Equal(t, []int{2}, rowsOf(read(t, l, b.ID, store.Filter{Steps: true})))
	accounts, outcomes, err := l.Accounts(t.Context(), b.ID, []int{2, 3})
	require.NoError(t, err)
	assert.Equal(t, map[int]string{2: "u7", 3: "u9"}, accounts)
	assert.Equal(t, account.Waiting, outcomes[2])

	made.Steps[0].Result, made.Steps[1].Result, made.Steps[2].Result, made.Steps[3].Result = membership.Done, membership.Failed, membership.Done, membership.Done
	made.Steps[2].Thing = "a thing of 2=3"
	made.Settle()
	require.Equal(t, account.Failed, made.Outcome)
	require.NoError(t, l.Lease(b.ID, worker("a")).Settle(t.Context(), []store.Result{{Entry: made}}, noon))
	assert.Equal(t, made.Steps, read(t, l, b.ID, store.Filter{})[0].Steps)
	assert.Empty(t, flying(t, l, b.ID), "its account's own step stays settled")
	kept, err := l.Passwords(b.ID).Count(t.Context())
	require.NoError(t, err)
	assert.Equal(t, store.PasswordCounts{Got: 1}, kept)
	does, err := l.Does(t.Context(), b.ID)
	require.NoError(t, err)
	assert.ElementsMatch(t, []membership.Verb{membership.Refer, membership.Leave, membership.Join}, does)
	counted, err := l.Steps(t.Context(), b.ID, membership.Join)
	require.NoError(t, err)
	assert.Equal(t, []store.StepCount{{Name: "Night watch", Result: membership.Done, N: 1}, {Name: "Radio", Result: membership.Done, N: 1}}, counted)
	require.NoError(t, l.Passwords(b.ID).Wipe(t.Context(), []int{2}))
	kept, err = l.Passwords(b.ID).Count(t.Context())
	require.NoError(t, err)
	assert.Zero(t, kept)
}

// What batches made of late, and what they may have made, is known to the next draft; what
// was removed again is not.
func madeOfLate(t *testing.T, open opener) {
	l := open(t)
	create := func(name string) batch.Entry {
		return batch.Entry{Intent: account.Create, Outcome: account.Waiting, Changes: []account.Change{{Field: "userName", After: account.Of(name)}}}
	}
	b := drafted(t, l, create("made"), create("open"), create("removed"), create("not sent"))
	b.Posted = noon
	require.NoError(t, l.Save(t.Context(), b))
	list := read(t, l, b.ID, store.Filter{})
	join(t, l, b.ID, "a")
	intent, err := l.Lease(b.ID, worker("a")).Claim(t.Context(), list[:3], noon)
	require.NoError(t, err)
	for _, i := range []int{0, 2} {
		list[i].Did, list[i].Outcome, list[i].Account = account.Created, account.Created, fmt.Sprint("id", i)
		require.NoError(t, l.Lease(b.ID, worker("a")).Settle(t.Context(), []store.Result{{Entry: list[i], Claim: intent}}, noon))
	}
	undo := drafted(t, l, batch.Entry{Intent: account.Remove, Outcome: account.Waiting, Account: "id2"})
	undo.Posted = noon
	require.NoError(t, l.Save(t.Context(), undo))
	gone := read(t, l, undo.ID, store.Filter{})
	join(t, l, undo.ID, "a")
	gone[0].Did, gone[0].Outcome = account.Removed, account.Removed
	require.NoError(t, l.Lease(undo.ID, worker("a")).Settle(t.Context(), []store.Result{{Entry: gone[0]}}, noon))
	known := func(since time.Time) (told []string) {
		require.NoError(t, l.Past("crewdesk").MadeSince(t.Context(), since, func(id int, e *batch.Entry, at time.Time) {
			told = append(told, fmt.Sprintf("%d %s %s", id, e.Changes[0].After.Text(), e.Account))
		}))
		return told
	}
	assert.Equal(t, []string{"1 open ", "1 made id0"}, known(noon.Add(-time.Minute)))
	assert.Equal(t, []string{"1 open "}, known(noon.Add(time.Minute)), "what is open stays so")
}

// Every row of a stage is one worker's, however many ask; the stage is over when all parts are.
func parts(t *testing.T, open opener) {
	l, ctx := open(t), t.Context()
	waiting := batch.Entry{Outcome: account.Waiting, Intent: account.Create}
	b := drafted(t, l, waiting, waiting, batch.Entry{Outcome: account.Refused}, waiting, waiting, waiting)
	join(t, l, b.ID, "ana", "tom", "li", "zoe")
	share, err := l.Lease(b.ID, worker("tom")).Renew(ctx)
	require.NoError(t, err)
	assert.Equal(t, store.Share{Of: 4, Rank: 1, Others: []string{"ana on a test", "li on a test", "zoe on a test"}}, share)
	take := func(name string, stage store.Stage, most int) string {
		part, turn, err := l.Lease(b.ID, worker(name)).Take(ctx, stage, most)
		require.NoError(t, err)
		high := fmt.Sprint(part.High)
		if part.High == math.MaxInt32 {
			high = "end"
		}
		return fmt.Sprintf("%s %d-%s %d", []string{"over", "wait", "got"}[turn], part.Low, high, part.N)
	}
	accounts, closing := store.Stage{Name: "accounts"}, store.Stage{Name: "closing", Whole: true}
	assert.Equal(t, "got 1-3 2", take("ana", accounts, 2))
	assert.Equal(t, "got 4-6 2", take("tom", accounts, 2))
	assert.Equal(t, "got 4-6 2", take("tom", accounts, 2), "who did not hear of its part asks again")
	assert.Equal(t, "got 7-end 1", take("li", accounts, 2))
	assert.Equal(t, "wait", take("zoe", accounts, 2)[:4])
	for _, p := range []struct {
		name string
		low  int
	}{{"tom", 4}, {"li", 7}} {
		require.NoError(t, l.Lease(b.ID, worker(p.name)).End(ctx, store.Part{Stage: "accounts", Low: p.low}))
	}
	require.NoError(t, l.Lease(b.ID, worker("ana")).Return(ctx, store.Part{Stage: "accounts", Low: 1}))
	assert.Equal(t, "got 1-3 2", take("tom", accounts, 50), "what was given back is had again")
	require.NoError(t, l.Lease(b.ID, worker("ana")).End(ctx, store.Part{Stage: "accounts", Low: 1}))
	assert.Equal(t, "wait", take("ana", accounts, 2)[:4], "nobody ends another's part")
	require.NoError(t, l.Lease(b.ID, worker("tom")).End(ctx, store.Part{Stage: "accounts", Low: 1}))
	assert.Equal(t, "over", take("ana", accounts, 2)[:4])
	assert.Equal(t, "got 1-end 0", take("ana", closing, 0))
	assert.Equal(t, "wait", take("tom", closing, 0)[:4])
	require.NoError(t, l.Lease(b.ID, worker("ana")).End(ctx, store.Part{Stage: "closing", Low: 1}))
	assert.Equal(t, "over", take("tom", closing, 0)[:4])
	for _, name := range []string{"tom", "li", "zoe"} {
		last, err := l.Lease(b.ID, worker(name)).Leave(ctx)
		require.NoError(t, err)
		assert.False(t, last)
	}
	working, err := l.Working(ctx)
	require.NoError(t, err)
	require.Len(t, working, 1)
	assert.Equal(t, "ana on a test", working[0].Who)
	last, err := l.Lease(b.ID, worker("ana")).Leave(ctx)
	require.NoError(t, err)
	assert.True(t, last)
	join(t, l, b.ID, "mei")
	assert.Equal(t, "got 1-3 2", take("mei", accounts, 2), "the next post begins anew")
}

// What a worker had that died is had by another when its lease is over, with what it claimed.
func takenOver(t *testing.T, open opener) {
	l, other, ctx := open(t), open(t), t.Context()
	waiting := batch.Entry{Outcome: account.Waiting, Intent: account.Create}
	b := drafted(t, l, waiting, waiting, waiting, waiting)
	dying := worker("dying")
	dying.Term = 6 * time.Second
	_, err := l.Lease(b.ID, dying).Join(ctx)
	require.NoError(t, err)
	join(t, other, b.ID, "living")
	accounts := store.Stage{Name: "accounts"}
	part, turn, err := l.Lease(b.ID, dying).Take(ctx, accounts, 10)
	require.NoError(t, err)
	require.Equal(t, store.Got, turn)
	_, err = l.Lease(b.ID, dying).Claim(ctx, read(t, l, b.ID, store.Filter{})[:2], noon)
	require.NoError(t, err)
	_, turn, err = other.Lease(b.ID, worker("living")).Take(ctx, accounts, 10)
	require.NoError(t, err)
	assert.Equal(t, store.Wait, turn, "its lease runs")
	time.Sleep(dying.Term)
	again, turn, err := other.Lease(b.ID, worker("living")).Take(ctx, accounts, 10)
	require.NoError(t, err)
	part.Again = true
	assert.Equal(t, store.Got, turn)
	assert.Equal(t, part, again)
	assert.Equal(t, []int{2, 3}, flying(t, other, b.ID))
}

// Who was not heard of for longer than its lease does nothing any more once another looked.
func fenced(t *testing.T, open opener) {
	l, other, ctx := open(t), open(t), t.Context()
	b := drafted(t, l, batch.Entry{Outcome: account.Waiting, Intent: account.Create})
	sleeper := worker("sleeper")
	sleeper.Term = 50 * time.Millisecond
	_, err := l.Lease(b.ID, sleeper).Join(ctx)
	require.NoError(t, err)
	part, _, err := l.Lease(b.ID, sleeper).Take(ctx, store.Stage{Name: "accounts"}, 10)
	require.NoError(t, err)
	entries := read(t, l, b.ID, store.Filter{})
	claim, err := l.Lease(b.ID, sleeper).Claim(ctx, entries, noon)
	require.NoError(t, err)
	time.Sleep(60 * time.Millisecond)
	join(t, other, b.ID, "other")
	_, claimed := l.Lease(b.ID, sleeper).Claim(ctx, entries, noon)
	_, renewed := l.Lease(b.ID, sleeper).Renew(ctx)
	_, _, took := l.Lease(b.ID, sleeper).Take(ctx, store.Stage{Name: "accounts"}, 10)
	entries[0].Outcome = account.Created
	for name, err := range map[string]error{
		"claim": claimed, "renew": renewed, "take": took, "end": l.Lease(b.ID, sleeper).End(ctx, part),
		"settle": l.Lease(b.ID, sleeper).Settle(ctx, []store.Result{{Entry: entries[0], Claim: claim}}, noon),
	} {
		assert.ErrorIs(t, err, store.ErrFenced, name)
	}
	assert.Equal(t, account.Waiting, read(t, l, b.ID, store.Filter{})[0].Outcome)
}

// Batches get numbers of their own and parts one worker each, whoever comes at the same moment.
func manyAtOnce(t *testing.T, open opener) {
	l, ctx := open(t), t.Context()
	waiting := make([]batch.Entry, 200)
	for i := range waiting {
		waiting[i] = batch.Entry{Outcome: account.Waiting, Intent: account.Create}
	}
	b := drafted(t, l, waiting...)
	var mu sync.Mutex
	numbers, rows := map[int]int{}, map[int]int{}
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			mine := open(t)
			worker := worker(fmt.Sprint("w", n))
			begun := &batch.Batch{Draft: batch.Draft{Made: noon}}
			if !assert.NoError(t, mine.Begin(ctx, worker, begun)) {
				return
			}
			if _, err := mine.Lease(b.ID, worker).Join(ctx); !assert.NoError(t, err) {
				return
			}
			mu.Lock()
			numbers[begun.ID]++
			mu.Unlock()
			for {
				part, turn, err := mine.Lease(b.ID, worker).Take(ctx, store.Stage{Name: "accounts"}, 7)
				if !assert.NoError(t, err) || turn != store.Got {
					return
				}
				var entries []batch.Entry
				for e, err := range mine.Entries(ctx, b.ID, store.Filter{After: part.Low - 1, Upto: part.High}) {
					assert.NoError(t, err)
					entries = append(entries, e)
				}
				claim, err := mine.Lease(b.ID, worker).Claim(ctx, entries, noon)
				assert.NoError(t, err)
				var results []store.Result
				for _, e := range entries {
					e.Outcome, e.Did, e.Account = account.Created, account.Created, fmt.Sprint("u", e.Row)
					results = append(results, store.Result{Entry: e, Claim: claim})
				}
				assert.NoError(t, mine.Lease(b.ID, worker).Settle(ctx, results, noon))
				assert.NoError(t, mine.Lease(b.ID, worker).End(ctx, part))
				mu.Lock()
				for _, e := range entries {
					rows[e.Row]++
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	assert.Len(t, numbers, 8)
	assert.Len(t, rows, len(waiting))
	for row, n := range rows {
		assert.Equal(t, 1, n, "row %d", row)
	}
	counts, _, err := l.Counts(ctx, b.ID)
	require.NoError(t, err)
	assert.Equal(t, account.Counts{account.Created: len(waiting)}, counts)
	assert.Empty(t, flying(t, l, b.ID))
}

// Of two who change a batch from what they read, one is told.
func changed(t *testing.T, open opener) {
	l, ctx := open(t), t.Context()
	b := drafted(t, l, batch.Entry{Outcome: account.Aside})
	mine, err := l.Batch(ctx, b.ID)
	require.NoError(t, err)
	b.State = batch.Posting
	require.NoError(t, l.Save(ctx, b))
	mine.State = batch.Withdrawn
	require.ErrorIs(t, l.Save(ctx, mine), store.ErrChanged)
	now, err := l.Batch(ctx, b.ID)
	require.NoError(t, err)
	assert.Equal(t, batch.Posting, now.State)
	b.State = batch.Posted
	require.NoError(t, l.Save(ctx, b), "who saved it last may go on")
}

func locks(t *testing.T, open opener) {
	one, two := open(t), open(t)
	unlock, err := one.Lock("run-starters")
	require.NoError(t, err)
	_, err = two.Lock("run-starters")
	assert.ErrorIs(t, err, store.ErrBusy)
	other, err := two.Lock("run-leavers")
	require.NoError(t, err)
	require.NoError(t, other())
	require.NoError(t, unlock())
	unlock, err = two.Lock("run-starters")
	require.NoError(t, err)
	require.NoError(t, unlock())
}

func runs(t *testing.T, open opener) {
	l, ctx := open(t), t.Context()
	for n := range 3 {
		r := &store.Run{Brief: fmt.Sprint("b", n), Began: noon, Came: store.RunFailed}
		require.NoError(t, l.Runs().Save(ctx, r))
		r.Came = store.RunPosted
		require.NoError(t, l.Runs().Save(ctx, r))
	}
	all, err := l.Runs().List(ctx, 2)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, store.Run{ID: 3, Brief: "b2", Began: noon, Came: store.RunPosted}, all[0])
	all, err = l.Runs().List(ctx, 0)
	require.NoError(t, err)
	assert.Len(t, all, 3)
}

// A batch has one key, which no copy of the ledger has, and which goes with it.
func keysAndCopies(t *testing.T, open opener) {
	l, ctx := open(t), t.Context()
	b := drafted(t, l, batch.Entry{Outcome: account.Waiting, Intent: account.Create, Key: "p1"})
	none, err := l.Passwords(b.ID).Key(ctx)
	require.NoError(t, err)
	require.Empty(t, none)
	require.NoError(t, l.Passwords(b.ID).KeepKey(ctx, "the-first-that-was-sealed"))
	require.NoError(t, l.Passwords(b.ID).KeepKey(ctx, "another"))
	kept, err := l.Passwords(b.ID).Key(ctx)
	require.NoError(t, err)
	assert.Equal(t, "the-first-that-was-sealed", kept)

	path := filepath.Join(t.TempDir(), "copy.db")
	size, err := l.Upkeep().Copy(ctx, path)
	require.NoError(t, err)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Len(t, text, int(size))
	assert.NotContains(t, string(text), kept)
	copied, err := sqlite.OpenToRead(ctx, path)
	require.NoError(t, err)
	defer copied.Close()
	entries := read(t, copied, b.ID, store.Filter{})
	require.Len(t, entries, 1)
	assert.Equal(t, "p1", entries[0].Key)
	sound, err := copied.Upkeep().Check(ctx)
	require.NoError(t, err)
	assert.Empty(t, sound.Problems)
	_, err = l.Upkeep().Copy(ctx, path)
	require.ErrorIs(t, err, fs.ErrExist, "a copy is never written over another")

	require.NoError(t, l.Passwords(b.ID).ForgetKey(ctx))
	kept, err = l.Passwords(b.ID).Key(ctx)
	require.NoError(t, err)
	assert.Empty(t, kept)
}

// Whatever is altered, added or taken out of what was drafted or became of it is named.
func altered(t *testing.T, anew func(t *testing.T) (opener, tamperer)) {
	for statement, want := range map[string]string{
		"": "",
		"UPDATE entries SET account = 'u-8' WHERE row = 3":                               "row 3 was altered since it was drafted",
		"UPDATE entries SET changes = replace(changes, 'Bosun', 'Master') WHERE row = 2": "row 2 was altered since it was drafted",
		"DELETE FROM entries WHERE row = 2":                                              "row 2 was taken out since it was drafted",
		"DELETE FROM entries WHERE row = 5":                                              "row 5 was taken out since it was drafted",
		"UPDATE entries SET row = 9 WHERE row = 3":                                       "row 3 was taken out since it was drafted",
		"INSERT INTO entries SELECT batch, 7, key, intent, outcome, account, version, changes, known, findings, cells FROM entries WHERE row = 2": "row 7 was added since it was drafted",
		"UPDATE steps SET name = 'Masters' WHERE row = 2":                                "row 2 was altered since it was drafted",
		"DELETE FROM steps WHERE row = 2":                                                "row 2 was altered since it was drafted",
		"UPDATE batches SET system = 'other'":                                            "is not as its history says",
		"UPDATE batches SET state = 'withdrawn'":                                         "is not as its history says",
		"UPDATE batches SET state = 'drafting'":                                          "was hidden",
		"UPDATE batches SET seal = ''":                                                   "it has no seal",
		"DELETE FROM batches":                                                            "was taken out, and something of it is left",
		"UPDATE batches SET id = 3; UPDATE history SET batch = 3":                        "batches 1 to 2 were taken out",
		"DELETE FROM history WHERE chain = 'batch'":                                      "the password of row 3 was taken out",
		"DELETE FROM history WHERE what = 'signature'":                                   "something was taken away from the end of its history",
		"UPDATE history SET body = replace(body, 'mei', 'tom') WHERE what = 'signature'": "its history was altered",
		"UPDATE steps SET result = 'done' WHERE row = 5":                                 "a step of row 5 is marked as done, and nobody noted it",
		"UPDATE steps SET result = 'goes' WHERE row = 5":                                 "row 5 was altered since it was drafted",
		"UPDATE outgoing SET about = 'x' WHERE row = 5":                                  "row 5 was altered since it was drafted",
		"UPDATE secrets SET sealed = 'other' WHERE row = 5":                              "the password of row 5 was exchanged",
		"DELETE FROM secrets WHERE row = 5":                                              "the password of row 5 was taken out",
		"INSERT INTO secrets (batch, row, sealed) VALUES (1, 2, 'x')":                    "a password of row 2 was added",
		"INSERT INTO secrets (batch, row, sealed) VALUES (1, 3, 'sealed 3')":             "a password of row 3 was added",
		"UPDATE batches SET counts = replace(counts, 'failed', 'created')":               "says that its rows came to other than they did",
		"UPDATE results SET outcome = 'failed' WHERE row = 3":                            "what became of row 3 was altered",
		"UPDATE results SET findings = '[]' WHERE row = 4":                               "what became of row 4 was altered",
		"DELETE FROM results WHERE row = 3":                                              "what became of row 3 was taken out",
		"INSERT INTO results SELECT batch, 5, claim, outcome, account, version, findings, ended, did, part, proof, place FROM results WHERE row = 2": "what became of row 5 was added",
		"UPDATE steps SET result = 'failed' WHERE row = 2":                        "what became of row 2 was altered",
		"UPDATE history SET at = '2020' WHERE chain = 'ana' AND n = 0":            "its history was altered",
		"DELETE FROM history WHERE chain = 'ana' AND n = 0":                       "its history was altered, or something was taken out of it",
		"DELETE FROM history WHERE chain = 'ana'":                                 "",
		"UPDATE results SET proof = 'proven' WHERE row = 2":                       "how row 2 was proven was altered",
		"UPDATE results SET proof = '' WHERE row = 3":                             "how row 3 was proven was altered",
		"UPDATE results SET ended = replace(ended, '2026', '2025') WHERE row = 3": "what became of row 3 was altered",
		"UPDATE results SET part = '[]' WHERE row = 3":                            "what became of row 3 was altered",
		"DELETE FROM history WHERE chain = 'draft'":                               "its draft does not end with the seal",
		"DELETE FROM history":                                                     "its draft does not end with the seal",
	} {
		t.Run(statement, func(t *testing.T) {
			t.Parallel()
			open, tamper := anew(t)
			l, ctx := open(t), t.Context()
			entry := batch.Entry{Outcome: account.Waiting, Intent: account.Create, Changes: []account.Change{{Field: "title", After: account.Of("Bosun")}}}
			first := entry
			first.Steps = []membership.Step{{Do: membership.Join, Kind: "groups", Thing: "g1", Name: "Deck"}}
			last := batch.Entry{Outcome: account.Aside, Secret: "sealed 5", Steps: []membership.Step{{Do: membership.Notify, Kind: "mail", Name: "welcome", Sent: "{}"}}}
			second := entry
			second.Secret = "sealed 3"
			b := drafted(t, l, first, second, entry, last)
			join(t, l, b.ID, "ana", "tom")
			for i, e := range read(t, l, b.ID, store.Filter{Outcomes: []account.Outcome{account.Waiting}}) {
				worker := worker([]string{"ana", "tom", "tom"}[i])
				claim, err := l.Lease(b.ID, worker).Claim(ctx, []batch.Entry{e}, noon)
				require.NoError(t, err)
				e.Did, e.Account, e.Outcome = account.Created, fmt.Sprint("u", i), account.Waiting
				require.NoError(t, l.Lease(b.ID, worker).Settle(ctx, []store.Result{{Entry: e, Claim: claim}}, noon))
				for n := range e.Steps {
					e.Steps[n].Result = membership.Done
				}
				if e.Outcome = account.Created; i == 2 {
					e.Outcome, e.Findings = account.Failed, []account.Finding{account.Find(account.Error, account.Unclear, "x")}
				}
				require.NoError(t, l.Lease(b.ID, worker).Settle(ctx, []store.Result{{Entry: e, Claim: claim}}, noon))
			}
			require.NoError(t, l.Passwords(b.ID).Wipe(ctx, []int{3}))
			require.NoError(t, l.Lease(b.ID, worker("tom")).Prove(ctx, batch.Proven, []int{3}))
			proofs, err := l.Proofs(ctx, b.ID)
			require.NoError(t, err)
			require.Equal(t, map[batch.Proof]int{"": 2, batch.Proven: 1}, proofs)
			b.State = batch.Posted
			require.NoError(t, l.Save(ctx, b))
			for _, name := range []string{"ana", "tom"} {
				_, err := l.Lease(b.ID, worker(name)).Leave(ctx)
				require.NoError(t, err)
			}
			counts, _, err := l.Counts(ctx, b.ID)
			require.NoError(t, err)
			require.Equal(t, account.Counts{account.Created: 2, account.Failed: 1, account.Aside: 1}, counts)
			require.NoError(t, l.History(b.ID).Sign(ctx, store.Signature{As: store.Second, Person: "mei", Of: b.Seal, At: noon}))
			if statement != "" {
				tamper(t, statement)
			}
			sound, err := l.Upkeep().Check(ctx)
			require.NoError(t, err)
			if statement == "" {
				require.Empty(t, sound.Problems)
				return
			}
			require.NotEmpty(t, sound.Problems)
			assert.Contains(t, sound.Problems[0], "batch")
			assert.Contains(t, sound.Problems[0], want)
		})
	}
}

// Each field of a draft is sealed, and each of what became of it is a link of the history.
func whole(t *testing.T, anew func(t *testing.T) (opener, tamperer)) {
	open, tamper := anew(t)
	l, ctx := open(t), t.Context()
	b := drafted(t, l, batch.Entry{Outcome: account.Aside})
	text := func(part any) string {
		data, err := json.Marshal(part)
		require.NoError(t, err)
		return strings.ReplaceAll(string(data), "'", "''")
	}
	for column, part := range map[string]any{"draft": b.Draft, "progress": b.Progress} {
		was := text(part)
		for i := range reflect.TypeOf(part).NumField() {
			other := reflect.New(reflect.TypeOf(part)).Elem()
			other.Set(reflect.ValueOf(part))
			alter(t, other.Field(i))
			name := other.Type().Field(i).Name
			tamper(t, fmt.Sprintf("UPDATE batches SET %s = '%s'", column, text(other.Interface())))
			require.NotEqual(t, was, text(other.Interface()), name)
			sound, err := l.Upkeep().Check(ctx)
			require.NoError(t, err)
			assert.NotEmpty(t, sound.Problems, "%s %s is altered unseen", column, name)
			tamper(t, fmt.Sprintf("UPDATE batches SET %s = '%s'", column, was))
			if column == "progress" {
				before, err := l.History(b.ID).Head(ctx)
				require.NoError(t, err)
				b.Progress = other.Interface().(batch.Progress)
				require.NoError(t, l.Save(ctx, b))
				after, err := l.History(b.ID).Head(ctx)
				require.NoError(t, err)
				assert.NotEqual(t, before.Hash, after.Hash, name)
				was = text(b.Progress)
				part = b.Progress
			}
		}
	}
	b.Sheet = "another.csv"
	require.ErrorContains(t, l.Save(ctx, b), "what is sealed of batch")
	b.Sheet = "s.csv"
	again, err := l.Batch(ctx, b.ID)
	require.NoError(t, err)
	assert.Equal(t, "s.csv", again.Sheet, "what is sealed stays as it is, whoever saves the batch")
	sound, err := l.Upkeep().Check(ctx)
	require.NoError(t, err)
	assert.Empty(t, sound.Problems)

	// Whoever signs the newest hash signs all that became of it, and nothing that follows.
	head, err := l.History(b.ID).NoteHeads(ctx)
	require.NoError(t, err)
	signature := store.Signature{As: store.Poster, Person: "mei", Of: head, At: noon}
	require.ErrorIs(t, l.History(b.ID).Sign(ctx, store.Signature{As: store.Poster, Person: "mei", Of: b.Seal}), store.ErrChanged)
	require.NoError(t, l.History(b.ID).Sign(ctx, signature))
	ends, err := l.History(b.ID).Ends(ctx)
	require.NoError(t, err)
	require.NotNil(t, ends)
	assert.Equal(t, signature, *ends)
	kept, err := l.History(b.ID).Head(ctx)
	require.NoError(t, err)
	require.NoError(t, l.Save(ctx, b))
	ends, err = l.History(b.ID).Ends(ctx)
	require.NoError(t, err)
	assert.Nil(t, ends)
	missing, err := l.History(kept.Batch).Lacks(ctx, kept)
	require.NoError(t, err)
	assert.Empty(t, missing)
	kept.Hash = strings.Repeat("0", 64)
	missing, err = l.History(kept.Batch).Lacks(ctx, kept)
	require.NoError(t, err)
	assert.Equal(t, kept.Hash, missing)
}

// alter makes a value another.
func alter(t *testing.T, v reflect.Value) {
	switch at := v.Interface().(type) {
	case time.Time:
		v.Set(reflect.ValueOf(at.Add(time.Hour)))
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(v.String() + "x")
	case reflect.Int:
		v.SetInt(v.Int() + 1)
	case reflect.Bool:
		v.SetBool(!v.Bool())
	case reflect.Slice:
		v.Set(reflect.Append(v, reflect.Zero(v.Type().Elem())))
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(reflect.Zero(v.Type().Key()), reflect.Zero(v.Type().Elem()))
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
	case reflect.Struct:
		alter(t, v.Field(0))
	default:
		t.Fatalf("%s", v.Type())
	}
}
