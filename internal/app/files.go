package app

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"evenledger/internal/account"
	"evenledger/internal/attribute"
	"evenledger/internal/sheet"
)

// MayWrite sees that a sheet can be written to a path without loss; what is there already holds something.
func MayWrite(path string, overwrite bool, holds string) error {
	return mayWrite(path, overwrite, holds, sheet.CanWrite(path), sheet.Formats)
}

// MayWritePage sees the same of a sheet or a page.
func MayWritePage(path string, overwrite bool, holds string) error {
	return mayWrite(path, overwrite, holds, isPage(path) || sheet.CanWrite(path), ".html, "+sheet.Formats)
}

func mayWrite(path string, overwrite bool, holds string, known bool, endings string) error {
	if _, err := os.Lstat(path); err == nil && !overwrite {
		return mistake(fmt.Sprintf("%s exists already, %s", path, holds), "Name another file, or give --overwrite.")
	}
	if !known {
		return mistake(fmt.Sprintf("%s is of no format that can be written", path), "Let its name end in "+endings+".")
	}
	return nil
}

// sheetWriter begins a sheet in the format that path ends in. Working files stand
// beside it, never in a folder that others share.
func sheetWriter(to io.Writer, path string) func(sheet.Form) (sheet.Writer, error) {
	return func(form sheet.Form) (sheet.Writer, error) {
		known := account.NewHeadings()
		form.Folder, form.Attribute = filepath.Dir(path), func(heading string) string {
			if f, ok := known.Field(heading); ok && attribute.Of(f.Name) != "" {
				return attribute.Of(f.Name)
			}
			return heading
		}
		return sheet.NewWriter(to, path, form)
	}
}

// writeWhole writes a file readable by its owner alone, whole or not at all.
func writeWhole(path string, write func(*os.File) (int, error)) (n int, err error) {
	file, err := os.CreateTemp(filepath.Dir(path), ".evenledger-*")
	if err != nil {
		return 0, err
	}
	if n, err = write(file); err == nil {
		err = file.Sync() // else a name may outlast what it names, when the power goes
	}
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		return n, errors.Join(err, os.Remove(file.Name()))
	}
	return n, nil
}

// WriteNew writes a text to a file that is not there yet, whose folder is made if need be.
func WriteNew(path, text string) error {
	if _, err := os.Lstat(path); err == nil {
		return mistake(path+" exists already", "Name another file.")
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	_, err := writeWhole(path, func(file *os.File) (int, error) { return file.WriteString(text) })
	return err
}
