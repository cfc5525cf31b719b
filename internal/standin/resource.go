package standin

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// problem is an error to answer with (RFC 7644 section 3.12).
type problem struct {
	status   int
	scimType string
	detail   string
}

func (p *problem) Error() string { return p.detail }

func invalid(format string, args ...any) error {
	return &problem{400, "invalidValue", fmt.Sprintf(format, args...)}
}

// accept turns a body that was sent into a resource as it is stored: names in
// the schema's spelling, values of the schema's types, nothing that is not
// defined, nothing empty, nothing read-only.
func (t *resourceType) accept(body map[string]any) (map[string]any, error) {
	schemas, err := declared(body)
	if err != nil {
		return nil, err
	}
	if !containsFold(schemas, t.schema.id) {
		return nil, &problem{400, "invalidSyntax", "schemas must name " + t.schema.id}
	}
	for _, id := range schemas {
		if !strings.EqualFold(id, t.schema.id) && t.extension(id) == nil {
			return nil, &problem{400, "invalidSyntax", "schemas names " + id + ", which is not known"}
		}
	}
	out := map[string]any{}
	for name, value := range body {
		if s := t.extension(name); s != nil {
			if !containsFold(schemas, s.id) {
				return nil, &problem{400, "invalidSyntax", "schemas does not name " + s.id + ", whose attributes are in the body"}
			}
			inner, ok := value.(map[string]any)
			if !ok {
				return nil, invalid("%s must be an object", s.id)
			}
			accepted, err := acceptObject(s.attributes, inner)
			if err != nil {
				return nil, err
			}
			if len(accepted) > 0 {
				out[s.id] = accepted
			}
			continue
		}
		a := named(t.top, name)
		if a == nil {
			return nil, invalid("there is no attribute %q", name)
		}
		if a.Name == "schemas" || a.Mutability == "readOnly" {
			continue // read-only attributes are ignored (RFC 7644 section 3.3)
		}
		accepted, err := acceptValue(a, value)
		if err != nil {
			return nil, err
		}
		if accepted != nil {
			out[a.Name] = accepted
		}
	}
	return out, t.complete(out)
}

// complete sees that what is required is there.
func (t *resourceType) complete(resource map[string]any) error {
	for _, a := range t.schema.attributes {
		if a.Required && (resource[a.Name] == nil || resource[a.Name] == "") {
			return invalid("%s is required", a.Name)
		}
	}
	return nil
}

func declared(body map[string]any) ([]string, error) {
	for name, value := range body {
		if strings.EqualFold(name, "schemas") {
			list, _ := value.([]any)
			var out []string
			for _, item := range list {
				if text, ok := item.(string); ok {
					out = append(out, text)
				}
			}
			if len(out) > 0 {
				return out, nil
			}
		}
	}
	return nil, &problem{400, "invalidSyntax", "schemas is missing"}
}

func containsFold(list []string, s string) bool {
	return slices.ContainsFunc(list, func(item string) bool { return strings.EqualFold(item, s) })
}

func acceptObject(attributes []*attribute, body map[string]any) (map[string]any, error) {
	out := map[string]any{}
	for name, value := range body {
		a := named(attributes, name)
		if a == nil {
			return nil, invalid("there is no attribute %q", name)
		}
		if a.Mutability == "readOnly" {
			continue
		}
		accepted, err := acceptValue(a, value)
		if err != nil {
			return nil, err
		}
		if accepted != nil {
			out[a.Name] = accepted
		}
	}
	return out, nil
}

// acceptValue checks a value against its attribute; nothing comes back for null
// and for an empty list, which mean that there is no value.
func acceptValue(a *attribute, value any) (any, error) {
	if value == nil {
		return nil, nil
	}
	if !a.MultiValued {
		return acceptOne(a, value)
	}
	list, ok := value.([]any)
	if !ok {
		return nil, invalid("%s must be a list", a.Name)
	}
	var out []any
	primaries := 0
	for _, item := range list {
		one, err := acceptOne(a, item)
		if err != nil {
			return nil, err
		}
		if element, ok := one.(map[string]any); ok && element["primary"] == true {
			primaries++
		}
		out = append(out, one)
	}
	if primaries > 1 {
		return nil, invalid("%s has more than one primary value", a.Name)
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

func acceptOne(a *attribute, value any) (any, error) {
	wrong := func() (any, error) { return nil, invalid("%s must be of type %s", a.Name, a.Type) }
	switch a.Type {
	case "complex":
		inner, ok := value.(map[string]any)
		if !ok {
			return wrong()
		}
		accepted, err := acceptObject(a.SubAttributes, inner)
		if err != nil || len(accepted) == 0 && !a.MultiValued {
			return nil, err
		}
		return accepted, nil
	case "boolean":
		if _, ok := value.(bool); !ok {
			return wrong()
		}
		return value, nil
	case "integer":
		n, ok := value.(json.Number)
		if !ok {
			return wrong()
		}
		if _, err := n.Int64(); err != nil {
			return wrong()
		}
		return n, nil
	}
	text, ok := value.(string)
	if !ok {
		return wrong()
	}
	if len(text) > 4096 {
		return nil, invalid("%s is longer than 4096 bytes", a.Name)
	}
	if a.Type == "dateTime" && !isDateTime(text) {
		return wrong()
	}
	if a.enforced && !slices.Contains(a.CanonicalValues, text) {
		return nil, invalid("%s must be one of %s", a.Name, strings.Join(a.CanonicalValues, ", "))
	}
	return text, nil
}

// operation is one operation of a PATCH body (RFC 7644 section 3.5.2).
type operation struct {
	op    string
	path  string
	value any
	has   bool // a value was sent
}

// patch applies the operations to a copy of the resource. If one cannot be
// applied, none is.
func (t *resourceType) patch(stored map[string]any, operations []operation) (map[string]any, error) {
	out := deepCopy(stored).(map[string]any)
	for _, o := range operations {
		if err := t.apply(out, o); err != nil {
			return nil, err
		}
	}
	prune(out)
	return out, t.complete(out)
}

func (t *resourceType) apply(out map[string]any, o operation) error {
	switch o.op {
	case "add", "replace":
		if !o.has {
			return &problem{400, "invalidSyntax", o.op + " needs a value"}
		}
	case "remove":
		if o.path == "" {
			return &problem{400, "noTarget", "remove needs a path"}
		}
	default:
		return &problem{400, "invalidSyntax", fmt.Sprintf("there is no operation %q", o.op)}
	}
	if o.path == "" {
		return t.applyAll(out, "", o)
	}
	name, inner, sub, err := splitPath(o.path)
	if err != nil {
		return err
	}
	at, ok := t.locate(name)
	if !ok {
		return &problem{400, "invalidPath", fmt.Sprintf("there is no attribute %q", name)}
	}
	holder := out
	if at.extension != "" {
		holder, ok = out[at.extension].(map[string]any)
		if !ok {
			holder = map[string]any{}
			out[at.extension] = holder
		}
		if at.attr == nil {
			if o.op == "remove" {
				delete(out, at.extension)
				return nil
			}
			return t.applyAll(out, at.extension, o)
		}
	}
	if inner != "" {
		return t.applyElements(holder, at, inner, sub, o)
	}
	leaf := at.attr
	if at.sub != nil {
		leaf = at.sub
	}
	if err := mutable(leaf, at.attr, holder); err != nil {
		return err
	}
	if at.sub != nil {
		return applySub(holder, at, o)
	}
	return applyWhole(holder, at.attr, o)
}

// applyAll carries out an operation on each attribute of an object: of the whole resource,
// or of one of its extensions.
func (t *resourceType) applyAll(out map[string]any, extension string, o operation) error {
	body, ok := o.value.(map[string]any)
	switch {
	case !ok && extension == "":
		return invalid("without a path the value must be an object")
	case !ok:
		return invalid("%s must be an object", extension)
	}
	for name, value := range body {
		path := name
		switch inner, ok := value.(map[string]any); {
		case extension != "":
			path = extension + ":" + name
		case ok && t.extension(name) != nil:
			if err := t.applyAll(out, name, operation{o.op, name, inner, true}); err != nil {
				return err
			}
			continue
		case strings.EqualFold(name, "schemas"):
			continue
		}
		if err := t.apply(out, operation{o.op, path, value, true}); err != nil {
			return err
		}
	}
	return nil
}

// mutable refuses a change of what may not be changed.
func mutable(leaf, attr *attribute, holder map[string]any) error {
	if leaf.Mutability == "readOnly" || attr.Mutability == "readOnly" {
		return &problem{400, "mutability", leaf.Name + " is read only"}
	}
	if leaf.Mutability == "immutable" && leaf == attr && holder[attr.Name] != nil {
		return &problem{400, "mutability", leaf.Name + " can be set only once"}
	}
	return nil
}

func applyWhole(holder map[string]any, a *attribute, o operation) error {
	if o.op == "remove" {
		delete(holder, a.Name)
		return nil
	}
	value := o.value
	if a.MultiValued && o.op == "add" {
		if _, list := value.([]any); !list {
			value = []any{value}
		}
	}
	accepted, err := acceptValue(a, value)
	if err != nil {
		return err
	}
	switch {
	case accepted == nil:
		delete(holder, a.Name)
	case a.MultiValued && o.op == "add":
		addElements(holder, a, accepted.([]any))
	case a.Type == "complex" && !a.MultiValued:
		now, _ := holder[a.Name].(map[string]any)
		if now == nil {
			now = map[string]any{}
		}
		maps.Copy(now, accepted.(map[string]any))
		holder[a.Name] = now
	default:
		holder[a.Name] = accepted
	}
	return nil
}

// addElements adds what is not there yet. A new primary element takes the mark
// off the others (RFC 7644 section 3.5.2).
func addElements(holder map[string]any, a *attribute, more []any) {
	list, _ := holder[a.Name].([]any)
	has := make(map[string]bool, len(list))
	for _, item := range list {
		has[text(item)] = true
	}
	for _, item := range more {
		element, _ := item.(map[string]any)
		if has[text(item)] {
			continue
		}
		has[text(item)] = true
		if element["primary"] == true {
			for _, have := range list {
				if other, ok := have.(map[string]any); ok {
					delete(other, "primary")
				}
			}
		}
		list = append(list, item)
	}
	holder[a.Name] = list
}

func same(a, b any) bool {
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	return errX == nil && errY == nil && string(x) == string(y)
}

func applySub(holder map[string]any, at place, o operation) error {
	set := func(element map[string]any) error {
		if o.op == "remove" {
			delete(element, at.sub.Name)
			return nil
		}
		accepted, err := acceptValue(at.sub, o.value)
		if err == nil {
			element[at.sub.Name] = accepted
		}
		return err
	}
	if !at.attr.MultiValued {
		element, ok := holder[at.attr.Name].(map[string]any)
		if !ok {
			element = map[string]any{}
			holder[at.attr.Name] = element
		}
		return set(element)
	}
	list, _ := holder[at.attr.Name].([]any)
	for _, item := range list {
		if element, ok := item.(map[string]any); ok {
			if err := set(element); err != nil {
				return err
			}
		}
	}
	return nil
}

// applyElements changes the elements of a list that a filter picks.
func (t *resourceType) applyElements(holder map[string]any, at place, inner, sub string, o operation) error {
	p := &parser{text: inner, kind: t, inner: at.attr}
	pick, err := p.or()
	if err != nil {
		return err
	}
	if !at.attr.MultiValued {
		return &problem{400, "invalidPath", at.attr.Name + " has no elements"}
	}
	if at.attr.Mutability == "readOnly" {
		return &problem{400, "mutability", at.attr.Name + " is read only"}
	}
	var leaf *attribute
	if sub != "" {
		if leaf = at.attr.sub(sub); leaf == nil {
			return &problem{400, "invalidPath", fmt.Sprintf("%s has no %q", at.attr.Name, sub)}
		}
	}
	list, _ := holder[at.attr.Name].([]any)
	hits := 0
	kept := make([]any, 0, len(list))
	for _, item := range list {
		element, _ := item.(map[string]any)
		if !pick.match(element) {
			kept = append(kept, item)
			continue
		}
		hits++
		switch {
		case o.op == "remove" && leaf == nil:
			continue
		case o.op == "remove":
			delete(element, leaf.Name)
		case leaf != nil:
			accepted, err := acceptValue(leaf, o.value)
			if err != nil {
				return err
			}
			element[leaf.Name] = accepted
		default:
			accepted, err := acceptOne(at.attr, o.value)
			if err != nil {
				return err
			}
			if inner, ok := accepted.(map[string]any); ok {
				maps.Copy(element, inner)
			}
		}
		kept = append(kept, element)
	}
	if hits == 0 {
		return &problem{400, "noTarget", fmt.Sprintf("no element of %s is such that %s", at.attr.Name, inner)}
	}
	holder[at.attr.Name] = kept
	return nil
}

// splitPath cuts `attr[filter].sub` at its brackets.
func splitPath(path string) (name, inner, sub string, err error) {
	open := strings.IndexByte(path, '[')
	if open < 0 {
		return path, "", "", nil
	}
	end := strings.LastIndexByte(path, ']')
	rest := ""
	if end > open {
		rest = path[end+1:]
	}
	if end < open || rest != "" && rest[0] != '.' {
		return "", "", "", &problem{400, "invalidPath", "the brackets of the path do not close"}
	}
	return path[:open], path[open+1 : end], strings.TrimPrefix(rest, "."), nil
}

// prune takes away what has become empty.
func prune(o map[string]any) {
	for name, value := range o {
		switch v := value.(type) {
		case nil:
			delete(o, name)
		case map[string]any:
			if prune(v); len(v) == 0 {
				delete(o, name)
			}
		case []any:
			kept := slices.DeleteFunc(v, func(item any) bool {
				element, ok := item.(map[string]any)
				if ok {
					prune(element)
				}
				// What is left without its value says nothing.
				return ok && (len(element) == 0 || len(element) == 1 && (element["type"] != nil || element["primary"] != nil))
			})
			if o[name] = kept; len(kept) == 0 {
				delete(o, name)
			}
		}
	}
}

func deepCopy(value any) any {
	switch v := value.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, inner := range v {
			out[name] = deepCopy(inner)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, inner := range v {
			out[i] = deepCopy(inner)
		}
		return out
	}
	return value
}
