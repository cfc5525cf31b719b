package layout

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/codes"
	"evenledger/internal/expr"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// Load reads a layout. Mistakes in its file are yamldoc.Problems. Today is the day it is taken to be.
func Load(path, today string) (*Layout, error) {
	data, err := yamldoc.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return Parse(filepath.Base(path), data, today)
}

// Parse reads a layout out of the file of that name.
func Parse(name string, data []byte, today string) (*Layout, error) {
	doc, err := yamldoc.Parse(name, data)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(data)
	l := &Layout{Version: hex.EncodeToString(sum[:]), File: File{Format: formatNames()[0], Separator: ',', LineEnd: "\r\n", Quote: QuoteNeeded}}
	l.codes = codes.NewReader(codes.Unsettled)
	l.read(doc.Root(), today)
	l.stand()
	if err := doc.Err(); err != nil {
		return nil, err
	}
	return l, nil
}

func (l *Layout) read(root yamldoc.Node, today string) {
	var at places
	root.Read(l.keys(&at))
	whole := l.readColumns(root, at.columns, today)
	if l.Key = at.key.Text(); l.Key != "" || whole {
		l.findKey(root, at.key)
	}
	if l.Each = at.each.Text(); l.Each != "" && l.Each != ByAction {
		if _, has := l.Column(l.Each); !has {
			at.each.Fail(yamldoc.DidYouMean(l.Each, append(l.fields(), ByAction)), "no column has the field “%s”", l.Each)
		}
	}
	ending := l.format().ending
	switch l.File.Name = cmp.Or(l.File.Name, "{batch}-{part}"+map[bool]string{true: "-{each}"}[l.Each != ""]+ending); {
	case !strings.Contains(l.File.Name, "{batch}"), !strings.Contains(l.File.Name, "{part}"):
		root.Fail("Let file: name: have {batch} and {part} in it, such as people-{batch}-{part}"+ending+".", "two files would be called alike")
	case l.Each != "" && !strings.Contains(l.File.Name, "{each}"):
		root.Fail("Let file: name: have {each} in it as well.", "files are made for each %s, and would be called alike", l.Each)
	case strings.ContainsAny(l.File.Name, `/\`):
		root.Fail("Name the folder in evenledger.yaml, as “outbox”.", "the name of a file has a folder in it: %s", l.File.Name)
	}
}

// findKey finds the field by which the application knows an account.
func (l *Layout) findKey(root, key yamldoc.Node) {
	if l.Key == "" {
		for _, field := range []string{"userName", "employeeNumber", "email", "externalId"} {
			if _, has := l.Column(field); has && l.Key == "" {
				l.Key = field
			}
		}
	}
	switch c, has := l.Column(l.Key); {
	case l.Key == "":
		root.Fail("Add a column with userName, employeeNumber or email, or name the field as “key”.", "nothing says by which field the application knows an account")
	case !has:
		key.Fail(yamldoc.DidYouMean(l.Key, l.fields()), "no column has the field “%s”", l.Key)
	default:
		c.Required = true
	}
}

// readSeparator reads what stands between the cells of CSV.
func readSeparator(node yamldoc.Node) rune {
	text := node.Text()
	if named := map[string]string{"comma": ",", "semicolon": ";", "tab": "\t", "pipe": "|"}[text]; named != "" {
		text = named
	}
	r := []rune(text)
	if len(r) != 1 || r[0] == '"' || r[0] == '\n' || r[0] == '\r' {
		node.Fail("Write one character, or comma, semicolon, tab or pipe.", "“%s” is no separator", text)
		return ','
	}
	return r[0]
}

func (f *File) readEncoding(node yamldoc.Node) {
	if f.Encoding = node.Text(); strings.EqualFold(f.Encoding, "utf-8") {
		return
	}
	var err error
	if f.encoding, _, err = sheet.FindEncoding(f.Encoding); err != nil {
		node.Fail("Such as utf-8, windows-1252, iso-8859-15.", "there is no encoding “%s”", f.Encoding)
	}
}

// readColumns reports whether it is known of all what fills them.
func (l *Layout) readColumns(root, node yamldoc.Node, today string) (whole bool) {
	items := node.Items()
	whole = len(items) > 0
	if len(items) == 0 {
		root.Fail("Add “columns: [{heading: …, field: …}]”, in the order of the application's file; “evenledger layout new SAMPLE” writes them.", "the layout has no columns")
	}
	sources := map[int]yamldoc.Node{}
	headings, filled := map[string]bool{}, map[string]bool{}
	for _, item := range items {
		c, make := readColumn(item)
		whole = whole && (c.Fill != Field || c.Field != "")
		if make.Exists() {
			sources[len(l.Columns)] = make
		}
		switch key := words.Key(c.Heading); {
		case key == "":
			item.Fail("Add “heading: …”, as it stands in the application's file.", "a column has no heading")
		case headings[key]:
			item.Fail("Keep one of them.", "the heading “%s” stands here a second time", c.Heading)
		default:
			headings[key] = true
		}
		what := ""
		switch c.Fill {
		case Field:
			what = c.Field
		case Tie:
			what = c.Things + " " + strconv.Itoa(int(c.Part))
		case Action, Password:
			what = strconv.Itoa(int(c.Fill))
		}
		if what != "" && filled[what] {
			item.Fail("Keep one of them.", "two columns have the same: “%s” is the second", c.Heading)
		}
		filled[what] = true
		l.Columns = append(l.Columns, c)
	}
	for i := range l.Columns {
		c := &l.Columns[i]
		if _, has := l.part(c.Things, Thing); c.Fill == Tie && !has {
			items[i].Fail("Add a column with the "+c.Things+" themselves.", "“%s” has a part of the %s, and no column has them", c.Heading, c.Things)
		} else if of, _ := l.part(c.Things, Thing); c.Fill == Tie && c.Part != Thing && (of.Split == "") != (c.Split == "") {
			items[i].Fail("Give both “split”, or a star in the heading.", "“%s” and “%s” belong together, and only one has several values in a cell", of.Heading, c.Heading)
		} else if c.Fill == Tie && c.Part != Thing {
			c.Most = of.Most
		}
	}
	var vars []expr.Variable
	for _, c := range l.Columns {
		if c.Fill == Field {
			vars = append(vars, expr.Variable{Name: c.Field, Type: expr.TypeOf(c.Kind)})
		}
	}
	l.env = expr.NewEnv(vars, today)
	for i, source := range sources {
		compiled, err := l.env.Compile(source.Text(), expr.Text)
		var mistake *expr.Error
		if errors.As(err, &mistake) {
			source.FailAt(mistake.Offset, mistake.Remedy, "%s", mistake.Message)
		} else if err != nil {
			source.Fail("", "the expression cannot be readied: %v", err)
		}
		l.Columns[i].Make = compiled
	}
	return whole
}

func readColumn(node yamldoc.Node) (c Column, make yamldoc.Node) {
	var said said
	node.Read(c.keys(&said))
	c.fit(node, said.fills, said.date, said.as)
	c.read = map[string]string{}
	for _, value := range slices.Sorted(maps.Keys(c.Words)) {
		c.read[words.Key(c.Words[value])] = value
	}
	return c, said.make
}

// readActions reads what the application calls what is to be done.
func (c *Column) readActions(node yamldoc.Node) {
	c.Words = map[string]string{}
	var names []string
	for _, intent := range account.Intents() {
		if intent != account.Finish {
			names = append(names, string(intent))
		}
	}
	for _, w := range node.Pairs(names...) {
		c.Words[w.Key] = w.Value.Text()
	}
}

func (c *Column) readPattern(node yamldoc.Node) {
	c.Says = node.Text()
	if _, err := regexp.Compile(c.Says); err == nil {
		c.Pattern = regexp.MustCompile(`^(?:` + c.Says + `)$`)
	} else {
		node.Fail("Write a regular expression for the whole cell, such as [a-z.]+", "the pattern cannot be read: %s", err)
	}
}

// fit sees that what a column says goes together: it is filled by so many things, and form and as say how its values are written.
func (c *Column) fit(node yamldoc.Node, fills int, form, as yamldoc.Node) {
	if fills != 1 {
		node.Fail("Give it one of: field, action, password, make, groups, courses, licences, roles.", "a column is filled by one thing, and “%s” by %d", c.Heading, fills)
		c.Fill, c.Field = Field, ""
	}
	if form.Exists() && c.Kind != account.Date {
		if _, known := account.FieldNamed(c.Field); known || c.Kind != account.Text {
			form.Fail("Take it out.", "“%s” holds no dates", c.Heading)
		}
		c.Kind = account.Date
	}
	if as.Exists() && c.Kind != account.Country && (c.Kind != account.Language || c.As == codes.Alpha3) {
		as.Fail("Take it out, or give the words with “words”.", "only countries, and languages by name, are written like that")
	}
	star := strings.Count(c.Heading, "*")
	switch {
	case c.Fill == Tie && star == 0 && c.Split == "" && c.Most == 0:
		c.Most = 1
	case c.Fill == Tie && star == 1 && c.Split != "", star > 1:
		node.Fail("Leave one of them out.", "“%s” has both a star for numbers and several values in one cell", c.Heading)
	case c.Fill == Tie && star == 1 && c.Most == 0 && c.Part == Thing:
		node.Fail("Add “most”: how many columns there are.", "nothing says how many columns “%s” stands for", c.Heading)
	}
}

// dateForm reads how dates are written, such as DD/MM/YYYY.
func dateForm(node yamldoc.Node) string {
	text := node.Text()
	form := strings.NewReplacer("YYYY", "2006", "YY", "06", "MMM", "Jan", "MM", "01", "M", "1", "DD", "02", "D", "2").Replace(text)
	if !strings.Contains(text, "YY") || !strings.Contains(text, "M") || !strings.Contains(text, "D") {
		node.Fail("Such as DD/MM/YYYY, YYYY-MM-DD or D.M.YY.", "“%s” does not say how a date is written", text)
	}
	return form
}

// readWords reads words of exports: which value each stands for, by field.
func readWords(node yamldoc.Node) map[string]map[string]string {
	all := map[string]map[string]string{}
	for _, field := range node.Pairs() {
		table := map[string]string{}
		for _, w := range field.Value.Pairs() {
			table[words.Key(w.Value.Text())] = w.Key
		}
		all[field.Key] = table
	}
	return all
}

func (r *Results) read(node yamldoc.Node) {
	r.Counts = -1
	node.Read(r.keys())
	if len(r.Keys) == 0 && r.Line == "" {
		node.Fail("Add “key: {HEADING: FIELD}” or “line: HEADING”.", "nothing says which row a failure is of")
	}
	if r.Message == "" {
		node.Fail("Add “message: HEADING”.", "nothing says where the application's reason stands")
	}
}
