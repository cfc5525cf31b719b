package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// allowed is how many requests a second the limited server lets pass.
const allowed = 25

// A limited server makes and shows accounts, and answers 429 without saying for how long
// to every request beyond what it allows in any one second.
type limited struct {
	mu              sync.Mutex
	passed          []time.Time // in the last second
	first, last     time.Time
	through, denied int
	users           []map[string]any
}

func (l *limited) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	for len(l.passed) > 0 && now.Sub(l.passed[0]) >= time.Second {
		l.passed = l.passed[1:]
	}
	if len(l.passed) >= allowed {
		l.denied++
		w.WriteHeader(http.StatusTooManyRequests)
		return
	}
	l.passed = append(l.passed, now)
	if l.through++; l.through == 1 {
		l.first = now
	}
	l.last = now
	w.Header().Set("Content-Type", "application/scim+json")
	switch {
	case r.Method == http.MethodPost:
		var user map[string]any
		if err := json.NewDecoder(r.Body).Decode(&user); err != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		user["id"] = fmt.Sprint(len(l.users))
		l.users = append(l.users, user)
		w.WriteHeader(http.StatusCreated)
		_ = json.NewEncoder(w).Encode(user)
	case r.URL.Path == "/Users":
		_ = json.NewEncoder(w).Encode(map[string]any{"totalResults": len(l.users), "Resources": l.users})
	default:
		w.WriteHeader(http.StatusNotFound)
	}
}

// benchLimited posts to a server that answers 429 at so many requests a second, and holds
// what got through against what it allows.
func benchLimited(program, dir string) error {
	dir = filepath.Join(dir, "limited")
	server := &limited{}
	at := httptest.NewServer(server)
	defer at.Close()
	var text strings.Builder
	text.WriteString("User name,First name\n")
	const rows = 750
	for i := range rows {
		fmt.Fprintf(&text, "crew%d,Ana\n", i)
	}
	for name, content := range map[string]string{"evenledger.yaml": fmt.Sprintf("systems: {limited: {url: %q, token: env:BENCH_TOKEN}}\n", at.URL), "crew.csv": text.String()} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600); err != nil {
			return err
		}
	}
	for _, args := range [][]string{{"draft", "crew.csv"}, {"post", "1", "--yes"}} {
		server.mu.Lock()
		server.through, server.denied = 0, 0
		server.mu.Unlock()
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "BENCH_TOKEN=token")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
	}
	rate := float64(server.through) / server.last.Sub(server.first).Seconds()
	fmt.Printf("post, %d rows at a server that allows %d requests/s: %.1f/s got through, %.2f of what it allows (wanted: 0.90); %d were turned away\n", rows, allowed, rate, rate/allowed, server.denied)
	return nil
}
