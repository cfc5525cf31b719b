package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	ldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// startHarbour starts a real directory server in a folder of its own and returns that, and the
// address of the server.
func startHarbour(t *testing.T) (dir, url string) {
	if _, err := os.Stat("/usr/sbin/slapd"); err != nil {
		t.Skip("SKIPPED: there is no OpenLDAP server on this machine; scripts/test.sh installs it on Debian")
	}
	dir, err := os.MkdirTemp("", "harbour") // a socket's path is short
	require.NoError(t, err)
	server := exec.Command("../scripts/directory.sh", dir, "0")
	server.Stderr = os.Stderr
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Signal(syscall.SIGINT)
		_ = server.Wait()
		_ = os.RemoveAll(dir)
	})
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, "slapd.pid"))
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	return dir, "ldapi://" + strings.ReplaceAll(dir, "/", "%2F") + "%2Fldapi"
}

// inHarbour is a workspace for such a server.
func inHarbour(t *testing.T) (f folder, url string) {
	dir, url := startHarbour(t)
	f = folder{t, t.TempDir()}
	f.write("evenledger.yaml", fmt.Sprintf("systems:\n  harbour: {kind: ldap, url: %q, user: \"cn=evenledger,ou=services,dc=brindlesound,dc=example\", password: \"file:%s/password\", base: \"dc=brindlesound,dc=example\", people: ou=people, groups: ou=groups, settle: 500ms}\n", url, dir))
	f.write("briefs/crew.yaml", `system: harbour
match: [employeeNumber]
fields:
  employeeNumber: {from: No}
  givenName: {from: First}
  familyName: {from: Last}
  formattedName: {make: 'givenName + " " + familyName'}
  userName: {make: 'fold(givenName) + "." + fold(familyName)', unique: number}
  title: {from: Position}
  unit: {from: Place, make_missing: true}
groups: {from: Groups, make_missing: true}
`)
	return f, url
}

// people returns the lines of an export of all accounts, in order.
func (f folder) people() []string {
	code, _, errOut := f.run("export", "harbour", "--memberships", "groups", "-o", "people.csv", "--overwrite")
	require.Zero(f.t, code, errOut)
	lines := strings.Split(strings.TrimSpace(f.read("people.csv")), "\n")
	slices.Sort(lines)
	return lines
}

// The walk with a real directory, followed to the letter.
func TestDirectoryPage(t *testing.T) {
	dir, url := startHarbour(t)
	page, err := os.ReadFile("../docs/directory.md")
	require.NoError(t, err)
	t.Setenv("HANDOUT", "gulls over the quay 1912")
	f := folder{t, t.TempDir()}
	f.follow(strings.NewReplacer("ldap://127.0.0.1:3389", url, "/tmp/harbour", dir).Replace(string(page)), 8)
}

// An account that is there gets another password, by which its person really signs in; what
// the directory tells of the passwords it takes is looked at before.
func TestDirectoryPasswords(t *testing.T) {
	f, url := inHarbour(t)
	f.write("briefs/renewed.yaml", "system: harbour\nmatch: [employeeNumber]\nnew: refuse\nfields: {employeeNumber: {from: No}}\npassword: {known: given, from: Word, change_at_sign_in: true}\n")
	f.write("renewed.csv", "No,Word\n1001,Gulls over-quay 41\n1002,aB3-xZ9!\n1003,\n")
	code, out, _ := f.run("draft", "renewed.csv", "-b", "renewed")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "it has 8 characters, and the system wants 10")
	code, out, errOut := f.run("post", "1", "--yes")
	require.Equal(t, 1, code, out+errOut)
	assert.Equal(t, map[string]int{"updated": 1, "refused": 1, "unchanged": 1}, f.outcomes(1))
	conn, err := ldap.DialURL(url)
	require.NoError(t, err)
	defer conn.Close()
	const ines = "uid=ines.carvalho,ou=Deck,ou=people,dc=brindlesound,dc=example"
	require.NoError(t, conn.Bind(ines, "Gulls over-quay 41"))
	found, err := conn.Search(ldap.NewSearchRequest(ines, ldap.ScopeBaseObject, 0, 0, 0, false, "(objectClass=*)", []string{"pwdReset"}, nil))
	require.NoError(t, err)
	assert.Equal(t, "TRUE", found.Entries[0].GetAttributeValue("pwdReset"), "she has to choose another")
}

// A post into a directory may be killed at any moment: nobody is made twice, nobody is left
// out, and undone it leaves the directory as it was.
func TestDirectoryEvenAfterKills(t *testing.T) {
	f, _ := inHarbour(t)
	before := f.people()
	var rows strings.Builder
	rows.WriteString("No,First,Last,Position,Place,Groups\n")
	for i := range 600 {
		fmt.Fprintf(&rows, "%d,Ana,%q,Deck hand,Deck/Crew %c,Summer watch\n", 5000+i, []string{"Reyes", "Ångström", "O’Neil, Jr", "Ivanova#+"}[i%4], 'A'+i%5)
	}
	f.write("crew.csv", rows.String())
	code, out, errOut := f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, out+errOut)
	for _, pause := range []time.Duration{150, 300, 500} {
		post := f.command("post", "1", "--yes")
		require.NoError(t, post.Start())
		time.Sleep(pause * time.Millisecond)
		_ = post.Process.Kill()
		_ = post.Wait()
	}
	code, out, errOut = f.run("post", "1", "--yes")
	require.Zero(t, code, out+errOut)
	assert.Equal(t, map[string]int{"created": 600}, f.outcomes(1))
	now := f.people()
	assert.Len(t, now, len(before)+600)
	code, out, errOut = f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, out+errOut)
	assert.Equal(t, map[string]int{"unchanged": 600}, f.outcomes(2), "handed in again, nothing changes")

	code, out, errOut = f.run("reverse", "1", "--remove")
	require.Zero(t, code, out+errOut)
	code, out, errOut = f.run("post", "3", "--yes")
	require.Zero(t, code, out+errOut)
	assert.Equal(t, before, f.people(), "undone, everything is as it was")
	code, out, errOut = f.run("lookup", "harbour", "units", "--json")
	require.Zero(t, code, errOut)
	assert.NotContains(t, out, "Crew C")
}
