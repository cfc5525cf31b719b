package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
	f := folder{t, t.TempDir()}
	f.write("evenledger.yaml", blocks(t, "docs/systems.md", "yaml")[0])
	code, _, errOut := f.run("batches")
	assert.Zero(t, code, errOut)

	briefs := blocks(t, "docs/brief.md", "yaml")
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

// The walk of the README, followed to the letter.
func TestReadmeWalk(t *testing.T) {
	url := practice(t)
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
		if text := strings.TrimPrefix(line, "    "); strings.HasPrefix(text, "Staff no,") || strings.HasPrefix(text, "10") && strings.Contains(text, ",") {
			sheet.WriteString(text)
		}
	}
	f.write("starters.csv", sheet.String())
	for _, step := range []struct {
		command string
		exit    int
		says    string
	}{
		{"check starters.csv -b starters", 1, "Refused             1"},
		{"draft starters.csv -b starters", 1, "To create           2"},
		{"post 1 --trial 1", 4, ""},
		{"post 1", 4, ""},
		{"show 1 --row 2,4", 0, "blank-required"},
		{"batches", 0, "starters.csv"},
		{"fixes 1 -o again.csv", 0, "1 row to correct"},
		{"draft again.csv -b starters", 1, "Refused             1"},
		{"brief check starters", 0, "in order"},
	} {
		assert.Contains(t, string(readme), "    evenledger "+step.command+"\n", "the README shows it")
		code, out, errOut := f.run(strings.Fields(step.command)...)
		assert.Equal(t, step.exit, code, "%s: %s", step.command, errOut)
		assert.Contains(t, out, step.says, step.command)
	}
}
