package ldap

import (
	"bufio"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"net"
	"net/http/httptest"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"testing"
	"unicode/utf16"

	ber "github.com/go-asn1-ber/asn1-ber"
	ldap "github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"
)

// A peer is a directory server with the customs of one vendor, written from what such
// servers answer: passwords in quotes over TLS, members in ranges, bits for who may sign in,
// codes of its own. It keeps its entries in memory.
type peer struct {
	mu      sync.Mutex
	entries map[string]*ldap.Entry // by key of the name
	page    int                    // entries in a page at most
	ranges  int                    // values of an attribute in an answer
	odd     func(op string, dn string) (code uint16, cut bool)
	asked   []string
}

const office = "DC=office,DC=example"

// newPeer starts one and returns its address and certificate.
func newPeer(t *testing.T) (p *peer, addr string, secure *tls.Config) {
	web := httptest.NewUnstartedServer(nil)
	web.StartTLS() // for its certificate
	secure = web.TLS
	web.Close()
	p = &peer{entries: map[string]*ldap.Entry{}, page: 1000, ranges: 1500}
	for _, dn := range []string{office, "OU=people," + office, "OU=Deck,OU=people," + office, "OU=groups," + office} {
		p.put(dn, map[string][]string{"objectClass": {"top", "organizationalUnit"}, "minPwdLength": {"10"}, "pwdProperties": {"1"}})
	}
	listener, err := tls.Listen("tcp", "127.0.0.1:0", secure)
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go p.serve(conn)
		}
	}()
	return p, listener.Addr().String(), secure
}

func (p *peer) put(dn string, attributes map[string][]string) {
	e := ldap.NewEntry(dn, attributes)
	guid := make([]byte, 16)
	_, _ = rand.Read(guid)
	e.Attributes = append(e.Attributes, &ldap.EntryAttribute{Name: "objectGUID", Values: []string{string(guid)}, ByteValues: [][]byte{guid}}, ldap.NewEntryAttribute("createTimeStamp", []string{"20270301080000.0Z"}))
	p.entries[keyOf(dn)] = e
}

func (p *peer) serve(conn net.Conn) {
	defer conn.Close()
	in := bufio.NewReader(conn)
	for {
		packet, err := ber.ReadPacket(in)
		if err != nil || len(packet.Children) < 2 {
			return
		}
		id, op := packet.Children[0].Value.(int64), packet.Children[1]
		var controls *ber.Packet
		if len(packet.Children) > 2 {
			controls = packet.Children[2]
		}
		answers, cut := p.answer(op, controls)
		for _, a := range answers {
			reply := ber.NewSequence("reply")
			reply.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, "id"))
			reply.AppendChild(a.op)
			if a.controls != nil {
				reply.AppendChild(a.controls)
			}
			if _, err := conn.Write(reply.Bytes()); err != nil {
				return
			}
		}
		if cut || op.Tag == ldap.ApplicationUnbindRequest {
			return
		}
	}
}

type reply struct{ op, controls *ber.Packet }

func result(tag ber.Tag, code uint16, text string) *ber.Packet {
	r := ber.Encode(ber.ClassApplication, ber.TypeConstructed, tag, nil, "result")
	r.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, int64(code), "code"))
	r.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", "matched"))
	r.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, text, "text"))
	return r
}

func text(p *ber.Packet) string { return p.Data.String() }

func (p *peer) answer(op, controls *ber.Packet) (answers []reply, cut bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	names := map[ber.Tag]string{ldap.ApplicationBindRequest: "bind", ldap.ApplicationAddRequest: "add", ldap.ApplicationModifyRequest: "modify", ldap.ApplicationModifyDNRequest: "move", ldap.ApplicationDelRequest: "remove", ldap.ApplicationSearchRequest: "search"}
	dn := ""
	if op.Tag == ldap.ApplicationDelRequest {
		dn = text(op)
	} else if len(op.Children) > 0 {
		dn = text(op.Children[0])
	}
	p.asked = append(p.asked, names[op.Tag]+" "+dn)
	oddly := func() (uint16, bool) {
		if p.odd == nil {
			return 0, false
		}
		return p.odd(names[op.Tag], dn)
	}
	code, cut := oddly()
	tag := op.Tag + 1
	switch op.Tag {
	case ldap.ApplicationDelRequest:
		tag = ldap.ApplicationDelResponse
	case ldap.ApplicationSearchRequest:
		tag = ldap.ApplicationSearchResultDone
	}
	if code != 0 && code != after {
		return []reply{{op: result(tag, code, "as the test has it")}}, cut
	}
	if cut && code != after {
		return nil, true
	}
	switch op.Tag {
	case ldap.ApplicationSearchRequest:
		return p.search(op, controls), cut
	case ldap.ApplicationUnbindRequest:
		return nil, true
	}
	var no uint16
	var said string
	switch op.Tag {
	case ldap.ApplicationBindRequest:
		if text(op.Children[1]) != "office@office.example" || text(op.Children[2]) != "right" {
			no, said = 49, "80090308: LdapErr: DSID-0C0903A9, comment: AcceptSecurityContext error, data 52e, v1db1"
		}
	case ldap.ApplicationAddRequest:
		no, said = p.add(dn, op.Children[1])
	case ldap.ApplicationModifyRequest:
		no, said = p.modify(dn, op.Children[1])
	case ldap.ApplicationModifyDNRequest:
		no, said = p.move(dn, op.Children[1:])
	case ldap.ApplicationDelRequest:
		no, said = p.remove(dn)
	}
	if cut {
		return nil, true // it was done, and nobody hears of it
	}
	return []reply{{op: result(tag, no, said)}}, false
}

// after is a code that has a request carried out before the connection is cut.
const after = 9999

func (p *peer) add(dn string, list *ber.Packet) (uint16, string) {
	if p.entries[keyOf(dn)] != nil {
		return 68, "00002071: UpdErr: DSID-031A11F2, problem 6005 (ENTRY_EXISTS)"
	}
	if p.entries[keyOf(above(dn))] == nil {
		return 32, "0000208D: parent does not exist!"
	}
	attributes := map[string][]string{}
	for _, a := range list.Children {
		for _, v := range a.Children[1].Children {
			attributes[text(a.Children[0])] = append(attributes[text(a.Children[0])], text(v))
		}
	}
	if no, said := p.fits(nil, attributes); no != 0 {
		return no, said
	}
	p.put(dn, attributes)
	return 0, ""
}

// fits sees to the rules of such servers.
func (p *peer) fits(e *ldap.Entry, attributes map[string][]string) (uint16, string) {
	login := attributes["sAMAccountName"]
	for _, other := range p.entries {
		if len(login) > 0 && other != e && strings.EqualFold(other.GetAttributeValue("sAMAccountName"), login[0]) {
			return 68, "samldb: Account name (sAMAccountName) '" + login[0] + "' already in use!"
		}
	}
	if len(login) > 0 && len(login[0]) > 20 {
		return 19, "00002082: sAMAccountName is too long"
	}
	if secret := attributes["unicodePwd"]; len(secret) > 0 {
		units := make([]uint16, len(secret[0])/2)
		for i := range units {
			units[i] = binary.LittleEndian.Uint16([]byte(secret[0][2*i:]))
		}
		plain := string(utf16.Decode(units))
		if !strings.HasPrefix(plain, `"`) || !strings.HasSuffix(plain, `"`) {
			return 53, "00002035: the password is not in quotes"
		}
		if len(plain) < 12 {
			return 19, "0000052D: SvcErr: DSID-031A12D2, problem 5003 (WILL_NOT_PERFORM), the password does not meet the policy"
		}
		attributes["has-password"] = []string{plain}
		delete(attributes, "unicodePwd")
	}
	if bits := attributes["userAccountControl"]; len(bits) > 0 {
		n, _ := strconv.Atoi(bits[0])
		has := len(attributes["has-password"]) > 0 || e != nil && e.GetAttributeValue("has-password") != ""
		if n&accountDisabled == 0 && n&passwordNone == 0 && !has {
			return 53, "0000052D: an account without a password cannot be enabled"
		}
	}
	if manager := attributes["manager"]; len(manager) > 0 && p.entries[keyOf(manager[0])] == nil {
		return 19, "000020B5: Referenced object not found"
	}
	return 0, ""
}

func (p *peer) modify(dn string, changes *ber.Packet) (uint16, string) {
	e := p.entries[keyOf(dn)]
	if e == nil {
		return 32, "0000208D: NameErr: no object"
	}
	all := map[string][]string{}
	for _, a := range e.Attributes {
		all[a.Name] = slices.Clone(a.Values)
	}
	for _, c := range changes.Children {
		name := text(c.Children[1].Children[0])
		var values []string
		for _, v := range c.Children[1].Children[1].Children {
			values = append(values, text(v))
		}
		is := func(list []string, v string) bool {
			return slices.ContainsFunc(list, func(x string) bool { return strings.EqualFold(x, v) || name == "member" && keyOf(x) == keyOf(v) })
		}
		switch c.Children[0].Value.(int64) {
		case ldap.AddAttribute:
			for _, v := range values {
				if is(all[name], v) {
					return 68, "00000562: Attribute member already set for target"
				}
				if name == "member" && p.entries[keyOf(v)] == nil {
					return 32, "no such member"
				}
				all[name] = append(all[name], v)
			}
		case ldap.DeleteAttribute:
			for _, v := range values {
				if !is(all[name], v) {
					return 53, "00000561: Attribute member does not exist for target"
				}
				all[name] = slices.DeleteFunc(all[name], func(x string) bool { return strings.EqualFold(x, v) || name == "member" && keyOf(x) == keyOf(v) })
			}
		default:
			all[name] = values
		}
	}
	if no, said := p.fits(e, all); no != 0 {
		return no, said
	}
	guid := e.GetRawAttributeValue("objectGUID")
	delete(all, "objectGUID")
	for name, values := range all {
		if len(values) == 0 {
			delete(all, name)
		}
	}
	now := ldap.NewEntry(e.DN, all)
	now.Attributes = append(now.Attributes, &ldap.EntryAttribute{Name: "objectGUID", Values: []string{string(guid)}, ByteValues: [][]byte{guid}})
	p.entries[keyOf(dn)] = now
	return 0, ""
}

func (p *peer) move(dn string, rest []*ber.Packet) (uint16, string) {
	e := p.entries[keyOf(dn)]
	if e == nil {
		return 32, "no object"
	}
	to := above(dn)
	if len(rest) > 2 {
		to = text(rest[2])
	}
	if p.entries[keyOf(to)] == nil {
		return 80, "00002089: move to a container that is not there"
	}
	now := text(rest[0]) + "," + to
	if other := p.entries[keyOf(now)]; other != nil && other != e {
		return 68, "entry exists"
	}
	delete(p.entries, keyOf(dn))
	e.DN = now
	_, value, _ := strings.Cut(text(rest[0]), "=")
	for _, a := range e.Attributes {
		if strings.EqualFold(a.Name, "cn") {
			a.Values, a.ByteValues = []string{unescaped(value)}, [][]byte{[]byte(unescaped(value))}
		}
	}
	p.entries[keyOf(now)] = e
	for _, other := range p.entries {
		for _, a := range other.Attributes {
			for i, v := range a.Values {
				if (a.Name == "member" || a.Name == "manager") && keyOf(v) == keyOf(dn) {
					a.Values[i], a.ByteValues[i] = now, []byte(now)
				}
			}
		}
	}
	return 0, ""
}

func unescaped(value string) string {
	dn, err := ldap.ParseDN("cn=" + value)
	if err != nil {
		return value
	}
	return dn.RDNs[0].Attributes[0].Value
}

func (p *peer) remove(dn string) (uint16, string) {
	if p.entries[keyOf(dn)] == nil {
		return 32, "no object"
	}
	for key := range p.entries {
		if strings.HasSuffix(key, ","+keyOf(dn)) {
			return 66, "00002015: children exist"
		}
	}
	delete(p.entries, keyOf(dn))
	return 0, ""
}

func (p *peer) search(op, controls *ber.Packet) []reply {
	base, scope, filter := text(op.Children[0]), op.Children[1].Value.(int64), op.Children[6]
	var wants []string
	for _, a := range op.Children[7].Children {
		wants = append(wants, text(a))
	}
	if base == "" {
		return []reply{{op: shown(ldap.NewEntry("", map[string][]string{"supportedCapabilities": {capabilityAD}, "defaultNamingContext": {office}, "supportedControl": {ldap.ControlTypePaging}, "subschemaSubentry": {"CN=Aggregate,CN=Schema," + office}}), []string{"*"}, 0)}, {op: result(ldap.ApplicationSearchResultDone, 0, "")}}
	}
	if strings.HasPrefix(base, "CN=Aggregate") {
		return []reply{{op: shown(officeSchema(), []string{"*"}, 0)}, {op: result(ldap.ApplicationSearchResultDone, 0, "")}}
	}
	if p.entries[keyOf(base)] == nil {
		return []reply{{op: result(ldap.ApplicationSearchResultDone, 32, "0000208D: no object")}}
	}
	var keys []string
	for key, e := range p.entries {
		beneath := key == keyOf(base) || scope == ldap.ScopeWholeSubtree && strings.HasSuffix(key, ","+keyOf(base))
		if beneath && passes(e, filter) {
			keys = append(keys, key)
		}
	}
	sort.Strings(keys)
	size, from, paged := len(keys), 0, false
	if controls != nil {
		for _, c := range controls.Children {
			if text(c.Children[0]) == ldap.ControlTypePaging {
				value := ber.DecodePacket(c.Children[len(c.Children)-1].Data.Bytes())
				paged, size = true, int(value.Children[0].Value.(int64))
				from, _ = strconv.Atoi(text(value.Children[1]))
			}
		}
	}
	if size > p.page || len(keys) > p.page && !paged {
		return []reply{{op: result(ldap.ApplicationSearchResultDone, 4, "size limit")}}
	}
	var answers []reply
	end := min(from+size, len(keys))
	for _, key := range keys[from:end] {
		answers = append(answers, reply{op: shown(p.entries[key], wants, p.ranges)})
	}
	done := reply{op: result(ldap.ApplicationSearchResultDone, 0, "")}
	if paged {
		cookie := ""
		if end < len(keys) {
			cookie = strconv.Itoa(end)
		}
		value := ber.NewSequence("page")
		value.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, int64(0), "size"))
		value.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, cookie, "cookie"))
		control := ber.NewSequence("control")
		control.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, ldap.ControlTypePaging, "type"))
		control.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, string(value.Bytes()), "value"))
		done.controls = ber.Encode(ber.ClassContext, ber.TypeConstructed, 0, nil, "controls")
		done.controls.AppendChild(control)
	}
	return append(answers, done)
}

// passes tells whether an entry passes a filter.
func passes(e *ldap.Entry, f *ber.Packet) bool {
	switch f.Tag {
	case ldap.FilterAnd:
		return !slices.ContainsFunc(f.Children, func(c *ber.Packet) bool { return !passes(e, c) })
	case ldap.FilterOr:
		return slices.ContainsFunc(f.Children, func(c *ber.Packet) bool { return passes(e, c) })
	case ldap.FilterNot:
		return !passes(e, f.Children[0])
	case ldap.FilterPresent:
		return strings.EqualFold(text(f), "objectClass") || e.GetEqualFoldAttributeValue(text(f)) != ""
	case ldap.FilterEqualityMatch:
		name, value := text(f.Children[0]), text(f.Children[1])
		if name == "objectCategory" {
			return slices.Contains(e.GetAttributeValues("objectClass"), "user")
		}
		return slices.ContainsFunc(e.GetEqualFoldAttributeValues(name), func(v string) bool { return strings.EqualFold(v, value) })
	}
	return false
}

// shown is an entry in an answer, long lists of values in ranges.
func shown(e *ldap.Entry, wants []string, ranges int) *ber.Packet {
	r := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchResultEntry, nil, "entry")
	r.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, e.DN, "dn"))
	list := ber.NewSequence("attributes")
	for _, a := range e.Attributes {
		from, asked := 0, slices.Contains(wants, "*")
		for _, want := range wants {
			name, option, _ := strings.Cut(want, ";range=")
			if strings.EqualFold(name, a.Name) {
				asked = true
				low, _, _ := strings.Cut(option, "-")
				from, _ = strconv.Atoi(low)
			}
		}
		if !asked || a.Name == "has-password" || len(a.Values) == 0 {
			continue
		}
		name, values := a.Name, a.ByteValues
		if ranges > 0 && len(values) > ranges {
			end := min(from+ranges, len(values))
			last := strconv.Itoa(end - 1)
			if end == len(values) {
				last = "*"
			}
			name, values = fmt.Sprintf("%s;range=%d-%s", a.Name, from, last), values[from:end]
		}
		one, set := ber.NewSequence("attribute"), ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "values")
		one.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, name, "name"))
		for _, v := range values {
			set.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, string(v), "value"))
		}
		one.AppendChild(set)
		list.AppendChild(one)
	}
	r.AppendChild(list)
	return r
}

// officeSchema is what such a server says of its classes; much of it stands in the rules of
// what goes together.
func officeSchema() *ldap.Entry {
	var types []string
	for i, name := range strings.Fields("cn sAMAccountName sn givenName title displayName mail department employeeNumber description userAccountControl pwdLastSet c") {
		types = append(types, fmt.Sprintf("( 1.2.840.113556.9.%d NAME '%s' SYNTAX '1.3.6.1.4.1.1466.115.121.1.15' SINGLE-VALUE )", i, name))
	}
	types = append(types, "( 1.2.840.113556.1.4.2 NAME 'objectGUID' SYNTAX '1.3.6.1.4.1.1466.115.121.1.40' SINGLE-VALUE NO-USER-MODIFICATION )",
		"( 0.9.2342.19200300.100.1.10 NAME 'manager' SYNTAX '1.3.6.1.4.1.1466.115.121.1.12' SINGLE-VALUE )", "( 2.5.4.31 NAME 'member' SYNTAX '1.3.6.1.4.1.1466.115.121.1.12' )",
		"( 1.2.840.113556.1.2.102 NAME 'memberOf' SYNTAX '1.3.6.1.4.1.1466.115.121.1.12' )", "( 1.2.840.113556.1.4.782 NAME 'objectCategory' SYNTAX '1.3.6.1.4.1.1466.115.121.1.12' SINGLE-VALUE )")
	return ldap.NewEntry("CN=Aggregate,CN=Schema,"+office, map[string][]string{
		"attributeTypes": types,
		"objectClasses": {"( 2.5.6.0 NAME 'top' ABSTRACT MUST (objectClass $ objectCategory $ nTSecurityDescriptor $ instanceType ) MAY (memberOf $ description ) )",
			"( 2.5.6.6 NAME 'person' SUP top STRUCTURAL MUST (cn ) MAY (sn ) )", "( 1.2.840.113556.1.5.9 NAME 'user' SUP person STRUCTURAL MAY (givenName $ displayName ) )",
			"( 1.2.840.113556.1.5.8 NAME 'group' SUP top STRUCTURAL MUST (groupType ) MAY (member ) )"},
		"dITContentRules": {"( 1.2.840.113556.1.5.9 NAME 'user' AUX ( securityPrincipal ) MUST (sAMAccountName $ objectSid $ cn ) MAY (title $ mail $ department $ employeeNumber $ manager $ userAccountControl $ pwdLastSet $ c ) )"},
	})
}
