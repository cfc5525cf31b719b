package membership_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
)

// town has groups, courses, a licence with three seats of which one is taken, and
// roles that are values of a field of the account.
func town() *membership.Catalogue {
	c := &membership.Catalogue{Elevated: map[string][]string{"groups": {"*admins"}}}
	for _, kind := range []account.ThingKind{{Name: "groups"}, {Name: "courses", Roles: true, Sections: true}, {Name: "licences"}, {Name: "roles", Field: "roles"}} {
		c.AddKind(kind)
	}
	for i, name := range []string{"Deck crew", "Engine crew", "All hands", "Net admins", "Twins", "twins"} {
		c.Add("groups", account.Thing{ID: fmt.Sprintf("g%d", i+1), Name: name, Seats: -1})
	}
	c.Add("courses", account.Thing{ID: "c1", Name: "Radio", Seats: -1, Roles: []string{"learner", "tutor"}, Sections: []string{"Spring"}})
	c.Add("courses", account.Thing{ID: "c2", Name: "Tanker (basic)", Seats: -1, Closed: true})
	c.Add("licences", account.Thing{ID: "l1", Name: "charts", Seats: 3, Members: 1})
	return c
}

func parse(t require.TestingT, text string) *brief.Brief {
	b, err := brief.Parse("b.yaml", []byte("match: [userName]\nfields: {userName: {from: Login}}\n"+text), brief.Options{})
	require.NoError(t, err)
	return b
}

// decider decides for accounts that have what is listed: "ana: g1, c1 tutor".
func decider(b *brief.Brief, has ...string) *membership.Decider {
	ties := map[string]map[string]map[string]account.Membership{}
	for _, line := range has {
		who, list, _ := strings.Cut(line, ": ")
		ties[who] = map[string]map[string]account.Membership{}
		for item := range strings.SplitSeq(list, ", ") {
			id, role, _ := strings.Cut(item, " ")
			kind := map[byte]string{'g': "groups", 'c': "courses", 'l': "licences"}[id[0]]
			if ties[who][kind] == nil {
				ties[who][kind] = map[string]account.Membership{}
			}
			ties[who][kind][id] = account.Membership{Kind: kind, Thing: id, Account: who, Role: role}
		}
	}
	return &membership.Decider{Brief: b, Catalogue: town(), Has: func(id, kind string) map[string]account.Membership { return ties[id][kind] }}
}

// wanted names things: the first word of each is the index of its entry in the
// brief.
func wanted(b *brief.Brief, ties ...string) *mapping.Wanted {
	w := &mapping.Wanted{Row: 7, Spoken: make([]bool, len(b.Memberships))}
	for _, tie := range ties {
		var of int
		at, name, _ := strings.Cut(tie, " ")
		_, _ = fmt.Sscan(at, &of)
		if w.Spoken[of] = true; name != "" {
			w.Ties = append(w.Ties, mapping.Tie{Of: of, Name: name, Column: "Column"})
		}
	}
	return w
}

func said(steps []membership.Step, findings []account.Finding) string {
	var all []string
	for _, f := range findings {
		if f.Level == account.Error {
			all = append(all, string(f.Code))
		}
	}
	for _, s := range steps {
		all = append(all, s.Text())
	}
	return strings.Join(all, "; ")
}

func TestDecide(t *testing.T) {
	const add, exact = "groups: {from: G}\ncourses: {from: C}\nlicences: {from: L}\nroles: {from: R}\n", "groups: [{from: G, mode: exact, within: '*crew'}, {from: X, mode: remove}]\n"
	for _, c := range []struct {
		about, brief, who string
		ties              []string
		want              string
	}{
		{"new", add, "", []string{"0 deck CREW", "0 g2", "2 charts", "3 anything"}, "joins group Deck crew; joins group Engine crew; joins licence charts; joins role anything"},
		{"there already", add, "ana", []string{"0 Deck crew", "1 Radio"}, ""},
		{"another role", add, "ana", []string{"1 Radio (LEARNER)"}, "in course Radio: (tutor) → (learner)"},
		{"role and section", add, "", []string{"1 Radio (tutor, spring)"}, "joins course Radio (tutor, Spring)"},
		{"unknown", add, "", []string{"0 Dekc crew"}, "unknown-group"},
		{"of two", add, "", []string{"0 TWINS"}, "two-of-that-name"},
		{"of two, to the letter", add, "", []string{"0 twins"}, "joins group twins"},
		{"a name with brackets", add, "bo", []string{"1 Tanker (basic)"}, ""},
		{"closed", add, "", []string{"1 c2"}, "closed"},
		{"no such role", add, "", []string{"1 Radio (captain)"}, "not-a-role-there"},
		{"no such section", add, "", []string{"1 Radio (tutor, Winter)"}, "unknown-section"},
		{"roles in groups", add, "", []string{"0 Deck crew (boss)"}, "unknown-role"},
		{"elevated", add, "", []string{"0 net admins"}, "elevated-right"},
		{"elevated already", add, "bo", []string{"0 net admins"}, ""},
		{"exact", exact, "ana", []string{"0 Engine crew"}, "leaves group Deck crew; joins group Engine crew"},
		{"exact of nothing", exact, "ana", []string{"0"}, "leaves group Deck crew"},
		{"exact, not spoken of", exact, "ana", nil, ""},
		{"outside of exact", exact, "ana", []string{"0 All hands"}, "outside-within"},
		{"taken away", exact, "ana", []string{"1 g3"}, "leaves group All hands"},
		{"taken away, not there", exact, "bo", []string{"1 g3", "1 Nowhere"}, ""},
		{"both ways", exact, "ana", []string{"0 Deck crew", "1 Deck crew"}, "both-ways"},
		{"made first", "groups: {from: G, make_missing: true}\n", "", []string{"0 Night", "0 NIGHT"}, "joins group Night"},
		{"in two roles", add, "", []string{"1 Radio (tutor)", "1 c1 (learner)"}, "both-ways"},
	} {
		t.Run(c.about, func(t *testing.T) {
			b := parse(t, c.brief)
			d := decider(b, "ana: g1, g3, c1 tutor", "bo: g4, c2")
			steps, findings := d.Decide(wanted(b, c.ties...), c.who)
			assert.Equal(t, c.want, said(steps, findings))
			for _, f := range findings {
				assert.Equal(t, 7, f.Row)
				assert.NotEmpty(t, f.Remedy, f.Code)
			}
		})
	}
	none := parse(t, "licences: {from: L}\n")
	empty := &membership.Decider{Brief: none, Catalogue: &membership.Catalogue{}, Has: func(string, string) map[string]account.Membership { return nil }}
	assert.Equal(t, "unknown-licence", said(empty.Decide(wanted(none, "0 charts"), "")))
}

// Seats go out in the order of the sheet, come back for the rows below, and are
// given all or none.
func TestSeats(t *testing.T) {
	b := parse(t, "groups: {from: G}\nlicences: [{from: L}, {from: X, mode: remove}]\nsuspend: {leave: {licences: \"*\"}}\n")
	d := decider(b, "ana: l1", "tom: l1")
	for i, c := range []struct{ who, tie, want string }{
		{"a", "1 charts", "joins licence charts"}, {"b", "1 charts", "joins licence charts"}, {"c", "1 charts", "no-seat-left"},
		{"ana", "2 charts", "leaves licence charts"}, {"c", "1 charts", "joins licence charts"},
	} {
		steps, findings := d.Decide(wanted(b, c.tie), c.who)
		assert.Equal(t, c.want, said(steps, findings), "row %d", i)
		if c.who == "b" {
			d.Return(steps)
			steps, _ = d.Decide(wanted(b, c.tie), c.who)
			assert.Len(t, steps, 1, "what a refused row gave back is there again")
		}
	}
	assert.Equal(t, "leaves licence charts", said(d.Leaving("tom", nil), nil))
	assert.Empty(t, d.Leaving("tom", []membership.Step{{Kind: "licences", Thing: "l1"}}), "what was given back already is given back once")
	seats := d.Seats()
	require.Len(t, seats, 1)
	assert.Equal(t, membership.Seats{Kind: "licences", Thing: "l1", Name: "charts", Has: 3, Taken: 1, Needs: 3, Given: 2, Refused: 1}, seats[0])
	assert.Equal(t, 1, seats[0].Left())
}

// Allowed elevated rights are told by name; a sheet of memberships speaks of each
// once.
func TestElevatedAndEach(t *testing.T) {
	b := parse(t, "groups: {from: G}\nnew: refuse\n")
	d := decider(b, "ana: g1")
	d.Allow = true
	steps, findings := d.Decide(wanted(b, "0 Net admins"), "ana")
	assert.Len(t, steps, 1)
	require.Len(t, findings, 1)
	assert.Equal(t, account.Warning, findings[0].Level)
	assert.Contains(t, findings[0].Message, "Net admins")
	assert.Equal(t, "same-membership", said(d.Decide(wanted(b, "0 Net admins"), "ana")))
}

// A check finds the same as a decision, whoever the row is about.
func TestCheck(t *testing.T) {
	b := parse(t, "groups: {from: G}\ncourses: {from: C}\n")
	c := town()
	assert.Equal(t, "unknown-group", said(nil, c.Check(b, wanted(b, "0 Dekc crew", "1 Radio"))))
	closed := c.Check(b, wanted(b, "1 c2"))
	require.Len(t, closed, 1)
	assert.Equal(t, account.Warning, closed[0].Level, "who is in it may stay")
	assert.Equal(t, "g1", c.Meant("groups", "deck crew").ID)
	assert.Nil(t, c.Meant("groups", "Twins of old"))
}

// Whatever an account has and a row wants: the steps lead from the one to the
// other, and touch nothing else.
func TestStepsLeadThere(t *testing.T) {
	b := parse(t, "groups: {from: G, mode: exact, within: '*crew'}\n")
	rapid.Check(t, func(t *rapid.T) {
		ids := rapid.SliceOfDistinct(rapid.SampledFrom([]string{"g1", "g2", "g3", "g4"}), func(s string) string { return s })
		has, wants := ids.Draw(t, "has"), rapid.SliceOfDistinct(rapid.SampledFrom([]string{"g1", "g2"}), func(s string) string { return s }).Draw(t, "wants")
		ties := []string{"0"}
		for _, id := range wants {
			ties = append(ties, "0 "+id)
		}
		line := "x: g5"
		if len(has) > 0 {
			line = "x: " + strings.Join(has, ", ")
		}
		steps, findings := decider(b, line).Decide(wanted(b, ties...), "x")
		require.Empty(t, findings)
		now := slices.Clone(has)
		for _, s := range steps {
			if s.Do == membership.Leave {
				require.Contains(t, now, s.Thing)
				now = slices.DeleteFunc(now, func(id string) bool { return id == s.Thing })
			} else {
				require.NotContains(t, now, s.Thing)
				now = append(now, s.Thing)
			}
		}
		for _, id := range []string{"g1", "g2"} {
			require.Equal(t, slices.Contains(wants, id), slices.Contains(now, id))
		}
		for _, id := range []string{"g3", "g4"} {
			require.Equal(t, slices.Contains(has, id), slices.Contains(now, id), "outside the pattern")
		}
	})
}
