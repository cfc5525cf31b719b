package cli

import (
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/answer"
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
			most, err := app.BytesIn(size)
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
			s, err := a.Look(cmd.Context(), args[0], flags.Request, 0)
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
			return a.tell(cmd.Context(), answer.Cut{Cut: p})
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
