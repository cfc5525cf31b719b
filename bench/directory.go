package main

import (
	"bufio"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	ldap "github.com/go-ldap/ldap/v3"
)

const (
	seafarers = 200_000 // accounts in the directory that drafts look in
	joiners   = 3_000   // members of the one group
	tree      = "dc=brindlesound,dc=example"
)

const directoryBrief = `brief: Bench
match: [employeeNumber]
fields:
  employeeNumber: {from: Staff no}
  givenName: {from: First name}
  familyName: {from: Surname}
  formattedName: {make: 'givenName + " " + familyName'}
  displayName: {make: 'givenName + " " + familyName'}
  userName: {make: 'fold(givenName) + "." + fold(familyName) + "." + employeeNumber'}
  email: {make: 'userName + "@brindlesound.example"'}
  title: {from: Position}
  department: {from: Department}
`

// benchDirectory holds posting and drafting against bare loops of the same library, on a
// real OpenLDAP with as many connections.
func benchDirectory(program, dir string) error {
	if _, err := os.Stat("/usr/sbin/slapd"); err != nil {
		fmt.Println("directory  skipped: there is no OpenLDAP server on this machine")
		return nil
	}
	brief := filepath.Join(dir, "directory.yaml")
	small, large := filepath.Join(dir, "directory.csv"), filepath.Join(dir, "directory-large.csv")
	if err := errors.Join(os.WriteFile(brief, []byte(directoryBrief), 0o644), generate(small, creates), generate(large, 10_000)); err != nil {
		return err
	}
	for _, server := range []struct{ name, setting string }{{"waits for its disk", "DURABLE=1"}, {"does not wait for its disk", "DURABLE="}} {
		if err := benchDirectoryPost(program, dir, small, brief, server.name, server.setting); err != nil {
			return err
		}
	}
	many := filepath.Join(dir, "seafarers.ldif")
	if err := writeSeafarers(many); err != nil {
		return err
	}
	at, stop, err := directory(dir, "ALSO="+many)
	if err != nil {
		return err
	}
	defer stop()
	for _, floor := range []struct{ what, says string }{{"directory-find", "bare finding of them"}, {"directory-page", "bare paging through all"}} {
		ours, bare, ratio, err := pairs(3, func() *exec.Cmd { return atDirectory(program, dir, at, "draft", large, "-b", brief) }, func() *exec.Cmd { return self(floor.what, at, "10000") })
		if err != nil {
			return err
		}
		fmt.Printf("directory  draft of %d rows against %d accounts: %5.2f s, %d MB; %s %5.2f s; %.2f times as long\n", 10_000, seafarers, ours.wall.Seconds(), ours.peak>>20, floor.says, bare.wall.Seconds(), ratio)
	}
	return benchJoin(program, dir, at)
}

func benchDirectoryPost(program, dir, sheet, brief, name, setting string) error {
	var ratios, ours, bare []float64
	for range 3 {
		took := make([]float64, 2)
		for i := range took {
			at, stop, err := directory(dir, setting)
			if err != nil {
				return err
			}
			cmd := self("directory-add", at, strconv.Itoa(creates), strconv.Itoa(together))
			if i == 0 {
				if _, err := measure(atDirectory(program, dir, at, "draft", sheet, "-b", brief)); err != nil {
					return errors.Join(err, stop())
				}
				cmd = exec.Command(program, "post", "1", "--yes")
				cmd.Dir = dir
			}
			used, err := measure(cmd)
			if err = errors.Join(err, stop()); err != nil {
				return err
			}
			took[i] = used.wall.Seconds()
		}
		ours, bare, ratios = append(ours, took[0]), append(bare, took[1]), append(ratios, took[1]/took[0])
	}
	for _, list := range [][]float64{ours, bare, ratios} {
		slices.Sort(list)
	}
	fmt.Printf("directory  post of %d creates, %d connections, a server that %s: %5.2f s; bare loop %5.2f s; creates/s against the bare loop %.2f (from %.2f to %.2f)\n", creates, together, name, ours[1], bare[1], ratios[1], ratios[0], ratios[2])
	return nil
}

// benchJoin puts many people into one group, by a sheet and by one bare change of it.
func benchJoin(program, dir, at string) error {
	sheet, brief := filepath.Join(dir, "join.csv"), filepath.Join(dir, "join.yaml")
	var rows strings.Builder
	rows.WriteString("Staff no,Groups\n")
	for i := range joiners {
		fmt.Fprintf(&rows, "%d,Night watch\n", 105000+i)
	}
	if err := errors.Join(os.WriteFile(sheet, []byte(rows.String()), 0o644), os.WriteFile(brief, []byte("match: [employeeNumber]\nfields:\n  employeeNumber: {from: Staff no}\ngroups: {from: Groups}\n"), 0o644)); err != nil {
		return err
	}
	if _, err := measure(atDirectory(program, dir, at, "draft", sheet, "-b", brief)); err != nil {
		return err
	}
	cmd := exec.Command(program, "post", "1", "--yes")
	cmd.Dir = dir
	ours, err := measure(cmd)
	if err != nil {
		return err
	}
	floor, err := measure(self("directory-join", at, strconv.Itoa(joiners)))
	if err != nil {
		return err
	}
	fmt.Printf("directory  %d members into one group: %5.2f s; one bare change %5.2f s; %.2f times as long\n", joiners, ours.wall.Seconds(), floor.wall.Seconds(), ours.wall.Seconds()/floor.wall.Seconds())
	return nil
}

// directory starts an OpenLDAP with groups and no people, but for what more has.
func directory(dir string, more ...string) (at string, stop func() error, err error) {
	folder, err := os.MkdirTemp("", "harbour") // a socket's path is short
	if err != nil {
		return "", nil, err
	}
	cmd := exec.Command("scripts/directory.sh", folder, "0")
	cmd.Env = append(append(os.Environ(), "EMPTY=1"), more...)
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop = func() error {
		err := cmd.Process.Signal(syscall.SIGINT)
		_, waited := cmd.Process.Wait()
		return errors.Join(err, waited, os.RemoveAll(folder))
	}
	for range 1200 {
		if _, err := os.Stat(filepath.Join(folder, "slapd.pid")); err == nil {
			return folder, stop, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return "", nil, errors.Join(errors.New("the directory server did not start"), stop())
}

// atDirectory is a command of the program with a new ledger, for the directory in a folder.
func atDirectory(program, dir, folder string, args ...string) *exec.Cmd {
	old, _ := filepath.Glob(filepath.Join(dir, "ledger.db*"))
	for _, path := range old {
		_ = os.RemoveAll(path)
	}
	config := fmt.Sprintf("systems:\n  harbour: {kind: ldap, url: %q, base: %q, people: ou=people, groups: ou=groups, together: %d}\n", socket(folder), tree, together)
	_ = os.WriteFile(filepath.Join(dir, "evenledger.yaml"), []byte(config), 0o644)
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	return cmd
}

func socket(folder string) string { return "ldapi://" + url.PathEscape(folder+"/ldapi") }

// writeSeafarers writes many accounts, and a group of one of them.
func writeSeafarers(path string) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(file, 1<<20)
	for i := range seafarers {
		fmt.Fprintf(w, "dn: uid=crew.%d,ou=people,%s\nobjectClass: inetOrgPerson\nuid: crew.%d\ncn: Crew %d\nsn: %d\nemployeeNumber: %d\ntitle: Deck hand\n\n", i, tree, i, i, i, 105000+i)
	}
	for _, name := range []string{"Night watch", "Bare watch"} {
		fmt.Fprintf(w, "dn: cn=%s,ou=groups,%s\nobjectClass: groupOfNames\ncn: %s\nmember: uid=crew.%d,ou=people,%s\n\n", name, tree, name, seafarers-1, tree)
	}
	return errors.Join(w.Flush(), file.Close())
}

func dial(folder string) (*ldap.Conn, error) {
	conn, err := ldap.DialURL(socket(folder))
	if err != nil {
		return nil, err
	}
	return conn, conn.ExternalBind()
}

// bareDirectory are the floors: requests of the same shape and nothing else.
func bareDirectory(what string, args []string) error {
	folder := args[0]
	n, err := strconv.Atoi(args[1])
	if err != nil {
		return err
	}
	switch what {
	case "directory-join":
		conn, err := dial(folder)
		if err != nil {
			return err
		}
		request := ldap.NewModifyRequest("cn=Bare watch,ou=groups,"+tree, nil)
		var members []string
		for i := range n {
			members = append(members, fmt.Sprintf("uid=crew.%d,ou=people,%s", i, tree))
		}
		request.Add("member", members)
		return conn.Modify(request)
	case "directory-page":
		conn, err := dial(folder)
		if err != nil {
			return err
		}
		_, err = conn.SearchWithPaging(people("(objectClass=inetOrgPerson)"), 1000)
		return err
	case "directory-find":
		return bareFind(folder, n)
	}
	connections, err := strconv.Atoi(args[2])
	if err != nil {
		return err
	}
	numbers, failed := make(chan int), make(chan error, connections)
	var adding sync.WaitGroup
	for range connections {
		conn, err := dial(folder)
		if err != nil {
			return err
		}
		adding.Go(func() {
			for i := range numbers {
				if err := conn.Add(seafarer(i)); err != nil {
					select {
					case failed <- err:
					default:
					}
				}
			}
		})
	}
	for i := range n {
		numbers <- i
	}
	close(numbers)
	adding.Wait()
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}

func seafarer(i int) *ldap.AddRequest {
	number := strconv.Itoa(100000 + i)
	userName := "siobhan.wisniewski." + number
	request := ldap.NewAddRequest("uid="+userName+",ou=people,"+tree, nil)
	for name, value := range map[string]string{"objectClass": "inetOrgPerson", "uid": userName, "cn": "Siobhán Wiśniewski", "sn": "Wiśniewski", "givenName": "Siobhán", "displayName": "Siobhán Wiśniewski",
		"employeeNumber": number, "mail": userName + "@brindlesound.example", "title": "Second engineer", "departmentNumber": "Engine"} {
		request.Attribute(name, []string{value})
	}
	return request
}

// bareFind looks for as many people by number, two hundred with a filter.
// people is a search for accounts with the attributes that the brief sets.
func people(filter string) *ldap.SearchRequest {
	return ldap.NewSearchRequest("ou=people,"+tree, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, filter, []string{"uid", "employeeNumber", "cn", "sn", "givenName", "displayName", "mail", "title", "departmentNumber", "entryUUID"}, nil)
}

func bareFind(folder string, n int) error {
	var asking sync.WaitGroup
	filters, failed := make(chan string), make(chan error, together)
	for range together {
		conn, err := dial(folder)
		if err != nil {
			return err
		}
		asking.Go(func() {
			for filter := range filters {
				if _, err := conn.SearchWithPaging(people(filter), 500); err != nil {
					select {
					case failed <- err:
					default:
					}
				}
			}
		})
	}
	for from := 0; from < n; from += 200 {
		var filter strings.Builder
		for i := from; i < min(from+200, n); i++ {
			fmt.Fprintf(&filter, "(employeeNumber=%d)", 100000+i)
		}
		filters <- "(&(objectClass=inetOrgPerson)(|" + filter.String() + "))"
	}
	close(filters)
	asking.Wait()
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}
