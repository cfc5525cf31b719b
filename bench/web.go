package main

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// webDescription is how the practice application with a web interface of its own is spoken to, one account a request.
const webDescription = `account:
  id: id
  fields: {userName: login, employeeNumber: staff_no, givenName: name.first, familyName: name.last, displayName: name.shown, title: post.title, department: post.team,
    email: {list: contacts, where: {kind: mail}, value: value}}
list: {get: /people, items: data, every: {limit: "200"}, size: 200, total: meta.total, next: {cursor: meta.after, as: after}}
find: {get: /people, by: {userName: login, employeeNumber: staff_no}, items: data, repeat: true, most: 50}
read: {get: "/people/{id}"}
create: {post: /people}
change: {patch: "/people/{id}", body: merge}
`

// isWeb reports whether an address is that application's.
func isWeb(url string) bool { return strings.HasSuffix(url, "/api") }

// benchWeb times a post of creates to an application with a web interface of its own, against a bare loop of the same requests.
func benchWeb(program, dir string) error {
	sheet := filepath.Join(dir, "post.csv")
	brief := strings.NewReplacer("  country: {from: Country}\n", "", "  preferredLanguage: {from: Language}\n", "").Replace(postBrief)
	if err := errors.Join(generate(sheet, creates), os.WriteFile(filepath.Join(dir, "post.yaml"), []byte(brief), 0o644), os.WriteFile(filepath.Join(dir, "web.yaml"), []byte(webDescription), 0o644)); err != nil {
		return err
	}
	for _, delay := range []time.Duration{0, 2 * time.Millisecond} {
		var ratios, ours, bare []float64
		for range 5 {
			var took [2]float64
			for i := range took {
				url, stop, err := practice(program, dir, delay, 0, "--web", "--page", "200")
				if err != nil {
					return err
				}
				if i == 0 {
					err = postTo(program, dir, sheet, url, &took[i])
				} else {
					var used usage
					used, err = measure(self("send", url, strconv.Itoa(creates), strconv.Itoa(together)))
					took[i] = used.wall.Seconds()
				}
				if err = errors.Join(err, stop()); err != nil {
					return err
				}
			}
			ours, bare, ratios = append(ours, took[0]), append(bare, took[1]), append(ratios, took[1]/took[0])
		}
		slices.Sort(ratios)
		slices.Sort(ours)
		slices.Sort(bare)
		fmt.Printf("web    %9d creates one by one, %d requests at once, answers after %v: %5.2f s; bare loop %5.2f s; creates/s against the bare loop %.2f (from %.2f to %.2f)\n", creates, together, delay, ours[2], bare[2], ratios[2], ratios[0], ratios[4])
	}
	return nil
}

func sendOneWeb(client *http.Client, url string, i int) error {
	number := strconv.Itoa(100000 + i)
	userName := "siobhan.wisniewski." + number
	return send(client, http.MethodPost, url+"/people", map[string]any{
		"login": userName, "staff_no": number, "name": map[string]any{"first": "Siobhán", "last": "Wiśniewski", "shown": "Siobhán Wiśniewski"},
		"post": map[string]any{"title": "Second engineer", "team": "Engine"}, "contacts": []any{map[string]any{"kind": "mail", "value": userName + "@brindlesound.example"}},
	}, http.StatusCreated)
}
