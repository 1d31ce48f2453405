package store

import (
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"

	"fado/internal/core/problem"
	"fado/internal/core/secret"
)

// KeyFile is the name of the file that holds the sealing key. It lies beside
// the database folder, never in it.
const KeyFile = "seal.key"

// Sealer seals secrets for the database and makes keyed hashes. Its keys are
// derived from the sealing key (HKDF, RFC 5869), one a purpose.
type Sealer struct {
	aead cipher.AEAD
	hash []byte
	link []byte
	raw  []byte
}

// NewSealer derives the keys from 32 bytes.
func NewSealer(raw []byte) (*Sealer, error) {
	if len(raw) != 32 {
		return nil, fmt.Errorf("the sealing key is %d bytes long; want 32", len(raw))
	}
	derive := func(purpose string) []byte {
		k, err := hkdf.Key(sha256.New, raw, nil, "fado "+purpose, 32)
		if err != nil {
			panic(err) // 32 bytes are always within what HKDF gives
		}
		return k
	}
	aead, err := chacha20poly1305.NewX(derive("seal"))
	if err != nil {
		return nil, err
	}
	return &Sealer{aead: aead, hash: derive("hash"), link: derive("link"), raw: raw}, nil
}

// Seal encrypts a secret for one place, which is bound to it: it opens nowhere
// else.
func (s *Sealer) Seal(place string, x secret.Secret) []byte {
	if x.IsZero() {
		return nil
	}
	nonce := make([]byte, s.aead.NonceSize(), s.aead.NonceSize()+len(x.Expose())+s.aead.Overhead())
	_, _ = rand.Read(nonce)
	return s.aead.Seal(nonce, nonce, []byte(x.Expose()), []byte(place))
}

// Open decrypts what Seal made for the same place. Nothing gives the absent
// secret.
func (s *Sealer) Open(place string, sealed []byte) (secret.Secret, error) {
	if len(sealed) == 0 {
		return secret.Secret{}, nil
	}
	n := s.aead.NonceSize()
	if len(sealed) < n {
		return secret.Secret{}, errors.New("a sealed value is cut short")
	}
	plain, err := s.aead.Open(nil, sealed[:n], sealed[n:], []byte(place))
	if err != nil {
		return secret.Secret{}, fmt.Errorf("open the sealed value of %s: the sealing key is another, or the value was changed", place)
	}
	return secret.New(string(plain)), nil
}

// Hash is a keyed hash: it compares random secrets without keeping them.
func (s *Sealer) Hash(text string) string {
	h := hmac.New(sha256.New, s.hash)
	h.Write([]byte(text))
	return hex.EncodeToString(h.Sum(nil))
}

// LinkMAC signs the id of a download link.
func (s *Sealer) LinkMAC(text string) string {
	h := hmac.New(sha256.New, s.link)
	h.Write([]byte(text))
	return base64.RawURLEncoding.EncodeToString(h.Sum(nil)[:18])
}

// LoadKey reads the sealing key of a data folder, or makes one, readable by its
// owner alone, when the folder holds no records yet.
func LoadKey(dir string) (*Sealer, error) {
	path := filepath.Join(dir, KeyFile)
	b, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if _, err := os.Stat(filepath.Join(dir, recordsFile)); err == nil {
			return nil, problem.New(problem.Broken, fmt.Sprintf("The sealing key %s is missing, and there are records sealed with it.", path),
				"The file was deleted or left behind when the folder was moved.",
				"Put the file back, or restore a backup with «fado restore»; the secrets cannot be read without it.")
		}
		raw := make([]byte, 32)
		_, _ = rand.Read(raw)
		if err := os.WriteFile(path, []byte(base64.StdEncoding.EncodeToString(raw)+"\n"), 0o600); err != nil {
			return nil, fmt.Errorf("write the sealing key: %w", err)
		}
		return NewSealer(raw)
	case err != nil:
		return nil, fmt.Errorf("read the sealing key: %w", err)
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, problem.New(problem.Broken, fmt.Sprintf("The sealing key %s can be read by others (mode %04o).", path, info.Mode().Perm()),
			"The file was copied without its mode.", fmt.Sprintf("Run «chmod 600 %s», then start again.", path))
	}
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(b)))
	if err == nil && len(raw) != 32 {
		err = fmt.Errorf("%d bytes", len(raw))
	}
	if err != nil {
		return nil, problem.New(problem.Broken, fmt.Sprintf("The sealing key %s cannot be used.", path), "The file was edited or is cut short.",
			"Put the right file back, or restore a backup with «fado restore».").Because(err)
	}
	return NewSealer(raw)
}
