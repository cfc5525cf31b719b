// Package membership decides which ties an account gets and loses: what a sheet
// writes is held against the things a system has, and what is wanted against what
// the account has.
//
// It is pure. It promises that no step is made for a tie that is as wanted, that
// nothing outside a brief's pattern is taken away, that no licence is given beyond
// its seats, and that whatever cannot be settled is a finding and no step.
package membership

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/mapping"
	"evenledger/internal/words"
)

// A Catalogue is the things of a system by kind, found by id or name.
type Catalogue struct {
	kinds map[string]*things

	// Elevated has the patterns of names that give rights over others, by kind,
	// besides those that the system itself says do.
	Elevated map[string][]string

	dividing sync.Mutex
	sections map[[3]string]string // that are to be made: by kind, thing and key, as they are written
}

type things struct {
	about account.ThingKind
	all   []*account.Thing
	made  int // of all, those that the system doesn't have yet
	byID  map[string]*account.Thing
	byKey map[string][]*account.Thing // words.NameKey of the name
}

// AddKind takes a kind in.
func (c *Catalogue) AddKind(about account.ThingKind) {
	if c.kinds == nil {
		c.kinds = map[string]*things{}
	}
	c.kinds[about.Name] = &things{about: about, byID: map[string]*account.Thing{}, byKey: map[string][]*account.Thing{}}
}

// Add takes a thing of a kind in.
func (c *Catalogue) Add(kind string, t account.Thing) {
	k := c.kinds[kind]
	k.all = append(k.all, &t)
	if t.ID != "" {
		k.byID[t.ID] = &t
	}
	key := words.NameKey(t.Name)
	k.byKey[key] = append(k.byKey[key], &t)
}

// make takes in a thing that is to be made, or the value of a field in which any
// text may stand.
func (c *Catalogue) make(kind, name string) {
	t := account.Thing{Name: name, Seats: -1}
	if about := c.kinds[kind].about; about.Field != "" || about.Any {
		t.ID = name
	}
	c.Add(kind, t)
	c.kinds[kind].made++
}

// takesAny reports whether a kind's things are those that anybody names: the system takes any, or they are values of a field
// and it does not say which.
func (c *Catalogue) takesAny(kind string) bool {
	k := c.kinds[kind]
	return k.about.Any || k.about.Field != "" && len(k.all) == k.made
}

// Kind returns what is known of a kind; ok is false if the system has none.
func (c *Catalogue) Kind(name string) (about account.ThingKind, ok bool) {
	k := c.kinds[name]
	if k == nil {
		return account.ThingKind{}, false
	}
	return k.about, true
}

// Things returns the things of a kind. The slice must not be changed.
func (c *Catalogue) Things(kind string) []*account.Thing {
	if k := c.kinds[kind]; k != nil {
		return k.all
	}
	return nil
}

// Thing returns the thing of that id, or one that has nothing but the id.
func (c *Catalogue) Thing(kind, id string) account.Thing {
	if k := c.kinds[kind]; k != nil && k.byID[id] != nil {
		return *k.byID[id]
	}
	return account.Thing{ID: id, Name: id, Members: -1, Seats: -1}
}

// IsElevated reports whether a thing gives rights over others.
func (c *Catalogue) IsElevated(kind string, t *account.Thing) bool {
	return t.Elevated || account.Fits(t.Name, c.Elevated[kind])
}

// singular is a kind as a finding has it.
func singular(kind string) string { return strings.TrimSuffix(kind, "s") }

// find finds a thing by its id or its name: exactly as it is written, else but for
// capitals, accents and spacing. What is only like it is another thing.
func (c *Catalogue) find(kind, text string) (*account.Thing, error) {
	k := c.kinds[kind]
	if t := k.byID[text]; t != nil {
		return t, nil
	}
	hits := k.byKey[words.NameKey(text)]
	if len(hits) > 1 {
		if i := slices.IndexFunc(hits, func(t *account.Thing) bool { return t.Name == text }); i >= 0 && slices.IndexFunc(hits[i+1:], func(t *account.Thing) bool { return t.Name == text }) < 0 {
			return hits[i], nil
		}
		return nil, fmt.Errorf("two %s are called “%s”: %s and %s", kind, text, hits[0].ID, hits[1].ID)
	}
	if len(hits) == 1 {
		return hits[0], nil
	}
	return nil, nil
}

// resolve finds the thing that a text means, with the role and section that stand
// behind its name in brackets. The thing is nil if there is none.
func (c *Catalogue) resolve(kind, text string) (t *account.Thing, name, role, section string, err error) {
	if t, err = c.find(kind, text); t != nil || err != nil {
		return t, text, "", "", err
	}
	if name, role, section = account.ParseMembership(text); name != text {
		t, err = c.find(kind, name)
	}
	return t, name, role, section, err
}

// Meant returns the thing that a row means by a text, or nil.
func (c *Catalogue) Meant(kind, text string) *account.Thing {
	t, _, _, _, err := c.resolve(kind, text)
	if err != nil {
		return nil // told at the row
	}
	return t
}

// read finds what a row means by a membership, or says why it cannot be had.
func (c *Catalogue) read(of *brief.Memberships, tie mapping.Tie) (wish, *account.Finding) {
	problem := func(level account.Level, code account.Code, remedy, format string, args ...any) (wish, *account.Finding) {
		f := account.Find(level, code, fmt.Sprintf(format, args...))
		if f.Field, f.Column = of.Kind, tie.Column; remedy != "" {
			f.Remedy = remedy
		}
		return wish{}, &f
	}
	one := singular(of.Kind)
	about, ok := c.Kind(of.Kind)
	if !ok {
		return problem(account.Error, unknown(of.Kind), "Take it out of the brief, or say in evenledger.yaml where they are kept.", "the system has no %s", of.Kind)
	}
	t, name, role, section, err := c.resolve(of.Kind, tie.Name)
	x := wish{of: of, thing: t, name: name, usual: about.Usual, role: cmp.Or(tie.Role, role), section: cmp.Or(tie.Section, section)}
	switch {
	case err != nil:
		return problem(account.Error, account.TwoOfThatName, "", "%s", err)
	case t == nil && of.Mode == brief.Drop:
		return problem(account.Warning, unknown(of.Kind), "", "there is no %s “%s” to be taken away", one, name)
	case t == nil && !of.MakeMissing && !c.takesAny(of.Kind):
		remedy := ""
		if near := c.nearest(of.Kind, name); near != "" {
			remedy = fmt.Sprintf("Did you mean “%s”?", near)
		}
		return problem(account.Error, unknown(of.Kind), remedy, "there is no %s “%s”", one, name)
	case of.Mode == brief.Exact && len(of.Within) > 0 && !account.Fits(name, of.Within) && (t == nil || !account.Fits(t.Name, of.Within)):
		return problem(account.Error, account.OutsideWithin, "", "“%s” is not within %s, which is all that the brief keeps", name, strings.Join(of.Within, ", "))
	case t == nil || of.Mode == brief.Drop:
		return x, nil
	}
	for _, part := range []struct {
		what    string
		value   *string
		takes   bool
		allowed []string
		none    account.Code // there are none, or
		other   account.Code // not this one
	}{{"role", &x.role, about.Roles, t.Roles, account.UnknownRole, account.NotARoleThere}, {"section", &x.section, about.Sections, t.Sections, account.UnknownSection, account.UnknownSection}} {
		if *part.value == "" {
			continue
		}
		if !part.takes {
			return problem(account.Error, part.none, "", "the %s have no %ss, and “%s” is named", of.Kind, part.what, *part.value)
		}
		at := slices.Index(part.allowed, *part.value)
		if at < 0 {
			at = slices.IndexFunc(part.allowed, func(a string) bool { return words.NameKey(a) == words.NameKey(*part.value) })
		}
		if at >= 0 {
			*part.value = part.allowed[at] // in the system's spelling
		} else if part.what == "section" && of.MakeMissing && about.Divides && len(part.allowed) > 0 {
			*part.value, x.divided = c.spelt(of.Kind, t.ID, *part.value), true
		} else if len(part.allowed) > 0 {
			return problem(account.Error, part.other, "", "“%s” has no %s “%s”; it has %s", t.Name, part.what, *part.value, strings.Join(part.allowed, ", "))
		}
	}
	return x, nil
}

// spelt is a section that is to be made as it was written first: others may have it in other capitals.
func (c *Catalogue) spelt(kind, thing, section string) string {
	c.dividing.Lock()
	defer c.dividing.Unlock()
	key := [3]string{kind, thing, words.NameKey(section)}
	if first, known := c.sections[key]; known {
		return first
	}
	if c.sections == nil {
		c.sections = map[[3]string]string{}
	}
	c.sections[key] = section
	return section
}

// nearestSection suggests the section of a thing that was perhaps meant.
func (c *Catalogue) nearestSection(kind, thing, section string) string {
	t := c.Thing(kind, thing)
	return words.Nearest(section, t.Sections)
}

// unknown is the code of a thing of a kind that is not there.
func unknown(kind string) account.Code {
	switch kind {
	case "groups":
		return account.UnknownGroup
	case "courses":
		return account.UnknownCourse
	case "licences":
		return account.UnknownLicence
	case "roles":
		return account.UnknownRole
	}
	return account.UnknownThing
}

// Among finds the thing that the value of a field names, and returns its name as the
// system has it, or its id where two things have that name; or says what is wrong.
func (c *Catalogue) Among(f brief.Field, text string) (value string, problem *account.Finding) {
	told := account.Find(account.Error, account.UnknownThing, fmt.Sprintf("there is no %s “%s”", singular(f.Among), text))
	told.Field = f.Name
	if _, ok := c.Kind(f.Among); !ok {
		told.Message = fmt.Sprintf("the system has no %s", f.Among)
		return "", &told
	}
	t, err := c.find(f.Among, text)
	switch {
	case err != nil:
		told.Code, told.Message = account.TwoOfThatName, err.Error()
		return "", &told
	case t == nil:
		if near := c.nearest(f.Among, text); near != "" {
			told.Remedy = fmt.Sprintf("Did you mean “%s”?", near)
		}
		return "", &told
	}
	if same := c.kinds[f.Among].byKey[words.NameKey(t.Name)]; len(same) > 1 && slices.ContainsFunc(same, func(o *account.Thing) bool { return o != t && o.Name == t.Name }) {
		return t.ID, nil
	}
	return t.Name, nil
}

// Mentioned finds what is wrong with a thing that the brief itself names.
func (c *Catalogue) Mentioned(b *brief.Brief, m brief.Mention) *account.Finding {
	of := &b.Memberships[m.Of]
	if m.Name == "" {
		return c.someHas(of, m.Role)
	}
	x, problem := c.read(of, mapping.Tie{Name: m.Name})
	if problem != nil || x.thing != nil || of.Mode == brief.Drop || c.takesAny(of.Kind) {
		return problem
	}
	near := c.nearest(of.Kind, x.name)
	if near == "" {
		return nil
	}
	f := account.Find(account.Warning, account.NearlyTheName, fmt.Sprintf("the %s “%s” would be made, and there is one that is called “%s”", singular(of.Kind), x.name, near))
	return &f
}

// someHas finds what is wrong with a role that nothing of a kind has.
func (c *Catalogue) someHas(of *brief.Memberships, role string) *account.Finding {
	about, ok := c.Kind(of.Kind)
	if !ok {
		return nil // told of the things themselves
	}
	var all []string
	for _, t := range c.Things(of.Kind) {
		for _, has := range t.Roles {
			if words.NameKey(has) == words.NameKey(role) {
				return nil
			}
			if !slices.Contains(all, has) {
				all = append(all, has)
			}
		}
	}
	f := account.Find(account.Error, account.NotARoleThere, fmt.Sprintf("none of the %s has a role “%s”", of.Kind, role))
	switch near := words.Nearest(role, all); {
	case !about.Roles:
		f.Message = fmt.Sprintf("the %s have no roles, and “%s” is named", of.Kind, role)
	case len(all) == 0:
		return nil // the system does not say which there are
	case near != "":
		f.Remedy = fmt.Sprintf("Did you mean “%s”?", near)
	default:
		f.Remedy = "There are " + strings.Join(all, ", ") + "."
	}
	return &f
}

// Check finds what is wrong with the memberships that a row names, whoever it is
// about. It may be called by several goroutines.
func (c *Catalogue) Check(b *brief.Brief, w *mapping.Wanted) []account.Finding {
	var findings []account.Finding
	for i, f := range b.Fields {
		if f.Among == "" || !w.Values[i].Filled() {
			continue
		}
		if _, problem := c.Among(f, w.Values[i].Text()); problem != nil {
			problem.Row = w.Row
			findings = append(findings, *problem)
		}
	}
	for _, tie := range w.Ties {
		x, problem := c.read(&b.Memberships[tie.Of], tie)
		if problem == nil && x.isClosed() {
			problem = x.closed(tie.Column)
			problem.Level = account.Warning // who is in it already may stay
		}
		if problem != nil {
			problem.Row = w.Row
			findings = append(findings, *problem)
		}
	}
	return findings
}

// nearest suggests the name that was perhaps meant.
func (c *Catalogue) nearest(kind, text string) string {
	var names []string
	for _, t := range c.Things(kind) {
		if t.ID != "" && t.Name != text {
			names = append(names, t.Name)
		}
	}
	return words.Nearest(text, names)
}
