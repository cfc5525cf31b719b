package brief

import (
	"errors"
	"fmt"
	"html"
	"slices"
	"strings"

	"evenledger/internal/expr"
	"evenledger/internal/yamldoc"
)

// A Template is a text with expressions in braces; two braces stand for one.
type Template struct {
	parts []part
}

// part is a text, or an expression.
type part struct {
	text string
	made *Expr // nil: it is the text
}

// PasswordMark stands in a written text where the password will, which is put there at the moment
// of sending. Nothing out of a sheet can hold it.
const PasswordMark = "\uE000password\uE001"

// Mark stands in the body of a follow-up where what only the post knows will: the account's id, or
// the batch's number.
func Mark(name string) string { return "\uE000" + name + "\uE001" }

// Spoken writes what stands in the place of marks as a brief does.
func Spoken(text string) string {
	return strings.NewReplacer("\uE000", "{", "\uE001", "}").Replace(text)
}

// unmarked takes out of what a sheet holds what could be taken for a mark.
var unmarked = strings.NewReplacer("\uE000", "", "\uE001", "")

// template compiles a text. Mistakes are reported at node, which it stands at or which names the
// file of it.
func (b *Brief) template(node yamldoc.Node, text string) *Template {
	t := &Template{}
	var plain strings.Builder
	for rest, line := text, 1; rest != ""; {
		switch {
		case strings.HasPrefix(rest, "{{"), strings.HasPrefix(rest, "}}"):
			plain.WriteByte(rest[0])
			rest = rest[2:]
		case b.mayPassword && strings.HasPrefix(rest, "{password}"):
			plain.WriteString(PasswordMark)
			rest = rest[len("{password}"):]
		case rest[0] == '{':
			end := closingBrace(rest)
			if end < 0 {
				node.Fail("Close it with }, or write {{ for a brace that is meant.", "in line %d of the text, a brace is never closed", line)
				return t
			}
			source := rest[1:end]
			if name := strings.TrimSpace(source); b.later != "" && name == b.later {
				plain.WriteString(Mark(name))
			} else if made := b.inBraces(node, source, line); made != nil {
				t.parts = append(t.parts, part{text: plain.String()}, part{made: made})
				plain.Reset()
			}
			rest = rest[end+1:]
			line += strings.Count(source, "\n")
		default:
			if rest[0] == '\n' {
				line++
			}
			plain.WriteByte(rest[0])
			rest = rest[1:]
		}
	}
	t.parts = append(t.parts, part{text: plain.String()})
	return t
}

func (b *Brief) inBraces(node yamldoc.Node, source string, line int) *Expr {
	compiled, err := b.env.Compile(strings.TrimSpace(source), expr.Text)
	var mistake *expr.Error
	switch {
	case errors.As(err, &mistake):
		node.Fail(mistake.Remedy, "in line %d of the text, in {%s}: %s", line, strings.TrimSpace(source), mistake.Message)
		return nil
	case err != nil:
		node.Fail("", "the expression {%s} cannot be readied: %v", source, err)
		return nil
	}
	return &Expr{Expr: compiled}
}

// closingBrace returns where the brace that a text begins with is closed; -1: nowhere. Braces
// in quoted texts are none.
func closingBrace(text string) int {
	quote := byte(0)
	for i := 1; i < len(text); i++ {
		switch c := text[i]; {
		case quote != 0 && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '}':
			return i
		}
	}
	return -1
}

// Text writes the template for a row.
func (t *Template) Text(scope *expr.Scope) (string, error) {
	return t.write(scope, func(s string) string { return s })
}

// HTML writes it as a part of a page: what expressions give is text there, whatever it holds.
func (t *Template) HTML(scope *expr.Scope) (string, error) { return t.write(scope, html.EscapeString) }

// Line writes it as one line without control characters.
func (t *Template) Line(scope *expr.Scope) (string, error) {
	text, err := t.Text(scope)
	return strings.Join(strings.Fields(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, text)), " "), err
}

func (t *Template) write(scope *expr.Scope, escape func(string) string) (string, error) {
	var out strings.Builder
	for _, p := range t.parts {
		text := p.text
		if p.made != nil {
			made, err := p.made.Text(scope)
			if err != nil {
				return "", fmt.Errorf("{%s}: %w", p.made.Source, err)
			}
			text = escape(unmarked.Replace(made))
		}
		out.WriteString(text)
	}
	return out.String(), nil
}

// hasPassword reports whether the password stands in the template.
func (t *Template) hasPassword() bool {
	return slices.ContainsFunc(t.parts, func(p part) bool { return strings.Contains(p.text, PasswordMark) })
}

// expressions lists those of the template.
func (t *Template) expressions() (all []*Expr) {
	for _, p := range t.parts {
		if p.made != nil {
			all = append(all, p.made)
		}
	}
	return all
}
