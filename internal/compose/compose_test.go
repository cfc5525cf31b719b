package compose_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/compose"
	"evenledger/internal/profile"
	"evenledger/internal/sheet"
)

func write(t require.TestingT, text string, schema *account.Schema) string {
	s, err := sheet.Read("s.csv", strings.NewReader(text), sheet.Options{HeadingRow: 1})
	require.NoError(t, err)
	p, err := profile.Of(s.Info(), s.Rows(), nil)
	require.NoError(t, err)
	source := compose.Source{Name: "s", System: "crewdesk", Info: s.Info(), Profile: p, Schema: schema, Today: "2026-11-23"}
	return source.Brief()
}

func TestBrief(t *testing.T) {
	schema := &account.Schema{Attributes: []account.Attribute{{Field: "userName", Required: true}, {Field: "givenName"}, {Field: "familyName"}, {Field: "email"}, {Field: "employeeNumber"}, {Field: "phone"}, {Field: "watch", Required: true, Allowed: []string{"Day", "Night"}}}}
	for name, c := range map[string]struct {
		sheet  string
		schema *account.Schema
		has    []string
	}{
		"a made sign-in name": {"Staff no,First name,Surname,Status\n1,Ana,Reyes,ok\n2,Tom,Kaya,no\n", schema, []string{
			"match: [employeeNumber, userName]", "employeeNumber: {from: Staff no, required: true, unique: refuse}", `userName: {make: 'fold(givenName) + "." + fold(familyName)', unique: number}`,
			`# only: col["Status"] == "ok"`, "#   Status: ok, no", "#   watch: {from: …}   one of Day, Night"}},
		"a name now and then":     {"Staff no,First name,Surname\n1,Ana,\n2,Tom,Kaya\n3,,Lin\n", schema, []string{"givenName: {from: First name, required: true}", "familyName: {from: Surname, required: true}"}},
		"an address as key":       {"Mail,Full name\na@x.example,Ana\n", nil, []string{"match: [email]", `userName: {make: 'before(email, "@")'`}},
		"what isn't taken":        {"Login,Department\nana,Deck\n", schema, []string{"#   Department: would be department, which the system does not take"}},
		"headings out of the way": {"Login,\"Title: {a}, b\",yes\nana,Pilot,x\n", nil, []string{"match: [userName]", `#   yes: x`}},
		"dates and phones":        {"Login,Start date,Phone\nana,14/3/2027,07700 900123\n", schema, []string{"dates: day-first", "# phones: GB", "startDate: {from: Start date, as: date, send: false}"}},
		"memberships and managers": {"Staff no,Reports to,Groups,Course 1,Role 1,Course 2,Role 2\n1,2,Deck; Pilots,Radio,tutor,First aid,\n2,,Deck,Radio,,,\n", nil, []string{
			"manager: {from: Reports to, refers: employeeNumber}", `groups: {from: Groups, split: ";"}`, `courses: {from: "Course *", role: "Role *"}`}},
		"passwords": {"Login,Password\nana,Secr3t!x\n", nil, []string{"#   Password: looks like passwords"}},
	} {
		t.Run(name, func(t *testing.T) {
			text := write(t, c.sheet, c.schema)
			for _, want := range c.has {
				assert.Contains(t, text, want)
			}
			assert.NotContains(t, text, "Secr3t")
			_, err := brief.Parse("s.yaml", []byte(text), brief.Options{})
			assert.NoError(t, err, text)
		})
	}
}

// Whatever the headings are, the brief loads as long as one column is a key.
func TestBriefLoads(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		heading := rapid.OneOf(rapid.StringMatching(`[A-Za-z:#{}\[\],'"&*!|>%@ é\\-]{1,12}`), rapid.SampledFrom([]string{"Start", "true", "null", "~", "in", "First name", "Even Ledger row", "Team", "Group", "Course 1", "Role 1", "Licences", "Manager"}))
		value := rapid.SampledFrom([]string{"", "x", "14/3/2027", "=1", "a: b", "\u2028", "Ana"})
		var text strings.Builder
		text.WriteString("Login\t" + heading.Draw(t, "a") + "\t" + heading.Draw(t, "b") + "\n")
		for range 3 {
			text.WriteString(rapid.StringMatching(`[a-z]{3,9}`).Draw(t, "login") + "\t" + value.Draw(t, "c") + "\t" + value.Draw(t, "d") + "\n")
		}
		if strings.Contains(text.String(), `"`) {
			return // what a quote means there is the sheet's matter
		}
		made := write(t, text.String(), nil)
		_, err := brief.Parse("s.yaml", []byte(made), brief.Options{})
		require.NoError(t, err, made)
	})
}
