package sftp

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/clock"
	"evenledger/internal/feed"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/testserver"
	"evenledger/internal/yamldoc"
)

func sourceOf(t *testing.T, dir, text string) (feed.Source, error) {
	doc, err := yamldoc.Parse("evenledger.yaml", []byte(text))
	require.NoError(t, err)
	var s feed.Source
	for _, pair := range doc.Root().Pairs() {
		s = Kind().Read(reach.Part{Name: pair.Key, Dir: dir, At: pair.At}, pair.Value)
	}
	return s, doc.Err()
}

func TestFileServer(t *testing.T) {
	server, who := testserver.SSH(t)
	out := filepath.Join(t.TempDir(), "outgoing")
	require.NoError(t, os.MkdirAll(filepath.Join(out, "starters-9.csv"), 0o755), "a folder of such a name is none")
	now := time.Date(2027, 3, 1, 8, 0, 0, 0, time.UTC)
	for name, age := range map[string]time.Duration{"starters-1.csv": 48 * time.Hour, "starters-2.csv": 24 * time.Hour, "leavers.csv": time.Hour, ".starters-3.csv": time.Hour} {
		path := filepath.Join(out, name)
		require.NoError(t, os.WriteFile(path, []byte("Staff no\n"+name+"\n"), 0o600))
		require.NoError(t, os.Chtimes(path, now.Add(-age), now.Add(-age)))
	}
	url := fmt.Sprintf("sftp://%s@127.0.0.1:%d%s/starters-*.csv", who, server.Port, out)
	work := feed.Work{Mask: secret.NewMask(), Clock: clock.NewFake(now), Timeout: 10 * time.Second}
	bring := func(text string, last feed.Last) (feed.Delivery, string, error) {
		s, err := sourceOf(t, server.Dir, text)
		require.NoError(t, err)
		spool, err := feed.NewSpool(filepath.Join(t.TempDir(), "spool"), 0)
		require.NoError(t, err)
		defer spool.Close()
		d, err := s.Bring(t.Context(), spool, last, work)
		data, _ := os.ReadFile(d.Path)
		return d, string(data), err
	}
	right := fmt.Sprintf("drop: {url: %q, key: 'file:key', known_hosts: known_hosts, done: taken}", url)
	d, text, err := bring(right, feed.Last{})
	require.NoError(t, err)
	assert.Equal(t, "Staff no\nstarters-2.csv\n", text, "the newest")
	assert.Equal(t, "starters-2.csv", d.Name)

	s, err := sourceOf(t, server.Dir, right)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(out, "taken"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(out, "taken", "starters-2.csv"), nil, 0o600), "one of the name was taken before")
	require.NoError(t, s.Take(t.Context(), d, work))
	assert.NoFileExists(t, d.From)
	assert.FileExists(t, filepath.Join(out, "taken", "starters-2-20270301-1.csv"))
	require.NoError(t, s.Take(t.Context(), d, work), "somebody moved it already")

	var nothing *feed.Nothing
	_, _, err = bring(right, feed.Last{Delivery: d})
	require.ErrorAs(t, err, &nothing)
	assert.Contains(t, nothing.Message, "starters-1.csv in "+out+"/ is older than starters-2.csv")
	_, text, err = bring(right, feed.Last{Delivery: d, Again: true})
	require.NoError(t, err)
	assert.Contains(t, text, "starters-1.csv")

	other := filepath.Join(t.TempDir(), "other_hosts")
	strange, err := os.ReadFile(filepath.Join(server.Dir, "key.pub"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(other, fmt.Appendf(nil, "[127.0.0.1]:%d %s", server.Port, strange), 0o600))
	empty := filepath.Join(t.TempDir(), "empty")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	t.Setenv("PASSWORD", "hunter2-in-clear")
	t.Setenv("SSH_AUTH_SOCK", "")
	for name, test := range map[string]struct{ text, says string }{
		"nobody known":     {"key: 'file:key', known_hosts: " + empty, "is not among the known servers"},
		"another key":      {"key: 'file:key', known_hosts: " + other, "shows another key than the one it is known by"},
		"no known hosts":   {"key: 'file:key', known_hosts: nowhere", "the file of known servers cannot be read"},
		"wrong password":   {"password: env:PASSWORD, known_hosts: known_hosts", "does not let " + who + " in"},
		"a key of another": {"key: 'file:host', known_hosts: known_hosts", "does not let " + who + " in"},
		"no key":           {"key: 'file:known_hosts', known_hosts: known_hosts", "is no private key"},
		"no way in":        {"known_hosts: known_hosts", "neither a password nor a key"},
	} {
		_, _, err := bring(fmt.Sprintf("drop: {url: %q, %s}", url, test.text), feed.Last{})
		var down *reach.Unavailable
		require.ErrorAs(t, err, &down, name)
		assert.Contains(t, down.Message, test.says, name)
		assert.NotEmpty(t, down.Remedy)
		assert.NotContains(t, down.Message, "hunter2")
	}
	_, _, err = bring(fmt.Sprintf("drop: {url: 'sftp://%s@127.0.0.1:%d/nowhere/*.csv', key: 'file:key', known_hosts: known_hosts}", who, server.Port), feed.Last{})
	assert.ErrorContains(t, err, "cannot be read")
	for text, says := range map[string]string{
		"drop: {user: ana}":                             "does not say where its files are",
		"drop: {url: 'sftp://host/x/*.csv'}":            "does not say who signs in",
		"drop: {url: 'sftp://ana:pw@host/x/*.csv'}":     "has a password in it",
		"drop: {url: 'sftp://ana@host/x/'}":             "is no pattern",
		"drop: {url: 'https://ana@host/x/*.csv'}":       "no address that begins with sftp",
		"drop: {url: 'sftp://ana@host/*', key: secret}": "secrets do not stand here",
	} {
		_, err := sourceOf(t, server.Dir, text)
		assert.ErrorContains(t, err, says)
	}
}
