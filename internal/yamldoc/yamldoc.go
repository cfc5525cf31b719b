// Package yamldoc reads the program's YAML files so that every mistake in them
// is told at once, each with its line, its column and the nearest right word.
//
// It promises to bound what a file can cost (size and nesting are capped before
// parsing) and never to guess at a type: a scalar is the text that was written.
// What the keys mean is left to the packages that read through it.
package yamldoc

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"evenledger/internal/words"
)

// Caps on a file. Nesting is capped because the parser's memory grows much
// faster than its input there.
const (
	maxSize    = 1 << 20
	maxNesting = 32
)

// A Problem is one mistake in a file.
type Problem struct {
	File    string `json:"file"`
	Line    int    `json:"line"`   // from 1
	Column  int    `json:"column"` // from 1, in characters
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
}

func (p Problem) String() string {
	text := fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message)
	if p.Remedy != "" {
		text += "\n    " + p.Remedy
	}
	return text
}

// Problems is every mistake found in a file; as an error it prints one a line.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.String()
	}
	return strings.Join(lines, "\n")
}

// Sort puts the mistakes in the order of the file.
func (ps Problems) Sort() {
	slices.SortStableFunc(ps, func(a, b Problem) int {
		return cmp.Or(strings.Compare(a.File, b.File), a.Line-b.Line, a.Column-b.Column)
	})
}

// ReadFile reads a plain file. One that is no such thing, such as a pipe, could keep its
// reader waiting for ever.
func ReadFile(path string) ([]byte, error) {
	stat, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !stat.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a plain file", path)
	}
	if stat.Size() > maxSize {
		return nil, fmt.Errorf("%s is larger than %d bytes", path, maxSize)
	}
	return os.ReadFile(path)
}

// A Doc is a file being read; it collects the mistakes found on the way.
type Doc struct {
	file     string
	root     ast.Node
	problems Problems
}

// A Node is a place in a Doc. The zero Node is one that isn't there: reading it
// gives zero values and reports nothing.
type Node struct {
	doc  *Doc
	node ast.Node
}

// A Pair is one key of a mapping with its value.
type Pair struct {
	Key   string
	At    Node // the key itself, to report on
	Value Node
}

// Parse reads the YAML of one file. The error is of type Problems.
func Parse(file string, data []byte) (*Doc, error) {
	d := &Doc{file: file}
	if len(data) > maxSize {
		return nil, Problems{{file, 1, 1, fmt.Sprintf("the file is larger than %d KiB, which no file of this kind needs to be", maxSize>>10), ""}}
	}
	if line := tooDeep(data); line > 0 {
		return nil, Problems{{file, line, 1, fmt.Sprintf("brackets or indentation are nested more than %d deep", maxNesting), ""}}
	}
	parsed, err := parser.ParseBytes(data, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		return nil, Problems{syntaxProblem(file, err)}
	}
	if len(parsed.Docs) > 1 && parsed.Docs[1].Body != nil {
		at := parsed.Docs[1].Body.GetToken().Position
		return nil, Problems{{file, at.Line, at.Column, "a second YAML document begins here", "Keep one document a file: take the line --- out."}}
	}
	if len(parsed.Docs) > 0 {
		d.root = parsed.Docs[0].Body
	}
	return d, nil
}

func syntaxProblem(file string, err error) Problem {
	p := Problem{File: file, Line: 1, Column: 1, Message: "this is not valid YAML: " + err.Error()}
	var syntax *yaml.SyntaxError
	if errors.As(err, &syntax) {
		p.Message = "this is not valid YAML: " + syntax.Message
		if syntax.Token != nil && syntax.Token.Position != nil {
			p.Line, p.Column = syntax.Token.Position.Line, syntax.Token.Position.Column
		}
	}
	p.Remedy = "Look for a missing space after a colon, a tab used to indent, or a quote or bracket left open just above."
	return p
}

// tooDeep returns the line at which nesting exceeds the cap, or 0. It counts
// brackets wherever they stand, which is strict on text full of them, but safe.
func tooDeep(data []byte) int {
	depth, line, indent, atStart := 0, 1, 0, true
	for _, c := range data {
		switch c {
		case '\n':
			line, indent, atStart = line+1, 0, true
			continue
		case '[', '{':
			depth++
		case ']', '}':
			depth = max(0, depth-1)
		case ' ', '-':
			if atStart {
				indent++
			}
		default:
			atStart = false
		}
		if depth > maxNesting || atStart && indent > 8*maxNesting {
			return line
		}
	}
	return 0
}

// Root returns the top of the file.
func (d *Doc) Root() Node { return Node{d, d.root} }

// Err returns the mistakes found so far, in the order of the file, or nil.
func (d *Doc) Err() error {
	if len(d.problems) == 0 {
		return nil
	}
	d.problems.Sort()
	return d.problems
}

// Exists reports whether the node is there and is not empty.
func (n Node) Exists() bool {
	_, null := n.node.(*ast.NullNode)
	return n.node != nil && !null
}

// Position returns line and column from 1, or the file's beginning if the node
// isn't there.
func (n Node) Position() (line, column int) {
	if n.node == nil || n.node.GetToken() == nil {
		return 1, 1
	}
	at := n.node.GetToken().Position
	if m, ok := n.node.(*ast.MappingNode); ok && len(m.Values) > 0 && !m.IsFlowStyle {
		at = m.Values[0].Key.GetToken().Position
	}
	return at.Line, at.Column
}

// Fail reports a mistake at the node.
func (n Node) Fail(remedy, format string, args ...any) {
	n.FailAt(-1, remedy, format, args...)
}

// FailAt reports a mistake offset characters into the text at the node.
func (n Node) FailAt(offset int, remedy, format string, args ...any) {
	if n.doc == nil {
		return
	}
	line, column := n.Position()
	if n.node != nil && offset >= 0 {
		switch n.node.GetToken().Type {
		case token.SingleQuoteType, token.DoubleQuoteType:
			offset++
		}
		column += offset
	}
	n.doc.problems = append(n.doc.problems, Problem{n.doc.file, line, column, fmt.Sprintf(format, args...), remedy})
}

// Problem is a mistake at the node that is found only later, by who does not read the file.
func (n Node) Problem() Problem {
	if n.doc == nil {
		return Problem{}
	}
	line, column := n.Position()
	return Problem{File: n.doc.file, Line: line, Column: column}
}

// Pairs reads the node as a mapping with the keys known, or with any keys if
// none are given. Unknown and repeated keys are reported and left out.
func (n Node) Pairs(known ...string) []Pair {
	var values []*ast.MappingValueNode
	switch node := n.node.(type) {
	case nil, *ast.NullNode:
		return nil
	case *ast.MappingNode:
		values = node.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{node}
	default:
		n.Fail("", "expected keys with values here, found %s", n.what())
		return nil
	}
	pairs := make([]Pair, 0, len(values))
	for _, value := range values {
		at := Node{n.doc, value.Key}
		key := value.Key.GetToken().Value
		switch value.Key.Type() {
		case ast.MergeKeyType, ast.AliasType, ast.AnchorType:
			at.Fail("Write the keys out.", "merging and aliases are not used in this file")
			continue
		}
		if len(known) > 0 && !slices.Contains(known, key) {
			at.Fail(DidYouMean(key, known), "unknown key “%s”", key)
			continue
		}
		if slices.ContainsFunc(pairs, func(p Pair) bool { return p.Key == key }) {
			at.Fail("Keep one of them.", "the key “%s” stands here a second time", key)
			continue
		}
		pairs = append(pairs, Pair{key, at, Node{n.doc, value.Value}})
	}
	return pairs
}

// Word returns the text of a key of the node, before it is read with Pairs; without the
// key, or one that holds no text, "". It reports nothing.
func (n Node) Word(key string) string {
	table, ok := n.node.(*ast.MappingNode)
	if !ok {
		one, single := n.node.(*ast.MappingValueNode)
		if !single {
			return ""
		}
		table = &ast.MappingNode{Values: []*ast.MappingValueNode{one}}
	}
	for _, value := range table.Values {
		if held := (Node{n.doc, value.Value}); value.Key.GetToken().Value == key && held.IsText() {
			return held.Text()
		}
	}
	return ""
}

// DidYouMean is the remedy for a word that is none of those known: the nearest, or what there is.
func DidYouMean(word string, known []string) string {
	if near := words.Nearest(word, known); near != "" {
		return fmt.Sprintf("Did you mean “%s”?", near)
	}
	if len(known) <= 24 {
		return "Known here: " + strings.Join(known, ", ") + "."
	}
	return ""
}

// IsText reports whether the node is a single scalar.
func (n Node) IsText() bool {
	switch n.node.(type) {
	case *ast.StringNode, *ast.LiteralNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return true
	}
	return false
}

// Bare returns what stands bare and is no text but a number, true, false or null, as JSON has it.
func (n Node) Bare() (value any, is bool) {
	switch node := n.node.(type) {
	case *ast.NullNode:
		return nil, true
	case *ast.BoolNode:
		return node.Value, true
	case *ast.IntegerNode, *ast.FloatNode:
		if text := node.GetToken().Value; json.Valid([]byte(text)) {
			return json.Number(text), true
		}
	}
	return nil, false
}

// IfText is the node's text where it is one, without reporting where it is none.
func (n Node) IfText() string {
	if n.IsText() {
		return n.Text()
	}
	return ""
}

// IsList reports whether the node is a list.
func (n Node) IsList() bool {
	_, list := n.node.(*ast.SequenceNode)
	return list
}

// Text reads the node as text, just as it was written: 007 stays 007.
func (n Node) Text() string {
	switch node := n.node.(type) {
	case nil:
		return ""
	case *ast.LiteralNode:
		return strings.TrimSuffix(node.Value.Value, "\n")
	case *ast.NullNode:
		return ""
	}
	if !n.IsText() {
		n.Fail("", "expected a text here, found %s", n.what())
		return ""
	}
	return n.node.GetToken().Value
}

// Bool reads true or false.
func (n Node) Bool() bool {
	if n.node == nil {
		return false
	}
	if b, ok := n.node.(*ast.BoolNode); ok {
		return b.Value
	}
	n.Fail("Write true or false.", "expected true or false here, found %s", n.what())
	return false
}

// Whole reads a whole number from low to high.
func (n Node) Whole(low, high int) int {
	if n.node == nil {
		return low
	}
	var number int
	if _, err := fmt.Sscanf(n.node.GetToken().Value, "%d", &number); err != nil || n.node.Type() != ast.IntegerType || number < low || number > high {
		n.Fail("", "expected a whole number from %d to %d here, found %s", low, high, n.what())
		return low
	}
	return number
}

// Table reads a table with any keys, each with a plain text.
func (n Node) Table() map[string]string {
	all := map[string]string{}
	for _, p := range n.Pairs() {
		all[p.Key] = p.Value.Text()
	}
	return all
}

// Size reads a number of bytes, such as 500MB.
func (n Node) Size() int64 {
	number := strings.ToUpper(strings.ReplaceAll(n.Text(), " ", ""))
	for _, unit := range []struct {
		name  string
		bytes float64
	}{{"GB", 1 << 30}, {"MB", 1 << 20}, {"KB", 1 << 10}, {"", 1}} {
		text, has := strings.CutSuffix(number, unit.name)
		if !has {
			continue
		}
		if size, err := strconv.ParseFloat(text, 64); err == nil && size*unit.bytes >= 1 && size*unit.bytes < 1<<50 {
			return int64(size * unit.bytes)
		}
		break
	}
	n.Fail("Write it as 500KB, 20MB or 2GB.", "“%s” is no size", n.Text())
	return 0
}

// Age reads how old something may be, such as 2d, 12h or 90m.
func (n Node) Age() time.Duration {
	age, is := ParseAge(n.Text())
	if !is {
		n.Fail("Write it as 2d, 12h or 90m.", "“%s” is no age", n.Text())
	}
	return age
}

// ParseAge reads an age, and reports whether it is one.
func ParseAge(text string) (age time.Duration, is bool) {
	text = strings.ReplaceAll(text, " ", "")
	if days, inDays := strings.CutSuffix(text, "d"); inDays {
		if n, err := strconv.Atoi(days); err == nil && n > 0 && n < 10_000 {
			return time.Duration(n) * 24 * time.Hour, true
		}
		return 0, false
	}
	age, err := time.ParseDuration(text)
	return age, err == nil && age > 0
}

// From reads from which number on something holds: “always” is from 1 on, “over 50” from 51.
func (n Node) From() int {
	text := strings.Join(strings.Fields(n.Text()), " ")
	if text == "always" {
		return 1
	}
	number, over := strings.CutPrefix(text, "over ")
	from, err := strconv.Atoi(number)
	if err != nil || from < 0 || !over {
		n.Fail("Write “always”, or a number such as “over 50”.", "“%s” does not say from how many on", n.Text())
		return 0
	}
	return from + 1
}

// OneOf reads one of the given words.
func (n Node) OneOf(allowed ...string) string {
	word := n.Text()
	if n.node == nil || slices.Contains(allowed, word) {
		return word
	}
	if n.IsText() {
		n.Fail(DidYouMean(word, allowed), "expected %s here, found “%s”", orList(allowed), word)
	}
	return ""
}

func orList(allowed []string) string {
	if len(allowed) == 1 {
		return allowed[0]
	}
	return strings.Join(allowed[:len(allowed)-1], ", ") + " or " + allowed[len(allowed)-1]
}

// Items reads a list, or a single value as a list of one.
func (n Node) Items() []Node {
	switch node := n.node.(type) {
	case nil, *ast.NullNode:
		return nil
	case *ast.SequenceNode:
		items := make([]Node, len(node.Values))
		for i, value := range node.Values {
			items[i] = Node{n.doc, value}
		}
		return items
	}
	return []Node{n}
}

// Texts returns the texts of a list, or the one that stands there alone.
func (n Node) Texts() []string {
	var texts []string
	for _, item := range n.Items() {
		if text := item.Text(); text != "" {
			texts = append(texts, text)
		}
	}
	return texts
}

// Patterns returns the texts of a list of patterns. One with blanks around it would fit nothing.
func (n Node) Patterns() (texts []string) {
	for _, item := range n.Items() {
		text := item.Text()
		if text != strings.TrimSpace(text) {
			item.Fail("Take the blanks away.", "there are blanks around “%s”, so that it would fit nothing", text)
		}
		if text != "" {
			texts = append(texts, text)
		}
	}
	return texts
}

// what says what stands at the node, for messages.
func (n Node) what() string {
	switch node := n.node.(type) {
	case nil, *ast.NullNode:
		return "nothing"
	case *ast.MappingNode, *ast.MappingValueNode:
		return "keys with values"
	case *ast.SequenceNode:
		return "a list"
	case *ast.AnchorNode, *ast.AliasNode:
		return "an anchor or alias, which are not used in this file"
	case *ast.TagNode:
		return "a tag"
	default:
		return fmt.Sprintf("“%s”", words.First(node.GetToken().Value, 60))
	}
}
