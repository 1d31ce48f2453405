package broker

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	mochi "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/hooks/storage"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"fado/internal/carrier"
)

// Account is one account of the embedded broker. Its name is also the only
// client id that it may use.
type Account struct {
	Name   string
	Hash   string // of the password, by Config.Hash
	Rights Rights
	// Certified wants a client certificate of that name beside the password.
	Certified bool
}

// Trust is how the embedded broker shows itself and judges certificates.
type Trust struct {
	Server  *tls.Certificate // that it shows; nil for that of its configuration
	Clients *x509.CertPool   // authorities of its clients; nil for none
	Revoked map[string]bool  // serial numbers in hexadecimal, without leading zeros
}

// Config is what the embedded broker is made from.
type Config struct {
	Net    carrier.Net
	Listen string      // address of the listener, such as 127.0.0.1:1883
	TLS    *tls.Config // nil for none
	Hash   func(password string) string
	// Load returns what was kept; Save keeps it, a nil value taking it away.
	// Save is called at most four times a second, from one goroutine.
	Load func() (map[string][]byte, error)
	Save func(map[string][]byte) error
	Log  *slog.Logger
}

// Embedded is the broker inside the service. Retained messages and sessions
// outlive a restart; a crash may cost a quarter of a second of them.
type Embedded struct {
	server *mochi.Server
	hook   *hook
	addr   string
	cancel context.CancelFunc
	kept   sync.WaitGroup
	subID  int
}

// Listen starts the broker.
func Listen(c Config) (*Embedded, error) {
	caps := mochi.NewDefaultServerCapabilities()
	caps.MaximumClientWritesPending = 64
	// Zero and the default both drop retained messages after a day.
	caps.MaximumMessageExpiryInterval = math.MaxInt32
	caps.MaximumPacketSize = 256 << 10
	caps.SharedSubAvailable = 0
	s := mochi.New(&mochi.Options{
		Capabilities: caps, InlineClient: true, ClientNetReadBufferSize: 1024, ClientNetWriteBufferSize: 1024,
		SysTopicResendInterval: 3600, Logger: slog.New(quiet{c.Log.Handler()}),
	})
	stored, err := c.Load()
	if err != nil {
		return nil, fmt.Errorf("load what the broker kept: %w", err)
	}
	h := &hook{config: c, accounts: map[string]Account{}, refused: map[string]refusal{}, letIn: map[string]time.Time{}, stored: stored, dirty: map[string]any{}}
	if err := s.AddHook(h, nil); err != nil {
		return nil, fmt.Errorf("set up the broker: %w", err)
	}
	at, err := c.Net.Listen(c.Listen)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w", c.Listen, err)
	}
	at = gather(at)
	if c.TLS != nil {
		at = tls.NewListener(at, h.secured(c.TLS))
	}
	l := listeners.NewNet("units", at)
	if err := s.AddListener(l); err != nil {
		return nil, fmt.Errorf("listen on %s: %w", c.Listen, err)
	}
	if err := s.Serve(); err != nil {
		return nil, fmt.Errorf("start the broker: %w", err)
	}
	for _, cl := range s.Clients.GetAll() {
		stepAside(cl) // sessions that were kept
	}
	ctx, cancel := context.WithCancel(context.Background())
	e := &Embedded{server: s, hook: h, addr: l.Address(), cancel: cancel}
	e.kept.Go(func() { h.keep(ctx) })
	return e, nil
}

// Address is the listener's address, with the port that it got.
func (e *Embedded) Address() string { return e.addr }

// SetTrust changes which certificates the broker shows and takes. Who has connected
// stays so; sessions with a certificate that is revoked are dropped.
func (e *Embedded) SetTrust(t Trust) {
	e.hook.mu.Lock()
	e.hook.trust = t
	e.hook.mu.Unlock()
	for _, cl := range e.server.Clients.GetAll() {
		if c := clientCertificate(cl); c != nil && t.Revoked[c.SerialNumber.Text(16)] {
			_ = e.server.DisconnectClient(cl, packets.ErrAdministrativeAction)
		}
	}
}

// secured completes a TLS configuration by what the broker trusts at the moment of
// each connection.
func (h *hook) secured(base *tls.Config) *tls.Config {
	base = base.Clone()
	base.GetConfigForClient = func(*tls.ClientHelloInfo) (*tls.Config, error) {
		h.mu.RLock()
		t := h.trust
		h.mu.RUnlock()
		c := base.Clone()
		c.GetConfigForClient = nil
		if t.Server != nil {
			c.Certificates = []tls.Certificate{*t.Server}
		}
		if t.Clients == nil {
			return c, nil
		}
		c.ClientCAs, c.ClientAuth = t.Clients, tls.VerifyClientCertIfGiven
		c.VerifyConnection = func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) > 0 && t.Revoked[s.PeerCertificates[0].SerialNumber.Text(16)] {
				return errors.New("this certificate was revoked")
			}
			return nil
		}
		return c, nil
	}
	return base
}

func clientCertificate(cl *mochi.Client) *x509.Certificate {
	c, ok := cl.Net.Conn.(*tls.Conn)
	if !ok {
		return nil
	}
	if chain := c.ConnectionState().PeerCertificates; len(chain) > 0 {
		return chain[0]
	}
	return nil
}

// shows tells whose certificate a client showed, which was verified before.
func shows(cl *mochi.Client) (name string, shown bool) {
	c := clientCertificate(cl)
	if c == nil {
		return "", false
	}
	return c.Subject.CommonName, true
}

// Certified tells the serial number of the certificate with which an account is
// connected now, "" for none.
func (e *Embedded) Certified(name string) string {
	if cl, ok := e.server.Clients.Get(name); ok && !cl.Closed() {
		if c := clientCertificate(cl); c != nil {
			return c.SerialNumber.Text(16)
		}
	}
	return ""
}

// SetAccount adds an account or changes its rights or password.
func (e *Embedded) SetAccount(a Account) {
	e.hook.mu.Lock()
	defer e.hook.mu.Unlock()
	if a.Rights.Read == nil {
		a.Rights.Read = map[string]bool{}
	}
	if a.Rights.Write == nil {
		a.Rights.Write = map[string]bool{}
	}
	e.hook.accounts[a.Name] = a
}

// Grant adds single topics to what an account may read and write. An account
// that is not there is left so.
func (e *Embedded) Grant(name string, read, write []string) {
	e.hook.mu.Lock()
	defer e.hook.mu.Unlock()
	a, ok := e.hook.accounts[name]
	if !ok {
		return
	}
	for _, t := range read {
		a.Rights.Read[t] = true
	}
	for _, t := range write {
		a.Rights.Write[t] = true
	}
}

// RemoveAccount revokes an account and drops its session.
func (e *Embedded) RemoveAccount(name string) {
	e.hook.mu.Lock()
	delete(e.hook.accounts, name)
	delete(e.hook.letIn, name)
	e.hook.mu.Unlock()
	if cl, ok := e.server.Clients.Get(name); ok {
		_ = e.server.DisconnectClient(cl, packets.ErrAdministrativeAction)
		cl.ClearInflights()
		e.server.UnsubscribeClient(cl)
		e.server.Clients.Delete(name)
	}
	e.hook.forget(name)
}

// Online reports whether an account has a session that is connected now.
func (e *Embedded) Online(name string) bool {
	cl, ok := e.server.Clients.Get(name)
	return ok && !cl.Closed()
}

// Since tells how long ago an account that is connected now was let in.
func (e *Embedded) Since(name string) (ago time.Duration, ok bool) {
	e.hook.mu.RLock()
	at, let := e.hook.letIn[name]
	e.hook.mu.RUnlock()
	return time.Since(at), let && e.Online(name)
}

// Listeners names the accounts, other than except, that have subscribed to
// something below a topic.
func (e *Embedded) Listeners(topic, except string) []string {
	var out []string
	for id, cl := range e.server.Clients.GetAll() {
		if cl.Net.Inline || id == except {
			continue
		}
		for filter := range cl.State.Subscriptions.GetAll() {
			if overlaps(filter, topic) {
				out = append(out, string(cl.Properties.Username))
				break
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// overlaps reports whether a filter takes in something below a topic
// (MQTT 3.1.1, section 4.7).
func overlaps(filter, topic string) bool {
	f, t := strings.Split(filter, "/"), strings.Split(topic, "/")
	for i, level := range f {
		if level == "#" {
			return true
		}
		if i >= len(t) {
			return true // a deeper level of the topic itself
		}
		if level != "+" && level != t[i] {
			return false
		}
	}
	return false // the topic itself or above it, without what is below
}

// KeptBelow lists the topics below one for which the broker keeps a message.
func (e *Embedded) KeptBelow(topic string) []string {
	var out []string
	for t := range e.server.Topics.Retained.GetAll() {
		if below(t, topic) {
			out = append(out, t)
		}
	}
	slices.Sort(out)
	return out
}

// Sessions counts the connected clients.
func (e *Embedded) Sessions() int {
	n := 0
	for _, cl := range e.server.Clients.GetAll() {
		if !cl.Net.Inline && !cl.Closed() {
			n++
		}
	}
	return n
}

// Publish implements Bus.
func (e *Embedded) Publish(_ context.Context, topic string, payload []byte, retain bool) error {
	return e.server.Publish(topic, payload, retain, 1)
}

// Subscribe implements Bus.
func (e *Embedded) Subscribe(_ context.Context, filter string, handle func(Message)) error {
	if !mochi.IsValidFilter(filter, false) {
		return fmt.Errorf("%q is no topic filter", filter)
	}
	e.subID++
	// The server's own Subscribe cannot tell a replayed message from a live one.
	e.server.Topics.InlineSubscribe(mochi.InlineSubscription{
		Subscription: packets.Subscription{Filter: filter, Identifier: e.subID},
		Handler: func(_ *mochi.Client, _ packets.Subscription, pk packets.Packet) {
			handle(Message{Topic: pk.TopicName, Payload: pk.Payload, From: pk.Origin})
		},
	})
	for _, pk := range e.server.Topics.Messages(filter) {
		handle(Message{Topic: pk.TopicName, Payload: pk.Payload, From: pk.Origin, Replayed: true})
	}
	return nil
}

// Retained implements Bus.
func (e *Embedded) Retained(_ context.Context, topics []string) (map[string][]byte, error) {
	out := map[string][]byte{}
	for _, t := range topics {
		if pk, ok := e.server.Topics.Retained.Get(t); ok && len(pk.Payload) > 0 {
			out[t] = pk.Payload
		}
	}
	return out, nil
}

// Connected implements Bus.
func (e *Embedded) Connected() bool { return true }

// Close stops the broker and keeps what is to be kept.
func (e *Embedded) Close() {
	// The sessions are kept as they are: a unit that signs in again finds its
	// own, and no will is sent for a stop of the service.
	e.hook.mu.Lock()
	e.hook.closing = true
	e.hook.mu.Unlock()
	_ = e.server.Close()
	e.cancel()
	e.kept.Wait()
}

// quiet lowers the broker's own chatter about clients that come and go.
type quiet struct{ slog.Handler }

func (q quiet) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelError && q.Handler.Enabled(ctx, l)
}

type hook struct {
	mochi.HookBase
	config   Config
	mu       sync.RWMutex
	accounts map[string]Account
	refused  map[string]refusal   // the last of each name, until it is let in
	letIn    map[string]time.Time // when each account last was
	closing  bool
	trust    Trust
	stored   map[string][]byte

	keepMu sync.Mutex
	dirty  map[string]any // what is to be kept, as it is; nil takes a key away
}

// ID names the hook.
func (h *hook) ID() string { return "fado" }

// Provides lists the events that the hook handles.
func (h *hook) Provides(b byte) bool {
	return bytes.Contains([]byte{
		mochi.OnConnectAuthenticate, mochi.OnACLCheck, mochi.OnSessionEstablish, mochi.OnSessionEstablished, mochi.OnDisconnect, mochi.OnSubscribed,
		mochi.OnUnsubscribed, mochi.OnRetainMessage, mochi.OnRetainedExpired, mochi.OnQosPublish, mochi.OnQosComplete, mochi.OnQosDropped,
		mochi.OnClientExpired, mochi.OnWill, mochi.StoredClients, mochi.StoredSubscriptions, mochi.StoredInflightMessages, mochi.StoredRetainedMessages,
	}, []byte{b})
}

// may judges an account by its rights as they are now. The rights are looked at
// under the lock, since Grant changes them.
func (h *hook) may(name string, judge func(Account) bool) bool {
	h.mu.RLock()
	defer h.mu.RUnlock()
	a, ok := h.accounts[name]
	return ok && judge(a)
}

// OnConnectAuthenticate lets an account in by its password, with its own
// client id only, and with a will only where it may write.
func (h *hook) OnConnectAuthenticate(cl *mochi.Client, pk packets.Packet) bool {
	hash, name, why := h.config.Hash(string(pk.Connect.Password)), string(pk.Connect.Username), "there is no such account"
	certificate, shown := shows(cl)
	may := h.may(name, func(a Account) bool {
		switch {
		case hash != a.Hash:
			why = "its password is wrong"
		case cl.ID != a.Name:
			why = "its client id is not its account's"
		case a.Certified && !shown:
			why = "it showed no certificate"
		case shown && certificate != a.Name:
			why = "its certificate is for " + certificate
		case pk.Connect.WillFlag && !a.Rights.MayWrite(pk.Connect.WillTopic):
			why = "its farewell is for a topic that it may not write"
		default:
			why = ""
		}
		return why == ""
	})
	h.mu.Lock()
	defer h.mu.Unlock()
	if may {
		delete(h.refused, name)
		h.letIn[name] = time.Now()
	} else if _, ours := h.accounts[name]; ours || len(h.refused) < mostRefused {
		h.refused[name] = refusal{time.Now(), why}
	}
	return may
}

// refusal is the last time that an account was refused.
type refusal struct {
	at  time.Time
	why string
}

// mostRefused is of how many names that are no accounts the last refusal is kept:
// strangers may try as many as they like.
const mostRefused = 4096

// Refused tells why an account was last refused, and how long ago; ok is false when
// it was not, or was let in since. What is known of it ends with the service.
func (e *Embedded) Refused(name string) (why string, ago time.Duration, ok bool) {
	e.hook.mu.RLock()
	defer e.hook.mu.RUnlock()
	r, ok := e.hook.refused[name]
	return r.why, time.Since(r.at), ok
}

// OnACLCheck applies the account's rights.
func (h *hook) OnACLCheck(cl *mochi.Client, topic string, write bool) bool {
	if cl.Net.Inline {
		return true
	}
	return h.may(string(cl.Properties.Username), func(a Account) bool {
		if write {
			return a.Rights.MayWrite(topic)
		}
		return a.Rights.MayRead(topic)
	})
}

// OnWill holds wills back while the broker itself stops, and those that the
// account may no longer send.
func (h *hook) OnWill(cl *mochi.Client, will mochi.Will) (mochi.Will, error) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	a, ok := h.accounts[string(cl.Properties.Username)]
	if h.closing || !ok || !a.Rights.MayWrite(will.TopicName) {
		return mochi.Will{}, nil
	}
	return will, nil
}

// The keys of what is kept: c/client, s/client/filter, i/client/packet,
// r/topic.

// put notes what is to be kept. It is encoded by the one goroutine that writes: a
// client's own goroutine lives as long as its connection, and so does the stack that
// encoding would need there.
func (h *hook) put(key string, v any) {
	h.keepMu.Lock()
	defer h.keepMu.Unlock()
	h.dirty[key] = v
}

func (h *hook) drop(key string) {
	h.keepMu.Lock()
	defer h.keepMu.Unlock()
	h.dirty[key] = nil
}

// firstID is the first packet identifier that the broker gives a message to a
// client. Both sides choose theirs by themselves (MQTT 3.1.1, section 2.3.1), but
// the server package keeps them in one table: a client's SUBSCRIBE was refused,
// and a message to it forgotten, when both had chosen the same. Clients subscribe
// right after they connect, with their lowest identifiers, so the broker counts
// from here.
const firstID = 1 << 10

// OnSessionEstablish moves the broker's identifiers out of the client's way.
func (h *hook) OnSessionEstablish(cl *mochi.Client, _ packets.Packet) { stepAside(cl) }

func stepAside(cl *mochi.Client) {
	for id := uint32(0); id < firstID && !cl.Net.Inline; {
		var err error
		if id, err = cl.NextPacketID(); err != nil {
			return
		}
	}
}

// OnSessionEstablished keeps the session.
func (h *hook) OnSessionEstablished(cl *mochi.Client, _ packets.Packet) {
	p := cl.Properties.Props
	h.put("c/"+cl.ID, storage.Client{
		ID: cl.ID, T: storage.ClientKey, Remote: cl.Net.Remote, Listener: cl.Net.Listener, Username: cl.Properties.Username,
		Clean: cl.Properties.Clean, ProtocolVersion: cl.Properties.ProtocolVersion,
		Properties: storage.ClientProperties{SessionExpiryInterval: p.SessionExpiryInterval, SessionExpiryIntervalFlag: p.SessionExpiryIntervalFlag,
			ReceiveMaximum: p.ReceiveMaximum, MaximumPacketSize: p.MaximumPacketSize},
	})
}

// OnDisconnect forgets a session that was not to outlive its connection.
func (h *hook) OnDisconnect(cl *mochi.Client, _ error, expire bool) {
	h.mu.RLock()
	closing := h.closing
	h.mu.RUnlock()
	if expire && !closing && cl.StopCause() != packets.ErrSessionTakenOver {
		h.forget(cl.ID)
	}
}

// OnClientExpired forgets a session.
func (h *hook) OnClientExpired(cl *mochi.Client) { h.forget(cl.ID) }

func (h *hook) forget(client string) {
	h.drop("c/" + client)
	h.keepMu.Lock()
	defer h.keepMu.Unlock()
	for key := range h.dirty {
		if strings.HasPrefix(key, "s/"+client+"/") || strings.HasPrefix(key, "i/"+client+"/") {
			h.dirty[key] = nil
		}
	}
	for key := range h.stored {
		if strings.HasPrefix(key, "s/"+client+"/") || strings.HasPrefix(key, "i/"+client+"/") {
			h.dirty[key] = nil
		}
	}
}

// OnSubscribed keeps subscriptions.
func (h *hook) OnSubscribed(cl *mochi.Client, pk packets.Packet, codes []byte) {
	for i, f := range pk.Filters {
		if i < len(codes) && codes[i] < packets.ErrUnspecifiedError.Code {
			h.put("s/"+cl.ID+"/"+f.Filter, storage.Subscription{ID: f.Filter, T: storage.SubscriptionKey, Client: cl.ID, Filter: f.Filter, Qos: f.Qos,
				NoLocal: f.NoLocal, RetainHandling: f.RetainHandling, RetainAsPublished: f.RetainAsPublished, Identifier: f.Identifier})
		}
	}
}

// OnUnsubscribed forgets subscriptions.
func (h *hook) OnUnsubscribed(cl *mochi.Client, pk packets.Packet) {
	h.mu.RLock()
	defer h.mu.RUnlock()
	if h.closing {
		return
	}
	for _, f := range pk.Filters {
		h.drop("s/" + cl.ID + "/" + f.Filter)
	}
}

func kept(id, kind string, pk packets.Packet) storage.Message {
	p := pk.Copy(false).Properties
	return storage.Message{ID: id, T: kind, FixedHeader: pk.FixedHeader, TopicName: pk.TopicName, Payload: pk.Payload, Created: pk.Created,
		Origin: pk.Origin, PacketID: pk.PacketID, Properties: storage.MessageProperties{ContentType: p.ContentType,
			MessageExpiryInterval: p.MessageExpiryInterval, ResponseTopic: p.ResponseTopic, CorrelationData: p.CorrelationData,
			PayloadFormat: p.PayloadFormat, PayloadFormatFlag: p.PayloadFormatFlag}}
}

// OnRetainMessage keeps a retained message, or forgets it when r is -1.
func (h *hook) OnRetainMessage(_ *mochi.Client, pk packets.Packet, r int64) {
	if r == -1 {
		h.drop("r/" + pk.TopicName)
		return
	}
	h.put("r/"+pk.TopicName, kept(pk.TopicName, storage.RetainedKey, pk))
}

// OnRetainedExpired forgets a retained message.
func (h *hook) OnRetainedExpired(topic string) { h.drop("r/" + topic) }

// OnQosPublish keeps a message on its way to a client.
func (h *hook) OnQosPublish(cl *mochi.Client, pk packets.Packet, sent int64, _ int) {
	m := kept(pk.FormatID(), storage.InflightKey, pk)
	m.Client, m.Sent = cl.ID, sent
	h.put(fmt.Sprintf("i/%s/%d", cl.ID, pk.PacketID), m)
}

// OnQosComplete forgets a message that arrived.
func (h *hook) OnQosComplete(cl *mochi.Client, pk packets.Packet) {
	h.drop(fmt.Sprintf("i/%s/%d", cl.ID, pk.PacketID))
}

// OnQosDropped forgets a message that was given up.
func (h *hook) OnQosDropped(cl *mochi.Client, pk packets.Packet) { h.OnQosComplete(cl, pk) }

func stored[T any](h *hook, prefix string) ([]T, error) {
	var out []T
	for key, b := range h.stored {
		if !strings.HasPrefix(key, prefix) {
			continue
		}
		var v T
		if err := json.Unmarshal(b, &v); err != nil {
			h.config.Log.Warn("the broker kept something that cannot be read", "key", key, "error", err)
			continue
		}
		out = append(out, v)
	}
	return out, nil
}

// StoredClients gives the sessions back.
func (h *hook) StoredClients() ([]storage.Client, error) { return stored[storage.Client](h, "c/") }

// StoredSubscriptions gives the subscriptions back.
func (h *hook) StoredSubscriptions() ([]storage.Subscription, error) {
	return stored[storage.Subscription](h, "s/")
}

// StoredInflightMessages gives back what was on its way.
func (h *hook) StoredInflightMessages() ([]storage.Message, error) {
	return stored[storage.Message](h, "i/")
}

// StoredRetainedMessages gives the retained messages back.
func (h *hook) StoredRetainedMessages() ([]storage.Message, error) {
	return stored[storage.Message](h, "r/")
}

// keep writes what changed, four times a second and once at the end.
func (h *hook) keep(ctx context.Context) {
	t := time.NewTicker(250 * time.Millisecond)
	defer t.Stop()
	for {
		stop := false
		select {
		case <-t.C:
		case <-ctx.Done():
			stop = true
		}
		var changed map[string]any
		h.keepMu.Lock()
		if len(h.dirty) > 0 {
			changed, h.dirty = h.dirty, map[string]any{}
		}
		h.keepMu.Unlock()
		if len(changed) > 0 {
			batch := make(map[string][]byte, len(changed))
			for k, v := range changed {
				if v == nil {
					batch[k] = nil
				} else if b, err := json.Marshal(v); err == nil {
					batch[k] = b
				}
			}
			if err := h.config.Save(batch); err != nil {
				h.config.Log.Error("keep the broker's messages and sessions", "error", err)
				h.keepMu.Lock()
				for k, v := range changed {
					if _, newer := h.dirty[k]; !newer {
						h.dirty[k] = v
					}
				}
				h.keepMu.Unlock()
			}
		}
		if stop {
			return
		}
	}
}
