package broker

import (
	"encoding/pem"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"
)

// TestWhatIsWrongWithACertificate: each thing for which a unit that checks it would not
// connect has its own sentence.
func TestWhatIsWrongWithACertificate(t *testing.T) {
	s := httptest.NewTLSServer(http.NotFoundHandler())
	t.Cleanup(s.Close)
	_, p, err := net.SplitHostPort(s.Listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	port, err := strconv.Atoi(p)
	if err != nil {
		t.Fatal(err)
	}
	ca := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw}))
	within := s.Certificate().NotBefore.Add(time.Hour)
	for _, c := range []struct {
		host, ca, trouble string
		now               time.Time
	}{
		{"127.0.0.1", ca, "", within},
		{"localhost", ca, "it is for example.com", within},
		{"localhost", ca, "and units connect to localhost", within},
		{"127.0.0.1", ca, "it ended on ", s.Certificate().NotAfter.Add(time.Hour)},
		{"127.0.0.1", ca, "it is not valid before ", s.Certificate().NotBefore.Add(-time.Hour)},
		{"127.0.0.1", "", "it was not signed by the CA", within},
	} {
		got, err := LookAt(t.Context(), Address{Host: c.host, Port: port, TLS: true, CA: c.ca}, c.now)
		if err != nil || !strings.Contains(got.Trouble, c.trouble) || (c.trouble == "") != (got.Trouble == "") {
			t.Errorf("%s at %v: %q, want %q (%v)", c.host, c.now, got.Trouble, c.trouble, err)
		}
	}
	if _, err := LookAt(t.Context(), Address{Host: "127.0.0.1", Port: port, TLS: true, CA: "no certificate"}, within); err == nil {
		t.Error("a CA that cannot be read was taken")
	}
}
