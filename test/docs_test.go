package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/testserver"
)

// blocks returns the fenced blocks of a page whose fence is followed by kind.
func blocks(t *testing.T, page, kind string) []string {
	data, err := os.ReadFile(filepath.Join("..", page))
	require.NoError(t, err)
	var found []string
	for _, match := range regexp.MustCompile("(?ms)^```"+kind+"\n(.*?)^```").FindAllStringSubmatch(string(data), -1) {
		found = append(found, match[1])
	}
	require.NotEmpty(t, found, "%s has no block of kind %s", page, kind)
	return found
}

// What the pages show is what the program takes.
func TestDocsAreTrue(t *testing.T) {
	t.Parallel()
	f := folder{t, t.TempDir()}
	for _, config := range blocks(t, "docs/systems.md", "yaml") {
		f.write("evenledger.yaml", config)
		code, _, errOut := f.run("batches")
		assert.Zero(t, code, errOut)
	}
	f.write("evenledger.yaml", blocks(t, "docs/systems.md", "yaml")[0])

	f.write("briefs/bases.csv", "Base,Zone\nNorthport,Europe/London\n")
	briefs := blocks(t, "docs/brief.md", "yaml")
	f.write("briefs/season.yaml", briefs[0])
	for _, fields := range blocks(t, "docs/brief.md", "yaml field") {
		briefs = append(briefs, "system: crewdesk\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  "+strings.ReplaceAll(strings.TrimSpace(fields), "\n", "\n  ")+"\n")
	}
	for _, text := range briefs {
		f.write("briefs/shown.yaml", text)
		code, _, errOut := f.run("brief", "check", "shown")
		assert.Zero(t, code, "%s\n%s", text, errOut)
	}

	// Every key of the schema and every function is on the page.
	page, err := os.ReadFile("../docs/brief.md")
	require.NoError(t, err)
	data, err := os.ReadFile("../docs/brief.schema.json")
	require.NoError(t, err)
	var schema struct {
		Properties map[string]any
		Defs       map[string]struct{ Properties map[string]any } `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(data, &schema))
	for _, keys := range []map[string]any{schema.Properties, schema.Defs["field"].Properties} {
		for key := range keys {
			assert.Contains(t, string(page), key)
		}
	}
}

// The commands of the page on sheets, followed to the letter.
func TestSheetsPage(t *testing.T) {
	t.Parallel()
	url := practice(t)
	f := folder{t, t.TempDir()}
	code, _, errOut := f.run("init", ".")
	require.Zero(t, code, errOut)
	config, err := os.ReadFile(filepath.Join(f.dir, "evenledger.yaml"))
	require.NoError(t, err)
	f.write("evenledger.yaml", strings.NewReplacer("http://127.0.0.1:8085/scim/v2", url, "file:crewdesk.token", "env:TEST_TOKEN").Replace(string(config)))
	f.write("starters.csv", "Staff no,First name,Surname,Department,Position,Country,Sign-in\n101,Ana,Reyes,Deck,Deckhand,Portugal,yes\n102,Zoë,Ångström,Engine,Engineer,UK,yes\n103,Nneka,Eze,Deck,Pilot,Nigeria,yes\n")
	page, err := os.ReadFile("../docs/sheets.md")
	require.NoError(t, err)
	ran := 0
	for line := range strings.Lines(string(page)) {
		command, shown := strings.CutPrefix(strings.TrimSpace(line), "evenledger ")
		if !shown || !strings.HasPrefix(line, "    ") {
			continue
		}
		ran++
		var args []string
		for i, part := range strings.Split(command, "'") {
			if i%2 == 1 {
				args = append(args, part)
			} else {
				args = append(args, strings.Fields(part)...)
			}
		}
		code, _, errOut := f.run(args...)
		assert.Zero(t, code, "%s: %s", command, errOut)
	}
	assert.Greater(t, ran, 10)
}

// shown is what a page has of a file, a command or what it says.
var shown = regexp.MustCompile("(?m)(?:^```(?:yaml|csv) ([a-z0-9/-]+\\.[a-z]+)\n((?s:.*?))^```)|(?:^    (evenledger .*)$)|(?:^```out\n((?s:.*?))^```)")

// follow does what a page says to the letter: its files are written, its commands run, and
// what they show comes out.
func (f folder) follow(page string, commands int) {
	out, ran := "", 0
	for _, m := range shown.FindAllStringSubmatch(page, -1) {
		switch {
		case m[1] != "":
			f.write(m[1], m[2])
			if strings.HasPrefix(m[1], "incoming/") {
				written := time.Now().Add(-time.Minute) // nobody is still at it
				require.NoError(f.t, os.Chtimes(filepath.Join(f.dir, m[1]), written, written))
			}
		case m[3] != "":
			ran++
			var code int
			var errOut string
			code, out, errOut = f.run(typed(m[3])...)
			assert.Contains(f.t, []int{0, 1, 4}, code, "%s: %s", m[3], errOut)
		default:
			for line := range strings.Lines(m[4]) {
				assert.Contains(f.t, out, strings.TrimSpace(line), "%s", m[3])
			}
		}
	}
	assert.Greater(f.t, ran, commands)
}

// typed are the words of a command as a shell reads them, without its name.
func typed(command string) (args []string) {
	for _, m := range regexp.MustCompile(`"([^"]*)"|(\S+)`).FindAllStringSubmatch(command, -1) {
		args = append(args, m[1]+m[2])
	}
	return args[1:]
}

// The pages whose examples work where the demonstration ends.
func TestPagesAfterTheDemo(t *testing.T) {
	for _, page := range []string{"memberships", "passwords", "undo", "feeds", "notices", "runs", "followups", "proof"} {
		t.Run(page, func(t *testing.T) {
			f := folder{t, t.TempDir()}
			code, _, errOut := f.run("demo", "--dir", "demo")
			require.Zero(t, code, errOut)
			f.dir = filepath.Join(f.dir, "demo")
			config, err := os.ReadFile(filepath.Join(f.dir, "evenledger.yaml"))
			require.NoError(t, err)
			port := regexp.MustCompile(`127\.0\.0\.1:(\d+)`).FindStringSubmatch(string(config))[1]
			_, mail := practiceWithMail(t, "--data", filepath.Join(f.dir, "crewdesk.json"), "--port", port, "--token", "file:"+filepath.Join(f.dir, "crewdesk.token"), "--mail", filepath.Join(f.dir, "mails"), "--mail-port", "0")
			t.Setenv("HANDOUT", "gulls over the quay 1912")
			text, err := os.ReadFile("../docs/" + page + ".md")
			require.NoError(t, err)
			f.follow(strings.NewReplacer("127.0.0.1:8085", "127.0.0.1:"+port, "smtp://127.0.0.1:8025", mail).Replace(string(text)), 2)
		})
	}
}

// The page on applications that take only files, from an empty folder.
func TestFilesPage(t *testing.T) {
	t.Parallel()
	f := folder{t, t.TempDir()}
	text, err := os.ReadFile("../docs/files-systems.md")
	require.NoError(t, err)
	f.follow(string(text), 8)
	for _, args := range [][]string{{"layout", "check", "layouts/deskbook.yaml", "--json"}, {"layout", "new", "deskbook-empty.csv", "--json"}, {"settle", "1", "--json"}} {
		code, _, errOut := f.run(args...)
		assert.Contains(t, []int{0, 1}, code, "%v: %s", args, errOut)
	}
	code, out, _ := f.run("outbox", "2", "--json")
	assert.Zero(t, code)
	assert.Contains(t, out, `"open": 3`)
}

// The page on teams, by two people and a database.
func TestTeamPage(t *testing.T) {
	server := testserver.Postgres(t)
	f := folder{t, t.TempDir()}
	homes := map[string]string{"ana": t.TempDir(), "ines": t.TempDir()}
	keys := map[string]string{}
	for name, home := range homes {
		t.Setenv("XDG_CONFIG_HOME", home)
		var told struct{ Opens, Signs string }
		code, out, errOut := f.run("identity", "--json")
		require.Zero(t, code, errOut)
		require.NoError(t, json.Unmarshal([]byte(out), &told))
		keys["age1"+name+","], keys["ed25519:"+name] = told.Opens+",", told.Signs
	}
	t.Setenv("LEDGER", fmt.Sprintf("postgres://ferries:%s@127.0.0.1:%d/postgres", server.Password(t), server.Port))
	text, err := os.ReadFile("../docs/team.md")
	require.NoError(t, err)
	page := strings.ReplaceAll(string(text), "http://127.0.0.1:8085/scim/v2", practice(t))
	for short, key := range keys {
		page = strings.ReplaceAll(page, short, key)
	}
	before, rest, found := strings.Cut(page, "A colleague looks at the draft")
	require.True(t, found)
	t.Setenv("XDG_CONFIG_HOME", homes["ana"])
	f.follow(before, 8)
	assert.Equal(t, "drafted", f.batch(2).State, "nothing is posted before it is signed")
	t.Setenv("XDG_CONFIG_HOME", homes["ines"])
	f.follow(rest, 1)
	assert.Equal(t, "posted", f.batch(2).State)
}

// The walk of the README, followed to the letter.
func TestReadmeWalk(t *testing.T) {
	t.Parallel()
	url := practice(t, "--sample")
	f := folder{t, t.TempDir()}
	readme, err := os.ReadFile("../README.md")
	require.NoError(t, err)
	code, _, errOut := f.run("init", "crew")
	require.Zero(t, code, errOut)
	f.dir = filepath.Join(f.dir, "crew")
	config, err := os.ReadFile(filepath.Join(f.dir, "evenledger.yaml"))
	require.NoError(t, err)
	f.write("evenledger.yaml", strings.NewReplacer("http://127.0.0.1:8085/scim/v2", url, "file:crewdesk.token", "env:TEST_TOKEN").Replace(string(config)))
	var sheet strings.Builder
	for line := range strings.Lines(string(readme)) {
		if text := strings.TrimPrefix(line, "    "); strings.HasPrefix(text, "Staff no,") || strings.HasPrefix(text, "1007,") || strings.HasPrefix(text, "210") {
			sheet.WriteString(text)
		}
	}
	f.write("starters.csv", sheet.String())
	told := 0
	for _, step := range []struct {
		command string
		exit    int
		says    string
	}{
		{"peek starters.csv", 0, "3 rows"},
		{"brief try starters.csv -b starters --row 3", 0, "zoe.angstrom"},
		{"check starters.csv -b starters", 1, "Refused             1"},
		{"blank crewdesk -o blank.xlsx", 0, "a blank for crewdesk"},
		{"fields crewdesk", 0, "userName"},
		{"lookup crewdesk groups", 0, "groups in"},
		{"draft starters.csv -b starters", 1, "To update           1"},
		{"post 1 --trial 1", 1, "Updated             1"},
		{"post 1", 1, "Created             1"},
		{"show 1 --row 2,4", 0, "blank-required"},
		{"report 1 -o batch-1.html", 0, "3 rows of batch 1"},
		{"fixes 1 -o again.csv", 0, "1 row to correct"},
		{"draft again.csv -b starters", 0, "To create           1"},
		{"post 2", 0, "Created             1"},
		{"batches", 0, "handed back in"},
		{"reconcile starters.csv -b starters", 1, "Even                2"},
		{"reverse 1", 0, "To suspend          1"},
		{"export crewdesk -o accounts.xlsx", 0, "7 of the 7 accounts of crewdesk"},
		{"brief check starters", 0, "in order"},
	} {
		assert.Contains(t, string(readme), "    evenledger "+step.command+"\n", "the README shows it")
		words := strings.Fields(step.command)
		if words[0] == "post" {
			words = append(words, "--yes") // nobody is there to ask
		}
		code, out, errOut := f.run(words...)
		assert.Equal(t, step.exit, code, "%s: %s", step.command, errOut)
		assert.Contains(t, out, step.says, step.command)
		if says := regexp.MustCompile("(?s)    evenledger " + regexp.QuoteMeta(step.command) + "\n\n```out\n(.*?)```").FindStringSubmatch(string(readme)); says != nil {
			told++
			for line := range strings.Lines(says[1]) {
				assert.Contains(t, out, strings.TrimSpace(line), step.command)
			}
		}
		if strings.HasPrefix(step.command, "fixes") { // as a person would
			f.write("again.csv", strings.Replace(f.read("again.csv"), "2103,Nneka,,", "2103,Nneka,Eze,", 1))
		}
	}
	assert.Equal(t, 6, told, "what the README shows of outputs")
}
