package description

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// A Path is where something stands in JSON: the names of members, one within the other.
type Path []string

// ParsePath reads a path such as name.first; a name with a point in it stands in quotes: custom."shoe.size".
func ParsePath(text string) (p Path, err error) {
	for rest := text; ; {
		var name string
		if quoted, is := strings.CutPrefix(rest, `"`); is {
			var closed bool
			if name, rest, closed = strings.Cut(quoted, `"`); !closed {
				return nil, errors.New("a quote is never closed")
			}
			if rest != "" && rest[0] != '.' {
				return nil, errors.New("behind a quoted name comes a point, or nothing")
			}
		} else {
			end := strings.IndexByte(rest, '.')
			if end < 0 {
				end = len(rest)
			}
			name, rest = rest[:end], rest[end:]
		}
		if name == "" || strings.ContainsAny(name, "[]{}") {
			return nil, errors.New("it is no path such as name.first")
		}
		p = append(p, name)
		if rest == "" {
			return p, nil
		}
		rest = rest[1:]
	}
}

// String writes the path as ParsePath reads it.
func (p Path) String() string {
	parts := make([]string, len(p))
	for i, name := range p {
		if parts[i] = name; strings.Contains(name, ".") {
			parts[i] = `"` + name + `"`
		}
	}
	return strings.Join(parts, ".")
}

// isWritable reports whether ParsePath reads the path as it is written: a name may hold anything.
func (p Path) isWritable() bool {
	read, err := ParsePath(p.String())
	return err == nil && slices.Equal(read, p)
}

// Pointer writes the path as RFC 6901 has it.
func (p Path) Pointer() string {
	var b strings.Builder
	for _, name := range p {
		b.WriteByte('/')
		b.WriteString(strings.NewReplacer("~", "~0", "/", "~1").Replace(name))
	}
	return b.String()
}

// Of returns what stands at the path, nil if nothing does.
func (p Path) Of(value any) any {
	for _, name := range p {
		object, is := value.(map[string]any)
		if !is {
			return nil
		}
		value = object[name]
	}
	return value
}

// Has reports whether something stands at the path, be it null.
func (p Path) Has(value any) bool {
	if len(p) == 0 {
		return value != nil
	}
	object, is := p[:len(p)-1].Of(value).(map[string]any)
	if !is {
		return false
	}
	_, has := object[p[len(p)-1]]
	return has
}

// Put puts a value at the path, and makes the objects on the way.
func (p Path) Put(object map[string]any, value any) {
	for _, name := range p[:len(p)-1] {
		next, is := object[name].(map[string]any)
		if !is {
			next = map[string]any{}
			object[name] = next
		}
		object = next
	}
	object[p[len(p)-1]] = value
}

// Drop takes away what stands at the path.
func (p Path) Drop(object map[string]any) {
	if at, is := p[:len(p)-1].Of(object).(map[string]any); is {
		delete(at, p[len(p)-1])
	}
}

// Text is what a value is as text: a number as it was written, however large; of objects and lists, their JSON.
func Text(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case string:
		return v
	case json.Number:
		return v.String()
	case bool:
		return map[bool]string{true: "true", false: "false"}[v]
	}
	data, err := json.Marshal(value)
	if err != nil {
		return fmt.Sprint(value)
	}
	return string(data)
}

// items is a list that stands somewhere: of what is no list, that alone; of nothing, none.
func items(value any) []any {
	switch v := value.(type) {
	case nil:
		return nil
	case []any:
		return v
	}
	return []any{value}
}

// clone copies a value in depth.
func clone(value any) any {
	switch v := value.(type) {
	case map[string]any:
		copied := make(map[string]any, len(v))
		for name, member := range v {
			copied[name] = clone(member)
		}
		return copied
	case []any:
		copied := slices.Clone(v)
		for i := range copied {
			copied[i] = clone(copied[i])
		}
		return copied
	}
	return value
}
