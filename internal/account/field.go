// Package account holds the words every other room shares: an account and its
// fields, what a row comes to, the changes made, and the findings told on the
// way. It promises plain values without behaviour of their own beyond comparing
// and printing, and imports nothing of the program but words.
package account

import (
	"slices"
	"strconv"
	"strings"

	"golang.org/x/text/unicode/norm"

	"evenledger/internal/words"
)

// A Kind is the kind of value a field holds; it decides how a cell is read and
// how two values are compared.
type Kind uint8

// The kinds of value, with what they are written as once they are read.
const (
	Text     Kind = iota // any text, trimmed
	Login                // a sign-in name: no white space, no control characters
	Email                // an address of RFC 5321, without display name
	Phone                // digits with an optional plus sign
	Date                 // year-month-day of RFC 3339
	YesNo                // true or false
	Country              // ISO 3166-1 alpha-2, upper case
	Language             // BCP 47 tag
	Locale               // BCP 47 tag, with a region where one was written
	Timezone             // name in the IANA time zone database
	Number               // decimal number with a point
	List                 // several texts, each on a line of its own
	Person               // another account, by the system's identifier
	Place                // where in a tree: names with slashes between; “/” is the top
)

var kindNames = [...]string{"text", "login", "email", "phone", "date", "yesno", "country", "language", "locale", "timezone", "number", "list", "person", "place"}

func (k Kind) String() string { return kindNames[k] }

// InWords says what a value of the kind is.
func (k Kind) InWords() string {
	return [...]string{"text", "sign-in name", "email address", "telephone number", "date", "yes or no", "country", "language", "language and region", "time zone", "number", "several texts", "another account", "place in a tree"}[k]
}

// MarshalText writes the kind as a brief does.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// Example is a value of the kind as a person would write it; of a text there is
// none.
func (k Kind) Example() string {
	return [...]string{"", "ana.reyes", "ana.reyes@brindlesound.example", "+44 7700 900102", "2027-03-04", "yes", "Portugal", "Portuguese", "pt-PT", "Europe/Lisbon", "7", "deck; pilots", "ana.reyes", "Deck/Crew A"}[k]
}

// KindNames lists the kinds as a brief writes them, in order.
func KindNames() []string { return kindNames[:] }

// ParseKind returns the kind of that name.
func ParseKind(name string) (Kind, bool) {
	for i, known := range kindNames {
		if known == name {
			return Kind(i), true
		}
	}
	return Text, false
}

// A Field is one thing an account has, under the name briefs use for it.
type Field struct {
	Name     string   // leaf name of the SCIM attribute, such as familyName
	Label    string   // in words, such as "family name"
	Kind     Kind     // kind of value
	SCIM     string   // path of RFC 7643, with the schema where it isn't the core user's; empty where there is none
	LDAP     string   // attribute of RFC 4519, 2798 or 2307, empty where there is none
	AnyCase  bool     // capitals make no difference (RFC 7643 "caseExact": false on a key)
	Headings []string // what people write above such a column
	Rule     Rule     // when a system takes two values for one, where that is otherwise than here
}

// Enterprise is the URN of the enterprise user extension (RFC 7643 section 4.3).
const Enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"

// catalogue is read only.
var catalogue = [...]Field{
	{"userName", "user name", Login, "userName", "uid", true, []string{"User name", "Login", "Login name", "Sign-in name", "User", "Username", "Account name", "User ID", "Benutzername", "Identifiant", "Usuario", "Utilizador", "Nome utente", "Gebruikersnaam", "Benutzerkennung", "Anmeldename", "Loginname", "Kennung", "Nom d'utilisateur", "Identifiant de connexion", "Nombre de usuario", "Nome de utilizador", "Usuário", "Nome de usuário", "Nazwa użytkownika", "Nazwa logowania", "Inlognaam", "Network login", "Network ID", "Logon name"}, ""},
	{"givenName", "given name", Text, "name.givenName", "givenName", false, []string{"Given name", "First name", "Forename", "Christian name", "First names", "Vorname", "Prénom", "Nombre", "Nome próprio", "Voornaam", "Imię", "Förnamn", "Fornavn", "Etunimi", "Legal first name", "Given names", "First name(s)", "Vornamen", "Prénoms", "Prénom(s)", "Nombres", "Nombre(s)", "Nombre de pila", "Primeiro nome", "Nome", "Imiona", "Pierwsze imię", "Voornamen"}, ""},
	{"familyName", "family name", Text, "name.familyName", "sn", false, []string{"Family name", "Last name", "Surname", "Second name", "Nachname", "Familienname", "Nom", "Nom de famille", "Apellido", "Apellidos", "Apelido", "Cognome", "Achternaam", "Nazwisko", "Efternamn", "Etternavn", "Sukunimi", "Legal last name", "Legal surname", "Last names", "Surnames", "Zuname", "Nom d'usage", "Primer apellido", "Apellido paterno", "Apellido(s)", "Sobrenome", "Sobrenomes", "Apelidos", "Último nome", "Geslachtsnaam", "Familienaam"}, ""},
	{"middleName", "middle name", Text, "name.middleName", "", false, []string{"Middle name", "Middle names", "Middle initial", "Zweiter Vorname", "Deuxième prénom", "Segundo nombre", "Drugie imię", "Tussenvoegsel"}, ""},
	{"honorificPrefix", "form of address", Text, "name.honorificPrefix", "", false, []string{"Honorific", "Salutation", "Form of address", "Anrede", "Civilité", "Tratamiento", "Tratamento", "Aanhef", "Name prefix", "Zwrot grzecznościowy"}, ""},
	{"formattedName", "full name", Text, "name.formatted", "cn", false, []string{"Full name", "Complete name", "Nom complet", "Nombre completo", "Employee name", "Staff name", "Legal name", "Full legal name", "Name in full", "Vollständiger Name", "Mitarbeitername", "Nom et prénom", "Nom Prénom", "Prénom et nom", "Nombre y apellidos", "Apellidos y nombre", "Nome completo", "Imię i nazwisko", "Nazwisko i imię", "Volledige naam", "Nome e cognome"}, ""},
	{"displayName", "display name", Text, "displayName", "displayName", false, []string{"Display name", "Shown as", "Name shown", "Anzeigename", "Nom affiché", "Nombre para mostrar", "Nome de exibição", "Nome a apresentar", "Nazwa wyświetlana", "Weergavenaam"}, ""},
	{"nickName", "nickname", Text, "nickName", "", false, []string{"Nickname", "Known as", "Preferred name", "Preferred first name", "Goes by", "Rufname", "Roepnaam", "Nom d'usage courant", "Nome social"}, ""},
	{"email", "email address", Email, `emails[type eq "work"].value`, "mail", true, []string{"Email", "E-mail", "Mail", "Email address", "E-mail address", "Work email", "E-Mail-Adresse", "Courriel", "Correo", "Correo electrónico", "Adresse e-mail", "E-Mail dienstlich", "Dienstliche E-Mail", "Geschäftliche E-Mail", "Mailadresse", "E-Mail (dienstlich)", "Adresse électronique", "Adresse mail", "Courriel professionnel", "E-mail professionnel", "Mail professionnel", "Correo corporativo", "Email corporativo", "Correo de empresa", "E-mail profissional", "E-mail corporativo", "Endereço de e-mail", "Adres e-mail", "E-mail służbowy", "Służbowy e-mail", "E-mailadres", "Zakelijk e-mailadres", "E-mail zakelijk", "Business email", "Company email", "Corporate email", "Email (work)", "Work email address"}, ""},
	{"phone", "telephone", Phone, `phoneNumbers[type eq "work"].value`, "telephoneNumber", false, []string{"Phone", "Telephone", "Phone number", "Work phone", "Tel", "Telefon", "Téléphone", "Teléfono", "Telefone", "Telefonnummer", "Telefon dienstlich", "Tél", "N° de téléphone", "Numéro de téléphone", "Téléphone professionnel", "Número de teléfono", "Número de telefone", "Numer telefonu", "Telefon służbowy", "Telefoon", "Telefoonnummer", "Business phone", "Office phone", "Work telephone"}, ""},
	{"mobile", "mobile telephone", Phone, `phoneNumbers[type eq "mobile"].value`, "mobile", false, []string{"Mobile", "Mobile phone", "Cell", "Cell phone", "Handy", "Portable", "Móvil", "Mobil", "Handynummer", "Mobiltelefon", "Mobilnummer", "Téléphone portable", "Téléphone mobile", "Mobile professionnel", "Teléfono móvil", "Celular", "Telemóvel", "Telefon komórkowy", "Komórka", "Mobiel", "Mobiel nummer", "Mobiele telefoon", "Mobile number"}, ""},
	{"title", "job title", Text, "title", "title", false, []string{"Title", "Job title", "Position", "Role title", "Rank", "Funktion", "Fonction", "Cargo", "Puesto", "Job role", "Job", "Occupation", "Position title", "Funktionsbezeichnung", "Stelle", "Stellenbezeichnung", "Berufsbezeichnung", "Tätigkeit", "Poste", "Intitulé du poste", "Emploi", "Puesto de trabajo", "Ocupación", "Função", "Cargo atual", "Stanowisko", "Stanowisko pracy", "Functie", "Functietitel", "Functienaam", "Functieomschrijving", "Mansione", "Qualifica"}, ""},
	{"userType", "kind of employment", Text, "userType", "employeeType", false, []string{"User type", "Employee type", "Employment type", "Contract type", "Type of contract", "Worker type", "Kind of contract", "Beschäftigungsart", "Vertragsart", "Mitarbeitertyp", "Type de contrat", "Contrat", "Tipo de contrato", "Tipo de empleado", "Vínculo", "Rodzaj umowy", "Typ umowy", "Contracttype", "Soort contract", "Dienstverband"}, ""},
	{"department", "department", Text, Enterprise + ":department", "departmentNumber", false, []string{"Department", "Dept", "Team", "Abteilung", "Département", "Departamento", "Afdeling", "Department name", "Abt", "Dpto", "Dział", "Nazwa działu", "Afdelingsnaam", "Reparto"}, ""},
	{"division", "division", Text, Enterprise + ":division", "", false, []string{"Division", "Bereich", "Business unit", "Geschäftsbereich", "Direction", "División", "Divisão", "Divisie", "Pion"}, ""},
	{"costCenter", "cost centre", Text, Enterprise + ":costCenter", "", false, []string{"Cost centre", "Cost center", "Cost code", "Kostenstelle", "Centre de coûts", "Cost center code", "KST", "Centre de coût", "Centro de coste", "Centro de costes", "Centro de costo", "Centro de custo", "Centro de custos", "Centrum kosztów", "MPK", "Kostenplaats"}, ""},
	{"organization", "organisation", Text, Enterprise + ":organization", "o", false, []string{"Organisation", "Organization", "Company", "Employer", "Firma", "Société", "Empresa", "Legal entity", "Gesellschaft", "Unternehmen", "Entreprise", "Établissement", "Sociedad", "Spółka", "Bedrijf", "Werkgever", "Azienda"}, ""},
	{"employeeNumber", "staff number", Text, Enterprise + ":employeeNumber", "employeeNumber", false, []string{"Employee number", "Employee no", "Employee ID", "Staff number", "Staff no", "Staff ID", "Personnel number", "Payroll number", "Personalnummer", "Matricule", "Número de empleado", "Employee #", "Emp ID", "Emp no", "Emp number", "Worker ID", "Associate ID", "Payroll no", "Payroll ID", "Works number", "Personnel no", "Staff #", "Personal-Nr", "Pers-Nr", "Personal Nr", "Mitarbeiternummer", "Mitarbeiter-ID", "Mitarbeiter-Nr", "Matricule salarié", "N° matricule", "N° employé", "N° salarié", "Numéro d'employé", "Número de empleada", "N.º de empleado", "Nº empleado", "Nº de empleado", "N° empleado", "Legajo", "Código de empleado", "Número de funcionário", "N.º de funcionário", "Nº funcionário", "Nº de funcionário", "Número mecanográfico", "Nº mecanográfico", "Matrícula", "Numer pracownika", "Nr pracownika", "Numer ewidencyjny", "Nr ewidencyjny", "Personeelsnummer", "Personeelsnr", "Medewerkernummer", "Werknemersnummer", "Matricola"}, ""},
	{"manager", "manager", Person, Enterprise + ":manager.value", "manager", false, []string{"Manager", "Reports to", "Line manager", "Supervisor", "Vorgesetzter", "Responsable", "Chefe", "Manager name", "Line manager name", "Führungskraft", "Vorgesetzte", "Vorgesetzte/r", "Direkter Vorgesetzter", "Responsable hiérarchique", "Supérieur hiérarchique", "Supérieur", "Jefe", "Jefe directo", "Jefe inmediato", "Responsable directo", "Gestor", "Gestor direto", "Chefia", "Superior hierárquico", "Przełożony", "Bezpośredni przełożony", "Leidinggevende", "Direct leidinggevende"}, ""},
	{"preferredLanguage", "preferred language", Language, "preferredLanguage", "preferredLanguage", false, []string{"Language", "Preferred language", "Sprache", "Langue", "Idioma", "Taal", "Bevorzugte Sprache", "Langue préférée", "Langue de correspondance", "Idioma preferido", "Língua", "Język", "Preferowany język", "Voorkeurstaal", "Lingua"}, ""},
	{"locale", "locale", Locale, "locale", "", false, []string{"Locale", "Regional settings"}, ""},
	{"timezone", "time zone", Timezone, "timezone", "", false, []string{"Time zone", "Timezone", "TZ", "Zeitzone", "Fuseau horaire", "Zona horaria", "Fuso horário", "Strefa czasowa", "Tijdzone", "Fuso orario"}, ""},
	{"country", "country", Country, `addresses[type eq "work"].country`, "c", false, []string{"Country", "Country code", "Land", "Pays", "País", "Paese", "Kraj", "Work country", "Country/Region", "Country of work", "Pays de travail", "País de trabajo", "País de trabalho", "Kraj pracy"}, ""},
	{"locality", "town", Text, `addresses[type eq "work"].locality`, "l", false, []string{"Town", "City", "Locality", "Place", "Ort", "Stadt", "Ville", "Ciudad", "Cidade", "Wohnort", "Commune", "Localidad", "Localidade", "Miasto", "Miejscowość", "Plaats", "Woonplaats", "Stad", "Città"}, ""},
	{"region", "region", Text, `addresses[type eq "work"].region`, "st", false, []string{"Region", "State", "County", "Province", "Bundesland", "Région", "Provincia", "Distrito", "Województwo", "Provincie"}, ""},
	{"streetAddress", "street address", Text, `addresses[type eq "work"].streetAddress`, "street", false, []string{"Street", "Street address", "Address", "Straße", "Rue", "Calle", "Morada", "Strasse", "Straße und Hausnummer", "Adresse", "Adresse postale", "Dirección", "Domicilio", "Endereço", "Rua", "Ulica", "Adres", "Adres zamieszkania", "Straat", "Straat en huisnummer", "Indirizzo", "Home address", "Address line 1"}, ""},
	{"postalCode", "postal code", Text, `addresses[type eq "work"].postalCode`, "postalCode", false, []string{"Postcode", "Postal code", "ZIP", "ZIP code", "PLZ", "Code postal", "Código postal", "Postleitzahl", "CP", "CEP", "Kod pocztowy", "CAP"}, ""},
	{"profileUrl", "web page", Text, "profileUrl", "labeledURI", false, []string{"Profile URL", "Web page", "Website"}, ""},
	{"externalId", "identifier elsewhere", Text, "externalId", "", false, []string{"External ID", "Person ID", "HR ID", "Source ID"}, ""},
	{"unit", "place in the directory", Place, "", "", true, []string{"Directory unit", "Organisational unit", "Organizational unit", "OU"}, AnyCase},
	{"uidNumber", "user's number", Number, "", "uidNumber", false, []string{"UID number", "Uid no", "Unix UID", "POSIX UID", "Numeric user id", "Unix user number"}, ""},
	{"gidNumber", "primary group's number", Number, "", "gidNumber", false, []string{"GID number", "Gid no", "Unix GID", "POSIX GID", "Primary GID", "Numeric group id", "Unix group number"}, ""},
	{"homeDirectory", "home folder", Text, "", "homeDirectory", false, []string{"Home directory", "Home folder", "Home dir", "Unix home", "Heimatverzeichnis", "Répertoire personnel"}, ByLetter},
	{"loginShell", "login shell", Text, "", "loginShell", false, []string{"Login shell", "Unix shell"}, ByLetter},
	{"gecos", "GECOS", Text, "", "gecos", false, []string{"GECOS field"}, ""},
	{"expires", "day from which the account is closed", Date, "", "", false, []string{"Account expires", "Account expiry"}, ""},
	{"active", "may sign in", YesNo, "active", "", false, []string{"Active", "Enabled", "Sign-in", "May sign in", "Account enabled", "Aktiv", "Actif", "Activo", "Sign-in allowed", "Sign in allowed", "Account active", "Login enabled", "Konto aktiv", "Zugang aktiv", "Anmeldung erlaubt", "Compte actif", "Accès autorisé", "Cuenta activa", "Acceso permitido", "Ativo", "Conta ativa", "Acesso permitido", "Aktywny", "Konto aktywne", "Actief", "Account actief", "Mag inloggen"}, ""},
}

// Fields lists the catalogue in its order. The slice must not be changed.
func Fields() []Field { return catalogue[:] }

// ID is the name of the field that is an account's identifier in its system. It finds
// accounts and is never sent; no heading that people write means it.
const ID = "id"

// Local is the field that says whether a host keeps an account in files of its own, and not
// only a directory that it asks.
const Local = "local"

// FieldNamed returns the catalogue's field of that exact name.
func FieldNamed(name string) (Field, bool) {
	if name == ID {
		return Field{Name: ID, Label: "account's id", Kind: Text}, true
	}
	for i := range catalogue {
		if catalogue[i].Name == name {
			return catalogue[i], true
		}
	}
	return Field{}, false
}

// FieldNames lists the names of the catalogue in its order.
func FieldNames() []string {
	names := make([]string, len(catalogue))
	for i := range catalogue {
		names[i] = catalogue[i].Name
	}
	return names
}

// Headings recognises the field a column's heading means.
type Headings struct{ byKey map[string]int }

// NewHeadings readies the catalogue's headings for look-up.
func NewHeadings() Headings {
	byKey := make(map[string]int, 8*len(catalogue))
	for i := range catalogue {
		byKey[words.Key(catalogue[i].Name)] = i
		for _, heading := range catalogue[i].Headings {
			byKey[words.Key(heading)] = i
		}
	}
	return Headings{byKey}
}

// Attributes adds the names that directories have for the fields (Field.LDAP), where nothing
// else is written so: what an export of a directory is headed by.
func (h Headings) Attributes() Headings {
	for i := range catalogue {
		if key := words.Key(catalogue[i].LDAP); key != "" {
			if _, taken := h.byKey[key]; !taken {
				h.byKey[key] = i
			}
		}
	}
	delete(h.byKey, "ou") // which is a name of something else there
	return h
}

// Field returns the field that heading means, whatever its capitals, spacing,
// accents and punctuation.
func (h Headings) Field(heading string) (Field, bool) {
	i, ok := h.byKey[words.Key(heading)]
	if !ok {
		return Field{}, false
	}
	return catalogue[i], true
}

// Example is a value of the field as a person would write it.
func (f Field) Example() string {
	switch f.Name {
	case "givenName", "nickName":
		return "Ana"
	case "middleName":
		return "Sofia"
	case "familyName":
		return "Reyes"
	case "formattedName", "displayName":
		return "Ana Reyes"
	case "honorificPrefix":
		return "Dr"
	case "title":
		return "Second engineer"
	case "userType":
		return "seasonal"
	case "department", "division":
		return "Engine"
	case "costCenter":
		return "4100"
	case "organization":
		return "Brindle Sound Ferries"
	case "employeeNumber", "externalId":
		return "00417"
	case "locality":
		return "Northport"
	case "region":
		return "Sound"
	case "streetAddress":
		return "3 Pier Road"
	case "postalCode":
		return "NP3 3AB"
	case "uidNumber", "gidNumber":
		return "20017"
	case "homeDirectory":
		return "/home/ana.reyes"
	case "loginShell":
		return "/bin/bash"
	case "gecos":
		return "Ana Reyes"
	case "profileUrl":
		return "https://people.brindlesound.example/417"
	}
	return f.Kind.Example()
}

// Numbered is a value that another person has, with a number that tells theirs apart: behind it, and in an address before the @, as what
// stands behind that is somebody else's domain.
func Numbered(value string, n int) string {
	if at := strings.LastIndexByte(value, '@'); at > 0 {
		return value[:at] + strconv.Itoa(n) + value[at:]
	}
	return value + strconv.Itoa(n)
}

// Unnumbered is what a value was before Numbered, if it has a number.
func Unnumbered(value string) string {
	if at := strings.LastIndexByte(value, '@'); at > 0 {
		return strings.TrimRight(value[:at], "0123456789") + value[at:]
	}
	return strings.TrimRight(value, "0123456789")
}

// Same reports whether two values of the field mean the same to a person, so that there
// is nothing to change. That a system takes two for one is not enough: a surname gets its
// capitals corrected.
func (f Field) Same(a, b string) bool {
	if a == b {
		return true
	}
	if f.Rule == DN {
		return a != "" && f.Key(a) == f.Key(b)
	}
	if f.Kind == Phone { // systems write the same number in many ways
		return a != "" && digits(a) == digits(b)
	}
	if f.Kind == List || f.SCIM == "" && strings.Contains(a, "\n") { // several values: their order says nothing
		x, y := Items(a), Items(b)
		slices.Sort(x)
		slices.Sort(y)
		return slices.Equal(x, y)
	}
	if a, b = norm.NFC.String(a), norm.NFC.String(b); a == b {
		return true // systems may keep letters and their accents apart
	}
	return f.AnyCase && f.Rule != ByLetter && strings.EqualFold(a, b)
}

// One reports whether a system takes two values for one, or they mean the same: of two
// accounts with them, nobody could say that they are different people's.
func (f Field) One(a, b string) bool {
	return f.Same(a, b) || a != "" && b != "" && f.Key(a) == f.Key(b)
}

// WithParts names a field whose values each have several parts, such as the issuer
// and the subject of a sign-in: the system's attribute with the parts in braces.
// An item of such a List has its parts in this order, with a tab between.
func WithParts(name string, parts []string) string {
	return name + "{" + strings.Join(parts, ",") + "}"
}

// PartsOf takes apart what WithParts made; other names have no parts.
func PartsOf(name string) (base string, parts []string) {
	base, inner, ok := strings.Cut(strings.TrimSuffix(name, "}"), "{")
	if !ok {
		return name, nil
	}
	return base, strings.Split(inner, ",")
}

// Items returns the items of a List.
func Items(list string) []string {
	if list == "" {
		return nil
	}
	return strings.Split(list, "\n")
}

// ListOf makes a List of items.
func ListOf(items []string) string { return strings.Join(items, "\n") }

func digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r == '+' {
			return r
		}
		return -1
	}, s)
}

// Key returns what must agree for two values of the field to collide. Letters and
// their accents are composed.
func (f Field) Key(value string) string {
	if !words.IsPlain(value) {
		value = norm.NFC.String(value)
	}
	switch {
	case f.Rule == ByLetter:
		return value
	case f.Rule == AnyCase:
		return strings.ToLower(strings.Join(strings.Fields(value), " "))
	case f.Rule == DN:
		return nameKey(value)
	case f.AnyCase:
		return strings.ToLower(value)
	}
	return value
}

// nameKey is what must agree for two distinguished names to be one: their parts, whatever
// their capitals and the spaces around commas and equals signs (RFC 4514).
func nameKey(name string) string {
	var key strings.Builder
	escaped := false
	for part := range strings.SplitSeq(strings.ToLower(name), ",") {
		if key.Len() > 0 {
			key.WriteByte(',')
		}
		if escaped {
			key.WriteString(part)
		} else {
			attribute, value, _ := strings.Cut(part, "=")
			key.WriteString(strings.TrimSpace(attribute) + "=" + strings.Join(strings.Fields(value), " "))
		}
		behind := len(part) - len(strings.TrimRight(part, `\`))
		escaped = behind%2 == 1 // the comma belongs to the value
	}
	return key.String()
}
