package files

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"github.com/pkg/sftp"

	"evenledger/internal/sshdial"
	"evenledger/internal/system"
)

// An outbox is where files are put.
type outbox interface {
	// on does something with it while it can be reached.
	on(ctx context.Context, work system.Work, do func(shelf) error) error
	// at says where a file of it is, for people.
	at(name string) string
}

// A shelf is an outbox at hand.
type shelf interface {
	// sum is the SHA-256 of a file, in hex; fs.ErrNotExist: there is none of that name.
	sum(name string) (string, error)
	// put has a file of this machine be there under a name, whole or not at all; it is never put over another.
	put(local, name string) error
}

// A folder is an outbox on this machine.
type folder struct{ path string }

func (f folder) at(name string) string { return filepath.Join(f.path, name) }

func (f folder) on(_ context.Context, _ system.Work, do func(shelf) error) error { return do(f) }

func (f folder) sum(name string) (string, error) {
	file, err := os.Open(f.at(name))
	if err != nil {
		return "", err
	}
	defer file.Close()
	return sumOf(file)
}

func (f folder) put(local, name string) error {
	switch err := os.Link(local, f.at(name)); { // which fails if the name is taken by now
	case errors.Is(err, fs.ErrPermission), errors.Is(err, errors.ErrUnsupported): // as of sticks and some shares, that know no links
		if _, err := os.Lstat(f.at(name)); !errors.Is(err, fs.ErrNotExist) {
			return cmp.Or(err, fs.ErrExist)
		}
		if err := os.Rename(local, f.at(name)); err != nil {
			return err
		}
	case err != nil:
		return err
	}
	at, err := os.Open(f.path)
	if err != nil {
		return err
	}
	// The name is to be on disk as well, where a folder can be synced.
	if err = at.Sync(); errors.Is(err, errors.ErrUnsupported) || errors.Is(err, fs.ErrInvalid) {
		err = nil
	}
	return errors.Join(err, at.Close())
}

func sumOf(r io.Reader) (string, error) {
	sum := sha256.New()
	if _, err := io.Copy(sum, r); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// A server is an outbox on a file server.
type server struct {
	sshdial.Server
	path string
}

func (s *server) at(name string) string { return "sftp://" + s.String() + path.Join(s.path, name) }

func (s *server) on(ctx context.Context, work system.Work, do func(shelf) error) error {
	return s.Files(ctx, work.Timeout, work.Mask, func(c *sftp.Client) error { return do(serverShelf{c, s.path}) })
}

type serverShelf struct {
	c    *sftp.Client
	path string
}

func (s serverShelf) sum(name string) (string, error) {
	file, err := s.c.Open(path.Join(s.path, name))
	if err != nil {
		return "", err
	}
	defer file.Close()
	return sumOf(file)
}

func (s serverShelf) put(local, name string) (err error) {
	from, err := os.Open(local)
	if err != nil {
		return err
	}
	defer from.Close()
	working := path.Join(s.path, ".evenledger-"+name)
	to, err := s.c.OpenFile(working, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
	if err != nil {
		return err
	}
	_, err = to.ReadFrom(from)
	if err = errors.Join(err, s.c.Chmod(working, 0o600), to.Close()); err != nil {
		return fmt.Errorf("%s could not be written whole: %w", name, err)
	}
	return s.c.Rename(working, path.Join(s.path, name)) // of version 3, which fails if the name is taken
}
