package broker

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"
)

// Certificate is what a broker shows to those who connect by TLS.
type Certificate struct {
	Names   string // that it is for
	From    time.Time
	Until   time.Time
	Trouble string // why units that check it do not connect, "" when they do
}

// LookAt connects by TLS and judges the certificate as a unit does: by the CA, the
// host's name and the time (RFC 5280, section 6; RFC 9525). It does not sign in.
func LookAt(ctx context.Context, a Address, now time.Time) (Certificate, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	raw, err := a.Net.Dial(ctx, "tcp", net.JoinHostPort(a.Host, strconv.Itoa(a.Port)))
	if err != nil {
		return Certificate{}, fmt.Errorf("look at the broker's certificate: %w", err)
	}
	defer raw.Close()
	// It is judged below; here it is wanted whatever it is.
	c := tls.Client(raw, &tls.Config{InsecureSkipVerify: true, ServerName: a.Host, MinVersion: tls.VersionTLS12})
	if err := c.HandshakeContext(ctx); err != nil && len(c.ConnectionState().PeerCertificates) == 0 {
		return Certificate{}, fmt.Errorf("look at the broker's certificate: %w", err)
	}
	chain := c.ConnectionState().PeerCertificates
	leaf := chain[0]
	names := append([]string{}, leaf.DNSNames...)
	for _, ip := range leaf.IPAddresses {
		names = append(names, ip.String())
	}
	out := Certificate{Names: strings.Join(names, ", "), From: leaf.NotBefore.UTC(), Until: leaf.NotAfter.UTC()}
	o := x509.VerifyOptions{DNSName: a.Host, CurrentTime: now, Intermediates: x509.NewCertPool()}
	for _, x := range chain[1:] {
		o.Intermediates.AddCert(x)
	}
	if a.CA != "" {
		o.Roots = x509.NewCertPool()
		if !o.Roots.AppendCertsFromPEM([]byte(a.CA)) {
			return out, errors.New("the broker's CA certificate cannot be read")
		}
	}
	_, err = leaf.Verify(o)
	var invalid x509.CertificateInvalidError
	var host x509.HostnameError
	var unknown x509.UnknownAuthorityError
	switch {
	case err == nil:
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired && now.Before(leaf.NotBefore):
		out.Trouble = "it is not valid before " + leaf.NotBefore.UTC().Format(time.RFC3339)
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		out.Trouble = "it ended on " + leaf.NotAfter.UTC().Format(time.RFC3339)
	case errors.As(err, &host):
		out.Trouble = fmt.Sprintf("it is for %s, and units connect to %s", out.Names, a.Host)
	case errors.As(err, &unknown):
		out.Trouble = "it was not signed by the CA that units are given"
	default:
		out.Trouble = err.Error()
	}
	return out, nil
}
