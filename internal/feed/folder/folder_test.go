package folder

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
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
		spool, err := feed.NewSpool(filepath.Join(t.TempDir(), "spool"), 0)
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
	assert.ErrorContains(t, s.Take(t.Context(), d, feed.Work{Clock: fake}), "another file now")
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

// What a process that is no more left is taken away, and nothing else.
func TestSpool(t *testing.T) {
	beneath := filepath.Join(t.TempDir(), "spool")
	require.NoError(t, feed.Sweep(beneath), "there is none yet")
	living, err := feed.NewSpool(beneath, 10)
	require.NoError(t, err)
	file, err := living.Create("../../../etc/\x00passwd")
	require.NoError(t, err)
	_, err = file.Write([]byte("x"))
	require.NoError(t, err)
	_, err = file.Write([]byte("0123456789"))
	assert.ErrorContains(t, err, "more than 10 bytes")
	d, err := file.Delivery()
	require.NoError(t, err)
	assert.Equal(t, beneath, filepath.Dir(filepath.Dir(d.Path)), "whatever a server calls it, it stays there")
	info, err := os.Stat(d.Path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode())
	// One that was killed has let its lock go.
	dead := filepath.Join(beneath, "DEAD")
	require.NoError(t, os.Mkdir(dead, 0o700))
	require.NoError(t, os.WriteFile(dead+".lock", nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dead, "people.csv"), []byte("Ana"), 0o600))
	require.NoError(t, feed.Sweep(beneath))
	assert.NoDirExists(t, dead)
	assert.NoFileExists(t, dead+".lock")
	assert.FileExists(t, d.Path)
	require.NoError(t, living.Close())
	assert.NoDirExists(t, beneath)
}

// A delivery of which nothing comes for too long is given up, and told with how much had come.
func TestWatch(t *testing.T) { synctest.Test(t, watch) }

func watch(t *testing.T) {
	spool, err := feed.NewSpool(filepath.Join(t.TempDir(), "spool"), 0)
	require.NoError(t, err)
	defer spool.Close()
	watched, stop := spool.Watch(t.Context(), 100*time.Millisecond)
	defer stop()
	file, err := spool.Create("people.csv")
	require.NoError(t, err)
	for range 10 { // slowly, but it comes
		time.Sleep(30 * time.Millisecond)
		_, err = file.Write([]byte("Ana\n"))
		require.NoError(t, err)
	}
	require.NoError(t, watched.Err())
	<-watched.Done()
	var silent *feed.Silent
	require.ErrorAs(t, context.Cause(watched), &silent)
	assert.Equal(t, "nothing came for 100ms: 40 bytes had come by then", silent.Error())
}

// A file that is dated in the future counts as written now, so that those that come later are taken.
func TestDatedInTheFuture(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	at := func(name string, since time.Duration) feed.Candidate {
		return feed.Candidate{Name: name, Modified: now.Add(since), Regular: true}
	}
	ahead := at("b.csv", 24*365*time.Hour)
	found, err := feed.Newest("*.csv", "in", []feed.Candidate{at("a.csv", -time.Hour), ahead}, feed.Last{}, now)
	require.NoError(t, err)
	assert.Equal(t, "b.csv", found.Name)
	assert.True(t, found.Ahead)
	last := feed.Last{Delivery: feed.Delivery{Name: "b.csv", Modified: ahead.Modified, Brought: now}}
	found, err = feed.Newest("*.csv", "in", []feed.Candidate{at("a.csv", -time.Hour), ahead, at("c.csv", time.Hour)}, last, now.Add(2*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, "c.csv", found.Name, "it came later")
	assert.False(t, found.Ahead)
	var nothing *feed.Nothing
	_, err = feed.Newest("*.csv", "in", []feed.Candidate{at("a.csv", -time.Hour)}, last, now.Add(2*time.Hour))
	require.ErrorAs(t, err, &nothing)
}
