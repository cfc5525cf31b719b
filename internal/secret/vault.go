// Package secret keeps passwords from being seen: it seals them for the ledger,
// makes new ones, judges them, and writes those that people are to get.
//
// It promises that no password stands in clear in anything it writes, unless the
// caller asks for just that.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// keySize is that of AES-256.
const keySize = 32

// A Vault seals secrets with a key that lies in a file of its own, so that the
// ledger alone, or a copy of it, tells nobody.
type Vault struct {
	path string
	aead cipher.AEAD
}

// NewVault returns the vault whose key lies at path. The key is made when it is
// first needed, readable by its owner alone.
func NewVault(path string) *Vault { return &Vault{path: path} }

func (v *Vault) open() error {
	if v.aead != nil {
		return nil
	}
	key, err := os.ReadFile(v.path)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, keySize)
		if _, err := rand.Read(key); err != nil {
			return err
		}
		file, err := os.OpenFile(v.path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return fmt.Errorf("the key for passwords cannot be kept: %w", err)
		}
		if _, err = file.Write(key); err == nil {
			err = file.Sync()
		}
		if err = errors.Join(err, file.Close()); err != nil {
			return err
		}
	} else if err != nil {
		return fmt.Errorf("the key for passwords cannot be read: %w", err)
	}
	if len(key) != keySize {
		return fmt.Errorf("%s is not a key for passwords", v.path)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return err
	}
	v.aead, err = cipher.NewGCM(block)
	return err
}

// Seal seals a secret.
func (v *Vault) Seal(text string) (string, error) {
	if err := v.open(); err != nil {
		return "", err
	}
	nonce := make([]byte, v.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return "", err
	}
	return base64.RawStdEncoding.EncodeToString(v.aead.Seal(nonce, nonce, []byte(text), nil)), nil
}

// Open opens what Seal sealed.
func (v *Vault) Open(sealed string) (string, error) {
	if err := v.open(); err != nil {
		return "", err
	}
	data, err := base64.RawStdEncoding.DecodeString(sealed)
	if err != nil || len(data) < v.aead.NonceSize() {
		return "", errors.New("a sealed password is broken")
	}
	n := v.aead.NonceSize()
	text, err := v.aead.Open(nil, data[:n], data[n:], nil)
	if err != nil {
		return "", errors.New("a sealed password does not open with the workspace's key: the key was exchanged, or the ledger comes from elsewhere")
	}
	return string(text), nil
}
