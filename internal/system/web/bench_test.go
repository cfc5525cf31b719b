package web_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"

	"evenledger/internal/description"
	"evenledger/internal/httpdial"
	"evenledger/internal/system/web"
)

// pagesOf are the answers of a list of so many people, by what asks for them.
func pagesOf(n, size int) map[string][]byte {
	pages := map[string][]byte{}
	for from := 0; from < n; from += size {
		var page strings.Builder
		page.WriteString(`{"data":[`)
		for i := from; i < min(from+size, n); i++ {
			if i > from {
				page.WriteByte(',')
			}
			fmt.Fprintf(&page, `{"id":"p-%d","login":"siobhan.wisniewski.%d","staff_no":"%d","name":{"first":"Siobhán","last":"Wiśniewski"},"contacts":[{"kind":"phone","value":"+44 7700 900%03d"},{"kind":"mail","value":"siobhan.wisniewski.%d@brindlesound.example"}],"state":"live","post":{"title":"Second engineer","team":"Engine"},"rev":%d,"created_at":"2026-11-30T10:00:00Z"}`, i, i, i, i%1000, i, i)
		}
		next := "null"
		if from+size < n {
			next = strconv.Quote(strconv.Itoa(from + size))
		}
		fmt.Fprintf(&page, `],"meta":{"after":%s}}`, next)
		key := ""
		if from > 0 {
			key = strconv.Itoa(from)
		}
		pages[key] = []byte(page.String())
	}
	return pages
}

// BenchmarkList lists accounts over a connection, against decoding the same answers with encoding/json and nothing else.
func BenchmarkList(b *testing.B) {
	const people = 200_000
	pages := pagesOf(people, 1000)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write(pages[r.FormValue("after")]) }))
	defer server.Close()
	b.Run("bare", func(b *testing.B) {
		for b.Loop() {
			n := 0
			for after := ""; ; {
				response, err := http.Get(server.URL + "/people?after=" + after)
				if err != nil {
					b.Fatal(err)
				}
				var page struct {
					Data []map[string]any
					Meta struct{ After *string }
				}
				err = json.NewDecoder(response.Body).Decode(&page)
				if _ = response.Body.Close(); err != nil {
					b.Fatal(err)
				}
				n += len(page.Data)
				if page.Meta.After == nil {
					break
				}
				after = *page.Meta.After
			}
			if n != people {
				b.Fatal(n)
			}
		}
		b.ReportMetric(float64(people*b.N)/b.Elapsed().Seconds(), "accounts/s")
	})
	b.Run("listed", func(b *testing.B) {
		i, err := description.Load("testdata/mooring.yaml", "2026-11-30")
		if err != nil {
			b.Fatal(err)
		}
		i.Account.Schema, i.Listing.Total = "", nil
		b.ReportAllocs()
		for b.Loop() {
			c, err := web.New(web.Config{Interface: i, Config: httpdial.Config{URL: server.URL, Together: 4}})
			if err != nil {
				b.Fatal(err)
			}
			n := 0
			for _, err := range c.List(b.Context(), []string{"userName", "employeeNumber", "givenName", "familyName", "email", "title", "department", "active"}) {
				if err != nil {
					b.Fatal(err)
				}
				n++
			}
			if n != people {
				b.Fatal(n)
			}
		}
		b.ReportMetric(float64(people*b.N)/b.Elapsed().Seconds(), "accounts/s")
	})
}
