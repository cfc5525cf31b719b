package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/testserver"
)

// unixHost is a host of a test.
type unixHost struct {
	t *testing.T
	testserver.Server
}

// quays starts hosts, and makes a workspace with them, and the set of all. more stands with each.
func quays(t *testing.T, n int, more string) (f folder, hosts []unixHost) {
	f = folder{t, t.TempDir()}
	config, set := "systems:\n", "sets: {quays: ["
	for i := range n {
		h := unixHost{t, testserver.Host(t)}
		hosts = append(hosts, h)
		config += fmt.Sprintf("  quay%d: {kind: host, url: \"ssh://root@127.0.0.1:%d\", key: \"file:%s/key\", known_hosts: \"%s/known_hosts\"%s}\n", i+1, h.Port, h.Dir, h.Dir, more)
		set += fmt.Sprintf("quay%d, ", i+1)
	}
	f.write("evenledger.yaml", config+strings.TrimSuffix(set, ", ")+"]}\n")
	return f, hosts
}

// sh runs a command on the host as root.
func (h unixHost) sh(command string) string {
	cmd := exec.Command("ssh", "-q", "-i", filepath.Join(h.Dir, "key"), "-o", "UserKnownHostsFile="+filepath.Join(h.Dir, "known_hosts"), "-p", strconv.Itoa(h.Port), "root@127.0.0.1", command)
	var told strings.Builder // apart: what root's own shell says as it starts is no answer
	cmd.Stderr = &told
	out, err := cmd.Output()
	require.NoError(h.t, err, "%s: %s%s", command, out, &told)
	return string(out)
}

// people are the lines of a file of the host's beneath /etc, by name, of accounts or groups that
// are not the system's own. A name that is there twice fails.
func (h unixHost) people(file string) map[string][]string {
	data, err := os.ReadFile(filepath.Join(h.Dir, "etc", file))
	require.NoError(h.t, err)
	found := map[string][]string{}
	for line := range strings.Lines(string(data)) {
		parts := strings.Split(strings.TrimSpace(line), ":")
		if n, err := strconv.Atoi(parts[min(2, len(parts)-1)]); file != "shadow" && (err != nil || n < 1000 || n == 65534) {
			continue
		}
		require.NotContains(h.t, found, parts[0], "%s has a line twice", file)
		found[parts[0]] = parts
	}
	return found
}

// stop ends everything that runs on the host at once, as a power cut would.
func (h unixHost) stop() {
	out, err := exec.Command("pgrep", "-o", "-f", h.Dir+"/sshd_config").Output()
	require.NoError(h.t, err)
	within := func(pid string) string {
		at, _ := os.Readlink("/proc/" + pid + "/ns/mnt") // of one that is gone, none
		return at
	}
	host := within(strings.TrimSpace(string(out)))
	require.NotEqual(h.t, within("self"), host)
	for range 3 { // what is begun meanwhile as well
		all, err := filepath.Glob("/proc/[0-9]*")
		require.NoError(h.t, err)
		for _, path := range all {
			if pid, err := strconv.Atoi(filepath.Base(path)); err == nil && host != "" && within(filepath.Base(path)) == host {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	}
}

// start starts the host again, as it was.
func (h unixHost) start() {
	cmd := exec.Command("../scripts/host.sh", h.Dir, strconv.Itoa(h.Port))
	testserver.Run(h.t, cmd, h.Port)
}

const hostBrief = `system: quays
match: [userName]
fields:
  userName: {from: Login}
  givenName: {from: First}
  familyName: {from: Last}
  uidNumber: {next: 20000-29999}
groups: {from: Groups, split: ";", make_missing: true}
password: {from: Password, new: given}
`

// deckhands writes a sheet of n people.
func (f folder) deckhands(name string, n int) {
	var text strings.Builder
	text.WriteString("Login,First,Last,Groups,Password\n")
	for i := range n {
		fmt.Fprintf(&text, "hand%03d,Ana “$(touch /tmp/x)”,O'Neill %d; `reboot` \\,deck;watch%d,gulls-over-Quay-%04d\n", i, i, i%3, 4000+i)
	}
	f.write(name, text.String())
}

// whole sees that a host has each of n people once, with all that belongs to them, and nobody else.
func (h unixHost) whole(n int) {
	passwd, group, shadow := h.people("passwd"), h.people("group"), h.people("shadow")
	assert.Len(h.t, passwd, n)
	for file, lines := range map[string]map[string][]string{"passwd": passwd, "group": group, "shadow": shadow} {
		told := strings.Split(h.sh("getent "+file), "\n")
		for _, line := range lines {
			assert.Contains(h.t, told, strings.Join(line, ":"), "what is in the file is what the host goes by")
		}
	}
	numbers := map[string]bool{}
	for i := range n {
		name := fmt.Sprintf("hand%03d", i)
		line := passwd[name]
		require.Len(h.t, line, 7, name)
		assert.Equal(h.t, fmt.Sprintf("Ana “$(touch /tmp/x)” O'Neill %d; `reboot` \\", i), line[4], "what stands in a cell is a text and no more")
		assert.False(h.t, numbers[line[2]], "a number is somebody's alone")
		numbers[line[2]] = true
		assert.DirExists(h.t, filepath.Join(h.Dir, "home", name))
		assert.Contains(h.t, strings.Split(group["deck"][3], ","), name)
		assert.Contains(h.t, strings.Split(group[fmt.Sprintf("watch%d", i%3)][3], ","), name)
		parts := strings.Split(shadow[name][1], "$")
		require.Len(h.t, parts, 4, shadow[name][1])
		if i%40 == 7 { // hashing takes its time
			out, err := exec.Command("openssl", "passwd", "-6", "-salt", parts[2], fmt.Sprintf("gulls-over-Quay-%04d", 4000+i)).Output()
			require.NoError(h.t, err)
			assert.Equal(h.t, shadow[name][1], strings.TrimSpace(string(out)))
		}
	}
	assert.NoFileExists(h.t, "/tmp/x")
}

// One host of three dies in the midst of a block: the others go on, and what was left open is
// looked up, not done twice.
func TestHostDies(t *testing.T) {
	t.Parallel()
	f, hosts := quays(t, 3, "")
	f.write("briefs/crew.yaml", hostBrief)
	const n = 100
	f.deckhands("crew.csv", n)
	code, _, errOut := f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, errOut)
	post := f.command("post", "quays", "--yes")
	var told strings.Builder
	post.Stderr = &told
	require.NoError(t, post.Start())
	testserver.Soon(t, func() bool { return len(hosts[1].people("passwd")) > 10 })
	hosts[1].stop()
	_ = post.Wait()
	assert.Equal(t, 3, post.ProcessState.ExitCode(), told.String())
	assert.Contains(t, told.String(), "quay2: ")
	hosts[0].whole(n)
	hosts[2].whole(n)
	assert.Less(t, len(hosts[1].people("passwd")), n)
	hosts[1].start()
	code, out, errOut := f.run("post", "quays", "--yes")
	require.Zero(t, code, out+errOut)
	hosts[1].whole(n)
	for name, line := range hosts[0].people("passwd") {
		assert.Equal(t, line[2], hosts[1].people("passwd")[name][2], "a person has one number everywhere")
	}
	for id := range 3 {
		assert.Equal(t, map[string]int{"created": n}, made(f.batch(id+1).Outcomes))
	}
	code, out, errOut = f.run("reconcile", "crew.csv", "-b", "crew")
	assert.Zero(t, code, out+errOut)
}

// made leaves the outcomes that there are.
func made(outcomes map[string]int) map[string]int {
	left := map[string]int{}
	for o, n := range outcomes {
		if n > 0 {
			left[o] = n
		}
	}
	return left
}

// The program is killed at any moment, and goes on where it was.
func TestHostKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	f, hosts := quays(t, 1, "")
	f.write("briefs/crew.yaml", strings.Replace(hostBrief, "quays", "quay1", 1))
	const n = 120
	f.deckhands("crew.csv", n)
	code, _, errOut := f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, errOut)
	for kill := range 8 {
		post := f.command("post", "1", "--yes")
		require.NoError(t, post.Start())
		time.Sleep(time.Duration(500+kill*170) * time.Millisecond)
		_ = post.Process.Kill()
		_ = post.Wait()
	}
	code, out, errOut := f.run("post", "1", "--yes")
	require.Zero(t, code, out+errOut)
	hosts[0].whole(n)
	assert.Equal(t, map[string]int{"created": n}, made(f.batch(1).Outcomes))
	for _, file := range []string{"ledger.db", "crew.csv"} {
		if file == "ledger.db" {
			assert.NotContains(t, f.read(file), "gulls-over-Quay-4")
		}
	}
}

// What a host says no to is told at the row, in words; what no further row could do either ends
// the work, and is gone on with.
func TestHostSaysNo(t *testing.T) {
	t.Parallel()
	f, hosts := quays(t, 1, "")
	h := hosts[0]
	brief := strings.NewReplacer("quays", "quay1", "  uidNumber: {next: 20000-29999}\n", "  uidNumber: {from: Uid}\n  gidNumber: {from: Gid}\n  homeDirectory: {from: Home}\n  loginShell: {from: Shell}\n", "password: {from: Password, new: given}\n", "").Replace(hostBrief)
	f.write("briefs/crew.yaml", brief)
	h.sh("useradd -m -u 1500 tom; groupadd -g 1600 deck; mkdir /home/old; chown 1700 /home/old")
	f.write("crew.csv", `Login,First,Last,Uid,Gid,Home,Shell,Groups
daemon,System,Account,,,,,
-x,Minus,One,,,,,
"two words",Two,Words,,,,,
a:b,Colon,One,,,,,
root2,Root,Two,0,,,,
zoe,Zoë,"Ång:ström",,,,,
yan,Yan,Home,,,relative,,
lee,Lee,Shell,,,,/bin/nothing,
kim,Kim,Number,1500,,,,
ola,Ola,Group,,1999,,,
eva,Eva,Rights,,27,,,
old,Old,Home,,,/home/old,,
ivo,Ivo,Sudo,,,,,sudo
0,Null,One,,,,,
"o'neil",Quote,One,,,,,
a%d,Percent,One,,,,,
b\c,Slash,One,,,,,
dot,Dot,Home,,,/home/x/../../etc/dot,,
etc,Etc,Home,,,/etc/etc,,
roo,Root,Home,,,/root/roo,,
ana,Ana,Reyes,1800,1800,,,deck
`)
	code, _, errOut := f.run("draft", "crew.csv", "-b", "crew")
	require.Equal(t, 1, code, errOut)
	code, _, errOut = f.run("post", "1", "--yes")
	require.Equal(t, 1, code, errOut)
	_, out, _ := f.run("show", "1", "--json")
	for i, why := range []string{"has an account “daemon” already", "cannot be the name of an account", "two words", "no colon and no line break", "begin with 1000", "no colon and no line break", "is no full path", "is not a value the system takes",
		"1500", "no group of number 1999", "may be a group that gives rights", "there is something at /home/old already", "gives rights over others", "take it for a number",
		"cannot be the name of an account", "cannot be the name of an account", "cannot be the name of an account", "is no plain path", "nobody's home", "nobody's home", `"outcome":"created"`} {
		at := strings.Index(out, fmt.Sprintf(`{"row":%d,`, i+2))
		require.Positive(t, at, i+2)
		line, _, _ := strings.Cut(out[at:], "\n")
		assert.Contains(t, line, why)
	}
	assert.Equal(t, []string{"ana", "tom"}, slices.Sorted(func(yield func(string) bool) {
		for name := range h.people("passwd") {
			if !yield(name) {
				return
			}
		}
	}))
	assert.Equal(t, []string{"1800", "1800"}, h.people("passwd")["ana"][2:4])
	assert.Equal(t, "ana", h.people("group")["deck"][3])

	f.write("briefs/plain.yaml", "system: quay1\nmatch: [userName]\nfields:\n  userName: {from: Login}\n")
	f.write("more.csv", "Login\nbo\ncy\n")
	code, _, errOut = f.run("draft", "more.csv", "-b", "plain")
	require.Zero(t, code, errOut)
	// Another tool is at the user database, and stays at it.
	h.sh("sleep 300 >/dev/null 2>&1 & echo $! >/etc/passwd.lock")
	code, out, errOut = f.run("post", "2", "--yes")
	assert.Equal(t, 3, code, out+errOut)
	assert.Contains(t, errOut, "is locked by another program")
	h.sh("kill $(cat /etc/passwd.lock); rm -f /etc/passwd.lock")
	// No room for a home folder: nothing of the account stays.
	h.sh("dd if=/dev/zero of=/etc/skel/big bs=1k count=300 2>/dev/null; mount -t tmpfs -o size=64k tmpfs /home")
	code, out, errOut = f.run("post", "2", "--yes")
	assert.NotZero(t, code, out+errOut)
	assert.Contains(t, out+errOut, "there is likely no room")
	assert.NotContains(t, h.people("passwd"), "bo")
	h.sh("umount /home; rm /etc/skel/big")
	code, out, errOut = f.run("post", "2", "--yes")
	if f.batch(2).Outcomes["created"] != 2 { // rows that failed for it are handed in again
		code, out, errOut = f.run("draft", "more.csv", "-b", "plain")
		require.Zero(t, code, out+errOut)
		code, out, errOut = f.run("post", "3", "--yes")
	}
	assert.Zero(t, code, out+errOut)
	assert.Contains(t, h.people("passwd"), "bo")
	assert.Contains(t, h.people("passwd"), "cy")
	assert.DirExists(t, filepath.Join(h.Dir, "home", "bo"))

	// A home folder that cannot be moved, and a shell that is changed all the same: what was done is
	// told, seen by reading it back, and undone.
	f.write("briefs/moved.yaml", "system: quay1\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  homeDirectory: {from: Home}\n  loginShell: {from: Shell}\n")
	f.write("moved.csv", "Login,Home,Shell\nana,/srv/shut/ana,/bin/bash\n")
	f.write("evenledger.yaml", strings.Replace(f.read("evenledger.yaml"), "kind: host,", "kind: host, homes: {make: true, move: true},", 1))
	h.sh("mkdir -p /home/ana /srv/shut /srv/full && dd if=/dev/zero of=/home/ana/letters bs=1k count=300 2>/dev/null && chown -R ana: /home/ana; mount -t tmpfs -o ro tmpfs /srv/shut; mount -t tmpfs -o size=64k tmpfs /srv/full")
	was := h.people("passwd")["ana"][5:]
	code, out, errOut = f.run("draft", "moved.csv", "-b", "moved")
	require.Zero(t, code, out+errOut)
	code, out, errOut = f.run("post", "last", "--yes")
	assert.Equal(t, 1, code, out+errOut)
	assert.Contains(t, out, "the home folder could not be moved")
	assert.Equal(t, []string{was[0], "/bin/bash"}, h.people("passwd")["ana"][5:])
	code, out, errOut = f.run("reverse", "last")
	assert.Zero(t, code, out+errOut)
	code, out, errOut = f.run("post", "last", "--yes")
	assert.Zero(t, code, out+errOut)
	assert.Equal(t, was, h.people("passwd")["ana"][5:])
	f.write("moved.csv", "Login,Home,Shell\nana,/srv/full/ana,/bin/bash\n")
	code, out, errOut = f.run("draft", "moved.csv", "-b", "moved")
	require.Zero(t, code, out+errOut)
	code, out, errOut = f.run("post", "last", "--yes")
	assert.Equal(t, 1, code, out+errOut)
	assert.Contains(t, out, "there is no room")
	assert.Equal(t, was, h.people("passwd")["ana"][5:], "nothing is done of it")
	assert.FileExists(t, filepath.Join(h.Dir, "home", "ana", "letters"))

	// What would be refused is refused in the draft, and what one should know is told there.
	f.write("moved.csv", "Login,Home,Shell\nana,/home/tom,/bin/bash\nbo,/nowhere/bo,\ncy,/srv/full,\ntom,/home/tommy,\n")
	code, out, errOut = f.run("draft", "moved.csv", "-b", "moved")
	assert.Equal(t, 1, code, out+errOut)
	for _, why := range []string{"/home/tom is the home folder of tom", "there is no folder /nowhere", "there is something at /srv/full already"} {
		assert.Contains(t, out, why)
	}
	f.write("more.csv", "Login\nBO\nb$\n")
	code, out, errOut = f.run("draft", "more.csv", "-b", "plain")
	assert.Zero(t, code, out+errOut)
	assert.Contains(t, out, "“BO” and “bo”, who is there, differ only in capitals")
	assert.Contains(t, out, "holds what shells or mail mind")
	f.write("briefs/leave.yaml", "system: quay1\nmatch: [userName]\nallow_remove: true\nintent: {from: What, via: {out: remove}}\nfields:\n  userName: {from: Login}\n")
	f.write("leave.csv", "Login,What\nbo,out\n")
	code, out, errOut = f.run("draft", "leave.csv", "-b", "leave")
	assert.Zero(t, code, out+errOut)
	assert.Contains(t, out, "the home folder /home/bo stays")
	code, out, errOut = f.run("post", "last", "--yes")
	require.Zero(t, code, out+errOut)
	number := strings.TrimSpace(h.sh("stat -c %u /home/bo"))
	f.write("briefs/next.yaml", fmt.Sprintf("system: quay1\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  uidNumber: {next: %s-%s9, again: true}\n", number, number))
	f.write("more.csv", "Login\ndi\n")
	code, out, errOut = f.run("draft", "more.csv", "-b", "next")
	require.Zero(t, code, out+errOut)
	code, out, errOut = f.run("post", "last", "--yes")
	require.Zero(t, code, out+errOut)
	assert.NotEqual(t, number, h.people("passwd")["di"][2], "whose letters are still there")
}

// The pages on hosts, sets and the migration, followed to the letter.
func TestHostPages(t *testing.T) {
	t.Parallel()
	for page, commands := range map[string]int{"hosts": 7, "sets": 6, "migration": 10} {
		t.Run(page, func(t *testing.T) {
			text, err := os.ReadFile("../docs/" + page + ".md")
			require.NoError(t, err)
			said := string(text)
			var hosts []testserver.Server
			for i := range 2 {
				if name := fmt.Sprintf("/tmp/quay%d", i+1); strings.Contains(said, name) {
					h := testserver.Host(t)
					said = strings.NewReplacer(name, h.Dir, fmt.Sprintf("127.0.0.1:230%d", i+1), fmt.Sprintf("127.0.0.1:%d", h.Port)).Replace(said)
					hosts = append(hosts, h)
				}
			}
			if strings.Contains(said, "/tmp/harbour") {
				dir, url := startHarbour(t)
				said = strings.NewReplacer("ldap://127.0.0.1:3389", url, "/tmp/harbour", dir).Replace(said)
			}
			if strings.Contains(said, "127.0.0.1:8085") {
				said = strings.ReplaceAll(said, "http://127.0.0.1:8085/scim/v2", practice(t, "--sample"))
			}
			f := folder{t, t.TempDir()}
			before, after, served := strings.Cut(said, "Once the hosts ask the directory")
			f.follow(before, commands)
			if !served {
				return
			}
			for _, h := range hosts {
				require.NoError(t, os.WriteFile(filepath.Join(h.Dir, "directory/passwd"), []byte("mvance:x:20000:20000:Moira Vance:/home/mvance:/bin/bash\njpelan:x:20001:20001:Jean-Pierre Élan:/home/jpelan:/bin/bash\n"), 0o644))
			}
			f.follow(after, 2)
		})
	}
}

// A host that is not known is not spoken to, a password stands on no command line, and who is
// suspended has back what they had when that is undone.
func TestHostIsCareful(t *testing.T) {
	t.Parallel()
	f, hosts := quays(t, 1, ", ends_sessions: true, homes: {move: true, remove: true}")
	h := hosts[0]
	for _, tool := range []string{"useradd", "usermod", "chpasswd"} { // each tells how it was called
		h.tool(tool, "printf '%s\\n' \""+tool+" $*\" >>/srv/called\nexec /usr/sbin/"+tool+" \"$@\"\n")
	}
	f.write("briefs/crew.yaml", `system: quay1
match: [userName]
allow_remove: true
fields:
  userName: {from: Login}
  displayName: {from: Name}
  expires: {from: Until}
  homeDirectory: {from: Home}
intent: {from: What}
password: {from: Password, new: given, known: given}
`)
	f.write("crew.csv", "Login,Name,Until,Password\nzoe,Zoë Ångström,2031-05-01,gulls-over-Quay-41\n")
	known, err := os.ReadFile(filepath.Join(h.Dir, "known_hosts"))
	require.NoError(t, err)
	for text, why := range map[string]string{"": "is not among the known servers", strings.Replace(string(known), "AAAA", "AAAB", 1): "known"} {
		require.NoError(t, os.WriteFile(filepath.Join(h.Dir, "known_hosts"), []byte(text), 0o600))
		code, _, errOut := f.run("draft", "crew.csv", "-b", "crew")
		assert.Equal(t, 3, code, errOut)
		assert.Contains(t, errOut, why)
	}
	require.NoError(t, os.WriteFile(filepath.Join(h.Dir, "known_hosts"), known, 0o600))
	batch := 0
	f.write("briefs/quiet.yaml", strings.Replace(f.read("briefs/crew.yaml"), "password: {from: Password, new: given, known: given}\n", "", 1))
	does := func(sheet, says string) {
		f.write("crew.csv", sheet)
		brief := "quiet"
		if strings.Contains(sheet, "Password") {
			brief = "crew"
		}
		code, out, errOut := f.run("draft", "crew.csv", "-b", brief)
		require.Zero(t, code, out+errOut)
		batch++
		code, out, errOut = f.run("post", strconv.Itoa(batch), "--yes")
		require.Zero(t, code, out+errOut)
		assert.Contains(t, out, says)
	}
	expiry := func() string { return h.people("shadow")["zoe"][7] }
	does("Login,Name,Until,Password\nzoe,Zoë Ångström,2031-05-01,gulls-over-Quay-41\n", "Created             1")
	day := expiry()
	h.sh("su zoe -s /bin/sh -c 'sleep 600 >/dev/null 2>&1 &'")
	does("Login,What\nzoe,suspend\n", "Suspended           1")
	assert.Equal(t, "1", expiry())
	assert.True(t, strings.HasPrefix(h.people("shadow")["zoe"][1], "!$6$"), "the password is locked")
	assert.NotContains(t, h.sh("ps -o user,args -e"), "sleep 600", "and the person thrown out")
	// A new password does not let a suspended person in.
	does("Login,Password\nzoe,ropes-and-Tide-1907\n", "Updated             1")
	assert.True(t, strings.HasPrefix(h.people("shadow")["zoe"][1], "!$6$"))
	code, out, errOut := f.run("reverse", "2")
	require.Zero(t, code, out+errOut)
	code, out, errOut = f.run("post", "4", "--yes")
	require.Zero(t, code, out+errOut)
	batch = 4
	assert.Equal(t, day, expiry(), "the day that it had")
	assert.True(t, strings.HasPrefix(h.people("shadow")["zoe"][1], "$6$"))
	does("Login,Home\nzoe,/home/angstrom\n", "Updated             1")
	assert.DirExists(t, filepath.Join(h.Dir, "home/angstrom"))
	assert.NoDirExists(t, filepath.Join(h.Dir, "home/zoe"))
	// Her room and telephone stand behind her name, and the sheet says nothing of them.
	h.sh("usermod -c 'Zoë Ångström,Bridge,5550142' zoe")
	does("Login,Name\nzoe,Zoë Lindqvist\n", "Updated             1")
	assert.Equal(t, "Zoë Lindqvist,Bridge,5550142", h.people("passwd")["zoe"][4])
	does("Login,Name\nzoe,Zoë Lindqvist\n", "Nothing to change")
	code, out, errOut = f.run("reverse", strconv.Itoa(batch-1))
	require.Zero(t, code, out+errOut)
	batch++
	code, out, errOut = f.run("post", strconv.Itoa(batch), "--yes")
	require.Zero(t, code, out+errOut)
	assert.Equal(t, "Zoë Ångström,Bridge,5550142", h.people("passwd")["zoe"][4])
	does("Login,What\nzoe,remove\n", "Removed             1")
	assert.NoDirExists(t, filepath.Join(h.Dir, "home/angstrom"))
	called, err := os.ReadFile(filepath.Join(h.Dir, "srv/called"))
	require.NoError(t, err)
	assert.Contains(t, string(called), "chpasswd -e")
	for _, secret := range []string{"$6$", "gulls", "ropes"} {
		assert.NotContains(t, string(called), secret)
		assert.NotContains(t, f.read("ledger.db"), secret)
	}
}

// tool has the host use another tool for one of its own.
func (h unixHost) tool(name, script string) {
	h.sh("mkdir -p /usr/local/sbin && { mountpoint -q /usr/local/sbin || mount -t tmpfs tmpfs /usr/local/sbin; }")
	cmd := exec.Command("ssh", "-q", "-i", filepath.Join(h.Dir, "key"), "-o", "UserKnownHostsFile="+filepath.Join(h.Dir, "known_hosts"), "-p", strconv.Itoa(h.Port), "root@127.0.0.1", "cat >/usr/local/sbin/"+name+" && chmod 755 /usr/local/sbin/"+name)
	cmd.Stdin = strings.NewReader("#!/bin/sh\n" + script)
	out, err := cmd.CombinedOutput()
	require.NoError(h.t, err, string(out))
}

// A host goes down between the commands of one account: when it is found again, it is made whole.
func TestHostMakesWhole(t *testing.T) {
	t.Parallel()
	f, hosts := quays(t, 1, "")
	h := hosts[0]
	f.write("briefs/crew.yaml", strings.Replace(hostBrief, "quays", "quay1", 1))
	f.deckhands("crew.csv", 3)
	// At the second password the host stands still, and then is gone.
	h.tool("chpasswd", "[ ! -e /srv/once ] || [ -e /srv/twice ] || { touch /srv/twice; sleep 1000; }\ntouch /srv/once\nexec /usr/sbin/chpasswd \"$@\"\n")
	code, _, errOut := f.run("draft", "crew.csv", "-b", "crew")
	require.Zero(t, code, errOut)
	post := f.command("post", "1", "--yes")
	require.NoError(t, post.Start())
	testserver.Soon(t, func() bool {
		_, err := os.Stat(filepath.Join(h.Dir, "srv/twice"))
		return err == nil
	})
	assert.True(t, strings.HasPrefix(h.people("shadow")["hand001"][1], "!"), "it is half made")
	h.stop()
	_ = post.Wait()
	assert.Equal(t, 3, post.ProcessState.ExitCode())
	h.start()
	code, out, errOut := f.run("post", "1", "--yes")
	require.Zero(t, code, out+errOut)
	h.whole(3)
}

// Files follow their people to new numbers, whatever cuts the walk short, and back again.
func TestFilesFollow(t *testing.T) {
	t.Parallel()
	f, hosts := quays(t, 1, "")
	h := hosts[0]
	h.sh(`for i in 0 1 2 3 4; do useradd -m -u 110$i p$i; mkdir -p /srv/p$i; for d in a b c d e f; do mkdir /srv/p$i/$d; for n in $(seq 40); do : >/srv/p$i/$d/$n; done; done; chown -R p$i:p$i /srv/p$i; done
ln -s /etc/passwd /srv/p0/link; chown -h p0 /srv/p0/link; mkdir /srv/other; mount -t tmpfs tmpfs /srv/other; : >/srv/other/x; chown p0 /srv/other/x; : >/srv/shared; chown p1:p2 /srv/shared
cp /bin/true /srv/p3/suid; cp /bin/true /srv/p3/sgid; cp /bin/true /srv/p3/caps; chown p3:p3 /srv/p3/?uid /srv/p3/?gid /srv/p3/caps; chmod 4751 /srv/p3/suid; chmod 2755 /srv/p3/sgid; setcap cap_net_raw=ep /srv/p3/caps
mkdir "/srv/of root"; setfacl -m u:1103:rwx,d:u:1103:r-x,g:1104:r-- "/srv/of root"`)
	marks := func() string {
		return h.sh(`cd /srv/p3 && stat -c '%n %a %u:%g' suid sgid; getcap caps | sed 's/ = / /'; stat -c %u:%g caps; getfacl -cnp "/srv/of root" | grep :..*: | sort`)
	}
	unmarked := marks()
	f.write("briefs/one.yaml", "system: quay1\nmatch: [userName]\nnew: refuse\nfields:\n  userName: {from: Login}\n  uidNumber: {from: Number, next: 20000-20999, renumber: true}\nreown: [/home, /srv]\n")
	f.write("people.csv", "Login\np0\np1\np2\np3\np4\n")
	owners := func() (of map[string]int) {
		of = map[string]int{}
		for line := range strings.Lines(h.sh(`find /srv /home -xdev -mindepth 1 -printf '%U:%G\n'`)) {
			of[strings.TrimSpace(line)]++
		}
		return of
	}
	before := owners()
	require.Contains(t, unmarked, "suid 4751 1103:1103\nsgid 2755 1103:1103\ncaps cap_net_raw=ep\n")
	code, _, errOut := f.run("draft", "people.csv", "-b", "one")
	require.Zero(t, code, errOut)
	_, out, _ := f.run("show", "1", "--row", "2,3")
	assert.Contains(t, out, "files 1100 → 20000: 252 files (251 with its group as well)")
	assert.Contains(t, out, "files 1101 → 20001: 252 files (251 with its group as well)")
	for _, after := range []time.Duration{700, 1000, 1300} {
		post := f.command("post", "1", "--yes")
		require.NoError(t, post.Start())
		time.Sleep(after * time.Millisecond)
		_ = post.Process.Kill()
		_ = post.Wait()
	}
	code, out, errOut = f.run("post", "1", "--yes")
	require.Zero(t, code, out+errOut)
	now := owners()
	assert.Equal(t, strings.NewReplacer("1103", "20003", "1104", "20004").Replace(unmarked), marks(), "bits, capabilities and access lists stay what they are, by the new numbers")
	_, out, _ = f.run("show", "1", "--row", "5")
	assert.Contains(t, out, "3 with bits or capabilities that are put back, and 2 entries of access lists")
	for i := range 5 {
		was, is := fmt.Sprintf("110%d:110%d", i, i), fmt.Sprintf("2000%d:2000%d", i, i)
		assert.Equal(t, before[was], now[is])
		assert.Zero(t, now[was])
	}
	assert.Equal(t, 1, now["20001:20002"], "what had one's owner and another's group")
	assert.Equal(t, "0", strings.TrimSpace(h.sh("stat -c %u /etc/passwd")), "links are not followed")
	assert.Equal(t, "1100", strings.TrimSpace(h.sh("stat -c %u /srv/other/x")), "nor is another device gone into")
	code, out, errOut = f.run("reverse", "1")
	require.Zero(t, code, out+errOut)
	code, out, errOut = f.run("post", "2", "--yes")
	require.Zero(t, code, out+errOut)
	assert.Equal(t, before, owners())
	assert.Equal(t, unmarked, marks())

	f.write("people.csv", "Login,Number\np0,1101\np1,1105\np2,1102\n")
	code, out, _ = f.run("draft", "people.csv", "-b", "one")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "“1101” already belongs to the account p1")
	h.sh("useradd -o -u 1102 twin")
	f.write("people.csv", "Login,Number\np2,1109\n")
	code, out, _ = f.run("draft", "people.csv", "-b", "one")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "2 accounts have the number 1102")
}
