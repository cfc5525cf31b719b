package batch_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/system"
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
		assert.Equal(t, c.want, batch.Policies(&brief.Brief{Match: []string{"employeeNumber", "userName"}, Policies: brief.Policies{New: c.new, Known: c.known}}))
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
		d := &batch.Decider{Brief: &b, Schema: &account.Schema{Naming: "userName", Suspension: account.Suspension{Field: "active", On: "true", Off: "false"}}, Can: system.Abilities{Removes: true}, Index: index, Unique: []int{0, 1}, Fields: []string{"employeeNumber", "userName", "title"},
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

// What a row itself asks for counts for more than the policies, within what the
// brief allows.
func TestIntents(t *testing.T) {
	const head = "match: [userName]\nfields:\n  userName: {from: a}\n  title: {from: b}\n  active: {from: c}\nintent: {from: d, via: {x: create}}\nsuspend: {set: {locale: en}}\nresume: {set: {locale: pt}}\n"
	on, off := someone("1", "userName", "ana", "title", "Mate", "active", "true"), someone("2", "userName", "tom", "active", "false", "locale", "en")
	for _, c := range []struct {
		about, more, login, title, active, asks string
		want                                    string
	}{
		{"new by policy", "", "zoe", "", "", "", "waiting create userName→zoe"},
		{"new though skipped", "new: skip\n", "zoe", "", "", "create", "waiting create userName→zoe"},
		{"update of nobody", "", "zoe", "", "", "update", "refused no-account"},
		{"suspend of nobody", "", "zoe", "", "", "suspend", "refused no-account"},
		{"remove of nobody", "", "zoe", "", "", "remove", "unchanged keep no-account"},
		{"aside", "", "ana", "Boss", "", "aside", "aside not-wanted"},
		{"create of one who is there", "", "ana", "Boss", "", "create", "refused known-refused"},
		{"create of one who is there, as the brief says", "known: update\n", "ana", "Boss", "", "create", "waiting update title→Boss"},
		{"create of one who is there, skipped", "known: skip\n", "ana", "Boss", "", "create", "aside exists-already"},
		{"in capitals", "", "ana", "", "", "Suspend", "waiting suspend active→false locale→en"},
		{"a word that is none", "", "ana", "Boss", "", "supsend", "refused not-allowed-value"},
		{"update though skipped", "known: skip\n", "ana", "Boss", "", "update", "waiting update title→Boss"},
		{"suspend touches nothing else", "", "ana", "Boss", "", "suspend", "waiting suspend active→false locale→en"},
		{"suspended already", "", "tom", "Boss", "", "suspend", "unchanged keep"},
		{"resume changes as well", "", "tom", "Boss", "", "resume", "waiting resume title→Boss active→true locale→pt"},
		{"off by its field", "", "ana", "", "false", "", "waiting suspend active→false locale→en"},
		{"on by its field", "", "tom", "", "true", "", "waiting resume active→true locale→pt"},
		{"remove not allowed", "", "ana", "", "", "remove", "refused removing-not-allowed"},
		{"remove", "allow_remove: true\n", "ana", "", "", "remove", "waiting remove removes-data"},
		{"protected", "protect: [a*]\n", "ana", "Boss", "", "", "refused protected-account"},
		{"protected and as it is", "protect: [a*]\n", "ana", "Mate", "", "", "unchanged keep"},
	} {
		t.Run(c.about, func(t *testing.T) {
			b, err := brief.Parse("b.yaml", []byte(head+c.more), brief.Options{})
			require.NoError(t, err)
			index := batch.NewIndex([]account.Field{field(t, "userName")}, map[string][]string{"userName": {"ana", "tom", "zoe"}})
			index.Add(on)
			index.Add(off)
			w := &mapping.Wanted{Row: 2, Values: make([]account.Value, len(b.Fields))}
			for name, text := range map[string]string{"userName": c.login, "title": c.title, "active": c.active, "intent": c.asks} {
				if text != "" {
					w.Values[b.Field(name)] = account.Of(text)
				}
			}
			d := &batch.Decider{Brief: b, Schema: &account.Schema{Naming: "userName", Suspension: account.Suspension{Field: "active", On: "true", Off: "false"}}, Can: system.Abilities{Removes: true}, Index: index, Fields: []string{"userName", "title", "active", "locale"}, Protect: b.Protect,
				Missing: func(*mapping.Wanted) []account.Finding { return nil }, Column: func(int) string { return "" }, Row: func(int, account.Field, string) int { return 0 }}
			e := batch.Entry{Row: 2}
			d.Decide(&e, w)
			got := string(e.Outcome) + " " + string(e.Intent)
			for _, change := range e.Changes {
				got += " " + change.Field + "→" + change.After.Text()
			}
			for _, f := range e.Findings {
				got += " " + string(f.Code)
			}
			assert.Equal(t, c.want, strings.Join(strings.Fields(got), " "))
		})
	}
}

// References find people by any key; lists are added to, made exact or taken from.
func TestReferencesAndLists(t *testing.T) {
	b, err := brief.Parse("b.yaml", []byte(`match: [userName]
fields:
  userName: {from: a}
  manager: {from: b, refers: employeeNumber, clear_when_blank: true}
  "urn:x:more": {from: c, split: ";", mode: add}
  "urn:x:just": {from: c, split: ";"}
  "urn:x:less": {from: c, split: ";", mode: remove}
`), brief.Options{IsOwn: func(_, field string) bool { return strings.HasPrefix(field, "urn:") }})
	require.NoError(t, err)
	ana := someone("1", "userName", "ana", "employeeNumber", "7", "manager", "9", "urn:x:more", "A\nB", "urn:x:just", "A\nB", "urn:x:less", "A\nB")
	for value, want := range map[string]string{
		"8":  "manager old boss→tom urn:x:more A,B→A,B,C urn:x:just A,B→B,C urn:x:less A,B→A",
		"":   "manager 9→ urn:x:more A,B→A,B,C urn:x:just A,B→B,C urn:x:less A,B→A",
		"9":  "urn:x:more A,B→A,B,C urn:x:just A,B→B,C urn:x:less A,B→A",
		"7":  "manager old boss→ana urn:x:more A,B→A,B,C urn:x:just A,B→B,C urn:x:less A,B→A refers-to-itself",
		"77": "unknown-person",
		"55": "two-accounts",
		"66": "urn:x:more A,B→A,B,C urn:x:just A,B→B,C urn:x:less A,B→A refer 12",
	} {
		index := batch.NewIndex([]account.Field{field(t, "userName"), field(t, "employeeNumber")}, map[string][]string{"userName": {"ana"}, "employeeNumber": {"7", "8", "9", "55", "66", "77"}})
		for _, a := range []account.Account{ana, someone("2", "userName", "tom", "employeeNumber", "8"), someone("3", "employeeNumber", "55"), someone("4", "employeeNumber", "55")} {
			index.Add(a)
		}
		index.Names = map[string]string{"9": "old boss"}
		w := &mapping.Wanted{Row: 2, Values: make([]account.Value, len(b.Fields))}
		for _, f := range b.Fields {
			w.Values[b.Field(f.Name)] = account.Of(map[string]string{"userName": "ana", "manager": value}[f.Name])
			if f.Kind == account.List {
				w.Values[b.Field(f.Name)] = account.Of("B\nC")
			}
		}
		d := &batch.Decider{Brief: b, Schema: &account.Schema{Naming: "userName", Suspension: account.Suspension{Field: "active", On: "true", Off: "false"}}, Can: system.Abilities{Removes: true}, Index: index, Fields: []string{"userName", "manager"},
			Missing: func(*mapping.Wanted) []account.Finding { return nil }, Column: func(int) string { return "" },
			Row: func(_ int, _ account.Field, value string) int { return map[string]int{"66": 12}[value] }}
		e := batch.Entry{Row: 2}
		d.Decide(&e, w)
		var got []string
		for _, change := range e.Changes {
			before, after := change.Before.Text(), change.After.Text()
			if change.Names != nil {
				before, after = change.Names[0], change.Names[1]
			}
			got = append(got, change.Field+" "+strings.ReplaceAll(before+"→"+after, "\n", ","))
		}
		for _, s := range e.Steps {
			got = append(got, fmt.Sprintf("%s %d", s.Do, s.Row))
		}
		for _, f := range e.Findings {
			got = append(got, string(f.Code))
		}
		assert.Equal(t, want, strings.Join(got, " "), value)
	}
}

// What is told of one step stays when the like is taken back of another that is called the same.
func TestFindingsOfSteps(t *testing.T) {
	mine, hers := membership.Step{Do: membership.Notify, Name: "welcome", To: "ana@brindlesound.example"}, membership.Step{Do: membership.Notify, Name: "welcome", To: "boss@brindlesound.example"}
	e := batch.Entry{Row: 3}
	e.FindOf(&mine, account.Warning, account.NoticeNotSent, "the mail “welcome” to ana was refused")
	e.FindOf(&hers, account.Warning, account.NoticeNotSent, "the mail “welcome” to her boss was refused")
	e.FindOf(&hers, account.Warning, account.NoticeLeftOut, "the mail “welcome” to her boss was left out")
	e.Forget(&mine, account.NoticeNotSent)
	of := []account.Code{account.NoticeNotSent, account.NoticeLeftOut}
	assert.Empty(t, e.FindingsOf(&mine, of...))
	assert.Len(t, e.FindingsOf(&hers, of...), 2)
	e.Find(account.Warning, account.NoticeNotSent, "", "", "the mail “welcome” (boss@brindlesound.example) was on its way") // by an earlier version
	e.Find(account.Warning, account.NoticeNotSent, "", "", "the mail “welcome” to ana@brindlesound.example was refused")
	e.Forget(&hers, account.NoticeNotSent)
	assert.Len(t, e.FindingsOf(&hers, of...), 1)
	assert.Len(t, e.FindingsOf(&mine, of...), 1, "what an earlier version told of another address stays as well")
}
