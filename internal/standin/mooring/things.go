package mooring

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
)

// of returns the things of the kind in a request's address; known: there is such a kind.
func (s *Server) of(r *http.Request) (kind string, known bool) {
	kind = r.PathValue("kind")
	return kind, slices.Contains(kinds[:], kind)
}

func (s *Server) thing(r *http.Request) *thing {
	kind, _ := s.of(r)
	for _, t := range s.things[kind] {
		if t.ID == r.PathValue("thing") {
			return t
		}
	}
	return nil
}

func (s *Server) listThings(r *http.Request) (int, any) {
	kind, known := s.of(r)
	if !known {
		return missing("thing")
	}
	all := s.things[kind]
	if all == nil {
		all = []*thing{}
	}
	return http.StatusOK, map[string]any{"data": all}
}

func (s *Server) makeThing(r *http.Request) (int, any) {
	kind, known := s.of(r)
	if !known {
		return missing("thing")
	}
	var body struct {
		Title string `json:"title"`
		Seats *int   `json:"seats"`
	}
	if wrong := read(r, &body); wrong != nil {
		return 0, wrong
	}
	if body.Title == "" || slices.ContainsFunc(s.things[kind], func(t *thing) bool { return t.Title == body.Title }) {
		return 0, &problem{Title: "Taken", Status: http.StatusConflict, Detail: "there is one of that title, or it has none", Errors: []fault{{"/title", "it is taken, or blank"}}}
	}
	s.last++
	t := &thing{ID: kind[:2] + strconv.Itoa(s.last), Title: body.Title, Seats: body.Seats, hands: map[string]hand{}}
	s.things[kind] = append(s.things[kind], t)
	return http.StatusCreated, t
}

func (s *Server) removeThing(r *http.Request) (int, any) {
	t := s.thing(r)
	if t == nil {
		return missing("thing")
	}
	kind, _ := s.of(r)
	s.things[kind] = slices.DeleteFunc(s.things[kind], func(o *thing) bool { return o == t })
	return http.StatusNoContent, nil
}

func (s *Server) hands(r *http.Request) (int, any) {
	t := s.thing(r)
	if t == nil {
		return missing("thing")
	}
	all := []hand{}
	for _, id := range slices.Sorted(maps.Keys(t.hands)) {
		all = append(all, t.hands[id])
	}
	return http.StatusOK, map[string]any{"data": all}
}

func (s *Server) join(r *http.Request) (int, any) {
	t, p := s.thing(r), s.by[r.PathValue("person")]
	if t == nil || p == nil {
		return missing("thing or person")
	}
	body := hand{}
	if r.ContentLength != 0 {
		if wrong := read(r, &body); wrong != nil {
			return 0, wrong
		}
	}
	if kind, _ := s.of(r); kind == "trainings" && !slices.ContainsFunc(ranks(), func(rank map[string]string) bool { return rank["key"] == body.Rank }) {
		return 0, &problem{Title: "That cannot be", Status: http.StatusUnprocessableEntity, Detail: fmt.Sprintf("there is no rank %q", body.Rank), Errors: []fault{{"/rank", "there is none such"}}}
	}
	if _, has := t.hands[p.ID]; !has && t.Seats != nil && len(t.hands) >= *t.Seats {
		return http.StatusConflict, &problem{Title: "Full", Detail: "no seat is left in " + t.Title}
	}
	body.Person = p.ID
	t.hands[p.ID] = body
	return http.StatusNoContent, nil
}

func (s *Server) leave(r *http.Request) (int, any) {
	t := s.thing(r)
	if t == nil {
		return missing("thing")
	}
	if _, has := t.hands[r.PathValue("person")]; !has {
		return missing("hand")
	}
	delete(t.hands, r.PathValue("person"))
	return http.StatusNoContent, nil
}

// Add puts somebody in as if they had been there before.
func (s *Server) Add(login, staffNo, first, last, mail, title, team string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	d := &draft{person: person{Login: login, StaffNo: staffNo, Name: name{First: first, Last: last}, Contacts: []contact{{Kind: "mail", Value: mail}}, Identities: []identity{}, Post: &post{Title: title, Team: team}}}
	p, wrong := s.take(d)
	if wrong != nil {
		return fmt.Errorf("%s: %s", login, wrong.Detail)
	}
	p.Created = p.Created.Add(-s.options.Unseen)
	return nil
}

// AddThing puts a thing in; seats below 0: any number.
func (s *Server) AddThing(kind, title string, seats int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.last++
	t := &thing{ID: kind[:2] + strconv.Itoa(s.last), Title: title, hands: map[string]hand{}}
	if seats >= 0 {
		t.Seats = &seats
	}
	s.things[kind] = append(s.things[kind], t)
}

// schema is a person's (JSON Schema draft 2020-12).
const schema = `{"type":"object","required":["login"],"properties":{
 "id":{"type":"string","readOnly":true},"login":{"type":"string","maxLength":120,"description":"What somebody signs in with"},"staff_no":{"type":"string"},
 "name":{"type":"object","properties":{"first":{"type":"string"},"last":{"type":"string"},"shown":{"type":"string"}}},
 "contacts":{"type":"array","items":{"type":"object","properties":{"kind":{"enum":["mail","phone"]},"value":{"type":"string"},"note":{"type":"string"}}}},
 "identities":{"type":"array","items":{"type":"object","properties":{"issuer":{"type":"string"},"subject":{"type":"string"}}}},
 "state":{"type":"string","enum":["live","halted"]},"post":{"type":"object","properties":{"title":{"type":"string"},"team":{"type":"string"}}},
 "boss":{"type":"string"},"shoe":{"type":"integer","description":"Size of safety shoes"},"rev":{"type":"integer","readOnly":true},"created_at":{"type":"string","format":"date-time","readOnly":true}}}`

// page says what the interface is like, for who opens it in a browser.
const page = `<!doctype html><meta charset="utf-8"><title>Mooring</title>
<h1>Mooring</h1><p>A practice application. Its interface:</p><pre>
GET    /api/people?limit=100&amp;after=CURSOR     {"data": [PERSON], "meta": {"total": N, "after": CURSOR}}
GET    /api/people?login=ana&amp;login=tom        by login or staff_no, one or several
GET    /api/people/ID                         PERSON, with an ETag
POST   /api/people                            a PERSON, with "secret" and "allow_weak" if you like; Idempotency-Key
POST   /api/batches                           {"people": [PERSON]}, at most 50: {"results": [{"code": 201, "person": PERSON}]}
PATCH  /api/people/ID                         what changes (RFC 7396); If-Match
POST   /api/people/ID/halt, /wake             nobody signs in as them, or they do again
PUT    /api/people/ID/secret                  {"secret": …, "allow_weak": true}
DELETE /api/people/ID
GET    /api/crews, /trainings, /charts        {"data": [{"id": …, "title": …, "seats": N}]}; POST {"title": …}; DELETE /ID
GET    /api/crews/ID/hands                    {"data": [{"person": ID, "rank": …, "watch": …}]}; PUT and DELETE /PERSON
GET    /api/ranks, /api/schema
PERSON {"id", "login", "staff_no", "name": {"first", "last", "shown"}, "contacts": [{"kind": "mail", "value"}],
        "identities": [{"issuer", "subject"}], "state": "live", "post": {"title", "team"}, "boss", "shoe", "rev", "created_at"}
</pre>`
