package standin

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// A filter is a parsed filter expression (RFC 7644 section 3.4.2.2).
type filter interface {
	// match reports whether the object, which stands at scope, passes.
	match(object map[string]any) bool
}

type (
	both    struct{ left, right filter }
	either  struct{ left, right filter }
	negated struct{ inner filter }
	// compare is "path operator value".
	compare struct {
		at    place
		op    string
		value any
	}
	// elements is "path[filter]".
	elements struct {
		at    place
		inner filter
	}
)

func (f both) match(o map[string]any) bool    { return f.left.match(o) && f.right.match(o) }
func (f either) match(o map[string]any) bool  { return f.left.match(o) || f.right.match(o) }
func (f negated) match(o map[string]any) bool { return !f.inner.match(o) }

func (f elements) match(o map[string]any) bool {
	if f.at.extension != "" {
		o, _ = o[f.at.extension].(map[string]any)
	}
	list, _ := o[f.at.attr.Name].([]any)
	for _, value := range list {
		if element, ok := value.(map[string]any); ok && f.inner.match(element) {
			return true
		}
	}
	return false
}

func (f compare) match(o map[string]any) bool {
	values := valuesAt(o, f.at)
	if f.op == "pr" {
		return len(values) > 0
	}
	leaf := f.at.attr
	if f.at.sub != nil {
		leaf = f.at.sub
	}
	if f.op == "ne" {
		for _, value := range values {
			if compareValues(leaf, value, "eq", f.value) {
				return false
			}
		}
		return true
	}
	for _, value := range values {
		if compareValues(leaf, value, f.op, f.value) {
			return true
		}
	}
	return f.op == "eq" && f.value == nil && len(values) == 0
}

func compareValues(leaf *attribute, value any, op string, with any) bool {
	switch v := value.(type) {
	case string:
		w, ok := with.(string)
		if !ok {
			return false
		}
		if !leaf.CaseExact && leaf.Type == "string" {
			v, w = strings.ToLower(v), strings.ToLower(w)
		}
		return ordered(op, strings.Compare(v, w)) || textual(op, v, w)
	case bool:
		return op == "eq" && value == with
	case json.Number:
		w, ok := with.(json.Number)
		if !ok {
			return false
		}
		a, _ := v.Float64()
		b, _ := w.Float64()
		order := 0
		if a < b {
			order = -1
		} else if a > b {
			order = 1
		}
		return ordered(op, order)
	}
	return false
}

func ordered(op string, order int) bool {
	switch op {
	case "eq":
		return order == 0
	case "gt":
		return order > 0
	case "ge":
		return order >= 0
	case "lt":
		return order < 0
	case "le":
		return order <= 0
	}
	return false
}

func textual(op, v, w string) bool {
	switch op {
	case "co":
		return strings.Contains(v, w)
	case "sw":
		return strings.HasPrefix(v, w)
	case "ew":
		return strings.HasSuffix(v, w)
	}
	return false
}

// valuesAt lists the values at a place: none if there is nothing, several for a
// multi-valued attribute.
func valuesAt(o map[string]any, at place) []any {
	if at.extension != "" {
		inner, ok := o[at.extension].(map[string]any)
		if !ok {
			return nil
		}
		if at.attr == nil {
			return []any{inner}
		}
		o = inner
	}
	value, ok := o[at.attr.Name]
	if !ok || value == nil {
		return nil
	}
	list, multi := value.([]any)
	if !multi {
		list = []any{value}
	}
	sub := at.sub
	if sub == nil && multi {
		sub = at.attr.sub("value") // "emails eq x" means their values
	}
	if sub == nil {
		return list
	}
	var out []any
	for _, item := range list {
		if element, ok := item.(map[string]any); ok {
			if inner, ok := element[sub.Name]; ok && inner != nil {
				out = append(out, inner)
			}
		}
	}
	return out
}

// parser reads a filter. Its grammar is that of RFC 7644 figure 1, with "not"
// binding closest, then "and", then "or".
type parser struct {
	text  string
	at    int
	kind  *resourceType
	inner *attribute // the complex attribute whose elements are looked at, or nil
	depth int
}

func parseFilter(kind *resourceType, text string) (filter, error) {
	p := &parser{text: text, kind: kind}
	f, err := p.or()
	if err != nil {
		return nil, err
	}
	if p.space(); p.at < len(p.text) {
		return nil, p.fail("unexpected text")
	}
	return f, nil
}

func (p *parser) fail(message string) error {
	return &problem{400, "invalidFilter", fmt.Sprintf("%s at character %d of the filter %s", message, p.at+1, p.text)}
}

func (p *parser) space() {
	for p.at < len(p.text) && p.text[p.at] == ' ' {
		p.at++
	}
}

// word takes the next word if it is the given one.
func (p *parser) word(word string) bool {
	p.space()
	rest := p.text[p.at:]
	if len(rest) < len(word) || !strings.EqualFold(rest[:len(word)], word) {
		return false
	}
	if len(rest) > len(word) && strings.IndexByte(" ()]", rest[len(word)]) < 0 {
		return false
	}
	p.at += len(word)
	return true
}

func (p *parser) take(c byte) bool {
	if p.space(); p.at < len(p.text) && p.text[p.at] == c {
		p.at++
		return true
	}
	return false
}

func (p *parser) or() (filter, error) {
	left, err := p.and()
	for err == nil && p.word("or") {
		var right filter
		if right, err = p.and(); err == nil {
			left = either{left, right}
		}
	}
	return left, err
}

func (p *parser) and() (filter, error) {
	left, err := p.term()
	for err == nil && p.word("and") {
		var right filter
		if right, err = p.term(); err == nil {
			left = both{left, right}
		}
	}
	return left, err
}

func (p *parser) term() (filter, error) {
	if p.depth++; p.depth > 2000 {
		return nil, p.fail("too many terms")
	}
	not := p.word("not")
	if p.take('(') {
		inner, err := p.or()
		if err != nil {
			return nil, err
		}
		if !p.take(')') {
			return nil, p.fail("a closing bracket is missing")
		}
		if not {
			return negated{inner}, nil
		}
		return inner, nil
	}
	if not {
		return nil, p.fail("a bracket must follow not")
	}
	at, err := p.path()
	if err != nil {
		return nil, err
	}
	if p.at < len(p.text) && p.text[p.at] == '[' {
		p.at++
		nested := &parser{text: p.text, at: p.at, kind: p.kind, inner: at.attr, depth: p.depth}
		inner, err := nested.or()
		if err != nil {
			return nil, err
		}
		if p.at = nested.at; !p.take(']') {
			return nil, p.fail("a closing bracket is missing")
		}
		return elements{at, inner}, nil
	}
	for _, op := range []string{"eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le", "pr"} {
		if !p.word(op) {
			continue
		}
		if op == "pr" {
			return compare{at: at, op: op}, nil
		}
		value, err := p.value()
		return compare{at, op, value}, err
	}
	return nil, p.fail("an operator is missing")
}

func (p *parser) path() (place, error) {
	p.space()
	end := p.at
	for end < len(p.text) && !strings.ContainsRune(" []()", rune(p.text[end])) {
		end++
	}
	name := p.text[p.at:end]
	if name == "" {
		return place{}, p.fail("an attribute is missing")
	}
	at, known := place{}, false
	if p.inner != nil {
		at.attr = p.inner.sub(name)
		known = at.attr != nil
	} else {
		at, known = p.kind.locate(name)
	}
	if !known || at.attr == nil {
		return at, p.fail(fmt.Sprintf("there is no attribute %q", name))
	}
	p.at = end
	return at, nil
}

func (p *parser) value() (any, error) {
	p.space()
	rest := p.text[p.at:]
	if strings.HasPrefix(rest, `"`) {
		end := 1
		for end < len(rest) && rest[end] != '"' {
			if rest[end] == '\\' {
				end++
			}
			end++
		}
		if end >= len(rest) {
			return nil, p.fail("a quote is not closed")
		}
		var text string
		if err := json.Unmarshal([]byte(rest[:end+1]), &text); err != nil {
			return nil, p.fail("a text is not valid JSON")
		}
		p.at += end + 1
		return text, nil
	}
	end := strings.IndexAny(rest, " )]")
	if end < 0 {
		end = len(rest)
	}
	word := rest[:end]
	p.at += end
	switch strings.ToLower(word) {
	case "true":
		return true, nil
	case "false":
		return false, nil
	case "null":
		return nil, nil
	}
	if _, err := strconv.ParseFloat(word, 64); err != nil {
		return nil, p.fail("a value is missing")
	}
	return json.Number(word), nil
}
