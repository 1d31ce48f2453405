package sim

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"

	"fado/internal/carrier"
)

// UnitSpec describes a simulated unit.
type UnitSpec struct {
	Speaks       string           `json:"speaks"` // direct, andorinha, pardal or coruja; or Described says it
	Described    *Described       `json:"described,omitempty"`
	HardwareID   string           `json:"hardware_id"`
	Model        string           `json:"model"`
	Firmware     string           `json:"firmware"`
	Version      string           `json:"version"`
	Chip         string           `json:"chip"`
	FlashKiB     int              `json:"flash_kib"`
	SizeKiB      int              `json:"size_kib"` // of the image that it comes with; 0 for 256
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
	WeakSignal    Fault = "weak signal"             // value: dBm; below -85 it finds no network
	DownloadCut   Fault = "download cut at a byte"  // value: the byte; once
	Corrupted     Fault = "corrupted image"         // one bit turns in the download; once
	PowerCut      Fault = "power cut while writing" // once; the power comes back
	BootLoop      Fault = "boot loop after update"  // the new slot never comes up, the unit goes back
	DiesAfter     Fault = "dies after update"       // it never returns
	SilentCommand Fault = "ignores commands"
	Duplicates    Fault = "duplicated messages"
	Lost          Fault = "lost messages"              // each n-th that it sends; value: n
	NotKept       Fault = "save accepted and not kept" // the label is lost
	Hangs         Fault = "set-up pages hang"
	PowerCutSave  Fault = "power cut while saving"  // half of a save is kept; once
	Moved         Fault = "address change"          // from its next start on it has another address
	WakeMissed    Fault = "wake missed"             // it sleeps through what it should answer; value: how often
	DoorStaysOpen Fault = "factory login stays"     // whatever it is told, what it had when it was new still opens its pages
	PointOpen     Fault = "access point stays open" // its own access point is on the air in service, too, without a key
	Redirects     Fault = "pages redirect away"
	Truncated     Fault = "replies truncated"
	LoginChanged  Fault = "factory login changed"   // somebody set another key, or another login
	LowBattery    Fault = "battery low"             // value: percent
	SomebodyElses Fault = "set up by somebody else" // it is in a network with settings that are not ours, until its button is pressed for long
)

var faults = []Fault{None, Unplugged, SlowBoot, WeakSignal, DownloadCut, Corrupted, PowerCut, BootLoop, DiesAfter, SilentCommand, Duplicates, Lost, NotKept, Hangs,
	PowerCutSave, Moved, WakeMissed, DoorStaysOpen, PointOpen, Redirects, Truncated, LoginChanged, SomebodyElses, LowBattery}

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
	Tried      []string        `json:"tried"`    // networks that it tried to join, with what came of it
}

type unit struct {
	spec UnitSpec
	site *Site
	log  *slog.Logger
	rand *rand.Rand
	wake chan string // restart, power, leave
	// leaving says that it restarts as soon as it has answered.
	leaving atomic.Bool
	tasks   sync.WaitGroup

	mu       sync.Mutex
	mode     string // off, starting, set-up, joining, online
	in       string // the network that it is in
	slots    [2][]byte
	active   int
	trial    bool
	dead     bool // until a cable reaches it
	manner   manner
	proven   bool // the settings worked once
	moved    bool // it has another address
	touched  time.Time
	trouble  string
	restarts int
	reason   string
	sequence uint64
	fault    Fault
	faultVal int
	writes   []string
	tried    []string
	sum      string
	summed   [3]int // the slot, its length and how many were written when sum was worked out
	end      context.CancelFunc
	life     context.Context // ends with the unit
	fetched  int64
	state    map[string]any
	client   mqtt.Client
	update   *download
	answered map[string]bool
	said     int // messages
}

func newUnit(s *Site, spec UnitSpec, seed uint64) (u *unit, err error) {
	if spec.HardwareID == "" || spec.Model == "" {
		return nil, fmt.Errorf("a unit needs a hardware id and a model")
	}
	if spec.BootSeconds == 0 {
		spec.BootSeconds = 4
	}
	if spec.FlashKiB == 0 {
		spec.FlashKiB = 4096
	}
	u = &unit{spec: spec, site: s, log: s.log.With("unit", spec.HardwareID), rand: rand.New(rand.NewPCG(seed, 7)),
		wake: make(chan string, 8), mode: "off", fault: spec.Fault, faultVal: spec.FaultValue, reason: "power", answered: map[string]bool{}, state: map[string]any{}}
	if u.manner, err = u.manners(); err != nil {
		return nil, err
	}
	u.slots[0] = BuildImage(ImageHeader{spec.Firmware, spec.Version, spec.Chip, true}, cmp.Or(spec.SizeKiB, 256)<<10)
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

// cable writes an image over the unit's pins, dead or not.
func (u *unit) cable(image []byte) {
	u.mu.Lock()
	u.slots, u.active, u.trial, u.dead, u.fault = [2][]byte{image}, 0, false, false, None
	u.mu.Unlock()
	u.poke("power")
}

// press is the long press that brings a unit back into set-up mode.
func (u *unit) press() { u.poke("leave") }

func (u *unit) poke(what string) {
	if what == "restart" {
		u.leaving.Store(true)
	}
	select {
	case u.wake <- what:
	default:
		u.leaving.Store(false)
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

func (u *unit) onAir() (name, key string, on bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	name, key = u.manner.accessPoint()
	if u.fault == LoginChanged && key != "" {
		key = elsewhere
	}
	if u.fault == PointOpen && u.mode == "online" {
		return name, "", true
	}
	return name, key, u.mode == "set-up" && !u.leaving.Load()
}

// elsewhere is the key that somebody else gave a unit.
const elsewhere = "somebody else's key"

// faintest is the weakest signal, in dBm, at which a unit joins.
const faintest = -85

// digits are the hardware id's own, as access points carry them.
func (u *unit) digits() string { return strings.ReplaceAll(u.spec.HardwareID, ":", "") }

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
	u.site.listed.stale.Store(true)
	if m != "online" {
		u.in = ""
	}
	u.mu.Unlock()
	u.leaving.Store(false)
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
	u.mu.Lock()
	u.life = ctx
	u.mu.Unlock()
	for ctx.Err() == nil {
		if _, off := u.has(Unplugged); off {
			u.setMode("off")
			u.sleep(ctx, time.Hour)
			continue
		}
		u.mu.Lock()
		dead := u.dead
		u.mu.Unlock()
		if dead {
			u.setMode("dead")
			u.sleep(ctx, 1000*time.Hour)
			continue
		}
		u.setMode("starting")
		boot := u.spec.BootSeconds
		if factor, slow := u.has(SlowBoot); slow {
			boot *= float64(factor)
		}
		if why := u.sleep(ctx, seconds(boot*(0.9+0.2*u.rand.Float64()))); why == "restart" || why == "power" {
			continue
		}
		if !u.startSlot(ctx) {
			continue
		}
		if _, theirs := u.has(SomebodyElses); theirs {
			u.setMode("online")
			u.site.mu.Lock()
			first := u.site.networks[0].SSID
			u.site.mu.Unlock()
			u.mu.Lock()
			u.in = first
			u.site.listed.stale.Store(true)
			u.mu.Unlock()
			if u.sleep(ctx, 1000*time.Hour) == "leave" {
				u.once(SomebodyElses)
			}
			continue
		}
		u.mu.Lock()
		ready := u.manner.link().ssid != ""
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

// setUp opens the unit's access point until it is told to restart. A unit that
// sleeps opens it for moments only: after a press and now and then.
func (u *unit) setUp(ctx context.Context) {
	awake, every := u.manner.sleeps()
	for ctx.Err() == nil {
		u.setMode("set-up")
		span := time.Hour
		if awake > 0 {
			span = awake
		}
		u.touch()
		for {
			why := u.sleep(ctx, span)
			if why == "restart" || why == "power" || why == "end" {
				u.setMode("starting")
				return
			}
			u.mu.Lock()
			quiet := u.site.clock.Now().Sub(u.touched)
			u.mu.Unlock()
			if why == "" && (awake == 0 || quiet >= awake) {
				break
			}
		}
		if awake == 0 {
			continue
		}
		u.setMode("asleep")
		if why := u.sleep(ctx, every); why == "restart" || why == "power" {
			return
		}
	}
}

// touch notes that somebody speaks to the unit, which keeps it awake.
func (u *unit) touch() {
	u.mu.Lock()
	u.touched = u.site.clock.Now()
	u.mu.Unlock()
}

// join joins the network and serves until something ends it. It returns
// "set-up" when the unit gives up and opens its access point again.
func (u *unit) join(ctx context.Context) string {
	u.setMode("joining")
	_, every := u.manner.sleeps()
	for try := 0; ; try++ {
		u.mu.Lock()
		c, proven := u.manner.link(), u.proven
		u.mu.Unlock()
		if why := u.sleep(ctx, time.Second); why != "" && why != "wake" {
			return u.ended(why)
		}
		trouble := u.site.associate(c.ssid, c.pass)
		if u.signal() < faintest {
			trouble = "wifi_not_found"
		}
		u.mu.Lock()
		if n := cmp.Or(trouble, "joined") + " " + c.ssid; len(u.tried) < 50 && (len(u.tried) == 0 || u.tried[len(u.tried)-1] != n) {
			u.tried = append(u.tried, n)
		}
		u.mu.Unlock()
		if trouble != "" && c.ssid2 != "" && u.site.associate(c.ssid2, c.pass2) == "" {
			trouble = ""
		}
		if trouble == "" {
			u.mu.Lock()
			u.in = c.ssid
			u.site.listed.stale.Store(true)
			u.mu.Unlock()
			var why string
			why, trouble = u.serve(ctx, c)
			if why == "asleep" {
				u.setMode("asleep")
				try = -1
				if n, missed := u.has(WakeMissed); missed {
					every *= time.Duration(max(n, 1))
				}
				switch why = u.sleep(ctx, every); why {
				case "", "wake":
					continue
				}
			}
			if trouble == "" {
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
			u.mu.Lock()
			back := u.manner.goBack()
			u.proven = back
			u.mu.Unlock()
			if !back {
				return "set-up"
			}
			try = -1
		}
		if why := u.sleep(ctx, 3*time.Second); why != "" {
			return u.ended(why)
		}
	}
}

func (u *unit) ended(why string) string {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.fault == Moved {
		u.moved, u.fault = true, None
	}
	if why == "leave" {
		u.manner.forget()
		u.proven, u.trouble = false, ""
	}
	return why
}

// serve is the unit in service: connected to its broker until it restarts,
// loses power, falls asleep or is told to leave.
func (u *unit) serve(ctx context.Context, c link) (why, trouble string) {
	scheme := "tcp"
	if c.tls {
		scheme = "ssl"
	}
	awake, _ := u.manner.sleeps()
	lost := make(chan struct{}, 1)
	o := mqtt.NewClientOptions().AddBroker(fmt.Sprintf("%s://%s:%d", scheme, c.host, c.port)).
		SetClientID(cmp.Or(c.id, c.user)).SetUsername(c.user).SetPassword(c.word).
		SetCleanSession(awake > 0).SetAutoReconnect(false).SetConnectTimeout(5 * time.Second).SetKeepAlive(20 * time.Second).
		SetConnectionLostHandler(func(mqtt.Client, error) {
			select {
			case lost <- struct{}{}:
			default:
			}
		})
	if c.will != "" {
		o.SetWill(c.will, c.farewell, 1, true)
	}
	var wire net.Conn
	o.SetCustomOpenConnectionFn(func(at *url.URL, o mqtt.ClientOptions) (net.Conn, error) {
		var err error
		wire, err = carrier.MQTT(u.site.net, at, c.trust())
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
	u.client, u.proven, u.trouble, u.trial = client, true, u.manner.settled(), false
	u.mu.Unlock()
	defer func() {
		u.mu.Lock()
		u.client = nil
		u.mu.Unlock()
	}()
	u.setMode("online")
	u.touch()
	u.manner.hello(ctx, client)
	every := time.NewTicker(max(u.site.clock.Real(time.Duration(max(c.every, 5))*time.Second), 50*time.Millisecond))
	defer every.Stop()
	var tired <-chan time.Time // of a unit that sleeps
	if awake > 0 {
		t := time.NewTicker(max(u.site.clock.Real(awake/4), 20*time.Millisecond))
		defer t.Stop()
		tired = t.C
	}
	for {
		select {
		case <-ctx.Done():
			client.Disconnect(20)
			return "end", ""
		case <-lost:
			return "lost", "broker_unreachable"
		case <-every.C:
			if awake == 0 {
				u.measure()
				u.manner.tick()
			}
		case <-tired:
			u.mu.Lock()
			quiet := u.site.clock.Now().Sub(u.touched)
			u.mu.Unlock()
			if awake > 0 && quiet >= awake {
				u.measure()
				client.Disconnect(20)
				return "asleep", ""
			}
		case why := <-u.wake:
			if _, off := u.has(Unplugged); why == "power" && !off || why == "wake" {
				continue // a fault that does not touch the power
			}
			if why == "restart" || why == "leave" {
				if c.will != "" {
					client.Publish(c.will, 1, true, c.farewell).WaitTimeout(time.Second)
				}
				client.Disconnect(20)
				return why, ""
			}
			// The power is gone: no farewell, so that the broker sends the will.
			_ = wire.Close()
			return "power", ""
		}
	}
}

// publish sends a value as JSON; say sends it as it is.
func (u *unit) publish(topic string, v any, retain bool) {
	b, err := json.Marshal(v)
	if err != nil {
		return
	}
	u.say(topic, string(b), retain)
}

func (u *unit) say(topic, text string, retain bool) {
	u.mu.Lock()
	client, duplicate := u.client, u.fault == Duplicates
	u.said++
	lost := u.fault == Lost && u.faultVal > 0 && u.said%u.faultVal == 0
	u.mu.Unlock()
	if client == nil || lost {
		return
	}
	client.Publish(topic, 1, retain, text)
	if duplicate {
		client.Publish(topic, 1, retain, text)
	}
}

// cell is how full the battery is, in percent. The unit is locked.
func (u *unit) cell() int {
	if u.fault == LowBattery {
		return u.faultVal
	}
	return 87
}

func (u *unit) address() string {
	var last int
	_, _ = fmt.Sscanf(u.spec.HardwareID[len(u.spec.HardwareID)-2:], "%X", &last)
	if u.moved {
		last += 20
	}
	return fmt.Sprintf("192.168.40.%d", 20+last%200)
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

// set carries a command out and tells what the value is then.
func (u *unit) set(name string, v any) (now any, known, accepted bool) {
	if _, silent := u.has(SilentCommand); silent {
		return nil, false, false
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, c := range u.spec.Capabilities {
		_, isBool := v.(bool)
		_, isNumber := v.(float64)
		if c.Name == name && (c.Kind == "switch" && isBool || c.Kind == "dimmer" && isNumber) {
			u.state[name], accepted = v, true
		}
	}
	now, known = u.state[name]
	return now, known, accepted
}

// values copies the unit's state.
func (u *unit) values() map[string]any {
	u.mu.Lock()
	defer u.mu.Unlock()
	return maps.Clone(u.state)
}

// guard is what all pages have in common: the faults that touch them, and that
// being spoken to keeps a unit awake.
func (u *unit) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		u.touch()
		u.mu.Lock()
		mode := u.mode
		u.mu.Unlock()
		if mode == "starting" || mode == "off" || mode == "dead" || u.leaving.Load() {
			panic(http.ErrAbortHandler) // nobody is there
		}
		if _, hangs := u.has(Hangs); hangs {
			<-r.Context().Done()
			return
		}
		if _, away := u.has(Redirects); away {
			http.Redirect(w, r, "http://198.51.100.7/elsewhere", http.StatusFound)
			return
		}
		if _, cut := u.has(Truncated); cut {
			rec := httptest.NewRecorder()
			next.ServeHTTP(rec, r)
			for k, v := range rec.Header() {
				w.Header()[k] = v
			}
			w.WriteHeader(rec.Code)
			_, _ = w.Write(rec.Body.Bytes()[:rec.Body.Len()/2])
			return
		}
		next.ServeHTTP(w, r)
	})
}

// inSetUpOnly answers on the unit's access point and not in the home's network.
func (u *unit) inSetUpOnly(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		open := u.mode == "set-up"
		u.mu.Unlock()
		if !open {
			http.NotFound(w, r)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// heard lists the networks that the unit hears.
func (u *unit) heard() []Network {
	u.site.mu.Lock()
	defer u.site.mu.Unlock()
	networks := slices.Clone(u.site.networks)
	for i := range networks {
		networks[i].Signal = min(networks[i].Signal, u.signal())
	}
	return slices.DeleteFunc(networks, func(n Network) bool { return n.Signal < faintest })
}

func (u *unit) report() Report {
	u.mu.Lock()
	defer u.mu.Unlock()
	h, _ := readImage(u.slots[u.active])
	state := maps.Clone(u.state)
	open, _ := json.Marshal(u.manner.open())
	return Report{u.spec.HardwareID, u.spec.Model, u.mode, h.Version, u.digest(), u.restarts, u.trouble, u.manner.link().topic,
		slices.Clone(u.writes), u.fetched, state, open, slices.Clone(u.tried)}
}

// digest is that of the running image, worked out once. The lock is held.
func (u *unit) digest() string {
	b := u.slots[u.active]
	if !slices.Equal(u.summed[:], []int{u.active, len(b), len(u.writes)}) {
		u.sum, u.summed = digestOf(b), [3]int{u.active, len(b), len(u.writes)}
	}
	return u.sum
}

// version is what the running image says.
func (u *unit) version() string {
	h, _ := readImage(u.slots[u.active])
	return h.Version
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
