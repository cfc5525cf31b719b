package standin

import (
	"fmt"
	"slices"
	"strings"
)

// URNs of the schemas and messages served (RFC 7643 section 10, RFC 7644 section
// 3.8), and of the practice application's own extension.
const (
	userSchema       = "urn:ietf:params:scim:schemas:core:2.0:User"
	enterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	groupSchema      = "urn:ietf:params:scim:schemas:core:2.0:Group"
	crewSchema       = "urn:example:params:scim:schemas:extension:crew:2.0:User"
	courseSchema     = "urn:example:params:scim:schemas:crew:2.0:Course"
	licenceSchema    = "urn:example:params:scim:schemas:crew:2.0:Licence"
	roleSchema       = "urn:example:params:scim:schemas:crew:2.0:Role"
	unitSchema       = "urn:example:params:scim:schemas:crew:2.0:Unit"
	schemaSchema     = "urn:ietf:params:scim:schemas:core:2.0:Schema"
	typeSchema       = "urn:ietf:params:scim:schemas:core:2.0:ResourceType"
	configSchema     = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
	listMessage      = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	errorMessage     = "urn:ietf:params:scim:api:messages:2.0:Error"
	patchMessage     = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	searchMessage    = "urn:ietf:params:scim:api:messages:2.0:SearchRequest"
)

// Definitions of the attributes, one a line: name, type, and what departs from
// an optional, single, read-write, case-insensitive attribute. A sub-attribute
// has its parent's name and a point before its own.
const (
	userAttributes = `
userName string required unique
name complex
name.formatted string
name.familyName string
name.givenName string
name.middleName string
name.honorificPrefix string
name.honorificSuffix string
displayName string
nickName string
profileUrl reference
title string
userType string
preferredLanguage string
locale string
timezone string
active boolean
password string writeOnly never
emails complex multi
emails.value string
emails.display string
emails.type string suggest=work,home,other
emails.primary boolean
phoneNumbers complex multi
phoneNumbers.value string
phoneNumbers.display string
phoneNumbers.type string suggest=work,home,mobile,fax,pager,other
phoneNumbers.primary boolean
addresses complex multi
addresses.formatted string
addresses.streetAddress string
addresses.locality string
addresses.region string
addresses.postalCode string
addresses.country string
addresses.type string suggest=work,home,other
addresses.primary boolean
groups complex multi readOnly
groups.value string readOnly
groups.$ref reference readOnly
groups.display string readOnly
groups.type string readOnly
entitlements complex multi
entitlements.value string
entitlements.display string
entitlements.type string
entitlements.primary boolean
roles complex multi
roles.value string
roles.display string
roles.type string
roles.primary boolean`

	enterpriseAttributes = `
employeeNumber string unique
costCenter string
organization string
division string
department string
manager complex
manager.value string
manager.$ref reference
manager.displayName string readOnly`

	crewAttributes = `
berth string
watch string oneof=Day,Night,Relief
certificateNumber string exact unique
joined dateTime immutable
crewSince dateTime readOnly
seaMiles integer
certificates string multi
unit string
listed boolean
newPassword boolean
identities complex multi
identities.value string
identities.display string
identities.type string`

	groupAttributes = `
displayName string required
members complex multi
members.value string immutable
members.$ref reference immutable
members.display string readOnly
members.type string immutable suggest=User,Group`

	courseAttributes = `
displayName string required unique
open boolean
roles string multi
sections string multi
members complex multi
members.value string immutable
members.role string
members.section string`

	licenceAttributes = `
displayName string required unique
seats integer
members complex multi
members.value string immutable`

	roleAttributes = `
displayName string required unique
elevated boolean
members complex multi
members.value string immutable`

	unitAttributes = `
displayName string required unique`
)

// attribute is one attribute's definition (RFC 7643 section 7).
type attribute struct {
	Name            string       `json:"name"`
	Type            string       `json:"type"`
	MultiValued     bool         `json:"multiValued"`
	Description     string       `json:"description"`
	Required        bool         `json:"required"`
	CanonicalValues []string     `json:"canonicalValues,omitempty"`
	CaseExact       bool         `json:"caseExact"`
	Mutability      string       `json:"mutability"`
	Returned        string       `json:"returned"`
	Uniqueness      string       `json:"uniqueness"`
	SubAttributes   []*attribute `json:"subAttributes,omitempty"`

	enforced bool // only the canonical values are taken
}

func (a *attribute) sub(name string) *attribute { return named(a.SubAttributes, name) }

func named(list []*attribute, name string) *attribute {
	for _, a := range list {
		if strings.EqualFold(a.Name, name) {
			return a
		}
	}
	return nil
}

type schema struct {
	id, name, description string
	attributes            []*attribute
}

// resourceType is a kind of resource that is served.
type resourceType struct {
	name, endpoint string
	schema         *schema
	extensions     []*schema
	top            []*attribute // common attributes and those of the schema
}

func newSchema(id, name, description, definitions string) *schema {
	s := &schema{id: id, name: name, description: description}
	for line := range strings.Lines(strings.TrimSpace(definitions)) {
		words := strings.Fields(line)
		parent, leaf, isSub := strings.Cut(words[0], ".")
		if !isSub {
			leaf = parent
		}
		a := &attribute{Name: leaf, Type: words[1], Mutability: "readWrite", Returned: "default", Uniqueness: "none"}
		a.Description = describe(s.name, words[0])
		for _, word := range words[2:] {
			key, list, _ := strings.Cut(word, "=")
			switch key {
			case "required":
				a.Required = true
			case "unique":
				a.Uniqueness = "server"
			case "exact":
				a.CaseExact = true
			case "multi":
				a.MultiValued = true
			case "never":
				a.Returned = "never"
			case "suggest", "oneof":
				a.CanonicalValues, a.enforced = strings.Split(list, ","), key == "oneof"
			default:
				a.Mutability = key
			}
		}
		if isSub {
			outer := named(s.attributes, parent)
			outer.SubAttributes = append(outer.SubAttributes, a)
			continue
		}
		s.attributes = append(s.attributes, a)
	}
	return s
}

func describe(schema, path string) string {
	return fmt.Sprintf("%s of a %s", path, strings.ToLower(schema))
}

// common are the attributes every resource has (RFC 7643 section 3.1).
func common() []*attribute {
	return newSchema("", "resource", "", `
id string readOnly exact
externalId string exact
meta complex readOnly
meta.resourceType string readOnly
meta.created dateTime readOnly
meta.lastModified dateTime readOnly
meta.location string readOnly
meta.version string readOnly
schemas reference multi`).attributes
}

func newTypes() []*resourceType {
	types := []*resourceType{
		{name: "User", endpoint: "/Users", schema: newSchema(userSchema, "User", "A person's account", userAttributes), extensions: []*schema{
			newSchema(enterpriseSchema, "EnterpriseUser", "What an organisation keeps of its people", enterpriseAttributes),
			newSchema(crewSchema, "Crew", "What the practice application keeps of a ship's crew", crewAttributes),
		}},
		{name: "Group", endpoint: "/Groups", schema: newSchema(groupSchema, "Group", "A group of accounts", groupAttributes)},
		{name: "Course", endpoint: "/Courses", schema: newSchema(courseSchema, "Course", "A course, with who is enrolled in it", courseAttributes)},
		{name: "Licence", endpoint: "/Licences", schema: newSchema(licenceSchema, "Licence", "A licence, with who has a seat of it", licenceAttributes)},
		{name: "Role", endpoint: "/Roles", schema: newSchema(roleSchema, "Role", "A role, with who has its rights", roleAttributes)},
		{name: "Unit", endpoint: "/Units", schema: newSchema(unitSchema, "Unit", "A place in the organisation, with slashes between", unitAttributes)},
	}
	for _, t := range types {
		t.top = append(common(), t.schema.attributes...)
	}
	return types
}

// place is where in a resource an attribute path leads.
type place struct {
	extension string     // URN of the extension, or empty
	attr      *attribute // nil: the extension as a whole
	sub       *attribute
}

// locate resolves "attr", "attr.sub" and either with a schema's URN before.
func (t *resourceType) locate(path string) (place, bool) {
	attributes := t.top
	var p place
	if strings.HasPrefix(strings.ToLower(path), "urn:") {
		for _, s := range append([]*schema{t.schema}, t.extensions...) {
			if strings.EqualFold(path, s.id) && s != t.schema {
				return place{extension: s.id}, true
			}
			if rest, ok := cutPrefixFold(path, s.id+":"); ok {
				if s != t.schema {
					p.extension, attributes = s.id, s.attributes
				}
				path = rest
				break
			}
		}
	}
	name, sub, hasSub := strings.Cut(path, ".")
	if p.attr = named(attributes, name); p.attr == nil {
		return p, false
	}
	if hasSub {
		p.sub = p.attr.sub(sub)
		return p, p.sub != nil
	}
	return p, true
}

func cutPrefixFold(s, prefix string) (string, bool) {
	if len(s) >= len(prefix) && strings.EqualFold(s[:len(prefix)], prefix) {
		return s[len(prefix):], true
	}
	return s, false
}

func (t *resourceType) extension(id string) *schema {
	i := slices.IndexFunc(t.extensions, func(s *schema) bool { return strings.EqualFold(s.id, id) })
	if i < 0 {
		return nil
	}
	return t.extensions[i]
}
