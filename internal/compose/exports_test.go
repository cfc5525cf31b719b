package compose_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/brief"
	"evenledger/internal/words"
)

// vocabularies reads how columns are called, by language and by what they are.
func vocabularies(t *testing.T) (languages []string, all map[string]map[string][]string) {
	data, err := os.ReadFile("testdata/exports.txt")
	require.NoError(t, err)
	all = map[string]map[string][]string{}
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "[") {
			languages = append(languages, strings.Trim(line, "[]"))
			all[languages[len(languages)-1]] = map[string][]string{}
			continue
		}
		what, ways, found := cutLast(line)
		if !found || strings.HasPrefix(line, "#") {
			continue
		}
		all[languages[len(languages)-1]][what] = strings.Split(ways, " | ")
	}
	return languages, all
}

func cutLast(line string) (what, ways string, found bool) {
	i := strings.Index(line, ": ")
	if i < 0 {
		return "", "", false
	}
	return line[:i], line[i+2:], true
}

// An exported sheet, and what its columns are.
type exported struct {
	text  string
	truth map[string]string // heading → what it is; "-" is nothing that a brief maps
}

// conventions are ways in which systems write headings.
func conventions(random *rand.Rand) func(string) string {
	parts := func(s string) []string {
		return strings.FieldsFunc(s, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != 'º' && r != '°' })
	}
	camel := func(s string, from int) string {
		all := parts(s)
		for i := range all {
			all[i] = strings.ToLower(all[i])
			if i >= from {
				r := []rune(all[i])
				all[i] = string(unicode.ToUpper(r[0])) + string(r[1:])
			}
		}
		return strings.Join(all, "")
	}
	plain := func(s string) string { return s }
	return []func(string) string{plain, plain, plain, plain, strings.ToLower, strings.ToUpper,
		func(s string) string { return strings.ToLower(strings.Join(parts(s), "_")) },
		func(s string) string { return strings.ToUpper(strings.Join(parts(s), "_")) },
		func(s string) string { return camel(s, 1) }, func(s string) string { return camel(s, 0) },
		func(s string) string { return s + ":" }, func(s string) string { return strings.Join(parts(s), ".") },
		func(s string) string { return strings.ToLower(strings.Join(parts(s), "-")) },
	}[random.IntN(13)]
}

var (
	firstNames = strings.Fields("Zoë Łukasz Aoife Jürgen Çağla Ines Mehmet Nils Oya Pía Quentin Rosa Svea Tomás Uwe Vera Wim Xenia Yara Zbyszek Anna Béla Cosima Dagny Eino Fatou Goran Hedda Ilse Jorma")
	lastNames  = strings.Fields("Brandt Okafor Kamau Nowak Holm Byrne Weiß Demir Petrović Costa Yılmaz Berg Tan Ruiz Roux Silva Lind Vega Kurz Popov Smit Ivanova Haddad Zając Kim Farkas Virtanen Novák Ozols Mägi")
	yes        = map[string][2]string{"de": {"Ja", "Nein"}, "fr": {"Oui", "Non"}, "es": {"Sí", "No"}, "pt": {"Sim", "Não"}, "it": {"Sì", "No"}, "nl": {"Ja", "Nee"}, "pl": {"Tak", "Nie"}, "sv": {"Ja", "Nej"}, "da": {"Ja", "Nej"}, "cs": {"Ano", "Ne"}, "fi": {"Kyllä", "Ei"}, "hu": {"Igen", "Nem"}, "tr": {"Evet", "Hayır"}}
)

// export makes a sheet of a seed: a language, a convention, a layout, and people.
func export(seed uint64, languages []string, all map[string]map[string][]string) exported {
	random := rand.New(rand.NewPCG(seed, 11))
	language := languages[random.IntN(len(languages))]
	ways := all[language]
	convention := conventions(random)
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	layouts := map[string][]string{
		"people":    {"employeeNumber", "givenName", "familyName", "email", "title", "department", []string{"manager", "manager:email", "manager:employeeNumber"}[random.IntN(3)], "costCenter", "date", "userType", "locality", "country", "phone", "mobile", "-", "-", "organization", "preferredLanguage", "active"},
		"addresses": {"employeeNumber", "formattedName", "email", "phone", "mobile", "streetAddress", "postalCode", "locality", "region", "country", "department", "-"},
		"accounts":  {"userName", "givenName", "familyName", "email", "department", "title", "groups", "!active", "active", "-", "licences"},
		"courses":   {"userName", "email", "givenName", "familyName", "courses", "role", "groups", "-"},
	}
	names := []string{"people", "people", "addresses", "accounts", "courses"}
	layout := layouts[names[random.IntN(len(names))]]
	keep := 0.55 + random.Float64()*0.45
	var what []string
	for i, one := range layout {
		if len(ways[one]) > 0 && (i < 3 || random.Float64() < keep) && !(one == "active" && slices.Contains(what, "!active")) &&
			!(strings.HasPrefix(one, "manager") && slices.ContainsFunc(what, func(had string) bool { return strings.HasPrefix(had, "manager") })) {
			what = append(what, one)
		}
	}
	random.Shuffle(len(what), func(i, j int) { what[i], what[j] = what[j], what[i] })
	if at := slices.Index(what, "role"); at >= 0 { // a role stands behind what it is a role in
		what = append(slices.Delete(what, at, at+1), "role")
		if !slices.Contains(what, "courses") {
			what = what[:len(what)-1]
		}
	}
	made := exported{truth: map[string]string{}}
	used := map[string]bool{}
	var headings, kinds []string
	for _, one := range what {
		name := convention(pick(ways[one]...))
		if key := words.Key(name); !used[key] && key != "" {
			used[key] = true
			headings, kinds = append(headings, name), append(kinds, one)
			made.truth[name] = one
		}
	}
	rows := 12 + random.IntN(40)
	no := map[string][2]string{}
	no[language] = yes[language]
	if no[language][0] == "" {
		no[language] = [2]string{"Yes", "No"}
	}
	numbered, style := random.IntN(3), random.IntN(4)
	byNumber := random.IntN(2) == 0 && slices.Contains(kinds, "employeeNumber") || !slices.Contains(kinds, "userName") && !slices.Contains(kinds, "email")
	quoted := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
	var text strings.Builder
	line := func(cells []string) {
		for i, cell := range cells {
			if i > 0 {
				text.WriteByte(',')
			}
			text.WriteString(quoted(cell))
		}
		text.WriteByte('\n')
	}
	line(headings)
	login := func(i int) string {
		g, f := words.Fold(firstNames[i%30]), words.Fold(lastNames[(i*7+i/30)%30])
		switch style {
		case 0:
			return g + "." + f
		case 1:
			return g[:1] + f
		case 2:
			return f + g[:1]
		}
		return g + "_" + f
	}
	number := func(i int) string {
		switch numbered {
		case 0:
			return strconv.Itoa(10417 + i*3)
		case 1:
			return fmt.Sprintf("%05d", 417+i*7)
		}
		return fmt.Sprintf("BS-%04d", 417+i)
	}
	for i := range rows {
		boss := random.IntN(rows)
		var cells []string
		for _, kind := range kinds {
			cell := ""
			switch kind {
			case "employeeNumber":
				cell = number(i)
			case "givenName":
				cell = firstNames[i%30]
			case "familyName":
				cell = lastNames[(i*7+i/30)%30]
			case "formattedName":
				cell = firstNames[i%30] + " " + lastNames[(i*7+i/30)%30]
			case "userName":
				cell = login(i) + map[bool]string{true: "", false: strconv.Itoa(i)}[i < 30]
			case "email":
				cell = login(i) + map[bool]string{true: "", false: strconv.Itoa(i)}[i < 30] + "@brindlesound.example"
			case "manager:email":
				cell = login(boss) + "@brindlesound.example"
			case "manager:employeeNumber":
				cell = number(boss)
			case "manager":
				if cell = login(boss) + "@brindlesound.example"; byNumber {
					cell = number(boss)
				}
			case "phone":
				cell = fmt.Sprintf("+44 20 7946 %04d", i)
			case "mobile":
				cell = fmt.Sprintf("+44 7700 90%04d", i)
			case "title":
				cell = pick("Second engineer", "Deck hand", "Pilot", "Ticket clerk", "Fitter")
			case "department":
				cell = pick("Deck", "Engine", "Pilots", "Ticket office", "Workshop")
			case "costCenter":
				cell = pick("4100", "4200", "4310")
			case "userType":
				cell = pick("permanent", "seasonal", "agency")
			case "locality":
				cell = pick("Northport", "Skerry", "Brindle")
			case "postalCode":
				cell = fmt.Sprintf("NP%d %dAB", 1+i%9, i%7)
			case "streetAddress":
				cell = fmt.Sprintf("%d Pier Road", i)
			case "country":
				cell = pick("GB", "NO", "PT")
			case "region":
				cell = pick("Sound", "Isles")
			case "preferredLanguage":
				cell = pick("en", "nb", "pt")
			case "organization":
				cell = pick("Brindle Sound Ferries", "Brindle Workshop Ltd")
			case "active", "!active":
				cell = no[language][random.IntN(2)]
			case "date":
				cell = fmt.Sprintf("20%02d-%02d-%02d", 10+i%15, 1+i%12, 1+i%28)
			case "courses":
				cell = pick("Marine radio", "Sea survival", "Chart work")
			case "role":
				cell = pick("learner", "teacher")
			case "groups":
				cell = pick("Night watch", "Day watch", "Standby")
			case "licences":
				cell = pick("Chart viewer", "Tide tables")
			default:
				cell = private(headings[len(cells)], i)
			}
			cells = append(cells, cell)
		}
		line(cells)
	}
	made.text = text.String()
	return made
}

// private is a value of a column that is nobody's business.
func private(heading string, i int) string {
	key := words.Key(heading)
	has := func(parts ...string) bool {
		return slices.ContainsFunc(parts, func(p string) bool { return strings.Contains(key, p) })
	}
	switch {
	case has("mail", "correo", "post", "pocta", "pochta", "posta"):
		return fmt.Sprintf("p%d@%s.example", i*31, []string{"letters", "home", "web"}[i%3])
	case has("birth", "geburt", "naiss", "nacim", "nascim", "nascita", "geboort", "urodz", "fodels", "fods", "naroz", "synty", "szulet", "dogum", "rozhd", "rojd"):
		return fmt.Sprintf("19%02d-%02d-%02d", 60+i%40, 1+i%12, 1+i%28)
	case has("phone", "telef", "tel", "handy", "mobile", "puhelin", "foon"):
		return fmt.Sprintf("+44 1632 96%04d", i)
	}
	return []string{"a", "b", "c"}[i%3]
}

var (
	commented = regexp.MustCompile(`^ *# ([A-Za-z]+): \{from: (.*?)[,}]`)
	quotes    = regexp.MustCompile(`^"(.*)"$`)
)

// judged is what a first brief makes of a heading.
func judged(made string, b *brief.Brief) map[string]string {
	says := map[string]string{}
	for _, line := range strings.Split(made, "\n") {
		if m := commented.FindStringSubmatch(line); m != nil {
			says[quotes.ReplaceAllString(m[2], "$1")] = "offered " + m[1]
		}
	}
	if b == nil {
		return says
	}
	for _, f := range b.Fields {
		what := f.Name
		switch {
		case f.From == "" || what == "intent":
			continue
		case f.Name == "manager" && f.Refers != "":
			what = "manager:" + f.Refers
		case f.Name == "active" && len(f.Via) > 0:
			for word, means := range f.Via {
				if slices.Contains([]string{"ja", "yes", "oui", "si", "sim", "tak", "ano", "kylla", "igen", "evet"}, words.Key(word)) && (means == "no" || means == "false") {
					what = "!active"
				}
			}
		case !f.Send && f.Kind.String() == "date":
			what = "date"
		}
		says[f.From] = what
	}
	for _, m := range b.Memberships {
		says[m.Column.From] = m.Kind
		if m.Role != "" {
			says[m.Role] = "role"
		}
	}
	return says
}

// How much of exports that nobody has seen a first brief understands: four columns in five, hardly one of them wrongly, and a key
// wherever there is one.
func TestExportsNobodyHasSeen(t *testing.T) {
	languages, all := vocabularies(t)
	from, upto := uint64(1), uint64(300)
	if text := os.Getenv("EXPORT_SEEDS"); text != "" {
		_, err := fmt.Sscanf(text, "%d-%d", &from, &upto)
		require.NoError(t, err)
	}
	right, wrong, offered, columns, keyless, sheets := 0, 0, 0, 0, 0, 0
	missed := map[string]int{}
	for seed := from; seed <= upto; seed++ {
		e := export(seed, languages, all)
		made := write(t, e.text, nil)
		b, _ := brief.Parse("s.yaml", []byte(made), brief.Options{})
		if sheets++; b == nil {
			keyless++
			missed["key: "+strings.SplitN(e.text, "\n", 2)[0]]++
			b, _ = brief.Parse("s.yaml", []byte(strings.Replace(made, "# match: [", "match: [", 1)+"  employeeNumber: {from: none}\n"), brief.Options{})
		}
		says := judged(made, b)
		for heading, want := range e.truth {
			got := says[heading]
			if want == "-" || want == "date" {
				if got != "" && got != "date" && !strings.HasPrefix(got, "offered") {
					wrong++
					t.Logf("seed %d: “%s” is taken for %s", seed, heading, got)
				}
				continue
			}
			columns++
			switch {
			case got == want, strings.HasPrefix(want, "manager") && strings.HasPrefix(got, "manager:") && !strings.Contains(want, ":"):
				right++
			case strings.HasPrefix(got, "offered"):
				offered++
				missed["offered: "+want+": "+heading]++
			case got == "":
				missed[want+": "+heading]++
			default:
				wrong++
				t.Logf("seed %d: “%s” is taken for %s and is %s", seed, heading, got, want)
			}
		}
	}
	if testing.Verbose() {
		for text, n := range missed {
			t.Logf("missed %d %s", n, text)
		}
	}
	t.Logf("%d sheets: %d of %d columns right (%.1f %%), %d wrong, %d offered; %d without a key", sheets, right, columns, 100*float64(right)/float64(columns), wrong, offered, keyless)
	assert.GreaterOrEqual(t, float64(right)/float64(columns), 0.8)
	assert.LessOrEqual(t, float64(wrong)/float64(columns), 0.005)
	assert.LessOrEqual(t, 10*keyless, sheets)
}
