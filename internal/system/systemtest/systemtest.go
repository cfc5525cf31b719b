// Package systemtest is what every kind of system has to pass: the promises of
// system.System and of what else a system can do, kept against a real server where there
// is one. A kind's own tests call Run with a system that may be filled.
package systemtest

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// many is more accounts than a page or a filter takes.
const many = 130

// A Shape is which fields the accounts of a kind of system have that the suite fills.
type Shape struct {
	Text   string    // any text
	Other  string    // that may be blank
	Values [3]string // three of Other
	Odd    string    // a name, with a verb for a number, in characters that could mean something in a filter
	Group  string    // the name of a group
}

// Person is the shape of systems whose accounts have people's names.
func Person() Shape {
	return Shape{"givenName", "title", [3]string{"Mate", "Bosun", "Cook"}, `o'%d (x)*\é"`, "Night watch"}
}

// Run tests the systems that open makes: a new one each time, in which accounts may be
// made with userName and the fields of the shape alone, and with groups where they have any.
// What else they can do is tested where they say that they can.
func Run(t *testing.T, shape Shape, open func(t *testing.T) system.System) {
	for name, test := range map[string]func(suite, *testing.T, system.System, *system.Description){
		"create, get and change": suite.changes, "find and list": suite.finds, "refusals": suite.refusals, "members": suite.members, "removing": suite.removes, "several at once": suite.several,
		"suspending": suite.suspends, "renaming": suite.renames, "rules": suite.rules, "places": suite.places, "passwords": suite.passwords, "what it cannot do": suite.cannot, "nothing more is sent": suite.stops, "answers that are lost": suite.loses, "stopped on the way": suite.letsEnd, "reading back": suite.shows, "half a change": suite.halves, "closing": suite.closes, "enough is enough": suite.ends,
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t)
			about, err := s.Describe(t.Context())
			require.NoError(t, err)
			test(suite{shape, []string{"userName", shape.Text, shape.Other}}, t, s, about)
		})
	}
}

// first takes the first of what is listed, and no more.
func first[T any](t *testing.T, list iter.Seq2[T, error]) (n int) {
	for _, err := range list {
		if errors.Is(err, system.ErrCannotFind) {
			return 0
		}
		require.NoError(t, err)
		n++
		break
	}
	return n
}

// ends sees that who has seen enough is given nothing more, be it an error.
func (x suite) ends(t *testing.T, s system.System, about *system.Description) {
	one, two := x.create(t, s, x.person("ana", "Ana", "")), x.create(t, s, x.person("tom", "Tom", ""))
	none := []string{x.Other} // of what nobody has
	assert.Equal(t, 1, first(t, s.List(t.Context(), none)))
	if about.Can.Finds > 0 {
		first(t, s.Find(t.Context(), system.ByID, []string{one.ID, two.ID}, none))
		first(t, s.Find(t.Context(), "userName", []string{"ana", "tom"}, none))
	}
	for _, kind := range about.Kinds {
		first(t, s.Things(t.Context(), kind.Name, true))
		if kind.Blind == "" {
			first(t, s.Members(t.Context(), kind.Name, nil))
		}
	}
}

type suite struct {
	Shape
	asked []string
}

func (x suite) person(userName, text, other string) account.Account {
	return account.Account{Fields: map[string]account.Value{"userName": account.Of(userName), x.Text: account.Of(text), x.Other: account.ValueOr(other)}}
}

func (x suite) create(t *testing.T, s system.System, a account.Account) account.Account {
	made, err := Create(t.Context(), nil, s, a, x.asked)
	require.NoError(t, err)
	require.NotEmpty(t, made.ID)
	return made
}

func (x suite) changes(t *testing.T, s system.System, about *system.Description) {
	made := x.create(t, s, x.person("ana", "Ana “Nan” Ångström", x.Values[0]))
	assert.Equal(t, "Ana “Nan” Ångström", made.Field(x.Text).Text(), "letters come back as they were sent")
	assert.Empty(t, made.Password)
	got, err := s.Get(t.Context(), made.ID, x.asked)
	require.NoError(t, err)
	assert.Equal(t, made.Fields, got.Fields)
	now, err := system.Change(t.Context(), nil, s, got, []account.Change{{Field: x.Other, Before: account.Of(x.Values[0]), After: account.Of(x.Values[1])}}, x.asked)
	require.NoError(t, err)
	assert.Equal(t, []string{x.Values[1], "Ana “Nan” Ångström"}, []string{now.Field(x.Other).Text(), now.Field(x.Text).Text()}, "nothing else changes")
	if about.Can.Versions {
		_, err = system.Change(t.Context(), nil, s, got, []account.Change{{Field: x.Other, Before: account.Of(x.Values[0]), After: account.Of(x.Values[2])}}, x.asked)
		assert.ErrorIs(t, err, system.ErrChanged, "a change is made to the version that is named, or not at all")
	}
	now, err = system.Change(t.Context(), nil, s, now, []account.Change{{Field: x.Other, Before: account.Of(x.Values[1]), After: account.Blank()}}, x.asked)
	require.NoError(t, err)
	assert.False(t, now.Field(x.Other).Filled(), "a blank clears")
	_, err = s.Get(t.Context(), made.ID+"-of-nobody", x.asked)
	assert.ErrorIs(t, err, system.ErrGone)
}

func (x suite) finds(t *testing.T, s system.System, _ *system.Description) {
	var names []string
	for i := range many {
		name := fmt.Sprintf("crew%03d", i)
		if i%40 == 7 {
			name = fmt.Sprintf(x.Odd, i) // what could mean something in a filter
		}
		names = append(names, name)
		x.create(t, s, x.person(name, "Ana", ""))
	}
	var listed []string
	for a, err := range s.List(t.Context(), x.asked) {
		require.NoError(t, err)
		listed = append(listed, a.Field("userName").Text())
	}
	slices.Sort(listed)
	slices.Sort(names)
	assert.Equal(t, names, listed, "everyone, and each once")
	for _, some := range [][]string{names, names[:3], {names[many-1]}} {
		found := map[string]bool{}
		_, err := system.Fetch(t.Context(), s, map[string][]string{"userName": append(slices.Clone(some), "nobody")}, x.asked, 3, func(a account.Account) { found[a.Field("userName").Text()] = true })
		require.NoError(t, err)
		for _, name := range some {
			assert.True(t, found[name], name)
		}
		assert.False(t, found["nobody"])
	}
}

func (x suite) refusals(t *testing.T, s system.System, _ *system.Description) {
	x.create(t, s, x.person("ana", "Ana", ""))
	_, err := Create(t.Context(), nil, s, x.person("ana", "Another", ""), x.asked)
	var refusal *system.Refusal
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, account.TakenValue, refusal.Code)
	nameless := x.person("tom", "Tom", "")
	nameless.Fields["shoeSizeOfNobody"] = account.Of("44")
	_, err = Create(t.Context(), nil, s, nameless, x.asked)
	require.ErrorAs(t, err, &refusal, "a field that the system lacks is not left out without a word")
	assert.Equal(t, account.UnknownField, refusal.Code)
}

func (x suite) members(t *testing.T, s system.System, about *system.Description) {
	if about.Can.Ties == 0 || !about.Can.Makes {
		t.Skip("it has nothing that accounts are tied to")
	}
	groups, has := about.Kind("groups")
	require.True(t, has)
	var ids []string
	var joins []system.Tie
	for i := range 5 {
		ids = append(ids, x.create(t, s, x.person(fmt.Sprint("crew", i), "Ana", "")).ID)
		joins = append(joins, system.Tie{Account: ids[i]})
	}
	first := 0
	if groups.Filled {
		_, err := s.MakeThing(t.Context(), nil, "groups", x.Group+" of nobody", nil)
		assert.Error(t, err, "a thing of this kind has a member always")
		first = 1
	}
	group, err := s.MakeThing(t.Context(), nil, "groups", x.Group, joins[:first])
	require.NoError(t, err)
	in := func() (ids []string) {
		for m, err := range s.Members(t.Context(), "groups", []string{group.ID}) {
			require.NoError(t, err)
			if m.Thing == group.ID {
				ids = append(ids, m.Account)
			}
		}
		slices.Sort(ids)
		return ids
	}
	assert.Len(t, in(), first)
	slices.Sort(ids)
	require.NoError(t, s.Tie(t.Context(), nil, "groups", group.ID, joins[first:]))
	assert.Equal(t, ids, in())
	require.NoError(t, s.Tie(t.Context(), nil, "groups", group.ID, []system.Tie{{Account: ids[0], Leave: true}, {Account: ids[1], Leave: true}}))
	assert.Equal(t, ids[2:], in(), "the others stay")
	assert.ErrorIs(t, s.Tie(t.Context(), nil, "groups", group.ID+"-of-nobody", joins[:1]), system.ErrGone)
	if groups.Filled {
		var refusal *system.Refusal
		require.ErrorAs(t, s.Tie(t.Context(), nil, "groups", group.ID, []system.Tie{{Account: ids[2], Leave: true}, {Account: ids[3], Leave: true}, {Account: ids[4], Leave: true}}), &refusal)
		assert.Equal(t, ids[2:], in(), "all or none")
	}
	if about.Can.Unmakes {
		require.NoError(t, s.RemoveThing(t.Context(), nil, "groups", group.ID))
		assert.ErrorIs(t, s.RemoveThing(t.Context(), nil, "groups", group.ID), system.ErrGone)
	}
}

// several has orders of all verbs that go with others be carried out at once: each comes to what it would by itself.
func (x suite) several(t *testing.T, s system.System, about *system.Description) {
	if about.Can.AtOnce < 2 {
		t.Skip("it takes one order at a time")
	}
	ana, tom, mei := x.create(t, s, x.person("ana", "Ana", x.Values[0])), x.create(t, s, x.person("tom", "Tom", x.Values[0])), x.create(t, s, x.person("mei", "Mei", ""))
	change := func(known account.Account, to string) system.Order {
		return system.Order{Does: system.Changes, Known: known, Changes: []account.Change{{Field: x.Other, Before: account.Of(x.Values[0]), After: account.Of(to)}}}
	}
	_, err := system.Change(t.Context(), nil, s, tom, change(tom, x.Values[1]).Changes, x.asked)
	require.NoError(t, err)
	nobody := ana
	nobody.ID += "-of-nobody"
	var orders []system.Order
	for _, o := range append(Making(x.person("zoe", "Zoe", ""), x.person("ana", "Another", "")), change(ana, x.Values[2]), change(tom, x.Values[2]), change(nobody, x.Values[2]), system.Order{Does: system.Removes, Known: mei}) {
		if slices.Contains(about.Can.Together, o.Does) {
			orders = append(orders, o)
		}
	}
	results, err := s.Apply(t.Context(), nil, orders, x.asked)
	require.NoError(t, err)
	require.Len(t, results, len(orders))
	var refusal *system.Refusal
	for i, o := range orders {
		switch now, err := results[i].Account, results[i].Err; {
		case o.Wanted.Field("userName").Text() == "ana":
			require.ErrorAs(t, err, &refusal)
			assert.Equal(t, account.TakenValue, refusal.Code)
		case o.Does == system.Creates:
			require.NoError(t, err)
			seen, err := s.Get(t.Context(), now.ID, x.asked)
			require.NoError(t, err)
			assert.Equal(t, "Zoe", seen.Field(x.Text).Text())
		case o.Known.ID == nobody.ID:
			require.ErrorIs(t, err, system.ErrGone)
		case o.Known.ID == tom.ID && about.Can.Versions:
			require.ErrorIs(t, err, system.ErrChanged)
		case o.Does == system.Removes:
			require.NoError(t, err)
			_, err = s.Get(t.Context(), mei.ID, x.asked)
			require.ErrorIs(t, err, system.ErrGone)
		default:
			require.NoError(t, err)
			seen, err := s.Get(t.Context(), o.Known.ID, x.asked)
			require.NoError(t, err)
			assert.Equal(t, x.Values[2], seen.Field(x.Other).Text())
		}
	}
}

func (x suite) removes(t *testing.T, s system.System, about *system.Description) {
	if !about.Can.Removes {
		t.Skip("its accounts cannot be removed")
	}
	made := x.create(t, s, x.person("ana", "Ana", ""))
	other := x.create(t, s, x.person("tom", "Tom", ""))
	require.NoError(t, Remove(t.Context(), nil, s, made))
	_, err := s.Get(t.Context(), made.ID, x.asked)
	assert.ErrorIs(t, err, system.ErrGone)
	err = Remove(t.Context(), nil, s, made)
	assert.True(t, err == nil || errors.Is(err, system.ErrGone), "removing what is gone is no trouble: %v", err)
	_, err = s.Get(t.Context(), other.ID, x.asked)
	assert.NoError(t, err)
}

func (x suite) suspends(t *testing.T, s system.System, about *system.Description) {
	if !about.MaySuspend() {
		t.Skip("its accounts cannot be suspended")
	}
	fields := append(slices.Clone(x.asked), about.Suspension.Field)
	made := x.create(t, s, x.person("ana", "Ana", ""))
	for _, off := range []bool{true, false} {
		now, err := s.Get(t.Context(), made.ID, fields)
		require.NoError(t, err)
		_, err = system.Change(t.Context(), nil, s, now, []account.Change{about.Mark(&now, off)}, fields)
		require.NoError(t, err)
		now, err = s.Get(t.Context(), made.ID, fields)
		require.NoError(t, err)
		assert.Equal(t, off, about.IsSuspended(&now))
		assert.Equal(t, "Ana", now.Field(x.Text).Text(), "everything is kept")
	}
}

// renames changes what names an account.
func (x suite) renames(t *testing.T, s system.System, about *system.Description) {
	made := x.create(t, s, x.person("ana", "Ana", x.Values[0]))
	other := x.create(t, s, x.person("tom", "Tom", ""))
	now, err := system.Change(t.Context(), nil, s, made, []account.Change{{Field: about.Naming, Before: account.Of("ana"), After: account.Of("ana.reyes")}}, x.asked)
	require.NoError(t, err)
	assert.Equal(t, "ana.reyes", now.Field(about.Naming).Text())
	assert.Equal(t, x.Values[0], now.Field(x.Other).Text())
	if about.Can.Moves {
		_, err = s.Get(t.Context(), made.ID, x.asked)
		assert.ErrorIs(t, err, system.ErrGone, "it is called otherwise")
	} else {
		assert.Equal(t, made.ID, now.ID, "an identifier is for ever")
	}
	got, err := s.Get(t.Context(), now.ID, x.asked)
	require.NoError(t, err)
	assert.Equal(t, now.Fields, got.Fields)
	_, err = system.Change(t.Context(), nil, s, got, []account.Change{{Field: about.Naming, Before: account.Of("ana.reyes"), After: account.Of("tom")}}, x.asked)
	var refusal *system.Refusal
	require.ErrorAs(t, err, &refusal, "the name is somebody else's")
	got, err = s.Get(t.Context(), other.ID, x.asked)
	require.NoError(t, err)
	assert.Equal(t, "tom", got.Field(about.Naming).Text())
}

// rules has values found that the system takes for one, and says so of.
func (x suite) rules(t *testing.T, s system.System, about *system.Description) {
	made := x.create(t, s, x.person("ana.reyes", "Ana", x.Values[0]))
	for _, name := range []string{about.Naming, x.Other} {
		if about.Field(name).Rule != account.AnyCase {
			continue
		}
		var found []string
		_, err := system.Fetch(t.Context(), s, map[string][]string{name: {strings.ToUpper(made.Field(name).Text())}}, x.asked, 1, func(a account.Account) { found = append(found, a.ID) })
		require.NoError(t, err)
		assert.Contains(t, found, made.ID, name)
	}
}

// places has accounts stand in what is made for it, move from one to another, and what is
// empty go.
func (x suite) places(t *testing.T, s system.System, about *system.Description) {
	at := slices.IndexFunc(about.Kinds, func(k account.ThingKind) bool { return k.Place != "" })
	if at < 0 || !about.Can.Makes {
		t.Skip("its accounts stand nowhere")
	}
	kind, field := about.Kinds[at].Name, about.Kinds[at].Place
	var made []account.Thing
	for _, path := range []string{"Aft, lower", "Aft, lower/Watch \"1\"", "Fore"} {
		thing, err := s.MakeThing(t.Context(), nil, kind, path, nil)
		require.NoError(t, err)
		assert.Equal(t, path, thing.Name)
		made = append(made, thing)
	}
	_, err := s.MakeThing(t.Context(), nil, kind, "Nowhere/Within", nil)
	var refusal *system.Refusal
	require.ErrorAs(t, err, &refusal, "what is above has to be there")
	there := map[string]string{}
	for thing, err := range s.Things(t.Context(), kind, true) {
		require.NoError(t, err)
		there[thing.Name] = thing.ID
	}
	for _, thing := range made {
		assert.Equal(t, thing.ID, there[thing.Name])
	}
	fields := append(slices.Clone(x.asked), field)
	wanted := x.person("ana", "Ana", x.Values[0])
	wanted.Fields[field] = account.Of(made[1].Name)
	ana, err := Create(t.Context(), nil, s, wanted, fields)
	require.NoError(t, err)
	assert.Equal(t, made[1].Name, ana.Field(field).Text())
	standing := func(id string) (n int) {
		for m, err := range s.Members(t.Context(), kind, []string{id}) {
			require.NoError(t, err)
			assert.Equal(t, id, m.Thing)
			n++
		}
		return n
	}
	assert.Equal(t, 1, standing(made[1].ID))
	require.ErrorAs(t, s.RemoveThing(t.Context(), nil, kind, made[1].ID), &refusal, "she stands there")
	ana, err = system.Change(t.Context(), nil, s, ana, []account.Change{{Field: field, Before: ana.Field(field), After: account.Of("Fore")}, {Field: x.Other, Before: account.Of(x.Values[0]), After: account.Of(x.Values[1])}}, fields)
	require.NoError(t, err)
	assert.Equal(t, []string{"Fore", x.Values[1], "ana"}, []string{ana.Field(field).Text(), ana.Field(x.Other).Text(), ana.Field("userName").Text()})
	_, err = system.Change(t.Context(), nil, s, ana, []account.Change{{Field: field, Before: account.Of("Fore"), After: account.Of("Nowhere")}}, fields)
	require.ErrorAs(t, err, &refusal)
	assert.Zero(t, standing(made[1].ID))
	require.ErrorAs(t, s.RemoveThing(t.Context(), nil, kind, made[0].ID), &refusal, "another stands in it")
	for _, thing := range []account.Thing{made[1], made[0]} {
		require.NoError(t, s.RemoveThing(t.Context(), nil, kind, thing.ID))
	}
	assert.ErrorIs(t, s.RemoveThing(t.Context(), nil, kind, made[0].ID), system.ErrGone)
}

// passwords gives an account that is there another password.
func (x suite) passwords(t *testing.T, s system.System, about *system.Description) {
	if !about.Can.Renews {
		t.Skip("the system sets no passwords of accounts that are there")
	}
	made := x.create(t, s, x.person("ana", "Ana", x.Values[2]))
	require.NoError(t, SetPassword(t.Context(), nil, s, made, "gulls-over-Quay-41", nil))
	now, err := s.Get(t.Context(), made.ID, x.asked)
	require.NoError(t, err)
	assert.Equal(t, made.Fields, now.Fields, "and nothing else changes")
	require.NoError(t, SetPassword(t.Context(), nil, s, now, "gulls-over-Quay-41", nil), "the same once more does no harm")
	gone := x.create(t, s, x.person("tom", "Tom", ""))
	require.NoError(t, Remove(t.Context(), nil, s, gone))
	assert.ErrorIs(t, SetPassword(t.Context(), nil, s, gone, "gulls-over-Quay-41", nil), system.ErrGone)
}

// halves has a change refused of which one part can be made and another cannot: what is told of it is so.
func (x suite) halves(t *testing.T, s system.System, _ *system.Description) {
	now := x.create(t, s, x.person("ana", "Ana", ""))
	x.create(t, s, x.person("tom", "Tom", ""))
	for i, value := range x.Values[:2] {
		changes := []account.Change{
			{Field: "userName", Before: account.Of("ana"), After: account.Of("tom")},
			{Field: x.Other, Before: now.Field(x.Other), After: account.Of(value)},
		}
		if i == 1 {
			slices.Reverse(changes)
		}
		_, err := system.Change(t.Context(), nil, s, now, changes, x.asked)
		var refusal *system.Refusal
		require.ErrorAs(t, err, &refusal)
		var part *system.Partial
		done := map[string]bool{}
		if errors.As(err, &part) {
			for _, c := range part.Done {
				done[c.Field] = true
			}
		}
		assert.False(t, done["userName"], "%s: %v", err, part)
		now, err = s.Get(t.Context(), now.ID, x.asked)
		require.NoError(t, err)
		assert.Equal(t, "ana", now.Field("userName").Text())
		assert.Equal(t, done[x.Other], now.Field(x.Other).Text() == value, "it is as it is told")
	}
}

// shows reads back by identifier what was made, changed and removed, however the system looks accounts up.
func (x suite) shows(t *testing.T, s system.System, about *system.Description) {
	var ids []string
	for i := range 3 {
		ids = append(ids, x.create(t, s, x.person(fmt.Sprint("crew", i), "Ana", "")).ID)
	}
	now := func() map[string]string {
		found := map[string]string{}
		_, err := system.Fetch(t.Context(), s, map[string][]string{system.ByID: ids}, x.asked, 2, func(a account.Account) { found[a.ID] = a.Field(x.Other).Text() })
		require.NoError(t, err)
		return found
	}
	assert.Equal(t, map[string]string{ids[0]: "", ids[1]: "", ids[2]: ""}, now())
	known, err := s.Get(t.Context(), ids[1], x.asked)
	require.NoError(t, err)
	_, err = system.Change(t.Context(), nil, s, known, []account.Change{{Field: x.Other, After: account.Of(x.Values[0])}}, x.asked)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{ids[0]: "", ids[1]: x.Values[0], ids[2]: ""}, now())
	if about.Can.Removes {
		gone, err := s.Get(t.Context(), ids[2], x.asked)
		require.NoError(t, err)
		require.NoError(t, Remove(t.Context(), nil, s, gone))
		assert.Equal(t, map[string]string{ids[0]: "", ids[1]: x.Values[0]}, now())
	}
}

// stops has nothing sent that changes something for a worker whose work others may have, nor once a
// person stopped.
func (x suite) stops(t *testing.T, s system.System, about *system.Description) {
	made := x.create(t, s, x.person("ana", "Ana", ""))
	over := errors.New("others may have the work")
	stopped, stop := context.WithCancel(t.Context())
	stop()
	var group account.Thing
	isMember := false // else it can be made without any
	things := about.Can.Makes && about.Can.Unmakes && about.Can.Ties > 0 && len(about.Kinds) > 0 && about.Kinds[0].Place == ""
	if things {
		var err error
		group, err = s.MakeThing(t.Context(), nil, about.Kinds[0].Name, "Before", []system.Tie{{Account: made.ID}})
		require.NoError(t, err)
		for m, err := range s.Members(t.Context(), about.Kinds[0].Name, []string{group.ID}) {
			require.NoError(t, err)
			isMember = isMember || m.Account == made.ID && m.Thing == group.ID
		}
	}
	for how, c := range map[string]struct {
		ctx  context.Context
		may  system.Permit
		want error
	}{
		"forbidden": {t.Context(), func() error { return over }, over},
		"stopped":   {stopped, nil, context.Canceled},
	} {
		_, err := Create(c.ctx, c.may, s, x.person("tom", "Tom", ""), x.asked)
		require.ErrorIs(t, err, c.want, how)
		if about.Can.AtOnce > 1 {
			all, err := s.Apply(c.ctx, c.may, append(Making(x.person("mei", "Mei", "")), system.Order{Does: system.Changes, Known: made, Changes: []account.Change{{Field: x.Other, After: account.Of(x.Values[0])}}}), x.asked)
			for _, one := range all {
				err = errors.Join(err, one.Err)
			}
			require.ErrorIs(t, err, c.want, how)
		}
		_, err = system.Change(c.ctx, c.may, s, made, []account.Change{{Field: x.Other, After: account.Of(x.Values[0])}}, x.asked)
		require.ErrorIs(t, err, c.want, how)
		if about.Can.Renews {
			require.ErrorIs(t, SetPassword(c.ctx, c.may, s, made, "gulls-over-Quay-41", nil), c.want, how)
		}
		if about.Can.Removes {
			require.ErrorIs(t, Remove(c.ctx, c.may, s, made), c.want, how)
		}
		if about.Can.Makes && len(about.Kinds) > 0 && about.Kinds[0].Place == "" {
			_, err := s.MakeThing(c.ctx, c.may, about.Kinds[0].Name, x.Group, []system.Tie{{Account: made.ID}})
			require.ErrorIs(t, err, c.want, how)
		}
		if things {
			require.ErrorIs(t, s.Tie(c.ctx, c.may, about.Kinds[0].Name, group.ID, []system.Tie{{Account: made.ID, Leave: isMember}}), c.want, how)
			require.ErrorIs(t, s.RemoveThing(c.ctx, c.may, about.Kinds[0].Name, group.ID), c.want, how)
		}
	}
	if things {
		require.NoError(t, s.RemoveThing(t.Context(), nil, about.Kinds[0].Name, group.ID))
	}
	var all []string
	for a, err := range s.List(t.Context(), x.asked) {
		require.NoError(t, err)
		all = append(all, a.ID)
	}
	assert.Equal(t, []string{made.ID}, all)
	now, err := s.Get(t.Context(), made.ID, x.asked)
	require.NoError(t, err)
	assert.Equal(t, made.Fields, now.Fields)
}

// cannot has what the system says it cannot do refused as that.
func (x suite) cannot(t *testing.T, s system.System, about *system.Description) {
	made := x.create(t, s, x.person("ana", "Ana", ""))
	for what, c := range map[string]struct {
		can bool
		do  func() error
	}{
		"count":  {about.Can.Counts, func() error { _, err := s.Count(t.Context()); return err }},
		"remove": {about.Can.Removes, func() error { return Remove(t.Context(), nil, s, made) }},
		"renew":  {about.Can.Renews, func() error { return SetPassword(t.Context(), nil, s, made, "gulls-over-Quay-41", nil) }},
		"tie":    {about.Can.Ties > 0, func() error { return s.Tie(t.Context(), nil, "groups", "x", []system.Tie{{Account: made.ID}}) }},
		"make":   {about.Can.Makes, func() error { _, err := s.MakeThing(t.Context(), nil, "groups", "x", nil); return err }},
		"unmake": {about.Can.Unmakes, func() error { return s.RemoveThing(t.Context(), nil, "groups", "x") }},
	} {
		if err := c.do(); c.can {
			assert.NotErrorIs(t, err, system.ErrCannot, what)
		} else {
			assert.ErrorIs(t, err, system.ErrCannot, what)
		}
	}
}
