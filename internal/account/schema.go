package account

import "slices"

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

	// Lists are the attributes that hold several values with parts each, and those.
	Lists map[string][]string `json:"lists,omitempty"`
}

// Attribute returns how the system takes a field.
func (s *Schema) Attribute(field string) (Attribute, bool) {
	if base, parts := PartsOf(field); parts != nil {
		return s.list(field, base, parts)
	}
	if full, ok := s.Aliases[field]; ok {
		field = full
	}
	for _, a := range s.Attributes {
		if a.Field == field {
			return a, true
		}
	}
	return Attribute{}, false
}

// list returns how the system takes a list of values with these parts.
func (s *Schema) list(field, base string, parts []string) (Attribute, bool) {
	if full, ok := s.Aliases[base]; ok {
		base = full
	}
	has, ok := s.Lists[base]
	for _, part := range parts {
		ok = ok && slices.Contains(has, part)
	}
	return Attribute{Field: field, Path: base, Kind: List, Multi: true}, ok
}
