package sheet

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/words"
)

// A jsonSource reads a JSON array of objects, an object that holds one, or JSON
// lines; several arrays or such objects may follow each other. A nested value has
// the path to it for its heading: "name.family", "emails.1.value". Every heading of
// the first objects is a column; what a later object has besides stands beyond the
// last column, with its path. What is neither of the list nor plainly about it, such
// as a second list of objects, is an error: nothing is left out in silence.
type jsonSource struct {
	name    string
	text    *textReader
	json    *json.Decoder
	meter   *meter
	lines   *lineCounter // of JSON lines; nil in an array
	key     string       // of the object that holds the list, with points between where objects hold each other; empty: none does
	level   int          // at which of these the list is
	table   bool         // the list is of lists, the first of headings
	titles  []string     // of a table
	chosen  bool         // the person named the key
	inside  bool         // the list is begun
	lists   int          // begun so far
	column  map[string]int
	pending []object
	ended   bool
	count   int // of objects read
	last    int // number of the one read last
	cells   []string
	kinds   []CellKind
	twice   []int
}

// object is one record: paths and values in the order in which they stand.
type object struct {
	number int
	values []pathValue
}

type pathValue struct {
	path, text string
	kind       CellKind
}

// Depths and lengths to which headings are looked for in JSON.
const (
	jsonAhead   = 1000    // objects
	jsonBytes   = 8 << 20 // of them
	jsonNesting = 12
)

// isJSON reports whether a text begins as objects do.
func isJSON(start []byte) bool {
	start = bytes.TrimLeft(start, " \t\r\n")
	if len(start) == 0 {
		return false
	}
	rest := bytes.TrimLeft(start[1:], " \t\r\n")
	switch start[0] {
	case '[':
		return len(rest) > 0 && (rest[0] == '{' || rest[0] == ']' || rest[0] == '[')
	case '{':
		return len(rest) > 0 && (rest[0] == '"' || rest[0] == '}')
	}
	return false
}

// lineCounter counts the lines that went through it.
type lineCounter struct {
	r      io.Reader
	breaks []int64 // offsets of the line feeds not yet behind
	offset int64
	line   int
}

func (c *lineCounter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	for i, b := range p[:n] {
		if b == '\n' {
			c.breaks = append(c.breaks, c.offset+int64(i))
		}
	}
	c.offset += int64(n)
	return n, err
}

// at returns the line of an offset; offsets have to grow.
func (c *lineCounter) at(offset int64) int {
	n := 0
	for n < len(c.breaks) && c.breaks[n] < offset {
		n++
	}
	c.line += n
	c.breaks = append(c.breaks[:0], c.breaks[n:]...)
	return c.line + 1
}

// newJSON readies JSON and fills the headings in. key names the list that is meant,
// where an object holds several.
func newJSON(name string, text *textReader, decoded *bufio.Reader, info *Info, key string) (*jsonSource, error) {
	s := &jsonSource{name: name, text: text, column: map[string]int{}}
	start, _ := decoded.Peek(sampleSize / 2) // it was read before
	s.meter = &meter{r: decoded, left: maxRecord}
	info.Format = "JSON"
	var read io.Reader = s.meter
	trimmed := bytes.TrimLeft(start, " \t\r\n")
	s.table = trimmed[0] == '[' && bytes.HasPrefix(bytes.TrimLeft(trimmed[1:], " \t\r\n"), []byte("["))
	if s.key, s.chosen = key, key != ""; !s.chosen && bytes.TrimLeft(start, " \t\r\n")[0] == '{' {
		if s.key = wrapper(start); s.key == "" {
			info.Format = "JSON lines"
			s.lines = &lineCounter{r: s.meter}
			read = s.lines
		}
	}
	info.Tab = s.key
	s.json = json.NewDecoder(read)
	s.json.UseNumber()
	held := 0
	for len(s.pending) < jsonAhead && held < jsonBytes {
		o, err := s.object()
		if errors.Is(err, io.EOF) {
			s.ended = true
			break
		}
		if err != nil {
			return nil, err
		}
		for _, v := range o.values {
			held += len(v.path) + len(v.text)
			if _, known := s.column[v.path]; !known {
				s.column[v.path] = len(info.Headings)
				info.Headings = append(info.Headings, v.path)
			}
		}
		if len(info.Headings) > MaxColumns {
			return nil, &Error{Name: name, Message: fmt.Sprintf("has more than the %d values in an object that a sheet may have columns", MaxColumns), Remedy: "Take the values out that are not needed."}
		}
		s.pending = append(s.pending, o)
	}
	if len(info.Headings) == 0 {
		return nil, &Error{Name: name, Message: "has no objects with values", Remedy: "A sheet in JSON is a list of objects, one a person: [{\"First name\": \"Ana\"}, …]."}
	}
	return s, nil
}

// wrapper returns where an object holds the list, or "" if it is itself the first of JSON lines: under a name that is known for it, or
// else by its shape. Of several it is the one nearest to the top, and there the longest, as far as the beginning of the text shows.
func wrapper(start []byte) string {
	var first map[string]json.RawMessage
	d := json.NewDecoder(bytes.NewReader(start))
	whole := d.Decode(&first) == nil
	several := whole && d.More() // as persons follow each other, or pages of a list
	if several && tellsOfPerson(first) {
		return ""
	}
	known := []string{"Resources", "resources", "users", "people", "persons", "employees", "staff", "accounts", "members", "items", "records", "results", "rows", "data", "values", "list"}
	rank := func(l listAt) int {
		if i := slices.Index(known, l.path[len(l.path)-1]); i >= 0 {
			return i
		}
		return len(known)
	}
	d = json.NewDecoder(bytes.NewReader(start))
	if token, err := d.Token(); err != nil || token != json.Delim('{') {
		return ""
	}
	var found []listAt
	findLists(d, nil, &found)                     // the beginning may end in the midst of it
	if several || whole && tellsOfPerson(first) { // only where a name says so is it a page and no person
		found = slices.DeleteFunc(found, func(l listAt) bool { return len(l.path) > 1 || rank(l) == len(known) })
	}
	if len(found) == 0 {
		return ""
	}
	best := slices.MinFunc(found, func(a, b listAt) int {
		return cmp.Or(cmp.Compare(len(a.path), len(b.path)), cmp.Compare(rank(a), rank(b)), cmp.Compare(b.objects, a.objects))
	})
	return strings.Join(best.path, ".")
}

// A listAt is a list of objects within objects, and how many of them were seen.
type listAt struct {
	path    []string
	objects int
}

// findLists finds the lists of objects in an object that has been begun, and in those that it holds; what stands in a list is not looked
// into. It reports whether it came to the object's end.
func findLists(d *json.Decoder, path []string, found *[]listAt) bool {
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return false
		}
		at := append(slices.Clone(path), fmt.Sprint(name))
		token, err := d.Token()
		switch {
		case err != nil:
			return false
		case token == json.Delim('{') && len(at) < jsonNesting:
			if !findLists(d, at, found) {
				return false
			}
		case token == json.Delim('{'):
			return false
		case token == json.Delim('['):
			here := -1
			for d.More() {
				var item json.RawMessage
				err := d.Decode(&item)
				if err != nil && here < 0 && isObject(d) || err == nil && len(item) > 0 && item[0] == '{' {
					if here < 0 {
						here = len(*found)
						*found = append(*found, listAt{path: at})
					}
					(*found)[here].objects++
				}
				if err != nil {
					return false
				}
			}
			if _, err := d.Token(); err != nil {
				return false
			}
		}
	}
	_, err := d.Token()
	return err == nil
}

// isObject reports whether what could not be read to its end begins as an object does.
func isObject(d *json.Decoder) bool {
	var next [1]byte
	n, err := d.Buffered().Read(next[:])
	return n > 0 && err == nil && next[0] == '{'
}

// isList reports whether a text begins as a list of objects does.
func isList(text []byte) bool {
	after, list := bytes.CutPrefix(bytes.TrimLeft(text, " \t\r\n"), []byte("["))
	return list && bytes.HasPrefix(bytes.TrimLeft(after, " \t\r\n"), []byte("{"))
}

// tellsOfPerson reports whether an object has texts of its own beside a list, as a
// person has and a page of a listing has not.
func tellsOfPerson(members map[string]json.RawMessage) bool {
	for key, value := range members {
		if name := words.Key(key); value[0] >= '0' && value[0] <= '9' && slices.Contains([]string{"id", "userid", "personid", "employeeid", "employeenumber", "staffnumber", "staffno", "number", "no"}, name) {
			return true
		}
		if value[0] == '"' && !slices.Contains([]string{"next", "previous", "prev", "self", "cursor", "nextcursor", "nextpagetoken", "nextlink", "odatacontext", "odatanextlink", "status", "version", "generated", "kind", "etag"}, words.Key(key)) {
			return true
		}
	}
	return false
}

// enter reads up to the list's first object, and reports whether there is one. More
// lists may follow behind the first.
func (s *jsonSource) enter() error {
	token, err := s.json.Token()
	if err != nil {
		return err
	}
	switch {
	case s.key == "" && token == json.Delim('['):
		return nil
	case s.key == "" || token != json.Delim('{'):
		return fmt.Errorf("“%v” stands where a list is to be", token)
	}
	found, err := s.passMembers(0)
	if err == nil && !found {
		err = fmt.Errorf("there is no list “%s” in it", s.key)
	}
	return err
}

// passMembers passes over the members of an object that holds the list, or one that does, up to the
// list or to the object's end; level is how many hold that object.
func (s *jsonSource) passMembers(level int) (found bool, err error) {
	keys := strings.Split(s.key, ".")
	for s.json.More() {
		name, err := s.json.Token()
		if err != nil {
			return false, err
		}
		switch {
		case name == strings.Join(keys[level:], "."):
			token, err := s.json.Token()
			if err == nil && token != json.Delim('[') {
				err = fmt.Errorf("“%s” is no list", s.key)
			}
			s.level = level
			return true, err
		case name == keys[level] && level+1 < len(keys):
			token, err := s.json.Token()
			if err == nil && token != json.Delim('{') {
				err = fmt.Errorf("“%v” holds no list", name)
			}
			if err != nil {
				return false, err
			}
			if found, err := s.passMembers(level + 1); found || err != nil {
				return found, err
			}
			continue
		}
		s.meter.left = maxRecord
		var passed json.RawMessage
		if err := s.json.Decode(&passed); err != nil {
			return false, err
		}
		if isList(passed) && !s.chosen {
			return false, &Error{Name: s.name, Message: fmt.Sprintf("has two lists of objects, “%s” and “%v”", s.key, name), Remedy: "Name the one that is meant, with --tab or as “sheet: {tab: …}” in the brief."}
		}
	}
	_, err = s.json.Token()
	return false, err
}

func (s *jsonSource) describe(info *Info) {
	s.text.describe(info)
	info.Read.Records = s.count - len(s.pending)
}

func (s *jsonSource) broken(err error) error {
	var told *Error
	if errors.As(err, &told) {
		return err
	}
	e := &Error{Name: s.name, Message: "the JSON cannot be read after object " + strconv.Itoa(s.count) + ": " + err.Error(), Remedy: "Ask for the file anew, or look at that place in an editor."}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		e.Message = fmt.Sprintf("the JSON ends in the midst of things, after object %d", s.count)
		e.Remedy = "The file is cut short: fetch it again."
	}
	if errors.Is(err, errTooLong) {
		e.Message = fmt.Sprintf("object %d is over %d MiB long", s.count+1, maxRecord>>20)
	}
	return e
}

// object reads the next object.
func (s *jsonSource) object() (object, error) {
	if s.lines == nil {
		if err := s.advance(); err != nil {
			return object{}, err
		}
	}
	s.meter.left = maxRecord
	token, err := s.json.Token()
	if s.lines != nil && errors.Is(err, io.EOF) {
		return object{}, io.EOF
	}
	if err != nil {
		return object{}, s.broken(unexpected(err))
	}
	s.count++
	o := object{number: s.count}
	if s.lines != nil {
		s.last = max(s.last+1, s.lines.at(s.json.InputOffset())) // several may stand on a line
		o.number = s.last
	}
	if s.table && token == json.Delim('[') {
		return s.tableRow(o)
	}
	if token != json.Delim('{') {
		return o, &Error{Name: s.name, Message: fmt.Sprintf("item %d is no object: each person is one, {\"First name\": \"Ana\"}", s.count), Remedy: "Ask for the feed as a list of objects."}
	}
	if err := s.members("", 1, &o); err != nil {
		return o, s.broken(unexpected(err))
	}
	return o, nil
}

// tableRow reads a row of a list of lists, the first of which has the headings.
func (s *jsonSource) tableRow(o object) (object, error) {
	var texts []string
	for s.json.More() {
		var cell object
		if err := s.value("", 1, &cell); err != nil {
			return o, s.broken(unexpected(err))
		}
		if len(cell.values) > 1 {
			return o, &Error{Name: s.name, Message: fmt.Sprintf("row %d holds an object, and the rows of a list of lists hold texts and numbers", s.count), Remedy: "Ask for the feed as a list of objects."}
		}
		texts = append(texts, "")
		for _, v := range cell.values {
			texts[len(texts)-1] = v.text
		}
	}
	if _, err := s.json.Token(); err != nil {
		return o, s.broken(unexpected(err))
	}
	if s.titles == nil {
		s.titles = texts
		return s.object()
	}
	for i, text := range texts {
		path := "column " + strconv.Itoa(i+1)
		if i < len(s.titles) {
			path = s.titles[i]
		}
		o.values = append(o.values, pathValue{path, text, Plain})
	}
	return o, nil
}

// advance goes on to the next object: through the end of a list, what its holder has
// besides, and the beginning of another list behind.
func (s *jsonSource) advance() error {
	for {
		s.meter.left = maxRecord
		if s.inside && s.json.More() {
			return nil
		}
		if s.inside {
			s.inside = false
			if _, err := s.json.Token(); err != nil {
				return s.broken(unexpected(err))
			}
			for level := s.level; s.key != "" && level >= 0; level-- {
				again, err := s.passMembers(level)
				if err != nil {
					return s.broken(unexpected(err))
				}
				if again {
					return &Error{Name: s.name, Message: fmt.Sprintf("has the list “%s” twice in one object", s.key), Remedy: "Ask for the file anew."}
				}
			}
		}
		if err := s.enter(); errors.Is(err, io.EOF) && s.lists > 0 {
			return io.EOF
		} else if err != nil {
			return s.broken(unexpected(err))
		}
		s.inside, s.lists = true, s.lists+1
	}
}

// members reads the members of an object that has been begun.
func (s *jsonSource) members(path string, depth int, o *object) error {
	for s.json.More() {
		key, err := s.json.Token()
		if err != nil {
			return err
		}
		name, _ := key.(string) // keys are texts
		if err := s.value(path+name, depth, o); err != nil {
			return err
		}
	}
	_, err := s.json.Token()
	return err
}

// value reads the value at a path.
func (s *jsonSource) value(path string, depth int, o *object) error {
	if depth > jsonNesting {
		return fmt.Errorf("%s is nested more than %d deep", path, jsonNesting)
	}
	token, err := s.json.Token()
	if err != nil {
		return err
	}
	switch token := token.(type) {
	case json.Delim:
		if token == '{' {
			return s.members(path+".", depth+1, o)
		}
		return s.list(path, depth, o)
	case string:
		o.values = append(o.values, pathValue{path, token, Plain})
	case json.Number:
		text := token.String()
		if number, err := token.Float64(); err == nil && strings.ContainsAny(text, "eE") {
			text = numberText(text, number)
		}
		o.values = append(o.values, pathValue{path, text, Plain})
	case bool:
		o.values = append(o.values, pathValue{path, strings.ToUpper(strconv.FormatBool(token)), Logical})
	default: // null
		o.values = append(o.values, pathValue{path, "", Plain})
	}
	return nil
}

// ListSeparator stands between the values of a list that came as one.
const ListSeparator = ";"

// list reads the items of a list that has been begun. Texts become one cell;
// anything else is numbered.
func (s *jsonSource) list(path string, depth int, o *object) error {
	from := len(o.values)
	for i := 1; s.json.More(); i++ {
		if err := s.value(path+"."+strconv.Itoa(i), depth+1, o); err != nil {
			return err
		}
	}
	if _, err := s.json.Token(); err != nil {
		return err
	}
	items := o.values[from:]
	plain := !slices.ContainsFunc(items, func(v pathValue) bool {
		return strings.Contains(v.path[len(path)+1:], ".")
	})
	if !plain {
		return nil
	}
	texts, kind := make([]string, len(items)), Plain
	for i, item := range items {
		if texts[i] = item.text; strings.ContainsAny(item.text, ListSeparator+`\`) {
			kind = Listed
		}
	}
	together := strings.Join(texts, ListSeparator)
	if kind == Listed {
		together = JoinItems(texts)
	}
	o.values = append(o.values[:from], pathValue{path, together, kind})
	return nil
}

// read implements source.
func (s *jsonSource) read() (record, error) {
	var o object
	if len(s.pending) > 0 {
		o, s.pending = s.pending[0], s.pending[1:]
	} else if s.ended {
		return record{}, io.EOF
	} else {
		var err error
		if o, err = s.object(); err != nil {
			return record{}, err
		}
	}
	s.cells = append(s.cells[:0], make([]string, len(s.column))...)
	s.kinds = append(s.kinds[:0], make([]CellKind, len(s.column))...)
	s.twice = s.twice[:0]
	filled := make([]bool, len(s.column))
	for _, v := range o.values {
		at, ok := s.column[v.path]
		switch {
		case ok && filled[at] && s.cells[at] != v.text:
			s.twice = append(s.twice, at)
		case ok:
			s.cells[at], s.kinds[at], filled[at] = v.text, v.kind, true
		case v.text != "":
			s.cells = append(s.cells, v.path+": "+v.text)
		}
	}
	return record{number: o.number, cells: s.cells, kinds: s.kinds, certain: s.text.certain, twice: s.twice}, nil
}
