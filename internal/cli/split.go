package cli

import (
	"errors"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/profile"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

func (a *app) splitCommand() *cobra.Command {
	var flags sheetFlags
	var each int
	var size, folder string
	var overwrite, passwords bool
	cmd := &cobra.Command{
		Use:     "split SHEET",
		GroupID: "prepare",
		Short:   "Cut a sheet into smaller ones, each with the headings",
		Long: `Cuts a sheet into files of at most so many rows, or so many bytes. Rows stay whole
and in their order, and every file begins with the headings. A workbook is cut
into workbooks, anything else into CSV. Passwords, and what looks like some, are left
blank unless --with-passwords says otherwise.`,
		Example: `  evenledger split everyone.csv --each 500 -o parts
  evenledger split everyone.csv --size 5MB -o parts
  evenledger split everyone.xlsx --each 200 --rows 2-1001 -o parts`,
		Args: one("a sheet"),
		RunE: func(_ *cobra.Command, args []string) error {
			most, err := bytesIn(size)
			switch {
			case err != nil:
				return err
			case folder == "":
				return wrong("say which folder the files are to stand in", "For example: evenledger split "+quoted(args[0])+" --each 500 -o parts")
			case each <= 0 && most == 0:
				return wrong("say how large the files may be", "Give --each with a number of rows, or --size with one of bytes, such as 5MB.")
			}
			selection, err := flags.selection()
			if err != nil {
				return err
			}
			s, err := a.look(args[0], flags, 0)
			if err != nil {
				return err
			}
			defer s.Close()
			p := &pieces{sheet: s, folder: folder, each: each, most: most, overwrite: overwrite, passwords: passwords, name: strings.TrimSuffix(strings.TrimSuffix(s.Info().Name, ".gz"), filepath.Ext(strings.TrimSuffix(s.Info().Name, ".gz")))}
			if args[0] == sheet.StandardInput {
				p.name = "sheet"
			}
			if err := p.cut(selection); err != nil {
				return err
			}
			if p.concealed > 0 {
				a.remark("%s like a password and left blank. With --with-passwords they are written.", counted(p.concealed, "cell looks", "cells look"))
			}
			return a.tellPieces(p)
		},
	}
	flags.addRows(cmd)
	cmd.Flags().BoolVar(&passwords, "with-passwords", false, "write passwords, and what looks like some, into the files too")
	cmd.Flags().IntVar(&each, "each", 0, "at most `N` rows in a file")
	cmd.Flags().StringVar(&size, "size", "", "at most this many `BYTES` in a file, such as 5MB or 800KB")
	cmd.Flags().StringVarP(&folder, "output", "o", "", "the `FOLDER` to write to")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "write over files that exist")
	return cmd
}

// bytesIn reads a size such as 5MB.
func bytesIn(text string) (int, error) {
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
		return 0, wrong(fmt.Sprintf("--size: “%s” is no size", text), "Write it as 5MB or 800KB.")
	}
	return n * unit, nil
}

// pieces are the files that a sheet is cut into.
type pieces struct {
	sheet      *sheet.Sheet
	folder     string
	name       string
	each, most int
	overwrite  bool
	passwords  bool // are written too

	files     []piece
	rows      int
	left      int
	concealed int // cells left blank
}

type piece struct {
	File string `json:"file"`
	Rows int    `json:"rows"`
	From int    `json:"from"` // row of the sheet
	To   int    `json:"to"`
}

func (p *pieces) cut(selection sheet.Selection) error {
	info := p.sheet.Info()
	ending := ".csv"
	if info.IsWorkbook() {
		ending = ".xlsx"
		if p.most > 0 {
			return wrong("how large a workbook becomes is known only when it is written", "Cut it by rows with --each.")
		}
	}
	if err := os.MkdirAll(p.folder, 0o755); err != nil {
		return wrong(err.Error(), "")
	}
	pull, stop := iter.Pull2(selection.Of(p.sheet.Rows()))
	defer stop()
	// next returns the next row that is taken.
	next := func() (sheet.Row, bool, error) {
		for {
			row, err, more := pull()
			if !more || err != nil {
				return row, false, err
			}
			if p.rows++; !row.Left {
				row.Cells = p.conceal(row.Cells, info.Headings)
				return row, true, nil
			}
			p.left++
		}
	}
	row, more, err := next()
	for more && err == nil {
		path := filepath.Join(p.folder, fmt.Sprintf("%s-%d%s", p.name, len(p.files)+1, ending))
		if err := mayWrite(path, p.overwrite, "from another time it seems"); err != nil {
			return err
		}
		piece := piece{File: path, From: row.Number}
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
				if full := p.each > 0 && piece.Rows == p.each || p.most > 0 && size+length > p.most; full {
					if piece.Rows == 0 {
						return 0, wrong(fmt.Sprintf("row %d alone is longer than %d bytes with the headings", row.Number, p.most), "Give a larger --size.")
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
			p.files = append(p.files, piece)
		}
	}
	return err
}

// conceal blanks the cells that are passwords, or look like some.
func (p *pieces) conceal(cells, headings []string) []string {
	if p.passwords {
		return cells
	}
	cells = slices.Clone(cells)
	for i, cell := range cells {
		if cell != "" && (i < len(headings) && profile.SecretHeading(headings[i]) || profile.Concealed(cell) != cell) {
			cells[i] = ""
			p.concealed++
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

func (a *app) tellPieces(p *pieces) error {
	if a.json {
		files := p.files
		if files == nil {
			files = []piece{}
		}
		return a.writeJSON(map[string]any{"rows": p.rows, "left": p.left, "files": files})
	}
	page := a.page()
	in := 0
	for _, f := range p.files {
		page.Line("%s  %s", report.Pad(f.File, 40), page.Dim(fmt.Sprintf("%s %s, %d to %d of the sheet", report.Number(f.Rows), plural(f.Rows, "row", "rows"), f.From, f.To)))
		in += f.Rows
	}
	page.Account([]report.Side{{Label: "Rows in", N: p.rows}}, []report.Side{{Label: fmt.Sprintf("In %d %s", len(p.files), plural(len(p.files), "file", "files")), N: in}, {Label: "Left out", N: p.left}})
	if len(p.files) > 0 {
		page.Next("evenledger check " + quoted(p.files[0].File))
	}
	return page.Err()
}
