// Package desk is a practice application that takes nothing but files: a page on loopback to which a file is
// given, which shows what it would do, does it, lists what it did not take, and exports its people.
//
// It is built by what its own page says of its files, not by what any program sends, and is strict about them.
package desk

import (
	"bytes"
	"cmp"
	"embed"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"evenledger/internal/reach"
)

// Options say what the practice application is like.
type Options struct {
	Data string // file to keep its people in; empty: memory only
	Rows int    // that a file may have; 0: 500
}

// A Person is one of its people.
type Person struct {
	Login, First, Surname, Start, Watch string
	Blocked                             bool
	Teams                               []string
	Trainings                           []Training
	password                            string
}

// A Training is one that a person has.
type Training struct{ Name, As string }

// A Failure is a line that was not taken.
type Failure struct {
	Line          int
	Login, Reason string
}

// An Upload is a file that was given.
type Upload struct {
	File     string
	Lines    int
	Taken    int
	Failures []Failure
	Preview  bool
	Refused  string // why nothing of it was looked at; empty: it was
}

// A Desk is the practice application. It is an http.Handler.
type Desk struct {
	options Options
	page    *template.Template
	mux     *http.ServeMux

	mu     sync.Mutex
	people map[string]*Person
	last   *Upload
}

//go:embed page.html
var files embed.FS

const mostBytes = 4 << 20

// New makes one and reads its people.
func New(options Options) (*Desk, error) {
	page, err := template.ParseFS(files, "page.html")
	if err != nil {
		return nil, err
	}
	d := &Desk{options: options, page: page, people: map[string]*Person{}, mux: http.NewServeMux()}
	d.options.Rows = cmp.Or(options.Rows, 500)
	if options.Data != "" {
		data, err := os.ReadFile(options.Data)
		if err == nil {
			err = json.Unmarshal(data, &d.people)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("the people of the practice application cannot be read: %w", err)
		}
	}
	d.mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) { d.show(w) })
	d.mux.HandleFunc("POST /upload", d.upload)
	d.mux.HandleFunc("GET /export.csv", func(w http.ResponseWriter, _ *http.Request) { sheet(w, "people.csv", d.Export()) })
	d.mux.HandleFunc("GET /empty.csv", func(w http.ResponseWriter, _ *http.Request) {
		sheet(w, "empty.csv", append([][]string{{"people", "3"}}, headings()))
	})
	d.mux.HandleFunc("GET /not-taken.csv", func(w http.ResponseWriter, _ *http.Request) { sheet(w, "not-taken.csv", d.NotTaken()) })
	return d, nil
}

// ServeHTTP implements http.Handler. Only this machine is served.
func (d *Desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host, _, err := net.SplitHostPort(r.Host)
	if origin := r.Header.Get("Origin"); err != nil || !reach.OnThisMachine(host) || origin != "" && origin != "http://"+r.Host {
		http.Error(w, "this is for this machine alone", http.StatusForbidden)
		return
	}
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	d.mux.ServeHTTP(w, r)
}

// Put puts a person in as if they had always been there.
func (d *Desk) Put(p Person) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.people[p.Login] = &p
	return d.save()
}

// People are its people by login.
func (d *Desk) People() map[string]Person {
	d.mu.Lock()
	defer d.mu.Unlock()
	all := map[string]Person{}
	for login, p := range d.people {
		all[login] = *p
	}
	return all
}

func (d *Desk) save() error {
	if d.options.Data == "" {
		return nil
	}
	data, err := json.MarshalIndent(d.people, "", " ")
	if err != nil {
		return err
	}
	temp := filepath.Join(filepath.Dir(d.options.Data), ".desk-new")
	if err := os.WriteFile(temp, data, 0o600); err != nil {
		return err
	}
	return os.Rename(temp, d.options.Data)
}

// headings are those of its files.
func headings() []string {
	return []string{"Do", "Login", "First name", "Surname", "Blocked", "Start", "Watch", "Team", "Training 1", "As 1", "Training 2", "As 2", "Password"}
}

func (d *Desk) show(w http.ResponseWriter) {
	d.mu.Lock()
	defer d.mu.Unlock()
	var out bytes.Buffer
	if err := d.page.Execute(&out, map[string]any{"People": d.sorted(), "Last": d.last, "Rows": d.options.Rows, "Headings": headings()}); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write(out.Bytes())
}

func (d *Desk) sorted() []*Person {
	var all []*Person
	for _, p := range d.people {
		all = append(all, p)
	}
	slices.SortFunc(all, func(a, b *Person) int { return strings.Compare(a.Login, b.Login) })
	return all
}

// upload takes a file, or only says what would become of it.
func (d *Desk) upload(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, mostBytes)
	file, about, err := r.FormFile("file")
	if err != nil {
		http.Error(w, "no file came: "+err.Error(), http.StatusBadRequest)
		return
	}
	defer file.Close()
	data, err := io.ReadAll(file)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	if err := d.take(&Upload{File: about.Filename, Preview: r.FormValue("preview") != ""}, data, r.FormValue("whole") != ""); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// Take takes a file, as its page does; with whole, none of one in which a line is bad.
func (d *Desk) Take(name string, data []byte, whole bool) error {
	return d.take(&Upload{File: name}, data, whole)
}

// take carries a file out, or a part of it, and notes what was not taken.
func (d *Desk) take(up *Upload, data []byte, whole bool) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.last = up
	rows, why := parse(data)
	if why == "" && len(rows) > d.options.Rows {
		why = fmt.Sprintf("it has %d lines, and %d may be in a file", len(rows), d.options.Rows)
	}
	if up.Refused = why; why != "" {
		return nil
	}
	people := map[string]*Person{}
	for login, p := range d.people {
		is := *p
		people[login] = &is
	}
	up.Lines = len(rows)
	for i, row := range rows {
		if reason := carry(people, row); reason != "" {
			up.Failures = append(up.Failures, Failure{i + 3, row[1], reason})
			continue
		}
		up.Taken++
	}
	if whole && len(up.Failures) > 0 {
		up.Taken = 0
		return nil
	}
	if up.Preview {
		return nil
	}
	d.people = people
	return d.save()
}

// parse reads a file, or says why it cannot be.
func parse(data []byte) (rows [][]string, why string) {
	if bytes.HasPrefix(data, []byte("\xef\xbb\xbf")) {
		return nil, "it begins with a byte order mark, which the first heading would have in it"
	}
	r := csv.NewReader(bytes.NewReader(data))
	r.Comma, r.FieldsPerRecord = ';', -1
	all, err := r.ReadAll()
	switch {
	case err != nil:
		return nil, err.Error()
	case len(all) < 2 || !slices.Equal(all[0], []string{"people", "3"}):
		return nil, "its first line is not people;3"
	}
	wanted := headings()
	if !slices.Equal(all[1], wanted) && !slices.Equal(all[1], wanted[:len(wanted)-1]) {
		return nil, "its headings are not those of the empty file"
	}
	for _, row := range all[2:] {
		if len(row) != len(all[1]) {
			return nil, fmt.Sprintf("a line has %d cells instead of %d", len(row), len(all[1]))
		}
		rows = append(rows, append(row, "")[:len(wanted)])
	}
	return rows, ""
}

var login = regexp.MustCompile(`^[a-z][a-z.]{1,19}$`)

// carry does what a line says, or says why it cannot be done.
func carry(people map[string]*Person, row []string) (reason string) {
	known := people[row[1]]
	switch do := row[0]; {
	case !login.MatchString(row[1]):
		return "A login has 2 to 20 small letters and points"
	case do == "New" && known != nil:
		return "The login is taken"
	case do != "New" && known == nil:
		return "There is nobody of this login"
	case do == "Erase":
		delete(people, row[1])
		return ""
	case do != "New" && do != "Change" && do != "Stop":
		return "“" + do + "” is nothing that can be done"
	}
	p := Person{Login: row[1], First: row[2], Surname: row[3], Blocked: row[4] == "Y" || row[0] == "Stop", Watch: row[6], password: row[12]}
	if known != nil && p.password == "" {
		p.password = known.password
	}
	if p.First == "" || p.Surname == "" {
		return "A first name and a surname have to be there"
	}
	if row[4] != "Y" && row[4] != "N" && row[4] != "" {
		return "Blocked is Y or N"
	}
	if row[5] != "" {
		day, err := time.Parse("02/01/2006", row[5])
		if err != nil {
			return "Start is no date as DD/MM/YYYY"
		}
		p.Start = day.Format("02/01/2006")
	}
	if p.Watch != "" && p.Watch != "Day" && p.Watch != "Night" {
		return "Watch is Day or Night"
	}
	for team := range strings.SplitSeq(row[7], ",") {
		if team = strings.TrimSpace(team); team != "" {
			p.Teams = append(p.Teams, team)
		}
	}
	if slices.Contains(p.Teams, "deck") && slices.Contains(p.Teams, "engine") {
		return "Nobody is in the teams deck and engine at once"
	}
	for i := 8; i < 12; i += 2 {
		switch {
		case row[i] == "" && row[i+1] != "":
			return "A part in a training, and no training"
		case row[i] == "":
			continue
		case row[i+1] != "L" && row[i+1] != "T":
			return "As is L for a learner, T for a teacher"
		}
		p.Trainings = append(p.Trainings, Training{row[i], row[i+1]})
	}
	people[p.Login] = &p
	return ""
}

// Export is its people, in the words of its exports.
func (d *Desk) Export() [][]string {
	d.mu.Lock()
	defer d.mu.Unlock()
	rows := [][]string{append([]string{"Sign-in name"}, headings()[2:12]...)}
	for _, p := range d.sorted() {
		row := []string{p.Login, p.First, p.Surname, map[bool]string{true: "Y", false: "N"}[p.Blocked], p.Start, p.Watch, strings.Join(p.Teams, ","), "", "", "", ""}
		for i, t := range p.Trainings {
			row[7+2*i], row[8+2*i] = t.Name, t.As
		}
		rows = append(rows, row)
	}
	return rows
}

// NotTaken lists the lines of the last file that were not taken.
func (d *Desk) NotTaken() [][]string {
	d.mu.Lock()
	defer d.mu.Unlock()
	rows := [][]string{{"Row", "Login", "Reason"}}
	if d.last != nil {
		for _, f := range d.last.Failures {
			rows = append(rows, []string{fmt.Sprint(f.Line), f.Login, f.Reason})
		}
	}
	return rows
}

// Write writes rows as its files are.
func Write(w io.Writer, rows [][]string) error {
	out := csv.NewWriter(w)
	out.Comma, out.UseCRLF = ';', true
	return out.WriteAll(rows)
}

// sheet answers with a file.
func sheet(w http.ResponseWriter, name string, rows [][]string) {
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	w.Header().Set("Content-Disposition", `attachment; filename="`+name+`"`)
	_ = Write(w, rows)
}
