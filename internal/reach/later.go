package reach

import (
	"net/http"
	"strconv"
	"strings"
	"time"
)

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
