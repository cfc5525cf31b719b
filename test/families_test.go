package test

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	ldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/testserver"
)

// A family is a kind of directory server, as the tests have to know it.
type family struct {
	name, server  string // the program that has to be installed
	more          string // in the environment of its script
	number, login string // attributes
	locked        func(*ldap.Entry) bool
	lock          string // the attribute that says so; empty: it has none as it is set up
	brief         string // what its brief has more
}

func marked(attribute, value string) func(*ldap.Entry) bool {
	return func(e *ldap.Entry) bool { return strings.EqualFold(e.GetAttributeValue(attribute), value) }
}

// families are the servers that a thousand people are tried on.
func families() map[string]family {
	const active = "  active: {from: Signs in}\n"
	return map[string]family{
		"as installed":       {name: "openldap", server: "/usr/sbin/slapd", number: "employeeNumber", login: "uid", locked: func(*ldap.Entry) bool { return false }, more: "OVERLAYS="},
		"as one is well run": {name: "openldap", server: "/usr/sbin/slapd", number: "employeeNumber", login: "uid", lock: "pwdAccountLockedTime", locked: marked("pwdAccountLockedTime", "000001010000Z"), brief: active},
		"389":                {name: "389", server: "/usr/sbin/ns-slapd", number: "employeeNumber", login: "uid", lock: "nsAccountLock", locked: marked("nsAccountLock", "true"), brief: active},
		"ad": {name: "ad", server: "/usr/sbin/samba", number: "employeeNumber", login: "sAMAccountName", lock: "userAccountControl", locked: func(e *ldap.Entry) bool {
			bits, _ := strconv.Atoi(e.GetAttributeValue("userAccountControl"))
			return bits&2 != 0
		}, brief: active},
	}
}

// startDirectory starts a directory of a family in a folder of its own, and returns that, its address, and a connection of
// who keeps the accounts, which is none of the program's.
func startDirectory(t *testing.T, of family, more ...string) (dir, url string, conn *ldap.Conn) {
	if _, err := os.Stat(of.server); err != nil {
		t.Skipf("SKIPPED: there is no %s on this machine; scripts/test.sh installs it on Debian", of.server)
	}
	dir = runDirectory(t, of.name, more...)
	url = "ldapi://" + strings.ReplaceAll(dir, "/", "%2F") + "%2Fldapi"
	testserver.Soon(t, func() bool {
		_, ready := os.Stat(filepath.Join(dir, "ready"))
		_, runs := os.Stat(filepath.Join(dir, "slapd.pid"))
		return ready == nil || runs == nil
	}, "the directory does not get ready")
	user := "cn=evenledger,ou=services,dc=brindlesound,dc=example"
	if at, err := os.ReadFile(filepath.Join(dir, "url")); err == nil {
		url, user = string(at), "evenledger@brindlesound.example"
	}
	authority, err := os.ReadFile(filepath.Join(dir, "ca.pem"))
	require.NoError(t, err)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(authority))
	password, err := os.ReadFile(filepath.Join(dir, "password"))
	require.NoError(t, err)
	testserver.Soon(t, func() bool {
		if conn, err = ldap.DialURL(url, ldap.DialWithTLSConfig(&tls.Config{RootCAs: pool, ServerName: "localhost"})); err != nil {
			return false
		}
		return conn.Bind(user, string(password)) == nil
	})
	t.Cleanup(func() { _ = conn.Close() })
	return dir, url, conn
}

// A person is what a directory itself says of one.
type person struct {
	dn, name, title, mail, boss string
	locked                      bool
}

// whoIs reads the people whose numbers begin with 5, and who is in which groups, all by number.
func whoIs(t *testing.T, conn *ldap.Conn, of family) (people map[string]person, groups map[string][]string) {
	people, groups = map[string]person{}, map[string][]string{}
	numbers, bosses := map[string]string{}, map[string]string{}
	number := func(dn string) string {
		if n := numbers[strings.ToLower(dn)]; n != "" || dn == "" {
			return n
		}
		return dn
	}
	for place, filter := range map[string]string{"ou=people": "(objectClass=person)", "ou=groups": "(member=*)"} {
		found, err := conn.SearchWithPaging(ldap.NewSearchRequest(place+",dc=brindlesound,dc=example", ldap.ScopeWholeSubtree, 0, 0, 0, false, filter, []string{"*", of.lock}, nil), 200)
		require.NoError(t, err)
		for _, e := range found.Entries {
			if place == "ou=groups" {
				groups[e.GetAttributeValue("cn")] = e.GetAttributeValues("member")
				continue
			}
			n := e.GetAttributeValue(of.number)
			require.NotContains(t, people, n, "somebody was made twice")
			people[n] = person{e.DN, e.GetAttributeValue("cn"), e.GetAttributeValue("title"), e.GetAttributeValue("mail"), "", of.locked(e)}
			numbers[strings.ToLower(e.DN)], bosses[n] = n, e.GetAttributeValue("manager")
		}
	}
	for n, p := range people {
		p.boss = number(bosses[n])
		people[n] = p
	}
	for _, members := range groups {
		for i, dn := range members {
			members[i] = number(dn)
		}
		slices.Sort(members)
	}
	return people, groups
}

// A thousand people are made, half of them changed, a hundred moved and renamed, three hundred get a new manager, and all is
// undone: by the directory's own word each row is as it was told.
func TestThousandPeople(t *testing.T) {
	t.Parallel()
	for name, of := range families() {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, url, conn := startDirectory(t, of, "EMPTY=1", of.more)
			f := folder{t, t.TempDir()}
			user := map[bool]string{true: "evenledger@brindlesound.example", false: "cn=evenledger,ou=services,dc=brindlesound,dc=example"}[of.name == "ad"]
			f.write("evenledger.yaml", fmt.Sprintf("systems:\n  harbour: {kind: ldap, url: %q, user: %q, password: \"file:%s/password\", ca: %s/ca.pem, base: \"dc=brindlesound,dc=example\", people: ou=people, groups: ou=groups, settle: 2s}\n", url, user, dir, dir))
			f.write("briefs/crew.yaml", `system: harbour
match: [employeeNumber]
fields:
  employeeNumber: {from: No}
  givenName: {from: First}
  familyName: {from: Last}
  formattedName: {make: 'givenName + " " + familyName + " " + employeeNumber'}
  userName: {from: Login}
  email: {make: 'userName + "@brindlesound.example"'}
  title: {from: Position}
  unit: {from: Place, make_missing: true}
  manager: {from: Boss, refers: employeeNumber}
`+of.brief+`groups: {from: Groups, split: ";", make_missing: true, mode: exact}
password: {new: generate}
`)
			people := 1000
			if of.name != "openldap" { // their servers take ten times as long
				people = 400
			}
			// Names hold what has a meaning in names of entries (RFC 4514), filters and sheets.
			seed := uint64(time.Now().UnixNano())
			t.Log("seed", seed)
			dice := rand.New(rand.NewPCG(seed, 1))
			last := make([]string, people)
			for i := range last {
				last[i] = "Q"
				for range dice.IntN(9) {
					last[i] += string([]rune(`=+,;<>"\#&/()* aZéŻ漢`)[dice.IntN(20)])
				}
				last[i] = strings.Join(strings.Fields(last[i]+"z"), " ")
			}
			sheet := func(name string, row func(i int) (login, title, place, boss, groups string, rest bool)) {
				var out strings.Builder
				rows := csv.NewWriter(&out)
				require.NoError(t, rows.Write(strings.Split("No,First,Last,Login,Position,Signs in,Place,Boss,Groups", ",")))
				for i := range people {
					if login, title, place, boss, groups, is := row(i); is {
						require.NoError(t, rows.Write([]string{strconv.Itoa(5000 + i), "Ana", last[i], login, title, map[bool]string{true: "no", false: "yes"}[i%4 == 0], place, boss, groups}))
					}
				}
				rows.Flush()
				f.write(name, out.String())
			}
			begun := time.Now()
			post := func(id int, words string, args ...string) {
				code, out, errOut := f.run(args...)
				require.Zero(t, code, out+errOut)
				t.Log(time.Since(begun).Round(100*time.Millisecond), "drafted", id)
				t.Log(out)
				code, out, errOut = f.run("post", strconv.Itoa(id), "--yes", "--credentials", fmt.Sprintf("words-%d.csv", id), "--in-clear")
				t.Log(time.Since(begun).Round(100*time.Millisecond), "posted", id)
				require.Zero(t, code, out+errOut)
				t.Log(out)
				assert.Contains(t, out, words)
			}
			sheet("crew.csv", func(i int) (string, string, string, string, string, bool) {
				boss := ""
				if i%10 > 0 {
					boss = strconv.Itoa(5000 + i - 1)
				}
				return fmt.Sprintf("ana%d", i), "Mate", []string{"Deck/Crew A", "Engine", "Ticket offices"}[i%3], boss, []string{"Watch;Night", "Watch"}[i%2], true
			})
			post(1, "Proven", "draft", "crew.csv", "-b", "crew")
			first, in := whoIs(t, conn, of)
			require.Len(t, first, people)
			assert.Len(t, in["Watch"], people)
			assert.Len(t, in["Night"], people/2)
			for i := range people {
				p := first[strconv.Itoa(5000+i)]
				assert.Equal(t, fmt.Sprintf("Ana %s %d", last[i], 5000+i), p.name)
				assert.Equal(t, fmt.Sprintf("ana%d@brindlesound.example", i), p.mail)
			}

			if of.name == "389" { // from here on it cuts short what it is asked for, so that it is asked in parts
				limits := ldap.NewModifyRequest("cn=evenledger,ou=services,dc=brindlesound,dc=example", nil)
				limits.Replace("nsLookThroughLimit", []string{strconv.Itoa(people * 2 / 5)})
				limits.Replace("nsSizeLimit", []string{strconv.Itoa(people * 3 / 10)})
				require.NoError(t, conn.Modify(limits))
			}
			sheet("changes.csv", func(i int) (string, string, string, string, string, bool) {
				login, place, groups := fmt.Sprintf("ana%d", i), []string{"Deck/Crew A", "Engine", "Ticket offices"}[i%3], []string{"Watch;Night", "Watch"}[i%2]
				switch {
				case i < people/20:
					place = `Ashore=1, "+#2`
				case i < people/10:
					login, place = fmt.Sprintf("ana.%d", i), "Deck/Crew B"
				case i < people*3/20:
					groups = "Watch;Stay"
				}
				boss := strconv.Itoa(5000 + (i+7)%people)
				if i < people/5 {
					boss = map[bool]string{true: strconv.Itoa(5000 + i - 1)}[i%10 > 0]
				}
				return login, "Second mate", place, boss, groups, i < people/2
			})
			post(2, "Proven", "draft", "changes.csv", "-b", "crew")
			second, now := whoIs(t, conn, of)
			for i := range people {
				n := strconv.Itoa(5000 + i)
				p := second[n]
				switch {
				case i < people/20:
					assert.Contains(t, p.dn, "Ashore", n)
				case i < people/10:
					assert.Contains(t, p.dn, "Crew B", n)
					assert.Equal(t, fmt.Sprintf("ana.%d@brindlesound.example", i), p.mail)
				default:
					assert.Equal(t, first[n].dn, p.dn)
				}
				if i >= people/5 && i < people/2 {
					assert.Equal(t, strconv.Itoa(5000+(i+7)%people), p.boss, n)
				} else {
					assert.Equal(t, first[n].boss, p.boss, n)
				}
				assert.Equal(t, map[bool]string{true: "Second mate", false: "Mate"}[i < people/2], p.title, n)
				assert.Equal(t, of.lock != "" && i%4 == 0, p.locked, n)
			}
			assert.Equal(t, in["Watch"], now["Watch"], "who is moved or renamed stays in their groups")
			assert.Len(t, now["Stay"], people/20)
			assert.Len(t, now["Night"], people/2-people/40)

			post(3, "Proven", "reverse", "2")
			third, then := whoIs(t, conn, of)
			assert.Equal(t, first, third, "undone, all is as it was")
			delete(then, "Stay")
			assert.Equal(t, in, then)
			post(4, "Proven", "reverse", "1", "--remove")
			none, left := whoIs(t, conn, of)
			assert.Empty(t, none)
			assert.Empty(t, left)
		})
	}
}

// Of people of one name in one unit the draft refuses the second, or puts a number behind it; whose a name is that somebody took since is told.
func TestNamesakesInUnits(t *testing.T) {
	t.Parallel()
	of := families()["ad"]
	dir, url, conn := startDirectory(t, of)
	f := folder{t, t.TempDir()}
	f.write("evenledger.yaml", fmt.Sprintf("systems:\n  office: {kind: ldap, url: %q, user: evenledger@brindlesound.example, password: \"file:%s/password\", ca: %s/ca.pem, base: \"dc=brindlesound,dc=example\", people: ou=people, groups: ou=groups}\n", url, dir, dir))
	brief := `system: office
match: [employeeNumber]
fields:
  employeeNumber: {from: No}
  formattedName: {from: Name, unique: in-unit}
  userName: {make: 'fold(formattedName)', unique: number}
  unit: {from: Place, make_missing: true}
`
	f.write("briefs/plain.yaml", strings.Replace(brief, ", unique: in-unit", "", 1))
	f.write("briefs/crew.yaml", brief)
	f.write("crew.csv", "No,Name,Place\n5001,Ana Reyes,Deck\n5002,Ana Reyes,Engine\n5003,ana reyes,deck\n5004,Mei Lin,Deck\n")
	code, out, errOut := f.run("draft", "crew.csv", "-b", "plain")
	assert.Equal(t, 1, code, out+errOut)
	assert.Contains(t, out, "row 2 is called “ana reyes” already")
	code, out, errOut = f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, out+errOut)
	add := ldap.NewAddRequest("cn=Mei Lin,ou=people,dc=brindlesound,dc=example", nil)
	add.Attribute("objectClass", []string{"user"})
	add.Attribute("sAMAccountName", []string{"another"})
	require.NoError(t, conn.Add(add))
	code, out, errOut = f.run("post", "2", "--yes", "--trial", "3")
	require.Zero(t, code, out+errOut)
	require.NoError(t, conn.ModifyDN(ldap.NewModifyDNRequest("cn=Mei Lin,ou=people,dc=brindlesound,dc=example", "cn=Mei Lin", true, "ou=Deck,ou=people,dc=brindlesound,dc=example")))
	code, out, errOut = f.run("post", "2", "--yes")
	assert.Equal(t, 1, code, out+errOut)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "; another (")
	assert.Contains(t, out, "taken-value")
	people, _ := whoIs(t, conn, of)
	assert.Equal(t, []string{"Ana Reyes", "Ana Reyes", "ana reyes 2"}, []string{people["5001"].name, people["5002"].name, people["5003"].name})
	code, out, errOut = f.run("draft", "crew.csv", "-b", "crew")
	assert.Contains(t, out+errOut, "Nothing to change   3", "who has a number keeps it")
	assert.Zero(t, code, "Mei gets one now")
}
