package sheet

import (
	"bufio"
	"io"
	"path/filepath"
	"slices"
	"strings"
)

// Traits are what is to be known of a format beyond reading and writing it.
type Traits struct {
	Name       string // as people are told it
	Short      string // as files name it, such as xlsx
	Workbook   bool   // it is a spreadsheet program's own file, with tabs and colours
	Beside     bool   // columns can be written beside the rows of the file itself
	Named      bool   // values stand under names of their own, not beneath headings
	Attributes bool   // the names are a directory's
}

// A format is a form of files that sheets are read from or written in: a further one is a line of known.
type format struct {
	Traits
	endings []string // of files that are written in it
	// Of a text: whether one is of it that begins so, and how it is read.
	is    func(start []byte, o Options) bool
	read  func(in input, o Options) (source, error)
	lines bool // its rows are lines
	seeks bool // the headings are looked for among them
	// Of an archive: a part that one has, a word of what it says it is, and how it is opened.
	part, mime string
	open       func(parts, Options) (*Sheet, error)
	// How it is written; nil: it is only read.
	write func(io.Writer, Form) (Writer, error)
}

// An input is a text that is to be read.
type input struct {
	name    string
	text    *textReader
	decoded *bufio.Reader
	info    *Info
}

// formats are a table of them.
type formats []format

// known are those there are. A text is of the first whose beginning it has.
func known() formats {
	named := func(headings func(io.Writer, Form) Writer) func(io.Writer, Form) (Writer, error) {
		return func(w io.Writer, form Form) (Writer, error) { return headings(w, form), nil }
	}
	return formats{
		{Traits: Traits{Name: "XLSX", Short: "xlsx", Workbook: true, Beside: true}, endings: []string{".xlsx"}, part: "xl/workbook.xml", open: openXLSX,
			write: func(w io.Writer, form Form) (Writer, error) { return newWorkbook(w, form) }},
		{Traits: Traits{Name: "ODS", Short: "ods", Workbook: true}, part: "content.xml", mime: "spreadsheet", open: openODS},
		{Traits: Traits{Name: "JSON", Short: "json", Named: true}, is: func(start []byte, _ Options) bool { return isJSON(start) },
			read: func(in input, o Options) (source, error) {
				return newJSON(in.name, in.text, in.decoded, in.info, o.Tab)
			}},
		{Traits: Traits{Name: "JSON lines", Short: "jsonl", Named: true}, endings: []string{".jsonl", ".ndjson"}, // read as JSON
			write: named(func(w io.Writer, form Form) Writer {
				return &linesWriter{w: bufio.NewWriter(w), left: max(1, form.HeadingRow)}
			})},
		{Traits: Traits{Name: "LDIF", Short: "ldif", Named: true, Attributes: true}, endings: []string{".ldif"}, is: func(start []byte, o Options) bool { return o.Columns == nil && isLDIF(start) },
			read: func(in input, _ Options) (source, error) { return newLDIF(in.name, in.text, in.decoded, in.info) },
			write: named(func(w io.Writer, form Form) Writer {
				return &ldifWriter{w: bufio.NewWriter(w), left: max(1, form.HeadingRow), attribute: form.Attribute}
			})},
		userFormat("passwd"), userFormat("group"), userFormat("shadow"),
		{Traits: Traits{Name: "CSV", Short: "csv"}, endings: []string{".csv", ".txt"}, lines: true, seeks: true, is: func([]byte, Options) bool { return true },
			read:  func(in input, o Options) (source, error) { return newCSV(in.name, in.text, in.decoded, o) },
			write: func(w io.Writer, form Form) (Writer, error) { return newCSVWriter(w, form.Separator) }},
		{Traits: Traits{Name: "CSV", Short: "tsv"}, endings: []string{".tsv", ".tab"},
			write: func(w io.Writer, _ Form) (Writer, error) { return newCSVWriter(w, "tab") }},
	}
}

// userFormat is a file of a Unix host's.
func userFormat(kind string) format {
	return format{Traits: Traits{Name: kind, Short: kind}, lines: true, is: func(start []byte, o Options) bool {
		return o.Columns == nil && o.HeadingRow == 0 && userFile(start) == kind
	}, read: func(in input, _ Options) (source, error) {
		return newUserFile(in.name, kind, in.text, in.decoded, in.info)
	}}
}

// ofPath returns the format that a path ends in.
func (all formats) ofPath(path string) (format, bool) {
	ending := strings.ToLower(filepath.Ext(path))
	return all.first(func(f format) bool { return slices.Contains(f.endings, ending) })
}

// ofText returns the format of a text that begins so.
func (all formats) ofText(start []byte, o Options) (format, bool) {
	return all.first(func(f format) bool { return f.is != nil && f.is(start, o) })
}

// ofArchive returns the format of an archive.
func (all formats) ofArchive(p parts) (format, bool) {
	return all.first(func(f format) bool {
		return f.part != "" && p.find(f.part) != nil && (f.mime == "" || strings.Contains(p.mimetype(), f.mime))
	})
}

func (all formats) first(is func(format) bool) (f format, found bool) {
	i := slices.IndexFunc(all, is)
	if i < 0 {
		return f, false
	}
	return all[i], true
}

// sheet begins to read a sheet in the format.
func (f format) sheet(in input, s *Sheet, o Options) (err error) {
	if s.source, err = f.read(in, o); err != nil {
		return err
	}
	if s.lines = f.lines; f.seeks {
		return s.findHeadings(o)
	}
	return nil
}

// Formats are the endings of files that can be written.
const Formats = ".xlsx, .csv, .tsv, .jsonl or .ldif"

// CanWrite reports whether a path ends in a format that can be written.
func CanWrite(path string) bool {
	f, found := known().ofPath(path)
	return found && f.write != nil
}

// TraitsOf are those of the format that a path ends in; of none that is known, those of CSV.
func TraitsOf(path string) Traits {
	f, _ := known().ofPath(path)
	return f.Traits
}

// NewWriter begins a sheet on w in the format that path ends in; of none that is known, as CSV.
func NewWriter(w io.Writer, path string, form Form) (Writer, error) {
	return known().writer(w, path, form)
}

func (all formats) writer(w io.Writer, path string, form Form) (Writer, error) {
	if f, found := all.ofPath(path); found && f.write != nil {
		return f.write(w, form)
	}
	return newCSVWriter(w, form.Separator)
}

// Traits are those of the sheet's format.
func (i Info) Traits() Traits {
	if f, found := known().first(func(f format) bool { return f.Name == i.Format }); found {
		return f.Traits
	}
	return Traits{Name: i.Format}
}
