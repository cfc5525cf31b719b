package secret

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where a file system has no links, what was written is copied: to a new file, for its owner
// alone.
func TestCopyNew(t *testing.T) {
	dir := t.TempDir()
	from, to := filepath.Join(dir, "from"), filepath.Join(dir, "to")
	require.NoError(t, os.WriteFile(from, []byte("word"), 0o644))
	require.NoError(t, copyNew(to, from))
	data, err := os.ReadFile(to)
	require.NoError(t, err)
	assert.Equal(t, "word", string(data))
	stat, err := os.Stat(to)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), stat.Mode().Perm())
	assert.ErrorIs(t, copyNew(to, from), fs.ErrExist, "nothing is written over")
}
