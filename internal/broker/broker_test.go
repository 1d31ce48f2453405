package broker

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"log/slog"
	"maps"
	"net"
	"net/url"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"

	"fado/internal/core/secret"
)

func hash(p string) string {
	sum := sha256.Sum256([]byte(p))
	return hex.EncodeToString(sum[:])
}

// kept is what outlives a broker, as the telemetry file does.
type memory struct {
	mu   sync.Mutex
	data map[string][]byte
}

func (k *memory) load() (map[string][]byte, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return maps.Clone(k.data), nil
}

func (k *memory) save(batch map[string][]byte) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	for key, v := range batch {
		if v == nil {
			delete(k.data, key)
			continue
		}
		k.data[key] = v
	}
	return nil
}

func listen(t *testing.T, at string, k *memory) *Embedded {
	t.Helper()
	e, err := Listen(Config{Listen: at, Hash: hash, Load: k.load, Save: k.save, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	for name, topic := range map[string]string{"unit-a": "casa/a", "unit-b": "casa/b"} {
		e.SetAccount(Account{Name: name, Hash: hash("pass-" + name), Rights: Rights{Own: topic}})
	}
	e.SetAccount(Account{Name: "hub", Hash: hash("pass-hub"), Rights: Rights{Read: map[string]bool{"casa/a/state/relay": true}, Write: map[string]bool{"casa/a/command/relay": true}}})
	return e
}

func fresh(t *testing.T) (*Embedded, *memory) {
	k := &memory{data: map[string][]byte{}}
	e := listen(t, "127.0.0.1:0", k)
	t.Cleanup(e.Close)
	return e, k
}

func options(e *Embedded, account string) *mqtt.ClientOptions {
	return mqtt.NewClientOptions().AddBroker("tcp://" + e.Address()).SetClientID(account).SetUsername(account).SetPassword("pass-" + account).
		SetAutoReconnect(false).SetConnectTimeout(3 * time.Second)
}

func connect(t *testing.T, o *mqtt.ClientOptions) (mqtt.Client, error) {
	t.Helper()
	c := mqtt.NewClient(o)
	tok := c.Connect()
	if !tok.WaitTimeout(5 * time.Second) {
		t.Fatal("connecting takes too long")
	}
	if tok.Error() == nil {
		t.Cleanup(func() { c.Disconnect(10) })
	}
	return c, tok.Error()
}

func mustConnect(t *testing.T, o *mqtt.ClientOptions) mqtt.Client {
	t.Helper()
	c, err := connect(t, o)
	if err != nil {
		t.Fatalf("connect: %v", err)
	}
	return c
}

// forge publishes where an account has no right to. The broker ends the
// connection of who tries (MQTT 3.1.1, section 3.3.5), so each try has its own.
func forge(t *testing.T, e *Embedded, account, topic string) {
	t.Helper()
	c := mustConnect(t, options(e, account))
	c.Publish(topic, 1, true, "forged").WaitTimeout(500 * time.Millisecond)
	c.Disconnect(0)
}

// inbox collects what the service receives.
type inbox chan Message

func subscribed(t *testing.T, e Bus, filter string) inbox {
	t.Helper()
	in := make(inbox, 100)
	if err := e.Subscribe(context.Background(), filter, func(m Message) { in <- m }); err != nil {
		t.Fatal(err)
	}
	return in
}

func (in inbox) next(t *testing.T) Message {
	t.Helper()
	select {
	case m := <-in:
		return m
	case <-time.After(5 * time.Second):
		t.Fatal("no message came")
		return Message{}
	}
}

func TestOnlyTheOwnAccountAndClientIDGetIn(t *testing.T) {
	e, _ := fresh(t)
	for name, change := range map[string]func(*mqtt.ClientOptions){
		"a wrong password":       func(o *mqtt.ClientOptions) { o.SetPassword("x") },
		"no account":             func(o *mqtt.ClientOptions) { o.SetUsername("").SetPassword("") },
		"an unknown account":     func(o *mqtt.ClientOptions) { o.SetUsername("nobody").SetClientID("nobody") },
		"another's client id":    func(o *mqtt.ClientOptions) { o.SetClientID("unit-b") },
		"a will elsewhere":       func(o *mqtt.ClientOptions) { o.SetWill("casa/b/presence", "x", 1, true) },
		"a will on the hub's":    func(o *mqtt.ClientOptions) { o.SetWill("casa/a", "x", 1, true) },
		"a will with a wildcard": func(o *mqtt.ClientOptions) { o.SetWill("casa/a/#", "x", 1, true) },
	} {
		o := options(e, "unit-a")
		change(o)
		if _, err := connect(t, o); err == nil {
			t.Errorf("%s was let in", name)
		}
	}
	mustConnect(t, options(e, "unit-a").SetWill("casa/a/presence", "offline", 1, true))
	if !e.Online("unit-a") || e.Online("unit-b") {
		t.Error("Online is wrong")
	}
}

// TestWhyAnAccountWasRefused: the last reason is known until it is let in.
func TestWhyAnAccountWasRefused(t *testing.T) {
	e, _ := fresh(t)
	if _, _, ok := e.Refused("unit-a"); ok {
		t.Error("it was refused before it came")
	}
	for why, change := range map[string]func(*mqtt.ClientOptions){
		"its password is wrong":                             func(o *mqtt.ClientOptions) { o.SetPassword("x") },
		"its client id is not its account's":                func(o *mqtt.ClientOptions) { o.SetClientID("unit-b") },
		"its farewell is for a topic that it may not write": func(o *mqtt.ClientOptions) { o.SetWill("casa/b/presence", "x", 1, true) },
	} {
		o := options(e, "unit-a")
		change(o)
		if _, err := connect(t, o); err == nil {
			t.Fatalf("%s, and it got in", why)
		}
		if got, ago, ok := e.Refused("unit-a"); !ok || got != why || ago > time.Minute {
			t.Errorf("%q, %s, %v; want %q", got, ago, ok, why)
		}
	}
	if _, err := connect(t, options(e, "nobody")); err == nil {
		t.Error("nobody got in")
	}
	if got, _, ok := e.Refused("nobody"); !ok || got != "there is no such account" {
		t.Errorf("%q, %v", got, ok)
	}
	mustConnect(t, options(e, "unit-a"))
	if _, _, ok := e.Refused("unit-a"); ok {
		t.Error("it got in and is still thought to be refused")
	}
}

func TestAStrangerReachesNoTopicButItsOwn(t *testing.T) {
	e, _ := fresh(t)
	seen := subscribed(t, e, "#")
	stranger := mustConnect(t, options(e, "unit-b"))
	heard := make(chan string, 100)
	for _, filter := range []string{"#", "+/+/#", "casa/a/#", "casa/a/state/relay", "casa/+/state/relay", "$SYS/#", "casa/#", "casa/b", "$share/x/casa/a/#"} {
		tok := stranger.Subscribe(filter, 1, func(_ mqtt.Client, m mqtt.Message) { heard <- filter + " got " + m.Topic() })
		tok.WaitTimeout(3 * time.Second)
	}
	for _, topic := range []string{"casa/a/state/relay", "casa/a/presence", "casa/bb/state/x", "casa/b", "other", "$SYS/x"} {
		forge(t, e, "unit-b", topic)
	}
	stranger = mustConnect(t, options(e, "unit-b"))
	owner := mustConnect(t, options(e, "unit-a"))
	owner.Publish("casa/a/state/relay", 1, true, "true").WaitTimeout(3 * time.Second)
	stranger.Publish("casa/b/state/x", 1, false, "own").WaitTimeout(3 * time.Second)
	for {
		m := seen.next(t)
		if string(m.Payload) == "forged" {
			t.Fatalf("a stranger wrote to %s", m.Topic)
		}
		if m.Topic == "casa/b/state/x" {
			if m.From != "unit-b" || m.Replayed {
				t.Errorf("%+v", m)
			}
			break
		}
	}
	select {
	case what := <-heard:
		t.Errorf("a stranger heard: %s", what)
	case <-time.After(200 * time.Millisecond):
	}
}

func TestTheHubHasItsTopicsOnly(t *testing.T) {
	e, _ := fresh(t)
	seen := subscribed(t, e, "#")
	hub := mustConnect(t, options(e, "hub"))
	got := make(chan string, 10)
	note := func(_ mqtt.Client, m mqtt.Message) { got <- m.Topic() }
	for _, filter := range []string{"casa/a/state/relay", "casa/a/state/other", "casa/b/state/relay"} {
		hub.Subscribe(filter, 1, note).WaitTimeout(3 * time.Second)
	}
	hub.Disconnect(10)
	forge(t, e, "hub", "casa/a/command/other")
	forge(t, e, "hub", "casa/a/state/relay")
	hub = mustConnect(t, options(e, "hub"))
	for _, filter := range []string{"casa/a/state/relay", "casa/a/state/other", "casa/b/state/relay"} {
		hub.Subscribe(filter, 1, note).WaitTimeout(3 * time.Second)
	}
	hub.Publish("casa/a/command/relay", 1, false, "true").WaitTimeout(3 * time.Second)
	if m := seen.next(t); m.Topic != "casa/a/command/relay" {
		t.Fatalf("the hub wrote to %s", m.Topic)
	}
	for _, topic := range []string{"casa/b/state/relay", "casa/a/state/other", "casa/a/state/relay"} {
		if err := e.Publish(context.Background(), topic, []byte("1"), false); err != nil {
			t.Fatal(err)
		}
	}
	if first := <-got; first != "casa/a/state/relay" {
		t.Fatalf("the hub heard %s", first)
	}
	// A device that is adopted widens its rights while it is connected.
	e.Grant("hub", []string{"casa/b/state/relay"}, []string{"casa/b/command/relay"})
	e.Grant("nobody", []string{"#"}, nil)
	hub.Subscribe("casa/b/state/relay", 1, note).WaitTimeout(3 * time.Second)
	if err := e.Publish(context.Background(), "casa/b/state/relay", []byte("1"), false); err != nil {
		t.Fatal(err)
	}
	if next := <-got; next != "casa/b/state/relay" {
		t.Fatalf("the hub heard %s", next)
	}
	hub.Publish("casa/b/command/relay", 1, false, "true").WaitTimeout(3 * time.Second)
	for m := seen.next(t); m.Topic != "casa/b/command/relay"; m = seen.next(t) {
		if m.From == "hub" {
			t.Fatalf("the hub wrote to %s", m.Topic)
		}
	}
}

func TestRevokingDropsTheSession(t *testing.T) {
	e, k := fresh(t)
	lost := make(chan struct{}, 1)
	c := mustConnect(t, options(e, "unit-a").SetCleanSession(false).SetConnectionLostHandler(func(mqtt.Client, error) { lost <- struct{}{} }))
	c.Subscribe("casa/a/ask", 1, nil).WaitTimeout(3 * time.Second)
	e.RemoveAccount("unit-a")
	select {
	case <-lost:
	case <-time.After(5 * time.Second):
		t.Fatal("the session goes on")
	}
	if _, err := connect(t, options(e, "unit-a")); err == nil {
		t.Fatal("a revoked account was let in")
	}
	time.Sleep(600 * time.Millisecond) // two rounds of keeping
	k.mu.Lock()
	defer k.mu.Unlock()
	for key := range k.data {
		t.Errorf("%s of a revoked account is kept", key)
	}
}

func TestWillIsSentWhenAUnitLosesPower(t *testing.T) {
	e, _ := fresh(t)
	seen := subscribed(t, e, "#")
	var wire net.Conn
	o := options(e, "unit-a").SetWill("casa/a/presence", "offline", 1, true)
	o.SetDialer(&net.Dialer{Timeout: time.Second}).SetCustomOpenConnectionFn(func(_ *url.URL, _ mqtt.ClientOptions) (c net.Conn, err error) {
		c, err = net.Dial("tcp", e.Address())
		wire = c
		return c, err
	})
	mustConnect(t, o)
	_ = wire.Close()
	if m := seen.next(t); m.Topic != "casa/a/presence" || string(m.Payload) != "offline" {
		t.Fatalf("%+v", m)
	}
}

// TestSubscribingWhileAMessageIsInFlight: both sides choose packet identifiers by
// themselves. Messages that a unit has not acknowledged, or that came while it
// was away and the broker started anew, do not keep it from subscribing when it
// comes back, and are not forgotten.
func TestSubscribingWhileAMessageIsInFlight(t *testing.T) {
	k := &memory{data: map[string][]byte{}}
	e := listen(t, "127.0.0.1:0", k)
	at := e.Address()
	got := make(chan string, 16)
	take := func(_ mqtt.Client, m mqtt.Message) { got <- string(m.Payload()) }
	tell := func(text string) {
		t.Helper()
		if err := e.Publish(t.Context(), "casa/a/ask", []byte(text), false); err != nil {
			t.Fatal(err)
		}
	}
	c := mustConnect(t, options(e, "unit-a").SetCleanSession(false).SetAutoAckDisabled(true).SetDefaultPublishHandler(take))
	c.Subscribe("casa/a/ask", 1, nil).Wait()
	for _, text := range []string{"1", "2"} { // taken, not acknowledged
		tell(text)
		<-got
	}
	c.Disconnect(0)
	tell("3") // while it is away
	e.Close()
	e = listen(t, at, k)
	defer e.Close()
	tell("4") // while it is away, after a start of the broker
	c = mustConnect(t, options(e, "unit-a").SetCleanSession(false).SetDefaultPublishHandler(take))
	for _, filter := range []string{"casa/a/command/+", "casa/a/ask", "casa/a/say"} {
		token := c.Subscribe(filter, 1, nil).(*mqtt.SubscribeToken)
		if token.Wait(); token.Result()[filter] != 1 {
			t.Errorf("%s was answered with %d", filter, token.Result()[filter])
		}
	}
	seen := map[string]bool{}
	for len(seen) < 4 {
		select {
		case text := <-got:
			seen[text] = true
		case <-time.After(3 * time.Second):
			t.Fatalf("only %v came", seen)
		}
	}
}

// TestWhoListensAndWhatIsKept: what a rename has to know of the old topic.
func TestWhoListensAndWhatIsKept(t *testing.T) {
	e, _ := fresh(t)
	e.SetAccount(Account{Name: "unit-a", Hash: hash("pass-unit-a"), Rights: Rights{Own: "casa/novo", Also: "casa/x"}})
	e.SetAccount(Account{Name: "hub", Hash: hash("pass-hub"), Rights: Rights{Read: map[string]bool{"casa/x/here": true, "casa/y/here": true}}})
	unit, hub := mustConnect(t, options(e, "unit-a")), mustConnect(t, options(e, "hub"))
	for _, topic := range []string{"casa/x/ask", "casa/novo/ask"} { // it may use both while it moves
		token := unit.Subscribe(topic, 1, nil).(*mqtt.SubscribeToken)
		if token.Wait(); token.Result()[topic] != 1 {
			t.Errorf("%s: %d", topic, token.Result()[topic])
		}
		unit.Publish(topic[:len(topic)-3]+"here", 1, true, "1").Wait()
	}
	hub.Subscribe("casa/x/here", 1, nil).Wait()
	if got := e.Listeners("casa/x", "unit-a"); len(got) != 1 || got[0] != "hub" {
		t.Errorf("listening on casa/x: %v", got)
	}
	if got := e.Listeners("casa/y", "unit-a"); len(got) != 0 {
		t.Errorf("listening on casa/y: %v", got)
	}
	if got := e.KeptBelow("casa/x"); len(got) != 1 || got[0] != "casa/x/here" {
		t.Errorf("kept below casa/x: %v", got)
	}
	for _, c := range []struct {
		filter, topic string
		want          bool
	}{{"#", "a/b", true}, {"a/#", "a/b", true}, {"a/b/c", "a/b", true}, {"+/b/x", "a/b", true}, {"a/+", "a/b", false}, {"a/b", "a/b", false}, {"a/bc/x", "a/b", false}, {"b/#", "a/b", false}} {
		if overlaps(c.filter, c.topic) != c.want {
			t.Errorf("%s over %s: %v", c.filter, c.topic, !c.want)
		}
	}
}

func TestRetainedAndSessionsOutliveARestart(t *testing.T) {
	k := &memory{data: map[string][]byte{}}
	e := listen(t, "127.0.0.1:0", k)
	at := e.Address()
	a := mustConnect(t, options(e, "unit-a").SetCleanSession(false).SetWill("casa/a/presence", "offline", 1, true))
	a.Subscribe("casa/a/ask", 1, nil).WaitTimeout(3 * time.Second)
	a.Publish("casa/a/presence", 1, true, "online").WaitTimeout(3 * time.Second)
	a.Publish("casa/a/gone", 1, true, "x").WaitTimeout(3 * time.Second)
	a.Publish("casa/a/gone", 1, true, "").WaitTimeout(3 * time.Second)
	a.Disconnect(10)
	// A message for the sleeping session waits in the broker.
	if err := e.Publish(context.Background(), "casa/a/ask", []byte("wake up"), false); err != nil {
		t.Fatal(err)
	}
	e.Close()

	e = listen(t, at, k)
	defer e.Close()
	seen := subscribed(t, e, "#")
	if m := seen.next(t); m.Topic != "casa/a/presence" || string(m.Payload) != "online" || !m.Replayed {
		t.Fatalf("%+v", m)
	}
	got := make(chan string, 1)
	o := options(e, "unit-a").SetCleanSession(false).SetDefaultPublishHandler(func(_ mqtt.Client, m mqtt.Message) { got <- string(m.Payload()) })
	mustConnect(t, o)
	select {
	case p := <-got:
		if p != "wake up" {
			t.Errorf("got %q", p)
		}
	case <-time.After(5 * time.Second):
		t.Fatal("the session did not outlive the restart")
	}
	select {
	case m := <-seen:
		t.Errorf("also kept: %+v", m)
	default:
	}
}

func TestNothingIsLostUnderLoad(t *testing.T) {
	e, _ := fresh(t)
	const each, clients = 300, 8
	var seen atomic.Int64
	if err := e.Subscribe(context.Background(), "load/#", func(Message) { seen.Add(1) }); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	for n := range clients {
		name := "load-" + strconv.Itoa(n)
		e.SetAccount(Account{Name: name, Hash: hash("pass-" + name), Rights: Rights{Own: "load/" + strconv.Itoa(n)}})
	}
	for n := range clients {
		c := mustConnect(t, options(e, "load-"+strconv.Itoa(n)))
		wg.Go(func() {
			for range each {
				c.Publish("load/"+strconv.Itoa(n)+"/x", 1, false, "1").WaitTimeout(5 * time.Second)
			}
		})
	}
	wg.Wait()
	// The broker acknowledges a message just before it hands it over, so the
	// last ones may still be on their way.
	for deadline := time.Now().Add(5 * time.Second); seen.Load() < each*clients; time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%d of %d came", seen.Load(), each*clients)
		}
	}
	if got := seen.Load(); got != each*clients {
		t.Fatalf("%d came of %d", got, each*clients)
	}
}

func TestAnExternalBrokerIsSpokenToTheSameWay(t *testing.T) {
	far, _ := fresh(t) // another broker, reached over the network
	host, port, _ := net.SplitHostPort(far.Address())
	portNumber, _ := strconv.Atoi(port)
	address := Address{Host: host, Port: portNumber, User: "unit-a", Password: secret.New("pass-unit-a"), ClientID: "unit-a"}
	if err := Try(context.Background(), address); err != nil {
		t.Fatal(err)
	}
	wrong := address
	wrong.Password = secret.New("x")
	if err := Try(context.Background(), wrong); err == nil {
		t.Fatal("a wrong password was good enough")
	}
	x, err := Dial(address)
	if err != nil {
		t.Fatal(err)
	}
	defer x.Close()
	for deadline := time.Now().Add(5 * time.Second); !x.Connected(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("no connection")
		}
	}
	in := subscribed(t, x, "casa/a/#")
	if err := x.Publish(context.Background(), "casa/a/state/relay", []byte("true"), true); err != nil {
		t.Fatal(err)
	}
	if m := in.next(t); m.Topic != "casa/a/state/relay" || m.Replayed || string(m.Payload) != "true" {
		t.Fatalf("%+v", m)
	}
}

func BenchmarkIntake(b *testing.B) {
	k := &memory{data: map[string][]byte{}}
	e, err := Listen(Config{Listen: "127.0.0.1:0", Hash: hash, Load: k.load, Save: k.save, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		b.Fatal(err)
	}
	defer e.Close()
	n := 0
	if err := e.Subscribe(context.Background(), "#", func(Message) { n++ }); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if err := e.Publish(context.Background(), "casa/a/state/relay", []byte("true"), false); err != nil {
			b.Fatal(err)
		}
	}
}
