package posting_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/clock"
	"evenledger/internal/drafting"
	"evenledger/internal/mapping"
	"evenledger/internal/posting"
	"evenledger/internal/reach"
	"evenledger/internal/sheet"
	"evenledger/internal/standin/desk"
	"evenledger/internal/store"
	"evenledger/internal/system"
	"evenledger/internal/system/files"
	"evenledger/internal/yamldoc"
)

const deskLayout = `file: {separator: ";", name: "p-{batch}-{part}.csv"}
above: ["people;3"]
columns:
  - {heading: Do, action: {create: New, update: Change, suspend: Stop, resume: Change, remove: Erase}}
  - {heading: Login, field: userName}
  - {heading: First name, field: givenName}
  - {heading: Surname, field: familyName}
  - {heading: Blocked, field: active, words: {true: "N", false: "Y"}}
  - {heading: Start, field: startDate, date: DD/MM/YYYY}
  - {heading: Watch, field: watch}
  - {heading: Team, groups: true, split: ",", one_of: [deck, engine, pilots]}
  - {heading: 'Training *', courses: thing, most: 2, one_of: [Radio, Ropes]}
  - {heading: 'As *', courses: role, words: {learner: L, teacher: T}}
blank: clears
limits: {rows: %d}
export: {columns: {Sign-in name: userName}}
results: {line: Row, key: {Login: userName}, message: Reason}
`

const deskBrief = `match: [userName]
known: update
fields:
  userName: {from: Login, required: true}
  givenName: {from: First}
  familyName: {from: Last}
  watch: {from: Watch}
  active: {from: In, fallback: true}
groups: {from: Teams, split: "/", mode: exact}
courses: {from: Course, role: As, mode: add}
`

// office is a world in which the system is an application that takes files.
type office struct {
	*world
	desk   *desk.Desk
	folder string
	opened system.Connection
}

func newOffice(t *testing.T, rows int) *office {
	o := &office{world: newWorld(t), folder: t.TempDir()}
	o.clock = clock.NewFake(time.Now().Add(time.Second))
	require.NoError(t, os.WriteFile(filepath.Join(o.folder, "layout.yaml"), fmt.Appendf(nil, deskLayout, rows), 0o600))
	doc, err := yamldoc.Parse("w.yaml", []byte("layout: layout.yaml\naccounts: export.csv\n"))
	require.NoError(t, err)
	o.opened = files.Kind().Read(reach.Part{Name: "desk", Dir: o.folder}, doc.Root())
	o.empty()
	return o
}

// empty has the application and the outbox have nothing.
func (o *office) empty() {
	var err error
	o.desk, err = desk.New(desk.Options{})
	require.NoError(o.t, err)
	require.NoError(o.t, os.RemoveAll(filepath.Join(o.folder, "outbox")))
	o.export(-time.Hour)
}

// export saves the application's export, so much later than now.
func (o *office) export(later time.Duration) {
	var text bytes.Buffer
	require.NoError(o.t, desk.Write(&text, o.desk.Export()))
	path, at := filepath.Join(o.folder, "export.csv"), o.clock.Now().Add(later)
	require.NoError(o.t, os.WriteFile(path, text.Bytes(), 0o600))
	require.NoError(o.t, os.Chtimes(path, at, at))
}

func (o *office) reach() system.System {
	s, err := o.opened.Open(system.Work{Clock: o.clock})
	require.NoError(o.t, err)
	return s
}

func (o *office) draft(csv string) *batch.Batch {
	b, err := brief.Parse("b.yaml", []byte(deskBrief), brief.Options{Today: "2027-03-01", Own: func(string) map[string]account.Kind { return map[string]account.Kind{"watch": account.Text} }})
	require.NoError(o.t, err)
	s, err := sheet.Read("s.csv", strings.NewReader(csv), sheet.Options{})
	require.NoError(o.t, err)
	d := &drafting.Draft{Vaults: o.vaults, Worker: worker(), Ledger: o.ledger, System: o.reach(), Sheet: s, Rows: s.Rows(), Mapper: mapping.New(b, s.Info()), Batch: batch.Batch{Draft: batch.Draft{Made: o.clock.Now(), System: "desk"}}}
	made, err := d.Make(context.Background())
	require.NoError(o.t, err)
	o.even(made.Batch)
	return made.Batch
}

func (o *office) hand(l store.Store, b *batch.Batch, trial int, settles *posting.Settlement) error {
	err := (&posting.Post{Ledger: l, Worker: worker(), System: o.reach(), Batch: b, Together: 3, Trial: trial, Later: true, Settles: settles, Vault: o.vaults.Of(b.ID, ""), Clock: o.clock}).Run(context.Background())
	o.even(b)
	return err
}

// outbox is what lies there.
func (o *office) outbox() map[string]string {
	all := map[string]string{}
	found, err := os.ReadDir(filepath.Join(o.folder, "outbox"))
	if !errors.Is(err, os.ErrNotExist) {
		require.NoError(o.t, err)
	}
	for _, f := range found {
		data, err := os.ReadFile(filepath.Join(o.folder, "outbox", f.Name()))
		require.NoError(o.t, err)
		all[f.Name()] = string(data)
	}
	return all
}

const deskColumns = "Login,First,Last,Watch,In,Teams,Course,As\n"

// Whatever a sheet asks for: each row is in just one line of a file, or refused, or nothing is to be done; and what is said to have become
// of it is what the application has.
func TestHandedOverAndSettled(t *testing.T) {
	o := newOffice(t, 3)
	rapid.Check(t, func(t *rapid.T) {
		o.t = t
		require.NoError(t, o.clock.Wait(context.Background(), 48*time.Hour))
		o.empty()
		for _, login := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"ana", "bo", "cleo", "dov"}), 0, 4, rapid.ID).Draw(t, "known") {
			require.NoError(t, o.desk.Put(desk.Person{Login: login, First: "F", Surname: "S", Watch: "Day", Teams: []string{"pilots"}, Blocked: rapid.Bool().Draw(t, "blocked"), Trainings: []desk.Training{{Name: "Ropes", As: "T"}}}))
		}
		o.export(-time.Hour)
		csv := deskColumns
		logins := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"ana", "bo", "cleo", "dov", "eve", "fay", "gus", "9th"}), 1, 8, rapid.ID).Draw(t, "rows")
		for _, login := range logins {
			of := func(what string, from ...string) string { return rapid.SampledFrom(from).Draw(t, what) }
			csv += strings.Join([]string{login, of("first", "F", "Zoë", ""), of("last", "S", "Ó, Néill;x"), of("watch", "Day", "Night", "Dusk", ""), of("in", "yes", "no"), of("teams", "pilots", "deck", "deck/engine", ""), of("course", "Radio", ""), "learner"}, "\x1f") + "\n"
		}
		b := o.draft(strings.ReplaceAll(quoteCells(csv), "\x1f", ","))
		if trial := rapid.IntRange(0, 3).Draw(t, "trial"); trial > 0 {
			require.NoError(t, o.hand(o.ledger, b, trial, nil))
		}
		require.NoError(t, o.hand(o.ledger, b, 0, nil))
		lines := 0
		for _, text := range o.outbox() {
			lines += strings.Count(text, "\r\n") - 2
		}
		counts := o.even(b)
		require.Equal(t, counts.Elsewhere(), lines)
		require.Zero(t, counts.Waiting())
		if lines == 0 {
			return
		}
		require.Equal(t, batch.Handed, b.State)
		whole := rapid.Bool().Draw(t, "whole")
		for _, f := range b.Files {
			before := o.desk.People()
			require.NoError(t, o.desk.Take(f.Name, []byte(o.outbox()[f.Name]), whole))
			listed := &posting.Settlement{Shows: true, Listed: true, File: f.Name}
			for i, row := range o.desk.NotTaken()[1:] {
				failure := system.Failure{Row: i + 2, Keys: map[string]string{"userName": row[1]}, Reason: row[2]}
				_, err := fmt.Sscan(row[0], &failure.Line)
				require.NoError(t, err)
				listed.Failures = append(listed.Failures, failure)
			}
			o.export(time.Minute)
			require.NoError(t, o.hand(o.ledger, b, 0, listed))
			if whole && len(listed.Failures) > 0 {
				require.Equal(t, before, o.desk.People())
			}
		}
		if whole { // those whose file was not taken stay open, as the layout does not say that one bad line is enough
			return
		}
		require.Equal(t, batch.Posted, b.State, "%v", o.even(b))
		people := o.desk.People()
		for _, e := range o.entries(b) {
			p, there := people[e.Key]
			switch e.Outcome {
			case account.Created, account.Updated, account.Suspended, account.Resumed:
				require.True(t, there)
				for _, c := range e.Changes {
					is := map[string]string{"givenName": p.First, "familyName": p.Surname, "watch": p.Watch, "active": fmt.Sprint(!p.Blocked), "userName": p.Login}[c.Field]
					require.Equal(t, c.After.Text(), is, "%s of %s", c.Field, e.Key)
				}
				for _, s := range e.Steps {
					in := strings.Contains(","+strings.Join(p.Teams, ",")+",", ","+s.Name+",") || strings.Contains(fmt.Sprint(p.Trainings), "{"+s.Name+" ")
					require.Equal(t, s.Do == "join", in, "%s of %s", s.Name, e.Key)
				}
			case account.Failed:
				require.Contains(t, e.Findings[len(e.Findings)-1].Message, "the application did not take it")
			}
		}
	})
}

// quoteCells quotes cells that are parted by unit separators.
func quoteCells(csv string) string {
	var out strings.Builder
	for line := range strings.Lines(csv) {
		for i, cell := range strings.Split(strings.TrimSuffix(line, "\n"), "\x1f") {
			if i > 0 {
				out.WriteString("\x1f")
			}
			if strings.ContainsAny(cell, ";") {
				cell = `"` + cell + `"`
			}
			out.WriteString(cell)
		}
		out.WriteString("\n")
	}
	return out.String()
}

// A cut is a ledger that can no longer be written after so many times.
type cut struct {
	store.Store
	left int
}

var errCut = errors.New("the ledger is gone")

func (c *cut) gone() error {
	if c.left--; c.left < 0 {
		return errCut
	}
	return nil
}

func (c *cut) Save(ctx context.Context, b *batch.Batch) error {
	if err := c.gone(); err != nil {
		return err
	}
	return c.Store.Save(ctx, b)
}

func (c *cut) Lease(id int, w store.Worker) store.Lease { return &cutLease{c.Store.Lease(id, w), c} }

type cutLease struct {
	store.Lease
	c *cut
}

func (l *cutLease) Claim(ctx context.Context, entries []batch.Entry, now time.Time) (store.Claim, error) {
	if err := l.c.gone(); err != nil {
		return 0, err
	}
	return l.Lease.Claim(ctx, entries, now)
}

func (l *cutLease) Settle(ctx context.Context, results []store.Result, now time.Time) error {
	if err := l.c.gone(); err != nil {
		return err
	}
	return l.Lease.Settle(ctx, results, now)
}

// Cut off at any write and gone on, the files are the same bytes: no row is in two of them and none in none.
func TestCutOffWithinFiles(t *testing.T) {
	csv := deskColumns
	for i := range 8 {
		csv += fmt.Sprintf("p%c,F,S,Day,yes,deck,,\n", 'a'+i)
	}
	names := func(files map[string]string) map[string]string { // of batches with other numbers
		all := map[string]string{}
		for name, text := range files {
			_, part, _ := strings.Cut(strings.TrimPrefix(name, "p-"), "-")
			all[part] = text
		}
		return all
	}
	var want map[string]string
	cuts := 0
	for n := 0; ; n++ {
		o := newOffice(t, 3)
		b := o.draft(csv)
		l := &cut{o.ledger, n}
		err := o.hand(l, b, 0, nil)
		if err != nil {
			require.ErrorIs(t, err, errCut)
			cuts++
			before := o.outbox()
			now, err := o.ledger.Batch(t.Context(), b.ID)
			require.NoError(t, err)
			require.NoError(t, o.hand(o.ledger, now, 0, nil), "after %d writes", n)
			for name, text := range before {
				assert.Equal(t, text, o.outbox()[name], "what was put is never written anew")
			}
		}
		assert.Equal(t, 8, o.even(b)[account.HandedOver], "after %d writes", n)
		open, err := o.ledger.InFlight(t.Context(), b.ID, everything)
		require.NoError(t, err)
		assert.Empty(t, open, "after %d writes", n)
		got := names(o.outbox())
		if l.left >= 0 {
			want = got
		}
		all := ""
		for _, text := range got {
			all += text
		}
		for i := range 8 {
			assert.Equal(t, 1, strings.Count(all, fmt.Sprintf(";p%c;", 'a'+i)), "after %d writes", n)
		}
		if l.left >= 0 {
			break
		}
	}
	assert.Greater(t, cuts, 8)
	assert.Len(t, want, 3)
}

// A post that was cut off goes on with another export: the ledger has the hashes of what lies there, and who is in no
// export any more is not told as refused, as the file may have been taken.
func TestCutOffAndExportedAnew(t *testing.T) {
	ana := desk.Person{Login: "ana", First: "Ana", Surname: "Rey", Watch: "Day", Teams: []string{"deck"}}
	told := 0
	for n, done := 0, false; !done; n++ {
		for _, gone := range []bool{false, true} {
			o := newOffice(t, 1)
			require.NoError(t, o.desk.Put(ana))
			o.export(-time.Hour)
			b := o.draft(deskColumns + "ana,Ana,Rey,Night,yes,deck,,\nbo,Bo,Lin,Day,yes,,,\n")
			l := &cut{o.ledger, n}
			err := o.hand(l, b, 0, nil)
			if done = l.left >= 0; done {
				break
			}
			require.ErrorIs(t, err, errCut)
			changed := ana
			changed.Surname = "Reyes"
			require.NoError(t, o.desk.Put(changed))
			if gone {
				o.desk, err = desk.New(desk.Options{})
				require.NoError(t, err)
			}
			o.export(time.Second)
			now, err := o.ledger.Batch(t.Context(), b.ID)
			require.NoError(t, err)
			var guard *batch.Guard
			if err = o.hand(o.ledger, now, 0, nil); err != nil {
				require.ErrorAs(t, err, &guard, "after %d writes", n)
				assert.True(t, gone)
				assert.Contains(t, guard.Message, "the export is another since: row 2")
				assert.Equal(t, account.Waiting, o.entries(b)[0].Outcome)
				told++
				continue
			}
			for _, f := range now.Files {
				sum := sha256.Sum256([]byte(o.outbox()[f.Name]))
				assert.Equal(t, hex.EncodeToString(sum[:]), f.Sum, "after %d writes", n)
			}
		}
	}
	assert.Positive(t, told)
}

// What nobody can be sure of stays open, or is refused with the reason.
func TestSettledByWhatIsSeen(t *testing.T) {
	o := newOffice(t, 10)
	b := o.draft(deskColumns + "ana,Ana,Reyes,Day,yes,deck,,\nbo,Bo,Lin,Day,yes,,,\n")
	require.NoError(t, o.hand(o.ledger, b, 0, nil))
	again := o.draft(deskColumns + "ana,Ana,Reyes,Day,yes,deck,,\n")
	assert.Equal(t, 1, o.even(again)[account.Aside], "the row is on its way already")

	var strange *account.Mistake
	require.ErrorAs(t, o.hand(o.ledger, b, 0, &posting.Settlement{Shows: true, Listed: true, Failures: []system.Failure{{Row: 2, Keys: map[string]string{"userName": "nobody"}, Reason: "x"}}}), &strange)
	assert.Contains(t, strange.Message, "of nobody whom batch")
	assert.Equal(t, batch.Handed, b.State)
	assert.Equal(t, 2, o.even(b)[account.HandedOver])

	o.export(time.Minute)
	require.NoError(t, o.hand(o.ledger, b, 0, &posting.Settlement{Shows: true}))
	assert.Equal(t, 2, o.even(b)[account.HandedOver], "nobody has given the file to the application yet")

	require.NoError(t, o.desk.Put(desk.Person{Login: "ana", First: "Ana", Surname: "Rey", Watch: "Day", Teams: []string{"deck"}}))
	o.export(time.Minute)
	require.NoError(t, o.hand(o.ledger, b, 0, &posting.Settlement{Shows: true}))
	assert.Equal(t, account.Counts{account.Failed: 2}, o.even(b), "one was made otherwise, the other not")
	for i, want := range []string{"familyName was to be “Reyes”, and is “Rey”", "does not show this row done"} {
		findings := o.entries(b)[i].Findings
		assert.Contains(t, findings[len(findings)-1].Message, want)
	}
	assert.Equal(t, batch.Posted, b.State)
}

// A stranger's file of that name is left alone, and the post says so.
func TestAStrangersFile(t *testing.T) {
	o := newOffice(t, 10)
	b := o.draft(deskColumns + "ana,Ana,Reyes,Day,yes,deck,,\n")
	name := fmt.Sprintf("p-%d-1.csv", b.ID)
	require.NoError(t, os.MkdirAll(filepath.Join(o.folder, "outbox"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(o.folder, "outbox", name), []byte("mine"), 0o600))
	var unavailable *system.Unavailable
	require.ErrorAs(t, o.hand(o.ledger, b, 0, nil), &unavailable)
	assert.Contains(t, unavailable.Message, "it is another")
	assert.Equal(t, map[string]string{name: "mine"}, o.outbox())
	require.NoError(t, os.Remove(filepath.Join(o.folder, "outbox", name)))
	require.NoError(t, o.hand(o.ledger, b, 0, nil))
	assert.Equal(t, 1, o.even(b)[account.HandedOver])
	assert.Len(t, o.outbox(), 1)
}
