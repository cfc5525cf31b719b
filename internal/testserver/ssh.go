package testserver

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// SSH starts OpenSSH's server for whoever runs the test, who gets in by the key in DIR/key,
// and returns who that is. DIR/known_hosts has the server's key.
func SSH(t testing.TB) (s Server, who string) {
	if testing.Short() {
		t.Skip("a real server takes a while")
	}
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
	s = Server{Dir: dir, Port: FreePort(t)}
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

// Host starts a Unix host of its own, with nobody's accounts but the system's: an /etc and a
// /home that nobody else sees, in DIR/etc and DIR/home. root gets in by the key in DIR/key, and
// evenledger, who may use sudo where there is one. This takes root and namespaces.
func Host(t testing.TB) Server {
	if os.Getuid() != 0 || exec.Command("unshare", "--mount", "true").Run() != nil {
		t.Skip("SKIPPED: a host of one's own takes root and mount namespaces")
	}
	return start(t, "host.sh", "/usr/sbin/sshd")
}
