package test

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	ldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/testserver"
)

// startHarbour starts a real directory server in a folder of its own and returns that, and the
// address of the server.
func startHarbour(t *testing.T, more ...string) (dir, url string) {
	if _, err := os.Stat("/usr/sbin/slapd"); err != nil {
		t.Skip("SKIPPED: there is no OpenLDAP server on this machine; scripts/test.sh installs it on Debian")
	}
	dir = runDirectory(t, "openldap", more...)
	testserver.Soon(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, "slapd.pid"))
		return err == nil
	})
	return dir, "ldapi://" + strings.ReplaceAll(dir, "/", "%2F") + "%2Fldapi"
}

// runDirectory runs the project's script for a family of directories until the test is over.
func runDirectory(t *testing.T, family string, more ...string) string {
	port := 0
	dir, err := os.MkdirTemp("", "harbour") // a socket's path is short
	require.NoError(t, err)
	if family == "ad" {
		port = testserver.FreePort(t)
	}
	server := exec.Command("../scripts/directory.sh", dir, strconv.Itoa(port), family)
	server.Stderr, server.Env = os.Stderr, append(os.Environ(), more...)
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Signal(syscall.SIGINT)
		_ = server.Wait()
		_ = os.RemoveAll(dir)
	})
	return dir
}

// inHarbour is a workspace for such a server.
func inHarbour(t *testing.T, more ...string) (f folder, url string) {
	dir, url := startHarbour(t, more...)
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
	t.Parallel()
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

// seen is what a directory itself says of its people and groups, read without the program.
type seen struct {
	people map[string]string   // number → name
	closed map[string]bool     // by number: may not sign in
	groups map[string][]string // numbers of the members, in order; a name that is nobody's as it is
}

func look(t *testing.T, url string) seen {
	conn, err := ldap.DialURL(url)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.ExternalBind())
	search := func(filter string, attributes ...string) []*ldap.Entry {
		found, err := conn.SearchWithPaging(ldap.NewSearchRequest("dc=brindlesound,dc=example", ldap.ScopeWholeSubtree, 0, 0, 0, false, filter, attributes, nil), 200)
		require.NoError(t, err)
		return found.Entries
	}
	s := seen{people: map[string]string{}, closed: map[string]bool{}, groups: map[string][]string{}}
	who := map[string]string{}
	for _, e := range search("(employeeNumber=5*)", "employeeNumber", "pwdAccountLockedTime") {
		number := e.GetAttributeValue("employeeNumber")
		require.NotContains(t, s.people, number, "somebody was made twice")
		s.people[number], who[strings.ToLower(e.DN)] = e.DN, number
		if e.GetAttributeValue("pwdAccountLockedTime") != "" {
			s.closed[number] = true
		}
	}
	for _, e := range search("(objectClass=groupOfNames)", "cn", "member") {
		var members []string
		for _, member := range e.GetAttributeValues("member") {
			number := who[strings.ToLower(member)]
			if members = append(members, number); number == "" {
				members[len(members)-1] = member
			}
		}
		slices.Sort(members)
		s.groups[e.GetAttributeValue("cn")] = members
	}
	return s
}

// Whatever a directory sees to by itself, and wherever a post is killed: what it says it did is there, by
// the directory's own word. Nobody is made twice or left out, who may not sign in cannot, each password
// that is handed out is set, who is moved stays in their groups and leaves those they are to leave, and
// undone all is as it was.
func TestProvenInDirectories(t *testing.T) {
	t.Parallel()
	for name, overlays := range map[string]string{"as one is well run": "memberof refint unique ppolicy", "with a policy alone": "ppolicy", "as it is installed": ""} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			locks := strings.Contains(overlays, "ppolicy")
			f, url := inHarbour(t, "OVERLAYS="+overlays, "EMPTY=1")
			active := map[bool]string{true: "  active: {from: Signs in}\n"}[locks]
			f.write("briefs/crew.yaml", strings.Replace(f.read("briefs/crew.yaml"), "groups:", active+"  manager: {from: Boss, refers: employeeNumber}\ngroups:", 1)+"password: {new: generate}\n")
			brief := strings.Replace(f.read("briefs/crew.yaml"), "make_missing: true}\npassword", "split: \";\", make_missing: true, mode: exact}\npassword", 1)
			f.write("briefs/crew.yaml", brief)
			const people = 120
			sheet := func(name, place, groups string, n int) {
				var rows strings.Builder
				rows.WriteString("No,First,Last,Position,Signs in,Place,Boss,Groups\n")
				for i := range n {
					fmt.Fprintf(&rows, "%d,Ana,%q,Deck hand,%s,%s,%d,%s\n", 5000+i, []string{"Reyes", "Ångström", "O’Neil", "Ivanova#+"}[i%4], map[bool]string{true: "no", false: "yes"}[i%4 == 0], place, 5000+(i+1)%people, groups)
				}
				f.write(name, rows.String())
			}
			handed := 0
			post := func(id int) {
				for kills := 0; ; kills++ {
					cmd := f.command("post", fmt.Sprint(id), "--yes", "--credentials", fmt.Sprintf("words-%d-%d.csv", id, kills), "--in-clear")
					var told bytes.Buffer
					cmd.Stdout, cmd.Stderr = &told, &told
					require.NoError(t, cmd.Start())
					if kills < 4 {
						time.AfterFunc(time.Duration(60+rand.IntN(500))*time.Millisecond, func() { _ = cmd.Process.Kill() })
					}
					if err := cmd.Wait(); err == nil || kills >= 4 {
						require.NoError(t, err, told.String())
						assert.Regexp(t, `Proven (\d+) of `, told.String())
						return
					}
				}
			}
			sheet("crew.csv", "Deck", "Watch;Night", people)
			code, out, errOut := f.run("draft", "crew.csv", "-b", "crew")
			require.Zero(t, code, out+errOut)
			post(1)
			first := look(t, url)
			require.Len(t, first.people, people)
			assert.Equal(t, map[bool]int{true: people / 4}[locks], len(first.closed), "who may not sign in")
			assert.Len(t, first.groups["Watch"], people)
			assert.Len(t, first.groups["Night"], people)
			conn, err := ldap.DialURL(url)
			require.NoError(t, err)
			defer conn.Close()
			files, err := filepath.Glob(filepath.Join(f.dir, "words-1-*.csv"))
			require.NoError(t, err)
			for _, file := range files {
				for i, line := range strings.Split(strings.TrimSpace(f.read(filepath.Base(file))), "\n") {
					cells := strings.Split(line, ",")
					if i == 0 {
						continue
					}
					handed++
					at := slices.IndexFunc(slices.Sorted(maps.Keys(first.people)), func(number string) bool {
						return strings.HasPrefix(first.people[number], "uid="+cells[0]+",")
					})
					require.GreaterOrEqual(t, at, 0, line)
					number := slices.Sorted(maps.Keys(first.people))[at]
					assert.Equal(t, first.closed[number], conn.Bind(first.people[number], cells[len(cells)-1]) != nil, "%s: what is handed out is set, and opens nobody who is shut out", number)
				}
			}
			assert.Positive(t, handed)

			sheet("moves.csv", "Ashore", "Watch;Stay", people/2)
			code, out, errOut = f.run("draft", "moves.csv", "-b", "crew")
			require.Zero(t, code, out+errOut)
			post(2)
			moved := look(t, url)
			assert.Equal(t, first.groups["Watch"], moved.groups["Watch"], "who is moved stays in their groups")
			assert.Equal(t, first.groups["Night"][people/2:], moved.groups["Night"])
			assert.Len(t, moved.groups["Stay"], people/2)
			assert.Equal(t, first.closed, moved.closed)

			code, out, errOut = f.run("reverse", "2")
			require.Zero(t, code, out+errOut)
			post(3)
			assert.Equal(t, first, look(t, url), "undone, all is as it was")
			code, out, errOut = f.run("reverse", "1", "--remove")
			require.Zero(t, code, out+errOut)
			post(4)
			last := look(t, url)
			assert.Empty(t, last.people)
			assert.Empty(t, last.groups)
		})
	}
}

// Who is removed is gone from all groups and from all who had them as manager, and stands there again when it is undone, whatever
// the directory sees to by itself. A person who lacks an auxiliary class gets it, with all that it needs, and loses it again.
func TestReferredToAgain(t *testing.T) {
	t.Parallel()
	for name, overlays := range map[string]string{"with a policy alone": "ppolicy", "as one is well run": "memberof refint unique ppolicy"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f, url := inHarbour(t, "OVERLAYS="+overlays)
			f.write("briefs/out.yaml", "system: harbour\nmatch: [employeeNumber]\nallow_remove: true\nintent: {from: What, via: {out: remove}}\nfields:\n  employeeNumber: {from: No}\n")
			f.write("out.csv", "No,What\n1001,out\n")
			var conn *ldap.Conn
			testserver.Soon(t, func() bool {
				var err error
				conn, err = ldap.DialURL(url)
				return err == nil
			})
			defer conn.Close()
			require.NoError(t, conn.ExternalBind())
			named := func() (all []string) {
				found, err := conn.Search(ldap.NewSearchRequest("dc=brindlesound,dc=example", ldap.ScopeWholeSubtree, 0, 0, 0, false, "(|(member=*)(manager=*))", []string{"member", "manager"}, nil))
				require.NoError(t, err)
				for _, e := range found.Entries {
					for _, value := range append(e.GetAttributeValues("member"), e.GetAttributeValues("manager")...) {
						if strings.HasPrefix(value, "uid=ines.carvalho,") {
							all = append(all, e.DN)
						}
					}
				}
				slices.Sort(all)
				return all
			}
			before := named()
			require.Len(t, before, 5)
			for i, args := range [][]string{{"draft", "out.csv", "-b", "out"}, {"reverse", "1"}} {
				code, out, errOut := f.run(args...)
				require.Zero(t, code, out+errOut)
				code, out, errOut = f.run("post", strconv.Itoa(i+1), "--yes")
				require.Zero(t, code, out+errOut)
				assert.Equal(t, [][]string{nil, before}[i], named())
			}

			f.write("evenledger.yaml", strings.Replace(f.read("evenledger.yaml"), "settle:", "classes: [inetOrgPerson, posixAccount], settle:", 1))
			f.write("briefs/unix.yaml", "system: harbour\nmatch: [employeeNumber]\nnew: refuse\nfields:\n  employeeNumber: {from: No}\n  uidNumber: {from: Uid}\n  gidNumber: {from: Gid}\n  homeDirectory: {from: Home}\n")
			f.write("unix.csv", "No,Uid,Gid,Home\n1002,20001,20001,/home/x\n1003,20002,,\n")
			code, out, errOut := f.run("draft", "unix.csv", "-b", "unix")
			assert.Equal(t, 1, code, out+errOut)
			assert.Contains(t, out, "needs a gidNumber as well")
			classes := func() []string {
				found, err := conn.Search(ldap.NewSearchRequest("dc=brindlesound,dc=example", ldap.ScopeWholeSubtree, 0, 0, 0, false, "(employeeNumber=1002)", []string{"objectClass"}, nil))
				require.NoError(t, err)
				return found.Entries[0].GetAttributeValues("objectClass")
			}
			code, out, errOut = f.run("post", "3", "--yes")
			assert.Equal(t, 1, code, out+errOut)
			assert.Contains(t, classes(), "posixAccount")
			require.Zero(t, first(f.run("reverse", "3")))
			code, out, errOut = f.run("post", "4", "--yes")
			require.Zero(t, code, out+errOut)
			assert.NotContains(t, classes(), "posixAccount")
		})
	}
}
