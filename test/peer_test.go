package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// A peer is a second service, made to know as little as can be of how the program asks:
// it shares no line with the practice application, keeps JSON objects as they come, and
// has the habits of services in the wild, one by one.
type peer struct {
	mu      sync.Mutex
	kinds   map[string][]object // endpoint → resources, in the order in which they are listed
	next    int
	seen    []string // requests
	habits  habits
	url     string
	waiting map[string]int // id of a user → requests until groups know it
}

type object = map[string]any

// habits are what a service does otherwise than the RFCs, or than a client would like.
type habits struct {
	silent     int                                                        // status of the discovery endpoints; 0: they answer
	zeroBased  bool                                                       // its first is number 0
	unasked    string                                                     // a name that “attributes” may not have (400)
	attributes int                                                        // status when “attributes” is asked for
	filter     int                                                        // status when anything is searched for
	blind      string                                                     // attribute by which a filter finds nothing
	firstTerm  bool                                                       // of a filter with “or” only the first is looked at
	anyFilter  bool                                                       // a filter is not looked at
	noTotal    bool                                                       // lists have no totalResults
	allTotal   bool                                                       // totalResults is that of all, whatever was asked for
	noList     int                                                        // status when all users are listed
	pageTotal  bool                                                       // totalResults is the number of the page
	cap        int                                                        // most resources in a page
	again      bool                                                       // past the end page one comes again
	noPatch    int                                                        // status of PATCH
	wholeRef   bool                                                       // manager.value is no path
	numbers    bool                                                       // ids are numbers
	bareLists  bool                                                       // lists of groups leave the members out
	wantsMatch bool                                                       // changes without If-Match are answered 428
	noVersions bool                                                       // there are no versions, nor times
	busy       int                                                        // every so manieth request is answered 429
	after      func(r *http.Request, did int) (status int, body string)   // another answer after the work was done
	instead    func(p *peer, w http.ResponseWriter, r *http.Request) bool // another answer instead
	mark       bool                                                       // a byte order mark stands before each answer
	bulk       string                                                     // how bulk requests are answered; empty: there are none
	forgets    int                                                        // so many changes of groups come without those who join
	cutGroups  int                                                        // no more members of a group are shown
	softly     bool                                                       // who is removed stays, and may not sign in
	lateGroups int                                                        // so many requests long a group doesn't know a new user
	shift      func(p *peer, start int)                                   // called between two pages
	schemas    []object                                                   // of /Schemas; nil: it is not there
	ahead      time.Duration                                              // its clock is so much ahead
}

func newPeer(t *testing.T, h habits) *peer {
	p := &peer{kinds: map[string][]object{"/Users": {}, "/Groups": {}}, habits: h, waiting: map[string]int{}}
	server := httptest.NewServer(p)
	t.Cleanup(server.Close)
	p.url = server.URL
	return p
}

// add puts a resource in and returns its id.
func (p *peer) add(endpoint string, body object) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.put(endpoint, body)
}

func (p *peer) put(endpoint string, body object) string {
	p.next++
	id := fmt.Sprint(p.next)
	body["id"] = id
	if p.habits.numbers {
		body["id"] = p.next
	}
	p.touch(body)
	p.kinds[endpoint] = append(p.kinds[endpoint], body)
	return id
}

// touch gives a resource another version.
func (p *peer) touch(body object) {
	if p.habits.noVersions {
		return
	}
	meta, _ := body["meta"].(object)
	if meta == nil {
		meta = object{"created": time.Now().Add(p.habits.ahead).UTC().Format(time.RFC3339), "n": 0}
	}
	body["meta"] = object{"created": meta["created"], "n": number(meta["n"]) + 1, "version": fmt.Sprintf("v%d", number(meta["n"])+1)}
}

func number(v any) int {
	n, _ := strconv.Atoi(fmt.Sprint(v))
	return n
}

// who returns the user of that name, or nil; all returns how many there are of it.
func (p *peer) who(userName string) object {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, u := range p.kinds["/Users"] {
		if u["userName"] == userName {
			return u
		}
	}
	return nil
}

// edit changes a user behind everybody's back.
func (p *peer) edit(userName string, change func(object)) {
	u := p.who(userName)
	p.mu.Lock()
	defer p.mu.Unlock()
	change(u)
	p.touch(u)
}

// in lists the ids of a group's members.
func (p *peer) in(group string) (ids []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, g := range p.kinds["/Groups"] {
		if g["displayName"] == group {
			for _, m := range list(g["members"]) {
				ids = append(ids, fmt.Sprint(m.(object)["value"]))
			}
		}
	}
	slices.Sort(ids)
	return ids
}

func list(v any) []any {
	items, _ := v.([]any)
	return items
}

func (p *peer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	h := p.habits
	data, _ := io.ReadAll(r.Body)
	r.Body = io.NopCloser(bytes.NewReader(data))
	p.seen = append(p.seen, r.Method+" "+r.URL.RequestURI()+" "+string(data))
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Date", time.Now().Add(h.ahead).UTC().Format(http.TimeFormat))
	endpoint, id, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	endpoint = "/" + endpoint
	_, known := p.kinds[endpoint]
	query := r.URL.Query()
	switch {
	case h.busy > 0 && len(p.seen)%h.busy == 0:
		p.no(w, 429, "slow down")
	case h.instead != nil && h.instead(p, w, r):
	case endpoint == "/Bulk" && h.bulk != "":
		p.bulk(w, r, data)
	case !known && (h.silent > 0 || h.schemas == nil && endpoint == "/Schemas"):
		w.WriteHeader(max(h.silent, 404))
	case !known:
		p.discovery(w, endpoint)
	case h.unasked != "" && strings.Contains(query.Get("attributes"), h.unasked):
		p.no(w, 400, "no such attribute")
	case (query.Has("attributes") || query.Has("excludedAttributes")) && h.attributes > 0:
		p.no(w, h.attributes, "attributes?")
	case r.Method == http.MethodGet && id == "":
		p.list(w, endpoint, query.Get("filter"), number(query.Get("startIndex")), number(query.Get("count")))
	default:
		p.one(w, r, endpoint, id, data)
	}
}

func (p *peer) no(w http.ResponseWriter, status int, why string) {
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(object{"errors": []any{object{"message": why}}}) // a form of its own
}

func (p *peer) discovery(w http.ResponseWriter, endpoint string) {
	var resources []any
	switch endpoint {
	case "/ServiceProviderConfig":
		_ = json.NewEncoder(w).Encode(object{"patch": object{"supported": true}, "filter": object{"supported": true}, "etag": object{"supported": !p.habits.noVersions}, "bulk": object{"supported": p.habits.bulk != "", "maxOperations": 20, "maxPayloadSize": 1 << 20}})
		return
	case "/ResourceTypes":
		for endpoint := range p.kinds {
			name := strings.TrimSuffix(endpoint[1:], "s")
			schema := "urn:ietf:params:scim:schemas:core:2.0:" + name
			extensions := []any{}
			if name == "User" {
				extensions = append(extensions, object{"schema": "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"})
			}
			resources = append(resources, object{"name": name, "endpoint": endpoint, "schema": schema, "schemaExtensions": extensions})
		}
	default:
		for _, s := range p.habits.schemas {
			resources = append(resources, s)
		}
	}
	_ = json.NewEncoder(w).Encode(object{"totalResults": len(resources), "Resources": resources})
}

var equals = regexp.MustCompile(`^(\S+) eq ("(?:[^"\\]|\\.)*")$`)

func (p *peer) list(w http.ResponseWriter, endpoint, filter string, start, count int) {
	h := p.habits
	if h.zeroBased {
		start++
	}
	if filter != "" && h.filter > 0 {
		p.no(w, h.filter, "no searching")
		return
	}
	if h.shift != nil && filter == "" && endpoint == "/Users" {
		h.shift(p, start)
	}
	if filter == "" && h.noList > 0 && endpoint == "/Users" {
		p.no(w, h.noList, "nobody lists all")
		return
	}
	found := []any{}
	terms := strings.Split(filter, " or ")
	if h.firstTerm {
		terms = terms[:1]
	}
	for _, r := range p.kinds[endpoint] {
		hit := filter == "" || h.anyFilter
		for _, term := range terms {
			if present, asks := strings.CutSuffix(term, " pr"); asks {
				hit = hit || len(at(r, present)) > 0
			}
			if parts := equals.FindStringSubmatch(term); parts != nil && (h.blind == "" || !strings.Contains(parts[1], h.blind)) {
				var value string
				_ = json.Unmarshal([]byte(parts[2]), &value)
				hit = hit || slices.ContainsFunc(at(r, parts[1]), func(has string) bool { return strings.EqualFold(has, value) })
			}
		}
		if hit {
			r = clone(r)
			p.cut(r)
			if h.bareLists {
				delete(r, "members")
			}
			found = append(found, r)
		}
	}
	total := len(found)
	if start > total && h.again {
		start = 1
	}
	if h.cap > 0 {
		count = min(count, h.cap)
	}
	start = min(max(start, 1)-1, total)
	found = found[start:min(start+count, total)]
	answer := object{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:ListResponse"}, "Resources": found}
	if !h.noTotal {
		answer["totalResults"] = total
	}
	if h.allTotal {
		answer["totalResults"] = len(p.kinds[endpoint])
	}
	if h.pageTotal {
		answer["totalResults"] = len(found)
	}
	if h.mark {
		_, _ = io.WriteString(w, "\ufeff")
	}
	_ = json.NewEncoder(w).Encode(answer)
}

// cut leaves out the members of a group that are not shown.
func (p *peer) cut(r object) {
	if members := list(r["members"]); p.habits.cutGroups > 0 && len(members) > p.habits.cutGroups {
		r["members"] = members[:p.habits.cutGroups]
	}
}

func clone(o object) object {
	data, _ := json.Marshal(o)
	var out object
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	_ = decoder.Decode(&out)
	return out
}

// at returns the values at a path of a resource.
func at(r object, path string) (values []string) {
	var in any = r
	if colon := strings.LastIndexByte(path, ':'); colon > 0 {
		in, path = r[path[:colon]], path[colon+1:]
	}
	for _, name := range strings.Split(path, ".") {
		if items := list(in); items != nil {
			in = items[0]
		}
		inner, _ := in.(object)
		in = inner[name]
	}
	if in == nil {
		return nil
	}
	if items := list(in); items != nil {
		for _, item := range items {
			values = append(values, fmt.Sprint(item.(object)["value"]))
		}
		return values
	}
	return []string{fmt.Sprint(in)}
}

// bulk carries out the operations of a request, and tells what became of each in a way of its own.
func (p *peer) bulk(w http.ResponseWriter, r *http.Request, data []byte) {
	var asked struct {
		Operations []struct {
			Method, Path, BulkID, Version string
			Data                          json.RawMessage
		}
	}
	_ = json.Unmarshal(data, &asked)
	how, told := p.habits.bulk, []any{}
	if how == "refused as a whole" {
		p.no(w, 413, "too much")
		return
	}
	for _, o := range asked.Operations {
		result := object{"bulkId": o.BulkID, "method": o.Method}
		if o.Method == http.MethodPatch && (how == "no PATCH in it" || how == "changes forgotten") {
			if result["status"] = "200"; how == "no PATCH in it" {
				result["status"], result["response"] = "501", object{"detail": "only POST"}
			}
			told = append(told, result)
			continue
		}
		alone := httptest.NewRequest(o.Method, o.Path, nil)
		if o.Version != "" && how != "versions are not looked at" {
			alone.Header.Set("If-Match", o.Version)
		}
		endpoint, id, _ := strings.Cut(strings.TrimPrefix(o.Path, "/"), "/")
		answer := httptest.NewRecorder()
		p.one(answer, alone, "/"+endpoint, id, o.Data)
		var shown object
		_ = json.Unmarshal(answer.Body.Bytes(), &shown)
		if result["status"] = strconv.Itoa(answer.Code); shown["id"] != nil {
			result["location"] = p.url + "/" + endpoint + "/" + fmt.Sprint(shown["id"])
		}
		switch {
		case how == "statuses are numbers":
			result["status"] = answer.Code
		case answer.Code >= 300, how == "accounts are shown":
			result["response"] = shown
		case how == "shows another" && len(told) > 0:
			result["response"] = object{"id": "another", "userName": "x"}
		}
		if told = append(told, result); how == "ends in the middle" && len(told) > 1 {
			break
		}
	}
	switch how {
	case "another order":
		slices.Reverse(told)
	case "says nothing":
		told = nil
	case "done, and 500":
		w.WriteHeader(500)
	}
	_ = json.NewEncoder(w).Encode(object{"Operations": told})
}

// one serves what is about one resource.
func (p *peer) one(w http.ResponseWriter, r *http.Request, endpoint, id string, data []byte) {
	h := p.habits
	var body object
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	_ = decoder.Decode(&body)
	i := slices.IndexFunc(p.kinds[endpoint], func(r object) bool { return fmt.Sprint(r["id"]) == id })
	var now object
	if i >= 0 {
		now = p.kinds[endpoint][i]
	}
	status := http.StatusOK
	if match := r.Header.Get("If-Match"); r.Method != http.MethodGet && now != nil && !h.noVersions {
		switch version := now["meta"].(object)["version"]; {
		case match == "" && h.wantsMatch:
			p.no(w, 428, "which version?")
			return
		case match != "" && match != version:
			p.no(w, 412, "another version")
			return
		}
	}
	switch {
	case r.Method == http.MethodPost && id == "":
		if name := body["userName"]; name != nil && slices.ContainsFunc(p.kinds[endpoint], func(r object) bool { return r["userName"] == name }) {
			p.no(w, 409, fmt.Sprintf("%v is taken", name))
			return
		}
		p.waiting[p.put(endpoint, body)] = h.lateGroups
		now, status = body, http.StatusCreated
	case now == nil:
		p.no(w, 404, "nobody")
		return
	case r.Method == http.MethodGet:
	case r.Method == http.MethodDelete && h.softly:
		now["active"], status = false, http.StatusNoContent
	case r.Method == http.MethodDelete:
		p.kinds[endpoint] = slices.Delete(p.kinds[endpoint], i, i+1)
		status = http.StatusNoContent
	case r.Method == http.MethodPut, r.Method == http.MethodPatch && h.noPatch == 0:
		if r.Method == http.MethodPatch {
			patched := clone(now)
			if why := p.patch(patched, list(body["Operations"])); why != "" {
				w.WriteHeader(400)
				_ = json.NewEncoder(w).Encode(object{"scimType": why, "detail": "not like this"})
				return
			}
			body = patched
		}
		if had := len(list(now["members"])); endpoint == "/Groups" && p.habits.forgets > 0 && len(list(body["members"])) > had {
			p.habits.forgets--
			body["members"] = clone(now)["members"]
		}
		if endpoint == "/Groups" {
			for _, m := range list(body["members"]) {
				if id := fmt.Sprint(m.(object)["value"]); p.waiting[id] > 0 {
					p.waiting[id]--
					p.no(w, 400, "member "+id+" is not known")
					return
				}
			}
		}
		body["id"], body["meta"] = now["id"], now["meta"]
		p.touch(body)
		p.kinds[endpoint][i], now = body, body
	default:
		p.no(w, h.noPatch, "no such method")
		return
	}
	if h.after != nil && r.Method != http.MethodGet {
		if status, body := h.after(r, len(p.seen)); status > 0 {
			w.WriteHeader(status)
			_, _ = io.WriteString(w, body)
			return
		}
	}
	w.WriteHeader(status)
	if status != http.StatusNoContent {
		shown := clone(now)
		p.cut(shown)
		delete(shown, "password")
		if h.mark {
			_, _ = io.WriteString(w, "\ufeff")
		}
		_ = json.NewEncoder(w).Encode(shown)
	}
}

var picked = regexp.MustCompile(`^(\w+)\[(\w+) eq "([^"]*)"\](?:\.(\w+))?$`)

// patch carries operations out, as simply as a poor service would; it returns what is
// wrong with them.
func (p *peer) patch(r object, operations []any) (why string) {
	for _, item := range operations {
		o := item.(object)
		op, path, value := o["op"].(string), o["path"].(string), o["value"]
		in := r
		if colon := strings.LastIndexByte(path, ':'); colon > 0 {
			if in, _ = r[path[:colon]].(object); in == nil {
				in = object{}
				r[path[:colon]] = in
			}
			path = path[colon+1:]
		}
		if path == "" || path == "manager.value" && p.habits.wholeRef {
			return "noTarget"
		}
		if parts := picked.FindStringSubmatch(path); parts != nil {
			hit := func(item any) bool { return fmt.Sprint(item.(object)[parts[2]]) == parts[3] }
			if op == "remove" && parts[4] == "" {
				in[parts[1]] = slices.DeleteFunc(list(in[parts[1]]), hit)
				continue
			}
			n := slices.IndexFunc(list(in[parts[1]]), hit)
			if n < 0 {
				return "noTarget"
			}
			list(in[parts[1]])[n].(object)[parts[4]] = value
			continue
		}
		if first, last, nested := strings.Cut(path, "."); nested {
			inner, _ := in[first].(object)
			if inner == nil {
				inner = object{}
				in[first] = inner
			}
			in, path = inner, last
		}
		switch {
		case op == "remove":
			delete(in, path)
		case op == "add" && list(value) != nil:
			in[path] = append(list(in[path]), list(value)...)
		default:
			in[path] = value
		}
	}
	return ""
}

// bodyOf reads a request's body and leaves it to be read again.
func bodyOf(r *http.Request) []byte {
	data, _ := io.ReadAll(r.Body)
	r.Body = io.NopCloser(bytes.NewReader(data))
	return data
}
