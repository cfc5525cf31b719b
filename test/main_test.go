// Package test drives the built program, as a person or a script would, on files
// in temporary folders and against its own stand-in.
package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"log"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"
)

// program is the built program's path.
var program string

// atOnce is how long something may take that waits for nothing, on a machine that is busy with other things.
const atOnce = 20 * time.Second

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "evenledger-test-")
	if err != nil {
		log.Fatal(err)
	}
	program = filepath.Join(dir, "evenledger")
	build := exec.Command("go", "build", "-o", program, "../cmd/evenledger")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		log.Fatalf("the program does not build: %v\n%s", err, out)
	}
	code := m.Run()
	if *update {
		if err := takeAnswers(); err != nil {
			log.Print(err)
		}
	}
	if err := os.RemoveAll(dir); err != nil {
		log.Print(err)
	}
	os.Exit(code)
}

const token = "tok-5ecret-0f-the-tests"

// practice starts a stand-in and returns its address.
func practice(t cleaner, flags ...string) string {
	url, _ := practiceWithMail(t, flags...)
	return url
}

type cleaner interface {
	require.TestingT
	Cleanup(func())
}

// practiceWithMail starts a stand-in and returns its address, and that for mails if it takes any.
func practiceWithMail(t cleaner, flags ...string) (url, mail string) {
	cmd := exec.Command(program, append([]string{"standin", "--port", "0", "--json", "--token", "env:TEST_TOKEN"}, flags...)...)
	cmd.Env = append(os.Environ(), "TEST_TOKEN="+token)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	var told struct{ URL, Mail string }
	require.NoError(t, json.NewDecoder(bufio.NewReader(out)).Decode(&told))
	return told.URL, told.Mail
}

// TestScripts runs the scripts under scripts. Each has the program and a fresh
// stand-in ($URL) whose token is in $TEST_TOKEN, and which takes mails at $MAIL.
func TestScripts(t *testing.T) {
	t.Parallel()
	testscript.Run(t, testscript.Params{
		Dir: "scripts",
		Setup: func(env *testscript.Env) error {
			env.Setenv("PATH", filepath.Dir(program)+string(os.PathListSeparator)+env.Getenv("PATH"))
			env.Setenv("TEST_TOKEN", token)
			url, mail := practiceWithMail(setupT{env}, "--mail", filepath.Join(env.WorkDir, ".mails"), "--mail-port", "0")
			env.Setenv("URL", url)
			for _, name := range []string{"PORT", "OTHER_PORT"} { // that nobody listens at
				listener, err := net.Listen("tcp", "127.0.0.1:0")
				if err != nil {
					return err
				}
				env.Setenv(name, strconv.Itoa(listener.Addr().(*net.TCPAddr).Port))
				if err := listener.Close(); err != nil {
					return err
				}
			}
			env.Setenv("MAIL", mail)
			data, err := filepath.Abs("../internal/sheet/testdata")
			env.Setenv("TESTDATA", data)
			return err
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"exits": exits, "json": jsonIs, "replace": replace, "append": appendLine, "seed": seed, "secretless": secretless, "aged": aged, "mailed": mailed, "people": people},
	})
}

type setupT struct{ env *testscript.Env }

func (s setupT) Cleanup(f func())                  { s.env.Defer(f) }
func (s setupT) FailNow()                          { panic("the stand-in did not start") }
func (s setupT) Errorf(format string, args ...any) { log.Printf(format, args...) }

// mailed TEXT sees that a mail was sent that holds a text.
func mailed(ts *testscript.TestScript, _ bool, args []string) {
	files, err := filepath.Glob(ts.MkAbs(".mails/*.eml"))
	ts.Check(err)
	for _, path := range files {
		data, err := os.ReadFile(path)
		ts.Check(err)
		if strings.Contains(strings.ReplaceAll(string(data), "=\r\n", ""), args[0]) {
			return
		}
	}
	ts.Fatalf("none of %d mails holds %q", len(files), args[0])
}

// people MINE HERS writes evenledger.yaml from team.yaml, with the identities that two files tell of:
// that of who runs the test, and that of ines.
func people(ts *testscript.TestScript, _ bool, args []string) {
	text := "people:\n"
	for i, file := range args {
		var told struct{ Name, Opens, Signs string }
		ts.Check(json.Unmarshal([]byte(ts.ReadFile(file)), &told))
		if i == 1 {
			told.Name = "ines"
		}
		text += fmt.Sprintf("  %s: {opens: %s, signs: %q}\n", told.Name, told.Opens, told.Signs)
	}
	rest := strings.ReplaceAll(ts.ReadFile("team.yaml"), "URL", ts.Getenv("URL"))
	ts.Check(os.WriteFile(ts.MkAbs("evenledger.yaml"), []byte(text+rest), 0o600))
}

// aged FILE HOURS has a file be written so many hours ago.
func aged(ts *testscript.TestScript, _ bool, args []string) {
	hours, err := time.ParseDuration(args[1] + "h")
	ts.Check(err)
	at := time.Now().Add(-hours)
	ts.Check(os.Chtimes(ts.MkAbs(args[0]), at, at))
}

// exits CODE COMMAND ... runs a command that is to end with just that code; its
// output is in the files out and err. It is given the file $STDIN to read.
func exits(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: exits CODE COMMAND ...")
	}
	cmd := exec.Command(program, args[2:]...)
	if args[1] != "evenledger" {
		ts.Fatalf("exits runs evenledger only")
	}
	cmd.Dir = ts.Getenv("WORK")
	if dir := ts.Getenv("IN"); dir != "" {
		cmd.Dir = filepath.Join(cmd.Dir, dir)
	}
	for _, name := range []string{"PATH", "HOME", "TEST_TOKEN", "WRONG", "NO_COLOR", "HANDOUT", "XDG_CONFIG_HOME"} {
		cmd.Env = append(cmd.Env, name+"="+ts.Getenv(name))
	}
	if name := ts.Getenv("STDIN"); name != "" {
		cmd.Stdin = strings.NewReader(ts.ReadFile(name))
	}
	var out, errOut strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errOut
	_ = cmd.Run() // the code says it
	ts.Check(os.WriteFile(ts.MkAbs("out"), []byte(out.String()), 0o600))
	ts.Check(os.WriteFile(ts.MkAbs("err"), []byte(errOut.String()), 0o600))
	ts.Logf("[stdout]\n%s[stderr]\n%s", out.String(), errOut.String())
	if slices.Contains(args, "--json") {
		ts.Check(heldAgainst(args[2:], out.String()))
	}
	if got := fmt.Sprint(cmd.ProcessState.ExitCode()); got != args[0] {
		ts.Fatalf("exit code %s, wanted %s", got, args[0])
	}
}

// json FILE PATH VALUE sees that the value at a path such as entries.0.row in the
// JSON of a file prints as VALUE.
func jsonIs(ts *testscript.TestScript, neg bool, args []string) {
	var at any
	ts.Check(json.Unmarshal([]byte(ts.ReadFile(args[0])), &at))
	for step := range strings.SplitSeq(args[1], ".") {
		switch here := at.(type) {
		case map[string]any:
			value, ok := here[step]
			if !ok {
				ts.Fatalf("no %s in %s", step, args[1])
			}
			at = value
		case []any:
			var i int
			if _, err := fmt.Sscan(step, &i); err != nil || i >= len(here) {
				ts.Fatalf("no item %s in %s", step, args[1])
			}
			at = here[i]
		default:
			ts.Fatalf("nothing under %s", step)
		}
	}
	if got := fmt.Sprint(at); (got == strings.ReplaceAll(args[2], `\n`, "\n")) == neg {
		ts.Fatalf("%s is %q", args[1], got)
	}
}

// replace FILE OLD NEW
func replace(ts *testscript.TestScript, _ bool, args []string) {
	text := ts.ReadFile(args[0])
	if !strings.Contains(text, args[1]) {
		ts.Fatalf("%s has no %q", args[0], args[1])
	}
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(strings.ReplaceAll(text, args[1], args[2])), 0o600))
}

// seed FILE sends a stand-in the lines of a file, each a method, a path and a body.
// What is made first of its kind has the number 000001.
func seed(ts *testscript.TestScript, _ bool, args []string) {
	schemas := map[string]string{"/Users": "urn:ietf:params:scim:schemas:core:2.0:User", "/Groups": "urn:ietf:params:scim:schemas:core:2.0:Group"}
	for line := range strings.Lines(ts.ReadFile(args[0])) {
		parts := strings.SplitN(strings.TrimSpace(line), " ", 3)
		if len(parts) < 2 {
			continue
		}
		body := ""
		if len(parts) == 3 {
			schema := schemas[parts[1]]
			switch {
			case parts[0] != "POST":
				schema = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
			case schema == "":
				schema = "urn:example:params:scim:schemas:crew:2.0:" + strings.TrimSuffix(parts[1][1:], "s")
			}
			body = strings.ReplaceAll(`{"schemas": ["`+schema+`", "ENTERPRISE"], `+parts[2][1:], "ENTERPRISE", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User")
			if parts[1] != "/Users" {
				body = strings.Replace(body, `, "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"`, "", 1)
			}
		}
		req, err := http.NewRequest(parts[0], ts.Getenv("URL")+parts[1], strings.NewReader(body))
		ts.Check(err)
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/scim+json")
		resp, err := http.DefaultClient.Do(req)
		ts.Check(err)
		said, err := io.ReadAll(resp.Body)
		ts.Check(err)
		ts.Check(resp.Body.Close())
		if resp.StatusCode >= 300 {
			ts.Fatalf("%s answered %d: %s", line, resp.StatusCode, said)
		}
	}
}

// secretless TEXT sees that no file that a command wrote holds the text: the ledger,
// what lies beside it, reports, and what is left in the folder for temporary files.
func secretless(ts *testscript.TestScript, _ bool, args []string) {
	for _, dir := range []string{ts.Getenv("WORK"), os.TempDir()} {
		ts.Check(filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				if entry != nil && entry.IsDir() && dir == os.TempDir() && path != dir && !strings.HasPrefix(entry.Name(), "evenledger") {
					return filepath.SkipDir
				}
				return nil
			}
			if data, err := os.ReadFile(path); err == nil && strings.Contains(string(data), args[0]) && !strings.HasSuffix(path, "given.csv") {
				ts.Fatalf("%s holds the secret", path)
			}
			return nil
		}))
	}
}

// append FILE LINE
func appendLine(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(ts.ReadFile(args[0])+args[1]+"\n"), 0o600))
}
