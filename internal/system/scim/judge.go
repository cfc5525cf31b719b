package scim

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// A scimError is the body of an error (RFC 7644 section 3.12).
type scimError struct {
	ScimType string `json:"scimType"`
	Detail   string `json:"detail"`
}

// answered is an error that comes of an answer.
type answered struct {
	status   int
	scimType string
	err      error
}

func (e *answered) Error() string { return e.err.Error() }
func (e *answered) Unwrap() error { return e.err }

// statusOf returns the status of the answer that an error comes of; 0: of none.
func statusOf(err error) int {
	var a *answered
	if errors.As(err, &a) {
		return a.status
	}
	return 0
}

func scimTypeOf(err error) string {
	var a *answered
	if errors.As(err, &a) {
		return a.scimType
	}
	return ""
}

// isNo reports whether a status says clearly that a change was not carried out. A
// request may time out (408), or its client be thought gone (499), when the work is
// done; of what comes from 500 on only 501 and 505 say that nothing was tried.
func isNo(status int) bool {
	switch status {
	case http.StatusRequestTimeout, 499:
		return false
	case http.StatusNotImplemented, http.StatusHTTPVersionNotSupported:
		return true
	}
	return status >= 400 && status < 500 && http.StatusText(status) != ""
}

// judge turns an answer that is no success into an error.
func (c *Client) judge(r request, got *answer) error {
	status := got.status
	if status >= 200 && status < 300 && status != http.StatusAccepted && strings.Contains(got.header.Get("Content-Type"), "json") {
		return nil // whether it is, who reads it will see
	}
	isJSON := len(got.body) > 0 && json.Valid(got.body)
	strange := len(got.body) > 0 && !isJSON
	told := c.said(got, isJSON)
	unavailable := func(remedy, format string, args ...any) error {
		return &answered{status, told.ScimType, &system.Unavailable{Message: fmt.Sprintf("%s: ", r) + fmt.Sprintf(format, args...), Remedy: remedy}}
	}
	const addressRemedy = "Look whether the url in evenledger.yaml ends where the SCIM service begins, such as …/scim/v2."
	var err error
	switch {
	case status == http.StatusAccepted && !r.safe:
		err = &answered{status, "", errors.New("the system took the request in (202) and does not say whether it carries it out")}
	case status >= 200 && status < 300 && !strange:
		return nil
	case status == http.StatusUnauthorized:
		return unavailable("The token or password is wrong or has run out. Look where evenledger.yaml says it is kept.", "%s turns us away (401): %s", c.config.URL, told.Detail)
	case status == http.StatusTooManyRequests:
		after, named := c.retryAfter(got.header)
		return &again{err: unavailable("Set a pace in evenledger.yaml, such as “rate: 10/s”, and try again.", "%s is busy (429) and stayed so: %s", c.config.URL, told.Detail), unsent: true, busy: true, after: after, named: named}
	case status >= 300 && status < 400:
		err = unavailable("If that is the right place, put it as url into evenledger.yaml.", "%s redirects to %s", c.config.URL, got.header.Get("Location"))
	case strange && isNo(status) && (status == http.StatusNotImplemented || status == http.StatusMethodNotAllowed):
		return &answered{status, "", refusal(r, status, told)} // a web server's own word that it cannot
	case strange && (status < 400 || isNo(status)):
		err = unavailable(addressRemedy, "%s answered %d with %s where SCIM was expected", c.config.URL, status, bodyKind(got))
	case !isNo(status):
		after, _ := c.retryAfter(got.header)
		return &again{err: unavailable("Try again later; what was done is in the ledger. If it stays so, ask who runs the system; --trace FILE writes down what was sent and answered.", "%s cannot answer (%d): %s", c.config.URL, status, told.Detail), after: after}
	case status == http.StatusPreconditionFailed && r.version != "":
		return &answered{status, told.ScimType, system.ErrChanged}
	case (status == http.StatusNotFound || status == http.StatusGone) && r.names:
		return &answered{status, told.ScimType, system.ErrGone}
	case status == http.StatusNotFound || status == http.StatusGone:
		return unavailable(addressRemedy, "%s has nothing there (%d): %s", c.config.URL, status, told.Detail)
	case status == http.StatusForbidden && r.safe:
		return unavailable("Ask who runs the system for the right to read and change accounts.", "%s does not let us read (403): %s", c.config.URL, told.Detail)
	default:
		return &answered{status, told.ScimType, refusal(r, status, told)}
	}
	if !r.safe {
		return &system.Unclear{Err: err} // it may have been carried out all the same
	}
	return err
}

// refusal puts an error of RFC 7644 section 3.12 into plain words.
func refusal(r request, status int, told scimError) *system.Refusal {
	words := map[string]string{
		"uniqueness":    "another account already has a value that must be unique",
		"tooMany":       "the request would give more than the system answers",
		"mutability":    "a field may not be changed any more",
		"invalidValue":  "a value is missing or is not one the system takes",
		"invalidSyntax": "the system could not read the request",
		"invalidPath":   "the system does not know a field",
		"noTarget":      "there is nothing where the change was to be made",
		"invalidFilter": "the system cannot search like this",
		"sensitive":     "a value may not stand in an address",
	}[told.ScimType]
	code := account.SystemRefused
	switch {
	case told.ScimType == "uniqueness" || status == http.StatusConflict:
		code, words = account.TakenValue, "another account already has a value that must be unique"
	case told.ScimType == "mutability":
		code = account.ImmutableField
	case status == http.StatusForbidden:
		words = "we have no right to do this"
	case words == "":
		words = "the system refused it"
	}
	return &system.Refusal{Code: code, Message: fmt.Sprintf("%s (%s answered %d); the system says: %s", words, r.kind(), status, told.Detail)}
}

// kind names the request without the identifier of what it is about, so that what
// has one cause is told once.
func (r request) kind() string {
	if r.names {
		return r.method + " " + r.path[:strings.LastIndexByte(r.path, '/')] + "/…"
	}
	return r.String()
}

// said reads what the server says of its no, in the form of RFC 7644 section 3.12 or
// in one of its own, without any secret in it.
func (c *Client) said(got *answer, isJSON bool) scimError {
	var told scimError
	if got.status < 300 || len(got.body) == 0 {
		return scimError{Detail: http.StatusText(got.status)}
	}
	body := got.body[:min(len(got.body), 64<<10)]
	switch {
	case isJSON:
		var whole any
		if json.Unmarshal(got.body, &whole) == nil {
			if object, ok := whole.(map[string]any); ok {
				told.ScimType = resource(object).text("scimType")
			}
			told.Detail = saying(whole, 3)
		}
		if told.Detail == "" {
			told.Detail = string(body)
		}
	default:
		told.Detail = markup.ReplaceAllString(string(body), " ")
	}
	// Hidden before it is cut: a part of a secret is one as well.
	if told.Detail = clip(c.config.Mask.Hide(told.Detail)); told.Detail == "" {
		told.Detail = http.StatusText(got.status)
	}
	return told
}

var markup = regexp.MustCompile(`(?is)<(style|script|head)\b.*?</(style|script|head)>|<[^>]*>`)

// saying finds the words in an error of whatever form.
func saying(value any, depth int) string {
	switch v := value.(type) {
	case string:
		return v
	case []any:
		for _, item := range v {
			if text := saying(item, depth-1); text != "" && depth > 0 {
				return text
			}
		}
	case map[string]any:
		for _, name := range []string{"detail", "error_description", "message", "description", "title", "reason", "error", "errors", "Errors", "msg"} {
			if depth == 0 {
				break
			}
			if text := saying(resource(v).get(name), depth-1); text != "" {
				return text
			}
		}
	}
	return ""
}

// clip shortens what a server says, which may be anything.
func clip(text string) string {
	text = strings.Join(strings.Fields(strings.ToValidUTF8(text, "")), " ")
	if len(text) > 300 {
		text = strings.ToValidUTF8(text[:300], "") + "…"
	}
	return text
}

func bodyKind(got *answer) string {
	start := strings.ToLower(string(got.body[:min(len(got.body), 512)]))
	if strings.Contains(start, "<html") || strings.Contains(start, "<!doctype") {
		return "a web page"
	}
	switch kind := got.header.Get("Content-Type"); {
	case strings.Contains(kind, "json"):
		return "broken JSON"
	case kind != "":
		return kind
	}
	return "something else"
}

// retryAfter reads the header in either form (RFC 9110 section 10.2.3).
func (c *Client) retryAfter(header http.Header) (wait time.Duration, named bool) {
	text := strings.TrimSpace(header.Get("Retry-After"))
	if seconds, err := strconv.ParseInt(text, 10, 64); err == nil {
		return time.Duration(min(max(seconds, 0), 1e6)) * time.Second, true
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(at.Sub(c.config.Clock.Now()), 0), true
	}
	return 0, false
}
