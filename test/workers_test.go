package test

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/testserver"
)

var (
	stormRounds = flag.Int("storm.rounds", 2, "how often workers are killed and stopped at random")
	stormRows   = flag.Int("storm.rows", 500, "of how many rows a batch is then")
)

// watched stands before a system and notes, by user name, what was asked of it once an account
// had been made.
type watched struct {
	*httptest.Server
	mu    sync.Mutex
	made  map[string]int
	twice []string

	under, most int // requests under way, and the most that ever were
	came        []time.Time
}

// count is how many accounts were made.
func (w *watched) count() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.made)
}

func watch(t *testing.T, system string) *watched {
	target, err := url.Parse(system)
	require.NoError(t, err)
	w := &watched{made: map[string]int{}}
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(&url.URL{Scheme: target.Scheme, Host: target.Host}) }, ErrorLog: nil}
	w.Server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		w.mu.Lock()
		w.under++
		w.most, w.came = max(w.most, w.under), append(w.came, time.Now())
		w.mu.Unlock()
		defer func() {
			w.mu.Lock()
			w.under--
			w.mu.Unlock()
		}()
		if r.Method != http.MethodPost || !strings.HasSuffix(r.URL.Path, "/Users") {
			proxy.ServeHTTP(rw, r)
			return
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return
		}
		var sent struct{ UserName string }
		_ = json.Unmarshal(body, &sent)
		w.mu.Lock()
		if w.made[sent.UserName] > 0 {
			w.twice = append(w.twice, sent.UserName)
		}
		w.mu.Unlock()
		r = r.WithContext(context.WithoutCancel(r.Context())) // what arrived is carried out, whoever waits for it
		r.Body = io.NopCloser(bytes.NewReader(body))
		answer := httptest.NewRecorder()
		proxy.ServeHTTP(answer, r)
		if answer.Code == http.StatusCreated {
			w.mu.Lock()
			w.made[sent.UserName]++
			w.mu.Unlock()
		}
		for name, values := range answer.Header() {
			rw.Header()[name] = values
		}
		rw.WriteHeader(answer.Code)
		_, _ = rw.Write(answer.Body.Bytes())
	}))
	t.Cleanup(w.Close)
	return w
}

// shared has a workspace keep its ledger on a server, in a schema of its own.
func (f folder) shared(s testserver.Server, schema string) {
	at := url.URL{Scheme: "postgres", User: url.UserPassword("ferries", s.Password(f.t)), Host: fmt.Sprintf("127.0.0.1:%d", s.Port), Path: "/postgres", RawQuery: "search_path=" + schema}
	f.write("address", at.String())
	f.write("evenledger.yaml", "ledger: file:address\nlease: 2s\n"+f.read("evenledger.yaml"))
}

// Four workers share a batch, and are killed and stopped at random moments: nothing is lost, and
// nothing done twice, and what somebody else made meanwhile is told apart.
func TestWorkersInAStorm(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "sqlite"} {
		t.Run(engine, func(t *testing.T) {
			for round := range *stormRounds {
				storm(t, engine, uint64(round)+uint64(time.Now().UnixNano()))
			}
		})
	}
}

func storm(t *testing.T, engine string, seed uint64) {
	dice := rand.New(rand.NewPCG(seed, 1))
	system := practice(t, "--delay", "5ms", "--no-etag")
	w := watch(t, system)
	f := workspace(t, strings.Replace(system, mustHost(t, system), mustHost(t, w.URL), 1), ", settle: 200ms")
	if engine == "postgres" {
		f.shared(testserver.Postgres(t), "storm")
	} else {
		f.write("evenledger.yaml", "lease: 2s\n"+f.read("evenledger.yaml"))
	}
	rows := *stormRows
	var sheet strings.Builder
	sheet.WriteString("Login,Number,Last\n")
	for i := range rows {
		fmt.Fprintf(&sheet, "p%d,%d,Person%d\n", i, i, i)
	}
	f.write("crew.csv", sheet.String())
	f.write("briefs/storm.yaml", "system: crewdesk\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  employeeNumber: {from: Number}\n  familyName: {from: Last}\ngroups: {fallback: [Crew], make_missing: true}\n")
	code, _, errOut := f.run("draft", "crew.csv", "-b", "storm")
	require.Zero(t, code, errOut)
	// Somebody else makes a few of the accounts while the batch is posted.
	go func() {
		for i := range 5 {
			time.Sleep(100 * time.Millisecond)
			body := fmt.Sprintf(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"p%d","name":{"familyName":"Stranger"}}`, rows-1-i)
			req, _ := http.NewRequest(http.MethodPost, system+"/Users", strings.NewReader(body))
			req.Header.Set("Authorization", "Bearer "+token)
			req.Header.Set("Content-Type", "application/scim+json")
			if resp, err := http.DefaultClient.Do(req); err == nil {
				_ = resp.Body.Close()
			}
		}
	}()
	var crew []*exec.Cmd
	begin := func() {
		cmd := f.command("post", "1", "--yes", "--json")
		require.NoError(t, cmd.Start())
		crew = append(crew, cmd)
	}
	for range 4 {
		begin()
	}
	for range 8 {
		time.Sleep(time.Duration(20+dice.IntN(400)) * time.Millisecond)
		victim := crew[dice.IntN(len(crew))]
		switch dice.IntN(3) {
		case 0:
			_ = victim.Process.Kill()
			begin()
		default:
			_ = victim.Process.Signal(syscall.SIGSTOP)
			sleeps := time.Duration(dice.IntN(4000)) * time.Millisecond // the lease is two seconds
			time.AfterFunc(sleeps, func() { _ = victim.Process.Signal(syscall.SIGCONT) })
		}
	}
	for _, cmd := range crew {
		_ = cmd.Wait()
	}
	f.patient()
	code, out, errOut := f.run("post", "1", "--yes")
	require.Contains(t, []int{0, 1}, code, out+errOut)
	b := f.batch(1)
	assert.Equal(t, "posted", b.State)
	assert.Zero(t, b.Outcomes["waiting"])
	w.mu.Lock()
	defer w.mu.Unlock()
	assert.Empty(t, w.twice, "seed %d: asked for again though it had been made", seed)
	assert.Equal(t, len(w.made), b.Outcomes["created"], "seed %d: what was made and what the ledger says: %v", seed, b.Outcomes)
	for name, n := range w.made {
		assert.Equal(t, 1, n, name)
	}
	assert.Equal(t, rows, b.Outcomes["created"]+b.Outcomes["refused"]+b.Outcomes["failed"], "seed %d: %v", seed, b.Outcomes)
	assert.LessOrEqual(t, b.Outcomes["refused"]+b.Outcomes["failed"], 5)
	assert.Equal(t, b.Outcomes["created"], members(t, system)["Crew"])
	code, out, errOut = f.run("ledger", "check")
	assert.Zero(t, code, out+errOut)
	left, err := filepath.Glob(filepath.Join(f.dir, "*.lock"))
	require.NoError(t, err)
	assert.Empty(t, left, "the dead leave nothing behind")
}

// stormy readies a batch in a ledger on a server.
func stormy(t *testing.T, rows int) (f folder, w *watched, system string) {
	system = practice(t, "--delay", "10ms", "--no-etag")
	w = watch(t, system)
	f = workspace(t, strings.Replace(system, mustHost(t, system), mustHost(t, w.URL), 1), ", settle: 200ms")
	f.write("briefs/storm.yaml", "system: crewdesk\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  familyName: {from: Last}\n")
	var sheet strings.Builder
	sheet.WriteString("Login,Last\n")
	for i := range rows {
		fmt.Fprintf(&sheet, "p%d,Person%d\n", i, i)
	}
	f.write("crew.csv", sheet.String())
	return f, w, system
}

// patient has those who come from now on not be given up while the machine is busy.
func (f folder) patient() { f.lasts("30s") }

// lasts says how long a lease lasts.
func (f folder) lasts(lease string) {
	f.write("evenledger.yaml", regexp.MustCompile(`(?m)^lease: .*`).ReplaceAllString(f.read("evenledger.yaml"), "lease: "+lease))
}

// calm sees that a batch is posted, and everything in it was made once.
func (f folder) calm(w *watched, rows int) {
	f.patient()
	code, out, errOut := f.run("post", "1", "--yes")
	require.Zero(f.t, code, out+errOut)
	b := f.batch(1)
	assert.Equal(f.t, "posted", b.State)
	assert.Equal(f.t, rows, b.Outcomes["created"], "%v", b.Outcomes)
	w.mu.Lock()
	defer w.mu.Unlock()
	assert.Len(f.t, w.made, rows)
	assert.Empty(f.t, w.twice)
	code, out, errOut = f.run("ledger", "check")
	assert.Zero(f.t, code, out+errOut)
}

// A post outlives a ledger's server that is started anew. When the server stays away, nothing more
// is sent than it has noted, and when it is there again, the next post goes on.
func TestLedgerServerDies(t *testing.T) {
	t.Parallel()
	server := testserver.Postgres(t)
	f, w, _ := stormy(t, 1200)
	f.shared(server, "ledger")
	f.lasts("8s")
	config := f.read("evenledger.yaml")
	code, _, errOut := f.run("draft", "crew.csv", "-b", "storm")
	require.Zero(t, code, errOut)
	begin := func() (post *exec.Cmd, told *strings.Builder) {
		post, told = f.command("post", "1", "--yes"), &strings.Builder{}
		post.Stderr = told
		made := w.count()
		require.NoError(t, post.Start())
		testserver.Soon(t, func() bool { return w.count() > made+50 })
		server.Crash(t)
		return post, told
	}
	post, told := begin()
	_ = post.Wait()
	require.Equal(t, 3, post.ProcessState.ExitCode(), told.String())
	assert.Contains(t, told.String(), "the ledger cannot be used")
	assert.NotContains(t, told.String(), server.Password(t))
	server.Again(t)

	f.write("evenledger.yaml", strings.Replace(config, "lease: 8s", "lease: 30s", 1))
	post, told = begin()
	for range 2 {
		server.Again(t)
		time.Sleep(500 * time.Millisecond)
		server.Crash(t)
	}
	server.Again(t)
	_ = post.Wait()
	assert.Zero(t, post.ProcessState.ExitCode(), told.String())
	f.calm(w, 1200)
}

// Workers that share a batch get no more out of a system together than one would alone, and one
// that waits for work helps with it, until it is stopped.
func TestWorkersShareTheSystem(t *testing.T) {
	t.Parallel()
	f, w, _ := stormy(t, 400)
	config := strings.Replace(f.read("evenledger.yaml"), "settle: 200ms", "settle: 200ms, rate: 100/s", 1)
	f.write("evenledger.yaml", "lease: 20s\n"+config)
	code, _, errOut := f.run("draft", "crew.csv", "-b", "storm")
	require.Zero(t, code, errOut)
	helper := f.command("work")
	told, err := os.Create(filepath.Join(f.dir, "helper.txt"))
	require.NoError(t, err)
	helper.Stderr = told
	require.NoError(t, helper.Start())
	time.Sleep(300 * time.Millisecond)
	w.mu.Lock()
	w.most, w.came = 0, nil
	w.mu.Unlock()
	f.calm(w, 400)
	testserver.Soon(t, func() bool { return strings.Contains(f.read("helper.txt"), "batch 1: done") })
	require.NoError(t, helper.Process.Signal(syscall.SIGINT))
	_ = helper.Wait()
	assert.Contains(t, f.read("helper.txt"), "batch 1: helps")
	w.mu.Lock()
	defer w.mu.Unlock()
	assert.LessOrEqual(t, w.most, 4, "together: 3, and one whose answer is just going out")
	require.GreaterOrEqual(t, len(w.came), 400)
	lasted := w.came[len(w.came)-1].Sub(w.came[0])
	assert.Less(t, float64(len(w.came))/lasted.Seconds(), 115.0, "rate: 100/s, by the server's clock")
}

// A worker that slept while its requests waited for their turn sends none of them once others have
// its work.
func TestWorkerSleepsInTurn(t *testing.T) {
	t.Parallel()
	f, w, _ := stormy(t, 24)
	f.write("evenledger.yaml", "lease: 4s\n"+strings.Replace(f.read("evenledger.yaml"), "settle: 200ms", "settle: 200ms, rate: 3/s", 1))
	code, _, errOut := f.run("draft", "crew.csv", "-b", "storm")
	require.Zero(t, code, errOut)
	sleeper := f.command("post", "1", "--yes")
	var told strings.Builder
	sleeper.Stderr = &told
	require.NoError(t, sleeper.Start())
	testserver.Soon(t, func() bool { return w.count() > 2 })
	require.NoError(t, sleeper.Process.Signal(syscall.SIGSTOP))
	time.Sleep(300 * time.Millisecond) // what was on its way arrives
	made := w.count()
	other := f.command("post", "1", "--yes")
	require.NoError(t, other.Start())
	for until := time.Now().Add(30 * time.Second); w.count() == made && time.Now().Before(until); {
		time.Sleep(20 * time.Millisecond)
	}
	if w.count() == made { // it fell asleep while it wrote the ledger's file, which nobody else can write until it wakes
		require.NoError(t, sleeper.Process.Signal(syscall.SIGCONT))
	}
	testserver.Soon(t, func() bool { return w.count() > made })
	_ = sleeper.Process.Signal(syscall.SIGCONT) // it may be over
	_ = sleeper.Wait()
	_ = other.Wait()
	assert.Equal(t, 3, sleeper.ProcessState.ExitCode(), told.String())
	assert.Contains(t, told.String(), "was not heard of for too long")
	f.calm(w, 24)
}

// A worker that is cut off from the ledger, and not from the system, sends nothing once others may
// have its work, and ends, also if it stays cut off.
func TestWorkerIsCutOff(t *testing.T) {
	t.Parallel()
	away := newIsland(t)
	server := testserver.Postgres(t, away.ledger)
	f, w, _ := stormy(t, 1500)
	f.shared(server, "ledger")
	f.lasts("8s")
	code, out, errOut := f.run("draft", "crew.csv", "-b", "storm")
	require.Zero(t, code, out+errOut)
	far := folder{t, t.TempDir()}
	for _, name := range []string{"evenledger.yaml", "briefs/storm.yaml"} {
		far.write(name, f.read(name))
	}
	far.write("address", strings.Replace(f.read("address"), "127.0.0.1", away.ledger, 1)+"&sslrootcert="+filepath.Join(server.Dir, "ca.pem"))
	away.carry(strings.TrimPrefix(w.URL, "http://"))
	off := far.command("post", "1", "--yes")
	var told strings.Builder
	off.Stderr = &told
	away.do(func() error { return off.Start() })
	testserver.Soon(t, func() bool { return w.count() > 50 }, "%s", &told)
	away.cut()
	// What the other was in the middle of keeps the rows for a while, and for longer than this lease.
	code, out, errOut = f.run("post", "1", "--yes")
	require.Contains(t, []int{0, 3}, code, out+errOut)
	_ = off.Wait() // it ends, though it stays cut off
	assert.Equal(t, 3, off.ProcessState.ExitCode(), told.String())
	f.calm(w, 1500)
}

// An island is a network of its own, from which a cable leads to the ledger's server.
type island struct {
	t      *testing.T
	cable  string
	ledger string // address of the server's end
	there  chan func() error
	told   chan error
}

func newIsland(t *testing.T) *island {
	if _, err := exec.LookPath("ip"); err != nil {
		t.Skip("SKIPPED: there is no ip on this machine; scripts/test.sh installs it on Debian")
	}
	i := &island{t: t, cable: fmt.Sprintf("ferry%d", os.Getpid()), ledger: "198.18.77.1", there: make(chan func() error), told: make(chan error)}
	go func() { // on a thread of its own, which ends with it, and with the thread the island
		runtime.LockOSThread()
		for do := range i.there {
			i.told <- do()
		}
	}()
	t.Cleanup(func() { close(i.there) })
	thread := 0
	i.there <- func() error {
		thread = syscall.Gettid()
		return syscall.Unshare(syscall.CLONE_NEWNET)
	}
	if err := <-i.told; err != nil {
		t.Skipf("SKIPPED: a network of one's own cannot be made here: %v", err)
	}
	i.ip("link", "add", i.cable, "type", "veth", "peer", "name", "cable", "netns", fmt.Sprint(thread))
	i.ip("address", "add", i.ledger+"/30", "dev", i.cable)
	i.ip("link", "set", i.cable, "up")
	i.do(func() error {
		i.ip("address", "add", "198.18.77.2/30", "dev", "cable")
		i.ip("link", "set", "cable", "up")
		i.ip("link", "set", "lo", "up")
		return nil
	})
	return i
}

// do does something on the island.
func (i *island) do(what func() error) {
	i.there <- what
	require.NoError(i.t, <-i.told)
}

func (i *island) ip(args ...string) {
	out, err := exec.Command("ip", args...).CombinedOutput()
	assert.NoError(i.t, err, string(out))
}

// cut lets nothing through the cable any more, and tells neither end.
func (i *island) cut() { i.ip("link", "set", i.cable, "down") }

// carry has an address of this machine reached from the island as well.
func (i *island) carry(address string) {
	var listener net.Listener
	i.do(func() (err error) {
		listener, err = net.Listen("tcp", address)
		return err
	})
	i.t.Cleanup(func() { _ = listener.Close() })
	go passOn(listener, address, func(to, from net.Conn) { _, _ = io.Copy(to, from) })
}

// A ledger is moved to a server and back, and killed on the way at any moment: at every time just
// one of the two is used, and nothing is lost.
func TestMoveIsKilled(t *testing.T) {
	t.Parallel()
	server := testserver.Postgres(t)
	f, w, _ := stormy(t, 300)
	code, _, errOut := f.run("draft", "crew.csv", "-b", "storm")
	require.Zero(t, code, errOut)
	code, _, errOut = f.run("post", "1", "--yes", "--trial", "100")
	require.Zero(t, code, errOut)
	here := f.read("evenledger.yaml")
	f.shared(server, "moved")
	there := f.read("evenledger.yaml")
	uses := func(yaml string) bool {
		f.write("evenledger.yaml", yaml)
		code, _, _ := f.run("show", "1")
		return code == 0
	}
	for kills := 0; ; kills++ {
		f.write("evenledger.yaml", here)
		move := f.command("ledger", "move", "file:address")
		require.NoError(t, move.Start())
		time.Sleep(time.Duration(20+15*kills) * time.Millisecond)
		_ = move.Process.Kill()
		_ = move.Wait()
		old, other := uses(here), uses(there)
		require.False(t, old && other, "both are used after %d kills", kills)
		f.write("evenledger.yaml", here)
		if code, _, _ := f.run("batches"); !old && other && code == 2 {
			break // all of it was there, and the old one says so
		}
		if kills == 40 {
			code, _, errOut := f.run("ledger", "move", "file:address")
			require.Zero(t, code, errOut)
			break
		}
	}
	require.True(t, uses(there))
	require.False(t, uses(here))
	code, out, errOut := f.run("batches")
	assert.Equal(t, 2, code, out)
	assert.Contains(t, errOut, "the ledger was moved to file:address")
	f.write("evenledger.yaml", there)
	f.calm(w, 300)
	code, _, errOut = f.run("ledger", "move", "back.db")
	require.Zero(t, code, errOut)
	f.write("evenledger.yaml", "ledger: back.db\n"+here)
	assert.Equal(t, 300, f.batch(1).Outcomes["created"])
}

func mustHost(t *testing.T, at string) string {
	parsed, err := url.Parse(at)
	require.NoError(t, err)
	return parsed.Host
}

// passOn passes the connections that come in on to an address; up is how what is sent there is.
func passOn(listener net.Listener, address string, up func(to, from net.Conn)) {
	for {
		there, err := listener.Accept()
		if err != nil {
			return
		}
		here, err := net.Dial("tcp", address)
		if err != nil {
			_ = there.Close()
			continue
		}
		go func() {
			up(here, there)
			_ = here.Close()
		}()
		go func() {
			_, _ = io.Copy(there, here)
			_ = there.Close()
		}()
	}
}
