package compose_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"evenledger/internal/account"
	"evenledger/internal/brief"
	"evenledger/internal/compose"
	"evenledger/internal/profile"
	"evenledger/internal/sheet"
)

func write(t require.TestingT, text string, schema *account.Schema) string {
	s, err := sheet.Read("s.csv", strings.NewReader(text), sheet.Options{HeadingRow: 1})
	require.NoError(t, err)
	p, err := profile.Of(s.Info(), s.Rows(), nil)
	require.NoError(t, err)
	source := compose.Source{Name: "s", System: "crewdesk", Info: s.Info(), Profile: p, Schema: schema, Today: "2026-11-23"}
	return source.Brief()
}

func TestBrief(t *testing.T) {
	schema := &account.Schema{Attributes: []account.Attribute{{Field: "userName", Required: true}, {Field: "givenName"}, {Field: "familyName"}, {Field: "email"}, {Field: "employeeNumber"}, {Field: "phone"}, {Field: "watch", Required: true, Allowed: []string{"Day", "Night"}}}}
	for name, c := range map[string]struct {
		sheet  string
		schema *account.Schema
		has    []string
	}{
		"a made sign-in name": {"Staff no,First name,Surname,Status\n1,Ana,Reyes,ok\n2,Tom,Kaya,no\n3,Mei,Lin,ok\n4,Bo,Lie,no\n", schema, []string{
			"match: [employeeNumber]\n", "employeeNumber: {from: Staff no, required: true, unique: refuse}", `userName: {make: 'fold(givenName) + "." + fold(familyName)', unique: number}`,
			`# only: col["Status"] == "ok"`, "#   Status: text, 4 filled, 2 different", "#   watch: {from: …}   one of Day, Night"}},
		"a name now and then":     {"Staff no,First name,Surname\n1,Ana,\n2,Tom,Kaya\n3,,Lin\n", schema, []string{"givenName: {from: First name, required: true}", "familyName: {from: Surname, required: true}"}},
		"an address as key":       {"Mail,Full name\na@x.example,Ana\n", nil, []string{"match: [email]", `userName: {make: 'before(email, "@")'`}},
		"what isn't taken":        {"Login,Department\nana,Deck\n", schema, []string{"#   Department: would be department, which the system does not take"}},
		"headings out of the way": {"Login,\"Title: {a}, b\",yes\nana,Pilot,x\n", nil, []string{"match: [userName]", `#   yes: text, 1 filled, 1 different`}},
		"dates and phones":        {"Login,Start date,Phone\nana,14/3/2027,07700 900123\n", schema, []string{"dates: day-first", "# phones: GB", "startDate: {from: Start date, as: date, send: false}"}},
		"memberships twice":       {"Staff no,Licences,Licence 1\n1,charts,tides\n2,,tides\n", nil, []string{`licences: [{from: Licences}, {from: "Licence *"}]`}},
		"memberships and managers": {"Staff no,Reports to,Groups,Role,Licence 1,Licence 2\n1,2,Deck; Pilots,Bosun,charts,tides\n2,,Deck,Cook,charts,\n", nil, []string{
			"manager: {from: Reports to, refers: employeeNumber}", `groups: {from: Groups, split: ";"}`, `licences: {from: "Licence *"}`, "# title: {from: Role}"}},
		"a name and a comma": {"Staff no,Full name\n1,\"Reyes, Ana\"\n2,\"Kaya, Tom\"\n", nil, []string{`familyName: {make: 'before(col["Full name"], ",")'}`, `givenName: {make: 'after(col["Full name"], ",")'}`, `userName: {make: 'fold(givenName)`}},
		"forms of address":   {"Staff no,Title\n1,Mr\n2,Mrs\n", nil, []string{"  honorificPrefix: {from: Title}"}},
		"nearly a heading":   {"Staff no,Positon\n1,Mate\n2,Cook\n", nil, []string{"# title: {from: Positon}"}},
		"two surnames":       {"Staff no,Primer apellido,Segundo apellido\n1,Gil,Paz\n", nil, []string{`familyName: {make: 'col["Primer apellido"] + " " + col["Segundo apellido"]'}`}},
		"passwords":          {"Login,Password\nana,Secr3t!x\n", nil, []string{"#   Password: looks like passwords"}},
	} {
		t.Run(name, func(t *testing.T) {
			text := write(t, c.sheet, c.schema)
			for _, want := range c.has {
				assert.Contains(t, text, want)
			}
			assert.NotContains(t, text, "Secr3t")
			_, err := brief.Parse("s.yaml", []byte(text), brief.Options{})
			assert.NoError(t, err, text)
		})
	}
}

// Without a sure key there is no “match”, and the brief says what is missing: neither
// a name that is made nor one that people share finds an account.
func TestNoSureKey(t *testing.T) {
	for text, why := range map[string]string{
		"First name,Surname\nAna,Reyes\n": "no column is a sure key", "Colour,Size\nred,7\n": "no column is a sure key",
		"Email,Surname\ndesk@x.example,Reyes\ndesk@x.example,Kaya\n": "“Email” has values that stand in several rows", "Login,Surname\nana,Reyes\n,Kaya\n": "“Login” is blank in 1 of 2 rows",
	} {
		made := write(t, text, nil)
		assert.NotContains(t, made, "\nmatch: ")
		assert.Contains(t, made, why)
		_, err := brief.Parse("s.yaml", []byte(made), brief.Options{})
		assert.Error(t, err, "it is to be completed")
	}
}

// The headings of usual HR exports: each column becomes the field it is, and what is not
// sure is none.
func TestExportsOfManyCountries(t *testing.T) {
	sheets := map[string]map[string]string{
		"German":         {"Personalnummer": "employeeNumber", "Anrede": "honorificPrefix", "Vorname": "givenName", "Nachname": "familyName", "E-Mail dienstlich": "email", "Telefon": "phone", "Mobil": "mobile", "Abteilung": "department", "Funktion": "title", "Vorgesetzter": "manager", "Kostenstelle": "costCenter", "Eintrittsdatum": "", "Standort": "?", "Land": "country", "Konto aktiv": "active"},
		"German, short":  {"Pers.-Nr.": "employeeNumber", "Rufname": "nickName", "Zuname": "familyName", "Mailadresse": "email", "Stellenbezeichnung": "title", "Führungskraft": "manager", "PLZ": "postalCode", "Wohnort": "locality", "Straße und Hausnummer": "streetAddress", "Bundesland": "region"},
		"French":         {"N° employé": "employeeNumber", "Civilité": "honorificPrefix", "Prénom": "givenName", "Nom": "familyName", "Courriel": "email", "Téléphone": "phone", "Portable": "mobile", "Service": "?", "Poste": "title", "Responsable hiérarchique": "manager", "Type de contrat": "userType", "Pays": "country", "Code postal": "postalCode", "Date d'entrée": ""},
		"French, more":   {"Matricule": "employeeNumber", "Nom d'usage": "familyName", "Prénom(s)": "givenName", "Adresse e-mail": "email", "Fonction": "title", "Centre de coûts": "costCenter", "Société": "organization", "Ville": "locality", "Langue": "preferredLanguage", "Compte actif": "active"},
		"Spanish":        {"Nº de empleado": "employeeNumber", "Nombre": "givenName", "Apellidos": "familyName", "Correo electrónico": "email", "Teléfono": "phone", "Móvil": "mobile", "Departamento": "department", "Puesto": "title", "Jefe directo": "manager", "Centro de coste": "costCenter", "País": "country", "Localidad": "locality", "Fecha de alta": ""},
		"Portuguese":     {"N.º de funcionário": "employeeNumber", "Nome próprio": "givenName", "Sobrenome": "familyName", "E-mail profissional": "email", "Telemóvel": "mobile", "Cargo": "title", "Gestor direto": "manager", "Empresa": "organization", "Cidade": "locality", "Código postal": "postalCode", "Idioma": "preferredLanguage"},
		"Brazilian":      {"Matrícula": "employeeNumber", "Nome": "givenName", "Sobrenome": "familyName", "Usuário": "userName", "E-mail corporativo": "email", "Celular": "mobile", "Função": "title", "Gestor": "manager", "Centro de custo": "costCenter", "CEP": "postalCode", "Conta ativa": "active"},
		"Polish":         {"Numer ewidencyjny": "employeeNumber", "Imię": "givenName", "Nazwisko": "familyName", "Adres e-mail": "email", "Telefon służbowy": "phone", "Dział": "department", "Stanowisko": "title", "Przełożony": "manager", "Rodzaj umowy": "userType", "Kraj": "country", "Miasto": "locality", "Kod pocztowy": "postalCode", "Język": "preferredLanguage"},
		"Dutch":          {"Personeelsnummer": "employeeNumber", "Roepnaam": "nickName", "Voornaam": "givenName", "Tussenvoegsel": "middleName", "Achternaam": "familyName", "Zakelijk e-mailadres": "email", "Mobiel": "mobile", "Afdeling": "department", "Functie": "title", "Leidinggevende": "manager", "Kostenplaats": "costCenter", "Woonplaats": "locality", "Mag inloggen": "active"},
		"English, legal": {"Employee ID": "employeeNumber", "Legal First Name": "givenName", "Legal Last Name": "familyName", "Preferred name": "nickName", "Work Email": "email", "Job Role": "title", "Department": "department", "Line Manager": "manager", "Cost Centre": "costCenter", "Contract type": "userType", "Sign-in allowed": "active", "Location": "?", "Hire Date": ""},
		"English, plain": {"Staff no": "employeeNumber", "Full name": "formattedName", "Username": "userName", "E-mail": "email", "Mobile phone": "mobile", "Team": "department", "Position": "title", "Reports to": "manager", "Role": "?", "Time zone": "timezone", "Country": "country", "Postcode": "postalCode"},
		"American":       {"Emp #": "?", "Associate ID": "employeeNumber", "Given names": "givenName", "Last name": "familyName", "Business email": "email", "Office phone": "phone", "Occupation": "title", "Supervisor": "manager", "Legal entity": "organization", "State": "region", "ZIP code": "postalCode", "Account active": "active"},
	}
	right, columns := 0, 0
	for name, headings := range sheets {
		var row strings.Builder
		var line []string
		for heading := range headings {
			line = append(line, heading)
			row.WriteString("x,")
		}
		made := write(t, strings.Join(line, ",")+"\n"+strings.TrimSuffix(row.String(), ",")+"\n", nil)
		for heading, want := range headings {
			columns++
			got, quoted := "", heading
			for line := range strings.Lines(made) {
				if field, rest, is := strings.Cut(strings.TrimSpace(line), ": {from: "); is && (strings.HasPrefix(rest, quoted+",") || strings.HasPrefix(rest, quoted+"}") || strings.HasPrefix(rest, `"`+quoted+`"`)) {
					got = field
				}
			}
			switch sure := strings.TrimPrefix(got, "# "); {
			case got == want, want == "?" && got != sure, want == "?" && got == "":
				right++
			case got != "" && got == sure:
				t.Errorf("%s: “%s” is taken for %s and is %s", name, heading, got, want)
			default:
				t.Logf("%s: “%s” is %s and was not seen (%s)", name, heading, want, got)
			}
		}
	}
	assert.Greater(t, 10*right, 9*columns, "%d of %d columns are right", right, columns)
}

// Whatever the headings are, the brief loads as long as one column is a key.
func TestBriefLoads(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		heading := rapid.OneOf(rapid.StringMatching(`[A-Za-z:#{}\[\],'"&*!|>%@ é\\-]{1,12}`), rapid.SampledFrom([]string{"Start", "true", "null", "~", "in", "First name", "Even Ledger reasons", "Team", "Group", "Licence 1", "Licences", "Manager"}))
		value := rapid.SampledFrom([]string{"", "x", "14/3/2027", "=1", "a: b", "\u2028", "Ana"})
		var text strings.Builder
		text.WriteString("Login\t" + heading.Draw(t, "a") + "\t" + heading.Draw(t, "b") + "\n")
		for range 3 {
			text.WriteString(rapid.StringMatching(`[a-z]{3,9}`).Draw(t, "login") + "\t" + value.Draw(t, "c") + "\t" + value.Draw(t, "d") + "\n")
		}
		if strings.Contains(text.String(), `"`) {
			return // what a quote means there is the sheet's matter
		}
		made := write(t, text.String(), nil)
		if !strings.Contains(made, "\nmatch: ") {
			return // two rows have the same login
		}
		_, err := brief.Parse("s.yaml", []byte(made), brief.Options{})
		require.NoError(t, err, made)
	})
}
