package httpdial

import (
	"regexp"
	"strings"
)

var markup = regexp.MustCompile(`(?is)<(style|script|head)\b.*?</(style|script|head)>|<[^>]*>`)

// Unmarked is the text of a page, without its marks.
func Unmarked(page string) string { return markup.ReplaceAllString(page, " ") }

// Kind says what came where JSON was expected.
func (a *Answer) Kind() string {
	start := strings.ToLower(string(a.Body[:min(len(a.Body), 512)]))
	if strings.Contains(start, "<html") || strings.Contains(start, "<!doctype") {
		return "a web page"
	}
	switch kind := a.Header.Get("Content-Type"); {
	case strings.Contains(kind, "json"):
		return "broken JSON"
	case kind != "":
		return kind
	}
	return "something else"
}

// places are where the reason of a refusal usually stands in JSON: as in RFC 7644 section 3.12, RFC 9457 section 3.1
// and RFC 6749 section 5.2, and elsewhere.
var places = [...]string{"detail", "error_description", "message", "description", "title", "reason", "error", "errors", "msg"}

// Saying finds the words in an error of whatever form, as JSON; empty: there are none.
func Saying(value any) string { return saying(value, 3) }

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
		for _, name := range places {
			if depth == 0 {
				break
			}
			for key, member := range v {
				if !strings.EqualFold(key, name) {
					continue
				}
				if text := saying(member, depth-1); text != "" {
					return text
				}
			}
		}
	}
	return ""
}
