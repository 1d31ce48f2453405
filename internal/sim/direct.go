package sim

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
)

// config is what the unit keeps in its flash, as docs/protocol.md names it.
type config struct {
	Wifi         credentials `json:"wifi"`
	WifiFallback credentials `json:"wifi_fallback"`
	Address      struct {
		Mode    string `json:"mode,omitempty"`
		IP      string `json:"ip,omitempty"`
		Prefix  int    `json:"prefix,omitempty"`
		Gateway string `json:"gateway,omitempty"`
		DNS     string `json:"dns,omitempty"`
	} `json:"address"`
	Hostname string `json:"hostname"`
	Label    string `json:"label"`
	Broker   struct {
		Host           string `json:"host"`
		Port           int    `json:"port"`
		TLS            bool   `json:"tls"`
		CA             string `json:"ca,omitempty"`
		Certificate    string `json:"certificate,omitempty"`
		CertificateKey string `json:"certificate_key,omitempty"`
		User           string `json:"user"`
		Password       string `json:"password,omitempty"`
		ClientID       string `json:"client_id,omitempty"`
	} `json:"broker"`
	Topic    string `json:"topic"`
	PointKey string `json:"point_key,omitempty"`
	Clock    struct {
		Zone   string `json:"zone"`
		Server string `json:"server"`
	} `json:"clock"`
	RestartDays   *int              `json:"restart_days,omitempty"`
	UpdateKey     string            `json:"update_key"`
	ReportSeconds int               `json:"report_seconds"`
	Ports         map[string]string `json:"ports,omitempty"`
	PowerUp       map[string]string `json:"power_up,omitempty"`
	Reports       []struct {
		Port    string `json:"port"`
		Topic   string `json:"topic"`
		Payload string `json:"payload"`
	} `json:"reports,omitempty"`
	Load map[string]any `json:"load,omitempty"`
}

type credentials struct {
	SSID       string `json:"ssid"`
	Passphrase string `json:"passphrase,omitempty"`
}

func (c config) open() config {
	c.Wifi.Passphrase, c.WifiFallback.Passphrase, c.Broker.Password, c.Broker.CertificateKey, c.PointKey = "", "", "", "", ""
	return c
}

// direct is a unit that speaks Fado's own protocol, as docs/protocol.md has it.
type direct struct {
	u        *unit
	settings config
	before   *config // what worked, while new settings are tried
	went     string  // why it went back
}

func (d *direct) accessPoint() (name, key string) {
	return "fado-" + strings.ToLower(d.u.digits()), cmp.Or(d.settings.PointKey, d.u.spec.SetUpCode)
}

func (d *direct) link() link {
	c := d.settings
	every := c.ReportSeconds
	if every == 0 {
		every = 30
	}
	return link{ssid: c.Wifi.SSID, pass: c.Wifi.Passphrase, ssid2: c.WifiFallback.SSID, pass2: c.WifiFallback.Passphrase,
		host: c.Broker.Host, port: c.Broker.Port, tls: c.Broker.TLS, ca: c.Broker.CA, cert: c.Broker.Certificate, certKey: c.Broker.CertificateKey,
		user: c.Broker.User, word: c.Broker.Password, id: c.Broker.ClientID, topic: c.Topic,
		will: c.Topic + "/presence", farewell: `"offline"`, every: every}
}

func (d *direct) sleeps() (awake, every time.Duration) { return 0, 0 }

func (d *direct) open() any { return d.settings.open() }

func (d *direct) forget() { d.settings, d.before, d.went = config{}, nil, "" }

func (d *direct) settled() string {
	d.before = nil
	went := d.went
	d.went = ""
	return went
}

func (d *direct) goBack() bool {
	if d.before == nil {
		return false
	}
	d.settings, d.before, d.went = *d.before, nil, d.u.trouble
	return true
}

func (d *direct) kept() config {
	d.u.mu.Lock()
	defer d.u.mu.Unlock()
	return d.settings
}

func (d *direct) hello(ctx context.Context, client mqtt.Client) {
	c := d.kept()
	client.Subscribe(c.Topic+"/command/+", 1, func(_ mqtt.Client, m mqtt.Message) { d.command(c.Topic, m) }).Wait()
	client.Subscribe(c.Topic+"/ask", 1, func(_ mqtt.Client, m mqtt.Message) { d.ask(ctx, c, m.Payload()) }).Wait()
	d.u.publish(c.Topic+"/presence", "online", true)
	d.tell(c.Topic, "")
}

func (d *direct) tick() {
	u, topic := d.u, d.kept().Topic
	d.states(topic)
	u.publish(topic+"/health", map[string]any{"signal": u.signal(), "free_memory": 81_000 + u.rand.IntN(2000), "uptime_seconds": int(u.site.clock.Now().Unix() % 100000)}, false)
}

// tell publishes all that the unit has to say of itself.
func (d *direct) tell(topic, ask string) {
	u := d.u
	u.mu.Lock()
	h, _ := readImage(u.slots[u.active])
	c := d.settings.open()
	about := map[string]any{
		"hardware_id": u.spec.HardwareID, "model": u.spec.Model,
		"firmware": map[string]any{"name": h.Firmware, "version": h.Version, "digest": u.digest(), "confirmed": !u.trial},
		"restarts": u.restarts, "restart_reason": u.reason, "address": u.address(), "time": u.site.clock.Now().In(zoneOf(c.Clock.Zone)).Format(time.RFC3339Nano),
	}
	if u.trouble != "" {
		about["last_join"] = map[string]any{"outcome": u.trouble}
	}
	u.mu.Unlock()
	doc := map[string]any{}
	b, _ := json.Marshal(c)
	_ = json.Unmarshal(b, &doc)
	if ask != "" {
		about["ask"], doc["ask"] = ask, ask
	}
	u.publish(topic+"/unit", about, true)
	u.publish(topic+"/settings", doc, true)
	d.states(topic)
}

func zoneOf(name string) *time.Location {
	zone, err := time.LoadLocation(name)
	if err != nil {
		return time.UTC
	}
	return zone
}

func (d *direct) states(topic string) {
	for k, v := range d.u.values() {
		d.u.publish(topic+"/state/"+k, v, true)
	}
}

func (d *direct) command(topic string, m mqtt.Message) {
	name := m.Topic()[strings.LastIndexByte(m.Topic(), '/')+1:]
	var v any
	if err := json.Unmarshal(m.Payload(), &v); err != nil {
		return
	}
	if _, silent := d.u.has(SilentCommand); silent {
		return
	}
	now, known, accepted := d.u.set(name, v)
	d.u.publish(topic+"/answer", map[string]any{"command": name, "accepted": accepted}, false)
	if known {
		d.u.publish(topic+"/state/"+name, now, true)
	}
}

// ask answers what the service asks. An ask that was answered is not carried
// out a second time.
func (d *direct) ask(ctx context.Context, c config, payload []byte) {
	u := d.u
	var a struct {
		Ask, Do, Link, Manifest string
		Settings                json.RawMessage
	}
	if err := json.Unmarshal(payload, &a); err != nil || a.Ask == "" {
		return
	}
	u.mu.Lock()
	again := u.answered[a.Ask]
	u.answered[a.Ask] = true
	u.mu.Unlock()
	accept := map[string]any{"ask": a.Ask, "accepted": true}
	switch a.Do {
	case "report":
		u.publish(c.Topic+"/answer", accept, false)
		d.tell(c.Topic, a.Ask)
	case "blink":
		u.publish(c.Topic+"/answer", accept, false)
	case "restart", "leave":
		u.publish(c.Topic+"/answer", accept, false)
		if !again {
			u.poke(a.Do)
		}
	case "settings":
		if again {
			u.publish(c.Topic+"/answer", accept, false)
			return
		}
		if err := d.take(a.Settings, true); err != nil {
			u.publish(c.Topic+"/answer", map[string]any{"ask": a.Ask, "accepted": false, "reason": err.Error()}, false)
			return
		}
		u.publish(c.Topic+"/answer", accept, false)
		u.poke("restart")
	case "update":
		if err := d.startUpdate(ctx, c, a.Ask, a.Link, a.Manifest); err != nil {
			u.publish(c.Topic+"/answer", map[string]any{"ask": a.Ask, "accepted": false, "reason": err.Error()}, false)
			return
		}
		u.publish(c.Topic+"/answer", accept, false)
	default:
		u.publish(c.Topic+"/answer", map[string]any{"ask": a.Ask, "accepted": false, "reason": "this unit does not know that ask"}, false)
	}
}

// take keeps a settings document. Members that it does not name stay as they
// were, lists and maps are replaced.
func (d *direct) take(doc []byte, inService bool) error {
	u := d.u
	u.mu.Lock()
	defer u.mu.Unlock()
	c := d.settings
	var named map[string]json.RawMessage
	if err := json.Unmarshal(doc, &named); err != nil {
		return err
	}
	for k := range named {
		switch k {
		case "ports":
			c.Ports = nil
		case "power_up":
			c.PowerUp = nil
		case "reports":
			c.Reports = nil
		case "load":
			c.Load = nil
		}
	}
	if err := json.Unmarshal(doc, &c); err != nil {
		return err
	}
	if c.Wifi.SSID == "" || c.Broker.Host == "" || c.Topic == "" {
		return errors.New("wifi.ssid, broker.host and topic are needed")
	}
	switch u.fault {
	case NotKept:
		c.Label = ""
	case PowerCutSave: // a save is one write: it is there, or it is not
		u.fault = None
		u.poke("restart")
		return nil
	}
	if inService && d.before == nil {
		was := d.settings
		d.before = &was
	}
	d.settings, u.proven, u.trouble = c, false, ""
	return nil
}

// pages serves what a unit answers in set-up mode; in the home's network it
// answers on the broker only.
func (d *direct) pages() http.Handler {
	u := d.u
	m := http.NewServeMux()
	m.HandleFunc("GET /unit", func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		h, _ := readImage(u.slots[u.active])
		trouble := u.trouble
		if trouble == "" {
			trouble = "none"
		}
		reply(w, http.StatusOK, map[string]any{
			"protocol": 1, "hardware_id": u.spec.HardwareID, "model": u.spec.Model,
			"firmware":  map[string]any{"name": h.Firmware, "version": h.Version, "digest": u.digest()},
			"slots":     2,
			"last_join": map[string]any{"outcome": trouble, "network": d.settings.Wifi.SSID},
		})
	})
	m.HandleFunc("GET /networks", func(w http.ResponseWriter, r *http.Request) {
		list := []map[string]any{}
		for _, n := range u.heard() {
			list = append(list, map[string]any{"ssid": n.SSID, "signal": n.Signal})
		}
		reply(w, http.StatusOK, map[string]any{"networks": list})
	})
	m.HandleFunc("GET /settings", func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		reply(w, http.StatusOK, d.settings.open())
	})
	m.HandleFunc("PUT /settings", func(w http.ResponseWriter, r *http.Request) {
		doc, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<10))
		if err == nil {
			err = d.take(doc, false)
		}
		if err != nil {
			reply(w, http.StatusUnprocessableEntity, map[string]any{"accepted": false, "reason": err.Error()})
			return
		}
		reply(w, http.StatusOK, map[string]any{"accepted": true})
	})
	m.HandleFunc("POST /restart", func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(http.StatusAccepted)
		u.mu.Lock()
		u.reason = "asked"
		u.mu.Unlock()
		u.poke("restart")
	})
	m.HandleFunc("POST /blink", func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusAccepted) })
	return u.inSetUpOnly(m)
}
