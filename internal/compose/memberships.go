package compose

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/codes"
	"evenledger/internal/heading"
	"evenledger/internal/profile"
	"evenledger/internal/words"
	"evenledger/internal/yamldoc"
)

// numbered is a heading with a number in it.
var numbered = regexp.MustCompile(`^([^0-9]*)([0-9]+)([^0-9]*)$`)

// family is the heading of a family of columns, with a star for the number in it.
func family(text string) (star string, isOne bool) {
	m := numbered.FindStringSubmatch(text)
	if m == nil {
		return text, false
	}
	return m[1] + "*" + m[3], true
}

// A tie is a column, or a family of them, that names memberships, with those beside it.
type tie struct {
	kind, from, role, section string
	split                     string
}

// memberships writes a line for each kind that columns name.
func (s *Source) memberships() (lines []string, used map[string]bool) {
	used = map[string]bool{}
	for _, kind := range brief.Kinds() {
		var from []string
		for _, t := range s.ties(kind) {
			keys := []string{"from: " + yamldoc.Scalar(t.from)}
			for _, beside := range []struct{ key, from string }{{"role", t.role}, {"section", t.section}} {
				if beside.from != "" {
					keys = append(keys, beside.key+": "+yamldoc.Scalar(beside.from))
				}
			}
			if t.split != "" {
				keys = append(keys, "split: "+yamldoc.Scalar(t.split))
			}
			used[t.from], used[t.role], used[t.section] = true, true, true
			from = append(from, "{"+strings.Join(keys, ", ")+"}")
		}
		switch len(from) {
		case 0:
		case 1:
			lines = append(lines, kind+": "+from[0])
		default:
			lines = append(lines, kind+": ["+strings.Join(from, ", ")+"]")
		}
	}
	delete(used, "")
	return lines, used
}

// ties finds the columns that name memberships of a kind. “Roles” are memberships, “Role” is what people's work is called as well.
func (s *Source) ties(kind string) (ties []tie) {
	for _, c := range s.Profile.Columns {
		ofKind := c.Ties == kind || kind == "roles" && words.Key(c.Heading) == kind
		if !ofKind || c.Secret || c.Field != "" && c.Sure {
			continue
		}
		from, many := family(c.Heading)
		if slices.ContainsFunc(ties, func(t tie) bool { return t.from == from }) {
			continue
		}
		t := tie{kind: kind, from: from}
		for _, separator := range []string{";", ",", "|"} {
			if !many && slices.ContainsFunc(c.Examples, func(e string) bool { return strings.Contains(e, separator) && !strings.Contains(e, "(") }) {
				t.split = separator
				break
			}
		}
		ties = append(ties, t)
	}
	for i := range ties {
		ties[i].role, ties[i].section = s.beside("role", ties, i), s.beside("section", ties, i)
	}
	return ties
}

// beside finds the column, or the family of columns, that says the role or section of a membership: it is a family if that is
// one, and it stands behind that before the next kind of membership.
func (s *Source) beside(what string, ties []tie, n int) string {
	if ties[n].split != "" || ties[n].kind == "licences" || ties[n].kind == "roles" {
		return ""
	}
	if what == "section" && ties[n].kind != "courses" {
		return ""
	}
	passed := false
	for _, c := range s.Profile.Columns {
		from, many := family(c.Heading)
		switch {
		case from == ties[n].from:
			passed = true
		case passed && c.Ties != "" && c.Ties != ties[n].kind, passed && slices.ContainsFunc(ties, func(t tie) bool { return t.from == from }):
			return ""
		case passed && c.Beside == what && many == strings.Contains(ties[n].from, "*") && !c.Secret && (c.Field == "" || !c.Sure):
			return from
		}
	}
	return ""
}

// isUsed reports whether a column is one of those that name memberships, or something else already.
func isUsed(used map[string]bool, text string) bool {
	from, _ := family(text)
	return used[text] || used[from]
}

// isUnit reports whether a column holds places in the directory: their parts with a slash between.
func (s *Source) isUnit(c profile.Column) bool {
	if !slices.Contains([]string{"department", "locality", "division", ""}, c.Field) || c.Kind != "text" || s.has("unit") || c.Secret || c.Ties != "" || len(c.Examples) == 0 || !s.takes("unit") {
		return false
	}
	says := s.words().Meaning(c.Heading).Says
	if !says["unit"] && !says["department"] && !says["location"] && !says["division"] {
		return false
	}
	with := 0
	for _, e := range c.Examples {
		if strings.Contains(e, "/") && !strings.Contains(e, " / ") && !strings.Contains(e, "//") {
			with++
		}
	}
	return 2*with > len(c.Examples) && with > 1
}

// flag writes what the words of a column mean for who may sign in, where they are not plain yes and no: the words of a status, and
// those of a column that says who may not.
func (s *Source) flag(c profile.Column) (via string, ok bool) {
	if c.More || c.Distinct > len(c.Examples) || c.Distinct == 0 || !(c.Negated || c.Status && (c.Field == "" || c.Field == "active")) {
		return "", false
	}
	var pairs []string
	active := 0
	for _, word := range c.Examples {
		yes, known := isYes(s.words(), word)
		if !known {
			return "", false
		}
		if yes != c.Negated {
			active++
			pairs = append(pairs, yamldoc.Quoted(word)+`: "yes"`)
		} else {
			pairs = append(pairs, yamldoc.Quoted(word)+`: "no"`)
		}
	}
	if !c.Negated && active == 0 {
		return "", false
	}
	return strings.Join(pairs, ", "), true
}

// isYes tells whether a word says yes, or that somebody is active.
func isYes(reader *heading.Reader, word string) (yes, known bool) {
	if text, err := codes.NewReader(codes.Unsettled).Read(account.YesNo, word); err == nil {
		return text == "true", true
	}
	says := reader.Meaning(word).Says
	switch {
	case says["blocked"], says["leaver"], says["end"]:
		return false, true
	case says["active"]:
		return true, true
	}
	return false, false
}

// words reads headings, and words that stand for how things are.
func (s *Source) words() *heading.Reader {
	if s.reader == nil {
		s.reader = heading.NewReader()
	}
	return s.reader
}

// intents are words by which sheets say what is to happen.
var intents = map[string][]string{
	string(account.Create):  {"new", "add", "create", "joiner", "starter", "hire", "newhire", "neu", "anlegen", "eintritt", "nouveau", "creer", "creation", "ajout", "nuevo", "alta", "crear", "novo", "criar", "nuovo", "crea", "nieuw", "aanmaken", "nowy", "dodaj", "utworz", "ny", "opret", "opprett", "skapa", "uusi", "lisaa", "novy", "pridat", "yeni", "新規"},
	string(account.Update):  {"change", "changed", "update", "modify", "amend", "mover", "transfer", "aendern", "andern", "anderung", "aenderung", "wechsel", "modifier", "modification", "mise", "cambio", "modificar", "modificacion", "actualizar", "alterar", "alteracao", "modifica", "wijzigen", "wijziging", "zmien", "zmiana", "aendring", "endring", "endre", "andring", "andra", "muutos", "muuta", "zmena", "zmenit", "degisiklik", "変更"},
	string(account.Suspend): {"leaver", "leave", "suspend", "disable", "deactivate", "block", "terminate", "termination", "sperren", "austritt", "deaktivieren", "depart", "desactiver", "suspendre", "sortie", "baja", "suspender", "desactivar", "desativar", "sospendi", "disattiva", "uitdienst", "blokkeren", "zablokuj", "odejscie", "fratraeder", "slutter", "slutar", "sluta", "lahtija", "poista-kaytosta", "odchod", "ayrilan", "退職"},
	string(account.Resume):  {"resume", "reactivate", "enable", "return", "returner", "rehire", "entsperren", "reaktivieren", "reactiver", "reactivar", "reativar", "riattiva", "heractiveren", "odblokuj", "genaktiver", "aterinfor"},
	string(account.Aside):   {"none", "nochange", "unchanged", "keep", "keine", "aucun", "ninguno"},
}

// actionColumn is the column that says what is to happen to each row, of which every word is understood; or -1.
func (s *Source) actionColumn() int {
	return slices.IndexFunc(s.Profile.Columns, func(c profile.Column) bool {
		if c.Secret || c.Field != "" || c.More || c.Distinct == 0 || c.Distinct > len(c.Examples) || c.Ties != "" {
			return false
		}
		several := map[string]bool{}
		for _, word := range c.Examples {
			intent, known := intentOf(word)
			if !known {
				return false
			}
			several[intent] = true
		}
		return c.Action || len(several) > 1
	})
}

func intentOf(word string) (string, bool) {
	key := words.Key(word)
	for intent, all := range intents {
		if slices.Contains(all, key) {
			return intent, true
		}
	}
	return "", false
}

// intent writes what the words of an action column mean.
func (s *Source) intent(line func(string, ...any)) {
	i := s.actionColumn()
	if i < 0 {
		return
	}
	c := s.Profile.Columns[i]
	var pairs []string
	for _, word := range c.Examples {
		intent, _ := intentOf(word)
		pairs = append(pairs, fmt.Sprintf("%s: %s", yamldoc.Quoted(word), intent))
	}
	line("intent: {from: %s, via: {%s}}", yamldoc.Scalar(c.Heading), strings.Join(pairs, ", "))
}
