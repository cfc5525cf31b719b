package cli

import (
	"os"
)

// exists reports whether there is a file at path.
func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}
