// Package secret holds the one type that carries a secret through Fado.
//
// A secret goes in and does not come out: it prints as three dots, and every
// encoder is given nothing. Only Expose returns the characters, and a test in
// internal/floors keeps the list of packages that may call it.
package secret

import (
	"fmt"
	"log/slog"
)

// Mask is what a secret looks like wherever it is printed.
const Mask = "•••"

// Secret is a passphrase, password, key or token. The zero value is the
// absence of a secret.
type Secret struct{ text string }

// New wraps text. An empty text gives the absent secret.
func New(text string) Secret { return Secret{text} }

// Expose returns the characters. It is for the encoder of a request to the
// party that the secret is meant for, for sealing and for hashing.
func (s Secret) Expose() string { return s.text }

// IsZero reports whether there is no secret.
func (s Secret) IsZero() bool { return s.text == "" }

// String returns Mask, or nothing when there is no secret.
func (s Secret) String() string {
	if s.text == "" {
		return ""
	}
	return Mask
}

// Format prints the mask for every verb, so that %q, %x and %#v cannot leak.
func (s Secret) Format(f fmt.State, _ rune) { _, _ = f.Write([]byte(s.String())) }

// LogValue keeps structured logs from reaching the characters.
func (s Secret) LogValue() slog.Value { return slog.StringValue(s.String()) }

// MarshalText gives every text encoder nothing.
func (s Secret) MarshalText() ([]byte, error) { return []byte{}, nil }

// MarshalJSON gives null, whether or not a secret is held.
func (s Secret) MarshalJSON() ([]byte, error) { return []byte("null"), nil }

// UnmarshalText takes a secret in, from a JSON string or a form.
func (s *Secret) UnmarshalText(b []byte) error {
	s.text = string(b)
	return nil
}
