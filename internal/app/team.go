package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"evenledger/internal/secret"
	"evenledger/internal/store"
	"evenledger/internal/workspace"
)

// Vaults are those of a ledger's batches: of a team, if the workspace names people who can open
// them, or else of this machine.
func Vaults(w *workspace.Workspace, l store.Store) *secret.Vaults {
	team := secret.Team{Keeper: keeper{l}, Identity: func() (*secret.Identity, error) { return Identity(w) }}
	for _, p := range w.People {
		if p.Opens != "" {
			team.Opens = append(team.Opens, p.Opens)
		}
	}
	folder := w.Ledger.Path + ".keys"
	if len(team.Opens) == 0 {
		return secret.NewVaults(folder)
	}
	return secret.NewTeamVaults(folder, team)
}

// A keeper keeps the sealed keys of batches in the ledger.
type keeper struct{ store.Store }

func (k keeper) Key(batch int) (string, error) {
	return k.Passwords(batch).Key(context.Background())
}

func (k keeper) KeepKey(batch int, sealed string) error {
	return k.Passwords(batch).KeepKey(context.Background(), sealed)
}

func (k keeper) ForgetKey(batch int) error {
	return k.Passwords(batch).ForgetKey(context.Background())
}

// identityPath is where the identity of who is at work is kept, if evenledger.yaml does not say.
func identityPath() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "evenledger", "identity"), err
}

// Identity is that of who is at work.
func Identity(w *workspace.Workspace) (*secret.Identity, error) {
	if w.Identity.Given() {
		text, err := w.Identity.Open()
		if err != nil {
			return nil, mistake(fmt.Sprintf("your identity cannot be read: %s", err), "evenledger.yaml says under “identity” where it is kept.")
		}
		return parsed(text, w.Identity.String())
	}
	path, err := identityPath()
	if err != nil {
		return nil, err
	}
	return identityIn(path)
}

// identityIn is the identity in a file.
func identityIn(path string) (*secret.Identity, error) {
	stat, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, mistake("you have no identity yet", "“evenledger identity” makes one, and says what to write into evenledger.yaml.")
	case err != nil:
		return nil, err
	case runtime.GOOS != "windows" && stat.Mode().Perm()&0o077 != 0:
		return nil, mistake(fmt.Sprintf("your identity %s may be read by others (mode %04o)", path, stat.Mode().Perm()), "Run: chmod 600 "+path)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return parsed(string(data), path)
}

func parsed(text, where string) (*secret.Identity, error) {
	who, err := secret.ParseIdentity(text)
	if err != nil {
		return nil, mistake(fmt.Sprintf("your identity, %s, cannot be used: %s", where, err), "")
	}
	return who, nil
}

// known are words that anybody knows of an organisation: those of its address.
func known(name, address string) []string {
	at, err := url.Parse(address)
	if err != nil {
		return []string{name}
	}
	return append(strings.Split(at.Hostname(), "."), name)
}

// OwnIdentity is the person's identity and the file that it is in: the one that evenledger.yaml names, or the
// person's own, which is made if there is none.
func (a *App) OwnIdentity() (who *secret.Identity, path string, made bool, err error) {
	if w, err := a.FindWorkspace(); err == nil && w.Identity.Given() {
		who, err = Identity(w)
		return who, w.Identity.String(), false, err
	}
	if path, err = identityPath(); err != nil {
		return nil, "", false, err
	}
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		who, err = identityIn(path)
		return who, path, false, err
	}
	if who, err = secret.NewIdentity(); err == nil {
		err = who.Keep(path)
	}
	return who, path, true, err
}
