package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/store"
)

// firsts lets one unit go first with a Wi-Fi passphrase that no unit has joined
// with yet. The others are identified meanwhile and wait in set-up mode; when the
// access point refuses the passphrase, none of them leaves with it. Which unit is
// on its way is on record before it leaves, so a service that comes back lets no
// second one go.
type firsts struct {
	e        *Engine
	mu       sync.Mutex
	networks map[string]*first // by network and passphrase
}

// first is what is known of one network with one passphrase.
type first struct {
	store.Trial
	looked bool // in the records
	proven bool
}

func newFirsts(e *Engine) *firsts { return &firsts{e: e, networks: map[string]*first{}} }

// of is the network that a task hands over; nil for a task that hands over none.
// The lock is held.
func (f *firsts) of(r *runner) *first {
	ssid, _ := r.pinned[settings.WifiSSID].(string)
	if r.kind != task.Commission || ssid == "" {
		return nil
	}
	pass := f.e.hashValue(r.pinned[settings.WifiPassphrase])
	key := ssid + "\x00" + pass
	n := f.networks[key]
	if n == nil {
		n = &first{Trial: store.Trial{Network: key}}
		f.networks[key] = n
	}
	if !n.looked {
		n.looked = f.look(r.ctx, n, pass) == nil
	}
	return n
}

// look finds in the records whether a unit has joined with a passphrase, and else
// how its trial stands.
func (f *firsts) look(ctx context.Context, n *first, pass string) error {
	tx := f.e.Store.Read(ctx)
	count, err := store.Count[store.Fact](tx, "kind = 'handed over' AND key = ? AND value = ? AND EXISTS (SELECT 1 FROM facts p WHERE p.device_id = facts.device_id AND p.kind = 'proof' AND p.key = facts.key AND p.at >= facts.at)",
		string(settings.WifiPassphrase), pass)
	if err != nil {
		return err
	}
	n.proven = count > 0
	list, err := store.All[store.Trial](tx, "network", "network = ?", n.Network)
	if err != nil || len(list) == 0 {
		return err
	}
	n.Trial = list[0]
	if n.TaskID == "" {
		return nil
	}
	tasks, err := store.All[store.Task](tx, "id", "id = ?", n.TaskID)
	if err != nil {
		return err
	}
	if len(tasks) == 0 {
		n.TaskID, n.Name = "", ""
	}
	for _, rec := range tasks {
		var s task.State
		if err := json.Unmarshal([]byte(rec.State), &s); err != nil {
			return fmt.Errorf("read the state of task %s: %w", rec.ID, err)
		}
		if s.Seen.Live || s.Status.Over() { // the service stopped before it was taken in
			f.judge(n, rec.ID, n.Name, s)
		}
	}
	return nil
}

// keep puts on record how a trial stands.
func (f *firsts) keep(ctx context.Context, n *first) error {
	return f.e.Store.Write(ctx, func(tx *store.Tx) error { return store.Save(tx, &n.Trial) })
}

// mayLeave reports whether a task's unit may be sent away with its settings. When
// it may not, code says why and by is the device of the unit that tried, or
// tries, the passphrase.
func (f *firsts) mayLeave(r *runner) (code, by string, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	n := f.of(r)
	switch {
	case n == nil || n.proven || n.TaskID == r.id:
		return "", "", nil
	case n.RefusedBy != "" && r.began.Before(n.RefusedAt):
		return "network_refused", n.RefusedBy, nil
	case n.TaskID != "":
		return "network_untried", n.Name, nil
	}
	if q := f.quicker(r, n); q != "" {
		return "network_untried", q, nil
	}
	was := n.Trial
	n.TaskID, n.Name, n.RefusedBy = r.id, r.name, ""
	if err := f.keep(r.ctx, n); err != nil {
		n.Trial = was
		return "", "", fmt.Errorf("put on record who tries the passphrase: %w", err)
	}
	return "", "", nil
}

// quicker is a device whose unit, just begun with, tells much sooner whether the
// passphrase is right.
func (f *firsts) quicker(r *runner, n *first) string {
	f.e.tasks.mu.Lock()
	defer f.e.tasks.mu.Unlock()
	best := r
	for _, q := range f.e.tasks.live {
		if q.kind == task.Commission && q.boot*1.5 < r.boot && f.e.Clock.Now().Sub(q.began) < givesWay && f.of(q) == n {
			if best == r || q.boot < best.boot || q.boot == best.boot && q.name < best.name {
				best = q
			}
		}
	}
	if best == r {
		return ""
	}
	return best.name
}

// tried reports whether a unit has joined with what a task hands over.
func (f *firsts) tried(r *runner) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	n := f.of(r)
	return n == nil || n.proven
}

// givesWay is how long a unit that restarts slowly leaves the first try to a
// quicker one.
const givesWay = 15 * time.Second

// heard takes in how a task went on.
func (f *firsts) heard(r *runner, s task.State) {
	if !s.Seen.Live && !s.Status.Over() {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	n := f.of(r)
	if n == nil {
		return
	}
	was := n.Trial
	f.judge(n, r.id, r.name, s)
	if n.Trial == was {
		return
	}
	if err := f.keep(f.e.ctx, n); err != nil {
		// The task's own record says the same, and is looked at after a restart.
		f.e.Log.Error("store how the trial of a passphrase ended", "task", r.id, "error", err)
	}
}

// judge is what the state of a task of a device says of its network.
func (f *firsts) judge(n *first, id, device string, s task.State) {
	if n.TaskID == id {
		n.TaskID, n.Name = "", ""
	}
	refused := s.Failure != nil && s.Failure.Code == "came_back_wifi_refused"
	switch {
	case refused && n.proven:
		n.proven = false // it worked before; one more unit tells whether it still does
	case refused:
		n.RefusedBy, n.RefusedAt = device, s.Failure.At
	case s.Seen.Live:
		n.proven, n.RefusedBy = true, ""
	}
}
