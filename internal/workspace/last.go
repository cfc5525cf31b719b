package workspace

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// lastDraft is the file that says which batch was drafted last from this folder.
const lastDraft = ".last-draft"

// NoteDraft remembers the batch that was drafted last from this folder; 0: one was begun, and is not made (yet). A folder in
// which nothing may be written remembers nothing.
func (w *Workspace) NoteDraft(batch int) {
	_ = os.WriteFile(filepath.Join(w.Dir, lastDraft), []byte(strconv.Itoa(batch)+"\n"), 0o600)
}

// LastDraft returns the batch that NoteDraft remembered, and whether it remembered any.
func (w *Workspace) LastDraft() (batch int, known bool) {
	data, err := os.ReadFile(filepath.Join(w.Dir, lastDraft))
	if err != nil {
		return 0, false
	}
	batch, err = strconv.Atoi(strings.TrimSpace(string(data)))
	return batch, err == nil && batch >= 0
}
