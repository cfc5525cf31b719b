// Package told has how an error is told to a person: what is wrong, what can be done about it, and what a program
// that calls this one learns of it. An error says so itself, where it is made.
package told

import "errors"

// A Class is what kind of end a command comes to by an error.
type Class int

// The classes.
const (
	Wrong Class = iota // what was asked for, or a file, is wrong; nothing was done
	Away               // a system, a server or the ledger cannot be reached, or turns the program away
	Held               // a guard held
)

// A Telling is an error as it is told.
type Telling struct {
	Class   Class
	Message string // empty: all that the error says
	Remedy  string // empty: there is none
	Stands  bool   // it is so, whether the work was interrupted or not
}

// An Error explains itself.
type Error interface {
	error
	Tell() Telling
}

// Of returns how an error is told. One that does not explain itself is told by its words.
func Of(err error) (says Telling, explained bool) {
	var one Error
	if explained = errors.As(err, &one); explained {
		says = one.Tell()
	}
	if says.Message == "" {
		says.Message = err.Error()
	}
	return says, explained
}

// New returns an error of these words, for a variable that others compare with.
func New(class Class, words, remedy string) error {
	return &plain{words, Telling{Class: class, Remedy: remedy}}
}

type plain struct {
	words string
	says  Telling
}

func (p *plain) Error() string { return p.words }
func (p *plain) Tell() Telling { return p.says }
