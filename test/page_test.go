package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/testserver"
)

// browser is a headless Chromium that is driven by the WebDriver protocol.
type browser struct {
	t       *testing.T
	session string
}

func startBrowser(t *testing.T) *browser {
	driver, err := exec.LookPath("chromedriver")
	if err != nil && os.Getenv("CI") == "" {
		t.Skip("no chromedriver here; scripts/test.sh installs it where it may")
	}
	require.NoError(t, err)
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := free.Addr().(*net.TCPAddr).Port
	require.NoError(t, free.Close())
	cmd := exec.Command(driver, fmt.Sprintf("--port=%d", port))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _, _ = cmd.Process.Kill(), cmd.Wait() })
	b := &browser{t: t, session: fmt.Sprintf("http://127.0.0.1:%d/session", port)}
	testserver.Soon(t, func() bool {
		resp, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/status", port))
		return err == nil && resp.Body.Close() == nil
	})
	made := b.send(http.MethodPost, "", map[string]any{"capabilities": map[string]any{"alwaysMatch": map[string]any{
		"browserName": "chrome", "goog:loggingPrefs": map[string]any{"browser": "ALL"},
		"goog:chromeOptions": map[string]any{"args": []string{"--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--user-data-dir=" + t.TempDir()}}}}})
	b.session += "/" + made.(map[string]any)["sessionId"].(string)
	t.Cleanup(func() { b.send(http.MethodDelete, "", nil) })
	return b
}

func (b *browser) send(method, path string, document any) any {
	var body []byte
	var err error
	if document != nil {
		body, err = json.Marshal(document)
		require.NoError(b.t, err)
	}
	req, err := http.NewRequest(method, b.session+path, bytes.NewReader(body))
	require.NoError(b.t, err)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(b.t, err)
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	require.NoError(b.t, err)
	require.Equal(b.t, http.StatusOK, resp.StatusCode, "%s", data)
	var answer struct{ Value any }
	require.NoError(b.t, json.Unmarshal(data, &answer))
	return answer.Value
}

// js runs a script in the page and returns what it returns.
func (b *browser) js(script string) any {
	return b.send(http.MethodPost, "/execute/sync", map[string]any{"script": script, "args": []any{}})
}

// element finds an element by its selector.
func (b *browser) element(selector string) string {
	found := b.send(http.MethodPost, "/element", map[string]any{"using": "css selector", "value": selector})
	for _, id := range found.(map[string]any) {
		return "/element/" + id.(string)
	}
	return ""
}

// The page of a batch in a browser: nothing is fetched and no script is refused;
// its totals are even; rows are found by words and by outcome; it has dark colours,
// and on paper no tools.
func TestPageInBrowser(t *testing.T) {
	t.Parallel()
	b := startBrowser(t)
	f := folder{t, t.TempDir()}
	code, _, errOut := f.run("demo", "--dir", "demo")
	require.Zero(t, code, errOut)
	b.send(http.MethodPost, "/url", map[string]any{"url": "file://" + filepath.Join(f.dir, "demo", "batch-1.html")})
	const shown = `return [...document.querySelectorAll("#rows tr")].filter(r => !r.hidden).map(r => r.dataset.outcome).join(" ")`
	assert.Len(t, b.js(`return document.querySelectorAll("#rows tr")`), 40)
	assert.Equal(t, []any{"40", "40"}, b.js(`return [...document.querySelectorAll(".sides .total .n")].map(n => n.textContent)`))
	assert.Equal(t, "even", b.js(`return document.querySelector(".even").textContent`))
	assert.Contains(t, b.js(`return document.querySelector("#row-6").textContent`), "joins course First aid at sea (learner) · done")

	b.send(http.MethodPost, b.element("#words")+"/value", map[string]any{"text": "zoe angstrom"})
	assert.Equal(t, "created", b.js(shown))
	assert.Equal(t, "1 of 40 rows", b.js(`return document.querySelector("#shown").textContent`))
	b.send(http.MethodPost, b.element("#words")+"/clear", map[string]any{})
	b.send(http.MethodPost, b.element(`button[data-outcome="refused"]`)+"/click", map[string]any{})
	assert.Equal(t, "refused refused refused refused refused refused", b.js(shown))
	b.send(http.MethodPost, b.element(`button[data-outcome="aside"]`)+"/click", map[string]any{})
	assert.Equal(t, "7 of 40 rows", b.js(`return document.querySelector("#shown").textContent`))

	media := func(params map[string]any) {
		b.send(http.MethodPost, "/goog/cdp/execute", map[string]any{"cmd": "Emulation.setEmulatedMedia", "params": params})
	}
	const paper = `return getComputedStyle(document.body).backgroundColor`
	light := b.js(paper)
	media(map[string]any{"features": []any{map[string]any{"name": "prefers-color-scheme", "value": "dark"}}})
	assert.NotEqual(t, light, b.js(paper))
	media(map[string]any{"media": "print"})
	assert.Equal(t, "none", b.js(`return getComputedStyle(document.querySelector(".tools")).display`))
	assert.Empty(t, b.js(`return performance.getEntriesByType("resource").map(e => e.name)`), "nothing is fetched")
	assert.Empty(t, b.send(http.MethodPost, "/se/log", map[string]any{"type": "browser"}), "no script was refused")
}
