package demo

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"time"

	"evenledger/internal/standin/desk"
)

// NewDesk makes the practice application that takes files; with sample it begins with the sample company's people,
// unless its data are in a file already.
func NewDesk(options desk.Options, sample bool, today time.Time) (*desk.Desk, error) {
	_, err := os.Stat(options.Data)
	begun := options.Data != "" && err == nil
	d, err := desk.New(options)
	if err != nil || !sample || begun {
		return d, err
	}
	people, err := Desk(today)
	for _, p := range people {
		err = errors.Join(err, d.Put(p))
	}
	return d, err
}

// writeDesk makes Deskbook's export of an hour ago.
func writeDesk(dir string, now time.Time) error {
	d, err := NewDesk(desk.Options{}, true, now)
	if err != nil {
		return err
	}
	export := filepath.Join(dir, "desk", "exports", "people.csv")
	var text bytes.Buffer
	before := now.Add(-time.Hour)
	return errors.Join(desk.Write(&text, d.Export()), os.WriteFile(export, text.Bytes(), 0o644), os.Chtimes(export, before, before))
}

// giveToDesk does what a person does with the file of the demonstration: it gives it to Deskbook's page, and saves
// what that lists and exports.
func giveToDesk(dir string, today time.Time) error {
	d, err := NewDesk(desk.Options{Data: filepath.Join(dir, "desk", "deskbook.json")}, true, today)
	if err != nil {
		return err
	}
	content, err := os.ReadFile(filepath.Join(dir, "desk", "outbox", "people-1-1.csv"))
	if err == nil {
		err = d.Take("people-1-1.csv", content, false)
	}
	if err != nil {
		return err
	}
	for name, list := range map[string][][]string{"not-taken.csv": d.NotTaken(), "exports/people.csv": d.Export()} {
		var text bytes.Buffer
		if err := errors.Join(desk.Write(&text, list), os.WriteFile(filepath.Join(dir, "desk", name), text.Bytes(), 0o644)); err != nil {
			return err
		}
	}
	return nil
}
