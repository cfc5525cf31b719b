package candidates

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/sheet"
	"evenledger/internal/words"
)

// Headings of the sheet. By the first it is known again, and whose accounts it speaks of.
const (
	rowHeading    = "Even Ledger row for "
	saysHeading   = "Says"
	answerHeading = "Answer"
	proofHeading  = "Proof"
	candidate     = "Candidate "
	sure          = "Sure "
	why           = "Why "
	accountOf     = "Account "
)

// Offered is how many candidates stand beside a row.
const Offered = 3

// Proof is what shows that a row still speaks of whom it did: a part of the SHA-256 of what it
// gives of them.
func Proof(values []string) string {
	sum := sha256.Sum256([]byte(strings.Join(values, "\x00")))
	return hex.EncodeToString(sum[:6])
}

// A Named is a candidate with what names the account for a person.
type Named struct {
	Candidate
	Label string
}

// A Writer writes the sheet.
type Writer struct {
	out   sheet.Writer
	width int
}

// NewWriter begins the sheet of a system, for rows with these headings.
func NewWriter(begin func(sheet.Form) (sheet.Writer, error), system string, headings []string) (*Writer, error) {
	out, err := begin(sheet.Form{})
	if err != nil {
		return nil, err
	}
	all := []string{rowHeading + system, saysHeading, answerHeading}
	for n := range Offered {
		all = append(all, candidate+strconv.Itoa(n+1), sure+strconv.Itoa(n+1), why+strconv.Itoa(n+1))
	}
	for n := range Offered {
		all = append(all, accountOf+strconv.Itoa(n+1))
	}
	return &Writer{out, len(headings)}, out.Write(append(append(all, proofHeading), headings...))
}

// Write writes a row, with what it says of whom it means, and its candidates.
func (w *Writer) Write(row int, cells, says []string, candidates []Named) error {
	line := []string{strconv.Itoa(row), strings.Join(slices.DeleteFunc(slices.Clone(says), func(s string) bool { return s == "" }), " · "), ""}
	for n := range Offered {
		if n >= len(candidates) {
			line = append(line, "", "", "")
			continue
		}
		line = append(line, candidates[n].Label, fmt.Sprintf("%d %%", candidates[n].Sure), candidates[n].Why)
	}
	for n := range Offered {
		id := ""
		if n < len(candidates) {
			id = candidates[n].ID
		}
		line = append(line, id)
	}
	line = append(line, Proof(says))
	for i := range w.width {
		cell := ""
		if i < len(cells) {
			cell = cells[i]
		}
		line = append(line, cell)
	}
	var marks []sheet.Mark
	if len(candidates) > 0 {
		marks = []sheet.Mark{{Column: 2, Note: "yes: the first candidate. 2 or 3: that one. new: nobody, it is a new person. Or the user name of another account."}}
	}
	return w.out.Write(line, marks...)
}

// Close writes what is left.
func (w *Writer) Close() error { return w.out.Close() }

// An Answer is whom a row means.
type Answer struct {
	Row   int
	ID    string // of the account; empty: New, or Name is given
	Name  string // what the person calls the account
	New   bool   // nobody: it is a new person
	Proof string
}

// A List is the answers for one system.
type List struct {
	System  string
	Answers map[int]Answer // by row
	Open    int            // rows without an answer
}

// Read reads what a person answered. Errors are *account.Mistake or the sheet's own.
func Read(path string) (*List, error) {
	s, err := sheet.Open(path, nil, sheet.Options{AnyTab: true, Recognise: func(heading string) bool { return sheet.IsOurs(heading) }})
	if err != nil {
		return nil, err
	}
	defer s.Close()
	l := &List{Answers: map[int]Answer{}}
	at := map[string]int{}
	for i, heading := range s.Info().Headings {
		if system, is := strings.CutPrefix(heading, rowHeading); is {
			l.System, at["row"] = system, i
		}
		if _, twice := at[heading]; !twice {
			at[heading] = i
		}
	}
	_, answers := at[answerHeading]
	if l.System == "" || !answers {
		return nil, &account.Mistake{Message: fmt.Sprintf("%s is no sheet of candidates: it has no columns “%s…” and “%s”", path, rowHeading, answerHeading), Remedy: "Make one with “evenledger candidates”, and leave its columns where they are called so."}
	}
	for row, err := range s.Rows() {
		if err != nil {
			return nil, err
		}
		cell := func(heading string) string {
			i, has := at[heading]
			if !has || i >= len(row.Cells) {
				return ""
			}
			clean, _ := words.Clean(row.Cells[i])
			return clean
		}
		fail := func(format string, args ...any) error {
			return &account.Mistake{Message: fmt.Sprintf("%s, row %d: ", path, row.Number) + fmt.Sprintf(format, args...), Remedy: "Write yes for the first candidate, 2 or 3 for another, new for nobody, or the user name of the account; leave it blank if you do not know."}
		}
		number, err := strconv.Atoi(cell("row"))
		if err != nil {
			return nil, fail("“%s” is no row's number", cell("row"))
		}
		if _, twice := l.Answers[number]; twice {
			return nil, fail("row %d of the sheet stands here twice", number)
		}
		a := Answer{Row: number, Proof: cell(proofHeading)}
		text := cell(answerHeading)
		switch word := strings.ToLower(text); {
		case word == "":
			l.Open++
			continue
		case slices.Contains([]string{"yes", "y", "1", "x", "ja", "oui", "si", "sí", "sim", "tak", "true"}, word):
			a.ID = cell(accountOf + "1")
		case word == "2", word == "3":
			a.ID = cell(accountOf + word)
		case slices.Contains([]string{"new", "none", "no", "nobody", "-", "neu", "nouveau", "nuevo", "novo", "nowy"}, word):
			a.New = true
		default:
			a.Name = text
		}
		if a.ID == "" && a.Name == "" && !a.New {
			return nil, fail("“%s” means a candidate, and there is none", text)
		}
		l.Answers[number] = a
	}
	return l, nil
}
