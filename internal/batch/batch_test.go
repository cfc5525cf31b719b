package batch_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
)

func field(t *testing.T, name string) account.Field {
	f, ok := account.FieldNamed(name)
	require.True(t, ok)
	return f
}

func someone(id string, pairs ...string) account.Account {
	a := account.Account{ID: id, Fields: map[string]account.Value{}}
	for i := 0; i < len(pairs); i += 2 {
		a.Fields[pairs[i]] = account.Of(pairs[i+1])
	}
	return a
}

func TestIndex(t *testing.T) {
	x := batch.NewIndex([]account.Field{field(t, "userName"), field(t, "employeeNumber")}, map[string][]string{"userName": {"Ana.Reyes", "tom9"}, "employeeNumber": {"7"}})
	x.Numbered = "userName"
	ana := someone("1", "userName", "ana.reyes", "employeeNumber", "7")
	for _, a := range []account.Account{
		ana, ana, // a system may give an account twice
		someone("2", "userName", "ANA.REYES12"),
		someone("3", "userName", "tom9"), someone("4", "userName", "tom"), someone("5", "userName", "ana.reyesx"),
		someone("6", "employeeNumber", "7"), someone("7", "employeeNumber", "77"),
	} {
		x.Add(a)
	}
	ids := func(name, value string) (ids []string) {
		for _, a := range x.Find(name, value) {
			ids = append(ids, a.ID)
		}
		return ids
	}
	assert.Equal(t, []string{"1"}, ids("userName", "ANA.reyes"), "capitals make no difference in a sign-in name")
	assert.Equal(t, []string{"2"}, ids("userName", "ana.reyes12"), "numbers behind a wanted value are kept")
	assert.Equal(t, []string{"3"}, ids("userName", "tom9"))
	assert.Empty(t, ids("userName", "tom"), "what nobody wants is not kept")
	assert.Equal(t, []string{"1", "6"}, ids("employeeNumber", "7"))
	assert.Empty(t, ids("title", "x"))
}

func TestPolicies(t *testing.T) {
	for _, c := range []struct {
		new, known brief.Policy
		want       string
	}{
		{brief.Create, brief.Update, "Accounts are found by employeeNumber, then userName; new people get an account; known accounts are updated where they differ."},
		{brief.Skip, brief.Fill, "Accounts are found by employeeNumber, then userName; rows without an account are set aside; known accounts get only what is empty in them."},
		{brief.Refuse, brief.Skip, "Accounts are found by employeeNumber, then userName; rows without an account are refused; rows whose account exists are set aside."},
		{brief.Create, brief.Refuse, "Accounts are found by employeeNumber, then userName; new people get an account; rows whose account exists are refused."},
	} {
		assert.Equal(t, c.want, batch.Policies(&brief.Brief{Match: []string{"employeeNumber", "userName"}, New: c.new, Known: c.known}))
	}
}

// Whatever is wanted and whatever is found, a row comes to exactly one outcome
// that fits what it intends, and only what is wanted is changed.
func TestOneOutcome(t *testing.T) {
	b, err := brief.Parse("b.yaml", []byte("match: [employeeNumber, userName]\nfields:\n  employeeNumber: {from: a}\n  userName: {from: b}\n  title: {from: c, clear_when_blank: true}\n"), brief.Options{})
	require.NoError(t, err)
	text := rapid.SampledFrom([]string{"", "1", "2", "x"})
	value := rapid.Custom(func(t *rapid.T) account.Value {
		if rapid.Bool().Draw(t, "absent") {
			return account.Value{}
		}
		return account.Of(text.Draw(t, "text"))
	})
	rapid.Check(t, func(t *rapid.T) {
		b := *b
		b.New = rapid.SampledFrom([]brief.Policy{brief.Create, brief.Skip, brief.Refuse}).Draw(t, "new")
		b.Known = rapid.SampledFrom([]brief.Policy{brief.Update, brief.Fill, brief.Skip, brief.Refuse}).Draw(t, "known")
		var fields []account.Field
		for _, f := range b.Fields {
			fields = append(fields, f.Field)
		}
		all := []string{"1", "2", "x"}
		index := batch.NewIndex(fields, map[string][]string{"employeeNumber": all, "userName": all, "title": all})
		for range rapid.IntRange(0, 4).Draw(t, "accounts") {
			a := account.Account{ID: rapid.StringMatching("[a-d]").Draw(t, "id"), Fields: map[string]account.Value{}}
			for _, f := range fields {
				a.Fields[f.Name] = account.Of(text.Draw(t, f.Name))
			}
			index.Add(a)
		}
		w := &mapping.Wanted{Row: 2, Aside: rapid.IntRange(0, 9).Draw(t, "aside") == 0}
		for range b.Fields {
			w.Values = append(w.Values, value.Draw(t, "value"))
		}
		d := &batch.Decider{Brief: &b, Schema: &account.Schema{}, Index: index, Unique: []int{0, 1}, Fields: []string{"employeeNumber", "userName", "title"},
			Missing: func(*mapping.Wanted) []account.Finding { return nil }, Column: func(int) string { return "" }}
		e := batch.Entry{Row: 2}
		d.Decide(&e, w)
		switch e.Outcome {
		case account.Waiting:
			require.NotEmpty(t, e.Changes)
			require.Equal(t, e.Intent == account.Update, e.Account != "")
		case account.Unchanged, account.Aside, account.Refused:
			require.Empty(t, e.Changes)
		default:
			t.Fatalf("a draft ends with %q", e.Outcome)
		}
		require.Equal(t, e.Outcome == account.Refused, account.HasError(e.Findings))
		for _, c := range e.Changes {
			require.NotEqual(t, c.Before.Text(), c.After.Text())
			i := b.Field(c.Field)
			require.Equal(t, w.Values[i], c.After, "only what is wanted is sent")
			if e.Intent == account.Update {
				require.Equal(t, e.Known[c.Field].Text(), c.Before.Text())
				require.False(t, b.Known == brief.Fill && c.Before.Filled())
			}
		}
	})
}
