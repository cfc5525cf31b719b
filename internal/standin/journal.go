package standin

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
)

// Data that are kept are in a file as of when the stand-in was last started or ended, and
// in a journal beside it with what was changed since, a line each. A change is in the
// journal before it is answered, so that nothing that was acknowledged is lost and no
// identifier is given twice, however the stand-in ends.

// saved is a resource as the files have it.
type saved struct {
	ID       string         `json:"id"`
	Version  int            `json:"version,omitempty"`
	Created  time.Time      `json:"created"`
	Modified time.Time      `json:"modified"`
	Body     map[string]any `json:"resource,omitempty"`
}

func (r *record) saved() saved { return saved{r.id, r.version, r.created, r.modified, r.body} }

// entry is a line of the journal.
type entry struct {
	Endpoint string `json:"endpoint"`
	Removed  bool   `json:"removed,omitempty"`
	saved
}

// A journal takes changes down. The nil journal takes none.
type journal struct {
	path string
	file *os.File
	lock *flock.Flock
}

// openJournal opens the journal of a data file, for one stand-in alone.
func openJournal(data string) (*journal, error) {
	j := &journal{path: data + ".journal", lock: flock.New(data+".lock", flock.SetPermissions(0o600))}
	mine, err := j.lock.TryLock()
	if err != nil {
		return nil, err
	}
	if !mine {
		return nil, fmt.Errorf("another stand-in has its data in %s", data)
	}
	j.file, err = os.OpenFile(j.path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	return j, err
}

// note writes a change down.
func (j *journal) note(e entry) error {
	if j == nil || j.file == nil {
		return nil
	}
	line, err := json.Marshal(e)
	if err == nil {
		_, err = j.file.Write(append(line, '\n'))
	}
	if err != nil {
		return fmt.Errorf("the data cannot be kept: %w", err)
	}
	return nil
}

// replay carries out what the journal says. A line that was cut short was never answered.
func (j *journal) replay(stores []*store) error {
	data, err := os.ReadFile(j.path)
	if err != nil {
		return err
	}
	lines := bufio.NewReader(bytes.NewReader(data))
	for n := 1; ; n++ {
		line, err := lines.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return nil
		}
		var e entry
		if err := decode(line, &e); err != nil {
			return fmt.Errorf("%s, line %d: %w", j.path, n, err)
		}
		for _, s := range stores {
			if s.kind.endpoint != e.Endpoint {
				continue
			}
			old := s.byID[e.ID]
			switch {
			case !e.Removed:
				s.keep(e.record(), old)
			case old != nil:
				s.discard(old)
			}
		}
	}
}

func (s saved) record() *record {
	return &record{id: s.ID, body: s.Body, version: s.Version, created: s.Created, modified: s.Modified}
}

func decode(data []byte, into any) error {
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	return decoder.Decode(into)
}

// snapshot is the data file: resources by endpoint, and beside them the last numbers that
// were given.
type snapshot map[string]json.RawMessage

const numbers = "lastNumbers"

// save writes all stores into the data file, whole or not at all, and empties the journal.
func (s *Server) save() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	all, given := map[string]any{}, map[string]int{}
	for _, st := range s.stores {
		list := make([]saved, 0, len(st.byID))
		for _, id := range st.order {
			if r := st.byID[id]; r != nil {
				list = append(list, r.saved())
			}
		}
		all[st.kind.endpoint], given[st.kind.endpoint] = list, st.next
	}
	all[numbers] = given
	data, err := json.MarshalIndent(all, "", " ")
	if err != nil {
		return err
	}
	file, err := os.CreateTemp(filepath.Dir(s.options.Data), ".standin-*")
	if err != nil {
		return err
	}
	if _, err = file.Write(data); err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Rename(file.Name(), s.options.Data)
	}
	if err != nil {
		return errors.Join(err, os.Remove(file.Name()))
	}
	return s.log.file.Truncate(0) // what is in it is in the data file by now
}

// load reads the data file and what was changed since.
func (s *Server) load() error {
	data, err := os.ReadFile(s.options.Data)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	all := snapshot{}
	if err == nil {
		if err := decode(data, &all); err != nil {
			return fmt.Errorf("%s is not a stand-in's data: %w", s.options.Data, err)
		}
	}
	given := map[string]int{}
	if text, told := all[numbers]; told {
		if err := decode(text, &given); err != nil {
			return fmt.Errorf("%s: %w", s.options.Data, err)
		}
	}
	for _, st := range s.stores {
		var list []saved
		if text, told := all[st.kind.endpoint]; told {
			if err := decode(text, &list); err != nil {
				return fmt.Errorf("%s: %w", s.options.Data, err)
			}
		}
		for _, item := range list {
			st.keep(item.record(), st.byID[item.ID])
		}
		st.next = max(st.next, given[st.kind.endpoint])
	}
	if s.log, err = openJournal(s.options.Data); err != nil {
		return err
	}
	if err := s.log.replay(s.stores); err != nil {
		return err
	}
	for _, st := range s.stores {
		st.log = s.log
	}
	return s.save()
}
