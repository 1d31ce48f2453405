package e2e

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	mochi "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/listeners"
	"github.com/mochi-mqtt/server/v2/packets"

	"fado/internal/broker"
	"fado/internal/carrier"
	"fado/internal/client"
	"fado/internal/clock"
	"fado/internal/core/secret"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/service"
	"fado/internal/sim"
	"fado/internal/wire"
)

// home is a small home: one service on one radio, with one site.
type home struct {
	*client.Client
	t       *testing.T
	running *service.Running
	data    string
	hubURL  string
}

// homeOptions says what differs from the plainest home.
type homeOptions struct {
	radio     string
	scale     float64
	began     time.Time
	configure func(*service.Config)
	broker    func(at string) wire.BrokerEdit
	hub       sim.HubSpec
	hubURL    string
	net       carrier.Net // of the service
}

func startHome(t *testing.T, o homeOptions) *home {
	t.Helper()
	h := &home{t: t, data: filepath.Join(t.TempDir(), "data"), hubURL: o.hubURL}
	conf := service.Defaults()
	conf.LAN.Multicast = false
	conf.Data, conf.Listen, conf.Broker.Listen = h.data, "127.0.0.1:0", "127.0.0.1:0"
	conf.Radio = service.Radio{Kind: "stand-in", At: o.radio}
	if o.scale > 1 {
		conf.Time = service.Time{Scale: o.scale, Start: o.began.Format(time.RFC3339Nano)}
	}
	if o.configure != nil {
		o.configure(&conf)
	}
	r, err := service.Start(t.Context(), conf, "test", nil, o.net, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Stop)
	h.running = r
	h.Client = client.New(r.URL, "")
	h.do("POST", "/api/v1/first-account", wire.FirstAccount{Link: r.FirstLink, Name: "marta", Password: "a long password 1"})
	tok, err := client.Post[wire.Token](t.Context(), h.Client, "/api/v1/tokens", map[string]any{"name": "test", "account": wire.Account{Name: "marta", Password: "a long password 1"}})
	if err != nil {
		t.Fatal(err)
	}
	h.Client = client.New(r.URL, tok.Text)
	for path, name := range map[string]string{"/api/v1/dialects": "../../dialects/direct.yaml", "/api/v1/models": "../../demo/models/sobro-quatro.yaml"} {
		b, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		h.do("PUT", path, wire.FileText{File: string(b)})
	}
	edit := wire.BrokerEdit{Name: new("broker")}
	if o.broker != nil {
		edit = o.broker(r.BrokerAt)
	} else {
		host, port := split(t, r.BrokerAt)
		edit.Host, edit.Port = &host, &port
	}
	h.do("POST", "/api/v1/brokers", edit)
	hub := wire.HubEdit{Name: new("hub"), Directory: &o.hubURL, Token: &o.hub.Token}
	if conf.Broker.Kind == "embedded" {
		hub.Account, hub.Password = new("hub-lagar"), new("0123456789abcdef")
	}
	h.do("POST", "/api/v1/hubs", hub)
	h.do("POST", "/api/v1/sites", wire.SiteEdit{Key: new("lagar"), Name: new("Lagar"), Zone: new("Europe/Lisbon"), Broker: new("broker"), Hub: new("hub"), DownloadAddress: &r.URL})
	h.do("POST", "/api/v1/sites/lagar/networks", wire.NetworkEdit{SSID: new("lagar-casa"), Passphrase: new(demo.Passphrase("lagar"))})
	h.do("POST", "/api/v1/sites/lagar/download-address/proof", nil)
	return h
}

func split(t *testing.T, at string) (string, int) {
	t.Helper()
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		t.Fatal(err)
	}
	var n int
	if _, err := fmt.Sscan(port, &n); err != nil {
		t.Fatal(err)
	}
	return host, n
}

func (h *home) do(method, path string, body any) {
	h.t.Helper()
	if err := h.Do(h.t.Context(), method, path, body, nil); err != nil {
		h.t.Fatalf("%s %s: %v", method, path, err)
	}
}

func (h *home) add(hw, code string) {
	h.t.Helper()
	h.do("POST", "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("Rega"), Model: new("sobro-quatro"), HardwareID: &hw, SetUpCode: &code})
}

func (h *home) run(path string, body any) wire.Task {
	h.t.Helper()
	x, err := client.Post[wire.Task](h.t.Context(), h.Client, path, body)
	if err != nil {
		h.t.Fatal(err)
	}
	waitFor(h.t, "the end of the task", func() bool {
		if x, err = client.Get[wire.Task](h.t.Context(), h.Client, client.Path("tasks", x.ID)); err != nil {
			h.t.Fatal(err)
		}
		return x.Status.Over()
	})
	return x
}

func (h *home) device() wire.Device {
	h.t.Helper()
	d, err := client.Get[wire.Device](h.t.Context(), h.Client, "/api/v1/devices/relay-1")
	if err != nil {
		h.t.Fatal(err)
	}
	return d
}

// directory plays the plainest Thing directory.
func directory(t *testing.T) string {
	t.Helper()
	site, err := sim.Start(sim.Spec{Hubs: []sim.HubSpec{{Name: "hub", Listen: "127.0.0.1:0", Token: "t", Broker: "127.0.0.1:1", Account: "x", Password: "x"}}}, "127.0.0.1:0", clock.Wall(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(site.Stop)
	return site.HubAddress(0)
}

// TestASecondImplementation commissions and updates a unit that was written
// from docs/protocol.md alone.
func TestASecondImplementation(t *testing.T) {
	const hw, code = "02:5A:11:00:00:77", "written-from-the-document"
	old, fresh := bytes.Repeat([]byte("old"), 1000), bytes.Repeat([]byte("new"), 50_000)
	u := newSecondUnit(t, hw, "sobro-quatro", code, old, "0.9.0")
	u.versions[sum(fresh)] = "1.0.0"
	h := startHome(t, homeOptions{radio: u.radio.URL, hubURL: directory(t), hub: sim.HubSpec{Token: "t"}})
	h.add(hw, code)
	h.do("PATCH", "/api/v1/devices/relay-1/settings", map[string]any{"report.interval_seconds": 45, "clock.server": "ntp.lagar.lan"})
	if x := h.run("/api/v1/devices/relay-1/commission", struct{}{}); x.Status != task.Done {
		t.Fatalf("%+v", x.Failure)
	}
	u.mu.Lock()
	if u.text("", "label") != "Rega" || u.text("clock", "zone") != "Europe/Lisbon" || u.text("clock", "server") != "ntp.lagar.lan" || u.doc["report_seconds"] != 45.0 || u.text("wifi", "passphrase") != demo.Passphrase("lagar") {
		t.Errorf("the unit was handed %v", u.open())
	}
	u.mu.Unlock()
	img, err := h.AddImage(t.Context(), bytes.NewReader(fresh), wire.ImageFacts{Firmware: "sobro-quatro", Version: "1.0.0", Models: []string{"sobro-quatro"}})
	if err != nil {
		t.Fatal(err)
	}
	x := h.run("/api/v1/devices/relay-1/update", wire.Start{Image: img.SHA256})
	if x.Status != task.Done || x.Update.Outcome != task.Succeeded {
		t.Fatalf("%+v, refusals %v", x.Failure, u.refusals)
	}
	if d := h.device(); d.Running != "1.0.0" || d.Digest != img.SHA256 {
		t.Errorf("%s %s", d.Running, d.Digest)
	}
}

func oneUnit(t *testing.T, scale float64, fault sim.Fault) (*sim.Site, time.Time) {
	t.Helper()
	began := time.Now()
	s, err := sim.Start(sim.Spec{
		Networks: []sim.Network{{SSID: "lagar-casa", Passphrase: demo.Passphrase("lagar")}},
		Units: []sim.UnitSpec{{HardwareID: unitID, Model: "sobro-quatro", Firmware: "sobro-quatro", Version: "1.3.2", Chip: "x1", SetUpCode: "olival-azeite", BootSeconds: 2, Fault: fault,
			Capabilities: []sim.CapabilitySpec{{Name: "relay-1", Kind: "switch"}}}},
		Hubs: []sim.HubSpec{{Name: "hub", Listen: "127.0.0.1:0", Token: "t", Broker: "127.0.0.1:1", Account: "x", Password: "x"}},
	}, "127.0.0.1:0", clock.Scaled(scale, began), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s, began
}

const unitID = "02:5A:11:00:00:78"

func (h *home) sighted() {
	h.t.Helper()
	waitFor(h.t, "the access point", func() bool {
		list, err := client.Post[[]wire.Sighting](h.t.Context(), h.Client, "/api/v1/sightings/scan", nil)
		return err == nil && len(list) > 0
	})
}

// TestBrokerByTLS: units speak TLS with the embedded broker, and check it.
func TestBrokerByTLS(t *testing.T) {
	cert, key, ca := certificate(t)
	s, began := oneUnit(t, 8, sim.None)
	h := startHome(t, homeOptions{radio: s.Address(), scale: 8, began: began, hubURL: s.HubAddress(0), hub: sim.HubSpec{Token: "t"},
		configure: func(c *service.Config) { c.Broker.Cert, c.Broker.Key = cert, key },
		broker: func(at string) wire.BrokerEdit {
			host, port := split(t, at)
			return wire.BrokerEdit{Name: new("broker"), Host: &host, Port: &port, TLS: new(true), CA: &ca}
		}})
	h.add(unitID, "olival-azeite")
	h.sighted()
	if x := h.run("/api/v1/devices/relay-1/commission", struct{}{}); x.Status != task.Done {
		t.Fatalf("%+v", x.Failure)
	}
	td, err := client.Get[map[string]any](t.Context(), h.Client, "/api/v1/devices/relay-1/thing")
	if err != nil || !strings.Contains(fmt.Sprint(td), "mqtts://") {
		t.Errorf("%v %v", td, err)
	}
}

func certificate(t *testing.T) (cert, key, ca string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "broker"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &k.PublicKey, k)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := x509.MarshalECPrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	ca = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	for path, text := range map[string]string{cert: ca, key: string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: raw}))} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return cert, key, ca
}

// open lets everybody into a broker that is not Fado's.
type open struct{ mochi.HookBase }

func (*open) Provides(b byte) bool { return b == mochi.OnConnectAuthenticate || b == mochi.OnACLCheck }

func (*open) OnConnectAuthenticate(*mochi.Client, packets.Packet) bool { return true }

func (*open) OnACLCheck(*mochi.Client, string, bool) bool { return true }

// TestAnExternalBroker: the same story on a broker elsewhere, by configuration
// alone, with the account that its units share.
func TestAnExternalBroker(t *testing.T) {
	at := freePort(t)
	far := mochi.New(&mochi.Options{Logger: slog.New(slog.DiscardHandler)})
	if err := far.AddHook(new(open), nil); err != nil {
		t.Fatal(err)
	}
	if err := far.AddListener(listeners.NewTCP(listeners.Config{ID: "far", Address: at})); err != nil {
		t.Fatal(err)
	}
	if err := far.Serve(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = far.Close() })
	pass := filepath.Join(t.TempDir(), "pass")
	if err := os.WriteFile(pass, []byte("service password\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	host, port := split(t, at)
	s, began := oneUnit(t, 8, sim.None)
	h := startHome(t, homeOptions{radio: s.Address(), scale: 8, began: began, hubURL: s.HubAddress(0), hub: sim.HubSpec{Token: "t"},
		configure: func(c *service.Config) {
			c.Broker = service.Broker{Kind: "external", Host: host, Port: port, User: "fado-service", Password: pass}
		},
		broker: func(string) wire.BrokerEdit {
			return wire.BrokerEdit{Name: new("broker"), Kind: new("external"), Host: &host, Port: &port, User: new("shared"), Password: new("shared password")}
		}})
	h.add(unitID, "olival-azeite")
	// Two units share the account; neither throws the other off.
	const second = "02:5A:11:00:00:79"
	resp, err := http.Post(s.Address()+"/units", "application/json", strings.NewReader(`{"hardware_id":"`+second+`","model":"sobro-quatro","firmware":"sobro-quatro","version":"1.3.2","set_up_code":"olival-azeite","boot_seconds":2,"capabilities":[{"name":"relay-1","kind":"switch"}]}`))
	if err != nil {
		t.Fatal(err)
	}
	_ = resp.Body.Close()
	h.add(second, "olival-azeite")
	waitFor(t, "both access points", func() bool {
		list, err := client.Post[[]wire.Sighting](t.Context(), h.Client, "/api/v1/sightings/scan", nil)
		return err == nil && len(list) == 2
	})
	for _, hw := range []string{unitID, second} {
		if x := h.run(client.Path("devices", hw, "commission"), struct{}{}); x.Status != task.Done {
			t.Fatalf("%s: %+v", hw, x.Failure)
		}
	}
	for _, hw := range []string{unitID, second} {
		c, ok := far.Clients.Get("unit-" + strings.ToLower(strings.ReplaceAll(hw, ":", "")))
		if !ok || c.Closed() {
			t.Errorf("the unit %s has no session", hw)
		}
	}
	list, err := client.Get[[]wire.Broker](t.Context(), h.Client, "/api/v1/brokers")
	if err != nil || !strings.Contains(list[0].Accounts, "whoever reads it") {
		t.Errorf("what a shared account means is not said: %+v %v", list, err)
	}
}

// adopted is a home with its one unit in service.
func adopted(t *testing.T) (*home, *sim.Site) {
	t.Helper()
	s, began := oneUnit(t, 8, sim.None)
	h := startHome(t, homeOptions{radio: s.Address(), scale: 8, began: began, hubURL: s.HubAddress(0), hub: sim.HubSpec{Token: "t"}})
	h.add(unitID, "olival-azeite")
	h.sighted()
	if x := h.run("/api/v1/devices/relay-1/commission", struct{}{}); x.Status != task.Done {
		t.Fatalf("%+v", x.Failure)
	}
	return h, s
}

func unitFault(t *testing.T, s *sim.Site, fault string) {
	t.Helper()
	resp, err := http.Post(s.Address()+"/units/"+unitID+"/fault", "application/json", strings.NewReader(fmt.Sprintf(`{"fault":%q}`, fault)))
	if err != nil {
		t.Fatal(err)
	}
	_ = resp.Body.Close()
}

// TestDriftPresenceAndProof: what is intended changes, the unit leaves and comes
// back, a stranger speaks for it; each is shown as what it is.
func TestDriftPresenceAndProof(t *testing.T) {
	h, s := adopted(t)
	settings := func() map[string]wire.Setting {
		list, err := client.Get[[]wire.Setting](t.Context(), h.Client, "/api/v1/devices/relay-1/settings")
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]wire.Setting{}
		for _, x := range list {
			out[x.Key] = x
		}
		return out
	}
	now := settings()
	for key, want := range map[string]string{"hostname": "equal", "topic": "equal", "broker.port": "equal", "wifi.ssid": "equal", "wifi.passphrase": "proven by effect", "broker.password": "proven by effect"} {
		if now[key].State != want {
			t.Errorf("%s is %s, want %s", key, now[key].State, want)
		}
	}
	if now["wifi.passphrase"].Intended != "•••" || now["broker.password"].Intended != "•••" || now["wifi.passphrase"].Reported != nil {
		t.Error("a secret is shown")
	}
	h.do("PATCH", "/api/v1/devices/relay-1", wire.DeviceEdit{Label: new("Rega nova")})
	if x := settings()["label"]; x.State != "not handed over" || x.Reported != "Rega" {
		t.Errorf("%+v", x)
	}
	if d := h.device(); d.Attention != "drift" {
		t.Errorf("attention %q", d.Attention)
	}
	h.do("PATCH", "/api/v1/devices/relay-1", wire.DeviceEdit{Label: new("Rega")})
	if d := h.device(); d.Attention != "" {
		t.Errorf("attention %q after putting it back", d.Attention)
	}

	unitFault(t, s, "unplugged")
	waitFor(t, "offline", func() bool { d := h.device(); return d.Presence == "offline" && d.Attention == "offline" })
	unitFault(t, s, "")
	waitFor(t, "online", func() bool { d := h.device(); return d.Presence == "online" && d.Attention == "" })

	// A stranger's account, however it got there, cannot speak for the unit.
	host, port := split(t, h.running.BrokerAt)
	if err := broker.Try(context.Background(), broker.Address{Host: host, Port: port, User: "unit-025a11000078-1", Password: secret.New("guess"), ClientID: "unit-025a11000078-1"}); err == nil {
		t.Error("a guessed password was good enough")
	}
}

// TestImagesAreServedAsTheyAreOrNotAtAll: a changed file is not offered, a link
// serves one address, and ends with its update.
func TestImagesAreServedAsTheyAreOrNotAtAll(t *testing.T) {
	h, _ := adopted(t)
	image := sim.BuildImage(sim.ImageHeader{Firmware: "sobro-quatro", Version: "1.4.0", Chip: "x1", Starts: true}, 200<<10)
	img, err := h.AddImage(t.Context(), bytes.NewReader(image), wire.ImageFacts{Firmware: "sobro-quatro", Version: "1.4.0", Models: []string{"sobro-quatro"}, Chip: "x1"})
	if err != nil {
		t.Fatal(err)
	}
	if p := refused(t, h.Client, "POST", "/api/v1/devices/relay-1/update", wire.Start{Image: "00000000"}); p.Status != 404 {
		t.Errorf("%+v", p)
	}
	if _, err := h.AddImage(t.Context(), bytes.NewReader(image), wire.ImageFacts{Firmware: "sobro-quatro", Version: "1.4.0", Models: []string{"sobro-quatro"}}); err == nil || !strings.Contains(err.Error(), "stored already") {
		t.Errorf("the same file twice: %v", err)
	}
	path := filepath.Join(h.data, "images", img.SHA256)
	changed := bytes.Clone(image)
	changed[1000] ^= 1
	if err := os.WriteFile(path, changed, 0o600); err != nil {
		t.Fatal(err)
	}
	x := h.run("/api/v1/devices/relay-1/update", wire.Start{Image: img.SHA256})
	if x.Status != task.Failed || x.Failure.Code != "no_link" {
		t.Fatalf("a changed file was offered: %+v %+v", x.Status, x.Failure)
	}
	if err := os.WriteFile(path, image, 0o600); err != nil {
		t.Fatal(err)
	}
	if x = h.run(client.Path("tasks", x.ID, "retry"), nil); x.Status != task.Done || x.Update.Outcome != task.Succeeded {
		t.Fatalf("%+v", x.Failure)
	}
	if p := refused(t, h.Client, "POST", "/api/v1/devices/relay-1/update", wire.Start{Image: img.SHA256}); !strings.Contains(p.Title, "runs this very image") {
		t.Errorf("%+v", p)
	}
	older := sim.BuildImage(sim.ImageHeader{Firmware: "sobro-quatro", Version: "1.2.0", Chip: "x1", Starts: true}, 100<<10)
	back, err := h.AddImage(t.Context(), bytes.NewReader(older), wire.ImageFacts{Firmware: "sobro-quatro", Version: "1.2.0", Models: []string{"sobro-quatro"}})
	if err != nil {
		t.Fatal(err)
	}
	if p := refused(t, h.Client, "POST", "/api/v1/devices/relay-1/update", wire.Start{Image: back.SHA256}); !strings.Contains(p.Title, "newer") {
		t.Errorf("%+v", p)
	}
	h.do("POST", client.Path("images", back.SHA256, "withdraw"), wire.Reason{Reason: "Loses its clock."})
	fits, err := client.Get[[]wire.Fit](t.Context(), h.Client, client.Path("images", back.SHA256, "fit"))
	if err != nil || len(fits) != 1 || fits[0].Fits || fits[0].Rule != "withdrawn" {
		t.Errorf("%+v %v", fits, err)
	}
}

// TestAStoppedServiceComesBackAsItWas: accounts, sessions and records outlive a
// restart, and the unit is online again by itself.
func TestAStoppedServiceComesBackAsItWas(t *testing.T) {
	s, began := oneUnit(t, 8, sim.None)
	var conf service.Config
	at := freePort(t)
	h := startHome(t, homeOptions{radio: s.Address(), scale: 8, began: began, hubURL: s.HubAddress(0), hub: sim.HubSpec{Token: "t"}, configure: func(c *service.Config) {
		c.Broker.Listen, c.Listen = at, freePort(t)
		conf = *c
	}})
	h.add(unitID, "olival-azeite")
	h.sighted()
	if x := h.run("/api/v1/devices/relay-1/commission", struct{}{}); x.Status != task.Done {
		t.Fatalf("%+v", x.Failure)
	}
	if _, err := service.Start(t.Context(), conf, "test", nil, carrier.Net{}, slog.New(slog.DiscardHandler)); err == nil || !strings.Contains(err.Error(), "in use") {
		t.Errorf("two services on one data folder: %v", err)
	}
	h.running.Stop()
	r, err := service.Start(t.Context(), conf, "test", nil, carrier.Net{}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Stop)
	if r.FirstLink != "" {
		t.Error("a service with an account printed a one-time link")
	}
	waitFor(t, "the unit's session", func() bool {
		i, err := client.Get[wire.Info](t.Context(), h.Client, "/api/v1/info")
		return err == nil && i.Sessions >= 1
	})
	if d := h.device(); d.Stage != "adopted" || d.Running != "1.3.2" {
		t.Errorf("%+v", d)
	}
}
