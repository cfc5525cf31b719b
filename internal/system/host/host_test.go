package host_test

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"evenledger/internal/secret"
	"evenledger/internal/system"
	"evenledger/internal/system/kinds"
	"evenledger/internal/system/systemtest"
	"evenledger/internal/testserver"
	"evenledger/internal/workspace"
)

// open connects to a host, with more lines in evenledger.yaml if there are any.
func open(t *testing.T, s testserver.Server, more string) system.System {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, workspace.File), fmt.Appendf(nil, "systems:\n  quay:\n    kind: host\n    url: ssh://root@127.0.0.1:%d\n    key: file:%s/key\n    known_hosts: %s/known_hosts\n%s", s.Port, s.Dir, s.Dir, more), 0o600))
	w, err := workspace.Read(dir, workspace.Kinds{Systems: kinds.All()})
	require.NoError(t, err)
	client, err := w.Systems[0].Connection.Open(system.Work{Together: 8, Mask: secret.NewMask()})
	require.NoError(t, err)
	return client
}

func TestSuite(t *testing.T) {
	systemtest.Run(t, systemtest.Shape{Text: "gecos", Other: "expires", Values: [3]string{"2031-01-02", "2032-02-29", "2033-12-31"}, Odd: "crew.%d", Group: "night.watch"}, func(t *testing.T) system.System {
		s := testserver.Host(t)
		line := systemtest.NewLine(t, "tcp", fmt.Sprintf("127.0.0.1:%d", s.Port), "127.0.0.1:0")
		known, err := os.ReadFile(filepath.Join(s.Dir, "known_hosts"))
		require.NoError(t, err)
		at := line.Addr().(*net.TCPAddr).Port
		other := s
		other.Port, other.Dir = at, t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(other.Dir, "known_hosts"), bytes.ReplaceAll(known, []byte(strconv.Itoa(s.Port)), []byte(strconv.Itoa(at))), 0o600))
		key, err := os.ReadFile(filepath.Join(s.Dir, "key"))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(other.Dir, "key"), key, 0o600))
		return systemtest.Lossy{System: open(t, other, ""), Line: line, Work: 3 * time.Second}
	})
}
