package demo_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/demo"
	"evenledger/internal/standin"
)

func TestWriteAndCorrect(t *testing.T) {
	today := time.Date(2027, 12, 20, 0, 0, 0, 0, time.UTC)
	dir := filepath.Join(t.TempDir(), "ferries")
	require.NoError(t, demo.Write(dir, "http://127.0.0.1:1/scim/v2", "smtp://127.0.0.1:2", today))
	assert.Error(t, demo.Write(dir, "x", "y", today), "a folder that exists is left alone")
	data, err := os.ReadFile(filepath.Join(dir, "starters.csv"))
	require.NoError(t, err)
	assert.NotContains(t, string(data), "{")
	assert.Contains(t, string(data), "03/01/2028", "dates lie around today")
	assert.Contains(t, string(data), "20/11/2027")
	assert.Equal(t, 41, strings.Count(string(data), "\n"))

	lines, err := demo.Correct(filepath.Join(dir, "starters.csv"), demo.Corrections(today))
	require.NoError(t, err)
	assert.Len(t, lines, len(demo.Corrections(today)), "each correction meets its row")
	assert.Contains(t, lines[0], "Surname: “” → “Eze”")
	again, err := demo.Correct(filepath.Join(dir, "starters.csv"), nil)
	require.NoError(t, err, "what was corrected is still a sheet")
	assert.Empty(t, again)
}

func TestKnownAccountsAreTaken(t *testing.T) {
	known, err := demo.Known()
	require.NoError(t, err)
	s, err := standin.New(standin.Options{Token: "x"})
	require.NoError(t, err)
	for _, body := range known {
		assert.NoError(t, s.Add(body))
	}
}
