package secret

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path/filepath"

	"filippo.io/age"
)

// A Credential is what one person gets.
type Credential struct{ UserName, Name, Email, Password string }

// An Envelope says who can read credentials. The zero Envelope is none at all.
type Envelope struct {
	recipients []age.Recipient
	clear      bool
}

// ToKeys returns the envelope that only the holders of these keys open: recipients
// of the age format, such as age1….
func ToKeys(keys []string) (Envelope, error) {
	var e Envelope
	for _, key := range keys {
		r, err := age.ParseX25519Recipient(key)
		if err != nil {
			return e, fmt.Errorf("“%s” is not a key that credentials can be encrypted to: it begins with age1", key)
		}
		e.recipients = append(e.recipients, r)
	}
	return e, nil
}

// ToPassphrase returns the envelope that a passphrase opens.
func ToPassphrase(passphrase string) (Envelope, error) {
	if why := NewJudge(Rules{}).weak(passphrase, nil, enoughOfAnOpening); why != "" {
		return Envelope{}, errors.New("the passphrase can be guessed: " + why)
	}
	r, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return Envelope{}, err
	}
	return Envelope{recipients: []age.Recipient{r}}, nil
}

// InClear returns the envelope that anyone opens who can read the file.
func InClear() Envelope { return Envelope{clear: true} }

// Given reports whether it is an envelope at all.
func (e Envelope) Given() bool { return e.clear || len(e.recipients) > 0 }

// IsClear reports whether anybody can read what is in it.
func (e Envelope) IsClear() bool { return e.clear }

// WriteFile writes credentials as a sheet of comma-separated values into a new
// file that its owner alone can read, sealed in the envelope. The file is there
// whole or not at all, and on disk when WriteFile returns. Passwords are written
// as they are, even if a spreadsheet program would take one for a formula.
func (e Envelope) WriteFile(path string, credentials iter.Seq2[Credential, error]) (n int, err error) {
	file, err := os.CreateTemp(filepath.Dir(path), ".credentials-*") // with mode 0600
	if err != nil {
		return 0, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(file.Name()))
		}
	}()
	n, err = e.write(file, credentials)
	if err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return 0, err
	}
	// Unlike a rename, a link does not write over what somebody put there meanwhile.
	if err = os.Link(file.Name(), path); errors.Is(err, fs.ErrExist) {
		return 0, err
	} else if err != nil {
		err = copyNew(path, file.Name()) // the file system has no links
	}
	if err != nil {
		return 0, err
	}
	return n, os.Remove(file.Name())
}

// copyNew copies a file to a new one that its owner alone can read. It is there whole or
// not at all when copyNew returns.
func copyNew(path, from string) error {
	data, err := os.ReadFile(from)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	if err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return errors.Join(err, os.Remove(path))
	}
	return nil
}

// CanWrite reports why credentials could not be written to a new file at path, or nil. It
// is to be asked before there are any.
func CanWrite(path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("credentials cannot be written: %w", err)
	}
	return errors.Join(file.Close(), os.Remove(path))
}

func (e Envelope) write(file io.Writer, credentials iter.Seq2[Credential, error]) (n int, err error) {
	out, done := file, func() error { return nil }
	if !e.clear {
		sealed, err := age.Encrypt(file, e.recipients...)
		if err != nil {
			return 0, err
		}
		out, done = sealed, sealed.Close
	}
	sheet := csv.NewWriter(out)
	if err := sheet.Write([]string{"User name", "Name", "Email", "Password"}); err != nil {
		return 0, err
	}
	for c, err := range credentials {
		if err != nil {
			return n, err
		}
		if err := sheet.Write([]string{c.UserName, c.Name, c.Email, c.Password}); err != nil {
			return n, err
		}
		n++
	}
	sheet.Flush()
	return n, errors.Join(sheet.Error(), done())
}
