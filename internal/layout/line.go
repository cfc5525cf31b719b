package layout

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"evenledger/internal/account"
	"evenledger/internal/words"
)

// A Line is what one row of a file is to say.
type Line struct {
	Does    account.Intent
	Account account.Account      // as it is to be afterwards, with a password that is to be set
	Ties    []account.Membership // things by name
}

// Headings are those of a file, in their order.
func (l *Layout) Headings() (all []string) {
	for _, side := range l.sides {
		for n := range side[0].wide {
			for _, c := range side {
				all = append(all, c.heading(n))
			}
		}
	}
	return all
}

// fewWords is how many words are compared one by one.
const fewWords = 8

// stand puts the columns together that stand side by side for each number: those that follow each other of the
// memberships of one kind, in as many columns. Others stand alone.
func (l *Layout) stand() {
	l.sides = nil
	for i := range l.Columns {
		c := &l.Columns[i]
		if c.wide = 1; c.isFamily() {
			c.wide = max(1, c.Most)
		}
		c.days = &sync.Map{}
		if len(c.Words) <= fewWords {
			for _, value := range slices.Sorted(maps.Keys(c.Words)) {
				c.few = append(c.few, [2]string{value, c.Words[value]})
			}
		}
		c.plain = (c.Fill == Field || c.Fill == Tie) && len(c.Words) == 0 && c.Date == "" && c.As == "" && c.Kind != account.List && !l.bounds(c)
		if n := len(l.sides); n > 0 && c.isFamily() {
			if first := l.sides[n-1][0]; first.isFamily() && first.Things == c.Things && first.wide == c.wide {
				l.sides[n-1] = append(l.sides[n-1], c)
				continue
			}
		}
		l.sides = append(l.sides, []*Column{c})
	}
}

// isFamily reports whether the column stands for several.
func (c *Column) isFamily() bool { return c.Fill == Tie && strings.Contains(c.Heading, "*") }

// heading is that of the nth column of a family, from 0.
func (c *Column) heading(n int) string {
	return strings.Replace(c.Heading, "*", strconv.Itoa(n+1), 1)
}

// A Problem is why a line cannot be written.
type Problem struct {
	Column string // the heading
	Field  string // or kind of things; empty: it is about none
	Why    string
}

// Cells adds those of one line to cells, and says why it cannot be written; no problem: it can.
func (l *Layout) Cells(line *Line, cells []string) (_ []string, problems []Problem) {
	say := func(c *Column, field, value, why string) {
		if value != "" {
			why = "“" + words.First(value, 60) + "” " + why
		}
		problems = append(problems, Problem{c.Heading, field, why})
	}
	for _, side := range l.sides {
		c := side[0]
		if c.Fill != Tie {
			text, value, why := l.cell(c, line)
			if why != "" {
				say(c, fieldOf(c), value, why)
			}
			cells = append(cells, text)
			continue
		}
		from, width := len(cells), c.wide
		cells = append(cells, make([]string, width*len(side))...) // which the compiler makes no list of
		for i, c := range side {
			if why := l.ties(c, line, cells[from+i:], len(side), width); why != "" {
				say(c, c.Things, "", why)
			}
		}
	}
	return cells, problems
}

// fieldOf is the field that a problem of a column is about.
func fieldOf(c *Column) string {
	if c.Fill == Password {
		return "password"
	}
	return c.Field
}

// cell is what fills one cell, with the value that it is made of and why it cannot be written.
func (l *Layout) cell(c *Column, line *Line) (text, value, why string) {
	switch c.Fill {
	case Action:
		value = string(line.Does)
		text, why = l.Written(c, value)
	case Password:
		if text = line.Account.Password; l.holds(c, text) != "" {
			why = "the password cannot stand beneath “" + c.Heading + "”: it is too long there, or has characters that the file cannot hold"
		}
	case Made:
		text, why = l.made(c, line)
		value = text
	default:
		value = line.Account.Fields[c.Field].Text()
		if text, why = l.Written(c, value); text == "" && why == "" && c.Required && line.Does != account.Remove {
			why = fmt.Sprintf("“%s” has to be filled in every row, and there is no %s", c.Heading, c.Field)
		}
	}
	return text, value, why
}

// made is what an expression makes of a line.
func (l *Layout) made(c *Column, line *Line) (text, why string) {
	names := l.fields()
	scope := l.env.NewScope(names, nil)
	for i, name := range names {
		scope.Set(i, line.Account.Field(name).Text())
	}
	text, err := c.Make.Text(scope)
	if err != nil {
		return "", fmt.Sprintf("what fills “%s” cannot be made: %s", c.Heading, err)
	}
	return text, l.holds(c, text)
}

// fields are those of accounts that stand in the files.
func (l *Layout) fields() (names []string) {
	for _, c := range l.Columns {
		if c.Fill == Field {
			names = append(names, c.Field)
		}
	}
	return names
}

// ties fills in the cells of one part of the memberships of a kind, of which each stands so many behind the one before, and
// says why they cannot hold all of it.
func (l *Layout) ties(c *Column, line *Line, cells []string, step, width int) (why string) {
	n := 0
	for i := range line.Ties {
		tie := &line.Ties[i]
		if tie.Kind != c.Things {
			continue
		}
		value := tie.Thing
		switch c.Part {
		case Role:
			value = tie.Role
		case Section:
			value = tie.Section
		}
		text, cannot := l.Written(c, value)
		if cannot == "" && c.Split != "" && strings.Contains(text, c.Split) {
			cannot = fmt.Sprintf("has “%s” in it, which stands between several beneath “%s”", c.Split, c.Heading)
		}
		if why == "" && cannot != "" {
			why = "“" + words.First(value, 60) + "” " + cannot
		}
		switch {
		case c.Split != "" && n > 0:
			cells[0] += c.Split + text
		case c.Split != "":
			cells[0] = text
		case n < width:
			cells[n*step] = text
		}
		n++
	}
	switch {
	case c.Most > 0 && n > c.Most:
		return fmt.Sprintf("the account would be in %d %s, and there is room for %d beneath “%s”", n, c.Things, c.Most, c.Heading)
	case c.Split == "" && n > width:
		return fmt.Sprintf("the account would be in %d %s, and “%s” has room for %d", n, c.Things, c.Heading, width)
	}
	return why
}

// EachOf is what names the file that a line goes into, among those of one part; empty: there is one for all.
func (l *Layout) EachOf(line *Line) string {
	switch l.Each {
	case "":
		return ""
	case ByAction:
		return string(line.Does)
	}
	return line.Account.Field(l.Each).Text()
}

// FileName is what a file is called. Nothing of a value can be a path in it.
func (l *Layout) FileName(batch, part int, each, date string) string {
	plain := strings.Map(func(r rune) rune {
		if r == '/' || r == '\\' || r == ':' || r < ' ' || strings.ContainsRune(`*?"<>|`, r) {
			return '-'
		}
		return r
	}, strings.Trim(each, ". "))
	return strings.NewReplacer("{batch}", strconv.Itoa(batch), "{part}", strconv.Itoa(part), "{each}", plain, "{date}", date).Replace(l.File.Name)
}
