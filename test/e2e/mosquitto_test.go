package e2e

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"

	"fado/internal/broker"
	"fado/internal/carrier"
	"fado/internal/client"
	"fado/internal/core/secret"
	"fado/internal/core/task"
	"fado/internal/service"
	"fado/internal/sim"
	"fado/internal/wire"
)

// realBroker is Debian's broker, started by hand with a configuration of its own.
type realBroker struct {
	t       *testing.T
	dir, at string
	process *exec.Cmd
}

const adminPassword = "administrator of this test"

// newRealBroker starts it with accounts that can be managed, and more lines of
// configuration.
func newRealBroker(t *testing.T, more ...string) *realBroker {
	t.Helper()
	if _, err := exec.LookPath("mosquitto"); err != nil {
		t.Fatal("Debian's broker is not installed; «make tools» installs it: ", err)
	}
	plugin, err := filepath.Glob("/usr/lib/*/mosquitto_dynamic_security.so")
	if err != nil || len(plugin) == 0 {
		t.Fatal("the plugin that manages accounts is not there")
	}
	b := &realBroker{t: t, dir: t.TempDir(), at: freePort(t)}
	accounts := filepath.Join(b.dir, "accounts.json")
	if out, err := exec.Command("mosquitto_ctrl", "dynsec", "init", accounts, "fado-service", adminPassword).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	_, port := split(t, b.at)
	lines := append([]string{"per_listener_settings false", "allow_anonymous false", fmt.Sprintf("listener %d 127.0.0.1", port), "plugin " + plugin[0], "plugin_opt_config_file " + accounts,
		"persistence true", "persistence_location " + b.dir + "/", "max_queued_messages 100000"}, more...)
	if os.Geteuid() == 0 {
		lines = append(lines, "user root") // it would drop to a user who cannot read this folder
	}
	if err := os.WriteFile(filepath.Join(b.dir, "broker.conf"), []byte(strings.Join(lines, "\n")+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(b.dir, "password"), []byte(adminPassword+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b.start()
	t.Cleanup(b.stop)
	return b
}

func (b *realBroker) start() {
	b.t.Helper()
	b.process = exec.Command("mosquitto", "-c", filepath.Join(b.dir, "broker.conf"))
	var log buffer
	b.process.Stdout, b.process.Stderr = &log, &log
	if err := b.process.Start(); err != nil {
		b.t.Fatal(err)
	}
	waitFor(b.t, "the broker", func() bool {
		c, err := (carrier.Net{}).Dial(context.Background(), "tcp", b.at)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	})
}

func (b *realBroker) stop() {
	if b.process != nil {
		_ = b.process.Process.Kill()
		_ = b.process.Wait()
	}
	b.process = nil
}

func (b *realBroker) configure(c *service.Config) {
	host, port := split(b.t, b.at)
	c.Broker = service.Broker{Kind: "managed", Host: host, Port: port, User: "fado-service", Password: filepath.Join(b.dir, "password")}
}

func (b *realBroker) edit(string) wire.BrokerEdit {
	host, port := split(b.t, b.at)
	return wire.BrokerEdit{Name: new("broker"), Host: &host, Port: &port}
}

// admin lets the test meddle with the broker's accounts as its administrator.
func (b *realBroker) admin(args ...string) {
	b.t.Helper()
	_, port := split(b.t, b.at)
	out, err := exec.Command("mosquitto_ctrl", append([]string{"-h", "127.0.0.1", "-p", fmt.Sprint(port), "-u", "fado-service", "-P", adminPassword, "dynsec"}, args...)...).CombinedOutput()
	if err != nil {
		b.t.Fatalf("%v: %s", err, out)
	}
}

// startManaged is a home on that broker with one unit, whose hub has an account there.
func startManaged(t *testing.T, b *realBroker) (*home, *sim.Site) {
	t.Helper()
	s, began := oneUnit(t, 8, sim.None)
	h := startHome(t, homeOptions{radio: s.Address(), scale: 8, began: began, hubURL: s.HubAddress(0), hub: sim.HubSpec{Token: "t"}, configure: b.configure, broker: b.edit})
	h.do("PATCH", "/api/v1/hubs/hub", wire.HubEdit{Account: new("hub-lagar"), Password: new("0123456789abcdef")})
	h.add(unitID, "olival-azeite")
	h.sighted()
	return h, s
}

func (h *home) link() wire.BrokerLink {
	h.t.Helper()
	b, err := client.Get[wire.Broker](h.t.Context(), h.Client, "/api/v1/brokers/broker")
	if err != nil {
		h.t.Fatal(err)
	}
	if b.Link == nil {
		return wire.BrokerLink{}
	}
	return *b.Link
}

// TestAManagedBroker: the whole story on Debian's broker. Each unit has an account of
// its own there, the hub one for adopted devices; a stranger and a neighbour get
// nowhere; what is removed behind Fado's back comes back; a restart loses nothing.
func TestAManagedBroker(t *testing.T) {
	b := newRealBroker(t)
	h, _ := startManaged(t, b)
	if x := h.run("/api/v1/devices/relay-1/commission", struct{}{}); x.Status != task.Done {
		t.Fatalf("%+v\n%s", x.Failure, sheet(x))
	}
	d := h.device()
	const account = "unit-025a11000078-1"

	// Rights, as the broker really grants them.
	host, port := split(t, b.at)
	ctl, err := broker.DialManaged(broker.Address{Host: host, Port: port, User: "fado-service", Password: secret.New(adminPassword), ClientID: "test-control"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(ctl.Close)
	waitFor(t, "the test's own control", ctl.Connected)
	logins, err := ctl.Logins(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if l, ok := logins[account]; !ok || !l.Has(account, broker.Rights{Own: d.Topic}) {
		t.Errorf("the unit's account: %+v of %d", l, len(logins))
	}
	if err := ctl.SetLogins(t.Context(), broker.Login{Name: "neighbour", Password: secret.New("neighbour's own"), Rights: broker.Rights{Own: "lagar/other"}}); err != nil {
		t.Fatal(err)
	}
	for _, who := range []struct{ user, pass, id string }{{account, "a guess", account}, {"stranger", "a guess", "stranger"}, {"", "", "nobody"}, {"neighbour", "neighbour's own", account}} {
		if err := broker.Try(t.Context(), broker.Address{Host: host, Port: port, User: who.user, Password: secret.New(who.pass), ClientID: who.id}); err == nil {
			t.Errorf("%q was let in as %q", who.user, who.id)
		}
	}
	tryEveryTopic(t, b.at, "neighbour", "neighbour's own", d.Topic)
	hubReads(t, b.at, d.Topic)

	// What somebody removes there comes back, and is on record.
	b.admin("deleteClient", account)
	b.admin("deleteRole", account)
	h.do("PATCH", "/api/v1/hubs/hub", wire.HubEdit{Name: new("hub")}) // any change has the accounts compared
	waitFor(t, "the account's return", func() bool {
		l, err := ctl.Logins(t.Context())
		return err == nil && l[account].Has(account, broker.Rights{Own: d.Topic})
	})
	h.expectEvent("removed there by somebody else")
	waitFor(t, "the unit's return", func() bool { return h.device().Presence == "online" })

	// A broker that goes away is named; what is intended stays; it comes back.
	b.stop()
	waitFor(t, "the trouble's name", func() bool { return strings.Contains(h.link().Trouble, "not connected") })
	a, err := client.Get[wire.Attention](t.Context(), h.Client, "/api/v1/attention")
	if err != nil || !slices.ContainsFunc(a.Problems, func(s string) bool { return strings.Contains(s, "not connected") }) {
		t.Errorf("%v %v", a.Problems, err)
	}
	b.start()
	waitFor(t, "the broker's return", func() bool { l := h.link(); return l.Connected && l.RoundTripMS > 0 && l.Trouble == "" })
	if x := h.run("/api/v1/devices/relay-1/apply", struct{}{}); x.Status != task.Done {
		t.Errorf("%+v\n%s", x.Failure, sheet(x))
	}

	// Retired: its account is gone there, too.
	h.do("POST", "/api/v1/devices/relay-1/retire", wire.Retire{Reason: "sold"})
	waitFor(t, "the account's end", func() bool { l, err := ctl.Logins(t.Context()); _, has := l[account]; return err == nil && !has })
}

// TestAFullBroker: Debian's broker that allows a few sessions, all of them taken. The
// unit is not sent away to a broker where it would find no place; what is intended
// stays, and the same account serves when there is room.
func TestAFullBroker(t *testing.T) {
	b := newRealBroker(t, "max_connections 6")
	h, _ := startManaged(t, b)
	waitFor(t, "Fado's own session", func() bool { return h.link().Connected })
	host, port := split(t, b.at)
	before := h.device()

	var guests []*broker.External
	for i := 0; ; i++ {
		x, err := broker.Dial(broker.Address{Host: host, Port: port, User: "fado-service", Password: secret.New(adminPassword), ClientID: fmt.Sprint("guest-", i)})
		if err != nil {
			t.Fatal(err)
		}
		came := false
		for until := time.Now().Add(time.Second); !came && time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
			came = x.Connected()
		}
		if !came {
			x.Close() // it would take the first place that becomes free
			break
		}
		guests = append(guests, x)
		t.Cleanup(x.Close)
	}
	if len(guests) == 0 {
		t.Fatal("there was no room to begin with")
	}
	x := h.run("/api/v1/devices/relay-1/commission", struct{}{})
	if x.Status != task.Failed || x.Failure == nil || !strings.Contains(x.Failure.Cause, "no room") || !strings.Contains(x.Failure.What, "as one does that is full") {
		t.Fatalf("%s: %+v\n%s", x.Status, x.Failure, sheet(x))
	}
	if d := h.device(); d.Topic != before.Topic || d.Hostname != before.Hostname || d.Stage == "adopted" {
		t.Errorf("%+v, before %+v", d, before)
	}
	for _, g := range guests {
		g.Close()
	}
	if x = h.run("/api/v1/tasks/"+x.ID+"/retry", struct{}{}); x.Status != task.Done {
		t.Fatalf("%+v\n%s", x.Failure, sheet(x))
	}
	if d := h.device(); d.Stage != "adopted" || d.Topic != before.Topic {
		t.Errorf("%+v", d)
	}
}

func (h *home) expectEvent(part string) {
	h.t.Helper()
	waitFor(h.t, "the event «"+part+"»", func() bool {
		raw, err := client.Get[json.RawMessage](h.t.Context(), h.Client, "/api/v1/events?limit=100")
		if err != nil {
			h.t.Fatal(err)
		}
		return bytes.Contains(raw, []byte(part))
	})
}

// tryEveryTopic signs in as somebody who owns another topic and tries to read and to
// write what a device's unit says and is told.
func tryEveryTopic(t *testing.T, at, user, pass, topic string) {
	t.Helper()
	var mu sync.Mutex
	var heard []string
	o := mqtt.NewClientOptions().AddBroker("tcp://" + at).SetClientID(user).SetUsername(user).SetPassword(pass).SetConnectTimeout(5 * time.Second).SetAutoReconnect(false)
	o.SetDefaultPublishHandler(func(_ mqtt.Client, m mqtt.Message) {
		mu.Lock()
		defer mu.Unlock()
		heard = append(heard, m.Topic())
	})
	c := mqtt.NewClient(o)
	if k := c.Connect(); !k.WaitTimeout(5*time.Second) || k.Error() != nil {
		t.Fatal(k.Error())
	}
	defer c.Disconnect(100)
	for _, filter := range []string{"#", "+/#", "lagar/#", topic + "/#", topic + "/+", topic + "/presence", "$SYS/#", "$CONTROL/#"} {
		k := c.Subscribe(filter, 1, nil).(*mqtt.SubscribeToken)
		if !k.WaitTimeout(5*time.Second) || k.Error() == nil && k.Result()[filter] < 0x80 {
			t.Errorf("%s may subscribe to %q: %v", user, filter, k.Result())
		}
	}
	for _, to := range []string{topic + "/command/relay-1", topic + "/presence", topic + "/ask", topic, "lagar", "$CONTROL/dynamic-security/v1"} {
		c.Publish(to, 1, true, "not from here").WaitTimeout(5 * time.Second)
	}
	time.Sleep(500 * time.Millisecond)
	mu.Lock()
	defer mu.Unlock()
	if len(heard) > 0 {
		t.Errorf("%s heard %v", user, heard)
	}
	seen := make(chan string, 16)
	w := watchAs(t, at, "fado-service", adminPassword, topic+"/#", func(m mqtt.Message) {
		if string(m.Payload()) == "not from here" {
			seen <- m.Topic()
		}
	})
	defer w.Disconnect(100)
	select {
	case to := <-seen:
		t.Errorf("%s wrote to %s", user, to)
	case <-time.After(500 * time.Millisecond):
	}
}

func watchAs(t *testing.T, at, user, pass, filter string, each func(mqtt.Message)) mqtt.Client {
	t.Helper()
	c := mqtt.NewClient(mqtt.NewClientOptions().AddBroker("tcp://" + at).SetClientID(user + "-watch").SetUsername(user).SetPassword(pass).SetAutoReconnect(false))
	if k := c.Connect(); !k.WaitTimeout(5*time.Second) || k.Error() != nil {
		t.Fatal(k.Error())
	}
	if k := c.Subscribe(filter, 1, func(_ mqtt.Client, m mqtt.Message) { each(m) }); !k.WaitTimeout(5*time.Second) || k.Error() != nil {
		t.Fatal(k.Error())
	}
	return c
}

// hubReads: the hub's account hears the state of what it adopted, and nothing of what
// the unit is told.
func hubReads(t *testing.T, at, topic string) {
	t.Helper()
	c := mqtt.NewClient(mqtt.NewClientOptions().AddBroker("tcp://" + at).SetClientID("hub-lagar").SetUsername("hub-lagar").SetPassword("0123456789abcdef").SetAutoReconnect(false))
	if k := c.Connect(); !k.WaitTimeout(5*time.Second) || k.Error() != nil {
		t.Fatal(k.Error())
	}
	defer c.Disconnect(100)
	for filter, may := range map[string]bool{topic + "/state/relay-1": true, topic + "/presence": true, topic + "/ask": false, topic + "/#": false, "#": false} {
		k := c.Subscribe(filter, 1, nil).(*mqtt.SubscribeToken)
		if !k.WaitTimeout(5 * time.Second) {
			t.Fatal("no answer")
		}
		if got := k.Error() == nil && k.Result()[filter] < 0x80; got != may {
			t.Errorf("the hub may subscribe to %q: %v", filter, got)
		}
	}
}

// TestCertificatesOnTheRealBroker: Debian's broker with certificates of the authority
// that Fado keeps: its own, signed of a request, and those of units. One that is
// revoked is turned away once the broker has the list.
func TestCertificatesOnTheRealBroker(t *testing.T) {
	dir := t.TempDir()
	in := func(name string) string { return filepath.Join(dir, name) }
	openssl(t, "req", "-new", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-keyout", in("broker.key"), "-out", in("broker.csr"), "-subj", "/CN=broker")
	// The authority is made on a service that is not connected yet.
	s, began := oneUnit(t, 8, sim.None)
	for _, name := range []string{"ca.pem", "broker.pem", "revoked.pem"} {
		if err := os.WriteFile(in(name), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	at := freePort(t)
	host, port := split(t, at)
	pass := in("password")
	if err := os.WriteFile(pass, []byte(adminPassword), 0o600); err != nil {
		t.Fatal(err)
	}
	h := startHome(t, homeOptions{radio: s.Address(), scale: 8, began: began, hubURL: s.HubAddress(0), hub: sim.HubSpec{Token: "t"},
		configure: func(c *service.Config) {
			c.Broker = service.Broker{Kind: "managed", Host: host, Port: port, TLS: true, CA: in("service-ca.pem"), User: "fado-service", Password: pass}
			openssl(t, "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-keyout", in("other.key"), "-out", in("service-ca.pem"), "-subj", "/CN=not yet")
		},
		broker: func(string) wire.BrokerEdit {
			return wire.BrokerEdit{Name: new("broker"), Host: &host, Port: &port, TLS: new(true)}
		}})
	if err := h.Do(t.Context(), http.MethodPatch, "/api/v1/brokers/broker", wire.BrokerEdit{Certificates: new(true)}, nil); err == nil {
		t.Error("certificates were wanted without an authority")
	}
	ca, err := client.Post[wire.Authority](t.Context(), h.Client, "/api/v1/brokers/broker/authority", nil)
	if err != nil {
		t.Fatal(err)
	}
	h.do("PATCH", "/api/v1/brokers/broker", wire.BrokerEdit{Certificates: new(true)})
	request, err := os.ReadFile(in("broker.csr"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := client.Post[wire.Certificate](t.Context(), h.Client, "/api/v1/brokers/broker/authority/server", wire.CertificateRequest{Request: string(request), Names: []string{"elsewhere.lan"}}); err == nil {
		t.Error("a certificate was made for a name under which no unit reaches the broker")
	}
	server, err := client.Post[wire.Certificate](t.Context(), h.Client, "/api/v1/brokers/broker/authority/server", wire.CertificateRequest{Request: string(request), Names: []string{host, "localhost"}})
	if err != nil {
		t.Fatal(err)
	}
	revoked := func() {
		list, err := client.Get[wire.RevocationList](t.Context(), h.Client, "/api/v1/brokers/broker/authority/revoked")
		if err != nil {
			t.Fatal(err)
		}
		write(t, in("revoked.pem"), list.List)
	}
	write(t, in("ca.pem"), ca.Certificate)
	write(t, in("broker.pem"), server.PEM)
	revoked()
	openssl(t, "verify", "-CAfile", in("ca.pem"), "-purpose", "sslserver", in("broker.pem"))

	// What the broker shows is judged before units are sent there.
	for _, c := range []struct{ cert, key, trouble string }{
		{server.PEM, in("broker.key"), ""},
		{expired(t, in("expired")), in("expired.key"), "not signed by the CA"},
	} {
		write(t, in("shown.pem"), c.cert)
		b := tlsServer(t, in("shown.pem"), c.key)
		bHost, bPort := split(t, b)
		got, err := broker.LookAt(t.Context(), broker.Address{Host: bHost, Port: bPort, TLS: true, CA: ca.Certificate}, time.Now())
		if err != nil || !strings.Contains(got.Trouble, c.trouble) || (c.trouble == "") != (got.Trouble == "") {
			t.Errorf("%+v %v, want %q", got, err, c.trouble)
		}
		late, err := broker.LookAt(t.Context(), broker.Address{Host: bHost, Port: bPort, TLS: true, CA: c.cert + ca.Certificate}, time.Now().AddDate(3, 0, 0))
		if err != nil || !strings.Contains(late.Trouble, "ended") {
			t.Errorf("%+v %v", late, err)
		}
	}

	b := newRealBroker(t, "cafile "+in("ca.pem"), "certfile "+in("broker.pem"), "keyfile "+in("broker.key"), "crlfile "+in("revoked.pem"))
	bHost, bPort := split(t, b.at)
	account, err := client.Get[[]wire.Certificate](t.Context(), h.Client, "/api/v1/certificates?broker=broker")
	if err != nil || len(account) != 1 || account[0].Kind != "server" || account[0].Names != host+",localhost" {
		t.Errorf("%+v %v", account, err)
	}
	try := broker.Address{Host: bHost, Port: bPort, TLS: true, CA: ca.Certificate, User: "fado-service", Password: secret.New(adminPassword), ClientID: "x"}
	if err := broker.Try(t.Context(), try); err != nil {
		t.Fatalf("the certificate of a request does not serve: %v", err)
	}
	try.CA = ""
	if err := broker.Try(t.Context(), try); err == nil {
		t.Error("a broker whose CA is not known was trusted")
	}
}

// TestUnitsShowCertificates: the embedded broker with a certificate of its own
// authority, and units that show theirs. A certificate is renewed over the air, and
// the old one ends; one that is revoked throws its unit off at once.
func TestUnitsShowCertificates(t *testing.T) {
	s, began := oneUnit(t, 8, sim.None)
	h := startHome(t, homeOptions{radio: s.Address(), scale: 8, began: began, hubURL: s.HubAddress(0), hub: sim.HubSpec{Token: "t"},
		configure: func(c *service.Config) { c.Broker.TLS = true },
		broker: func(at string) wire.BrokerEdit {
			host, port := split(t, at)
			return wire.BrokerEdit{Name: new("broker"), Host: &host, Port: &port, TLS: new(true), Certificates: new(true)}
		}})
	h.add(unitID, "olival-azeite")
	h.sighted()
	if x := h.run("/api/v1/devices/relay-1/commission", struct{}{}); x.Status != task.Done {
		t.Fatalf("%+v\n%s", x.Failure, sheet(x))
	}
	units := func() (out []wire.Certificate) {
		list, err := client.Get[[]wire.Certificate](t.Context(), h.Client, "/api/v1/certificates?device=relay-1")
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	first := units()
	if len(first) != 1 || first[0].SeenAt == nil || first[0].Account != "unit-025a11000078-1" {
		t.Fatalf("%+v", first)
	}
	waitFor(t, "what the broker shows", func() bool { return h.link().Certificate != nil })
	if l := h.link(); l.Certificate.Trouble != "" || l.Certificate.Names != "127.0.0.1" {
		t.Errorf("%+v", l)
	}
	// The account alone is not enough any more.
	b, err := client.Get[wire.Broker](t.Context(), h.Client, "/api/v1/brokers/broker")
	if err != nil || !b.Authority {
		t.Fatal(b, err)
	}
	ca, err := client.Get[wire.Authority](t.Context(), h.Client, "/api/v1/brokers/broker/authority")
	if err != nil || ca.Counting != 2 {
		t.Fatal(ca, err)
	}

	h.do("POST", "/api/v1/devices/relay-1/certificate", nil)
	if x := h.run("/api/v1/devices/relay-1/apply", struct{}{}); x.Status != task.Done {
		t.Fatalf("%+v\n%s", x.Failure, sheet(x))
	}
	after := units()
	if len(after) != 2 || after[0].RevokedAt != nil || after[0].SeenAt == nil || after[1].Serial != first[0].Serial || after[1].RevokedAt == nil {
		t.Fatalf("%+v", after)
	}
	if h.device().Presence != "online" {
		t.Error("the unit did not come back with its new certificate")
	}
	if err := h.Do(t.Context(), "POST", "/api/v1/certificates/"+after[0].Serial+"/revoke", wire.Revocation{}, nil); err == nil {
		t.Error("revoked without a reason")
	}
	h.do("POST", "/api/v1/certificates/"+after[0].Serial+"/revoke", wire.Revocation{Reason: "The unit was stolen."})
	waitFor(t, "the unit's being thrown off", func() bool { return h.device().Presence == "offline" })
	if err := h.Do(t.Context(), "POST", "/api/v1/certificates/"+after[0].Serial+"/revoke", wire.Revocation{Reason: "again"}, nil); err == nil {
		t.Error("revoked twice")
	}
	raw, err := client.Get[json.RawMessage](t.Context(), h.Client, "/api/v1/certificates")
	if err != nil || bytes.Contains(raw, []byte("PRIVATE KEY")) {
		t.Error("a key came out: ", err)
	}
}

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

func openssl(t *testing.T, args ...string) {
	t.Helper()
	if out, err := exec.Command("openssl", args...).CombinedOutput(); err != nil {
		t.Fatalf("openssl %v: %v: %s", args, err, out)
	}
}

// expired is a certificate of nobody's, for this machine.
func expired(t *testing.T, path string) string {
	t.Helper()
	openssl(t, "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-keyout", path+".key", "-out", path+".pem", "-days", "1", "-subj", "/CN=old", "-addext", "subjectAltName=IP:127.0.0.1")
	b, err := os.ReadFile(path + ".pem")
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func tlsServer(t *testing.T, cert, key string) string {
	t.Helper()
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		t.Fatal(err)
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			_ = c.(*tls.Conn).Handshake()
			_ = c.Close()
		}
	}()
	return l.Addr().String()
}
