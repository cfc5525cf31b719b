package main

import (
	"archive/zip"
	"bufio"
	"encoding/csv"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"

	"github.com/xuri/excelize/v2"

	"evenledger/internal/sheet"
)

// workbookRows is how many rows the workbooks measured have.
const workbookRows = 200_000

// benchSheets times the reading of workbooks against a bare streaming read of the
// same file with a library for them, and the profile of a large sheet against a
// bare read.
func benchSheets(program, dir string) error {
	text := filepath.Join(dir, "sheet.csv")
	if err := generate(text, workbookRows); err != nil {
		return err
	}
	for _, kind := range []string{"inline texts", "shared texts"} {
		book := filepath.Join(dir, "sheet.xlsx")
		if err := makeWorkbook(text, book, kind == "shared texts"); err != nil {
			return err
		}
		ours, bare, ratio, err := pairs(3, func() *exec.Cmd { return self("rows", book) }, func() *exec.Cmd { return self("workbook", book) })
		if err != nil {
			return err
		}
		fmt.Printf("xlsx   %9d rows, %s: %5.2f s, %4d MB; bare streaming read %5.2f s, %4d MB; rows/s against it %.2f\n",
			workbookRows, kind, ours.wall.Seconds(), ours.peak>>20, bare.wall.Seconds(), bare.peak>>20, 1/ratio)
	}
	open := filepath.Join(dir, "sheet.ods")
	if err := makeODS(text, open); err != nil {
		return err
	}
	ods, read, ratio, err := pairs(3, func() *exec.Cmd { return self("rows", open) }, func() *exec.Cmd { return self("tokens", open) })
	if err != nil {
		return err
	}
	fmt.Printf("ods    %9d rows: %5.2f s, %4d MB; bare read of its XML %5.2f s; rows/s against it %.2f\n", workbookRows, ods.wall.Seconds(), ods.peak>>20, read.wall.Seconds(), 1/ratio)
	if err := generate(text, 1_000_000); err != nil {
		return err
	}
	peek, read, ratio, err := pairs(3, func() *exec.Cmd { return exec.Command(program, "peek", text, "--plain") }, func() *exec.Cmd { return self("read", text) })
	if err != nil {
		return err
	}
	fmt.Printf("peek   %9d rows: %5.2f s, %4d MB; bare read %5.2f s; rows/s against the bare read %.3f\n", 1_000_000, peek.wall.Seconds(), peek.peak>>20, read.wall.Seconds(), 1/ratio)
	return nil
}

// readRows reads a sheet as the program does.
func readRows(path string) error {
	s, err := sheet.Open(path, nil, sheet.Options{})
	if err != nil {
		return err
	}
	n := 0
	for _, err := range s.Rows() {
		if err != nil {
			return err
		}
		n++
	}
	if n != workbookRows {
		return fmt.Errorf("%d rows were read", n)
	}
	return s.Close()
}

// bareWorkbook is the floor of reading a workbook.
func bareWorkbook(path string) error {
	file, err := excelize.OpenFile(path, excelize.Options{TmpDir: filepath.Dir(path)})
	if err != nil {
		return err
	}
	rows, err := file.Rows(file.GetSheetName(0))
	if err != nil {
		return err
	}
	for rows.Next() {
		if _, err := rows.Columns(excelize.Options{RawCellValue: true}); err != nil {
			return err
		}
	}
	return errors.Join(rows.Close(), file.Close())
}

// bareTokens is the floor of reading an OpenDocument spreadsheet: its XML.
func bareTokens(path string) error {
	archive, err := zip.OpenReader(path)
	if err != nil {
		return err
	}
	defer archive.Close()
	part, err := archive.Open("content.xml")
	if err != nil {
		return err
	}
	d := xml.NewDecoder(part)
	for {
		if _, err := d.RawToken(); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
	}
}

// eachRow calls do with each record of a text sheet, the headings first.
func eachRow(text string, do func(cells []string) error) error {
	file, err := os.Open(text)
	if err != nil {
		return err
	}
	defer file.Close()
	r := csv.NewReader(bufio.NewReader(file))
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			err = do(cells)
		}
		if err != nil {
			return err
		}
	}
}

// makeWorkbook writes a workbook as spreadsheet programs do, with the texts in
// the cells or apart.
func makeWorkbook(text, path string, shared bool) error {
	defer runtime.GC()
	return writeZip(path, func(part func(string) (io.Writer, error)) error {
		for name, content := range map[string]string{
			"xl/workbook.xml":            `<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="Sheet" sheetId="1" r:id="r1"/></sheets></workbook>`,
			"_rels/.rels":                `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
			"xl/_rels/workbook.xml.rels": `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="r2" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/sharedStrings" Target="sharedStrings.xml"/></Relationships>`,
		} {
			w, err := part(name)
			if err != nil {
				return err
			}
			if _, err := io.WriteString(w, content); err != nil {
				return err
			}
		}
		w, err := part("xl/worksheets/sheet1.xml")
		if err != nil {
			return err
		}
		out := bufio.NewWriterSize(w, 1<<20)
		index := map[string]int{}
		var texts []string
		fmt.Fprint(out, `<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>`)
		number := 0
		err = eachRow(text, func(cells []string) error {
			number++
			fmt.Fprintf(out, `<row r="%d">`, number)
			for i, cell := range cells {
				at := sheet.ColumnName(i) + strconv.Itoa(number)
				if !shared {
					fmt.Fprintf(out, `<c r="%s" t="inlineStr"><is><t>`, at)
					if err := xml.EscapeText(out, []byte(cell)); err != nil {
						return err
					}
					fmt.Fprint(out, `</t></is></c>`)
					continue
				}
				n, known := index[cell]
				if !known {
					n = len(texts)
					index[cell], texts = n, append(texts, cell)
				}
				fmt.Fprintf(out, `<c r="%s" t="s"><v>%d</v></c>`, at, n)
			}
			_, err := fmt.Fprint(out, `</row>`)
			return err
		})
		fmt.Fprint(out, `</sheetData></worksheet>`)
		if err := errors.Join(err, out.Flush()); err != nil {
			return err
		}
		if w, err = part("xl/sharedStrings.xml"); err != nil {
			return err
		}
		out.Reset(w)
		fmt.Fprint(out, `<sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">`)
		for _, text := range texts {
			fmt.Fprint(out, `<si><t>`)
			if err := xml.EscapeText(out, []byte(text)); err != nil {
				return err
			}
			fmt.Fprint(out, `</t></si>`)
		}
		fmt.Fprint(out, `</sst>`)
		return out.Flush()
	})
}

// makeODS writes an OpenDocument spreadsheet.
func makeODS(text, path string) error {
	return writeZip(path, func(part func(string) (io.Writer, error)) error {
		w, err := part("mimetype")
		if err != nil {
			return err
		}
		if _, err := io.WriteString(w, "application/vnd.oasis.opendocument.spreadsheet"); err != nil {
			return err
		}
		if w, err = part("content.xml"); err != nil {
			return err
		}
		out := bufio.NewWriterSize(w, 1<<20)
		fmt.Fprint(out, `<office:document-content><office:body><office:spreadsheet><table:table table:name="Sheet">`)
		err = eachRow(text, func(cells []string) error {
			fmt.Fprint(out, `<table:table-row>`)
			for _, cell := range cells {
				fmt.Fprint(out, `<table:table-cell office:value-type="string" calcext:value-type="string"><text:p>`)
				if err := xml.EscapeText(out, []byte(cell)); err != nil {
					return err
				}
				fmt.Fprint(out, `</text:p></table:table-cell>`)
			}
			_, err := fmt.Fprint(out, `</table:table-row>`)
			return err
		})
		fmt.Fprint(out, `</table:table></office:spreadsheet></office:body></office:document-content>`)
		return errors.Join(err, out.Flush())
	})
}

func writeZip(path string, write func(part func(name string) (io.Writer, error)) error) error {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	archive := zip.NewWriter(file)
	err = write(archive.Create)
	return errors.Join(err, archive.Close(), file.Close())
}
