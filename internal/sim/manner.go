package sim

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
)

// manner is how a family of units speaks: what it keeps, its pages, and what it
// says on the broker. A unit's life, power, radio and flash are the same for
// all. accessPoint, link, settled, goBack, forget, open and announce are called with the
// unit's lock held.
type manner interface {
	accessPoint() (name, key string)
	link() link
	sleeps() (awake, every time.Duration) // zero: it never sleeps
	pages() http.Handler                  // on its access point and in the home's network
	hello(ctx context.Context, c mqtt.Client)
	tick()
	settled() (trouble string) // the settings work; what is left to say of the last try
	goBack() bool              // the new settings do not work: back to those before
	forget()
	open() any // what it keeps, without secrets
	announce() announcement
}

// link is what a unit needs to join and to find its broker.
type link struct {
	ssid, pass, ssid2, pass2 string
	host                     string
	port                     int
	tls                      bool
	ca, cert, certKey        string
	user, word, id           string
	topic                    string
	will, farewell           string
	every                    int // seconds
}

// trust is what the unit believes of a broker that speaks TLS.
func (c link) trust() *tls.Config {
	conf := &tls.Config{ServerName: c.host, MinVersion: tls.VersionTLS12}
	if c.ca != "" {
		conf.RootCAs = x509.NewCertPool()
		conf.RootCAs.AppendCertsFromPEM([]byte(c.ca))
	}
	if pair, err := tls.X509KeyPair([]byte(c.cert), []byte(c.certKey)); err == nil {
		conf.Certificates = []tls.Certificate{pair}
	}
	return conf
}

// Speaks reports whether there is a simulated unit of a family.
func Speaks(family string) bool {
	_, err := (&unit{spec: UnitSpec{Speaks: family, HardwareID: "02:00:00:00:00:01"}}).manners()
	return err == nil && family != ""
}

func (u *unit) manners() (manner, error) {
	if u.spec.Described != nil {
		return newDescribed(u, *u.spec.Described)
	}
	switch u.spec.Speaks {
	case "", "direct":
		return &direct{u: u}, nil
	case "andorinha":
		return newAndorinha(u), nil
	case "pardal":
		return newPardal(u), nil
	case "coruja":
		return &coruja{u: u}, nil
	}
	return nil, fmt.Errorf("no simulated unit speaks %q", u.spec.Speaks)
}
