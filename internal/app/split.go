package app

import (
	"errors"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"evenledger/internal/profile"
	"evenledger/internal/sheet"
)

// A Cut is how a sheet is cut into several files.
type Cut struct {
	Sheet     *sheet.Sheet
	Folder    string // of the files
	Name      string // that each begins with
	Each      int    // rows in a file; 0: any number
	Most      int    // bytes in a file; 0: any number
	Overwrite bool
	Passwords bool // are written too

	Files     []Piece
	Rows      int // read
	Left      int // of them left out
	Concealed int // cells left blank
}

// A Piece is one of the files.
type Piece struct {
	File string `json:"file"`
	Rows int    `json:"rows"`
	From int    `json:"from"` // row of the sheet
	To   int    `json:"to"`
}

// Make writes the files.
func (p *Cut) Make(selection sheet.Selection) error {
	info := p.Sheet.Info()
	ending := ".csv"
	if info.Traits().Workbook {
		ending = ".xlsx"
		if p.Most > 0 {
			return mistake("how large a workbook becomes is known only when it is written", "Cut it by rows with --each.")
		}
	}
	if err := os.MkdirAll(p.Folder, 0o755); err != nil {
		return mistake(err.Error(), "")
	}
	pull, stop := iter.Pull2(selection.Of(p.Sheet.Rows()))
	defer stop()
	next := func() (sheet.Row, bool, error) { return p.next(pull) }
	row, more, err := next()
	for more && err == nil {
		path := filepath.Join(p.Folder, fmt.Sprintf("%s-%d%s", p.Name, len(p.Files)+1, ending))
		if err := MayWrite(path, p.Overwrite, "from another time it seems"); err != nil {
			return err
		}
		piece := Piece{File: path, From: row.Number}
		_, err = writeWhole(path, func(file *os.File) (_ int, err error) {
			out, err := sheetWriter(file, path)(sheet.Form{Separator: info.Separator})
			if err != nil {
				return 0, err
			}
			defer func() { err = errors.Join(err, out.Close()) }()
			if err := out.Write(info.Headings); err != nil {
				return 0, err
			}
			size := len("\uFEFF") + textSize(info.Headings, info.Separator)
			for ; more; row, more, err = next() {
				length := textSize(row.Cells, info.Separator)
				if full := p.Each > 0 && piece.Rows == p.Each || p.Most > 0 && size+length > p.Most; full {
					if piece.Rows == 0 {
						return 0, mistake(fmt.Sprintf("row %d alone is longer than %d bytes with the headings", row.Number, p.Most), "Give a larger --size.")
					}
					break
				}
				if err := out.Write(row.Cells); err != nil {
					return 0, err
				}
				piece.Rows, piece.To, size = piece.Rows+1, row.Number, size+length
			}
			return piece.Rows, err
		})
		if piece.Rows > 0 && err == nil {
			p.Files = append(p.Files, piece)
		}
	}
	return err
}

// next returns the next row that is taken.
func (p *Cut) next(pull func() (sheet.Row, error, bool)) (sheet.Row, bool, error) {
	for {
		row, err, more := pull()
		if !more || err != nil {
			return row, false, err
		}
		if p.Rows++; !row.Left {
			row.Cells = p.conceal(row.Cells, p.Sheet.Info().Headings)
			return row, true, nil
		}
		p.Left++
	}
}

// conceal blanks the cells that are passwords, or look like some.
func (p *Cut) conceal(cells, headings []string) []string {
	if p.Passwords {
		return cells
	}
	cells = slices.Clone(cells)
	for i, cell := range cells {
		if cell != "" && (i < len(headings) && profile.SecretHeading(headings[i]) || profile.Concealed(cell) != cell) {
			cells[i] = ""
			p.Concealed++
		}
	}
	return cells
}

// textSize is how many bytes a row takes in CSV.
func textSize(cells []string, separator string) int {
	var n counter
	w, err := sheet.NewWriter(&n, ".csv", sheet.Form{Separator: separator})
	if err == nil {
		err = errors.Join(w.Write(cells), w.Close())
	}
	if err != nil {
		panic(err) // a counter takes everything
	}
	return int(n) - len("\uFEFF")
}

type counter int

func (c *counter) Write(p []byte) (int, error) {
	*c += counter(len(p))
	return len(p), nil
}

// BytesIn reads a size such as 5MB.
func BytesIn(text string) (int, error) {
	if text == "" {
		return 0, nil
	}
	number, unit := strings.TrimRight(strings.ToUpper(text), "KMGBI "), 1
	switch strings.TrimSuffix(strings.TrimSuffix(strings.TrimSpace(strings.ToUpper(text)[len(number):]), "B"), "I") {
	case "K":
		unit = 1000
	case "M":
		unit = 1000 * 1000
	case "G":
		unit = 1000 * 1000 * 1000
	}
	n, err := strconv.Atoi(number)
	if err != nil || n <= 0 {
		return 0, mistake(fmt.Sprintf("--size: “%s” is no size", text), "Write it as 5MB or 800KB.")
	}
	return n * unit, nil
}
