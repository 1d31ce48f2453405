package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fado/internal/core/check"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/core/thing"
	"fado/internal/core/version"
	"fado/internal/hub"
	"fado/internal/store"
)

// Check starts the checks of a unit in service, anew when they are being made: what
// they find is to be younger than the asking. Those that wait for another task are
// made after it.
func (e *Engine) Check(ctx context.Context, actor string, d store.Device) (store.Task, error) {
	if !inventory.Stage(d.Stage).AtLeast(inventory.Joined) {
		return store.Task{}, notInService(d)
	}
	if err := e.tasks.clear(ctx, d.ID); err != nil {
		return store.Task{}, err
	}
	waits, err := store.Some[store.Task](e.Store.Read(ctx), 1, "id", "device_id = ? AND kind = ? AND status = 'queued'", d.ID, string(task.Check))
	if err != nil || len(waits) > 0 {
		return append(waits, store.Task{})[0], err
	}
	s, err := e.subject(e.Store.Read(ctx), d)
	if err != nil {
		return store.Task{}, err
	}
	return e.tasks.start(ctx, store.Task{DeviceID: d.ID, Actor: actor}, task.NewCheck(s), nil)
}

// Checkable lists the devices in service of a site, or of a room in it.
func (e *Engine) Checkable(ctx context.Context, siteRef, room string) ([]store.Device, error) {
	tx := e.Store.Read(ctx)
	site, err := findSite(tx, siteRef)
	if err != nil {
		return nil, err
	}
	roomID := ""
	if room != "" {
		r, err := store.One[store.Room](tx, "site_id = ? AND (id = ? OR name = ?)", site.ID, room, room)
		if err != nil {
			return nil, notFound("room", room)
		}
		roomID = r.ID
	}
	return store.All[store.Device](tx, "name", "site_id = ? AND (? = '' OR room_id = ?) AND stage IN ('joined','configured','reporting','adopted')", site.ID, roomID, roomID)
}

// ChecksOf are the last results of a device's checks.
func (e *Engine) ChecksOf(ctx context.Context, deviceID string) ([]check.Result, error) {
	rows, err := store.All[store.Check](e.Store.Read(ctx), "name", "device_id = ?", deviceID)
	if err != nil {
		return nil, err
	}
	out := []check.Result{}
	for _, c := range rows {
		r := check.Result{Name: check.Name(c.Name), Verdict: check.Verdict(c.Verdict), Expected: c.Expected, Seen: c.Seen, Evidence: check.Evidence(c.Evidence), At: c.At}
		if r.Verdict == "" {
			r.Verdict = map[bool]check.Verdict{true: check.Holds, false: check.Fails}[c.Holds]
		}
		out = append(out, r)
	}
	check.Sort(out)
	return out, nil
}

// keepCheck keeps the result of a check.
func keepCheck(tx *store.Tx, deviceID string, r check.Result) error {
	return store.Save(tx, &store.Check{DeviceID: deviceID, Name: string(r.Name), Verdict: string(r.Verdict), Holds: r.Verdict != check.Fails, Expected: r.Expected, Seen: r.Seen, Evidence: string(r.Evidence), At: r.At})
}

// afterwards has a unit checked once a task has brought it into service, or has
// changed it.
func (e *Engine) afterwards(tx *store.Tx, d store.Device, s task.State) error {
	if s.Kind == task.Update && s.Update.LostSettings != "" {
		// Updates reset things; what is intended is put back.
		tx.After(func() {
			e.tasks.work.Go(func() {
				if _, err := e.Apply(e.ctx, "fado", d.ID); err != nil && e.ctx.Err() == nil {
					e.Log.Warn("put back what an update reset", "device", d.ID, "error", err)
				}
			})
		})
	}
	changed := s.Status == task.Done && (s.Kind == task.Commission || s.Kind == task.Apply || s.Kind == task.Update && s.Update.Outcome == task.Succeeded)
	if !changed {
		return nil
	}
	if n, err := store.Count[store.Task](tx, "device_id = ? AND kind = ? AND status = 'queued'", d.ID, string(task.Check)); err != nil || n > 0 {
		return err
	}
	subject, err := e.subject(tx, d)
	if err != nil {
		return err
	}
	state := task.NewCheck(subject)
	rec := store.Task{ID: store.NewID(), DeviceID: d.ID, Kind: string(state.Kind), Status: string(state.Status), Actor: "fado", State: store.JSON(state), CreatedAt: e.Clock.Now(), UpdatedAt: e.Clock.Now()}
	return store.Create(tx, &rec)
}

// keepOnly drops the results of checks that were not made this time. What a person
// has seen stays.
func keepOnly(tx *store.Tx, deviceID string, made []check.Result) error {
	rows, err := store.All[store.Check](tx, "name", "device_id = ? AND evidence <> ?", deviceID, string(check.Witness))
	if err != nil {
		return err
	}
	for _, c := range rows {
		if slices.ContainsFunc(made, func(r check.Result) bool { return string(r.Name) == c.Name }) || c.Verdict == string(check.Asked) {
			continue
		}
		if _, err := store.Delete[store.Check](tx, "device_id = ? AND name = ?", deviceID, c.Name); err != nil {
			return err
		}
	}
	return nil
}

// How long a reading may be waited for. Intervals are scaled.
const (
	usualReading = time.Minute
	mostReading  = 10 * time.Minute
)

// check looks at a unit in service and judges what it sees. Nothing in the home
// moves: it is commanded to stay as it is.
func (w *worker) check(ctx context.Context) task.Event {
	e := w.e
	if w.dl.Sleeps() && (w.d.AwakeUntil == nil || !e.Clock.Now().Before(*w.d.AwakeUntil)) {
		return task.Event{Code: "asleep"}
	}
	s := check.Sight{Began: e.Clock.Now(), Sleeps: w.dl.Sleeps(), Hostname: w.d.Hostname}
	if s.Sleeps && w.d.WokeAt != nil {
		s.Began = *w.d.WokeAt // it begins to speak before it is listened to
	}
	logins, _, err := e.intended(e.Store.Read(ctx), w.d)
	if err != nil {
		return failed("internal", err)
	}
	w.logins = logins
	identity, reading := w.listen(&s)
	defer e.ingest.unwatch(identity.watcher)
	defer e.ingest.unwatch(reading)

	site, err := e.FindSite(ctx, w.d.SiteID)
	if err != nil {
		return failed("internal", err)
	}
	facts := w.ownWord(ctx, &s, identity)
	if ctx.Err() != nil {
		return failed("internal", ctx.Err())
	}
	w.seeCommand(ctx, &s)
	w.seeReading(ctx, &s, reading)
	if w.d, err = store.One[store.Device](e.Store.Read(ctx), "id = ?", w.d.ID); err != nil {
		return failed("internal", err)
	}
	if err := w.seeRecords(ctx, &s, site, facts); err != nil {
		return failed("internal", err)
	}
	w.seeNames(ctx, &s, site)
	w.seeHub(ctx, &s, site)
	s.At = e.Clock.Now()
	all := append(check.Judge(s), w.doorChecks(ctx, s.Began)...)
	count := map[check.Verdict]int{}
	for _, r := range all {
		count[r.Verdict]++
	}
	note := fmt.Sprintf("%d checks hold", count[check.Holds])
	if n := count[check.Fails]; n > 0 {
		note += fmt.Sprintf(", %d fail", n)
	}
	if n := count[check.LeftOut]; n > 0 {
		note += fmt.Sprintf(", %d could not be made", n)
	}
	return task.Event{Facts: map[string]string{"note": note + "."}, Checks: all}
}

// word is what a unit says of itself while it is being checked.
type word struct {
	*watcher
	facts dialect.Facts
	at    time.Time
}

// listen begins to listen to what the unit says live.
func (w *worker) listen(s *check.Sight) (*word, *watcher) {
	// An identity may be said in several messages; all of them are gathered.
	own := &word{facts: dialect.Facts{}}
	own.watcher = w.e.ingest.watch(w.d.ID, func(k dialect.MessageKind, f dialect.Facts) bool {
		if k != dialect.Identity && k != dialect.Wake {
			return false
		}
		for name, v := range f {
			own.facts[name] = v
		}
		own.at = w.e.Clock.Now()
		return true
	})
	measured := func(k inventory.CapabilityKind) bool { return !k.Commanded() }
	for _, c := range w.model.Capabilities {
		s.Measures = s.Measures || measured(c.Kind)
		s.Commands = s.Commands || c.Kind.Commanded()
	}
	return own, w.e.ingest.watch(w.d.ID, func(k dialect.MessageKind, f dialect.Facts) bool {
		if k != dialect.State {
			return false
		}
		states := dialect.States(f, w.model)
		return slices.ContainsFunc(w.model.Capabilities, func(c inventory.Capability) bool {
			_, said := states[c.Name]
			return said && measured(c.Kind)
		})
	})
}

// ownWord asks the unit who it is and what it holds, and returns what it said of
// itself since.
func (w *worker) ownWord(ctx context.Context, s *check.Sight, identity *word) dialect.Facts {
	facts := dialect.Facts{}
	values := w.values()
	switch {
	case w.dl.Sleeps():
		// It says all of that at its wake, which has begun.
	case byPages(w.dl):
		talk, ev := w.meet(ctx, values)
		if ev != nil {
			s.Read = cmp.Or(ev.Facts["detail"], ev.Code)
			break
		}
		if said, ev := w.identify(ctx, talk, values); ev == nil {
			facts, s.TimeAt = said, w.e.Clock.Now()
		}
		if _, err := w.readBack(ctx, talk, values); err != nil {
			s.Read = reason(err)
		}
	case w.dl.Asks.Report != nil:
		answer := w.e.ingest.watch(w.d.ID, func(k dialect.MessageKind, f dialect.Facts) bool {
			return k == dialect.Reported && (f.Text("reply_to") == w.askID || !w.dl.NamesAsks(dialect.Reported))
		})
		defer w.e.ingest.unwatch(answer)
		if ev := w.publish(ctx, w.dl.Asks.Report, dialect.Values{}); ev.Code != "" {
			s.Read = cmp.Or(ev.Facts["detail"], ev.Code)
		} else if err := await(ctx, answer); err != nil {
			s.Read = "it does not answer on the broker"
		}
	}
	// What came in a moment ago is written within a quarter second.
	_ = w.e.Clock.Sleep(ctx, w.e.Clock.Scaled(600*time.Millisecond))
	w.e.ingest.watchMu.Lock()
	defer w.e.ingest.watchMu.Unlock()
	for name, v := range identity.facts {
		facts[name], s.TimeAt = v, identity.at
	}
	return facts
}

// inARow is how many commands a state has to follow, and atOnce how soon, where a
// family does not acknowledge them. It is a matter of the network and never scaled.
const (
	inARow = 3
	atOnce = time.Second
)

// seeCommand sees whether the state follows a command.
func (w *worker) seeCommand(ctx context.Context, s *check.Sight) {
	if !s.Commands || w.dl.Sleeps() {
		s.Commands = false
		return
	}
	state, err := w.states(ctx)
	if err != nil {
		s.TripFailed = reason(err)
		return
	}
	s.TripFailed = "it has not said its state yet, so that no command would leave it as it is"
	for _, c := range w.model.Capabilities {
		v, known := state[c.Name]
		x, ok := w.dl.Command(c.Name, deviceSubject(w.model, w.d))
		if !known || !c.Kind.Commanded() || !ok {
			continue
		}
		for range 2 { // one message may be lost
			took, ev := w.follows(ctx, &x, c.Name, v, patience)
			if !w.dl.AnswersCommands() {
				// Any state may be one that it says now and then. One that follows
				// each of several commands at once is not.
				for n := 1; n < inARow && took > 0; n++ {
					took, ev = w.follows(ctx, &x, c.Name, v, atOnce)
				}
			}
			if took > 0 {
				s.Trip, s.Commanded = took, fmt.Sprintf("%s was commanded to stay %v", c.Name, v)
				return
			}
			s.TripFailed = "no state followed within " + patience.String()
			if ev != nil {
				s.TripFailed = cmp.Or(ev.Facts["detail"], ev.Code)
			}
		}
		return
	}
}

// seeReading waits for a live reading, unless the unit is silent anyway.
func (w *worker) seeReading(ctx context.Context, s *check.Sight, reading *watcher) {
	if !s.Measures {
		return
	}
	s.Due = usualReading
	if w.dl.Sleeps() {
		s.Due = w.e.wakeUsual(w.e.Store.Read(ctx), w.d)
	} else if f, err := store.One[store.Fact](w.e.Store.Read(ctx), "device_id = ? AND kind = 'reported' AND key = ?", w.d.ID, string(settings.ReportSeconds)); err == nil {
		var n int64
		if _, err := fmt.Sscan(f.Value, &n); err == nil && n > 0 {
			s.Due = time.Duration(n) * time.Second
		}
	}
	wait := min(s.Due*5/4+5*time.Second, mostReading)
	if w.dl.Sleeps() {
		wait = time.Duration(0)
		if w.d.AwakeUntil != nil {
			wait = max(w.d.AwakeUntil.Sub(w.e.Clock.Now()), 0) + 2*time.Second
		}
	} else if s.Read != "" && s.Trip == 0 {
		wait = 0
	}
	began := w.e.Clock.Now()
	if wait > 10*time.Second {
		w.tell(fmt.Sprintf("All else is looked at; a reading comes every %s and is waited for until %s.", s.Due, began.Add(wait).UTC().Format("15:04:05 UTC")))
	}
	t := time.NewTimer(w.e.Clock.Real(wait))
	defer t.Stop()
	select {
	case <-reading.seen:
		at := w.e.Clock.Now()
		s.ReadAt = &at
	case <-t.C:
	case <-ctx.Done():
	}
	s.Waited = w.e.Clock.Now().Sub(s.Began)
	if list, err := w.e.Messages(ctx, w.d.ID); err == nil && s.Sleeps && s.ReadAt == nil {
		for _, m := range list {
			if m.Kind == string(dialect.State) && !m.Retained && !m.At.Before(s.Began) {
				s.ReadAt = &m.At
			}
		}
	}
}

// seeRecords takes in what the records and the embedded broker hold by now.
func (w *worker) seeRecords(ctx context.Context, s *check.Sight, site store.Site, facts dialect.Facts) error {
	e, tx := w.e, w.e.Store.Read(ctx)
	lines, err := e.Lines(tx, w.d)
	if err != nil {
		return err
	}
	for _, l := range lines {
		switch l.State() {
		case settings.Equal:
			s.Equal++
		case settings.Differs, settings.NotHandedOver:
			s.Differ = append(s.Differ, string(l.Key))
		}
		switch l.Key {
		case settings.ClockZone:
			if l.Supported {
				s.Zone, _ = l.Intended.(string)
			}
			if l.Reported != nil {
				s.ZoneSaid, _ = l.Reported.Value.(string)
			}
		case settings.AddressIP:
			s.FixedAddress, _ = l.Intended.(string)
		}
	}
	if goal, err := e.goal(tx, w.d); err == nil {
		s.Intended = goal.Version
	}
	if s.LiveVersion = facts.Text("version"); s.LiveVersion == "" && w.d.WokeAt != nil && !w.d.WokeAt.Before(s.Began.Add(-time.Minute)) {
		s.LiveVersion = w.d.Running
	}
	s.VersionOK = version.Stand(s.LiveVersion, s.Intended) == version.Current
	if t, err := time.Parse(time.RFC3339, facts.Text("time")); err == nil {
		s.TimeSaid = &t
	}
	s.Address, s.AddressBy = facts.Text("address"), check.LiveMessage
	if s.Address == "" {
		s.Address, s.AddressBy = w.d.Address, check.OwnSession
	}
	s.Range, s.InRange = site.Range, settings.Within(s.Address, []string{site.Range}) != ""
	if e.embedded == nil {
		return nil
	}
	if a, ok := e.account(tx, w.d); ok {
		s.Account, s.Connected, s.SignedInAt = a.Name, e.embedded.Online(a.Name), a.SeenAt
	}
	for _, m := range w.dl.Messages {
		if m.Kind == dialect.Presence && m.Retained {
			s.KeepsWord = true
			s.Kept = slices.Contains(e.kept(w.d.TopicInUse()), strings.ReplaceAll(m.Topic, "{topic}", w.d.TopicInUse()))
		}
	}
	return nil
}

// seeNames asks the home's network for the unit's name.
func (w *worker) seeNames(ctx context.Context, s *check.Sight, site store.Site) {
	f, ok := w.e.finder(site)
	if !ok || s.Sleeps {
		return
	}
	s.NamesAt = "its network"
	if site.NameServer != "" {
		s.NamesAt = site.NameServer
	}
	list, err := f.Lookup(ctx, w.d.Hostname)
	if err != nil {
		s.NamesDown = reason(err)
	}
	for _, a := range list {
		s.Resolved = append(s.Resolved, a.String())
	}
}

// seeHub asks the hub for the thing.
func (w *worker) seeHub(ctx context.Context, s *check.Sight, site store.Site) {
	e, tx := w.e, w.e.Store.Read(ctx)
	if site.HubID == nil || w.d.Stage != string(inventory.Adopted) {
		return
	}
	h, err := store.One[store.Hub](tx, "id = ?", *site.HubID)
	if err != nil {
		return
	}
	s.Hub = h.Name
	if e.embedded != nil && h.Account != "" {
		on := e.embedded.Online(h.Account)
		s.HubOnline = &on
	}
	td, err := e.Thing(ctx, w.d)
	if err != nil {
		s.HubDown = reason(err)
		return
	}
	s.Title, _ = td["title"].(string)
	dir, err := e.directory(h)
	if err != nil {
		s.HubDown = reason(err)
		return
	}
	back, err := dir.Get(ctx, thing.ID(w.d.ID))
	switch {
	case errors.Is(err, hub.ErrNone):
	case err != nil:
		s.HubDown = reason(err)
	default:
		s.HubHas = true
		s.HubTitle, _ = back["title"].(string)
	}
}
