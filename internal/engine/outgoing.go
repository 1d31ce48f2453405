package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"fado/internal/core/inventory"
	"fado/internal/core/thing"
	"fado/internal/hub"
	"fado/internal/store"
)

var errNoHub = errors.New("the site has no hub")

// enqueueThing notes that the hub has to catch up with a device. It belongs
// into the transaction of the change that caused it.
func (e *Engine) enqueueThing(tx *store.Tx, d store.Device) error {
	site, err := store.One[store.Site](tx, "id = ?", d.SiteID)
	if err != nil {
		return err
	}
	if site.HubID == nil {
		return nil
	}
	o, err := store.One[store.Outgoing](tx, "kind = 'thing' AND key = ?", d.ID)
	if err != nil && !isNone(err) {
		return err
	}
	return store.Save(tx, &store.Outgoing{Kind: "thing", Key: d.ID, HubID: *site.HubID, Seq: o.Seq + 1, NextTry: e.Clock.Now()})
}

// thingSubject gathers what a Thing Description is made from.
func (e *Engine) thingSubject(tx *store.Tx, d store.Device) (thing.Subject, error) {
	model, dl, err := e.speaker(d)
	if err != nil {
		return thing.Subject{}, err
	}
	s := thing.Subject{DeviceID: d.ID, Label: d.Label, Topic: d.TopicInUse(), Version: d.Running, Model: model, Dialect: dl}
	site, err := store.One[store.Site](tx, "id = ?", d.SiteID)
	if err != nil {
		return s, err
	}
	s.Site = site.Name
	if d.RoomID != nil {
		if r, err := store.One[store.Room](tx, "id = ?", *d.RoomID); err == nil {
			s.Room = r.Name
		}
	}
	b, err := store.One[store.Broker](tx, "id = ?", d.BrokerID)
	if err != nil {
		return s, fmt.Errorf("read the broker: %w", err)
	}
	s.Broker = thing.Broker{Host: b.Host, Port: b.Port, TLS: b.TLS}
	return s, nil
}

// Thing is the Thing Description of a device.
func (e *Engine) Thing(ctx context.Context, d store.Device) (map[string]any, error) {
	s, err := e.thingSubject(e.Store.Read(ctx), d)
	if err != nil {
		return nil, err
	}
	return thing.Describe(s)
}

// enqueueThings notes that the hubs have to catch up with all devices in service of
// a kind.
func (e *Engine) enqueueThings(tx *store.Tx, where string, args ...any) error {
	list, err := store.All[store.Device](tx, "id", "stage = '"+string(inventory.Adopted)+"' AND "+where, args...)
	if err != nil {
		return fmt.Errorf("list the devices that a hub has to catch up with: %w", err)
	}
	for _, d := range list {
		if err := e.enqueueThing(tx, d); err != nil {
			return err
		}
	}
	return nil
}

// enqueueLeave notes that a device is no longer a hub's.
func (e *Engine) enqueueLeave(tx *store.Tx, hubID, deviceID string) error {
	return store.Save(tx, &store.Outgoing{Kind: "leave", Key: hubID + "/" + deviceID, HubID: hubID, NextTry: e.Clock.Now()})
}

// changeHub moves the devices of a site from one hub to another.
func (e *Engine) changeHub(tx *store.Tx, siteID string, from, to *string) error {
	if deref(from) == deref(to) {
		return nil
	}
	list, err := store.All[store.Device](tx, "id", "site_id = ? AND stage <> ? AND (stage = ? OR keeps_place)", siteID, string(inventory.Retired), string(inventory.Adopted))
	if err != nil {
		return err
	}
	for _, d := range list {
		if from != nil {
			if err := e.enqueueLeave(tx, *from, d.ID); err != nil {
				return err
			}
		}
		if to == nil {
			if _, err := store.Delete[store.Outgoing](tx, "kind = 'thing' AND key = ?", d.ID); err != nil {
				return err
			}
			continue
		}
		if _, err := store.Delete[store.Outgoing](tx, "kind = 'leave' AND key = ?", *to+"/"+d.ID); err != nil {
			return err
		}
		if err := e.enqueueThing(tx, d); err != nil {
			return err
		}
	}
	return nil
}

// sendThing brings one thing in its hub up to date, by the state that the records
// have now, and takes it off the queue. A device that is no longer in service is
// removed. adopting says that a task is about to adopt it.
func (e *Engine) sendThing(ctx context.Context, deviceID string, adopting bool) error {
	o, err := store.One[store.Outgoing](e.Store.Read(ctx), "kind = 'thing' AND key = ?", deviceID)
	if isNone(err) {
		return errNoHub
	}
	if err != nil {
		return err
	}
	return e.send(ctx, o, adopting)
}

func (e *Engine) send(ctx context.Context, o store.Outgoing, adopting bool) error {
	tx := e.Store.Read(ctx)
	h, err := store.One[store.Hub](tx, "id = ?", o.HubID)
	if err != nil {
		return errNoHub
	}
	d, err := store.One[store.Device](tx, "id = ?", o.Device())
	if err != nil && !isNone(err) {
		return err
	}
	stays := err == nil && o.Kind == "thing" && d.Stage != string(inventory.Retired) && (adopting || d.KeepsPlace || d.Stage == string(inventory.Adopted))
	r, err := e.register(h)
	if err != nil {
		return err
	}
	if stays {
		err = r.put(ctx, d)
	} else {
		err = r.remove(ctx, o.Device())
	}
	if err == nil || errors.Is(err, hub.ErrDown) || errors.Is(err, hub.ErrRefused) {
		e.noteHub(ctx, h, err)
	}
	if err != nil {
		e.delay(o, err)
		return err
	}
	// Only what was sent is taken off: a change meanwhile has a higher number.
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		_, err := store.Delete[store.Outgoing](tx, "kind = ? AND key = ? AND seq = ?", o.Kind, o.Key, o.Seq)
		e.mark(tx, "hub", h.ID)
		return err
	})
}

// delay puts a failed sending off, twice as long each time, up to ten minutes.
func (e *Engine) delay(o store.Outgoing, cause error) {
	wait := min(time.Second<<min(o.Tries, 10), 10*time.Minute)
	err := e.Store.Write(context.Background(), func(tx *store.Tx) error {
		_, err := store.Change[store.Outgoing](tx, map[string]any{"tries": o.Tries + 1, "next_try": e.Clock.Now().Add(wait), "last_error": reason(cause)},
			"kind = ? AND key = ?", o.Kind, o.Key)
		return err
	})
	if err != nil {
		e.Log.Error("put a sending off", "error", err)
	}
}

// outgoingLoop catches the hubs up with what is queued for them. A hub that does not
// answer holds up no other.
func (e *Engine) outgoingLoop(ctx context.Context) {
	for e.Clock.Sleep(ctx, 2*time.Second) == nil {
		hubs, err := store.All[store.Hub](e.Store.Read(ctx), "id", "id IN (SELECT hub_id FROM outgoings WHERE next_try <= ?)", e.Clock.Now())
		if err != nil {
			continue
		}
		var round sync.WaitGroup
		for _, h := range hubs {
			round.Go(func() { e.catchUpWith(ctx, h.ID) })
		}
		round.Wait()
	}
}

// catchUpWith sends a hub what waits for it, the longest due first, until it does
// not answer.
func (e *Engine) catchUpWith(ctx context.Context, hubID string) {
	list, err := store.Some[store.Outgoing](e.Store.Read(ctx), 100, "next_try", "hub_id = ? AND next_try <= ?", hubID, e.Clock.Now())
	if err != nil {
		return
	}
	sent := false
	for _, o := range list {
		if ctx.Err() != nil {
			return
		}
		if e.tasks.holds(o.Device()) {
			continue // its task sends it
		}
		err := e.send(ctx, o, false)
		if err != nil {
			e.Log.Info("the hub has not caught up yet", "device", o.Device(), "error", err)
		}
		if errors.Is(err, hub.ErrDown) {
			break
		}
		sent = sent || err == nil
	}
	if sent {
		if err := e.loadAccounts(); err != nil {
			e.Log.Error("bring the accounts up to date", "error", err)
		}
	}
}

// Waiting counts what has not reached the hubs yet.
func (e *Engine) Waiting(ctx context.Context) (int64, error) {
	return store.Count[store.Outgoing](e.Store.Read(ctx), "1 = 1")
}
