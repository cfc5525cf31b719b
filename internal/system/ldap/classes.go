package ldap

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evenledger/internal/account"
)

// What an entry may hold, its object classes say. One that lacks a class which a field needs gets it with the change, where the class is
// auxiliary and evenledger.yaml names it; else the draft refuses the change.

// A fitness is what entries of the same classes can be given.
type fitness struct {
	lacks map[string]string   // field → why it cannot be set
	needs map[string][]string // field → what has to be there as well once it is set
}

// fit returns what an entry can be given; nil: whatever the server takes.
func (c *client) fit(d *directory, has []string) *fitness {
	if d.quoted || len(has) == 0 {
		return nil
	}
	has = slices.Clone(has)
	for i := range has {
		has[i] = strings.ToLower(has[i])
	}
	slices.Sort(has)
	key := strings.Join(has, " ")
	if known, is := c.fitting.Load(key); is {
		return known.(*fitness)
	}
	f := &fitness{lacks: map[string]string{}, needs: map[string][]string{}}
	for field, p := range d.places {
		class, fits := d.classFor(p.attribute, has)
		switch {
		case fits:
		case class == "":
			f.lacks[field] = fmt.Sprintf("the account has not the object class that %s needs, and it cannot be added: it is none of the auxiliary “classes” in evenledger.yaml", p.attribute)
		default:
			must, _ := d.sub.allows([]string{class})
			for _, attribute := range must {
				if other := d.fieldOf(attribute); other != field {
					if _, has := d.classFor(attribute, has); has {
						continue
					}
					f.needs[field] = append(f.needs[field], other)
				}
			}
		}
	}
	c.fitting.Store(key, f)
	return f
}

// classFor returns the class that an entry of these classes lacks for an attribute; empty: it can have none.
func (d *directory) classFor(attribute string, has []string) (class string, fits bool) {
	may := func(classes []string) bool {
		must, may := d.sub.allows(classes)
		is := func(name string) bool { return strings.EqualFold(name, attribute) }
		return slices.ContainsFunc(must, is) || slices.ContainsFunc(may, is)
	}
	if may(has) || slices.Contains(has, "extensibleobject") {
		return "", true
	}
	for _, class := range d.classes[1:] {
		if o := d.sub.classes[strings.ToLower(class)]; o != nil && o.auxiliary && may([]string{class}) {
			return class, false
		}
	}
	return "", false
}

// tell adds to an account what it cannot be given, and what belongs together.
func (f *fitness) tell(a *account.Account) {
	if f == nil {
		return
	}
	a.Lacks, a.Needs = f.lacks, f.needs
}

// classChanges adds to the changes of an entry the auxiliary classes that it needs for them, and takes away those of which nothing is left.
func (c *client) classChanges(ctx context.Context, d *directory, dn string, mods []modification) ([]modification, error) {
	own := map[string]bool{} // attributes of auxiliary classes, in small letters
	for _, class := range d.classes[1:] {
		if o := d.sub.classes[strings.ToLower(class)]; o == nil || !o.auxiliary {
			continue
		}
		must, may := d.sub.allows([]string{class})
		for _, name := range slices.Concat(must, may) {
			if _, fits := d.classFor(name, []string{strings.ToLower(d.classes[0])}); !fits {
				own[strings.ToLower(name)] = true
			}
		}
	}
	if d.quoted || !slices.ContainsFunc(mods, func(m modification) bool { return own[strings.ToLower(m.attribute)] }) {
		return mods, nil
	}
	e, err := c.entry(ctx, "looking at the classes of "+dn, dn, "(objectClass=*)", "*")
	if err != nil {
		return nil, err
	}
	left := map[string]bool{}
	for _, a := range e.Attributes {
		left[strings.ToLower(a.Name)] = len(a.Values) > 0
	}
	for _, m := range mods {
		left[strings.ToLower(m.attribute)] = len(m.new) > 0 || !m.whole && left[strings.ToLower(m.attribute)]
	}
	var has, come, gone []string
	for _, class := range e.GetEqualFoldAttributeValues("objectClass") {
		has = append(has, strings.ToLower(class))
	}
	for _, m := range mods {
		if len(m.new) == 0 {
			continue
		}
		if class, fits := d.classFor(m.attribute, has); !fits && class != "" {
			come, has = append(come, class), append(has, strings.ToLower(class))
		}
	}
	for _, class := range d.classes[1:] {
		lower := strings.ToLower(class)
		if slices.Contains(come, class) || !slices.Contains(has, lower) || !d.sub.classes[lower].auxiliary {
			continue
		}
		must, may := d.sub.allows([]string{class})
		lacks := slices.ContainsFunc(must, func(name string) bool { return own[strings.ToLower(name)] && !left[strings.ToLower(name)] })
		keeps := slices.ContainsFunc(slices.Concat(must, may), func(name string) bool { return own[strings.ToLower(name)] && left[strings.ToLower(name)] })
		if lacks && !keeps {
			gone = append(gone, class)
		}
	}
	if len(come)+len(gone) > 0 {
		mods = append([]modification{{attribute: "objectClass", gone: gone, new: come}}, mods...)
	}
	return mods, nil
}
