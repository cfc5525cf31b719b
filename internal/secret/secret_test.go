package secret_test

import (
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"iter"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/secret"
)

// What was sealed opens with the batch's key, and with no other; nothing of it can be
// read without, nor once the key is destroyed.
func TestVault(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "ledger.db.keys")
	vaults := secret.NewVaults(folder)
	v := vaults.Of(17)
	sealed, err := v.Seal("Anchor!lamp")
	require.NoError(t, err)
	again, err := v.SealGiven("Anchor!lamp")
	require.NoError(t, err)
	assert.NotEqual(t, sealed, again, "the same password does not look the same")
	assert.NotContains(t, sealed, "Anchor")
	assert.True(t, secret.IsGiven(again) && !secret.IsGiven(sealed))
	for _, s := range []string{sealed, again} {
		text, err := secret.NewVaults(folder).Of(17).Open(s)
		require.NoError(t, err)
		assert.Equal(t, "Anchor!lamp", text)
	}
	path := filepath.Join(folder, "17.key")
	stat, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), stat.Mode().Perm())

	other, err := vaults.Of(18).Seal("x")
	require.NoError(t, err)
	_, err = v.Open(other)
	assert.ErrorContains(t, err, "the key was exchanged")
	for _, broken := range []string{"", "!", sealed[:8], sealed[:len(sealed)-4] + "AAAA"} {
		_, err = v.Open(broken)
		assert.Error(t, err, broken)
	}
	require.NoError(t, vaults.Destroy(17))
	require.NoError(t, vaults.Destroy(17), "what is destroyed is destroyed")
	assert.NoFileExists(t, path)
	_, err = v.Open(sealed)
	assert.ErrorContains(t, err, "was destroyed")
	require.NoError(t, os.WriteFile(path, []byte("short"), 0o600))
	_, err = vaults.Of(17).Seal("x")
	assert.ErrorContains(t, err, "is not a key")
	_, err = secret.NewVaults(filepath.Join(path, "below")).Of(1).Seal("x")
	assert.Error(t, err)
}

func TestMake(t *testing.T) {
	judge := secret.NewJudge(secret.Rules{})
	for name, c := range map[string]struct {
		recipe secret.Recipe
		form   string
	}{
		"characters": {secret.Recipe{Length: 12, Alphabet: "abcXYZ234"}, `^[abcXYZ234]{12}$`},
		"words":      {secret.Recipe{Words: 4}, `^[A-Z][a-z]{5}(-[a-z]{6}){3}[0-9]$`},
		"a pattern":  {secret.Recipe{Pattern: "Quay-##-**-é"}, `^Quay-[0-9]{2}-[a-z]{2}-é$`},
	} {
		seen := map[string]bool{}
		for range 60 {
			made, err := c.recipe.Make()
			require.NoError(t, err)
			assert.Regexp(t, c.form, made, name)
			if c.recipe.Length > 0 {
				assert.True(t, strings.ContainsFunc(made, unicode.IsUpper) && strings.ContainsFunc(made, unicode.IsLower) && strings.ContainsFunc(made, unicode.IsDigit), "%s has each kind of its alphabet", made)
			}
			assert.False(t, seen[made], "%s came twice", made)
			seen[made] = true
			assert.Empty(t, judge.Weak(made+"-padding-7", nil))
		}
	}
}

func TestWeak(t *testing.T) {
	judge := secret.NewJudge(secret.Rules{})
	about := []string{"ana.reyes", "Reyes", "1007"}
	for password, why := range map[string]string{
		"short7!": "fewer than 8", "password": "tried first", "Password123": "tried first", "aaaaaaaaaaaaaaaa": "tried first", "abcdefghijklm": "tried first", "12345678": "tried first", "P@ssw0rd2024!": "tried first", "Iloveyou123!": "tried first",
		"qwertyuiop": "tried first", " Anchor!lamp": "white space", "Reyes1007!": "name or number", "reyes-2026": "name or number", "Ana.Reyes1": "name or number", "Reyes-lamp-quay-88": "",
		"Anchor!lamp-quay-88": "", "gulls over the quay": "", "tXk7-pq2m-vB9z": "", "kTmn5Qpz": "",
	} {
		got := judge.Weak(password, about)
		if why == "" {
			assert.Empty(t, got, password)
		} else {
			assert.Contains(t, got, why, password)
		}
	}
}

func TestRules(t *testing.T) {
	rules := secret.Rules{Shortest: 10, Longest: 12, Kinds: 3}
	for password, why := range map[string]string{"Short7é": "it has 7 characters, and the system wants 10", "Anchor-lamp-quay": "takes 12 at most", "anchorlamp": "wants 3 of", "anchor-lamp": "wants 3 of", "Anchor-lamp": "", "anchor-1amp": "", "Anchor1amps": ""} {
		if got := rules.Breaks(password); why == "" {
			assert.Empty(t, got, password)
		} else {
			assert.Contains(t, got, why, password)
		}
		assert.Empty(t, secret.Rules{}.Breaks(password))
	}
}

func credentials(err error) iter.Seq2[secret.Credential, error] {
	return func(yield func(secret.Credential, error) bool) {
		if yield(secret.Credential{UserName: "zoe", Name: "Zoë, Å.", Email: "z@x.example", Password: "=1+1\"x"}, nil) && err != nil {
			yield(secret.Credential{}, err)
		}
	}
}

// Credentials open for whom they are meant, are there whole or not at all, and write
// over nothing.
func TestCredentials(t *testing.T) {
	dir := t.TempDir()
	identity, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	keys, err := secret.ToKeys([]string{identity.Recipient().String()})
	require.NoError(t, err)
	phrase, err := secret.ToPassphrase("gulls over the quay 1912")
	require.NoError(t, err)
	byPhrase, err := age.NewScryptIdentity("gulls over the quay 1912")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		envelope secret.Envelope
		identity age.Identity
	}{"key": {keys, identity}, "passphrase": {phrase, byPhrase}, "clear": {secret.InClear(), nil}} {
		path := filepath.Join(dir, name)
		require.True(t, c.envelope.Given())
		n, err := c.envelope.WriteFile(path, credentials(nil))
		require.NoError(t, err)
		assert.Equal(t, 1, n)
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		stat, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), stat.Mode().Perm())
		var in io.Reader = bytes.NewReader(data)
		if c.identity != nil {
			assert.NotContains(t, string(data), "zoe")
			in, err = age.Decrypt(in, c.identity)
			require.NoError(t, err)
		}
		rows, err := csv.NewReader(in).ReadAll()
		require.NoError(t, err)
		assert.Equal(t, [][]string{{"User name", "Name", "Email", "Password"}, {"zoe", "Zoë, Å.", "z@x.example", "=1+1\"x"}}, rows)
		_, err = c.envelope.WriteFile(path, credentials(nil))
		assert.ErrorIs(t, err, os.ErrExist)
	}
	_, err = keys.WriteFile(filepath.Join(dir, "broken"), credentials(errors.New("the key is gone")))
	assert.ErrorContains(t, err, "the key is gone")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 3, "nothing half is left behind")
	assert.False(t, secret.Envelope{}.Given())
	_, err = secret.ToKeys([]string{"ssh-ed25519 AAAA"})
	assert.ErrorContains(t, err, "age1")
	_, err = secret.ToPassphrase("harbour")
	assert.ErrorContains(t, err, "can be guessed")
}
