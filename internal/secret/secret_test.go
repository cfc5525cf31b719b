package secret_test

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"iter"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

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
	v := vaults.Of(17, "")
	sealed, err := v.Seal(2, "Anchor!lamp")
	require.NoError(t, err)
	again, err := v.SealGiven(2, "Anchor!lamp")
	require.NoError(t, err)
	assert.NotEqual(t, sealed, again, "the same password does not look the same")
	assert.NotContains(t, sealed, "Anchor")
	assert.True(t, secret.IsGiven(again) && !secret.IsGiven(sealed))
	for _, s := range []string{sealed, again} {
		text, err := secret.NewVaults(folder).Of(17, "").Open(2, s)
		require.NoError(t, err)
		assert.Equal(t, "Anchor!lamp", text)
	}
	path := filepath.Join(folder, "17.key")
	stat, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), stat.Mode().Perm())

	other, err := vaults.Of(18, "").Seal(2, "x")
	require.NoError(t, err)
	_, err = v.Open(2, other)
	require.ErrorContains(t, err, "the key of its batch was")
	_, err = v.Open(3, sealed)
	require.ErrorContains(t, err, "does not open as that of its row", "nor is it that of another row")
	for _, broken := range []string{"", "!", sealed[:8], sealed[:len(sealed)-4] + "AAAA"} {
		_, err = v.Open(2, broken)
		assert.Error(t, err, broken)
	}
	require.NoError(t, vaults.Destroy(17))
	require.NoError(t, vaults.Destroy(17), "what is destroyed is destroyed")
	assert.NoFileExists(t, path)
	_, err = v.Open(2, sealed)
	assert.ErrorContains(t, err, "was destroyed")
	require.NoError(t, os.WriteFile(path, []byte("short"), 0o600))
	_, err = vaults.Of(17, "").Seal(2, "x")
	assert.ErrorContains(t, err, "is not a key")
	_, err = secret.NewVaults(filepath.Join(path, "below")).Of(1, "").Seal(2, "x")
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
		"a pattern":  {secret.Recipe{Pattern: "Quay-####-****-é"}, `^Quay-[0-9]{4}-[a-z]{4}-é$`},
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
	about := []string{"ana.reyes", "Reyes", "1007", "Brindle Sound Ferries", "crewdesk"}
	for password, why := range map[string]string{
		"short7!": "fewer than 8", "password": "tried first", "Password123": "tried first", "aaaaaaaaaaaaaaaa": "tried first", "abcdefghijklm": "tried first", "12345678": "tried first", "P@ssw0rd2024!": "tried first", "Iloveyou123!": "tried first",
		"qwertyuiop": "tried first", " Anchor!lamp": "white space", "Reyes1007!": "name or number", "reyes-2026": "name or number", "Ana.Reyes1": "name or number",
		"AnaReyes2027!": "little is left", "ana.reyes-abc": "little is left", "Reyes.Ana#12": "little is left", "seyeR!2027x": "little is left", "An4R3yes!99": "little is left", "BrindleSound2026!": "little is left", "crewdesk-2027#": "name or number", "Ferries!Ferries!": "tried first", "lampquaylampquay": "tried first",
		"Ana-qwerty-2027": "little is left", "Reyes-lamp-quay-88": "",
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

// A mask finds a secret in every form in which somebody may have written it.
func TestMask(t *testing.T) {
	const word = `a/We&a"r-ö7\\`
	mask := secret.NewMask(word, "x")
	inJSON, err := json.Marshal(word)
	require.NoError(t, err)
	twice, err := json.Marshal(string(inJSON))
	require.NoError(t, err)
	for name, form := range map[string]string{
		"as it is":             word,
		"in JSON":              string(inJSON),
		"in JSON in JSON":      string(twice),
		"with slashes":         strings.ReplaceAll(string(inJSON), "/", `\/`),
		"plain JSON":           strings.ReplaceAll(string(inJSON), `\u0026`, "&"),
		"in an address":        url.QueryEscape(word),
		"in small digits":      strings.NewReplacer("%2F", "%2f", "%C3%B6", "%c3%b6", "%5C", "%5c").Replace(url.QueryEscape(word)),
		"all in percent":       percent(word),
		"all in JSON":          `\u0061\u002f\u0057\u0065\u0026\u0061\u0022\u0072\u002D\u00F6\u0037\u005c\u005C`,
		"by numbers":           "a&#47;We&#x26;a&quot;r&#45;&ouml;7\\\\",
		"in a page in JSON":    strings.ReplaceAll(html.EscapeString(word), `\`, `\\`),
		"in hexadecimal":       hex.EncodeToString([]byte(word)),
		"in capital hex":       strings.ToUpper(hex.EncodeToString([]byte("user:" + word))),
		"behind a name":        base64.StdEncoding.EncodeToString([]byte("ana:" + word)),
		"behind another":       base64.URLEncoding.EncodeToString([]byte("an:" + word + "!")),
		"base64 in an address": url.QueryEscape(base64.StdEncoding.EncodeToString([]byte(word))),
		"in a page":            html.EscapeString(word),
		"in base64":            base64.StdEncoding.EncodeToString([]byte(word)),
	} {
		text := mask.Hide("before " + form + " behind")
		assert.Contains(t, text, "(hidden)", name)
		assert.NotContains(t, text, "r-", name)
		assert.NotContains(t, mask.Hide(form+form), form[len(form)/3:len(form)*2/3], name)
		assert.True(t, strings.HasPrefix(text, "before ") && strings.HasSuffix(text, " behind"), text)
	}
	for _, last := range []string{"ż", "漢", "🛟"} { // letters of several bytes
		word, units := "Hasło"+last, ""
		for _, unit := range utf16.Encode([]rune(word)) {
			units += fmt.Sprintf(`\u%04x`, unit)
		}
		for _, form := range []string{hex.EncodeToString([]byte(word)), base64.RawStdEncoding.EncodeToString([]byte(word)), percent(word), units} {
			assert.Equal(t, "<(hidden)>", secret.NewMask(word).Hide("<"+form+">"))
		}
	}
	assert.Equal(t, "six xylophones", mask.Hide("six xylophones"), "what is too short to be told from other text stays")
	long := mask.Told(strings.Repeat("ö", 1500) + word)
	assert.Len(t, long, 2048+len("…"))
	assert.True(t, utf8.ValidString(long))
	assert.Equal(t, "(hidden)", mask.Told(word))
	var none *secret.Mask
	none.Add("word")
	assert.Equal(t, "word", none.Hide("word"))
}

// percent writes every byte of a text in percent-encoding.
func percent(text string) (all string) {
	for _, b := range []byte(text) {
		all += fmt.Sprintf("%%%02x", b)
	}
	return all
}

// Many who open one vault at once find the same key in it.
func TestVaultOfMany(t *testing.T) {
	vaults := secret.NewVaults(filepath.Join(t.TempDir(), "keys"))
	var group sync.WaitGroup
	sealed := make([]string, 16)
	for i := range sealed {
		group.Go(func() {
			var err error
			sealed[i], err = vaults.Of(1, "").Seal(2, "word")
			assert.NoError(t, err)
		})
	}
	group.Wait()
	for _, text := range sealed {
		word, err := vaults.Of(1, "").Open(2, text)
		require.NoError(t, err)
		assert.Equal(t, "word", word)
	}
	require.NoError(t, vaults.Of(1, "").Check())
	require.NoError(t, vaults.Destroy(1))
	assert.ErrorContains(t, vaults.Of(1, "").Check(), "destroyed or lost")
}

// The place for credentials is tried before there are any.
func TestPlaceForCredentials(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, secret.CanWrite(filepath.Join(dir, "new.age")))
	assert.NoFileExists(t, filepath.Join(dir, "new.age"))
	assert.ErrorContains(t, secret.CanWrite(filepath.Join(dir, "nowhere", "new.age")), "cannot be written")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "there.age"), nil, 0o600))
	assert.Error(t, secret.CanWrite(filepath.Join(dir, "there.age")))
}

func TestReferences(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		require.NoError(t, os.Chmod(path, mode))
		return path
	}
	path := write("token", " tok\n", 0o600)
	t.Setenv("CREW_TOKEN", "tok")
	for reference, want := range map[string]string{
		"file:token": "tok", "file:" + path: "tok", "env:CREW_TOKEN": "tok",
		"env:NOT_SET_HERE": "!is not set", "file:none": "!cannot be read", "file:empty": "!is empty", "file:loose": "!may be read by others",
	} {
		write("empty", "\n", 0o600)
		write("loose", "tok", 0o640)
		kept, err := secret.NewReference(reference, dir)
		require.NoError(t, err)
		got, err := kept.Open()
		if strings.HasPrefix(want, "!") {
			assert.ErrorContains(t, err, want[1:], reference)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, want, got)
		assert.NotContains(t, kept.String(), "tok\n")
	}
	for _, reference := range []string{"", "tok", "env:", "http:x"} {
		_, err := secret.NewReference(reference, dir)
		assert.Error(t, err, reference)
	}
}
