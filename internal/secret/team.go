package secret

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"
	"filippo.io/age/armor"
)

// A Team shares the keys of batches: each is kept where all can have it, sealed so that its
// members alone can open it, and not who keeps it.
type Team struct {
	Keeper   Keeper
	Opens    []string                  // the public keys of the members (age, X25519)
	Identity func() (*Identity, error) // who is at work
}

// A Keeper keeps the sealed keys of batches.
type Keeper interface {
	// Key returns the sealed key of a batch; empty: there is none.
	Key(batch int) (sealed string, err error)
	// KeepKey keeps it, unless there is one already.
	KeepKey(batch int, sealed string) error
	ForgetKey(batch int) error
}

// key returns the key of a batch that has one.
func (t *Team) key(batch int) ([]byte, error) {
	sealed, err := t.Keeper.Key(batch)
	if err == nil && sealed == "" {
		err = errors.New("the key of its batch was destroyed")
	}
	if err != nil {
		return nil, err
	}
	return t.open(sealed)
}

// newKey makes the key of a batch. What is sealed is sealed with no other: whoever keeps the keys
// might have put one there that they know.
func (t *Team) newKey(batch int) ([]byte, error) {
	var to []age.Recipient
	for _, text := range t.Opens {
		r, err := age.ParseX25519Recipient(text)
		if err != nil {
			return nil, fmt.Errorf("%s is not the public key of a person", text)
		}
		to = append(to, r)
	}
	key := make([]byte, keySize)
	if _, err := rand.Read(key); err != nil {
		return nil, err
	}
	var text bytes.Buffer
	armored := armor.NewWriter(&text)
	into, err := age.Encrypt(armored, to...)
	if err != nil {
		return nil, err
	}
	if _, err := into.Write(key); err != nil {
		return nil, err
	}
	if err := errors.Join(into.Close(), armored.Close()); err != nil {
		return nil, err
	}
	if err := t.Keeper.KeepKey(batch, text.String()); err != nil {
		return nil, err
	}
	if kept, err := t.Keeper.Key(batch); err != nil || kept != text.String() {
		return nil, errors.Join(err, errors.New("somebody put another key in its place"))
	}
	return key, nil
}

func (t *Team) open(sealed string) ([]byte, error) {
	who, err := t.Identity()
	if err != nil {
		return nil, err
	}
	plain, err := age.Decrypt(armor.NewReader(strings.NewReader(sealed)), who.opens)
	if err != nil {
		return nil, errors.New("the key of its batch is not sealed for you: when it was drafted, your public key did not stand in evenledger.yaml")
	}
	key, err := io.ReadAll(io.LimitReader(plain, keySize+1))
	if err == nil && len(key) != keySize {
		err = errors.New("the key of its batch is broken")
	}
	return key, err
}

// An Identity is what a person of a team has alone: what opens the keys of batches, and what signs.
type Identity struct {
	opens *age.X25519Identity
	signs ed25519.PrivateKey
}

// signing begins the line of an identity's file that has the seed of the key that signs.
const signing = "EVENLEDGER-SIGNING-KEY-"

// NewIdentity makes one.
func NewIdentity() (*Identity, error) {
	opens, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	_, signs, err := ed25519.GenerateKey(rand.Reader)
	return &Identity{opens, signs}, err
}

// ParseIdentity reads an identity out of the text of its file.
func ParseIdentity(text string) (*Identity, error) {
	i := &Identity{}
	for line := range strings.Lines(text) {
		switch line = strings.TrimSpace(line); {
		case line == "" || strings.HasPrefix(line, "#"):
		case strings.HasPrefix(line, signing):
			seed, err := base64.RawStdEncoding.DecodeString(strings.TrimPrefix(line, signing))
			if err != nil || len(seed) != ed25519.SeedSize {
				return nil, errors.New("the key that signs cannot be read")
			}
			i.signs = ed25519.NewKeyFromSeed(seed)
		default:
			var err error
			if i.opens, err = age.ParseX25519Identity(line); err != nil {
				return nil, errors.New("there is a line in it that is no key")
			}
		}
	}
	if i.opens == nil || i.signs == nil {
		return nil, errors.New("a key is missing in it")
	}
	return i, nil
}

// Keep writes the identity to a new file that its owner alone can read.
func (i *Identity) Keep(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(file, "# Whoever has this file is you. Keep it to yourself.\n%s\n%s%s\n", i.opens, signing, base64.RawStdEncoding.EncodeToString(i.signs.Seed()))
	return errors.Join(err, file.Sync(), file.Close())
}

// Opens and Signs are the public keys, as they stand in evenledger.yaml.
func (i *Identity) Opens() string { return i.opens.Recipient().String() }
func (i *Identity) Signs() string {
	return ed25519Mark + base64.RawStdEncoding.EncodeToString(i.signs.Public().(ed25519.PublicKey))
}

const ed25519Mark = "ed25519:"

// Sign signs a text (RFC 8032).
func (i *Identity) Sign(text string) string {
	return base64.RawStdEncoding.EncodeToString(ed25519.Sign(i.signs, []byte(text)))
}

// IsOpeningKey and IsSigningKey report whether a text is such a public key.
func IsOpeningKey(text string) bool {
	_, err := age.ParseX25519Recipient(text)
	return err == nil
}
func IsSigningKey(text string) bool {
	_, err := signingKey(text)
	return err == nil
}

func signingKey(text string) (ed25519.PublicKey, error) {
	key, err := base64.RawStdEncoding.DecodeString(strings.TrimPrefix(text, ed25519Mark))
	if err != nil || !strings.HasPrefix(text, ed25519Mark) || len(key) != ed25519.PublicKeySize {
		return nil, errors.New("that is no key that signs")
	}
	return key, nil
}

// Signed reports whether a key signed a text.
func Signed(key, text, signature string) bool {
	public, err := signingKey(key)
	sig, bad := base64.RawStdEncoding.DecodeString(signature)
	return err == nil && bad == nil && len(sig) == ed25519.SignatureSize && ed25519.Verify(public, []byte(text), sig)
}
