package folder

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/clock"
	"evenledger/internal/feed"
)

// growing is a clock on which somebody writes to a file whenever it is waited for.
type growing struct {
	*clock.Fake
	path string
}

func (g growing) Wait(context.Context, time.Duration) error {
	file, err := os.OpenFile(g.path, os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = file.WriteString("more\n")
		_ = file.Close()
	}
	return err
}

func TestFolder(t *testing.T) {
	dir := t.TempDir()
	now := time.Now()
	write := func(name string, age time.Duration) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte("Staff no\n"+name+"\n"), 0o600))
		require.NoError(t, os.Chtimes(path, now.Add(-age), now.Add(-age)))
		return path
	}
	s := &source{dir: dir, pattern: "*.csv", done: filepath.Join(dir, "taken")}
	bring := func(c clock.Clock) (feed.Delivery, error) {
		spool, err := feed.NewSpool(filepath.Join(t.TempDir(), "spool"), now)
		require.NoError(t, err)
		defer spool.Close()
		return s.Bring(t.Context(), spool, feed.Last{}, feed.Work{Clock: c})
	}
	fake := clock.NewFake(now)
	var nothing *feed.Nothing
	_, err := bring(fake)
	require.ErrorAs(t, err, &nothing)

	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("Password\nhunter2\n"), 0o600))
	require.NoError(t, os.Symlink(secret, filepath.Join(dir, "z.csv")))
	_, err = bring(fake)
	require.ErrorAs(t, err, &nothing, "a link is followed nowhere")
	fresh := write("b.csv", time.Second)
	write("a.csv", time.Hour)
	_, err = bring(growing{fake, fresh})
	require.ErrorAs(t, err, &nothing, "nor is an older one taken in its place")
	assert.Contains(t, nothing.Message, "b.csv is still being written")
	d, err := bring(fake)
	require.NoError(t, err)
	assert.Equal(t, fresh, d.From)

	write("b.csv", 0)
	assert.ErrorContains(t, s.Take(t.Context(), d, feed.Work{Clock: fake}), "another by now")
	assert.FileExists(t, fresh)
	d, err = bring(clock.NewFake(now.Add(time.Hour)))
	require.NoError(t, err)
	require.NoError(t, s.Take(t.Context(), d, feed.Work{Clock: fake}))
	assert.NoFileExists(t, fresh)
	assert.FileExists(t, filepath.Join(dir, "taken", "b.csv"))

	// A second of its name stands beside it; where nobody can look, nobody looks for ever.
	write("b.csv", time.Minute)
	d, err = bring(fake)
	require.NoError(t, err)
	require.NoError(t, s.Take(t.Context(), d, feed.Work{Clock: fake}))
	assert.FileExists(t, filepath.Join(dir, "taken", "b-"+now.Format("20060102")+"-1.csv"))
	long := strings.Repeat("b", 245) + ".csv"
	for range 2 {
		write(long, time.Minute)
		d, err = bring(fake)
		require.NoError(t, err)
		d.Name = long
		err = s.Take(t.Context(), d, feed.Work{Clock: fake})
	}
	assert.ErrorIs(t, err, syscall.ENAMETOOLONG)
	assert.FileExists(t, filepath.Join(dir, long), "it is left where it is")
}

// What a killed process left is taken away when it is a day old, and nothing else.
func TestSpool(t *testing.T) {
	beneath := filepath.Join(t.TempDir(), "spool")
	now := time.Now()
	left, err := feed.NewSpool(beneath, now)
	require.NoError(t, err)
	file, err := left.Create("../../../etc/\x00passwd")
	require.NoError(t, err)
	_, err = file.Write([]byte("x"))
	require.NoError(t, err)
	d, err := file.Delivery()
	require.NoError(t, err)
	assert.Equal(t, beneath, filepath.Dir(filepath.Dir(d.Path)), "whatever a server calls it, it stays there")
	info, err := os.Stat(d.Path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode())
	soon, err := feed.NewSpool(beneath, now.Add(time.Hour))
	require.NoError(t, err)
	assert.FileExists(t, d.Path)
	require.NoError(t, soon.Close())
	last, err := feed.NewSpool(beneath, now.Add(25*time.Hour))
	require.NoError(t, err)
	assert.NoFileExists(t, d.Path)
	require.NoError(t, last.Close())
	assert.NoDirExists(t, beneath)
}
