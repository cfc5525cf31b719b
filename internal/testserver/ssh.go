package testserver

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// SSH starts OpenSSH's server for whoever runs the test, who gets in by the key in DIR/key,
// and returns who that is. DIR/known_hosts has the server's key.
func SSH(t testing.TB) (s Server, who string) {
	s, who = readySSH(t)
	Run(t, exec.Command("/usr/sbin/sshd", s.sshd()...), s.Port)
	return s, who
}

func (s Server) sshd() []string {
	return []string{"-D", "-e", "-f", filepath.Join(s.Dir, "sshd_config")}
}

func readySSH(t testing.TB) (s Server, who string) {
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
	return s, me.Username
}

// Host starts a Unix host of its own: OpenSSH's server with an /etc and a /home that nobody
// else sees, in DIR/etc and DIR/home, so that accounts can be made and removed in it with
// the machine's own tools. It has the machine's system accounts and nobody else; root gets
// in by the key in DIR/key. This takes root and namespaces.
func Host(t testing.TB) Server {
	s, who := readySSH(t)
	if who != "root" || exec.Command("unshare", "--mount", "true").Run() != nil {
		t.Skip("SKIPPED: a host of one's own takes root and mount namespaces")
	}
	out, err := exec.Command("sh", "-c", `cd "$0" && cp -a /etc etc && mkdir -p home mail run/sshd && chmod 755 .
for f in passwd shadow group gshadow; do rm -f etc/$f- etc/$f.lock; done
awk -F: '$3 < 1000 || $3 > 60000' /etc/passwd >etc/passwd && awk -F: '$3 < 1000 || $3 > 60000' /etc/group >etc/group
awk -F: 'NR == FNR {is[$1] = 1; next} is[$1]' etc/passwd /etc/shadow >etc/shadow
: >etc/subuid; : >etc/subgid; sed -i 's/:[^:]*$/:/' etc/group; cp etc/group etc/gshadow; sed -i 's/:.*/:*::/' etc/gshadow`, s.Dir).CombinedOutput()
	require.NoError(t, err, string(out))
	mounts := fmt.Sprintf("mount --bind %[1]s/etc /etc && mount --bind %[1]s/home /home && mount --bind %[1]s/mail /var/mail && mount --bind %[1]s/run /run && exec /usr/sbin/sshd %[2]s", s.Dir, strings.Join(s.sshd(), " "))
	Run(t, exec.Command("unshare", "--mount", "--propagation", "private", "sh", "-c", mounts), s.Port)
	return s
}
