package report

import (
	"strconv"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/membership"
)

// DifferenceHeadings head the sheet of what was found to be otherwise, a line a field or
// membership. None of them is the heading of a field: handed in by mistake, the sheet does nothing.
func DifferenceHeadings() []string {
	return []string{"Row", "Found", "Person", "Account id", "What", "Wanted", "In the system now", "Reason"}
}

// Differences are the lines about an entry that was made to compare: one for each field and each
// membership, or a single one that says why there are none. Found is how the two sides stand.
func Differences(e *batch.Entry, found string) (lines [][]string) {
	row := strconv.Itoa(e.Row)
	if batch.Unlisted(e.Row) > 0 {
		row = ""
	}
	line := func(what, wanted, now, reason string) {
		lines = append(lines, []string{row, found, named(e), e.Account, what, wanted, now, reason})
	}
	for _, f := range e.Findings {
		if f.Level == account.Error || f.Code == account.DoesNotFit {
			line(f.Field, "", "", f.Message)
		}
	}
	if batch.Unlisted(e.Row) > 0 { // nothing of it is wanted
		line("", "", "", "")
		return lines
	}
	for _, c := range e.Changes {
		before, after := Shown(c)
		if !c.Before.Filled() {
			before = ""
		}
		if !c.After.Filled() {
			after = ""
		}
		line(c.Field, after, before, "")
	}
	for _, s := range e.Steps {
		switch tie := account.MembershipText(s.Name, s.Role, s.Section); {
		case s.Do == membership.Join && s.Was == nil:
			line(s.Kind, tie, "", "")
		case s.Do == membership.Join:
			line(s.Kind, tie, account.MembershipText(s.Name, s.Was[0], s.Was[1]), "")
		case s.Do == membership.Leave:
			line(s.Kind, "", tie, "")
		case s.Within():
			line(s.Kind, s.Text(), "", "")
		}
	}
	if lines == nil {
		line("", "", "", "")
	}
	return lines
}

// named is whom an entry is about: name and key, or the key alone.
func named(e *batch.Entry) string {
	if name := nameIn(e.Left()); name != "" && name != e.Key {
		return name + " · " + e.Key
	}
	return e.Key
}
