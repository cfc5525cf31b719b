package codes

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/words"
)

// offset is how programs write what a zone is away from Greenwich: GMT+1, UTC+02:00, +0530.
var offset = regexp.MustCompile(`^\(?(?:(?:GMT|UTC|Z)\s*)?([+\-−])(\d{1,2})(?::?(\d{2}))?\)?$`)

// beforePlace is such an offset with a place behind it: “(GMT+01:00) Belgrade, Prague”.
var beforePlace = regexp.MustCompile(`^\((?:GMT|UTC)(?:\s*([+\-−])(\d{1,2}):?(\d{2}))?\)\s*(.+)$`)

// abbreviations are those that mean one zone alone, wherever they are written. Others, such as CST or IST, mean several.
func abbreviations() map[string]string {
	return map[string]string{
		"NZST": "Pacific/Auckland", "NZDT": "Pacific/Auckland", "JST": "Asia/Tokyo", "KST": "Asia/Seoul", "HKT": "Asia/Hong_Kong", "SGT": "Asia/Singapore", "MSK": "Europe/Moscow",
		"WAT": "Africa/Lagos", "EAT": "Africa/Nairobi", "SAST": "Africa/Johannesburg", "AKST": "America/Anchorage", "AKDT": "America/Anchorage", "BRT": "America/Sao_Paulo", "PHT": "Asia/Manila", "WIB": "Asia/Jakarta",
	}
}

// timezone reads a time zone by its name, its city, a whole number of hours from Greenwich, or as office programs write it. Nothing that is
// an hour off is ever suggested.
func (r *Reader) timezone(text string) (string, error) {
	zones := r.zones()
	if _, exact := zones.code["="+text]; exact {
		return text, nil
	}
	fault := &Error{Code: account.NotATimezone, Reason: "is not a time zone"}
	if m := beforePlace.FindStringSubmatch(text); m != nil {
		for place := range strings.FieldsFuncSeq(m[4], func(c rune) bool { return c == ',' || c == ';' }) {
			if found, err := r.lookUp(zones, strings.TrimSpace(place), account.NotATimezone, ""); err == nil {
				return found, nil
			}
		}
		fault.Remedy = fmt.Sprintf("None of the places “%s” is the name of a time zone: write one, such as Europe/Lisbon.", m[4])
		return "", fault
	}
	if m := offset.FindStringSubmatch(text); m != nil {
		hours, _ := strconv.Atoi(m[2]) // the expression saw to it
		if m[3] != "" && m[3] != "00" || hours > 14 || m[1] != "+" && hours > 12 {
			fault.Reason = "is no whole number of hours from Greenwich, which alone stand for a time zone"
			fault.Remedy = "Write the zone's name, such as Asia/Kolkata."
			return "", fault
		}
		sign := map[bool]string{true: "-", false: "+"}[m[1] == "+"] // the names of these zones count the other way
		if hours == 0 {
			return "Etc/GMT", nil
		}
		return "Etc/GMT" + sign + strconv.Itoa(hours), nil
	}
	if zone := abbreviations()[strings.ToUpper(text)]; zone != "" {
		return zone, nil
	}
	if found := zones.code[words.Key(text)]; found != "" {
		return found, nil
	}
	if len(text) <= 4 || strings.ContainsAny(text, "+0123456789") { // what is near to these is another zone
		fault.Remedy = "Write the zone's name, such as Europe/Lisbon: letters like these mean several."
		return "", fault
	}
	return r.lookUp(zones, text, account.NotATimezone, "is not a time zone")
}
