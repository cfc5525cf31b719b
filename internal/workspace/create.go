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
		if _, err := os.Stat(filepath.Join(dir, file.to)); !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("%s exists already and would be overwritten", filepath.Join(dir, file.to))
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, "briefs"), 0o755); err != nil {
		return nil, err
	}
	var made []string
	for _, file := range files {
		data, err := template.ReadFile(file.from)
		if err != nil {
			return made, err
		}
		if err := os.WriteFile(filepath.Join(dir, file.to), data, 0o644); err != nil {
			return made, err
		}
		made = append(made, file.to)
	}
	return made, nil
}
