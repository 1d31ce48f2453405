package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"fado/internal/core/check"
	"fado/internal/core/health"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/rollout"
	"fado/internal/core/task"
	"fado/internal/fail"
	"fado/internal/store"
)

// rollouts is the shell around the reducer of core/rollout: it stores each next state,
// starts the updates that it asks for, and brings back how they end. It never talks to
// a unit.
type rollouts struct {
	e       *Engine
	mu      sync.Mutex
	live    map[string]*roller
	opening sync.Mutex // one rollout is started at a time
	waking  sync.Mutex // a rollout has one owner
	work    sync.WaitGroup
}

// roller owns one rollout while it is under way.
type roller struct {
	e     *Engine
	id    string
	name  string
	told  chan told
	calls sync.WaitGroup
	gone  chan struct{} // closed when it ended
}

// told is an event with the person behind it, who waits for it to be stored.
type told struct {
	rollout.Event
	done chan error
}

func newRollouts(e *Engine) *rollouts { return &rollouts{e: e, live: map[string]*roller{}} }

func (r *rollouts) wait() { r.work.Wait() }

// takeUp goes on with what was under way when the service stopped.
func (r *rollouts) takeUp() error {
	tx := r.e.Store.Read(r.e.ctx)
	list, err := store.All[store.Rollout](tx, "id", "status IN ('running','paused','held') OR status = 'cancelled' AND id IN (SELECT rollout_id FROM rollout_units WHERE standing IN ('starting','under way'))")
	if err != nil {
		return fmt.Errorf("list the rollouts under way: %w", err)
	}
	for _, rec := range list {
		if err := r.run(rec, rollout.Event{Kind: rollout.Resumed}); err != nil {
			return err
		}
	}
	return nil
}

// rolloutState reads a rollout's state with its units.
func (e *Engine) rolloutState(tx *store.Tx, rec store.Rollout) (rollout.State, error) {
	var s rollout.State
	if err := json.Unmarshal([]byte(rec.State), &s); err != nil {
		return s, fmt.Errorf("read the state of rollout %s: %w", rec.Name, err)
	}
	rows, err := store.All[store.RolloutUnit](tx, "place", "rollout_id = ? AND wave >= 0", rec.ID)
	if err != nil {
		return s, fmt.Errorf("read the units of rollout %s: %w", rec.Name, err)
	}
	for _, row := range rows {
		var u rollout.Unit
		if err := json.Unmarshal([]byte(row.Unit), &u); err != nil {
			return s, fmt.Errorf("read a unit of rollout %s: %w", rec.Name, err)
		}
		s.Units = append(s.Units, u)
	}
	s.Zones, err = e.zones(tx)
	return s, err
}

// zones are the time zones of the sites.
func (e *Engine) zones(tx *store.Tx) (map[string]*time.Location, error) {
	sites, err := store.All[store.Site](tx, "id", "1 = 1")
	if err != nil {
		return nil, fmt.Errorf("read the sites: %w", err)
	}
	out := map[string]*time.Location{}
	for _, s := range sites {
		if out[s.ID], err = time.LoadLocation(s.Zone); err != nil {
			return nil, fmt.Errorf("read the zone of %s: %w", s.Name, err)
		}
	}
	return out, nil
}

func unitRow(id string, place int, u rollout.Unit) store.RolloutUnit {
	return store.RolloutUnit{RolloutID: id, DeviceID: u.Device, Place: place, Wave: u.Wave, Standing: string(u.State), Outcome: string(u.Outcome), TaskID: u.Task, Unit: store.JSON(u)}
}

// run brings a rollout to life.
func (r *rollouts) run(rec store.Rollout, first rollout.Event) error {
	s, err := r.e.rolloutState(r.e.Store.Read(r.e.ctx), rec)
	if err != nil {
		return err
	}
	x := &roller{e: r.e, id: rec.ID, name: rec.Name, told: make(chan told, 256), gone: make(chan struct{})}
	r.mu.Lock()
	r.live[rec.ID] = x
	r.mu.Unlock()
	x.told <- told{Event: first}
	r.work.Go(func() {
		defer close(x.gone)
		x.loop(s)
	})
	return nil
}

// roller is the one that owns a rollout; it is brought to life if need be. It may be nil
// where a rollout that is over has ended again at once.
func (r *rollouts) roller(id string) (*roller, error) {
	r.waking.Lock()
	defer r.waking.Unlock()
	if x := r.alive(id); x != nil {
		return x, nil
	}
	rec, err := store.One[store.Rollout](r.e.Store.Read(r.e.ctx), "id = ?", id)
	if err != nil {
		return nil, err
	}
	if err := r.run(rec, rollout.Event{Kind: rollout.Resumed}); err != nil {
		return nil, err
	}
	return r.alive(id), nil
}

func (r *rollouts) alive(id string) *roller {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.live[id]
}

// tell gives an event to a rollout, and waits until what follows is stored.
func (r *rollouts) tell(ctx context.Context, id string, ev rollout.Event) error {
	for {
		x, err := r.roller(id)
		if err != nil {
			return err
		}
		if x == nil {
			continue // it ended just now
		}
		t := told{Event: ev, done: make(chan error, 1)}
		select {
		case x.told <- t:
		case <-x.gone:
			continue
		case <-ctx.Done():
			return ctx.Err()
		}
		select {
		case err := <-t.done:
			return err
		case <-x.gone:
			if r.e.ctx.Err() != nil {
				return r.e.ctx.Err()
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (x *roller) loop(s rollout.State) {
	ctx, stop := context.WithCancel(x.e.ctx)
	defer x.calls.Wait()
	defer stop()
	x.lookAfter(ctx, s)
	for {
		var timer *time.Timer
		var due <-chan time.Time
		if !s.Due.IsZero() {
			timer = time.NewTimer(max(x.e.Clock.Real(s.Due.Sub(x.e.Clock.Now())), 0))
			due = timer.C
		}
		var t told
		select {
		case <-ctx.Done():
			return
		case t = <-x.told:
		case <-due:
			t.Kind = rollout.Tick
		}
		if timer != nil {
			timer.Stop()
		}
		now := x.e.Clock.Now()
		next, commands := rollout.Next(s, t.Event, now)
		if err := x.save(ctx, s, next, t.Event, now); err != nil {
			if t.done != nil {
				t.done <- err
			}
			if ctx.Err() != nil {
				return
			}
			x.e.Log.Error("store a rollout", "rollout", x.name, "error", err)
			if x.e.Clock.Sleep(ctx, 2*time.Second) != nil {
				return
			}
			if t.done == nil && t.Kind != rollout.Tick { // it is not lost
				select {
				case x.told <- t:
				default:
					x.calls.Go(func() {
						select {
						case x.told <- t:
						case <-ctx.Done():
						}
					})
				}
			}
			continue
		}
		s = next
		if t.done != nil {
			t.done <- nil
		}
		for _, c := range commands {
			wave := s.Wave
			x.calls.Go(func() { x.carry(ctx, c, wave) })
		}
		if s.Status.Over() && !slices.ContainsFunc(s.Units, func(u rollout.Unit) bool { return u.State != rollout.Over }) && len(x.told) == 0 {
			x.e.rollouts.mu.Lock()
			delete(x.e.rollouts.live, x.id)
			x.e.rollouts.mu.Unlock()
			return
		}
	}
}

// lookAfter brings the outcomes of updates that ended while nobody listened.
func (x *roller) lookAfter(ctx context.Context, s rollout.State) {
	if !slices.ContainsFunc(s.Units, func(u rollout.Unit) bool { return u.State == rollout.UnderWay }) {
		return
	}
	list, err := store.All[store.Task](x.e.Store.Read(ctx), "id", "rollout_id = ? AND ended_at IS NOT NULL", x.id)
	if err != nil {
		x.e.Log.Error("read the updates of a rollout", "rollout", x.name, "error", err)
		return
	}
	x.calls.Go(func() {
		for _, rec := range list {
			if ev, ok := endOf(rec); ok {
				x.answer(ctx, ev)
			}
		}
	})
}

func (x *roller) answer(ctx context.Context, ev rollout.Event) {
	select {
	case x.told <- told{Event: ev}:
	case <-x.gone: // it has all its outcomes
	case <-ctx.Done():
	}
}

// endOf is how an update of a rollout ended.
func endOf(rec store.Task) (rollout.Event, bool) {
	var s task.State
	if !task.Status(rec.Status).Over() || json.Unmarshal([]byte(rec.State), &s) != nil || s.Update == nil {
		return rollout.Event{}, false
	}
	return ended(rec, s), true
}

func ended(rec store.Task, s task.State) rollout.Event {
	ev := rollout.Event{Kind: rollout.Ended, Device: rec.DeviceID, Attempt: rec.RolloutTry, Task: rec.ID, Outcome: s.Update.Outcome}
	switch {
	case !ev.Outcome.Over():
		ev.Outcome = task.FailedOut
	case ev.Outcome == task.Succeeded && s.Update.LostSettings != "":
		ev.Why = "It lost settings, which are put back: " + s.Update.LostSettings
	}
	if s.Failure != nil && ev.Why == "" {
		ev.Why = s.Failure.What
	}
	return ev
}

// updateEnded tells the rollout of an update how it ended, once that is stored, and
// learns how long updates of the model take.
func (e *Engine) updateEnded(tx *store.Tx, id string, d store.Device, s task.State) error {
	rec, err := store.One[store.Task](tx, "id = ?", id)
	if err != nil {
		return err
	}
	if s.Update.Outcome == task.Succeeded && d.Model != "" {
		var began time.Time // without what it waited for before
		for _, st := range s.Steps {
			if st.Began != nil && (began.IsZero() || st.Began.Before(began)) {
				began = *st.Began
			}
		}
		if !began.IsZero() {
			if err := learn(tx, d.Model, "update", e.Clock.Now().Sub(began).Seconds()); err != nil {
				return err
			}
		}
	}
	if rec.RolloutID == "" {
		return nil
	}
	ev := ended(rec, s)
	tx.After(func() {
		if x := e.rollouts.alive(rec.RolloutID); x != nil {
			e.work.Go(func() { x.answer(e.ctx, ev) })
		}
	})
	return nil
}

// errNotNow says that a rollout does not let an update begin any more.
var errNotNow = errors.New("the rollout does not let it begin now")

// mayBegin asks the rollout of an update, as it is stored, whether it may begin.
func (e *Engine) mayBegin(tx *store.Tx, rec store.Task) error {
	if rec.RolloutID == "" {
		return nil
	}
	r, err := store.One[store.Rollout](tx, "id = ?", rec.RolloutID)
	if err != nil {
		return err
	}
	row, err := store.One[store.RolloutUnit](tx, "rollout_id = ? AND device_id = ?", rec.RolloutID, rec.DeviceID)
	if err != nil {
		return err
	}
	var s rollout.State
	var u rollout.Unit
	if err := json.Unmarshal([]byte(r.State), &s); err != nil {
		return fmt.Errorf("read the state of rollout %s: %w", r.Name, err)
	}
	if err := json.Unmarshal([]byte(row.Unit), &u); err != nil {
		return fmt.Errorf("read a unit of rollout %s: %w", r.Name, err)
	}
	s.Units = []rollout.Unit{u}
	if s.Zones, err = e.zones(tx); err != nil {
		return err
	}
	if !rollout.May(s, rec.DeviceID, rec.RolloutTry, e.Clock.Now()) {
		return errNotNow
	}
	return nil
}

// carry does one command of a rollout and brings its answer back.
func (x *roller) carry(ctx context.Context, c rollout.Command, wave int) {
	fail.Point("before rollout " + string(c.Do))
	for pause := time.Second; ; pause = min(2*pause, time.Minute) {
		var ev rollout.Event
		var err error
		if c.Do == rollout.Look {
			ev.Kind, ev.Command = rollout.Looked, c.ID
			ev.Sights, err = x.sights(ctx, wave)
		} else {
			ev, err = x.begin(ctx, c)
		}
		if err == nil {
			fail.Point("after rollout " + string(c.Do))
			x.answer(ctx, ev)
			return
		}
		if ctx.Err() != nil {
			return
		}
		x.e.Log.Error("go on with a rollout", "rollout", x.name, "do", c.Do, "device", c.Device, "error", err)
		if x.e.Clock.Sleep(ctx, pause) != nil {
			return
		}
	}
}

// begin starts the update of a unit, unless that was done before.
func (x *roller) begin(ctx context.Context, c rollout.Command) (rollout.Event, error) {
	ev := rollout.Event{Kind: rollout.Begun, Command: c.ID, Device: c.Device, Attempt: c.Attempt}
	tx := x.e.Store.Read(ctx)
	rec, err := store.One[store.Task](tx, "rollout_id = ? AND device_id = ? AND rollout_try = ?", x.id, c.Device, c.Attempt)
	if err == nil {
		ev.Task = rec.ID
		if end, over := endOf(rec); over {
			return end, nil
		}
		return ev, nil
	} else if !isNone(err) {
		return ev, err
	}
	refuse := func(code, why string) (rollout.Event, error) {
		ev.Kind, ev.Code, ev.Why = rollout.Refused, code, why
		return ev, nil
	}
	row, err := store.One[store.RolloutUnit](tx, "rollout_id = ? AND device_id = ?", x.id, c.Device)
	if err != nil {
		return ev, err
	}
	var u rollout.Unit
	if err := json.Unmarshal([]byte(row.Unit), &u); err != nil {
		return ev, fmt.Errorf("read a unit of rollout %s: %w", x.name, err)
	}
	d, err := store.One[store.Device](tx, "id = ?", c.Device)
	switch {
	case isNone(err):
		return refuse(rollout.Unfit, "The device is gone.")
	case err != nil:
		return ev, err
	case !inventory.Stage(d.Stage).AtLeast(inventory.Joined) || d.Stage == string(inventory.Retired):
		return refuse(rollout.Unfit, d.Name+" is not in service any more.")
	}
	img, err := x.e.FindImage(ctx, u.Image)
	if err == nil {
		rec, err = x.e.update(ctx, d, img, store.Task{Actor: "rollout " + x.name, RolloutID: x.id, RolloutTry: c.Attempt})
	}
	var no unfit
	switch p := problem.As(err); {
	case err == nil:
		ev.Task = rec.ID
		return ev, nil
	case errors.Is(err, errNotNow):
		return refuse(rollout.NotNow, "")
	case errors.As(err, &no) && no.rule == "running":
		return refuse(rollout.AlreadyOn, no.What)
	case p != nil && p.Kind != problem.Unavailable && p.Kind != problem.Broken:
		return refuse(rollout.Unfit, p.What)
	}
	return ev, err
}

// sights sees how the units of a wave do since their updates ended.
func (x *roller) sights(ctx context.Context, wave int) (map[string]rollout.Sight, error) {
	tx := x.e.Store.Read(ctx)
	rows, err := store.All[store.RolloutUnit](tx, "place", "rollout_id = ? AND wave = ? AND outcome = ?", x.id, wave, string(task.Succeeded))
	if err != nil {
		return nil, err
	}
	out := map[string]rollout.Sight{}
	for _, row := range rows {
		var u rollout.Unit
		if err := json.Unmarshal([]byte(row.Unit), &u); err != nil {
			return nil, fmt.Errorf("read a unit of rollout %s: %w", x.name, err)
		}
		d, err := store.One[store.Device](tx, "id = ?", row.DeviceID)
		if err != nil {
			return nil, err
		}
		s := rollout.Sight{Online: d.Presence == string(inventory.Online) || u.Sleeps && d.Presence == string(inventory.Asleep)}
		if s.Returns, err = x.e.returnsSince(ctx, d.ID, u.Ended); err != nil {
			return nil, err
		}
		if s.Changes, err = x.e.healthAround(ctx, d.ID, time.Time{}, u.Began, u.Ended, time.Time{}); err != nil {
			return nil, err
		}
		checks, err := x.e.ChecksOf(ctx, d.ID)
		if err != nil {
			return nil, err
		}
		for _, c := range checks {
			// That it runs what the rollout brought was proven; another may be intended.
			if c.Verdict == check.Fails && c.At.After(u.Began) && c.Name != check.Version {
				s.Failing = append(s.Failing, string(c.Name))
			}
		}
		out[d.ID] = s
	}
	return out, nil
}

// returnsSince counts how often a unit came back online since a moment: in whole spans
// by what was measured, which reaches back far, and by what it said in the last hour,
// which is exact.
func (e *Engine) returnsSince(ctx context.Context, device string, since time.Time) (int, error) {
	measured := 0.0
	err := e.Store.Telemetry(ctx, func(tx *store.Tx) error {
		list, err := store.All[store.Sample](tx, "start", "device_id = ? AND span = ? AND what = ? AND start >= ?", device, int64(health.Fine/time.Second), string(health.Returns), since.Unix())
		for _, x := range list {
			measured += x.Sum
		}
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("read how often it came back: %w", err)
	}
	said, last := 0.0, health.Last{}
	for _, h := range e.ingest.saidSince(device, since) {
		said += last.Read(h.Kind, h.Facts, h.At)[health.Returns]
	}
	return int(max(measured, said)), nil
}

// save stores a rollout's next state, with what follows from it, in one transaction.
func (x *roller) save(ctx context.Context, before, after rollout.State, ev rollout.Event, now time.Time) error {
	head := store.JSON(after)
	changed := []int{}
	for i := range after.Units {
		if after.Units[i] != before.Units[i] {
			changed = append(changed, i)
		}
	}
	if len(changed) == 0 && head == store.JSON(before) {
		return nil
	}
	fail.Point("before rollout commit")
	err := x.e.Store.Write(ctx, func(tx *store.Tx) error {
		columns := map[string]any{"state": head, "status": string(after.Status)}
		if before.Status == rollout.Draft && after.Status == rollout.Running {
			columns["started_at"] = now
		}
		if after.Status.Over() != before.Status.Over() {
			columns["ended_at"] = map[bool]any{true: now, false: nil}[after.Status.Over()]
		}
		if _, err := store.Change[store.Rollout](tx, columns, "id = ?", x.id); err != nil {
			return err
		}
		rows := make([]store.RolloutUnit, 0, len(changed))
		for _, i := range changed {
			rows = append(rows, unitRow(x.id, i, after.Units[i]))
		}
		if err := store.SaveAll(tx, rows); err != nil {
			return err
		}
		for _, text := range whatHappened(before, after, ev) {
			actor := ev.Actor
			if actor == "" {
				actor = "fado"
			}
			if err := x.e.event(tx, store.Event{Actor: actor, Kind: "rollout", Text: "Rollout " + x.name + ": " + text}); err != nil {
				return err
			}
		}
		x.e.mark(tx, "rollout", x.id)
		return x.e.alert(tx, x.id, x.name, before, after, now)
	})
	fail.Point("after rollout commit")
	return err
}

// whatHappened says in sentences what a step of a rollout means.
func whatHappened(before, after rollout.State, ev rollout.Event) (out []string) {
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	wave := func(n int) string { return rollout.WaveName(n, after.Rules) }
	for i := len(before.Gates); i < len(after.Gates); i++ {
		if g := after.Gates[i]; !g.Held {
			say("the gate of %s holds.", wave(g.Wave))
		}
	}
	switch ev.Kind {
	case rollout.Start:
		if before.Status == rollout.Draft {
			say("started, with %d devices in %d waves.", len(after.Units), after.Waves)
		}
	case rollout.Pause:
		if before.Status != after.Status {
			say("paused. %s", ev.Why)
		}
	case rollout.GoOn:
		if before.Status == rollout.Held && after.Status != rollout.Held {
			say("it goes on although it was held. %s", ev.Why)
		} else if before.Status == rollout.Paused {
			say("it goes on.")
		}
	case rollout.Cancel:
		if before.Status != after.Status {
			say("cancelled; what is under way finishes. %s", ev.Why)
		}
	case rollout.Retry:
		n := 0
		for i := range after.Units {
			if before.Units[i].State == rollout.Over && after.Units[i].State != rollout.Over {
				n++
			}
		}
		if n > 0 {
			say("%d devices are tried again.", n)
		}
	}
	for i, u := range after.Units {
		if u.Outcome != "" && before.Units[i].Outcome != u.Outcome && u.Outcome != task.Succeeded {
			say("%s: %s. %s", u.Name, u.Outcome, u.Why)
		}
	}
	if after.Wave > before.Wave && after.Status == rollout.Running {
		say("%s begins.", wave(after.Wave))
	}
	if after.Status != before.Status {
		switch after.Status {
		case rollout.Held:
			say("held. %s", after.Reason)
		case rollout.Done:
			say("done. %s", tally(after))
		}
	}
	return out
}

// tally counts outcomes in words.
func tally(s rollout.State) string {
	counts := map[task.Outcome]int{}
	for _, u := range s.Units {
		counts[u.Outcome]++
	}
	text := ""
	for _, o := range slices.Sorted(maps.Keys(counts)) {
		if o == "" {
			continue
		}
		if text != "" {
			text += ", "
		}
		text += fmt.Sprintf("%d %s", counts[o], o)
	}
	return text + "."
}
