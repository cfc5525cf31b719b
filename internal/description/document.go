package description

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"evenledger/internal/account"
)

// A schema is as much of a JSON Schema (draft 2020-12), or of an OpenAPI 3 document's, as says what a field takes.
type schema struct {
	Ref         string             `json:"$ref"`
	Type        any                `json:"type"`
	Format      string             `json:"format"`
	Title       string             `json:"title"`
	Description string             `json:"description"`
	Enum        []any              `json:"enum"`
	MaxLength   int                `json:"maxLength"`
	ReadOnly    bool               `json:"readOnly"`
	Required    []string           `json:"required"`
	Properties  map[string]*schema `json:"properties"`
	Items       *schema            `json:"items"`
	AllOf       []*schema          `json:"allOf"`
	OneOf       []*schema          `json:"oneOf"`
	AnyOf       []*schema          `json:"anyOf"`
}

// Bounds on what a document, which may be anybody's, can cost: references one after the other, and schemas looked at.
const (
	mostRefs    = 32
	mostSchemas = 200_000
)

// A document is one with schemas in it.
type document struct {
	tree   any
	looked *int               // schemas so far
	known  map[string]*schema // by pointer
}

// readDocument reads a document in JSON or YAML.
func readDocument(data []byte) (document, error) {
	if len(data) > 32<<20 {
		return document{}, fmt.Errorf("it is larger than 32 MB")
	}
	d := document{looked: new(int), known: map[string]*schema{}}
	if json.Unmarshal(data, &d.tree) == nil {
		return d, nil
	}
	data, err := yaml.YAMLToJSON(data)
	if err == nil {
		err = json.Unmarshal(data, &d.tree)
	}
	if err != nil {
		return d, fmt.Errorf("it is neither JSON nor YAML: %w", err)
	}
	return d, nil
}

// of is what stands at a pointer (RFC 6901); nil: nothing.
func (d document) of(pointer string) any {
	value := d.tree
	for name := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		if strings.Trim(pointer, "/") == "" {
			break
		}
		object, _ := value.(map[string]any)
		value = object[strings.NewReplacer("~1", "/", "~0", "~").Replace(name)]
	}
	return value
}

// at is the schema at a pointer.
func (d document) at(pointer string) (*schema, error) {
	if s := d.known[pointer]; s != nil {
		return s, nil
	}
	value := d.of(pointer)
	if value == nil {
		return nil, fmt.Errorf("there is nothing at #%s", pointer)
	}
	data, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	s := &schema{}
	if err := json.Unmarshal(data, s); err != nil {
		return nil, fmt.Errorf("what is at #%s is no schema: %w", pointer, err)
	}
	d.known[pointer] = s
	return s, nil
}

// whole is a schema with what it refers to, and what it is put together of.
func (d document) whole(s *schema, depth int) *schema {
	if *d.looked++; s == nil || depth > mostRefs || *d.looked > mostSchemas {
		return &schema{}
	}
	if pointer, is := strings.CutPrefix(s.Ref, "#"); is {
		of, err := d.at(pointer)
		if err != nil {
			return s
		}
		return d.whole(of, depth+1)
	}
	if len(s.AllOf)+len(s.OneOf)+len(s.AnyOf) == 0 {
		return s
	}
	sum := *s
	sum.AllOf, sum.OneOf, sum.AnyOf = nil, nil, nil
	sum.Properties, sum.Required = maps.Clone(s.Properties), slices.Clone(s.Required)
	if sum.Properties == nil {
		sum.Properties = map[string]*schema{}
	}
	for i, part := range slices.Concat(s.AllOf, s.OneOf, s.AnyOf) {
		of := d.whole(part, depth+1)
		for name, p := range of.Properties {
			if sum.Properties[name] == nil {
				sum.Properties[name] = p
			}
		}
		if i < len(s.AllOf) {
			sum.Required = append(sum.Required, of.Required...)
		}
		if sum.Type == nil {
			sum.Type = of.Type
		}
		if len(sum.Enum) == 0 && len(s.OneOf)+len(s.AnyOf) <= 1 {
			sum.Enum, sum.MaxLength = of.Enum, of.MaxLength
		}
	}
	return &sum
}

// is reports whether a schema takes a type.
func (s *schema) is(name string) bool {
	switch t := s.Type.(type) {
	case string:
		return t == name
	case []any:
		return slices.Contains(t, any(name))
	}
	return false
}

// Learn takes out of a schema document what it says of the fields, where the description does not.
func (i *Interface) Learn(data []byte, pointer string) error {
	d, err := readDocument(data)
	if err != nil {
		return err
	}
	top, err := d.at(pointer)
	if err != nil {
		return err
	}
	for n := range i.Account.Fields {
		f := &i.Account.Fields[n]
		s, required, found := d.field(top, f)
		if !found {
			continue
		}
		f.learn(s, required)
	}
	return nil
}

// field is the schema at a field's path.
func (d document) field(s *schema, f *Field) (of *schema, required, found bool) {
	required = true
	s = d.whole(s, 0)
	path := f.At
	if f.Where != nil {
		path = append(slices.Clone(f.At), f.Value...)
	}
	for n, name := range path {
		if n == len(f.At) && s.Items != nil {
			s, required = d.whole(s.Items, 0), false
		}
		next := s.Properties[name]
		if next == nil {
			return nil, false, false
		}
		required = required && slices.Contains(s.Required, name)
		s = d.whole(next, 0)
	}
	return s, required, true
}

func (f *Field) learn(s *schema, required bool) {
	f.Required = f.Required || required && !s.ReadOnly
	f.ReadOnly = f.ReadOnly || s.ReadOnly
	if f.Longest == 0 {
		f.Longest = s.MaxLength
	}
	if f.About == "" {
		if f.About = s.Description; f.About == "" {
			f.About = s.Title
		}
		f.About = strings.Join(strings.Fields(f.About), " ")
	}
	if _, known := account.FieldNamed(f.Name); !known && f.Kind == account.Text && f.Parts == nil {
		f.Kind = s.kind()
	}
	if f.As == AsUsual && f.Words == nil {
		switch {
		case s.is("integer"), s.is("number"):
			f.As = AsNumber
		case s.is("boolean"):
			f.As = AsTruth
		case s.Format == "date-time" && f.Kind == account.Date:
			f.As = AsTime
		}
	}
	if len(f.OneOf) == 0 && f.Kind != account.YesNo {
		for _, value := range s.Enum {
			if text := f.text(value); value != nil && text != "" {
				f.OneOf = append(f.OneOf, text)
			}
		}
	}
}

// kind is the kind of value that a schema takes.
func (s *schema) kind() account.Kind {
	switch {
	case s.is("boolean"):
		return account.YesNo
	case s.is("integer"), s.is("number"):
		return account.Number
	case s.is("array"):
		return account.List
	case s.Format == "date", s.Format == "date-time":
		return account.Date
	case s.Format == "email":
		return account.Email
	}
	return account.Text
}
