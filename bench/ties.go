package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"
)

// tieBrief gives each row three groups, a course and a licence.
const tieBrief = postBrief + `groups: {from: Base, via: {Northport: north, Lagos Quay: lagos, Galway Pier: galway}}
courses: {from: Position, role: Source}
licences: {from: Language}
rules: [{when: "true", groups: [all, mail]}]
`

// members is how many members the bare loop puts into one request.
const members = 200

// seedThings makes the groups, courses and licences that the rows name.
func seedThings(url string) error {
	for endpoint, names := range map[string][]string{
		"Groups": {"north", "lagos", "galway", "all", "mail"}, "Courses": {"Deck hand", "Second engineer", "Ticket clerk", "Chief officer"},
		"Licences": {"en", "pt", "pl", "English", "Spanish"},
	} {
		schema := groupSchema
		if endpoint != "Groups" {
			schema = "urn:example:params:scim:schemas:crew:2.0:" + endpoint[:len(endpoint)-1]
		}
		if err := seed(url+"/"+endpoint, schema, names); err != nil {
			return err
		}
	}
	return nil
}

const groupSchema = "urn:ietf:params:scim:schemas:core:2.0:Group"

func seed(endpoint, schema string, names []string) error {
	for _, name := range names {
		if err := send(http.DefaultClient, http.MethodPost, endpoint, map[string]any{"schemas": []string{schema}, "displayName": name}, http.StatusCreated); err != nil {
			return err
		}
	}
	return nil
}

func send(client *http.Client, method, target string, document any, want int) error {
	body, err := json.Marshal(document)
	if err != nil {
		return err
	}
	req, err := http.NewRequest(method, target, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "application/scim+json")
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != want {
		err = fmt.Errorf("%s: %s", resp.Status, answer)
	}
	return err
}

// bareTies is the floor of posting memberships: each account in a request of its
// own, then the least requests that put everyone into what they are to be in.
func bareTies(url, count, connections string) error {
	if err := bareSend(sendOne, url, count, connections); err != nil {
		return err
	}
	n, err := strconv.Atoi(count)
	if err != nil {
		return err
	}
	client := &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: together}}
	var group errgroup.Group
	group.SetLimit(together)
	put := func(target string, from, step int, role string) {
		group.Go(func() error {
			for some := range slices.Chunk(slices.Collect(func(yield func(int) bool) {
				for i := from; i < n && yield(i); i += step {
				}
			}), members) {
				var list []any
				for _, i := range some {
					member := map[string]any{"value": fmt.Sprintf("u-%06d", i+1)}
					if role != "" {
						member["role"] = role
					}
					list = append(list, member)
				}
				patch := map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"}, "Operations": []any{map[string]any{"op": "add", "path": "members", "value": list}}}
				if err := send(client, http.MethodPatch, target+"?attributes=id", patch, http.StatusOK); err != nil {
					return err
				}
			}
			return nil
		})
	}
	for i := range 3 {
		put(fmt.Sprintf("%s/Groups/g-%06d", url, i+1), i, 3, "")
	}
	put(url+"/Groups/g-000004", 0, 1, "")
	put(url+"/Groups/g-000005", 0, 1, "")
	for i := range 4 {
		put(fmt.Sprintf("%s/Courses/c-%06d", url, i+1), i, 4, "crewing")
	}
	for i := range 5 {
		put(fmt.Sprintf("%s/Licences/l-%06d", url, i+1), i, 5, "")
	}
	return group.Wait()
}

// counter passes requests on and counts those that change something.
func counter(target string) (address string, count *atomic.Int64, stop func(), err error) {
	u, err := url.Parse(target)
	if err != nil {
		return "", nil, nil, err
	}
	count = &atomic.Int64{}
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		if r.SetURL(&url.URL{Scheme: u.Scheme, Host: u.Host}); r.In.Method != http.MethodGet {
			count.Add(1)
		}
	}}
	server := httptest.NewServer(proxy)
	return server.URL + u.Path, count, server.Close, nil
}

// benchTies times a post of creates, each with three groups, a course and a
// licence, against the bare loop of the least requests, and counts both.
func benchTies(program, dir string) error {
	sheet := filepath.Join(dir, "ties.csv")
	if err := errors.Join(generate(sheet, creates), os.WriteFile(filepath.Join(dir, "post.yaml"), []byte(tieBrief), 0o644)); err != nil {
		return err
	}
	requests := func(do func(url string) error) (int64, error) {
		address, stop, err := practice(program, dir, 0, 0)
		if err != nil {
			return 0, err
		}
		through, count, end, err := counter(address)
		if err == nil {
			err = seedThings(address)
		}
		if err == nil {
			err = do(through)
			end()
		}
		return count.Load(), errors.Join(err, stop())
	}
	ours, err := requests(func(url string) error { return postTo(program, dir, sheet, url, nil) })
	if err != nil {
		return err
	}
	least, err := requests(func(url string) error { return bareTies(url, strconv.Itoa(creates), strconv.Itoa(together)) })
	if err != nil {
		return err
	}
	fmt.Printf("ties   %9d rows with 3 groups, 1 course, 1 licence: %d requests that change something, the least %d, ratio %.3f\n", creates, ours, least, float64(ours)/float64(least))
	for _, c := range []struct {
		delay time.Duration
		bulk  int
	}{{0, 0}, {2 * time.Millisecond, 0}, {0, 100}, {2 * time.Millisecond, 100}} {
		var ratios, us, bare []float64
		for range 3 {
			times := [2]float64{}
			for i := range times {
				url, stop, err := practice(program, dir, c.delay, c.bulk)
				if err != nil {
					return err
				}
				if err = seedThings(url); err == nil && i == 0 {
					err = postTo(program, dir, sheet, url, &times[0])
				} else if err == nil {
					var took usage
					took, err = measure(self("ties", url, strconv.Itoa(creates), strconv.Itoa(together)))
					times[1] = took.wall.Seconds()
				}
				if err = errors.Join(err, stop()); err != nil {
					return err
				}
			}
			us, bare, ratios = append(us, times[0]), append(bare, times[1]), append(ratios, times[1]/times[0])
		}
		slices.Sort(ratios)
		slices.Sort(us)
		slices.Sort(bare)
		fmt.Printf("ties   bulk %d, answers after %v: %5.2f s; bare loop %5.2f s; rows/s against the bare loop %.2f (from %.2f to %.2f)\n", c.bulk, c.delay, us[1], bare[1], ratios[1], ratios[0], ratios[2])
	}
	return nil
}

// crowd is how many accounts the system has against which a draft is measured.
const crowd = 200_000

// benchDraft times a draft of rows that change accounts of a large system, with
// the groups they are in, against bare paging through all of its accounts.
func benchDraft(program, dir string) error {
	const rows = 10_000
	sheet, data := filepath.Join(dir, "draft.csv"), filepath.Join(dir, "crowd.json")
	if err := errors.Join(generate(sheet, rows), os.WriteFile(filepath.Join(dir, "post.yaml"), []byte(tieBrief), 0o644), writeCrowd(data)); err != nil {
		return err
	}
	url, stop, err := practice(program, dir, 0, 0, "--data", data, "--page", "1000")
	if err != nil {
		return err
	}
	err = seedThings(url)
	if err == nil {
		err = writeConfig(dir, url)
	}
	draft := func() *exec.Cmd {
		cmd := exec.Command(program, "draft", sheet, "-b", filepath.Join(dir, "post.yaml"))
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "BENCH_TOKEN="+token)
		return cmd
	}
	if err == nil {
		var ours, floor usage
		var ratio float64
		ours, floor, ratio, err = pairs(3, draft, func() *exec.Cmd { return self("page", url) })
		fmt.Printf("draft  %9d rows against %d accounts: %5.2f s, %d MB; bare paging %5.2f s; %.2f times as long\n", rows, crowd, ours.wall.Seconds(), ours.peak>>20, floor.wall.Seconds(), ratio)
	}
	return errors.Join(err, stop())
}

// writeCrowd writes a stand-in's data file with many accounts, half of which the
// generated sheet names.
func writeCrowd(path string) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(file, 1<<20)
	fmt.Fprint(w, `{"/Users":[`)
	for i := range crowd {
		comma := ","
		if i == 0 {
			comma = ""
		}
		fmt.Fprintf(w, `%s{"id":"u-%06d","version":1,"created":"2026-01-01T00:00:00Z","modified":"2026-01-01T00:00:00Z","resource":{"userName":"crew.%d","title":"Deck hand","active":true,"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"employeeNumber":"%d"}}}`, comma, i+1, i, 105000+i)
	}
	fmt.Fprint(w, "]}")
	return errors.Join(w.Flush(), file.Close())
}

// barePaging is the floor of a draft: every account, page by page, as text.
func barePaging(url string) error {
	client := &http.Client{Timeout: time.Minute}
	for start := 1; ; start += 1000 {
		req, err := http.NewRequest(http.MethodGet, fmt.Sprintf("%s/Users?attributes=userName,title,emails,name,displayName,urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:employeeNumber&startIndex=%d&count=1000", url, start), nil)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := client.Do(req)
		if err != nil {
			return err
		}
		var list struct {
			TotalResults int
			Resources    []json.RawMessage
		}
		err = errors.Join(json.NewDecoder(resp.Body).Decode(&list), resp.Body.Close())
		if err != nil || start+len(list.Resources) > list.TotalResults {
			return err
		}
	}
}
