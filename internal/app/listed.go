package app

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/store"
	"evenledger/internal/words"
)

// ListedStates are the states in which batches are listed.
func ListedStates() (names []string) {
	for _, state := range []batch.State{batch.Drafted, batch.Posting, batch.Stopped, batch.Handed, batch.Posted, batch.Reversed, batch.Withdrawing, batch.Withdrawn} {
		names = append(names, string(state))
	}
	return names
}

// A BatchFilter says which batches are listed; what is empty holds for any.
type BatchFilter struct {
	System, State string
	Sheet         string // in its name * stands for anything
	Since         string // the day from which on they were drafted, as year-month-day
}

// Of picks batches.
func (o BatchFilter) Of(all []batch.Batch) ([]batch.Batch, error) {
	var since time.Time
	if o.Since != "" {
		var err error
		if since, err = time.ParseInLocation(time.DateOnly, o.Since, time.Local); err != nil {
			return nil, mistake(fmt.Sprintf("“%s” is no day", o.Since), "Write it as year-month-day, such as 2027-03-01.")
		}
	}
	if states := ListedStates(); o.State != "" && !slices.Contains(states, o.State) {
		return nil, mistake(fmt.Sprintf("no batch is ever “%s”", o.State), fmt.Sprintf("The states are %s.", strings.Join(states, ", ")))
	}
	if _, err := path.Match(o.Sheet, ""); err != nil {
		return nil, mistake(fmt.Sprintf("“%s” is no name of sheets", o.Sheet), "Write a name, in which * stands for anything.")
	}
	return slices.DeleteFunc(all, func(b batch.Batch) bool {
		is, _ := path.Match(o.Sheet, b.Sheet) // it was looked at above
		return o.System != "" && b.System != o.System || o.Sheet != "" && !is || o.State != "" && string(b.State) != o.State || b.Made.Before(since)
	}), nil
}

// AddOutcome adds to a filter what became of an entry, or will: “created”, “create”
// and “to create” are all understood.
func AddOutcome(filter *store.Filter, word string) error {
	var names []string
	for _, outcome := range account.Outcomes() {
		if string(outcome) == word {
			filter.Outcomes = append(filter.Outcomes, outcome)
			return nil
		}
		names = append(names, string(outcome))
	}
	for _, intent := range account.Intents() {
		if string(intent) == strings.TrimLeft(strings.TrimPrefix(word, "to"), " -") {
			filter.Intents = append(filter.Intents, intent)
			return nil
		}
		names = append(names, "to "+string(intent))
	}
	remedy := "They are " + strings.Join(names, ", ") + "."
	if near := words.Nearest(word, names); near != "" {
		remedy = fmt.Sprintf("Did you mean “%s”?", near)
	}
	return mistake(fmt.Sprintf("“%s” is not an outcome", word), remedy)
}
