package brief_test

import (
	"fmt"
	"log"

	"evenledger/internal/brief"
)

// A brief that loads is ready for use; one with mistakes tells all of them, each at its
// place and with what can be done about it.
func ExampleParse() {
	b, err := brief.Parse("starters.yaml", []byte(`match: [employeeNumber]
fields:
  employeeNumber: {from: Staff no}
  userName: {make: 'fold(givenName) + "." + fold(familyName)'}
  givenName: {from: First name}
  familyName: {from: Surname}
`), brief.Options{Today: "2026-11-25"})
	if err != nil {
		log.Fatal(err)
	}
	for _, f := range b.Fields {
		fmt.Println(f.Name)
	}

	_, err = brief.Parse("starters.yaml", []byte("match: [employeeNumber]\nfields:\n  employeeNumber: {form: Staff no}\n"), brief.Options{})
	fmt.Println(err)
	// Output:
	// employeeNumber
	// givenName
	// familyName
	// userName
	// starters.yaml:3:3: the field employeeNumber has no source
	//     Give it “from: HEADING”, “make: EXPRESSION” or “fallback: VALUE”.
	// starters.yaml:3:20: unknown key “form”
	//     Did you mean “from”?
}
