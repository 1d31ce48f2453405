// Package rehearsal tries a dialect against a simulated unit: a radio, a unit, a
// network and a broker of its own, on loopback, from set-up to a command and its
// state. It knows no record of the service and touches no device.
package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"fado/internal/broker"
	"fado/internal/carrier"
	"fado/internal/clock"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/reach"
	"fado/internal/sim"
)

// Job is what is rehearsed.
type Job struct {
	Dialect *dialect.Dialect
	Model   inventory.Model
	Unit    sim.UnitSpec
	Values  settings.Values // over those of Sample
	Net     carrier.Net
}

// Step is a part of a rehearsal with what went over the line.
type Step struct {
	Title     string     `json:"title"`
	Works     bool       `json:"works"`
	Note      string     `json:"note"`
	Exchanges []Exchange `json:"exchanges,omitempty"`
}

// Exchange is one request with its reply. Secrets are masked.
type Exchange struct {
	Request string `json:"request"`
	Body    string `json:"body,omitempty"`
	Reply   string `json:"reply,omitempty"`
	Error   string `json:"error,omitempty"`
}

// Outcome is what came of a rehearsal.
type Outcome struct {
	Works bool
	Steps []Step
	Got   settings.Values // what was read back
	Want  settings.Values
}

// The unit of every rehearsal, and how fast its time runs.
const (
	HardwareID = "02:5A:11:0E:00:A1"
	setUpCode  = "ensaio-geral-1894"
	scale      = 20
	limit      = 60 * time.Second // of the wall's time
)

// Sample is what a rehearsed unit is told: every plain setting once, with names
// that a careless encoder would break.
func Sample(m inventory.Model) settings.Values {
	v := settings.Values{
		settings.WifiSSID: `Café & "Ribeira" 100%`, settings.WifiPassphrase: secret.New(`a&b=c "d" 100%`),
		settings.Hostname: "ensaio-1", settings.Label: `Ensaio «geral» & 100%`, settings.Topic: "ensaio/sala/1",
		settings.ClockZone: "Europe/Lisbon", settings.ReportSeconds: int64(30),
		settings.AccessUser: "fado", settings.AccessPassword: secret.New("porta-fechada-1"), settings.AccessPointKey: secret.New("ponto-fechado-1"),
	}
	for _, c := range m.Capabilities {
		if c.Kind.Commanded() {
			v[settings.ItemKey("power_up", c.Name, "state")] = "last"
		}
	}
	return v
}

// Spec is a simulated unit of a model, whose family is simulated by hand.
func Spec(m inventory.Model) sim.UnitSpec {
	u := sim.UnitSpec{Speaks: m.Dialect, HardwareID: HardwareID, Model: m.Name, Firmware: m.Firmware, Version: "3.0.0", Chip: m.Chip, FlashKiB: m.FlashKiB, SetUpCode: setUpCode,
		BootSeconds: float64(m.BootSeconds)}
	for _, c := range m.Capabilities {
		u.Capabilities = append(u.Capabilities, sim.CapabilitySpec{Name: c.Name, Kind: string(c.Kind), Value: 1})
	}
	return u
}

// DescribedSpec is a simulated unit that a file describes.
func DescribedSpec(d sim.Described, m inventory.Model) sim.UnitSpec {
	u := Spec(m)
	u.Described, u.BootSeconds = &d, max(d.Boot, 1)
	if d.Version != "" {
		u.Version = d.Version
	}
	return u
}

// stage is a rehearsal under way.
type stage struct {
	job   Job
	clock clock.Clock
	site  *sim.Site
	bus   *broker.Embedded
	radio reach.Radio
	want  settings.Values
	out   Outcome
	now   *Step

	mu       sync.Mutex
	messages []heard
	fresh    chan struct{}
}

type heard struct {
	kind  dialect.MessageKind
	facts dialect.Facts
	line  string
}

// Run rehearses. An error means that the stage could not be set; what fails on
// it is in the outcome.
func Run(ctx context.Context, job Job) (Outcome, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	s := &stage{job: job, clock: clock.Scaled(scale, time.Now()), fresh: make(chan struct{}, 1)}
	log := slog.New(slog.DiscardHandler)
	var err error
	s.bus, err = broker.Listen(broker.Config{Net: job.Net, Listen: "127.0.0.1:0", Hash: func(p string) string { return p }, Log: log,
		Load: func() (map[string][]byte, error) { return nil, nil }, Save: func(map[string][]byte) error { return nil }})
	if err != nil {
		return Outcome{}, fmt.Errorf("start the rehearsal's broker: %w", err)
	}
	defer s.bus.Close()
	s.want = Sample(job.Model)
	host, port, err := net.SplitHostPort(s.bus.Address())
	if err != nil {
		return Outcome{}, err
	}
	number, _ := strconv.Atoi(port)
	s.want[settings.BrokerHost], s.want[settings.BrokerPort] = host, int64(number)
	s.want[settings.BrokerUser], s.want[settings.BrokerPassword] = "unit-ensaio", secret.New("palco & pano")
	for k, v := range job.Values {
		if v == nil {
			delete(s.want, k)
			continue
		}
		s.want[k] = v
	}
	if f := settings.CheckFor(s.want, job.Model); len(f) > 0 {
		return Outcome{}, f.Err("The rehearsal's settings break a rule.")
	}
	pass, _ := s.want[settings.WifiPassphrase].(secret.Secret)
	ssid, _ := s.want[settings.WifiSSID].(string)
	s.site, err = sim.Start(sim.Spec{Networks: []sim.Network{{SSID: ssid, Passphrase: plain(pass), Signal: -50}}, Units: []sim.UnitSpec{job.Unit}, Net: job.Net}, "127.0.0.1:0", s.clock, log)
	if err != nil {
		return Outcome{}, fmt.Errorf("start the simulated unit: %w", err)
	}
	defer s.site.Stop()
	s.radio = reach.NewStandIn(s.site.Address(), s.job.Net)
	s.play(ctx)
	s.out.Want = s.want
	s.out.Works = !slices.ContainsFunc(s.out.Steps, func(x Step) bool { return !x.Works })
	return s.out, nil
}

func (s *stage) play(ctx context.Context) {
	topic, _ := s.want[settings.Topic].(string)
	s.bus.SetAccount(broker.Account{Name: "unit-ensaio", Hash: plain(s.want[settings.BrokerPassword].(secret.Secret)), Rights: broker.Rights{Own: topic}})
	if err := s.bus.Subscribe(ctx, "#", func(m broker.Message) { s.take(topic, m) }); err != nil {
		s.step("Listen on the broker")
		s.fail(err)
		return
	}
	for _, act := range []func(context.Context) bool{s.handOver, s.join, s.readBack, s.command, s.update} {
		if !act(ctx) {
			return
		}
	}
}

func (s *stage) step(title string) {
	s.out.Steps = append(s.out.Steps, Step{Title: title, Works: true})
	s.now = &s.out.Steps[len(s.out.Steps)-1]
}

func (s *stage) fail(err error) bool {
	s.now.Works, s.now.Note = false, err.Error()
	return false
}

func (s *stage) values() dialect.Values {
	h := inventory.HardwareID(HardwareID)
	v := dialect.Values{"hardware_id": HardwareID, "digits": h.Digits(), "set_up_code": secret.New(setUpCode), "ask_id": "rehearsal." + strconv.Itoa(len(s.out.Steps))}
	return v.Merge(s.want, s.job.Model)
}

func (s *stage) heardOn(x *dialect.Exchange, values dialect.Values, reply []byte, err error) {
	e := Exchange{Reply: short(string(reply))}
	if r, err := x.Preview(values); err == nil {
		e.Request, e.Body = strings.TrimSpace(r.Method+" "+r.Path+r.Topic), short(string(r.Body))
	}
	if err != nil {
		e.Error = err.Error()
	}
	s.now.Exchanges = append(s.now.Exchanges, e)
}

// find waits for the unit's access point and joins it.
func (s *stage) find(ctx context.Context) (*reach.Joined, error) {
	deadline := s.clock.Now().Add(3 * time.Minute)
	for {
		list, err := s.radio.Scan(ctx)
		if err != nil {
			return nil, err
		}
		var names []string
		for _, ap := range list {
			names = append(names, ap.Name)
			digits, ok := s.job.Dialect.MatchAccessPoint(ap.Name)
			if !ok || !inventory.HardwareID(HardwareID).EndsWith(digits) {
				continue
			}
			for _, key := range s.keys(ap) {
				j, err := s.radio.Join(ctx, ap.Name, key)
				if err == nil {
					return j, nil
				}
				if !errors.Is(err, reach.ErrKeyRefused) && !errors.Is(err, reach.ErrNotSeen) {
					return nil, err
				}
			}
		}
		if s.clock.Now().After(deadline) {
			return nil, fmt.Errorf("no access point matches %q; on the air: %s", s.job.Dialect.SetUp.AccessPoint.Name, strings.Join(names, ", "))
		}
		if err := s.clock.Sleep(ctx, time.Second); err != nil {
			return nil, err
		}
	}
}

func (s *stage) keys(ap reach.AccessPoint) []secret.Secret {
	if ap.Open {
		return []secret.Secret{{}}
	}
	own, _ := s.want[settings.AccessPointKey].(secret.Secret)
	return []secret.Secret{secret.New(setUpCode), own}
}

func (s *stage) handOver(ctx context.Context) bool {
	s.step("Join its access point and identify it")
	values := s.values()
	j, err := s.find(ctx)
	if err != nil {
		return s.fail(err)
	}
	defer func() { j.Leave() }()
	talk := s.talk(j)
	facts, err := talk.Do(ctx, &s.job.Dialect.Identify, values)
	if err != nil {
		return s.fail(err)
	}
	hw, err := inventory.ParseHardwareID(facts.Text("hardware_id"))
	if err != nil || string(hw) != HardwareID {
		return s.fail(fmt.Errorf("it says that its hardware id is %q; the simulated unit's is %s", facts.Text("hardware_id"), HardwareID))
	}
	s.now.Note = fmt.Sprintf("%s, version %q, model %q.", hw, facts.Text("version"), facts.Text("model"))
	subject := dialect.Subject{Model: s.job.Model, Version: facts.Text("version")}
	plan := s.job.Dialect.Plan(s.want, func(settings.Key) bool { return false }, subject, dialect.AtSetUp)
	for i, p := range plan.Pages {
		s.step(fmt.Sprintf("Write page %d of %d: %s", i+1, len(plan.Pages), p.Title))
		if _, err := talk.Do(ctx, &p.Exchange, values); err != nil {
			return s.fail(err)
		}
		if !p.Restarts || i == len(plan.Pages)-1 && plan.Commit == nil {
			continue
		}
		s.now.Note = "The unit restarts."
		j.Leave()
		if j, err = s.find(ctx); err != nil {
			return s.fail(fmt.Errorf("after this page: %w", err))
		}
		talk = s.talk(j)
	}
	if plan.Commit != nil {
		s.step("Make it true: " + plan.Commit.Title)
		if _, err := talk.Do(ctx, plan.Commit, values); err != nil && !plan.Commit.Restarts {
			return s.fail(err)
		}
	}
	if len(plan.Left) > 0 {
		s.now.Note += fmt.Sprintf(" It cannot be told: %s.", join(plan.Left))
	}
	return true
}

func (s *stage) talk(j *reach.Joined) *reach.Talk {
	t := reach.NewTalk(j.Line, s.job.Dialect.SetUp.At, s.job.Dialect.SetUp.Login, s.values(), s.clock)
	t.Heard = s.heardOn
	return t
}

func (s *stage) take(topic string, m broker.Message) {
	kind, facts, ok := s.job.Dialect.Decode(topic, m.Topic, m.Payload)
	line := fmt.Sprintf("%s %s", m.Topic, short(string(m.Payload)))
	if !ok {
		kind, line = "", line+" (the dialect does not know this topic)"
	}
	s.mu.Lock()
	if m.From != "inline" {
		s.messages = append(s.messages, heard{kind, facts, line})
	}
	s.mu.Unlock()
	select {
	case s.fresh <- struct{}{}:
	default:
	}
}

// await waits for a message after the first n, for a span of the unit's time.
func (s *stage) await(ctx context.Context, n int, span time.Duration, want func(heard) bool) bool {
	deadline := s.clock.Now().Add(span)
	for {
		s.mu.Lock()
		for _, m := range s.messages[min(n, len(s.messages)):] {
			if want(m) {
				s.mu.Unlock()
				return true
			}
		}
		s.mu.Unlock()
		if ctx.Err() != nil || s.clock.Now().After(deadline) {
			return false
		}
		wait, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
		select {
		case <-s.fresh:
		case <-wait.Done():
		}
		cancel()
	}
}

func (s *stage) heardSoFar(from int) (lines []string, n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range s.messages[min(from, len(s.messages)):] {
		if len(lines) < 12 {
			lines = append(lines, m.line)
		}
	}
	return lines, len(s.messages)
}

func (s *stage) join(ctx context.Context) bool {
	s.step("See it on the broker, and who it is")
	id := ""
	ok := s.await(ctx, 0, 3*time.Minute, func(m heard) bool {
		if m.kind != dialect.Identity && m.kind != dialect.Wake {
			return false
		}
		if h, err := inventory.ParseHardwareID(m.facts.Text("hardware_id")); err == nil {
			id = string(h)
		}
		return id == HardwareID
	})
	_ = s.clock.Sleep(ctx, 2*time.Second)
	lines, _ := s.heardSoFar(0)
	for _, l := range lines {
		s.now.Exchanges = append(s.now.Exchanges, Exchange{Request: l})
	}
	if !ok {
		why := "it said nothing on the broker"
		if len(lines) > 0 {
			why = "none of its messages gives the hardware id, which is what proves that it is this unit"
		}
		return s.fail(errors.New(why))
	}
	if s.job.Dialect.Says(dialect.Presence) && !s.await(ctx, 0, 5*time.Second, func(m heard) bool { return m.kind == dialect.Presence && m.facts.Text("presence") == "online" }) {
		return s.fail(errors.New("its presence did not read as «online»"))
	}
	s.now.Note = fmt.Sprintf("It is %s.", id)
	return true
}

func (s *stage) readBack(ctx context.Context) bool {
	d := s.job.Dialect
	got := settings.Values{}
	switch {
	case d.Says(dialect.Reported):
		s.step("Read its settings from what it says")
		if !s.await(ctx, 0, time.Minute, func(m heard) bool {
			if m.kind == dialect.Reported {
				got = dialect.SettingsIn(m.facts, s.job.Model)
			}
			return m.kind == dialect.Reported
		}) {
			return s.fail(errors.New("it said nothing of its settings"))
		}
	case d.Service != nil && d.Service.By == dialect.ByPages:
		s.step("Read its settings over its pages in the home's network")
		address := ""
		s.await(ctx, 0, 10*time.Second, func(m heard) bool {
			if a := m.facts.Text("address"); a != "" {
				address = a
			}
			return address != ""
		})
		if address == "" {
			return s.fail(errors.New("none of its messages gives its address, so its pages cannot be found; read it as «address» in a message of the kind unit"))
		}
		line, err := reach.LAN(address, s.site.Address(), s.job.Net)
		if err != nil {
			return s.fail(err)
		}
		talk := reach.NewTalk(line, strings.ReplaceAll(d.Service.At, "{address}", address), d.SetUp.Login, s.values(), s.clock)
		talk.Heard = s.heardOn
		for _, x := range d.Readers(dialect.Subject{Model: s.job.Model, Version: s.job.Unit.Version}) {
			facts, err := talk.Do(ctx, x, s.values())
			if err != nil {
				return s.fail(err)
			}
			for k, v := range dialect.SettingsIn(facts, s.job.Model) {
				got[k] = v
			}
		}
	default:
		return true
	}
	s.out.Got = got
	equal := 0
	var differs []string
	for _, k := range s.want.Keys() {
		v, said := got[k]
		switch {
		case !said:
		case v == s.want[k]:
			equal++
		default:
			differs = append(differs, fmt.Sprintf("%s is %v instead of %v", k, v, s.want[k]))
		}
	}
	if len(differs) > 0 {
		return s.fail(errors.New(strings.Join(differs, "; ")))
	}
	s.now.Note = fmt.Sprintf("%d settings read back equal.", equal)
	return true
}

func (s *stage) command(ctx context.Context) bool {
	subject := dialect.Subject{Model: s.job.Model, Version: s.job.Unit.Version}
	for _, c := range s.job.Model.Capabilities {
		x, ok := s.job.Dialect.Command(c.Name, subject)
		if !c.Kind.Commanded() || !ok {
			continue
		}
		for _, v := range []any{true, false} {
			if c.Kind == inventory.Dimmer {
				v = map[any]any{true: 40.0, false: 10.0}[v]
			}
			s.step(fmt.Sprintf("Command %s to be %v and see it so", c.Name, v))
			values := s.values()
			values["capability"], values["value"] = c.Name, v
			r, err := x.Encode(values)
			if err != nil {
				return s.fail(err)
			}
			_, n := s.heardSoFar(0)
			err = s.bus.Publish(ctx, r.Topic, r.Body, false)
			s.heardOn(&x, values, nil, err)
			if err != nil {
				return s.fail(err)
			}
			ok := s.await(ctx, n, 30*time.Second, func(m heard) bool {
				return m.kind == dialect.State && dialect.States(m.facts, s.job.Model)[c.Name] == v
			})
			lines, _ := s.heardSoFar(n)
			for _, l := range lines {
				s.now.Exchanges = append(s.now.Exchanges, Exchange{Request: l})
			}
			if !ok {
				return s.fail(fmt.Errorf("no state of %s came that reads as %v", c.Name, v))
			}
		}
		return true
	}
	if len(s.job.Model.Capabilities) == 0 {
		return true
	}
	s.step("See a reading")
	if !s.await(ctx, 0, time.Minute, func(m heard) bool {
		return m.kind == dialect.State && len(dialect.States(m.facts, s.job.Model)) > 0
	}) {
		return s.fail(errors.New("no message gave a state of one of the model's capabilities"))
	}
	return true
}

// update evaluates each way in which the family takes an image. Nothing is sent.
func (s *stage) update(context.Context) bool {
	subject := dialect.Subject{Model: s.job.Model, Version: s.job.Unit.Version}
	for i, way := range s.job.Dialect.Updates {
		if !way.Start.When.Holds(subject) {
			continue
		}
		s.step(fmt.Sprintf("Offer an image, way %d of %d; shown, not sent", i+1, len(s.job.Dialect.Updates)))
		s.now.Note = way.Describe()
		values := s.values().Offer("9.9.9")
		_, err := way.Start.Encode(values)
		s.heardOn(&s.job.Dialect.Updates[i].Start, values, nil, err)
		if err != nil {
			return s.fail(err)
		}
	}
	return true
}

func join(keys []settings.Key) string {
	out := make([]string, len(keys))
	for i, k := range keys {
		out[i] = string(k)
	}
	return strings.Join(out, ", ")
}

func short(s string) string {
	if r := []rune(s); len(r) > 400 {
		return string(r[:400]) + "…"
	}
	return s
}

func plain(s secret.Secret) string { return s.Expose() }
