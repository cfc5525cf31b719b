package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const setBrief = `system: both
match: [employeeNumber]
fields:
  employeeNumber: {from: No}
  givenName: {from: First}
  familyName: {from: Last}
  userName: {make: 'fold(givenName) + "." + fold(familyName)'}
  title: {from: Position}
for:
  crewdesk:
    checks:
      - {that: 'title != "Cook"', say: no cooks here}
  annexe:
    fields:
      title: {make: '"Annexe: " + col["Position"]'}
`

// twoDesks is a workspace with two applications, and the set of both.
func twoDesks(t *testing.T) (f folder, urls [2]string) {
	f = folder{t, t.TempDir()}
	for i := range urls {
		urls[i] = practice(t)
	}
	f.write("evenledger.yaml", fmt.Sprintf("systems:\n  crewdesk: {url: %q, token: env:TEST_TOKEN}\n  annexe: {url: %q, token: env:TEST_TOKEN}\nsets: {both: [crewdesk, annexe]}\n", urls[0], urls[1]))
	f.write("briefs/crew.yaml", setBrief)
	f.write("crew.csv", "No,First,Last,Position\n1,Ana,Reyes,Mate\n2,Tom,Okafor,Cook\n3,Zoë,Ångström,Pilot\n")
	return f, urls
}

// One sheet for several systems, from the check to its undoing.
func TestSetOfApplications(t *testing.T) {
	t.Parallel()
	f, urls := twoDesks(t)
	run := func(code int, args ...string) string {
		got, out, errOut := f.run(args...)
		require.Equal(t, code, got, "%v: %s%s", args, out, errOut)
		return out + errOut
	}
	out := run(1, "check", "crew.csv", "-b", "crew")
	assert.Regexp(t, `Fine +2 +3\n`, out)
	assert.Contains(t, out, "brief-check · Position · crewdesk")
	var checked struct {
		Systems []struct {
			System  string
			Refused int
		}
	}
	require.NoError(t, json.Unmarshal([]byte(run(1, "check", "crew.csv", "-b", "crew", "--json")), &checked))
	assert.Equal(t, 1, checked.Systems[0].Refused)
	assert.Zero(t, checked.Systems[1].Refused)
	run(2, "check", "crew.csv", "-b", "crew", "-o", "marked.xlsx")

	out = run(1, "draft", "crew.csv", "-b", "crew")
	assert.Regexp(t, `Set both · crew.csv · batches 1-2`, out)
	assert.Regexp(t, `row +3  2 +refused +to create`, out)
	assert.Contains(t, run(4, "post", "both"), "nobody is there to be asked")
	assert.Regexp(t, `Created +2 +3\n`, run(1, "post", "both", "--yes"))
	assert.Equal(t, "Mate", users(t, urls[0])["1"]["title"])
	assert.Equal(t, "Annexe: Mate", users(t, urls[1])["1"]["title"], "what is otherwise for one system")
	assert.Contains(t, run(1, "post", "1-2", "--yes"), "Nothing in these batches waits")

	var shown struct {
		Set     string
		Even    bool
		Batches []struct{ Batch int }
		Entries []struct {
			Row     int
			Systems map[string]struct{ Outcome string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(run(0, "show", "last", "--json")), &shown))
	assert.True(t, shown.Even)
	assert.Len(t, shown.Batches, 2)
	assert.Equal(t, []string{"refused", "created"}, []string{shown.Entries[1].Systems["crewdesk"].Outcome, shown.Entries[1].Systems["annexe"].Outcome})
	assert.Contains(t, run(0, "show", "1,2", "--row", "3"), "no cooks here")
	run(0, "report", "both", "-o", "crew.html")
	page := f.read("crew.html")
	assert.Equal(t, 3, strings.Count(page, "<tr id=\"row-"))
	assert.Contains(t, page, "no cooks here")
	run(0, "report", "1-2", "-o", "crew-out.csv")
	assert.Contains(t, f.read("crew-out.csv"), "Even Ledger outcome in annexe")
	assert.Contains(t, run(1, "reconcile", "crew.csv", "-b", "crew"), "Not every system is even with the sheet")
	run(0, "reconcile", "1-2")

	assert.Contains(t, run(0, "fixes", "both", "-o", "again.csv"), "1 row to correct")
	fixed := strings.Replace(f.read("again.csv"), "Cook", "Purser", 1)
	assert.Contains(t, fixed, "crewdesk: no cooks here")
	f.write("again.csv", fixed)
	assert.Regexp(t, `row +2  2 +to create +to update`, run(0, "draft", "again.csv", "-b", "crew"))
	run(0, "post", "3-4", "--yes")
	assert.Len(t, users(t, urls[0]), 3)

	assert.Regexp(t, `To remove +2 +3\n`, run(0, "reverse", "1-2", "--remove"))
	assert.Regexp(t, `Set both · .* batches 5-6`, run(0, "show", "last"), "they stand beside each other as those that they undo")
	run(0, "withdraw", "5-6")
	assert.Contains(t, run(2, "post", "5", "--yes"), "withdrawn")
	run(2, "draft", "-", "-b", "crew")
	assert.Equal(t, 2, strings.Count(run(0, "fields", "both"), "fields of an account"), "of each system")
	run(2, "lookup", "both")
	assert.Contains(t, run(2, "draft", "crew.csv", "-b", "crew", "--system", "bth"), "did you mean")
	assert.Contains(t, run(2, "post", "7-9"), "no such batch")
	f.write("briefs/wrong.yaml", strings.Replace(setBrief, "annexe:", "anexe:", 1))
	assert.Contains(t, run(2, "check", "crew.csv", "-b", "wrong"), "Did you mean “annexe”?")
	f.write("briefs/none.yaml", strings.Replace(setBrief, "  title: {from: Position}\n", "  title: {from: Position}\n  gecos: {from: Position}\n", 1))
	assert.Contains(t, run(2, "check", "crew.csv", "-b", "none"), "none of the systems has gecos")
}

// One that is down leaves the others alone, in a draft, in a post and in a run.
func TestSetWithOneDown(t *testing.T) {
	t.Parallel()
	f, urls := twoDesks(t)
	down := strings.Replace(f.read("evenledger.yaml"), urls[1], "http://127.0.0.1:1/scim/v2", 1)
	up := f.read("evenledger.yaml")
	f.write("evenledger.yaml", down)
	f.write("briefs/crew.yaml", strings.Replace(setBrief, `say: no cooks here`, `say: no cooks here, level: note`, 1))
	code, out, errOut := f.run("draft", "crew.csv", "-b", "crew")
	assert.Equal(t, 3, code, errOut)
	assert.Contains(t, out, "Set both · crew.csv · batch 1")
	assert.Contains(t, errOut, "annexe: ")
	f.write("evenledger.yaml", up)
	code, _, errOut = f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, errOut)
	f.write("evenledger.yaml", down)
	code, out, errOut = f.run("post", "2-3", "--yes")
	assert.Equal(t, 4, code, errOut) // the batch was drafted for another address
	assert.Regexp(t, `Created +3\n`, out)
	f.write("evenledger.yaml", up)
	code, out, errOut = f.run("post", "both", "--yes")
	require.Zero(t, code, errOut)
	assert.Regexp(t, `Created +3 +3\n`, out)
	assert.Len(t, users(t, urls[1]), 3)

	f.write("evenledger.yaml", up+"feeds: {desk: {kind: folder, path: \"in/*.csv\", done: taken}}\n")
	f.write("briefs/weekly.yaml", strings.Replace(setBrief, "system: both\n", "system: both\nsheet: {feed: desk}\n", 1))
	require.NoError(t, os.MkdirAll(filepath.Join(f.dir, "taken"), 0o755))
	f.write("in/week.csv", "No,First,Last,Position\n1,Ana,Reyes,Master\n4,Mei,Lin,Cook\n")
	long := time.Now().Add(-time.Minute) // nobody is still at it
	require.NoError(t, os.Chtimes(filepath.Join(f.dir, "in/week.csv"), long, long))
	code, out, errOut = f.run("run", "weekly")
	assert.Equal(t, 1, code, out+errOut)
	assert.Contains(t, errOut, "crewdesk: 2 rows")
	assert.Contains(t, errOut, "annexe: 2 rows")
	assert.Equal(t, "Annexe: Master", users(t, urls[1])["1"]["title"])
	assert.Contains(t, users(t, urls[1]), "4")
	assert.NotContains(t, users(t, urls[0]), "4")
	code, _, errOut = f.run("run", "weekly")
	assert.Contains(t, []int{0, 4}, code, errOut)
	assert.Len(t, users(t, urls[1]), 4)
}

// What the systems of a set say alike is told with each value once, and the set's fix sheet counts for all its batches.
func TestSetIsCorrectedAsOne(t *testing.T) {
	t.Parallel()
	f, _ := twoDesks(t)
	f.write("briefs/lands.yaml", "system: both\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  country: {from: Country}\n")
	f.write("lands.csv", "Login,Country\nana.reyes,Spian\nbo.lin,Korea\nkai.tove,Spain\n")
	code, out, errOut := f.run("draft", "lands.csv", "-b", "lands")
	require.Equal(t, 1, code, errOut)
	assert.Contains(t, out, "“Spian” is not a country · row 2 · Did you mean “Spain”?")
	assert.Contains(t, out, "“Korea” is not a country · row 3")
	assert.Equal(t, 1, strings.Count(out, "not-a-country"), "once for both systems")
	for _, command := range [][]string{{"post", "1-2", "--yes"}, {"fixes", "1-2", "-o", "again.csv"}} {
		code, _, errOut = f.run(command...)
		require.LessOrEqual(t, code, 1, errOut)
	}
	f.write("again.csv", strings.NewReplacer("Spian", "Spain", "Korea", "South Korea").Replace(f.read("again.csv")))
	for _, command := range [][]string{{"draft", "again.csv", "-b", "lands"}, {"post", "3-4", "--yes"}} {
		code, _, errOut = f.run(command...)
		require.Zero(t, code, errOut)
	}
	_, out, _ = f.run("batches")
	assert.Regexp(t, `2  posted .* annexe +3 +3 +0 +0 `, out)
	assert.Regexp(t, `1  posted .* crewdesk +3 +3 +0 +0 `, out)
	_, out, _ = f.run("show", "2")
	assert.Contains(t, out, "handed back in as batch 4: 2 rows are corrected")
}

// Who is made and may not sign in is named, once for all systems of a set, before and after.
func TestSetNamesWhoIsHeldBack(t *testing.T) {
	t.Parallel()
	f, _ := twoDesks(t)
	f.write("briefs/in.yaml", "system: both\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  displayName: {from: Name}\n  active: {from: In}\n")
	f.write("in.csv", "Login,Name,In\nzoe,Zoë Ångström,yes\noguz,Oğuz Şahin,no\nines,Inês Bastos,no\n")
	for _, command := range [][]string{{"draft", "in.csv", "-b", "in"}, {"post", "1-2", "--yes"}} {
		code, out, errOut := f.run(command...)
		require.Zero(t, code, errOut)
		assert.Regexp(t, `Of the 3 (to create|created), 2 may not sign in:\n +row +3 +\S.* oguz +Oğuz Şahin\n +row +4 +\S.* ines +Inês Bastos\n\n`, out)
		assert.Equal(t, 1, strings.Count(out, "may not sign in"))
	}
}
