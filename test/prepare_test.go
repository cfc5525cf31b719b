package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// From a sheet that nobody explained to accounts, whatever it was saved as: the
// first brief that is written serves as it is, and the second time there is
// nothing to do.
func TestFirstBriefToAccounts(t *testing.T) {
	for _, format := range []string{"csv", "xlsx", "tsv", "jsonl"} {
		t.Run(format, func(t *testing.T) {
			t.Parallel()
			url := practice(t)
			f := workspace(t, url, "")
			var text strings.Builder
			if format == "jsonl" {
				for i := range 12 {
					fmt.Fprintf(&text, `{"Personnel number":"%05d","First name":"Zoë","Surname":"Ångström %d","Country":"Portugal","Start":"%d/3/2027"}`+"\n", i+1, i%3, 10+i)
				}
				f.write("crew.jsonl", text.String())
			} else {
				text.WriteString("Personnel number,First name,Surname,Country,Start\n")
				for i := range 12 {
					fmt.Fprintf(&text, "%05d,Zoë,Ångström %d,Portugal,%d/3/2027\n", i+1, i%3, 10+i)
				}
				f.write("plain.csv", text.String())
				code, _, errOut := f.run("check", "plain.csv", "--offline", "-o", "crew."+format)
				require.Zero(t, code, errOut)
			}
			sheet := "crew." + format
			code, out, errOut := f.run("brief", "new", sheet, "--name", "guessed")
			require.Zero(t, code, out+errOut)
			written, err := os.ReadFile(filepath.Join(f.dir, "briefs", "guessed.yaml"))
			require.NoError(t, err)
			assert.Contains(t, string(written), "match: [employeeNumber, userName]")
			assert.Contains(t, string(written), "dates: day-first")
			code, _, errOut = f.run("draft", sheet, "-b", "guessed")
			require.Zero(t, code, errOut)
			code, _, errOut = f.run("post", "1", "--yes")
			require.Zero(t, code, errOut)
			assert.Equal(t, 12, f.batch(1).Outcomes["created"])
			code, _, errOut = f.run("draft", sheet, "-b", "guessed")
			require.Zero(t, code, errOut)
			assert.Equal(t, 12, f.batch(2).Outcomes["unchanged"])
			for number, u := range users(t, url) {
				assert.Len(t, number, 5, "zeros in front stay")
				assert.Contains(t, u["userName"], "zoe.angstrom")
			}
		})
	}
}

// Working files and half-written ones are gone, whatever happened.
func TestNothingIsLeftLying(t *testing.T) {
	f := folder{t, t.TempDir()}
	var text strings.Builder
	text.WriteString("Login,First name,Email\n")
	for i := range 60000 {
		fmt.Fprintf(&text, "user%d,Ana,user%d@x\n", i, i)
	}
	f.write("large.csv", text.String())
	code, _, errOut := f.run("check", "large.csv", "--offline", "-o", "marked.xlsx", "--first", "500")
	assert.Equal(t, 1, code, errOut)
	ctx, cancel := context.WithTimeout(t.Context(), 400*time.Millisecond)
	defer cancel()
	cmd := f.command("check", "large.csv", "--offline", "-o", "other.xlsx")
	require.NoError(t, cmd.Start())
	go func() {
		<-ctx.Done()
		_ = cmd.Process.Signal(os.Interrupt)
	}()
	_ = cmd.Wait() // it may have been done in time
	entries, err := os.ReadDir(f.dir)
	require.NoError(t, err)
	for _, entry := range entries {
		assert.Contains(t, []string{"large.csv", "marked.xlsx", "other.xlsx"}, entry.Name())
		info, err := entry.Info()
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), entry.Name())
	}
}

// A sheet with passwords is looked at without any of them being shown.
func TestPasswordsAreNotShown(t *testing.T) {
	f := workspace(t, practice(t), "")
	f.write("secrets.csv", "Login,Passwort,Note,Surname\nana,Hun+er2!x,Zq8$zzzz,Reyes\ntom,Hun+er3!x,plain,Kaya\n")
	for _, args := range [][]string{
		{"peek", "secrets.csv"}, {"peek", "secrets.csv", "--json"}, {"peek", "secrets.csv", "--rows", "2-3"}, {"peek", "secrets.csv", "--rows", "2", "--json"},
		{"brief", "new", "secrets.csv", "-o", "-"}, {"check", "secrets.csv"}, {"check", "secrets.csv", "--json"},
	} {
		code, out, errOut := f.run(args...)
		assert.Zero(t, code, errOut)
		for _, secret := range []string{"Hun+er", "Zq8$"} {
			assert.NotContains(t, out+errOut, secret, "%v", args)
		}
		assert.Contains(t, out, "Passwort")
	}
}
