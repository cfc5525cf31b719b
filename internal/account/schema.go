package account

import (
	"maps"
	"slices"
	"strings"
)

// An Attribute is a field as one system takes it.
type Attribute struct {
	Field       string   `json:"field"`                 // our name: of the catalogue, an alias, or the system's own in full
	Path        string   `json:"path"`                  // the system's name for it
	Kind        Kind     `json:"kind"`                  // of its values
	Description string   `json:"description,omitempty"` // in the system's words
	Required    bool     `json:"required"`              // a new account must have it
	ReadOnly    bool     `json:"readOnly"`              // the system keeps it itself
	Multi       bool     `json:"multi"`                 // it holds several values
	Immutable   bool     `json:"immutable"`             // it may be set once
	Unique      bool     `json:"unique"`                // no two accounts share a value
	Exact       bool     `json:"exact"`                 // capitals make a difference
	Allowed     []string `json:"allowed,omitempty"`     // the values it takes; empty: any
}

// A Schema is what a system takes of an account.
type Schema struct {
	Attributes []Attribute       `json:"attributes"`
	Aliases    map[string]string `json:"aliases,omitempty"` // short name → Field of the attribute

	// Short are the last parts of full names that only one attribute ends in → Field.
	Short map[string]string `json:"short,omitempty"`

	// Lists are the attributes that hold several values with parts each, and those.
	Lists map[string][]string `json:"lists,omitempty"`
}

// Attribute returns how the system takes a field.
func (s *Schema) Attribute(field string) (Attribute, bool) {
	if base, parts := PartsOf(field); parts != nil {
		return s.list(field, base, parts)
	}
	field = s.Full(field)
	for _, a := range s.Attributes {
		if a.Field == field {
			return a, true
		}
	}
	return Attribute{}, false
}

// Full returns the name of an attribute for its alias, or for the last part of it.
func (s *Schema) Full(name string) string {
	if full, ok := s.Aliases[name]; ok {
		return full
	}
	if full, ok := s.Short[name]; ok {
		return full
	}
	return name
}

// Shorten fills Short in.
func (s *Schema) Shorten() {
	s.Short = map[string]string{}
	taken := map[string]bool{} // by an attribute that is called so, or by two that end so
	for alias := range s.Aliases {
		taken[alias] = true
	}
	for _, a := range s.Attributes {
		taken[a.Field] = true
	}
	add := func(full string) {
		at := strings.LastIndexByte(full, ':')
		last := full[at+1:]
		if _, known := FieldNamed(last); at < 0 || known || taken[last] {
			return
		}
		if other, has := s.Short[last]; has && other != full {
			delete(s.Short, last)
			taken[last] = true
			return
		}
		s.Short[last] = full
	}
	for _, a := range s.Attributes {
		add(a.Field)
	}
	for _, list := range slices.Sorted(maps.Keys(s.Lists)) {
		add(list)
	}
}

// list returns how the system takes a list of values with these parts.
func (s *Schema) list(field, base string, parts []string) (Attribute, bool) {
	base = s.Full(base)
	has, ok := s.Lists[base]
	for _, part := range parts {
		ok = ok && slices.Contains(has, part)
	}
	return Attribute{Field: field, Path: base, Kind: List, Multi: true}, ok
}
