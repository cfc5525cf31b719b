// Package sftp is the kind of feed that takes the newest file of a pattern from a file server
// over ssh.
//
// It promises that nobody is trusted who is not among the known hosts.
package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"time"

	files "github.com/pkg/sftp"

	"evenledger/internal/feed"
	"evenledger/internal/reach"
	"evenledger/internal/sshdial"
	"evenledger/internal/yamldoc"
)

// Kind is the kind “sftp” of evenledger.yaml.
func Kind() feed.Kind { return feed.Kind{Name: "sftp", Settings: settings} }

type source struct {
	sshdial.Server
	folder, pattern string
	done            string
}

func settings(part reach.Part) ([]yamldoc.Key, func(yamldoc.Given) feed.Source) {
	s := &source{}
	keys := append([]yamldoc.Key{
		{Name: "url", Form: yamldoc.Text, About: "The server, folder and pattern: sftp://USER@HOST/outgoing/starters-*.csv. Of several files the newest is taken.", Put: s.readAddress},
		{Name: "done", Form: yamldoc.Text, About: "The folder there that a file is moved to when its batch is posted; from the folder of the files, unless it begins with a slash. Without it: it stays.", Put: yamldoc.Into(&s.done, yamldoc.Node.Text)},
	}, s.Keys(part)...)
	return keys, func(yamldoc.Given) feed.Source {
		switch {
		case s.At == "":
			part.At.Fail("Add “url”, such as sftp://USER@HOST/outgoing/*.csv.", "feed %s does not say where its files are", part.Name)
		case s.User == "":
			part.At.Fail("Add “user”.", "feed %s does not say who signs in", part.Name)
		}
		if s.done != "" && !path.IsAbs(s.done) {
			s.done = path.Join(s.folder, s.done)
		}
		return s
	}
}

func (s *source) readAddress(node yamldoc.Node) {
	at := s.ReadURL(node, "sftp", "sftp://USER@HOST/outgoing/*.csv")
	if at == "" && s.At == "" {
		return
	}
	s.folder, s.pattern = path.Split(at)
	if _, err := path.Match(s.pattern, "x"); err != nil || s.pattern == "" {
		node.Fail("Write the folder and a pattern, such as /outgoing/*.csv.", "“%s” is no pattern of files", at)
	}
}

// Address implements feed.Source.
func (s *source) Address() string {
	return "sftp://" + s.String() + s.folder + s.pattern
}

// Bring implements feed.Source.
func (s *source) Bring(ctx context.Context, to *feed.Spool, last feed.Last, work feed.Work) (d feed.Delivery, err error) {
	err = s.on(ctx, work, func(c *files.Client) error {
		entries, err := c.ReadDirContext(ctx, s.folder)
		if err != nil {
			return &reach.Unavailable{Message: fmt.Sprintf("the folder %s cannot be read on %s: %s", s.folder, s.At, err), Remedy: "Look at the url in evenledger.yaml, and whether this user may read there.", Err: err}
		}
		var all []feed.Candidate
		for _, info := range entries {
			all = append(all, feed.Candidate{Name: info.Name(), Modified: info.ModTime(), Regular: info.Mode().IsRegular()})
		}
		newest, err := feed.Newest(s.pattern, s.folder, all, last, work.Clock.Now())
		if err != nil {
			return err
		}
		at := path.Join(s.folder, newest.Name)
		d, err = feed.Settled(ctx, to, newest.Name, work, func() (int64, time.Time, error) {
			info, err := c.Stat(at)
			if err != nil {
				return 0, time.Time{}, err
			}
			return info.Size(), info.ModTime(), nil
		}, func() (io.ReadCloser, error) { return c.Open(at) })
		d.From, d.Ahead = at, newest.Ahead
		return err
	})
	return d, err
}

// Take implements feed.Source.
func (s *source) Take(ctx context.Context, d feed.Delivery, work feed.Work) error {
	if s.done == "" {
		return nil
	}
	return s.on(ctx, work, func(c *files.Client) error {
		info, err := c.Stat(d.From)
		switch {
		case errors.Is(err, os.ErrNotExist):
			return nil // somebody moved it
		case err != nil:
			return err
		case info.Size() != d.Size || !info.ModTime().Equal(d.Modified):
			return fmt.Errorf("%s is another file now, and is left where it is", d.From)
		}
		if err := c.MkdirAll(s.done); err != nil {
			return err
		}
		name, err := feed.Aside(d.Name, work.Clock.Now(), func(name string) error {
			_, err := c.Lstat(path.Join(s.done, name))
			return err
		})
		if err != nil {
			return err
		}
		return c.Rename(d.From, path.Join(s.done, name))
	})
}

// on does something on a connection.
func (s *source) on(ctx context.Context, work feed.Work, do func(*files.Client) error) error {
	err := s.Files(ctx, work.Timeout, work.Mask, do)
	var nothing *feed.Nothing
	var known *reach.Unavailable
	if err == nil || errors.As(err, &nothing) || errors.As(err, &known) {
		return err
	}
	return s.Unreachable(ctx, work.Mask, err)
}
