package engine

import (
	"context"
	"fmt"
	"time"

	"fado/internal/core/dialect"
	"fado/internal/core/task"
	"fado/internal/reach"
	"fado/internal/store"
)

// whereabouts looks for a unit where it was not expected: in the home's network,
// on the broker under a topic that nobody intended, or turned away by the broker.
// What it finds is no older than since.
func (w *worker) whereabouts(ctx context.Context, since time.Time) map[string]string {
	out := map[string]string{}
	if w.e.embedded != nil {
		if a, ok := w.e.account(w.e.Store.Read(ctx), w.d); ok {
			if why, ago, refused := w.e.embedded.Refused(a.Name); refused && w.e.Clock.Scaled(ago) < w.e.Clock.Now().Sub(since) {
				out["refused"] = why
			}
		}
	}
	looked := w.e.Clock.Now()
	// A family that does not announce itself is not asked for: asking takes seconds,
	// and a unit that sleeps may be awake for no longer.
	if site, err := w.e.FindSite(ctx, w.d.SiteID); err == nil && w.dl.Announces != nil {
		if err := w.e.find(ctx, site); err != nil {
			w.e.Log.Debug("look for a unit in its home's network", "device", w.d.Hostname, "error", err)
		}
	}
	list, err := store.All[store.Sighting](w.e.Store.Read(ctx), "last_seen DESC", "device_id = ? AND gone = 0 AND twice = 0", w.d.ID)
	if err != nil {
		return out
	}
	for _, s := range list {
		switch {
		case s.Source == "lan" && !s.LastSeen.Before(looked) && out["address"] == "":
			out["address"], out["where"] = s.Address, fmt.Sprintf("it is in the home's network at %s, where it calls itself «%s»", s.Address, s.Name)
		case s.Source == "broker" && !s.LastSeen.Before(since) && out["topic"] == "":
			out["topic"] = s.Name
		}
	}
	if out["topic"] != "" {
		out["where"] = fmt.Sprintf("it speaks on the broker under «%s»", out["topic"])
	}
	return out
}

// lately is how long ago something may have been seen to count when a unit is
// looked for at its access point.
const lately = 2 * time.Minute

// meet begins a conversation with the unit on record over the home's network. One
// that does not answer where it was is looked for by its id.
func (w *worker) meet(ctx context.Context, values dialect.Values) (*reach.Talk, *task.Event) {
	talk, err := w.lan(ctx, values)
	var ev *task.Event
	if err == nil {
		if _, ev = w.itself(ctx, talk, values); ev == nil {
			return talk, nil
		}
	} else {
		e := failed(failureCode(err, "", "unreachable"), err)
		ev = &e
	}
	if ev.Code == "login_refused" || !w.hasMoved(ctx) {
		return nil, ev
	}
	if talk, err = w.lan(ctx, values); err != nil {
		return nil, ev
	}
	_, ev = w.itself(ctx, talk, values)
	return talk, ev
}

// hasMoved asks the home's network where the unit is and reports whether that is
// another place than the one on record.
func (w *worker) hasMoved(ctx context.Context) bool {
	before, err := store.One[store.Device](w.e.Store.Read(ctx), "id = ?", w.d.ID)
	if err != nil {
		return false
	}
	site, err := w.e.FindSite(ctx, w.d.SiteID)
	if err != nil || w.e.find(ctx, site) != nil {
		return false
	}
	after, err := store.One[store.Device](w.e.Store.Read(ctx), "id = ?", w.d.ID)
	return err == nil && after.Address != "" && after.Address != before.Address
}
