package authority

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"strings"
	"testing"
	"time"
)

var now = time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)

func made(t *testing.T) (*Authority, Issued) {
	t.Helper()
	x, err := New(rand.Reader, "Lagar broker", now)
	if err != nil {
		t.Fatal(err)
	}
	a, err := Open(x.PEM, x.Key)
	if err != nil {
		t.Fatal(err)
	}
	return a, x
}

// verify judges a certificate as whoever is shown it does.
func verify(t *testing.T, ca, cert, host string, at time.Time, use x509.ExtKeyUsage) error {
	t.Helper()
	c, err := Parse(cert)
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM([]byte(ca)) {
		t.Fatal("the CA cannot be read")
	}
	_, err = c.Verify(x509.VerifyOptions{Roots: roots, DNSName: host, CurrentTime: at, KeyUsages: []x509.ExtKeyUsage{use}})
	return err
}

func TestCertificatesHoldForWhatTheyAreMade(t *testing.T) {
	a, ca := made(t)
	unit, err := a.Unit(rand.Reader, "unit-025a11000007-1", now)
	if err != nil {
		t.Fatal(err)
	}
	server, err := a.Server(rand.Reader, []string{"broker.lagar.home.arpa", "192.168.40.2"}, now)
	if err != nil {
		t.Fatal(err)
	}
	_, other := made(t)
	for _, c := range []struct {
		what, ca, cert, host string
		at                   time.Time
		use                  x509.ExtKeyUsage
		holds                bool
	}{
		{"a unit", ca.PEM, unit.PEM, "", now, x509.ExtKeyUsageClientAuth, true},
		{"a unit as a server", ca.PEM, unit.PEM, "", now, x509.ExtKeyUsageServerAuth, false},
		{"a unit after its time", ca.PEM, unit.PEM, "", now.Add(UnitLife + time.Minute), x509.ExtKeyUsageClientAuth, false},
		{"a unit at another broker", other.PEM, unit.PEM, "", now, x509.ExtKeyUsageClientAuth, false},
		{"a server by name", ca.PEM, server.PEM, "broker.lagar.home.arpa", now, x509.ExtKeyUsageServerAuth, true},
		{"a server by address", ca.PEM, server.PEM, "192.168.40.2", now, x509.ExtKeyUsageServerAuth, true},
		{"a server for another host", ca.PEM, server.PEM, "192.168.40.3", now, x509.ExtKeyUsageServerAuth, false},
		{"a server before its time", ca.PEM, server.PEM, "192.168.40.2", now.Add(-2 * time.Hour), x509.ExtKeyUsageServerAuth, false},
	} {
		if err := verify(t, c.ca, c.cert, c.host, c.at, c.use); (err == nil) != c.holds {
			t.Errorf("%s: %v", c.what, err)
		}
	}
	if unit.Serial == server.Serial || unit.Key.String() != "•••" {
		t.Error("serial numbers are not unique, or a key shows itself")
	}
	if _, err := Open(ca.PEM, unit.Key); err != nil {
		t.Error(err) // it opens; what it signs does not hold
	}
}

func TestAServersOwnKey(t *testing.T) {
	a, ca := made(t)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: "whatever it says"}}, key)
	if err != nil {
		t.Fatal(err)
	}
	request := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}))
	x, err := a.SignServer(rand.Reader, request, []string{"broker.lan"}, now)
	if err != nil || !x.Key.IsZero() {
		t.Fatal(err, "or a key that was not made here")
	}
	if err := verify(t, ca.PEM, x.PEM, "broker.lan", now, x509.ExtKeyUsageServerAuth); err != nil {
		t.Error(err)
	}
	for _, bad := range []string{"", ca.PEM, strings.Replace(request, request[60:64], "AAAA", 1)} {
		if _, err := a.SignServer(rand.Reader, bad, []string{"broker.lan"}, now); err == nil {
			t.Errorf("%.40q was signed", bad)
		}
	}
}

func TestTheListOfRevoked(t *testing.T) {
	a, _ := made(t)
	unit, err := a.Unit(rand.Reader, "unit-1", now)
	if err != nil {
		t.Fatal(err)
	}
	text, err := a.List(rand.Reader, []Revoked{{unit.Serial, now}}, 3, now)
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode([]byte(text))
	list, err := x509.ParseRevocationList(block.Bytes)
	if err != nil || list.CheckSignatureFrom(a.Certificate) != nil || list.Number.Int64() != 3 || len(list.RevokedCertificateEntries) != 1 || list.RevokedCertificateEntries[0].SerialNumber.Text(16) != unit.Serial {
		t.Errorf("%v %+v", err, list)
	}
	if _, err := a.List(rand.Reader, []Revoked{{"not a number", now}}, 1, now); err == nil {
		t.Error("nonsense was listed")
	}
}
