package test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/demo"
	"evenledger/internal/standin/mooring"
	"evenledger/internal/testserver"
)

// moored serves the practice application with a web interface of its own, and returns a workspace for it.
func moored(t *testing.T, options mooring.Options, sign string, spoils bool) (*mooring.Server, folder) {
	options.Token = token
	server := mooring.New(options)
	require.NoError(t, demo.Moor(server))
	at := httptest.NewServer(server)
	if spoils {
		at.Config.Handler = spoiled(server)
	}
	t.Cleanup(at.Close)
	f := folder{t, t.TempDir()}
	f.write("evenledger.yaml", fmt.Sprintf("systems:\n  mooring: {kind: web, url: %q, description: systems/mooring.yaml, %s, settle: 2s, practice: true}\n", at.URL+"/api", strings.ReplaceAll(sign, "URL", at.URL)))
	all := blocks(t, "docs/web-systems.md", "yaml systems/mooring.yaml")
	f.write("systems/mooring.yaml", all[len(all)-1])
	f.write("briefs/crew.yaml", blocks(t, "docs/web-systems.md", "yaml briefs/crew.yaml")[0])
	return server, f
}

// spoiled is an application behind something that answers in its stead now and then: before a request is carried out, or after.
func spoiled(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		dice := rand.IntN(100)
		switch {
		case dice < 6:
			http.Error(w, `{"message":"not now"}`, http.StatusServiceUnavailable)
			return
		case dice < 10:
			w.Header().Set("Retry-After", "0")
			http.Error(w, `{"message":"so many"}`, http.StatusTooManyRequests)
			return
		case dice >= 30:
			next.ServeHTTP(w, r)
			return
		}
		kept := httptest.NewRecorder()
		next.ServeHTTP(kept, r)
		switch {
		case dice < 14:
			http.Error(w, `{"message":"it broke"}`, http.StatusBadGateway)
		case dice < 17 && r.Method != http.MethodGet:
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<html>Welcome to the harbour's proxy</html>")
		case dice < 20:
			w.Header().Set("Content-Type", "application/json")
			_, _ = w.Write(kept.Body.Bytes()[:kept.Body.Len()/2])
		case dice < 22:
			panic(http.ErrAbortHandler)
		default:
			for name, values := range kept.Header() {
				w.Header()[name] = values
			}
			w.WriteHeader(kept.Code)
			_, _ = w.Write(kept.Body.Bytes())
		}
	})
}

// The page, followed to the letter.
func TestWebSystemsPage(t *testing.T) {
	t.Parallel()
	server := mooring.New(mooring.Options{Token: token})
	require.NoError(t, demo.Moor(server))
	at := httptest.NewServer(server)
	t.Cleanup(at.Close)
	page, err := os.ReadFile("../docs/web-systems.md")
	require.NoError(t, err)
	f := folder{t, t.TempDir()}
	f.write("mooring.token", token+"\n")
	f.follow(strings.ReplaceAll(string(page), "http://127.0.0.1:8087/api", at.URL+"/api"), 7)
	assert.Len(t, server.Logins(""), 5, "all of it was undone")
	// A sign-in identity is added to somebody who is there; those that they have stay, and undoing takes it away again.
	f.write("briefs/ids.yaml", "system: mooring\nmatch: [employeeNumber]\nnew: refuse\nfields:\n  employeeNumber: {from: Staff no}\n  identities: {parts: {subject: Name there, issuer: Door}, mode: add}\n")
	for i, sheet := range []string{"1007,https://login.example,ana-7", "1007,https://other.example,ana"} {
		f.write("ids.csv", "Staff no,Door,Name there\n"+sheet+"\n")
		for _, args := range [][]string{{"draft", "ids.csv", "-b", "ids"}, {"post", "last", "--yes"}} {
			code, out, errOut := f.run(args...)
			require.Zero(t, code, "%d: %s%s", i, out, errOut)
		}
	}
	assert.Contains(t, server.Login("ana.reyes"), `[{"issuer":"https://login.example","subject":"ana-7"},{"issuer":"https://other.example","subject":"ana"}]`)
	for _, args := range [][]string{{"reverse", "last"}, {"post", "last", "--yes"}} {
		code, out, errOut := f.run(args...)
		require.Zero(t, code, out+errOut)
	}
	assert.Contains(t, server.Login("ana.reyes"), `[{"issuer":"https://login.example","subject":"ana-7"}]`)
	f.write("openapi.yaml", "info: {title: Mooring}\npaths:\n  /people: {get: {}, post: {}}\n  /people/{id}: {get: {}, patch: {}}\n")
	for _, args := range [][]string{
		{"system", "check", "systems/mooring.yaml", "--json"}, {"system", "try", "mooring", "--write", "--json"}, {"system", "new", "openapi.yaml", "--json"}, {"system", "new", "openapi.yaml", "-o", "systems/first.yaml", "--json"},
		{"system", "try", "mooring", "crew.csv", "-b", "crew", "--as-row", "2", "--json"}, {"brief", "try", "crew.csv", "-b", "crew", "--row", "2"}, {"standin", "--help"},
	} {
		code, out, errOut := f.run(args...)
		assert.Zero(t, code, "%v: %s", args, errOut)
		if args[0] != "standin" && args[1] == "try" && args[len(args)-2] != "--write" {
			assert.Contains(t, out, "zoe.angstrom@brindlesound.example", "the request that would make row 2's account")
		}
	}
	f.write("evenledger.yaml", strings.Replace(f.read("evenledger.yaml"), "practice: true", "practice: false", 1))
	code, _, errOut := f.run("system", "try", "mooring", "--write")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "nothing is written to it")
	f.write("systems/mooring.yaml", strings.Replace(f.read("systems/mooring.yaml"), "items: data, next: {cursor: meta.after", "items: rows, next: {cursor: meta.after", 1))
	code, out, errOut := f.run("system", "try", "mooring")
	assert.Equal(t, 1, code, errOut)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "amiss: GET /people: what "+at.URL+"/api answered cannot be taken for a list: there is no list at rows")
	schema, err := os.ReadFile("../docs/description.schema.json")
	require.NoError(t, err)
	code, out, _ = f.run("system", "schema")
	require.Zero(t, code)
	assert.Equal(t, string(schema), out)
	var keys struct{ Properties map[string]any }
	require.NoError(t, json.Unmarshal(schema, &keys))
	for key := range keys.Properties {
		assert.True(t, strings.Contains(string(page), "`"+key+"`"), "the page does not tell of %s", key)
	}
}

// A post that is killed again and again, to an application whose answers are lost, whose tokens end, and which makes
// people by jobs, comes to the same end as one that isn't; what it did is undone.
func TestWebKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	for name, options := range map[string]mooring.Options{
		"answers are lost":      {Drop: func(n int) bool { return n%7 == 3 }},
		"tokens end":            {Client: "evenledger", Secret: token, Uses: 40, Unseen: 200 * time.Millisecond},
		"people are made later": {Jobs: 100 * time.Millisecond},
		"answers are spoiled":   {Page: 20},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			sign := "token: env:TEST_TOKEN"
			if options.Client != "" {
				sign = "sign_in: {oauth: {token_url: \"URL/token\", client: evenledger, secret: env:TEST_TOKEN}}"
			}
			server, f := moored(t, options, sign, name == "answers are spoiled")
			if name != "answers are lost" {
				f.write("systems/mooring.yaml", strings.Replace(f.read("systems/mooring.yaml"), "create_together:", "# create_together:", 1))
			}
			const n = 40
			var rows strings.Builder
			rows.WriteString("Staff no,First name,Surname,Position,Crew,Training,Boss\n")
			for i := range n {
				fmt.Fprintf(&rows, "%d,P%d,Reyes,Mate,Deck crew/Night crew,Marine radio (teacher),%d\n", 5000+i, i, 5000+(i+1)%n)
			}
			f.write("crew.csv", rows.String())
			code, _, errOut := f.run("draft", "crew.csv", "-b", "crew")
			require.Zero(t, code, errOut)
			var said strings.Builder // by all runs
			untilDone := func(id int) {
				for kills := 0; ; kills++ {
					cmd := f.command("post", fmt.Sprint(id), "--yes", "--credentials", fmt.Sprintf("words-%d-%d.csv", id, kills), "--in-clear")
					var told strings.Builder
					cmd.Stderr = &told
					require.NoError(t, cmd.Start())
					if kills < 6 {
						time.AfterFunc(time.Duration(100+rand.IntN(400))*time.Millisecond, func() { _ = cmd.Process.Signal(syscall.SIGKILL) })
					}
					err := cmd.Wait()
					if said.WriteString(told.String()); err == nil {
						return
					}
					require.Less(t, kills, 40, told.String())
				}
			}
			untilDone(1)
			b := f.batch(1)
			assert.Equal(t, n, b.Outcomes["created"], "%v", b.Outcomes)
			logins := server.Logins("")
			assert.Len(t, logins, n+5)
			assert.Len(t, server.Logins("Night crew"), n)
			seen := map[string]bool{}
			for _, login := range logins {
				assert.False(t, seen[login], login)
				seen[login] = true
			}
			files, err := filepath.Glob(filepath.Join(f.dir, "words-1-*.csv"))
			require.NoError(t, err)
			right := map[string]int{} // login → files with its password
			for _, file := range files {
				for i, line := range strings.Split(strings.TrimSpace(f.read(filepath.Base(file))), "\n") {
					cells := strings.Split(line, ",")
					if i > 0 && server.Password(cells[0], cells[len(cells)-1]) {
						right[cells[0]]++
					}
				}
			}
			assert.Len(t, right, n, "everybody's password is the one that was handed out")
			for login, in := range right { // who was killed before they were forgotten leaves a file: the next says so
				if in > 1 {
					assert.Contains(t, said.String(), "was cut short", "%s is in %d files", login, in)
				}
			}
			code, out, errOut := f.run("reverse", "1", "--remove")
			require.Zero(t, code, out+errOut)
			untilDone(2)
			assert.Len(t, server.Logins(""), 5)
			assert.Empty(t, server.Logins("Night crew"))
			code, _, errOut = f.run("ledger", "check")
			assert.Zero(t, code, errOut)
		})
	}
}

// People whose making is taken in and takes longer than anybody waits are handed over: sent once, though posts are killed and the
// sheet is drafted again; later posts ask what became of them, do what follows, and tell what came to nothing.
func TestWebHandedOver(t *testing.T) {
	t.Parallel()
	server, f := moored(t, mooring.Options{Jobs: 40 * time.Second}, "token: env:TEST_TOKEN", false)
	f.write("systems/mooring.yaml", strings.Replace(f.read("systems/mooring.yaml"), "create_together:", "# create_together:", 1))
	f.write("crew.csv", "Staff no,First name,Surname,Position,Crew,Training,Boss\n1,Zoë,Ångström,Mate,Deck crew,Marine radio,1012\n2,Ana,Tove,Mate,Deck crew,,1\n3,Bo,Lind,Cook,,,\n4,Mei,Lin,Cook,,,\n5,Ida,Berg,Cook,,,\n6,Kai,Moe,Cook,,,\n")
	code, out, errOut := f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, out+errOut)
	killed := f.command("post", "1", "--yes", "--credentials", "a.csv", "--in-clear")
	require.NoError(t, killed.Start())
	time.AfterFunc(time.Second, func() { _ = killed.Process.Kill() }) // what was on its way then has no answer yet: it is not known to be taken in
	_ = killed.Wait()
	require.NoError(t, server.Add("kai.moe", "", "Kai", "Another", "m@x.example", "", ""))
	sent := 0
	for i := range 3 {
		code, out, errOut = f.run("post", "1", "--yes", "--credentials", fmt.Sprintf("b%d.csv", i), "--in-clear")
		require.Contains(t, []int{0, 3}, code, out+errOut)
		if b := f.batch(1); b.Outcomes["handed over"] > 0 {
			assert.Contains(t, []string{"handed over", "stopped"}, b.State)
			sent++
		}
	}
	assert.Positive(t, sent)
	code, out, _ = f.run("draft", "crew.csv", "-b", "crew")
	assert.Zero(t, code)
	assert.Contains(t, out, "handed this account over")
	testserver.Soon(t, func() bool {
		time.Sleep(time.Second)
		_, _, _ = f.run("settle", "1", "--credentials", fmt.Sprintf("c%d.csv", time.Now().UnixNano()), "--in-clear")
		return f.batch(1).Outcomes["handed over"] == 0
	})
	b := f.batch(1)
	_, out, _ = f.run("show", "1", "--plain")
	assert.Equal(t, map[string]int{"created": 5, "failed": 1}, made(b.Outcomes), out)
	_, out, _ = f.run("show", "1", "--row", "7")
	assert.Contains(t, out, "another person has the login kai.moe")
	seen := map[string]int{}
	for _, login := range server.Logins("") {
		seen[login]++
	}
	assert.Len(t, seen, 5+1+5)
	assert.Equal(t, 1, seen["zoe.angstrom"])
	assert.ElementsMatch(t, []string{"zoe.angstrom", "ana.tove"}, server.Logins("Deck crew"))
	code, _, errOut = f.run("ledger", "check")
	assert.Zero(t, code, errOut)
}
