package scim

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/reach"
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
	success := got.status >= 200 && got.status < 300
	if success && got.status != http.StatusAccepted && strings.Contains(got.header.Get("Content-Type"), "json") {
		return nil // whether it is, who reads it will see
	}
	isJSON := len(got.body) > 0 && json.Valid(got.body)
	n := no{client: c, request: r, answer: got, told: c.said(got, isJSON)}
	strange := len(got.body) > 0 && !isJSON
	switch {
	case got.status == http.StatusAccepted && !r.safe:
		return &system.Unclear{Err: &answered{got.status, "", errors.New("the system took the request in (202) and does not say whether it carries it out")}}
	case success && !strange:
		return nil
	case got.status == http.StatusUnauthorized, got.status == http.StatusTooManyRequests, got.status >= 300 && got.status < 400:
		return n.turnedAway()
	case strange:
		return n.strange()
	}
	return n.plain()
}

// A no is an answer that is no success.
type no struct {
	client  *Client
	request request
	*answer
	told scimError
}

// unavailable is the error that the system cannot be worked with.
func (n no) unavailable(remedy, format string, args ...any) error {
	return &answered{n.status, n.told.ScimType, &system.Unavailable{Message: fmt.Sprintf("%s: ", n.request) + fmt.Sprintf(format, args...), Remedy: remedy}}
}

// open leaves it open what became of a change: it may have been carried out all the same.
func (n no) open(err error) error {
	if n.request.safe {
		return err
	}
	return &system.Unclear{Err: err}
}

// addressRemedy is for what is no SCIM service.
const addressRemedy = "Look whether the url in evenledger.yaml ends where the SCIM service begins, such as …/scim/v2."

// turnedAway is for answers by which the request was not even looked at.
func (n no) turnedAway() error {
	switch at := n.client.config.URL; n.status {
	case http.StatusUnauthorized:
		return n.unavailable("The token or password is wrong or has run out. Look where evenledger.yaml says it is kept.", "%s turns us away (401): %s", at, n.told.Detail)
	case http.StatusTooManyRequests:
		after, named := reach.RetryAfter(n.header, n.client.config.Clock.Now())
		return &again{err: n.unavailable("Set a pace in evenledger.yaml, such as “rate: 10/s”, and try again.", "%s is busy (429) and stayed so: %s", at, n.told.Detail), unsent: true, busy: true, after: after, named: named}
	default:
		return n.open(n.unavailable("If that is the right place, put it as url into evenledger.yaml.", "%s redirects to %s", at, n.header.Get("Location")))
	}
}

// strange is for answers that are no JSON: they may come of something else than the system.
func (n no) strange() error {
	switch {
	case n.status == http.StatusNotImplemented, n.status == http.StatusMethodNotAllowed:
		return &answered{n.status, "", refusal(n.request, n.status, n.told)} // a web server's own word that it cannot
	case inWords(n.answer):
		return n.plain()
	case n.status < 400, isNo(n.status):
		return n.open(n.unavailable(addressRemedy, "%s answered %d with %s where SCIM was expected", n.client.config.URL, n.status, bodyKind(n.answer)))
	}
	return n.plain()
}

// longestWords is how long a refusal in plain words is at most, in bytes.
const longestWords = 1 << 10

// inWords reports whether an answer is a refusal in plain words, as some services have it: of one that
// is no page, and says no to just what was asked. That there is nothing at the address, anything on the
// way may say.
func inWords(got *answer) bool {
	switch got.status {
	case http.StatusBadRequest, http.StatusForbidden, http.StatusConflict, http.StatusUnprocessableEntity:
	default:
		return false
	}
	kind := got.header.Get("Content-Type")
	return len(got.body) <= longestWords && (kind == "" || strings.HasPrefix(kind, "text/plain")) && !strings.Contains(string(got.body), "<")
}

// plain is for answers in the system's own words, or in none.
func (n no) plain() error {
	at, missing := n.client.config.URL, n.status == http.StatusNotFound || n.status == http.StatusGone
	switch {
	case !isNo(n.status):
		after, _ := reach.RetryAfter(n.header, n.client.config.Clock.Now())
		return &again{err: n.unavailable("Try again later; what was done is in the ledger. If it stays so, ask who runs the system; --trace FILE writes down what was sent and answered.", "%s cannot answer (%d): %s", at, n.status, n.told.Detail), after: after}
	case n.status == http.StatusPreconditionFailed && n.request.version != "":
		return &answered{n.status, n.told.ScimType, system.ErrChanged}
	case missing && n.request.names:
		return &answered{n.status, n.told.ScimType, system.ErrGone}
	case missing:
		return n.unavailable(addressRemedy, "%s has nothing there (%d): %s", at, n.status, n.told.Detail)
	case n.status == http.StatusForbidden && n.request.safe:
		return n.unavailable("Ask who runs the system for the right to read and change accounts.", "%s does not let us read (403): %s", at, n.told.Detail)
	}
	return &answered{n.status, n.told.ScimType, refusal(n.request, n.status, n.told)}
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

// words are those that a service says in what it calls a success, if there are any.
func (c *Client) words(body []byte) string {
	var whole any
	if len(body) > 64<<10 || json.Unmarshal(body, &whole) != nil {
		return ""
	}
	said := clip(c.config.Mask.Hide(saying(whole, 3)))
	if said == "" {
		return ""
	}
	return "; it says: " + said
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
