package secret_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/secret"
)

// A shelf keeps keys as a ledger does.
type shelf map[int]string

func (s shelf) Key(batch int) (string, error) { return s[batch], nil }
func (s shelf) KeepKey(batch int, sealed string) error {
	if s[batch] == "" {
		s[batch] = sealed
	}
	return nil
}
func (s shelf) ForgetKey(batch int) error { delete(s, batch); return nil }

// Each of a team opens what another sealed; nobody else does, whoever keeps the keys.
func TestTeam(t *testing.T) {
	ana, ines, stranger := identity(t), identity(t), identity(t)
	keys := shelf{}
	vaults := func(who *secret.Identity, opens ...string) *secret.Vaults {
		return secret.NewTeamVaults(filepath.Join(t.TempDir(), "keys"), secret.Team{Keeper: keys, Opens: opens, Identity: func() (*secret.Identity, error) { return who, nil }})
	}
	sealed, err := vaults(ana, ana.Opens(), ines.Opens()).Of(7, "").Seal(2, "gull-41")
	require.NoError(t, err)
	for _, who := range []*secret.Identity{ana, ines} {
		opened, err := vaults(who, who.Opens()).Of(7, "").Open(2, sealed)
		require.NoError(t, err)
		assert.Equal(t, "gull-41", opened)
	}
	_, err = vaults(stranger, stranger.Opens()).Of(7, "").Open(2, sealed)
	require.ErrorContains(t, err, "not sealed for you")
	assert.NotContains(t, keys[7], sealed)
	keys[8] = keys[7]
	_, err = vaults(ana, ana.Opens()).Of(8, "").Seal(2, "gull-42")
	require.ErrorContains(t, err, "somebody put another key in its place", "a key that lies there already may be known to who put it there")
	require.NoError(t, vaults(ines, ines.Opens()).Destroy(7))
	_, err = vaults(ana, ana.Opens()).Of(7, "").Open(2, sealed)
	require.ErrorContains(t, err, "was destroyed")
	keys[7] = "-----BEGIN AGE ENCRYPTED FILE-----\nno\n"
	_, err = vaults(ana, ana.Opens()).Of(7, "").Open(2, sealed)
	require.Error(t, err)
}

func identity(t *testing.T) *secret.Identity {
	who, err := secret.NewIdentity()
	require.NoError(t, err)
	return who
}

// An identity is kept for its owner alone and read again; what is no identity is told.
func TestIdentity(t *testing.T) {
	who := identity(t)
	path := filepath.Join(t.TempDir(), "settings", "identity")
	require.NoError(t, who.Keep(path))
	require.Error(t, who.Keep(path), "one that is there is never written over")
	stat, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), stat.Mode().Perm())
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	again, err := secret.ParseIdentity(string(text))
	require.NoError(t, err)
	assert.Equal(t, []string{who.Opens(), who.Signs()}, []string{again.Opens(), again.Signs()})
	lines := strings.SplitAfter(string(text), "\n")
	for broken, want := range map[string]string{
		"":                                      "a key is missing",
		lines[0] + lines[1]:                     "a key is missing",
		lines[0] + lines[2]:                     "a key is missing",
		lines[1][:20] + "\n":                    "a line in it that is no key",
		lines[1] + "EVENLEDGER-SIGNING-KEY-abc": "the key that signs cannot be read",
	} {
		_, err := secret.ParseIdentity(broken)
		require.ErrorContains(t, err, want)
	}
}

// A signature is of one text by one key, and nothing else passes for one.
func TestSigned(t *testing.T) {
	who, other := identity(t), identity(t)
	signature := who.Sign("batch 17")
	assert.True(t, secret.Signed(who.Signs(), "batch 17", signature))
	for _, c := range [][3]string{
		{who.Signs(), "batch 18", signature}, {other.Signs(), "batch 17", signature}, {who.Signs(), "batch 17", other.Sign("batch 17")},
		{who.Signs(), "batch 17", ""}, {who.Signs(), "batch 17", signature[:40]}, {who.Signs(), "batch 17", "***"}, {"", "batch 17", signature},
		{strings.TrimPrefix(who.Signs(), "ed25519:"), "batch 17", signature}, {who.Opens(), "batch 17", signature},
	} {
		assert.False(t, secret.Signed(c[0], c[1], c[2]), "%q", c)
	}
	assert.True(t, secret.IsSigningKey(who.Signs()))
	assert.False(t, secret.IsSigningKey(who.Opens()))
	assert.True(t, secret.IsOpeningKey(who.Opens()))
	assert.False(t, secret.IsOpeningKey(who.Signs()))
}
