// Package layout has the form of the files that an application takes: which headings in which order, what
// fills each, how values are written, how many rows a file may have, and what the application's own exports
// and lists of failures look like.
//
// It promises that what a layout writes, it reads back as it was, and that whatever a file cannot hold is told
// before one is written. Which rows there are, where files go and what became of them is left to others.
package layout

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding"

	"evenledger/internal/account"
	"evenledger/internal/codes"
	"evenledger/internal/expr"
	"evenledger/internal/words"
)

// A Fill is what fills a column.
type Fill uint8

// The fills.
const (
	Field    Fill = iota // a field of the account
	Action               // what is to be done
	Password             // the password
	Tie                  // memberships of a kind, or a part of them
	Made                 // an expression, or the same in every row
)

// A Part is what of a membership a column has.
type Part uint8

// The parts.
const (
	Thing Part = iota
	Role
	Section
)

// A Column is one of a file.
type Column struct {
	Heading string // of a family: with a star where its numbers stand
	Fill    Fill
	Field   string       // of the account
	Kind    account.Kind // of its values
	Things  string       // with Tie: the kind, such as groups
	Part    Part         // with Tie
	Split   string       // with Tie: what stands between several in one cell; empty: each has a column of its own
	Most    int          // with Tie: how many columns the family has, or values a cell may have; 0: any number
	Make    *expr.Expr
	Words   map[string]string // a value → how the application writes it

	Required bool
	Longest  int      // characters; 0: any number
	OneOf    []string // as the application writes them; none: any
	Pattern  *regexp.Regexp
	Says     string // the pattern as it was written
	Date     string // how dates are written, as package time has it; empty: year-month-day
	Fixed    bool   // no file can change it once the account is there
	OneLine  bool   // no line breaks
	Makes    bool   // with Tie: the application makes what is named and missing
	As       codes.Form

	days  *sync.Map         // a date → how it is written
	few   [][2]string       // Words, if they are few: to compare some is faster than to hash one
	wide  int               // how many columns of a file it is
	plain bool              // every value stands as it is
	read  map[string]string // how the application writes a value → the value
}

// A Quote says which cells of CSV stand in quotes.
type Quote string

// The quotes.
const (
	QuoteNeeded Quote = "needed"
	QuoteAlways Quote = "always"
	QuoteNever  Quote = "never" // the application knows none, so that no cell may hold a separator
)

// A File is the form of the files.
type File struct {
	Format    string // csv, xlsx or jsonl
	Separator rune
	Encoding  string // as it was named
	Mark      bool   // a byte order mark stands at the beginning
	LineEnd   string
	Quote     Quote
	Name      string // with {batch}, {part}, {each} and {date}
	Tab       string // of a workbook

	encoding encoding.Encoding // nil: UTF-8
}

// ByAction is what Each says where each action has a file of its own.
const ByAction = "action"

// A Layout is the form of the files that one application takes. It may be shared.
type Layout struct {
	Name    string
	Version string // of what was read: the hash of the file
	File    File
	Above   []string // lines above the headings
	Columns []Column
	Key     string // the field by which the application knows an account
	Each    string // a file of its own for each value of this field, or for each action; empty: one for all
	Rows    int    // that a file may have; 0: any number
	Bytes   int64  // that a file may have; 0: any number
	Clears  bool   // a blank cell empties what the application has
	Adds    bool   // memberships in a file come to those that there are; else they are all
	Whole   bool   // one bad row, and the application takes none
	Export  Export
	Results Results

	env   *expr.Env
	sides [][]*Column // those that stand side by side for each number
	codes *codes.Reader
}

// An Export says where the application's exports are otherwise than its files.
type Export struct {
	Columns map[string]string            // heading → field
	Words   map[string]map[string]string // field → how it is written → the value
}

// Results is the form of the application's list of what it did not take.
type Results struct {
	Keys    []ResultKey
	Line    string // heading of the number of the line; empty: there is none
	Counts  int    // the number that the first line beneath the headings has
	Message string // heading
}

// A ResultKey is a heading beneath which a field stands.
type ResultKey struct{ Heading, Field string }

// Column returns the column that a field fills.
func (l *Layout) Column(field string) (*Column, bool) {
	i := slices.IndexFunc(l.Columns, func(c Column) bool { return c.Fill == Field && c.Field == field })
	if i < 0 {
		return nil, false
	}
	return &l.Columns[i], true
}

// Does reports whether the application's files can ask for an intent.
func (l *Layout) Does(intent account.Intent) bool {
	for _, c := range l.Columns {
		if c.Fill == Action {
			return c.Words[string(intent)] != ""
		}
	}
	return intent == account.Create || intent == account.Update
}

// HoldsPasswords reports whether passwords stand in the files.
func (l *Layout) HoldsPasswords() bool {
	return slices.ContainsFunc(l.Columns, func(c Column) bool { return c.Fill == Password })
}

// Kinds lists the kinds of things that accounts are tied to, in the order of the columns.
func (l *Layout) Kinds() (kinds []string) {
	for _, c := range l.Columns {
		if c.Fill == Tie && !slices.Contains(kinds, c.Things) {
			kinds = append(kinds, c.Things)
		}
	}
	return kinds
}

// column returns the column of a part of the memberships of a kind.
func (l *Layout) part(kind string, part Part) (*Column, bool) {
	i := slices.IndexFunc(l.Columns, func(c Column) bool { return c.Fill == Tie && c.Things == kind && c.Part == part })
	if i < 0 {
		return nil, false
	}
	return &l.Columns[i], true
}

// HasPart reports whether memberships of a kind have a role, or a section.
func (l *Layout) HasPart(kind string, part Part) bool {
	_, has := l.part(kind, part)
	return has
}

// Known are the names of things of a kind that the layout lists; none: any.
func (l *Layout) Known(kind string) []string {
	if c, has := l.part(kind, Thing); has {
		return c.standards(c.OneOf)
	}
	return nil
}

// Open reports whether the application makes things of a kind that are named and that it does not have.
func (l *Layout) Open(kind string) bool {
	c, has := l.part(kind, Thing)
	return has && c.Makes
}

// Roles are the roles that the layout lists for things of a kind; none: any.
func (l *Layout) Roles(kind string) []string {
	c, has := l.part(kind, Role)
	if !has {
		return nil
	}
	if len(c.OneOf) > 0 {
		return c.standards(c.OneOf)
	}
	var roles []string
	for role := range c.Words {
		roles = append(roles, role)
	}
	slices.Sort(roles)
	return roles
}

// standards are the values that the application writes like this.
func (c *Column) standards(written []string) []string {
	var values []string
	for _, text := range written {
		values = append(values, c.Standard(text))
	}
	return values
}

// Standard is the value that the application writes like this.
func (c *Column) Standard(written string) string {
	if value, has := c.read[words.Key(written)]; has {
		return value
	}
	return written
}

// Written is a value as the application's file has it. Why says why the file cannot hold it, behind the value; empty: it can.
func (l *Layout) Written(c *Column, value string) (text, why string) {
	if c.plain {
		return value, ""
	}
	text = value
	word, worded := c.word(value)
	switch {
	case worded:
		text = word
	case value == "":
		return "", ""
	case c.Fill == Action, c.Kind == account.YesNo && len(c.Words) > 0:
		return "", fmt.Sprintf("is nothing that the application has a word for beneath “%s”", c.Heading)
	case c.Kind == account.Date && c.Date != "":
		if text = c.day(value); text == "" {
			return "", "is no date"
		}
	case c.As != "":
		if text = l.codes.Write(c.Kind, value, c.As); text == "" {
			return "", "is nothing that can be written as " + string(c.As)
		}
	case c.Kind == account.List:
		text = strings.Join(account.Items(value), cmp.Or(c.Split, ";"))
	}
	return text, l.holds(c, text)
}

// word is how the application writes a value, if it has a word for it.
func (c *Column) word(value string) (word string, has bool) {
	if len(c.few) == 0 {
		word, has = c.Words[value]
		return word, has
	}
	for i := range c.few {
		if c.few[i][0] == value {
			return c.few[i][1], true
		}
	}
	return "", false
}

// day is a date as the application writes it; empty: it is none. Of the few different ones of a file each is worked out once.
func (c *Column) day(value string) string {
	if text, has := c.days.Load(value); has {
		return text.(string)
	}
	day, err := time.Parse(time.DateOnly, value)
	if err != nil {
		return ""
	}
	text := day.Format(c.Date)
	c.days.Store(value, text)
	return text
}

// bounds reports whether there are texts that a file cannot hold in a column.
func (l *Layout) bounds(c *Column) bool {
	return c.Longest > 0 || c.OneOf != nil || c.Pattern != nil || c.OneLine || l.File.Quote == QuoteNever || l.File.encoding != nil
}

// holds says why a file cannot hold a text in a column, behind the text; empty: it can.
func (l *Layout) holds(c *Column, text string) string {
	if !l.bounds(c) {
		return ""
	}
	n := 0
	if c.Longest > 0 && len(text) > c.Longest {
		n = utf8.RuneCountInString(text)
	}
	switch {
	case n > c.Longest:
		return fmt.Sprintf("has %d characters, and “%s” takes %d", n, c.Heading, c.Longest)
	case len(c.OneOf) > 0 && c.Fill != Tie && text != "" && !slices.Contains(c.OneOf, text):
		return fmt.Sprintf("is none of those that “%s” takes: %s", c.Heading, strings.Join(c.OneOf, ", "))
	case c.Pattern != nil && text != "" && !c.Pattern.MatchString(text):
		return fmt.Sprintf("is not as “%s” wants it: %s", c.Heading, c.Says)
	case c.OneLine && strings.ContainsAny(text, "\r\n"):
		return fmt.Sprintf("has a line break in it, and “%s” takes none", c.Heading)
	case l.File.Quote == QuoteNever && l.format().texts && strings.ContainsAny(text, string(l.File.Separator)+"\"\r\n"):
		return "has a separator, a quote or a line break in it, and the application knows no quotes"
	}
	if l.File.encoding != nil {
		if _, err := l.File.encoding.NewEncoder().String(text); err != nil {
			return fmt.Sprintf("has letters that %s does not have, in which the application's files are", l.File.Encoding)
		}
	}
	return ""
}

// reads is the value that stands in a cell of the application's; what cannot be read is left as it stands.
func (c *Column) reads(reader *codes.Reader, cell string) string {
	if cell == "" {
		return ""
	}
	if value, has := c.read[words.Key(cell)]; has {
		return value
	}
	switch {
	case c.Kind == account.Date && c.Date != "":
		if day, err := time.Parse(c.Date, cell); err == nil {
			return day.Format(time.DateOnly)
		}
	case c.Kind == account.List && c.Split != "":
		return account.ListOf(items(cell, c.Split))
	case c.Kind != account.Text && c.Kind != account.Person:
		if value, err := reader.Read(c.Kind, cell); err == nil {
			return value
		}
	}
	return cell
}

// items are the values between separators that are not blank.
func items(cell, split string) (all []string) {
	for item := range strings.SplitSeq(cell, split) {
		if item = strings.TrimSpace(item); item != "" {
			all = append(all, item)
		}
	}
	return all
}
