package httpdial

import (
	"net/http"
	"strconv"
	"strings"
	"time"
)

// A Verdict is what the status of an answer says became of a request (RFC 9110 section 15).
type Verdict int

// The verdicts.
const (
	Done       Verdict = iota // it was carried out
	TakenIn                   // it was accepted (202), and nobody says whether it is carried out
	Elsewhere                 // it was sent on to another address
	TurnedAway                // who asks is not known (401): it was not even looked at
	Busy                      // there were too many (429): likewise
	Missing                   // there is nothing at the address
	Refused                   // it was certainly not carried out
	Open                      // nobody can say: it may have been carried out all the same
)

// VerdictOn is the verdict on a status. A request may time out (408), or its client be thought gone
// (499), when the work is done; of what comes from 500 on only 501 and 505 say that nothing was tried.
func VerdictOn(status int) Verdict {
	switch {
	case status == http.StatusAccepted:
		return TakenIn
	case status >= 200 && status < 300:
		return Done
	case status >= 300 && status < 400:
		return Elsewhere
	case status == http.StatusUnauthorized:
		return TurnedAway
	case status == http.StatusTooManyRequests:
		return Busy
	case status == http.StatusNotFound, status == http.StatusGone:
		return Missing
	case status == http.StatusNotImplemented, status == http.StatusHTTPVersionNotSupported:
		return Refused
	case status == http.StatusRequestTimeout, status < 400 || status >= 500, http.StatusText(status) == "":
		return Open
	}
	return Refused
}

// IsNo reports whether a change was clearly not carried out.
func (v Verdict) IsNo() bool {
	switch v {
	case TurnedAway, Busy, Missing, Refused:
		return true
	}
	return false
}

// RetryAfter reads how long a server asks to be left alone, in either form (RFC 9110 section
// 10.2.3).
func RetryAfter(header http.Header, now time.Time) (wait time.Duration, named bool) {
	text := strings.TrimSpace(header.Get("Retry-After"))
	if seconds, err := strconv.ParseInt(text, 10, 64); err == nil {
		return time.Duration(min(max(seconds, 0), 1e6)) * time.Second, true
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(at.Sub(now), 0), true
	}
	return 0, false
}

// restOf is how long nothing more would pass, where a server says that its quota is used up; 0: it isn't, or nobody says
// (the header fields RateLimit, and RateLimit-Remaining with RateLimit-Reset, of draft-ietf-httpapi-ratelimit-headers).
func restOf(header http.Header) time.Duration {
	left, reset := header.Get("RateLimit-Remaining"), header.Get("RateLimit-Reset")
	for part := range strings.FieldsFuncSeq(header.Get("RateLimit"), func(r rune) bool { return r == ';' || r == ',' }) {
		switch name, value, _ := strings.Cut(strings.TrimSpace(part), "="); name {
		case "r", "remaining":
			left = value
		case "t", "reset":
			reset = value
		}
	}
	seconds, err := strconv.ParseInt(reset, 10, 64)
	if left != "0" || err != nil || seconds < 0 || seconds > int64(longestAsk/time.Second) {
		return 0
	}
	return time.Duration(seconds) * time.Second
}

// Clip shortens what a server says, which may be anything.
func Clip(text string) string {
	text = strings.Join(strings.Fields(strings.ToValidUTF8(text, "")), " ")
	if len(text) > 300 {
		text = strings.ToValidUTF8(text[:300], "") + "…"
	}
	return text
}
