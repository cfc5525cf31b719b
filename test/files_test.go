package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/testserver"
)

// deskbook has a folder be a workspace of the practice application for files, with the layout and brief of the
// demonstration.
func (f folder) deskbook(config string) {
	for from, to := range map[string]string{"layout.yaml": "layouts/deskbook.yaml", "watch.yaml": "briefs/watch.yaml", "watch.csv": "watch.csv"} {
		data, err := os.ReadFile("../internal/demo/files/desk/" + from)
		require.NoError(f.t, err)
		f.write(to, strings.NewReplacer("{+14}", "14/12/2026", "{+21}", "21/12/2026", "{-300}", "01/02/2024").Replace(string(data)))
	}
	f.write("evenledger.yaml", "systems:\n  deskbook: {kind: files, layout: layouts/deskbook.yaml, accounts: exports/people.csv"+config+"}\n")
}

// startDesk starts the practice application for files and returns its address.
func startDesk(t *testing.T, flags ...string) string {
	cmd := exec.Command(program, append([]string{"standin", "--files", "--sample", "--port", "0", "--json"}, flags...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _, _ = cmd.Process.Kill(), cmd.Wait() })
	var told struct{ URL string }
	require.NoError(t, json.NewDecoder(bufio.NewReader(out)).Decode(&told))
	return told.URL
}

// save saves what an address gives as a file.
func (f folder) save(url, path string) {
	resp, err := http.Get(url)
	require.NoError(f.t, err)
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	require.NoError(f.t, err)
	require.Equal(f.t, http.StatusOK, resp.StatusCode)
	f.write(path, string(data))
}

// From the draft to the last settled row by the application's own page, in a browser.
func TestFilesInBrowser(t *testing.T) {
	t.Parallel()
	b := startBrowser(t)
	url := startDesk(t)
	f := folder{t, t.TempDir()}
	f.deskbook("")
	f.save(url+"export.csv", "exports/people.csv")
	code, _, errOut := f.run("draft", "watch.csv", "-b", "watch")
	require.Equal(t, 1, code, errOut)
	code, _, errOut = f.run("post", "1", "--yes")
	require.Equal(t, 1, code, errOut)

	// The batch's own page knows the outcome, too.
	code, _, errOut = f.run("report", "1", "-o", "page.html")
	require.Zero(t, code, errOut)
	b.send(http.MethodPost, "/url", map[string]any{"url": "file://" + filepath.Join(f.dir, "page.html")})
	b.send(http.MethodPost, b.element("button[data-outcome=handed-over]")+"/click", map[string]any{})
	assert.Equal(t, 5.0, b.js("return [...document.querySelectorAll('#rows tr')].filter(r => !r.hidden).length"))
	assert.NotEqual(t, b.js("return getComputedStyle(document.querySelector('.o-refused')).color"), b.js("return getComputedStyle(document.querySelector('.o-handed-over')).color"))

	give := func(ticks, button string) string {
		b.send(http.MethodPost, "/url", map[string]any{"url": url})
		b.send(http.MethodPost, b.element("input[type=file]")+"/value", map[string]any{"text": filepath.Join(f.dir, "outbox", "people-1-1.csv")})
		if ticks != "" {
			b.send(http.MethodPost, b.element("input[name="+ticks+"]")+"/click", map[string]any{})
		}
		b.js("window.before = true")
		b.send(http.MethodPost, b.element(button)+"/click", map[string]any{})
		testserver.Soon(t, func() bool { // a click does not wait for the page that it leads to
			return b.js("return !window.before && document.readyState == 'complete' && !!document.querySelector('.said')") == true
		})
		return b.js("return document.querySelector('.said').innerText + '|' + document.querySelectorAll('main > table tr').length").(string)
	}
	assert.Contains(t, give("", "button[name=preview]"), "4 would be taken", "it only says")
	assert.Contains(t, give("", "button[name=preview]"), "|5", "four people, as before")
	assert.Contains(t, give("whole", "button.go"), "With one bad line none is.")
	f.save(url+"export.csv", "exports/people.csv")
	code, out, _ := f.run("settle", "1")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "Handed over         5", "the export shows none of it")
	assert.Contains(t, give("", "button.go"), "5 lines: 4 taken, 1 not.")

	f.save(url+"export.csv", "exports/people.csv")
	f.save(url+"not-taken.csv", "not-taken.csv")
	code, out, errOut = f.run("settle", "1", "--results", "not-taken.csv")
	require.Equal(t, 1, code, errOut)
	assert.Contains(t, out, "Nobody is in the teams deck and engine at once (people-1-1.csv, line 6)")
	assert.Equal(t, "posted", f.batch(1).State)
	b.send(http.MethodPost, "/url", map[string]any{"url": url})
	for login, want := range map[string]string{"ana.reyes": "Night|deck, pilots|Marine radio (teacher), Night pilotage (learner)|", "tom.ivers": "Day|engine||yes", "zoe.angstrom": "Day|deck|Marine radio (learner)|", "ines.bastos": "Day|tickets||", "oguz.sahin": ""} {
		row := b.js(fmt.Sprintf("const r = [...document.querySelectorAll('main > table tr')].find(r => r.cells[0].innerText == %q); return r ? [...r.cells].slice(3).map(c => c.innerText).join('|') : ''", login))
		assert.Equal(t, want, row, login)
	}
	code, out, errOut = f.run("reconcile", "watch.csv", "-b", "watch")
	assert.Equal(t, 1, code, errOut)
	assert.Contains(t, out, "Even                4")

	// Undone by a counter-file, in which nobody is erased whom the brief does not let be removed.
	code, _, errOut = f.run("reverse", "1")
	require.Zero(t, code, errOut)
	code, _, errOut = f.run("post", "2", "--yes")
	require.Zero(t, code, errOut)
	counter, err := os.ReadFile(filepath.Join(f.dir, "outbox", "people-2-1.csv"))
	require.NoError(t, err)
	for _, line := range []string{"Change;ana.reyes;Ana;Reyes;N;04/03/2025;Day;deck;Marine radio;T;;", "Change;tom.ivers;Tom;Ivers;N;", "Stop;zoe.angstrom;"} {
		assert.Contains(t, string(counter), "\n"+line)
	}
}

// Killed at any moment and gone on, no row is in two files or in none, and what was put is the same bytes.
func TestFilesKilled(t *testing.T) {
	t.Parallel()
	f := folder{t, t.TempDir()}
	f.deskbook("")
	layout, err := os.ReadFile(filepath.Join(f.dir, "layouts", "deskbook.yaml"))
	require.NoError(t, err)
	f.write("layouts/deskbook.yaml", strings.Replace(string(layout), "rows: 500", "rows: 400", 1))
	f.write("exports/people.csv", "Sign-in name;First name;Surname;Blocked;Start;Watch;Team;Training 1;As 1;Training 2;As 2\n")
	const people = 3000
	var sheet strings.Builder
	sheet.WriteString("Login,First name,Surname,Watch\n")
	name := func(i int) string {
		return "p" + string(rune('a'+i/676)) + string(rune('a'+i/26%26)) + string(rune('a'+i%26))
	}
	for i := range people {
		fmt.Fprintf(&sheet, "%s,First,Last,Day\n", name(i))
	}
	f.write("many.csv", sheet.String())
	f.write("briefs/many.yaml", "brief: Many\nsystem: deskbook\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  givenName: {from: First name}\n  familyName: {from: Surname}\n  watch: {from: Watch}\n")
	files := func() map[string]string {
		all := map[string]string{}
		found, err := filepath.Glob(filepath.Join(f.dir, "outbox", "people-*.csv"))
		require.NoError(t, err)
		for _, path := range found {
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			all[filepath.Base(path)] = string(data)
		}
		return all
	}
	kills := 0
	for id := 1; id <= 3; id++ {
		code, out, errOut := f.run("draft", "many.csv", "-b", "many")
		require.Zero(t, code, out+errOut)
		put := map[string]string{}
		for done := false; !done; {
			cmd := exec.Command(program, "post", fmt.Sprint(id), "--yes")
			cmd.Dir = f.dir
			require.NoError(t, cmd.Start())
			killer := time.AfterFunc(time.Duration(30+rand.IntN(60)+5*kills)*time.Millisecond, func() { _ = cmd.Process.Kill() })
			done = cmd.Wait() == nil
			if killer.Stop(); !done {
				kills++
			}
			for name, text := range files() {
				if was, has := put[name]; has {
					require.Equal(t, was, text, "what was put stays as it is")
				}
				put[name] = text
			}
		}
		all := ""
		for _, text := range files() {
			all += text
		}
		for i := range people {
			require.Equal(t, 1, strings.Count(all, ";"+name(i)+";"), name(i))
		}
		code, out, errOut = f.run("outbox", fmt.Sprint(id), "--json")
		require.Zero(t, code, errOut)
		assert.Equal(t, 8, strings.Count(out, `"sha256"`))
		code, _, errOut = f.run("ledger", "check")
		require.Zero(t, code, errOut)
		// Given up, so that the next batch may name the same people.
		rows := "2"
		for i := 3; i <= people+1; i++ {
			rows += fmt.Sprintf(",%d", i)
		}
		code, _, errOut = f.run("post", fmt.Sprint(id), "--give-up", "--row", rows, "--yes")
		require.Equal(t, 1, code, errOut)
		require.NoError(t, os.RemoveAll(filepath.Join(f.dir, "outbox")))
	}
	t.Logf("%d kills", kills)
	assert.Positive(t, kills)
}

// The files go to a file server, and the export comes from a feed.
func TestFilesOfAServer(t *testing.T) {
	t.Parallel()
	server, who := testserver.SSH(t)
	url := startDesk(t)
	f := folder{t, t.TempDir()}
	incoming := filepath.Join(server.Dir, "incoming")
	require.NoError(t, os.MkdirAll(incoming, 0o755))
	f.deskbook("")
	config := func(more string) {
		f.write("evenledger.yaml", fmt.Sprintf("systems:\n  deskbook: {kind: files, layout: layouts/deskbook.yaml, accounts: feed:exports, outbox: %q, key: 'file:%s', known_hosts: %q}\nfeeds:\n  exports: {kind: folder, path: exports/*.csv}\n",
			fmt.Sprintf("sftp://%s@127.0.0.1:%d%s", who, server.Port, incoming), filepath.Join(server.Dir, "key"), filepath.Join(server.Dir, "known_hosts")+more))
	}
	config("")
	f.save(url+"export.csv", "exports/people.csv")
	code, out, errOut := f.run("draft", "watch.csv", "-b", "watch")
	require.Equal(t, 1, code, errOut)
	assert.Contains(t, out, "in the export feed:exports")
	require.NoError(t, os.WriteFile(filepath.Join(incoming, "people-1-1.csv"), []byte("a stranger's"), 0o600))
	code, _, errOut = f.run("post", "1", "--yes")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "it is another")
	require.NoError(t, os.Remove(filepath.Join(incoming, "people-1-1.csv")))
	code, out, errOut = f.run("post", "1", "--yes")
	require.Equal(t, 1, code, errOut)
	assert.Contains(t, out, "sftp://")
	found, err := os.ReadDir(incoming)
	require.NoError(t, err)
	require.Len(t, found, 1, "and no working file is left")
	data, err := os.ReadFile(filepath.Join(incoming, "people-1-1.csv"))
	require.NoError(t, err)
	assert.Equal(t, 7, strings.Count(string(data), "\r\n"))
	left, err := filepath.Glob(filepath.Join(f.dir, ".evenledger-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// layout changes the layout of the workspace.
func (f folder) layout(old, now string) {
	text := f.read("layouts/deskbook.yaml")
	require.Contains(f.t, text, old)
	f.write("layouts/deskbook.yaml", strings.Replace(text, old, now, 1))
}

const exported = "Sign-in name;First name;Surname;Blocked;Start;Watch;Team;Training 1;As 1;Training 2;As 2\n"

// Passwords lie sealed until somebody opens the file, and nowhere once it is known what became of it.
func TestFilesWithPasswords(t *testing.T) {
	t.Setenv("HANDOUT", "gulls over the quay 1912")
	f := folder{t, t.TempDir()}
	f.deskbook("")
	f.write("exports/people.csv", exported)
	f.write("new.csv", "Login,First name,Surname\nkai.mo,Kai,Mo\nbo.lin,Bo,Lin\n")
	f.write("briefs/new.yaml", "brief: New\nsystem: deskbook\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  givenName: {from: First name}\n  familyName: {from: Surname}\npassword: {new: generate, length: 14}\n")
	code, _, errOut := f.run("draft", "new.csv", "-b", "new")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "have no column for them")

	f.layout("blank: clears", "  - {heading: Password, password: true}\nblank: clears")
	code, out, errOut := f.run("draft", "new.csv", "-b", "new")
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "Passwords: 2 made")
	code, out, errOut = f.run("post", "1", "--yes")
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "They hold passwords and lie sealed")
	list := func() (names []string) {
		found, err := os.ReadDir(filepath.Join(f.dir, "outbox"))
		require.NoError(t, err)
		for _, file := range found {
			names = append(names, file.Name())
		}
		return names
	}
	require.Equal(t, []string{"people-1-1.csv.age"}, list(), "and nothing in clear beside it")
	assert.NotContains(t, f.read("outbox/people-1-1.csv.age"), "kai.mo")

	code, _, errOut = f.run("outbox", "1", "--open")
	require.Zero(t, code, errOut)
	stat, err := os.Stat(filepath.Join(f.dir, "outbox", "people-1-1.csv"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), stat.Mode().Perm())
	var passwords []string
	for _, line := range strings.Split(strings.TrimSpace(f.read("outbox/people-1-1.csv")), "\r\n")[2:] {
		cells := strings.Split(line, ";")
		passwords = append(passwords, cells[len(cells)-1])
		assert.Len(t, cells[len(cells)-1], 14)
	}
	require.Len(t, passwords, 2)

	f.write("exports/people.csv", exported+"kai.mo;Kai;Mo;N;;;;;;;\nbo.lin;Bo;Lin;N;;;;;;;\n")
	code, out, errOut = f.run("settle", "1", "--credentials", "new.age", "--passphrase", "env:HANDOUT")
	require.Zero(t, code, out+errOut)
	assert.Contains(t, errOut, "2 files with passwords shredded")
	assert.Contains(t, errOut, "2 generated passwords. They are kept nowhere else.")
	assert.Empty(t, list())
	keys, err := os.ReadDir(filepath.Join(f.dir, "ledger.db.keys"))
	require.NoError(t, err)
	assert.Empty(t, keys, "what is sealed in a copy opens for nobody any more")
	for _, name := range []string{"ledger.db", "ledger.db-wal"} {
		data, _ := os.ReadFile(filepath.Join(f.dir, name))
		for _, password := range passwords {
			assert.NotContains(t, string(data)+out+errOut, password)
		}
	}

	// A run that settles shreds as well, and what the batch was made of counts as taken then.
	f.write("evenledger.yaml", f.read("evenledger.yaml")+"feeds:\n  hr: {kind: folder, path: incoming/*.csv, done: incoming/done}\n")
	f.write("briefs/new.yaml", strings.Replace(f.read("briefs/new.yaml"), "system: deskbook\n", "system: deskbook\nsheet: {feed: hr}\n", 1))
	f.write("incoming/ida.csv", "Login,First name,Surname\nida.berg,Ida,Berg\n")
	past := time.Now().Add(-time.Minute)
	require.NoError(t, os.Chtimes(filepath.Join(f.dir, "incoming", "ida.csv"), past, past))
	code, out, errOut = f.run("run", "new", "--credentials", "run-{batch}.age", "--passphrase", "env:HANDOUT")
	require.Zero(t, code, out+errOut)
	require.Equal(t, []string{"people-2-1.csv.age"}, list())
	assert.FileExists(t, filepath.Join(f.dir, "incoming", "ida.csv"))
	f.write("exports/people.csv", exported+"kai.mo;Kai;Mo;N;;;;;;;\nbo.lin;Bo;Lin;N;;;;;;;\nida.berg;Ida;Berg;N;;;;;;;\n")
	code, out, errOut = f.run("run", "new", "--credentials", "run-{batch}.age", "--passphrase", "env:HANDOUT")
	require.Zero(t, code, out+errOut)
	assert.Contains(t, errOut, "files with passwords shredded: 1")
	assert.Empty(t, list())
	assert.FileExists(t, filepath.Join(f.dir, "run-2.age"))
	assert.NoFileExists(t, filepath.Join(f.dir, "incoming", "ida.csv"))
}

// A run settles first what a newer export shows, and says what waits for somebody. Of a file of which one bad row is enough
// none is taken, and each action has a file of its own.
func TestFilesOfARun(t *testing.T) {
	t.Parallel()
	f := folder{t, t.TempDir()}
	f.deskbook("")
	f.write("evenledger.yaml", f.read("evenledger.yaml")+"feeds:\n  hr: {kind: folder, path: incoming/*.csv}\n")
	f.layout("blank: clears", "blank: clears\neach: action\nall_or_nothing: true")
	f.layout(`, name: "people-{batch}-{part}.csv"`, "")
	f.write("exports/people.csv", exported+"tom.ivers;Tom;Ivers;N;;Day;engine;;;;\nolga.kos;Olga;Kos;N;;Day;;;;;\n")
	f.write("briefs/week.yaml", "brief: Week\nsystem: deskbook\nsheet: {feed: hr}\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  givenName: {from: First name}\n  familyName: {from: Surname}\n  watch: {from: Watch}\n  active: {from: Aboard}\n")
	f.write("incoming/week-1.csv", "Login,First name,Surname,Watch,Aboard\nkai.mo,Kai,Mo,Day,yes\nbo.lin,Bo,Lin,Night,yes\ntom.ivers,Tom,Ivers,Day,no\nolga.kos,Olga,Kos,Night,yes\n")
	past := time.Now().Add(-time.Minute)
	require.NoError(t, os.Chtimes(filepath.Join(f.dir, "incoming", "week-1.csv"), past, past))
	code, out, errOut := f.run("run", "week")
	require.Zero(t, code, out+errOut)
	assert.Contains(t, out, "4 rows were handed over, and nobody knows yet what became of them")
	code, out, errOut = f.run("outbox", "1")
	require.Zero(t, code, errOut)
	for _, file := range []string{"1-1-create.csv +2 +2", "1-1-update.csv +1 +1", "1-1-suspend.csv +1 +1"} {
		assert.Regexp(t, "outbox/"+file, out)
	}
	assert.Less(t, strings.Index(out, "create.csv"), strings.Index(out, "update.csv"), "who is made may be named by the others")

	// The same people come again while nobody knows: they are left aside, even she of whom the old export says the same,
	// as what is on its way will change her.
	f.write("incoming/week-2.csv", "Login,First name,Surname,Watch,Aboard\nkai.mo,Kai,Mo,Day,yes\nolga.kos,Olga,Kos,Day,yes\n")
	require.NoError(t, os.Chtimes(filepath.Join(f.dir, "incoming", "week-2.csv"), past.Add(time.Second), past.Add(time.Second)))
	code, out, errOut = f.run("run", "week")
	require.Zero(t, code, out+errOut)
	assert.Contains(t, out, "Set aside           2")
	assert.Contains(t, errOut, "the files of batch 1 were handed over", "as no export is newer")

	// One row of the new ones was bad, and none of that file was taken.
	f.write("exports/people.csv", exported+"tom.ivers;Tom;Ivers;Y;;Day;engine;;;;\nolga.kos;Olga;Kos;N;;Night;;;;;\n")
	f.write("bad.csv", "Row,Login,Reason\n3,kai.mo,No such watch\n")
	code, out, errOut = f.run("settle", "1", "--results", "bad.csv", "--file", "1-1-create.csv")
	require.Equal(t, 1, code, errOut)
	for _, want := range []string{"Updated             1", "Suspended           1", "Failed              2", "the application took none of the rows of 1-1-create.csv, as it did not take 1 of them"} {
		assert.Contains(t, out, want)
	}
	code, _, errOut = f.run("settle", "1", "--results", "bad.csv", "--file", "people.csv")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "has no file people.csv")

	// Corrected and handed back in, it is settled by the next run.
	code, _, errOut = f.run("fixes", "1", "-o", "again.csv")
	require.Zero(t, code, errOut)
	code, _, errOut = f.run("draft", "again.csv", "-b", "week")
	require.Zero(t, code, errOut)
	code, _, errOut = f.run("post", "last", "--yes")
	require.Zero(t, code, errOut)
	f.write("exports/people.csv", exported+"tom.ivers;Tom;Ivers;Y;;Day;engine;;;;\nolga.kos;Olga;Kos;N;;Night;;;;;\nkai.mo;Kai;Mo;N;;Day;;;;;\nbo.lin;Bo;Lin;N;;Night;;;;;\n")
	now := time.Now() // the time that a file system gives may be a tick behind
	require.NoError(t, os.Chtimes(filepath.Join(f.dir, "exports", "people.csv"), now, now))
	code, out, errOut = f.run("run", "week")
	require.Zero(t, code, out+errOut)
	assert.Contains(t, out, "settled: batch 3: 2 rows, 2 created")
	code, _, errOut = f.run("ledger", "check")
	require.Zero(t, code, errOut)
}

// Where there is no export, the list of failures is all there is: what it does not name is done, and not read back.
func TestFilesWithoutAnExport(t *testing.T) {
	t.Parallel()
	f := folder{t, t.TempDir()}
	f.write("evenledger.yaml", "systems:\n  drop: {kind: files, layout: drop.yaml}\n")
	f.write("drop.yaml", "columns:\n  - {heading: Login, field: userName}\n  - {heading: Town, field: locality}\n  - {heading: Team, groups: true, split: \",\"}\nresults: {key: {Login: userName}, message: Why}\n")
	f.write("briefs/b.yaml", "system: drop\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  locality: {from: Town}\ngroups: {from: Team}\n")
	f.write("s.csv", "Login,Town,Team\nana,Faro,deck\nbo,Lagos,\n")
	code, out, errOut := f.run("draft", "s.csv", "-b", "b")
	require.Zero(t, code, out+errOut)
	assert.Contains(t, out, "looked up nowhere, as there is no export")
	code, _, errOut = f.run("post", "1", "--yes", "--workers", "2")
	require.Zero(t, code, errOut)
	assert.Equal(t, "Login,Town,Team\r\nana,Faro,deck\r\nbo,Lagos,\r\n", f.read("outbox/1-1.csv"), "once, whoever helps")
	code, _, errOut = f.run("settle", "1")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "there is no export of drop")
	code, _, errOut = f.run("reverse", "1")
	assert.NotZero(t, code)
	assert.Contains(t, errOut, "nobody knows yet what became of all")
	f.write("bad.csv", "Login,Why\nnobody,Unknown\n")
	code, _, errOut = f.run("settle", "1", "--results", "bad.csv")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "of nobody whom batch 1 handed over: row 2, nobody")
	f.write("bad.csv", "Login,Why\nbo,Unknown town\n")
	code, out, errOut = f.run("settle", "1", "--results", "bad.csv")
	require.Equal(t, 1, code, errOut)
	for _, want := range []string{"Created             1", "Failed              1", "the application did not take it: Unknown town (1-1.csv, line 3)"} {
		assert.Contains(t, out, want)
	}
}

// What would mislead is refused: an export of tomorrow, and two teams whose files would have one name.
func TestFilesNotBelieved(t *testing.T) {
	t.Parallel()
	f := folder{t, t.TempDir()}
	f.write("evenledger.yaml", "systems:\n  drop: {kind: files, layout: drop.yaml, accounts: people.csv}\n")
	f.write("drop.yaml", "each: locality\ncolumns:\n  - {heading: Login, field: userName}\n  - {heading: Town, field: locality}\n")
	f.write("briefs/b.yaml", "system: drop\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  locality: {from: Town}\n")
	f.write("s.csv", "Login,Town\nana,Faro/Lagos\nbo,Faro-Lagos\n")
	f.write("people.csv", "Login,Town\nkai,Faro\n")
	at := filepath.Join(f.dir, "people.csv")
	require.NoError(t, os.Chtimes(at, time.Now().Add(time.Hour), time.Now().Add(time.Hour)))
	code, _, errOut := f.run("draft", "s.csv", "-b", "b")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "which is yet to come")
	require.NoError(t, os.Chtimes(at, time.Now().Add(-time.Hour), time.Now().Add(-time.Hour)))
	require.Zero(t, first(f.run("draft", "s.csv", "-b", "b")))
	code, out, errOut := f.run("post", "last", "--yes")
	assert.Equal(t, 1, code, out+errOut)
	assert.Contains(t, out, "“Faro/Lagos” and “Faro-Lagos” would have files of one name, 1-1-Faro-Lagos.c")
	assert.Equal(t, "Login,Town\r\nana,Faro/Lagos\r\n", f.read("outbox/1-1-Faro-Lagos.csv"))
}
