package ldap

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	ldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"evenledger/internal/secret"
	"evenledger/internal/system"
	"evenledger/internal/system/systemtest"
)

const base = "dc=brindlesound,dc=example"

// harbour is a real directory server, one for all tests.
var harbour = sync.OnceValues(func() (dir string, err error) {
	if dir, err = os.MkdirTemp("", "harbour"); err != nil {
		return "", err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	port := listener.Addr().(*net.TCPAddr).Port
	if err := listener.Close(); err != nil {
		return "", err
	}
	script, err := filepath.Abs("../../../scripts/directory.sh")
	if err != nil {
		return "", err
	}
	server = exec.Command(script, dir, fmt.Sprint(port))
	server.Env = append(os.Environ(), "EMPTY=1")
	server.Stderr = os.Stderr
	if err := server.Start(); err != nil {
		return "", err
	}
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			return dir, conn.Close()
		}
		if time.Now().After(until) {
			return "", fmt.Errorf("the directory server did not start")
		}
	}
})

var server *exec.Cmd

func TestMain(m *testing.M) {
	code := m.Run()
	if server != nil && server.Process != nil {
		_ = server.Process.Signal(syscall.SIGINT)
		_, _ = server.Process.Wait()
		_ = os.RemoveAll(server.Args[1])
	}
	os.Exit(code)
}

var trees atomic.Int32

// open returns a client for a tree of its own in the server, changed by some.
func open(t *testing.T, change ...func(*connection)) *client {
	if _, err := exec.LookPath("slapd"); err != nil {
		if _, err := os.Stat("/usr/sbin/slapd"); err != nil {
			t.Skip("SKIPPED: there is no OpenLDAP server on this machine; scripts/test.sh installs it on Debian")
		}
	}
	dir, err := harbour()
	require.NoError(t, err)
	c := connection{url: "ldapi://" + url.PathEscape(filepath.Join(dir, "ldapi")), classes: []string{"ferryCrew"}, page: 50, attributes: map[string]string{}}
	admin, err := newClient(c, "", system.Work{})
	require.NoError(t, err)
	conn, err := admin.take(t.Context())
	require.NoError(t, err)
	c.base = fmt.Sprintf("ou=tree %d,%s", trees.Add(1), base)
	c.people, c.groups = "ou=people,"+c.base, "ou=groups,"+c.base
	for _, dn := range []string{c.base, c.people, c.groups, "ou=Deck," + c.people, "ou=Crew A,ou=Deck," + c.people, "ou=Engine," + c.people} {
		request := ldap.NewAddRequest(dn, nil)
		request.Attribute("objectClass", []string{"organizationalUnit"})
		require.NoError(t, conn.Add(request))
	}
	require.NoError(t, conn.Close())
	for _, f := range change {
		f(&c)
	}
	opened, err := newClient(c, "", system.Work{Together: 4, Timeout: 10 * time.Second, Mask: secret.NewMask()})
	require.NoError(t, err)
	return opened
}

func TestSystem(t *testing.T) {
	for name, change := range map[string]func(*connection){
		"groups by name":         func(*connection) {},
		"groups by unique name":  func(c *connection) { c.groupClass = "groupOfUniqueNames" },
		"people with every need": func(c *connection) { c.page = 7 },
	} {
		t.Run(name, func(t *testing.T) {
			systemtest.Run(t, func(t *testing.T) system.System { return open(t, change) })
		})
	}
}
