package workspace

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

//go:embed template
var template embed.FS

// Create makes a workspace at dir with a first evenledger.yaml, an example brief
// and a .gitignore, and returns the files made. A folder that is a workspace
// already is an error; other files in it are left alone, and if one of them has
// a name that is needed, nothing is made.
func Create(dir string) ([]string, error) {
	if _, err := os.Stat(filepath.Join(dir, File)); err == nil {
		return nil, fmt.Errorf("%s is a workspace already", dir)
	}
	files := []struct{ from, to string }{
		{"template/evenledger.yaml", File},
		{"template/gitignore", ".gitignore"},
		{"template/starters.yaml", "briefs/starters.yaml"},
	}
	for _, file := range files {
		if _, err := os.Lstat(filepath.Join(dir, file.to)); !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("%s exists already and would be overwritten", filepath.Join(dir, file.to))
		}
	}
	briefs := filepath.Join(dir, "briefs")
	if err := os.MkdirAll(briefs, 0o755); err != nil {
		return nil, err
	}
	if stat, err := os.Lstat(briefs); err != nil || !stat.IsDir() {
		return nil, fmt.Errorf("%s leads elsewhere", briefs) // what is made is to be made here
	}
	var made []string
	for _, file := range files {
		data, err := template.ReadFile(file.from)
		if err != nil {
			return made, err
		}
		if err := writeNew(filepath.Join(dir, file.to), data); err != nil {
			return made, err
		}
		made = append(made, file.to)
	}
	return made, nil
}

// writeNew writes a file that is not there, nor a link to one.
func writeNew(path string, data []byte) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	return errors.Join(err, file.Close())
}
