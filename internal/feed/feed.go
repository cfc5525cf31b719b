// Package feed brings sheets from where they come from: a database, a web address, a file
// server, a folder.
//
// It promises that what a feed brings is whole, and in a private file, before anything
// looks at it; that nothing is changed where it comes from until its batch is posted;
// that what is read is bounded; and that no secret and nothing of what it brings is said in
// clear but to this machine.
package feed

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"evenledger/internal/clock"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/told"
	"evenledger/internal/yamldoc"
)

// Prefix stands before the name of a feed where a sheet is named.
const Prefix = "feed:"

// A Kind is a kind of feed that evenledger.yaml may name.
type Kind struct {
	Name string
	// Settings returns the keys of its part of evenledger.yaml, besides the keys of every feed, and what makes
	// a source of them once they are read. Mistakes are reported where they stand.
	Settings func(reach.Part) ([]yamldoc.Key, func(yamldoc.Given) Source)
	// Forms are what the forms of its own take, for editors.
	Forms map[yamldoc.Form]yamldoc.Object
}

// Read reads the part of evenledger.yaml about one feed, which may have other keys as well.
func (k Kind) Read(part reach.Part, node yamldoc.Node, also ...yamldoc.Key) Source {
	keys, source := k.Settings(part)
	return source(node.Read(append(also, keys...)))
}

// A Source is where one feed comes from. It holds no secret, only where one is kept.
type Source interface {
	// Address says where it is, for people.
	Address() string
	// Bring writes what is there into the spool. What there is not is a *Nothing.
	Bring(ctx context.Context, to *Spool, last Last, work Work) (Delivery, error)
	// Take marks a delivery as taken where it came from: its batch was posted. Nothing that
	// was there is lost.
	Take(ctx context.Context, d Delivery, work Work) error
}

// A Doer is a source in which something can be done as well: a statement of a follow-up.
type Doer interface {
	// Does says which kind of order it takes: one with a statement, or with a body.
	Does() (statement bool)
	// Open opens the secrets. It sends nothing yet.
	Open(Work) (Place, error)
}

// A Place is where orders are carried out. It may be used by several goroutines.
type Place interface {
	// Do carries one order out, wholly or not at all. A clear no is a *Refused; where nobody can
	// say, it is ErrUnclear; where it is too busy now, a *Later; any other error is of the place as a
	// whole, and nothing was done.
	Do(ctx context.Context, order Order) error
	// Close gives back what is held of the server's.
	Close() error
}

// An Order is what is to be done: a statement, or a call with a body.
type Order struct {
	Statement string            `json:"statement,omitempty"`
	Values    map[string]string `json:"values,omitempty"` // of its parameters; a blank is bound as NULL
	Body      map[string]string `json:"body,omitempty"`
	Key       string            `json:"-"` // the same whenever it is the same order
}

// Give gives an order what only the post knows, under its name: a value of a statement, and the mark
// in a body.
func (o *Order) Give(name, mark, value string) {
	if o.Values != nil {
		o.Values[name] = value
	}
	for key, text := range o.Body {
		o.Body[key] = strings.ReplaceAll(text, mark, value)
	}
}

// Later means that nothing was done, and that the place takes it after a while.
type Later struct {
	After   time.Duration
	Message string
}

func (e *Later) Error() string { return e.Message }

// Refused is a clear no to a statement.
type Refused struct{ Message string }

func (e *Refused) Error() string { return e.Message }

// ErrUnclear means that it may have been done or not.
var ErrUnclear = errors.New("no clear answer came")

// Last is what was taken before; zero: nothing.
type Last struct {
	Delivery
	Again bool // what was taken before is brought once more
}

// A Delivery is what a feed brought at one time.
type Delivery struct {
	Feed     string    `json:"feed"`
	Name     string    `json:"name"`              // of the file, as it is called there
	From     string    `json:"from,omitempty"`    // where exactly it was, if it has to be found again
	Tag      string    `json:"tag,omitempty"`     // by which a web server knows it
	Modified time.Time `json:"modified,omitzero"` // there
	Brought  time.Time `json:"brought"`           // when it was brought
	Sum      string    `json:"sum"`               // SHA-256 of it
	Size     int64     `json:"size"`              // in bytes
	Again    bool      `json:"again,omitempty"`   // a person wants it though it was taken before
	Ahead    bool      `json:"ahead,omitempty"`   // its date is in the future
	Path     string    `json:"-"`                 // of the private file
}

// Work is what every kind of feed is told of the work at hand.
type Work struct {
	Timeout time.Duration // for a server to answer, and for each wait for more
	Mask    *secret.Mask  // takes secrets out of what is told; may be nil
	Trace   *slog.Logger  // gets what was asked, without secrets; may be nil
	Clock   clock.Clock
}

// Nothing means that a feed has nothing to bring, or nothing that was not taken before.
type Nothing struct {
	Message string
	Same    bool // it is what was taken before
}

func (e *Nothing) Error() string { return e.Message }

// Tell implements told.Error.
func (e *Nothing) Tell() told.Telling {
	remedy := "Try again when there is something."
	if e.Same {
		remedy = "Nothing needs to be done. --again takes it once more."
	}
	return told.Telling{Class: told.Held, Message: e.Message, Remedy: remedy, Stands: true}
}

// Most is how much a feed may bring, in bytes, packed or unpacked, where evenledger.yaml does not say:
// enough for ten million people.
const Most = 4 << 30

// A Spool is a private folder for what is brought. Close takes it away.
type Spool struct {
	dir   string
	lock  *flock.Flock
	most  int64
	meter meter
}

// lockEnding ends the name of the file that says, beside the folder of a spool, that it is in use.
const lockEnding = ".lock"

// NewSpool makes a spool beneath a folder, which it makes if it is not there. No more than most bytes
// may come; 0: Most.
func NewSpool(beneath string, most int64) (*Spool, error) {
	if err := os.MkdirAll(beneath, 0o700); err != nil {
		return nil, err
	}
	s := &Spool{dir: filepath.Join(beneath, rand.Text()), most: cmp.Or(most, Most)}
	s.lock = flock.New(s.dir+lockEnding, flock.SetPermissions(0o600))
	if _, err := s.lock.TryLock(); err != nil { // the name is nobody else's
		return nil, err
	}
	return s, os.Mkdir(s.dir, 0o700)
}

// Sweep takes away what processes that are no more have left beneath a folder.
func Sweep(beneath string) error {
	entries, err := os.ReadDir(beneath)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	var problems []error
	for _, entry := range entries {
		name, isLock := strings.CutSuffix(entry.Name(), lockEnding)
		if !isLock {
			continue
		}
		lock := flock.New(filepath.Join(beneath, entry.Name()))
		if free, err := lock.TryLock(); err != nil || !free {
			continue // somebody is at it
		}
		problems = append(problems, os.RemoveAll(filepath.Join(beneath, name)), os.Remove(lock.Path()), lock.Unlock())
	}
	_ = os.Remove(beneath) // if nothing else is there
	return errors.Join(append(problems, err)...)
}

// Close takes the spool away, and the folder that it was made in if nothing else is there.
func (s *Spool) Close() error {
	err := errors.Join(os.RemoveAll(s.dir), os.Remove(s.lock.Path()), s.lock.Unlock())
	_ = os.Remove(filepath.Dir(s.dir))
	return err
}

// Scratch is a private file that is written and read again. Nothing is left of it once it is closed; where the operating system
// allows, it has no name from the first.
type Scratch struct {
	*os.File
	of *Spool
}

// NewScratch makes a scratch beneath a folder, which it makes if it is not there.
func NewScratch(beneath string) (*Scratch, error) {
	of, err := NewSpool(beneath, 0)
	if err != nil {
		return nil, err
	}
	file, err := os.OpenFile(filepath.Join(of.dir, "rows"), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, errors.Join(err, of.Close())
	}
	_ = os.Remove(file.Name()) // else it goes with its folder
	return &Scratch{file, of}, nil
}

// Close gives the scratch up.
func (s *Scratch) Close() error { return errors.Join(s.File.Close(), s.of.Close()) }

// Create begins the one file of a delivery, which is called as it is where it comes from.
func (s *Spool) Create(name string) (*File, error) {
	name = filepath.Base(filepath.Clean("/" + strings.Map(func(r rune) rune {
		if r < ' ' || r == '\\' || r == 0x7f {
			return '_'
		}
		return r
	}, name)))
	if name == "/" || len(name) > 200 {
		name = "sheet"
	}
	file, err := os.OpenFile(filepath.Join(s.dir, name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	return &File{file: file, sum: sha256.New(), of: s}, err
}

// A File is what a delivery is written to.
type File struct {
	file *os.File
	sum  hash.Hash
	size int64
	of   *Spool
}

// Write writes more; what is longer than a feed may bring is an error.
func (f *File) Write(p []byte) (int, error) {
	if f.size += int64(len(p)); f.size > f.of.most {
		return 0, &reach.Unavailable{Message: fmt.Sprintf("it brings more than %d bytes", f.of.most), Remedy: "Ask for less at once, or let it bring more: “most” of the feed in evenledger.yaml."}
	}
	f.of.meter.came(int64(len(p)), 0)
	_, _ = f.sum.Write(p)
	return f.file.Write(p)
}

// Delivery ends the file and says what was brought.
func (f *File) Delivery() (Delivery, error) {
	d := Delivery{Name: filepath.Base(f.file.Name()), Sum: hex.EncodeToString(f.sum.Sum(nil)), Size: f.size, Path: f.file.Name()}
	return d, f.file.Close()
}

// Close gives the file up.
func (f *File) Close() { _ = f.file.Close() }

// Settled reads a file from r that may still be written to while it is read: how large it is
// and when it was written last must be the same before and after.
func Settled(ctx context.Context, to *Spool, name string, work Work, stat func() (size int64, modified time.Time, err error), open func() (io.ReadCloser, error)) (Delivery, error) {
	size, modified, err := stat()
	if err != nil {
		return Delivery{}, err
	}
	if now := work.Clock.Now(); now.Sub(modified) < freshly && modified.Sub(now) < freshly {
		// Somebody may be at it. Clocks differ, so that it is looked at again.
		if err := work.Clock.Wait(ctx, pause); err != nil {
			return Delivery{}, err
		}
	}
	from, err := open()
	if err != nil {
		return Delivery{}, err
	}
	defer from.Close()
	file, err := to.Create(name)
	if err != nil {
		return Delivery{}, err
	}
	defer file.Close()
	if _, err := io.Copy(file, reader{ctx, from}); err != nil {
		return Delivery{}, err
	}
	again, last, err := stat()
	if err != nil {
		return Delivery{}, err
	}
	if again != size || file.size != size || !last.Equal(modified) {
		return Delivery{}, &Nothing{Message: fmt.Sprintf("%s is still being written", name)}
	}
	d, err := file.Delivery()
	d.Modified = modified
	return d, err
}

// How a file is seen to be whole.
const (
	freshly = 20 * time.Second // since it was written to: it is looked at twice
	pause   = 2 * time.Second  // between
)

// reader ends with its context.
type reader struct {
	ctx context.Context
	io.Reader
}

func (r reader) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.Reader.Read(p)
}
