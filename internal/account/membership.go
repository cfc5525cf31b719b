package account

import (
	"path"
	"strings"
)

// A ThingKind is a kind of thing that accounts can be tied to in a system:
// groups, courses, licences, roles.
type ThingKind struct {
	Name     string `json:"name"`              // in the plural, such as "groups"
	Field    string `json:"field,omitempty"`   // the account's field that lists them, where that is where they are kept
	Place    string `json:"place,omitempty"`   // the account's field that says in which one it stands: there nobody is tied to any
	Roles    bool   `json:"roles"`             // a membership has a role in the thing
	Usual    string `json:"usual,omitempty"`   // the role of who is given none; empty: they have none
	Sections bool   `json:"sections"`          // a membership has a section of the thing
	Divides  bool   `json:"divides,omitempty"` // sections can be added to things
	Filled   bool   `json:"filled,omitempty"`  // a thing of the kind always has a member: the last one cannot leave
	Seated   bool   `json:"seated,omitempty"`  // of some of them only so many may be members, by what evenledger.yaml says
	Any      bool   `json:"any,omitempty"`     // any name is taken, those that nobody lists as well
	Blind    string `json:"blind,omitempty"`   // why nobody can say who is in which; empty: the system shows it
}

// A Thing is something in a system besides accounts: a group, say.
type Thing struct {
	ID       string   `json:"id"`
	Name     string   `json:"name"`
	Members  int      `json:"members"`            // accounts tied to it; -1: the system doesn't say
	Nested   int      `json:"nested,omitempty"`   // of its members that are things of the kind themselves: their members are in it, too, and are not counted
	Seats    int      `json:"seats"`              // how many may be; -1: any number
	Closed   bool     `json:"closed"`             // nobody may join
	Elevated bool     `json:"elevated"`           // it gives rights over others
	Roles    []string `json:"roles,omitempty"`    // that a membership may have; none: any, or the system doesn't say
	Sections []string `json:"sections,omitempty"` // likewise
}

// A Membership is an account's tie to a thing.
type Membership struct {
	Kind    string `json:"kind"`
	Thing   string `json:"thing"` // identifier
	Account string `json:"account"`
	Role    string `json:"role,omitempty"`
	Section string `json:"section,omitempty"`
}

// MembershipText writes a membership as a cell has it: the thing's name, and in
// brackets the role and the section, if there are any.
func MembershipText(name, role, section string) string {
	switch {
	case section != "":
		return name + " (" + role + ", " + section + ")"
	case role != "":
		return name + " (" + role + ")"
	}
	return name
}

// ParseMembership reads what MembershipText wrote.
func ParseMembership(text string) (name, role, section string) {
	open := strings.LastIndex(text, " (")
	if open < 0 || !strings.HasSuffix(text, ")") {
		return text, "", ""
	}
	role, section, _ = strings.Cut(text[open+2:len(text)-1], ",")
	return strings.TrimSpace(text[:open]), strings.TrimSpace(role), strings.TrimSpace(section)
}

// Fits reports whether a name is as one of the patterns has it, in which a star
// stands for any characters. Capitals make no difference.
func Fits(name string, patterns []string) bool {
	plain := strings.NewReplacer(`\`, `\\`, `[`, `\[`, `?`, `\?`, "/", "\x00") // a star stands for slashes as well
	for _, pattern := range patterns {
		ok, err := path.Match(plain.Replace(strings.ToLower(pattern)), strings.ReplaceAll(strings.ToLower(name), "/", "\x00"))
		if err == nil && ok {
			return true
		}
	}
	return false
}
