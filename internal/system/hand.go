package system

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"evenledger/internal/account"
)

// A Hander is a system that takes what is to be done in files, and carries it out later. Accounts are read out of the
// newest export of it, and known by what they are called: an identifier is the value of Schema.Naming. It gets no orders.
type Hander interface {
	// Hand begins the files of a part of a batch.
	Hand(ctx context.Context, batch, part int, at time.Time) (Handing, error)
	// Layout is the hash of what the form of the files was read from.
	Layout() string
	// HoldsPasswords reports whether passwords stand in the files.
	HoldsPasswords() bool
	// Exported is when the accounts were exported; zero: there is no export.
	Exported(ctx context.Context) (time.Time, error)
	// Whole reports whether the application takes none of a file in which one row is bad.
	Whole() bool
	// Failures reads the application's list of what it did not take.
	Failures(path string) ([]Failure, error)
}

// A Handing is the files of one part while they are made. Nobody sees them before they are put.
type Handing interface {
	// Add puts what is intended into one of the files and says which line of which it is. When full, it was not put: this
	// part is to be ended. Why says why the file cannot hold it; empty: it can.
	Add(intended Intended) (file string, line int, full bool, why []account.Finding, err error)
	// End ends the files and returns them. Nothing can be added any more.
	End() ([]HandedFile, error)
	// Put has the files be where the application's are fetched, whole. One that is there already has to be the same, or of the
	// hash that was noted of it; else it is somebody's, and an *Unavailable. It returns those that were not there yet.
	Put(ctx context.Context, seal Seal, noted map[string]string) ([]HandedFile, error)
	// Close takes away what was not put.
	Close() error
}

// String says which row of the list it is, for people.
func (f Failure) String() string {
	text := fmt.Sprintf("row %d", f.Row)
	for _, field := range slices.Sorted(maps.Keys(f.Keys)) {
		text += ", " + f.Keys[field]
	}
	if f.Line > 0 {
		text += fmt.Sprintf(", line %d", f.Line)
	}
	return text
}

// A Seal seals a file that holds passwords; nil: there are none in it.
type Seal func(content []byte) ([]byte, error)

// A HandedFile is one of the files of a part.
type HandedFile struct {
	Name   string
	Rows   int
	Sum    string // SHA-256 in hex
	Bytes  int64
	Sealed bool // it holds passwords
}

// A Failure is a row that the application says it did not take.
type Failure struct {
	Row    int               // of its list
	Line   int               // of the file; 0: it does not say
	Keys   map[string]string // field → value
	Reason string
}
