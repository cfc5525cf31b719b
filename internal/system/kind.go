package system

import (
	"context"
	"log/slog"
	"time"

	"evenledger/internal/clock"
	"evenledger/internal/pace"
	"evenledger/internal/reach"
	"evenledger/internal/secret"
	"evenledger/internal/yamldoc"
)

// A Kind is a kind of system that evenledger.yaml may name.
type Kind struct {
	Name string
	// Together is how many requests are in flight at once where evenledger.yaml does not say;
	// 0: a few.
	Together int
	// Settings returns the keys of its part of evenledger.yaml, besides the keys of every system, and what makes
	// a connection of them once they are read. Mistakes are reported where they stand.
	Settings func(reach.Part) ([]yamldoc.Key, func(yamldoc.Given) Connection)
	// Forms are what the forms of its own take, for editors.
	Forms map[yamldoc.Form]yamldoc.Object
	// Later says that what is to be done is handed over, in files, and carried out later: nobody knows at once what became of it.
	Later bool
	// IsOwn reports whether a name that is not of the catalogue is plainly that of one of
	// the system's own fields, so that nobody has to ask it. Nil: no name is.
	IsOwn func(field string) bool
}

// Read reads the part of evenledger.yaml about one system, which may have other keys as well.
func (k Kind) Read(part reach.Part, node yamldoc.Node, also ...yamldoc.Key) Connection {
	keys, connection := k.Settings(part)
	return connection(node.Read(append(also, keys...)))
}

// A Connection is how one system is reached. It holds no secret, only where one is kept.
type Connection interface {
	// Address says where the system is: a batch is posted only where it was drafted for.
	Address() string
	// Open opens the secrets and returns the system. It sends nothing yet. A secret that
	// cannot be had is a *reach.NoSecret.
	Open(Work) (System, error)
}

// A FileConnection is one of a kind that is Later.
type FileConnection interface {
	Connection
	// From is the same with another export than the one that is kept.
	From(export string) Connection
	// File is where a file of the outbox is, sealed or open.
	File(name string, sealed bool) string
	// Export is where its exports are looked for; it may have a star; empty: nowhere.
	Export() string
}

// Work is what every kind of system is told of the work at hand.
type Work struct {
	Together int               // requests in flight at once
	Shared   bool              // by all of the crowd together, and not by each
	Timeout  time.Duration     // of one request
	Crowd    *pace.Crowd       // that shares the rate, and with Shared the requests in flight; nil: nobody does
	Aliases  map[string]string // short name → full name of one of the system's own fields
	Mask     *secret.Mask      // takes secrets out of what is told; may be nil
	Trace    *slog.Logger      // gets what was sent and answered, without secrets; may be nil
	Clock    clock.Clock       // nil: the one on the wall
	// Bring has a feed bring what it has: a file, when it was written, and what is done when it was read.
	Bring   func(ctx context.Context, feed string) (path string, at time.Time, done func() error, err error)
	Waiting func(time.Time) // is told until when the system asked to be left alone; may be nil
}

// Slots are those of the requests in flight.
func (w Work) Slots() *pace.Slots {
	if w.Shared {
		return pace.NewSlots(w.Together, w.Crowd)
	}
	return pace.NewSlots(w.Together, nil)
}

// OpenSecret opens a secret and has the mask hide it.
func (w Work) OpenSecret(r secret.Reference) (string, error) { return reach.Open(r, w.Mask) }
