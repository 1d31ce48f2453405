package sim

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"log/slog"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
)

// UnitSpec describes a simulated unit that speaks «direct».
type UnitSpec struct {
	HardwareID   string           `json:"hardware_id"`
	Model        string           `json:"model"`
	Firmware     string           `json:"firmware"`
	Version      string           `json:"version"`
	Chip         string           `json:"chip"`
	FlashKiB     int              `json:"flash_kib"`
	SetUpCode    string           `json:"set_up_code"`
	BootSeconds  float64          `json:"boot_seconds"`
	Signal       int              `json:"signal"`
	Capabilities []CapabilitySpec `json:"capabilities"`
	Fault        Fault            `json:"fault,omitempty"`
	FaultValue   int              `json:"fault_value,omitempty"`
}

// CapabilitySpec is one thing that a unit switches or measures.
type CapabilitySpec struct {
	Name  string  `json:"name"`
	Kind  string  `json:"kind"` // switch, dimmer, contact or measure
	Value float64 `json:"value"`
	Swing float64 `json:"swing"`
}

// Fault is something that goes wrong with a unit.
type Fault string

// The faults of a unit. A fault stays until it is taken away with None.
const (
	None          Fault = ""
	Unplugged     Fault = "unplugged"
	SlowBoot      Fault = "slow boot"               // value: how many times as long
	WeakSignal    Fault = "weak signal"             // value: dBm
	DownloadCut   Fault = "download cut at a byte"  // value: the byte; once
	Corrupted     Fault = "corrupted image"         // one bit turns in the download; once
	PowerCut      Fault = "power cut while writing" // once; the power comes back
	BootLoop      Fault = "boot loop after update"  // the new slot never comes up, the unit goes back
	DiesAfter     Fault = "dies after update"       // it never returns
	SilentCommand Fault = "ignores commands"
	Duplicates    Fault = "duplicated messages"
	NotKept       Fault = "save accepted and not kept" // the label is lost
	Hangs         Fault = "set-up pages hang"
)

var faults = []Fault{None, Unplugged, SlowBoot, WeakSignal, DownloadCut, Corrupted, PowerCut, BootLoop, DiesAfter, SilentCommand, Duplicates, NotKept, Hangs}

// Report is what a unit's own log says, for those who compare it with Fado's
// record.
type Report struct {
	HardwareID string          `json:"hardware_id"`
	Model      string          `json:"model"`
	Mode       string          `json:"mode"`
	Version    string          `json:"version"`
	Digest     string          `json:"digest"`
	Restarts   int             `json:"restarts"`
	Trouble    string          `json:"trouble"`
	Topic      string          `json:"topic"`
	Writes     []string        `json:"writes"` // digests written to a slot, in order
	Fetched    int64           `json:"fetched_bytes"`
	State      map[string]any  `json:"state"`
	Settings   json.RawMessage `json:"settings"` // without secrets
}

// config is what the unit keeps in its flash, as docs/protocol.md names it.
type config struct {
	Wifi struct {
		SSID       string `json:"ssid"`
		Passphrase string `json:"passphrase,omitempty"`
	} `json:"wifi"`
	Hostname string `json:"hostname"`
	Label    string `json:"label"`
	Broker   struct {
		Host     string `json:"host"`
		Port     int    `json:"port"`
		TLS      bool   `json:"tls"`
		CA       string `json:"ca,omitempty"`
		User     string `json:"user"`
		Password string `json:"password,omitempty"`
		ClientID string `json:"client_id,omitempty"`
	} `json:"broker"`
	Topic string `json:"topic"`
	Clock struct {
		Zone   string `json:"zone"`
		Server string `json:"server"`
	} `json:"clock"`
	UpdateKey     string `json:"update_key"`
	ReportSeconds int    `json:"report_seconds"`
}

func (c config) open() config {
	c.Wifi.Passphrase, c.Broker.Password = "", ""
	return c
}

// trust is what the unit believes of a broker that speaks TLS.
func (c config) trust() *tls.Config {
	conf := &tls.Config{ServerName: c.Broker.Host, MinVersion: tls.VersionTLS12}
	if c.Broker.CA != "" {
		conf.RootCAs = x509.NewCertPool()
		conf.RootCAs.AppendCertsFromPEM([]byte(c.Broker.CA))
	}
	return conf
}

type unit struct {
	spec  UnitSpec
	site  *Site
	log   *slog.Logger
	rand  *rand.Rand
	wake  chan string // restart, power, leave
	tasks sync.WaitGroup

	mu       sync.Mutex
	mode     string // off, starting, set-up, joining, online
	slots    [2][]byte
	active   int
	trial    bool
	settings config
	proven   bool // the settings worked once
	trouble  string
	restarts int
	reason   string
	sequence uint64
	fault    Fault
	faultVal int
	writes   []string
	fetched  int64
	state    map[string]any
	client   mqtt.Client
	update   *download
	answered map[string]bool
}

func newUnit(s *Site, spec UnitSpec, seed uint64) (*unit, error) {
	if spec.HardwareID == "" || spec.Model == "" {
		return nil, fmt.Errorf("a unit needs a hardware id and a model")
	}
	if spec.BootSeconds == 0 {
		spec.BootSeconds = 4
	}
	if spec.FlashKiB == 0 {
		spec.FlashKiB = 4096
	}
	u := &unit{spec: spec, site: s, log: s.log.With("unit", spec.HardwareID), rand: rand.New(rand.NewPCG(seed, 7)),
		wake: make(chan string, 8), mode: "off", fault: spec.Fault, faultVal: spec.FaultValue, reason: "power", answered: map[string]bool{}, state: map[string]any{}}
	u.slots[0] = BuildImage(ImageHeader{spec.Firmware, spec.Version, spec.Chip, true}, 256<<10)
	for _, c := range spec.Capabilities {
		u.state[c.Name] = c.first()
	}
	return u, nil
}

func (c CapabilitySpec) first() any {
	if c.Kind == "switch" || c.Kind == "contact" {
		return c.Value != 0
	}
	return c.Value
}

func (u *unit) setFault(f Fault, value int) bool {
	if !slices.Contains(faults, f) {
		return false
	}
	u.mu.Lock()
	u.fault, u.faultVal = f, value
	u.mu.Unlock()
	u.poke("power")
	return true
}

// press is the long press that brings a unit back into set-up mode.
func (u *unit) press() { u.poke("leave") }

func (u *unit) poke(what string) {
	select {
	case u.wake <- what:
	default:
	}
}

func (u *unit) has(f Fault) (int, bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.faultVal, u.fault == f
}

// once takes a fault that happens one time.
func (u *unit) once(f Fault) (int, bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.fault != f {
		return 0, false
	}
	u.fault = None
	return u.faultVal, true
}

func (u *unit) onAir() (string, bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	return "fado-" + strings.ToLower(strings.ReplaceAll(u.spec.HardwareID, ":", "")), u.mode == "set-up"
}

func (u *unit) signal() int {
	if v, weak := u.has(WeakSignal); weak {
		return v
	}
	if u.spec.Signal == 0 {
		return -58
	}
	return u.spec.Signal
}

func (u *unit) setMode(m string) {
	u.mu.Lock()
	u.mode = m
	u.mu.Unlock()
}

// sleep waits for a span of the unit's time. It ends early, and says why, when
// the unit is restarted or loses its power.
func (u *unit) sleep(ctx context.Context, d time.Duration) string {
	t := time.NewTimer(u.site.clock.Real(d))
	defer t.Stop()
	select {
	case <-ctx.Done():
		return "end"
	case why := <-u.wake:
		return why
	case <-t.C:
		return ""
	}
}

// run is the unit's life.
func (u *unit) run(ctx context.Context) {
	defer u.tasks.Wait()
	for ctx.Err() == nil {
		if _, off := u.has(Unplugged); off {
			u.setMode("off")
			u.sleep(ctx, time.Hour)
			continue
		}
		u.setMode("starting")
		boot := u.spec.BootSeconds
		if factor, slow := u.has(SlowBoot); slow {
			boot *= float64(factor)
		}
		if why := u.sleep(ctx, seconds(boot*(0.9+0.2*u.rand.Float64()))); why == "restart" {
			continue
		}
		if !u.startSlot(ctx) {
			continue
		}
		u.mu.Lock()
		ready := u.settings.Wifi.SSID != ""
		u.mu.Unlock()
		if ready {
			if why := u.join(ctx); why != "set-up" {
				continue
			}
		}
		u.setUp(ctx)
	}
}

// startSlot starts the active slot. A slot on trial that does not start three
// times makes the unit go back to the other one.
func (u *unit) startSlot(ctx context.Context) bool {
	u.mu.Lock()
	u.restarts++
	trial, f := u.trial, u.fault
	h, err := readImage(u.slots[u.active])
	u.mu.Unlock()
	if trial && f == DiesAfter {
		u.setMode("dead")
		u.sleep(ctx, 1000*time.Hour)
		return false
	}
	if trial && (f == BootLoop || err != nil || !h.Starts) {
		for range 2 {
			if u.sleep(ctx, seconds(u.spec.BootSeconds)) == "end" {
				return false
			}
			u.mu.Lock()
			u.restarts++
			u.mu.Unlock()
		}
		u.mu.Lock()
		u.active, u.trial, u.reason = 1-u.active, false, "went back: the new image did not start"
		u.mu.Unlock()
		u.log.Info("went back to the old image")
		return false
	}
	return true
}

// setUp opens the unit's access point until it is told to restart.
func (u *unit) setUp(ctx context.Context) {
	u.setMode("set-up")
	for ctx.Err() == nil {
		switch u.sleep(ctx, time.Hour) {
		case "restart", "power":
			u.setMode("starting")
			return
		}
	}
}

// join joins the network and serves until something ends it. It returns
// "set-up" when the unit gives up and opens its access point again.
func (u *unit) join(ctx context.Context) string {
	u.setMode("joining")
	trouble := ""
	for try := 0; ; try++ {
		u.mu.Lock()
		c, proven := u.settings, u.proven
		u.mu.Unlock()
		if why := u.sleep(ctx, time.Second); why != "" {
			return u.ended(why)
		}
		trouble = u.site.associate(c.Wifi.SSID, c.Wifi.Passphrase)
		if trouble == "" {
			var why string
			if why, trouble = u.serve(ctx, c); trouble == "" {
				return u.ended(why)
			}
		}
		u.mu.Lock()
		u.trouble = trouble
		trial := u.trial
		u.mu.Unlock()
		if try >= 2 && trial {
			// Without broker a new image is not confirmed; the unit goes back.
			u.mu.Lock()
			u.active, u.trial, u.reason = 1-u.active, false, "went back: the new image reached no broker"
			u.mu.Unlock()
			return "restart"
		}
		if try >= 2 && !proven {
			return "set-up"
		}
		if why := u.sleep(ctx, 3*time.Second); why != "" {
			return u.ended(why)
		}
	}
}

func (u *unit) ended(why string) string {
	if why == "leave" {
		u.mu.Lock()
		u.settings, u.proven, u.trouble = config{}, false, ""
		u.mu.Unlock()
	}
	return why
}

// serve is the unit in service: connected to its broker until it restarts,
// loses power or is told to leave.
func (u *unit) serve(ctx context.Context, c config) (why, trouble string) {
	scheme := "tcp"
	if c.Broker.TLS {
		scheme = "ssl"
	}
	lost := make(chan struct{}, 1)
	o := mqtt.NewClientOptions().AddBroker(fmt.Sprintf("%s://%s:%d", scheme, c.Broker.Host, c.Broker.Port)).
		SetClientID(cmp.Or(c.Broker.ClientID, c.Broker.User)).SetUsername(c.Broker.User).SetPassword(c.Broker.Password).
		SetCleanSession(false).SetAutoReconnect(false).SetConnectTimeout(5*time.Second).SetKeepAlive(20*time.Second).
		SetWill(c.Topic+"/presence", `"offline"`, 1, true).
		SetConnectionLostHandler(func(mqtt.Client, error) {
			select {
			case lost <- struct{}{}:
			default:
			}
		})
	var wire net.Conn
	o.SetCustomOpenConnectionFn(func(at *url.URL, o mqtt.ClientOptions) (net.Conn, error) {
		d := &net.Dialer{Timeout: o.ConnectTimeout}
		var err error
		if at.Scheme == "ssl" {
			wire, err = tls.DialWithDialer(d, "tcp", at.Host, c.trust())
		} else {
			wire, err = d.Dial("tcp", at.Host)
		}
		return wire, err
	})
	client := mqtt.NewClient(o)
	t := client.Connect()
	t.Wait()
	if err := t.Error(); err != nil {
		if strings.Contains(err.Error(), "not Authorized") || strings.Contains(err.Error(), "bad user name") || strings.Contains(err.Error(), "Unauthorized") {
			return "", "broker_refused"
		}
		return "", "broker_unreachable"
	}
	u.mu.Lock()
	u.client, u.proven, u.trouble, u.trial = client, true, "", false
	u.mu.Unlock()
	defer func() {
		u.mu.Lock()
		u.client = nil
		u.mu.Unlock()
	}()
	client.Subscribe(c.Topic+"/command/+", 1, func(_ mqtt.Client, m mqtt.Message) { u.command(c.Topic, m) }).Wait()
	client.Subscribe(c.Topic+"/ask", 1, func(_ mqtt.Client, m mqtt.Message) { u.ask(ctx, c, m.Payload()) }).Wait()
	u.setMode("online")
	u.publish(c.Topic+"/presence", "online", true)
	u.tell(c.Topic, "")
	every := max(c.ReportSeconds, 5)
	if c.ReportSeconds == 0 {
		every = 30
	}
	ticker := time.NewTicker(max(u.site.clock.Real(time.Duration(every)*time.Second), 50*time.Millisecond))
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			client.Disconnect(20)
			return "end", ""
		case <-lost:
			return "lost", "broker_unreachable"
		case <-ticker.C:
			u.measure()
			u.states(c.Topic)
			u.publish(c.Topic+"/health", map[string]any{"signal": u.signal(), "free_memory": 81_000 + u.rand.IntN(2000), "uptime_seconds": int(u.site.clock.Now().Unix() % 100000)}, false)
		case why := <-u.wake:
			if _, off := u.has(Unplugged); why == "power" && !off {
				continue // a fault that does not touch the power
			}
			if why == "restart" || why == "leave" {
				u.publish(c.Topic+"/presence", "offline", true)
				client.Disconnect(20)
				return why, ""
			}
			// The power is gone: no farewell, so that the broker sends the will.
			_ = wire.Close()
			return "power", ""
		}
	}
}

func (u *unit) publish(topic string, v any, retain bool) {
	u.mu.Lock()
	client, duplicate := u.client, u.fault == Duplicates
	u.mu.Unlock()
	if client == nil {
		return
	}
	b, err := json.Marshal(v)
	if err != nil {
		return
	}
	client.Publish(topic, 1, retain, b)
	if duplicate {
		client.Publish(topic, 1, retain, b)
	}
}

// tell publishes all that the unit has to say of itself.
func (u *unit) tell(topic, ask string) {
	u.mu.Lock()
	h, _ := readImage(u.slots[u.active])
	c := u.settings.open()
	about := map[string]any{
		"hardware_id": u.spec.HardwareID, "model": u.spec.Model,
		"firmware": map[string]any{"name": h.Firmware, "version": h.Version, "digest": digestOf(u.slots[u.active]), "confirmed": !u.trial},
		"restarts": u.restarts, "restart_reason": u.reason, "address": u.address(),
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
	u.states(topic)
}

func (u *unit) address() string {
	var last int
	_, _ = fmt.Sscanf(u.spec.HardwareID[len(u.spec.HardwareID)-2:], "%X", &last)
	return fmt.Sprintf("192.168.40.%d", 20+last%200)
}

func (u *unit) states(topic string) {
	u.mu.Lock()
	state := make(map[string]any, len(u.state))
	for k, v := range u.state {
		state[k] = v
	}
	u.mu.Unlock()
	for k, v := range state {
		u.publish(topic+"/state/"+k, v, true)
	}
}

// measure lets the measured values drift.
func (u *unit) measure() {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, c := range u.spec.Capabilities {
		if v, isNumber := u.state[c.Name].(float64); isNumber && c.Kind == "measure" {
			v += (u.rand.Float64() - 0.5) * c.Swing
			u.state[c.Name] = math.Round(v*10) / 10
		}
	}
}

func (u *unit) command(topic string, m mqtt.Message) {
	if _, silent := u.has(SilentCommand); silent {
		return
	}
	name := m.Topic()[strings.LastIndexByte(m.Topic(), '/')+1:]
	var v any
	if err := json.Unmarshal(m.Payload(), &v); err != nil {
		return
	}
	accepted := false
	u.mu.Lock()
	for _, c := range u.spec.Capabilities {
		_, isBool := v.(bool)
		_, isNumber := v.(float64)
		if c.Name == name && (c.Kind == "switch" && isBool || c.Kind == "dimmer" && isNumber) {
			u.state[name], accepted = v, true
		}
	}
	now, known := u.state[name]
	u.mu.Unlock()
	u.publish(topic+"/answer", map[string]any{"command": name, "accepted": accepted}, false)
	if known {
		u.publish(topic+"/state/"+name, now, true)
	}
}

// ask answers what the service asks. An ask that was answered is not carried
// out a second time.
func (u *unit) ask(ctx context.Context, c config, payload []byte) {
	var a struct{ Ask, Do, Link, Manifest string }
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
		u.tell(c.Topic, a.Ask)
	case "blink":
		u.publish(c.Topic+"/answer", accept, false)
	case "restart", "leave":
		u.publish(c.Topic+"/answer", accept, false)
		if !again {
			u.poke(a.Do)
		}
	case "update":
		if err := u.startUpdate(ctx, c, a.Ask, a.Link, a.Manifest); err != nil {
			u.publish(c.Topic+"/answer", map[string]any{"ask": a.Ask, "accepted": false, "reason": err.Error()}, false)
			return
		}
		u.publish(c.Topic+"/answer", accept, false)
	default:
		u.publish(c.Topic+"/answer", map[string]any{"ask": a.Ask, "accepted": false, "reason": "this unit does not know that ask"}, false)
	}
}

// setUpPages serves what a unit answers in set-up mode.
func (u *unit) setUpPages() http.Handler {
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
			"firmware":  map[string]any{"name": h.Firmware, "version": h.Version, "digest": digestOf(u.slots[u.active])},
			"slots":     2,
			"last_join": map[string]any{"outcome": trouble, "network": u.settings.Wifi.SSID},
		})
	})
	m.HandleFunc("GET /networks", func(w http.ResponseWriter, r *http.Request) {
		list := []map[string]any{}
		u.site.mu.Lock()
		for _, n := range u.site.networks {
			list = append(list, map[string]any{"ssid": n.SSID, "signal": n.Signal})
		}
		u.site.mu.Unlock()
		reply(w, http.StatusOK, map[string]any{"networks": list})
	})
	m.HandleFunc("GET /settings", func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		reply(w, http.StatusOK, u.settings.open())
	})
	m.HandleFunc("PUT /settings", func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		c := u.settings
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&c); err != nil {
			reply(w, http.StatusUnprocessableEntity, map[string]any{"accepted": false, "reason": err.Error()})
			return
		}
		if c.Wifi.SSID == "" || c.Broker.Host == "" || c.Topic == "" {
			reply(w, http.StatusUnprocessableEntity, map[string]any{"accepted": false, "reason": "wifi.ssid, broker.host and topic are needed"})
			return
		}
		if u.fault == NotKept {
			c.Label = ""
		}
		u.settings, u.proven, u.trouble = c, false, ""
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
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, hangs := u.has(Hangs); hangs {
			<-r.Context().Done()
			return
		}
		m.ServeHTTP(w, r)
	})
}

func (u *unit) report() Report {
	u.mu.Lock()
	defer u.mu.Unlock()
	h, _ := readImage(u.slots[u.active])
	state := make(map[string]any, len(u.state))
	for k, v := range u.state {
		state[k] = v
	}
	open, _ := json.Marshal(u.settings.open())
	return Report{u.spec.HardwareID, u.spec.Model, u.mode, h.Version, digestOf(u.slots[u.active]), u.restarts, u.trouble, u.settings.Topic,
		slices.Clone(u.writes), u.fetched, state, open}
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
