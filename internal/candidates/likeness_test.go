package candidates_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/candidates"
)

// Who is meant stands first, and how sure is in the order in which people would be.
func TestBest(t *testing.T) {
	x := candidates.NewIndex()
	for id, p := range map[string]candidates.Person{
		"1": {Names: []string{"William", "Okafor"}, Email: "w.okafor@brindlesound.example", Login: "wokafor"},
		"2": {Names: []string{"Zoë", "Ångström"}, Email: "zoe@brindlesound.example"},
		"3": {Names: []string{"Ana Sofia", "Reyes Santos"}},
		"4": {Names: []string{"Jürgen", "Müller"}},
		"5": {Names: []string{"Katarzyna", "Wiśniewska"}},
		"6": {Names: []string{"Ana", "Castro"}},
		"7": {Names: []string{"Παύλος", "Παπαδόπουλος"}},
		"8": {Login: "tdemir"},
		"9": {Names: []string{"Iker van der Berg"}, Other: map[string]string{"telephone": "+44 7700 900102"}},
	} {
		x.Add(id, p)
	}
	name := func(names ...string) candidates.Person { return candidates.Person{Names: names} }
	for _, c := range []struct {
		who       candidates.Person
		id        string
		low, high int
		why       string
	}{
		{name("Bill", "Okafor"), "1", 80, 90, "forms of one name"},
		{name("OKAFOR William"), "1", 85, 95, "the other way about"},
		{name("W.", "Okafor"), "1", 65, 80, "an initial"},
		{candidates.Person{Names: []string{"Will", "Okafor"}, Email: "W.Okafor@elsewhere.example"}, "1", 92, 99, "the same address at another place"},
		{name("Zoe", "Angstroem"), "2", 85, 95, "the same name"},
		{name("Zoe", "Angstrem"), "2", 75, 90, "differ by a letter"},
		{name("Ana", "Reyes"), "3", 70, 85, "left out"},
		{name("Juergen", "Mueller"), "4", 80, 95, ""},
		{name("Kasia", "Wisniewska"), "5", 80, 90, "forms of one name"},
		{name("Pavlos", "Papadopoulos"), "7", 70, 95, "differ by a letter"},
		{name("Tarık", "Demir"), "8", 55, 75, "made of the name"},
		{candidates.Person{Names: []string{"Iker", "Berg"}, Other: map[string]string{"telephone": "+447700900102"}}, "9", 90, 99, "the same telephone"},
		{name("Anna", "Castrro"), "6", 75, 90, "with one letter or two"},
		{name("AS", "Reyes Santos"), "3", 60, 85, "an initial"},
		{name("Nobody", "Whatever"), "", 0, 0, ""},
		{name("Ana"), "", 0, 0, ""},
		{name(), "", 0, 0, ""},
	} {
		best := x.Best(c.who, 3)
		if c.id == "" {
			for _, b := range best {
				assert.Less(t, b.Sure, 60, "%v: %v", c.who, b)
			}
			continue
		}
		require.NotEmpty(t, best, c.who)
		assert.Equal(t, c.id, best[0].ID, "%v: %v", c.who, best)
		assert.True(t, best[0].Sure >= c.low && best[0].Sure <= c.high, "%v: %v", c.who, best[0])
		assert.Contains(t, best[0].Why, c.why)
	}
}

// The same given name counts more than a family name that is only like, and a namesake by family alone is hardly anybody.
func TestGivenNamesCount(t *testing.T) {
	x := candidates.NewIndex()
	x.Add("brother", candidates.Person{Names: []string{"Tomas", "Lindqvist"}})
	x.Add("like", candidates.Person{Names: []string{"Irena", "Lindqvist"}})
	x.Add("married", candidates.Person{Names: []string{"Irina", "Lindkvist"}})
	x.Add("other", candidates.Person{Names: []string{"Irina", "Moreau"}})
	best := x.Best(candidates.Person{Names: []string{"Irina", "Lindqvist"}}, 4)
	require.GreaterOrEqual(t, len(best), 3)
	assert.Equal(t, []string{"married", "like", "other"}, []string{best[0].ID, best[1].ID, best[2].ID}, "%v", best)
	for _, c := range best {
		assert.NotEqual(t, "brother", c.ID, "%v", best)
	}
}

// Of many who have everything common in common, each is found, in time that does not grow with
// them all.
func TestManyAlike(t *testing.T) {
	x := candidates.NewIndex()
	given, family := []string{"Ana", "Maria", "John", "Mohammed"}, []string{"Smith", "Silva", "Kowalski", "Jones"}
	for i := range 8000 {
		x.Add(fmt.Sprint(i), candidates.Person{Names: []string{given[i%4], family[i/4%4]}, Email: fmt.Sprintf("p%d@brindlesound.example", i)})
	}
	best := x.Best(candidates.Person{Names: []string{"Maria", "Silva"}, Email: "p5@brindlesound.example"}, 3)
	require.NotEmpty(t, best)
	assert.Equal(t, "5", best[0].ID)
	best = x.Best(candidates.Person{Names: []string{"Maria", "Silva"}}, 3)
	require.Len(t, best, 3)
	assert.Contains(t, best[0].Why, "another is as likely")
}
