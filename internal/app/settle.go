package app

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/posting"
	"evenledger/internal/store"
	"evenledger/internal/system"
	"evenledger/internal/workspace"
)

// An Answer is what an application says of what was handed over to it.
type Answer struct {
	Export  string // its newest export; empty: the one that is kept
	Results string // its list of what it did not take; empty: there is none
	File    string // that the list is of; empty: of any
}

// settler readies finding out what became of what a batch handed over.
func (p *Posts) settler(ctx context.Context, one *Posted, answer Answer) error {
	b, target := one.Batch, one.Target
	if !target.Kind.Later && b.State == batch.Handed { // a post asks the system itself
		if answer != (Answer{}) {
			return mistake(fmt.Sprintf("what batch %d handed over went in no files: %s says itself what became of it", b.ID, b.System), fmt.Sprintf("Ask it with: evenledger settle %d", b.ID))
		}
		one.post = p.poster(one)
		return p.reach(ctx, one)
	}
	if !target.Kind.Later || len(b.Files) == 0 {
		return mistake(fmt.Sprintf("batch %d handed nothing over", b.ID), "Only what goes to an application in files is settled.")
	}
	if answer.File != "" {
		if _, known := fileOf(b, answer.File); !known {
			return mistake(fmt.Sprintf("batch %d has no file %s", b.ID, answer.File), fmt.Sprintf("“evenledger outbox %d” lists them.", b.ID))
		}
	}
	if answer.Export != "" {
		target.Connection = target.Connection.(system.FileConnection).From(answer.Export)
	}
	post := p.poster(one)
	if err := p.connectTo(target, post); err != nil {
		return err
	}
	one.post = post
	hander, is := post.System.(system.Hander)
	if !is {
		return mistake(fmt.Sprintf("the system %s takes no files", b.System), "")
	}
	post.Settles = &posting.Settlement{Listed: answer.Results != "", File: answer.File}
	exported, err := hander.Exported(ctx)
	if err != nil {
		return err
	}
	last := lastHanded(b)
	switch {
	case !exported.IsZero() && exported.After(b.Files[0].At):
		post.Settles.Shows = true
		if _, err := post.System.Describe(ctx); err != nil {
			return err
		}
	case answer.Results == "" && exported.IsZero():
		return mistake(fmt.Sprintf("there is no export of %s to tell what became of batch %d", b.System, b.ID), "Export the accounts in the application and name the file, or give its list of failures with --results.")
	case answer.Results == "":
		return mistake(fmt.Sprintf("the export is of %s, and the files of batch %d were handed over at %s", exported.Local().Format("2 Jan 15:04:05"), b.ID, last.Local().Format("2 Jan 15:04:05")), "When the application has taken the files, export its accounts anew.")
	}
	if post.Settles.Listed {
		if post.Settles.Failures, err = hander.Failures(answer.Results); err != nil {
			return err
		}
	}
	return nil
}

// Settle finds out what became of what a batch handed over, destroys the files with passwords that nobody needs any more,
// and sees to what follows, as after a post. The error is why it could not be begun.
func (a *App) Settle(ctx context.Context, w *workspace.Workspace, l store.Store, b *batch.Batch, answer Answer, how Posting) (*Posted, error) {
	p, one := &Posts{App: a, workspace: w, ledger: l, how: how}, &Posted{Batch: b}
	var err error
	if one.Target, err = SystemOf(w, b); err != nil {
		return nil, err
	}
	if err := p.settler(ctx, one, answer); err != nil {
		return nil, err
	}
	if one.post.Progress = how.Progress; one.post.Settles != nil && !one.post.Settles.Shows {
		one.post.Unproven = true
	}
	if one.Err = one.post.May(ctx); one.Err == nil {
		one.Err = one.post.Run(ctx)
	}
	after := context.WithoutCancel(ctx)
	if one.Err == nil {
		one.Shredded, one.Err = Shred(after, l, b, one.Target)
	}
	p.finish(after, one)
	return one, nil
}

// lastHanded is when the last of a batch's files was handed over.
func lastHanded(b *batch.Batch) (last time.Time) {
	for _, f := range b.Files {
		if f.At.After(last) {
			last = f.At
		}
	}
	return last
}

func fileOf(b *batch.Batch, name string) (batch.File, bool) {
	for _, f := range b.Files {
		if f.Name == name {
			return f, true
		}
	}
	return batch.File{}, false
}

// Shred destroys the files with passwords of which it is known what became of all rows. It returns how many.
func Shred(ctx context.Context, l store.Store, b *batch.Batch, target workspace.System) (n int, err error) {
	open, err := batch.HandedOver(l.Entries(ctx, b.ID, store.Filter{Outcomes: []account.Outcome{account.HandedOver}}))
	if err != nil {
		return 0, err
	}
	at, is := target.Connection.(system.FileConnection)
	for _, f := range b.Files {
		if !is || !f.Sealed || open[f.Name] > 0 {
			continue
		}
		for _, sealed := range []bool{true, false} {
			switch gone := shred(at.File(f.Name, sealed)); {
			case gone == nil:
				n++
			case !errors.Is(gone, fs.ErrNotExist):
				err = errors.Join(err, gone)
			}
		}
	}
	return n, err
}

// shred takes a file away. Where the disk writes in place, nothing of it is left.
func shred(path string) error {
	file, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	stat, err := file.Stat()
	if err == nil {
		_, err = io.CopyN(file, rand.Reader, stat.Size())
	}
	return errors.Join(err, file.Sync(), file.Close(), os.Remove(path))
}

// OpenFiles opens the sealed files of a batch beside them, for whoever gives them to the application. It returns where they are.
func OpenFiles(w *workspace.Workspace, l store.Store, b *batch.Batch, target workspace.System) (paths []string, err error) {
	at, is := target.Connection.(system.FileConnection)
	if !is || b.FilesKey == "" {
		return nil, mistake(fmt.Sprintf("no file of batch %d is sealed", b.ID), "")
	}
	vault := Vaults(w, l).Of(b.ID, b.Key)
	for _, f := range b.Files {
		if !f.Sealed {
			continue
		}
		sealed, err := os.Open(at.File(f.Name, true))
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was taken, or shredded when it was settled
		}
		if err != nil {
			return paths, err
		}
		path := at.File(f.Name, false)
		_, err = writeWhole(path, func(to *os.File) (int, error) {
			plain, err := vault.OpenFile(b.FilesKey, sealed)
			if err != nil {
				return 0, fmt.Errorf("%s cannot be opened: %w", filepath.Base(path), err)
			}
			n, err := io.Copy(to, plain)
			return int(n), err
		})
		if err = errors.Join(err, sealed.Close()); err != nil {
			return paths, err
		}
		paths = append(paths, path)
	}
	if len(paths) == 0 {
		return nil, mistake(fmt.Sprintf("the sealed files of batch %d are not in the outbox any more", b.ID), "They are shredded when it is known what became of their rows.")
	}
	return paths, nil
}
