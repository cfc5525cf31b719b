package account

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
}

// Attribute returns how the system takes a field.
func (s *Schema) Attribute(field string) (Attribute, bool) {
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
