package test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/standin"
)

// lie puts something else in the place of a part of an answer, wherever in it, or takes that away, or says it twice.
func lie(dice *rand.Rand, v any) any {
	others := []any{nil, true, "", "x", 0, -1, 1e30, []any{}, map[string]any{}, []any{nil}, []any{"x", 1}, map[string]any{"value": nil}, map[string]any{"id": 7}, "2026-13-45T00:00:00Z", []any{map[string]any{}}, []any{[]any{}}}
	switch v := v.(type) {
	case map[string]any:
		for name := range v { // in no order
			switch dice.IntN(5) {
			case 0:
				delete(v, name)
			default:
				v[name] = lie(dice, v[name])
			}
			return v
		}
	case []any:
		if len(v) > 0 {
			i := dice.IntN(len(v))
			if dice.IntN(6) == 0 {
				return append(v, v[i])
			}
			v[i] = lie(dice, v[i])
			return v
		}
	}
	return others[dice.IntN(len(others))]
}

// liar is an application that, while it lies, answers now and then what is not so: parts of its answers are others, statuses too, or the end is missing.
func liar(next http.Handler, dice *rand.Rand, lies *atomic.Bool) http.Handler {
	var mu sync.Mutex
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kept := httptest.NewRecorder()
		next.ServeHTTP(kept, r)
		body, status := kept.Body.Bytes(), kept.Code
		mu.Lock()
		var answer any
		if lies.Load() && dice.IntN(6) == 0 && json.Unmarshal(body, &answer) == nil {
			for range 1 + dice.IntN(3) {
				answer = lie(dice, answer)
			}
			body, _ = json.Marshal(answer)
			switch dice.IntN(20) {
			case 0:
				body = body[:len(body)/2]
			case 1:
				status = http.StatusInternalServerError
			case 2:
				status = http.StatusOK
			}
		}
		mu.Unlock()
		kept.Header().Del("Content-Length")
		for name, values := range kept.Header() {
			w.Header()[name] = values
		}
		w.WriteHeader(status)
		_, _ = w.Write(body)
	})
}

// Whatever an application answers while people are made: nobody is made twice, nobody is told as made who is not there, and every row is
// told. Once it tells the truth, posts come to an end.
func TestAnswersThatLie(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	for round := range uint64(12) {
		t.Run(fmt.Sprint("seed ", seed+round), func(t *testing.T) {
			server, err := standin.New(standin.Options{Token: token, Bulk: int(5 * (round % 2))})
			require.NoError(t, err)
			lies := &atomic.Bool{}
			at := httptest.NewServer(liar(server, rand.New(rand.NewPCG(seed+round, 1)), lies))
			defer at.Close()
			f := folder{t, t.TempDir()}
			f.write("evenledger.yaml", fmt.Sprintf("systems:\n  crewdesk: {url: %s/scim/v2, token: env:TEST_TOKEN, settle: 50ms, timeout: 5s}\n", at.URL))
			f.write("briefs/crew.yaml", "system: crewdesk\nmatch: [employeeNumber]\nfields: {employeeNumber: {from: No}, userName: {from: Login}, familyName: {from: Last}}\ngroups: {from: Group, make_missing: true}\n")
			var csv strings.Builder
			csv.WriteString("No,Login,Last,Group\n")
			const people = 12
			for i := range people {
				fmt.Fprintf(&csv, "%d,ana%d,Reyes,%s\n", 100+i, i, []string{"deck", "", "engine"}[i%3])
			}
			f.write("crew.csv", csv.String())
			code, out, errOut := f.run("draft", "crew.csv", "-b", "crew")
			require.Zero(t, code, out+errOut)
			lies.Store(true)
			code, _, errOut = f.run("post", "1", "--yes")
			assert.NotContains(t, errOut, "goroutine ", code)
			lies.Store(false)
			for _, last := range []bool{false, true} {
				code = 3
				for tries := 0; last && code == 3 && tries < 6; tries++ { // while something is not clear yet
					code, out, errOut = f.run("post", "1", "--yes")
				}
				if last {
					assert.Contains(t, []int{0, 1}, code, out+errOut)
				}
				_, out, _ = f.run("show", "1", "--json")
				var told struct {
					Entries []struct {
						Row     int
						Outcome string
					}
				}
				require.NoError(t, json.Unmarshal([]byte(out), &told))
				assert.Len(t, told.Entries, people)
				there := users(t, at.URL+"/scim/v2") // each once
				for _, e := range told.Entries {
					if e.Outcome == "created" {
						assert.Contains(t, there, fmt.Sprint(100+e.Row-2), "told as made, and not there: row %d", e.Row)
					}
				}
			}
		})
	}
}
