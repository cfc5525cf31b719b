package ldap

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	ldap "github.com/go-ldap/ldap/v3"

	"evenledger/internal/account"
	"evenledger/internal/attribute"
	"evenledger/internal/secret"
	"evenledger/internal/system"
)

// Controls and extensions that are used where the server has them.
const (
	controlAssertion = "1.3.6.1.1.12"            // RFC 4528
	controlPostRead  = "1.3.6.1.1.13.2"          // RFC 4527
	extPassword      = "1.3.6.1.4.1.4203.1.11.1" // RFC 3062
	mostFound        = 200                       // values in one filter
	mostTies         = 5000                      // members in one change
	mostUnits        = 5000                      // that the schema lists
	together         = 50                        // accounts that Create makes
)

// unit is the field that says where beneath the people an account stands: a path such as
// “Deck/Crew A”, or “/” at the top.
const unit = "unit"

// A directory is what is known of a server.
type directory struct {
	family
	sub       *subschema
	schema    *account.Schema
	places    map[string]place   // field → where it stands
	back      map[string]string  // attribute in small letters → field
	classes   []string           // of new accounts
	isPerson  string             // the filter that accounts pass
	marks     map[string]marking // fields that are yes or no, and stand in the entry otherwise
	ties      []tieClass         // classes of groups that the server has
	made      tieClass           // that of new groups; no name: groups cannot be made
	around    int                // how many accounts there are, about; 0: nobody knows
	paged     bool
	asserts   bool
	postReads bool
	password  bool         // RFC 3062
	rules     secret.Rules // for passwords, as far as they can be read
}

// A place is where a field stands in an entry.
type place struct {
	attribute string
	kind      account.Kind
	single    bool
}

// Describe implements system.System.
func (c *client) Describe(ctx context.Context) (*system.Description, error) {
	d, err := c.describe(ctx)
	if err != nil {
		return nil, err
	}
	about := &system.Description{Schema: d.schema, Can: system.Abilities{
		Piecemeal: d.password,
		Finds:     mostFound, Page: c.pageSize(d), Versions: d.asserts && d.version != "", AtOnce: together, Together: []system.Verb{system.Creates}, Rate: c.rate, Removes: true,
	}}
	about.Can.Names, about.Can.Refers = []string{unit, d.fieldOf(d.named)}, !d.quoted
	about.Can.Around, about.Can.Makes, about.Can.Unmakes, about.Can.Renews = d.around, true, true, true
	about.Rules = d.rules
	if len(d.ties) > 0 {
		about.Kinds = append(about.Kinds, account.ThingKind{Name: groupsKind, Filled: d.made.filled})
		about.Can.Ties = mostTies
	}
	about.Kinds = append(about.Kinds, account.ThingKind{Name: unitsKind, Place: unit})
	return about, nil
}

func (c *client) pageSize(d *directory) int {
	if d.mostPage > 0 {
		return min(c.page, d.mostPage)
	}
	return c.page
}

// describe asks the server once what it is like.
func (c *client) describe(ctx context.Context) (*directory, error) {
	c.describing.Lock()
	defer c.describing.Unlock()
	if c.known != nil {
		return c.known, nil
	}
	root, err := c.entry(ctx, "reading what the server is", "", "(objectClass=*)", "*", "+")
	if err != nil {
		return nil, c.nothing(err, "its root entry")
	}
	d := &directory{family: familyOf(root), places: map[string]place{}, back: map[string]string{}}
	c.digits, c.idName = d.digits, d.id
	controls, extensions := root.GetEqualFoldAttributeValues("supportedControl"), root.GetEqualFoldAttributeValues("supportedExtension")
	d.paged = slices.Contains(controls, ldap.ControlTypePaging)
	d.asserts, d.postReads = slices.Contains(controls, controlAssertion), slices.Contains(controls, controlPostRead)
	d.password = slices.Contains(extensions, extPassword) && !d.quoted && !d.hashes
	at := root.GetEqualFoldAttributeValue("subschemaSubentry")
	if at == "" {
		return nil, &system.Unavailable{Message: fmt.Sprintf("%s does not say where its schema is", c.url), Remedy: "Ask who runs the server whether this user may read its root entry and its schema."}
	}
	entry, err := c.entry(ctx, "reading the schema", at, "(objectClass=subschema)", "attributeTypes", "objectClasses", "dITContentRules")
	if err != nil {
		return nil, c.nothing(err, "its schema at "+at)
	}
	sub := readSubschema(entry.GetEqualFoldAttributeValues("attributeTypes"), entry.GetEqualFoldAttributeValues("objectClasses"), entry.GetEqualFoldAttributeValues("dITContentRules"))
	if err := c.adopt(d, sub); err != nil {
		return nil, err
	}
	if err := c.allow(ctx, d); err != nil {
		return nil, err
	}
	c.estimate(ctx, d)
	d.rules = c.policy(ctx, d, sub, root.GetEqualFoldAttributeValue("defaultNamingContext"))
	c.readCustoms(ctx, d)
	c.known = d
	return d, nil
}

// policy reads what the directory tells of the passwords it takes. Where there are several
// policies, and nobody can say whom each is for, it is what all of them want; what cannot
// be read is left to the server.
func (c *client) policy(ctx context.Context, d *directory, sub *subschema, domain string) secret.Rules {
	if d.quoted {
		entry, err := c.entry(ctx, "reading the rules for passwords", domain, "(objectClass=*)", "minPwdLength", "pwdProperties")
		if err != nil {
			return secret.Rules{}
		}
		rules := secret.Rules{Shortest: whole(entry, "minPwdLength")}
		if whole(entry, "pwdProperties")&passwordMixed != 0 {
			rules.Kinds = 3
		}
		return rules
	}
	if d.configured {
		return c.configured(ctx, d)
	}
	if sub.classes["pwdpolicy"] == nil {
		return secret.Rules{}
	}
	request := ldap.NewSearchRequest(c.base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=pwdPolicy)", []string{"pwdMinLength", "pwdCheckQuality"}, nil)
	found, err := c.search(ctx, nil, "reading the rules for passwords", request)
	if err != nil || len(found.Entries) == 0 {
		return secret.Rules{}
	}
	rules := secret.Rules{Shortest: math.MaxInt}
	for _, policy := range found.Entries {
		shortest := whole(policy, "pwdMinLength")
		if whole(policy, "pwdCheckQuality") == 0 {
			shortest = 0 // it is not looked at
		}
		rules.Shortest = min(rules.Shortest, shortest)
	}
	return rules
}

// configured reads what a 389-like server is told of passwords, where it lets us; and whether who is given one has to choose another.
func (c *client) configured(ctx context.Context, d *directory) secret.Rules {
	entry, err := c.entry(ctx, "reading the rules for passwords", "cn=config", "(objectClass=*)", "passwordCheckSyntax", "passwordMinLength", "passwordMinCategories", "passwordMustChange")
	if err != nil {
		return secret.Rules{}
	}
	if entry.GetEqualFoldAttributeValue("passwordMustChange") == "on" {
		d.marks[renewal] = marking{attribute: "passwordExpirationTime", marked: "true", value: "19700101000000Z"}
		d.schema.Renewal = renewal
		d.schema.Attributes = append(d.schema.Attributes, account.Attribute{Field: renewal, Path: "passwordExpirationTime", Kind: account.YesNo, Description: "whether they have to choose another password"})
	}
	if entry.GetEqualFoldAttributeValue("passwordCheckSyntax") != "on" {
		return secret.Rules{}
	}
	return secret.Rules{Shortest: whole(entry, "passwordMinLength"), Kinds: min(whole(entry, "passwordMinCategories"), 4)}
}

// passwordMixed is the bit of pwdProperties by which three kinds of characters are wanted.
const passwordMixed = 0x1

// whole reads a whole number; 0 where there is none.
func whole(e *ldap.Entry, attribute string) int {
	n, _ := strconv.Atoi(e.GetEqualFoldAttributeValue(attribute))
	return n
}

// allow tells which units there are, by path and by name.
func (c *client) allow(ctx context.Context, d *directory) error {
	place := account.Attribute{Field: unit, Path: "the entry's place", Kind: account.Place, Rule: account.AnyCase, Description: "Where beneath the people the account stands.", Also: map[string]string{}}
	for e, err := range c.units(ctx, d) {
		if err != nil {
			return err
		}
		path := c.path(e.DN)
		place.Allowed = append(place.Allowed, path)
		for _, name := range []string{e.DN, keyOf(e.DN), "/" + path} {
			place.Also[strings.ToLower(name)] = path
		}
		if len(place.Allowed) > mostUnits {
			place.Allowed = nil // a wrong one is told by the server
			break
		}
	}
	slices.Sort(place.Allowed)
	d.schema.Attributes = append(d.schema.Attributes, place)
	return nil
}

// estimate asks for one account: some servers say about how many there would be (RFC 2696
// section 2). One that does not is believed to have any number.
func (c *client) estimate(ctx context.Context, d *directory) {
	if !d.paged {
		return
	}
	request := ldap.NewSearchRequest(c.people, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, d.isPerson, []string{"1.1"}, []ldap.Control{ldap.NewControlPaging(1)})
	found, err := c.search(ctx, nil, "asking how many accounts there are", request)
	if err != nil {
		return
	}
	if told, ok := ldap.FindControl(found.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging); ok {
		d.around = int(told.PagingSize)
	}
}

// nothing is the error of what has to be in a directory and is not found.
func (c *client) nothing(err error, what string) error {
	told := answerIn(err)
	if told == nil {
		return err
	}
	remedy := "Ask who runs the server."
	if told.ResultCode == ldap.LDAPResultNoSuchObject || told.ResultCode == ldap.LDAPResultInsufficientAccessRights {
		remedy = "Look at “base” and “people” in evenledger.yaml, and ask who runs the server whether this user may read there."
	}
	return &system.Unavailable{Message: fmt.Sprintf("%s does not show us %s (%d)%s", c.url, what, told.ResultCode, whyNot(c.said(told))), Remedy: remedy, Err: err}
}

// adopt finds out what the classes of accounts hold, and where fields stand.
func (c *client) adopt(d *directory, sub *subschema) error {
	d.sub = sub
	d.classes, d.named = firstOf(c.connection.classes, d.family.classes), cmp.Or(c.connection.named, d.family.named)
	for _, class := range d.classes {
		if sub.classes[strings.ToLower(class)] == nil {
			return &system.Unavailable{Message: fmt.Sprintf("%s has no object class “%s”", c.url, class), Remedy: "Look at “classes” in evenledger.yaml."}
		}
	}
	d.isPerson = "(objectClass=" + ldap.EscapeFilter(d.classes[0]) + ")"
	if d.quoted {
		d.isPerson = "(&(objectCategory=person)" + d.isPerson + ")"
	}
	must, may := sub.allows(d.classes)
	allowed := map[string]string{} // in small letters → as it is called
	for _, name := range slices.Concat(must, may) {
		allowed[strings.ToLower(name)] = name
	}
	d.named = sub.canonical(d.named)
	if allowed[strings.ToLower(d.named)] == "" {
		return &system.Unavailable{Message: fmt.Sprintf("accounts of the classes %s have no attribute “%s” to be called by", strings.Join(d.classes, ", "), d.named), Remedy: "Look at “named” and “classes” in evenledger.yaml."}
	}
	d.schema = &account.Schema{}
	add := func(field string, kind account.Kind, t *attributeType, name string) {
		// Who is in which group, the groups say: servers that show it here keep it themselves.
		kept := t.kept || strings.EqualFold(name, "memberOf")
		a := account.Attribute{Field: field, Path: name, Kind: kind, Description: t.about, ReadOnly: kept, Longest: d.limits[name], Multi: kind == account.List, Rule: t.rule(),
			Required: !d.fills(name) && slices.Contains(must, name) || strings.EqualFold(name, d.named), Unique: field == "userName"}
		if kind == account.Phone || kind == account.Person || kind == account.Date {
			a.Rule = ""
		}
		d.schema.Attributes = append(d.schema.Attributes, a)
		d.places[field], d.back[strings.ToLower(name)] = place{name, kind, t.single}, field
	}
	used := map[string]bool{"objectclass": true, "userpassword": true, "unicodepwd": true}
	for _, f := range account.Fields() {
		name := cmp.Or(c.connection.attributes[f.Name], d.family.fields[f.Name], attribute.Of(f.Name))
		name = allowed[strings.ToLower(sub.canonical(name))]
		t := sub.attribute(name)
		if name == "" || t == nil || !t.isText() || used[strings.ToLower(name)] {
			continue
		}
		used[strings.ToLower(name)] = true
		add(f.Name, f.Kind, t, name)
	}
	for _, lower := range slices.Sorted(maps.Keys(allowed)) {
		t := sub.attribute(allowed[lower])
		if _, ours := account.FieldNamed(allowed[lower]); t != nil && t.isText() && !used[lower] && !ours {
			add(allowed[lower], t.kind(), t, allowed[lower])
		}
	}
	d.schema.Naming = "userName"
	if _, has := d.places["userName"]; !has {
		d.schema.Naming = d.back[strings.ToLower(d.named)]
	}
	c.findMarks(d, sub, allowed)
	c.findTies(d, sub)
	return nil
}

// renewal is the field that has a person choose another password.
const renewal = "newPassword"

// findMarks finds out how accounts are suspended, and how somebody is made to choose another
// password.
func (c *client) findMarks(d *directory, sub *subschema, allowed map[string]string) {
	d.marks = map[string]marking{}
	locks := d.locks
	if s := c.suspended; s.field != "" {
		locks = []marking{{attribute: s.field, marked: "false", value: s.off, other: s.on}}
	}
	// What the server keeps of an account itself, no class has to allow.
	find := func(field string, all []marking, must bool) bool {
		for _, m := range all {
			t := sub.attribute(m.attribute)
			if t == nil || must && !t.kept && allowed[strings.ToLower(m.attribute)] == "" {
				continue
			}
			d.marks[field] = m
			d.schema.Attributes = append(d.schema.Attributes, account.Attribute{Field: field, Path: m.attribute, Kind: account.YesNo, Description: t.about})
			return true
		}
		return false
	}
	if find("active", locks, c.suspended.field != "") {
		d.schema.Suspension = account.Suspension{Field: "active", On: "true", Off: "false"}
	}
	if find(renewal, d.renewals, false) {
		d.schema.Renewal = renewal
	}
}

// fieldOf returns the field that stands in an attribute, or the attribute's own name.
func (d *directory) fieldOf(attribute string) string {
	if field, ok := d.back[strings.ToLower(attribute)]; ok {
		return field
	}
	return attribute
}

func firstOf(lists ...[]string) []string {
	for _, list := range lists {
		if len(list) > 0 {
			return list
		}
	}
	return nil
}
