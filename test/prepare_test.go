package test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// From a sheet that nobody explained to accounts, whatever it was saved as: the
// first brief that is written serves as it is, and the second time there is
// nothing to do.
func TestFirstBriefToAccounts(t *testing.T) {
	t.Parallel()
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
			assert.Contains(t, string(written), "match: [employeeNumber]\n")
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
	t.Parallel()
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
	t.Parallel()
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
	// Weak ones, under headings of many languages.
	for _, heading := range []string{"Пароль", "パスワード", "初始密码", "Initial pwd", "Şifre", "Access code", "Temporary passord", "pw", "Pass", "login pw"} {
		f.write("secrets.csv", "Login,"+heading+",Surname\nana,sommer,Reyes\ntom,winter,Kaya\n")
		for _, args := range [][]string{{"peek", "secrets.csv"}, {"draft", "secrets.csv", "--json"}, {"show", "last", "--json"}} {
			code, out, errOut := f.run(args...)
			assert.Zero(t, code, errOut)
			assert.NotContains(t, out+errOut, "sommer", "%s %v", heading, args)
		}
	}
	// No word at the head of the column, but cells that are none of anything else.
	f.write("secrets.csv", "Login,code,Base\nana.reyes,kR7t-Wq2x,Quay\ntom.kaya,mV9p-Lz4c,Quay\nzoe.lund,bN3s-Xd8f,Pier\nmei.lin,hG6w-Tk1y,Pier\nkai.tove,qJ5r-Yb7m,Quay\n")
	f.write("briefs/plain.yaml", "system: crewdesk\nmatch: [userName]\nfields: {userName: {from: Login}}\n")
	for _, args := range [][]string{{"peek", "secrets.csv", "--json"}, {"brief", "new", "secrets.csv", "-o", "-"}, {"draft", "secrets.csv", "-b", "plain", "--json"}, {"show", "last", "--row", "2,3", "--json"}, {"report", "last", "-o", "told.csv"}} {
		_, out, errOut := f.run(args...)
		for _, secret := range []string{"kR7t", "mV9p", "hG6w"} {
			assert.NotContains(t, out+errOut, secret, "%v", args)
		}
	}
	assert.NotContains(t, f.read("told.csv"), "kR7t")
	stored, err := os.ReadFile(filepath.Join(f.dir, "ledger.db"))
	require.NoError(t, err)
	assert.NotContains(t, string(stored), "sommer")
	assert.NotContains(t, string(stored), "kR7t")
	assert.NotContains(t, string(stored), "bN3s")
}

// edit opens a workbook as a spreadsheet program does and sets cells in it.
func edit(t *testing.T, path, tab string, cells map[string]string) {
	book, err := excelize.OpenFile(path)
	require.NoError(t, err)
	for at, text := range cells {
		require.NoError(t, book.SetCellStr(tab, at, text))
	}
	require.NoError(t, book.Save())
	require.NoError(t, book.Close())
}

// Workbooks go out, are filled in or corrected in a spreadsheet program, and come
// back: a blank with no brief, a marked sheet and a fix sheet with the same one.
func TestWorkbooksThereAndBack(t *testing.T) {
	t.Parallel()
	url := practice(t)
	f := workspace(t, url, ", aliases: {watch: \"urn:example:params:scim:schemas:extension:crew:2.0:User:watch\"}")
	code, _, errOut := f.run("blank", "-o", "blank.xlsx", "--fields", "employeeNumber,userName,givenName,active,watch")
	require.Zero(t, code, errOut)
	path := filepath.Join(f.dir, "blank.xlsx")
	book, err := excelize.OpenFile(path)
	require.NoError(t, err)
	validations, err := book.GetDataValidations("People")
	require.NoError(t, err)
	lists := map[string]string{}
	for _, v := range validations {
		lists[v.Sqref] = v.Type + " " + v.Formula1
	}
	assert.Equal(t, map[string]string{"B2:B2001": `custom ISERROR(FIND(" ",B2))`, "D2:D2001": "list Lists!$A$1:$A$2", "E2:E2001": "list Lists!$B$1:$B$3"}, lists)
	value, err := book.GetCellValue("Lists", "B3")
	require.NoError(t, err)
	assert.Equal(t, "Relief", value)
	notes, err := book.GetComments("People")
	require.NoError(t, err)
	assert.Len(t, notes, 5)
	require.NoError(t, book.Close())

	edit(t, path, "People", map[string]string{"A2": "00417", "B2": "nia.okoro", "C2": "Nia", "D2": "yes", "E2": "Night", "A3": "00418", "B3": "leo b", "D3": "no", "A5": "00419", "B5": "mei.lin", "E5": "Noon"})
	code, out, errOut := f.run("draft", "blank.xlsx", "--json")
	require.Equal(t, 1, code, errOut)
	assert.Contains(t, out, `"row":3,`)
	assert.Contains(t, out, "not-sign-in-name")
	assert.Contains(t, out, "not-allowed-value")
	code, _, errOut = f.run("post", "1", "--yes")
	require.Equal(t, 1, code, errOut)
	assert.Equal(t, "nia.okoro", users(t, url)["00417"]["userName"])

	code, _, errOut = f.run("fixes", "1", "-o", "again.xlsx")
	require.Zero(t, code, errOut)
	book, err = excelize.OpenFile(filepath.Join(f.dir, "again.xlsx"))
	require.NoError(t, err)
	rows, err := book.GetRows("Sheet")
	require.NoError(t, err)
	require.Len(t, rows, 3)
	assert.Equal(t, []string{"00418", "leo b", "", "no", "", "3"}, rows[1][:6])
	assert.Contains(t, rows[1][6], "leo b")
	comments, err := book.GetComments("Sheet")
	require.NoError(t, err)
	at := map[string]bool{}
	for _, c := range comments {
		at[c.Cell] = true
	}
	assert.Equal(t, map[string]bool{"B2": true, "E3": true}, at, "the cells at fault have a note")
	require.NoError(t, book.Close())
	edit(t, filepath.Join(f.dir, "again.xlsx"), "Sheet", map[string]string{"B2": "leo.b", "E3": "day"})
	code, _, errOut = f.run("draft", "again.xlsx")
	require.Zero(t, code, errOut)
	code, _, errOut = f.run("post", "2", "--yes")
	require.Zero(t, code, errOut)
	all := users(t, url)
	assert.Equal(t, "leo.b", all["00418"]["userName"])
	assert.Equal(t, false, all["00418"]["active"])
	assert.Len(t, all, 3)

	// The whole sheet marked, one row corrected in it.
	f.write("crew.csv", "No,First,Last,Position\n1,Ana,Reyes,Pilot\n,Tom,Kaya,Bosun\n3,Zoë,Ångström,Cook\n")
	f.write("briefs/crew.yaml", strings.Replace(crewBrief, "{from: No}", "{from: No, required: true}", 1))
	code, _, errOut = f.run("check", "crew.csv", "-b", "crew", "-o", "marked.xlsx")
	require.Equal(t, 1, code, errOut)
	edit(t, filepath.Join(f.dir, "marked.xlsx"), "Sheet", map[string]string{"A3": "2"})
	code, out, errOut = f.run("draft", "marked.xlsx", "-b", "crew")
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "To create           3")
}

// Groups are found by words of their names or by their ids, and names that two of
// them have are told.
func TestLookupOfGroups(t *testing.T) {
	t.Parallel()
	url := practice(t, "--page", "2")
	f := workspace(t, url, "")
	var ids []string
	for _, name := range []string{"Deck crew", "Engine crew", "Deck crew", "Ticket offices", "Équipage pont"} {
		req, err := http.NewRequest(http.MethodPost, url+"/Groups", strings.NewReader(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"displayName":"`+name+`"}`))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/scim+json")
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.Equal(t, http.StatusCreated, resp.StatusCode)
		ids = append(ids, resp.Header.Get("Location")[strings.LastIndexByte(resp.Header.Get("Location"), '/')+1:])
		require.NoError(t, resp.Body.Close())
	}
	for words, want := range map[string]struct {
		lines int
		says  string
	}{
		"":                {5, "5 of 5 groups in crewdesk"},
		"crew":            {3, "3 of 5 groups"},
		"CREW engine":     {1, "1 of 5 groups"},
		"equipage":        {1, "Équipage pont"},
		"deck":            {2, "another has this name: use the id"},
		ids[3]:            {1, "Ticket offices"},
		"nothing of this": {0, "0 of 5 groups"},
	} {
		code, out, errOut := f.run(append([]string{"lookup", "crewdesk", "groups"}, strings.Fields(words)...)...)
		require.Zero(t, code, errOut)
		assert.Contains(t, out, want.says, words)
		lines := 0
		for _, id := range ids {
			lines += strings.Count(out, "  "+id+" ")
		}
		assert.Equal(t, want.lines, lines, words)
	}
}
