package standin

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
)

// record is one stored resource. A record is never changed: a change puts
// another in its place, so that reading needs no lock while it writes.
type record struct {
	id       string
	body     map[string]any // without id, meta and schemas
	version  int
	created  time.Time
	modified time.Time
	visible  time.Time // from when reads show it
}

func (r *record) etag() string { return fmt.Sprintf(`W/"%d"`, r.version) }

// store keeps the resources of one type.
type store struct {
	kind   *resourceType
	mu     *sync.RWMutex // over all stores of a server: what is in one may depend on another
	log    *journal      // nil: the data are in memory alone
	byID   map[string]*record
	order  []string // of ids, as they were made; some may have been removed since
	gone   int      // how many of those
	keys   []uniqueKey
	unique map[string]map[string]string // attribute path → value → id
	next   int
	shown  time.Time // from when all of them are visible
}

func newStore(kind *resourceType, mu *sync.RWMutex, log *journal) *store {
	s := &store{kind: kind, mu: mu, log: log, keys: kind.uniqueKeys(), byID: map[string]*record{}, unique: map[string]map[string]string{}}
	for _, key := range s.keys {
		s.unique[key.path] = map[string]string{}
	}
	return s
}

type uniqueKey struct {
	path string
	at   place
}

func (t *resourceType) uniqueKeys() []uniqueKey {
	var keys []uniqueKey
	for _, part := range append([]*schema{t.schema}, t.extensions...) {
		for _, a := range part.attributes {
			if a.Uniqueness != "none" {
				at := place{attr: a}
				if part != t.schema {
					at.extension = part.id
				}
				keys = append(keys, uniqueKey{part.id + ":" + a.Name, at})
			}
		}
	}
	return keys
}

func (k uniqueKey) of(body map[string]any) string {
	values := valuesAt(body, k.at)
	if len(values) == 0 {
		return ""
	}
	text, _ := values[0].(string)
	if !k.at.attr.CaseExact {
		text = strings.ToLower(text)
	}
	return text
}

// put stores a body under id, or under a new id if it is empty.
func (s *store) put(id string, body map[string]any, now, visible time.Time) (*record, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.putLocked(id, body, now, visible)
}

func (s *store) putLocked(id string, body map[string]any, now, visible time.Time) (*record, error) {
	for _, k := range s.keys {
		if value := k.of(body); value != "" {
			if owner, taken := s.unique[k.path][value]; taken && owner != id {
				return nil, &problem{409, "uniqueness", fmt.Sprintf("%s %q is taken by the resource %s", k.at.attr.Name, k.of(body), owner)}
			}
		}
	}
	r := &record{id: id, body: body, version: 1, created: now, modified: now, visible: visible}
	old := s.byID[id]
	if old != nil {
		r.version, r.created, r.visible = old.version+1, old.created, old.visible
	} else if id == "" {
		r.id = fmt.Sprintf("%s-%06d", strings.ToLower(s.kind.name[:1]), s.next+1)
	}
	if err := s.log.note(entry{Endpoint: s.kind.endpoint, saved: r.saved()}); err != nil {
		return nil, err
	}
	s.keep(r, old)
	return r, nil
}

// keep puts a record in the place of an old one, if there is one.
func (s *store) keep(r, old *record) {
	if old != nil {
		s.forget(old)
	} else {
		s.order = append(s.order, r.id)
		var number int
		if _, err := fmt.Sscanf(r.id[strings.LastIndexByte(r.id, '-')+1:], "%d", &number); err == nil {
			s.next = max(s.next, number)
		}
	}
	s.byID[r.id] = r
	if r.visible.After(s.shown) {
		s.shown = r.visible
	}
	for _, k := range s.keys {
		if value := k.of(r.body); value != "" {
			s.unique[k.path][value] = r.id
		}
	}
}

func (s *store) forget(r *record) {
	for _, k := range s.keys {
		if value := k.of(r.body); value != "" {
			delete(s.unique[k.path], value)
		}
	}
}

// change replaces a record by what edit makes of it, as one step.
func (s *store) change(id, version string, now time.Time, edit func(body map[string]any) (map[string]any, error)) (*record, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	old := s.byID[id]
	if old == nil || old.visible.After(now) {
		return nil, notFound(id)
	}
	if version != "" && version != "*" && version != old.etag() {
		return nil, &problem{412, "", fmt.Sprintf("the resource is of version %s", old.etag())}
	}
	body, err := edit(old.body)
	if err != nil {
		return nil, err
	}
	if same(body, old.body) {
		return old, nil
	}
	return s.putLocked(id, body, now, old.visible)
}

func notFound(id string) error {
	return &problem{404, "", fmt.Sprintf("resource %s not found", id)}
}

func (s *store) get(id string, now time.Time) (*record, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if r := s.byID[id]; r != nil && !r.visible.After(now) {
		return r, nil
	}
	return nil, notFound(id)
}

func (s *store) remove(id, version string, now time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.byID[id]
	if r == nil || r.visible.After(now) {
		return notFound(id)
	}
	if version != "" && version != "*" && version != r.etag() {
		return &problem{412, "", fmt.Sprintf("the resource is of version %s", r.etag())}
	}
	if err := s.log.note(entry{Endpoint: s.kind.endpoint, Removed: true, saved: saved{ID: id}}); err != nil {
		return err
	}
	s.discard(r)
	return nil
}

func (s *store) discard(r *record) {
	s.forget(r)
	delete(s.byID, r.id)
	s.gone++
}

// tidy takes what was removed out of the order, all of it at once.
func (s *store) tidy() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.order = slices.DeleteFunc(s.order, func(id string) bool { return s.byID[id] == nil })
	s.gone = 0
}

// find returns the records that pass the filter, in the order they were made.
// A filter that only asks for values of a unique attribute is served from its
// index, as any server does.
func (s *store) find(f filter, now time.Time) []*record {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var found []*record
	if ids, ok := s.indexed(f); ok {
		slices.Sort(ids)
		for _, id := range slices.Compact(ids) {
			if r := s.byID[id]; !r.visible.After(now) {
				found = append(found, r)
			}
		}
		return found
	}
	for _, id := range s.order {
		r := s.byID[id]
		if r != nil && !r.visible.After(now) && (f == nil || f.match(r.whole())) {
			found = append(found, r)
		}
	}
	return found
}

// page returns some records of all, in the order they were made, and how many there are.
func (s *store) page(start, count int, now time.Time) (found []*record, total int) {
	s.mu.RLock()
	if s.gone > 0 {
		s.mu.RUnlock()
		s.tidy()
		s.mu.RLock()
	}
	if all := len(s.order); s.gone == 0 && !s.shown.After(now) {
		defer s.mu.RUnlock()
		for _, id := range s.order[min(start-1, all):min(start-1+count, all)] {
			found = append(found, s.byID[id])
		}
		return found, all
	}
	s.mu.RUnlock()
	found = s.find(nil, now)
	total = len(found)
	return found[min(start-1, total):min(start-1+count, total)], total
}

// whole is the body with what filters may ask for besides.
func (r *record) whole() map[string]any {
	whole := maps.Clone(r.body)
	whole["id"] = r.id
	whole["meta"] = map[string]any{"created": r.created.UTC().Format(time.RFC3339), "lastModified": r.modified.UTC().Format(time.RFC3339), "version": r.etag()}
	return whole
}

func (s *store) indexed(f filter) (ids []string, ok bool) {
	switch f := f.(type) {
	case either:
		left, okLeft := s.indexed(f.left)
		right, okRight := s.indexed(f.right)
		return append(left, right...), okLeft && okRight
	case compare:
		text, isText := f.value.(string)
		if f.op == "eq" && f.at.attr.Name == "id" && isText {
			if s.byID[text] != nil {
				ids = append(ids, text)
			}
			return ids, true
		}
		if f.op != "eq" || f.at.sub != nil || f.at.attr.Uniqueness == "none" || !isText {
			return nil, false
		}
		for _, k := range s.keys {
			if k.at.attr.Name == f.at.attr.Name && k.at.extension == f.at.extension {
				if !k.at.attr.CaseExact {
					text = strings.ToLower(text)
				}
				if id, found := s.unique[k.path][text]; found {
					ids = append(ids, id)
				}
				return ids, true
			}
		}
	}
	return nil, false
}
