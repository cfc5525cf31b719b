package brief_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/yamldoc"
)

var options = brief.Options{
	IsOwn:   func(_, field string) bool { return strings.HasPrefix(field, "urn:") },
	Today:   "2026-11-23",
	Systems: []string{"crewdesk"},
	Aliases: func(string) []string { return []string{"berth"} },
}

const whole = `brief: Season starters
system: crewdesk
sheet: {heading_row: 3}
dates: day-first
only: col["Status"] == "Confirmed"
match: [employeeNumber, userName]
new: skip
known: fill
fields:
  email: {make: 'userName + "@brindlesound.example"', unique: refuse}
  userName: {make: 'fold(givenName) + "." + fold(familyName)', unique: number}
  givenName: {from: First name, required: true}
  familyName: {from: Surname}
  employeeNumber: {from: Staff no}
  country: {from: Country, fallback: Portugal}
  timezone: {from: Base, via: {Northport: europe/london, 007: UTC}}
  title: {from: Position, clear_when_blank: true}
  berth: {from: Berth}
  urn:example:crew:2.0:User:watch: {from: Watch}
  active: {fallback: "yes"}
  seniority: {from: Years, as: number, send: false}
  startDate: {from: Start, as: date, send: false}
checks:
  - {that: startDate >= today(), say: the start date is in the past, level: warning}
  - {that: seniority < 50.0 && active, say: too senior}
`

func TestParse(t *testing.T) {
	b, err := brief.Parse("season.yaml", []byte(whole), options)
	require.NoError(t, err)
	assert.Equal(t, "Season starters", b.Name)
	assert.Equal(t, 3, b.HeadingRow)
	assert.Equal(t, []string{"employeeNumber", "userName"}, b.Match)
	assert.Equal(t, brief.Skip, b.New)
	assert.Equal(t, brief.Fill, b.Known)
	assert.Less(t, b.Field("givenName"), b.Field("userName"), "a field stands after those it is made from")
	assert.Less(t, b.Field("userName"), b.Field("email"))
	assert.Equal(t, b.Field("userName"), b.Numbered())
	assert.Equal(t, "PT", b.Fields[b.Field("country")].Fallback.Text(), "a fallback is in the standard form")
	assert.Equal(t, "true", b.Fields[b.Field("active")].Fallback.Text())
	zone := b.Fields[b.Field("timezone")]
	assert.Equal(t, map[string]string{"northport": "Europe/London", "007": "UTC"}, zone.Via)
	assert.Equal(t, account.Date, b.Fields[b.Field("startDate")].Kind)
	assert.Equal(t, []string{"Status"}, b.Only[0].Columns)
	assert.Equal(t, account.Warning, b.Checks[0].Level)
	assert.Equal(t, account.Error, b.Checks[1].Level)
}

// Each case is a brief with a mistake, or several, and what is told of it.
func TestMistakes(t *testing.T) {
	const head = "match: [userName]\nfields:\n  userName: {from: Login}\n"
	for name, c := range map[string]struct {
		text string
		want []string
	}{
		"empty":                {"", []string{"b.yaml:1:1: the brief is empty"}},
		"not YAML":             {"fields: [a\nmatch: }", []string{"not valid YAML"}},
		"unknown key":          {head + "mach: [userName]\n", []string{"b.yaml:4:1: unknown key “mach”", "Did you mean “match”?"}},
		"unknown field key":    {"match: [userName]\nfields:\n  userName: {form: Login}\n", []string{"3:14: unknown key “form”", "“from”"}},
		"repeated key":         {head + "new: skip\nnew: skip\n", []string{"5:1", "second time"}},
		"wrong word":           {head + "new: creat\n", []string{"4:6: expected create, skip or refuse here, found “creat”", "Did you mean “create”?"}},
		"wrong type":           {"match: [userName]\nfields:\n  userName: {from: Login, required: perhaps}\n", []string{"3:37: expected true or false here, found “perhaps”"}},
		"list for a text":      {head + "brief: [a]\n", []string{"4:8: expected a text here, found a list"}},
		"text for keys":        {"match: a\nfields: b\n", []string{"2:9: expected keys with values here, found “b”"}},
		"unknown field":        {"match: [userName]\nfields:\n  userName: {from: Login}\n  familyNam: {from: x}\n", []string{"4:3: there is no field “familyNam”", "Did you mean “familyName”?"}},
		"heading as field":     {"match: [userName]\nfields:\n  userName: {from: Login}\n  Surname: {from: x}\n", []string{"Did you mean “familyName”?"}},
		"no source":            {"match: [userName]\nfields:\n  userName: {required: true}\n", []string{"3:3: the field userName has no source"}},
		"no match":             {"fields:\n  userName: {from: Login}\n", []string{"which field finds an account"}},
		"match unknown":        {"match: [email]\nfields:\n  userName: {from: Login}\n", []string{"“match” names email, which is not among the fields"}},
		"match not sent":       {"match: [userName]\nfields:\n  userName: {from: Login, send: false}\n", []string{"which is not sent"}},
		"no fields":            {"match: [userName]\n", []string{"the brief maps no fields"}},
		"circle":               {head + "  title: {make: department}\n  department: {make: division}\n  division: {make: title}\n", []string{"circle: title ← department ← division ← title"}},
		"circle with itself":   {head + "  title: {make: title + \"x\"}\n", []string{"title ← title"}},
		"wrong fallback":       {head + "  country: {from: C, fallback: Atlantis}\n", []string{"4:32: “Atlantis” cannot be a value of country: it is not a country"}},
		"wrong via":            {head + "  timezone: {from: B, via: {Northport: Nowhere}}\n", []string{"4:40: “Nowhere” cannot be a value of timezone"}},
		"clear and fallback":   {head + "  title: {from: T, fallback: x, clear_when_blank: true}\n", []string{"no effect"}},
		"two numbered":         {"match: [userName]\nfields:\n  userName: {from: L, unique: number}\n  title: {from: T, unique: number}\n", []string{"4:3: only one field"}},
		"a key of names":       {"match: [userName]\nfields:\n  employeeNumber: {from: No}\n  givenName: {from: F}\n  familyName: {from: L}\n  displayName: {make: 'givenName + \" \" + familyName'}\n  userName: {make: 'fold(displayName)'}\n", []string{"7:3", "a namesake would be taken for the person"}},
		"number on a date":     {head + "  active: {from: T, unique: number}\n", []string{"cannot put a number behind"}},
		"unknown system":       {head + "system: crewdsk\n", []string{"has no system “crewdsk”", "Did you mean “crewdesk”?"}},
		"check without say":    {head + "checks:\n  - {that: userName != \"\"}\n", []string{"both “that” and “say”"}},
		"alias":                {"match: &m [userName]\nfields:\n  userName: {from: Login}\nonly: *m\n", []string{"anchor or alias"}},
		"assignment":           {head + "only: 'userName = \"x\"'\n", []string{"4:17: in the expression: this cannot be read", "write == (two equals signs)"}},
		"curly quotes":         {head + "only: 'userName == “x”'\n", []string{"use straight ones"}},
		"unknown name":         {head + "  email: {make: 'usrName + \"@x\"'}\n", []string{"4:18: in the expression: there is no field or function “usrName”", "Did you mean “userName”?"}},
		"unknown function":     {head + "  email: {make: 'flod(userName)'}\n", []string{"no field or function “flod”", "Did you mean “fold”?"}},
		"mixed types":          {head + "  email: {make: 'userName + 3'}\n", []string{"+ cannot be used on text and number"}},
		"wrong type of make":   {head + "  email: {make: 'size(userName)'}\n", []string{"gives a number where a text is wanted"}},
		"wrong type of only":   {head + "only: userName\n", []string{"gives a text where yes or no is wanted"}},
		"ends early":           {head + "only: 'userName =='\n", []string{"it ends too early"}},
		"list ends in more":    {"match: [userName]\nfields:\n  userName: {from: L, unique: [number, 'lower(col[\"L\"])']}\n", []string{"3:32: after “number” nothing more is tried"}},
		"list has a mistake":   {"match: [userName]\nfields:\n  userName: {from: L, unique: ['lowr(userName)']}\n", []string{"3:37: in the expression", "Did you mean “lower”?"}},
		"number in a list":     {"match: [userName]\nfields:\n  userName: {from: L}\n  active: {from: A, unique: ['userName == \"\"', number]}\n", []string{"cannot put a number behind"}},
		"two tables":           {"match: [userName]\nfields:\n  userName: {from: L, via: {a: b}, via_sheet: t.csv}\n", []string{"“via” and “via_sheet” cannot both be given"}},
		"no such table":        {"match: [userName]\nfields:\n  userName: {from: L, via_sheet: no.csv}\n", []string{"3:34: no.csv: there is no such file"}},
		"table out of the way": {"match: [userName]\nfields:\n  userName: {from: L, via_sheet: ../../../../../../../../../../etc/passwd}\n", []string{"does not lie beside the brief"}},
		"table that is a pipe": {"match: [userName]\nfields:\n  userName: {from: L, via_sheet: testdata/../testdata}\n", []string{"is not a plain file"}},
		"limit that is none":   {head + "limits: {create: NaN%}\n", []string{"“NaN%” is not a limit"}},
		"phones of nowhere":    {head + "phones: Atlantis\n", []string{"4:9: “Atlantis” is not a country"}},
		"based on nothing":     {head + "based_on: nothing\n", []string{"4:11: there is no brief “nothing”"}},
		"based on a path":      {head + "based_on: ../b\n", []string{"4:11: “../b” is a path"}},
		"based on itself":      {head + "based_on: b\n", []string{"4:11: briefs are based on each other in a circle"}},
		"list where a text":    {head + "  title: {make: 'words(userName)'}\n", []string{"gives a list where a text is wanted"}},
		"text where a list":    {head + "  title: {from: T, as: list, make: userName}\n", []string{"gives a text where a list of texts is wanted"}},
		"tab twice":            {head + "sheet: {tab: a, tabb: b}\n", []string{"4:17: unknown key “tabb”"}},
		"groups from nowhere":  {head + "groups: {mode: add}\n", []string{"4:9: the groups have no source"}},
		"wrong mode":           {head + "groups: {from: G, mode: exac}\n", []string{"expected add, exact or remove here", "Did you mean “exact”?"}},
		"within without exact": {head + "groups: {from: G, within: 'x*'}\n", []string{"“within” says what “mode: exact” may take away"}},
		"clear without exact":  {head + "groups: {from: G, clear_when_blank: true}\n", []string{"“clear_when_blank” can have no effect"}},
		"one star":             {head + "courses: {from: 'Training *', role: Role}\n", []string{"cannot be paired"}},
		"a rule without when":  {head + "rules: [{groups: [a]}]\n", []string{"a rule needs “when”"}},
		"a rule for nothing":   {head + "rules: [{when: 'true'}]\n", []string{"what it gives"}},
		"a rule misspelt":      {head + "rules: [{when: 'usrName == \"x\"', groups: [a]}]\n", []string{"Did you mean “userName”?"}},
		"an unknown kind":      {head + "rules: [{when: 'true', teams: [a]}]\n", []string{"unknown key “teams”"}},
		"intent's words":       {head + "intent: {from: What, via: {Gone: suspnd}}\n", []string{"4:34: expected create, update, suspend, resume, remove or aside", "Did you mean “suspend”?"}},
		"gone unguarded":       {head + "gone: suspend\n", []string{"needs both “scope” and a limit"}},
		"a scope misspelt":     {head + "gone: suspend\nscope: departmnt == \"x\"\nlimits: {suspend: 5%}\n", []string{"5:8: in the expression: there is no field or function “departmnt”"}},
		"no limit":             {head + "limits: {suspend: few}\n", []string{"4:19: “few” is not a limit"}},
		"beyond all":           {head + "limits: {suspend: 120%}\n", []string{"is not a limit"}},
		"given from nowhere":   {head + "password: {new: given}\n", []string{"the given passwords have no column"}},
		"few letters":          {head + "password: {new: generate, alphabet: aabbcc}\n", []string{"can be guessed"}},
		"a short password":     {head + "password: {new: generate, length: 4}\n", []string{"from 8 to 128"}},
		"parts of nothing":     {head + "  emails: {parts: {type: =work}}\n", []string{"the parts of emails have no column"}},
		"parts and from":       {head + "  emails: {parts: {value: Mail}, from: Mail}\n", []string{"takes no “from”"}},
		"mode of one value":    {head + "  title: {from: T, mode: add}\n", []string{"“mode” is for a field with several values"}},
		"leave what":           {head + "suspend: {leave: {teams: x}}\n", []string{"unknown key “teams”"}},
		"second document":      {head + "---\nx: 1\n", []string{"a second YAML document"}},
		"nesting":              {strings.Repeat("[", 40000), []string{"nested more than 32 deep"}},
		"size":                 {"# " + strings.Repeat("x", 2<<20), []string{"larger than 1024 KiB"}},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := brief.Parse("b.yaml", []byte(c.text), options)
			var problems yamldoc.Problems
			require.ErrorAs(t, err, &problems)
			for _, want := range c.want {
				assert.Contains(t, err.Error(), want)
			}
		})
	}
	_, err := brief.Parse("b.yaml", []byte(strings.NewReplacer("new: skip", "new: skp", "fold(given", "flod(given", "required: true", "required: 1").Replace(whole)), options)
	var problems yamldoc.Problems
	require.ErrorAs(t, err, &problems)
	assert.Len(t, problems, 3, "all mistakes are told at once: %v", err)
}

// base is a sheet with one column.
type base struct{}

func (base) Column(heading string) (int, bool) { return 0, strings.EqualFold(heading, "Base") }
func (base) Cell(int) string                   { return "Northport" }

func TestExpressions(t *testing.T) {
	for source, want := range map[string]string{
		`fold(givenName) + "." + fold(familyName)`:      "zoe.vanderberg",
		`upper(familyName) + lower(givenName)`:          "VAN DER BERGzoë",
		`first(givenName, 1) + last(familyName, 2)`:     "Zrg",
		`initials(givenName + " " + familyName)`:        "ZVDB",
		`title("o'neill") + title("McKay")`:             "O'NeillMcKay",
		`before("a@b", "@") + after("a@b", "@")`:        "ab",
		`before("none", "@")`:                           "none",
		`pad(digits("no. 42"), 5)`:                      "00042",
		`replace("a-b-c", "-", "")`:                     "abc",
		`words(familyName)[0] + trim("  x ")`:           "vanx",
		`days(today(), -3)`:                             "2026-11-20",
		`active ? "on" : "off"`:                         "on",
		`seniority > 3.5 ? col["Base"] : ""`:            "Northport",
		`col["base"] + string(size(words(familyName)))`: "Northport3",
		`givenName.matches("^Z") ? "z" : "-"`:           "z",
		`days("soon", 1)`:                               "!“soon” is not a date",
		`col["Bse"]`:                                    "!the sheet has no column “Bse”",
		`words(givenName)[7]`:                           "!index out of bounds",
		`replace(pad("", 60000), "0", "0000000000")`:    "!longer than",
		`pad("", 60000) + pad("", 60000)`:               "!longer than",
		// Thirty times twice as much, and lists gone through within each other.
		`["x"]` + strings.Repeat(`.map(t, t + t)`, 30) + `[0]`: "!takes more work than a row may",
		`words(replace(pad("", 300), "0", "a ")).all(a, words(familyName).all(b, words(replace(pad("", 3000), "0", "a ")).all(c, words(replace(pad("", 3000), "0", "a ")).all(d, a == d)))) ? "y" : "n"`: "!takes more work than a row may",
		`["a", "b"].exists(t, t == "b") ? "y" : "n"`: "y",
	} {
		text := "match: [userName]\nfields:\n  userName: {from: x}\n  givenName: {from: x}\n  familyName: {from: x}\n  active: {from: x}\n  seniority: {from: x, as: number, send: false}\n  title:\n    make: |-\n      " + source + "\n"
		b, err := brief.Parse("b.yaml", []byte(text), options)
		require.NoError(t, err, source)
		scope := b.NewScope(base{})
		for name, value := range map[string]string{"givenName": "Zoë", "familyName": "van der Berg", "active": "true", "seniority": "4"} {
			scope.Set(b.Field(name), value)
		}
		got, err := b.Fields[b.Field("title")].Make.Text(scope)
		if want[0] == '!' {
			assert.ErrorContains(t, err, want[1:], source)
			continue
		}
		require.NoError(t, err, source)
		assert.Equal(t, want, got, source)
	}
}

// What a brief does not say it takes from the one it is based on, key by key and
// field by field; mistakes are told where they stand.
func TestFamily(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("root.yaml", "phones: Portugal\nnew: skip\nmatch: [userName]\nsheet: {tab: A, heading_row: 2}\nfields:\n  userName: {from: Login}\n  title: {from: Position}\nchecks:\n  - {that: 'title != \"x\"', say: first}\n")
	write("middle.yaml", "based_on: root\nknown: fill\nsheet: {tab: B}\nfields:\n  title: {from: Rank}\n  department: {from: Team, via_sheet: teams.csv}\n")
	write("teams.csv", "Written,Value\nd,Deck\nE,Engine\n")
	write("leaf.yaml", "based_on: middle\nbrief: The leaf\nnew: create\nfields:\n  nickName: {make: lower(title)}\nchecks:\n  - {that: 'title != \"y\"', say: second}\n")
	b, err := brief.Load(filepath.Join(dir, "leaf.yaml"), options)
	require.NoError(t, err)
	assert.Equal(t, "The leaf", b.Name)
	assert.Equal(t, []string{"middle", "root"}, b.BasedOn)
	assert.Equal(t, []any{brief.Create, brief.Fill, "PT", "B", 2}, []any{b.New, b.Known, b.Phones, b.Tab, b.HeadingRow})
	var fields []string
	for _, f := range b.Fields {
		fields = append(fields, f.Name+" from "+f.From)
	}
	assert.Equal(t, []string{"userName from Login", "title from Rank", "department from Team", "nickName from "}, fields)
	assert.Equal(t, map[string]string{"d": "Deck", "e": "Engine"}, b.Fields[2].Via)
	assert.Equal(t, []string{"first", "second"}, []string{b.Checks[0].Say, b.Checks[1].Say})

	write("middle.yaml", "based_on: root\nfields:\n  titel: {from: Rank}\n")
	_, err = brief.Load(filepath.Join(dir, "leaf.yaml"), options)
	assert.ErrorContains(t, err, "middle.yaml:3:3: there is no field “titel”")
	write("middle.yaml", "based_on: leaf\n")
	_, err = brief.Load(filepath.Join(dir, "leaf.yaml"), options)
	assert.ErrorContains(t, err, "in a circle")
	for text, says := range map[string]string{"Written\nd\n": "fewer than two columns", "Written,Value\nd,Deck\nD,Dock\n": "row 3 says that “D” stands for “Dock”", "Written,Value\nd\n": "row 2 has no second cell"} {
		write("teams.csv", text)
		write("middle.yaml", "based_on: root\nfields:\n  department: {from: Team, via_sheet: teams.csv}\n")
		_, err = brief.Load(filepath.Join(dir, "middle.yaml"), options)
		assert.ErrorContains(t, err, says)
	}
}

// A condition given beside the brief counts with the brief's own.
func TestAlso(t *testing.T) {
	with := options
	with.Only = `givenName != ""`
	b, err := brief.Parse("season.yaml", []byte(whole), with)
	require.NoError(t, err)
	require.Len(t, b.Only, 2)
	assert.Equal(t, []int{b.Field("givenName")}, b.Only[1].Uses)
	with.Only = `givenNam != ""`
	_, err = brief.Parse("season.yaml", []byte(whole), with)
	assert.ErrorContains(t, err, "--only:1:1: in the expression: there is no field or function “givenNam”")
	b, err = brief.Suggest([]string{"Login", "Berth", "urn:x:y", "Rank"}, "crewdesk", brief.Options{IsOwn: options.IsOwn, Only: `title == "Pilot"`, Aliases: options.Aliases, Kinds: map[string]account.Kind{"berth": account.Number}})
	require.NoError(t, err)
	assert.Len(t, b.Only, 1)
	assert.Equal(t, account.Number, b.Fields[b.Field("berth")].Kind, "a system's own fields are known by their headings")
	assert.GreaterOrEqual(t, b.Field("urn:x:y"), 0)
}

func TestSuggest(t *testing.T) {
	b, err := brief.Suggest([]string{"E-mail", "Staff no", "Vorname", "Shoe size", "Even Ledger row"}, "crewdesk", brief.Options{Today: "2026-11-23"})
	require.NoError(t, err)
	assert.Equal(t, []string{"employeeNumber", "email"}, b.Match)
	assert.Len(t, b.Fields, 3)
	_, err = brief.Suggest([]string{"Shoe size", "Vorname"}, "crewdesk", brief.Options{Today: "2026-11-23"})
	assert.ErrorContains(t, err, "finds an account")
}

// The schema knows the keys that the loader knows, and the shipped one is this.
func TestSchema(t *testing.T) {
	data, err := brief.Schema()
	require.NoError(t, err)
	var schema struct {
		Properties map[string]any
		Defs       map[string]struct{ Properties map[string]any } `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(data, &schema))
	for _, key := range []string{"brief", "system", "sheet", "dates", "only", "match", "new", "known", "fields", "checks"} {
		assert.Contains(t, schema.Properties, key)
	}
	for _, key := range []string{"from", "make", "fallback", "via", "as", "required", "clear_when_blank", "unique", "send"} {
		assert.Contains(t, schema.Defs["field"].Properties, key)
	}
	shipped, err := os.ReadFile(filepath.Join("..", "..", "docs", "brief.schema.json"))
	require.NoError(t, err)
	assert.Equal(t, string(shipped), string(data)+"\n", "make it anew: evenledger brief schema > docs/brief.schema.json")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(whole))
	f.Add([]byte("match: userName\nfields: {userName: {make: '1 +'}}"))
	f.Add([]byte("fields: &a [*a, {<<: 1}]\n? x\n: !!binary y"))
	f.Fuzz(func(t *testing.T, data []byte) {
		b, err := brief.Parse("b.yaml", data, options)
		if err != nil {
			var problems yamldoc.Problems
			require.ErrorAs(t, err, &problems)
			for _, p := range problems {
				require.Positive(t, p.Line)
				require.Positive(t, p.Column)
			}
			return
		}
		require.NotEmpty(t, b.Match)
		require.NotEmpty(t, b.Fields)
	})
}

// What a brief says of memberships, intents and guards is as it stands there.
func TestMemberships(t *testing.T) {
	b, err := brief.Parse("b.yaml", []byte(`match: [userName]
new: refuse
fields:
  userName: {from: Login}
  emails: {parts: {type: "Kind *", value: "Mail *"}, mode: add}
  manager: {from: Boss}
groups: [{from: G, split: ";", mode: exact, within: [a*, b*]}, {from: Out, mode: remove}]
licences: {fallback: charts}
rules:
  - {when: 'userName == "x"', groups: [ab], roles: boss}
intent: {from: What, via: {Gone: suspend}}
suspend: {set: {title: gone}, leave: {groups: "a*"}}
gone: suspend
scope: active
limits: {suspend: 2.5%, create: 7}
protect: root
password: {new: generate, words: 4}
`), brief.Options{})
	require.NoError(t, err)
	require.Len(t, b.Memberships, 4)
	assert.Equal(t, []string{"a*", "b*"}, b.Memberships[0].Within)
	assert.Equal(t, []brief.Mode{brief.Exact, brief.Drop, brief.Add, brief.Add}, []brief.Mode{b.Memberships[0].Mode, b.Memberships[1].Mode, b.Memberships[2].Mode, b.Memberships[3].Mode})
	assert.Equal(t, map[int][]string{0: {"ab"}, 3: {"boss"}}, b.Rules[0].Names, "what a rule gives follows the columns' mode")
	assert.Equal(t, "emails{type,value}", b.Fields[1].Name)
	assert.Equal(t, "userName", b.Fields[2].Refers)
	assert.Equal(t, b.Field("intent"), b.Intent())
	assert.Equal(t, []int{5, 7}, []int{b.Limits[account.Suspend].Allows(200), b.Limits[account.Create].Allows(200)})
	assert.Equal(t, brief.Suspend, b.Gone)
	assert.Equal(t, []any{[]string{"root"}, "generate", 4}, []any{b.Protect, b.Password.New, b.Password.Words})
	assert.False(t, b.OnlyMemberships(), "it changes the manager as well")

	compared := *b
	compared.Compare()
	assert.Equal(t, []any{brief.Create, brief.Suspend, ""}, []any{compared.New, compared.Gone, compared.Password.New})
	assert.Empty(t, compared.Limits)
	require.NoError(t, b.Touch([]string{"manager", "groups"}))
	assert.True(t, b.Fields[0].KeyOnly)
	assert.False(t, b.Fields[1].Send)
	assert.Equal(t, []bool{false, false, true, true}, []bool{b.Memberships[0].Untouched, b.Memberships[1].Untouched, b.Memberships[2].Untouched, b.Memberships[3].Untouched})
	assert.ErrorContains(t, b.Touch([]string{"colour"}), "nothing in the sheet or brief gives “colour”")

	for heading, want := range map[string][]any{"Groups": {brief.Add, brief.Refuse}, "COURSE": {brief.Add, brief.Refuse}, "All licences": {brief.Exact, brief.Create}} {
		s, err := brief.Suggest([]string{"Login", heading}, "", brief.Options{})
		require.NoError(t, err)
		require.Len(t, s.Memberships, 1, heading)
		assert.Equal(t, want, []any{s.Memberships[0].Mode, s.New}, heading)
		assert.Equal(t, want[0] == brief.Add, s.OnlyMemberships())
	}
}

// A share is what it says, whatever a machine makes of a fraction.
func TestLimits(t *testing.T) {
	for text, c := range map[string]struct{ of, allows int }{"29%": {100, 29}, "2.3%": {1000, 23}, "0.7%": {1000, 7}, "100%": {7, 7}, "33%": {10, 3}, "0%": {1000, 0}, "12": {1, 12}} {
		b, err := brief.Parse("b.yaml", []byte("match: [userName]\nfields: {userName: {from: L}}\nlimits: {create: "+text+"}\n"), options)
		require.NoError(t, err)
		assert.Equal(t, c.allows, b.Limits[account.Create].Allows(c.of), text)
	}
}

const several = `system: both
match: [employeeNumber, userName, {like: [givenName, familyName]}]
fields:
  employeeNumber: {from: No}
  userName: {from: Login}
  givenName: {from: First}
  familyName: {from: Last}
  email: {from: Mail}
groups: {from: Groups}
reown: {in: [/home, /srv], other_devices: true}
for:
  crewdesk:
    new: refuse
    fields: {email: {make: 'userName + "@x.example"'}}
  quay: {reown: [/home], retire: true}
`

// What a brief says for one system counts for it, and what that does not have is left.
func TestForOneSystem(t *testing.T) {
	of := options
	of.Systems, of.For = []string{"crewdesk", "quay", "both"}, "crewdesk"
	b, err := brief.Parse("crew.yaml", []byte(several), of)
	require.NoError(t, err)
	assert.Equal(t, []string{"crewdesk", "refuse"}, []string{b.System, string(b.New)})
	assert.NotNil(t, b.Fields[b.Field("email")].Make)
	assert.Equal(t, &brief.Reown{Folders: []string{"/home", "/srv"}, Across: true}, b.Reown)
	assert.Equal(t, []string{"givenName", "familyName"}, b.Like)

	of.For = "quay"
	b, err = brief.Parse("crew.yaml", []byte(several), of)
	require.NoError(t, err)
	assert.Equal(t, &brief.Reown{Folders: []string{"/home"}}, b.Reown)
	assert.Equal(t, brief.Refuse, b.New, "who is not there cannot be retired")
	schema := &account.Schema{Attributes: []account.Attribute{{Field: "userName"}, {Field: "gecos"}, {Field: account.Local}}, Composed: []account.Composed{{Field: "gecos", Of: [][]string{{"displayName"}, {"givenName", "familyName"}}}}}
	for range 2 { // once more does nothing
		b.Fit(schema)
	}
	assert.Equal(t, "gecos", b.Fields[len(b.Fields)-1].Name)
	assert.False(t, b.Fields[b.Field("givenName")].Send, "it is put together of those, which are not sent")
	left, err := b.Leave(schema, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"employeeNumber", "email", "groups"}, left)
	assert.Equal(t, []string{"userName"}, b.Match)
	_, err = b.Leave(&account.Schema{}, nil)
	assert.ErrorContains(t, err, "none of the fields that find an account")

	path := filepath.Join(t.TempDir(), "crew.yaml")
	require.NoError(t, os.WriteFile(path, []byte(several), 0o600))
	named, err := brief.SystemNamed(path)
	require.NoError(t, err)
	assert.Equal(t, "both", named)

	for text, want := range map[string]string{
		"for: {quey: {new: skip}}": "evenledger.yaml has no system “quey”",
		"for: {quay: {system: x}}": "unknown key “system”",
		"reown: [home]":            "“home” is no full path of a folder",
		"reown: [/home/../etc]":    "is no full path of a folder",
		"reown: []":                "“reown” names no folder",
		"sheet: {columns: []}":     "no column is named",
	} {
		_, err := brief.Parse("crew.yaml", []byte("system: both\nmatch: [userName]\nfields:\n  userName: {from: Login}\n"+text+"\n"), of)
		assert.ErrorContains(t, err, want, text)
	}
	for field, want := range map[string]string{"{from: x, renumber: true}": "“renumber” gives numbers of a range"} {
		_, err := brief.Parse("crew.yaml", []byte("system: both\nmatch: [userName]\nfields:\n  userName: {from: Login}\n  uidNumber: "+field+"\n"), of)
		assert.ErrorContains(t, err, want)
	}
}
