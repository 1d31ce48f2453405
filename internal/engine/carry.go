package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
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
	w := &worker{e: e, r: r, d: d, model: model, dl: dl, askID: fmt.Sprintf("%s.%d", r.id, c.ID)}
	switch c.Do {
	case task.DoContact:
		return w.contact(ctx)
	case task.DoPrepare:
		return w.prepare(ctx)
	case task.DoHandOver:
		return w.handOver(ctx)
	case task.DoLookBack:
		return w.contact(ctx)
	case task.DoAsk:
		return w.ask(ctx)
	case task.DoRoundTrip:
		return w.roundTrip(ctx)
	case task.DoAdopt:
		return w.adopt(ctx)
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
}

func failed(code string, err error) task.Event {
	f := map[string]string{}
	if err != nil {
		f["detail"] = reason(err)
	}
	return task.Event{Code: code, Facts: f}
}

// join joins the unit's access point.
func (w *worker) join(ctx context.Context) (*reach.Joined, *task.Event) {
	ap, code, facts := w.e.accessPoint(ctx, w.d, w.dl)
	if code != "" {
		return nil, &task.Event{Code: code, Facts: facts}
	}
	key, err := w.e.open("set-up code", w.d.ID, w.d.SetUpCode)
	if err != nil {
		ev := failed("internal", err)
		return nil, &ev
	}
	if !w.dl.SetUp.AccessPoint.Open && key.IsZero() {
		return nil, &task.Event{Code: "no_key"}
	}
	j, err := w.e.radio.Join(ctx, ap.Name, key)
	switch {
	case errors.Is(err, reach.ErrNotSeen):
		return nil, &task.Event{Code: "not_seen"}
	case errors.Is(err, reach.ErrKeyRefused):
		return nil, &task.Event{Code: "key_refused"}
	case err != nil:
		ev := failed("radio_down", err)
		return nil, &ev
	}
	return j, nil
}

// contact joins the access point and lets the unit identify itself. With it a
// unit that came back into set-up mode is asked why, too.
func (w *worker) contact(ctx context.Context) task.Event {
	j, ev := w.join(ctx)
	if ev != nil {
		return *ev
	}
	defer j.Leave()
	req, err := w.dl.Identify.Encode(w.e.context(w.d, w.setUpCode()))
	if err != nil {
		return failed("not_as_dialect", err)
	}
	body, err := j.Do(ctx, w.dl.SetUp.At, req)
	var status *reach.StatusError
	switch {
	case errors.As(err, &status):
		return failed("not_as_dialect", err)
	case err != nil:
		return failed("no_answer", err)
	}
	facts, err := w.dl.Identify.Read(body)
	if err != nil {
		return failed("not_as_dialect", err)
	}
	hw, err := inventory.ParseHardwareID(facts.Text("hardware_id"))
	if err != nil {
		return failed("not_as_dialect", err)
	}
	return task.Event{Facts: map[string]string{
		"hardware_id": string(hw), "model": facts.Text("model"), "model_seen": facts.Text("model"), "version": facts.Text("version"), "digest": facts.Text("digest"),
		"trouble": facts.Text("trouble")}}
}

// prepare makes the unit's broker account, live, and tries it.
func (w *worker) prepare(ctx context.Context) task.Event {
	e := w.e
	if e.embedded == nil {
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
	if e.embedded.Online(a.Name) {
		return task.Event{Facts: map[string]string{"account": a.Name}}
	}
	fail.Point("before account try")
	err = broker.Try(ctx, broker.Address{Host: b.Host, Port: b.Port, TLS: b.TLS, CA: b.CA, User: a.Name, Password: pass, ClientID: a.Name})
	fail.Point("after account try")
	if err != nil {
		return failed("account_untried", err)
	}
	return task.Event{Facts: map[string]string{"account": a.Name}}
}

// handOver writes the settings, page by page, and restarts the unit.
func (w *worker) handOver(ctx context.Context) task.Event {
	e := w.e
	values := settings.Values{}
	for k, v := range w.r.pinned {
		values[k] = v
	}
	now, _, err := e.intended(e.Store.Read(ctx), w.d)
	if err != nil {
		return failed("internal", err)
	}
	values[settings.BrokerUser], values[settings.BrokerPassword] = now[settings.BrokerUser], now[settings.BrokerPassword]
	values = withoutZero(values)
	if missing := values.Missing(settings.WifiSSID, settings.BrokerHost, settings.BrokerUser, settings.BrokerPassword, settings.Topic); len(missing) > 0 {
		return failed("invalid", fmt.Errorf("there is no %v", missing))
	}
	if broken := settings.Check(values); len(broken) > 0 {
		return failed("invalid", fmt.Errorf("%s %s", broken[0].Field, broken[0].Rule))
	}
	j, ev := w.join(ctx)
	if ev != nil {
		return *ev
	}
	defer j.Leave()
	pages, _ := w.dl.PagesFor(values, dialect.Subject{Model: w.model, Version: w.d.Running})
	sent := settings.Values{}
	for _, p := range pages {
		req, err := p.Encode(e.context(w.d, w.setUpCode()).Merge(values))
		if err != nil {
			return failed("invalid", err)
		}
		if _, err := w.send(ctx, j, req, p.Retries); err != nil {
			var status *reach.StatusError
			if errors.As(err, &status) {
				return failed("not_accepted", err)
			}
			return failed("no_answer", err)
		}
		for _, k := range p.Sets {
			if v, ok := values[k]; ok {
				sent[k] = v
			}
		}
	}
	at := e.Clock.Now()
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		for k, v := range sent {
			if err := saveFact(tx, w.d, "handed over", k, e.hashValue(v), at); err != nil {
				return err
			}
		}
		_, err := store.Delete[store.Fact](tx, "device_id = ? AND kind IN ('proof','reported')", w.d.ID)
		return err
	})
	if err != nil {
		return failed("internal", err)
	}
	if w.dl.Commit != nil {
		req, err := w.dl.Commit.Encode(e.context(w.d, w.setUpCode()))
		if err != nil {
			return failed("invalid", err)
		}
		// A unit that restarts at once may not finish its answer; whether it
		// did restart is seen by its coming back.
		if _, err := j.Do(ctx, w.dl.SetUp.At, req); err != nil {
			e.Log.Info("the answer to the restart was cut", "device", w.d.Hostname, "error", err)
		}
	}
	return task.Event{Facts: map[string]string{"count": fmt.Sprint(len(sent))}}
}

func (w *worker) send(ctx context.Context, j *reach.Joined, req dialect.Request, retries int) (body []byte, err error) {
	for try := 0; ; try++ {
		body, err = j.Do(ctx, w.dl.SetUp.At, req)
		var status *reach.StatusError
		if err == nil || errors.As(err, &status) || try >= retries {
			return body, err
		}
		if e := w.e.Clock.Sleep(ctx, time.Second); e != nil {
			return nil, e
		}
	}
}

// ask asks the unit over the broker for a report. Its answer is a message.
func (w *worker) ask(ctx context.Context) task.Event {
	if w.dl.Asks.Report == nil {
		return task.Event{}
	}
	return w.publish(ctx, w.dl.Asks.Report, dialect.Values{})
}

func (w *worker) publish(ctx context.Context, x *dialect.Exchange, more dialect.Values) task.Event {
	values := w.e.context(w.d, w.setUpCode())
	values["ask_id"] = w.askID
	for k, v := range more {
		values[k] = v
	}
	req, err := x.Encode(values)
	if err != nil {
		return failed("internal", err)
	}
	fail.Point("before publish")
	err = w.e.bus.Publish(ctx, req.Topic, req.Body, false)
	fail.Point("after publish")
	if err != nil {
		return failed("silent", err)
	}
	return task.Event{}
}

// roundTrip commands the unit to stay as it is and waits for the state that
// follows, so that nothing in the home moves. A unit that only measures is
// asked for a reading.
func (w *worker) roundTrip(ctx context.Context) task.Event {
	state := map[string]any{}
	list, err := w.e.Messages(ctx, w.d.ID)
	if err != nil {
		return failed("internal", err)
	}
	for _, m := range list {
		kind, facts, ok := w.dl.Decode(w.d.Topic, w.d.Topic+m.Topic, m.Payload)
		if name := facts.Text("capability"); ok && kind == dialect.State && name != "" {
			state[name] = facts["value"]
		}
	}
	for _, c := range w.model.Capabilities {
		if v, known := state[c.Name]; known && c.Kind.Commanded() {
			return w.command(ctx, c, v)
		}
	}
	return w.reading(ctx)
}

// patience is how long a unit in service may take to answer. It is a matter of
// the network and never scaled.
const patience = 8 * time.Second

func (w *worker) command(ctx context.Context, c inventory.Capability, v any) task.Event {
	x, ok := w.dl.Command(c.Name, dialect.Subject{Model: w.model, Version: w.d.Running})
	if !ok {
		return w.reading(ctx)
	}
	// Units also report by themselves. Where the family acknowledges commands,
	// only a state after the acknowledgement is proof.
	answered := !w.dl.AnswersCommands()
	watch := w.e.ingest.watch(w.d.ID, func(k dialect.MessageKind, f dialect.Facts) bool {
		answered = answered || k == dialect.Answer && f.Text("command") == c.Name && f.Text("accepted") == "true"
		return answered && k == dialect.State && f.Text("capability") == c.Name && reflect.DeepEqual(f["value"], v)
	})
	defer w.e.ingest.unwatch(watch)
	began := time.Now()
	if ev := w.publish(ctx, &x, dialect.Values{"capability": c.Name, "value": v}); ev.Code != "" {
		return ev
	}
	expected := fmt.Sprintf("%s %v within %s", c.Name, v, patience)
	if err := await(ctx, watch); err != nil {
		ev := failed("no_state", err)
		ev.Checks = []check.Result{check.Fail(check.Command, check.RoundTrip, w.e.Clock.Now(), expected, "nothing")}
		return ev
	}
	took := float64(time.Since(began).Microseconds()) / 1000
	seen := fmt.Sprintf("%s was commanded to stay %v and said so after %.1f ms", c.Name, v, took)
	return task.Event{Facts: map[string]string{"seen": seen + "."}, Checks: w.serviceChecks(ctx, check.Hold(check.Command, check.RoundTrip, w.e.Clock.Now(), expected, "%s", seen))}
}

func (w *worker) reading(ctx context.Context) task.Event {
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

// serviceChecks adds what else can be seen of a unit in service.
func (w *worker) serviceChecks(ctx context.Context, first check.Result) []check.Result {
	now := w.e.Clock.Now()
	out := []check.Result{first}
	if w.e.embedded != nil {
		if a, ok := w.e.account(w.e.Store.Read(ctx), w.d); ok {
			r := check.Hold(check.Session, check.OwnSession, now, a.Name, "%s is connected", a.Name)
			if !w.e.embedded.Online(a.Name) {
				r = check.Fail(check.Session, check.OwnSession, now, a.Name, "no session")
			}
			out = append(out, r)
		}
	}
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

// fit decides once more, on what the unit reports now.
func (w *worker) fit(ctx context.Context) task.Event {
	rec, err := w.e.Task(ctx, w.r.id)
	if err != nil {
		return failed("internal", err)
	}
	img, err := w.e.FindImage(ctx, rec.Image)
	if err != nil {
		return task.Event{Code: "unfit", Facts: map[string]string{"sentence": "The image is gone."}}
	}
	v, _, err := w.e.Fit(ctx, w.d, img)
	if err != nil {
		return failed("internal", err)
	}
	ev := task.Event{Facts: map[string]string{"sentence": v.Sentence}}
	if !v.Fits {
		ev.Code = "unfit"
		if v.Rule == "running" {
			ev.Code = "running"
		}
	}
	return ev
}

// link makes the download link of this update.
func (w *worker) link(ctx context.Context) task.Event {
	until, err := w.e.makeLink(ctx, w.r.id, w.d)
	if err != nil {
		return failed("no_link", err)
	}
	return task.Event{Facts: map[string]string{"until": until.Format(time.RFC3339)}}
}

// offer tells the unit to take the image.
func (w *worker) offer(ctx context.Context) task.Event {
	way, ok := w.dl.Delivery(deviceSubject(w.model, w.d))
	if !ok {
		return failed("internal", fmt.Errorf("no way of updating"))
	}
	rec, err := w.e.Task(ctx, w.r.id)
	if err != nil {
		return failed("internal", err)
	}
	img, err := w.e.FindImage(ctx, rec.Image)
	if err != nil {
		return failed("internal", err)
	}
	link, err := w.e.linkAddress(ctx, w.r.id, w.d)
	if err != nil {
		return failed("no_link", err)
	}
	return w.publish(ctx, &way.Start, dialect.Values{"link": link, "manifest": img.Manifest, "size": img.Size, "sha256": img.SHA256, "version": img.Version})
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
