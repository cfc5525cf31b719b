package cli

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/app"
	"evenledger/internal/report"
	"evenledger/internal/sheet"
)

func (a *front) splitCommand() *cobra.Command {
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
		RunE: func(cmd *cobra.Command, args []string) error {
			most, err := bytesIn(size)
			switch {
			case err != nil:
				return err
			case folder == "":
				return wrong("say which folder the files are to stand in", "For example: evenledger split "+report.Quoted(args[0])+" --each 500 -o parts")
			case each <= 0 && most == 0:
				return wrong("say how large the files may be", "Give --each with a number of rows, or --size with one of bytes, such as 5MB.")
			}
			selection, err := flags.Selects()
			if err != nil {
				return err
			}
			s, err := a.look(cmd.Context(), args[0], flags, 0)
			if err != nil {
				return err
			}
			defer s.Close()
			p := &app.Cut{Sheet: s.Sheet, Folder: folder, Each: each, Most: most, Overwrite: overwrite, Passwords: passwords, Name: strings.TrimSuffix(strings.TrimSuffix(s.Info().Name, ".gz"), filepath.Ext(strings.TrimSuffix(s.Info().Name, ".gz")))}
			if args[0] == sheet.StandardInput {
				p.Name = "sheet"
			}
			if err := p.Make(selection); err != nil {
				return err
			}
			if p.Concealed > 0 {
				a.remark("%s like a password and left blank. With --with-passwords they are written.", report.Counted(p.Concealed, "cell looks", "cells look"))
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

func (a *front) tellPieces(p *app.Cut) error {
	if a.json {
		files := p.Files
		if files == nil {
			files = []app.Piece{}
		}
		return a.writeJSON(map[string]any{"rows": p.Rows, "left": p.Left, "files": files})
	}
	page := a.page()
	in := 0
	for _, f := range p.Files {
		page.Line("%s  %s", report.Pad(f.File, 40), page.Dim(fmt.Sprintf("%s %s, %d to %d of the sheet", report.Number(f.Rows), report.Plural(f.Rows, "row", "rows"), f.From, f.To)))
		in += f.Rows
	}
	page.Account([]report.Side{{Label: "Rows in", N: p.Rows}}, []report.Side{{Label: fmt.Sprintf("In %d %s", len(p.Files), report.Plural(len(p.Files), "file", "files")), N: in}, {Label: "Left out", N: p.Left}})
	if len(p.Files) > 0 {
		page.Next("evenledger check " + report.Quoted(p.Files[0].File))
	}
	return page.Err()
}
