package secret

import (
	"encoding/base64"
	"encoding/json"
	"html"
	"net/url"
	"slices"
	"strings"
	"sync"
)

// hidden stands where a secret stood.
const hidden = "(hidden)"

// shortestHidden is the shortest secret that is looked for: a shorter one would
// take apart any text.
const shortestHidden = 3

// A Mask takes secrets out of texts that others wrote, such as what a server
// answers. It knows every form in which a secret may come back: as it is, as JSON
// and JSON within JSON have it, percent-encoded, in HTML and in base64. It may be
// used by several goroutines; the nil Mask hides nothing.
type Mask struct {
	mu    sync.RWMutex
	forms map[int]map[string]bool // by length, so that a text is looked through once for each
}

// NewMask returns a mask of these secrets.
func NewMask(secrets ...string) *Mask {
	m := &Mask{forms: map[int]map[string]bool{}}
	for _, s := range secrets {
		m.Add(s)
	}
	return m
}

// Add has a secret hidden from now on.
func (m *Mask) Add(secret string) {
	if m == nil || len(secret) < shortestHidden {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, form := range forms(secret) {
		if m.forms[len(form)] == nil {
			m.forms[len(form)] = map[string]bool{}
		}
		m.forms[len(form)][form] = true
	}
}

// forms are the ways in which a secret may be written.
func forms(secret string) []string {
	inJSON := func(text string) string {
		data, err := json.Marshal(text)
		if err != nil {
			return text
		}
		return string(data[1 : len(data)-1])
	}
	plainJSON := strings.NewReplacer(`\u0026`, "&", `\u003c`, "<", `\u003e`, ">") // as encoders write that spare HTML
	all := []string{secret}
	for range 2 {
		for _, form := range slices.Clone(all) {
			all = append(all, inJSON(form), plainJSON.Replace(inJSON(form)), strings.ReplaceAll(inJSON(form), "/", `\/`))
		}
	}
	for _, form := range slices.Clone(all) {
		all = append(all, capitals(form))
	}
	// Of base64, what comes before the padding is enough.
	all = append(all, url.QueryEscape(secret), strings.ToLower(url.QueryEscape(secret)), url.PathEscape(secret), html.EscapeString(secret), base64.RawStdEncoding.EncodeToString([]byte(secret)), base64.RawURLEncoding.EncodeToString([]byte(secret)))
	slices.Sort(all)
	return slices.Compact(all)
}

// capitals writes the hexadecimal digits of JSON's escapes in capitals.
func capitals(form string) string {
	out := []byte(form)
	for i := 0; i+6 <= len(out); i++ {
		if out[i] == '\\' && out[i+1] == 'u' {
			copy(out[i+2:], strings.ToUpper(form[i+2:i+6]))
		}
	}
	return string(out)
}

// Hide returns a text without the secrets.
func (m *Mask) Hide(text string) string {
	if m == nil || len(text) < shortestHidden {
		return text
	}
	m.mu.RLock()
	defer m.mu.RUnlock()
	// The longest first: a short form may be a part of a long one.
	lengths := make([]int, 0, len(m.forms))
	for length := range m.forms {
		lengths = append(lengths, length)
	}
	slices.Sort(lengths)
	slices.Reverse(lengths)
	for _, length := range lengths {
		text = hide(text, length, m.forms[length])
	}
	return text
}

func hide(text string, length int, forms map[string]bool) string {
	var out strings.Builder
	from := 0
	for at := 0; at+length <= len(text); {
		if !forms[text[at:at+length]] {
			at++
			continue
		}
		out.WriteString(text[from:at])
		out.WriteString(hidden)
		at += length
		from = at
	}
	if from == 0 {
		return text
	}
	out.WriteString(text[from:])
	return out.String()
}
