package sheet

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"evenledger/internal/words"
)

// StandardInput is the path that stands for what is piped in.
const StandardInput = "-"

// Open opens the file at path; StandardInput is read from in.
func Open(path string, in io.Reader, options Options) (*Sheet, error) {
	if path == StandardInput {
		return Read("standard input", in, options)
	}
	name := filepath.Base(path)
	stat, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, &Error{Name: path, Message: "there is no such file", Remedy: missing(path)}
	case err != nil:
		return nil, &Error{Name: path, Message: err.Error()}
	case stat.IsDir():
		return nil, &Error{Name: path, Message: "is a folder, not a sheet", Remedy: "Name a file in it."}
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, &Error{Name: path, Message: err.Error(), Remedy: "Ask whoever made the file to let you read it."}
	}
	var s *Sheet
	start := make([]byte, len(zipStart))
	if n, _ := file.ReadAt(start, 0); stat.Mode().IsRegular() && string(start[:n]) == zipStart {
		s, err = openWorkbook(name, file, stat.Size(), options)
	} else {
		s, err = Read(name, file, options)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	s.close = file.Close
	return s, nil
}

// missing suggests a file beside the one that isn't there.
func missing(path string) string {
	entries, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return "The folder does not exist either."
	}
	var names []string
	for _, entry := range entries {
		if !entry.IsDir() {
			names = append(names, entry.Name())
		}
	}
	if near := words.Nearest(filepath.Base(path), names); near != "" {
		return fmt.Sprintf("Did you mean “%s”?", near)
	}
	return "Look at the spelling and at the folder you are in."
}

// mostUnpacked is how many bytes a packed file may come to.
const mostUnpacked = 16 << 30

// bounded reads no more than a number of bytes: what is longer is an error.
type bounded struct {
	from       io.Reader
	left, most int64
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.from.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, fmt.Errorf("unpacked it has more than %d bytes", b.most)
	}
	return n, err
}

// Read reads a sheet from r; name is what messages call it. A workbook cannot be
// read so, as its parts stand in no order.
func Read(name string, r io.Reader, options Options) (*Sheet, error) {
	return known().read(name, r, options)
}

// read reads a sheet in one of the formats.
func (all formats) read(name string, r io.Reader, options Options) (*Sheet, error) {
	fail := func(message, remedy string) (*Sheet, error) {
		return nil, &Error{Name: name, Message: message, Remedy: remedy}
	}
	source := bufio.NewReaderSize(unlessStopped(r, options.Stop), sampleSize)
	sample, err := source.Peek(sampleSize)
	compressed := bytes.HasPrefix(sample, []byte("\x1f\x8b"))
	if compressed {
		unpacked, err := gzip.NewReader(source)
		if err != nil {
			return fail("begins like a gzip file but is none: "+err.Error(), "Fetch the file again.")
		}
		source = bufio.NewReaderSize(&bounded{unpacked, cmp.Or(options.Most, mostUnpacked), cmp.Or(options.Most, mostUnpacked)}, sampleSize)
		sample, err = source.Peek(sampleSize)
		if err != nil && !errors.Is(err, io.EOF) {
			return fail("cannot be unpacked: "+err.Error(), "The file is cut short or damaged: fetch it again.")
		}
	} else if err != nil && !errors.Is(err, io.EOF) {
		return fail(err.Error(), "")
	}
	if len(sample) == 0 {
		return fail("is empty", "Save the sheet again, or ask for it anew.")
	}
	if strings.HasPrefix(string(sample), zipStart) {
		return fail("is a workbook or another zip archive, which cannot be read from here", "Save it as a file of its own, not compressed further, and name that.")
	}
	if kind, remedy := otherFormat(sample); kind != "" {
		return fail("is "+kind+", not a sheet", remedy)
	}
	text, err := newTextReader(source, sample, options.Encoding)
	if err != nil {
		return nil, &Error{Name: name, Message: err.Error(), Remedy: "Name the encoding the file was saved in, such as utf-8, windows-1250 or shift_jis, or leave it out."}
	}
	decoded := bufio.NewReaderSize(text, sampleSize)
	start, err := decoded.Peek(sampleSize / 2)
	if err != nil && !errors.Is(err, io.EOF) {
		return fail(err.Error(), "")
	}
	s := &Sheet{info: Info{Name: name, Compressed: compressed}, below: below{end: options.End}, close: func() error { return nil }}
	in := input{name, text, decoded, &s.info}
	f, found := all.ofText(start, options)
	if !found {
		return fail("is of no format that can be read", saveAgain)
	}
	if err := f.sheet(in, s, options); err != nil {
		return nil, err
	}
	return s, nil
}

const zipStart = "PK\x03\x04"

const saveAgain = "Open it in the program it belongs to and save it as .xlsx, .ods or CSV UTF-8."

// otherFormat recognises files that are no sheets by how they begin.
func otherFormat(sample []byte) (kind, remedy string) {
	if bytes.HasPrefix(sample, []byte("\xd0\xcf\x11\xe0")) {
		// Both stand in the same container; the names in it are UTF-16.
		if bytes.Contains(sample, []byte("E\x00n\x00c\x00r\x00y\x00p\x00t\x00e\x00d\x00P\x00a\x00c\x00k\x00a\x00g\x00e")) {
			return "a workbook with a password", "Open it with its password and save it without one, or save the tab as CSV UTF-8."
		}
		return "a workbook of the old kind (.xls), or one with a password", "Open it and save it as .xlsx without a password, or as CSV UTF-8."
	}
	for _, format := range []struct{ begins, kind string }{
		{"%PDF-", "a PDF"},
		{"\x89PNG", "a picture"},
		{"\xff\xd8\xff", "a picture"},
		{"SQLite format 3\x00", "a database"},
		{"{\\rtf", "a word-processor document"},
	} {
		if strings.HasPrefix(string(sample), format.begins) {
			return format.kind, saveAgain
		}
	}
	begins := strings.ToLower(strings.TrimSpace(string(sample[:min(len(sample), 64)])))
	if strings.HasPrefix(begins, "<!doctype") || strings.HasPrefix(begins, "<html") || strings.HasPrefix(begins, "<?xml") {
		return "a web page or XML", saveAgain
	}
	if isBinary(sample) {
		return "binary data", saveAgain
	}
	return "", ""
}

// openWorkbook opens a spreadsheet program's file.
func openWorkbook(name string, file io.ReaderAt, size int64, options Options) (*Sheet, error) {
	archive, err := zip.NewReader(file, size)
	if err != nil {
		return nil, &Error{Name: name, Message: "begins like a workbook but cannot be opened: " + err.Error(), Remedy: "The file is cut short or damaged: fetch or save it again."}
	}
	p := parts{name, make(map[string]*zip.File, len(archive.File))}
	for _, f := range archive.File {
		p.files[strings.ToLower(f.Name)] = f
	}
	if f, found := known().ofArchive(p); found {
		return f.open(p, options)
	}
	switch {
	case p.find("xl/workbook.bin") != nil:
		return nil, &Error{Name: name, Message: "is a binary workbook (.xlsb)", Remedy: "Open it and save it as .xlsx."}
	case p.find("word/document.xml") != nil || p.find("content.xml") != nil:
		return nil, &Error{Name: name, Message: "is a document of an office program, not a spreadsheet", Remedy: "Copy the table into a spreadsheet and save that."}
	}
	return nil, &Error{Name: name, Message: "is a zip archive, not a sheet", Remedy: "Unpack it and name the sheet in it."}
}

// A tab is one of a workbook's, with what opens it.
type tab struct {
	name   string
	hidden bool
	open   func() (*Sheet, error)
}

// mostTabs is how many tabs are opened to see which fits.
const mostTabs = 100

// pickTab opens the tab that is named, or the one whose headings fit best. Which of
// two that fit alike is meant, nobody can say. A tab that the spreadsheet program
// does not show is only read if it is named, or if there is no other.
func pickTab(name string, tabs []tab, options Options) (*Sheet, error) {
	if len(options.Tabs) > 0 && options.Tab == "" {
		return together(name, tabs, options)
	}
	all, list := listTabs(tabs)
	if options.Tab != "" {
		for _, t := range tabs {
			if t.name == options.Tab {
				return t.open()
			}
		}
		for _, t := range tabs {
			if words.Key(t.name) == words.Key(options.Tab) {
				return t.open()
			}
		}
		remedy := "It has: " + list + "."
		if near := words.Nearest(options.Tab, all); near != "" {
			remedy = fmt.Sprintf("Did you mean “%s”?", near)
		}
		return nil, &Error{Name: name, Message: fmt.Sprintf("has no tab “%s”", options.Tab), Remedy: remedy}
	}
	every := tabs
	if shown := slices.DeleteFunc(slices.Clone(tabs), func(t tab) bool { return t.hidden }); len(shown) > 0 {
		tabs = shown
	}
	if len(tabs) > mostTabs {
		return nil, &Error{Name: name, Message: fmt.Sprintf("has %d tabs", len(tabs)), Remedy: "Name the one that is meant, with --tab or as “sheet: {tab: …}” in the brief. It has: " + list + "."}
	}
	var best *Sheet
	var at, equal string
	var failed error
	for _, t := range tabs {
		s, err := t.open()
		switch {
		case isDamage(err):
			return nil, unread(name, t.name, err)
		case err != nil:
			failed = errors.Join(failed, err)
		case best == nil || best.fit.less(s.fit):
			best, at, equal = s, t.name, ""
		case best.fit == s.fit && s.fit != (fit{}) && equal == "":
			equal = t.name
		}
	}
	if equal != "" && !options.AnyTab {
		return nil, &Error{Name: name, Message: fmt.Sprintf("has two tabs that fit alike, “%s” and “%s”", at, equal), Remedy: "Name the one that is meant, with --tab or as “sheet: {tab: …}” in the brief; to read both as one sheet: “sheet: {tabs: all}”."}
	}
	if best == nil {
		return nil, failed
	}
	var err error
	best.info.Others, err = otherTabs(name, every, at, best.fit)
	return best, err
}

// otherTabs lists the tabs besides the one that is read which have rows under such headings as well.
func otherTabs(name string, tabs []tab, at string, fits fit) (others []OtherTab, err error) {
	for _, t := range tabs {
		if t.name == at || len(tabs) > mostTabs {
			continue
		}
		s, err := t.open()
		if isDamage(err) && !t.hidden {
			return nil, unread(name, t.name, err)
		}
		if err != nil || !fits.like(s.fit) {
			continue
		}
		other := OtherTab{Name: t.name, Hidden: t.hidden}
		for _, err := range s.Rows() {
			if err != nil {
				return nil, unread(name, t.name, err)
			}
			other.Rows++
		}
		if other.Rows > 0 {
			others = append(others, other)
		}
	}
	return others, nil
}

func isDamage(err error) bool {
	var damaged damage
	return errors.As(err, &damaged)
}

// unread is the error of a tab that cannot be read: nobody can say that another is meant.
func unread(name, tab string, err error) error {
	said := err.Error()
	var told *Error
	if errors.As(err, &told) {
		said = told.Message
	}
	return &Error{Name: name, Message: fmt.Sprintf("the tab “%s” cannot be read: %s", tab, said), Remedy: "Open the workbook in a spreadsheet program and save it again. If another tab is meant, name it with --tab or as “sheet: {tab: …}” in the brief."}
}

// parts are the files in a workbook.
type parts struct {
	name  string
	files map[string]*zip.File // by path in lower case
}

// Caps on what a workbook unpacks to. Real ones unpack to some ten times their
// size; a file made to fill the memory unpacks to thousands.
const (
	maxPart      = 4 << 30
	suspectPart  = 64 << 20
	suspectRatio = 250
	maxSmallPart = 32 << 20
)

func (p parts) find(path string) *zip.File { return p.files[strings.ToLower(path)] }

// open opens a part for reading.
func (p parts) open(path string) (io.Reader, error) {
	f := p.find(path)
	if f == nil {
		return nil, p.broken(fmt.Errorf("it has no part %s", path))
	}
	if f.Flags&1 != 0 {
		return nil, &Error{Name: p.name, Message: "is a workbook with a password", Remedy: "Open it with its password and save it without one."}
	}
	if f.UncompressedSize64 > maxPart || f.UncompressedSize64 > suspectPart && f.UncompressedSize64/max(1, f.CompressedSize64) > suspectRatio {
		return nil, &Error{Name: p.name, Message: fmt.Sprintf("would unpack to %d times its size (%d MiB), as files do that were made to fill a memory", f.UncompressedSize64/max(1, f.CompressedSize64), f.UncompressedSize64>>20), Remedy: "If it is a real sheet, save the tab as CSV UTF-8."}
	}
	r, err := f.Open()
	if err != nil {
		return nil, p.broken(err)
	}
	return r, nil
}

// small reads a part that is never large.
func (p parts) small(path string) ([]byte, error) {
	r, err := p.open(path)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, maxSmallPart))
	if err != nil {
		return nil, p.broken(err)
	}
	return data, nil
}

func (p parts) mimetype() string {
	if p.find("mimetype") == nil {
		return ""
	}
	data, err := p.small("mimetype")
	if err != nil {
		return ""
	}
	return string(data)
}

// broken tells an error in a part.
func (p parts) broken(err error) error {
	var told *Error
	if errors.As(err, &told) {
		return err
	}
	if errors.Is(err, errTooLong) {
		return &Error{Name: p.name, Message: fmt.Sprintf("a row is over %d MiB long", maxRecord>>20), Remedy: "Look for a cell into which a whole document was pasted."}
	}
	return damage{&Error{Name: p.name, Message: "the workbook is damaged: " + err.Error(), Remedy: "Open it in a spreadsheet program and save it again."}}
}

// damage is an error of the file itself, and not of what is asked of it.
type damage struct{ told *Error }

func (d damage) Error() string { return d.told.Error() }
func (d damage) Unwrap() error { return d.told }
