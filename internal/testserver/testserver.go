// Package testserver starts real servers of Debian's packages for tests: each in a folder of
// its own, on this machine alone, and gone when the test is over. A test is skipped, and says
// so, where the package is not installed.
package testserver

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A Server is one that runs.
type Server struct {
	Dir  string // its folder
	Port int    // on 127.0.0.1
	also string // an address that it listens on as well
}

// Postgres starts PostgreSQL. With an address its neighbours on that network reach it as well.
func Postgres(t testing.TB, also ...string) Server {
	return start(t, "postgres.sh", "/usr/lib/postgresql", also...)
}

// MariaDB starts MariaDB.
func MariaDB(t testing.TB) Server { return start(t, "mariadb.sh", "/usr/sbin/mariadbd") }

// Password is that of the server's user.
func (s Server) Password(t testing.TB) string {
	text, err := os.ReadFile(filepath.Join(s.Dir, "password"))
	require.NoError(t, err)
	return string(text)
}

// Crash kills PostgreSQL as a power cut would, and Again starts it where it was.
func (s Server) Crash(t testing.TB) {
	text, err := os.ReadFile(filepath.Join(s.Dir, "data", "postmaster.pid"))
	require.NoError(t, err)
	var pid int
	_, err = fmt.Sscan(string(text), &pid)
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGQUIT)) // its processes stop at once, and write nothing any more
	for until := time.Now().Add(patience); syscall.Kill(pid, 0) == nil && time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
	}
}

func (s Server) Again(t testing.TB) { run(t, "postgres.sh", s) }

// start runs a script of the project's that starts a server, and waits until it listens.
func start(t testing.TB, script, installed string, also ...string) Server {
	if testing.Short() {
		t.Skip("a real server takes a while")
	}
	if _, err := os.Stat(installed); err != nil {
		t.Skipf("SKIPPED: there is no %s on this machine; scripts/test.sh installs it on Debian", installed)
	}
	dir, err := os.MkdirTemp("", strings.TrimSuffix(script, ".sh")) // a socket's path is short
	require.NoError(t, err)
	s := Server{dir, FreePort(t), strings.Join(also, ",")}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	run(t, script, s)
	return s
}

func run(t testing.TB, script string, s Server) {
	_, here, _, _ := runtime.Caller(0)
	cmd := exec.Command(filepath.Join(filepath.Dir(here), "..", "..", "scripts", script), s.Dir, fmt.Sprint(s.Port))
	cmd.Env, cmd.Stderr = append(os.Environ(), "LISTEN="+s.also), os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	Run(t, cmd, s.Port)
	if script != "postgres.sh" {
		return
	}
	Soon(t, func() bool { // it listens before it takes anybody in
		state, err := os.ReadFile(filepath.Join(s.Dir, "data", "postmaster.pid"))
		return err == nil && strings.HasSuffix(strings.TrimSpace(string(state)), "ready")
	}, "the server does not get ready")
}

// Run runs a server until the test is over, and waits until it listens on a port.
func Run(t testing.TB, cmd *exec.Cmd, port int) {
	require.NoError(t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	t.Cleanup(func() {
		signals := []os.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGKILL}
		if strings.HasSuffix(cmd.Path, "sshd") || strings.HasSuffix(cmd.Path, "host.sh") {
			signals = signals[1:] // it does not end at the first
		}
		for _, signal := range signals {
			_ = cmd.Process.Signal(signal)
			select {
			case <-ended:
				return
			case <-time.After(2 * time.Second):
			}
		}
	})
	for until := time.Now().Add(patience); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
		if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			require.NoError(t, conn.Close())
			return
		}
		select {
		case err := <-ended:
			ended <- err
			require.FailNow(t, "the server did not start", "%s: %v", cmd, err)
		default:
		}
	}
	require.FailNow(t, "the server did not start")
}

// patience is how long something may take that happens at once on a machine with nothing else to do.
const patience = 3 * time.Minute

// Soon waits until something is so.
func Soon(t testing.TB, isSo func() bool, told ...any) {
	require.Eventually(t, isSo, patience, 10*time.Millisecond, told...)
}

// given are the ports that tests of this process were given.
var given sync.Map

// FreePort returns a port that nobody listens on, and that no other test was given: its server may not listen yet.
// It is below those that connections are given, and taken by chance, as other processes look for one, too.
func FreePort(t testing.TB) int {
	for range 1000 {
		port := 10000 + rand.IntN(20000)
		if _, taken := given.LoadOrStore(port, true); taken {
			continue
		}
		listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			continue
		}
		require.NoError(t, listener.Close())
		return port
	}
	require.FailNow(t, "no port is free")
	return 0
}
