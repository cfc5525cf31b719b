package answer_test

import (
	"bytes"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/answer"
	"evenledger/internal/app"
	"evenledger/internal/batch"
	"evenledger/internal/readback"
	"evenledger/internal/report"
	"evenledger/internal/store"
	"evenledger/internal/system"
)

// A page tells what the document has, names people where it can, and ends with what may be typed next.
func TestAnswers(t *testing.T) {
	posted := &batch.Batch{ID: 7, Draft: batch.Draft{System: "crewdesk"}, Progress: batch.Progress{State: batch.Posted}}
	other := []readback.Row{{Row: 3, Key: "2004", Account: "u-9", Differences: []readback.Difference{{What: "title", Left: "Bosun"}}}}
	began := time.Date(2027, 3, 1, 6, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		answer answer.Answer
		page   []string // stand in it
		keys   []string // of the document
	}{
		"no brief":   {answer.Briefs{}, []string{"There is no brief yet.", "evenledger brief new SHEET"}, []string{"briefs"}},
		"a mistake":  {answer.Briefs{{Name: "starters", Mistakes: "line 2\nline 3"}}, []string{"starters", "line 2", "evenledger brief show starters"}, []string{"briefs"}},
		"namesakes":  {answer.Things{System: "crewdesk", Kind: "groups", Total: 2, Called: map[string]int{"deck": 2}, Things: []account.Thing{{ID: "g1", Name: "Deck", Members: -1, Seats: -1}}}, []string{"1 of 2 groups in crewdesk", "another has this name: use the id"}, []string{"system", "kind", "total", "things"}},
		"nothing":    {answer.Kinds{System: "quay1"}, []string{"quay1 has nothing besides accounts."}, []string{"system", "kinds"}},
		"as left":    {answer.ReadBack{Batch: posted, Read: readback.Result{Looked: 2}}, []string{"The system is as batch 7 left it.", "even"}, []string{"batch", "system", "read", "failed", "waiting", "handedOver", "even", "entries"}},
		"otherwise":  {answer.ReadBack{Batch: posted, Read: readback.Result{Looked: 2, Rows: other}}, []string{"not even", "Row 3  2004", "Bosun now (blank)", "evenledger show 7 --row 3"}, []string{"batch", "system", "read", "failed", "waiting", "handedOver", "even", "entries"}},
		"no such":    {answer.Batches{Of: 3}, []string{"None of the 3 batches is such a one."}, []string{"batches", "working"}},
		"at work":    {answer.Batches{Working: []store.At{{Batch: 4, Who: "ana", Began: began, Until: began}}, Now: began.Add(time.Hour)}, []string{"No batch has been drafted", "ana", "not heard of: its work is free for others"}, []string{"batches", "working"}},
		"killed run": {answer.Runs{{Brief: "weekly", Came: store.RunFailed, Began: began, By: "ana"}}, []string{"weekly", "under way, or killed", "evenledger batches"}, []string{"runs"}},
		"never well": {answer.Late{Of: 1, Age: "8d", Briefs: []app.LateBrief{{Brief: "weekly", Last: store.Run{Began: began}}}}, []string{"weekly", "never went well"}, []string{"late", "briefs"}},
	} {
		t.Run(name, func(t *testing.T) {
			var page bytes.Buffer
			p := &report.Page{W: &page}
			require.NoError(t, c.answer.Draw(t.Context(), p))
			require.NoError(t, p.Err())
			for _, said := range c.page {
				assert.Contains(t, page.String(), said)
			}
			text, err := json.Marshal(c.answer.Document(t.Context()))
			require.NoError(t, err)
			var keys map[string]any
			require.NoError(t, json.Unmarshal(text, &keys))
			for _, key := range c.keys {
				assert.Contains(t, keys, key)
			}
			assert.Len(t, keys, len(c.keys))
		})
	}
}

// A step of a walk shows what was answered where something is amiss, and no more of it than a screen takes.
func TestTried(t *testing.T) {
	var page bytes.Buffer
	answer.Tried(&report.Page{W: &page}, 2, system.Tried{What: "List", Requests: []system.Exchange{{Request: "GET /people", Status: 200, Answer: "fine"}, {Request: "GET /people?page=2", Status: 500, Answer: "1\n2\n3\n4\n5\n6\n7\n8\n9\n10\n11\n12\n13\n14\n15"}}, Amiss: "the second page cannot be read"})
	for _, said := range []string{"2. List", "GET /people?page=2 → 500", "14\n", "…", "amiss: the second page cannot be read"} {
		assert.Contains(t, page.String(), said)
	}
	for _, not := range []string{"fine", "15"} {
		assert.NotContains(t, page.String(), not)
	}
}
