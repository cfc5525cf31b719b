package expr_test

import (
	"fmt"
	"log"

	"evenledger/internal/expr"
)

func Example() {
	env := expr.NewEnv([]expr.Variable{{Name: "givenName", Type: expr.Text}, {Name: "familyName", Type: expr.Text}}, "2026-11-25")
	login, err := env.Compile(`fold(givenName) + "." + fold(familyName)`, expr.Text)
	if err != nil {
		log.Fatal(err)
	}
	row := env.NewScope([]string{"givenName", "familyName"}, nil)
	row.Set(0, "Zoë")
	row.Set(1, "Ångström")
	fmt.Println(login.Text(row))

	_, err = env.Compile(`fold(givenNam)`, expr.Text)
	fmt.Println(err, err.(*expr.Error).Remedy)
	// Output:
	// zoe.angstrom <nil>
	// in the expression: there is no field or function “givenNam” Did you mean “givenName”?
}
