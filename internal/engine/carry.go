package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"sync"
	"time"

	"fado/internal/broker"
	"fado/internal/core/check"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/core/thing"
	"fado/internal/fail"
	"fado/internal/hub"
	"fado/internal/reach"
	"fado/internal/store"
)

// carry does one command of a task and says what came of it. It is the only
// place where a task touches the world.
func (e *Engine) carry(r *runner, c task.Command) task.Event {
	ctx := r.ctx
	d, err := store.One[store.Device](e.Store.Read(ctx), "id = ?", r.device)
	if err != nil {
		return failed("internal", err)
	}
	model, dl, err := e.speaker(d)
	if err != nil {
		return failed("internal", err)
	}
	w := &worker{e: e, r: r, d: d, model: model, dl: dl, askID: fmt.Sprintf("%s.%d", r.id, c.ID), patient: c.Patient}
	if r.kind == task.Update { // it pins no settings, and its pages want a login
		if w.logins, _, err = e.intended(e.Store.Read(ctx), d); err != nil {
			return failed("internal", err)
		}
	}
	switch c.Do {
	case task.DoContact:
		return w.contact(ctx, toIdentify)
	case task.DoPrepare:
		return w.prepare(ctx)
	case task.DoHandOver:
		return w.handOver(ctx)
	case task.DoLookBack:
		return w.contact(ctx, toAskWhy)
	case task.DoWrite:
		return w.write(ctx)
	case task.DoAsk:
		return w.ask(ctx)
	case task.DoRoundTrip:
		return w.roundTrip(ctx)
	case task.DoBaseline:
		return w.baseline(ctx)
	case task.DoAdopt:
		return w.adopt(ctx)
	case task.DoCheck:
		return w.check(ctx)
	case task.DoFit:
		return w.fit(ctx)
	case task.DoLink:
		return w.link(ctx)
	case task.DoOffer:
		return w.offer(ctx)
	}
	return failed("internal", fmt.Errorf("no such command: %s", c.Do))
}

type worker struct {
	e     *Engine
	r     *runner
	d     store.Device
	model inventory.Model
	dl    *dialect.Dialect
	askID string
	// patient says that the unit's access point is looked out for, when it is
	// not on the air.
	patient bool
	// logins are those of the unit's pages; those that its task pins when nil.
	logins settings.Values
}

func failed(code string, err error) task.Event {
	f := map[string]string{}
	if err != nil {
		f["detail"] = reason(err)
	}
	return task.Event{Code: code, Facts: f}
}

// urgency is how soon the radio has to go to a unit. Within each, the one that
// takes longest to restart goes first: its restart passes while others are spoken
// to.
type urgency int

const (
	toIdentify urgency = 10_000 * iota
	toHandOver
	toAskWhy // others wait to hear whether the passphrase is right
	toGoOn   // half of its settings are written
	toCatch  // it is awake for moments
)

// lingers is how long an access point that was joined is not left because its
// unit is handed its settings next.
const lingers = 5 * time.Second

// air is the access point that a task has not left yet.
type air struct {
	mu     sync.Mutex
	joined *reach.Joined
	timer  *time.Timer
}

func (a *air) stay(j *reach.Joined, d time.Duration) {
	a.leave()
	a.mu.Lock()
	defer a.mu.Unlock()
	a.joined, a.timer = j, time.AfterFunc(d, a.leave)
}

// take hands the access point over to whoever goes on there; nil when it was
// left.
func (a *air) take() *reach.Joined {
	a.mu.Lock()
	defer a.mu.Unlock()
	j := a.joined
	if j != nil {
		a.timer.Stop()
	}
	a.joined, a.timer = nil, nil
	return j
}

// leave leaves it, and waits for a leaving that is under way.
func (a *air) leave() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.joined != nil {
		a.timer.Stop()
		a.joined.Leave()
	}
	a.joined, a.timer = nil, nil
}

// join joins the unit's access point.
func (w *worker) join(ctx context.Context, why urgency) (*reach.Joined, *task.Event) {
	look := w.e.accessPoint
	if w.patient {
		look = w.e.awaitAccessPoint
	}
	ap, code, facts := look(ctx, w.d, w.dl)
	if code != "" {
		return nil, &task.Event{Code: code, Facts: facts}
	}
	keys, err := w.pointKeys(ctx, ap)
	if err != nil {
		ev := failed("internal", err)
		return nil, &ev
	}
	if len(keys) == 0 {
		return nil, &task.Event{Code: "no_key"}
	}
	if w.dl.Sleeps() {
		why = toCatch
	}
	w.turn("radio")
	within := int(w.r.boot)
	if why == toIdentify && !w.e.firsts.tried(w.r) {
		within = -within // the quickest tells soonest whether the passphrase is right
	}
	j, err := w.e.radio.Join(ctx, int(why)+within, ap.Name, keys...)
	switch {
	case err == nil:
		return j, nil
	case errors.Is(err, reach.ErrNotSeen):
		return nil, &task.Event{Code: "not_seen"}
	case errors.Is(err, reach.ErrKeyRefused):
		return nil, &task.Event{Code: "key_refused"}
	}
	ev := failed("radio_down", err)
	return nil, &ev
}

// turn tells the task whom its command is with.
func (w *worker) turn(with string) {
	select {
	case w.r.events <- task.Event{Kind: task.Turn, Facts: map[string]string{"with": with}}:
	default: // it is only shown
	}
}

// pointKeys lists the keys to try at an access point: none when it is open, else
// the one that Fado set and the one that is printed on the unit.
func (w *worker) pointKeys(ctx context.Context, ap reach.AccessPoint) ([]secret.Secret, error) {
	if ap.Open {
		return []secret.Secret{{}}, nil
	}
	code, err := w.e.open("set-up code", w.d.ID, w.d.SetUpCode)
	if err != nil {
		return nil, err
	}
	var keys []secret.Secret
	if !code.IsZero() {
		keys = append(keys, code)
	}
	own, ok := w.r.pinned[settings.AccessPointKey].(secret.Secret)
	if !ok || own.IsZero() {
		return keys, nil
	}
	// The unit may have taken its own key just before the service stopped, so it
	// is tried whether or not that is on record.
	if _, err := store.One[store.Fact](w.e.Store.Read(ctx), "device_id = ? AND kind = 'handed over' AND key = ?", w.d.ID, string(settings.AccessPointKey)); err == nil {
		return append([]secret.Secret{own}, keys...), nil
	}
	return append(keys, own), nil
}

// contact joins the access point and lets the unit identify itself. With it a
// unit that came back into set-up mode is asked why, too.
func (w *worker) contact(ctx context.Context, why urgency) task.Event {
	j, ev := w.join(ctx, why)
	if ev != nil && ev.Code == "not_seen" && why == toIdentify {
		if account := w.joinedAlready(ctx); account != "" {
			return task.Event{Code: "joined", Facts: map[string]string{"hardware_id": w.d.HardwareID, "version": w.d.Running, "digest": w.d.Digest, "account": account}}
		}
	}
	if ev != nil && ev.Code == "not_seen" && why == toIdentify && w.patient {
		if found := w.whereabouts(ctx, w.e.Clock.Now().Add(-lately)); found["where"] != "" {
			return task.Event{Code: "elsewhere", Facts: found}
		}
	}
	if ev != nil && ev.Code == "not_seen" && why == toAskWhy {
		if account := w.session(ctx); account != "" {
			return task.Event{Code: "joined", Facts: map[string]string{"account": account}}
		}
		ev.Facts = w.whereabouts(ctx, w.sentAt(ctx))
	}
	if ev != nil {
		return *ev
	}
	stay := false
	defer func() {
		if !stay {
			j.Leave()
		}
	}()
	values := w.values()
	talk := w.setUpTalk(j, values)
	facts, ev := w.greet(ctx, talk, values)
	if ev != nil {
		return *ev
	}
	if holder := w.e.holderOf(ctx, w.d, facts.Text("hardware_id")); holder != "" {
		return task.Event{Code: "others_unit", Facts: map[string]string{"hardware_id": facts.Text("hardware_id"), "holder": holder}}
	}
	out := map[string]string{"hears": w.hears(ctx, talk, values)}
	for _, k := range []string{"hardware_id", "model", "version", "digest", "trouble"} {
		out[k] = facts.Text(k)
	}
	out["model_seen"] = out["model"]
	w.keepCopy(ctx, talk, values, "before it was handed its settings")
	if why == toIdentify {
		if held, _, err := w.e.firsts.mayLeave(w.r); held == "" && err == nil {
			stay = true // joining costs seconds, and the settings follow in a moment
			w.r.air.stay(j, w.e.Clock.Real(lingers))
		}
	}
	return task.Event{Facts: out}
}

// joinedAlready is the account under which a unit that was handed its settings
// before, and was given up, speaks by now; "" when it does not.
func (w *worker) joinedAlready(ctx context.Context) string {
	if w.d.Presence != string(inventory.Online) && w.d.Presence != string(inventory.Asleep) {
		return ""
	}
	n, err := store.Count[store.Fact](w.e.Store.Read(ctx), "device_id = ? AND kind = 'handed over' AND unit_id = ?", w.d.ID, unitOf(w.d))
	if err != nil || n == 0 {
		return ""
	}
	if !w.e.ownAccounts() {
		return "shared"
	}
	a, ok := w.e.account(w.e.Store.Read(ctx), w.d)
	if !ok {
		return ""
	}
	return a.Name
}

// session is the account under which the unit has connected since it was sent away,
// or "". Only that unit has it, so that it has joined, even when what it said first
// was lost.
func (w *worker) session(ctx context.Context) string {
	if w.e.embedded == nil {
		return ""
	}
	a, ok := w.e.account(w.e.Store.Read(ctx), w.d)
	if !ok {
		return ""
	}
	ago, online := w.e.embedded.Since(a.Name)
	if !online || w.e.Clock.Now().Add(-w.e.Clock.Scaled(ago)).Before(w.sentAt(ctx)) {
		return ""
	}
	return a.Name
}

// hears says whether the unit hears the network that it is meant for.
func (w *worker) hears(ctx context.Context, talk *reach.Talk, values dialect.Values) string {
	ssid, _ := w.r.pinned[settings.WifiSSID].(string)
	if w.dl.Networks == nil || ssid == "" {
		return ""
	}
	body, err := talk.Raw(ctx, &w.dl.Networks.Exchange, values)
	if err != nil {
		return ""
	}
	list, err := w.dl.Networks.Read(body)
	if err != nil {
		return ""
	}
	for _, n := range list {
		if n.Text("ssid") == ssid {
			return fmt.Sprintf("It hears «%s» at %s dBm.", ssid, n.Text("signal"))
		}
	}
	return fmt.Sprintf("It does not hear «%s» among %d networks.", ssid, len(list))
}

// prepare makes the unit's broker account, live, and tries it.
func (w *worker) prepare(ctx context.Context) task.Event {
	e := w.e
	if !e.ownAccounts() {
		return task.Event{Facts: map[string]string{"account": "shared by all units of this broker"}}
	}
	a, err := e.prepareAccount(ctx, w.d)
	if err != nil {
		return failed("account_untried", err)
	}
	pass, err := e.open("account", a.Name, a.Sealed)
	if err != nil {
		return failed("account_untried", err)
	}
	b, err := store.One[store.Broker](e.Store.Read(ctx), "id = ?", w.d.BrokerID)
	if err != nil {
		return failed("account_untried", err)
	}
	// A unit that is in service under this account is not thrown off by a try.
	if e.embedded != nil && e.embedded.Online(a.Name) {
		return task.Event{Facts: map[string]string{"account": a.Name}}
	}
	try := broker.Address{Host: b.Host, Port: b.Port, TLS: b.TLS, CA: b.CA, User: a.Name, Password: pass, ClientID: a.Name, Net: w.e.net}
	if c, ok := certificateOf(e.Store.Read(ctx), a.Name); ok {
		if try.Key, err = e.open("certificate", c.Serial, c.Key); err != nil {
			return failed("account_untried", err)
		}
		try.Certificate = c.PEM
	}
	fail.Point("before account try")
	err = broker.Try(ctx, try)
	fail.Point("after account try")
	if err != nil {
		return failed("account_untried", err)
	}
	return task.Event{Facts: map[string]string{"account": a.Name}}
}

// ask asks the unit for a report. Where the family tells its settings on the
// broker the answer is a message; else its pages are read. A unit that sleeps
// tells them at its wake.
func (w *worker) ask(ctx context.Context) task.Event {
	if w.dl.Asks.Report != nil {
		if ev := w.publish(ctx, w.dl.Asks.Report, dialect.Values{}); ev.Code != "" {
			return ev
		}
	}
	if w.dl.Says(dialect.Reported) || w.dl.Service == nil || w.dl.Service.By != dialect.ByPages {
		return task.Event{}
	}
	values := w.values()
	talk, ev := w.meet(ctx, values)
	if ev != nil {
		ev.Code = "unreachable"
		return *ev
	}
	got, err := w.readBack(ctx, talk, values)
	if err != nil {
		return failed("unreachable", err)
	}
	w.e.tasks.reported(w.d.ID, got, w.askID)
	return task.Event{}
}

func (w *worker) publish(ctx context.Context, x *dialect.Exchange, more dialect.Values) task.Event {
	values := w.values()
	for k, v := range more {
		values[k] = v
	}
	req, err := x.Encode(values)
	if err != nil {
		return failed("internal", err)
	}
	w.awaitSession(ctx)
	fail.Point("before publish")
	err = w.e.bus.Publish(ctx, req.Topic, req.Body, false)
	fail.Point("after publish")
	if err != nil {
		return failed("silent", err)
	}
	return task.Event{}
}

// sessionTime is how long a unit's session is waited for before something is
// said to it: it may be on its way back, such as after a restart of the service.
const sessionTime = 8 * time.Second

// awaitSession waits until the unit is connected to the embedded broker, for a
// while. What is said to it after that is kept for it by the broker.
func (w *worker) awaitSession(ctx context.Context) {
	if w.e.embedded == nil || w.dl.Sleeps() {
		return
	}
	a, ok := w.e.account(w.e.Store.Read(ctx), w.d)
	for until := w.e.Clock.Now().Add(sessionTime); ok && !w.e.embedded.Online(a.Name) && w.e.Clock.Now().Before(until); {
		if w.e.Clock.Sleep(ctx, 250*time.Millisecond) != nil {
			return
		}
	}
}

// roundTrip commands the unit to stay as it is and waits for the state that
// follows, so that nothing in the home moves. A unit that only measures is
// asked for a reading.
func (w *worker) roundTrip(ctx context.Context) task.Event {
	state, err := w.states(ctx)
	if err != nil {
		return failed("internal", err)
	}
	for _, c := range w.model.Capabilities {
		if v, known := state[c.Name]; known && c.Kind.Commanded() {
			return w.command(ctx, c, v)
		}
	}
	return w.reading(ctx)
}

// states are the last that the unit has said of each capability.
func (w *worker) states(ctx context.Context) (map[string]any, error) {
	list, err := w.e.Messages(ctx, w.d.ID)
	if err != nil {
		return nil, err
	}
	state := map[string]any{}
	for _, m := range list {
		if kind, facts, ok := w.dl.Decode(w.d.TopicInUse(), w.d.TopicInUse()+m.Topic, m.Payload); ok && kind == dialect.State {
			maps.Copy(state, dialect.States(facts, w.model))
		}
	}
	return state, nil
}

// patience is how long a unit in service may take to answer. It is a matter of
// the network and never scaled.
const patience = 8 * time.Second

func (w *worker) command(ctx context.Context, c inventory.Capability, v any) task.Event {
	x, ok := w.dl.Command(c.Name, dialect.Subject{Model: w.model, Version: w.d.Running})
	if !ok {
		return w.reading(ctx)
	}
	took, ev := w.follows(ctx, &x, c.Name, v, patience)
	if ev != nil {
		return *ev
	}
	expected := fmt.Sprintf("%s %v within %s", c.Name, v, patience)
	if took == 0 {
		ev := failed("no_state", errNothing)
		ev.Checks = []check.Result{check.Fail(check.Command, check.RoundTrip, w.e.Clock.Now(), expected, "nothing")}
		return ev
	}
	seen := fmt.Sprintf("%s was commanded to stay %v and said so after %.1f ms", c.Name, v, float64(took.Microseconds())/1000)
	return task.Event{Facts: map[string]string{"seen": seen + "."}, Checks: w.serviceChecks(ctx, check.Hold(check.Command, check.RoundTrip, w.e.Clock.Now(), expected, "%s", seen))}
}

var errNothing = fmt.Errorf("nothing came within %s", patience)

// follows commands a capability and tells how long the state that followed took; 0
// when none did within a time.
func (w *worker) follows(ctx context.Context, x *dialect.Exchange, name string, v any, within time.Duration) (time.Duration, *task.Event) {
	// Units also report by themselves. Where the family acknowledges commands,
	// only a state after the acknowledgement is proof.
	answered := !w.dl.AnswersCommands()
	watch := w.e.ingest.watch(w.d.ID, func(k dialect.MessageKind, f dialect.Facts) bool {
		answered = answered || k == dialect.Answer && f.Text("command") == name && f.Text("accepted") == "true"
		return answered && k == dialect.State && dialect.States(f, w.model)[name] == v
	})
	defer w.e.ingest.unwatch(watch)
	began := time.Now()
	if ev := w.publish(ctx, x, dialect.Values{"capability": name, "value": v}); ev.Code != "" {
		return 0, &ev
	}
	t := time.NewTimer(within)
	defer t.Stop()
	select {
	case <-watch.seen:
	case <-t.C:
		return 0, nil
	case <-ctx.Done():
		return 0, nil
	}
	return max(time.Since(began), time.Microsecond), nil
}

func (w *worker) reading(ctx context.Context) task.Event {
	if w.dl.Sleeps() {
		return w.readingAtWake(ctx)
	}
	watch := w.e.ingest.watch(w.d.ID, func(k dialect.MessageKind, _ dialect.Facts) bool { return k == dialect.State })
	defer w.e.ingest.unwatch(watch)
	if ev := w.ask(ctx); ev.Code != "" {
		return ev
	}
	if err := await(ctx, watch); err != nil {
		ev := failed("no_state", err)
		ev.Checks = []check.Result{check.Fail(check.Reading, check.LiveMessage, w.e.Clock.Now(), "a live reading", "nothing")}
		return ev
	}
	return task.Event{Facts: map[string]string{"seen": "It only measures; a live reading came in."},
		Checks: w.serviceChecks(ctx, check.Hold(check.Reading, check.LiveMessage, w.e.Clock.Now(), "a live reading", "a live reading"))}
}

// sentAt is when the unit was sent to restart, or else when its task was made.
func (w *worker) sentAt(ctx context.Context) time.Time {
	rec, err := w.e.Task(ctx, w.r.id)
	if err != nil {
		return w.e.Clock.Now()
	}
	var state task.State
	if err := json.Unmarshal([]byte(rec.State), &state); err == nil && state.Seen.Left != nil {
		return *state.Seen.Left
	}
	return rec.CreatedAt
}

// readingAtWake looks for a reading that a unit which sleeps has sent since it
// was handed its settings. When there is none, its next wake is waited for.
func (w *worker) readingAtWake(ctx context.Context) task.Event {
	since := w.sentAt(ctx)
	// What came in a moment ago is written within a quarter second.
	if err := w.e.Clock.Sleep(ctx, w.e.Clock.Scaled(600*time.Millisecond)); err != nil {
		return failed("internal", err)
	}
	list, err := w.e.Messages(ctx, w.d.ID)
	if err != nil {
		return failed("internal", err)
	}
	for _, m := range list {
		if m.Kind != string(dialect.State) || m.Retained || m.At.Before(since) {
			continue
		}
		return task.Event{Facts: map[string]string{"seen": "It only measures; a live reading came in at its wake."},
			Checks: w.serviceChecks(ctx, check.Hold(check.Reading, check.LiveMessage, w.e.Clock.Now(), "a live reading", "a live reading at its wake"))}
	}
	return task.Event{Code: "asleep"}
}

// serviceChecks adds what else can be seen of a unit in service.
func (w *worker) serviceChecks(ctx context.Context, first check.Result) []check.Result {
	now := w.e.Clock.Now()
	out := []check.Result{first}
	if w.e.embedded != nil {
		if a, ok := w.e.account(w.e.Store.Read(ctx), w.d); ok {
			r := check.Hold(check.Session, check.OwnSession, now, a.Name, "%s is connected", a.Name)
			if w.dl.Sleeps() && a.SeenAt != nil {
				r = check.Hold(check.Session, check.OwnSession, now, a.Name, "%s was connected at its wake", a.Name)
			} else if !w.e.embedded.Online(a.Name) {
				r = check.Fail(check.Session, check.OwnSession, now, a.Name, "no session")
			}
			out = append(out, r)
		}
	}
	out = append(out, w.doorChecks(ctx, now)...)
	lines, err := w.e.Lines(w.e.Store.Read(ctx), w.d)
	if err != nil {
		return out
	}
	equal, differs := 0, 0
	for _, l := range lines {
		switch l.State() {
		case settings.Equal:
			equal++
		case settings.Differs, settings.NotHandedOver:
			differs++
		}
	}
	if differs > 0 {
		return append(out, check.Fail(check.Settings, check.ReadBack, now, "all equal", "%d equal, %d not", equal, differs))
	}
	return append(out, check.Hold(check.Settings, check.ReadBack, now, "all equal", "%d equal", equal))
}

func await(ctx context.Context, w *watcher) error {
	t := time.NewTimer(patience)
	defer t.Stop()
	select {
	case <-w.seen:
		return nil
	case <-t.C:
		return fmt.Errorf("nothing came within %s", patience)
	case <-ctx.Done():
		return ctx.Err()
	}
}

// adopt puts the device's thing into the hub's directory and reads it back.
func (w *worker) adopt(ctx context.Context) task.Event {
	e := w.e
	err := e.Store.Write(ctx, func(tx *store.Tx) error { return e.enqueueThing(tx, w.d) })
	if err != nil {
		return failed("internal", err)
	}
	if err := e.grantHub(e.Store.Read(ctx), w.d); err != nil {
		return failed("internal", err)
	}
	if err := e.sendThing(ctx, w.d.ID, true); err != nil {
		switch {
		case errors.Is(err, hub.ErrRefused):
			return failed("hub_refused", err)
		case errors.Is(err, hub.ErrDown):
			return failed("hub_down", err)
		case errors.Is(err, errNoHub):
			return failed("no_hub", err)
		}
		return failed("internal", err)
	}
	seen := fmt.Sprintf("the directory holds %s", thing.ID(w.d.ID))
	return task.Event{Facts: map[string]string{"seen": title(seen) + "."},
		Checks: []check.Result{check.Hold(check.HubThing, check.HubAnswer, e.Clock.Now(), thing.ID(w.d.ID), "%s", seen)}}
}

func deviceSubject(m inventory.Model, d store.Device) dialect.Subject {
	return dialect.Subject{Model: m, Version: d.Running}
}

// shownSubject is the unit as a preview sees it: one that has not said its
// version yet is taken for the newest.
func shownSubject(m inventory.Model, d store.Device) dialect.Subject {
	return dialect.Subject{Model: m, Version: d.Running, Newest: true}
}

// proveAddress asks a site's download address for this very service.
func (e *Engine) proveAddress(ctx context.Context, address string) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"/healthz", nil)
	if err != nil {
		return err
	}
	resp, err := e.checker.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	var body struct{ Service string }
	if err := json.NewDecoder(resp.Body).Decode(&body); err != nil || body.Service != "fado" {
		return fmt.Errorf("what answers there is not Fado")
	}
	return nil
}

// setUpCode is the key printed on the unit; absent when it cannot be opened,
// which joining has reported before.
func (w *worker) setUpCode() secret.Secret {
	s, err := w.e.open("set-up code", w.d.ID, w.d.SetUpCode)
	if err != nil {
		return secret.Secret{}
	}
	return s
}
