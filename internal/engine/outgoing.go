package engine

import (
	"context"
	"errors"
	"fmt"
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

// directory opens a site's hub.
func (e *Engine) directory(tx *store.Tx, hubID string) (*hub.Directory, error) {
	h, err := store.One[store.Hub](tx, "id = ?", hubID)
	if err != nil {
		return nil, errNoHub
	}
	token, err := e.open("hub", h.ID, h.Token)
	if err != nil {
		return nil, err
	}
	return hub.Open(h.Directory, token, e.net), nil
}

// sendThing brings one thing in the hub up to date, by the state that the
// records have now, and takes it off the queue. A device that is no longer in
// service is removed. adopting says that a task is about to adopt it.
func (e *Engine) sendThing(ctx context.Context, deviceID string, adopting bool) error {
	tx := e.Store.Read(ctx)
	o, err := store.One[store.Outgoing](tx, "kind = 'thing' AND key = ?", deviceID)
	if isNone(err) {
		return errNoHub
	}
	if err != nil {
		return err
	}
	dir, err := e.directory(tx, o.HubID)
	if err != nil {
		return err
	}
	d, err := store.One[store.Device](tx, "id = ?", deviceID)
	if err != nil && !isNone(err) {
		return err
	}
	stays := err == nil && d.Stage != string(inventory.Retired) && (adopting || d.KeepsPlace || d.Stage == string(inventory.Adopted))
	if stays {
		err = e.putThing(ctx, dir, d)
	} else {
		err = dir.Delete(ctx, thing.ID(deviceID))
	}
	if err != nil {
		e.delay(o, err)
		return err
	}
	// Only what was sent is taken off: a change meanwhile has a higher number.
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		_, err := store.Delete[store.Outgoing](tx, "kind = 'thing' AND key = ? AND seq = ?", deviceID, o.Seq)
		return err
	})
}

func (e *Engine) putThing(ctx context.Context, dir *hub.Directory, d store.Device) error {
	td, err := e.Thing(ctx, d)
	if err != nil {
		return err
	}
	if err := dir.Put(ctx, td); err != nil {
		return err
	}
	back, err := dir.Get(ctx, thing.ID(d.ID))
	if err != nil {
		return err
	}
	if back["id"] != td["id"] || back["title"] != td["title"] {
		return fmt.Errorf("%w: it holds %v, titled %v", hub.ErrRefused, back["id"], back["title"])
	}
	return nil
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

// outgoingLoop catches the hubs up with what is queued for them.
func (e *Engine) outgoingLoop(ctx context.Context) {
	for e.Clock.Sleep(ctx, 2*time.Second) == nil {
		list, err := store.Some[store.Outgoing](e.Store.Read(ctx), 100, "next_try", "1 = 1")
		if err != nil {
			continue
		}
		for _, o := range list {
			if ctx.Err() != nil || o.NextTry.After(e.Clock.Now()) {
				break
			}
			if e.tasks.holds(o.Key) {
				continue // its task sends it
			}
			if err := e.sendThing(ctx, o.Key, false); err != nil {
				e.Log.Info("the hub has not caught up yet", "device", o.Key, "error", err)
				continue
			}
			if err := e.loadAccounts(); err != nil {
				e.Log.Error("bring the accounts up to date", "error", err)
			}
		}
	}
}

// Waiting counts what has not reached the hubs yet.
func (e *Engine) Waiting(ctx context.Context) (int64, error) {
	return store.Count[store.Outgoing](e.Store.Read(ctx), "1 = 1")
}
