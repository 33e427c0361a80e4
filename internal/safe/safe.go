// Package safe encrypts secrets for keeping: AES-256-GCM (NIST SP 800-38D) with
// a random nonce, the id of the key, and the purpose of the secret bound in,
// so that an encrypted secret cannot stand in for another.
//
// Its keys come from a file or from the environment, never from the database
// that keeps what is encrypted. Several keys may be there: the first encrypts, all
// decrypt, so that a key can be replaced while what older ones encrypted stays
// readable.
package safe

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"strings"
	"sync"
)

// Secret is something nobody may see by chance: printed, logged or made JSON it
// is "(secret)".
type Secret []byte

// shown is what stands in the place of a secret in everything printed.
const shown = "(secret)"

// String implements fmt.Stringer.
func (Secret) String() string { return shown }

// GoString implements fmt.GoStringer.
func (Secret) GoString() string { return shown }

// Format implements fmt.Formatter, for every verb.
func (Secret) Format(f fmt.State, _ rune) { _, _ = f.Write([]byte(shown)) }

// MarshalText implements encoding.TextMarshaler.
func (Secret) MarshalText() ([]byte, error) { return []byte(shown), nil }

// LogValue implements slog.LogValuer.
func (Secret) LogValue() slog.Value { return slog.StringValue(shown) }

// Sizes in bytes.
const (
	keySize = 32
	idSize  = 8
)

// version is the form of what Encrypt gives: this byte, key id, nonce, ciphertext.
const version = 1

// Safe encrypts and decrypts. Safe for concurrent use.
type Safe struct {
	source string // where the keys come from, for errors
	file   string // that they are in; "" when they are in the environment

	mu   sync.RWMutex
	held *ring // replaced as a whole
}

// ring is a set of keys.
type ring struct {
	current string                 // id of the key that encrypts
	keys    map[string]cipher.AEAD // by their id; one encrypts, all decrypt
}

// ring gives the keys as they are now.
func (v *Safe) ring() *ring {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.held
}

// KeyError says that the safe's keys cannot be used.
type KeyError struct{ Source, Problem, Next string }

// Error names where the key was looked for and what to do.
func (e *KeyError) Error() string {
	return fmt.Sprintf("the safe's key in %s %s; %s", e.Source, e.Problem, e.Next)
}

// MissingError says that something was encrypted with a key the safe has not.
type MissingError struct{ Source, Key string }

// Error is told before anything is written with another key.
func (e *MissingError) Error() string {
	return fmt.Sprintf("the safe's key %s is not in %s; put it back from your backup: without it nothing it encrypted "+
		"can be read", e.Key, e.Source)
}

// ErrDecrypt says that what should be decrypted was changed, cut short, or encrypted
// for another purpose.
var ErrDecrypt = errors.New("what is encrypted cannot be decrypted: it was changed, or is not what it is taken for")

// FromFile opens a safe with the keys of a file, one a line in base64, the
// newest first. A file that is not there is made with a new key when fresh
// says so, and is an error otherwise. A file others may read is refused.
func FromFile(path string, fresh bool) (*Safe, error) {
	st, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && fresh:
		if err := makeFile(path); err != nil {
			return nil, &KeyError{path, fmt.Sprintf("cannot be made: %v", err), "choose another place with --safe-key"}
		}
	case errors.Is(err, fs.ErrNotExist):
		return nil, &KeyError{path, "is missing, and the database holds what was encrypted with it",
			"put the file back from your backup, or name it with --safe-key"}
	case err != nil:
		return nil, &KeyError{path, fmt.Sprintf("cannot be read: %v", err), "let the service's user read it"}
	case st.Mode().Perm()&0o077 != 0:
		return nil, &KeyError{path, fmt.Sprintf("may be read by others (mode %04o)", st.Mode().Perm()), "chmod 600 " + path}
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, &KeyError{path, fmt.Sprintf("cannot be read: %v", err), "let the service's user read it"}
	}
	defer clear(text)
	v, err := FromText(string(text), path)
	if err == nil {
		v.file = path
	}
	return v, err
}

// ErrNoFile says that the safe's keys are not in a file that could be written.
var ErrNoFile = errors.New("the safe's keys are in the environment")

// Renew puts a new key in front of the others in the safe's file, at once or not at
// all, and encrypts with it from now on. The error is ErrNoFile when the keys are
// not in a file.
func (v *Safe) Renew() error {
	if v.file == "" {
		return ErrNoFile
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	text, err := os.ReadFile(v.file)
	if err != nil {
		return err
	}
	defer clear(text)
	fresh := v.file + ".new"
	if err := os.Remove(fresh); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := makeFile(fresh); err != nil {
		return err
	}
	f, err := os.OpenFile(fresh, os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(fresh, v.file); err != nil {
		return err
	}
	return v.reload()
}

// reload reads the file anew; the lock is held.
func (v *Safe) reload() error {
	text, err := os.ReadFile(v.file)
	if err != nil {
		return err
	}
	defer clear(text)
	fresh, err := FromText(string(text), v.source)
	if err != nil {
		return err
	}
	v.held = fresh.held
	return nil
}

// of gives a key by its id. One that is not known may have come into the file
// meanwhile, by another process that shares it.
func (v *Safe) of(id string) cipher.AEAD {
	if aead := v.ring().keys[id]; aead != nil || v.file == "" {
		return aead
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.reload(); err != nil {
		return nil
	}
	return v.held.keys[id]
}

// KeyOf is the id of the key that something was encrypted with; "" when it is
// nothing a safe has made.
func KeyOf(encrypted []byte) string {
	if len(encrypted) < 1+idSize || encrypted[0] != version {
		return ""
	}
	return hex.EncodeToString(encrypted[1 : 1+idSize])
}

// Source is where the keys come from.
func (v *Safe) Source() string { return v.source }

// makeFile makes the key of a new installation, readable by its user alone. An
// existing file is never written over.
func makeFile(path string) error {
	key := make([]byte, keySize)
	defer clear(key)
	if _, err := rand.Read(key); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if _, err := f.WriteString(base64.StdEncoding.EncodeToString(key) + "\n"); err != nil {
		return errors.Join(err, f.Close())
	}
	return errors.Join(f.Sync(), f.Close())
}

// FromText opens a safe with keys in base64, parted by white space; source is
// said in errors.
func FromText(text, source string) (*Safe, error) {
	v := &ring{keys: map[string]cipher.AEAD{}}
	for _, word := range strings.Fields(text) {
		key, err := base64.StdEncoding.DecodeString(word)
		if err != nil || len(key) != keySize {
			return nil, &KeyError{source, fmt.Sprintf("is not %d bytes in base64", keySize),
				"make one with: openssl rand -base64 32"}
		}
		block, err := aes.NewCipher(key)
		if err != nil {
			return nil, err
		}
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		id := idOf(key)
		clear(key)
		v.keys[id] = aead
		if v.current == "" {
			v.current = id
		}
	}
	if v.current == "" {
		return nil, &KeyError{source, "is empty", "make one with: openssl rand -base64 32"}
	}
	return &Safe{source: source, held: v}, nil
}

// idOf names a key without telling anything of it. Its text is part of what is
// stored and stays as it was first released.
func idOf(key []byte) string {
	sum := sha256.Sum256(append([]byte("insegna vault key id\x00"), key...))
	return hex.EncodeToString(sum[:idSize])
}

// Key is the id of the key that encrypts.
func (v *Safe) Key() string { return v.ring().current }

// Encrypt encrypts a secret for a purpose, such as "account 7 key".
func (v *Safe) Encrypt(secret Secret, purpose string) ([]byte, error) {
	held := v.ring()
	aead := held.keys[held.current]
	id, err := hex.DecodeString(held.current)
	if err != nil {
		return nil, err
	}
	out := append([]byte{version}, id...)
	nonce := make([]byte, aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	out = append(out, nonce...)
	return aead.Seal(out, nonce, secret, bound(out[:1+idSize], purpose)), nil
}

// Decrypt gives back what was encrypted for a purpose. The error is a *MissingError
// when the key is not there, ErrDecrypt otherwise.
func (v *Safe) Decrypt(encrypted []byte, purpose string) (Secret, error) {
	id := KeyOf(encrypted)
	if id == "" {
		return nil, ErrDecrypt
	}
	aead := v.of(id)
	if aead == nil {
		return nil, &MissingError{v.source, id}
	}
	rest := encrypted[1+idSize:]
	if len(rest) < aead.NonceSize() {
		return nil, ErrDecrypt
	}
	secret, err := aead.Open(nil, rest[:aead.NonceSize()], rest[aead.NonceSize():], bound(encrypted[:1+idSize], purpose))
	if err != nil {
		return nil, ErrDecrypt
	}
	return secret, nil
}

// bound is what is authenticated besides the secret itself.
func bound(head []byte, purpose string) []byte {
	return append(append([]byte{}, head...), purpose...)
}
