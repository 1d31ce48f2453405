package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"fado/internal/core/check"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/fail"
	"fado/internal/reach"
	"fado/internal/store"
)

// values are what the exchanges of a worker's device may use, without settings.
func (w *worker) values() dialect.Values {
	v := w.e.context(w.d, w.setUpCode())
	v["ask_id"] = w.askID
	return v
}

// wanted are the settings that the task applies, with the account as it is now.
func (w *worker) wanted(ctx context.Context) (settings.Values, error) {
	values := settings.Values{}
	for k, v := range w.r.pinned {
		values[k] = v
	}
	now, _, err := w.e.intended(w.e.Store.Read(ctx), w.d)
	if err != nil {
		return nil, err
	}
	for _, k := range []settings.Key{settings.BrokerUser, settings.BrokerPassword, settings.BrokerClient, settings.BrokerCert, settings.BrokerCertKey} {
		if v, ok := now[k]; ok {
			values[k] = v
		}
	}
	values = withoutZero(values)
	if broken := settings.CheckFor(values, w.model); len(broken) > 0 {
		return nil, fmt.Errorf("%s %s", broken[0].Field, broken[0].Rule)
	}
	return values, nil
}

func (w *worker) loginValues(values dialect.Values) dialect.Values {
	out := maps.Clone(values)
	logins := w.logins
	if logins == nil {
		logins = w.r.pinned
	}
	for _, k := range []settings.Key{settings.AccessUser, settings.AccessPassword} {
		if v, ok := logins[k]; ok {
			out[string(k)] = v
		}
	}
	return out
}

func (w *worker) setUpTalk(j *reach.Joined, values dialect.Values) *reach.Talk {
	return reach.NewTalk(j.Line, w.dl.SetUp.At, w.dl.SetUp.Login, w.loginValues(values), w.e.Clock)
}

// lan begins a conversation over the home's network, at the address that the
// unit said last.
func (w *worker) lan(ctx context.Context, values dialect.Values) (*reach.Talk, error) {
	d, err := store.One[store.Device](w.e.Store.Read(ctx), "id = ?", w.d.ID)
	if err != nil {
		return nil, err
	}
	site, err := w.e.FindSite(ctx, d.SiteID)
	if err != nil {
		return nil, err
	}
	switch {
	case site.Reach == "broker only":
		return nil, errNoWay{"the site is reached by its broker only"}
	case d.Address == "":
		return nil, errNoWay{"it has not said its address yet"}
	}
	line, err := reach.LAN(d.Address, site.Proxy, w.e.net)
	if err != nil {
		return nil, errNoWay{err.Error()}
	}
	return reach.NewTalk(line, strings.ReplaceAll(w.dl.Service.At, "{address}", d.Address), w.dl.SetUp.Login, w.loginValues(values), w.e.Clock), nil
}

// errNoWay says why nothing leads to a unit.
type errNoWay struct{ why string }

func (e errNoWay) Error() string { return e.why }

// greeting is how long a unit whose access point was joined may take to say who
// it is: while it hangs, the radio is kept from all others. It is never scaled.
const greeting = 8 * time.Second

// greet identifies the unit behind an access point.
func (w *worker) greet(ctx context.Context, talk *reach.Talk, values dialect.Values) (dialect.Facts, *task.Event) {
	short, cancel := context.WithTimeout(ctx, greeting)
	defer cancel()
	facts, ev := w.identify(short, talk, values)
	if ev != nil && short.Err() != nil && ctx.Err() == nil {
		return nil, &task.Event{Code: "no_answer", Facts: map[string]string{"detail": fmt.Sprintf("it was given %s", greeting)}}
	}
	return facts, ev
}

// identify asks the unit who it is. A unit that is not the one on record is
// never written to.
func (w *worker) identify(ctx context.Context, talk *reach.Talk, values dialect.Values) (dialect.Facts, *task.Event) {
	facts, err := talk.Do(ctx, &w.dl.Identify, values)
	if err != nil {
		ev := failed(failureCode(err, "not_as_dialect", "no_answer"), err)
		return nil, &ev
	}
	hw, err := inventory.ParseHardwareID(facts.Text("hardware_id"))
	if err != nil {
		ev := failed("not_as_dialect", err)
		return nil, &ev
	}
	facts["hardware_id"] = string(hw)
	return facts, nil
}

// failureCode names what went wrong in a conversation.
func failureCode(err error, answered, silent string) string {
	var status *reach.StatusError
	var noWay errNoWay
	switch {
	case errors.As(err, &noWay):
		return "not_reachable"
	case errors.Is(err, reach.ErrLogin):
		return "login_refused"
	case errors.As(err, &status), errors.Is(err, dialect.ErrUnreadable):
		return answered
	}
	return silent
}

// readBack reads what the unit's pages say of its settings, and keeps it.
func (w *worker) readBack(ctx context.Context, talk *reach.Talk, values dialect.Values) (settings.Values, error) {
	got := settings.Values{}
	for _, x := range w.dl.Readers(deviceSubject(w.model, w.d)) {
		facts, err := talk.Do(ctx, x, values)
		if err != nil {
			return nil, err
		}
		for k, v := range dialect.SettingsIn(facts, w.model) {
			got[k] = v
		}
	}
	at := w.e.Clock.Now()
	err := w.e.Store.Write(ctx, func(tx *store.Tx) error {
		if w.dl.SetUp.Login != nil && !talk.ByFactory() {
			if err := saveFact(tx, w.d, "proof", settings.AccessPassword, "its pages opened with it", at); err != nil {
				return err
			}
		}
		return saveReported(tx, w.d, got, at)
	})
	return got, err
}

// held tells which settings are on the unit already: those that it reads back
// equal, and those that cannot be read back and were handed to this very unit,
// not before since. got is nil when nothing was read.
func (w *worker) held(ctx context.Context, want, got settings.Values, since time.Time) (func(settings.Key) bool, error) {
	rows, err := store.All[store.Fact](w.e.Store.Read(ctx), "key", "device_id = ? AND kind = 'handed over' AND unit_id = ?", w.d.ID, unitOf(w.d))
	if err != nil {
		return nil, err
	}
	handed := map[settings.Key]bool{}
	for _, r := range rows {
		k := settings.Key(r.Key)
		handed[k] = r.Value == w.e.hashValue(want[k]) && !r.At.Before(since)
	}
	s := deviceSubject(w.model, w.d)
	return func(k settings.Key) bool {
		if v, said := got[k]; said {
			return v == want[k]
		}
		return handed[k] && (got == nil || !w.dl.ReadsBack(k, s))
	}, nil
}

// writing is where and how pages are written.
type writing struct {
	place dialect.Place
	talk  *reach.Talk
	// back waits until the unit is there again after a restart, and gives the
	// conversation with it.
	back func(ctx context.Context) (*reach.Talk, error)
	// since is when what was handed over begins to count.
	since time.Time
}

// handOver writes the settings to a unit in set-up mode, page by page, and sends
// it on its way.
func (w *worker) handOver(ctx context.Context) task.Event {
	want, err := w.wanted(ctx)
	if err != nil {
		return failed("invalid", err)
	}
	if missing := want.Missing(settings.WifiSSID, settings.BrokerHost, settings.BrokerUser, settings.BrokerPassword, settings.Topic); len(missing) > 0 {
		return failed("invalid", fmt.Errorf("there is no %v", missing))
	}
	if code, by, err := w.e.firsts.mayLeave(w.r); err != nil {
		return failed("internal", err)
	} else if code != "" {
		return task.Event{Code: code, Facts: map[string]string{"by": by}}
	}
	j := w.r.air.take()
	if j == nil {
		var refused *task.Event
		if j, refused = w.join(ctx, toHandOver); refused != nil {
			return *refused
		}
	}
	defer func() { j.Leave() }()
	w.turn("unit")
	rec, err := w.e.Task(ctx, w.r.id)
	if err != nil {
		return failed("internal", err)
	}
	values := w.values()
	talk := w.setUpTalk(j, values)
	if _, ev := w.itself(ctx, talk, values); ev != nil {
		return *ev
	}
	place := writing{place: dialect.AtSetUp, talk: talk, since: rec.CreatedAt, back: func(ctx context.Context) (*reach.Talk, error) {
		j.Leave()
		return w.until(ctx, func() (*reach.Talk, error) {
			again, ev := w.join(ctx, toGoOn)
			if ev != nil {
				return nil, fmt.Errorf("its access point: %s %s", ev.Code, ev.Facts["detail"])
			}
			j = again
			talk := w.setUpTalk(j, values)
			if _, ev := w.itself(ctx, talk, values); ev != nil {
				j.Leave()
				return nil, fmt.Errorf("%s %s", ev.Code, ev.Facts["detail"])
			}
			return talk, nil
		})
	}}
	ev, sent, _ := w.writePages(ctx, want, place)
	if ev != nil {
		return *ev
	}
	return task.Event{Facts: map[string]string{"count": fmt.Sprint(sent)}}
}

// itself sees that the unit in the conversation is the one on record.
func (w *worker) itself(ctx context.Context, talk *reach.Talk, values dialect.Values) (dialect.Facts, *task.Event) {
	facts, ev := w.identify(ctx, talk, values)
	if ev != nil {
		return nil, ev
	}
	if w.d.HardwareID != "" && facts.Text("hardware_id") != w.d.HardwareID {
		return nil, &task.Event{Code: "other_unit", Facts: map[string]string{"hardware_id": facts.Text("hardware_id")}}
	}
	return facts, nil
}

// until repeats an attempt to reach a unit that restarts, for six times as long
// as that usually takes.
func (w *worker) until(ctx context.Context, try func() (*reach.Talk, error)) (*reach.Talk, error) {
	boot := time.Duration(float64(w.e.bootUsual(w.e.Store.Read(ctx), w.model)) * float64(time.Second))
	deadline := w.e.Clock.Now().Add(max(6*boot, 90*time.Second))
	pause := boot / 2
	for {
		if err := w.e.Clock.Sleep(ctx, max(pause, time.Second)); err != nil {
			return nil, err
		}
		talk, err := try()
		if err == nil || !w.e.Clock.Now().Before(deadline) {
			return talk, err
		}
		pause = time.Second
	}
}

// rounds is how often a hand-over is planned anew after a page broke off.
const rounds = 3

// writePages brings the unit to what is wanted: it reads what is there, plans
// the pages that are needed, and writes them one after the other. When one
// breaks off, what the unit kept of it is read, and the rest is planned anew.
func (w *worker) writePages(ctx context.Context, want settings.Values, at writing) (ev *task.Event, sent, restarts int) {
	fault := func(code string, err error) *task.Event {
		e := failed(code, err)
		e.Facts["page"] = "a page that broke off"
		return &e
	}
	subject := deviceSubject(w.model, w.d)
	values := w.values().Merge(want, w.model)
	for round := 1; ; round++ {
		got, err := w.readBack(ctx, at.talk, values)
		if err != nil {
			return fault(failureCode(err, "not_as_dialect", "no_answer"), err), sent, restarts
		}
		held, err := w.held(ctx, want, got, at.since)
		if err != nil {
			return fault("internal", err), sent, restarts
		}
		plan := w.dl.Plan(want, held, subject, at.place)
		ev, broke := w.writePlan(ctx, plan, want, values, &at, &sent, &restarts)
		if ev != nil {
			return ev, sent, restarts
		}
		if broke == nil {
			return nil, sent, restarts
		}
		if round == rounds {
			return fault("no_answer", broke), sent, restarts
		}
		talk, err := at.back(ctx)
		if err != nil {
			return fault("half_way", err), sent, restarts
		}
		at.talk = talk
	}
}

// writePlan writes a plan. broke is what cut a page short, in which case nobody
// knows yet what the unit kept of it.
func (w *worker) writePlan(ctx context.Context, plan dialect.Plan, want settings.Values, values dialect.Values, at *writing, sent, restarts *int) (ev *task.Event, broke error) {
	for i, p := range plan.Pages {
		w.tell(fmt.Sprintf("Page %d of %d: %s.", i+1, len(plan.Pages), p.Title))
		if _, err := at.talk.Do(ctx, &p.Exchange, values); err != nil {
			code := failureCode(err, "not_accepted", "")
			if code != "" {
				e := failed(code, err)
				return &e, nil
			}
			return nil, err
		}
		keys := p.Writes(want)
		if err := w.handed(ctx, want, keys); err != nil {
			e := failed("internal", err)
			return &e, nil
		}
		*sent += len(keys)
		if !p.Restarts {
			continue
		}
		*restarts++
		last := i == len(plan.Pages)-1 && plan.Commit == nil
		if last {
			return nil, nil
		}
		w.tell(fmt.Sprintf("Page %d of %d, %s, is saved; the unit restarts, which usually takes %.0f s.", i+1, len(plan.Pages), p.Title, w.e.bootUsual(w.e.Store.Read(ctx), w.model)))
		talk, err := at.back(ctx)
		if err != nil {
			e := failed("half_way", err)
			e.Facts["page"] = p.Title
			return &e, nil
		}
		at.talk = talk
	}
	if plan.Commit == nil {
		return nil, nil
	}
	if plan.Commit.Restarts {
		*restarts++
	}
	if _, err := at.talk.Do(ctx, plan.Commit, values); err != nil {
		if code := failureCode(err, "not_accepted", ""); code != "" {
			e := failed(code, err)
			return &e, nil
		}
		if !plan.Commit.Restarts || at.place == dialect.AtService {
			return nil, err
		}
		// A unit that restarts at once may not finish its answer; whether it did
		// restart is seen by its coming back.
		w.e.Log.Info("the answer to the commit was cut", "device", w.d.Hostname, "error", err)
	}
	return nil, nil
}

// handed notes what was handed over.
func (w *worker) handed(ctx context.Context, want settings.Values, keys []settings.Key) error {
	at := w.e.Clock.Now()
	fail.Point("before handed over")
	return w.e.Store.Write(ctx, func(tx *store.Tx) error {
		for _, k := range keys {
			if err := saveFact(tx, w.d, "handed over", k, w.e.hashValue(want[k]), at); err != nil {
				return err
			}
			if _, err := store.Delete[store.Fact](tx, "device_id = ? AND key = ? AND kind IN ('proof','reported')", w.d.ID, string(k)); err != nil {
				return err
			}
		}
		return nil
	})
}

// tell says how far a command is.
func (w *worker) tell(note string) {
	select {
	case w.r.events <- task.Event{Kind: task.Noted, Facts: map[string]string{"note": note}}:
	default: // it is only a note
	}
}

// write brings a unit in service to what is intended.
func (w *worker) write(ctx context.Context) task.Event {
	if w.dl.Service == nil {
		return failed("not_reachable", errNoWay{"its dialect knows no way to change settings in service"})
	}
	if w.dl.Service.By == dialect.ByMessages {
		return w.writeMessages(ctx)
	}
	want, err := w.wanted(ctx)
	if err != nil {
		return failed("invalid", err)
	}
	values := w.values()
	talk, ev := w.meet(ctx, values)
	if ev != nil {
		if ev.Code == "no_answer" {
			ev.Code = "unreachable"
		}
		return *ev
	}
	w.keepCopy(ctx, talk, values, "before its settings were changed")
	at := writing{place: dialect.AtService, talk: talk, back: func(ctx context.Context) (*reach.Talk, error) {
		return w.until(ctx, func() (*reach.Talk, error) {
			talk, ev := w.meet(ctx, values) // it may have another address now
			if ev != nil {
				return nil, fmt.Errorf("%s %s", ev.Code, ev.Facts["detail"])
			}
			return talk, nil
		})
	}}
	ev, sent, restarts := w.writePages(ctx, want, at)
	if ev != nil {
		return *ev
	}
	return task.Event{Facts: map[string]string{"count": fmt.Sprint(sent), "restarts": fmt.Sprint(restarts)}}
}

// writeMessages hands settings over on the broker. What the unit holds is what
// it reported last.
func (w *worker) writeMessages(ctx context.Context) task.Event {
	if w.dl.Service.AtWake && (w.d.AwakeUntil == nil || !w.e.Clock.Now().Before(*w.d.AwakeUntil)) {
		return task.Event{Code: "asleep"}
	}
	want, err := w.wanted(ctx)
	if err != nil {
		return failed("invalid", err)
	}
	got, err := w.reportedNow(ctx)
	if err != nil {
		return failed("internal", err)
	}
	held, err := w.held(ctx, want, got, time.Time{})
	if err != nil {
		return failed("internal", err)
	}
	plan := w.dl.Plan(want, held, deviceSubject(w.model, w.d), dialect.AtService)
	if len(plan.Pages) > 0 && plan.NeedsAll(settings.BrokerPassword) && want.Missing(settings.BrokerPassword) != nil {
		// The page replaces everything, and the password is no longer known: the
		// unit gets a new account, and the old one lives until that was seen.
		if _, err := w.e.prepareAccount(ctx, w.d); err != nil {
			return failed("account_untried", err)
		}
		if want, err = w.wanted(ctx); err != nil {
			return failed("invalid", err)
		}
	}
	sent := 0
	for _, p := range plan.Pages {
		if ev := w.publishPage(ctx, p, want); ev != nil {
			return *ev
		}
		keys := p.Writes(want)
		if err := w.handed(ctx, want, keys); err != nil {
			return failed("internal", err)
		}
		sent += len(keys)
	}
	if plan.Commit != nil {
		if ev := w.publish(ctx, plan.Commit, w.values().Merge(want, w.model)); ev.Code != "" {
			return ev
		}
	}
	return task.Event{Facts: map[string]string{"count": fmt.Sprint(sent), "restarts": fmt.Sprint(plan.Restarts)}}
}

// publishPage publishes a page. Where the family answers, its answer is waited
// for.
func (w *worker) publishPage(ctx context.Context, p dialect.Page, want settings.Values) *task.Event {
	accepted, why := "", ""
	watch := w.e.ingest.watch(w.d.ID, func(k dialect.MessageKind, f dialect.Facts) bool {
		if k != dialect.Answer || f.Text("reply_to") != w.askID {
			return false
		}
		accepted, why = f.Text("accepted"), secret.Hide(f.Text("reason"), maps.Values(want))
		return true
	})
	defer w.e.ingest.unwatch(watch)
	if ev := w.publish(ctx, &p.Exchange, w.values().Merge(want, w.model)); ev.Code != "" {
		return &ev
	}
	if !w.dl.NamesAsks(dialect.Answer) {
		return nil
	}
	if err := await(ctx, watch); err != nil {
		ev := failed("unreachable", err)
		return &ev
	}
	if accepted == "false" {
		ev := failed("not_accepted", errors.New(why))
		return &ev
	}
	return nil
}

// reportedNow is what the unit reported last.
func (w *worker) reportedNow(ctx context.Context) (settings.Values, error) {
	lines, err := w.e.Lines(w.e.Store.Read(ctx), w.d)
	if err != nil {
		return nil, err
	}
	var got settings.Values
	for _, l := range lines {
		if l.Reported != nil && l.Reported.Value != nil {
			if got == nil {
				got = settings.Values{}
			}
			got[l.Key] = l.Reported.Value
		}
	}
	return got, nil
}

// copiesKept is how many sealed copies of a device's configuration are kept.
const copiesKept = 5

// keepCopy keeps the unit's whole configuration as the unit keeps it, sealed,
// where its dialect can. It is for the day when the unit has to be brought back;
// that it cannot be had is no reason to stop.
func (w *worker) keepCopy(ctx context.Context, talk *reach.Talk, values dialect.Values, why string) {
	if w.dl.Backup == nil {
		return
	}
	body, err := talk.Raw(ctx, w.dl.Backup, values)
	if err != nil {
		w.e.Log.Warn("a unit's configuration could not be kept", "device", w.d.Hostname, "error", err)
		return
	}
	err = w.e.Store.Write(ctx, func(tx *store.Tx) error {
		list, err := store.All[store.SealedCopy](tx, "id DESC", "device_id = ?", w.d.ID)
		if err != nil {
			return err
		}
		c := store.SealedCopy{ID: store.NewID(), DeviceID: w.d.ID, UnitID: unitOf(w.d), At: w.e.Clock.Now(), Why: why, Size: len(body), Hash: w.e.Store.Hash(string(body))}
		if len(list) > 0 && list[0].Hash == c.Hash {
			return nil // nothing has changed since
		}
		c.Sealed = w.e.seal("copy", c.ID, secret.New(string(body)))
		if err := store.Create(tx, &c); err != nil {
			return err
		}
		for _, old := range list[min(len(list), copiesKept-1):] {
			if _, err := store.Delete[store.SealedCopy](tx, "id = ?", old.ID); err != nil {
				return err
			}
		}
		return w.e.event(tx, store.Event{Actor: "fado", SiteID: w.d.SiteID, DeviceID: w.d.ID, TaskID: w.r.id, Kind: "copy",
			Text: fmt.Sprintf("The configuration of %s was kept sealed as it was, %d bytes, %s.", w.d.Name, len(body), why)})
	})
	if err != nil {
		w.e.Log.Error("keep a unit's configuration", "device", w.d.Hostname, "error", err)
	}
}

// doorChecks see whether the unit's doors are shut: whether it still accepts the
// login that it came with, and whether its access point is open to anybody. What
// the radio heard is not older than since.
func (w *worker) doorChecks(ctx context.Context, since time.Time) []check.Result {
	var out []check.Result
	now := w.e.Clock.Now()
	if l := w.dl.SetUp.Login; l != nil && l.Factory != nil && w.dl.Service != nil && w.dl.Service.By == dialect.ByPages {
		values := w.values()
		if talk, err := w.lan(ctx, values); err == nil && talk.Only(true) {
			_, err := talk.Do(ctx, &w.dl.Identify, values)
			switch {
			case err == nil:
				out = append(out, check.Fail(check.Factory, check.Tried, now, "refused", "its pages open without a login of its own"))
			case errors.Is(err, reach.ErrLogin):
				out = append(out, check.Hold(check.Factory, check.Tried, now, "refused", "refused"))
			}
		}
	}
	if w.e.radio == nil {
		return out
	}
	list, err := w.e.radio.Since(ctx, since)
	if err != nil {
		return out
	}
	seen := "not on the air"
	for _, ap := range list {
		digits, ok := w.dl.MatchAccessPoint(ap.Name)
		if !ok || !fills(w.d, digits) {
			continue
		}
		if ap.Open {
			return append(out, check.Fail(check.Point, check.Air, now, "not on the air, or with a key", "%s is on the air without a key", ap.Name))
		}
		seen = ap.Name + " wants a key"
	}
	return append(out, check.Hold(check.Point, check.Air, now, "not on the air, or with a key", "%s", seen))
}
