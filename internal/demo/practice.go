package demo

import (
	"errors"
	"net/http"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/standin"
	"evenledger/internal/standin/desk"
	"evenledger/internal/standin/mooring"
)

// A Practice says which practice application is wanted, and what it is to be like.
type Practice struct {
	Options standin.Options // without the token
	Token   string          // where it is: env:NAME or file:PATH
	Sample  bool            // it begins with the sample company's people
	Files   bool            // it takes nothing but files
	Rows    int             // then: most lines of one
	Web     bool            // it has a web interface of its own
	Jobs    time.Duration   // then: how long the jobs take that make accounts; 0: there are none
	Client  string          // then: who gets tokens for Token; empty: Token is one
}

// An Application is a practice application that is ready to be served.
type Application struct {
	http.Handler
	Path  string // of its address
	scim  *standin.Server
	files bool
}

// Scim reports whether it is spoken to by SCIM.
func (a *Application) Scim() bool { return a.scim != nil }

// Close puts its data together, if they are kept.
func (a *Application) Close() error {
	if a.scim == nil {
		return nil
	}
	return a.scim.Close()
}

// About says what it is and where, once it is served there.
func (a *Application) About(address string) []string {
	switch {
	case a.scim != nil:
		return []string{"The practice application is at " + address}
	case a.files:
		return []string{"The practice application for files is at " + address, "Open it in a browser."}
	default:
		return []string{"The practice application with a web interface of its own is at " + address, "What it is like is told in a browser at " + strings.TrimSuffix(address, "api")}
	}
}

// Open readies the application that is wanted.
func (p Practice) Open(now time.Time) (*Application, error) {
	if p.Files {
		d, err := NewDesk(desk.Options{Data: p.Options.Data, Rows: p.Rows}, p.Sample, now)
		if err != nil {
			return nil, mistake(err, "")
		}
		return &Application{Handler: d, Path: "/", files: true}, nil
	}
	if p.Web && p.Options.Data != "" {
		return nil, mistake(errors.New("the practice application with a web interface of its own keeps its data in memory"), "Leave --data out.")
	}
	token, err := standin.OpenToken(p.Token)
	if err != nil {
		return nil, mistake(err, "Give --token file:PATH or env:NAME.")
	}
	if p.Web {
		with := mooring.Options{Token: token, Page: p.Options.Page, Unseen: p.Options.Faults.Unseen, Delay: p.Options.Faults.Delay, Jobs: p.Jobs}
		if p.Client != "" {
			with.Client, with.Secret = p.Client, token
		}
		server := mooring.New(with)
		if p.Sample {
			if err := Moor(server); err != nil {
				return nil, mistake(err, "")
			}
		}
		return &Application{Handler: server, Path: "/api"}, nil
	}
	p.Options.Token = token
	server, err := NewPractice(p.Options, p.Sample)
	if err != nil {
		return nil, mistake(err, "")
	}
	return &Application{Handler: server, Path: standin.Path, scim: server}, nil
}

func mistake(err error, remedy string) error {
	return &account.Mistake{Message: err.Error(), Remedy: remedy}
}
