// Package demo is the sample organisation, Brindle Sound Ferries: a sheet of
// starters with the troubles of real sheets, one of people who leave and come back,
// the briefs for them, what its practice applications begin with, and what a person does
// between the commands; it readies those applications to be served.
package demo

import (
	"database/sql"
	"embed"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver

	"evenledger/internal/sheet"
	"evenledger/internal/standin"
	"evenledger/internal/standin/desk"
	"evenledger/internal/standin/mooring"
)

//go:embed files
var files embed.FS

// Write makes the demonstration's workspace in dir, which must not exist, for a
// system at url and a mail server. Dates in the sheet lie around today. The folder hides itself from
// git, as the demonstration may be run inside a repository.
func Write(dir, url, mail string, today time.Time) error {
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	for _, folder := range []string{"briefs", "notices", "desk/briefs", "desk/layouts", "desk/exports"} {
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			return err
		}
	}
	if err := writeOffice(filepath.Join(dir, "office.db"), today); err != nil {
		return err
	}
	for from, to := range map[string]string{"weekly.yaml": "briefs/weekly.yaml", "welcome.en.txt": "notices/welcome.en.txt", "welcome.pt.txt": "notices/welcome.pt.txt", "welcome.en.html": "notices/welcome.en.html", "welcome.pt.html": "notices/welcome.pt.html", "starters.csv": "starters.csv", "starters.yaml": "briefs/starters.yaml", "moves.csv": "moves.csv", "moves.yaml": "briefs/moves.yaml", "evenledger.yaml": "evenledger.yaml",
		"desk/evenledger.yaml": "desk/evenledger.yaml", "desk/layout.yaml": "desk/layouts/deskbook.yaml", "desk/watch.yaml": "desk/briefs/watch.yaml", "desk/watch.csv": "desk/watch.csv"} {
		data, err := files.ReadFile("files/" + from)
		if err != nil {
			return err
		}
		text := strings.NewReplacer("{url}", url, "{mail}", mail).Replace(string(data))
		if strings.HasSuffix(from, ".csv") {
			text = withDates(text, today)
		}
		if err := os.WriteFile(filepath.Join(dir, to), []byte(text), 0o644); err != nil {
			return err
		}
	}
	if err := writeDesk(dir, today); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, ".gitignore"), []byte("# Made-up data, to play with: nothing of it belongs in a repository.\n*\n"), 0o644)
}

// writeOffice writes the database of the crewing office, with the hands of this week.
func writeOffice(path string, today time.Time) (err error) {
	db, err := sql.Open("sqlite", path)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	if _, err := db.Exec("create table hands (staff_no text primary key, first_name text, surname text, department text not null, language text, taken_on timestamp, login text)"); err != nil {
		return err
	}
	for _, hand := range [][]any{
		{"2401", "Rúna", "Þórsdóttir", "Ticket office", "en"},
		{"2402", "Inês", "Bastos", "Ticket office", "pt"},
		{"2403", "Eseld", "Trevenna", "Workshop", "en"},
	} {
		if _, err := db.Exec("insert into hands (staff_no, first_name, surname, department, language, taken_on) values (?, ?, ?, ?, ?, ?)", append(hand, today.UTC().Format("2006-01-02 15:04:05"))...); err != nil {
			return err
		}
	}
	return nil
}

// withDates writes {+14} as the day in two weeks, in the day-first form of the
// crewing office.
func withDates(text string, today time.Time) string {
	return regexp.MustCompile(`\{[+-]\d+\}`).ReplaceAllStringFunc(text, func(mark string) string {
		days, _ := strconv.Atoi(mark[1 : len(mark)-1]) // the pattern lets only numbers through
		return today.AddDate(0, 0, days).Format("02/01/2006")
	})
}

// Known returns the accounts and groups that the practice application begins with.
func Known() ([]map[string]any, error) {
	data, err := files.ReadFile("files/known.json")
	if err != nil {
		return nil, err
	}
	var known []map[string]any
	if err := json.Unmarshal(data, &known); err != nil {
		return nil, err
	}
	for _, body := range known {
		if body["schemas"] != nil {
			continue // a group
		}
		body["schemas"] = []string{"urn:ietf:params:scim:schemas:core:2.0:User", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"}
	}
	return known, nil
}

// NewPractice makes a practice application; with sample it begins with what the sample
// company has, unless its data are in a file already.
func NewPractice(options standin.Options, sample bool) (*standin.Server, error) {
	_, err := os.Stat(options.Data)
	begun := options.Data != "" && err == nil
	server, err := standin.New(options)
	if err != nil || !sample || begun {
		return server, err
	}
	known, err := Known()
	if err != nil {
		return nil, err
	}
	for _, body := range known {
		if err := server.Add(body); err != nil {
			return nil, err
		}
	}
	return server, server.Save()
}

// Moor puts the sample company's people into the practice application with a web interface of its own.
func Moor(s *mooring.Server) error {
	data, err := files.ReadFile("files/mooring.json")
	if err != nil {
		return err
	}
	var all struct {
		People []struct{ Login, StaffNo, First, Last, Mail, Title, Team string }
		Things []struct {
			Kind, Title string
			Seats       *int
		}
	}
	if err := json.Unmarshal(data, &all); err != nil {
		return err
	}
	for _, p := range all.People {
		if err := s.Add(p.Login, p.StaffNo, p.First, p.Last, p.Mail, p.Title, p.Team); err != nil {
			return err
		}
	}
	for _, t := range all.Things {
		seats := -1
		if t.Seats != nil {
			seats = *t.Seats
		}
		s.AddThing(t.Kind, t.Title, seats)
	}
	return nil
}

// Desk returns the people that the practice application for files begins with.
func Desk(today time.Time) (people []desk.Person, err error) {
	data, err := files.ReadFile("files/desk/people.json")
	if err == nil {
		err = json.Unmarshal([]byte(withDates(string(data), today)), &people)
	}
	return people, err
}

// A Correction is one cell that a person puts right in a fix sheet.
type Correction struct {
	StaffNo, Column, Value string
}

// newManagers are what a person changes in an export of who reports to whom.
func newManagers() []Correction {
	return []Correction{{"2032", "Manager", "marek.novak"}, {"2038", "Manager", "marek.novak"}, {"2016", "Manager", "marek.novak"}}
}

// Corrections are those of the sample sheet.
func Corrections(today time.Time) []Correction {
	return []Correction{
		{"2009", "Surname", "Eze"},
		{"2012", "E-mail", "tom.brightwell@brindlesound.example"},
		{"2020", "Start date", today.AddDate(0, 0, 30).Format("02/01/2006")},
		{"2024", "E-mail", "rosa.almeida@brindlesound.example"},
		{"2025", "Base", "Galway Pier"},
	}
}

// Correct makes the corrections in the sheet at path and says, a line each, what it
// did.
func Correct(path string, corrections []Correction) (lines []string, err error) {
	s, err := sheet.Open(path, nil, sheet.Options{HeadingRow: 1})
	if err != nil {
		return nil, err
	}
	headings := s.Info().Headings
	rows := [][]string{headings}
	staffNo := slices.IndexFunc(headings, func(h string) bool { return h == "Staff no" || h == "Employee number" })
	for row, err := range s.Rows() {
		if err != nil {
			return nil, err
		}
		cells := slices.Clone(row.Cells)
		for _, c := range corrections {
			at := slices.Index(headings, c.Column)
			if at >= 0 && staffNo >= 0 && cells[staffNo] == c.StaffNo {
				lines = append(lines, fmt.Sprintf("row %d, %s: “%s” → “%s”", row.Number, c.Column, cells[at], c.Value))
				cells[at] = c.Value
			}
		}
		rows = append(rows, cells)
	}
	if err := s.Close(); err != nil {
		return nil, err
	}
	var out strings.Builder
	if err := csv.NewWriter(&out).WriteAll(rows); err != nil {
		return nil, err
	}
	return lines, os.WriteFile(path, []byte(out.String()), 0o600)
}
