package files

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"os"
	"slices"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/layout"
	"evenledger/internal/system"
)

// mostOpen is how many files of one part there may be: each value of a field that has files of its own is one.
const mostOpen = 200

// SealedEnding is that of a file that lies sealed.
const SealedEnding = ".age"

// A handing is the files of one part while they are made.
type handing struct {
	*app
	export      *export
	batch, part int
	date        string
	files       []*file
	cells       []string // of the last line
}

// A file is one of them.
type file struct {
	name   string
	each   string         // the value that has it
	does   account.Intent // of its first line
	temp   *os.File       // nil: it holds passwords, and nothing of it is on disk before it is sealed
	plain  bytes.Buffer
	writer *layout.Writer
	sum    hash.Hash
	bytes  int64
	rows   int
	done   system.HandedFile
}

// Write notes what goes into the file.
func (f *file) Write(p []byte) (int, error) {
	f.bytes += int64(len(p))
	f.sum.Write(p)
	if f.temp == nil {
		return f.plain.Write(p)
	}
	return f.temp.Write(p)
}

// Hand implements system.Hander.
func (a *app) Hand(ctx context.Context, batch, part int, at time.Time) (system.Handing, error) {
	x, err := a.export(ctx)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(a.beside, 0o700); err != nil {
		return nil, a.trouble("made", err)
	}
	return &handing{app: a, export: x, batch: batch, part: part, date: at.Format(time.DateOnly)}, nil
}

func (a *app) trouble(what string, err error) error {
	return &system.Unavailable{Message: fmt.Sprintf("files for %s cannot be %s in %s: %s", a.name, what, a.told, err), Remedy: "See that the folder can be written to, and that there is room.", Err: err}
}

// Add implements system.Handing.
func (h *handing) Add(intended system.Intended) (name string, line int, full bool, why []account.Finding, err error) {
	wants, why := h.app.line(h.export, intended)
	if why != nil {
		return "", 0, false, why, nil
	}
	cells, problems := h.layout.Cells(wants, h.cells[:0])
	h.cells = cells
	if len(problems) > 0 {
		return "", 0, false, findings(problems), nil
	}
	each := h.layout.EachOf(wants)
	f, err := h.file(each, wants.Does)
	if err != nil || f == nil {
		return "", 0, f == nil, nil, err
	}
	if f.each != each {
		problem := account.Find(account.Error, account.CannotBeWritten, fmt.Sprintf("“%s” and “%s” would have files of one name, %s", f.each, each, f.name))
		problem.Field = h.layout.Each
		return "", 0, false, []account.Finding{problem}, nil
	}
	if f.rows > 0 && (h.layout.Rows > 0 && f.rows == h.layout.Rows || h.layout.Bytes > 0 && f.bytes+f.writer.Held()+int64(sizeOf(cells)) > h.layout.Bytes) {
		return "", 0, true, nil, nil
	}
	if err := f.writer.Write(cells); err != nil {
		return "", 0, false, nil, h.trouble("written", err)
	}
	f.rows++
	return f.name, f.writer.Line(), false, nil, nil
}

// sizeOf is how many bytes a line takes at most.
func sizeOf(cells []string) (n int) {
	for _, cell := range cells {
		n += 2*len(cell) + 3
	}
	return n + 2
}

// file is that of one value; nil: there are as many as there may be.
func (h *handing) file(each string, does account.Intent) (*file, error) {
	name := h.layout.FileName(h.batch, h.part, each, h.date)
	if i := slices.IndexFunc(h.files, func(f *file) bool { return f.name == name }); i >= 0 {
		return h.files[i], nil
	}
	if len(h.files) == mostOpen {
		return nil, nil
	}
	f := &file{name: name, each: each, does: does, sum: sha256.New()}
	if !h.layout.HoldsPasswords() {
		if err := h.working(f); err != nil {
			return nil, err
		}
	}
	h.files = append(h.files, f)
	var err error
	if f.writer, err = h.layout.NewWriter(f); err != nil {
		return nil, h.trouble("written", err)
	}
	return f, nil
}

// working gives a file a working file beside where it is put.
func (h *handing) working(f *file) (err error) {
	if f.temp, err = os.CreateTemp(h.beside, ".evenledger-*"); err != nil { // with mode 0600
		return h.trouble("written", err)
	}
	return nil
}

// End implements system.Handing.
func (h *handing) End() (all []system.HandedFile, err error) {
	if h.layout.Each == layout.ByAction { // who is made may be named by the others
		slices.SortStableFunc(h.files, func(a, b *file) int {
			return slices.Index(account.Intents(), a.does) - slices.Index(account.Intents(), b.does)
		})
	}
	for _, f := range h.files {
		err := f.writer.Close()
		if f.temp != nil {
			err = errors.Join(err, f.temp.Sync())
		}
		if err != nil {
			return nil, h.trouble("written", err)
		}
		if h.layout.Bytes > 0 && f.bytes > h.layout.Bytes {
			return nil, &system.Unavailable{Message: fmt.Sprintf("the file %s has %d bytes, and the application takes %d", f.name, f.bytes, h.layout.Bytes), Remedy: "Give the layout a smaller number of “rows” in its limits."}
		}
		f.done = system.HandedFile{Name: f.name, Rows: f.rows, Sum: hex.EncodeToString(f.sum.Sum(nil)), Bytes: f.bytes, Sealed: h.layout.HoldsPasswords()}
		all = append(all, f.done)
	}
	return all, nil
}

// Put implements system.Handing.
func (h *handing) Put(ctx context.Context, seal system.Seal, noted map[string]string) (put []system.HandedFile, err error) {
	err = h.outbox.on(ctx, h.work, func(at shelf) error {
		for _, f := range h.files {
			there, err := h.put(f, at, seal, noted)
			if err != nil {
				return err
			}
			if !there {
				put = append(put, f.done)
			}
		}
		return nil
	})
	var known *system.Unavailable
	if err != nil && !errors.As(err, &known) {
		err = h.trouble("put", err)
	}
	return put, err
}

// put puts one file, unless it is there.
func (h *handing) put(f *file, at shelf, seal system.Seal, noted map[string]string) (there bool, err error) {
	name := f.name
	if f.done.Sealed {
		name += SealedEnding
	}
	switch sum, err := at.sum(name); {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return false, err
	case sum == f.done.Sum, noted != nil && (sum == noted[f.name] || f.done.Sealed): // what is sealed cannot be compared
		return true, nil
	default:
		return false, &system.Unavailable{Message: fmt.Sprintf("there is a file %s in %s already, and it is another", name, h.told), Remedy: "Take it away if nobody needs it, or let the layout's files be called otherwise, and post again."}
	}
	if f.done.Sealed {
		if err := h.seal(f, seal); err != nil {
			return false, err
		}
	}
	return false, at.put(f.temp.Name(), name)
}

// seal has the working file hold what is sealed.
func (h *handing) seal(f *file, seal system.Seal) error {
	sealed, err := seal(f.plain.Bytes())
	if err != nil {
		return h.trouble("sealed", err)
	}
	if err := h.working(f); err != nil {
		return err
	}
	if _, err := f.temp.Write(sealed); err != nil {
		return h.trouble("written", err)
	}
	return f.temp.Sync()
}

// Close implements system.Handing.
func (h *handing) Close() (err error) {
	for _, f := range h.files {
		if f.temp != nil {
			err = errors.Join(err, f.temp.Close())
			if gone := os.Remove(f.temp.Name()); !errors.Is(gone, fs.ErrNotExist) { // it was moved
				err = errors.Join(err, gone)
			}
		}
	}
	h.files = nil
	return err
}

// line is what a row of a file is to say of what is intended.
func (a *app) line(x *export, intended system.Intended) (*layout.Line, []account.Finding) {
	cannot := func(field, format string, args ...any) []account.Finding {
		f := account.Find(account.Error, account.CannotBeWritten, fmt.Sprintf(format, args...))
		f.Field = field
		return []account.Finding{f}
	}
	if marks := intended.Does == account.Suspend || intended.Does == account.Resume; marks && !a.layout.Does(intended.Does) && a.marks() {
		intended.Does = account.Update // of the field that says who may sign in
	}
	if !a.layout.Does(intended.Does) {
		return nil, cannot("", "the application's files have no way to %s an account", intended.Does)
	}
	line := &layout.Line{Does: intended.Does, Account: account.Account{Fields: map[string]account.Value{}, Password: intended.Password}}
	if intended.Known.ID != "" {
		known, there := x.account(intended.Known.ID)
		if !there {
			return nil, cannot("", "the account %s is not in the export", intended.Known.ID)
		}
		line.Account.ID, line.Account.Fields = known.ID, known.Fields
		if !a.layout.Adds {
			line.Ties = slices.Clone(x.of[known.ID])
		}
	}
	touched := map[string]bool{}
	for _, c := range intended.Changes {
		line.Account.Fields[c.Field], touched[c.Field] = c.After, true
	}
	if intended.Known.ID != "" && a.layout.Clears && intended.Does != account.Remove {
		for _, c := range a.layout.Columns {
			if c.Fill == layout.Field && !x.shown.Fields[c.Field] && !touched[c.Field] {
				return nil, cannot(c.Field, "the file would empty “%s”, as the export does not show what stands there and a blank cell clears", c.Heading)
			}
		}
	}
	for _, t := range intended.Ties {
		same := func(m account.Membership) bool { return m.Kind == t.Kind && m.Thing == t.Thing }
		if t.Leave && a.layout.Adds {
			return nil, cannot(t.Kind, "the application's files can add to the %s of an account, and take nothing away: %s", t.Kind, t.Thing)
		}
		line.Ties = slices.DeleteFunc(line.Ties, same)
		if !t.Leave {
			line.Ties = append(line.Ties, account.Membership{Kind: t.Kind, Thing: t.Thing, Role: t.Role, Section: t.Section})
		}
	}
	return line, nil
}

// marks reports whether who may sign in is a field of the files.
func (a *app) marks() bool {
	_, has := a.layout.Column("active")
	return has && a.layout.Does(account.Update)
}

// findings tell why a line cannot be written.
func findings(problems []layout.Problem) (all []account.Finding) {
	for _, p := range problems {
		f := account.Find(account.Error, account.CannotBeWritten, p.Why)
		f.Field = p.Field
		all = append(all, f)
	}
	return all
}

// Foresee implements system.Foreseer.
func (a *app) Foresee(ctx context.Context, all []system.Intended) ([][]account.Finding, error) {
	x, err := a.export(ctx)
	if err != nil {
		return nil, err
	}
	told := make([][]account.Finding, len(all))
	for i, intended := range all {
		line, why := a.line(x, intended)
		if told[i] = why; why == nil {
			_, problems := a.layout.Cells(line, nil)
			told[i] = findings(problems)
		}
	}
	return told, nil
}

// Leftovers implements system.Foreseer.
func (a *app) Leftovers(context.Context, string) ([]string, error) { return nil, nil }
