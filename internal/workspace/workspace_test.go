package workspace_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	feeds "evenledger/internal/feed/kinds"
	"evenledger/internal/secret"
	"evenledger/internal/system/kinds"
	"evenledger/internal/workspace"
)

func write(t *testing.T, dir, name, text string) string {
	path := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func TestCreateAndFind(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "crew")
	made, err := workspace.Create(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"evenledger.yaml", ".gitignore", "briefs/starters.yaml"}, made)
	deep := filepath.Join(dir, "a", "b")
	require.NoError(t, os.MkdirAll(deep, 0o755))
	w, err := workspace.Find(deep, workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()})
	require.NoError(t, err)
	assert.Equal(t, dir, w.Dir)
	assert.Equal(t, workspace.Ledger{Path: filepath.Join(dir, "ledger.db")}, w.Ledger)
	s, err := w.System("")
	require.NoError(t, err, "the only system needs no name")
	assert.Equal(t, 4, s.Together)
	assert.Equal(t, 5*time.Second, s.Settle)
	_, err = workspace.Create(dir)
	assert.ErrorContains(t, err, "workspace already")
	taken := t.TempDir()
	write(t, taken, "briefs/starters.yaml", "mine")
	_, err = workspace.Create(taken)
	assert.ErrorContains(t, err, "would be overwritten")
	_, err = workspace.Find(t.TempDir(), workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()})
	var none *workspace.NotFound
	assert.ErrorAs(t, err, &none)
}

func TestSettings(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "evenledger.yaml", `ledger: /var/lib/crew.db
systems:
  a: {url: "https://a.example/scim/", token: env:X, rate: 300/min, settle: 1m, timeout: 500ms, together: 9, page: 50, ca: ca.pem, aliases: {berth: "urn:x:berth"}, memberships: {courses: {endpoint: Trainings, role: function, section: intake}, licences: {attribute: entitlements, seats: {charts: 40}}}, elevated: {roles: [boss], groups: "*admins"}, protect: [root], change_at_sign_in: renew, password_rules: {shortest: 12, longest: 64, kinds: 3}}
  b: {url: "http://[::1]:80", user: me, password: "file:p"}
`)
	w, err := workspace.Read(dir, workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()})
	require.NoError(t, err)
	a, b := w.Systems[0], w.Systems[1]
	assert.Equal(t, "/var/lib/crew.db", w.Ledger.Path)
	assert.Equal(t, "https://a.example/scim", a.URL())
	assert.Equal(t, []any{"scim", time.Minute, 500 * time.Millisecond, 9}, []any{a.Kind.Name, a.Settle, a.Timeout, a.Together})
	assert.Equal(t, map[string]string{"berth": "urn:x:berth"}, a.Aliases)
	assert.Equal(t, map[string][]string{"roles": {"boss"}, "groups": {"*admins"}}, a.Elevated)
	assert.Equal(t, []any{[]string{"root"}, "renew", secret.Rules{Shortest: 12, Longest: 64, Kinds: 3}}, []any{a.Protect, a.Renew, a.Passwords})
	assert.Equal(t, "http://[::1]:80", b.URL())
	_, err = w.System("")
	assert.ErrorContains(t, err, "several systems")
	_, err = w.System("c")
	assert.ErrorContains(t, err, "it has a, b")
}

func TestMistakes(t *testing.T) {
	for setting, want := range map[string]string{
		`token: env:X`:           "does not say where it is (url)",
		`url: https://x.example`: "no token and no user",
		`url: https://x.example, token: env:X, user: y`:                                             "both a token and a user",
		`url: https://x.example, user: y`:                                                           "only one of user and password",
		`url: x.example, token: env:X`:                                                              "not the address of a server",
		`url: ftp://x.example, token: env:X`:                                                        "not the address of a server",
		`url: "https://me:pw@x.example", token: env:X`:                                              "user name or password in it",
		`url: "https://x.example/?a=b", token: env:X`:                                               "query or fragment",
		`url: http://x.example, token: env:X`:                                                       "in clear",
		`url: http://localhost.x.example, token: env:X`:                                             "in clear",
		`url: https://x.example, token: hunter2`:                                                    "only where to find them",
		`url: https://x.example, token: env:X, settle: 2 hours`:                                     "not a length of time",
		`url: https://x.example, token: env:X, settle: 2h`:                                          "up to an hour",
		`url: https://x.example, token: env:X, rate: 0/s`:                                           "not a pace",
		`url: https://x.example, token: env:X, rate: 5/day`:                                         "not a pace",
		`url: https://x.example, token: env:X, together: 101`:                                       "from 1 to 100",
		`url: https://x.example, token: env:X, protect: ["root "]`:                                  "there are blanks around “root ”",
		`url: https://x.example, token: env:X, password_rules: {shortest: 20, longest: 12}`:         "no password can have at least 20 characters and at most 12",
		`url: https://x.example, token: env:X, kind: pigeon`:                                        "expected scim",
		`url: https://x.example, token: env:X, memberships: {groups: {endpoint: /g, attribute: a}}`: "both an endpoint and an attribute",
		`url: https://x.example, token: env:X, memberships: {licences: {seats: {charts: many}}}`:    "whole number",
		`url: https://x.example, token: env:X, memberships: {licences: {place: entitlements}}`:      "unknown key “place”",
	} {
		dir := t.TempDir()
		write(t, dir, "evenledger.yaml", "systems:\n  a: {"+setting+"}\n")
		_, err := workspace.Read(dir, workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()})
		assert.ErrorContains(t, err, want, setting)
		assert.NotContains(t, err.Error(), "hunter2", "a secret is not repeated")
	}
}

func TestBriefPath(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "evenledger.yaml", "")
	inside := write(t, dir, "briefs/starters.yaml", "")
	other := write(t, dir, "briefs/leavers.yml", "")
	outside := write(t, t.TempDir(), "own.yaml", "")
	w, err := workspace.Read(dir, workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()})
	require.NoError(t, err)
	for name, want := range map[string]string{"starters": inside, "starters.yaml": inside, "leavers": other, outside: outside} {
		got, err := w.BriefPath(name)
		require.NoError(t, err, name)
		assert.Equal(t, want, got)
	}
	_, err = w.BriefPath("startes")
	assert.ErrorContains(t, err, "did you mean “starters”?")
	_, err = w.BriefPath("zzz")
	assert.ErrorContains(t, err, "there are leavers, starters")
	assert.Equal(t, []string{"leavers", "starters"}, w.Briefs())
}

// What somebody else has put above the folder is not obeyed, nor is anything written
// where a link leads, nor a pipe waited for.
func TestNotOurs(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Symlink(filepath.Join(dir, "elsewhere"), filepath.Join(dir, workspace.File)))
	_, err := workspace.Create(dir)
	require.ErrorContains(t, err, "would be overwritten")
	assert.NoFileExists(t, filepath.Join(dir, "elsewhere"))
	other := t.TempDir()
	require.NoError(t, os.Symlink(dir, filepath.Join(other, "briefs")))
	_, err = workspace.Create(other)
	require.ErrorContains(t, err, "leads elsewhere")

	pipe := filepath.Join(other, "token")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	kept, err := secret.NewReference("file:token", other)
	require.NoError(t, err)
	_, err = kept.Open()
	require.ErrorContains(t, err, "is not a plain file")

	if os.Geteuid() != 0 {
		t.Skip("only the machine's administrator can give a file away")
	}
	above := t.TempDir()
	write(t, above, workspace.File, "systems: {a: {url: http://127.0.0.1:1, token: env:T}}\n")
	inner := filepath.Join(above, "inner")
	require.NoError(t, os.Mkdir(inner, 0o755))
	require.NoError(t, os.Chown(filepath.Join(above, workspace.File), 65534, 65534))
	_, err = workspace.Find(inner, workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()})
	require.ErrorContains(t, err, "belongs to somebody else")
	_, err = workspace.Read(above, workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()})
	require.NoError(t, err, "named, it is meant")
}

func TestSchemaIsUpToDate(t *testing.T) {
	shipped, err := os.ReadFile(filepath.Join("..", "..", "docs", "evenledger.schema.json"))
	require.NoError(t, err)
	data, err := workspace.Schema(workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()})
	require.NoError(t, err)
	assert.Equal(t, string(shipped), string(data)+"\n", "make it anew: evenledger init --schema > docs/evenledger.schema.json")
}

func TestSets(t *testing.T) {
	const systems = "systems:\n  quay1: {url: \"http://127.0.0.1:1\", token: env:X}\n  quay2: {url: \"http://127.0.0.1:2\", token: env:X}\n"
	dir := t.TempDir()
	read := func(text string) (*workspace.Workspace, error) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, workspace.File), []byte(systems+text), 0o600))
		return workspace.Read(dir, workspace.Kinds{Systems: kinds.All(), Feeds: feeds.All()})
	}
	w, err := read("sets: {quays: [quay1, quay2]}\n")
	require.NoError(t, err)
	set, is := w.Set("quays")
	assert.True(t, is)
	assert.Equal(t, []string{"quay1", "quay2"}, set.Systems)
	_, is = w.Set("quay1")
	assert.False(t, is)
	_, err = w.System("quays")
	assert.ErrorContains(t, err, "“quays” is a set of systems, and this is done with one: name one of quay1, quay2")
	for text, want := range map[string]string{
		"sets: {quay1: [quay2]}\n":           "there are a set and a system “quay1”",
		"sets: {Quays: [quay1]}\n":           "“Quays” cannot be the name of a set",
		"sets: {quays: []}\n":                "the set quays has no systems",
		"sets: {quays: [quay1, quay1]}\n":    "the set quays has quay1 twice",
		"sets: {quays: [quay1, quay3]}\n":    "there is no system “quay3”",
		"sets: {quays: [quay1, somebody]}\n": "there is no system “somebody”",
	} {
		_, err := read(text)
		assert.ErrorContains(t, err, want)
	}
}
