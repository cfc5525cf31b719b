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
	body   bytes.Buffer
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
	alone := r.Clone(r.Context())
	alone.Method, alone.URL.Path, alone.URL.RawQuery = o.Method, base+o.Path, ""
	alone.Header.Del("If-Match")
	if o.Version != "" {
		alone.Header.Set("If-Match", o.Version)
	}
	s.route(got, alone, o.Data)
	return got
}
