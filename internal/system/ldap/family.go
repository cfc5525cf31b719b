package ldap

import (
	"slices"
	"strings"

	ldap "github.com/go-ldap/ldap/v3"
)

// A family is what directories of one kind have in common where the standards leave it open.
type family struct {
	name        string
	id          string // the attribute by which an entry is known for ever
	digits      string // how it is written, where it is put in order, so that a listing can be taken apart by it; empty: it is not
	binary      bool   // which holds bytes
	version     string // the attribute that is another after each change; empty: there is none that can be relied on
	named       string // by which accounts are called
	classes     []string
	groupClass  string
	fields      map[string]string // field → attribute, where it is not the catalogue's
	partitions  []string          // beneath the top, which hold no people: what is said to be kept there is passed over
	filled      []string          // attributes that entries must have, and the server fills in itself
	limits      map[string]int    // attribute → characters that it takes, where the schema does not say so
	mostPage    int               // entries in a page; 0: as the server says
	locks       []marking         // how accounts are suspended: the first whose attribute the server has
	renewals    []marking         // and how somebody has to choose another password
	referential referential
	quoted      bool // passwords are written into unicodePwd, in quotes
	configured  bool // what passwords have to be like stands in cn=config
	hashes      bool // a userPassword that is written is kept hashed, so that it can go with the entry
}

// A referential is where a server says which attributes it keeps referring to entries that are moved or removed, if it shows that.
type referential struct{ base, filter, attribute string }

// A marking is how a field that is yes or no stands in an entry: an attribute has a value
// of its own when the field is as marked.
type marking struct {
	attribute string
	marked    string // the field then: “false” of who may not sign in
	value     string // the attribute then
	other     string // and else; empty: it is not there
	bit       uint64 // or this bit of it is set then
}

// families are the ones that are known; the last stands for all others.
func families() []family {
	return []family{
		{
			name: "AD-style", id: "objectGUID", binary: true, named: "cn", classes: []string{"user"}, groupClass: "group",
			fields:     map[string]string{"userName": "sAMAccountName", "department": "department", "division": "division", "organization": "company", "formattedName": "cn", "middleName": "middleName", "streetAddress": "streetAddress"},
			limits:     map[string]int{"sAMAccountName": 20, "cn": 64, "c": 2, "givenName": 64, "sn": 64},
			partitions: []string{"cn=configuration,", "dc=domaindnszones,", "dc=forestdnszones,"},
			filled:     []string{"instanceType", "nTSecurityDescriptor", "objectCategory", "objectSid", "groupType"},
			mostPage:   1000, quoted: true,
			locks:    []marking{{attribute: "userAccountControl", marked: "false", bit: accountDisabled}},
			renewals: []marking{{attribute: "pwdLastSet", marked: "true", value: "0", other: "-1"}},
		},
		{
			referential: referential{"cn=config", "(objectClass=olcRefintConfig)", "olcRefintAttribute"},
			name:        "OpenLDAP", id: "entryUUID", digits: "xxxxxxxx-xxxx-xxxx-xxxx-xxxxxxxxxxxx", version: "entryCSN", named: "uid", classes: []string{"inetOrgPerson"}, groupClass: "groupOfNames",
			locks:    []marking{{attribute: "pwdAccountLockedTime", marked: "false", value: "000001010000Z"}},
			renewals: []marking{{attribute: "pwdReset", marked: "true", value: "TRUE"}},
		},
		{
			referential: referential{"cn=referential integrity postoperation,cn=plugins,cn=config", "(objectClass=*)", "referint-membership-attr"},
			name:        "389-like", id: "nsUniqueId", digits: "xxxxxxxx-xxxxxxxx-xxxxxxxx-xxxxxxxx", hashes: true, configured: true, named: "uid", classes: []string{"inetOrgPerson"}, groupClass: "groupOfNames",
			locks: []marking{{attribute: "nsAccountLock", marked: "false", value: "TRUE"}},
		},
		{
			name: "standard", id: "entryUUID", named: "uid", classes: []string{"inetOrgPerson"}, groupClass: "groupOfNames",
			locks:    []marking{{attribute: "pwdAccountLockedTime", marked: "false", value: "000001010000Z"}, {attribute: "nsAccountLock", marked: "false", value: "TRUE"}},
			renewals: []marking{{attribute: "pwdReset", marked: "true", value: "TRUE"}},
		},
	}
}

// fills reports whether the server fills an attribute in itself.
func (f *family) fills(attribute string) bool {
	return slices.ContainsFunc(f.filled, func(name string) bool { return strings.EqualFold(name, attribute) })
}

// Bits of userAccountControl.
const (
	accountDisabled = 0x2
	accountNormal   = 0x200
	passwordNone    = 0x20
)

// capabilityAD is in supportedCapabilities of AD-style directories.
const capabilityAD = "1.2.840.113556.1.4.800"

// familyOf tells a server's family by its root DSE (RFC 4512 section 5.1).
func familyOf(root *ldap.Entry) family {
	all := families()
	vendor := strings.ToLower(root.GetEqualFoldAttributeValue("vendorName") + " " + root.GetEqualFoldAttributeValue("vendorVersion"))
	switch {
	case slices.Contains(root.GetEqualFoldAttributeValues("supportedCapabilities"), capabilityAD):
		return all[0]
	case slices.ContainsFunc(root.GetEqualFoldAttributeValues("objectClass"), func(class string) bool { return strings.EqualFold(class, "OpenLDAProotDSE") }):
		return all[1]
	case strings.Contains(vendor, "389"):
		return all[2]
	}
	return all[3]
}
