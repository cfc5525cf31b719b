package test

import (
	"bufio"
	"bytes"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/standin"
	"evenledger/internal/testserver"
)

// big writes a file of its own making.
func (f folder) big(name string, write func(w *bufio.Writer)) {
	file, err := os.Create(filepath.Join(f.dir, name))
	require.NoError(f.t, err)
	w := bufio.NewWriterSize(file, 1<<20)
	write(w)
	require.NoError(f.t, w.Flush())
	require.NoError(f.t, file.Close())
}

// peak runs a command and returns its exit code, its errors and the most memory
// it took.
func (f folder) peak(args ...string) (code int, errOut string, megabytes int64) {
	cmd := f.command(args...)
	var stderr strings.Builder
	cmd.Stderr = &stderr
	_ = cmd.Run() // the code says it
	return cmd.ProcessState.ExitCode(), stderr.String(), cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss >> 10
}

// fill writes a piece of text so often that it comes to about n bytes. The pieces
// are small, as what this process takes counts for those it starts.
func fill(w *bufio.Writer, piece string, n int) {
	for range n / len(piece) {
		_, _ = w.WriteString(piece) // Flush tells
	}
}

// Hostile sheets get a clear error and little memory.
func TestHostileSheets(t *testing.T) {
	f := folder{t, t.TempDir()}
	for name, c := range map[string]struct {
		write func(w *bufio.Writer)
		says  string
	}{
		"cell.csv": {func(w *bufio.Writer) {
			fill(w, "Login,Surname\nana,\"", 20)
			fill(w, "xxxxxxxx", 100<<20)
		}, "row 2, which begins about here, is over 4 MiB long"},
		"line.csv":    {func(w *bufio.Writer) { fill(w, "xxxxxxxx", 100<<20) }, "row 1, which begins about here, is over 4 MiB long"},
		"columns.csv": {func(w *bufio.Writer) { fmt.Fprintf(w, "Login%s\nana\n", strings.Repeat(",c", 10000)) }, "10001 columns, more than the 2000"},
		"quote.csv": {func(w *bufio.Writer) {
			fmt.Fprintf(w, "Login,Surname,Town\nana,\"Reyes,x\n%s", strings.Repeat("tom,Kaya,Northport\n", 100))
		}, "line 2: a quote is opened here and not closed"},
		"zeros.csv": {func(w *bufio.Writer) { fill(w, "\x00\x00", 1<<20) }, "binary data"},
	} {
		f.big(name, c.write)
		code, errOut, megabytes := f.peak("check", name, "--offline")
		assert.Equal(t, 2, code, name)
		assert.Contains(t, errOut, c.says, name)
		assert.Less(t, megabytes, int64(150), name)
	}
}

// Memory does not grow with the sheet, save for what uniqueness needs: 16 bytes
// and some room for a row's key.
func TestMemoryStaysFlat(t *testing.T) {
	f := folder{t, t.TempDir()}
	var peaks []int64
	for _, rows := range []int{20_000, 200_000} {
		f.big("people.csv", func(w *bufio.Writer) {
			fmt.Fprintln(w, "Staff no,First name,Surname,Remarks")
			for i := range rows {
				fmt.Fprintf(w, "%d,Ana,Reyes,%s\n", i, strings.Repeat("remark ", 40))
			}
		})
		code, errOut, megabytes := f.peak("check", "people.csv", "--offline")
		require.Zero(t, code, errOut)
		peaks = append(peaks, megabytes)
	}
	t.Logf("peaks in MB: %v", peaks)
	assert.Less(t, peaks[1], peaks[0]+40, "60 MB more of sheet: %v", peaks)
	assert.Less(t, peaks[1], int64(150))
}

func TestServersNotToBeTrusted(t *testing.T) {
	t.Parallel()
	s, err := standin.New(standin.Options{Token: token})
	require.NoError(t, err)
	secure := httptest.NewTLSServer(s)
	defer secure.Close()
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "<html><body>Please sign in</body></html>")
	}))
	defer page.Close()
	f := workspace(t, page.URL, "")
	f.write("plain.csv", "Login,Surname\nana,Reyes\n")
	code, _, errOut := f.run("draft", "plain.csv")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "answered 200 with a web page where SCIM was expected")

	f = workspace(t, secure.URL+"/scim/v2", "")
	f.write("plain.csv", "Login,Surname\nana,Reyes\n")
	code, _, errOut = f.run("draft", "plain.csv")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "does not verify")
	assert.NotContains(t, errOut, token)
	f.write("ca.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: secure.Certificate().Raw})))
	f.write("evenledger.yaml", fmt.Sprintf("systems:\n  crewdesk: {url: %q, token: env:TEST_TOKEN, ca: ca.pem}\n", secure.URL+"/scim/v2"))
	code, _, errOut = f.run("draft", "plain.csv")
	assert.Zero(t, code, errOut)
	f.write("ca.pem", "no certificate")
	code, _, errOut = f.run("draft", "plain.csv")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "holds no certificate")
}

// A draft that is interrupted or killed leaves no batch, and the next one takes
// its number.
func TestCutShortDrafts(t *testing.T) {
	t.Parallel()
	data := filepath.Join(t.TempDir(), "crewdesk.json")
	t.Run("the practice application is killed", func(t *testing.T) {
		f := workspace(t, practice(t, "--data", data), "")
		f.crew("crew.csv", 30, "Deckhand")
		for _, args := range [][]string{{"draft", "crew.csv", "-b", "crew"}, {"post", "1", "--yes"}} {
			code, _, errOut := f.run(args...)
			require.Zero(t, code, errOut)
		}
	})
	url := practice(t, "--data", data, "--delay", "200ms", "--page", "1")
	require.Len(t, users(t, url), 30, "what it had answered is there, though it was killed")
	f := workspace(t, url, "")
	f.crew("crew.csv", 2000, "Deckhand")
	for name, end := range map[string]os.Signal{"interrupted": os.Interrupt, "killed": syscall.SIGKILL} {
		cmd := f.command("draft", "crew.csv", "-b", "crew")
		var stderr strings.Builder
		cmd.Stderr = &stderr
		require.NoError(t, cmd.Start())
		testserver.Soon(t, func() bool { _, out, _ := f.run("batches"); return strings.Contains(out, "At work") })
		require.NoError(t, cmd.Process.Signal(end), stderr.String())
		require.Error(t, cmd.Wait())
		if name == "interrupted" {
			assert.Equal(t, 130, cmd.ProcessState.ExitCode(), stderr.String())
		}
		code, out, errOut := f.run("batches")
		assert.Zero(t, code, errOut)
		assert.Contains(t, out, "No batch has been drafted", name)
		assert.NotContains(t, out, "At work", name)
	}
	f.crew("few.csv", 3, "Deckhand")
	code, out, errOut := f.run("draft", "few.csv", "-b", "crew")
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "Batch 1 ")
	assert.Equal(t, 3, f.batch(1).Rows)
}

// A system that shows nobody's membership makes every group look empty. What a batch
// had made is not removed on such a look when the batch is undone.
func TestGroupsThatOnlyLookEmptyStay(t *testing.T) {
	t.Parallel()
	direct := practice(t)
	target, err := url.Parse(direct)
	require.NoError(t, err)
	var hides atomic.Bool
	proxy := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(&url.URL{Scheme: target.Scheme, Host: target.Host})
			r.Out.Header.Del("Accept-Encoding")
		},
		ModifyResponse: func(r *http.Response) error {
			data, err := io.ReadAll(r.Body)
			if err != nil {
				return err
			}
			if hides.Load() {
				data = regexp.MustCompile(`"members":\[[^\]]*\],?`).ReplaceAll(data, nil)
				data = bytes.ReplaceAll(data, []byte(",}"), []byte("}"))
			}
			r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(data)), int64(len(data))
			r.Header.Set("Content-Length", strconv.Itoa(len(data)))
			return nil
		},
	}
	front := httptest.NewServer(proxy)
	t.Cleanup(front.Close)
	f := workspace(t, front.URL+target.Path, "")
	f.write("briefs/making.yaml", "system: crewdesk\nmatch: [userName]\nfields: {userName: {from: Login}}\ngroups: {from: Crew, make_missing: true}\n")
	f.write("making.csv", "Login,Crew\nana,Night watch\n")
	for _, args := range [][]string{{"draft", "making.csv", "-b", "making"}, {"post", "1", "--yes"}} {
		code, out, errOut := f.run(args...)
		require.Zero(t, code, out+errOut)
	}
	hides.Store(true)
	code, out, errOut := f.run("reverse", "1")
	require.Zero(t, code, out+errOut)
	code, out, errOut = f.run("post", "2", "--yes")
	require.Zero(t, code, out+errOut)
	assert.Regexp(t, `Night watch +stays, .*the system does not show who is`, out)
	assert.Equal(t, map[string]int{"Night watch": 1}, members(t, direct))
}
