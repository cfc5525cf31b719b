// Package systemtest is what every kind of system has to pass: the promises of
// system.System and of what else a system can do, kept against a real server where there
// is one. A kind's own tests call Run with a system that may be filled.
package systemtest

import (
	"errors"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// many is more accounts than a page or a filter takes.
const many = 130

// Run tests the systems that open makes: a new one each time, in which accounts may be
// made with userName, givenName and title alone. what else they can do is tested where
// they say that they can.
func Run(t *testing.T, open func(t *testing.T) system.System) {
	for name, test := range map[string]func(*testing.T, system.System){
		"create, get and change": changes, "find and list": finds, "refusals": refusals, "members": members, "removing": removes,
	} {
		t.Run(name, func(t *testing.T) { test(t, open(t)) })
	}
}

var asked = []string{"userName", "givenName", "title"}

func person(userName, givenName, title string) account.Account {
	return account.Account{Fields: map[string]account.Value{"userName": account.Of(userName), "givenName": account.Of(givenName), "title": account.ValueOr(title)}}
}

func create(t *testing.T, s system.System, a account.Account) account.Account {
	made, err := s.Create(t.Context(), a, asked)
	require.NoError(t, err)
	require.NotEmpty(t, made.ID)
	return made
}

func changes(t *testing.T, s system.System) {
	made := create(t, s, person("ana", "Ana “Nan” Ångström", "Mate"))
	assert.Equal(t, "Ana “Nan” Ångström", made.Field("givenName").Text(), "letters come back as they were sent")
	assert.Empty(t, made.Password)
	got, err := s.Get(t.Context(), made.ID, asked)
	require.NoError(t, err)
	assert.Equal(t, made.Fields, got.Fields)
	now, err := s.Change(t.Context(), got, []account.Change{{Field: "title", Before: account.Of("Mate"), After: account.Of("Bosun")}}, asked)
	require.NoError(t, err)
	assert.Equal(t, []string{"Bosun", "Ana “Nan” Ångström"}, []string{now.Field("title").Text(), now.Field("givenName").Text()}, "nothing else changes")
	if v, ok := s.(system.Versioner); ok && v.Versions() {
		_, err = s.Change(t.Context(), got, []account.Change{{Field: "title", Before: account.Of("Mate"), After: account.Of("Cook")}}, asked)
		assert.ErrorIs(t, err, system.ErrChanged, "a change is made to the version that is named, or not at all")
	}
	now, err = s.Change(t.Context(), now, []account.Change{{Field: "title", Before: account.Of("Bosun"), After: account.Blank()}}, asked)
	require.NoError(t, err)
	assert.False(t, now.Field("title").Filled(), "a blank clears")
	_, err = s.Get(t.Context(), made.ID+"-of-nobody", asked)
	assert.ErrorIs(t, err, system.ErrGone)
}

func finds(t *testing.T, s system.System) {
	var names []string
	for i := range many {
		name := fmt.Sprintf("crew%03d", i)
		if i%40 == 7 {
			name = fmt.Sprintf(`o'%d (x)*\é"`, i) // what could mean something in a filter
		}
		names = append(names, name)
		create(t, s, person(name, "Ana", ""))
	}
	var listed []string
	for a, err := range s.List(t.Context(), asked) {
		require.NoError(t, err)
		listed = append(listed, a.Field("userName").Text())
	}
	slices.Sort(listed)
	slices.Sort(names)
	assert.Equal(t, names, listed, "everyone, and each once")
	for _, some := range [][]string{names, names[:3], {names[many-1]}} {
		found := map[string]bool{}
		_, err := system.Fetch(t.Context(), s, map[string][]string{"userName": append(slices.Clone(some), "nobody")}, asked, 3, func(a account.Account) { found[a.Field("userName").Text()] = true })
		require.NoError(t, err)
		for _, name := range some {
			assert.True(t, found[name], name)
		}
		assert.False(t, found["nobody"])
	}
}

func refusals(t *testing.T, s system.System) {
	create(t, s, person("ana", "Ana", ""))
	_, err := s.Create(t.Context(), person("ana", "Another", ""), asked)
	var refusal *system.Refusal
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, "taken-value", refusal.Code)
	nameless := person("tom", "Tom", "")
	nameless.Fields["shoeSizeOfNobody"] = account.Of("44")
	_, err = s.Create(t.Context(), nameless, asked)
	require.ErrorAs(t, err, &refusal, "a field that the system lacks is not left out without a word")
	assert.Equal(t, "unknown-field", refusal.Code)
}

func members(t *testing.T, s system.System) {
	registrar, ok := s.(system.Registrar)
	if !ok {
		t.Skip("it has nothing that accounts are tied to")
	}
	group, err := registrar.MakeThing(t.Context(), "groups", "Night watch")
	require.NoError(t, err)
	in := func() (ids []string) {
		for m, err := range registrar.Members(t.Context(), "groups", []string{group.ID}) {
			require.NoError(t, err)
			ids = append(ids, m.Account)
		}
		slices.Sort(ids)
		return ids
	}
	assert.Empty(t, in())
	var ids []string
	var joins []system.Tie
	for i := range 5 {
		ids = append(ids, create(t, s, person(fmt.Sprint("crew", i), "Ana", "")).ID)
		joins = append(joins, system.Tie{Account: ids[i]})
	}
	slices.Sort(ids)
	require.NoError(t, registrar.Tie(t.Context(), "groups", group.ID, joins))
	assert.Equal(t, ids, in())
	require.NoError(t, registrar.Tie(t.Context(), "groups", group.ID, []system.Tie{{Account: ids[0], Leave: true}, {Account: ids[1], Leave: true}}))
	assert.Equal(t, ids[2:], in(), "the others stay")
	assert.ErrorIs(t, registrar.Tie(t.Context(), "groups", group.ID+"-of-nobody", joins[:1]), system.ErrGone)
}

func removes(t *testing.T, s system.System) {
	remover, ok := s.(system.Remover)
	if !ok {
		t.Skip("its accounts cannot be removed")
	}
	made := create(t, s, person("ana", "Ana", ""))
	other := create(t, s, person("tom", "Tom", ""))
	require.NoError(t, remover.Remove(t.Context(), made))
	_, err := s.Get(t.Context(), made.ID, asked)
	assert.ErrorIs(t, err, system.ErrGone)
	err = remover.Remove(t.Context(), made)
	assert.True(t, err == nil || errors.Is(err, system.ErrGone), "removing what is gone is no trouble: %v", err)
	_, err = s.Get(t.Context(), other.ID, asked)
	assert.NoError(t, err)
}
