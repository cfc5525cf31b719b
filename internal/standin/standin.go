// Package standin is a practice application: a SCIM 2.0 service provider on
// loopback, in memory or in one file, for trying things out and for tests.
//
// It is built from RFC 7643 and RFC 7644, not from what any client sends: it
// serves discovery, users, groups, courses, licences, roles and units with filtering, paging, projection, sorting,
// PUT, PATCH, DELETE, entity tags and errors, and is strict about what it gets.
// It leaves out /Me, and says so as the RFC has it. Troubles of real
// servers can be switched on.
package standin

import (
	"bytes"
	"cmp"
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Options say what a stand-in is like.
type Options struct {
	Token    string                                  // that clients must bear
	Data     string                                  // file to keep the data in; empty: memory only
	Page     int                                     // most resources in an answer; 0: 200
	Bulk     int                                     // operations in one bulk request; 0: bulk is not served
	NoPatch  bool                                    // PATCH is not served
	NoETag   bool                                    // versions are not kept
	NoFilter bool                                    // filters are not served
	Faults   Faults                                  // troubles
	Now      func() time.Time                        // nil: the clock
	Count    func(method, target string, status int) // told of each request; may be nil
}

const (
	mediaType = "application/scim+json"
	maxBody   = 1 << 20
)

// Path is where it is on its server.
const Path = "/scim/v2"

// A Server is a practice application. It is an http.Handler.
type Server struct {
	options Options
	types   []*resourceType
	stores  []*store
	mu      sync.RWMutex // over the stores
	log     *journal     // nil: the data are in memory alone
	dice    *dice
}

// New makes a server and reads its data.
func New(options Options) (*Server, error) {
	if options.Page == 0 {
		options.Page = 200
	}
	if options.Now == nil {
		options.Now = time.Now
	}
	s := &Server{options: options, types: newTypes(), dice: &dice{faults: options.Faults, seen: map[uint64]int{}}}
	for _, kind := range s.types {
		s.stores = append(s.stores, newStore(kind, &s.mu, nil))
	}
	if options.Data != "" {
		if err := s.load(); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// Add puts a resource in as if it had been made before: a user, or a group if it
// says so in its schemas.
func (s *Server) Add(body map[string]any) error {
	data, err := json.Marshal(body)
	if err != nil {
		return err
	}
	parsed, err := decodeObject(data)
	if err != nil {
		return err
	}
	kind := 0
	for i, t := range s.types {
		if schemas, ok := parsed["schemas"].([]any); ok && len(schemas) > 0 && schemas[0] == t.schema.id {
			kind = i
		}
	}
	accepted, err := s.types[kind].accept(parsed)
	if err != nil {
		return err
	}
	if err := s.allow(s.types[kind], nil, nil, accepted); err != nil {
		return err
	}
	_, err = s.stores[kind].put("", accepted, s.options.Now(), time.Time{})
	return err
}

// Serve serves a practice application on the listener until ctx is done. Requests on their way are let to end.
func Serve(ctx context.Context, listener net.Listener, handler http.Handler) error {
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		err := server.Shutdown(ending)
		if errors.Is(err, context.DeadlineExceeded) {
			err = server.Close()
		}
		return err
	}
}

// Save puts the data together in their file, if there is one. What was answered is kept
// without it, too.
func (s *Server) Save() error {
	if s.log == nil {
		return nil
	}
	return s.save()
}

// Close saves the data and leaves their file to others. Nothing may be asked of the server
// any more.
func (s *Server) Close() error {
	if s.log == nil {
		return nil
	}
	return errors.Join(s.save(), s.log.file.Close(), s.log.lock.Unlock())
}

// ServeHTTP implements http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	status := &statusWriter{ResponseWriter: w}
	if s.options.Count != nil {
		defer func() { s.options.Count(r.Method, r.URL.RequestURI(), status.status) }()
	}
	s.serve(status, r)
}

// statusWriter remembers the status; 0 means that the connection was cut.
type statusWriter struct {
	http.ResponseWriter
	status int
}

func (w *statusWriter) WriteHeader(status int) {
	w.status = status
	w.ResponseWriter.WriteHeader(status)
}

func (s *Server) serve(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		fail(w, &problem{413, "", "the body is larger than a megabyte"})
		return
	}
	time.Sleep(s.options.Faults.Delay)
	if !s.authorized(r) {
		w.Header().Set("WWW-Authenticate", `Bearer realm="standin"`)
		fail(w, &problem{401, "", "the bearer token is missing or wrong"})
		return
	}
	met := s.dice.throw(r.Method, r.URL.RequestURI(), body)
	if met == errorAfter || met == dropAfter {
		s.route(discard{http.Header{}}, r, body)
	}
	switch met {
	case busy:
		w.Header().Set("Retry-After", strconv.Itoa(int(s.options.Faults.RetryAfter.Seconds())))
		fail(w, &problem{429, "", "too many requests"})
	case errorBefore, errorAfter:
		fail(w, &problem{503, "", "busy with something else"})
	case dropBefore, dropAfter:
		panic(http.ErrAbortHandler)
	default:
		s.route(w, r, body)
	}
}

// discard takes an answer that will never arrive.
type discard struct{ header http.Header }

func (d discard) Header() http.Header         { return d.header }
func (d discard) Write(p []byte) (int, error) { return len(p), nil }
func (d discard) WriteHeader(int)             {}

func (s *Server) authorized(r *http.Request) bool {
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return ok && subtle.ConstantTimeCompare([]byte(token), []byte(s.options.Token)) == 1
}

func (s *Server) route(w http.ResponseWriter, r *http.Request, body []byte) {
	path, ok := strings.CutPrefix(r.URL.Path, Path)
	if !ok {
		fail(w, &problem{404, "", "the service is at " + Path})
		return
	}
	endpoint, id, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	if r.Method == http.MethodGet && s.discovery(w, r, endpoint, id) {
		return
	}
	if st := s.storeOf(endpoint); st != nil {
		s.resource(w, r, st, id, body)
		return
	}
	if endpoint == "Bulk" && r.Method == http.MethodPost && s.options.Bulk > 0 {
		s.bulk(w, r, body)
		return
	}
	if endpoint == "Me" || endpoint == "Bulk" {
		fail(w, &problem{501, "", endpoint + " is not served"})
		return
	}
	fail(w, &problem{404, "", "there is nothing at " + r.URL.Path})
}

// storeOf returns what an endpoint serves; nil: it serves none of them.
func (s *Server) storeOf(endpoint string) *store {
	for i, kind := range s.types {
		if kind.endpoint == "/"+endpoint {
			return s.stores[i]
		}
	}
	return nil
}

func (s *Server) resource(w http.ResponseWriter, r *http.Request, st *store, id string, body []byte) {
	switch {
	case r.Method == http.MethodGet && id == "":
		s.list(w, r, st, r.URL.Query().Get)
		return
	case r.Method == http.MethodPost && id == ".search":
		s.search(w, r, st, body)
		return
	}
	rec, status, err := s.carryOut(r, st, id, body)
	switch {
	case err != nil:
		fail(w, err)
		return
	case rec == nil, status == http.StatusNotModified:
		w.WriteHeader(status)
		return
	}
	s.head(w, r, st.kind, rec, status)
	answer(w, status, s.project(r, st.kind, rec, newProjection(st.kind, r.URL.Query().Get)))
}

// head sets the headers of an answer about a resource; nil: it is gone.
func (s *Server) head(w http.ResponseWriter, r *http.Request, kind *resourceType, rec *record, status int) {
	if rec != nil && !s.options.NoETag {
		w.Header().Set("ETag", rec.etag())
	}
	if status == http.StatusCreated {
		w.Header().Set("Location", location(r, kind, rec.id))
	}
}

// carryOut carries out a request about one resource, and returns how it is then; nil: it is gone.
func (s *Server) carryOut(r *http.Request, st *store, id string, body []byte) (rec *record, status int, err error) {
	now, version := s.options.Now(), r.Header.Get("If-Match")
	if s.options.NoETag {
		version = ""
	}
	switch {
	case r.Method == http.MethodGet:
		if rec, err = st.get(id, now); err == nil && r.Header.Get("If-None-Match") == rec.etag() && !s.options.NoETag {
			return rec, http.StatusNotModified, nil
		}
		return rec, http.StatusOK, err
	case r.Method == http.MethodPost && id == "":
		accepted, err := s.accept(st.kind, r, body)
		if err == nil {
			err = s.allow(st.kind, nil, nil, accepted)
		}
		if err == nil {
			rec, err = st.put("", accepted, now, now.Add(s.options.Faults.Unseen))
		}
		return rec, http.StatusCreated, err
	case r.Method == http.MethodPut && id != "", r.Method == http.MethodPatch && id != "" && !s.options.NoPatch:
		asked := s.replaces
		if r.Method == http.MethodPatch {
			asked = s.patches
		}
		becomes, err := asked(r, st, body)
		if err == nil {
			rec, err = st.change(id, version, now, becomes)
		}
		return rec, http.StatusOK, err
	case r.Method == http.MethodDelete && id != "":
		if err = st.remove(id, version, now); err == nil {
			s.drop(id)
		}
		return nil, http.StatusNoContent, err
	}
	return nil, 0, &problem{501, "", r.Method + " is not served here"}
}

// A becoming tells what a resource becomes of what it was.
type becoming func(old map[string]any) (map[string]any, error)

// replaces is what a PUT asks for.
func (s *Server) replaces(r *http.Request, st *store, body []byte) (becoming, error) {
	accepted, err := s.accept(st.kind, r, body)
	return func(old map[string]any) (map[string]any, error) {
		return accepted, errors.Join(st.kind.keptOnce(old, accepted), s.allow(st.kind, st, old, accepted))
	}, err
}

// patches is what a PATCH asks for.
func (s *Server) patches(r *http.Request, st *store, body []byte) (becoming, error) {
	operations, err := s.operations(r, body)
	return func(old map[string]any) (map[string]any, error) {
		now, err := st.kind.patch(old, operations)
		if err != nil {
			return nil, err
		}
		return now, s.allow(st.kind, st, old, now)
	}, err
}

// keptOnce refuses a PUT that changes what can be set only once.
func (t *resourceType) keptOnce(old, accepted map[string]any) error {
	for _, part := range append([]*schema{t.schema}, t.extensions...) {
		was, is := old, accepted
		if part != t.schema {
			was, _ = old[part.id].(map[string]any)
			is, _ = accepted[part.id].(map[string]any)
		}
		for _, a := range part.attributes {
			if a.Mutability == "immutable" && was[a.Name] != nil && !same(was[a.Name], is[a.Name]) {
				return &problem{400, "mutability", a.Name + " can be set only once"}
			}
		}
	}
	return nil
}

func decodeObject(data []byte) (map[string]any, error) {
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	var body map[string]any
	if err := decoder.Decode(&body); err != nil || body == nil {
		return nil, &problem{400, "invalidSyntax", "the body is not a JSON object"}
	}
	if decoder.More() {
		return nil, &problem{400, "invalidSyntax", "something follows the JSON object"}
	}
	return body, nil
}

func (s *Server) body(r *http.Request, data []byte) (map[string]any, error) {
	kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";")
	if kind != mediaType && kind != "application/json" {
		return nil, &problem{415, "", "the body must be " + mediaType}
	}
	return decodeObject(data)
}

func (s *Server) accept(kind *resourceType, r *http.Request, data []byte) (map[string]any, error) {
	body, err := s.body(r, data)
	if err != nil {
		return nil, err
	}
	return kind.accept(body)
}

func (s *Server) operations(r *http.Request, data []byte) ([]operation, error) {
	body, err := s.body(r, data)
	if err != nil {
		return nil, err
	}
	schemas, err := declared(body)
	if err != nil {
		return nil, err
	}
	if !containsFold(schemas, patchMessage) {
		return nil, &problem{400, "invalidSyntax", "schemas must name " + patchMessage}
	}
	list, _ := body["Operations"].([]any)
	if len(list) == 0 {
		return nil, &problem{400, "invalidSyntax", "Operations is missing"}
	}
	var out []operation
	for _, item := range list {
		entry, ok := item.(map[string]any)
		if !ok {
			return nil, &problem{400, "invalidSyntax", "an operation is not an object"}
		}
		op, _ := entry["op"].(string)
		path, _ := entry["path"].(string)
		value, has := entry["value"]
		out = append(out, operation{strings.ToLower(op), path, value, has})
	}
	return out, nil
}

// search serves POST .search (RFC 7644 section 3.4.3).
func (s *Server) search(w http.ResponseWriter, r *http.Request, st *store, data []byte) {
	body, err := s.body(r, data)
	if err == nil {
		var schemas []string
		if schemas, err = declared(body); err == nil && !containsFold(schemas, searchMessage) {
			err = &problem{400, "invalidSyntax", "schemas must name " + searchMessage}
		}
	}
	if err != nil {
		fail(w, err)
		return
	}
	s.list(w, r, st, func(name string) string {
		switch v := body[name].(type) {
		case string:
			return v
		case json.Number:
			return v.String()
		case []any:
			var names []string
			for _, item := range v {
				if text, ok := item.(string); ok {
					names = append(names, text)
				}
			}
			return strings.Join(names, ",")
		}
		return ""
	})
}

func (s *Server) list(w http.ResponseWriter, r *http.Request, st *store, param func(string) string) {
	start, err := number(param("startIndex"), 1)
	if err != nil {
		fail(w, err)
		return
	}
	count, err := number(param("count"), s.options.Page)
	if err != nil {
		fail(w, err)
		return
	}
	start, count = max(start, 1), min(max(count, 0), s.options.Page)
	var f filter
	if text := param("filter"); text != "" {
		if s.options.NoFilter {
			fail(w, &problem{403, "", "filters are not served"})
			return
		}
		if f, err = parseFilter(st.kind, text); err != nil {
			fail(w, err)
			return
		}
	}
	var found []*record
	var total int
	if by := param("sortBy"); f == nil && by == "" {
		found, total = st.page(start, count, s.options.Now())
	} else {
		found = st.find(f, s.options.Now())
		if by != "" {
			if err := sortRecords(st.kind, found, by, param("sortOrder")); err != nil {
				fail(w, err)
				return
			}
		}
		total = len(found)
		found = found[min(start-1, total):min(start-1+count, total)]
	}
	resources := make([]any, len(found))
	wanted := newProjection(st.kind, param)
	for i, rec := range found {
		resources[i] = s.project(r, st.kind, rec, wanted)
	}
	answer(w, http.StatusOK, map[string]any{"schemas": []string{listMessage}, "totalResults": total, "startIndex": start, "itemsPerPage": len(found), "Resources": resources})
}

func number(text string, otherwise int) (int, error) {
	if text == "" {
		return otherwise, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil {
		return 0, &problem{400, "invalidValue", strconv.Quote(text) + " is not a whole number"}
	}
	return n, nil
}

func sortRecords(kind *resourceType, found []*record, by, order string) error {
	at, ok := kind.locate(by)
	if !ok || at.attr == nil {
		return &problem{400, "invalidPath", "there is no attribute " + strconv.Quote(by)}
	}
	key := func(r *record) string {
		values := valuesAt(r.whole(), at)
		if len(values) == 0 {
			return ""
		}
		text, _ := values[0].(string)
		if !at.attr.CaseExact {
			text = strings.ToLower(text)
		}
		return text
	}
	slices.SortStableFunc(found, func(a, b *record) int {
		if order == "descending" {
			a, b = b, a
		}
		return cmp.Compare(key(a), key(b))
	})
	return nil
}

func location(r *http.Request, kind *resourceType, id string) string {
	return "http://" + r.Host + Path + kind.endpoint + "/" + id
}

// projection says which attributes to give (RFC 7644 section 3.9).
type projection struct {
	only    []place
	onlySet bool
	without []string
}

func newProjection(kind *resourceType, param func(string) string) projection {
	var p projection
	if text := param("attributes"); text != "" {
		p.onlySet = true
		for path := range strings.SplitSeq(text, ",") {
			if at, ok := kind.locate(strings.TrimSpace(path)); ok {
				p.only = append(p.only, at)
			}
		}
		return p
	}
	for path := range strings.SplitSeq(param("excludedAttributes"), ",") {
		if at, ok := kind.locate(strings.TrimSpace(path)); ok && at.attr != nil && at.sub == nil && at.extension == "" {
			p.without = append(p.without, at.attr.Name)
		}
	}
	return p
}

// project makes the representation of a record.
func (s *Server) project(r *http.Request, kind *resourceType, rec *record, wanted projection) map[string]any {
	out := make(map[string]any, len(rec.body)+3)
	schemas := []string{kind.schema.id}
	for name, value := range rec.body {
		if kind.extension(name) != nil {
			schemas = append(schemas, name)
		}
		if a := named(kind.schema.attributes, name); a != nil && a.Returned == "never" {
			continue
		}
		out[name] = value
	}
	slices.Sort(schemas[1:])
	meta := map[string]any{"resourceType": kind.name, "created": rec.created.UTC().Format(time.RFC3339), "lastModified": rec.modified.UTC().Format(time.RFC3339), "location": location(r, kind, rec.id)}
	if !s.options.NoETag {
		meta["version"] = rec.etag()
	}
	out["meta"] = meta
	if wanted.onlySet {
		kept := map[string]any{}
		for _, at := range wanted.only {
			keep(kept, out, at)
		}
		out = kept
	}
	for _, name := range wanted.without {
		delete(out, name)
	}
	out["id"], out["schemas"] = rec.id, schemas
	return out
}

// keep copies what stands at a place.
func keep(into, from map[string]any, at place) {
	if at.extension != "" {
		inner, ok := from[at.extension].(map[string]any)
		if !ok {
			return
		}
		if at.attr == nil {
			into[at.extension] = inner
			return
		}
		kept, ok := into[at.extension].(map[string]any)
		if !ok {
			kept = map[string]any{}
			into[at.extension] = kept
		}
		into, from = kept, inner
	}
	value, ok := from[at.attr.Name]
	if !ok {
		return
	}
	if inner, complex := value.(map[string]any); complex && at.sub != nil {
		kept, ok := into[at.attr.Name].(map[string]any)
		if !ok {
			kept = map[string]any{}
			into[at.attr.Name] = kept
		}
		if v, ok := inner[at.sub.Name]; ok {
			kept[at.sub.Name] = v
		}
		return
	}
	into[at.attr.Name] = value
}

func answer(w http.ResponseWriter, status int, body any) {
	data, err := json.Marshal(body)
	if err != nil {
		fail(w, &problem{500, "", "the answer could not be written"})
		return
	}
	w.Header().Set("Content-Type", mediaType)
	w.WriteHeader(status)
	_, _ = w.Write(data) // a client that went away is no trouble of ours
}

func fail(w http.ResponseWriter, err error) {
	var p *problem
	if !errors.As(err, &p) {
		p = &problem{500, "", err.Error()}
	}
	body := map[string]any{"schemas": []string{errorMessage}, "status": strconv.Itoa(p.status), "detail": p.detail}
	if p.scimType != "" {
		body["scimType"] = p.scimType
	}
	data, _ := json.Marshal(body)
	w.Header().Set("Content-Type", mediaType)
	w.WriteHeader(p.status)
	_, _ = w.Write(data)
}

// discovery serves the three endpoints of RFC 7644 section 4.
func (s *Server) discovery(w http.ResponseWriter, r *http.Request, endpoint, id string) bool {
	supported := func(yes bool) map[string]any { return map[string]any{"supported": yes} }
	var items []any
	key := "id"
	switch endpoint {
	case "ServiceProviderConfig":
		filtering := supported(!s.options.NoFilter)
		filtering["maxResults"] = s.options.Page
		answer(w, http.StatusOK, map[string]any{
			"schemas": []string{configSchema}, "patch": supported(!s.options.NoPatch), "filter": filtering, "sort": supported(true), "etag": supported(!s.options.NoETag),
			"bulk":           map[string]any{"supported": s.options.Bulk > 0, "maxOperations": s.options.Bulk, "maxPayloadSize": maxBody},
			"changePassword": supported(false),
			"authenticationSchemes": []any{map[string]any{
				"type": "oauthbearertoken", "name": "Bearer token", "description": "The token the stand-in was started with", "specUri": "https://www.rfc-editor.org/info/rfc6750"}},
		})
		return true
	case "ResourceTypes":
		for _, kind := range s.types {
			extensions := []any{}
			for _, e := range kind.extensions {
				extensions = append(extensions, map[string]any{"schema": e.id, "required": false})
			}
			items = append(items, map[string]any{"schemas": []string{typeSchema}, "id": kind.name, "name": kind.name, "endpoint": kind.endpoint, "schema": kind.schema.id, "schemaExtensions": extensions})
		}
	case "Schemas":
		for _, kind := range s.types {
			for _, part := range append([]*schema{kind.schema}, kind.extensions...) {
				items = append(items, map[string]any{"schemas": []string{schemaSchema}, "id": part.id, "name": part.name, "description": part.description, "attributes": part.attributes})
			}
		}
	default:
		return false
	}
	if id != "" {
		for _, item := range items {
			if strings.EqualFold(item.(map[string]any)[key].(string), id) {
				answer(w, http.StatusOK, item)
				return true
			}
		}
		fail(w, notFound(id))
		return true
	}
	answer(w, http.StatusOK, map[string]any{"schemas": []string{listMessage}, "totalResults": len(items), "startIndex": 1, "itemsPerPage": len(items), "Resources": items})
	return true
}

func isDateTime(text string) bool {
	_, err := time.Parse(time.RFC3339, text)
	return err == nil
}
