// Package broker carries messages: an MQTT client for a broker elsewhere, and
// the embedded broker with its accounts and access rules, both behind the one
// small interface Bus. It does not know what messages mean.
package broker

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"

	"fado/internal/carrier"
	"fado/internal/core/secret"
)

// Message is one message as the service receives it.
type Message struct {
	Topic    string
	Payload  []byte
	Replayed bool   // it is a retained message of the past, not a live one
	From     string // the account that sent it, where the broker tells; else ""
}

// Bus is how the service speaks on a broker.
type Bus interface {
	// Publish sends with QoS 1. It returns when the broker has taken it.
	Publish(ctx context.Context, topic string, payload []byte, retain bool) error
	// Subscribe delivers matching messages to handle, retained ones first,
	// until Close. handle must not block for long.
	Subscribe(ctx context.Context, filter string, handle func(Message)) error
	// Retained returns what the broker keeps for topics, without those for which it
	// keeps nothing.
	Retained(ctx context.Context, topics []string) (map[string][]byte, error)
	// Connected reports whether the broker can be used now.
	Connected() bool
	Close()
}

// Address says how a broker is reached.
type Address struct {
	Host     string
	Port     int
	TLS      bool
	CA       string // PEM; "" trusts the system's
	User     string
	Password secret.Secret
	ClientID string
	Net      carrier.Net
	// Certificate and Key, PEM, are shown beside the password when they are there.
	Certificate string
	Key         secret.Secret
}

func (a Address) options() (*mqtt.ClientOptions, error) {
	scheme := "tcp"
	o := mqtt.NewClientOptions()
	if a.TLS {
		scheme = "ssl"
		conf := &tls.Config{ServerName: a.Host, MinVersion: tls.VersionTLS12}
		if a.CA != "" {
			conf.RootCAs = x509.NewCertPool()
			if !conf.RootCAs.AppendCertsFromPEM([]byte(a.CA)) {
				return nil, errors.New("the broker's CA certificate cannot be read")
			}
		}
		if a.Certificate != "" {
			pair, err := tls.X509KeyPair([]byte(a.Certificate), []byte(a.Key.Expose()))
			if err != nil {
				return nil, fmt.Errorf("use the client certificate: %w", err)
			}
			conf.Certificates = []tls.Certificate{pair}
		}
		o.SetTLSConfig(conf)
	}
	o.AddBroker(fmt.Sprintf("%s://%s:%d", scheme, a.Host, a.Port))
	o.SetClientID(a.ClientID).SetUsername(a.User).SetPassword(a.Password.Expose())
	o.SetProtocolVersion(4).SetKeepAlive(30 * time.Second)
	o.SetCustomOpenConnectionFn(func(at *url.URL, o mqtt.ClientOptions) (net.Conn, error) {
		return carrier.MQTT(a.Net, at, o.TLSConfig)
	})
	return o, nil
}

// ErrHungUp says that a broker took a connection and closed it without a word, as
// one does that has no room for another session.
var ErrHungUp = errors.New("the broker closed the connection without an answer, as one does that is full")

// Try signs in once with an account and signs out again. It waits 30 s at most. Where
// the broker does not answer but hang up, the error is ErrHungUp.
func Try(ctx context.Context, a Address) error {
	o, err := a.options()
	if err != nil {
		return err
	}
	c := mqtt.NewClient(o.SetAutoReconnect(false).SetCleanSession(true))
	defer c.Disconnect(50)
	err = done(ctx, c.Connect())
	if errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) {
		return ErrHungUp
	}
	return err
}

func done(ctx context.Context, t mqtt.Token) error {
	select {
	case <-t.Done():
		return t.Error()
	case <-ctx.Done():
		return ctx.Err()
	}
}

// External is a client of a broker elsewhere. It signs in again by itself.
type External struct {
	client mqtt.Client
	replay sync.Mutex // one asks at a time
	mu     sync.Mutex
	subs   map[string]func(Message)
}

// Dial prepares the client. It does not wait for the broker: what is published
// before it is there is an error.
func Dial(a Address) (*External, error) {
	o, err := a.options()
	if err != nil {
		return nil, err
	}
	e := &External{subs: map[string]func(Message){}}
	o.SetAutoReconnect(true).SetConnectRetry(true).SetConnectRetryInterval(2 * time.Second).SetCleanSession(false).SetOrderMatters(true)
	o.SetOnConnectHandler(func(c mqtt.Client) {
		e.mu.Lock()
		defer e.mu.Unlock()
		for filter, handle := range e.subs {
			c.Subscribe(filter, 1, adapt(handle))
		}
	})
	e.client = mqtt.NewClient(o)
	e.client.Connect()
	return e, nil
}

func adapt(handle func(Message)) mqtt.MessageHandler {
	return func(_ mqtt.Client, m mqtt.Message) {
		// To an established subscription a live message comes with the retain
		// flag cleared (MQTT 3.1.1, section 3.3.1.3).
		handle(Message{Topic: m.Topic(), Payload: m.Payload(), Replayed: m.Retained()})
	}
}

// Publish implements Bus.
func (e *External) Publish(ctx context.Context, topic string, payload []byte, retain bool) error {
	if !e.client.IsConnectionOpen() {
		return errors.New("the broker is not connected")
	}
	return done(ctx, e.client.Publish(topic, 1, retain, payload))
}

// Subscribe implements Bus.
func (e *External) Subscribe(ctx context.Context, filter string, handle func(Message)) error {
	e.mu.Lock()
	e.subs[filter] = handle
	e.mu.Unlock()
	if !e.client.IsConnectionOpen() {
		return nil // it is subscribed when the connection comes up
	}
	return done(ctx, e.client.Subscribe(filter, 1, adapt(handle)))
}

// retainedTime is how long a broker may take to replay what it keeps, after it has
// acknowledged the last subscription.
const retainedTime = 700 * time.Millisecond

// Retained implements Bus. A broker replays what it keeps to each new subscription
// (MQTT 3.1.1, section 3.3.1.3).
func (e *External) Retained(ctx context.Context, topics []string) (map[string][]byte, error) {
	e.replay.Lock()
	defer e.replay.Unlock()
	if !e.client.IsConnectionOpen() {
		return nil, errors.New("the broker is not connected")
	}
	var mu sync.Mutex
	out, filters := map[string][]byte{}, map[string]byte{}
	for _, t := range topics {
		filters[t] = 1
	}
	if len(filters) == 0 {
		return out, nil
	}
	err := done(ctx, e.client.SubscribeMultiple(filters, func(_ mqtt.Client, m mqtt.Message) {
		mu.Lock()
		defer mu.Unlock()
		if m.Retained() {
			out[m.Topic()] = m.Payload()
		}
	}))
	defer func() { e.client.Unsubscribe(topics...) }()
	if err != nil {
		return nil, fmt.Errorf("ask the broker what it keeps: %w", err)
	}
	t := time.NewTimer(retainedTime)
	defer t.Stop()
	select {
	case <-t.C:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	mu.Lock()
	defer mu.Unlock()
	return maps.Clone(out), nil
}

// Connected implements Bus.
func (e *External) Connected() bool { return e.client.IsConnectionOpen() }

// Close implements Bus.
func (e *External) Close() { e.client.Disconnect(250) }

// Rights says what an account may do. A unit owns all below its topic; a hub
// may read and write single topics.
type Rights struct {
	Own   string // the topic below which it may do everything
	Also  string // a second one, while a unit moves from one to the other
	Read  map[string]bool
	Write map[string]bool
	// Listen are filters whose messages it may read, for hubs that listen.
	Listen []string
}

// MayWrite reports whether the account may publish to a topic.
func (r Rights) MayWrite(topic string) bool {
	return !strings.ContainsAny(topic, "+#") && (r.owns(topic) || r.Write[topic])
}

// MayRead reports whether the account may receive from a topic or subscribe to
// a filter.
func (r Rights) MayRead(filter string) bool {
	return r.owns(filter) || r.Read[filter] || slices.ContainsFunc(r.Listen, func(l string) bool { return within(l, filter) })
}

// within reports whether a filter, or a topic, takes in nothing that another filter
// does not (MQTT 3.1.1, section 4.7).
func within(outer, filter string) bool {
	o, f := strings.Split(outer, "/"), strings.Split(filter, "/")
	for i, level := range o {
		if level == "#" {
			return true
		}
		if i >= len(f) || f[i] == "#" || level != "+" && level != f[i] {
			return false
		}
	}
	return len(o) == len(f)
}

func (r Rights) owns(topic string) bool {
	return (below(topic, r.Own) || below(topic, r.Also)) && !strings.HasPrefix(topic, "$")
}

func below(topic, own string) bool { return own != "" && strings.HasPrefix(topic, own+"/") }
