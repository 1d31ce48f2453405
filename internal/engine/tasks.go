package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"fado/internal/core/check"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/fail"
	"fado/internal/store"
)

// tasks is the shell around the reducers of core/task: it stores each next
// state together with its commands, carries the commands out, and brings what
// came of them back as events.
type tasks struct {
	e    *Engine
	mu   sync.Mutex
	live map[string]*runner // by device
	free int                // how many more may be commissioned at once
	work sync.WaitGroup
}

// runner owns one task while it is under way.
type runner struct {
	t       *tasks
	id      string
	device  string
	pinned  settings.Values
	events  chan task.Event
	ctx     context.Context
	stop    context.CancelFunc
	ended   chan struct{} // closed when it has let go of its device
	calls   sync.WaitGroup
	kind    task.Kind
	name    string  // of the device
	boot    float64 // seconds that its restart usually takes
	began   time.Time
	placed  bool        // owned by the loop
	writing atomic.Bool // an interruption would leave its unit dead
	air     air
}

func newTasks(e *Engine, atOnce int) *tasks {
	return &tasks{e: e, live: map[string]*runner{}, free: atOnce}
}

// reserve takes one of the places for commissioning; force takes one that is not
// there, for what was under way already.
func (t *tasks) reserve(force bool) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.free <= 0 && !force {
		return false
	}
	t.free--
	return true
}

// unreserve gives a place back.
func (t *tasks) unreserve() {
	t.mu.Lock()
	t.free++
	t.mu.Unlock()
}

// vacate gives a place back and lets the next begin.
func (t *tasks) vacate() {
	t.unreserve()
	t.admit()
}

// considered is how many of the tasks that have waited longest are looked at for
// the one to begin next.
const considered = 32

// admit starts commissioning that waits for a place, as long as there is one:
// units that are on the air first, and of those the one that takes longest to
// restart, so that its restart passes while the radio is with others.
func (t *tasks) admit() {
	for t.e.ctx.Err() == nil && t.reserve(false) {
		device, err := t.candidate()
		started := false
		if err == nil && device != "" {
			started, err = t.give(device, true)
		}
		if err != nil && t.e.ctx.Err() == nil {
			t.e.Log.Error("start what waits for a place on the bench", "error", err)
		}
		if !started {
			t.unreserve()
			return
		}
	}
}

// candidate is the device whose commissioning is to begin next, or "".
func (t *tasks) candidate() (string, error) {
	tx := t.e.Store.Read(t.e.ctx)
	list, err := store.Some[store.Task](tx, considered, "id", "status = 'queued' AND kind = ? AND device_id NOT IN (SELECT device_id FROM leases)", string(task.Commission))
	if err != nil {
		return "", fmt.Errorf("list what waits for a place: %w", err)
	}
	best, score := "", -1.0
	for _, rec := range list {
		d, err := store.One[store.Device](tx, "id = ?", rec.DeviceID)
		if err != nil {
			return "", err
		}
		at := 0.0
		if m, ok := t.e.Model(d.Model); ok {
			at = t.e.bootUsual(tx, m)
		}
		if n, err := store.Count[store.Sighting](tx, "device_id = ? AND source = 'radio' AND gone = 0", d.ID); err == nil && n > 0 {
			at += 1e6
		}
		if at > score {
			best, score = d.ID, at
		}
	}
	return best, nil
}

func (t *tasks) wait() { t.work.Wait() }

// takeUp goes on with what was under way when the service stopped.
func (t *tasks) takeUp() error {
	leases, err := store.All[store.Lease](t.e.Store.Read(t.e.ctx), "at", "1 = 1")
	if err != nil {
		return fmt.Errorf("list the tasks under way: %w", err)
	}
	for _, l := range leases {
		rec, err := store.One[store.Task](t.e.Store.Read(t.e.ctx), "id = ?", l.TaskID)
		if err != nil {
			return fmt.Errorf("read the task %s: %w", l.TaskID, err)
		}
		first := task.Event{Kind: task.Resumed}
		if rec.Status == string(task.Queued) {
			first.Kind = task.Started // it was stopped between its first commit and its first step
		}
		if err := t.run(rec, first, rec.Kind == string(task.Commission) && t.reserve(true), l.At); err != nil {
			return err
		}
	}
	if err := t.endChecks(); err != nil {
		return err
	}
	return t.startQueued()
}

// endChecks ends checks that had given way when the service stopped, and had not
// been told so yet.
func (t *tasks) endChecks() error {
	return t.e.Store.Write(t.e.ctx, func(tx *store.Tx) error {
		list, err := store.All[store.Task](tx, "id", "kind = ? AND status IN ('running','waiting') AND id NOT IN (SELECT task_id FROM leases)", string(task.Check))
		if err != nil {
			return fmt.Errorf("list the checks that gave way: %w", err)
		}
		for _, rec := range list {
			var state task.State
			if err := json.Unmarshal([]byte(rec.State), &state); err != nil {
				return fmt.Errorf("read the state of task %s: %w", rec.ID, err)
			}
			next, _ := task.Next(state, task.Event{Kind: task.Cancel}, t.e.Clock.Now())
			if _, err := store.Change[store.Task](tx, map[string]any{"state": store.JSON(next), "status": string(next.Status), "ended_at": t.e.Clock.Now()}, "id = ?", rec.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// startQueued starts tasks that wait for a device which nothing holds: the
// service was stopped between one task's end and the next one's start.
func (t *tasks) startQueued() error {
	list, err := store.All[store.Task](t.e.Store.Read(t.e.ctx), "id", "status = 'queued' AND device_id NOT IN (SELECT device_id FROM leases)")
	if err != nil {
		return fmt.Errorf("list the queued tasks: %w", err)
	}
	for _, rec := range list {
		if !t.holds(rec.DeviceID) && rec.Kind != string(task.Commission) {
			t.next(rec.DeviceID)
		}
	}
	t.admit()
	return nil
}

// start stores a new task. It runs at once when nothing else holds the device,
// else it is queued.
func (t *tasks) start(ctx context.Context, rec store.Task, state task.State, pinned settings.Values) (store.Task, error) {
	e := t.e
	rec.ID, rec.CreatedAt = store.NewID(), e.Clock.Now()
	rec.UpdatedAt, rec.Kind, rec.Status = rec.CreatedAt, string(state.Kind), string(task.Queued)
	rec.State = store.JSON(state)
	if state.Update != nil {
		rec.Outcome = string(state.Update.Outcome)
	}
	var err error
	if rec.Pinned, err = e.pin(rec.ID, pinned); err != nil {
		return rec, err
	}
	d, err := store.One[store.Device](e.Store.Read(ctx), "id = ?", rec.DeviceID)
	if err != nil {
		return rec, err
	}
	if state.Kind != task.Check {
		if err := t.clear(ctx, d.ID); err != nil {
			return rec, err
		}
	}
	holds, waits, placed := false, false, false
	if rec.Kind == string(task.Commission) {
		placed = t.reserve(false)
		waits = !placed
	}
	fail.Point("before task start")
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if err := e.mayBegin(tx, rec); err != nil {
			return err
		}
		n, err := store.Count[store.Task](tx, "device_id = ? AND kind = ? AND status IN ('queued','running','waiting')", rec.DeviceID, rec.Kind)
		if err != nil {
			return err
		}
		if n > 0 {
			return problem.New(problem.Conflict, fmt.Sprintf("A %s of %s is under way already.", state.Kind, d.Name), "It was started before.", "Watch it with «fado task list --device "+d.Hostname+"».")
		}
		// The bench may be full, or the device held; then it begins later.
		if !waits {
			if holds, err = t.lease(tx, rec); err != nil {
				return err
			}
		}
		if err := store.Create(tx, &rec); err != nil {
			return err
		}
		text := fmt.Sprintf("Commissioning of %s was started.", d.Name)
		if state.Kind == task.Apply {
			text = fmt.Sprintf("Applying the changed settings of %s was started.", d.Name)
		}
		if state.Kind == task.Check {
			text = fmt.Sprintf("The checks of %s were started.", d.Name)
		}
		if state.Update != nil {
			text = fmt.Sprintf("An update of %s from %s to %s was started.", d.Name, state.Update.From, state.Update.Version)
		}
		return e.event(tx, store.Event{Actor: rec.Actor, SiteID: d.SiteID, DeviceID: d.ID, TaskID: rec.ID, Kind: "task", Text: text})
	})
	fail.Point("after task start")
	if placed && !holds {
		t.vacate()
	}
	if err != nil {
		return rec, err
	}
	e.Changes.Mark("task", rec.ID)
	switch {
	case holds:
		err = t.run(rec, task.Event{Kind: task.Started}, placed, e.Clock.Now())
	case waits:
		t.admit() // a place may have been left meanwhile
	}
	return rec, err
}

// lease gives a device to a task, unless another holds it. Checks give way.
func (t *tasks) lease(tx *store.Tx, rec store.Task) (bool, error) {
	if holder(tx, rec.DeviceID) != "" {
		return false, nil
	}
	if rec.Kind == string(task.Check) {
		if _, err := store.One[store.Lease](tx, "device_id = ?", rec.DeviceID); err == nil {
			return false, nil
		}
	}
	return true, store.Save(tx, &store.Lease{DeviceID: rec.DeviceID, TaskID: rec.ID, At: t.e.Clock.Now()})
}

// pin seals the settings that a task applies, whatever is changed meanwhile.
func (e *Engine) pin(id string, v settings.Values) ([]byte, error) {
	plain := map[string]any{}
	for k, x := range v {
		if s, ok := x.(secret.Secret); ok {
			plain[string(k)] = s.Expose()
			continue
		}
		plain[string(k)] = x
	}
	b, err := json.Marshal(plain)
	if err != nil {
		return nil, fmt.Errorf("pin the settings: %w", err)
	}
	return e.seal("task", id, secret.New(string(b))), nil
}

func (e *Engine) unpin(rec store.Task) (settings.Values, error) {
	s, err := e.open("task", rec.ID, rec.Pinned)
	if err != nil {
		return nil, err
	}
	var raw map[string]json.RawMessage
	out := settings.Values{}
	if s.IsZero() {
		return out, nil
	}
	if err := json.Unmarshal([]byte(s.Expose()), &raw); err != nil {
		return nil, fmt.Errorf("read the settings of task %s: %w", rec.ID, err)
	}
	for k, r := range raw {
		v, err := settings.Read(settings.Key(k), r)
		if err != nil {
			return nil, err
		}
		out[settings.Key(k)] = v
	}
	return out, nil
}

// run begins a task. placed says that it has one of the places for commissioning,
// which is given back when it cannot begin; began, when it was given its device.
func (t *tasks) run(rec store.Task, first task.Event, placed bool, began time.Time) (err error) {
	defer func() {
		if err != nil && placed {
			t.unreserve()
		}
	}()
	pinned, err := t.e.unpin(rec)
	if err != nil {
		return err
	}
	var state task.State
	if err := json.Unmarshal([]byte(rec.State), &state); err != nil {
		return fmt.Errorf("read the state of task %s: %w", rec.ID, err)
	}
	ctx, stop := context.WithCancel(t.e.ctx)
	r := &runner{t: t, id: rec.ID, device: rec.DeviceID, pinned: pinned, events: make(chan task.Event, 64), ended: make(chan struct{}), ctx: ctx, stop: stop, kind: state.Kind, name: state.Subject.Name, boot: state.Subject.BootUsual, began: began, placed: placed}
	t.mu.Lock()
	was := t.live[rec.DeviceID]
	t.live[rec.DeviceID] = r
	t.mu.Unlock()
	if was != nil && was.kind == task.Check {
		select {
		case was.events <- task.Event{Kind: task.Cancel}: // it began just before this
		default:
		}
	}
	r.events <- first
	t.work.Go(func() { r.loop(state) })
	return nil
}

// clear ends the checks of a device, which give way to whatever else is to be done
// with it.
func (t *tasks) clear(ctx context.Context, device string) error {
	t.mu.Lock()
	r := t.live[device]
	t.mu.Unlock()
	if r == nil || r.kind != task.Check {
		return nil
	}
	select {
	case r.events <- task.Event{Kind: task.Cancel}:
	case <-r.ended:
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case <-r.ended:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// holds reports whether a task is under way on a device.
func (t *tasks) holds(device string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.live[device] != nil
}

// deliver gives an event to the task that holds a device, if any. A task that
// is flooded drops it: it asks again when its time is up.
func (t *tasks) deliver(device string, ev task.Event) {
	t.mu.Lock()
	r := t.live[device]
	t.mu.Unlock()
	if r == nil {
		return
	}
	if ev.Kind == task.Answered || ev.Kind == task.Progress {
		// Only answers to what this very task asked concern it.
		command, ours := strings.CutPrefix(ev.Facts["reply_to"], r.id+".")
		if !ours {
			return
		}
		ev.Facts["command"] = command
		ev.Facts["reason"] = r.hide(ev.Facts["reason"])
	}
	select {
	case r.events <- ev:
	default:
		t.e.Log.Warn("a task is flooded with messages", "task", r.id)
	}
}

// hide keeps the secrets that a unit was told out of what it says of them. What
// cannot be cleared of them is not passed on.
func (r *runner) hide(said string) string {
	if said == "" {
		return ""
	}
	d, err := store.One[store.Device](r.t.e.Store.Read(r.ctx), "id = ?", r.device)
	if err != nil {
		return ""
	}
	if said, err = r.t.e.HideSecrets(r.ctx, d, said); err != nil {
		return ""
	}
	return secret.Hide(said, maps.Values(r.pinned))
}

// reported compares what a unit reports with what its task handed over.
func (t *tasks) reported(device string, got settings.Values, replyTo string) {
	t.mu.Lock()
	r := t.live[device]
	t.mu.Unlock()
	if r == nil || replyTo == "" {
		return
	}
	d, err := store.One[store.Device](t.e.Store.Read(r.ctx), "id = ?", device)
	if err != nil {
		return
	}
	want := withoutZero(r.pinned)
	if r.kind == task.Update {
		// An update hands nothing over: what counts is what was intended and
		// handed over before.
		lines, err := t.e.Lines(t.e.Store.Read(r.ctx), d)
		if err != nil {
			return
		}
		want = settings.Values{}
		for _, l := range lines {
			if l.HandedOver != nil && l.HandedOver.Hash == l.Hash {
				want[l.Key] = l.Intended
			}
		}
	}
	model, dl, err := t.e.speaker(d)
	if err != nil {
		return
	}
	subject := deviceSubject(model, d)
	var differs []string
	equal := 0
	for _, k := range want.Keys() {
		v := want[k]
		x, ok := got[k]
		switch {
		case !ok && (!dl.ReadsBack(k, subject) || !dl.Supports(k, subject)):
		case !ok && r.kind == task.Update:
		case !ok:
			differs = append(differs, fmt.Sprintf("%s is nothing instead of %v", k, v))
		case x == v:
			equal++
		default:
			differs = append(differs, fmt.Sprintf("%s is %v instead of %v", k, x, v))
		}
	}
	t.deliver(device, task.Event{Kind: task.Reported, Facts: map[string]string{
		"reply_to": replyTo, "differs": strings.Join(differs, "; "), "equal": fmt.Sprint(equal)}})
}

func (r *runner) loop(s task.State) {
	defer close(r.ended)
	defer r.stop()
	defer r.air.leave()
	defer r.calls.Wait()
	defer r.stop()
	e := r.t.e
	for {
		var timer *time.Timer
		var due <-chan time.Time
		if !s.Due.IsZero() {
			timer = time.NewTimer(max(e.Clock.Real(s.Due.Sub(e.Clock.Now())), 0))
			due = timer.C
		}
		var ev task.Event
		select {
		case <-r.ctx.Done():
			return
		case ev = <-r.events:
		case <-due:
			ev = task.Event{Kind: task.Tick}
		}
		if timer != nil {
			timer.Stop()
		}
		next, commands := task.Next(s, ev, e.Clock.Now())
		if err := r.save(s, next, ev); err != nil {
			if r.ctx.Err() != nil {
				return
			}
			// The records cannot be written, such as on a full disk. Nothing
			// has happened yet; the same event is tried again.
			e.Log.Error("store a task", "task", r.id, "error", err)
			if e.Clock.Sleep(r.ctx, 2*time.Second) != nil {
				return
			}
			select {
			case r.events <- ev:
			default:
			}
			continue
		}
		s = next
		r.writing.Store(s.Update != nil && s.Subject.Risky && s.Update.Told && !s.Status.Over())
		e.firsts.heard(r, s)
		if r.placed && s.Wait != nil && s.Wait.For == task.ForWake {
			r.placed = false // it needs nobody until it wakes
			r.t.vacate()
		}
		for _, c := range commands {
			r.calls.Go(func() { r.carryOut(c) })
		}
		if s.Status.Over() {
			r.release()
			return
		}
	}
}

// carryOut does one command and brings its result back.
func (r *runner) carryOut(c task.Command) {
	fail.Point("before " + string(c.Do))
	ev := r.t.e.carry(r, c)
	fail.Point("after " + string(c.Do))
	ev.Kind, ev.Command = task.Result, c.ID
	select {
	case r.events <- ev:
	case <-r.ctx.Done():
	}
}

// save stores a state with all that follows from it, in one transaction.
func (r *runner) save(before, after task.State, ev task.Event) error {
	e := r.t.e
	a, b := store.JSON(before), store.JSON(after)
	if a == b {
		return nil
	}
	at := e.Clock.Now()
	fail.Point("before task commit")
	err := e.Store.Write(r.ctx, func(tx *store.Tx) error {
		columns := map[string]any{"state": b, "status": string(after.Status), "updated_at": at}
		if after.Update != nil {
			columns["outcome"] = string(after.Update.Outcome)
		}
		if after.Status.Over() {
			columns["ended_at"] = at
		}
		if _, err := store.Change[store.Task](tx, columns, "id = ?", r.id); err != nil {
			return err
		}
		d, err := store.One[store.Device](tx, "id = ?", r.device)
		if err != nil {
			return err
		}
		return e.follow(tx, r.id, d, before, after, ev)
	})
	fail.Point("after task commit")
	if err == nil {
		e.Changes.Mark("task", r.id)
		e.Changes.Mark("device", r.device)
		if after.Seen.Live && !before.Seen.Live {
			e.dropRevoked(r.ctx, r.device)
		}
	}
	return err
}

// follow writes what a task's new state means for the records: the device's
// unit, stage, proofs and checks, what was learnt, and the events.
func (e *Engine) follow(tx *store.Tx, id string, d store.Device, before, after task.State, ev task.Event) error {
	at := e.Clock.Now()
	say := func(kind, text string) error {
		return e.event(tx, store.Event{Actor: "fado", SiteID: d.SiteID, DeviceID: d.ID, TaskID: id, Kind: kind, Text: text})
	}
	if before.Seen.HardwareID == "" && after.Seen.HardwareID != "" {
		if err := e.fill(tx, &d, after.Seen.HardwareID, at); err != nil {
			return err
		}
		if d.HardwareID == "" {
			d.HardwareID, d.Ending = after.Seen.HardwareID, ""
			if _, err := store.Change[store.Device](tx, map[string]any{"hardware_id": d.HardwareID, "ending": "", "search": d.Search + " " + strings.ToLower(d.HardwareID) + " " + inventory.HardwareID(d.HardwareID).Digits()}, "id = ?", d.ID); err != nil {
				return err
			}
			now := d
			tx.After(func() { e.ingest.put(now) })
		}
	}
	if after.Kind == task.Commission && after.Seen.Version != before.Seen.Version && after.Seen.Version != "" {
		// What the unit itself said when it identified itself.
		columns := map[string]any{"running": after.Seen.Version, "digest": after.Seen.Digest}
		if _, err := store.Change[store.Device](tx, columns, "id = ?", d.ID); err != nil {
			return err
		}
	}
	if after.Stage != before.Stage && inventory.Stage(after.Stage) != inventory.Stage(d.Stage) {
		if !inventory.Stage(d.Stage).AtLeast(after.Stage) || after.Stage == inventory.Contacted {
			columns := map[string]any{"stage": string(after.Stage)}
			if after.Stage == inventory.Adopted {
				columns["keeps_place"] = false
			}
			if _, err := store.Change[store.Device](tx, columns, "id = ?", d.ID); err != nil {
				return err
			}
			d.Stage = string(after.Stage)
		}
	}
	if after.Seen.Live && !before.Seen.Live {
		if err := e.proveJoin(tx, d, ev.Facts["account"], at); err != nil {
			return err
		}
	}
	if after.Seen.BootTook > 0 && after.Seen.BootTook != before.Seen.BootTook {
		if err := learn(tx, d.Model, "boot", after.Seen.BootTook); err != nil {
			return err
		}
	}
	for i, s := range after.Steps {
		was := before.Steps[i]
		if s.State == was.State || s.State == task.StepAhead {
			continue
		}
		text := fmt.Sprintf("%s: %s.", d.Name, lower(s.Title))
		switch s.State {
		case task.StepDone:
			text = strings.TrimSpace(fmt.Sprintf("%s: %s — done. %s", d.Name, lower(s.Title), s.Note))
		case task.StepFailed:
			continue // the failure itself is the event
		}
		if err := say("step", text); err != nil {
			return err
		}
	}
	for _, c := range after.Checks {
		if err := keepCheck(tx, d.ID, c); err != nil {
			return err
		}
	}
	if !after.Status.Over() || before.Status.Over() {
		return nil
	}
	text := fmt.Sprintf("%s of %s: %s.", title(string(after.Kind)), d.Name, after.Status)
	switch {
	case after.Failure != nil:
		text = fmt.Sprintf("%s of %s failed. %s %s", title(string(after.Kind)), d.Name, after.Failure.What, after.Failure.Cause)
	case after.Update != nil && after.Update.Outcome == task.Succeeded:
		text = fmt.Sprintf("%s now runs %s, by its own report.", d.Name, after.Update.Version)
	case after.Kind == task.Apply && after.Status == task.Done:
		text = fmt.Sprintf("%s holds its settings as intended.", d.Name)
	case after.Kind == task.Commission && after.Status == task.Done && after.Stage != inventory.Adopted:
		text = fmt.Sprintf("%s is in service and proven. It is adopted once it runs the intended firmware.", d.Name)
	case after.Kind == task.Commission && after.Status == task.Done:
		text = fmt.Sprintf("%s is adopted and proven.", d.Name)
	case after.Kind == task.Check && after.Status == task.Done:
		text = fmt.Sprintf("%s was checked: %s", d.Name, after.Steps[len(after.Steps)-1].Note)
		if err := keepOnly(tx, d.ID, after.Checks); err != nil {
			return err
		}
	}
	if err := e.afterwards(tx, d, after); err != nil {
		return err
	}
	if after.Update != nil {
		if err := e.updateEnded(tx, id, d, after); err != nil {
			return err
		}
	}
	if err := say("task", text); err != nil {
		return err
	}
	if _, err := store.Change[store.Task](tx, map[string]any{"pinned": nil}, "id = ? AND status IN ('done','cancelled')", id); err != nil {
		return err
	}
	if _, err := store.Delete[store.Lease](tx, "device_id = ? AND task_id = ?", d.ID, id); err != nil {
		return err
	}
	return e.refresh(tx, d.ID)
}

func lower(s string) string { return strings.ToLower(s[:1]) + s[1:] }
func title(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// fill puts a unit into a device and keeps the history of both.
func (e *Engine) fill(tx *store.Tx, d *store.Device, hardwareID string, at time.Time) error {
	u, err := store.One[store.Unit](tx, "hardware_id = ?", hardwareID)
	if isNone(err) {
		u = store.Unit{ID: store.NewID(), HardwareID: hardwareID, Model: d.Model, FirstSeen: at}
		err = store.Create(tx, &u)
	}
	if err != nil {
		return err
	}
	if d.UnitID != nil && *d.UnitID == u.ID {
		return nil
	}
	if _, err := store.Change[store.Tenure](tx, map[string]any{"until": at}, "(device_id = ? OR unit_id = ?) AND until IS NULL", d.ID, u.ID); err != nil {
		return err
	}
	if err := store.Create(tx, &store.Tenure{DeviceID: d.ID, UnitID: u.ID, Since: at}); err != nil {
		return err
	}
	d.UnitID = &u.ID
	_, err = store.Change[store.Device](tx, map[string]any{"unit_id": u.ID}, "id = ?", d.ID)
	return err
}

// proveJoin notes what a unit proved by appearing on the broker under its own
// account: it knew the passphrase and its password.
func (e *Engine) proveJoin(tx *store.Tx, d store.Device, account string, at time.Time) error {
	if a, ok := e.account(tx, d); account == "" && ok && e.managed != nil {
		account = a.Name // only its accounts may speak under its topic
	}
	by := map[settings.Key]string{settings.WifiPassphrase: "it joined the network"}
	if account != "" {
		by[settings.BrokerPassword] = "it signed in as " + account
		if err := e.accountSeen(tx, d, account); err != nil {
			return err
		}
		serial := ""
		if e.embedded != nil {
			serial = e.embedded.Certified(account)
		}
		if serial != "" || e.managed != nil {
			by[settings.BrokerCertKey] = "it signed in with the certificate"
			if err := e.certificateSeen(tx, account, serial); err != nil {
				return err
			}
		}
	}
	for k, text := range by {
		if err := saveFact(tx, d, "proof", k, text, at); err != nil {
			return err
		}
	}
	return nil
}

// learn keeps a running mean of how long something takes for a model, in which
// the last twenty count most.
func learn(tx *store.Tx, model, what string, seconds float64) error {
	l, err := store.One[store.Learnt](tx, "model = ? AND what = ?", model, what)
	if err != nil && !isNone(err) {
		return err
	}
	l.Model, l.What, l.Count = model, what, l.Count+1
	l.Seconds += (seconds - l.Seconds) / float64(min(l.Count, 20))
	return store.Save(tx, &l)
}

// release ends the runner and starts the next task of the device.
func (r *runner) release() {
	r.stop()
	r.writing.Store(false)
	r.t.e.dangers.leave(r.id)
	if r.kind == task.Update {
		r.t.e.downloads.end(r.id)
	}
	r.t.mu.Lock()
	if r.t.live[r.device] == r {
		delete(r.t.live, r.device)
	}
	r.t.mu.Unlock()
	r.t.next(r.device)
	if r.placed {
		r.t.unreserve()
	}
	r.t.admit() // the device may have been what a commissioning waited for
}

// next gives a free device to the oldest task that is queued for it, unless that
// has to wait for a place.
func (t *tasks) next(device string) {
	if _, err := t.give(device, false); err != nil && t.e.ctx.Err() == nil {
		t.e.Log.Error("start the next task", "device", device, "error", err)
	}
}

// give gives a device that nothing holds to the oldest task queued for it; to
// commissioning only with a place.
func (t *tasks) give(device string, placed bool) (bool, error) {
	var next *store.Task
	err := t.e.Store.Write(t.e.ctx, func(tx *store.Tx) error {
		list, err := store.Some[store.Task](tx, 1, "id", "device_id = ? AND status = 'queued'", device)
		if err != nil || len(list) == 0 {
			return err
		}
		if list[0].Kind == string(task.Commission) && !placed {
			return nil
		}
		if given, err := t.lease(tx, list[0]); err != nil || !given {
			return err
		}
		next = &list[0]
		return nil
	})
	if err != nil || next == nil {
		return false, err
	}
	// One that could not begin has given its place back itself.
	return true, t.run(*next, task.Event{Kind: task.Started}, placed, t.e.Clock.Now())
}

// Commission starts commissioning of a device. A model may want things done
// before; done says that a person has done them.
func (e *Engine) Commission(ctx context.Context, actor, ref string, done bool) (store.Task, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return store.Task{}, err
	}
	if _, err := e.plan(e.Store.Read(ctx), d); err != nil {
		return store.Task{}, err
	}
	if e.radio == nil {
		return store.Task{}, problem.New(problem.Unavailable, "No radio is set up, so no access point can be joined.", "The service runs without a radio.", "Set «radio» in the configuration file and start the service again.")
	}
	if err := e.confirmBefore(ctx, actor, d, done); err != nil {
		return store.Task{}, err
	}
	return e.startPlanned(ctx, actor, d, e.plan, task.NewCommission)
}

// startPlanned makes the unit's own login where there is none, pins what is
// intended now, and starts the task that hands it over. The account is not
// pinned: it is taken as it is when it is needed.
func (e *Engine) startPlanned(ctx context.Context, actor string, d store.Device, plan func(*store.Tx, store.Device) (settings.Values, error), state func(task.Subject) task.State) (store.Task, error) {
	if err := e.ensureAccess(ctx, actor, d); err != nil {
		return store.Task{}, err
	}
	tx := e.Store.Read(ctx)
	values, err := plan(tx, d)
	if err != nil {
		return store.Task{}, err
	}
	delete(values, settings.BrokerUser)
	delete(values, settings.BrokerPassword)
	subject, err := e.subject(tx, d)
	if err != nil {
		return store.Task{}, err
	}
	if s, ok := values[settings.WifiSSID].(string); ok {
		subject.Network = s
	}
	rev, err := e.revision(tx)
	if err != nil {
		return store.Task{}, err
	}
	return e.tasks.start(ctx, store.Task{DeviceID: d.ID, Actor: actor, Revision: rev}, state(subject), values)
}

// confirmBefore sees that what a model wants done before was done, and records
// who says so. Once confirmed for a unit, it is not asked for again.
func (e *Engine) confirmBefore(ctx context.Context, actor string, d store.Device, done bool) error {
	m, _ := e.Model(d.Model)
	if len(m.Before) == 0 {
		return nil
	}
	if _, err := store.One[store.Check](e.Store.Read(ctx), "device_id = ? AND name = ? AND holds = 1", d.ID, string(check.Before)); err == nil {
		return nil
	}
	if !done {
		return problem.New(problem.Conflict, fmt.Sprintf("%s was not commissioned. Before that: %s", d.Name, strings.Join(m.Before, " ")), fmt.Sprintf("The model %s wants this done before, and nobody has confirmed it.", m.Name),
			"Do it, then start with «fado device commission "+d.Hostname+" --prepared».")
	}
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		r := check.Hold(check.Before, check.Witness, e.Clock.Now(), strings.Join(m.Before, " "), "done, says %s", actor)
		if err := keepCheck(tx, d.ID, r); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "check", Text: fmt.Sprintf("%s confirmed for %s: %s", actor, d.Name, r.Expected)})
	})
}

func (e *Engine) revision(tx *store.Tx) (int64, error) {
	list, err := store.Some[store.Revision](tx, 1, "id DESC", "1 = 1")
	if err != nil || len(list) == 0 {
		return 0, err
	}
	return list[0].ID, nil
}

func (e *Engine) subject(tx *store.Tx, d store.Device) (task.Subject, error) {
	model, dl, err := e.speaker(d)
	if err != nil {
		return task.Subject{}, err
	}
	site, err := store.One[store.Site](tx, "id = ?", d.SiteID)
	if err != nil {
		return task.Subject{}, err
	}
	s := task.Subject{Baseline: site.Baseline, Name: d.Name, HardwareID: d.HardwareID, Model: model.Name, BootUsual: e.bootUsual(tx, model), SetUp: model.SetUp, Recover: model.Recover,
		Adopted: d.Stage == string(inventory.Adopted)}
	if e.byHand {
		s.ByHand = true
		s.SetUp = fmt.Sprintf("Bring it into set-up mode, and join its access point «%s» with this machine; Fado notices. %s", e.pointName(d, dl), s.SetUp)
	}
	if dl.Sleeps() {
		s.Sleeps, s.WakeUsual, s.Wake = true, e.wakeUsual(tx, d).Seconds(), model.Wake
	}
	if way, ok := dl.Delivery(deviceSubject(model, d)); ok {
		s.Reverts, s.Risky, s.Digests, s.Way = way.Reverts, way.Risky(), dl.TellsDigest(), wayOf(dl, way)
	}
	if s.Recover == "" {
		s.Recover = "Take its power away for ten seconds and give it back. If it stays silent, replace the unit."
	}
	return s, nil
}

// bootUsual is how many seconds a model usually takes from restart to its first
// message: what was learnt, or else what its file says.
func (e *Engine) bootUsual(tx *store.Tx, m inventory.Model) float64 {
	if l, err := store.One[store.Learnt](tx, "model = ? AND what = 'boot'", m.Name); err == nil && l.Count > 0 {
		return l.Seconds
	}
	return float64(m.BootSeconds)
}

// BootUsual is how many seconds a model usually takes from restart to its first
// message.
func (e *Engine) BootUsual(ctx context.Context, m inventory.Model) float64 {
	return e.bootUsual(e.Store.Read(ctx), m)
}

// Apply starts to bring a unit in service to what is intended.
func (e *Engine) Apply(ctx context.Context, actor, ref string) (store.Task, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return store.Task{}, err
	}
	if _, err := e.planApply(e.Store.Read(ctx), d); err != nil {
		return store.Task{}, err
	}
	return e.startPlanned(ctx, actor, d, e.planApply, task.NewApply)
}

func notInService(d store.Device) error {
	return problem.New(problem.Conflict, fmt.Sprintf("%s is not in service.", d.Name), "It was not commissioned, or was taken out of service.", "Commission it first with «fado device commission "+d.Hostname+"».")
}

// Task finds a task.
func (e *Engine) Task(ctx context.Context, id string) (store.Task, error) {
	rec, err := store.One[store.Task](e.Store.Read(ctx), "id = ?", id)
	if isNone(err) {
		return rec, notFound("task", id)
	}
	return rec, err
}

// Retry takes a failed task up again.
func (e *Engine) Retry(ctx context.Context, actor, id string) (store.Task, error) {
	rec, err := e.Task(ctx, id)
	if err != nil {
		return rec, err
	}
	d, err := store.One[store.Device](e.Store.Read(ctx), "id = ?", rec.DeviceID)
	if err != nil {
		return rec, err
	}
	newer, err := store.Count[store.Task](e.Store.Read(ctx), "device_id = ? AND kind = ? AND id > ?", rec.DeviceID, rec.Kind, rec.ID)
	if err != nil {
		return rec, err
	}
	switch {
	case rec.Status != string(task.Failed) && rec.Status != string(task.Cancelled):
		return rec, problem.New(problem.Conflict, fmt.Sprintf("The task is %s; only one that failed or was cancelled can be tried again.", rec.Status), "It ended well, or is still under way.", "Watch it with «fado task show "+id+"».")
	case newer > 0:
		return rec, problem.New(problem.Conflict, "A newer task of the same kind exists for this device.", "It was started since this one failed.", "Look at the newer one with «fado task list --device "+d.Hostname+"».")
	}
	var pinned settings.Values
	rev := rec.Revision
	var state task.State
	if err := json.Unmarshal([]byte(rec.State), &state); err != nil {
		return rec, fmt.Errorf("read the state of task %s: %w", id, err)
	}
	if plan := map[string]func(*store.Tx, store.Device) (settings.Values, error){string(task.Commission): e.plan, string(task.Apply): e.planApply}[rec.Kind]; plan != nil {
		// What is intended now is applied: the reason to try again is often
		// that it was corrected.
		if pinned, err = plan(e.Store.Read(ctx), d); err != nil {
			return rec, err
		}
		delete(pinned, settings.BrokerUser)
		delete(pinned, settings.BrokerPassword)
		if rev, err = e.revision(e.Store.Read(ctx)); err != nil {
			return rec, err
		}
	}
	adopts := state.Subject.Baseline
	if state.Subject, err = e.subject(e.Store.Read(ctx), d); err != nil {
		return rec, err
	}
	if state.Update != nil {
		state.Subject.Baseline = adopts // as it was planned
	}
	if s, ok := pinned[settings.WifiSSID].(string); ok {
		state.Subject.Network = s
	}
	sealed, err := e.pin(id, pinned)
	if err != nil {
		return rec, err
	}
	if err := e.tasks.clear(ctx, rec.DeviceID); err != nil {
		return rec, err
	}
	// The new attempt is stored before anybody is told of it, so that nobody
	// reads the old failure as its outcome.
	placed, waits := false, false
	if rec.Kind == string(task.Commission) {
		placed = e.tasks.reserve(false)
		waits = !placed
	}
	if waits {
		state.Status, state.Failure = task.Queued, nil // the bench is full
	} else {
		state, _ = task.Next(state, task.Event{Kind: task.Retried}, e.Clock.Now())
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if !waits {
			if given, err := e.tasks.lease(tx, rec); err != nil || !given {
				return cmp.Or(err, held(d.Name, holder(tx, d.ID)))
			}
		}
		rec.State, rec.Pinned, rec.Revision, rec.EndedAt, rec.Status = store.JSON(state), sealed, rev, nil, string(state.Status)
		if _, err := store.Change[store.Task](tx, map[string]any{"state": rec.State, "status": rec.Status, "pinned": sealed, "revision": rev, "ended_at": nil}, "id = ?", id); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, TaskID: id, Kind: "task", Text: fmt.Sprintf("The %s of %s is tried again.", rec.Kind, d.Name)})
	})
	if err != nil {
		if placed {
			e.tasks.vacate()
		}
		return rec, err
	}
	e.Changes.Mark("task", id)
	if waits {
		e.tasks.admit() // a place may have been left meanwhile
		return rec, nil
	}
	return rec, e.tasks.run(rec, task.Event{Kind: task.Resumed}, placed, e.Clock.Now())
}

// CancelTask ends a task that has not come too far. A unit that was told to
// take an image finishes.
func (e *Engine) CancelTask(ctx context.Context, actor, id string) (store.Task, error) {
	rec, err := e.Task(ctx, id)
	if err != nil {
		return rec, err
	}
	if task.Status(rec.Status).Over() {
		return rec, problem.New(problem.Conflict, fmt.Sprintf("The task is %s already.", rec.Status), "", "There is nothing left to cancel.")
	}
	var state task.State
	if err := json.Unmarshal([]byte(rec.State), &state); err != nil {
		return rec, fmt.Errorf("read the state of task %s: %w", id, err)
	}
	if state.Update != nil && state.Update.Told {
		return rec, problem.New(problem.Conflict, "The unit is taking the image; that is not interrupted.", "An update that was told to a unit runs to its end.", "Wait for its outcome.")
	}
	e.tasks.mu.Lock()
	r := e.tasks.live[rec.DeviceID]
	e.tasks.mu.Unlock()
	if r != nil && r.id == id {
		select {
		case r.events <- task.Event{Kind: task.Cancel}:
		case <-ctx.Done():
			return rec, ctx.Err()
		}
	} else { // queued behind another
		next, _ := task.Next(state, task.Event{Kind: task.Cancel}, e.Clock.Now())
		err = e.Store.Write(ctx, func(tx *store.Tx) error {
			n, err := store.Change[store.Task](tx, map[string]any{"state": store.JSON(next), "status": string(next.Status), "ended_at": e.Clock.Now()}, "id = ? AND status = 'queued'", id)
			if err == nil && n > 0 && next.Update != nil {
				err = e.updateEnded(tx, id, store.Device{ID: rec.DeviceID}, next)
			}
			return err
		})
		if err != nil {
			return rec, err
		}
	}
	e.Changes.Mark("task", id)
	return rec, e.Record(ctx, store.Event{Actor: actor, DeviceID: rec.DeviceID, TaskID: id, Kind: "task", Text: "The task was cancelled."})
}
