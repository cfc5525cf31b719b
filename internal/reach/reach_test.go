package reach_test

import (
	"errors"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"encoding/pem"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/told"
	"evenledger/internal/yamldoc"
)

// A file of authorities is trusted wholly or not at all, and says what is wrong with it.
func TestSecure(t *testing.T) {
	server := httptest.NewTLSServer(nil)
	defer server.Close()
	good := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})
	for name, c := range map[string]struct {
		text []byte
		want string
	}{
		"one": {good, ""}, "two": {append(append([]byte("a remark\n"), good...), good...), ""},
		"none": {[]byte("nothing of the kind"), "holds no certificate"}, "spoilt": {pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: []byte("x")}), "cannot be used"},
		"a good one and a spoilt": {append(good[:len(good):len(good)], pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: []byte("x")})...), "cannot be used"},
	} {
		path := filepath.Join(t.TempDir(), "ca.pem")
		require.NoError(t, os.WriteFile(path, c.text, 0o600))
		secure, err := reach.Secure(path)
		if c.want != "" {
			assert.ErrorContains(t, err, c.want, name)
			continue
		}
		require.NoError(t, err, name)
		assert.NotNil(t, secure.RootCAs, name)
	}
	_, err := reach.Secure("nowhere.pem")
	assert.ErrorIs(t, err, os.ErrNotExist)
	plain, err := reach.Secure("")
	require.NoError(t, err)
	assert.Nil(t, plain.RootCAs, "the usual ones")
}

// Only what nobody else can hear is this machine.
func TestOnThisMachine(t *testing.T) {
	for host, want := range map[string]bool{"localhost": true, "127.0.0.1": true, "127.9.9.9": true, "::1": true, "localhost.example": false, "0.0.0.0": false, "10.0.0.1": false, "": false, "127.0.0.1.example": false} {
		assert.Equal(t, want, reach.OnThisMachine(host), host)
	}
}

func TestParts(t *testing.T) {
	t.Setenv("TIDE", "s3cret")
	doc, err := yamldoc.Parse("w.yaml", []byte("a: 300/min\nb: 20 / s\nc: fast\nd: env:TIDE\ne: s3cret\nf: certs/ca.pem\ng: 0/s\n"))
	require.NoError(t, err)
	part, at := reach.Part{Dir: "/harbour"}, map[string]yamldoc.Node{}
	for _, pair := range doc.Root().Pairs() {
		at[pair.Key] = pair.Value
	}
	assert.InDelta(t, 5, part.Rate(at["a"]), 1e-9)
	assert.InDelta(t, 20, part.Rate(at["b"]), 1e-9)
	assert.Equal(t, "/harbour/certs/ca.pem", part.File(at["f"]))
	mask := secret.NewMask()
	opened, err := reach.Open(part.Secret(at["d"]), mask)
	require.NoError(t, err)
	assert.Equal(t, "s3cret", opened)
	assert.NotContains(t, mask.Hide("it is s3cret"), "s3cret")
	require.NoError(t, doc.Err())
	part.Rate(at["c"])
	part.Rate(at["g"])
	part.Secret(at["e"])
	assert.ErrorContains(t, doc.Err(), "3:4: “fast” is not a pace")
	assert.ErrorContains(t, doc.Err(), "7:4: “0/s” is not a pace")
	assert.NotContains(t, doc.Err().Error(), "s3cret", "not even in a mistake")
}

// What is unclear is told as what it comes of, if that explains itself.
func TestTelling(t *testing.T) {
	away := &reach.Unavailable{Message: "it is away", Remedy: "Look at it."}
	says, _ := told.Of(fmt.Errorf("row 5: %w", &reach.Unclear{Err: away}))
	assert.Equal(t, told.Telling{Class: told.Away, Message: "it is away", Remedy: "Look at it."}, says)
	says, _ = told.Of(&reach.Unclear{Err: errors.New("the line broke")})
	assert.Equal(t, told.Away, says.Class)
	assert.Equal(t, "no clear answer came: the line broke", says.Message)
}
