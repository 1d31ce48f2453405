// Package secret holds the one type that carries a secret through Fado.
//
// A secret goes in and does not come out: it prints as three dots, and every
// encoder is given nothing. Only Expose returns the characters, and a test in
// internal/floors keeps the list of packages that may call it.
package secret

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html"
	"iter"
	"log/slog"
	"net/url"
	"slices"
	"strings"
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

// Hide masks every secret among the values in a text that somebody else wrote,
// such as a unit that repeats what it refused. It knows a secret as it is and as
// it stands in HTML, in JSON, in a form and in a path.
func Hide(text string, among iter.Seq[any]) string {
	var spelled []string
	for v := range among {
		s, ok := v.(Secret)
		if !ok || s.IsZero() {
			continue
		}
		inHTML := html.EscapeString(s.text)
		spelled = append(spelled, s.text, inHTML, strings.ReplaceAll(inHTML, "&#34;", "&quot;"), inJSON(s.text, true), inJSON(s.text, false), url.QueryEscape(s.text), url.PathEscape(s.text))
	}
	// The longest first: one secret may be part of another.
	slices.SortFunc(spelled, func(a, b string) int { return len(b) - len(a) })
	for _, x := range spelled {
		text = strings.ReplaceAll(text, x, Mask)
	}
	return text
}

// inJSON is a text as it stands between the quotes of a JSON string; some
// encoders escape what HTML would take for its own, too.
func inJSON(text string, forHTML bool) string {
	var b bytes.Buffer
	j := json.NewEncoder(&b)
	j.SetEscapeHTML(forHTML)
	_ = j.Encode(text) // it fails for no string
	return strings.TrimSuffix(strings.TrimPrefix(b.String(), `"`), "\"\n")
}
