package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"fado/internal/broker"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/store"
)

// ingest takes in what units say: it decodes each message once, tells the tasks
// at once, and writes what is to be kept in one transaction a quarter second.
type ingest struct {
	e     *Engine
	queue chan broker.Message
	taken atomic.Int64 // messages taken in
	kept  atomic.Int64 // messages written
	said  said

	mu      sync.RWMutex
	byTopic map[string]*listened
	byID    map[string]*listened

	watchMu  sync.Mutex
	watchers map[*watcher]bool

	// Owned by run.
	latest  map[saidUnder]store.Latest
	dirty   map[string]*pendingDevice
	unknown map[string]store.Sighting
	heard   map[string]map[string]string // what each unit said of itself since it came back
	gone    map[string]time.Time         // units whose last word on their presence was that they go
	health  measured
}

// listened is a device as the ingest sees it.
type listened struct {
	id, siteID, hardwareID string
	topic                  string // that is intended
	inUse                  string // under which its unit speaks
	model                  inventory.Model
	dialect                *dialect.Dialect
	told                   func() map[string][]switching // how it is switched, by topic
}

// pendingDevice is what is to be written of one device.
type pendingDevice struct {
	columns  map[string]any
	reported settings.Values
	at       time.Time

	moved            bool // its unit speaks under the intended topic now
	woke, awakeUntil *time.Time
	battery          *int
}

// saidUnder is a topic below a device's own.
type saidUnder struct{ device, topic string }

type watcher struct {
	device string
	want   func(dialect.MessageKind, dialect.Facts) bool
	seen   chan struct{}
}

func newIngest(e *Engine) *ingest {
	return &ingest{e: e, queue: make(chan broker.Message, 4096), watchers: map[*watcher]bool{},
		latest: map[saidUnder]store.Latest{}, dirty: map[string]*pendingDevice{}, unknown: map[string]store.Sighting{}, heard: map[string]map[string]string{}, gone: map[string]time.Time{}, health: newMeasured()}
}

// load reads the devices' topics again.
func (in *ingest) load() error {
	list, err := store.All[store.Device](in.e.Store.Read(in.e.ctx), "id", "stage <> ?", string(inventory.Retired))
	if err != nil {
		return fmt.Errorf("load the devices' topics: %w", err)
	}
	byTopic, byID := make(map[string]*listened, len(list)), make(map[string]*listened, len(list))
	for _, d := range list {
		l := in.listenTo(d)
		byTopic[d.Topic], byTopic[l.inUse], byID[d.ID] = l, l, l
	}
	in.mu.Lock()
	in.byTopic, in.byID = byTopic, byID
	in.mu.Unlock()
	return nil
}

func (in *ingest) listenTo(d store.Device) *listened {
	l := &listened{id: d.ID, siteID: d.SiteID, topic: d.Topic, inUse: d.TopicInUse(), hardwareID: d.HardwareID}
	if m, ok := in.e.Model(d.Model); ok {
		l.model = m
		l.dialect, _ = in.e.Dialect(m.Dialect)
	}
	l.told = sync.OnceValue(func() map[string][]switching { return ordersOf(d.Running, l) })
	return l
}

// put brings one device up to date; remove takes one away.
func (in *ingest) put(d store.Device) {
	l := in.listenTo(d)
	in.mu.Lock()
	defer in.mu.Unlock()
	in.drop(d.ID)
	in.byTopic[d.Topic], in.byTopic[l.inUse], in.byID[d.ID] = l, l, l
}

func (in *ingest) remove(id string) {
	in.mu.Lock()
	defer in.mu.Unlock()
	in.drop(id)
}

func (in *ingest) drop(id string) {
	old, ok := in.byID[id]
	if !ok {
		return
	}
	for _, t := range []string{old.topic, old.inUse} {
		if in.byTopic[t] == old {
			delete(in.byTopic, t)
		}
	}
	delete(in.byID, id)
}

// take is called by the bus for every message. It blocks when the queue is
// full, which slows senders down and loses nothing.
func (in *ingest) take(m broker.Message) {
	select {
	case in.queue <- m:
	case <-in.e.ctx.Done():
	}
}

func (in *ingest) run(ctx context.Context) {
	var due <-chan time.Time
	for {
		if due == nil && len(in.latest)+len(in.dirty)+len(in.unknown)+len(in.said.fresh) > 0 {
			due = time.After(250 * time.Millisecond)
		}
		select {
		case m := <-in.queue:
			in.one(m)
		case <-due:
			in.flush()
			due = nil
		case <-ctx.Done():
			for {
				select {
				case m := <-in.queue:
					in.one(m)
					continue
				default:
				}
				break
			}
			in.write(true)
			return
		}
	}
}

// find finds the device below whose topic something was said.
func (in *ingest) find(topic string) (l *listened, below string) {
	in.mu.RLock()
	defer in.mu.RUnlock()
	for at := len(topic); at > 0; at = strings.LastIndexByte(topic[:at], '/') {
		if l, ok := in.byTopic[topic[:at]]; ok {
			return l, topic[:at]
		}
	}
	return nil, ""
}

func (in *ingest) one(m broker.Message) { in.oneAt(m, in.e.Clock.Now()) }

// oneAt takes in a message that came at a moment.
func (in *ingest) oneAt(m broker.Message, at time.Time) {
	in.taken.Add(1)
	l, base := in.find(m.Topic)
	if l == nil {
		in.overhear(m)
		return
	}
	if len(m.Payload) > dialect.MaxReply {
		return
	}
	var kind dialect.MessageKind
	var facts dialect.Facts
	known := false
	if l.dialect != nil {
		kind, facts, known = l.dialect.Decode(base, m.Topic, m.Payload)
	}
	in.hear(l, base, m, known, at)
	if !known || len(m.Payload) == 0 {
		return
	}
	rest := m.Topic[len(base):]
	key := saidUnder{l.id, rest}
	last := in.latest[key]
	in.latest[key] = store.Latest{DeviceID: l.id, Topic: rest, Kind: string(kind), Payload: m.Payload, Retained: m.Replayed, At: at, Count: last.Count + 1}
	if m.Replayed {
		return // history, not proof
	}
	if m.From == "inline" {
		return // Fado's own words
	}
	in.health.take(l.id, kind, facts, at)
	in.device(l, kind, facts, m.From, base, at)
	in.notify(l.id, kind, facts)
}

// device notes what a live message says of a device, and tells its task.
func (in *ingest) device(l *listened, kind dialect.MessageKind, facts dialect.Facts, from, base string, at time.Time) {
	switch kind {
	case dialect.Presence:
		if p := facts.Text("presence"); p == "online" || p == "offline" {
			in.column(l, at, "presence", p)
		}
		delete(in.heard, l.id) // it comes or goes; what it is, it says anew
		if delete(in.gone, l.id); facts.Text("presence") == "offline" {
			in.gone[l.id] = at
		}
	case dialect.Identity:
		in.identity(l, facts, from, base, at)
	case dialect.State, dialect.Health:
		// The will of an earlier session may overtake the first words of the next
		// (order holds within one topic only; MQTT 3.1.1, section 4.6). One that
		// goes on speaking is there.
		if since, gone := in.gone[l.id]; gone && !l.dialect.Sleeps() && at.Sub(since) >= overtaken {
			delete(in.gone, l.id)
			in.column(l, at, "presence", "online")
		}
	case dialect.Wake:
		delete(in.heard, l.id)
		if !in.identity(l, facts, from, base, at) {
			return
		}
		awake, _ := facts.Number("awake_seconds")
		until := at.Add(time.Duration(min(max(awake, 1), 600) * float64(time.Second)))
		p := in.pending(l, at)
		p.woke, p.awakeUntil = &at, &until
		if n, said := facts.Number("battery"); said && n >= 0 && n <= 100 {
			p.battery = new(int(n))
		}
		in.beforeTask(l.id)
		in.e.tasks.deliver(l.id, task.Event{Kind: task.Woke, Facts: map[string]string{"battery": facts.Text("battery")}})
	case dialect.Reported:
		p := in.pending(l, at)
		reported := dialect.SettingsIn(facts, l.model)
		p.reported = reported
		in.beforeTask(l.id)
		to := facts.Text("reply_to")
		if to == "" && !l.dialect.NamesAsks(dialect.Reported) {
			to = "unasked" // the family does not say what it answers
		}
		in.e.tasks.reported(l.id, reported, to)
	case dialect.Answer:
		in.e.tasks.deliver(l.id, task.Event{Kind: task.Answered, Facts: map[string]string{
			"reply_to": facts.Text("reply_to"), "accepted": facts.Text("accepted"), "reason": facts.Text("reason")}})
	case dialect.Progress:
		in.e.tasks.deliver(l.id, task.Event{Kind: task.Progress, Facts: map[string]string{
			"reply_to": facts.Text("reply_to"), "phase": facts.Text("phase"), "done": facts.Text("done"), "reason": facts.Text("reason")}})
	}
	in.e.Changes.Mark("messages", l.id)
}

// overtaken is how long after a unit's end what it had said before may still come in.
const overtaken = 2 * time.Second

// identity takes in what a unit says of itself. Families say it in one message
// or in several; nothing counts before the hardware id is said, and a false
// answer means that another unit speaks here.
func (in *ingest) identity(l *listened, facts dialect.Facts, from, base string, at time.Time) bool {
	said := in.heard[l.id]
	if said == nil {
		said = map[string]string{}
		in.heard[l.id] = said
	}
	for k := range facts {
		said[k] = facts.Text(k)
	}
	hw, err := inventory.ParseHardwareID(said["hardware_id"])
	if err != nil {
		return false
	}
	if l.hardwareID != "" && string(hw) != l.hardwareID {
		delete(in.heard, l.id)
		return false // another unit speaks under this topic; it proves nothing
	}
	in.column(l, at, "presence", "online")
	for column, fact := range map[string]string{"running": "version", "digest": "digest", "firmware": "firmware", "address": "address"} {
		in.column(l, at, column, said[fact])
	}
	if base == l.topic && l.inUse != l.topic {
		in.pending(l, at).moved = true
	}
	in.beforeTask(l.id)
	in.e.tasks.deliver(l.id, task.Event{Kind: task.Appeared, Facts: map[string]string{
		"hardware_id": string(hw), "version": said["version"], "digest": said["digest"], "model": said["model"], "confirmed": said["confirmed"], "trouble": facts.Text("trouble"),
		"reply_to": facts.Text("reply_to"), "account": from}})
	if byPages(l.dialect) && !in.e.tasks.holds(l.id) {
		in.e.reread.ask(l.id)
	}
	return true
}

// beforeTask writes what is known of a device that a task holds, so that the
// task never runs ahead of the records it is judged by.
func (in *ingest) beforeTask(device string) {
	if in.e.tasks.holds(device) {
		in.flush()
	}
}

func (in *ingest) pending(l *listened, at time.Time) *pendingDevice {
	p, ok := in.dirty[l.id]
	if !ok {
		p = &pendingDevice{columns: map[string]any{}}
		in.dirty[l.id] = p
	}
	p.at = at
	return p
}

func (in *ingest) column(l *listened, at time.Time, name, value string) {
	if value != "" {
		in.pending(l, at).columns[name] = value
	}
}

// flush writes what came in since the last time: telemetry to its own file, and
// what changed of devices to the records.
func (in *ingest) flush() { in.write(false) }

// write is flush; ending says that the service stops.
func (in *ingest) write(ending bool) {
	ctx := context.Background()
	if len(in.latest)+len(in.said.fresh) > 0 || ending {
		rows := make([]store.Latest, 0, len(in.latest))
		var n int64
		for _, r := range in.latest {
			rows = append(rows, r)
			n += r.Count
		}
		if err := in.e.Store.Telemetry(ctx, func(tx *store.Tx) error {
			if err := store.SaveAll(tx, rows); err != nil {
				return err
			}
			if err := in.keepSaid(tx); err != nil {
				return err
			}
			return in.keepHealth(tx, ending)
		}); err != nil {
			in.e.Log.Error("write telemetry", "error", err)
			in.said.add(in.said.fresh, in.e.Clock.Now()) // it can be read, as long as this service runs
			in.said.fresh = nil
		} else {
			in.kept.Add(n)
			clear(in.latest)
			in.health.written()
		}
	}
	if len(in.unknown) > 0 {
		err := in.e.Store.Write(ctx, func(tx *store.Tx) error {
			for _, s := range in.unknown {
				if err := in.e.keepSighting(tx, s); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			in.e.Log.Error("keep what was overheard", "error", err)
		}
		clear(in.unknown)
	}
	if len(in.dirty) == 0 {
		return
	}
	if err := in.e.Store.Write(ctx, in.writeDevices); err != nil {
		in.e.Log.Error("write what units reported", "error", err)
		return
	}
	clear(in.dirty)
}

func (in *ingest) writeDevices(tx *store.Tx) error {
	for id, p := range in.dirty {
		d, err := store.One[store.Device](tx, "id = ?", id)
		if isNone(err) {
			continue
		}
		if err != nil {
			return err
		}
		columns := map[string]any{}
		was := map[string]string{"presence": d.Presence, "running": d.Running, "digest": d.Digest, "firmware": d.Firmware, "address": d.Address}
		for k, v := range p.columns {
			if was[k] != v {
				columns[k] = v
			}
		}
		if v, ok := columns["presence"]; ok && d.Presence != string(inventory.Unseen) {
			if err := in.e.event(tx, store.Event{Actor: "unit", SiteID: d.SiteID, DeviceID: d.ID, Kind: "presence", Text: fmt.Sprintf("%s is %s.", d.Name, v)}); err != nil {
				return err
			}
		}
		if v, ok := columns["running"]; ok && d.Running != "" {
			if err := in.e.event(tx, store.Event{Actor: "unit", SiteID: d.SiteID, DeviceID: d.ID, Kind: "firmware", Text: fmt.Sprintf("%s reports version %s; it was %s.", d.Name, v, d.Running)}); err != nil {
				return err
			}
		}
		if p.woke != nil {
			columns["woke_at"], columns["awake_until"] = p.woke, p.awakeUntil
		}
		if p.battery != nil {
			columns["battery"] = *p.battery
		}
		if p.moved && d.LiveTopic != "" {
			if err := in.e.settle(tx, &d); err != nil {
				return err
			}
		}
		if len(columns) > 0 {
			if _, err := store.Change[store.Device](tx, columns, "id = ?", id); err != nil {
				return err
			}
			in.e.mark(tx, "device", id)
			if _, another := columns["running"]; another && d.Stage == string(inventory.Adopted) {
				// Another firmware may want other commands.
				if err := in.e.enqueueThing(tx, d); err != nil {
					return err
				}
			}
		}
		if err := saveReported(tx, d, p.reported, p.at); err != nil {
			return err
		}
		if len(columns) > 0 || p.reported != nil {
			if err := in.e.refresh(tx, id); err != nil {
				return err
			}
		}
	}
	return nil
}

func saveReported(tx *store.Tx, d store.Device, reported settings.Values, at time.Time) error {
	if len(reported) == 0 {
		return nil
	}
	old, err := store.All[store.Fact](tx, "key", "device_id = ? AND kind = 'reported'", d.ID)
	if err != nil {
		return err
	}
	was := map[string]store.Fact{}
	for _, f := range old {
		was[f.Key] = f
	}
	for k, v := range reported {
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		f := store.Fact{DeviceID: d.ID, Kind: "reported", Key: string(k), UnitID: unitOf(d), Value: string(b), At: at, Since: at}
		if o, ok := was[f.Key]; ok && o.Value == f.Value && !o.Since.IsZero() {
			f.Since = o.Since
		}
		if err := store.Save(tx, &f); err != nil {
			return err
		}
	}
	return nil
}

// watch waits until a live message of a device satisfies want.
func (in *ingest) watch(device string, want func(dialect.MessageKind, dialect.Facts) bool) *watcher {
	w := &watcher{device: device, want: want, seen: make(chan struct{}, 1)}
	in.watchMu.Lock()
	in.watchers[w] = true
	in.watchMu.Unlock()
	return w
}

func (in *ingest) unwatch(w *watcher) {
	in.watchMu.Lock()
	delete(in.watchers, w)
	in.watchMu.Unlock()
}

func (in *ingest) notify(device string, kind dialect.MessageKind, facts dialect.Facts) {
	in.watchMu.Lock()
	defer in.watchMu.Unlock()
	for w := range in.watchers {
		if w.device == device && w.want(kind, facts) {
			select {
			case w.seen <- struct{}{}:
			default:
			}
		}
	}
}

// Messages returns the last message of each kind from a device.
func (e *Engine) Messages(ctx context.Context, deviceID string) ([]store.Latest, error) {
	var out []store.Latest
	err := e.Store.Telemetry(ctx, func(tx *store.Tx) (err error) {
		out, err = store.All[store.Latest](tx, "topic", "device_id = ?", deviceID)
		return err
	})
	return out, err
}

// Taken counts the messages taken in and those written.
func (e *Engine) Taken() (taken, kept int64) { return e.ingest.taken.Load(), e.ingest.kept.Load() }

// presenceLoop marks units as offline that have had no session for a while,
// such as after a restart of the service.
func (e *Engine) presenceLoop(ctx context.Context) {
	missing := map[string]time.Time{}
	for e.Clock.Sleep(ctx, 15*time.Second) == nil {
		e.presenceOfSleepers(ctx)
		if e.embedded == nil {
			continue
		}
		list, err := store.OnlineDevices(e.Store.Read(ctx))
		if err != nil {
			continue
		}
		connected := map[string]bool{}
		for _, d := range list {
			connected[d.ID] = connected[d.ID] || d.Account != "" && e.embedded.Online(d.Account)
		}
		now := e.Clock.Now()
		for _, d := range list {
			if connected[d.ID] {
				delete(missing, d.ID)
				continue
			}
			connected[d.ID] = true // once is enough
			since, known := missing[d.ID]
			if !known {
				missing[d.ID] = now
				continue
			}
			if now.Sub(since) < 60*time.Second {
				continue
			}
			delete(missing, d.ID)
			err := e.Store.Write(ctx, func(tx *store.Tx) error {
				if _, err := store.Change[store.Device](tx, map[string]any{"presence": string(inventory.Offline)}, "id = ?", d.ID); err != nil {
					return err
				}
				if err := e.event(tx, store.Event{Actor: "fado", SiteID: d.SiteID, DeviceID: d.ID, Kind: "presence", Text: d.Name + " has had no session on the broker for a minute."}); err != nil {
					return err
				}
				return e.refresh(tx, d.ID)
			})
			if err != nil {
				e.Log.Error("mark a unit as offline", "device", d.ID, "error", err)
			}
		}
	}
}

// presenceOfSleepers says of units that sleep whether they are asleep, or have
// missed three wakes in a row.
func (e *Engine) presenceOfSleepers(ctx context.Context) {
	now := e.Clock.Now()
	list, err := store.All[store.Device](e.Store.Read(ctx), "id", "awake_until < ? AND presence IN ('online','asleep')", now)
	if err != nil {
		e.Log.Error("list the units that sleep", "error", err)
		return
	}
	for _, d := range list {
		next, text := inventory.Asleep, ""
		usual := e.wakeUsual(e.Store.Read(ctx), d)
		if d.WokeAt != nil && now.Sub(*d.WokeAt) > 3*usual+time.Minute {
			next, text = inventory.Offline, fmt.Sprintf("%s has missed three wakes; the last was at %s.", d.Name, d.WokeAt.Format(time.RFC3339))
		}
		if d.Presence == string(next) {
			continue
		}
		err := e.Store.Write(ctx, func(tx *store.Tx) error {
			if _, err := store.Change[store.Device](tx, map[string]any{"presence": string(next)}, "id = ? AND awake_until < ?", d.ID, now); err != nil {
				return err
			}
			if text != "" {
				if err := e.event(tx, store.Event{Actor: "fado", SiteID: d.SiteID, DeviceID: d.ID, Kind: "presence", Text: text}); err != nil {
					return err
				}
			}
			e.mark(tx, "device", d.ID)
			return e.refresh(tx, d.ID)
		})
		if err != nil {
			e.Log.Error("say that a unit sleeps", "device", d.ID, "error", err)
		}
	}
}

// wakeUsual is the usual time between two wakes: what it is told, or else what
// its model says.
func (e *Engine) wakeUsual(tx *store.Tx, d store.Device) time.Duration {
	if f, err := store.One[store.Fact](tx, "device_id = ? AND kind = 'reported' AND key = ?", d.ID, string(settings.ReportSeconds)); err == nil {
		var n float64
		if json.Unmarshal([]byte(f.Value), &n) == nil && n > 0 {
			return time.Duration(n * float64(time.Second))
		}
	}
	if m, ok := e.Model(d.Model); ok && m.WakeSeconds > 0 {
		return time.Duration(m.WakeSeconds) * time.Second
	}
	return 5 * time.Minute
}
