package scim

import "evenledger/internal/account"

// enterprise is the URN of the enterprise user extension (RFC 7643 section 4.3).
const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"

// paths are where the fields of the catalogue stand (RFC 7643 sections 4.1 and 4.3), with the schema where it isn't
// the core user's. They are read only.
var paths = map[string]string{
	"userName":          "userName",
	"givenName":         "name.givenName",
	"familyName":        "name.familyName",
	"middleName":        "name.middleName",
	"honorificPrefix":   "name.honorificPrefix",
	"formattedName":     "name.formatted",
	"displayName":       "displayName",
	"nickName":          "nickName",
	"email":             `emails[type eq "work"].value`,
	"phone":             `phoneNumbers[type eq "work"].value`,
	"mobile":            `phoneNumbers[type eq "mobile"].value`,
	"title":             "title",
	"userType":          "userType",
	"department":        enterprise + ":department",
	"division":          enterprise + ":division",
	"costCenter":        enterprise + ":costCenter",
	"organization":      enterprise + ":organization",
	"employeeNumber":    enterprise + ":employeeNumber",
	"manager":           enterprise + ":manager.value",
	"preferredLanguage": "preferredLanguage",
	"locale":            "locale",
	"timezone":          "timezone",
	"country":           `addresses[type eq "work"].country`,
	"locality":          `addresses[type eq "work"].locality`,
	"region":            `addresses[type eq "work"].region`,
	"streetAddress":     `addresses[type eq "work"].streetAddress`,
	"postalCode":        `addresses[type eq "work"].postalCode`,
	"profileUrl":        "profileUrl",
	"externalId":        "externalId",
	"active":            "active",
}

// places lists the fields of the catalogue that have a path, in its order.
func places() (all []place) {
	for _, f := range account.Fields() {
		if at := paths[f.Name]; at != "" {
			all = append(all, place{f, parsePath(at)})
		}
	}
	return all
}

// A place is where a field stands.
type place struct {
	account.Field
	path path
}
