package ldap

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode"

	ldap "github.com/go-ldap/ldap/v3"
	"golang.org/x/sync/errgroup"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// search asks for entries, one page of a listing or, if that is nil, all at once.
func (c *client) search(ctx context.Context, on *listing, what string, request *ldap.SearchRequest) (found *ldap.SearchResult, err error) {
	err = c.run(ctx, operation{what: what, more: []any{"base", request.BaseDN, "filter", request.Filter, "attributes", strings.Join(request.Attributes, " ")}, safe: true, on: on, do: func(conn *ldap.Conn) error {
		var err error
		found, err = conn.Search(request)
		return err
	}})
	if err != nil {
		return nil, err
	}
	elsewhere := slices.DeleteFunc(found.Referrals, c.isPartition)
	if len(elsewhere) > 0 {
		return nil, &system.Unavailable{Message: fmt.Sprintf("%s: a part of what was asked for is kept elsewhere: %s", what, elsewhere[0]), Remedy: "Set “people” and “groups” in evenledger.yaml to places that this server keeps, or name the other server as a system of its own."}
	}
	return found, nil
}

// isPartition reports whether a referral is to a part of the directory that holds no people.
func (c *client) isPartition(referral string) bool {
	_, rest, _ := strings.Cut(strings.ToLower(referral), "://")
	_, dn, _ := strings.Cut(rest, "/")
	return c.known != nil && slices.ContainsFunc(c.known.partitions, func(part string) bool { return strings.HasPrefix(dn, part) })
}

// entry reads one entry.
func (c *client) entry(ctx context.Context, what, dn, filter string, attributes ...string) (*ldap.Entry, error) {
	found, err := c.search(ctx, nil, what, ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, filter, attributes, nil))
	if err != nil {
		return nil, err
	}
	if len(found.Entries) != 1 {
		return nil, ldap.NewError(ldap.LDAPResultNoSuchObject, errors.New("there is no such entry"))
	}
	return found.Entries[0], nil
}

// A listing is one way through the pages of an answer. A server knows where it is only on
// the connection on which it began.
type listing struct {
	conn  *ldap.Conn // nil: none yet, or it broke
	begun bool
}

// A query is what entries are searched for by.
type query struct {
	what       string // is being done, for errors
	base       string
	filter     string
	wider      string // asked in place of the filter once the entries come in parts, and all of which the caller can do with; empty: the filter
	attributes []string
	page       int // how many entries at once; 0: as the settings and the server have it
}

// entries yields all entries beneath a place that a query finds, each once. Where the server cuts its answer short, the entries are
// asked for in parts, by the first digits of their identifiers, until each part is whole; what is still cut short then is an error.
func (c *client) entries(ctx context.Context, d *directory, q query) iter.Seq2[*ldap.Entry, error] {
	return func(yield func(*ldap.Entry, error) bool) {
		given := map[string]bool{} // by name, once: whether it was seen in a part that was whole
		var walk func(first string) (more bool, err error)
		walk = func(first string) (bool, error) {
			within := q
			if first != "" {
				within.filter = "(&" + cmp.Or(q.wider, q.filter) + c.idRange(first) + ")"
			}
			var part []string // that is cut out of the whole
			for e, err := range c.listed(ctx, d, within) {
				if err != nil {
					if !errors.Is(err, errIncomplete) || c.digits == "" || len(first) == deepest {
						return false, err // smaller parts would not help
					}
					for _, digit := range "0123456789abcdef" {
						if more, err := walk(first + string(digit)); err != nil || !more {
							return more, err
						}
					}
					if first != "" {
						return true, nil
					}
					for _, whole := range given {
						if !whole {
							return false, err // it does not find by identifiers what it shows
						}
					}
					return true, nil
				}
				_, had := given[e.DN]
				if first != "" {
					part = append(part, e.DN)
				}
				if had {
					continue
				}
				if given[e.DN] = false; !yield(e, nil) {
					return false, nil
				}
			}
			for _, dn := range part {
				given[dn] = true
			}
			return true, nil
		}
		if _, err := walk(""); err != nil {
			yield(nil, err)
		}
	}
}

// deepest is how many digits of identifiers tell parts apart at most.
const deepest = 8

// idRange is the filter for identifiers that begin with some digits.
func (c *client) idRange(first string) string {
	bound := func(with string) string {
		text, at := []byte(c.digits), 0
		for i := range text {
			switch {
			case text[i] == '-':
			case at < len(first):
				text[i] = first[at]
				at++
			default:
				text[i] = with[0]
			}
		}
		return string(text)
	}
	id := c.idName
	return "(" + id + ">=" + bound("0") + ")(" + id + "<=" + bound("f") + ")"
}

// listed yields the entries that a query finds, page by page (RFC 2696). What is cut short is an error; what breaks off begins again,
// with entries that came before.
func (c *client) listed(ctx context.Context, d *directory, q query) iter.Seq2[*ldap.Entry, error] {
	return func(yield func(*ldap.Entry, error) bool) {
		for try := 1; ; try++ {
			l := &listing{}
			more, err := c.pages(ctx, d, l, q, func(e *ldap.Entry) bool { return yield(e, nil) })
			if l.conn != nil && !more { // half an answer may still come on it
				_ = l.conn.Close()
			} else if l.conn != nil {
				c.giveBack(l.conn)
			}
			var again *again
			switch {
			case err == nil:
				return
			case errors.As(err, &again) && try < maxTries && ctx.Err() == nil:
				continue
			case again != nil:
				err = again.err
			}
			yield(nil, err)
			return
		}
	}
}

// pages goes through the pages; more is false if nobody wants the rest.
func (c *client) pages(ctx context.Context, d *directory, l *listing, q query, each func(*ldap.Entry) bool) (more bool, err error) {
	var cookie []byte
	for {
		request := ldap.NewSearchRequest(q.base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false, q.filter, q.attributes, nil)
		if d.paged {
			request.Controls = []ldap.Control{&ldap.ControlPaging{PagingSize: uint32(cmp.Or(q.page, c.pageSize(d))), Cookie: cookie}}
		}
		found, err := c.search(ctx, l, q.what, request)
		if err != nil {
			return true, err
		}
		l.begun = true
		for _, e := range found.Entries {
			if !each(e) {
				return false, nil
			}
		}
		next, ok := ldap.FindControl(found.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !d.paged || !ok || len(next.Cookie) == 0 {
			return true, nil
		}
		cookie = next.Cookie
	}
}

// persons yields the accounts that a filter finds; empty: all.
func (c *client) persons(ctx context.Context, d *directory, what, filter string, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		whole := d.isPerson
		if filter != "" {
			whole = "(&" + d.isPerson + filter + ")"
		}
		var batch []*ldap.Entry
		flush := func() (more bool) {
			all, err := c.accounts(ctx, d, batch, fields)
			batch = batch[:0]
			if err != nil {
				yield(account.Account{}, err)
				return false
			}
			for _, a := range all {
				if !yield(a, nil) {
					return false
				}
			}
			return true
		}
		for e, err := range c.entries(ctx, d, query{what: what, base: c.people, filter: whole, attributes: d.asked(fields)}) {
			if err != nil {
				yield(account.Account{}, err)
				return
			}
			if batch = append(batch, e); len(batch) == mostFound && !flush() {
				return
			}
		}
		if len(batch) > 0 {
			flush()
		}
	}
}

// asked is what is to be asked for so that fields come back.
func (d *directory) asked(fields []string) []string {
	all := []string{d.id, "createTimestamp", "objectClass"}
	if d.version != "" {
		all = append(all, d.version)
	}
	for _, name := range append(slices.Clone(fields), d.schema.Naming) {
		if p, ok := d.places[name]; ok {
			all = append(all, p.attribute)
		}
		if m, ok := d.marks[name]; ok {
			all = append(all, m.attribute)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// accounts reads entries. What refers to others is put into their identifiers.
func (c *client) accounts(ctx context.Context, d *directory, entries []*ldap.Entry, fields []string) ([]account.Account, error) {
	all := make([]account.Account, len(entries))
	var refers []string
	for i, e := range entries {
		a := account.Account{ID: d.idOf(e), Fields: make(map[string]account.Value, len(fields)+1)}
		if a.ID == "" {
			return nil, &system.Unavailable{Message: fmt.Sprintf("%s does not show the %s of %s", c.url, d.id, e.DN), Remedy: "By it accounts are known when they are renamed. Ask who runs the server to let this user read it."}
		}
		a.Version = version(e.GetEqualFoldAttributeValue(d.version), e.DN)
		c.fit(d, e.GetEqualFoldAttributeValues("objectClass")).tell(&a)
		a.Made, _ = readTime(e.GetEqualFoldAttributeValue("createTimestamp"))
		for _, name := range append(slices.Clone(fields), d.schema.Naming) {
			if v := c.value(d, e, name); v.Present() {
				a.Fields[name] = v
			}
			if d.places[name].kind == account.Person {
				refers = append(refers, account.Items(a.Fields[name].Text())...)
			}
		}
		all[i] = a
	}
	if len(refers) == 0 {
		return all, nil
	}
	ids, _, err := c.identify(ctx, d, refers)
	if err != nil {
		return nil, err
	}
	for i := range all {
		for name, v := range all[i].Fields {
			if d.places[name].kind != account.Person {
				continue
			}
			items := account.Items(v.Text())
			for n, dn := range items {
				items[n] = ids[dn]
			}
			all[i].Fields[name] = account.Of(account.ListOf(items))
		}
	}
	return all, nil
}

// value reads a field of an entry. Several values where a sheet has one stand together, so
// that nobody takes the first for all there is.
func (c *client) value(d *directory, e *ldap.Entry, name string) account.Value {
	if name == unit {
		return account.Of(c.pathOf(e.DN))
	}
	if m, ok := d.marks[name]; ok {
		return m.read(e)
	}
	p, ok := d.places[name]
	if !ok {
		return account.Value{}
	}
	values := e.GetEqualFoldAttributeValues(p.attribute)
	if len(values) == 0 {
		return account.Value{}
	}
	texts := make([]string, len(values))
	for i, v := range values {
		texts[i] = decode(p.kind, v)
	}
	slices.Sort(texts)
	return account.Of(account.ListOf(texts))
}

// read tells how the field is.
func (m marking) read(e *ldap.Entry) account.Value {
	value := e.GetEqualFoldAttributeValue(m.attribute)
	is := value != "" && strings.EqualFold(value, m.value)
	if m.bit != 0 {
		bits, _ := strconv.ParseInt(value, 10, 64)
		is = uint64(bits)&m.bit != 0
	}
	return account.Of(strconv.FormatBool(is == (m.marked == "true")))
}

// decode puts a value into the standard form of its kind.
func decode(kind account.Kind, text string) string {
	switch kind {
	case account.YesNo:
		return strings.ToLower(text)
	case account.Date:
		if at, err := readTime(text); err == nil {
			if at.Equal(at.Truncate(24 * time.Hour)) {
				return at.Format(time.DateOnly)
			}
			return at.Format(time.RFC3339)
		}
	case account.Country:
		return strings.ToUpper(text)
	}
	return text
}

// encode writes a value as the directory has it.
func encode(kind account.Kind, text string) string {
	switch kind {
	case account.YesNo:
		return strings.ToUpper(text)
	case account.Date:
		for _, form := range []string{time.DateOnly, time.RFC3339} {
			if at, err := time.Parse(form, text); err == nil {
				return at.UTC().Format(generalized)
			}
		}
	}
	return text
}

// generalized is how times are written (RFC 4517 section 3.3.13).
const generalized = "20060102150405Z"

func readTime(text string) (time.Time, error) {
	var problem error
	for _, form := range []string{generalized, "20060102150405.999999999Z", "20060102150405-0700", "200601021504Z"} {
		at, err := time.Parse(form, text)
		if err == nil {
			return at.UTC(), nil
		}
		problem = err
	}
	return time.Time{}, problem
}

// idOf returns the identifier of an entry; empty: it is not shown, or what is shown can be none of this family's. It is what accounts are
// known by for good, and stands where names may stand.
func (d *directory) idOf(e *ldap.Entry) string {
	id := strings.ToLower(e.GetEqualFoldAttributeValue(d.id))
	if d.binary {
		id = ""
		for _, a := range e.Attributes {
			if strings.EqualFold(a.Name, d.id) && len(a.ByteValues) > 0 {
				id = hex.EncodeToString(a.ByteValues[0])
			}
		}
	}
	if strings.Trim(id, idCharacters) != "" || d.family.digits != "" && len(id) != len(d.family.digits) {
		return ""
	}
	return id
}

// idCharacters are those that identifiers are made of (RFC 4530).
const idCharacters = "0123456789abcdefghijklmnopqrstuvwxyz-"

// byID is the filter for identifiers.
func (d *directory) byID(ids []string) string {
	var filter strings.Builder
	filter.WriteString("(|")
	for _, id := range ids {
		value := ldap.EscapeFilter(id)
		if d.binary {
			raw, err := hex.DecodeString(id)
			if err != nil {
				continue // no identifier of this server
			}
			value = ""
			for _, b := range raw {
				value += fmt.Sprintf(`\%02x`, b)
			}
		}
		filter.WriteString("(" + d.id + "=" + value + ")")
	}
	filter.WriteString(")")
	return filter.String()
}

// A version says how an entry was, and where it stood.
func version(changed, dn string) string { return changed + " " + dn }

func splitVersion(v string) (changed, dn string) {
	changed, dn, _ = strings.Cut(v, " ")
	return changed, dn
}

// List implements system.System.
func (c *client) List(ctx context.Context, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		d, err := c.describe(ctx)
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		seen := map[string]bool{}
		for a, err := range c.persons(ctx, d, "listing the accounts", "", fields) {
			if seen[a.ID] && err == nil {
				continue // it was moved while all was listed
			}
			seen[a.ID] = true
			if !yield(a, err) {
				return
			}
		}
	}
}

// Get implements system.System.
func (c *client) Get(ctx context.Context, id string, fields []string) (account.Account, error) {
	d, err := c.describe(ctx)
	if err != nil {
		return account.Account{}, err
	}
	for a, err := range c.persons(ctx, d, "looking at the account "+id, d.byID([]string{id}), fields) {
		if err != nil || a.ID == strings.ToLower(id) {
			return a, err
		}
	}
	return account.Account{}, system.ErrGone
}

// Find implements system.System.
func (c *client) Find(ctx context.Context, field string, values, fields []string) iter.Seq2[account.Account, error] {
	return func(yield func(account.Account, error) bool) {
		d, err := c.describe(ctx)
		if err != nil {
			yield(account.Account{}, err)
			return
		}
		filter := ""
		switch p, known := d.places[field]; {
		case field == system.ByID:
			filter = d.byID(values)
		case !known:
			yield(account.Account{}, system.ErrCannotFind)
			return
		default:
			if filter, err = c.anyOf(ctx, d, field, p, values); err != nil {
				yield(account.Account{}, err)
				return
			}
		}
		for a, err := range c.persons(ctx, d, "looking for accounts by "+field, filter, fields) {
			if refusedToFind(err) {
				err = system.ErrCannotFind
			}
			if !yield(a, err) || err != nil {
				return
			}
		}
	}
}

// refusedToFind reports whether the server does not search like this.
func refusedToFind(err error) bool {
	return slices.Contains([]uint16{ldap.LDAPResultInappropriateMatching, ldap.LDAPResultUnwillingToPerform, ldap.LDAPResultInsufficientAccessRights}, codeOf(err))
}

// anyOf is the filter for accounts that have one of the values. It is believed only once
// it was seen to find somebody: who may read an attribute need not be let search by it.
func (c *client) anyOf(ctx context.Context, d *directory, field string, p place, values []string) (string, error) {
	if err := c.tested.test(field, func() error { return c.findsBy(ctx, d, p) }); err != nil {
		return "", err
	}
	var filter strings.Builder
	filter.WriteString("(|")
	names := map[string]string{}
	if p.kind == account.Person {
		var err error
		if names, err = c.names(ctx, d, values); err != nil {
			return "", err
		}
	}
	for _, v := range values {
		if p.kind == account.Person {
			if v = names[v]; v == "" {
				continue
			}
		}
		filter.WriteString("(" + p.attribute + "=" + ldap.EscapeFilter(encode(p.kind, v)) + ")")
	}
	filter.WriteString(")")
	return filter.String(), nil
}

// findsBy looks whether accounts are found by an attribute: someone who is shown with a
// value has to be found by it.
func (c *client) findsBy(ctx context.Context, d *directory, p place) error {
	shown, n := "", 0
	for e, err := range c.entries(ctx, d, query{what: "looking for somebody with " + p.attribute, base: c.people, filter: d.isPerson, attributes: []string{p.attribute, d.id}, page: sampled}) {
		if err != nil && !errors.Is(err, errIncomplete) {
			return err
		}
		if err != nil {
			break
		}
		if shown = e.GetEqualFoldAttributeValue(p.attribute); shown != "" {
			for found, err := range c.listed(ctx, d, query{what: "looking whether accounts are found by " + p.attribute, base: c.people, filter: "(&" + d.isPerson + "(" + p.attribute + "=" + ldap.EscapeFilter(shown) + "))", attributes: []string{d.id}, page: sampled}) {
				if errors.Is(err, errIncomplete) {
					return system.ErrCannotFind // it has no index, and would look through all each time
				}
				if err != nil {
					return err
				}
				if d.idOf(found) == d.idOf(e) {
					return nil
				}
			}
			return system.ErrCannotFind
		}
		if n++; n == sampled {
			break
		}
	}
	if n == 0 {
		return nil // nobody is there to be found
	}
	return system.ErrCannotFind
}

// sampled is how many accounts are looked at for one with a value.
const sampled = 20

// Count implements system.System: nobody says how many there are, so that all are listed.

// identify returns the identifiers of entries by name. What is no account, or is not there
// at all, keeps its name; elsewhere are those of such names of which an entry of the same first part
// stands in another place: it may have been moved a moment ago.
func (c *client) identify(ctx context.Context, d *directory, dns []string) (ids map[string]string, elsewhere []string, err error) {
	ids = map[string]string{}
	stand := map[string]bool{}     // the first part of names that entries elsewhere have
	byKey := map[string][]string{} // key of a name → as it was written
	byPart := map[string][]string{}
	for _, dn := range dns {
		if _, had := ids[dn]; had {
			continue
		}
		ids[dn] = dn
		parsed, err := ldap.ParseDN(dn)
		if err != nil || len(parsed.RDNs) == 0 {
			continue
		}
		key := keyOf(dn)
		if byKey[key] = append(byKey[key], dn); len(byKey[key]) > 1 {
			continue
		}
		var filter strings.Builder
		for _, a := range parsed.RDNs[0].Attributes {
			filter.WriteString("(" + a.Type + "=" + ldap.EscapeFilter(a.Value) + ")")
		}
		byPart[filter.String()] = nil
	}
	if err := c.together(ctx, d, slices.Sorted(maps.Keys(byPart)), func(some []string) string { return "(|" + strings.Join(some, "") + ")" }, func(e *ldap.Entry) {
		at := keyOf(e.DN)
		if first, _, _ := strings.Cut(at, ","); byKey[at] == nil {
			stand[first] = true
		}
		for _, dn := range byKey[at] {
			if id := d.idOf(e); id != "" {
				ids[dn] = id
			}
		}
	}); err != nil {
		return nil, nil, err
	}
	for dn, id := range ids { // somebody who was moved may be referred to by the old name for a while
		if was, moved := c.formerly.Load(keyOf(dn)); moved && id == dn {
			ids[dn] = was.(string)
		}
	}
	for dn, id := range ids {
		if first, _, _ := strings.Cut(keyOf(dn), ","); id == dn && stand[first] {
			elsewhere = append(elsewhere, dn)
		}
	}
	return ids, elsewhere, nil
}

// names returns the names of entries by their identifiers. A name stays what it is.
func (c *client) names(ctx context.Context, d *directory, ids []string) (map[string]string, error) {
	names := map[string]string{}
	var unknown []string
	for _, id := range ids {
		if strings.Contains(id, "=") {
			names[id] = id
		} else if _, had := names[id]; !had {
			names[id] = ""
			unknown = append(unknown, id)
		}
	}
	return names, c.together(ctx, d, unknown, d.byID, func(e *ldap.Entry) { names[d.idOf(e)] = e.DN })
}

// together looks for who is referred to, many in one request and several requests at once.
func (c *client) together(ctx context.Context, d *directory, all []string, filter func([]string) string, each func(*ldap.Entry)) error {
	group, looking := errgroup.WithContext(ctx)
	group.SetLimit(c.work.Together)
	var mu sync.Mutex
	for some := range slices.Chunk(all, mostFound) {
		group.Go(func() error {
			for e, err := range c.entries(looking, d, query{what: "looking for who is referred to", base: c.base, filter: filter(some), attributes: []string{d.id}}) {
				if err != nil {
					return err
				}
				mu.Lock()
				each(e)
				mu.Unlock()
			}
			return nil
		})
	}
	return group.Wait()
}

// escapeName writes a value so that it can stand in a name (RFC 4514 section 2.4). What has a meaning there is written as two digits, which
// every server reads: some take no “=” as it is, which the standard lets stand.
func escapeName(value string) string {
	var out strings.Builder
	for i := range len(value) {
		c := value[i]
		edge := c == ' ' && (i == 0 || i == len(value)-1) || c == '#' && i == 0
		if edge || c < ' ' || c == 0x7f || strings.IndexByte(`"+,;<=>\`, c) >= 0 {
			fmt.Fprintf(&out, `\%02X`, c)
		} else {
			out.WriteByte(c)
		}
	}
	return out.String()
}

// writeRDN writes the first part of a name.
func writeRDN(rdn *ldap.RelativeDN) string {
	var parts []string
	for _, a := range rdn.Attributes {
		parts = append(parts, a.Type+"="+escapeName(a.Value))
	}
	return strings.Join(parts, "+")
}

// plainKey is the key of a name in which nothing is escaped, as nearly all are: reading it as the standard has it takes ten times as long.
func plainKey(dn string) (key string, plain bool) {
	if dn == "" || strings.Contains(dn, "  ") || strings.ContainsFunc(dn, func(c rune) bool {
		return c < ' ' || c == 0x7f || c > 0x7f && unicode.IsSpace(c) || strings.ContainsRune(`\+"<>;#`, c)
	}) {
		return "", false
	}
	parts := strings.Split(dn, ",")
	for i, part := range parts {
		name, value, is := strings.Cut(part, "=")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		if !is || name == "" || strings.ContainsRune(value, '=') {
			return "", false
		}
		parts[i] = strings.ToLower(name) + "=" + strings.ToLower(value)
	}
	return strings.Join(parts, ","), true
}

// keyOf is what must agree for two names to be one, however servers and people write them
// (RFC 4514 section 2.4, RFC 4517 section 4.2.15).
func keyOf(dn string) string {
	if key, plain := plainKey(dn); plain {
		return key
	}
	return parsedKey(dn)
}

func parsedKey(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil {
		return strings.ToLower(dn)
	}
	parts := make([]string, len(parsed.RDNs))
	for i, rdn := range parsed.RDNs {
		var pairs []string
		for _, a := range rdn.Attributes {
			pairs = append(pairs, strings.ToLower(a.Type)+"="+escapeName(strings.ToLower(strings.Join(strings.Fields(a.Value), " "))))
		}
		slices.Sort(pairs)
		parts[i] = strings.Join(pairs, "+")
	}
	return strings.Join(parts, ",")
}
