package host

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// Whatever stands in a cell is one word for the host's shell, and a name in a pattern is that
// name and no other.
func TestWordsAndPatterns(t *testing.T) {
	dir := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`[a-zé $"'\\;|&<>()*?\[\]{}!#~^+.\n\t%-]{0,30}`).Draw(t, "text")
		out, err := exec.Command("sh", "-c", "printf '%s' "+quoted(text)).Output()
		require.NoError(t, err)
		assert.Equal(t, text, string(out))
		name := rapid.StringMatching(`[a-z$"'\\;|&<>()*?\[\]{}!#~^+./-]{1,12}`).Draw(t, "name")
		other := rapid.StringMatching(`[a-z$*+.]{1,12}`).Draw(t, "other")
		lines := name + ":x:1001:1001::/:/bin/sh\n"
		if other != name {
			lines += other + ":x:1002:1002::/:/bin/sh\n"
		}
		path := filepath.Join(dir, "passwd")
		require.NoError(t, os.WriteFile(path, []byte(lines), 0o600))
		script := strings.ReplaceAll(prelude[strings.Index(prelude, "line() {"):strings.Index(prelude, "look() {")], "/etc/passwd", path)
		out, err = exec.Command("sh", "-c", strings.ReplaceAll(script, "/etc/shadow", "/dev/null")+"line "+quoted(pattern([]string{name}))).Output()
		require.NoError(t, err)
		assert.Equal(t, name+":1001:1001::/:/bin/sh\n", string(out))
	})
}

// The shell takes what it is told first, whichever shell it is.
func TestPreludeIsPlainShell(t *testing.T) {
	for _, shell := range []string{"dash", "bash", "busybox"} {
		path, err := exec.LookPath(shell)
		if err != nil {
			continue
		}
		args := map[bool][]string{true: {"sh", "-n"}}[shell == "busybox"]
		cmd := exec.Command(path, append(args, "-n")...)
		cmd.Stdin = strings.NewReader(prelude + probe + walking(system.Folders{In: []string{"/srv"}}, []system.Renumbered{{User: [2]int{1, 2}}}) + "\n" + counting(system.Folders{In: []string{"/a b"}}, []system.Renumbered{{}}))
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, "%s: %s", shell, out)
	}
}

// What a host answers is taken for what it is, and what cannot be understood for that.
func TestAnswers(t *testing.T) {
	now := time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC)
	a := &answer{facts: &facts{least: 1000}, now: now, results: make([]result, 2), accounts: map[string]int{}}
	for _, line := range []string{
		"P root:0:0:root:/root:/bin/bash", "P ana:1001:1001:Ana Reyes,,,:/home/ana:/bin/bash", "P ana:1009:1009:Another:/:/bin/sh", "P nobody:65534:65534::/:/bin/false", "P cut:1002", "P old:1003:100::/home/old:/bin/sh", "P gone:1004:100:\xff:/h:/bin/sh",
		"S ana::$:20000:", "S old:!:$:0:1", "S gone:!::20000:20000", "S unknown::$:1:", "R 0 account 9 useradd: user 'x'  already exists", "R 1 none 0 ", "B",
	} {
		kind, text, _ := strings.Cut(line, " ")
		a.line(kind, text)
	}
	require.NoError(t, a.err)
	assert.True(t, a.busy)
	assert.Equal(t, []result{{true, "account", 9, "useradd: user 'x'  already exists"}, {true, "none", 0, ""}}, a.results)
	var told []string
	for _, found := range a.found {
		told = append(told, strings.Join([]string{found.ID, found.Field("uidNumber").Text(), found.Field("active").Text(), found.Field("expires").Text(), found.Field(renew).Text(), found.Field("gecos").Text()}, "|"))
	}
	assert.Equal(t, []string{"ana|1001|true||false|Ana Reyes,,,", "old|1003|false||true|", "gone|1004|false|2024-10-04|false|�"}, told)
	assert.True(t, closed(a.found[1]))
	assert.False(t, closed(a.found[0]))
	assert.Equal(t, "2024-10-04", a.found[2].Whole["active"], "the day is kept for whoever is let in again")
	for _, text := range []string{"7 account 0 x", "x account 0 x", "0 account", "0 account x y"} {
		b := &answer{results: make([]result, 1)}
		b.line("R", text)
		assert.ErrorContains(t, b.err, "cannot be understood")
	}
}

// A block that is cut says of some accounts what became of them and shows none: nothing is taken for done that was not said, and nobody
// for gone who was only not shown.
func TestCutBlock(t *testing.T) {
	cut := &system.Unclear{Err: errors.New("the connection broke")}
	ana := account.Account{ID: "ana"}
	orders := map[system.Verb]system.Order{
		system.Creates: {Does: system.Creates, Wanted: account.Account{Fields: map[string]account.Value{"userName": account.Of("ana")}}},
		system.Changes: {Does: system.Changes, Known: ana, Changes: []account.Change{{Field: "gecos", After: account.Of("Ana")}}}, system.Removes: {Does: system.Removes, Known: ana}, system.Renews: {Does: system.Renews, Known: ana},
	}
	for does, o := range orders {
		task := &task{Order: o, after: "ana"}
		for _, c := range []struct {
			said result
			want error // in its kind
		}{
			{result{}, cut}, {result{came: true, step: "not-as-it-was", code: 9}, system.ErrChanged}, {result{came: true, step: "account", code: 9}, cut}, {result{came: true, step: "none"}, cut},
		} {
			now, err := (&client{}).came(t.Context(), &answer{}, task, c.said, cut, nil)
			if made := does == system.Creates && c.said.step == "none"; made {
				assert.NoError(t, err)
				assert.Equal(t, account.Account{ID: "ana"}, now, "it was made; how it looks was not shown")
				continue
			}
			if c.want == cut {
				assert.ErrorAs(t, err, new(*system.Unclear), "%v %v", does, c.said)
			} else {
				assert.ErrorIs(t, err, c.want, "%v %v", does, c.said)
			}
		}
	}
}

func TestJoined(t *testing.T) {
	for _, c := range []struct {
		line string
		ties []system.Tie
		want string
		err  string
	}{
		{"deck:x:1500:ana,tom", []system.Tie{{Account: "zoe"}, {Account: "ana"}, {Account: "tom", Leave: true}}, "ana,zoe", ""},
		{"deck:x:1500:", []system.Tie{{Account: "zoe"}, {Account: "nobody", Leave: true}}, "zoe", ""},
		{"deck:x:1500:ana", []system.Tie{{Account: "ana", Leave: true}}, "", ""},
		{"deck:x:1500:ana", []system.Tie{{Account: "a,b"}}, "", "cannot stand in /etc/group"},
		{"deck:x", nil, "", "cannot be understood"},
	} {
		members, err := joined("deck", c.line, c.ties)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, c.want, strings.Join(members, ","))
	}
}

// What tools end with becomes words about the row, or about the host.
func TestTrouble(t *testing.T) {
	c := &client{connection: &connection{}}
	c.At = "quay:22"
	fields := map[string]account.Value{"userName": account.Of("ana"), "uidNumber": account.Of("1500")}
	for _, r := range []struct {
		result
		code account.Code // of a refusal; empty: the host as a whole
		says string
	}{
		{result{true, "account", 9, ""}, account.TakenValue, "“ana” already"},
		{result{true, "account", 4, ""}, account.TakenValue, "1500 is somebody's"},
		{result{true, "account", 3, ""}, account.NotAllowedValue, "does not take"},
		{result{true, "account", 8, ""}, account.SystemRefused, "signed in"},
		{result{true, "account", 12, ""}, account.SystemRefused, "home folder"},
		{result{true, "account", 1, "useradd: cannot lock /etc/passwd; try again later."}, "", "locked by another program"},
		{result{true, "account", 1, "useradd: existing lock file /etc/passwd.lock"}, "", "locked by another program"},
		{result{true, "password", 1, "chpasswd: failure while writing: No space left on device"}, "", "no room"},
		{result{true, "account", 10, "Read-only file system"}, "", "may not be written to"},
		{result{true, "halted", 255, ""}, "", "took no more"},
		{result{true, "home-there", 254, "of user number 1700"}, account.SystemRefused, "home folder already"},
		{result{true, "retire", 8, ""}, account.SystemRefused, "signed in"},
		{result{true, "not-served", 254, ""}, account.KeptElsewhere, "serves the account yet"},
		{result{true, "password", 1, "bad"}, account.SystemRefused, "could not be set (bad)"},
		{result{true, "thing", 77, ""}, account.SystemRefused, "exit code 77"},
	} {
		err := c.trouble(r.result, fields)
		assert.ErrorContains(t, err, r.says)
		var refusal *system.Refusal
		if assert.Equal(t, r.code != "", assert.ObjectsAreEqual(true, asRefusal(err, &refusal)), "%v", err) && refusal != nil {
			assert.Equal(t, r.code, refusal.Code)
		}
	}
	assert.ErrorIs(t, c.trouble(result{true, "account", 6, ""}, fields), system.ErrGone)
	var unclear *system.Unclear
	assert.ErrorAs(t, c.trouble(result{true, "account", 137, ""}, fields), &unclear, "it was killed, and said nothing")
	half := leftBehind(&system.Refusal{Message: "no"}, result{step: "password"}, true)
	assert.ErrorContains(t, half, "stays half made")
}

func asRefusal(err error, refusal **system.Refusal) bool {
	r, is := err.(*system.Refusal)
	*refusal = r
	return is
}
