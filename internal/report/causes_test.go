package report_test

import (
	"errors"
	"fmt"
	"iter"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/report"
)

func finding(level account.Level, code account.Code, column string, row int, message string) account.Finding {
	return account.Finding{Level: level, Code: code, Column: column, Field: column, Row: row, Message: message}
}

// told is what is told of causes: how grave, about what, of how many rows, and the rows named.
func told(causes *report.Causes) (all []string) {
	for _, k := range causes.Sorted() {
		text := fmt.Sprintf("%s %s %s %d %v", k.First.Level, k.First.Code, k.First.Column, k.Count, k.Rows)
		if k.In != nil {
			text += fmt.Sprint(" ", k.In)
		}
		all = append(all, text)
	}
	return all
}

// One cause is told once, with all its rows counted and the first few named; the gravest comes first,
// and of those the most frequent.
func TestCauses(t *testing.T) {
	var causes report.Causes
	assert.Empty(t, told(&causes))
	for row := 2; row < 14; row++ {
		causes.AddAll([]account.Finding{
			finding(account.Warning, account.SystemRefused, "Mail", row, fmt.Sprint("that of row ", row)),
			finding(account.Warning, account.SystemRefused, "Mail", row, "and another of the same row"),
		})
	}
	causes.Add(finding(account.Error, account.NotSeenYet, "Login", 3, "x"))
	causes.Add(finding(account.Error, account.PerhapsMade, "Login", 3, "x"))
	causes.Add(finding(account.Error, account.PerhapsMade, "Login", 9, "y"))
	causes.Add(finding(account.Note, account.PerhapsMade, "Login", 9, "the same, and no mistake"))
	causes.Add(finding(account.Warning, account.SystemRefused, "Mail", 20, "one that comes late"))
	// What is about the sheet as a whole, and checks of the brief's own, are apart by what they say.
	causes.Add(finding(account.Note, account.SystemRefused, "", 0, "a tab was left"))
	causes.Add(finding(account.Note, account.SystemRefused, "", 0, "a list was cut"))
	causes.Add(finding(account.Error, account.BriefCheck, "Berth", 4, "too long"))
	causes.Add(finding(account.Error, account.BriefCheck, "Berth", 5, "no such quay"))
	assert.Equal(t, []string{
		fmt.Sprintf("error %s Login 2 [3 9]", account.PerhapsMade),
		fmt.Sprintf("error %s Login 1 [3]", account.NotSeenYet),
		fmt.Sprintf("error %s Berth 1 [4]", account.BriefCheck),
		fmt.Sprintf("error %s Berth 1 [5]", account.BriefCheck),
		fmt.Sprintf("warning %s Mail 13 [2 3 4 5 6 7 8 9]", account.SystemRefused),
		fmt.Sprintf("note %s Login 1 [9]", account.PerhapsMade),
		fmt.Sprintf("note %s  0 []", account.SystemRefused),
		fmt.Sprintf("note %s  0 []", account.SystemRefused),
	}, told(&causes))
}

// Of entries only those count that are asked for, and that they could not be read is told.
func TestCausesOfEntries(t *testing.T) {
	broken := errors.New("the ledger is gone")
	entries := func(err error) iter.Seq2[batch.Entry, error] {
		return func(yield func(batch.Entry, error) bool) {
			for row, came := range map[int]account.Outcome{2: account.Refused, 3: account.Created} {
				if !yield(batch.Entry{Row: row, Outcome: came, Findings: []account.Finding{finding(account.Error, account.NotSeenYet, "Login", row, "x")}}, nil) {
					return
				}
			}
			if err != nil {
				yield(batch.Entry{}, err)
			}
		}
	}
	var some report.Causes
	require.NoError(t, some.AddEntries(entries(nil), func(e batch.Entry) bool { return e.Outcome == account.Refused }))
	assert.Equal(t, []string{fmt.Sprintf("error %s Login 1 [2]", account.NotSeenYet)}, told(&some))
	var all report.Causes
	require.ErrorIs(t, all.AddEntries(entries(broken), nil), broken)
	assert.Equal(t, 2, all.Sorted()[0].Count)
}

// What is alike in several systems of a set stands once, and says in which it is so, unless in all.
func TestTogether(t *testing.T) {
	of := make([]*report.Causes, 3)
	for i := range of {
		of[i] = &report.Causes{}
		of[i].Add(finding(account.Warning, account.SystemRefused, "Mail", 2+i, "not an address"))
	}
	of[0].Add(finding(account.Error, account.NotSeenYet, "Login", 7, "taken"))
	of[2].Add(finding(account.Error, account.NotSeenYet, "Login", 7, "taken"))
	of[1].Add(finding(account.Error, account.NotSeenYet, "Login", 7, "of another kind here"))
	assert.Equal(t, []string{
		fmt.Sprintf("error %s Login 1 [7] [crewdesk quay2]", account.NotSeenYet),
		fmt.Sprintf("error %s Login 1 [7] [quay1]", account.NotSeenYet),
		fmt.Sprintf("warning %s Mail 3 [2 3 4]", account.SystemRefused),
	}, told(report.Together([]string{"crewdesk", "quay1", "quay2"}, of)))
}

// Each thing that is said of rows of one cause is told once, with its rows; of very many the first few.
func TestSaid(t *testing.T) {
	var c report.Causes
	for row := 2; row < 40; row++ {
		f := account.Find(account.Error, account.NotACountry, fmt.Sprintf("“%d” is not a country", row%12))
		f.Row, f.Column, f.Remedy = row, "Country", fmt.Sprint("Did you mean ", row%12)
		c.Add(f)
	}
	k := c.Sorted()[0]
	require.Len(t, k.Said, 8)
	assert.Equal(t, report.Said{Message: "“2” is not a country", Remedy: "Did you mean 2", Rows: []int{2, 14, 26, 38}, Count: 4}, k.Said[0])
	told := k.More
	for _, s := range k.Said {
		told += s.Count
	}
	assert.Equal(t, k.Count, told, "every row is told of")
}
