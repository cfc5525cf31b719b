package sshdial_test

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/sshdial"
	"evenledger/internal/testserver"
	"evenledger/internal/yamldoc"
)

func server(t *testing.T, text string) *sshdial.Server {
	doc, err := yamldoc.Parse("w.yaml", []byte(text))
	require.NoError(t, err)
	s := &sshdial.Server{}
	part := reach.Part{Dir: t.TempDir(), At: doc.Root()}
	keys := append(s.Keys(part), yamldoc.Key{Name: "url", Put: func(n yamldoc.Node) { s.ReadURL(n, "ssh", "ssh://USER@HOST") }})
	doc.Root().Read(keys)
	require.NoError(t, doc.Err())
	return s
}

// Nobody is talked to who is not known, who shows another key, or who does not let us in; and each is told as what it is.
func TestDial(t *testing.T) {
	t.Setenv("SSH_AUTH_SOCK", "")
	real, who := testserver.SSH(t)
	other, _ := testserver.SSH(t)
	url := "url: ssh://" + who + "@127.0.0.1:" + strconv.Itoa(real.Port)
	known := "\nknown_hosts: " + filepath.Join(real.Dir, "known_hosts")
	key := "\nkey: file:" + filepath.Join(real.Dir, "key")
	client, err := server(t, url+known+key).Dial(t.Context(), 5*time.Second, secret.NewMask())
	require.NoError(t, err)
	require.NoError(t, client.Close())

	line, err := os.ReadFile(filepath.Join(other.Dir, "known_hosts"))
	require.NoError(t, err)
	_, foreign, _ := strings.Cut(string(line), " ")
	write := func(name, text string) string {
		path := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	for want, text := range map[string]string{
		"is not among the known servers":           url + key + "\nknown_hosts: " + filepath.Join(other.Dir, "known_hosts"),
		"shows another key than the one it is":     url + key + "\nknown_hosts: " + write("known", "[127.0.0.1]:"+strconv.Itoa(real.Port)+" "+foreign),
		"does not let " + who + " in":              url + known + "\nkey: file:" + filepath.Join(other.Dir, "key"),
		"is no private key that can be used":       url + known + "\nkey: file:" + write("key", "not a key"),
		"neither a password nor a key":             url + known,
		"the file of known servers cannot be read": url + key + "\nknown_hosts: nowhere",
		"cannot be reached":                        "url: ssh://" + who + "@127.0.0.1:1" + key + known,
	} {
		_, err := server(t, text).Dial(t.Context(), 5*time.Second, secret.NewMask())
		var told *reach.Unavailable
		require.ErrorAs(t, err, &told, want)
		assert.Contains(t, told.Message, want)
		assert.NotEmpty(t, told.Remedy)
	}
	_, err = server(t, url+known+"\nkey: file:nowhere").Dial(t.Context(), 5*time.Second, secret.NewMask())
	var none *reach.NoSecret
	require.ErrorAs(t, err, &none)
}
