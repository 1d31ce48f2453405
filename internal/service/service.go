package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"fado/internal/api"
	"fado/internal/broker"
	"fado/internal/carrier"
	"fado/internal/clock"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/engine"
	"fado/internal/reach"
	"fado/internal/store"
)

// Running is a service that runs.
type Running struct {
	URL       string // of console and API
	FirstLink string // makes the first account; "" when there is one
	BrokerAt  string // address of the embedded broker

	store    *store.Store
	lock     *os.File
	bus      broker.Bus
	wifi     *reach.NetworkManager // nil with another radio
	engine   *engine.Engine
	server   *http.Server
	served   chan error
	stopHTTP context.CancelFunc
}

// Logger makes the logger that a configuration asks for.
func Logger(l Log, to *os.File) *slog.Logger {
	var level slog.Level
	if err := level.UnmarshalText([]byte(l.Level)); err != nil {
		level = slog.LevelInfo
	}
	o := &slog.HandlerOptions{Level: level}
	if l.Format == "json" {
		return slog.New(slog.NewJSONHandler(to, o))
	}
	return slog.New(slog.NewTextHandler(to, o))
}

// Start runs a service until Stop. It returns once it serves.
func Start(ctx context.Context, c Config, version string, console fs.FS, n carrier.Net, log *slog.Logger) (r *Running, err error) {
	r = &Running{served: make(chan error, 1)}
	defer func() {
		if err != nil {
			r.Stop()
		}
	}()
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return r, fmt.Errorf("make the data folder: %w", err)
	}
	if r.lock, err = lock(c.Data); err != nil {
		return r, err
	}
	if r.store, err = store.Open(c.Data); err != nil {
		return r, err
	}
	clk := clock.Wall()
	if c.Time.Scale != 1 {
		start := time.Now()
		if c.Time.Start != "" {
			if start, err = time.Parse(time.RFC3339, c.Time.Start); err != nil {
				return r, err
			}
		}
		clk = clock.Scaled(c.Time.Scale, start)
	}
	if err = engine.EnsureKey(ctx, r.store, clk.Now()); err != nil {
		return r, err
	}
	embedded, managed, err := r.startBroker(ctx, c, n, log)
	if err != nil {
		return r, err
	}
	var radio *reach.Turns
	switch c.Radio.Kind {
	case "stand-in":
		radio = reach.Share(reach.NewStandIn(c.Radio.At, n), clk)
	case "network-manager":
		if r.wifi, err = reach.OpenNetworkManager(c.Radio.Interface); err != nil {
			return r, problem.New(problem.Unavailable, "The operating system's Wi-Fi service cannot be reached.", "It is not installed or does not run, or this user may not speak to it.", "See that NetworkManager runs and that the user of the service may use it, or set «radio.kind» to by-hand.").Because(err)
		}
		radio = reach.Share(r.wifi, clk)
	}
	var multicast *reach.Multicast
	if c.LAN.Multicast {
		multicast = &reach.Multicast{Interface: c.LAN.Interface}
	}
	if r.engine, err = engine.Start(engine.Parts{Store: r.store, Clock: clk, Log: log, Bus: r.bus, Embedded: embedded, Managed: managed, OwnTLS: embedded != nil && c.Broker.TLS && c.Broker.Cert == "", Radio: radio, ByHand: c.Radio.Kind == "by-hand", Multicast: multicast, Net: n, AtOnce: c.Bench.AtOnce}); err != nil {
		return r, err
	}
	l, err := n.Listen(c.Listen)
	if err != nil {
		return r, problem.New(problem.Unavailable, fmt.Sprintf("Fado cannot listen on %s.", c.Listen), "Another program uses that address, or another Fado runs already.", "Stop it, or choose another address with «listen».").Because(err)
	}
	r.URL = c.URL
	if r.URL == "" {
		r.URL = "http://" + l.Addr().String()
	}
	if r.FirstLink, err = api.FirstLink(ctx, r.store); err != nil {
		return r, err
	}
	u, err := url.Parse(r.URL)
	if err != nil {
		return r, err
	}
	base, stop := context.WithCancel(context.Background())
	r.stopHTTP = stop
	r.server = &http.Server{
		Handler:           api.New(api.Options{Engine: r.engine, Version: version, URL: r.URL, BrokerName: c.Broker.Kind, Console: console, Log: log, Secure: u.Scheme == "https"}),
		ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return base },
		ErrorLog:    slog.NewLogLogger(log.Handler(), slog.LevelDebug),
	}
	go func() { r.served <- r.server.Serve(l) }()
	return r, nil
}

// lock makes sure that one service uses a data folder.
func lock(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, ".lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the data folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, problem.New(problem.Conflict, fmt.Sprintf("The data folder %s is in use.", dir), "Another Fado runs on it.", "Stop the other one first.").Because(err)
	}
	return f, nil
}

// unlock lets a data folder go. Closing alone would not: a program that is being
// started holds a copy of the descriptor until it runs, and the lock with it.
func unlock(f *os.File) {
	_ = syscall.Flock(int(f.Fd()), syscall.LOCK_UN)
	_ = f.Close()
}

// Overhear calls each for every message on the broker from now on.
func (r *Running) Overhear(ctx context.Context, each func(topic string, payload []byte)) error {
	return r.bus.Subscribe(ctx, "#", func(m broker.Message) { each(m.Topic, m.Payload) })
}

// Say publishes a message on the broker.
func (r *Running) Say(ctx context.Context, topic string, payload []byte, retain bool) error {
	return r.bus.Publish(ctx, topic, payload, retain)
}

// Kept lists the topics below one for which the embedded broker keeps a
// message.
func (r *Running) Kept(topic string) []string {
	if e, ok := r.bus.(*broker.Embedded); ok {
		return e.KeptBelow(topic)
	}
	return nil
}

func (r *Running) startBroker(ctx context.Context, c Config, n carrier.Net, log *slog.Logger) (*broker.Embedded, *broker.Managed, error) {
	if c.Broker.Kind != "embedded" {
		a := broker.Address{Host: c.Broker.Host, Port: c.Broker.Port, TLS: c.Broker.TLS, User: c.Broker.User, ClientID: "fado-service", Net: n}
		if c.Broker.Password != "" {
			b, err := os.ReadFile(c.Broker.Password)
			if err != nil {
				return nil, nil, problem.New(problem.BadInput, "The file with the broker's password cannot be read.", err.Error(), "Correct «broker.password».").Because(err)
			}
			a.Password = secret.New(strings.TrimRight(string(b), "\r\n"))
		}
		if c.Broker.CA != "" {
			b, err := os.ReadFile(c.Broker.CA)
			if err != nil {
				return nil, nil, problem.New(problem.BadInput, "The file with the broker's CA certificate cannot be read.", err.Error(), "Correct «broker.ca».").Because(err)
			}
			a.CA = string(b)
		}
		if c.Broker.Kind == "managed" {
			m, err := broker.DialManaged(a)
			if err != nil {
				return nil, nil, fmt.Errorf("prepare the broker's client: %w", err)
			}
			r.bus = m
			return nil, m, nil
		}
		x, err := broker.Dial(a)
		if err != nil {
			return nil, nil, fmt.Errorf("prepare the broker's client: %w", err)
		}
		r.bus = x
		return nil, nil, nil
	}
	conf := broker.Config{Net: n, Listen: c.Broker.Listen, Hash: r.store.Hash, Log: log,
		Load: func() (map[string][]byte, error) { return r.store.LoadKept(ctx) },
		Save: func(batch map[string][]byte) error { return r.store.SaveKept(context.WithoutCancel(ctx), batch) }}
	if c.Broker.Cert != "" {
		pair, err := tls.LoadX509KeyPair(c.Broker.Cert, c.Broker.Key)
		if err != nil {
			return nil, nil, problem.New(problem.BadInput, "The broker's certificate cannot be used: "+err.Error()+".", "Certificate and key do not belong together, or cannot be read.", "Correct «broker.cert» and «broker.key».").Because(err)
		}
		conf.TLS = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	} else if c.Broker.TLS {
		conf.TLS = &tls.Config{MinVersion: tls.VersionTLS12} // the engine gives it a certificate
	}
	e, err := broker.Listen(conf)
	if err != nil {
		return nil, nil, problem.New(problem.Unavailable, fmt.Sprintf("The embedded broker cannot listen on %s.", c.Broker.Listen), "Another broker uses that address.", "Stop it, or choose another address with «broker.listen».").Because(err)
	}
	r.bus, r.BrokerAt = e, e.Address()
	return e, nil, nil
}

// quietTime is how long a stop waits for a write that must not be interrupted, and
// for the unit's own word after it.
const quietTime = 10 * time.Minute

// Done gives the error with which serving ended by itself.
func (r *Running) Done() <-chan error { return r.served }

// Stop ends the service and waits for all of it. What was under way is taken
// up at the next start.
func (r *Running) Stop() {
	if r.engine != nil {
		// A unit that an interruption would leave dead is written to its end.
		ctx, cancel := context.WithTimeout(context.Background(), quietTime)
		r.engine.Quiet(ctx)
		cancel()
	}
	if r.server != nil {
		r.stopHTTP() // ends the live streams
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		if err := r.server.Shutdown(ctx); errors.Is(err, context.DeadlineExceeded) {
			_ = r.server.Close()
		}
		r.server = nil
	}
	if r.engine != nil {
		r.engine.Stop()
		r.engine = nil
	}
	if r.wifi != nil {
		r.wifi.Close()
		r.wifi = nil
	}
	if r.bus != nil {
		r.bus.Close()
		r.bus = nil
	}
	if r.store != nil {
		r.store.Close()
		r.store = nil
	}
	if r.lock != nil {
		unlock(r.lock)
		r.lock = nil
	}
}
