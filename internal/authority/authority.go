// Package authority makes the certificates of a broker's own certification
// authority (RFC 5280): the authority itself, certificates of units and of servers,
// and the list of those that were revoked. It keeps nothing and opens no connection;
// time and randomness are passed in.
package authority

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"slices"
	"time"

	"fado/internal/core/secret"
)

// How long what is made is valid.
const (
	AuthorityLife = 20 * 365 * 24 * time.Hour
	UnitLife      = 2 * 365 * 24 * time.Hour
	ServerLife    = 397 * 24 * time.Hour
	ListLife      = 30 * 24 * time.Hour // of a list of revoked certificates
)

// early is how long before now a certificate begins: clocks differ.
const early = time.Hour

// Authority signs certificates.
type Authority struct {
	Certificate *x509.Certificate
	key         crypto.Signer
}

// Issued is a certificate with its key.
type Issued struct {
	Serial string // hexadecimal
	PEM    string
	Key    secret.Secret // PEM; zero when the key was made elsewhere
	From   time.Time
	Until  time.Time
}

// New makes an authority. It signs certificates and lists of revoked ones, and no
// further authorities (RFC 5280, section 4.2.1.9).
func New(random io.Reader, name string, now time.Time) (Issued, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), random)
	if err != nil {
		return Issued{}, fmt.Errorf("make the authority's key: %w", err)
	}
	serial, err := newSerial(random)
	if err != nil {
		return Issued{}, err
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-early), NotAfter: now.Add(AuthorityLife),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	return sign(random, t, t, key.Public(), key, key)
}

// Open reads an authority that New made.
func Open(certificate string, key secret.Secret) (*Authority, error) {
	c, err := Parse(certificate)
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode([]byte(key.Expose()))
	if block == nil {
		return nil, errors.New("the authority's key cannot be read")
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("read the authority's key: %w", err)
	}
	s, ok := k.(crypto.Signer)
	if !ok {
		return nil, errors.New("the authority's key cannot sign")
	}
	return &Authority{c, s}, nil
}

// Parse reads a certificate.
func Parse(text string) (*x509.Certificate, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil || block.Type != "CERTIFICATE" {
		return nil, errors.New("there is no certificate in PEM form")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("read the certificate: %w", err)
	}
	return c, nil
}

// Unit makes the certificate of a unit. Its common name is its broker account, so
// that brokers can take one for the other.
func (a *Authority) Unit(random io.Reader, account string, now time.Time) (Issued, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), random)
	if err != nil {
		return Issued{}, fmt.Errorf("make the key of %s: %w", account, err)
	}
	return a.issue(random, pkix.Name{CommonName: account}, nil, now, UnitLife, x509.ExtKeyUsageClientAuth, key.Public(), key)
}

// Server makes the certificate of a server with these names and addresses.
func (a *Authority) Server(random io.Reader, names []string, now time.Time) (Issued, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), random)
	if err != nil {
		return Issued{}, fmt.Errorf("make the server's key: %w", err)
	}
	return a.issue(random, pkix.Name{CommonName: names[0]}, names, now, ServerLife, x509.ExtKeyUsageServerAuth, key.Public(), key)
}

// MaxRequest is the longest request that is read, in bytes.
const MaxRequest = 16 << 10

// SignServer makes the certificate of a server that made its own key: of its request
// (PKCS #10, RFC 2986) the key is taken, the names are those given.
func (a *Authority) SignServer(random io.Reader, request string, names []string, now time.Time) (Issued, error) {
	block, _ := pem.Decode([]byte(request))
	if block == nil || block.Type != "CERTIFICATE REQUEST" || len(request) > MaxRequest {
		return Issued{}, errors.New("there is no certificate request in PEM form")
	}
	r, err := x509.ParseCertificateRequest(block.Bytes)
	if err != nil {
		return Issued{}, fmt.Errorf("read the certificate request: %w", err)
	}
	if err := r.CheckSignature(); err != nil {
		return Issued{}, fmt.Errorf("the request is not signed by its own key: %w", err)
	}
	return a.issue(random, pkix.Name{CommonName: names[0]}, names, now, ServerLife, x509.ExtKeyUsageServerAuth, r.PublicKey, nil)
}

func (a *Authority) issue(random io.Reader, subject pkix.Name, names []string, now time.Time, life time.Duration, use x509.ExtKeyUsage, public crypto.PublicKey, private crypto.PrivateKey) (Issued, error) {
	serial, err := newSerial(random)
	if err != nil {
		return Issued{}, err
	}
	until := now.Add(life)
	if until.After(a.Certificate.NotAfter) {
		until = a.Certificate.NotAfter
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: subject, NotBefore: now.Add(-early), NotAfter: until, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{use}}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, n)
		}
	}
	return sign(random, t, a.Certificate, public, a.key, private)
}

func sign(random io.Reader, t, parent *x509.Certificate, public crypto.PublicKey, signer crypto.Signer, private crypto.PrivateKey) (Issued, error) {
	der, err := x509.CreateCertificate(random, t, parent, public, signer)
	if err != nil {
		return Issued{}, fmt.Errorf("sign the certificate of %s: %w", t.Subject.CommonName, err)
	}
	out := Issued{Serial: t.SerialNumber.Text(16), From: t.NotBefore, Until: t.NotAfter,
		PEM: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))}
	if private != nil {
		raw, err := x509.MarshalPKCS8PrivateKey(private)
		if err != nil {
			return Issued{}, fmt.Errorf("encode the key of %s: %w", t.Subject.CommonName, err)
		}
		out.Key = secret.New(string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})))
	}
	return out, nil
}

// newSerial makes a serial number of 127 random bits (RFC 5280, section 4.1.2.2).
func newSerial(random io.Reader) (*big.Int, error) {
	b := make([]byte, 16)
	if _, err := io.ReadFull(random, b); err != nil {
		return nil, fmt.Errorf("make a serial number: %w", err)
	}
	b[0] = b[0]&0x7f | 0x40 // positive, and always of one length
	return new(big.Int).SetBytes(b), nil
}

// Revoked is a certificate that no longer counts.
type Revoked struct {
	Serial string // hexadecimal
	At     time.Time
}

// List signs the list of revoked certificates (RFC 5280, section 5). Each has a
// higher number than the last.
func (a *Authority) List(random io.Reader, revoked []Revoked, number int64, now time.Time) (string, error) {
	t := &x509.RevocationList{Number: big.NewInt(number), ThisUpdate: now.Add(-early), NextUpdate: now.Add(ListLife)}
	for _, r := range revoked {
		n, ok := new(big.Int).SetString(r.Serial, 16)
		if !ok {
			return "", fmt.Errorf("%q is no serial number", r.Serial)
		}
		t.RevokedCertificateEntries = append(t.RevokedCertificateEntries, x509.RevocationListEntry{SerialNumber: n, RevocationTime: r.At})
	}
	slices.SortFunc(t.RevokedCertificateEntries, func(a, b x509.RevocationListEntry) int { return a.SerialNumber.Cmp(b.SerialNumber) })
	der, err := x509.CreateRevocationList(random, t, a.Certificate, a.key)
	if err != nil {
		return "", fmt.Errorf("sign the list of revoked certificates: %w", err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der})), nil
}
