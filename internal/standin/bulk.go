package standin

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
)

const (
	bulkRequest  = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
	bulkResponse = "urn:ietf:params:scim:api:messages:2.0:BulkResponse"
)

// bulkOperation is one operation of a bulk request (RFC 7644 section 3.7).
type bulkOperation struct {
	Method  string          `json:"method"`
	Path    string          `json:"path"`
	BulkID  string          `json:"bulkId"`
	Version string          `json:"version"`
	Data    json.RawMessage `json:"data"`
}

// kept holds the answer to an operation.
type kept struct {
	header http.Header
	status int
	body   bytes.Buffer // of a refusal: what was done is told without (RFC 7644 section 3.7)
}

func (k *kept) Header() http.Header         { return k.header }
func (k *kept) Write(p []byte) (int, error) { return k.body.Write(p) }
func (k *kept) WriteHeader(status int)      { k.status = status }

// bulk carries out the operations of a bulk request in their order, until as many
// failed as the request allows.
func (s *Server) bulk(w http.ResponseWriter, r *http.Request, body []byte) {
	var request struct {
		Schemas      []string        `json:"schemas"`
		FailOnErrors int             `json:"failOnErrors"`
		Operations   []bulkOperation `json:"Operations"`
	}
	if err := json.Unmarshal(body, &request); err != nil || len(request.Schemas) != 1 || request.Schemas[0] != bulkRequest {
		fail(w, &problem{400, "invalidSyntax", "the body is not a bulk request"})
		return
	}
	if len(request.Operations) > s.options.Bulk {
		fail(w, &problem{413, "", "more than " + strconv.Itoa(s.options.Bulk) + " operations in a bulk request"})
		return
	}
	done, failed := []map[string]any{}, 0
	for _, o := range request.Operations {
		if request.FailOnErrors > 0 && failed == request.FailOnErrors {
			break
		}
		told := map[string]any{"method": o.Method}
		if o.BulkID != "" {
			told["bulkId"] = o.BulkID
		}
		got := s.one(r, o)
		if location := got.header.Get("Location"); location != "" {
			told["location"] = location
		}
		if version := got.header.Get("ETag"); version != "" {
			told["version"] = version
		}
		told["status"] = strconv.Itoa(got.status)
		if got.status >= 300 {
			failed++
			told["response"] = json.RawMessage(got.body.Bytes())
		}
		done = append(done, told)
	}
	answer(w, http.StatusOK, map[string]any{"schemas": []string{bulkResponse}, "Operations": done})
}

// one carries out one operation as if it had come alone.
func (s *Server) one(r *http.Request, o bulkOperation) *kept {
	got := &kept{header: http.Header{}, status: http.StatusOK}
	switch {
	case o.Method == http.MethodPost && o.BulkID == "":
		fail(got, &problem{400, "invalidSyntax", "a POST needs a bulkId"})
		return got
	case o.Method != http.MethodPost && o.Method != http.MethodPut && o.Method != http.MethodPatch && o.Method != http.MethodDelete, !strings.HasPrefix(o.Path, "/"), strings.HasPrefix(o.Path, "/Bulk"):
		fail(got, &problem{400, "invalidPath", "the operation " + o.Method + " " + o.Path + " is not served"})
		return got
	}
	endpoint, id, _ := strings.Cut(o.Path[1:], "/")
	st := s.storeOf(endpoint)
	if st == nil {
		fail(got, &problem{404, "", "there is nothing at " + o.Path})
		return got
	}
	alone := &http.Request{Method: o.Method, Host: r.Host, Header: http.Header{"Content-Type": r.Header["Content-Type"]}}
	if o.Version != "" {
		alone.Header.Set("If-Match", o.Version)
	}
	rec, status, err := s.carryOut(alone, st, id, o.Data)
	if err != nil {
		fail(got, err)
		return got
	}
	s.head(got, alone, st.kind, rec, status)
	got.status = status
	return got
}
