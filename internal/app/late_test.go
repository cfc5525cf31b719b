package app_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"evenledger/internal/app"
	"evenledger/internal/membership"
	"evenledger/internal/store"
)

// A brief is late by its last run that went well, whatever came after it.
func TestLateBriefs(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 12, 1, 6, 0, 0, 0, time.UTC)
	ago := func(brief string, hours int, came store.Ending) store.Run {
		return store.Run{Brief: brief, Began: now.Add(-time.Duration(hours) * time.Hour), Came: came}
	}
	runs := []store.Run{ // the newest first
		ago("leavers", 1, store.RunFailed), ago("starters", 2, store.RunHeld), ago("starters", 3, store.RunNothing),
		ago("pilots", 4, store.RunFailed), ago("leavers", 30, store.RunPosted), ago("starters", 50, store.RunPosted),
	}
	late, briefs := app.LateBriefs(runs, now.Add(-24*time.Hour))
	assert.Equal(t, 3, briefs)
	assert.Equal(t, []app.LateBrief{
		{Brief: "leavers", Good: now.Add(-30 * time.Hour), Last: runs[0]},
		{Brief: "pilots", Last: runs[3]}, // none ever went well
	}, late)
	late, briefs = app.LateBriefs(nil, now)
	assert.Empty(t, late)
	assert.Zero(t, briefs)
}

// Only mails that wait for a person's word go, and with another word those of which somebody may have one already.
func TestToSend(t *testing.T) {
	t.Parallel()
	var mails []app.Mail
	for i, result := range []membership.Result{membership.Held, membership.Queued, membership.Done, membership.Failed, membership.Unclear, membership.Sending, membership.Unsent, ""} {
		mails = append(mails, app.Mail{Row: i + 2, Result: result})
	}
	mails = append(mails, app.Mail{Row: 9, Result: membership.Held}, app.Mail{Row: 9, Result: membership.Held})
	assert.Equal(t, app.Sending{Rows: []int{2, 3, 7, 9}, Mails: 4, Cut: 1}, app.ToSend(mails, false), "what was on its way is told of, and not sent")
	assert.Equal(t, app.Sending{Rows: []int{2, 3, 5, 6, 7, 9}, Mails: 7}, app.ToSend(mails, true))
	assert.Equal(t, app.Sending{}, app.ToSend(mails[2:3], true))
}
