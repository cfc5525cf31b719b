package ldap

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf16"

	ber "github.com/go-asn1-ber/asn1-ber"
	ldap "github.com/go-ldap/ldap/v3"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// Apply implements system.System.
func (c *client) Apply(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	if !slices.ContainsFunc(orders, func(o system.Order) bool { return o.Does != system.Creates }) {
		return c.create(ctx, may, orders, fields)
	}
	return system.Each(orders, func(o system.Order) (now account.Account, err error) {
		switch o.Does {
		case system.Creates:
			made, err := c.create(ctx, may, []system.Order{o}, fields)
			if err != nil {
				return now, err
			}
			return made[0].Account, made[0].Err
		case system.Changes:
			return c.change(ctx, may, o.Known, o.Changes, fields)
		case system.Removes:
			return now, c.remove(ctx, may, o.Known)
		case system.Renews:
			return now, c.setPassword(ctx, may, o.Known, o.Wanted.Password, o.Changes)
		case system.Completes:
			return now, c.complete(ctx, may, o.Known, o.Wanted)
		}
		return now, system.ErrCannot
	})
}

// create makes entries one by one, as the protocol has it, and reads them together.
func (c *client) create(ctx context.Context, may system.Permit, orders []system.Order, fields []string) ([]system.Result, error) {
	d, err := c.describe(ctx)
	if err != nil {
		return nil, err
	}
	made, dns := make([]system.Result, len(orders)), make([]string, len(orders))
	var adding sync.WaitGroup
	for i, o := range orders {
		adding.Go(func() {
			dns[i], made[i].Err = c.add(ctx, may, d, o.Wanted, fields)
		})
	}
	adding.Wait()
	were := map[string]account.Account{}
	for i, dn := range dns {
		var refusal *system.Refusal
		var open *system.Unclear
		switch err := made[i].Err; {
		case err == nil:
			were[keyOf(dn)] = orders[i].Wanted
		case !errors.As(err, &refusal) && !errors.As(err, &open):
			if len(orders) == 1 {
				return nil, err
			}
			// Nothing more can be done, and others may have been made by now.
			return nil, &system.Unclear{Err: err}
		}
	}
	now, err := c.readBack(ctx, d, were, fields)
	for i, dn := range dns {
		if made[i].Err != nil {
			continue
		}
		a, there := now[keyOf(dn)]
		switch {
		case err != nil:
			made[i].Err = &system.Unclear{Err: err}
		case !there:
			made[i].Err = &system.Unclear{Err: fmt.Errorf("%s was made, and is not shown", dn)}
		default:
			made[i].Account = a
		}
	}
	return made, nil
}

// add makes an account's entry and returns its name.
func (c *client) add(ctx context.Context, may system.Permit, d *directory, wanted account.Account, fields []string) (dn string, err error) {
	c.mask.Add(wanted.Password)
	request, err := c.addition(ctx, d, wanted)
	if err != nil {
		return "", err
	}
	err = c.run(ctx, operation{may: may, what: "adding " + request.DN, do: func(conn *ldap.Conn) error { return conn.Add(request) }})
	if err != nil {
		return "", c.whoHas(ctx, d, request, wanted, fields, err)
	}
	if err = c.setFirstPassword(ctx, may, d, request.DN, wanted); err == nil {
		return request.DN, nil
	}
	if isOpen(err) {
		return "", err
	}
	// Without its password it is not the account that was wanted.
	gone := c.run(ctx, operation{may: may, what: "taking " + request.DN + " back", do: func(conn *ldap.Conn) error { return conn.Del(ldap.NewDelRequest(request.DN, nil)) }})
	if gone != nil {
		return "", &system.Unclear{Err: fmt.Errorf("%s was made, its password was refused (%s), and it could not be taken back: %w", request.DN, plainly(err), gone)}
	}
	return "", c.refusal(err)
}

// whoHas turns a server's no into a refusal, and adds whose it is if something is taken: a name, or a value that the server names.
func (c *client) whoHas(ctx context.Context, d *directory, request *ldap.AddRequest, wanted account.Account, fields []string, err error) error {
	no := c.refusal(err)
	var refusal *system.Refusal
	if !errors.As(no, &refusal) || refusal.Code != account.TakenValue {
		return no
	}
	if codeOf(err) == ldap.LDAPResultEntryAlreadyExists {
		if e, looked := c.entry(ctx, "looking whose "+request.DN+" is", request.DN, d.isPerson, d.asked(fields)...); looked == nil {
			c.isOf(ctx, d, refusal, e, fields)
			return refusal
		}
	}
	named := []string{refusal.Field}
	if several := alreadyHas.FindStringSubmatch(refusal.Message); several != nil {
		named = strings.Fields(several[1])
	}
	for _, name := range named {
		field := d.fieldOf(name)
		value, p := wanted.Field(field), d.places[field]
		if !value.Filled() || p.attribute == "" {
			continue
		}
		for e, looked := range c.entries(ctx, d, query{what: "looking who has what is taken", base: c.base, filter: "(&" + d.isPerson + "(" + p.attribute + "=" + ldap.EscapeFilter(encode(p.kind, value.Text())) + "))", attributes: d.asked(fields)}) {
			if looked == nil {
				refusal.Field = field
				c.isOf(ctx, d, refusal, e, fields)
			}
			return refusal
		}
	}
	return refusal
}

// isOf says in a refusal who has what is taken.
func (c *client) isOf(ctx context.Context, d *directory, refusal *system.Refusal, e *ldap.Entry, fields []string) {
	if all, err := c.accounts(ctx, d, []*ldap.Entry{e}, fields); err == nil {
		refusal.By = all[0]
		refusal.Message += fmt.Sprintf("; %s (%s) has it", all[0].Label(), all[0].ID)
	}
}

// setFirstPassword gives a new account its password, where that was not sent with it. What a password does
// away with comes after it: that the person has to choose another, and last that nobody may sign in.
func (c *client) setFirstPassword(ctx context.Context, may system.Permit, d *directory, dn string, wanted account.Account) error {
	if wanted.Password == "" || d.quoted {
		return nil
	}
	if d.password {
		if err := c.modifyPassword(ctx, may, dn, wanted.Password); err != nil {
			return err
		}
	}
	return c.markAgain(ctx, may, d, dn, d.isMarked(renewal, wanted), d.isMarked("active", wanted))
}

// isMarked reports whether an account is to have a mark that its field stands for.
func (d *directory) isMarked(field string, a account.Account) bool {
	m, marks := d.marks[field]
	return marks && a.Field(field).Text() == m.marked
}

// complete gives an account its password: a cut between the two requests that make one leaves it
// without.
func (c *client) complete(ctx context.Context, may system.Permit, known, wanted account.Account) error {
	d, err := c.describe(ctx)
	if err != nil || wanted.Password == "" || !d.password {
		return err
	}
	c.mask.Add(wanted.Password)
	_, dn := splitVersion(known.Version)
	err = c.setFirstPassword(ctx, may, d, dn, wanted)
	if told := answerIn(err); told != nil && told.ResultCode == ldap.LDAPResultConstraintViolation && sameAsBefore(c.said(told)) {
		// It was set before the cut.
		err = c.markAgain(ctx, may, d, dn, d.isMarked(renewal, wanted), d.isMarked("active", wanted))
	}
	return c.refusal(err)
}

// sameAsBefore reports whether a server refuses a password because it is the one that there is.
func sameAsBefore(said string) bool {
	said = strings.ToLower(said)
	return strings.Contains(said, "existing value") || strings.Contains(said, "in history")
}

// modifyPassword sets a password by RFC 3062: the server keeps none that can be read, whatever
// its settings.
func (c *client) modifyPassword(ctx context.Context, may system.Permit, dn, password string) error {
	return c.run(ctx, operation{may: may, what: "setting the password of " + dn, do: func(conn *ldap.Conn) error {
		_, err := conn.PasswordModify(ldap.NewPasswordModifyRequest(dn, "", password))
		return err
	}})
}

// markAgain has a person choose another password, and lets nobody sign in, where setting the password may
// have taken that away.
func (c *client) markAgain(ctx context.Context, may system.Permit, d *directory, dn string, renews, closed bool) error {
	request := ldap.NewModifyRequest(dn, nil)
	for _, mark := range []struct {
		field string
		is    bool
	}{{renewal, renews}, {"active", closed}} {
		if m := d.marks[mark.field]; mark.is && m.attribute != "" && m.bit == 0 {
			request.Replace(m.attribute, []string{m.value})
		}
	}
	if len(request.Changes) == 0 {
		return nil
	}
	return c.run(ctx, operation{may: may, what: "marking " + dn + " after its password was set", do: func(conn *ldap.Conn) error { return conn.Modify(request) }})
}

// setPassword gives an account another password.
func (c *client) setPassword(ctx context.Context, may system.Permit, known account.Account, password string, also []account.Change) error {
	d, err := c.describe(ctx)
	if err != nil {
		return err
	}
	c.mask.Add(password) // before anything can be told
	// A name may be another person's by now.
	var fields []string
	if d.marks["active"].attribute != "" {
		fields = append(fields, "active")
	}
	now, err := c.Get(ctx, known.ID, fields)
	if err != nil {
		return err
	}
	_, dn := splitVersion(now.Version)
	closed := d.isMarked("active", now)
	renews := slices.ContainsFunc(also, func(change account.Change) bool { return change.Field == renewal })
	m, marks := d.marks[renewal]
	if i := slices.IndexFunc(also, func(change account.Change) bool { return change.Field != renewal || !marks }); i >= 0 {
		return lacking(also[i].Field)
	}
	request := ldap.NewModifyRequest(dn, nil)
	switch {
	case d.quoted:
		request.Replace("unicodePwd", []string{quotedPassword(password)})
		if renews {
			request.Replace(m.attribute, []string{m.value})
		}
	case d.password:
		if err := c.modifyPassword(ctx, may, dn, password); err != nil {
			return c.refusal(err)
		}
	default:
		request.Replace("userPassword", []string{password})
	}
	if len(request.Changes) > 0 {
		err := c.run(ctx, operation{may: may, what: "setting the password of " + dn, do: func(conn *ldap.Conn) error { return conn.Modify(request) }})
		if err != nil || d.quoted {
			return c.refusal(err)
		}
	}
	if err := c.markAgain(ctx, may, d, dn, renews, closed); err != nil {
		return &system.Partial{Now: known, Err: c.refusal(err)}
	}
	return nil
}

func isOpen(err error) bool {
	var open *system.Unclear
	return errors.As(err, &open)
}

// addition is the request that makes an account.
func (c *client) addition(ctx context.Context, d *directory, wanted account.Account) (*ldap.AddRequest, error) {
	entry := map[string][]string{}
	for _, name := range wanted.FieldNames() {
		v := wanted.Fields[name]
		if _, marks := d.marks[name]; marks || !v.Filled() || name == unit {
			continue
		}
		p, ok := d.places[name]
		if !ok {
			return nil, lacking(name)
		}
		values, err := c.values(ctx, d, p, v)
		if err != nil {
			return nil, err
		}
		entry[p.attribute] = values
	}
	called := entry[d.named]
	if len(called) == 0 {
		return nil, &system.Refusal{Code: account.BlankRequired, Field: d.fieldOf(d.named), Message: fmt.Sprintf("accounts are called by their %s, and it is blank", d.named)}
	}
	above := c.place(wanted.Field(unit).Text())
	request := ldap.NewAddRequest(d.named+"="+escapeName(called[0])+","+above, nil)
	request.Attribute("objectClass", d.classes)
	for _, name := range slices.Sorted(maps.Keys(entry)) {
		request.Attribute(name, entry[name])
	}
	c.signs(d, request, wanted)
	return request, nil
}

// signs adds what lets an account sign in, or not.
func (c *client) signs(d *directory, request *ldap.AddRequest, wanted account.Account) {
	for name, m := range d.marks {
		is := wanted.Field(name).Text() == m.marked
		switch {
		case m.bit != 0:
			bits := uint64(accountNormal)
			if is || wanted.Password == "" { // such servers let in nobody without a password
				bits |= m.bit
			}
			if wanted.Password == "" {
				bits |= passwordNone
			}
			request.Attribute(m.attribute, []string{strconv.FormatUint(bits, 10)})
		case name == renewal && !d.quoted: // it is set with the password
		case is:
			request.Attribute(m.attribute, []string{m.value})
		case m.other != "" && name != renewal:
			request.Attribute(m.attribute, []string{m.other})
		}
	}
	switch {
	case wanted.Password == "":
	case d.quoted:
		request.Attribute("unicodePwd", []string{quotedPassword(wanted.Password)})
	case !d.password:
		request.Attribute("userPassword", []string{wanted.Password})
	}
}

// quotedPassword writes a password as AD-style directories want it: in quotes, in UTF-16.
func quotedPassword(password string) string {
	var out strings.Builder
	for _, unit := range utf16.Encode([]rune(`"` + password + `"`)) {
		out.WriteByte(byte(unit))
		out.WriteByte(byte(unit >> 8))
	}
	return out.String()
}

func lacking(field string) error {
	return &system.Refusal{Code: account.UnknownField, Field: field, Message: "the directory has no attribute for " + field + " with accounts of these classes"}
}

// values writes a field's value as the directory has it.
func (c *client) values(ctx context.Context, d *directory, p place, v account.Value) ([]string, error) {
	items := []string{v.Text()}
	if p.kind == account.List || p.kind == account.Person {
		items = account.Items(v.Text())
	}
	if p.kind == account.Person {
		names, err := c.names(ctx, d, items)
		if err != nil {
			return nil, err
		}
		for i, id := range items {
			if items[i] = names[id]; items[i] == "" {
				return nil, &system.Refusal{Code: account.SystemRefused, Field: d.fieldOf(p.attribute), Message: fmt.Sprintf("who is referred to is no longer there (%s)", id)}
			}
		}
	}
	for i, item := range items {
		items[i] = encode(p.kind, item)
	}
	return items, nil
}

// readBack reads entries that were made, by what they are called.
func (c *client) readBack(ctx context.Context, d *directory, were map[string]account.Account, fields []string) (map[string]account.Account, error) {
	now := map[string]account.Account{}
	field := d.fieldOf(d.named)
	var filter strings.Builder
	for _, w := range were {
		filter.WriteString("(" + d.named + "=" + ldap.EscapeFilter(w.Field(field).Text()) + ")")
	}
	if filter.Len() == 0 {
		return now, nil
	}
	for a, err := range c.persons(ctx, d, "looking at what was made", "(|"+filter.String()+")", fields) {
		if err != nil {
			return nil, err
		}
		_, dn := splitVersion(a.Version)
		key := keyOf(dn)
		if _, was := were[key]; was {
			now[key] = a
		}
	}
	return now, nil
}

// change changes an account. What an entry is called by, and where it stands, takes
// a request of its own, which is sent last: values are refused more often than places.
func (c *client) change(ctx context.Context, may system.Permit, known account.Account, changes []account.Change, fields []string) (account.Account, error) {
	d, err := c.describe(ctx)
	if err != nil {
		return account.Account{}, err
	}
	changed, dn := splitVersion(known.Version)
	if dn == "" {
		now, err := c.Get(ctx, known.ID, fields)
		if err != nil {
			return account.Account{}, err
		}
		_, dn = splitVersion(now.Version)
		changed = ""
	}
	var moves, others []account.Change
	for _, change := range changes {
		p, has := d.places[change.Field]
		switch {
		case change.Field == unit, has && strings.EqualFold(p.attribute, d.named):
			moves = append(moves, change)
		case !has && d.marks[change.Field].attribute == "":
			return account.Account{}, lacking(change.Field)
		default:
			others = append(others, change)
		}
	}
	mods, err := c.modifications(ctx, d, dn, others)
	if err == nil {
		mods, err = c.classChanges(ctx, d, dn, mods)
	}
	if err != nil {
		return account.Account{}, c.elsewhere(ctx, d, known.ID, dn, err)
	}
	if len(mods) > 0 {
		now, shown, err := c.modify(ctx, may, d, known.ID, changed, dn, mods, fields)
		if err != nil {
			return account.Account{}, c.elsewhere(ctx, d, known.ID, dn, err)
		}
		if shown && len(moves) == 0 {
			return now, nil
		}
		changed = ""
	}
	if len(moves) > 0 {
		c.formerly.Store(keyOf(dn), known.ID) // before others can see that nobody has the name
		if err := c.move(ctx, may, d, known.ID, changed, dn, moves); err != nil {
			err = c.elsewhere(ctx, d, known.ID, dn, err)
			if len(mods) == 0 {
				return account.Account{}, err
			}
			now, _ := c.Get(context.WithoutCancel(ctx), known.ID, fields)
			now.ID = known.ID
			return account.Account{}, &system.Partial{Now: now, Done: others, Err: err}
		}
	}
	now, err := c.Get(ctx, known.ID, fields)
	if err != nil {
		return account.Account{}, &system.Unclear{Err: err}
	}
	return now, nil
}

// elsewhere tells an entry that is gone from one that only was moved: it changed then.
func (c *client) elsewhere(ctx context.Context, d *directory, id, dn string, err error) error {
	switch codeOf(err) {
	case ldap.LDAPResultAssertionFailed:
		return system.ErrChanged
	case ldap.LDAPResultNoSuchObject:
		now, looked := c.Get(ctx, id, nil)
		if looked != nil {
			return looked
		}
		if _, at := splitVersion(now.Version); keyOf(at) != keyOf(dn) {
			return system.ErrChanged
		}
	}
	return c.refusal(err)
}

// controls are those of a change: it is made to the entry that is meant, as it was, or not
// at all; where the server has none, it was looked at just before.
func (d *directory) controls(id, changed string) []ldap.Control {
	if !d.asserts {
		return nil
	}
	filter := d.byID([]string{id})
	if changed != "" && d.version != "" {
		filter = "(&" + filter + "(" + d.version + "=" + ldap.EscapeFilter(changed) + "))"
	}
	return []ldap.Control{&assertion{filter}}
}

// guarded sends a change of an entry so that it is made to the entry that is meant, as it was, or not at all. Some servers
// cannot hold changes of some attributes against an assertion and answer that it failed: of what was answered so of an entry that is as it
// was asserted, others are looked at just before, and the change is sent without.
func (c *client) guarded(ctx context.Context, d *directory, id, changed, dn string, touched []string, send func([]ldap.Control) error) error {
	controls := d.controls(id, changed)
	if len(controls) == 0 {
		return send(nil)
	}
	if !c.isDoubted(touched) {
		err := send(controls)
		if codeOf(err) != ldap.LDAPResultAssertionFailed {
			return err
		}
	}
	if _, err := c.entry(ctx, "looking whether "+dn+" is as it was", dn, controls[0].(*assertion).filter, d.id); err != nil {
		if codeOf(err) == ldap.LDAPResultNoSuchObject {
			return system.ErrChanged
		}
		return err
	}
	c.doubt(touched)
	return send(nil)
}

func (c *client) isDoubted(touched []string) bool {
	return slices.ContainsFunc(touched, func(name string) bool { _, is := c.doubted.Load(strings.ToLower(name)); return is })
}

func (c *client) doubt(touched []string) {
	for _, name := range touched {
		c.doubted.Store(strings.ToLower(name), true)
	}
}

// An assertion is the control of RFC 4528.
type assertion struct{ filter string }

func (a *assertion) GetControlType() string { return controlAssertion }
func (a *assertion) String() string         { return "assertion " + a.filter }

func (a *assertion) Encode() *ber.Packet {
	packet := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "Control")
	packet.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, controlAssertion, "Type"))
	packet.AppendChild(ber.NewBoolean(ber.ClassUniversal, ber.TypePrimitive, ber.TagBoolean, true, "Criticality"))
	filter, err := ldap.CompileFilter(a.filter)
	if err != nil { // it is of our own making, and escaped
		filter = ber.Encode(ber.ClassContext, ber.TypeConstructed, ldap.FilterOr, nil, "never")
	}
	packet.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, string(filter.Bytes()), "Value"))
	return packet
}

// A postRead is the control of RFC 4527 section 3.2: the answer shows the entry.
type postRead struct{ attributes []string }

func (p *postRead) GetControlType() string { return controlPostRead }
func (p *postRead) String() string         { return "post-read" }

func (p *postRead) Encode() *ber.Packet {
	list := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "Attributes")
	for _, a := range p.attributes {
		list.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, a, "Attribute"))
	}
	packet := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "Control")
	packet.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, controlPostRead, "Type"))
	packet.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, string(list.Bytes()), "Value"))
	return packet
}

// readPost reads the entry that an answer shows; nil: it shows none.
func readPost(controls []ldap.Control) *ldap.Entry {
	shown, ok := ldap.FindControl(controls, controlPostRead).(*ldap.ControlString)
	if !ok {
		return nil
	}
	packet, err := ber.DecodePacketErr([]byte(shown.ControlValue))
	if err != nil || len(packet.Children) < 2 {
		return nil
	}
	dn, _ := packet.Children[0].Value.(string)
	e := &ldap.Entry{DN: dn}
	for _, child := range packet.Children[1].Children {
		if len(child.Children) < 2 {
			return nil
		}
		name, _ := child.Children[0].Value.(string)
		a := &ldap.EntryAttribute{Name: name}
		for _, v := range child.Children[1].Children {
			raw := v.ByteValue
			if raw == nil && v.Data != nil {
				raw = v.Data.Bytes()
			}
			a.Values, a.ByteValues = append(a.Values, string(raw)), append(a.ByteValues, raw)
		}
		e.Attributes = append(e.Attributes, a)
	}
	return e
}

// move calls an entry otherwise, or puts it elsewhere.
func (c *client) move(ctx context.Context, may system.Permit, d *directory, id, changed, dn string, moves []account.Change) error {
	parsed, err := ldap.ParseDN(dn)
	if err != nil || len(parsed.RDNs) < 2 {
		return &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("the entry %s is called in a way that is not understood", dn)}
	}
	called := writeRDN(parsed.RDNs[0])
	newAbove := ""
	for _, m := range moves {
		switch {
		case m.Field == unit:
			newAbove = c.place(m.After.Text())
		case !m.After.Filled():
			return &system.Refusal{Code: account.BlankRequired, Field: m.Field, Message: fmt.Sprintf("accounts are called by their %s, which cannot be blank", d.named)}
		default:
			called = d.named + "=" + escapeName(m.After.Text())
		}
	}
	if newAbove != "" && d.quoted { // these say of a missing one only that something went wrong
		if _, err := c.entry(ctx, "looking for "+newAbove, newAbove, "(objectClass=*)", "objectClass"); err != nil {
			return err
		}
	}
	return c.guarded(ctx, d, id, changed, dn, []string{"modifyDN"}, func(controls []ldap.Control) error {
		request := ldap.NewModifyDNWithControlsRequest(dn, called, true, newAbove, controls)
		return c.run(ctx, operation{may: may, what: "moving " + dn, do: func(conn *ldap.Conn) error { return conn.ModifyDN(request) }})
	})
}

// A modification is a change of one attribute: values that go, and values that come.
type modification struct {
	attribute string
	gone, new []string
	whole     bool // in the place of whatever is there
}

// modifications are the least changes that bring about the others.
func (c *client) modifications(ctx context.Context, d *directory, dn string, changes []account.Change) ([]modification, error) {
	var mods []modification
	for _, change := range changes {
		if mark, marks := d.marks[change.Field]; marks {
			m, err := c.marking(ctx, mark, dn, change.After.Text() == mark.marked)
			if err != nil {
				return nil, err
			}
			mods = append(mods, m...)
			continue
		}
		p := d.places[change.Field]
		m := modification{attribute: p.attribute, whole: true}
		var err error
		if change.After.Filled() {
			if m.new, err = c.values(ctx, d, p, change.After); err != nil {
				return nil, err
			}
		}
		if !p.single && p.kind == account.List {
			was, err := c.values(ctx, d, p, change.Before)
			if err != nil {
				return nil, err
			}
			if !change.Before.Filled() {
				was = nil
			}
			m.whole = false
			m.gone = slices.DeleteFunc(slices.Clone(was), func(v string) bool { return slices.Contains(m.new, v) })
			m.new = slices.DeleteFunc(m.new, func(v string) bool { return slices.Contains(was, v) })
		}
		mods = append(mods, m)
	}
	return mods, nil
}

// marking is what marks an account, or takes the mark away.
func (c *client) marking(ctx context.Context, m marking, dn string, is bool) ([]modification, error) {
	value := m.other
	if is {
		value = m.value
	}
	if m.bit == 0 {
		change := modification{attribute: m.attribute, whole: true}
		if value != "" {
			change.new = []string{value}
		}
		return []modification{change}, nil
	}
	// The other bits stay: the value that was seen is exchanged for one with the bit.
	e, err := c.entry(ctx, "looking at "+dn, dn, "(objectClass=*)", m.attribute)
	if err != nil {
		return nil, err
	}
	now := e.GetEqualFoldAttributeValue(m.attribute)
	bits, err := strconv.ParseInt(now, 10, 64)
	if err != nil {
		return nil, &system.Refusal{Code: account.SystemRefused, Message: fmt.Sprintf("the %s of the account is “%s”, which is not understood", m.attribute, now)}
	}
	after := uint64(bits) &^ m.bit
	if is {
		after |= m.bit
	}
	if after == uint64(bits) {
		return nil, nil
	}
	return []modification{{attribute: m.attribute, gone: []string{now}, new: []string{strconv.FormatUint(after, 10)}}}, nil
}

// modify changes attributes of an entry, and returns it as it is then if the answer shows it.
func (c *client) modify(ctx context.Context, may system.Permit, d *directory, id, changed, dn string, mods []modification, fields []string) (now account.Account, shown bool, err error) {
	request := ldap.NewModifyRequest(dn, nil)
	for _, m := range mods {
		switch {
		case m.whole:
			request.Replace(m.attribute, m.new)
		default:
			if len(m.gone) > 0 {
				request.Delete(m.attribute, m.gone)
			}
			if len(m.new) > 0 {
				request.Add(m.attribute, m.new)
			}
		}
	}
	if len(request.Changes) == 0 {
		return now, false, nil
	}
	var answer *ldap.ModifyResult
	var touched []string
	for _, m := range mods {
		touched = append(touched, m.attribute)
	}
	err = c.guarded(ctx, d, id, changed, dn, touched, func(controls []ldap.Control) error {
		if request.Controls = controls; d.postReads {
			request.Controls = append(request.Controls, &postRead{d.asked(fields)})
		}
		return c.run(ctx, operation{may: may, what: "changing " + dn, more: []any{"attributes", strings.Join(touched, " ")}, do: func(conn *ldap.Conn) error {
			var err error
			answer, err = conn.ModifyWithResult(request)
			return err
		}})
	})
	if err != nil {
		return now, false, err
	}
	e := readPost(answer.Controls)
	if e == nil || d.idOf(e) != id {
		return now, false, nil
	}
	all, err := c.accounts(ctx, d, []*ldap.Entry{e}, fields)
	if err != nil {
		return now, false, &system.Unclear{Err: err}
	}
	return all[0], true, nil
}

// remove removes an account.
func (c *client) remove(ctx context.Context, may system.Permit, known account.Account) error {
	d, err := c.describe(ctx)
	if err != nil {
		return err
	}
	changed, dn := splitVersion(known.Version)
	if dn == "" {
		now, err := c.Get(ctx, known.ID, nil)
		if err != nil {
			return err
		}
		changed, dn = splitVersion(now.Version)
	}
	err = c.guarded(ctx, d, known.ID, changed, dn, []string{"delete"}, func(controls []ldap.Control) error {
		return c.run(ctx, operation{may: may, what: "removing " + dn, do: func(conn *ldap.Conn) error { return conn.Del(ldap.NewDelRequest(dn, controls)) }})
	})
	if err != nil {
		return c.elsewhere(ctx, d, known.ID, dn, err)
	}
	return nil
}
