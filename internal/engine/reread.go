package engine

import (
	"context"
	"time"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/store"
)

// reread reads the settings of units whose families tell them over their pages
// only. It does so when such a unit comes back, and for all of them now and then,
// so that a change made behind Fado's back is seen.
type reread struct {
	e     *Engine
	queue chan string
}

// rereadEvery is how often all units that tell their settings over pages are
// read.
const rereadEvery = time.Hour

func newReread(e *Engine) *reread { return &reread{e: e, queue: make(chan string, 256)} }

// ask asks for one device to be read. When too many wait, it is left to the next
// round.
func (r *reread) ask(device string) {
	select {
	case r.queue <- device:
	default:
	}
}

// run reads each device once, two seconds after it was first asked for: units
// say who and where they are in several messages.
func (r *reread) run(ctx context.Context) {
	due := map[string]time.Time{}
	for {
		var tick <-chan time.Time
		if len(due) > 0 {
			tick = time.After(250 * time.Millisecond)
		}
		select {
		case <-ctx.Done():
			return
		case id := <-r.queue:
			if _, waits := due[id]; !waits {
				due[id] = r.e.Clock.Now().Add(2 * time.Second)
			}
		case <-tick:
			for id, at := range due {
				if r.e.Clock.Now().After(at) {
					delete(due, id)
					r.one(ctx, id)
				}
			}
		}
	}
}

// rounds asks for all of them, again and again.
func (r *reread) rounds(ctx context.Context) {
	for r.e.Clock.Sleep(ctx, rereadEvery) == nil {
		list, err := store.All[store.Device](r.e.Store.Read(ctx), "id", "presence = ? AND address <> ''", string(inventory.Online))
		if err != nil {
			r.e.Log.Error("list the units to be read", "error", err)
			continue
		}
		for _, d := range list {
			select {
			case <-ctx.Done():
				return
			case r.queue <- d.ID:
			}
		}
	}
}

// byPages reports whether a family tells its settings over pages only.
func byPages(dl *dialect.Dialect) bool {
	return dl != nil && dl.Service != nil && dl.Service.By == dialect.ByPages && !dl.Says(dialect.Reported)
}

func (r *reread) one(ctx context.Context, id string) {
	e := r.e
	d, err := store.One[store.Device](e.Store.Read(ctx), "id = ?", id)
	if err != nil || e.tasks.holds(id) || !inventory.Stage(d.Stage).AtLeast(inventory.Joined) {
		return // a task reads by itself
	}
	model, dl, err := e.speaker(d)
	if err != nil || !byPages(dl) {
		return
	}
	values, _, err := e.intended(e.Store.Read(ctx), d)
	if err != nil {
		return
	}
	w := &worker{e: e, r: &runner{t: e.tasks, id: "reread", device: id, pinned: values, ctx: ctx}, d: d, model: model, dl: dl, askID: "reread"}
	may := w.values()
	talk, ev := w.meet(ctx, may)
	if ev != nil {
		return // it is elsewhere, or another unit answers
	}
	if _, err := w.readBack(ctx, talk, may); err != nil {
		e.Log.Debug("read a unit's pages", "device", d.Hostname, "error", err)
		return
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error { e.mark(tx, "device", id); return e.refresh(tx, id) })
	if err != nil {
		e.Log.Error("compare what a unit's pages say", "device", id, "error", err)
	}
}
