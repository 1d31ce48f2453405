// Package carrier makes connections for whatever speaks over the network. Its zero
// value is the operating system's network; a rehearsal or a test passes one that
// stays within the process. It knows nothing of what is said over a connection.
package carrier

import (
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"net/url"
	"time"
)

// patience is how long a connection may take. It is a matter of the network and
// never scaled.
const patience = 5 * time.Second

// Net makes and takes connections.
type Net struct {
	dial   func(ctx context.Context, network, address string) (net.Conn, error)
	listen func(network, address string) (net.Listener, error)
}

// New is a network of its own.
func New(dial func(ctx context.Context, network, address string) (net.Conn, error), listen func(network, address string) (net.Listener, error)) Net {
	return Net{dial, listen}
}

// Dial connects to host:port, within five seconds.
func (n Net) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if n.dial != nil {
		return n.dial(ctx, network, address)
	}
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

// Listen takes connections at host:port; port 0 chooses a free one.
func (n Net) Listen(address string) (net.Listener, error) {
	if n.listen != nil {
		return n.listen("tcp", address)
	}
	return net.Listen("tcp", address)
}

// Only carries HTTP to one address, whatever a request names.
func (n Net) Only(address string) *http.Transport {
	t := n.Transport()
	t.DialContext = func(ctx context.Context, network, _ string) (net.Conn, error) { return n.Dial(ctx, network, address) }
	return t
}

// Transport carries HTTP, each exchange over a connection of its own.
func (n Net) Transport() *http.Transport {
	return &http.Transport{DisableKeepAlives: true, DialContext: n.Dial, TLSHandshakeTimeout: patience}
}

// MQTT opens the connection of an MQTT client: plain for tcp addresses, over
// TLS for ssl ones.
func MQTT(n Net, at *url.URL, conf *tls.Config) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	c, err := n.Dial(ctx, "tcp", at.Host)
	if err != nil || at.Scheme != "ssl" {
		return c, err
	}
	if conf.ServerName == "" {
		conf = conf.Clone()
		conf.ServerName = at.Hostname()
	}
	secured := tls.Client(c, conf)
	if err := secured.HandshakeContext(ctx); err != nil {
		_ = c.Close()
		return nil, err
	}
	return secured, nil
}
