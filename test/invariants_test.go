package test

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/brief"
	"evenledger/internal/clock"
	"evenledger/internal/drafting"
	"evenledger/internal/httpdial"
	"evenledger/internal/mapping"
	"evenledger/internal/posting"
	"evenledger/internal/readback"
	"evenledger/internal/secret"
	"evenledger/internal/sheet"
	"evenledger/internal/standin"
	"evenledger/internal/store"
	"evenledger/internal/store/sqlite"
	"evenledger/internal/system/scim"
)

// harbour is a stand-in with people, groups, courses and licences, a client of it,
// and a ledger.
type harbour struct {
	t      *rapid.T
	server *httptest.Server
	client *scim.Client
	ledger store.Store

	mu    sync.Mutex
	dies  int // at which change from now on nothing is answered any more; 0: never
	first bool
	count int
}

const resource = "urn:example:params:scim:schemas:crew:2.0:"

func newHarbour(t *rapid.T, dir string) *harbour {
	s, err := standin.New(standin.Options{Token: "secret", Bulk: 3, Page: 4})
	require.NoError(t, err)
	add := func(body map[string]any) { require.NoError(t, s.Add(body)) }
	for i, name := range []string{"ana", "tom", "mei", "bo"} {
		add(map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"}, "userName": name, "active": name != "bo", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User": map[string]any{"employeeNumber": fmt.Sprint(i + 1)}})
	}
	for name, members := range map[string][]string{"crew-deck": {"u-000001", "u-000004"}, "crew-engine": {"u-000002"}, "all-hands": {"u-000001", "u-000002"}} {
		list := []any{}
		for _, id := range members {
			list = append(list, map[string]any{"value": id})
		}
		add(map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Group"}, "displayName": name, "members": list})
	}
	add(map[string]any{"schemas": []string{resource + "Course"}, "displayName": "Radio", "roles": []any{"learner", "tutor"}, "members": []any{map[string]any{"value": "u-000002", "role": "tutor"}}})
	add(map[string]any{"schemas": []string{resource + "Licence"}, "displayName": "charts", "seats": json.Number("3"), "members": []any{map[string]any{"value": "u-000001"}}})
	h := &harbour{t: t}
	h.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		if r.Method != http.MethodGet {
			h.count++
		}
		dead, last := h.dies > 0 && h.count >= h.dies, h.count == h.dies && h.first
		h.mu.Unlock()
		if dead && last {
			s.ServeHTTP(httptest.NewRecorder(), r) // carried out, and nobody hears of it
		}
		if dead {
			panic(http.ErrAbortHandler)
		}
		s.ServeHTTP(w, r)
	}))
	h.client, err = scim.New(scim.Config{Config: httpdial.Config{URL: h.server.URL + "/scim/v2", Credential: httpdial.Bearer("secret"), Together: 2, Timeout: 5 * time.Second, Pause: time.Millisecond}, Page: 4})
	require.NoError(t, err)
	h.ledger, err = sqlite.Open(context.Background(), filepath.Join(dir, "ledger.db"))
	require.NoError(t, err)
	return h
}

func (h *harbour) close() {
	require.NoError(h.t, h.ledger.Close())
	h.server.Close()
}

// picture is everything the system holds, accounts by user name.
func (h *harbour) picture() map[string]string {
	names, held := map[string]string{}, map[string]string{}
	for _, endpoint := range []string{"Users", "Groups", "Courses", "Licences"} {
		for start := 1; ; {
			req, _ := http.NewRequest(http.MethodGet, fmt.Sprintf("%s/scim/v2/%s?startIndex=%d", h.server.URL, endpoint, start), nil)
			req.Header.Set("Authorization", "Bearer secret")
			resp, err := http.DefaultClient.Do(req)
			require.NoError(h.t, err)
			var list struct {
				TotalResults int
				Resources    []map[string]any
			}
			require.NoError(h.t, json.NewDecoder(resp.Body).Decode(&list))
			require.NoError(h.t, resp.Body.Close())
			for _, r := range list.Resources {
				id := r["id"].(string)
				delete(r, "id")
				delete(r, "meta")
				delete(r, "schemas")
				if name, ok := r["userName"].(string); ok {
					names[id] = name
					if manager, ok := r["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"].(map[string]any)["manager"].(map[string]any); ok {
						manager["value"] = "manager " + manager["value"].(string)
					}
				}
				var members []string
				list, _ := r["members"].([]any)
				for _, m := range list {
					member := m.(map[string]any)
					role, _ := member["role"].(string)
					members = append(members, names[member["value"].(string)]+" "+role)
				}
				slices.Sort(members)
				r["members"] = members
				data, err := json.Marshal(r)
				require.NoError(h.t, err)
				name, _ := r["userName"].(string)
				if name == "" {
					name = r["displayName"].(string)
				}
				held[endpoint+" "+name] = string(data)
			}
			if start += len(list.Resources); start > list.TotalResults {
				break
			}
		}
	}
	for key, text := range held {
		for id, name := range names {
			text = strings.ReplaceAll(text, "manager "+id, "manager "+name)
		}
		held[key] = text
	}
	return held
}

// voyageBrief gives each row of a sheet an intent, crews that are exact within
// crew-*, a course, a licence and a manager who may be in the sheet too.
const voyageBrief = `match: [employeeNumber]
fields:
  employeeNumber: {from: No}
  userName: {from: Login}
  title: {from: Title, clear_when_blank: true}
  manager: {from: Boss, refers: employeeNumber}
intent: {from: What, via: {go: suspend, back: resume}}
suspend: {leave: {licences: "*", groups: "crew-e*"}}
groups: {from: Crews, split: ";", mode: exact, within: "crew-*", clear_when_blank: true}
courses: {from: Course}
licences: [{from: Licence}, {from: Give back, mode: remove}]
rules: [{when: 'title == "Bosun"', groups: [crew-deck]}]
`

func (h *harbour) draft(csv string) *batch.Batch {
	b, err := brief.Parse("crew.yaml", []byte(voyageBrief), brief.Options{Today: "2026-11-23"})
	require.NoError(h.t, err)
	s, err := sheet.Read("crew.csv", strings.NewReader(csv), sheet.Options{})
	require.NoError(h.t, err)
	made, err := (&drafting.Draft{Worker: store.Worker{Name: rand.Text(), Term: time.Minute}, Vaults: secret.NewVaults("no-passwords"), Ledger: h.ledger, System: h.client, Sheet: s, Rows: s.Rows(), Mapper: mapping.New(b, s.Info()), Together: 2, Batch: batch.Batch{Draft: batch.Draft{Made: time.Now(), System: "harbour"}}}).Make(context.Background())
	require.NoError(h.t, err)
	return made.Batch
}

func (h *harbour) post(b *batch.Batch) error {
	return (&posting.Post{Worker: store.Worker{Name: rand.Text(), Term: time.Minute}, Ledger: h.ledger, System: h.client, Batch: b, Together: 2, Settle: time.Millisecond, Clock: clock.Real()}).Run(context.Background())
}

// even sees that the outcomes add up, and returns the entries.
func (h *harbour) even(b *batch.Batch) (entries []batch.Entry, counts account.Counts) {
	counts, _, err := h.ledger.Counts(context.Background(), b.ID)
	require.NoError(h.t, err)
	require.Equal(h.t, b.Rows+b.Unlisted, counts.Total())
	for e, err := range h.ledger.Entries(context.Background(), b.ID, store.Filter{}) {
		require.NoError(h.t, err)
		entries = append(entries, e)
	}
	return entries, counts
}

// For any sheet: outcomes add up; a post that dies at any change and is gone on
// with comes to the same as one that does not; what was posted reads back; the
// sheet again has nothing left to do; exact memberships are just those wanted and
// nothing outside their pattern is touched; and undoing leaves all as it was.
func TestInvariants(t *testing.T) {
	t.Parallel()
	dirs := t.TempDir()
	row := rapid.Custom(func(t *rapid.T) string {
		no := rapid.IntRange(1, 7).Draw(t, "no")
		login := map[int]string{1: "ana", 2: "tom", 3: "mei", 4: "bo", 5: "zoe", 6: "eli", 7: "kai"}[no]
		pick := func(name string, of ...string) string { return rapid.SampledFrom(of).Draw(t, name) }
		return strings.Join([]string{fmt.Sprint(no), login, pick("title", "", "Bosun", "Pilot"), pick("boss", "", "1", "5", "7"), pick("what", "", "", "", "go", "back"),
			pick("crews", "", "crew-deck", "crew-engine", "crew-deck;crew-engine"), pick("course", "", "Radio (learner)", "Radio (tutor)"), pick("licence", "", "", "charts"), pick("back", "", "", "charts")}, ",")
	})
	n := 0
	rapid.Check(t, func(rt *rapid.T) {
		rows := rapid.SliceOfNDistinct(row, 1, 6, func(s string) string { return s[:1] }).Draw(rt, "rows")
		csv := "No,Login,Title,Boss,What,Crews,Course,Licence,Give back\n" + strings.Join(rows, "\n") + "\n"
		kill := rapid.IntRange(1, 9).Draw(rt, "dies at")
		first := rapid.Bool().Draw(rt, "the last one carried out")
		world := func() *harbour {
			n++
			dir := filepath.Join(dirs, fmt.Sprint(n))
			require.NoError(rt, os.Mkdir(dir, 0o755))
			return newHarbour(rt, dir)
		}
		calm, stormy := world(), world()
		defer calm.close()
		defer stormy.close()

		before := calm.picture()
		b := calm.draft(csv)
		drafted, _ := calm.even(b)
		require.NoError(rt, calm.post(b))
		posted, counts := calm.even(b)
		require.Zero(rt, counts[account.Failed]+counts[account.Waiting], "what a draft lets pass, this system takes: %v", posted)
		after := calm.picture()

		s := stormy.draft(csv)
		stormy.mu.Lock()
		stormy.dies, stormy.first, stormy.count = kill, first, 0
		stormy.mu.Unlock()
		_ = stormy.post(s) // it dies, or was done before
		stormy.mu.Lock()
		stormy.dies = 0
		stormy.mu.Unlock()
		require.NoError(rt, stormy.post(s))
		_, killed := stormy.even(s)
		require.Equal(rt, counts, killed)
		require.Equal(rt, after, stormy.picture(), "dying and going on comes to the same")

		read, err := (&readback.Reading{Ledger: calm.ledger, System: calm.client, Batch: b, Together: 2}).Read(context.Background())
		require.NoError(rt, err)
		require.Empty(rt, read.Rows)
		require.Equal(rt, counts[account.Created]+counts[account.Updated]+counts[account.Suspended]+counts[account.Resumed], read.Looked)

		crews := func(picture map[string]string, who string) (in []string) {
			for _, crew := range []string{"crew-deck", "crew-engine"} {
				if strings.Contains(picture["Groups "+crew], `"`+who+" ") {
					in = append(in, crew)
				}
			}
			return in
		}
		require.Equal(rt, before["Groups all-hands"], after["Groups all-hands"], "outside the pattern")
		for i, e := range drafted {
			cells := strings.Split(rows[i], ",")
			if e.Outcome == account.Refused || cells[4] == "go" {
				continue
			}
			want := strings.FieldsFunc(cells[5], func(r rune) bool { return r == ';' })
			if cells[2] == "Bosun" && !slices.Contains(want, "crew-deck") {
				want = append([]string{"crew-deck"}, want...)
			}
			require.ElementsMatch(rt, want, crews(after, cells[1]), rows[i])
		}

		again := calm.draft(csv)
		_, left := calm.even(again)
		require.Zero(rt, left[account.Waiting], "post after post is all unchanged")

		undo, err := (&drafting.Reversal{Worker: store.Worker{Name: rand.Text(), Term: time.Minute}, Ledger: calm.ledger, System: calm.client, Of: b, Remove: true, Together: 2, Batch: batch.Batch{Draft: batch.Draft{Made: time.Now(), System: "harbour"}}}).Make(context.Background())
		require.NoError(rt, err)
		require.NoError(rt, calm.post(undo))
		undone, failed := calm.even(undo)
		require.Zero(rt, failed[account.Failed]+failed[account.Refused], "%v", undone)
		require.True(rt, maps.Equal(before, calm.picture()), "undone, all is as it was:\n%v\n%v", before, calm.picture())
	})
}
