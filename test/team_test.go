package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/store/sqlite"
)

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
	signed, err := l.Signatures(t.Context(), 1)
	require.NoError(t, err)
	require.Len(t, signed, 1)
	second, err := l.Batch(t.Context(), 2)
	require.NoError(t, err)
	moved := signed[0]
	for _, c := range []struct {
		forge func()
		why   string
	}{
		{func() {}, "ines signed another draft of it"},
		{func() { moved.Seal = second.Seal }, "the signature of ines is not one of this batch"},
		{func() { moved.Person = "ana" }, "ana signed it with another key than stands in evenledger.yaml"},
		{func() { moved.Person = "nobody" }, "nobody signed it, and does not stand in evenledger.yaml"},
	} {
		c.forge()
		require.NoError(t, l.Sign(t.Context(), 2, moved))
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
	f, w, _ := stormy(t, 900)
	code, _, errOut := f.run("draft", "crew.csv", "-b", "storm")
	require.Zero(t, code, errOut)
	turned := f.command("post", "1", "--yes", "--workers", "3")
	turned.Env = append(turned.Env, "TEST_TOKEN=wrong")
	begun := time.Now()
	out, err := turned.CombinedOutput()
	require.Error(t, err)
	assert.Equal(t, 3, turned.ProcessState.ExitCode(), string(out))
	assert.Less(t, time.Since(begun), 10*time.Second)

	post := f.command("post", "1", "--yes", "--workers", "3", "--json")
	var told bytes.Buffer
	post.Stdout = &told
	require.NoError(t, post.Start())
	require.Eventually(t, func() bool { return w.count() > 30 }, time.Minute, 10*time.Millisecond)
	require.NoError(t, post.Process.Signal(os.Interrupt))
	_ = post.Wait()
	assert.Equal(t, 130, post.ProcessState.ExitCode())
	var shown struct{ State string }
	require.NoError(t, json.Unmarshal(told.Bytes(), &shown))
	assert.Equal(t, "stopped", shown.State, "the last of them has left")
	f.calm(w, 900)
}
