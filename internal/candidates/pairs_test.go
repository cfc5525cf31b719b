package candidates_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/candidates"
	"evenledger/internal/sheet"
)

// What was written is read back with the answers that a person gave, in the words they use.
func TestAnswers(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "pairs.csv")
	file, err := os.Create(path)
	require.NoError(t, err)
	w, err := candidates.NewWriter(func(form sheet.Form) (sheet.Writer, error) { return sheet.NewWriter(file, path, form) }, "crewdesk", []string{"Name", "Answer"})
	require.NoError(t, err)
	two := []candidates.Named{{Candidate: candidates.Candidate{ID: "u-1", Sure: 90, Why: "the same name"}, Label: "ana (Ana Reyes)"}, {Candidate: candidates.Candidate{ID: "u-2", Sure: 60}, Label: "ana2"}}
	for row := 2; row <= 8; row++ {
		require.NoError(t, w.Write(row, []string{"Ana Reyes", "own cell"}, []string{"Ana Reyes", ""}, two))
	}
	require.NoError(t, w.Write(9, []string{"=SUM(A1)"}, []string{"=SUM(A1)"}, nil))
	require.NoError(t, w.Close())
	require.NoError(t, file.Close())
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(text), "90 %")
	answered := string(text)
	for row, answer := range map[string]string{"2": "yes", "3": " JA ", "4": "2", "5": "new", "6": "tom.okafor", "8": "TRUE"} {
		answered = strings.Replace(answered, "\n"+row+",Ana Reyes,,", "\n"+row+",Ana Reyes,"+answer+",", 1)
	}
	require.NoError(t, os.WriteFile(path, []byte(answered), 0o600))
	l, err := candidates.Read(path)
	require.NoError(t, err)
	assert.Equal(t, "crewdesk", l.System)
	assert.Equal(t, 2, l.Open)
	proof := candidates.Proof([]string{"Ana Reyes", ""})
	assert.Equal(t, map[int]candidates.Answer{
		2: {Row: 2, ID: "u-1", Proof: proof}, 3: {Row: 3, ID: "u-1", Proof: proof}, 4: {Row: 4, ID: "u-2", Proof: proof},
		5: {Row: 5, New: true, Proof: proof}, 6: {Row: 6, Name: "tom.okafor", Proof: proof}, 8: {Row: 8, ID: "u-1", Proof: proof},
	}, l.Answers)
	assert.NotEqual(t, proof, candidates.Proof([]string{"Ana", "Reyes"}))

	for text, want := range map[string]string{
		"Name\nAna\n": "is no sheet of candidates",
		"Even Ledger row for x,Answer,Account 1\nabc,yes,1\n":        "row 2: “abc” is no row's number",
		"Even Ledger row for x,Answer,Account 1\n2,yes,1\n2,yes,1\n": "row 3: row 2 of the sheet stands here twice",
		"Even Ledger row for x,Answer,Account 1\n2,3,1\n":            "“3” means a candidate, and there is none",
	} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := candidates.Read(path)
		assert.ErrorContains(t, err, want)
	}
}
