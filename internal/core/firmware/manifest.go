package firmware

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"regexp"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// ManifestType is the JWS "typ" header of a manifest.
const ManifestType = "update-manifest+jws"

// MaxManifest is the longest manifest that is read, in bytes.
const MaxManifest = 16 << 10

// Manifest carries the information elements of RFC 9124 that Fado uses, each
// named by its section there.
type Manifest struct {
	Format        int           `json:"manifest"`                // 3.1, version of the manifest structure: 1
	Sequence      uint64        `json:"sequence"`                // 3.2, never decreases for one firmware
	Vendor        string        `json:"vendor,omitempty"`        // 3.3, vendor id condition
	Class         []string      `json:"class"`                   // 3.4, class id condition: model names
	Expires       *time.Time    `json:"expires,omitempty"`       // 3.7
	PayloadFormat string        `json:"payload_format"`          // 3.8: "raw"
	Component     Part          `json:"component"`               // 3.10, component identifier
	Digest        PayloadDigest `json:"digest"`                  // 3.13
	Size          int64         `json:"size"`                    // 3.14, bytes
	Firmware      string        `json:"firmware"`                // 3.17, manifest text information
	Version       string        `json:"version"`                 // 3.17
	RequiredFrom  string        `json:"required_from,omitempty"` // 3.6, required image version list, as a lowest version
	Chip          string        `json:"chip,omitempty"`
}

// PayloadDigest is the digest of the whole image.
type PayloadDigest struct {
	SHA256 string `json:"sha-256"`
}

// ManifestOf writes the manifest of an image.
func ManifestOf(img Image) Manifest {
	return Manifest{
		Format: 1, Sequence: img.Sequence, Class: img.Models, PayloadFormat: "raw", Component: img.Part,
		Digest: PayloadDigest{img.SHA256}, Size: img.Size, Firmware: img.Firmware, Version: img.Version,
		RequiredFrom: img.OldestFrom, Chip: img.Chip,
	}
}

// Sign writes the manifest as a compact JWS (RFC 7515) with Ed25519 (RFC 8037).
func Sign(m Manifest, key ed25519.PrivateKey) (string, error) {
	payload, err := json.Marshal(m)
	if err != nil {
		return "", fmt.Errorf("encode manifest: %w", err)
	}
	opts := (&jose.SignerOptions{}).WithType(ManifestType).WithHeader("kid", KeyID(key.Public().(ed25519.PublicKey)))
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: key}, opts)
	if err != nil {
		return "", fmt.Errorf("prepare to sign manifest: %w", err)
	}
	jws, err := signer.Sign(payload)
	if err != nil {
		return "", fmt.Errorf("sign manifest: %w", err)
	}
	return jws.CompactSerialize()
}

// PublicKeyText is the x member of the key's JWK (RFC 8037 section 2).
func PublicKeyText(key ed25519.PublicKey) string { return base64.RawURLEncoding.EncodeToString(key) }

// ParsePublicKey reads what PublicKeyText writes.
func ParsePublicKey(text string) (ed25519.PublicKey, error) {
	b, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || len(b) != ed25519.PublicKeySize {
		return nil, fmt.Errorf("%q is no Ed25519 public key", text)
	}
	return b, nil
}

// KeyID names a key by the start of its public part.
func KeyID(key ed25519.PublicKey) string { return PublicKeyText(key)[:12] }

var hexDigest = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Verify checks the signature by one of the keys and reads the manifest. It
// does not compare the manifest with an image; Match does.
func Verify(compact string, keys ...ed25519.PublicKey) (Manifest, error) {
	var m Manifest
	if len(compact) > MaxManifest {
		return m, fmt.Errorf("the manifest is %d bytes long; at most %d are read", len(compact), MaxManifest)
	}
	jws, err := jose.ParseSignedCompact(compact, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return m, fmt.Errorf("the manifest is no compact JWS signed with Ed25519: %w", err)
	}
	var payload []byte
	for _, k := range keys {
		if payload, err = jws.Verify(k); err == nil {
			break
		}
	}
	if payload == nil {
		return m, fmt.Errorf("the manifest is not signed by a key that is trusted here")
	}
	if err := json.Unmarshal(payload, &m); err != nil {
		return m, fmt.Errorf("read the manifest: %w", err)
	}
	switch {
	case m.Format != 1:
		return m, fmt.Errorf("the manifest has structure version %d; 1 is understood", m.Format)
	case !hexDigest.MatchString(m.Digest.SHA256):
		return m, fmt.Errorf("the manifest has no sha-256 digest of 64 hexadecimal digits")
	case len(m.Class) == 0 || m.Size <= 0 || m.Version == "" || m.Firmware == "":
		return m, fmt.Errorf("the manifest lacks class, size, firmware or version")
	}
	return m, nil
}

// Match compares a manifest with the image that it came with.
func (m Manifest) Match(img Image) error {
	switch {
	case m.Digest.SHA256 != img.SHA256:
		return fmt.Errorf("the manifest is for a file with SHA-256 %s; this one is %s", m.Digest.SHA256, img.SHA256)
	case m.Size != img.Size:
		return fmt.Errorf("the manifest is for a file of %d bytes; this one has %d", m.Size, img.Size)
	}
	return nil
}
