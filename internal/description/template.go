package description

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"evenledger/internal/expr"
	"evenledger/internal/yamldoc"
)

// A Template is a text with expressions in braces; two braces stand for one.
type Template struct {
	Source string
	parts  []part
}

// A part is a text, or an expression.
type part struct {
	text string
	made *expr.Expr // nil: it is the text
}

// maker compiles what a description says in expressions.
type maker struct{ env *expr.Env }

// template compiles a text. Mistakes are reported where it stands; may are the names of the templates' own that it may use.
func (m *maker) template(node yamldoc.Node, may ...string) Template {
	t := Template{Source: node.Text()}
	var plain strings.Builder
	for rest := t.Source; rest != ""; {
		switch {
		case strings.HasPrefix(rest, "{{"), strings.HasPrefix(rest, "}}"):
			plain.WriteByte(rest[0])
			rest = rest[2:]
		case rest[0] == '{':
			end := strings.IndexByte(rest, '}')
			if end < 0 {
				node.Fail("Close it with }, or write {{ for a brace that is meant.", "a brace is never closed")
				return t
			}
			if made := m.compile(node, strings.TrimSpace(rest[1:end]), expr.Any, may); made != nil {
				t.parts = append(t.parts, part{text: plain.String()}, part{made: made})
				plain.Reset()
			}
			rest = rest[end+1:]
		default:
			plain.WriteByte(rest[0])
			rest = rest[1:]
		}
	}
	if plain.Len() > 0 {
		t.parts = append(t.parts, part{text: plain.String()})
	}
	t.parts = slices.DeleteFunc(t.parts, func(p part) bool { return p.made == nil && p.text == "" })
	return t
}

func (m *maker) compile(node yamldoc.Node, source string, want expr.Type, may []string) *expr.Expr {
	compiled, err := m.env.Compile(source, want)
	var mistake *expr.Error
	switch {
	case errors.As(err, &mistake):
		node.Fail(mistake.Remedy, "in {%s}: %s", source, mistake.Message)
		return nil
	case err != nil:
		node.Fail("", "the expression {%s} cannot be readied: %v", source, err)
		return nil
	}
	for _, name := range compiled.Names {
		if slices.Contains(own[:], name) && !slices.Contains(may, name) {
			node.Fail("Here there are: "+join(may)+", and the account's fields.", "{%s}: there is no “%s” in such a request", source, name)
			return nil
		}
	}
	return compiled
}

// Uses reports whether a name stands in one of the template's expressions.
func (t *Template) Uses(name string) bool {
	return slices.ContainsFunc(t.parts, func(p part) bool { return p.made != nil && slices.Contains(p.made.Names, name) })
}

// write fills the template; each expression's value goes through escape.
func (t *Template) write(s *Scope, escape func(string) (string, error)) (string, error) {
	var out strings.Builder
	for _, p := range t.parts {
		text := p.text
		if p.made != nil {
			made, err := p.made.Text(s.ready())
			if err == nil {
				made, err = escape(made)
			}
			if err != nil {
				return "", fmt.Errorf("{%s}: %w", p.made.Source, err)
			}
			text = made
		}
		out.WriteString(text)
	}
	return out.String(), nil
}

// Text fills the template as it is.
func (t *Template) Text(s *Scope) (string, error) {
	return t.write(s, func(text string) (string, error) { return text, nil })
}

// Address fills the template as a path. A value is a part of it and leads nowhere else, whoever normalises the
// address on its way.
func (t *Template) Address(s *Scope) (string, error) {
	return t.write(s, func(text string) (string, error) {
		if text == "" {
			return "", errors.New("it is blank, and would lead to another address")
		}
		for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == '/' || r == '\\' }) {
			if part == "." || part == ".." {
				return "", fmt.Errorf("“%s” would lead to another address", text)
			}
		}
		return url.PathEscape(text), nil
	})
}

// A Body is what is sent: a piece of JSON with templates in it.
type Body struct {
	Is    bool // there is one
	Whole bool // the account as it is to be
	form  bool // it is sent as a form, and not as JSON
	tree  any  // nil, bool, json.Number, Template, []any, map[string]any
}

// uses reports whether a name stands in the body.
func (b *Body) uses(name string) bool { return usesIn(b.tree, name) }

func usesIn(tree any, name string) bool {
	switch v := tree.(type) {
	case Template:
		return v.Uses(name)
	case []any:
		return slices.ContainsFunc(v, func(item any) bool { return usesIn(item, name) })
	case map[string]any:
		for _, item := range v {
			if usesIn(item, name) {
				return true
			}
		}
	}
	return false
}

// tree reads a piece of JSON out of YAML: texts are templates, what stands bare and looks like a number,
// true, false or null is that.
func (m *maker) tree(node yamldoc.Node, may []string) any {
	if value, is := node.Bare(); is {
		return value
	}
	switch {
	case node.IsList():
		list := []any{}
		for _, item := range node.Items() {
			list = append(list, m.tree(item, may))
		}
		return list
	case node.IsText():
		return m.template(node, may...)
	}
	object := map[string]any{}
	for _, pair := range node.Pairs() {
		object[pair.Key] = m.tree(pair.Value, may)
	}
	return object
}

// fill makes JSON of a tree. A template that is one expression and nothing else gives the field's own JSON;
// where that is blank, the member is left out of a new account's, and null else.
func (s *Scope) fill(tree any) (value any, blank bool, err error) {
	switch v := tree.(type) {
	case Template:
		if len(v.parts) == 1 && v.parts[0].made != nil {
			if f, is := s.of.Account.Field(v.parts[0].made.Source); is {
				value, err := f.JSON(s.values[f.Name])
				return value, value == nil, err
			}
		}
		text, err := v.Text(s)
		return text, text == "" && len(v.parts) > 0, err
	case []any:
		list := []any{}
		for _, item := range v {
			one, blank, err := s.fill(item)
			if err != nil {
				return nil, false, err
			}
			if !blank {
				list = append(list, one)
			}
		}
		return list, false, nil
	case map[string]any:
		object := map[string]any{}
		for name, item := range v {
			one, blank, err := s.fill(item)
			switch {
			case err != nil:
				return nil, false, err
			case !blank:
				object[name] = one
			case !s.isNew:
				object[name] = nil
			}
		}
		return object, false, nil
	}
	return tree, false, nil
}

// JSON is the body as it is sent.
func (b *Body) JSON(s *Scope) ([]byte, error) {
	value, _, err := s.fill(b.tree)
	if err != nil {
		return nil, err
	}
	if !b.form {
		return Encode(value)
	}
	form := url.Values{}
	object, _ := value.(map[string]any)
	for _, name := range slices.Sorted(maps.Keys(object)) {
		if object[name] != nil {
			form.Set(name, Text(object[name]))
		}
	}
	return []byte(form.Encode()), nil
}

// Plus is what is sent with a whole account besides its fields; nil: nothing.
func (b *Body) Plus(s *Scope) (map[string]any, error) {
	if b.tree == nil {
		return nil, nil
	}
	value, _, err := s.fill(b.tree)
	object, _ := value.(map[string]any)
	return object, err
}

// Encode writes JSON, with letters as they are.
func Encode(value any) ([]byte, error) {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(value)
	return bytes.TrimSuffix(out.Bytes(), []byte("\n")), err
}

// New has the scope be that of an account to be made.
func (s *Scope) New() *Scope {
	s.isNew = true
	return s
}

// A Test is an expression over an answer: its status, its JSON (body) and its header.
type Test struct{ made *expr.Expr }

// Passes reports whether an answer passes. One in which there is nothing of what is asked for does not.
func (t *Test) Passes(status int, body any, header map[string]string) bool {
	if t == nil {
		return false
	}
	passes, err := t.made.TrueOf(map[string]any{"status": status, "body": body, "header": header})
	return err == nil && passes
}

// tests are what tests are compiled over.
func tests(today string) *expr.Env {
	return expr.NewEnv([]expr.Variable{{Name: "status", Type: expr.Any}, {Name: "body", Type: expr.Any}, {Name: "header", Type: expr.Any}}, today)
}
