package scim

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
)

// core is the schema of a user (RFC 7643 section 4.1).
const core = "urn:ietf:params:scim:schemas:core:2.0:User"

// groupSchema is the schema of a group (RFC 7643 section 4.2).
const groupSchema = "urn:ietf:params:scim:schemas:core:2.0:Group"

// A path is a place in a resource (RFC 7644 section 3.10), of the forms the
// program needs: attribute, attribute.sub, schema:attribute and
// attribute[type eq "x"].sub.
type path struct {
	schema string // the extension's URN; empty for the core schema
	attr   string
	kind   string // the value of "type" that picks an element; empty: a single value
	sub    string
	parts  string // of each element, with commas between; empty: its value
}

func parsePath(text string) path {
	var p path
	if colon := strings.LastIndexByte(text, ':'); strings.HasPrefix(text, "urn:") && colon > 0 {
		p.schema, text = text[:colon], text[colon+1:]
		if strings.EqualFold(p.schema, core) {
			p.schema = ""
		}
	}
	if open := strings.IndexByte(text, '['); open >= 0 {
		p.kind, _, _ = strings.Cut(text[open+len(`[type eq "`):], `"`)
		p.attr = text[:open]
		p.sub = text[strings.LastIndexByte(text, '.')+1:]
		return p
	}
	p.attr, p.sub, _ = strings.Cut(text, ".")
	return p
}

// String writes the path as a PATCH operation has it.
func (p path) String() string {
	text := p.attr
	if p.schema != "" {
		text = p.schema + ":" + text
	}
	if p.kind != "" {
		text += `[type eq "` + p.kind + `"]`
	}
	if p.sub != "" {
		text += "." + p.sub
	}
	return text
}

// filter writes the path as a filter has it: any element counts, as the hit is
// looked at again anyway.
func (p path) filter() string {
	p.kind = ""
	return p.String()
}

// top is the attribute to ask for so that the path's value comes back.
func (p path) top() string {
	if p.schema != "" {
		return p.schema + ":" + p.attr
	}
	return p.attr
}

// A resource is a JSON object of RFC 7643. Attribute names are case-insensitive
// there, so it is read with get and set.
type resource map[string]any

func (r resource) key(name string) string {
	if _, ok := r[name]; ok {
		return name
	}
	for key := range r {
		if len(key) == len(name) && strings.EqualFold(key, name) { // names are ASCII (RFC 7643 section 2.1)
			return key
		}
	}
	return name
}

func (r resource) get(name string) any { return r[r.key(name)] }

// text returns a text, or a number as one: some servers have numbers for identifiers.
func (r resource) text(name string) string {
	switch v := r.get(name).(type) {
	case string:
		return v
	case json.Number:
		return v.String()
	}
	return ""
}

// object returns the object under name, made if make is set.
func (r resource) object(name string, make bool) resource {
	key := r.key(name)
	if inner, ok := r[key].(map[string]any); ok {
		return inner
	}
	if !make {
		return nil
	}
	inner := map[string]any{}
	r[key] = inner
	return inner
}

// element returns the element of the list under attr whose type is kind. An
// element without a type, or one marked as primary, stands for "work".
func (r resource) element(attr, kind string) resource {
	list, _ := r.get(attr).([]any)
	var second resource
	for _, item := range list {
		element, ok := item.(map[string]any)
		if !ok {
			continue
		}
		e := resource(element)
		if strings.EqualFold(e.text("type"), kind) {
			return e
		}
		if primary, _ := e.get("primary").(bool); kind == "work" && (primary && attr == "emails" || e.text("type") == "") && second == nil {
			second = e
		}
	}
	return second
}

// value returns what stands at the path, as text.
func (r resource) value(p path) account.Value {
	at := r
	if p.schema != "" {
		if at = r.object(p.schema, false); at == nil {
			return account.Value{}
		}
	}
	switch {
	case p.kind != "":
		at = at.element(p.attr, p.kind)
	case p.sub != "":
		at = at.object(p.attr, false)
	}
	if at == nil {
		return account.Value{}
	}
	name := p.sub
	if name == "" {
		name = p.attr
	}
	switch v := at.get(name).(type) {
	case string:
		return account.Of(v)
	case bool:
		if v {
			return account.Of("true")
		}
		return account.Of("false")
	case json.Number:
		return account.Of(v.String())
	case []any:
		var items []string
		for _, item := range v {
			if element, ok := item.(map[string]any); ok && p.parts != "" {
				item = resource(element).joined(p.parts)
			} else if ok {
				item = resource(element).get("value")
			}
			if text, ok := item.(string); ok && text != "" {
				items = append(items, text)
			}
		}
		return account.Of(account.ListOf(items))
	case map[string]any: // a reference, such as the manager
		return account.Of(resource(v).text("value"))
	}
	return account.Value{}
}

// joined writes the parts of an element as an item of a list.
func (r resource) joined(parts string) string {
	var texts []string
	for part := range strings.SplitSeq(parts, ",") {
		switch v := r.get(part).(type) {
		case string:
			texts = append(texts, v)
		case bool:
			texts = append(texts, strconv.FormatBool(v))
		default:
			texts = append(texts, "")
		}
	}
	return strings.Join(texts, "\t")
}

// set puts a value at the path, or takes it away if the value is nil.
func (r resource) set(p path, value any) {
	at := r
	if p.schema != "" {
		at = r.object(p.schema, true)
	}
	switch {
	case p.kind != "":
		element := at.element(p.attr, p.kind)
		if element == nil {
			if value == nil {
				return
			}
			element = resource{"type": p.kind}
			key := at.key(p.attr)
			list, _ := at[key].([]any)
			if p.attr == "emails" && len(list) == 0 {
				element["primary"] = true
			}
			at[key] = append(list, map[string]any(element))
		}
		at = element
	case p.sub != "":
		at = at.object(p.attr, true)
	}
	name := p.sub
	if name == "" {
		name = p.attr
	}
	if value != nil {
		at[at.key(name)] = value
		return
	}
	delete(at, at.key(name))
	if p.kind != "" {
		r.dropEmpty(p)
	}
}

// dropEmpty takes the elements out of a list that have nothing left but what
// they were for.
func (r resource) dropEmpty(p path) {
	at := r
	if p.schema != "" {
		at = r.object(p.schema, true)
	}
	key := at.key(p.attr)
	list, _ := at[key].([]any)
	kept := slices.DeleteFunc(list, func(item any) bool {
		element, ok := item.(map[string]any)
		if !ok {
			return false
		}
		for name := range element {
			if !strings.EqualFold(name, "type") && !strings.EqualFold(name, "primary") && !strings.EqualFold(name, "display") {
				return false
			}
		}
		return true
	})
	if at[key] = kept; len(kept) == 0 {
		delete(at, key)
	}
}
