package cli

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/account"
	"evenledger/internal/batch"
	"evenledger/internal/ledger"
	"evenledger/internal/report"
	"evenledger/internal/secret"
	"evenledger/internal/workspace"
)

// credentialFlags say where generated passwords go.
type credentialFlags struct {
	file       string
	to         []string
	passphrase string
	clear      bool
}

func (f *credentialFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.file, "credentials", "", "the new `FILE` for sign-in names and generated passwords, encrypted")
	cmd.Flags().StringSliceVar(&f.to, "to", nil, "encrypt it to these `KEYS`, which begin with age1")
	cmd.Flags().StringVar(&f.passphrase, "passphrase", "", "or with the passphrase kept at env:NAME or file:PATH")
	cmd.Flags().BoolVar(&f.clear, "in-clear", false, "or do not encrypt it")
}

// envelope reads the flags, before anything is sent.
func (f *credentialFlags) envelope(dir string) (e secret.Envelope, err error) {
	ways := 0
	for _, given := range []bool{len(f.to) > 0, f.passphrase != "", f.clear} {
		if given {
			ways++
		}
	}
	switch {
	case f.file == "" && ways == 0:
		return e, nil
	case f.file == "":
		return e, wrong("--to, --passphrase and --in-clear say how --credentials is written, and it is not given", "Name a file: --credentials starters.age")
	case ways == 0:
		return e, wrong("nothing says who may read "+f.file, "Give --to with the key of whom it is for, or --passphrase env:NAME. Passwords are written in clear only with --in-clear.")
	case ways > 1:
		return e, wrong("more than one of --to, --passphrase and --in-clear is given", "Keep one of them.")
	case exists(f.file):
		return e, wrong(f.file+" exists already", "Name another file: passwords that stand in it would be lost.")
	case f.clear:
		e = secret.InClear()
	case len(f.to) > 0:
		e, err = secret.ToKeys(f.to)
	default:
		var kept secret.Reference
		if kept, err = secret.NewReference(f.passphrase, dir); err == nil {
			var text string
			if text, err = kept.Open(); err == nil {
				e, err = secret.ToPassphrase(text)
			}
		}
	}
	if err == nil {
		err = secret.CanWrite(f.file)
	}
	if err != nil {
		return e, wrong(err.Error(), "")
	}
	return e, nil
}

// again writes the flags for a further post of the batch: the passwords of the others go
// into a file of their own.
func (f *credentialFlags) again() string {
	if f.file == "" {
		return ""
	}
	ending := filepath.Ext(f.file)
	name := strings.TrimSuffix(f.file, ending)
	flags := ""
	for n := 2; flags == ""; n++ {
		if path := fmt.Sprintf("%s-%d%s", name, n, ending); !exists(path) {
			flags = " --credentials " + quoted(path)
		}
	}
	for _, key := range f.to {
		flags += " --to " + key
	}
	if f.passphrase != "" {
		flags += " --passphrase " + quoted(f.passphrase)
	}
	if f.clear {
		flags += " --in-clear"
	}
	return flags
}

// writeCredentials writes the generated passwords of the accounts that were made,
// and then forgets them.
func (a *app) writeCredentials(ctx context.Context, w *workspace.Workspace, l *ledger.Ledger, b *batch.Batch, o order) error {
	if b.Secrets == "" {
		return nil
	}
	made, waiting, err := l.Secrets(ctx, b.ID)
	if err != nil {
		return err
	}
	if made > 0 && !o.envelope.Given() {
		a.remark("%s still to be handed out: evenledger post %d --credentials FILE --to KEY", counted(made, "generated password is", "generated passwords are"), b.ID)
		return nil
	}
	if made > 0 {
		if err := a.handOut(ctx, w, l, b, o); err != nil {
			return err
		}
	}
	if waiting == 0 && b.State == batch.Posted {
		return forget(ctx, w, l, b.ID)
	}
	return nil
}

// forget destroys what is left of a batch's passwords: they can be opened by nobody
// any more, whatever still has them.
func forget(ctx context.Context, w *workspace.Workspace, l *ledger.Ledger, id int) error {
	return errors.Join(l.Wipe(ctx, id, nil), vaults(w).Destroy(id), l.CutJournal(ctx))
}

// handOut writes the generated passwords of the accounts that were made.
func (a *app) handOut(ctx context.Context, w *workspace.Workspace, l *ledger.Ledger, b *batch.Batch, o order) error {
	sealed := vaults(w).Of(b.ID)
	var rows []int
	n, err := o.envelope.WriteFile(o.credentials.file, func(yield func(secret.Credential, error) bool) {
		for e, err := range made(l.Entries(ctx, b.ID, ledger.Filter{Secrets: true})) {
			c := secret.Credential{}
			if err == nil {
				c.Password, err = sealed.Open(e.Secret)
			}
			fields := map[string]string{}
			for _, change := range e.Changes {
				fields[change.Field] = change.After.Text()
			}
			c.UserName, c.Name, c.Email = fields["userName"], fields["displayName"], fields["email"]
			if c.Name == "" {
				c.Name = fields["givenName"] + " " + fields["familyName"]
			}
			if !yield(c, err) {
				return
			}
			rows = append(rows, e.Row)
		}
	})
	if err != nil {
		return fmt.Errorf("the passwords could not be written and are kept, sealed: %w", err)
	}
	if err := l.Wipe(ctx, b.ID, rows); err != nil {
		return err
	}
	a.remark("%s: %s. They are kept nowhere else.", o.credentials.file, counted(n, "generated password", "generated passwords"))
	return nil
}

func counted(n int, one, many string) string { return report.Number(n) + " " + plural(n, one, many) }

// made yields the entries whose account was created and whose password is kept.
func made(entries iter.Seq2[batch.Entry, error]) iter.Seq2[batch.Entry, error] {
	return func(yield func(batch.Entry, error) bool) {
		for e, err := range entries {
			if (err != nil || e.Secret != "" && !secret.IsGiven(e.Secret) && e.Did == account.Created) && !yield(e, err) {
				return
			}
		}
	}
}
