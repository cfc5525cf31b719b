// Package folder is the kind of feed that takes the newest file of a pattern in a folder.
package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"time"

	"evenledger/internal/feed"
	"evenledger/internal/reach"
	"evenledger/internal/yamldoc"
)

// Kind is the kind “folder” of evenledger.yaml.
func Kind() feed.Kind { return feed.Kind{Name: "folder", Settings: settings} }

type source struct{ dir, pattern, done string }

func settings(part reach.Part) ([]yamldoc.Key, func(yamldoc.Given) feed.Source) {
	s := &source{}
	return []yamldoc.Key{
			{Name: "path", Form: yamldoc.Text, About: "The folder and the pattern of the file's name, such as incoming/*.xlsx. Of several the newest is taken.", Put: func(n yamldoc.Node) {
				s.dir, s.pattern = filepath.Split(part.Path(filepath.FromSlash(n.Text())))
				if _, err := path.Match(s.pattern, "x"); err != nil || s.pattern == "" {
					n.Fail("Write the folder and a pattern, such as incoming/*.xlsx.", "“%s” is no pattern of files", n.Text())
				}
			}},
			{Name: "done", Form: yamldoc.Text, About: "The folder that a file is moved to when its batch is posted. Without it: it stays.", Put: func(n yamldoc.Node) { s.done = part.Path(filepath.FromSlash(n.Text())) }},
		}, func(yamldoc.Given) feed.Source {
			if s.pattern == "" {
				part.At.Fail("Add “path”, such as incoming/*.xlsx.", "feed %s does not say where its files are", part.Name)
			}
			return s
		}
}

// Address implements feed.Source.
func (s *source) Address() string { return filepath.Join(s.dir, s.pattern) }

// Bring implements feed.Source.
func (s *source) Bring(ctx context.Context, to *feed.Spool, last feed.Last, work feed.Work) (feed.Delivery, error) {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return feed.Delivery{}, &reach.Unavailable{Message: fmt.Sprintf("the folder of the feed cannot be read: %s", err), Remedy: "Look at “path” in evenledger.yaml, and whether you may read there.", Err: err}
	}
	var files []feed.Candidate
	for _, entry := range entries {
		// A link may lead anywhere, and whoever put it there need not be allowed to read that.
		if info, err := os.Lstat(filepath.Join(s.dir, entry.Name())); err == nil {
			files = append(files, feed.Candidate{Name: entry.Name(), Modified: info.ModTime(), Regular: info.Mode().IsRegular()})
		}
	}
	newest, err := feed.Newest(s.pattern, s.dir, files, last, work.Clock.Now())
	if err != nil {
		return feed.Delivery{}, err
	}
	at := filepath.Join(s.dir, newest.Name)
	d, err := feed.Settled(ctx, to, newest.Name, work, func() (int64, time.Time, error) {
		info, err := os.Stat(at)
		if err != nil {
			return 0, time.Time{}, err
		}
		return info.Size(), info.ModTime(), nil
	}, func() (io.ReadCloser, error) { return os.Open(at) })
	d.From, d.Ahead = at, newest.Ahead
	return d, err
}

// Take implements feed.Source.
func (s *source) Take(_ context.Context, d feed.Delivery, work feed.Work) error {
	if s.done == "" {
		return nil
	}
	info, err := os.Stat(d.From)
	if errors.Is(err, os.ErrNotExist) {
		return nil // somebody moved it
	}
	if err != nil {
		return err
	}
	if info.Size() != d.Size || !info.ModTime().Equal(d.Modified) {
		return fmt.Errorf("%s is another file now, and is left where it is", d.From)
	}
	if err := os.MkdirAll(s.done, 0o755); err != nil {
		return err
	}
	name, err := feed.Aside(d.Name, work.Clock.Now(), func(name string) error {
		_, err := os.Lstat(filepath.Join(s.done, name))
		return err
	})
	if err != nil {
		return err
	}
	return os.Rename(d.From, filepath.Join(s.done, name))
}
