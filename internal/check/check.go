// Package check finds out what stands in the way of the accounts that a sheet
// wants: field by field, across the rows, and against what the system takes.
//
// Rows promises the order of the sheet, uses all cores, and holds no more than
// a few hundred rows at a time, save for one small number per row and field that
// must be unique. It changes nothing and asks no system.
package check

import (
	"context"
	"fmt"
	"iter"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/codes"
	"evenledger/internal/keyset"
	"evenledger/internal/mapping"
	"evenledger/internal/membership"
	"evenledger/internal/secret"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// chunkSize is how many rows go to a core at once.
const chunkSize = 128

// A Checked is one row with what was found out about it. It is valid until the
// next one is yielded.
type Checked struct {
	Row    sheet.Row
	Wanted *mapping.Wanted
	// Earlier are findings about rows yielded before, that only this row brought
	// to light: the first of two rows with the same key.
	Earlier []account.Finding
}

// A Checker checks the rows of one sheet.
type Checker struct {
	mapper    *mapping.Mapper
	brief     *brief.Brief
	schema    *account.Schema // nil: not known
	unique    []uniqueField
	number    int // field that gets numbers, or -1
	numbering Numbering
	worker    *mapping.Worker

	asking sync.Mutex
	asked  map[string]string // wrong values of fields → what is said of them

	// Things has what the system has besides accounts; nil: memberships are not
	// looked at.
	Things *membership.Catalogue
	// Judge judges given passwords; nil: none is judged.
	Judge *secret.Judge
	// Known are words that anyone knows of the organisation.
	Known []string
}

// uniqueField is a field in which no two rows may agree.
type uniqueField struct {
	index int
	code  account.Code
	rows  *keyset.Set
}

// New returns a Checker. Without a schema what the system takes is not checked.
func New(m *mapping.Mapper, schema *account.Schema) *Checker {
	c := &Checker{mapper: m, brief: m.Brief(), schema: schema, number: m.Brief().Numbered(), worker: m.NewWorker()}
	several := c.brief.OnlyMemberships()
	for i, f := range c.brief.Fields {
		if several {
			break // each row is another membership, perhaps of the same account
		}
		var code account.Code
		var attribute account.Attribute
		if schema != nil {
			attribute, _ = schema.Attribute(f.Name)
		}
		switch {
		case slices.Contains(c.brief.Match, f.Name):
			code = account.SameAccount
		case f.Unique != brief.Shared && f.Unique != brief.UniqueInUnit, f.Send && attribute.Unique:
			code = account.SameValue
		}
		if code != "" {
			c.unique = append(c.unique, uniqueField{index: i, code: code})
		}
	}
	return c
}

// Unique lists the indexes of the fields in which no two accounts may agree.
func (c *Checker) Unique() []int {
	var fields []int
	for _, u := range c.unique {
		fields = append(fields, u.index)
	}
	return fields
}

// maySuspend reports whether rows may ask for accounts to be suspended or let back in.
func (c *Checker) maySuspend() bool {
	i := c.brief.Intent()
	if i < 0 {
		return false
	}
	via := c.brief.Fields[i].Via
	if via == nil {
		return true
	}
	for _, word := range via {
		if word == string(account.Suspend) || word == string(account.Resume) {
			return true
		}
	}
	return false
}

// Schema finds what is wrong between the brief and the system's schema, before
// any row is read. An error means that no row can be sent.
func (c *Checker) Schema() []account.Finding {
	if c.schema == nil {
		return nil
	}
	findings := slices.Concat(c.fieldsFit(), c.settingsFit())
	if (c.maySuspend() || c.brief.Gone == brief.Suspend) && !c.schema.MaySuspend() {
		marked := "nothing that marks an account as suspended"
		if c.schema.Suspension.Field != "" {
			marked = fmt.Sprintf("no field “%s” that could be set", c.schema.Suspension.Field)
		}
		finding := about(c.schema.Suspension.Field, account.Error, account.UnknownField, "the brief has accounts suspended or let back in, and the system has "+marked)
		finding.Remedy = "Take “gone” or “intent” out of the brief, or ask who runs the system how accounts are suspended."
		findings = append(findings, finding)
	}
	if c.brief.New != brief.Create {
		return findings
	}
	for _, a := range c.schema.Attributes {
		if a.Required && !a.ReadOnly && !slices.ContainsFunc(c.brief.Fields, func(f brief.Field) bool { return f.Send && c.fieldOf(f.Name) == a.Field }) {
			finding := about(a.Field, account.Warning, account.BlankRequired, fmt.Sprintf("the system wants %s of a new account, and no column gives it", a.Field))
			finding.Remedy = "Add the field to the sheet or to the brief. Without it no account can be created."
			findings = append(findings, finding)
		}
	}
	return findings
}

// about is a finding about a field of the whole sheet.
func about(field string, level account.Level, code account.Code, message string) account.Finding {
	f := account.Find(level, code, message)
	f.Field = field
	return f
}

// fieldsFit finds fields of the brief that the system does not take, or not like this.
func (c *Checker) fieldsFit() (findings []account.Finding) {
	for _, f := range c.brief.Fields {
		if !f.Send {
			continue
		}
		attribute, known := c.schema.Attribute(f.Name)
		switch {
		case f.Name == account.ID: // every system has one
		case !known:
			findings = append(findings, about(f.Name, account.Error, account.UnknownField, fmt.Sprintf("the system has no field %s", f.Name)))
		case f.Kind == account.List && !attribute.Multi:
			findings = append(findings, about(f.Name, account.Error, account.OneValueOnly, fmt.Sprintf("the brief gives %s several values, and the system takes one", f.Name)))
		case attribute.ReadOnly:
			findings = append(findings, about(f.Name, account.Error, account.ReadOnlyField, fmt.Sprintf("the system keeps %s itself", f.Name)))
		}
	}
	return findings
}

// settingsFit finds what the brief sets with suspending and resuming and the system does
// not take.
func (c *Checker) settingsFit() (findings []account.Finding) {
	for _, change := range slices.Concat(c.brief.Suspending.Set, c.brief.Resuming) {
		attribute, known := c.schema.Attribute(change.Field)
		code, message := account.UnknownField, fmt.Sprintf("the brief sets %s, and the system has no such field", change.Field)
		switch {
		case known && change.After.Text() == "" && attribute.Required:
			code, message = account.NotAllowedValue, fmt.Sprintf("the brief leaves %s blank, and the system wants it", change.Field)
		case known && change.After.Text() == "":
			continue
		case known:
			value, err := codes.NewReader(codes.Unsettled).Read(attribute.Kind, change.After.Text())
			allowed := len(attribute.Allowed) == 0 || slices.ContainsFunc(attribute.Allowed, func(a string) bool { return strings.EqualFold(a, value) })
			if err == nil && allowed {
				continue
			}
			takes := attribute.Kind.InWords()
			if err == nil {
				takes = "one of " + strings.Join(attribute.Allowed, ", ")
			}
			code, message = account.NotAllowedValue, fmt.Sprintf("the brief sets %s to “%s”, and it takes %s", change.Field, change.After.Text(), takes)
		}
		findings = append(findings, about(change.Field, account.Error, code, message))
	}
	return findings
}

func (c *Checker) fieldOf(name string) string { return c.schema.Full(name) }

// chunk is a piece of the sheet on its way through the cores.
type chunk struct {
	rows   []sheet.Row
	cells  []string         // of the rows, one after the other
	kinds  []sheet.CellKind // of the rows that have them
	wanted []mapping.Wanted
	err    error // of reading, after the rows
	done   chan struct{}
}

// Rows checks the rows in their order.
func (c *Checker) Rows(ctx context.Context, rows iter.Seq2[sheet.Row, error]) iter.Seq2[Checked, error] {
	return func(yield func(Checked, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		cores := runtime.GOMAXPROCS(0)
		work := make(chan *chunk, cores)
		ordered := make(chan *chunk, 4*cores)
		used := make(chan *chunk, 5*cores)
		for range cores {
			go c.mapChunks(work)
		}
		read := make(chan struct{})
		go func() {
			defer close(read)
			readChunks(ctx, rows, work, ordered, used)
		}()
		// Nobody goes on reading when this returns: the sheet may be closed then.
		defer func() { cancel(); <-read }()
		for i := range c.unique { // what other rows have is held as long as it is needed
			c.unique[i].rows = keyset.New()
			defer func() { c.unique[i].rows = nil }()
		}
		for piece := range ordered {
			<-piece.done
			for i := range piece.wanted {
				if err := ctx.Err(); err != nil {
					yield(Checked{}, err)
					return
				}
				checked := Checked{Row: piece.rows[i], Wanted: &piece.wanted[i]}
				c.across(&checked)
				if !yield(checked, nil) {
					return
				}
			}
			if piece.err != nil {
				yield(Checked{}, piece.err)
				return
			}
			select {
			case used <- piece:
			default:
			}
		}
		if err := ctx.Err(); err != nil {
			yield(Checked{}, err)
		}
	}
}

// readChunks cuts the sheet into chunks, in order and for whoever is free. Chunks
// that were used are filled again.
func readChunks(ctx context.Context, rows iter.Seq2[sheet.Row, error], work, ordered, used chan *chunk) {
	defer close(work)
	defer close(ordered)
	send := func(piece *chunk) bool {
		select {
		case ordered <- piece:
		case <-ctx.Done():
			return false
		}
		select {
		case work <- piece:
			return true
		case <-ctx.Done():
			close(piece.done)
			return false
		}
	}
	fresh := func() *chunk {
		select {
		case piece := <-used:
			clear(piece.cells)
			piece.rows, piece.cells, piece.kinds, piece.done = piece.rows[:0], piece.cells[:0], piece.kinds[:0], make(chan struct{})
			return piece
		default:
			return &chunk{done: make(chan struct{})}
		}
	}
	piece := fresh()
	for row, err := range rows {
		if err != nil {
			piece.err = err
			break
		}
		row.Merged, row.Twice = slices.Clone(row.Merged), slices.Clone(row.Twice)
		from := len(piece.cells)
		piece.cells = append(piece.cells, row.Cells...)
		row.Cells = piece.cells[from:len(piece.cells):len(piece.cells)]
		if row.Kinds != nil {
			from := len(piece.kinds)
			piece.kinds = append(piece.kinds, row.Kinds...)
			row.Kinds = piece.kinds[from:len(piece.kinds):len(piece.kinds)]
		}
		piece.rows = append(piece.rows, row)
		if len(piece.rows) == chunkSize {
			if !send(piece) {
				return
			}
			piece = fresh()
		}
	}
	send(piece)
}

func (c *Checker) mapChunks(work <-chan *chunk) {
	worker := c.mapper.NewWorker()
	for piece := range work {
		piece.wanted = slices.Grow(piece.wanted[:0], len(piece.rows))[:len(piece.rows)]
		for i, row := range piece.rows {
			wanted := &piece.wanted[i]
			if worker.Map(row, nil, wanted); !wanted.Aside {
				c.row(worker, wanted)
			}
		}
		close(piece.done)
	}
}

// row checks one row by itself.
func (c *Checker) row(worker *mapping.Worker, wanted *mapping.Wanted) {
	for i := range c.brief.Fields {
		f := &c.brief.Fields[i]
		value := wanted.Values[i]
		if f.Required && !value.Filled() && !worker.Faulty(i) && !worker.IsAlone(i) && !(wanted.NeedsKeysOnly && !slices.Contains(c.brief.Match, f.Name)) {
			c.add(wanted, i, account.Error, account.BlankRequired, fmt.Sprintf("%s must be there and is blank", c.name(i)))
		}
		if !value.Filled() || !f.Send || c.schema == nil {
			continue
		}
		if a, ok := c.schema.Attribute(f.Name); ok && (len(a.Allowed) > 0 || a.Longest > 0 || a.Refuses != nil) {
			c.allowed(wanted, i, a)
		}
	}
	c.judge(wanted)
	if c.Things != nil {
		wanted.Findings = append(wanted.Findings, c.Things.Check(c.brief, wanted)...)
	}
	for _, condition := range c.brief.Checks {
		if wanted.NeedsKeysOnly {
			break
		}
		holds, err := worker.Holds(condition)
		if err != nil {
			c.add(wanted, -1, account.Error, account.ExpressionFailed, fmt.Sprintf("the check “%s” could not be worked out: %s", condition.Say, err))
		} else if !holds {
			c.add(wanted, only(condition.That.Uses), condition.Level, account.BriefCheck, condition.Say)
		}
	}
}

// judge judges a given password.
func (c *Checker) judge(wanted *mapping.Wanted) {
	if c.Judge == nil || !c.brief.Password.Given() || wanted.Password == "" {
		return
	}
	about := slices.Clone(c.Known)
	for i, f := range c.brief.Fields {
		if v := wanted.Values[i]; v.Filled() && f.Kind != account.YesNo && v.Text() != wanted.Password {
			about = append(about, v.Text())
		}
	}
	told := ""
	if wanted.Weak, told = c.Judge.Judge(wanted.Password, about); told != "" {
		f := account.Find(account.Warning, account.WeakPassword, told)
		f.Row, f.Field, f.Column, f.Remedy = wanted.Row, "password", c.brief.Password.From, "evenledger.yaml lets it through. Give a longer one that holds no name, number or common word."
		wanted.Findings = append(wanted.Findings, f)
	}
}

// only returns the field of a check that uses just one, to point at its column.
func only(fields []int) int {
	if len(fields) != 1 {
		return -1
	}
	return fields[0]
}

// allowed sees that a value is one the system takes, in the system's spelling.
func (c *Checker) allowed(wanted *mapping.Wanted, i int, a account.Attribute) {
	text := wanted.Values[i].Text()
	if a.Longest > 0 && len(text) > a.Longest && utf8.RuneCountInString(text) > a.Longest {
		c.add(wanted, i, account.Error, account.TooLongThere, fmt.Sprintf("“%s” has %d characters, and the system takes %d for %s", text, utf8.RuneCountInString(text), a.Longest, c.brief.Fields[i].Name))
		return
	}
	if a.Refuses != nil {
		if why := a.Refuses(text); why != "" {
			c.add(wanted, i, account.Error, account.NotAllowedValue, fmt.Sprintf("“%s” %s", text, why))
			return
		}
	}
	if len(a.Allowed) == 0 || slices.Contains(a.Allowed, text) {
		return
	}
	if value, ok := a.Also[strings.ToLower(text)]; ok {
		wanted.Values[i] = account.Of(value)
		return
	}
	for _, allowed := range a.Allowed {
		if !a.Exact && strings.EqualFold(allowed, text) {
			wanted.Values[i] = account.Of(allowed)
			return
		}
	}
	if c.brief.Fields[i].MakeMissing {
		return
	}
	c.add(wanted, i, account.Error, account.NotAllowedValue, fmt.Sprintf("“%s” is not a value the system takes for %s%s", text, c.brief.Fields[i].Name, c.instead(text, &a)))
}

// Missing finds what the system wants of a new account and the row doesn't give.
// It is for rows that are known to create one.
func (c *Checker) Missing(wanted *mapping.Wanted) []account.Finding {
	if c.schema == nil {
		return nil
	}
	var findings []account.Finding
	for _, a := range c.schema.Attributes {
		if !a.Required || a.ReadOnly {
			continue
		}
		i := slices.IndexFunc(c.brief.Fields, func(f brief.Field) bool { return f.Send && c.fieldOf(f.Name) == a.Field })
		if i >= 0 && (wanted.Values[i].Filled() || c.brief.Fields[i].Next.High > 0) {
			continue
		}
		f := account.Find(account.Error, account.BlankRequired, fmt.Sprintf("the system wants %s of a new account", a.Field))
		f.Row, f.Field = wanted.Row, a.Field
		if i >= 0 {
			f.Column = c.mapper.Heading(i)
		}
		findings = append(findings, f)
	}
	return findings
}

// across checks a row against those before it.
func (c *Checker) across(checked *Checked) {
	wanted := checked.Wanted
	if wanted.Aside {
		return
	}
	if c.number >= 0 && wanted.Values[c.number].Filled() && !wanted.Refused() {
		c.giveNumber(checked)
	}
	for _, u := range c.unique {
		value := wanted.Values[u.index]
		if !value.Filled() || u.index == c.number || wanted.IsFallback(u.index) {
			continue
		}
		field := &c.brief.Fields[u.index]
		first, taken := u.rows.Add(field.Key(value.Text()), wanted.Row)
		if !taken {
			continue
		}
		c.add(wanted, u.index, account.Error, u.code, fmt.Sprintf("%s “%s” is also in row %d", field.Label, value.Text(), first))
		other := account.Find(account.Error, u.code, fmt.Sprintf("%s “%s” is also in row %d", field.Label, value.Text(), wanted.Row))
		other.Row, other.Field, other.Column = first, field.Name, c.mapper.Heading(u.index)
		checked.Earlier = append(checked.Earlier, other)
	}
}

// giveNumber makes the row's value of the numbered field one that no row before
// it has, and makes anew what is made from it.
func (c *Checker) giveNumber(checked *Checked) {
	rows := c.unique[slices.IndexFunc(c.unique, func(u uniqueField) bool { return u.index == c.number })].rows
	field := c.brief.Fields[c.number]
	base := checked.Wanted.Values[c.number].Text()
	free, ok := c.numbering.Free(field, base, checked.Wanted.Others, func(text string) bool { return rows.Has(field.Key(text)) })
	if !ok {
		c.add(checked.Wanted, c.number, account.Error, account.NoFreeValue, fmt.Sprintf("“%s” and what could stand for it are all in rows above", base))
		return
	}
	rows.Add(field.Key(free), checked.Wanted.Row)
	if checked.Wanted.Base = base; free != base {
		c.MapAgain(checked.Wanted, free)
	}
}

// MapAgain maps the row anew with the numbered field's value given. What was found
// about the row is kept, but for what concerns that field and those made from it; so
// is the given password, which the row may not have any more.
func (c *Checker) MapAgain(wanted *mapping.Wanted, value string) {
	row, again := sheet.Row{Number: wanted.Row, Cells: wanted.Cells, Kinds: wanted.Kinds}, &mapping.Wanted{}
	c.worker.Map(row, map[int]string{c.number: value}, again)
	again.Password = wanted.Password
	c.row(c.worker, again)
	for _, f := range wanted.Findings {
		if i := c.brief.Field(f.Field); i >= 0 && (i == c.number || c.brief.Fields[i].Make != nil) || slices.Contains(again.Findings, f) {
			continue
		}
		again.Findings = append(again.Findings, f)
	}
	again.Base, again.Others, again.Weak = wanted.Base, wanted.Others, wanted.Weak
	*wanted = *again
}

// Free returns the first of base and others that is not taken. If all are and the
// field takes numbers, it is the last of them with the smallest number from 2 on
// behind it that is not taken.
func Free(f brief.Field, base string, others []string, taken func(string) bool) (free string, ok bool) {
	if !taken(base) {
		return base, true
	}
	last := base
	for _, other := range others {
		if !taken(other) {
			return other, true
		}
		last = other
	}
	if !f.Number {
		return "", false
	}
	for n := 2; ; n++ {
		if text := account.Numbered(last, n); !taken(text) {
			return text, true
		}
	}
}

// A Numbering remembers which number behind a value was given last, so that the
// next namesake need not try all before it.
type Numbering struct{ next map[string]int }

// Free does what the function Free does, for values that stay taken once they are.
func (m *Numbering) Free(f brief.Field, base string, others []string, taken func(string) bool) (free string, ok bool) {
	plain := f
	plain.Number = false
	if free, ok = Free(plain, base, others, taken); ok || !f.Number {
		return free, ok
	}
	last := base
	if len(others) > 0 {
		last = others[len(others)-1]
	}
	if m.next == nil {
		m.next = map[string]int{}
	}
	key := f.Key(last)
	for n := max(2, m.next[key]); ; n++ {
		if text := account.Numbered(last, n); !taken(text) {
			m.next[key] = n + 1
			return text, true
		}
	}
}

// Release takes back a value that Free gave and that nobody gets after all, so that the
// next one does.
func (m *Numbering) Release(f brief.Field, given, base string, others []string) {
	last := base
	if len(others) > 0 {
		last = others[len(others)-1]
	}
	if key := f.Key(last); m.next[key] > 0 {
		for n := 2; n < m.next[key]; n++ {
			if account.Numbered(last, n) == given {
				m.next[key] = n
			}
		}
	}
}

// name says which field is meant: its column's heading, or what it is.
func (c *Checker) name(i int) string {
	if heading := c.mapper.Heading(i); heading != "" {
		return "“" + heading + "”"
	}
	return "the " + c.brief.Fields[i].Label
}

func (c *Checker) add(wanted *mapping.Wanted, field int, level account.Level, code account.Code, message string) {
	f := account.Find(level, code, message)
	f.Row = wanted.Row
	if field >= 0 {
		f.Field, f.Column = c.brief.Fields[field].Name, c.mapper.Heading(field)
	}
	wanted.Findings = append(wanted.Findings, f)
}

// mostAllowed is how many of the values that there are a message lists, and mostAsked for how many wrong ones it is looked which is near:
// there may be thousands of values, and a sheet in which every row has another wrong one.
const (
	mostAllowed = 12
	mostAsked   = 500
)

// instead says which values the system takes instead of one: which is near, and which there are.
func (c *Checker) instead(text string, a *account.Attribute) string {
	key := a.Field + "\x00" + text
	c.asking.Lock()
	defer c.asking.Unlock()
	said, asked := c.asked[key]
	if !asked {
		said = instead(text, a, len(c.asked) < mostAsked)
		if c.asked == nil {
			c.asked = map[string]string{}
		}
		if len(c.asked) < mostAsked {
			c.asked[strings.Clone(key)] = said
		}
	}
	return said
}

func instead(text string, a *account.Attribute, near bool) string {
	said, nearest := "", ""
	if near {
		nearest = words.Nearest(text, a.Allowed)
	}
	if nearest != "" {
		said = fmt.Sprintf(": did you mean “%s”?", nearest)
	} else if above, last, deep := cutLast(text); deep && a.Kind == account.Place {
		for _, one := range a.Allowed {
			if strings.EqualFold(one, above) {
				said = fmt.Sprintf(": there is “%s”, and no “%s” in it.", one, last)
			}
		}
	}
	list, more := a.Allowed, ""
	if len(list) > mostAllowed {
		list, more = list[:mostAllowed], fmt.Sprintf(" and %d more", len(list)-mostAllowed)
	}
	if said == "" {
		return "; it takes " + strings.Join(list, ", ") + more
	}
	return said + " It takes " + strings.Join(list, ", ") + more
}

// cutLast cuts the last part off a path.
func cutLast(path string) (above, last string, deep bool) {
	i := strings.LastIndexByte(path, '/')
	if i <= 0 {
		return "", "", false
	}
	return path[:i], path[i+1:], true
}
