package posting_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/drafting"
	"evenledger/internal/mapping"
	"evenledger/internal/readback"
	"evenledger/internal/sheet"
	"evenledger/internal/system"
	"evenledger/internal/system/memory"
)

// The tests here take sheets all the way to a system that is like a directory: accounts are
// called by their place in a tree and otherwise once they move, groups have a member
// always, capitals make no difference, and a change may take two requests.

const aboard = `match: [employeeNumber, userName]
fields:
  employeeNumber: {from: No}
  userName: {from: Login}
  familyName: {from: Last}
  title: {from: Position}
  unit: {from: Unit}
  manager: {from: Boss}
intent: {from: Do, via: {out: suspend, in: resume, away: remove}}
allow_remove: true
groups: {from: Watches, split: ";", mode: exact, make_missing: true}
`

const aboardColumns = "No,Login,Last,Position,Unit,Boss,Watches,Do\n"

func newDirectory(t *testing.T) *world {
	w := newWorld(t)
	w.system = memory.NewDirectory("Deck", "Deck/Crew A", "Engine")
	w.own = map[string]account.Kind{"unit": account.Text}
	return w
}

// all drafts and posts rows, and returns what became of each.
func (w *world) all(t *testing.T, rows string) *batch.Batch {
	b := w.draft(aboard, aboardColumns+rows)
	require.NoError(t, w.post(t.Context(), b, 0))
	return b
}

func (w *world) tell(b *batch.Batch) (all []string) {
	for _, e := range w.entries(b) {
		all = append(all, told(e))
	}
	return all
}

// watch lists who is in a group.
func (w *world) watch(t *testing.T, name string) (ids []string) {
	for m, err := range w.system.Members(t.Context(), "groups", nil) {
		require.NoError(t, err)
		if m.Thing == "cn="+name+",dc=sound" {
			ids = append(ids, m.Account)
		}
	}
	slices.Sort(ids)
	return ids
}

const aCrew = "1,zoe,Ångström,Master,Deck,,night;day,\n2,tom,Kaya,Mate,Deck/Crew A,zoe,night,\n3,ana,Reyes,Cook,Engine,zoe,,\n"

func TestDirectory(t *testing.T) {
	t.Parallel()
	w := newDirectory(t)
	made := w.all(t, aCrew)
	assert.Equal(t, []string{"created zoe", "created tom", "created ana"}, w.tell(made))
	people := w.system.Accounts()
	assert.Equal(t, "uid=tom,ou=Crew A,ou=Deck,dc=sound", people["tom"].ID)
	assert.Equal(t, "uid=zoe,ou=Deck,dc=sound", people["tom"].Field("manager").Text())
	assert.Equal(t, []string{"uid=tom,ou=Crew A,ou=Deck,dc=sound", "uid=zoe,ou=Deck,dc=sound"}, w.watch(t, "night"), "a group is made with who is in it")
	assert.Equal(t, []string{"unchanged", "unchanged", "unchanged"}, w.tell(w.all(t, aCrew)), "handed in again, nothing changes")

	before := w.system.Accounts()
	moved := w.all(t, "1,zoe.a,ångström,Captain,Engine,,night;day,\n2,TOM,Kaya,Mate,Deck/Crew A,ana,night,\n3,ana,Reyes,Cook,Deck,zoe.a,night,\n")
	assert.Equal(t, []string{
		"updated userName:zoe→zoe.a familyName:Ångström→ångström title:Master→Captain unit:Deck→Engine",
		"updated", // his manager's own row moves her, so that the reference follows
		"updated unit:Engine→Deck",
	}, w.tell(moved))
	people = w.system.Accounts()
	assert.Equal(t, "uid=zoe.a,ou=Engine,dc=sound", people["ana"].Field("manager").Text())
	assert.Equal(t, "uid=ana,ou=Deck,dc=sound", people["tom"].Field("manager").Text())
	assert.Len(t, w.watch(t, "night"), 3)
	read := (&readback.Reading{Ledger: w.ledger, System: w.system, Batch: moved, Together: 2})
	result, err := read.Read(t.Context())
	require.NoError(t, err)
	assert.True(t, result.Even(), "%+v", result)

	undo, err := (&drafting.Reversal{Ledger: w.ledger, Worker: worker(), System: w.system, Of: moved, Together: 2, Batch: batch.Batch{Draft: batch.Draft{System: "memory"}}}).Make(t.Context())
	require.NoError(t, err)
	require.NoError(t, w.post(t.Context(), undo, 0))
	for name, a := range w.system.Accounts() {
		a.Version = ""
		assert.Equal(t, before[name].ID, a.ID)
		if name != "tom" { // what his manager is called is put back as it was written then
			assert.True(t, maps.Equal(before[name].Fields, a.Fields), "%v", a)
		}
	}
	assert.Len(t, w.watch(t, "night"), 2)
}

func TestDirectorySaysNo(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		rows string
		want []string
	}{
		"no such unit":         {"4,mei,Lin,Pilot,Bridge,,,\n", []string{"failed unknown-thing"}},
		"suspended":            {"1,zoe,Ångström,Master,Deck,,,out\n", []string{"suspended"}},
		"removed":              {"3,ana,Reyes,,,,,away\n", []string{"removed"}},
		"capitals of a number": {"1A,mei,Lin,Pilot,Deck,,,\n1a,lin,Mei,Pilot,Deck,,,\n", []string{"created mei", "created lin"}},
		"capitals of a name":   {"4,MEI,Lin,Pilot,Deck,,,\n5,mei,Lin,Pilot,Deck,,,\n", []string{"refused same-account", "refused same-account"}},
		"the last one leaves":  {"1,zoe,Ångström,Master,Deck,,night,\n", []string{"failed system-refused"}},
		"one for another":      {"1,zoe,Ångström,Master,Deck,,night,\n3,ana,Reyes,Cook,Engine,zoe,day,\n", []string{"updated", "updated"}},
	} {
		t.Run(name, func(t *testing.T) {
			w := newDirectory(t)
			w.all(t, aCrew)
			assert.Equal(t, c.want, w.tell(w.all(t, c.rows)))
		})
	}
	w := newDirectory(t)
	w.all(t, aCrew)
	w.all(t, "1,zoe,Ångström,Master,Deck,,,out\n")
	assert.Equal(t, "locked", w.system.Accounts()["zoe"].Field("lock").Text())
	assert.Equal(t, []string{"resumed"}, w.tell(w.all(t, "1,zoe,Ångström,Master,Deck,,night;day,in\n")))
	assert.False(t, w.system.Accounts()["zoe"].Field("lock").Filled())
}

// A move whose answer was lost is found under the new name; one after which the rest was
// refused, or came to nothing, is told as that.
func TestDirectoryMovesInParts(t *testing.T) {
	t.Parallel()
	dead := &system.Unclear{Err: errors.New("the line went dead")}
	for name, c := range map[string]struct {
		trouble string // the action that comes to something
		after   bool
		err     error
		want    string
	}{
		"the move's answer is lost":   {"move", true, dead, "failed unclear"},
		"the move is lost":            {"move", false, dead, "updated title:Mate→Bosun unit:Deck/Crew A→Engine"},
		"the rest's answer is lost":   {"change", true, dead, "updated title:Mate→Bosun unit:Deck/Crew A→Engine"},
		"the rest is lost":            {"change", false, dead, "failed unclear"},
		"the rest is refused":         {"change", false, &system.Refusal{Code: account.NotAllowedValue, Message: "there is no Bosun"}, "failed partly-done"},
		"the move is refused":         {"move", false, &system.Refusal{Code: account.TakenValue, Message: "it is taken"}, "failed taken-value"},
		"the server goes in between":  {"change", false, &system.Unavailable{Message: "gone"}, "failed partly-done"},
		"the server goes altogether":  {"move", false, &system.Unavailable{Message: "gone"}, "updated title:Mate→Bosun unit:Deck/Crew A→Engine"},
		"a lost answer, then it's up": {"move", true, nil, "updated title:Mate→Bosun unit:Deck/Crew A→Engine"},
	} {
		t.Run(name, func(t *testing.T) {
			w := newDirectory(t)
			w.all(t, aCrew)
			b := w.draft(aboard, aboardColumns+"2,tom,Kaya,Bosun,Engine,zoe,night,\n")
			once := func(action string, _ account.Account) error {
				if action != c.trouble {
					return nil
				}
				w.system.Before, w.system.After = nil, nil
				return c.err
			}
			if w.system.Before = once; c.after {
				w.system.Before, w.system.After = nil, once
			}
			err := w.post(t.Context(), b, 0)
			if !strings.HasPrefix(name, "the server goes") {
				require.NoError(t, err)
			}
			require.NoError(t, w.post(t.Context(), b, 0))
			assert.Equal(t, c.want, told(w.entries(b)[0]))
			if c.want == "failed partly-done" {
				e := w.entries(b)[0]
				assert.Contains(t, e.Findings[0].Message, "unit was changed as wanted, and the rest was not")
				assert.Equal(t, w.system.Accounts()["tom"].ID, e.Account)
			}
		})
	}
}

// limited is a directory that can do less than others.
type limited struct {
	*memory.System
	can func(*system.Abilities)
}

func (l *limited) Describe(ctx context.Context) (*system.Description, error) {
	about, err := l.System.Describe(ctx)
	l.can(&about.Can)
	return about, err
}

// What a system cannot do is told when a batch is drafted, not when it is posted.
func TestWhatASystemCannotDo(t *testing.T) {
	t.Parallel()
	draft := func(w *world, text, rows string) (*batch.Batch, error) {
		b, err := brief.Parse("b.yaml", []byte(text), brief.Options{Own: func(string) map[string]account.Kind { return w.own }})
		require.NoError(t, err)
		s, err := sheet.Read("s.csv", strings.NewReader(aboardColumns+rows), sheet.Options{})
		require.NoError(t, err)
		made, err := (&drafting.Draft{Vaults: w.vaults, Worker: worker(), Ledger: w.ledger, System: w.target, Sheet: s, Rows: s.Rows(), Mapper: mapping.New(b, s.Info()), Batch: batch.Batch{Draft: batch.Draft{Made: w.clock.Now(), System: "memory"}}}).Make(t.Context())
		if err != nil {
			return nil, err
		}
		return made.Batch, nil
	}
	w := newDirectory(t)
	made := w.all(t, aCrew)
	less := &limited{System: w.system}
	w.target = less

	less.can = func(can *system.Abilities) { can.Removes = false }
	b, err := draft(w, aboard, "3,ana,Reyes,,,,,away\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"refused cannot-be-removed"}, w.tell(b))
	undo, err := (&drafting.Reversal{Ledger: w.ledger, Worker: worker(), System: less, Of: made, Remove: true, Together: 2, Batch: batch.Batch{Draft: batch.Draft{System: "memory"}}}).Make(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"refused cannot-be-undone", "refused cannot-be-undone", "refused cannot-be-undone"}, w.tell(undo))

	var mistake *account.Mistake
	less.can = func(can *system.Abilities) { can.Ties = 0 }
	_, err = draft(w, aboard, "3,ana,Reyes,,,,night,\n")
	require.ErrorAs(t, err, &mistake)
	assert.Contains(t, mistake.Message, "lets nobody")
	less.can = func(can *system.Abilities) { can.Makes = false }
	_, err = draft(w, aboard, "3,ana,Reyes,,,,night,\n")
	require.ErrorAs(t, err, &mistake)
	assert.Contains(t, mistake.Message, "makes none")
	_, err = draft(w, strings.Replace(aboard, "{from: Unit}", "{from: Unit, make_missing: true}", 1), "3,ana,Reyes,,Fore,,,\n")
	require.ErrorAs(t, err, &mistake)
	assert.Contains(t, mistake.Message, "makes none")

	less.can = func(*system.Abilities) {} // it cannot count, and a share is one of all the same
	b, err = draft(w, aboard+"limits: {update: 40%}\n", "1,zoe,Ångström,Captain,Deck,,night;day,\n")
	require.NoError(t, err)
	assert.Empty(t, b.Held)
	b, err = draft(w, aboard+"limits: {update: 40%}\n", "1,zoe,Ångström,Captain,Deck,,night;day,\n2,tom,Kaya,Bosun,Deck/Crew A,zoe,night,\n")
	require.NoError(t, err)
	require.Len(t, b.Held, 1)
	assert.Contains(t, b.Held[0], "40% of the 3 accounts of the system")
}

// Places that do not exist are made first where the brief says so, and go again with what
// stood in them.
func TestPlaces(t *testing.T) {
	t.Parallel()
	making := strings.Replace(aboard, "unit: {from: Unit}", "unit: {from: Unit, make_missing: true}", 1)
	const rows = "1,zoe,Ångström,Master,Deck,,,\n2,tom,Kaya,Mate,Deck/Crew B/Night,,,\n3,ana,Reyes,Cook,deck/crew b/night,,,\n4,mei,Lin,Cook,Workshop,,,\n"
	w := newDirectory(t)
	b := w.draft(making, aboardColumns+rows)
	var makes []string
	for _, m := range b.Makes {
		makes = append(makes, fmt.Sprint(m.Kind, " ", m.Name, " ", m.Rows))
	}
	assert.Equal(t, []string{"units Deck/Crew B 2", "units Deck/Crew B/Night 2", "units Workshop 1"}, makes, "each is shown, and those above it")
	assert.Zero(t, w.system.Changes(), "and nothing made yet")
	w.system.Before = func(action string, a account.Account) error {
		if action == "make" && a.ID == "Workshop" {
			return &system.Refusal{Code: account.SystemRefused, Message: "no more of them"}
		}
		return nil
	}
	require.NoError(t, w.post(t.Context(), b, 0))
	assert.Equal(t, []string{"created zoe", "created tom", "created ana", "failed unknown-thing"}, w.tell(b))
	assert.Len(t, b.MadeThings, 2)
	assert.Equal(t, []string{"unchanged", "unchanged", "unchanged"}, w.tell(w.all(t, strings.Join(strings.SplitAfter(rows, "\n")[:3], ""))))

	undo, err := (&drafting.Reversal{Ledger: w.ledger, Worker: worker(), System: w.system, Of: b, Remove: true, Together: 2, Batch: batch.Batch{Draft: batch.Draft{System: "memory"}}}).Make(t.Context())
	require.NoError(t, err)
	require.NoError(t, w.post(t.Context(), undo, 0))
	for unit, err := range w.system.Things(t.Context(), "units", false) {
		require.NoError(t, err)
		assert.NotContains(t, unit.Name, "Crew B", "what was made goes, from within")
	}
}

// A group or a place of whose making no clear answer comes is made once more where it does not appear, and told as missing
// only where none comes at all.
func TestMadeWithoutAnswer(t *testing.T) {
	t.Parallel()
	lost := &system.Unclear{Err: errors.New("not now")}
	for name, c := range map[string]struct {
		before, after func(n int) error // of the nth making
		want          string
		makes         int // that were asked for
	}{
		"not done once":         {func(n int) error { return map[bool]error{true: lost}[n == 1] }, nil, "created ana", 2},
		"done, the answer lost": {nil, func(n int) error { return map[bool]error{true: lost}[n == 1] }, "created ana", 1},
		"never":                 {func(int) error { return lost }, nil, "failed", 3},
		"refused once it was asked for": {func(n int) error {
			return map[bool]error{true: lost, false: &system.Refusal{Code: account.TakenValue, Message: "taken"}}[n == 1]
		}, nil, "failed", 2},
	} {
		for _, of := range []string{"Workshop,,,\n", "Deck,,lighthouse,\n"} {
			t.Run(name+" "+of, func(t *testing.T) {
				w := newDirectory(t)
				begun, done := 0, 0
				count := func(n *int, then func(int) error) func(string, account.Account) error {
					return func(action string, _ account.Account) error {
						if action != "make" {
							return nil
						}
						if *n++; then == nil {
							return nil
						}
						return then(*n)
					}
				}
				w.system.Before, w.system.After = count(&begun, c.before), count(&done, c.after)
				b := w.draft(strings.Replace(aboard, "unit: {from: Unit}", "unit: {from: Unit, make_missing: true}", 1), aboardColumns+"3,ana,Reyes,Cook,"+of)
				require.NoError(t, w.post(t.Context(), b, 0))
				require.Len(t, w.tell(b), 1)
				assert.True(t, strings.HasPrefix(w.tell(b)[0], c.want), w.tell(b))
				assert.Equal(t, c.makes, begun)
			})
		}
	}
}

// New accounts get the lowest number that neither a row nor an account has, and no one else's.
func TestNumbers(t *testing.T) {
	t.Parallel()
	const text = "match: [employeeNumber]\nfields:\n  employeeNumber: {from: No}\n  userName: {from: Login}\n  uidNumber: {from: Number, next: 20000-20005}\n"
	w := newDirectory(t)
	w.own["uidNumber"] = account.Number
	post := func(rows string) *batch.Batch {
		b := w.draft(text, "No,Login,Number\n"+rows)
		require.NoError(t, w.post(t.Context(), b, 0))
		return b
	}
	post("1,zoe,20000\n2,tom,20002\n3,ana,7\n")
	b := w.draft(text, "No,Login,Number\n4,mei,\n5,lars,20001\n6,pia,\n2,tom,\n7,yusuf,\n8,olga,\n")
	var got []string
	for _, e := range w.entries(b) {
		got = append(got, e.Left()["uidNumber"].Text()+" "+string(e.Outcome))
	}
	assert.Equal(t, []string{"20003 waiting", "20001 waiting", "20004 waiting", "20002 unchanged", "20005 waiting", " refused"}, got)
	w.system.Set("ana", map[string]account.Value{"uidNumber": account.Of("20004")}) // behind everyone's back
	require.NoError(t, w.post(t.Context(), b, 0))
	assert.Equal(t, []string{"created mei", "created lars", "refused stale", "unchanged", "created yusuf", "refused no-free-value"}, w.tell(b))
}
