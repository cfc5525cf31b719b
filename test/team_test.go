package test

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
	"evenledger/internal/testserver"
)

// as runs a command as one of a team.
func (f folder) as(name string, args ...string) (code int, told string) {
	cmd := f.command(args...)
	cmd.Env = append(cmd.Env, "XDG_CONFIG_HOME="+filepath.Join(f.dir, name))
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		require.NoError(f.t, err)
	}
	return cmd.ProcessState.ExitCode(), string(out)
}

// team is a folder of two people who open and sign, and the key that each signs with.
func team(t *testing.T, more string) (f folder, keys map[string]string) {
	f = workspace(t, practice(t), more)
	people := ""
	keys = map[string]string{}
	for _, name := range []string{"ana", "ines"} {
		code, out := f.as(name, "identity", "--json")
		require.Zero(t, code, out)
		var told struct{ Opens, Signs string }
		require.NoError(t, json.Unmarshal([]byte(out), &told))
		keys[name] = told.Signs
		people += fmt.Sprintf("  %s: {opens: %s, signs: %q}\n", name, told.Opens, told.Signs)
	}
	f.write("evenledger.yaml", "people:\n"+people+f.read("evenledger.yaml"))
	f.write("crew.csv", "Login,Last,Watch\nkai,Mori,Deck\nzoe,Weiß,Deck\nmei,Lin,Deck\n")
	f.write("briefs/plain.yaml", "system: crewdesk\nmatch: [userName]\nfields: {userName: {from: Login}, familyName: {from: Last}}\ngroups: {from: Watch, make_missing: true}\npassword: {new: generate}\n")
	return f, keys
}

// What whoever can write to the ledger's database can do, and what not: each line of the table in
// docs/team.md.
func TestKeeperOfTheLedger(t *testing.T) {
	t.Parallel()
	base, keys := team(t, ", countersign: over 2")
	for range 2 {
		code, told := base.as("ana", "draft", "crew.csv", "-b", "plain")
		require.Zero(t, code, told)
		base.write("crew.csv", strings.NewReplacer("kai", "tom", "zoe", "oona", "mei", "hine").Replace(base.read("crew.csv")))
	}
	code, told := base.as("ines", "countersign", "1-2", "--yes")
	require.Zero(t, code, told)
	assert.Contains(t, told, "joins group Deck")
	assert.NotContains(t, base.read("ledger.db"), "AGE-SECRET-KEY")
	alter := func(t *testing.T, f folder, statement string) {
		db, err := sql.Open("sqlite", filepath.Join(f.dir, "ledger.db"))
		require.NoError(t, err)
		_, err = db.Exec(statement)
		require.NoError(t, err, statement)
		require.NoError(t, db.Close())
	}
	copied := func(t *testing.T) folder {
		f := folder{t, t.TempDir()}
		require.NoError(t, os.CopyFS(f.dir+"/c", os.DirFS(base.dir)))
		f.dir += "/c"
		require.NoError(t, exec.Command("chmod", "-R", "go-rwx", f.dir).Run())
		return f
	}
	for statement, says := range map[string]string{
		"UPDATE entries SET changes = replace(changes, 'kai', 'eve')": "row 2 was altered since it was drafted",
		"UPDATE entries SET account = 'u-1' WHERE row = 3":            "row 3 was altered since it was drafted",
		"UPDATE steps SET name = 'Masters'":                           "row 2 was altered since it was drafted",
		"UPDATE steps SET result = 'done'":                            "is marked as done, and nobody noted it",
		`UPDATE batches SET draft = json_set(draft, '$.begin', json('[{"feed":"rota","order":{"statement":"delete from crew"}}]'))`: "the batch as a whole was altered since it was drafted",
		`UPDATE batches SET draft = json_set(draft, '$.reportTo', json('["eve@elsewhere.example"]'))`:                               "the batch as a whole was altered since it was drafted",
		`UPDATE batches SET draft = json_set(draft, '$.toDo', 1, '$.signedFrom', 0)`:                                                "the batch as a whole was altered since it was drafted",
		"DELETE FROM history WHERE what = 'signature'; UPDATE batches SET draft = json_set(draft, '$.toDo', 1)":                     "is not as it was drafted",
		"DELETE FROM history WHERE body LIKE '%second%'":                                                                            "was taken away from the end of its history",
		"UPDATE history SET body = replace(body, 'ines', 'ana') WHERE what = 'signature'":                                           "its history was altered",
		"UPDATE secrets SET sealed = (SELECT sealed FROM secrets s WHERE s.batch = 1 AND s.row = 2)":                                "the password of row 3 was exchanged",
		"UPDATE secrets SET sealed = (SELECT sealed FROM secrets s WHERE s.batch = 2 AND s.row = 2) WHERE batch = 1 AND row = 2":    "the password of row 2 was exchanged",
		"DELETE FROM secrets WHERE batch = 1 AND row = 4":                                                                           "the password of row 4 was taken out",
		"UPDATE keys SET sealed = (SELECT sealed FROM keys k WHERE k.batch = 2) WHERE batch = 1":                                    "it was exchanged",
		"DELETE FROM keys":                          "was destroyed",
		"DELETE FROM history WHERE batch = 1":       "does not end with the seal",
		"UPDATE batches SET seal = '' WHERE id = 1": "it has no seal",
	} {
		t.Run(statement, func(t *testing.T) {
			f := copied(t) // as it is now
			t.Parallel()
			alter(t, f, statement)
			code, told := f.as("ana", "post", "1", "--yes", "--credentials", "words.csv", "--in-clear")
			assert.Equal(t, 4, code, told)
			assert.Contains(t, told, says)
			assert.NoFileExists(t, filepath.Join(f.dir, "words.csv"))
		})
	}

	// Written anew with all its hashes, in a colleague's name, a draft lacks what only they can give it.
	t.Run("drafts written anew", func(t *testing.T) {
		f := copied(t)
		l, err := sqlite.Open(t.Context(), filepath.Join(f.dir, "ledger.db"))
		require.NoError(t, err)
		defer l.Close()
		real, err := l.Batch(t.Context(), 1)
		require.NoError(t, err)
		signatures, err := l.History(1).Signatures(t.Context())
		require.NoError(t, err)
		require.Len(t, signatures, 2)
		forge := func(by string, change func(*batch.Batch), more ...store.Signature) string {
			b := &batch.Batch{Draft: real.Draft}
			b.Rows, b.Key, b.Secrets = 0, "", ""
			change(b)
			eve := store.Worker{Name: "eve" + by, Term: time.Minute}
			require.NoError(t, l.Begin(t.Context(), eve, b))
			require.NoError(t, l.Drafting(b.ID).Seal(t.Context(), b))
			for _, s := range more {
				s.Of = b.Seal
				require.NoError(t, l.History(b.ID).Sign(t.Context(), s))
			}
			b.State = batch.Drafted
			require.NoError(t, l.Save(t.Context(), b))
			_, err = l.Lease(b.ID, eve).Leave(t.Context())
			require.NoError(t, err)
			code, told := f.as("ines", "post", fmt.Sprint(b.ID), "--yes", "--credentials", "w"+by+".csv", "--in-clear")
			assert.Equal(t, 4, code, told)
			return told
		}
		lacks := "says that ana drafted it, and it is not signed with a key of theirs"
		assert.Contains(t, forge("1", func(b *batch.Batch) {}), lacks)
		assert.Contains(t, forge("2", func(b *batch.Batch) { b.SignedFrom = 0 }, signatures...), lacks, "a signature is of one draft")
		assert.Contains(t, forge("4", func(b *batch.Batch) { b.ByKey, b.Key, b.Secrets = "", "exchanged", "generate" }), "has no key in evenledger.yaml to vouch for them")
		second := signatures[0]
		second.As = store.Second
		assert.Contains(t, forge("3", func(b *batch.Batch) { b.SignedFrom = 1 }, second), lacks, "nor is who drafted it the second person")
	})

	// What became of a batch is signed to its end by who posted it.
	f := base
	code, told = f.as("ana", "post", "1", "--yes", "--credentials", "words.csv", "--in-clear")
	require.Zero(t, code, told)
	code, told = f.as("ana", "ledger", "check")
	require.Zero(t, code, told)
	code, told = f.as("ines", "show", "1")
	require.Zero(t, code, told)
	assert.Contains(t, told, "What became of it is signed by ana.")
	code, told = f.as("ines", "ledger", "head", "-o", "heads.jsonl")
	require.Zero(t, code, told)
	require.NotContains(t, f.read("heads.jsonl"), "kai")
	for name, c := range map[string]struct {
		do   func(t *testing.T, f folder)
		says string
	}{
		"results altered": {func(t *testing.T, f folder) { alter(t, f, "UPDATE results SET account = 'u-9' WHERE row = 2") }, "what became of row 2 was altered"},
		"results written anew": {func(t *testing.T, f folder) {
			l, err := sqlite.Open(t.Context(), filepath.Join(f.dir, "ledger.db"))
			require.NoError(t, err)
			b, err := l.Batch(t.Context(), 1)
			require.NoError(t, err)
			b.State = batch.Reversed
			require.NoError(t, l.Save(t.Context(), b))
			require.NoError(t, l.Close())
		}, "what became of it is not signed to its end"},
		"the newest taken out": {func(t *testing.T, f folder) {
			for _, table := range []string{"entries", "steps", "secrets", "outgoing", "history", "keys"} {
				alter(t, f, "DELETE FROM "+table+" WHERE batch = 2")
			}
			alter(t, f, "DELETE FROM batches WHERE id = 2")
		}, "batch 2 was taken out since"},
		"an older copy in its place": {func(t *testing.T, f folder) {
			alter(t, f, "UPDATE batches SET head = (SELECT hash FROM history WHERE batch = 2 AND chain = 'batch' AND what = 'progress') WHERE id = 2; DELETE FROM history WHERE batch = 2 AND body LIKE '%second%'")
		}, "batch 2: what became of it was written anew since"},
	} {
		t.Run(name, func(t *testing.T) {
			f := copied(t)
			c.do(t, f)
			code, told := f.as("ana", "ledger", "check", "--against", "heads.jsonl")
			assert.Equal(t, 2, code, told)
			assert.Contains(t, told, c.says)
			if strings.HasPrefix(name, "results") {
				code, told = f.as("ana", "reverse", "1")
				assert.NotZero(t, code)
				assert.Contains(t, told, map[bool]string{true: "not to be trusted: batch 1: " + c.says, false: "was reversed already"}[name == "results altered"])
				_, told = f.as("ana", "show", "1")
				assert.NotContains(t, told, "What became of it is signed by ana.")
			}
		})
	}
	// Where a post was cut short before it signed, who reads the system and finds all so signs it.
	alter(t, f, "UPDATE batches SET head = (SELECT hash FROM history h WHERE h.batch = 1 AND h.chain = 'batch' AND h.n = (SELECT max(n) - 1 FROM history WHERE batch = 1 AND chain = 'batch')) WHERE id = 1; DELETE FROM history WHERE batch = 1 AND chain = 'batch' AND n = (SELECT max(n) FROM history WHERE batch = 1 AND chain = 'batch')")
	code, told = f.as("ana", "ledger", "check")
	assert.Equal(t, 2, code, told)
	assert.Contains(t, told, "is not signed to its end")
	code, told = f.as("ines", "reconcile", "1")
	require.Zero(t, code, told)
	_, told = f.as("ana", "show", "1")
	assert.Contains(t, told, "What became of it is signed by ines.")

	// And what a keeper can do: draft as nobody, which is told, and needs two others where one is asked for.
	code, told = f.as("nobody", "draft", "crew.csv", "-b", "plain")
	assert.Equal(t, 2, code, told)
	assert.Contains(t, told, "who drafts them vouches for them")
	f.write("briefs/plain.yaml", strings.Replace(f.read("briefs/plain.yaml"), "password: {new: generate}\n", "", 1))
	code, told = f.as("nobody", "draft", "crew.csv", "-b", "plain")
	require.Zero(t, code, told)
	code, told = f.as("ana", "ledger", "check")
	require.Zero(t, code, told)
	assert.Contains(t, told, "Nobody vouches for batch 3")
	code, told = f.as("ana", "post", "3", "--yes")
	assert.Equal(t, 4, code, told)
	assert.Contains(t, told, "two people have to sign it first")
	// A person who stands there by two names is one.
	is := f.read("evenledger.yaml")
	line := is[strings.Index(is, "  ines:"):]
	line = line[:strings.Index(line, "\n")+1]
	for _, people := range []string{line, strings.Replace(line, "ines", "ines2", 1), line + strings.Replace(line, "ines", "ines2", 1)} {
		f.write("evenledger.yaml", strings.Replace(is, line, people, 1))
		code, told = f.as("ines", "countersign", "3", "--yes")
		require.Zero(t, code, told)
	}
	code, told = f.as("ana", "post", "3", "--yes")
	assert.Equal(t, 4, code, told)
	assert.Contains(t, told, "two people have to sign it first")
	code, told = f.as("ana", "countersign", "3", "--yes")
	require.Zero(t, code, told)
	code, told = f.as("ana", "post", "3", "--yes")
	require.Zero(t, code, told)
	assert.NotEmpty(t, keys)
	code, told = f.as("ana", "identity", "a: b")
	assert.Equal(t, 2, code, told)
	code, told = f.as("ana", "identity", "ana.reyes")
	require.Zero(t, code, told)
	assert.Contains(t, told, "  ana.reyes: {opens: age1")
}

// A second person is shown all that they sign, word for word where it goes out, and what is otherwise
// than in what was signed before.
func TestWhatIsSigned(t *testing.T) {
	t.Parallel()
	f, _ := team(t, ", countersign: always")
	f.write("evenledger.yaml", f.read("evenledger.yaml")+"mail: {server: \"smtp://127.0.0.1:9\", from: desk@brindlesound.example}\nfeeds:\n  rota: {kind: web, url: \"http://127.0.0.1:9/rota\"}\n")
	f.write("briefs/plain.yaml", strings.Replace(f.read("briefs/plain.yaml"), "familyName:", "email: {make: 'userName + \"@brindlesound.example\"'}, familyName:", 1)+`notices:
  welcome: {on: created, to: email, subject: "Welcome, {familyName}", text: "Your account is {userName}."}
follow_ups:
  berth: {on: created, feed: rota, body: {login: "{userName}", id: "{id}"}}
begin: [{feed: rota, body: {state: "locked by {batch}"}}]
end: [{feed: rota, body: {state: open}}]
report_to: [desk@brindlesound.example]
protect: [root]
`)
	code, told := f.as("ana", "draft", "crew.csv", "-b", "plain")
	require.Zero(t, code, told)
	code, told = f.as("ines", "countersign", "1", "--yes")
	require.Zero(t, code, told)
	for _, says := range []string{"  3      create, with userName email familyName", "Mori (kai) · Weiß (zoe) · Lin (mei)", "set a password", "joins group Deck", "follow-up berth in rota", "| body.login: kai", "| body.id: {id}", "mail welcome", "| to: kai@brindlesound.example", "| subject: Welcome, Mori", "| text: Your account is kai.", "before all in feed rota", "| body.state: locked by {batch}", "after all in feed rota", "| body.state: open", "to desk@brindlesound.example", "not touched: root"} {
		assert.Contains(t, told, says)
	}
	assert.NotContains(t, told, "Since batch")
	f.write("crew.csv", strings.NewReplacer("zoe,Weiß,Deck", "zoe,Weiß,Engine", "mei,Lin,Deck\n", "tom,Kaya,Deck\n").Replace(f.read("crew.csv")))
	code, told = f.as("ana", "draft", "crew.csv", "-b", "plain")
	require.Zero(t, code, told)
	code, told = f.as("ines", "countersign", "2", "--yes")
	require.Zero(t, code, told)
	assert.Contains(t, told, "Since batch 1 of that list was signed: rows more: 1, less: 1, with something else to be done: 1.\nAmong them: tom, zoe\n")
}

// What a list brings within a day is counted together: in pieces it asks for as many people as whole.
func TestPiecesOfOneList(t *testing.T) {
	t.Parallel()
	f, _ := team(t, ", countersign: over 2")
	f.write("briefs/plain.yaml", strings.Replace(f.read("briefs/plain.yaml"), "password: {new: generate}\n", "", 1))
	for i, rows := range []string{"2", "3", "4"} {
		code, told := f.as("ana", "draft", "crew.csv", "-b", "plain", "--rows", rows)
		require.Zero(t, code, told)
		code, told = f.as("ana", "post", fmt.Sprint(i+1), "--yes")
		if i < 2 {
			require.Zero(t, code, told)
			continue
		}
		assert.Equal(t, 4, code, told)
		assert.Contains(t, told, "changes 1 accounts, and 3 with the others that were posted of crew.csv within a day")
	}
	code, told := f.as("ines", "countersign", "3", "--yes")
	require.Zero(t, code, told)
	code, told = f.as("ana", "post", "3", "--yes")
	require.Zero(t, code, told)
	code, told = f.as("ines", "reverse", "3")
	require.Zero(t, code, told)
	code, told = f.as("ines", "post", "4", "--yes")
	require.Zero(t, code, told)
	code, told = f.as("ines", "ledger", "check")
	require.Zero(t, code, told)

	// Several post one batch at once: what each sees of it is whole.
	f.crew("hands.csv", 600, "Deck hand")
	f.write("briefs/hands.yaml", "system: crewdesk\nmatch: [userName]\nfields: {userName: {from: No}, familyName: {from: Last}}\n")
	code, told = f.as("ana", "draft", "hands.csv", "-b", "hands")
	require.Zero(t, code, told)
	code, told = f.as("ines", "countersign", "5", "--yes")
	require.Zero(t, code, told)
	code, told = f.as("ana", "post", "5", "--yes", "--workers", "3")
	require.Zero(t, code, told)
	code, told = f.as("ana", "ledger", "check")
	require.Zero(t, code, told)
	_, told = f.as("ana", "show", "5")
	assert.Contains(t, told, "What became of it is signed by ana.")
}

// A signature counts for the draft that was signed, and for no other, however it is put there.
func TestSignatureIsOfOneDraft(t *testing.T) {
	f := workspace(t, practice(t), ", countersign: always")
	keys := ""
	for _, name := range []string{"ana", "ines"} {
		t.Setenv("XDG_CONFIG_HOME", filepath.Join(f.dir, name))
		code, out, errOut := f.run("identity", "--json")
		require.Zero(t, code, errOut)
		var told struct{ Signs string }
		require.NoError(t, json.Unmarshal([]byte(out), &told))
		keys += fmt.Sprintf("  %s: {signs: %q}\n", name, told.Signs)
	}
	f.write("evenledger.yaml", "people:\n"+keys+f.read("evenledger.yaml"))
	f.write("crew.csv", "Login,Last\nkai,Mori\n")
	f.write("briefs/plain.yaml", "system: crewdesk\nmatch: [userName]\nfields: {userName: {from: Login}, familyName: {from: Last}}\n")
	as := func(name string) { t.Setenv("XDG_CONFIG_HOME", filepath.Join(f.dir, name)) }
	as("ana")
	for range 2 {
		code, _, errOut := f.run("draft", "crew.csv", "-b", "plain")
		require.Zero(t, code, errOut)
	}
	as("ines")
	code, _, errOut := f.run("countersign", "1", "--yes")
	require.Zero(t, code, errOut)

	l, err := sqlite.Open(t.Context(), filepath.Join(f.dir, "ledger.db"))
	require.NoError(t, err)
	signed, err := l.History(1).Signatures(t.Context())
	require.NoError(t, err)
	require.Len(t, signed, 2, "by who drafted it, and by the second person")
	second, err := l.Batch(t.Context(), 2)
	require.NoError(t, err)
	moved := signed[1]
	mine, err := l.History(2).Signatures(t.Context())
	require.NoError(t, err)
	require.Len(t, mine, 1)
	for _, c := range []struct {
		forge func()
		why   string
	}{
		{func() {}, "ines signed another draft of it"},
		{func() { moved.Of = second.Seal }, "the signature of ines is not one of this batch"},
		{func() { moved.Person = "ana" }, "ana signed it with another key than stands in evenledger.yaml"},
		{func() { moved.Person = "nobody" }, "nobody signed it, and does not stand in evenledger.yaml"},
		{func() { moved = mine[0]; moved.As = store.Second }, "ana drafted it, and cannot sign it"},
		{func() { moved.As, moved.Person = store.Drafter, "ines" }, "a second person has to sign it first"},
	} {
		c.forge()
		require.NoError(t, l.History(2).Sign(t.Context(), moved))
		code, _, errOut := f.run("post", "2", "--yes")
		assert.Equal(t, 4, code)
		assert.Contains(t, errOut, c.why)
	}
	require.NoError(t, l.Close())
	code, _, errOut = f.run("countersign", "2", "--yes")
	require.Zero(t, code, errOut)
	as("ana")
	code, _, errOut = f.run("post", "2", "--yes")
	require.Zero(t, code, errOut)
	code, _, errOut = f.run("post", "1", "--yes")
	assert.Equal(t, 1, code, "it was made since the draft: %s", errOut)
}

// Helpers of a post that cannot begin are not waited for, and those of one that is stopped stop too.
func TestHelpersEndWithThePost(t *testing.T) {
	t.Parallel()
	f, w, _ := stormy(t, 900)
	code, _, errOut := f.run("draft", "crew.csv", "-b", "storm")
	require.Zero(t, code, errOut)
	turned := f.command("post", "1", "--yes", "--workers", "3")
	turned.Env = append(turned.Env, "TEST_TOKEN=wrong")
	begun := time.Now()
	out, err := turned.CombinedOutput()
	require.Error(t, err)
	assert.Equal(t, 3, turned.ProcessState.ExitCode(), string(out))
	assert.Less(t, time.Since(begun), atOnce)

	post := f.command("post", "1", "--yes", "--workers", "3", "--json")
	var told bytes.Buffer
	post.Stdout = &told
	require.NoError(t, post.Start())
	testserver.Soon(t, func() bool { return w.count() > 30 })
	require.NoError(t, post.Process.Signal(os.Interrupt))
	_ = post.Wait()
	assert.Equal(t, 130, post.ProcessState.ExitCode())
	var shown struct{ State string }
	require.NoError(t, json.Unmarshal(told.Bytes(), &shown))
	assert.Equal(t, "stopped", shown.State, "the last of them has left")

	// One that is gone is told.
	again := f.command("post", "1", "--yes", "--workers", "2")
	var says bytes.Buffer
	again.Stderr = &says
	require.NoError(t, again.Start())
	testserver.Soon(t, func() bool {
		children, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", again.Process.Pid))
		for _, of := range children {
			text, _ := os.ReadFile(of)
			for _, id := range strings.Fields(string(text)) {
				// Not one that is no helper, or none yet: a child that only sees whether children can be watched looks like one for a moment.
				called, _ := os.ReadFile("/proc/" + id + "/cmdline")
				if id, err := strconv.Atoi(id); err == nil && bytes.Contains(called, []byte("\x00work\x00")) && syscall.Kill(id, syscall.SIGKILL) == nil {
					return true
				}
			}
		}
		return false
	})
	_ = again.Wait()
	assert.Contains(t, says.String(), "1 process that was to help ended early, and the others did the rest: signal: killed")
	f.calm(w, 900)
}
