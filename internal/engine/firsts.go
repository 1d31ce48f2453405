package engine

import (
	"sync"
	"time"

	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/store"
)

// firsts lets one unit go first with a Wi-Fi passphrase that no unit has joined
// with yet. The others are identified meanwhile and wait in set-up mode; when the
// access point refuses the passphrase, none of them leaves with it.
type firsts struct {
	e        *Engine
	mu       sync.Mutex
	networks map[string]*first // by network and passphrase
}

// first is what is known of one network with one passphrase.
type first struct {
	looked    bool // in the records, for a unit that has joined with it
	proven    bool
	task      string // that tries it
	name      string // of its device
	refusedBy string
	refusedAt time.Time
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
		n = &first{}
		f.networks[key] = n
	}
	if !n.looked {
		count, err := store.Count[store.Fact](f.e.Store.Read(r.ctx), "kind = 'handed over' AND key = ? AND value = ? AND EXISTS (SELECT 1 FROM facts p WHERE p.device_id = facts.device_id AND p.kind = 'proof' AND p.key = facts.key AND p.at >= facts.at)",
			string(settings.WifiPassphrase), pass)
		n.looked, n.proven = err == nil, count > 0
	}
	return n
}

// mayLeave reports whether a task's unit may be sent away with its settings. When
// it may not, code says why and by is the device of the unit that tried, or
// tries, the passphrase.
func (f *firsts) mayLeave(r *runner) (code, by string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	n := f.of(r)
	switch {
	case n == nil || n.proven || n.task == r.id:
		return "", ""
	case n.refusedBy != "" && r.began.Before(n.refusedAt):
		return "network_refused", n.refusedBy
	case n.task != "":
		return "network_untried", n.name
	}
	if q := f.quicker(r, n); q != "" {
		return "network_untried", q
	}
	n.task, n.name, n.refusedBy = r.id, r.name, ""
	return "", ""
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
	mine := n.task == r.id
	if mine {
		n.task, n.name = "", ""
	}
	switch {
	case s.Failure != nil && s.Failure.Code == "came_back_wifi_refused" && n.proven:
		n.proven = false // it worked before; one more unit tells whether it still does
	case s.Failure != nil && s.Failure.Code == "came_back_wifi_refused":
		n.refusedBy, n.refusedAt = r.name, f.e.Clock.Now()
	case s.Seen.Live:
		n.proven, n.refusedBy = true, ""
	}
}
