package standin

import (
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"evenledger/internal/secret"
)

// OpenToken opens the reference to a token, and makes the file it names if
// that isn't there.
func OpenToken(reference string) (string, error) {
	path, isFile := strings.CutPrefix(reference, "file:")
	if isFile {
		if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
			if err := os.WriteFile(path, []byte(rand.Text()+"\n"), 0o600); err != nil {
				return "", err
			}
		}
	}
	dir, err := filepath.Abs(".")
	if err != nil {
		return "", err
	}
	token, err := secret.NewReference(reference, dir)
	if err != nil {
		return "", err
	}
	return token.Open()
}
