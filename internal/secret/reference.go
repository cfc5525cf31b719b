package secret

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// A Reference is where a secret is kept: "env:NAME" or "file:PATH".
type Reference struct {
	reference string
	dir       string
}

// NewReference reads a reference to a secret; paths in it are taken from dir. The
// error doesn't repeat the text, which may be the secret itself.
func NewReference(reference, dir string) (Reference, error) {
	kind, where, found := strings.Cut(reference, ":")
	if !found || where == "" || kind != "env" && kind != "file" {
		return Reference{}, errors.New("secrets do not stand here, only where to find them")
	}
	return Reference{reference, dir}, nil
}

func (r Reference) String() string { return r.reference }

// Given reports whether there is a reference at all.
func (r Reference) Given() bool { return r.reference != "" }

// Open fetches the secret. Its errors never hold it.
func (r Reference) Open() (string, error) {
	kind, where, _ := strings.Cut(r.reference, ":")
	if kind == "env" {
		value := strings.TrimSpace(os.Getenv(where))
		if value == "" {
			return "", fmt.Errorf("the environment variable %s is not set", where)
		}
		return value, nil
	}
	if !filepath.IsAbs(where) {
		where = filepath.Join(r.dir, where)
	}
	stat, err := os.Stat(where)
	if err != nil {
		return "", fmt.Errorf("the secret's file cannot be read: %w", err)
	}
	if !stat.Mode().IsRegular() {
		return "", fmt.Errorf("the secret's file %s is not a plain file", where)
	}
	if stat.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("the secret's file %s may be read by others (mode %04o): run chmod 600 %s", where, stat.Mode().Perm(), where)
	}
	data, err := os.ReadFile(where)
	if err != nil {
		return "", fmt.Errorf("the secret's file cannot be read: %w", err)
	}
	value := strings.TrimSpace(string(data))
	if value == "" {
		return "", fmt.Errorf("the secret's file %s is empty", where)
	}
	return value, nil
}
