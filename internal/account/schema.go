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
	Unseen      bool     `json:"unseen,omitempty"`      // the system takes it and does not show it: of accounts that are there nobody can say whether it is as wanted
	Loses       string   `json:"loses,omitempty"`       // what a change of it does away with for good, and undoing it does not bring back
	Unique      bool     `json:"unique"`                // no two accounts share a value
	Exact       bool     `json:"exact"`                 // capitals make a difference
	Allowed     []string `json:"allowed,omitempty"`     // the values it takes; empty: any
	Longest     int      `json:"longest,omitempty"`     // characters of a value; 0: any number
	Rule        Rule     `json:"rule,omitempty"`        // when the system takes two values for one

	// Refuses says why the system cannot take a value, if it cannot; nil: all that the rest
	// says of it can be taken.
	Refuses func(value string) (why string) `json:"-"`

	// Behind begins what else stands in a value, behind its first part: a row whose value has none
	// of it says nothing of that, and it stays. Empty: a value is one whole.
	Behind string `json:"-"`

	// Also are other ways to write what is allowed, in small letters → the value.
	Also map[string]string `json:"-"`
}

// Kept is the value after with what the one before has behind its first part, unless after says something of that.
func (a *Attribute) Kept(before, after string) string {
	if a.Behind == "" || after == "" || strings.Contains(after, a.Behind) {
		return after
	}
	if at := strings.Index(before, a.Behind); at >= 0 {
		return after + before[at:]
	}
	return after
}

// A Rule says when a system takes two values of an attribute for one: it finds the one by
// the other, and nobody else may have it where values are unique. The zero Rule is that of
// the field in the catalogue.
type Rule string

// The rules beside that of the catalogue.
const (
	ByLetter Rule = "by letter" // every difference counts
	AnyCase  Rule = "any case"  // capitals and how much space stands between words do not (RFC 4517 section 4.2.11)
	DN       Rule = "name"      // a distinguished name, part by part (RFC 4517 section 4.2.15)
)

// A Suspension is how a system marks an account that may not sign in: a field that has
// one value then, and another else.
type Suspension struct {
	Field string `json:"field"` // empty: accounts cannot be suspended
	On    string `json:"on"`    // the account may sign in; a value that is neither means that as well
	Off   string `json:"off"`
}

// A Schema is what a system takes of an account.
type Schema struct {
	Naming     string            `json:"naming"` // the field that names an account to people
	Suspension Suspension        `json:"suspension"`
	Renewal    string            `json:"renewal,omitempty"` // the field that has a person choose another password; empty: none that the system tells of
	Attributes []Attribute       `json:"attributes"`
	Aliases    map[string]string `json:"aliases,omitempty"` // short name → Field of the attribute

	// Along has fields that are given another's new value with it, where both held the same
	// before: field → the other that goes along.
	Along map[string]string `json:"-"`

	// Owners are the fields with the numbers of an account's and its group's by which files
	// are owned; empty: there are no files.
	Owners [2]string `json:"-"`

	// Composed are fields that are put together of others, where a brief does not give them.
	Composed []Composed `json:"-"`

	// Short are the last parts of full names that only one attribute ends in → Field.
	Short map[string]string `json:"short,omitempty"`

	// Lists are the attributes that hold several values with parts each, and those.
	Lists map[string][]string `json:"lists,omitempty"`
}

// Composed is a field that a system has instead of some that other systems have, and that is
// put together of those: of the first of the lists whose fields there are, with a space
// between.
type Composed struct {
	Field string
	Of    [][]string
}

// Attribute returns how the system takes a field.
func (s *Schema) Attribute(field string) (Attribute, bool) {
	if base, parts := PartsOf(field); parts != nil {
		return s.list(field, base, parts)
	}
	field = s.Full(field)
	for i := range s.Attributes {
		if a := &s.Attributes[i]; a.Field == field {
			return *a, true
		}
	}
	return Attribute{}, false
}

// Field returns a field as the system has it: of the catalogue, or a plain one for one of
// the system's own.
func (s *Schema) Field(name string) Field {
	field, known := FieldNamed(name)
	if base, parts := PartsOf(name); !known && parts != nil {
		return Field{Name: name, Label: base, Kind: List}
	}
	attribute, has := s.Attribute(name)
	if !known {
		field = Field{Name: name, Label: name, Kind: attribute.Kind}
	}
	if has {
		field.Rule = attribute.Rule
	}
	return field
}

// IsSuspended reports whether an account is one that may not sign in.
func (s *Schema) IsSuspended(a *Account) bool {
	return s.Suspension.Field != "" && a.Field(s.Suspension.Field).Text() == s.Suspension.Off
}

// MaySuspend reports whether accounts can be suspended and let back in.
func (s *Schema) MaySuspend() bool {
	attribute, has := s.Attribute(s.Suspension.Field)
	return has && !attribute.ReadOnly
}

// Mark returns the change that suspends an account, or lets it back in.
func (s *Schema) Mark(a *Account, off bool) Change {
	after := s.Suspension.On
	if off {
		after = s.Suspension.Off
	}
	return Change{Field: s.Suspension.Field, Before: a.Field(s.Suspension.Field), After: Of(after)}
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

// Shorten fills Short in, where parts of full names stand between separators.
func (s *Schema) Shorten(separator string) {
	s.Short = map[string]string{}
	taken := map[string]bool{} // by an attribute that is called so, or by two that end so
	for alias := range s.Aliases {
		taken[alias] = true
	}
	for _, a := range s.Attributes {
		taken[a.Field] = true
	}
	add := func(full string) {
		at := strings.LastIndex(full, separator)
		last := full[at+len(separator):]
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
