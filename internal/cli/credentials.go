package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"evenledger/internal/batch"
	"evenledger/internal/report"
	"evenledger/internal/secret"
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
	cmd.Flags().StringVar(&f.passphrase, "passphrase", "", "or with the passphrase kept at `PLACE`: env:NAME or file:PATH")
	cmd.Flags().BoolVar(&f.clear, "in-clear", false, "or do not encrypt it")
	ofWriting.tell(cmd, "credentials", "to", "passphrase", "in-clear")
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
			flags = " --credentials " + report.Quoted(path)
		}
	}
	for _, key := range f.to {
		flags += " --to " + key
	}
	if f.passphrase != "" {
		flags += " --passphrase " + report.Quoted(f.passphrase)
	}
	if f.clear {
		flags += " --in-clear"
	}
	return flags
}

// of is the file for the passwords of a batch: of each of several it is called by the system as well.
func (f *credentialFlags) of(b *batch.Batch, several bool) string {
	if f.file == "" || !several {
		return f.file
	}
	ending := filepath.Ext(f.file)
	return strings.TrimSuffix(f.file, ending) + "-" + b.System + ending
}
