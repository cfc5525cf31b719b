// Package attribute has what directories call the fields of accounts, for those who speak to one and those who read
// or write what one exports (LDIF).
package attribute

import "evenledger/internal/account"

// names are read only.
var names = map[string]string{
	"userName":          "uid",
	"givenName":         "givenName",
	"familyName":        "sn",
	"formattedName":     "cn",
	"displayName":       "displayName",
	"email":             "mail",
	"phone":             "telephoneNumber",
	"mobile":            "mobile",
	"title":             "title",
	"userType":          "employeeType",
	"department":        "departmentNumber",
	"organization":      "o",
	"employeeNumber":    "employeeNumber",
	"manager":           "manager",
	"preferredLanguage": "preferredLanguage",
	"country":           "c",
	"locality":          "l",
	"region":            "st",
	"streetAddress":     "street",
	"postalCode":        "postalCode",
	"profileUrl":        "labeledURI",
	"uidNumber":         "uidNumber",
	"gidNumber":         "gidNumber",
	"homeDirectory":     "homeDirectory",
	"loginShell":        "loginShell",
	"gecos":             "gecos",
}

// Of returns the attribute that holds a field (RFC 4519, RFC 2798, RFC 2307); empty: none does.
func Of(field string) string { return names[field] }

// Headings recognises what an export of a directory is headed by, besides what people write.
func Headings() account.Headings {
	return account.NewHeadings().And(names, "ou") // which is a name of something else there
}
