// Package testserver starts real servers of Debian's packages for tests: each in a folder of
// its own, on this machine alone, and gone when the test is over. A test is skipped, and says
// so, where the package is not installed.
package testserver

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A Server is one that runs.
type Server struct {
	Dir  string // its folder
	Port int    // on 127.0.0.1
}

// Postgres starts PostgreSQL.
func Postgres(t testing.TB) Server { return start(t, "postgres.sh", "/usr/lib/postgresql") }

// MariaDB starts MariaDB.
func MariaDB(t testing.TB) Server { return start(t, "mariadb.sh", "/usr/sbin/mariadbd") }

// SSH starts OpenSSH's server for whoever runs the test, who gets in by the key in DIR/key,
// and returns who that is. DIR/known_hosts has the server's key.
func SSH(t testing.TB) (s Server, who string) {
	if _, err := os.Stat("/usr/sbin/sshd"); err != nil {
		t.Skip("SKIPPED: there is no /usr/sbin/sshd on this machine; scripts/test.sh installs it on Debian")
	}
	me, err := user.Current()
	require.NoError(t, err)
	dir, err := os.MkdirTemp("", "ssh")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if me.Uid == "0" {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755)) // it will not run without
	}
	s = Server{dir, FreePort(t)}
	for _, name := range []string{"key", "host"} {
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, name)).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	host, err := os.ReadFile(filepath.Join(dir, "host.pub"))
	require.NoError(t, err)
	for name, text := range map[string]string{
		"known_hosts": fmt.Sprintf("[127.0.0.1]:%d %s", s.Port, host),
		"sshd_config": fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %s/host\nAuthorizedKeysFile %s/key.pub\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPasswordAuthentication no\nPidFile none\nSubsystem sftp internal-sftp\n", s.Port, dir, dir),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	Run(t, exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(dir, "sshd_config")), s.Port)
	return s, me.Username
}

// Password is that of the server's user.
func (s Server) Password(t testing.TB) string {
	text, err := os.ReadFile(filepath.Join(s.Dir, "password"))
	require.NoError(t, err)
	return string(text)
}

// start runs a script of the project's that starts a server, and waits until it listens.
func start(t testing.TB, script, installed string) Server {
	if _, err := os.Stat(installed); err != nil {
		t.Skipf("SKIPPED: there is no %s on this machine; scripts/test.sh installs it on Debian", installed)
	}
	_, here, _, _ := runtime.Caller(0)
	dir, err := os.MkdirTemp("", strings.TrimSuffix(script, ".sh")) // a socket's path is short
	require.NoError(t, err)
	s := Server{dir, FreePort(t)}
	cmd := exec.Command(filepath.Join(filepath.Dir(here), "..", "..", "scripts", script), dir, fmt.Sprint(s.Port))
	cmd.Stderr = os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	Run(t, cmd, s.Port)
	return s
}

// Run runs a server until the test is over, and waits until it listens on a port.
func Run(t testing.TB, cmd *exec.Cmd, port int) {
	require.NoError(t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	t.Cleanup(func() {
		// Some end at the one, some at the other.
		for _, signal := range []os.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGKILL} {
			_ = cmd.Process.Signal(signal)
			select {
			case <-ended:
				return
			case <-time.After(2 * time.Second):
			}
		}
	})
	for until := time.Now().Add(60 * time.Second); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
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

// FreePort returns a port that nobody listens on.
func FreePort(t testing.TB) int {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port
}
