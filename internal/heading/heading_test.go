package heading_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"evenledger/internal/account"
	"evenledger/internal/heading"
)

// What a heading says by its words is never another field than the one it is listed for, but where it can be both.
func TestListedHeadings(t *testing.T) {
	both := []string{"Second name", "Rufname", "Roepnaam", "CEP", "Person ID", "Sign-in"}
	reader, understood, all := heading.NewReader(), 0, 0
	for _, f := range account.Fields() {
		for _, text := range f.Headings {
			m := reader.Meaning(text)
			if all++; m.Sure && m.Field == f.Name {
				understood++
			} else if m.Sure {
				assert.Contains(t, both, text, "it is understood as %s, and means %s", m.Field, f.Name)
			}
		}
	}
	assert.Greater(t, 10*understood, 8*all, "of %d headings %d are understood by their words", all, understood)
}

func TestMeaning(t *testing.T) {
	reader := heading.NewReader()
	for what, headings := range map[string]string{
		"givenName":              "emp_first_nm | EMPL_FIRST_NAME | Legal Name - First Name | user.firstName | Employee: First name | Förnamn | voornaam medewerker | křestní-jméno",
		"familyName":             "emp_last_nm | Last/Surname | NachnameMA | achternaam medewerker | Apellido 1 | Vezetéknév",
		"formattedName":          "Nom et prénom | Nachname, Vorname | EmployeeFullName | Imię i nazwisko | ФИО",
		"email":                  "PrimaryEmailAddress | wrk_eml_addr | Work Contact: Work Email | adresse_email_pro | E-Post (Arbeit) | Posta elettronica",
		"mobile":                 "mobilePhone | Work Mobile | Diensthandy-Nr. | Tél. mobile pro | Telefon komórkowy",
		"phone":                  "businessPhones | Desk phone | Tel. Büro | Телефон | Puhelinnumero",
		"employeeNumber":         "EMPLID | staff_id | Crew ID | Pers.Nr | Stammnummer | Numéro d'employé | Törzsszám | employee.number | Student ID",
		"userName":               "userPrincipalName | sAMAccountName | login_id | AD-Kennung | Kullanıcı adı | Имя пользователя",
		"manager":                "Line manager | Reports To Name | Esimies | Vorgesetzte",
		"manager email":          "Manager e-mail | E-mail leidinggevende | Chefens e-post",
		"manager employeeNumber": "SUPERVISOR_EMPL_ID | mgr_id | Personalnummer Vorgesetzter",
		"title":                  "Job Title Description | JobTitleDescription | pos_title | Stillingsbetegnelse? | Должность",
		"department":             "dept_nm | Home Department Description | Abt.-Bez. | Osaston nimi",
		"postalCode":             "zip_cd | Postal/ZIP code | addr.zip | Posta kodu",
		"streetAddress":          "addr_line1 | Work Location Address Line 1 | Straße/Hausnr.",
		"active":                 "accountEnabled | is_active | Active (Y/N) | activeFlag",
		"!active":                "is_locked | Konto gesperrt | Leaver | Compte bloqué | Zablokowany",
		"groups":                 "memberOf | AD groups | User group(s) | Gruppen | cohort1",
		"courses":                "Course shortname | Enrolled courses | Kursname | Curso 2",
		"licences":               "Assigned licences | Lizenztyp",
		"role":                   "Rolle im Kurs | course_role",
		"action":                 "Change type | Aktion",
		"private":                "Private email | Home country | Personal mobile | E-Mail privat | téléphone personnel",
		// Of something else, or of a day.
		"": "Emergency contact phone | Spouse email | Date of birth | Cost centre manager | Department head | Last login | hire_dt | valid_from | Gültig bis | Contract end date | Previous employer | ICE phone | Password | Colour | Kontonummer | Account no | Numéro de compte | Manager phone | Licence no | Driving licence | Contact phone | Blood group | Full time | Network | Mail stop | Contract status | Training expiry | Class | Approved by | Wanted by the batch | Desk | Backup email | Given to | Family members | User rating | Number of courses",
	} {
		for text := range strings.SplitSeq(headings, " | ") {
			m := reader.Meaning(strings.TrimSuffix(text, "?"))
			got := strings.TrimSpace(map[bool]string{true: "!"}[m.Negated] + m.Field + " " + m.Refers)
			switch {
			case m.Ties != "":
				got = m.Ties
			case m.Beside != "":
				got = m.Beside
			case m.Action:
				got = "action"
			case m.Private && got == "":
				got = "private"
			case !m.Sure && !strings.HasSuffix(text, "?"):
				got = ""
			}
			assert.Equal(t, what, got, "%s: says %v, unknown %v", text, m.Says, m.Unknown)
		}
	}
}
