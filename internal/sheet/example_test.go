package sheet_test

import (
	"fmt"
	"log"
	"strings"

	"evenledger/internal/sheet"
)

// Rows keep the numbers that the person sees in their spreadsheet, and what is no row of
// the table is not lost on the way.
func ExampleRead() {
	s, err := sheet.Read("crew.csv", strings.NewReader("Staff no;First name\n00417;Zoë\n\n00418;Tom\n"), sheet.Options{})
	if err != nil {
		log.Fatal(err)
	}
	defer s.Close()
	fmt.Println(s.Info().Headings, "between cells:", s.Info().Separator)
	for row, err := range s.Rows() {
		if err != nil {
			log.Fatal(err)
		}
		fmt.Println(row.Number, row.Cells)
	}
	// Output:
	// [Staff no First name] between cells: semicolon
	// 2 [00417 Zoë]
	// 4 [00418 Tom]
}
