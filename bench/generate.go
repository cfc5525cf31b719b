package main

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
)

// headings of the generated sheet: fifteen columns, of which the brief uses all
// but the last two.
var headings = []string{"Staff no", "First name", "Surname", "Position", "Department", "Base", "Country", "Start date", "Status", "Phone", "Language", "Street", "Postcode", "Remarks", "Source"}

const checkBrief = `brief: Bench
match: [employeeNumber]
only: col["Status"] == "Confirmed"
fields:
  employeeNumber: {from: Staff no, required: true, unique: refuse}
  givenName: {from: First name, required: true}
  familyName: {from: Surname, required: true}
  userName: {make: 'fold(givenName) + "." + fold(familyName) + "." + employeeNumber', unique: refuse}
  email: {make: 'userName + "@brindlesound.example"'}
  displayName: {make: 'givenName + " " + upper(familyName)'}
  nickName: {make: 'first(givenName, 1) + first(familyName, 3)'}
  title: {from: Position}
  department: {from: Department}
  locality: {from: Base}
  timezone: {from: Base, via: {Northport: Europe/London, Lagos Quay: Europe/Lisbon, Galway Pier: Europe/Dublin}}
  country: {from: Country}
  phone: {from: Phone}
  preferredLanguage: {from: Language}
  streetAddress: {from: Street}
  postalCode: {from: Postcode}
  costCenter: {make: 'department == "Deck" ? "D-" + last(employeeNumber, 3) : "S-" + last(employeeNumber, 3)'}
  organization: {make: 'lower(department) + "-" + lower(locality)'}
  division: {make: 'before(title, " ") + "/" + after(title, " ")'}
  externalId: {make: '"hr-" + pad(employeeNumber, 10)'}
  startDate: {from: Start date, as: date, send: false}
`

// generate writes a sheet of n rows; the same n gives the same sheet.
func generate(path string, n int) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	buffered := bufio.NewWriterSize(file, 1<<20)
	w := csv.NewWriter(buffered)
	if err := w.Write(headings); err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(1, 2))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	for i := range n {
		if err := w.Write([]string{
			strconv.Itoa(100000 + i),
			pick("Inês", "Zoë", "Piotr", "Ana", "Siobhán", "Dimitris", "João", "Nneka", "Lars", "Marta", "Tom", "Grace"),
			pick("Carvalho", "Ångström", "Wiśniewski", "Reyes", "O'Neill", "Silva", "Sørensen", "Nowak", "Brightwell", "Tanaka", "Mensah", "Nguyễn"),
			pick("Deck hand", "Second engineer", "Ticket clerk", "Chief officer"),
			pick("Deck", "Engine", "Ticket office", "Workshop"),
			pick("Northport", "Lagos Quay", "Galway Pier"),
			pick("Portugal", "UK", "pl", "ESP", "Ireland"),
			fmt.Sprintf("2027-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28)),
			pick("Confirmed", "Confirmed", "Confirmed", "Confirmed", "Offer made"),
			fmt.Sprintf("+44 7700 %06d", r.IntN(1000000)),
			pick("en", "pt", "pl", "English", "Spanish"),
			fmt.Sprintf("%d Harbour Road, Berth %d", r.IntN(200), r.IntN(40)),
			fmt.Sprintf("NP%d %dAB", r.IntN(30), r.IntN(9)),
			"joins the summer rota; uniform ordered",
			"crewing",
		}); err != nil {
			return err
		}
	}
	w.Flush()
	if err := w.Error(); err != nil {
		return err
	}
	if err := buffered.Flush(); err != nil {
		return err
	}
	return file.Close()
}
