package scim

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/httpdial"
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

// judge turns an answer that is no success into an error.
func (c *Client) judge(r request, got *httpdial.Answer) error {
	success := got.Status >= 200 && got.Status < 300
	if success && got.Status != http.StatusAccepted && strings.Contains(got.Header.Get("Content-Type"), "json") {
		return nil // whether it is, who reads it will see
	}
	isJSON := len(got.Body) > 0 && json.Valid(got.Body)
	n := no{client: c, request: r, Answer: got, told: c.said(got, isJSON)}
	strange := len(got.Body) > 0 && !isJSON
	switch {
	case got.Status == http.StatusAccepted && !r.safe:
		return &system.Unclear{TakenIn: true, Err: &answered{got.Status, "", errors.New("the system took the request in (202) and does not say whether it carries it out")}}
	case success && !strange:
		return nil
	case got.Status == http.StatusUnauthorized, got.Status == http.StatusTooManyRequests, got.Status >= 300 && got.Status < 400:
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
	*httpdial.Answer
	told scimError
}

// unavailable is the error that the system cannot be worked with.
func (n no) unavailable(remedy, format string, args ...any) error {
	return &answered{n.Status, n.told.ScimType, &system.Unavailable{Message: fmt.Sprintf("%s: ", n.request) + fmt.Sprintf(format, args...), Remedy: remedy}}
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
	switch at := n.client.config.URL; n.Status {
	case http.StatusUnauthorized:
		return n.unavailable(n.client.http.Remedy(), "%s turns us away (401): %s", at, n.told.Detail)
	case http.StatusTooManyRequests:
		after, named := httpdial.RetryAfter(n.Header, n.client.config.Clock.Now())
		return &httpdial.Again{Err: n.unavailable("Set a pace in evenledger.yaml, such as “rate: 10/s”, and try again.", "%s is busy (429) and stayed so: %s", at, n.told.Detail), Unsent: true, Answered: true, Busy: true, After: after, Named: named}
	default:
		return n.open(n.unavailable("If that is the right place, put it as url into evenledger.yaml.", "%s redirects to %s", at, n.Header.Get("Location")))
	}
}

// strange is for answers that are no JSON: they may come of something else than the system.
func (n no) strange() error {
	switch {
	case n.Status == http.StatusNotImplemented, n.Status == http.StatusMethodNotAllowed:
		return &answered{n.Status, "", refusal(n.request, n.Status, n.told)} // a web server's own word that it cannot
	case inWords(n.Answer):
		return n.plain()
	case n.Status < 400, httpdial.VerdictOn(n.Status).IsNo():
		return n.open(n.unavailable(addressRemedy, "%s answered %d with %s where SCIM was expected", n.client.config.URL, n.Status, n.Answer.Kind()))
	}
	return n.plain()
}

// longestWords is how long a refusal in plain words is at most, in bytes.
const longestWords = 1 << 10

// inWords reports whether an answer is a refusal in plain words, as some services have it: of one that
// is no page, and says no to just what was asked. That there is nothing at the address, anything on the
// way may say.
func inWords(got *httpdial.Answer) bool {
	switch got.Status {
	case http.StatusBadRequest, http.StatusForbidden, http.StatusConflict, http.StatusUnprocessableEntity:
	default:
		return false
	}
	kind := got.Header.Get("Content-Type")
	return len(got.Body) <= longestWords && (kind == "" || strings.HasPrefix(kind, "text/plain")) && !strings.Contains(string(got.Body), "<")
}

// plain is for answers in the system's own words, or in none.
func (n no) plain() error {
	at, missing := n.client.config.URL, n.Status == http.StatusNotFound || n.Status == http.StatusGone
	switch {
	case !httpdial.VerdictOn(n.Status).IsNo():
		after, _ := httpdial.RetryAfter(n.Header, n.client.config.Clock.Now())
		return &httpdial.Again{Err: n.unavailable("Try again later; what was done is in the ledger. If it stays so, ask who runs the system; --trace FILE writes down what was sent and answered.", "%s cannot answer (%d): %s", at, n.Status, n.told.Detail), Answered: true, After: after}
	case n.Status == http.StatusPreconditionFailed && n.request.version != "":
		return &answered{n.Status, n.told.ScimType, system.ErrChanged}
	case missing && n.request.names:
		return &answered{n.Status, n.told.ScimType, system.ErrGone}
	case missing:
		return n.unavailable(addressRemedy, "%s has nothing there (%d): %s", at, n.Status, n.told.Detail)
	case n.Status == http.StatusForbidden && n.request.safe:
		return n.unavailable("Ask who runs the system for the right to read and change accounts.", "%s does not let us read (403): %s", at, n.told.Detail)
	}
	return &answered{n.Status, n.told.ScimType, refusal(n.request, n.Status, n.told)}
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
func (c *Client) said(got *httpdial.Answer, isJSON bool) scimError {
	var told scimError
	if got.Status < 300 || len(got.Body) == 0 {
		return scimError{Detail: http.StatusText(got.Status)}
	}
	body := got.Body[:min(len(got.Body), 64<<10)]
	switch {
	case isJSON:
		var whole any
		if json.Unmarshal(got.Body, &whole) == nil {
			if object, ok := whole.(map[string]any); ok {
				told.ScimType = resource(object).text("scimType")
			}
			told.Detail = httpdial.Saying(whole)
		}
		if told.Detail == "" {
			told.Detail = string(body)
		}
	default:
		told.Detail = httpdial.Unmarked(string(body))
	}
	// Hidden before it is cut: a part of a secret is one as well.
	if told.Detail = httpdial.Clip(c.config.Mask.Hide(told.Detail)); told.Detail == "" {
		told.Detail = http.StatusText(got.Status)
	}
	return told
}

// words are those that a service says in what it calls a success, if there are any.
func (c *Client) words(body []byte) string {
	var whole any
	if len(body) > 64<<10 || json.Unmarshal(body, &whole) != nil {
		return ""
	}
	said := httpdial.Clip(c.config.Mask.Hide(httpdial.Saying(whole)))
	if said == "" {
		return ""
	}
	return "; it says: " + said
}
