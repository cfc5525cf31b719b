package test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/testserver"
)

// What a service answered well and did not do is told of the row, with what is there,
// before anybody is mailed of it.
func TestProofFindsWhatWasNotDone(t *testing.T) {
	t.Parallel()
	answers := func(method, path string, body string) habits {
		return habits{instead: func(p *peer, w http.ResponseWriter, r *http.Request) bool {
			if r.Method != method || !strings.HasPrefix(r.URL.Path, path) || body != "" && !strings.Contains(string(bodyOf(r)), body) {
				return false
			}
			w.WriteHeader(http.StatusNoContent)
			return true
		}}
	}
	keeps := func(how func(p *peer, u object)) habits {
		return habits{instead: func(p *peer, w http.ResponseWriter, r *http.Request) bool {
			if r.Method == http.MethodPatch && strings.HasPrefix(r.URL.Path, "/Users/") {
				data := bodyOf(r)
				p.one(w, r, "/Users", strings.TrimPrefix(r.URL.Path, "/Users/"), data)
				for _, u := range p.kinds["/Users"] {
					if u["id"] == strings.TrimPrefix(r.URL.Path, "/Users/") {
						how(p, u)
					}
				}
				return true
			}
			return false
		}}
	}
	const brief = "system: crewdesk\nmatch: [employeeNumber]\nallow_remove: true\nfields:\n  employeeNumber: {from: No}\n  title: {from: Position}\nintent: {from: What, via: {Quit: suspend, Delete: remove}}\ngroups: {from: Crew}\n"
	for name, c := range map[string]struct {
		habits     habits
		row, says  string
		counts     map[string]int
		firstThing string // the first line of what the batch came to, in parts
	}{
		"a member that is dropped":           {habits: answers(http.MethodPatch, "/Groups/", ""), row: "1,Clerk,,deck", says: "the system answered twice that the account joins group deck", counts: map[string]int{"failed": 1}},
		"an account that is still there":     {habits: answers(http.MethodDelete, "/Users/", ""), row: "1,,Delete,", says: "was removed, and it is there", counts: map[string]int{"failed": 1}},
		"a value that is dropped afterwards": {habits: keeps(func(_ *peer, u object) { u["title"] = "Clerk" }), row: "1,Chief,,", says: "title was to be “Chief”, and is “Clerk”", counts: map[string]int{"failed": 1}},
		"somebody who may sign in":           {habits: keeps(func(_ *peer, u object) { u["active"] = true }), row: "1,Clerk,Quit,", says: "may sign in", counts: map[string]int{"failed": 1}, firstThing: "May sign in"},
		"what is done":                       {row: "1,Chief,,deck", says: "Proven +1 of 1", counts: map[string]int{"updated": 1}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p, f := quay(t, c.habits)
			f.write("briefs/quit.yaml", brief)
			f.write("quit.csv", "No,Position,What,Crew\n"+c.row+"\n")
			require.Zero(t, first(f.run("draft", "quit.csv", "-b", "quit")))
			code, out, errOut := f.run("post", "1", "--yes")
			bad := c.counts["failed"]
			require.Equal(t, bad, code, out+errOut)
			assert.Equal(t, c.counts, f.outcomes(1))
			if !strings.Contains(c.says, " +") {
				c.says = regexp.QuoteMeta(c.says)
			}
			_, shown, _ := f.run("show", "1")
			assert.Regexp(t, c.says, out+shown)
			if c.firstThing != "" {
				assert.Less(t, strings.Index(out, c.firstThing), strings.Index(out, "Proven"), out)
				assert.Contains(t, out, c.firstThing)
			}
			code, again, _ := f.run("reconcile", "1")
			assert.Equal(t, bad, code, again)

			// What is not proven is as it was answered, and says so.
			if bad > 0 && name != "somebody who may sign in" {
				p.edit("ana.reyes", func(object) {})
				require.Zero(t, first(f.run("draft", "quit.csv", "-b", "quit")))
				code, out, _ = f.run("post", "2", "--yes", "--no-proof")
				assert.Zero(t, code, out)
				assert.Contains(t, out, "Not proven")
			}
		})
	}
}

// A value that a service answers with its own fault, again and again, holds up its row and no
// other, and not for ever; so does an account that somebody removes in the middle of a batch.
func TestOneBadRowHoldsUpNoOther(t *testing.T) {
	t.Parallel()
	p, f := quay(t, habits{instead: func(_ *peer, w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet || !strings.Contains(string(bodyOf(r)), "zzzzzzzz") {
			return false
		}
		w.WriteHeader(http.StatusInternalServerError)
		return true
	}})
	f.write("briefs/crew.yaml", strings.Replace(habitBrief, "  manager: {from: Boss, refers: employeeNumber}\n", "", 1))
	f.write("crew.csv", strings.Replace(habitSheet, "Kaya,Mate", "Kaya,Captain", 1)+"5,Kai,Tove,"+strings.Repeat("z", 300)+",,deck\n")
	code, out, errOut := f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, out+errOut)
	p.mu.Lock()
	p.kinds["/Users"] = slices.DeleteFunc(p.kinds["/Users"], func(u object) bool { return u["userName"] == "tom.kaya" })
	p.mu.Unlock()
	for range 3 {
		if code, out, errOut = f.run("post", "1", "--yes"); code != 3 {
			break
		}
	}
	assert.Equal(t, 1, code, out+errOut)
	assert.Equal(t, map[string]int{"created": 2, "updated": 1, "failed": 2}, f.outcomes(1), out)
	assert.Equal(t, "posted", f.batch(1).State)
	assert.Equal(t, "Chief", p.who("ana.reyes")["title"])
	assert.Nil(t, p.who("kai.tove"))
}

// A feed whose server falls silent is given up after its time, with how much had come;
// the next run finds the lock free and nothing lying about. A list that was cut inside
// its last row holds the run, and a file of the future is told.
func TestFeedsThatBreakOff(t *testing.T) {
	t.Parallel()
	var calls atomic.Int32
	body := "Login,Name\nkai,Kai Tove\nmia,Mia Ångström\n"
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/silent":
			_, _ = w.Write([]byte(body[:len(body)/2]))
			w.(http.Flusher).Flush()
			<-r.Context().Done()
		case "/busy":
			if calls.Add(1) == 1 {
				w.Header().Set("Retry-After", "2")
				w.WriteHeader(http.StatusTooManyRequests)
				return
			}
			_, _ = w.Write([]byte(body))
		case "/much":
			_, _ = w.Write([]byte(body + strings.Repeat("x", 20_000)))
		}
	}))
	defer server.Close()
	f := workspace(t, practice(t), "")
	config := f.read("evenledger.yaml")
	brief := "system: crewdesk\nmatch: [userName]\nsheet: {feed: %s}\nfields:\n  userName: {from: Login}\n  displayName: {from: Name}\n"
	for _, name := range []string{"silent", "busy", "much"} {
		config += map[bool]string{true: "feeds:\n"}[name == "silent"] + fmt.Sprintf("  %s: {kind: web, url: %q, timeout: 3s, most: 10kB}\n", name, server.URL+"/"+name)
		f.write("briefs/"+name+".yaml", fmt.Sprintf(brief, name))
	}
	f.write("evenledger.yaml", config+"  desk: {kind: folder, path: \"in/*.csv\", done: in/taken}\n")
	f.write("briefs/desk.yaml", fmt.Sprintf(brief, "desk"))
	for range 2 {
		begun := time.Now()
		code, out, errOut := f.run("run", "silent")
		assert.Equal(t, 3, code, out+errOut)
		assert.Contains(t, out+errOut, "nothing came for 3s")
		assert.Contains(t, out+errOut, fmt.Sprint(len(body)/2), "how much had come")
		assert.Less(t, time.Since(begun), time.Minute)
	}
	code, out, errOut := f.run("run", "busy")
	assert.Zero(t, code, out+errOut)
	assert.Contains(t, out, "2 created")
	code, out, errOut = f.run("run", "much")
	assert.NotZero(t, code, out)
	assert.Contains(t, out+errOut, "more than 10240 bytes")

	f.write("in/a.csv", body+"leo,Le")
	code, out, errOut = f.run("run", "desk")
	assert.Zero(t, code, "as many cells as the others have: "+out+errOut)
	f.write("in/b.csv", body+"ana")
	code, out, errOut = f.run("run", "desk")
	assert.Equal(t, 4, code, out+errOut)
	assert.Contains(t, out+errOut, "held")
	require.NoError(t, os.Remove(filepath.Join(f.dir, "in/b.csv")))
	f.write("in/c.csv", body+"zoe,Zoë\n")
	ahead := time.Now().Add(72 * time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(f.dir, "in/c.csv"), ahead, ahead))
	code, out, errOut = f.run("run", "desk")
	assert.Equal(t, 1, code, out+errOut)
	assert.Contains(t, out+errOut, "which is yet to come")
	_, err := os.Stat(filepath.Join(f.dir, "ledger.db.spool"))
	assert.True(t, os.IsNotExist(err), "nothing is left of what was brought")
}

// Hundreds of follow-ups are all called, before the mails of their rows; what was killed is
// gone on with, nobody is mailed twice, and each kill leaves in doubt what was in flight.
func TestHundredsOfFollowUps(t *testing.T) {
	t.Parallel()
	const people, together = 200, 4
	var mu sync.Mutex
	called, busy := map[string]int{}, 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var told struct{ ID, Name string }
		mu.Lock()
		defer mu.Unlock()
		if err := json.NewDecoder(r.Body).Decode(&told); err != nil || !strings.HasPrefix(told.ID, "u-") {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		if busy++; busy%150 == 75 {
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
			return
		}
		called[told.ID]++
	}))
	defer server.Close()
	mails := filepath.Join(t.TempDir(), "mails")
	url, mail := practiceWithMail(t, "--mail", mails, "--mail-port", "0")
	f := workspace(t, url, "")
	f.write("evenledger.yaml", f.read("evenledger.yaml")+fmt.Sprintf("feeds:\n  doors: {kind: web, url: %q}\nmail: {server: %q, from: office@brindlesound.example, rate: 1000/s}\n", server.URL, slowly(t, mail, 10*time.Millisecond)))
	f.write("briefs/crew.yaml", crewBrief+"notices:\n  welcome: {on: created, to: email, subject: Welcome, text: 'You are {userName}.'}\nfollow_ups:\n  door: {on: created, feed: doors, body: {ID: '{id}', Name: '{userName}'}}\n")
	f.crew("crew.csv", people, "Deckhand")
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes", "--hold-notices")
	require.Zero(t, code, out+errOut)
	assert.Regexp(t, `door +200 done`, out)
	assert.Regexp(t, `welcome +200 held`, out)
	assert.Len(t, called, people)
	kills := 0
	for ; kills < 3; kills++ {
		before := sent(t, mails)
		cmd := f.command("notices", "1", "--send", "--yes")
		require.NoError(t, cmd.Start())
		testserver.Soon(t, func() bool { return len(sent(t, mails)) >= len(before)+10+rand.IntN(20) })
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	code, out, errOut = f.run("notices", "1", "--send", "--yes")
	got := regexp.MustCompile(`welcome +(\d+) sent(?:, (\d+) unclear)?`).FindStringSubmatch(out)
	require.NotNil(t, got, out+errOut)
	assert.Equal(t, people, number(got[1])+number(got[2]), out)
	assert.LessOrEqual(t, number(got[2]), kills*together, out)
	assert.Equal(t, number(got[2]) > 0, code > 0, "what is left in doubt is in the exit code, %d", code)
	for to, n := range sent(t, mails) {
		assert.Equal(t, 1, n, to)
	}
	assert.GreaterOrEqual(t, len(sent(t, mails)), number(got[1]))
}

// Where nobody can say what was done elsewhere, the exit code says so, and so do the sheet of
// rows to fix and the words of the post.
func TestFollowUpsInDoubt(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }))
	defer server.Close()
	f := workspace(t, practice(t), "")
	f.write("evenledger.yaml", f.read("evenledger.yaml")+fmt.Sprintf("feeds:\n  doors: {kind: web, url: %q}\n", server.URL))
	f.write("briefs/crew.yaml", crewBrief+"follow_ups:\n  door: {on: created, feed: doors, body: {who: '{id}'}}\n")
	f.crew("crew.csv", 3, "Deckhand")
	require.Zero(t, first(f.run("draft", "crew.csv", "-b", "crew")))
	code, out, errOut := f.run("post", "1", "--yes")
	assert.Equal(t, 3, code, out+errOut)
	assert.Regexp(t, `door +3 unclear`, out)
	code, out, errOut = f.run("fixes", "1", "-o", "fix.csv")
	assert.Contains(t, out+errOut, "3 follow-ups", "%d", code)
}

// sent counts the mails in a folder by who they went to.
func sent(t *testing.T, folder string) map[string]int {
	files, err := filepath.Glob(filepath.Join(folder, "*.eml"))
	require.NoError(t, err)
	counts := map[string]int{}
	for _, path := range files {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		counts[regexp.MustCompile(`(?m)^To: .*$`).FindString(string(data))]++
	}
	return counts
}

// slowly passes a mail server's connections on, and keeps back what is sent to it for a while.
func slowly(t *testing.T, server string, delay time.Duration) string {
	at, err := url.Parse(server)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	go passOn(listener, at.Host, func(to, from net.Conn) {
		piece := make([]byte, 64<<10)
		for {
			n, err := from.Read(piece)
			time.Sleep(delay)
			if _, failed := to.Write(piece[:n]); err != nil || failed != nil {
				return
			}
		}
	})
	at.Host = listener.Addr().String()
	return at.String()
}
