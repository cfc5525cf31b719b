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
	"evenledger/internal/testserver"
)

const base = "dc=brindlesound,dc=example"

// A harbour is a real directory server.
type harbour struct {
	dir, at string // its folder and address
	cmd     *exec.Cmd
}

// start starts one in a folder of its own, with what else its script takes.
func start(t testing.TB, more ...string) (h *harbour, err error) {
	h = &harbour{}
	if h.dir, err = os.MkdirTemp("", "harbour"); err != nil {
		return nil, err
	}
	port := testserver.FreePort(t)
	h.at = fmt.Sprintf("127.0.0.1:%d", port)
	script, err := filepath.Abs("../../../scripts/directory.sh")
	if err != nil {
		return nil, err
	}
	h.cmd = exec.Command(script, h.dir, fmt.Sprint(port))
	h.cmd.Env = append(append(os.Environ(), "EMPTY=1"), more...)
	h.cmd.Stderr = os.Stderr
	if err := h.cmd.Start(); err != nil {
		return nil, err
	}
	for until := time.Now().Add(2 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		if conn, err := net.Dial("tcp", h.at); err == nil {
			return h, conn.Close()
		}
		if time.Now().After(until) {
			return h, fmt.Errorf("the directory server did not start")
		}
	}
}

func (h *harbour) stop() {
	_ = h.cmd.Process.Signal(syscall.SIGINT)
	_, _ = h.cmd.Process.Wait()
	_ = os.RemoveAll(h.dir)
}

// shared is the server of all tests but those that want an odd one.
var shared struct {
	once sync.Once
	*harbour
	err error
}

func TestMain(m *testing.M) {
	code := m.Run()
	if shared.harbour != nil {
		shared.stop()
	}
	os.Exit(code)
}

// inHarbour returns the server of all tests.
func inHarbour(t *testing.T) *harbour {
	if _, err := os.Stat("/usr/sbin/slapd"); err != nil {
		t.Skip("SKIPPED: there is no OpenLDAP server on this machine; scripts/test.sh installs it on Debian")
	}
	shared.once.Do(func() { shared.harbour, shared.err = start(t) })
	require.NoError(t, shared.err)
	return shared.harbour
}

var trees atomic.Int32

// open returns a client for a tree of its own in the server, changed by some.
func open(t *testing.T, change ...func(*connection)) *client {
	return inHarbour(t).tree(t, change...)
}

// tree returns a client for a tree of its own in a server.
func (h *harbour) tree(t *testing.T, change ...func(*connection)) *client {
	c := connection{url: "ldapi://" + url.PathEscape(filepath.Join(h.dir, "ldapi")), classes: []string{"ferryCrew"}, page: 50, attributes: map[string]string{}}
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
			systemtest.Run(t, systemtest.Person(), func(t *testing.T) system.System {
				var line *systemtest.Line
				s := open(t, change, func(c *connection) {
					at := filepath.Join(t.TempDir(), "s")
					line = systemtest.NewLine(t, "unix", filepath.Join(shared.harbour.dir, "ldapi"), at)
					c.url = "ldapi://" + url.PathEscape(at)
				})
				return systemtest.Lossy{System: s, Line: line, Work: 200 * time.Millisecond}
			})
		})
	}
}
