package posting_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/posting"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
)

// clubs is a system in memory whose accounts can be tied to groups. What before
// returns is the answer to a request; it is done all the same if after is set.
type clubs struct {
	*memory.System
	mu      sync.Mutex
	members map[string]map[string]string // group → account → role
	before  func(group string, ties []system.Tie) error
	after   bool
	size    int
	asked   []string
}

func (c *clubs) Describe(ctx context.Context) (*system.Description, error) {
	about, err := c.System.Describe(ctx)
	about.Kinds = []account.ThingKind{{Name: "courses", Roles: true}, {Name: "groups"}}
	about.Can.Ties, about.Can.Makes = c.size, true
	return about, err
}

func (c *clubs) Things(_ context.Context, kind string, _ bool) iter.Seq2[account.Thing, error] {
	return func(yield func(account.Thing, error) bool) {
		c.mu.Lock()
		names := slices.Sorted(maps.Keys(c.members))
		c.mu.Unlock()
		for _, name := range names {
			if (kind == "courses") == strings.HasPrefix(name, "course") && !yield(account.Thing{ID: name, Name: name, Seats: -1}, nil) {
				return
			}
		}
	}
}

func (c *clubs) Members(_ context.Context, kind string, things []string) iter.Seq2[account.Membership, error] {
	return func(yield func(account.Membership, error) bool) {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.asked = append(c.asked, "members of "+strings.Join(things, " "))
		for _, thing := range things {
			for id, role := range c.members[thing] {
				if !yield(account.Membership{Kind: kind, Thing: thing, Account: id, Role: role}, nil) {
					return
				}
			}
		}
	}
}

func (c *clubs) Tie(_ context.Context, _ system.Permit, _, thing string, ties []system.Tie) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.asked = append(c.asked, fmt.Sprintf("%s %d", thing, len(ties)))
	var err error
	if c.before != nil {
		err = c.before(thing, ties)
	}
	if err != nil && !c.after {
		return err
	}
	for _, tie := range ties {
		if tie.Leave {
			delete(c.members[thing], tie.Account)
		} else {
			c.members[thing][tie.Account] = tie.Role
		}
	}
	return err
}

func (c *clubs) MakeThing(_ context.Context, _ system.Permit, _, name string, _ []system.Tie) (account.Thing, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if strings.Contains(name, "forbidden") {
		return account.Thing{}, &system.Refusal{Code: account.SystemRefused, Message: "such groups are forbidden"}
	}
	c.asked = append(c.asked, "make "+name)
	c.members[name] = map[string]string{}
	return account.Thing{ID: name, Name: name, Seats: -1}, nil
}

func newClubs(t *testing.T) (*world, *clubs) {
	w := newWorld(t, someone("1", "Ana", "Reyes", ""), someone("2", "Tom", "Kaya", ""))
	return w, &clubs{System: w.system, size: 3, members: map[string]map[string]string{"deck": {"m0001": ""}, "engine": {}, "course": {"m0001": "learner"}}}
}

const clubBrief = crew + "groups: [{from: G, split: \";\", make_missing: true}, {from: Out, mode: remove}]\ncourses: {from: C}\n"

// sheetOf has a row for each of the numbers; the first two have an account.
func sheetOf(n int, more string) string {
	var csv strings.Builder
	csv.WriteString("No,First,Last,Login,Mail,Title,Lang,G,Out,C\n")
	for i := range n {
		name := []string{"Ana,Reyes", "Tom,Kaya"}
		if i > 1 {
			name = append(name, fmt.Sprintf("Crew%d,Person", i))
		}
		fmt.Fprintf(&csv, "%d,%s,,,,,%s\n", i+1, name[min(i, 2)], more)
	}
	return csv.String()
}

func (w *world) postTo(s system.System, b *batch.Batch, settle time.Duration) error {
	err := (&posting.Post{Ledger: w.ledger, Worker: worker(), System: s, Batch: b, Together: 2, Settle: settle, Clock: w.clock}).Run(context.Background())
	w.even(b)
	return err
}

func (w *world) draftTo(s system.System, briefText, csv string) *batch.Batch {
	keep := w.target
	w.target = s
	defer func() { w.target = keep }()
	return w.draft(briefText, csv)
}

// A refused request is halved until the members at fault stand alone; the others
// get through, and each row tells its own.
func TestRefusedMembers(t *testing.T) {
	t.Parallel()
	w, c := newClubs(t)
	c.before = func(_ string, ties []system.Tie) error {
		if slices.ContainsFunc(ties, func(tie system.Tie) bool { return tie.Account == "m0004" }) {
			return &system.Refusal{Code: account.SystemRefused, Message: "m0004 is on the list"}
		}
		return nil
	}
	b := w.draftTo(c, clubBrief, sheetOf(7, "engine;deck,,"))
	require.NoError(t, w.postTo(c, b, 0))
	counts := w.even(b)
	assert.Equal(t, account.Counts{account.Created: 4, account.Updated: 2, account.Failed: 1}, counts)
	assert.Len(t, c.members["engine"], 6)
	assert.Len(t, c.members["deck"], 6, "who is there already is not asked for")
	for _, e := range w.entries(b) {
		if e.Outcome == account.Failed {
			assert.Equal(t, "m0004", e.Account)
			assert.Equal(t, account.Created, e.Did, "the account itself is there")
			assert.Contains(t, e.Findings[0].Message, "m0004 is on the list")
		}
	}
	c.before = nil
	again := w.draftTo(c, clubBrief, sheetOf(7, "engine;deck,,"))
	require.NoError(t, w.postTo(c, again, 0))
	assert.Equal(t, account.Counts{account.Unchanged: 6, account.Updated: 1}, w.even(again), "handed back in, only what is left is done")
}

// An answer that was lost is looked up; what was done is not done again.
func TestLostAnswers(t *testing.T) {
	t.Parallel()
	for _, done := range []bool{false, true} {
		w, c := newClubs(t)
		lost := 0
		c.after, c.before = done, func(string, []system.Tie) error {
			if lost++; lost == 1 {
				return &system.Unclear{Err: errors.New("the line went dead")}
			}
			return nil
		}
		b := w.draftTo(c, clubBrief, sheetOf(3, "engine,deck,course (tutor)"))
		require.NoError(t, w.postTo(c, b, 0))
		assert.Equal(t, account.Counts{account.Created: 1, account.Updated: 2}, w.even(b))
		assert.Equal(t, map[string]map[string]string{"deck": {}, "engine": {"m0001": "", "m0002": "", "m0003": ""}, "course": {"m0001": "tutor", "m0002": "tutor", "m0003": "tutor"}}, c.members)
	}
	w, c := newClubs(t)
	c.before = func(string, []system.Tie) error { return &system.Unclear{Err: errors.New("dead")} }
	b := w.draftTo(c, clubBrief, sheetOf(2, "engine,,"))
	var open *system.Unclear
	require.ErrorAs(t, w.postTo(c, b, 0), &open)
	assert.Equal(t, account.Counts{account.Waiting: 2}, w.even(b), "a line that stays dead leaves it open, and that is told at the rows")
	assert.Equal(t, account.NotClearYet, w.entries(b)[0].Findings[0].Code)
	c.before = nil
	require.NoError(t, w.postTo(c, b, 0))
	assert.Equal(t, account.Counts{account.Updated: 2}, w.even(b), "a further post goes on with them")

	// A system that turns us away stops the post; what was done until then stays.
	w, c = newClubs(t)
	c.before = func(group string, _ []system.Tie) error {
		if group == "engine" {
			return &system.Unavailable{Message: "turned away"}
		}
		return nil
	}
	b = w.draftTo(c, clubBrief, sheetOf(3, "engine;deck,,"))
	require.ErrorContains(t, w.postTo(c, b, 0), "turned away")
	assert.Equal(t, 3, w.even(b)[account.Waiting])
	sent := len(c.members["deck"]) == 3 // before the other group's trouble stopped the post
	c.before, c.asked = nil, nil
	require.NoError(t, w.postTo(c, b, 0))
	assert.Equal(t, account.Counts{account.Created: 1, account.Updated: 2}, w.even(b))
	assert.NotEqual(t, sent, slices.Contains(c.asked, "deck 2"), "what is there is looked at, not sent again")
}

// Things that do not exist are made once; those that may not be are told at the
// rows that want them. New ones may stay unseen for a while.
func TestThingsMadeFirst(t *testing.T) {
	t.Parallel()
	w, c := newClubs(t)
	refuse := 2
	c.before = func(group string, _ []system.Tie) error {
		if refuse--; group == "night" && refuse >= 0 {
			return system.ErrGone
		}
		return nil
	}
	csv := strings.Replace(sheetOf(4, "night;NIGHT,,"), "4,Crew3,Person,,,,,night", "4,Crew3,Person,,,,,forbidden", 1)
	b := w.draftTo(c, clubBrief, csv)
	require.NoError(t, w.postTo(c, b, 2*time.Second))
	assert.Equal(t, account.Counts{account.Created: 1, account.Updated: 2, account.Failed: 1}, w.even(b))
	made := 0
	for _, asked := range c.asked {
		if asked == "make night" {
			made++
		}
	}
	assert.Equal(t, 1, made)
	assert.Len(t, c.members["night"], 4)

	w, c = newClubs(t)
	c.before = func(string, []system.Tie) error { return system.ErrGone }
	b = w.draftTo(c, clubBrief, sheetOf(2, "engine,,"))
	require.NoError(t, w.postTo(c, b, 0))
	assert.Equal(t, account.Counts{account.Failed: 2}, w.even(b))
	assert.Equal(t, account.ThingGone, w.entries(b)[0].Findings[0].Code)
}

// Accounts are made first, then those who refer to them; what cannot be is told,
// and a trial leaves what waits for a later row.
func TestReferences(t *testing.T) {
	t.Parallel()
	const bosses = crew + "manager: {from: Boss, refers: employeeNumber}\n"
	brief := strings.Replace(bosses, "manager: {", "  manager: {", 1)
	w := newWorld(t, someone("1", "Ana", "Reyes", ""))
	csv := "No,First,Last,Login,Mail,Title,Lang,Boss\n10,Bo,Lind,,,,,11\n11,Mei,Lin,,,,,1\n12,Eli,Tove,,,,,99\n13,Kai,Moe,,,,,12\n14,Uma,Rao,,,,,15\n15,Ole,Ask,,,,,14\n"
	b := w.draft(brief, csv)
	var got []string
	for _, e := range w.entries(b) {
		got = append(got, told(e))
	}
	assert.Equal(t, []string{"to create bo.lind", "to create mei.lin", "refused unknown-person", "refused unknown-person", "to create uma.rao", "to create ole.ask"}, got, "whom nobody makes, nobody can refer to")
	assert.Equal(t, account.ReferenceCircle, w.entries(b)[4].Findings[0].Code)
	require.NoError(t, w.post(context.Background(), b, 1))
	assert.Equal(t, 4, w.even(b)[account.Waiting], "the first row waits for its manager")
	require.NoError(t, w.post(context.Background(), b, 0))
	accounts := w.system.Accounts()
	assert.Equal(t, accounts["mei.lin"].ID, accounts["bo.lind"].Field("manager").Text())
	assert.Equal(t, accounts["uma.rao"].ID, accounts["ole.ask"].Field("manager").Text())
	assert.Equal(t, account.Counts{account.Created: 4, account.Refused: 2}, w.even(b))

	// A manager whom the system did not make leaves the row failed.
	w = newWorld(t)
	b = w.draft(brief, "No,First,Last,Login,Mail,Title,Lang,Boss\n10,Bo,Lind,,,,,11\n11,Mei,Lin,,,,,\n")
	w.system.Before = func(action string, a account.Account) error {
		if a.Field("userName").Text() == "mei.lin" {
			return &system.Refusal{Code: account.SystemRefused, Message: "no"}
		}
		return nil
	}
	require.NoError(t, w.post(context.Background(), b, 0))
	assert.Equal(t, account.Counts{account.Failed: 2}, w.even(b))
	assert.Contains(t, w.entries(b)[0].Findings[0].Message, "the one in row 3 was not created")

	// Who stops while it is waited for new accounts to be known everywhere has not failed: it goes on.
	w = newWorld(t)
	b = w.draft(brief, "No,First,Last,Login,Mail,Title,Lang,Boss\n10,Bo,Lind,,,,,11\n11,Mei,Lin,,,,,\n")
	ctx, stop := context.WithCancel(t.Context())
	w.system.Before = func(action string, _ account.Account) error {
		if action == "change" {
			stop()
			return system.ErrGone
		}
		return nil
	}
	p := w.poster(b, nil, false)
	p.Settle = time.Hour
	require.ErrorIs(t, p.Run(ctx), context.Canceled)
	assert.Equal(t, 0, w.even(b)[account.Failed])
	w.system.Before = nil
	require.NoError(t, w.post(context.Background(), b, 0))
	assert.Equal(t, account.Counts{account.Created: 2}, w.even(b))
}

// A membership that somebody changed since the draft is not overwritten; one that is as
// wanted by now is done.
func TestStaleMemberships(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		meanwhile func(members map[string]map[string]string)
		outcome   account.Outcome
		course    string
		tells     string
	}{
		"nothing":                    {func(map[string]map[string]string) {}, account.Updated, "tutor", ""},
		"another role":               {func(m map[string]map[string]string) { m["course"]["m0001"] = "examiner" }, account.Failed, "examiner", "(examiner)"},
		"taken out":                  {func(m map[string]map[string]string) { delete(m["course"], "m0001") }, account.Failed, "", "no member any more"},
		"done by somebody":           {func(m map[string]map[string]string) { m["course"]["m0001"] = "tutor" }, account.Updated, "tutor", ""},
		"joined in a role of theirs": {func(m map[string]map[string]string) { m["engine"]["m0001"] = "chief" }, account.Failed, "tutor", "engine (chief)"},
	} {
		t.Run(name, func(t *testing.T) {
			w, s := newClubs(t)
			b := w.draftTo(s, clubBrief, sheetOf(1, "engine,deck,course (tutor)"))
			c.meanwhile(s.members)
			require.NoError(t, w.postTo(s, b, 0))
			e := w.entries(b)[0]
			assert.Equal(t, c.outcome, e.Outcome)
			assert.Equal(t, c.course, s.members["course"]["m0001"])
			assert.NotContains(t, s.members["deck"], "m0001", "the other steps are carried out")
			if c.tells != "" {
				require.Len(t, e.Findings, 1)
				assert.Equal(t, account.Stale, e.Findings[0].Code)
				assert.Contains(t, e.Findings[0].Message, c.tells)
			}
		})
	}
}
