// Package app has the use cases: what the person asks for, carried out by the rooms
// beneath, with every guard that stands before it, whoever asks.
//
// It promises that nothing is changed which no draft has shown, that two of the same work
// are never at one workspace, and that what can be asked for by mistake is told as an
// account.Mistake or a batch.Guard. It prints nothing: words and flags are left to
// package cli.
package app

import (
	"errors"
	"io"
	"log/slog"
	"os"
	"sync"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/clock"
	"evenledger/internal/secret"
	"evenledger/internal/workspace"
)

// An App does the work of one workspace.
type App struct {
	Kinds   workspace.Kinds
	Dir     string // of the workspace; empty: the folder at hand, or one above it
	In      *os.File
	By      string // who is at work
	Clock   clock.Clock
	Mask    *secret.Mask
	Offline bool                             // no system is asked
	Trace   func() (*slog.Logger, error)     // gets what is sent and answered; nil, or one that returns nil: nobody does
	Remark  func(format string, args ...any) // tells something on the way

	mu     sync.Mutex
	opened []io.Closer // systems and places that something was asked of
}

// keep has what was opened be closed with the App.
func (a *App) keep(opened io.Closer) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.opened = append(a.opened, opened)
}

// Close gives back what is held of servers': connections, shells, tokens. The App can be used again.
func (a *App) Close() (err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, one := range a.opened {
		err = errors.Join(err, one.Close())
	}
	a.opened = nil
	return err
}

// Today is the day it is taken to be, as year-month-day.
func (a *App) Today() string { return a.Clock.Now().Format(time.DateOnly) }

// FindWorkspace reads the workspace.
func (a *App) FindWorkspace() (*workspace.Workspace, error) {
	if a.Dir != "" {
		return workspace.Read(a.Dir, a.Kinds)
	}
	return workspace.Find(".", a.Kinds)
}

func mistake(message, remedy string) error {
	return &account.Mistake{Message: message, Remedy: remedy}
}
