// Package mooring is a practice application with a web interface of its own: JSON over HTTP, of no standard.
//
// It is built by what its own page says (GET /), not by what any program sends, and is strict about what it gets:
// an unknown member, a value of another kind, a weak password that nobody asked to let through are refused, as
// problems of RFC 9457. It lists by cursor, gives people identities and contacts in lists, carries long work out
// as jobs where it is told to, and may take seconds before it shows what it made.
package mooring

import (
	"bytes"
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"
)

// Options say what the practice application is like.
type Options struct {
	Token  string           // that clients must bear
	Client string           // with Secret: who may get tokens, each good for Uses requests, instead of Token
	Secret string           //
	Uses   int              // 0: any number
	Page   int              // most people in an answer; 0: 100
	Delay  time.Duration    // before each answer
	Unseen time.Duration    // how long a new person is not shown
	Jobs   time.Duration    // people are made by jobs, which take so long; 0: at once
	Drop   func(n int) bool // whether the answer to the nth change is lost, after it was carried out; nil: none is
	Now    func() time.Time // nil: the clock
}

// A Person is one of its people.
type person struct {
	ID         string          `json:"id"`
	Login      string          `json:"login"`
	StaffNo    string          `json:"staff_no,omitempty"`
	Name       name            `json:"name"`
	Contacts   []contact       `json:"contacts"`
	Identities []identity      `json:"identities"`
	State      string          `json:"state"`
	Post       *post           `json:"post,omitempty"`
	Boss       string          `json:"boss,omitempty"`
	Shoe       json.Number     `json:"shoe,omitempty"`
	Extra      json.RawMessage `json:"extra,omitempty"`
	Rev        int             `json:"rev"`
	Created    time.Time       `json:"created_at"`
	secret     string
}

type name struct {
	First string `json:"first,omitempty"`
	Last  string `json:"last,omitempty"`
	Shown string `json:"shown,omitempty"`
}

type post struct {
	Title string `json:"title,omitempty"`
	Team  string `json:"team,omitempty"`
}

type contact struct {
	Kind  string `json:"kind"`
	Value string `json:"value"`
	Note  string `json:"note,omitempty"`
}

type identity struct {
	Issuer  string `json:"issuer"`
	Subject string `json:"subject"`
}

// A thing is a crew, a training or a chart.
type thing struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	Seats *int   `json:"seats,omitempty"`
	hands map[string]hand
}

// A hand is a member of a thing.
type hand struct {
	Person string `json:"person"`
	Rank   string `json:"rank,omitempty"`
	Watch  string `json:"watch,omitempty"`
}

type job struct {
	State  string  `json:"state"`
	Person *person `json:"person,omitempty"`
	Reason string  `json:"reason,omitempty"`
	Status int     `json:"status,omitempty"`
	ready  time.Time
	ends   func() (*person, *problem)
}

// A problem is an error (RFC 9457).
type problem struct {
	Type   string  `json:"type"`
	Title  string  `json:"title"`
	Status int     `json:"status"`
	Detail string  `json:"detail"`
	Errors []fault `json:"errors,omitempty"`
}

type fault struct {
	Pointer string `json:"pointer"`
	Detail  string `json:"detail"`
}

// kinds are the things that there are, by the name in their addresses.
var kinds = [...]string{"crews", "trainings", "charts"}

// ranks are the roles that somebody may have in a training.
func ranks() []map[string]string {
	return []map[string]string{{"key": "71", "label": "learner"}, {"key": "72", "label": "teacher"}}
}

// A Server is the practice application. It is an http.Handler.
type Server struct {
	options Options
	mux     *http.ServeMux

	mu      sync.Mutex
	last    int
	people  []*person
	by      map[string]*person // by identifier
	logins  map[string]*person
	numbers map[string]*person
	things  map[string][]*thing
	jobs    map[string]*job
	keys    map[string]*person // by Idempotency-Key
	tokens  map[string]int     // uses that are left
	changes int
}

// New makes a server.
func New(options Options) *Server {
	if options.Page == 0 {
		options.Page = 100
	}
	if options.Now == nil {
		options.Now = time.Now
	}
	s := &Server{options: options, mux: http.NewServeMux(), by: map[string]*person{}, logins: map[string]*person{}, numbers: map[string]*person{}, things: map[string][]*thing{}, jobs: map[string]*job{}, keys: map[string]*person{}, tokens: map[string]int{}}
	s.mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, page) })
	s.mux.HandleFunc("POST /token", s.token)
	for pattern, do := range map[string]func(*http.Request) (int, any){
		"GET /api/people": s.list, "POST /api/people": s.create, "GET /api/people/{id}": s.one, "PATCH /api/people/{id}": s.change, "DELETE /api/people/{id}": s.remove,
		"POST /api/people/{id}/halt": s.state("halted"), "POST /api/people/{id}/wake": s.state("live"), "PUT /api/people/{id}/secret": s.newSecret, "POST /api/batches": s.together,
		"GET /api/jobs/{id}": s.job, "GET /api/ranks": func(*http.Request) (int, any) { return http.StatusOK, map[string]any{"data": ranks()} }, "GET /api/schema": func(*http.Request) (int, any) { return http.StatusOK, json.RawMessage(schema) },
		"GET /api/{kind}": s.listThings, "POST /api/{kind}": s.makeThing, "DELETE /api/{kind}/{thing}": s.removeThing,
		"GET /api/{kind}/{thing}/hands": s.hands, "PUT /api/{kind}/{thing}/hands/{person}": s.join, "DELETE /api/{kind}/{thing}/hands/{person}": s.leave,
	} {
		s.mux.HandleFunc(pattern, s.guarded(do))
	}
	return s
}

// ServeHTTP implements http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.mux.ServeHTTP(w, r) }

// guarded has a request be answered only to who may.
func (s *Server) guarded(do func(*http.Request) (int, any)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(s.options.Delay)
		s.mu.Lock()
		defer s.mu.Unlock()
		status, answer := http.StatusUnauthorized, any(&problem{Title: "Who are you?", Detail: "the token is none of ours, or has run out"})
		if s.knows(strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")) {
			for _, j := range s.jobs {
				s.end(j)
			}
			status, answer = do(r)
		}
		if r.Method != http.MethodGet && status < 300 {
			if s.changes++; s.options.Drop != nil && s.options.Drop(s.changes) {
				panic(http.ErrAbortHandler)
			}
		}
		if p, is := answer.(*problem); is {
			if p.Status != 0 {
				status = p.Status
			}
			p.Status = status
			p.Type = "about:blank"
			w.Header().Set("Content-Type", "application/problem+json")
		} else {
			w.Header().Set("Content-Type", "application/json")
		}
		if p, is := answer.(*person); is {
			w.Header().Set("ETag", fmt.Sprintf("%q", strconv.Itoa(p.Rev)))
		}
		if j, is := answer.(*job); is && status == http.StatusAccepted {
			for id, of := range s.jobs {
				if of == j {
					w.Header().Set("Location", "/api/jobs/"+id)
				}
			}
		}
		w.WriteHeader(status)
		if answer != nil {
			_ = json.NewEncoder(w).Encode(answer)
		}
	}
}

func (s *Server) knows(token string) bool {
	if s.options.Client == "" {
		return subtle.ConstantTimeCompare([]byte(token), []byte(s.options.Token)) == 1
	}
	left, has := s.tokens[token]
	if !has || left == 0 {
		return false
	}
	s.tokens[token] = left - 1
	return true
}

// token gives tokens (RFC 6749 section 4.4).
func (s *Server) token(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	user, secret, _ := r.BasicAuth()
	w.Header().Set("Content-Type", "application/json")
	if s.options.Client == "" || user != s.options.Client || subtle.ConstantTimeCompare([]byte(secret), []byte(s.options.Secret)) != 1 || r.FormValue("grant_type") != "client_credentials" {
		w.WriteHeader(http.StatusUnauthorized)
		fmt.Fprint(w, `{"error":"invalid_client"}`)
		return
	}
	token := fmt.Sprintf("pass-%d-%d", len(s.tokens)+1, s.options.Now().UnixNano())
	uses := s.options.Uses
	if uses == 0 {
		uses = -1
	}
	s.tokens[token] = uses
	fmt.Fprintf(w, `{"access_token":%q,"token_type":"bearer"}`, token)
}

// read reads a body strictly.
func read(r *http.Request, into any) *problem {
	decoder := json.NewDecoder(http.MaxBytesReader(nil, r.Body, 1<<20))
	decoder.DisallowUnknownFields()
	decoder.UseNumber()
	if err := decoder.Decode(into); err != nil {
		return &problem{Title: "We cannot read this", Status: http.StatusBadRequest, Detail: err.Error()}
	}
	return nil
}

func missing(what string) (int, any) {
	return http.StatusNotFound, &problem{Title: "Not here", Detail: "there is no such " + what}
}

// shown reports whether a person is shown by now.
func (s *Server) shown(p *person) bool { return s.options.Now().Sub(p.Created) >= s.options.Unseen }

func (s *Server) list(r *http.Request) (int, any) {
	query := r.URL.Query()
	wanted := map[string]bool{}
	for _, param := range []string{"login", "staff_no"} {
		for _, value := range query[param] {
			wanted[param+strings.ToLower(value)] = true
		}
	}
	limit, err := strconv.Atoi(query.Get("limit"))
	if err != nil || limit < 1 || limit > s.options.Page {
		limit = s.options.Page
	}
	after, _ := strconv.Atoi(query.Get("after"))
	data, end := []*person{}, ""
	total := 0
	for i, p := range s.people {
		if p == nil || !s.shown(p) {
			continue
		}
		total++
		if len(wanted) > 0 && !wanted["login"+strings.ToLower(p.Login)] && !wanted["staff_no"+strings.ToLower(p.StaffNo)] {
			continue
		}
		if i < after {
			continue
		}
		if len(data) == limit {
			if end == "" {
				end = strconv.Itoa(i)
			}
			continue
		}
		data = append(data, p)
	}
	meta := map[string]any{}
	if len(wanted) == 0 {
		meta["total"] = total
	}
	if end != "" {
		meta["after"] = end
	}
	return http.StatusOK, map[string]any{"data": data, "meta": meta}
}

func (s *Server) find(r *http.Request) *person {
	if p := s.by[r.PathValue("id")]; p != nil && s.shown(p) {
		return p
	}
	return nil
}

func (s *Server) one(r *http.Request) (int, any) {
	if p := s.find(r); p != nil {
		return http.StatusOK, p
	}
	return missing("person")
}

// A draft is a person as it is sent.
type draft struct {
	person
	Secret    string `json:"secret"`
	AllowWeak bool   `json:"allow_weak"`
}

// take makes a person of a draft.
func (s *Server) take(d *draft) (*person, *problem) {
	p := d.person
	p.ID, p.Rev, p.Created = "", 1, s.options.Now()
	if p.State == "" {
		p.State = "live"
	}
	if wrong := s.check(&p, nil); wrong != nil {
		return nil, wrong
	}
	if d.Secret != "" {
		if wrong := checkSecret(d.Secret, d.AllowWeak); wrong != nil {
			return nil, wrong
		}
		p.secret = d.Secret
	}
	s.last++
	p.ID = strconv.Itoa(90071992547409930 + s.last) // beyond what a float holds
	s.people = append(s.people, &p)
	s.by[p.ID] = &p
	s.index(&p)
	return &p, nil
}

func (s *Server) index(p *person) {
	s.logins[strings.ToLower(p.Login)] = p
	if p.StaffNo != "" {
		s.numbers[strings.ToLower(p.StaffNo)] = p
	}
}

func (s *Server) unindex(p *person) {
	delete(s.logins, strings.ToLower(p.Login))
	delete(s.numbers, strings.ToLower(p.StaffNo))
}

// check sees that a person is as it may be; was is the one that it is to be, nil for a new one.
func (s *Server) check(p, was *person) *problem {
	var faults []fault
	add := func(pointer, detail string) { faults = append(faults, fault{pointer, detail}) }
	if p.Login == "" || strings.IndexFunc(p.Login, unicode.IsControl) >= 0 || len(p.Login) > 120 {
		add("/login", "a login has 1 to 120 characters")
	}
	if p.State != "live" && p.State != "halted" {
		add("/state", "it is live or halted")
	}
	if p.Boss != "" && s.by[p.Boss] == nil {
		add("/boss", "there is no person "+p.Boss)
	}
	mails := 0
	for i, c := range p.Contacts {
		if c.Kind != "mail" && c.Kind != "phone" {
			add(fmt.Sprintf("/contacts/%d/kind", i), "it is mail or phone")
		}
		if c.Kind == "mail" {
			if mails++; !strings.Contains(c.Value, "@") {
				add(fmt.Sprintf("/contacts/%d/value", i), "it is no address")
			}
		}
	}
	if p.Shoe != "" {
		if _, err := p.Shoe.Int64(); err != nil {
			add("/shoe", "it is a whole number")
		}
	}
	if faults != nil {
		return &problem{Title: "That cannot be", Status: http.StatusUnprocessableEntity, Detail: faults[0].Detail, Errors: faults}
	}
	if other := s.logins[strings.ToLower(p.Login)]; other != nil && other != was {
		add("/login", "another person has the login "+p.Login)
	}
	if other := s.numbers[strings.ToLower(p.StaffNo)]; p.StaffNo != "" && other != nil && other != was {
		add("/staff_no", "another person has the number "+p.StaffNo)
	}
	if faults != nil {
		return &problem{Title: "Taken", Status: http.StatusConflict, Detail: faults[0].Detail, Errors: faults}
	}
	return nil
}

func checkSecret(secret string, weak bool) *problem {
	if len(secret) >= 10 && strings.IndexFunc(secret, unicode.IsDigit) >= 0 && strings.IndexFunc(secret, unicode.IsLetter) >= 0 || weak {
		return nil
	}
	return &problem{Title: "Weak", Status: http.StatusUnprocessableEntity, Detail: "a secret has 10 characters, a digit and a letter, unless allow_weak is true", Errors: []fault{{"/secret", "it is weak"}}}
}

func (s *Server) create(r *http.Request) (int, any) {
	d := &draft{}
	if wrong := read(r, d); wrong != nil {
		return 0, wrong
	}
	key := r.Header.Get("Idempotency-Key")
	if p := s.keys[key]; key != "" && p != nil {
		return http.StatusCreated, p
	}
	end := func() (*person, *problem) {
		p, wrong := s.take(d)
		if wrong == nil && key != "" {
			s.keys[key] = p
		}
		return p, wrong
	}
	if s.options.Jobs > 0 {
		j := &job{State: "waiting", ready: s.options.Now().Add(s.options.Jobs), ends: end}
		s.jobs[strconv.Itoa(len(s.jobs)+1)] = j
		return http.StatusAccepted, j
	}
	p, wrong := end()
	if wrong != nil {
		return 0, wrong
	}
	return http.StatusCreated, p
}

func (s *Server) job(r *http.Request) (int, any) {
	j := s.jobs[r.PathValue("id")]
	if j == nil {
		return missing("job")
	}
	return http.StatusOK, j
}

// end does a job whose time has come.
func (s *Server) end(j *job) {
	if j.ends == nil || s.options.Now().Before(j.ready) {
		return
	}
	p, wrong := j.ends()
	j.ends = nil
	if j.State, j.Person = "done", p; wrong != nil {
		j.State, j.Reason, j.Status = "failed", wrong.Detail, wrong.Status
	}
}

// together makes several people, each with its own result.
func (s *Server) together(r *http.Request) (int, any) {
	var body struct {
		People []json.RawMessage `json:"people"`
	}
	if wrong := read(r, &body); wrong != nil {
		return 0, wrong
	}
	if len(body.People) > 50 {
		return 0, &problem{Title: "Too many", Status: http.StatusRequestEntityTooLarge, Detail: "at most 50 at once"}
	}
	results := []any{}
	for _, one := range body.People {
		d, status := &draft{}, http.StatusCreated
		decoder := json.NewDecoder(bytes.NewReader(one))
		decoder.UseNumber()
		decoder.DisallowUnknownFields()
		var p *person
		var wrong *problem
		if err := decoder.Decode(d); err != nil {
			wrong = &problem{Title: "We cannot read this", Status: http.StatusBadRequest, Detail: err.Error()}
		} else {
			p, wrong = s.take(d)
		}
		if wrong != nil {
			status = wrong.Status
			results = append(results, map[string]any{"code": status, "detail": wrong.Detail, "errors": wrong.Errors})
			continue
		}
		results = append(results, map[string]any{"code": status, "person": p})
	}
	return http.StatusOK, map[string]any{"results": results}
}

// change changes a person as RFC 7396 has it.
func (s *Server) change(r *http.Request) (int, any) {
	p := s.find(r)
	if p == nil {
		return missing("person")
	}
	if want := r.Header.Get("If-Match"); want != "" && want != fmt.Sprintf("%q", strconv.Itoa(p.Rev)) {
		return http.StatusPreconditionFailed, &problem{Title: "Changed", Detail: "it is of another version by now"}
	}
	var patch map[string]any
	if wrong := read(r, &patch); wrong != nil {
		return 0, wrong
	}
	for name := range patch {
		if slices.Contains([]string{"id", "rev", "created_at", "state"}, name) {
			return 0, &problem{Title: "That cannot be", Status: http.StatusUnprocessableEntity, Detail: name + " is not changed like this", Errors: []fault{{"/" + name, "it is not changed like this"}}}
		}
	}
	data, _ := json.Marshal(p)
	var whole map[string]any
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	_ = decoder.Decode(&whole)
	merge(whole, patch)
	data, _ = json.Marshal(whole)
	next := &person{}
	decoder = json.NewDecoder(bytes.NewReader(data))
	decoder.DisallowUnknownFields()
	decoder.UseNumber()
	if err := decoder.Decode(next); err != nil {
		return 0, &problem{Title: "We cannot read this", Status: http.StatusBadRequest, Detail: err.Error()}
	}
	if wrong := s.check(next, p); wrong != nil {
		return 0, wrong
	}
	s.unindex(p)
	next.secret = p.secret
	next.Rev++
	*p = *next
	s.index(p)
	return http.StatusOK, p
}

func merge(whole, patch map[string]any) {
	for name, value := range patch {
		object, is := value.(map[string]any)
		was, has := whole[name].(map[string]any)
		switch {
		case value == nil:
			delete(whole, name)
		case is && has:
			merge(was, object)
		case is:
			was = map[string]any{}
			merge(was, object)
			whole[name] = was
		default:
			whole[name] = value
		}
	}
}

func (s *Server) state(to string) func(*http.Request) (int, any) {
	return func(r *http.Request) (int, any) {
		p := s.find(r)
		if p == nil {
			return missing("person")
		}
		if p.State != to {
			p.State = to
			p.Rev++
		}
		return http.StatusNoContent, nil
	}
}

func (s *Server) newSecret(r *http.Request) (int, any) {
	p := s.find(r)
	if p == nil {
		return missing("person")
	}
	var body struct {
		Secret    string `json:"secret"`
		AllowWeak bool   `json:"allow_weak"`
	}
	if wrong := read(r, &body); wrong != nil {
		return 0, wrong
	}
	if wrong := checkSecret(body.Secret, body.AllowWeak); wrong != nil {
		return 0, wrong
	}
	p.secret = body.Secret
	return http.StatusNoContent, nil
}

func (s *Server) remove(r *http.Request) (int, any) {
	p := s.find(r)
	if p == nil {
		return missing("person")
	}
	s.unindex(p)
	delete(s.by, p.ID)
	s.people[slices.Index(s.people, p)] = nil // so that those behind it keep their places
	for _, all := range s.things {
		for _, t := range all {
			delete(t.hands, p.ID)
		}
	}
	for _, other := range s.people {
		if other != nil && other.Boss == p.ID {
			other.Boss = ""
		}
	}
	return http.StatusNoContent, nil
}

// Password reports whether a person's secret is this.
func (s *Server) Password(login, secret string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.logins[strings.ToLower(login)]
	return p != nil && p.secret == secret
}

// Login is what the server knows of a person, as JSON; empty: nobody has the login.
func (s *Server) Login(login string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	data, _ := json.Marshal(s.logins[strings.ToLower(login)])
	return strings.TrimPrefix(string(data), "null")
}

// Logins are those of all its people, and of those in a crew.
func (s *Server) Logins(crew string) (all []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.people {
		if p == nil {
			continue
		}
		in := crew == ""
		for _, list := range s.things {
			for _, t := range list {
				_, has := t.hands[p.ID]
				in = in || t.Title == crew && has
			}
		}
		if in {
			all = append(all, p.Login)
		}
	}
	return all
}
