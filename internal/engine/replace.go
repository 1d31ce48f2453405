package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/store"
)

// Swap says which unit is to fill a device from now on.
type Swap struct {
	HardwareID string
	SetUpCode  *secret.Secret // printed on the new unit
	Reason     string
}

// Replace takes the unit out of a device and has another one fill it. The device
// keeps its name, topic, settings, history and place in the hub; what belonged to
// the old unit ends: its account, its own login, and what it left on the broker.
// said tells whether the old unit forgot what it knew.
func (e *Engine) Replace(ctx context.Context, actor, ref string, in Swap) (d store.Device, said string, err error) {
	if d, err = e.inUse(ctx, ref); err != nil {
		return d, "", err
	}
	var f problem.Fields
	h, err := inventory.ParseHardwareID(in.HardwareID)
	switch {
	case err != nil:
		f.Add("hardware_id", err.Error(), "02:5A:11:00:00:07")
	case string(h) == d.HardwareID:
		f.Add("hardware_id", fmt.Sprintf("%s is the unit that %s has", h, d.Name), "")
	default:
		if other := e.holderOf(ctx, d, string(h)); other != "" {
			f.Add("hardware_id", fmt.Sprintf("%s is the hardware id of %s", h, other), "")
		}
	}
	if in.SetUpCode != nil {
		checkCode(&f, *in.SetUpCode)
	}
	if err := f.Err("The unit was not replaced."); err != nil {
		return d, "", err
	}
	e.keepBefore(ctx, d, "before it was replaced")
	said = e.sendAway(ctx, d)
	old, was := d.HardwareID, d.TopicInUse()
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if d, err = e.takeOut(tx, d.ID); err != nil {
			return err
		}
		d.KeepsPlace = d.KeepsPlace || d.Stage == string(inventory.Adopted)
		d.HardwareID, d.Ending, d.Stage, d.SetUpCode = string(h), "", string(inventory.Listed), nil
		if in.SetUpCode != nil {
			d.SetUpCode = e.seal("set-up code", d.ID, *in.SetUpCode)
		}
		room := ""
		if d.RoomID != nil {
			if r, err := store.One[store.Room](tx, "id = ?", *d.RoomID); err == nil {
				room = r.Name
			}
		}
		d.Search = search(d, room)
		if _, err := store.Delete[store.Check](tx, "device_id = ?", d.ID); err != nil {
			return err
		}
		if err := store.Save(tx, &d); err != nil {
			return err
		}
		if err := e.refresh(tx, d.ID); err != nil {
			return err
		}
		e.tell(tx, d)
		return e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "device", Text: fmt.Sprintf("The unit of %s is replaced: %s goes, %s comes. %s%s", d.Name, old, h, said, because(in.Reason))})
	})
	if err != nil {
		return d, said, err
	}
	return d, said, e.cleared(ctx, d, was)
}

// Retire takes a device out of service for good: its thing leaves the hub, its
// account ends, what it left on the broker is cleared, and its unit forgets what it
// knew, unless it is to keep that or cannot be reached. Its names are free again;
// its history stays.
func (e *Engine) Retire(ctx context.Context, actor, ref, reason string, keepUnit bool) (d store.Device, said string, err error) {
	if d, err = e.inUse(ctx, ref); err != nil {
		return d, "", err
	}
	said = "Its unit was left as it is."
	if !keepUnit {
		said = e.sendAway(ctx, d)
	}
	was := d.TopicInUse()
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if d, err = e.takeOut(tx, d.ID); err != nil {
			return err
		}
		d.Stage, d.KeepsPlace, d.SetUpCode = string(inventory.Retired), false, nil
		d.Attention, d.Standing, d.Drift = "", "unknown", 0
		for _, del := range []func() (int64, error){
			func() (int64, error) { return store.Delete[store.SealedCopy](tx, "device_id = ?", d.ID) },
			func() (int64, error) {
				return store.Delete[store.Intended](tx, "scope = 'device' AND scope_id = ? AND sealed IS NOT NULL", d.ID)
			},
			func() (int64, error) {
				return store.Delete[store.Goal](tx, "scope = 'device' AND scope_id = ?", d.ID)
			},
		} {
			if _, err := del(); err != nil {
				return err
			}
		}
		if err := store.Save(tx, &d); err != nil {
			return err
		}
		if err := e.enqueueThing(tx, d); err != nil {
			return err
		}
		e.mark(tx, "device", d.ID)
		return e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "device", Text: fmt.Sprintf("%s was retired. %s%s", d.Name, said, because(reason))})
	})
	if err != nil {
		return d, said, err
	}
	if err := e.cleared(ctx, d, was); err != nil {
		return d, said, err
	}
	e.ingest.remove(d.ID)
	return d, said, nil
}

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return " Why: " + reason
}

// inUse finds a device that has, or had, a unit and that nothing holds.
func (e *Engine) inUse(ctx context.Context, ref string) (store.Device, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return d, err
	}
	if err := e.tasks.clear(ctx, d.ID); err != nil {
		return d, err
	}
	tx := e.Store.Read(ctx)
	if holder := holder(tx, d.ID); holder != "" {
		return d, held(d.Name, holder)
	}
	n, err := store.Count[store.Tenure](tx, "device_id = ?", d.ID)
	switch {
	case err != nil:
		return d, err
	case d.Stage == string(inventory.Retired):
		return d, problem.New(problem.Conflict, d.Name+" is retired.", "It was taken out of service before.", "Add a device anew; its old names are free.")
	case n == 0:
		return d, problem.New(problem.Conflict, d.Name+" was never in service.", "No unit has filled it yet.", "Change its hardware id with «fado device edit», or remove it with «fado device remove».")
	}
	return d, nil
}

// takeOut ends what belongs to the unit of a device. The device is not saved.
func (e *Engine) takeOut(tx *store.Tx, id string) (store.Device, error) {
	d, err := store.One[store.Device](tx, "id = ?", id)
	if err != nil {
		return d, err
	}
	if holder := holder(tx, d.ID); holder != "" {
		return d, held(d.Name, holder)
	}
	at := e.Clock.Now()
	if _, err := store.Change[store.Tenure](tx, map[string]any{"until": at}, "device_id = ? AND until IS NULL", d.ID); err != nil {
		return d, err
	}
	if _, err := store.Change[store.Account](tx, map[string]any{"revoked_at": at, "sealed": nil}, "device_id = ? AND revoked_at IS NULL", d.ID); err != nil {
		return d, err
	}
	if _, err := store.Delete[store.Fact](tx, "device_id = ?", d.ID); err != nil {
		return d, err
	}
	// The login that was made for the old unit; the new one gets its own.
	if _, err := store.Delete[store.Intended](tx, "scope = 'device' AND scope_id = ? AND actor = 'fado' AND key IN ?", d.ID,
		[]string{string(settings.AccessUser), string(settings.AccessPassword), string(settings.AccessPointKey)}); err != nil {
		return d, err
	}
	d.LiveTopic, d.Address, d.WokeAt, d.AwakeUntil = "", "", nil, nil
	d.Presence, d.UnitID, d.Running, d.Digest, d.Firmware = string(inventory.Unseen), nil, "", "", ""
	d.Version++
	d.UpdatedAt = at
	return d, nil
}

// cleared brings the broker into step once a unit was taken out.
func (e *Engine) cleared(ctx context.Context, d store.Device, topic string) error {
	e.dropRevoked(ctx, d.ID)
	if err := e.loadAccounts(); err != nil {
		return err
	}
	e.clearRetained(ctx, d, topic, true)
	return nil
}

// awayTime is how long a unit may take to leave. It is a matter of the network and
// never scaled.
const awayTime = 8 * time.Second

// sendAway tells a unit in service to forget what it knows, and says whether it
// has.
func (e *Engine) sendAway(ctx context.Context, d store.Device) string {
	stays := func(why string) string {
		m, _ := e.Model(d.Model)
		return fmt.Sprintf("The old unit could not be told to forget: %s. If it still works, it knows the network's passphrase; bring it back to its factory state by hand. %s", why, m.SetUp)
	}
	if d.UnitID == nil {
		return "No unit was in it."
	}
	model, dl, err := e.speaker(d)
	switch {
	case err != nil:
		return stays(reason(err))
	case dl.Asks.Leave == nil:
		return stays("its firmware knows no such request")
	case dl.Sleeps():
		return stays("it sleeps")
	case d.Presence != string(inventory.Online):
		return stays("it is " + d.Presence)
	}
	ctx, cancel := context.WithTimeout(ctx, awayTime)
	defer cancel()
	values, _, err := e.intended(e.Store.Read(ctx), d)
	if err != nil {
		return stays(reason(err))
	}
	w := &worker{e: e, r: &runner{t: e.tasks, id: "leave", device: d.ID, pinned: values, ctx: ctx}, d: d, model: model, dl: dl, askID: "leave-" + store.NewID()}
	if err := w.leave(ctx); err != nil {
		return stays(reason(err))
	}
	return "The old unit has forgotten what it knew."
}

// leave tells the unit to forget, and waits until it is gone from the broker.
func (w *worker) leave(ctx context.Context) error {
	gone := w.e.ingest.watch(w.d.ID, func(k dialect.MessageKind, f dialect.Facts) bool {
		return k == dialect.Presence && f.Text("presence") == "offline"
	})
	defer w.e.ingest.unwatch(gone)
	if w.dl.Asks.Leave.Publish == "" {
		values := w.values()
		talk, ev := w.meet(ctx, values)
		if ev != nil {
			return errors.New(ev.Code + " " + ev.Facts["detail"])
		}
		if _, err := talk.Do(ctx, w.dl.Asks.Leave, values); err != nil {
			return err
		}
	} else if ev := w.publish(ctx, w.dl.Asks.Leave, dialect.Values{}); ev.Code != "" {
		return errors.New(ev.Facts["detail"])
	}
	return await(ctx, gone)
}

// keepBefore keeps a unit's whole configuration, where it can be reached and its
// dialect can.
func (e *Engine) keepBefore(ctx context.Context, d store.Device, why string) {
	model, dl, err := e.speaker(d)
	if err != nil || dl.Backup == nil || d.Presence != string(inventory.Online) || !byPages(dl) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, awayTime)
	defer cancel()
	values, _, err := e.intended(e.Store.Read(ctx), d)
	if err != nil {
		return
	}
	w := &worker{e: e, r: &runner{t: e.tasks, id: "keep", device: d.ID, pinned: values, ctx: ctx}, d: d, model: model, dl: dl, askID: "keep-" + store.NewID()}
	may := w.values()
	if talk, ev := w.meet(ctx, may); ev == nil {
		w.keepCopy(ctx, talk, may, why)
	}
}
