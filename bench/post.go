package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"
)

const (
	creates  = 5000
	together = 4
	token    = "bench"
)

const postBrief = `brief: Bench
match: [employeeNumber, userName]
fields:
  employeeNumber: {from: Staff no}
  givenName: {from: First name}
  familyName: {from: Surname}
  displayName: {make: 'givenName + " " + familyName'}
  userName: {make: 'fold(givenName) + "." + fold(familyName) + "." + employeeNumber'}
  email: {make: 'userName + "@brindlesound.example"'}
  title: {from: Position}
  department: {from: Department}
  country: {from: Country}
  preferredLanguage: {from: Language}
`

// practice starts a stand-in in a process of its own and returns its address.
func practice(program, dir string, delay time.Duration, bulk int, more ...string) (url string, stop func() error, err error) {
	cmd := exec.Command(program, append([]string{"standin", "--port", "0", "--token", "env:BENCH_TOKEN", "--json", "--delay", delay.String(), "--bulk", strconv.Itoa(bulk)}, more...)...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "BENCH_TOKEN="+token)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	var told struct{ URL string }
	if err := json.NewDecoder(out).Decode(&told); err != nil {
		return "", nil, errors.Join(err, cmd.Process.Kill())
	}
	return told.URL, func() error {
		err := cmd.Process.Signal(os.Interrupt)
		_, waitErr := cmd.Process.Wait()
		return errors.Join(err, waitErr)
	}, nil
}

// benchPost times a post of creates with its ledger on disk, and a bare loop of
// the same requests over as many connections, each against a fresh stand-in: one
// that answers at once, so that both fight it for the same two cores, and one that
// takes as long as a server across a network; each with and without bulk requests,
// which the bare loop never makes.
func benchPost(program, dir string) error {
	sheet := filepath.Join(dir, "post.csv")
	if err := errors.Join(generate(sheet, creates), os.WriteFile(filepath.Join(dir, "post.yaml"), []byte(postBrief), 0o644)); err != nil {
		return err
	}
	for _, c := range []struct {
		delay time.Duration
		bulk  int
		kind  string
	}{{0, 0, "one by one"}, {2 * time.Millisecond, 0, "one by one"}, {0, 100, "in bulk"}, {2 * time.Millisecond, 100, "in bulk"}} {
		var ratios, ours, bare []float64
		for range 5 {
			a, err := timePost(program, dir, sheet, c.delay, c.bulk)
			if err != nil {
				return err
			}
			b, err := timeBare(program, dir, c.delay, c.bulk)
			if err != nil {
				return err
			}
			ours, bare, ratios = append(ours, a), append(bare, b), append(ratios, b/a)
		}
		slices.Sort(ratios)
		slices.Sort(ours)
		slices.Sort(bare)
		fmt.Printf("post   %9d creates %s, %d requests at once, answers after %v: %5.2f s; bare loop %5.2f s; creates/s against the bare loop %.2f (from %.2f to %.2f)\n", creates, c.kind, together, c.delay, ours[2], bare[2], ratios[2], ratios[0], ratios[4])
	}
	return nil
}

func timePost(program, dir, sheet string, delay time.Duration, bulk int) (seconds float64, err error) {
	url, stop, err := practice(program, dir, delay, bulk)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, stop()) }()
	err = postTo(program, dir, sheet, url, &seconds)
	return seconds, err
}

func writeConfig(dir, url string) error {
	if isWeb(url) {
		config := fmt.Sprintf("systems:\n  bench: {kind: web, url: %q, token: env:BENCH_TOKEN, description: web.yaml, together: %d}\n", url, together)
		return os.WriteFile(filepath.Join(dir, "evenledger.yaml"), []byte(config), 0o644)
	}
	config := fmt.Sprintf("systems:\n  bench: {url: %q, token: env:BENCH_TOKEN, together: %d}\n", url, together)
	return os.WriteFile(filepath.Join(dir, "evenledger.yaml"), []byte(config), 0o644)
}

// newLedger takes the last one away.
func newLedger(dir string) error {
	old, err := filepath.Glob(filepath.Join(dir, "ledger.db*"))
	for _, path := range old {
		err = errors.Join(err, os.Remove(path))
	}
	return err
}

// postTo drafts a sheet with a new ledger, posts it, and tells how long posting
// took.
func postTo(program, dir, sheet, url string, seconds *float64, flags ...string) error {
	if err := errors.Join(newLedger(dir), writeConfig(dir, url)); err != nil {
		return err
	}
	run := func(args ...string) (usage, error) {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "BENCH_TOKEN="+token)
		return measure(cmd)
	}
	if _, err := run("draft", sheet, "-b", filepath.Join(dir, "post.yaml")); err != nil {
		return err
	}
	took, err := run(append([]string{"post", "1", "--yes"}, flags...)...)
	if seconds != nil {
		*seconds = took.wall.Seconds()
	}
	return err
}

func timeBare(program, dir string, delay time.Duration, bulk int) (seconds float64, err error) {
	url, stop, err := practice(program, dir, delay, bulk)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, stop()) }()
	took, err := measure(self("send", url, strconv.Itoa(creates), strconv.Itoa(together)))
	return took.wall.Seconds(), err
}

// bareSend is the floor of posting: requests of the same shape, each sent by one, and nothing else.
func bareSend(one func(*http.Client, string, int) error, url, count, connections string) error {
	n, err := strconv.Atoi(count)
	if err != nil {
		return err
	}
	workers, err := strconv.Atoi(connections)
	if err != nil {
		return err
	}
	client := &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: workers}}
	numbers := make(chan int)
	failed := make(chan error, workers)
	var group sync.WaitGroup
	for range workers {
		group.Go(func() {
			for i := range numbers {
				if err := one(client, url, i); err != nil {
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
	group.Wait()
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}

func sendOne(client *http.Client, url string, i int) error {
	if isWeb(url) {
		return sendOneWeb(client, url, i)
	}
	number := strconv.Itoa(100000 + i)
	userName := "siobhan.wisniewski." + number
	const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	return send(client, http.MethodPost, url+"/Users", map[string]any{
		"schemas":  []string{"urn:ietf:params:scim:schemas:core:2.0:User", enterprise},
		"userName": userName, "displayName": "Siobhán Wiśniewski", "title": "Second engineer", "preferredLanguage": "pl",
		"name":      map[string]any{"givenName": "Siobhán", "familyName": "Wiśniewski"},
		"emails":    []any{map[string]any{"type": "work", "primary": true, "value": userName + "@brindlesound.example"}},
		"addresses": []any{map[string]any{"type": "work", "country": "PL"}},
		enterprise:  map[string]any{"employeeNumber": number, "department": "Engine"},
	}, http.StatusCreated)
}
