package account_test

import (
	"encoding/json"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/words"
)

func TestCodesAreSortedAndExplained(t *testing.T) {
	var names []string
	for _, c := range account.Codes() {
		names = append(names, string(c.Code))
		assert.NotEmpty(t, c.Meaning, c.Code)
		assert.NotEmpty(t, c.Remedy, c.Code)
		found, ok := account.Explain(c.Code)
		assert.True(t, ok, c.Code)
		assert.Equal(t, c, found)
	}
	assert.True(t, slices.IsSorted(names))
	_, ok := account.Explain("no-such-code")
	assert.False(t, ok)
}

func TestHeadingsMeanOneField(t *testing.T) {
	owner := map[string]string{}
	for _, f := range account.Fields() {
		for _, heading := range append([]string{f.Name}, f.Headings...) {
			key := words.Key(heading)
			if other, taken := owner[key]; taken {
				assert.Equal(t, f.Name, other, "the heading %q stands for two fields", heading)
			}
			owner[key] = f.Name
		}
	}
	headings := account.NewHeadings()
	for heading, want := range map[string]string{"STAFF  no.": "employeeNumber", "e_mail": "email", "Prenom": "givenName", "Apellidos": "familyName"} {
		f, ok := headings.Field(heading)
		assert.True(t, ok, heading)
		assert.Equal(t, want, f.Name)
	}
}

func TestSame(t *testing.T) {
	for _, c := range []struct {
		field, a, b string
		want        bool
	}{
		{"email", "Ana@X.example", "ana@x.example", true},
		{"familyName", "McKay", "Mckay", false},
		{"phone", "+44 20 7946 0018", "+442079460018", true},
		{"phone", "", "+1", false},
	} {
		f, ok := account.FieldNamed(c.field)
		require.True(t, ok)
		assert.Equal(t, c.want, f.Same(c.a, c.b), "%s %q %q", c.field, c.a, c.b)
	}
}

// A system's rule says when two values collide; what there is to change a person says.
func TestWhatStandsBehindStays(t *testing.T) {
	comment := account.Attribute{Field: "gecos", Behind: ","}
	for _, of := range [][3]string{ // before, what a row says, what it comes to
		{"Moira Vance,Bridge,,", "Moira Vance-Élan", "Moira Vance-Élan,Bridge,,"},
		{"Moira Vance,Bridge,,", "Moira Vance", "Moira Vance,Bridge,,"},
		{"Moira Vance,Bridge,,", "Moira Vance,", "Moira Vance,"},
		{"Moira Vance,Bridge,,", "", ""},
		{"Moira Vance", "Zoë Ångström", "Zoë Ångström"},
		{",Bridge", "Zoë Ångström", "Zoë Ångström,Bridge"},
	} {
		assert.Equal(t, of[2], comment.Kept(of[0], of[1]), of)
	}
	whole := account.Attribute{Field: "title"}
	assert.Equal(t, "Pilot", whole.Kept("Mate, deck", "Pilot"))
}

func TestRules(t *testing.T) {
	for _, c := range []struct {
		rule      account.Rule
		a, b      string
		one, same bool
	}{
		{account.AnyCase, "McKay", "mckay", true, false},
		{account.AnyCase, "Ana  Maria", "ana maria", true, false},
		{account.AnyCase, "", "", true, true},
		{account.ByLetter, "a1", "A1", false, false},
		{account.DN, "UID=Ana, ou=Deck,dc=x", "uid=ana,OU=deck, dc=x", true, true},
		{account.DN, `cn=Reyes\, Ana,dc=x`, `CN=reyes\, ana,dc=x`, true, true},
		{account.DN, `cn=a\,b=c`, `cn=a,b=c`, false, false},
		{account.DN, "uid=ana", "", false, false},
	} {
		f := account.Field{Name: "x", Rule: c.rule}
		assert.Equal(t, []bool{c.one, c.same}, []bool{f.One(c.a, c.b), f.Same(c.a, c.b)}, "%s %q %q", c.rule, c.a, c.b)
	}
	schema := &account.Schema{Naming: "userName", Suspension: account.Suspension{Field: "lock", Off: "locked"}, Attributes: []account.Attribute{{Field: "userName", Rule: account.ByLetter}, {Field: "lock"}}}
	assert.False(t, schema.Field("userName").One("ana", "ANA"), "the system knows better than the catalogue")
	a := account.Account{Fields: map[string]account.Value{"lock": account.Of("locked")}}
	assert.True(t, schema.MaySuspend() && schema.IsSuspended(&a))
	assert.Equal(t, account.Change{Field: "lock", Before: account.Of("locked"), After: account.Blank()}, schema.Mark(&a, false))
	assert.False(t, (&account.Schema{}).MaySuspend())
}

func TestValueKeepsItsStateThroughJSON(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		before := map[string]account.Value{"absent": {}, "blank": account.Blank(), "value": account.Of(rapid.String().Draw(t, "text"))}
		data, err := json.Marshal(before)
		require.NoError(t, err)
		var after map[string]account.Value
		require.NoError(t, json.Unmarshal(data, &after))
		assert.Equal(t, before, after)
	})
}

// A number tells namesakes apart where it makes nobody else's address of theirs.
func TestNumbered(t *testing.T) {
	for value, want := range map[string]string{"ana.reyes": "ana.reyes2", "ana.reyes@brindlesound.example": "ana.reyes2@brindlesound.example", "@ana": "@ana2", "ana@deck@brindlesound.example": "ana@deck2@brindlesound.example"} {
		assert.Equal(t, want, account.Numbered(value, 2))
		assert.Equal(t, value, account.Unnumbered(account.Numbered(value, 17)))
	}
}
