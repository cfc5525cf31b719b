// Package secret keeps passwords from being seen: it seals them for the ledger,
// makes new ones, judges them, and writes those that people are to get.
//
// It promises that no password stands in clear in anything it writes, unless the
// caller asks for just that.
package secret

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"

	"filippo.io/age"
)

// keySize is that of AES-256.
const keySize = 32

// Vaults are those of a workspace's batches. Each batch has a key of its own, in a
// file of its own, so that the ledger alone, or a copy of it, tells nobody; and when
// the key is destroyed, what it sealed can be opened by nobody any more, wherever
// the ledger or its copies still have it.
type Vaults struct {
	folder string
	team   *Team // nil: the keys are files
}

// NewVaults returns the vaults whose keys lie in a folder, which is made when it is
// first needed, for its owner alone.
func NewVaults(folder string) *Vaults { return &Vaults{folder: folder} }

// NewTeamVaults returns the vaults of a team. Batches that were drafted before it was one have their
// keys in the folder.
func NewTeamVaults(folder string, t Team) *Vaults { return &Vaults{folder, &t} }

// Of returns the vault of a batch. What it opens was sealed with the key that is called so, as its
// draft says; empty: it may be any that the team keeps.
func (v *Vaults) Of(batch int, key string) *Vault {
	vault := &Vault{path: v.path(batch), team: v.team, batch: batch, key: key}
	if _, err := os.Stat(vault.path); err == nil {
		vault.team = nil
	}
	return vault
}

func (v *Vaults) path(batch int) string {
	return filepath.Join(v.folder, strconv.Itoa(batch)+".key")
}

// Destroy destroys the key of a batch, if there is one.
func (v *Vaults) Destroy(batch int) error {
	if v.team != nil {
		if err := v.team.Keeper.ForgetKey(batch); err != nil {
			return err
		}
	}
	file, err := os.OpenFile(v.path(batch), os.O_WRONLY, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("the key for passwords cannot be destroyed: %w", err)
	}
	// Where the disk writes in place, nothing of it is left.
	_, err = file.Write(make([]byte, keySize))
	if err = errors.Join(err, file.Sync(), file.Close(), os.Remove(v.path(batch))); err != nil {
		return fmt.Errorf("the key for passwords cannot be destroyed: %w", err)
	}
	return nil
}

// A Vault seals the secrets of one batch. It may be used by several goroutines.
type Vault struct {
	path  string
	team  *Team
	batch int
	key   string // what its key is called; empty: any
	once  sync.Once
	aead  cipher.AEAD
	err   error
}

func (v *Vault) open(toSeal bool) error {
	v.once.Do(func() { v.err = v.ready(toSeal) })
	return v.err
}

func (v *Vault) ready(toSeal bool) error {
	if v.team != nil {
		get := v.team.key
		if toSeal {
			get = v.team.newKey
		}
		key, err := get(v.batch)
		if err != nil {
			return err
		}
		return v.seals(key)
	}
	if stat, err := os.Stat(v.path); err == nil && runtime.GOOS != "windows" && stat.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("the key for passwords %s may be read by others (mode %04o): run chmod 600 %s", v.path, stat.Mode().Perm(), v.path)
	}
	key, err := os.ReadFile(v.path)
	if errors.Is(err, fs.ErrNotExist) {
		if key, err = v.newKey(); err != nil {
			return fmt.Errorf("the key for passwords cannot be kept: %w", err)
		}
	} else if err != nil {
		return fmt.Errorf("the key for passwords cannot be read: %w", err)
	}
	if len(key) != keySize {
		return fmt.Errorf("%s is not a key for passwords", v.path)
	}
	return v.seals(key)
}

// seals has the vault seal with a key.
func (v *Vault) seals(key []byte) error {
	block, err := aes.NewCipher(key)
	if err != nil {
		return err
	}
	v.aead, err = cipher.NewGCM(block)
	return err
}

// newKey makes the key and keeps it, readable by its owner alone. It is there whole or not
// at all, and if somebody else makes it at the same moment, it is that one.
func (v *Vault) newKey() (key []byte, err error) {
	folder := filepath.Dir(v.path)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	key = make([]byte, keySize)
	if _, err := rand.Read(key); err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(folder, ".key-*") // with mode 0600
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.Remove(file.Name())) }()
	if _, err = file.Write(key); err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return nil, err
	}
	if err = os.Link(file.Name(), v.path); err != nil && !errors.Is(err, fs.ErrExist) {
		err = copyNew(v.path, file.Name()) // the file system has no links
	}
	if errors.Is(err, fs.ErrExist) {
		return os.ReadFile(v.path)
	}
	return key, err
}

// given marks a sealed password that the sheet gave: it is not handed out again.
const given = "given:"

// SealGiven seals a password that the sheet gave in a row.
func (v *Vault) SealGiven(row int, text string) (string, error) {
	sealed, err := v.Seal(row, text)
	return given + sealed, err
}

// IsGiven reports whether a sealed password is one that the sheet gave.
func IsGiven(sealed string) bool { return strings.HasPrefix(sealed, given) }

// Seal seals the secret of a row of a batch that is being made. It opens as the secret of no other row, nor
// of one of another batch.
func (v *Vault) Seal(row int, text string) (string, error) {
	if err := v.open(true); err != nil {
		return "", err
	}
	nonce := make([]byte, v.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return "", err
	}
	return base64.RawStdEncoding.EncodeToString(v.aead.Seal(nonce, nonce, []byte(text), v.place(row))), nil
}

// place is the row that a secret is sealed for.
func (v *Vault) place(row int) []byte { return fmt.Appendf(nil, "batch %d row %d", v.batch, row) }

// KeyName is what the key is called that a team keeps for the batch; empty: it keeps none.
func (v *Vault) KeyName() (string, error) {
	if v.team == nil {
		return "", nil
	}
	sealed, err := v.team.Keeper.Key(v.batch)
	return nameOf(sealed), err
}

// nameOf names a sealed key, so that no other is called so.
func nameOf(sealed string) string {
	if sealed == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(sealed))
	return hex.EncodeToString(sum[:])
}

// Check returns why nothing could be opened, or nil.
func (v *Vault) Check() error {
	if v.team != nil {
		sealed, err := v.team.Keeper.Key(v.batch)
		if err == nil && sealed == "" {
			err = errors.New("the key of its batch was destroyed")
		}
		if err == nil && v.key != "" && nameOf(sealed) != v.key {
			err = errors.New("the key of its batch is not the one that it was drafted with: it was exchanged")
		}
		if err != nil {
			return err
		}
		return v.open(false)
	}
	if _, err := os.Stat(v.path); errors.Is(err, fs.ErrNotExist) {
		return errors.New("the key of its batch was destroyed or lost, or the ledger comes from elsewhere")
	}
	return v.open(false)
}

// Open opens what Seal sealed for a row.
func (v *Vault) Open(row int, sealed string) (string, error) {
	if err := v.Check(); err != nil {
		return "", fmt.Errorf("a sealed password cannot be opened: %w", err)
	}
	data, err := base64.RawStdEncoding.DecodeString(strings.TrimPrefix(sealed, given))
	if err != nil || len(data) < v.aead.NonceSize() {
		return "", errors.New("a sealed password is broken")
	}
	n := v.aead.NonceSize()
	text, err := v.aead.Open(nil, data[:n], data[n:], v.place(row))
	if err != nil {
		return "", errors.New("a sealed password does not open as that of its row: it was exchanged, or the key of its batch was, or the ledger comes from elsewhere")
	}
	return string(text), nil
}

// NewFileKey makes what opens files that hold passwords, sealed.
func (v *Vault) NewFileKey() (sealed string, err error) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return "", err
	}
	return v.Seal(ofFiles, key.String())
}

// ofFiles is the place of the key of files, where rows have their number.
const ofFiles = -1

// SealFile seals a file (age, X25519) for whoever has the vault, and OpenFile opens it.
func (v *Vault) SealFile(key string, content []byte) ([]byte, error) {
	who, err := v.fileKey(key)
	if err != nil {
		return nil, err
	}
	var sealed bytes.Buffer
	into, err := age.Encrypt(&sealed, who.Recipient())
	if err != nil {
		return nil, err
	}
	if _, err := into.Write(content); err != nil {
		return nil, err
	}
	err = into.Close()
	return sealed.Bytes(), err
}

// OpenFile opens what SealFile sealed.
func (v *Vault) OpenFile(key string, sealed io.Reader) (io.Reader, error) {
	who, err := v.fileKey(key)
	if err != nil {
		return nil, err
	}
	return age.Decrypt(sealed, who)
}

func (v *Vault) fileKey(sealed string) (*age.X25519Identity, error) {
	text, err := v.Open(ofFiles, sealed)
	if err != nil {
		return nil, err
	}
	return age.ParseX25519Identity(text)
}

// CopyKeys copies the keys of batches from one folder to another, where they are not there yet.
func CopyKeys(from, to string) error {
	keys, err := filepath.Glob(filepath.Join(from, "*.key"))
	if err != nil || len(keys) == 0 {
		return err
	}
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	for _, key := range keys {
		if err := copyNew(filepath.Join(to, filepath.Base(key)), key); err != nil && !errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("the keys of passwords cannot be copied: %w", err)
		}
	}
	return nil
}
