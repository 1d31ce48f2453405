package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/thing"
	"fado/internal/hub"
	"fado/internal/store"
)

// How a device stands with its hub.
const (
	HubSame    = "same"
	HubDiffers = "differs"
	HubMissing = "missing"
	HubExtra   = "extra"   // the hub holds what has left it
	HubWaiting = "waiting" // a change is on its way

	HubUndescribed = "undescribed" // its dialect does not say what the hub needs
)

// HubThing is a device as its hub holds it, against how it should.
type HubThing struct {
	ID          string // of the thing
	Device      store.Device
	Title       string
	Standing    string
	Differences []thing.Difference
	Tries       int // that its change was sent without success
}

// HubView is a hub's own view, compared with what Fado gave it.
type HubView struct {
	Hub       store.Hub
	At        time.Time
	Things    []HubThing
	Strangers int // things that are none of Fado's
}

// count counts the things that stand in one way.
func (v HubView) count(standing string) int {
	n := 0
	for _, t := range v.Things {
		if t.Standing == standing {
			n++
		}
	}
	return n
}

// FindHub finds a hub by id or name.
func (e *Engine) FindHub(ctx context.Context, ref string) (store.Hub, error) {
	h, err := store.One[store.Hub](e.Store.Read(ctx), "id = ? OR name = ?", ref, ref)
	if isNone(err) {
		return h, notFound("hub", ref)
	}
	return h, err
}

// CompareHub asks a hub what it holds and compares that with what it should. What
// differs stays as it is.
func (e *Engine) CompareHub(ctx context.Context, ref string) (HubView, error) {
	h, err := e.FindHub(ctx, ref)
	if err != nil {
		return HubView{}, err
	}
	v, err := e.compareHub(ctx, h)
	if err != nil {
		return v, hubTrouble(h, err)
	}
	return v, nil
}

// hubTrouble says what a person can do about a hub that does not answer as it
// should.
func hubTrouble(h store.Hub, err error) error {
	what, cause, next := explainHub(h, err)
	return problem.New(problem.Unavailable, what, cause, next).Because(err)
}

func explainHub(h store.Hub, err error) (what, cause, next string) {
	switch {
	case h.Notice != "" && errors.Is(err, hub.ErrDown):
		return fmt.Sprintf("The hub %s cannot be told: %s.", h.Name, reason(err)), "The broker, by which it is told, does not answer.", "See that the broker runs; what waits for the hub is sent once it answers."
	case h.Notice != "":
		return fmt.Sprintf("The hub %s was not told: %s.", h.Name, reason(err)), "The broker refuses retained messages, or the notice file does not suit a device.", "Look at the device's messages with «fado notice try»."
	case errors.Is(err, hub.ErrSlow):
		return fmt.Sprintf("The hub %s does not answer in time.", h.Name), "It is overloaded, or the way to it loses packets.", "See how it does; what waits for it is sent once it answers."
	case errors.Is(err, hub.ErrDown):
		return fmt.Sprintf("The hub %s cannot be reached at %s: %s.", h.Name, h.Directory, reason(err)), "It is off, starts just now, or has another address.", "See that it runs; correct its address with «fado hub edit» if it moved. What waits for it is sent once it answers."
	case errors.Is(err, hub.ErrDenied):
		return fmt.Sprintf("The hub %s does not accept Fado's token.", h.Name), "The token was withdrawn, or has run out.", "Make a new one at the hub and give it with «fado hub edit --token-file»."
	case errors.Is(err, hub.ErrNonsense):
		return fmt.Sprintf("%s does not answer as a Thing directory does: %s.", h.Directory, reason(err)), "Another program listens there, or a page to sign in stands before it.", "Open the address in a browser; correct it with «fado hub edit --directory»."
	}
	return fmt.Sprintf("The hub %s refused: %s.", h.Name, reason(err)), "It does not take what Fado puts into its directory.", "Its own log says why."
}

// members are the devices that a hub is to hold.
func members(tx *store.Tx, hubID string) ([]store.Device, error) {
	return store.All[store.Device](tx, "name, id", "site_id IN (SELECT id FROM sites WHERE hub_id = ?) AND stage <> ? AND (stage = ? OR keeps_place)",
		hubID, string(inventory.Retired), string(inventory.Adopted))
}

func (e *Engine) compareHub(ctx context.Context, h store.Hub) (HubView, error) {
	v := HubView{Hub: h, At: e.Clock.Now(), Things: []HubThing{}}
	tx := e.Store.Read(ctx)
	r, err := e.register(h)
	if err != nil {
		return v, err
	}
	// What is on its way is looked up first: what arrives meanwhile is the same.
	queued := map[string]store.Outgoing{}
	list, err := store.All[store.Outgoing](tx, "key", "hub_id = ?", h.ID)
	if err != nil {
		return v, err
	}
	for _, o := range list {
		queued[o.Device()] = o
	}
	devices, err := members(tx, h.ID)
	if err != nil {
		return v, err
	}
	err = r.compare(ctx, &v, devices, queued)
	e.noteHub(ctx, h, err)
	if err != nil {
		return v, err
	}
	slices.SortFunc(v.Things, func(a, b HubThing) int {
		return cmp.Or(strings.Compare(a.Title, b.Title), strings.Compare(a.ID, b.ID))
	})
	return v, nil
}

func (r directory) compare(ctx context.Context, v *HubView, devices []store.Device, queued map[string]store.Outgoing) error {
	e, tx := r.e, r.e.Store.Read(ctx)
	things, err := r.dir.List(ctx)
	if err != nil {
		return err
	}
	held := map[string]map[string]any{}
	for _, td := range things {
		if id, _ := td["id"].(string); id != "" {
			held[id] = td
		}
	}
	for _, d := range devices {
		t := HubThing{ID: thing.ID(d.ID), Device: d, Title: d.Label, Standing: HubSame}
		theirs, has := held[t.ID]
		delete(held, t.ID)
		ours, err := e.Thing(ctx, d)
		switch {
		case err != nil:
			t.Standing, t.Differences = HubUndescribed, []thing.Difference{{Ours: reason(err)}}
		case !has:
			t.Standing = HubMissing
		default:
			if t.Differences = thing.Compare(ours, theirs); len(t.Differences) > 0 {
				t.Standing = HubDiffers
			}
		}
		if o, waits := queued[d.ID]; waits && (t.Standing == HubMissing || t.Standing == HubDiffers) {
			t.Standing, t.Tries = HubWaiting, o.Tries
		}
		v.Things = append(v.Things, t)
	}
	for id, theirs := range held {
		device, isOurs := e.once(tx, id)
		if !isOurs {
			v.Strangers++
			continue
		}
		t := HubThing{ID: id, Device: device, Standing: HubExtra}
		t.Title, _ = theirs["title"].(string)
		if o, waits := queued[device.ID]; waits {
			t.Standing, t.Tries = HubWaiting, o.Tries
		}
		v.Things = append(v.Things, t)
	}
	return nil
}

// once finds the device that a thing is, or was. Things that are none of Fado's are
// left alone.
func (e *Engine) once(tx *store.Tx, thingID string) (store.Device, bool) {
	id, ok := strings.CutPrefix(thingID, thing.ID(""))
	if !ok || id == "" {
		return store.Device{}, false
	}
	if d, err := store.One[store.Device](tx, "id = ?", id); err == nil {
		return d, true
	}
	n, err := store.Count[store.Event](tx, "device_id = ?", id)
	return store.Device{ID: id}, err == nil && n > 0
}

// CatchUpHub has a hub brought in step: what is missing or differs is put again,
// what has left is removed. It returns how many things it queued.
func (e *Engine) CatchUpHub(ctx context.Context, actor, ref string) (HubView, int, error) {
	v, err := e.CompareHub(ctx, ref)
	if err != nil {
		return v, 0, err
	}
	n, err := e.catchUp(ctx, v)
	if err == nil {
		err = e.Record(ctx, store.Event{Actor: actor, Kind: "hub", Text: fmt.Sprintf("The hub %s was compared and is brought in step: %s.", v.Hub.Name, v.Summary())})
	}
	return v, n, err
}

// Summary says how a hub's things stand.
func (v HubView) Summary() string {
	var out []string
	for _, x := range []struct{ standing, words string }{{HubSame, "as they should be"}, {HubMissing, "missing"}, {HubDiffers, "different"}, {HubExtra, "there though they have left"}, {HubWaiting, "on the way"}, {HubUndescribed, "that their dialects do not describe"}} {
		if n := v.count(x.standing); n > 0 {
			words := x.words
			if n == 1 {
				words = strings.ReplaceAll(words, "they", "it")
				words = strings.ReplaceAll(strings.ReplaceAll(words, "it have", "it has"), "their dialects do", "its dialect does")
			}
			out = append(out, fmt.Sprintf("%d %s", n, words))
		}
	}
	if len(out) == 0 {
		return "it holds none of Fado's things"
	}
	return strings.Join(out, ", ")
}

// catchUp queues what is not as it should be, and lets it go at once.
func (e *Engine) catchUp(ctx context.Context, v HubView) (int, error) {
	n := 0
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		n = 0
		for _, t := range v.Things {
			var err error
			switch t.Standing {
			case HubMissing, HubDiffers:
				err = e.enqueueThing(tx, t.Device)
			case HubExtra:
				err = e.enqueueLeave(tx, v.Hub.ID, t.Device.ID)
			case HubWaiting:
			default:
				continue
			}
			if err != nil {
				return err
			}
			n++
		}
		_, err := store.Change[store.Outgoing](tx, map[string]any{"next_try": e.Clock.Now()}, "hub_id = ?", v.Hub.ID)
		return err
	})
	return n, err
}

// noteHub keeps on record whether a hub answers. One that answers again is sent at
// once what waits for it.
func (e *Engine) noteHub(ctx context.Context, h store.Hub, cause error) {
	if ctx.Err() != nil {
		return
	}
	at := e.Clock.Now()
	if now, err := store.One[store.Hub](e.Store.Read(ctx), "id = ?", h.ID); err == nil && cause == nil && now.Trouble == "" && now.AnsweredAt != nil && at.Sub(*now.AnsweredAt) < time.Minute {
		return // that is known
	}
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		now, err := store.One[store.Hub](tx, "id = ?", h.ID)
		if err != nil {
			return err
		}
		if cause == nil {
			columns := map[string]any{"answered_at": at}
			if now.Trouble == "" {
				_, err := store.Change[store.Hub](tx, columns, "id = ?", h.ID)
				return err
			}
			columns["trouble"], columns["trouble_since"] = "", nil
			if _, err := store.Change[store.Hub](tx, columns, "id = ?", h.ID); err != nil {
				return err
			}
			if _, err := store.Change[store.Outgoing](tx, map[string]any{"next_try": at}, "hub_id = ?", h.ID); err != nil {
				return err
			}
			e.mark(tx, "hub", h.ID)
			return e.event(tx, store.Event{Actor: "fado", Kind: "hub", Text: fmt.Sprintf("The hub %s answers again.", h.Name)})
		}
		what, _, _ := explainHub(h, cause)
		if now.Trouble == what {
			return nil
		}
		columns := map[string]any{"trouble": what}
		if now.Trouble == "" {
			columns["trouble_since"] = at
		}
		if _, err := store.Change[store.Hub](tx, columns, "id = ?", h.ID); err != nil {
			return err
		}
		e.mark(tx, "hub", h.ID)
		return e.event(tx, store.Event{Actor: "fado", Kind: "hub", Text: what})
	})
	if err != nil {
		e.Log.Error("note how a hub answers", "hub", h.Name, "error", err)
	}
}

// How often hubs are asked what they hold.
const (
	hubRound     = 10 * time.Minute // as long as they answer
	hubRoundDown = 30 * time.Second
)

// hubLoop compares each hub with the records from time to time, and brings it in
// step: a hub may be restored from an old copy, or forget.
func (e *Engine) hubLoop(ctx context.Context) {
	next := map[string]time.Time{}
	for e.Clock.Sleep(ctx, 5*time.Second) == nil {
		list, err := store.All[store.Hub](e.Store.Read(ctx), "name", "1 = 1")
		if err != nil {
			continue
		}
		for _, h := range list {
			due, known := next[h.ID]
			if !known {
				next[h.ID] = e.Clock.Now().Add(hubRoundDown)
				continue
			}
			if e.Clock.Now().Before(due) {
				continue
			}
			next[h.ID] = e.Clock.Now().Add(hubRound)
			v, err := e.compareHub(ctx, h)
			if err != nil {
				next[h.ID] = e.Clock.Now().Add(hubRoundDown)
				continue
			}
			lost, off := v.count(HubMissing), v.count(HubDiffers)+v.count(HubExtra)
			if lost+off == 0 {
				continue
			}
			if _, err := e.catchUp(ctx, v); err != nil {
				e.Log.Error("bring a hub in step", "hub", h.Name, "error", err)
				continue
			}
			if err := e.Record(ctx, store.Event{Actor: "fado", Kind: "hub", Text: fmt.Sprintf("The hub %s was not in step and is brought so: %s.", h.Name, v.Summary())}); err != nil {
				e.Log.Error("record that a hub was out of step", "error", err)
			}
		}
	}
}

// directory opens a hub's directory.
func (e *Engine) directory(h store.Hub) (*hub.Directory, error) {
	token, err := e.open("hub", h.ID, h.Token)
	if err != nil {
		return nil, err
	}
	return hub.Open(h.Directory, token, e.net), nil
}

// register is where a hub learns of devices: its Thing directory, or what the broker
// keeps for one that listens.
type register interface {
	put(ctx context.Context, d store.Device) error // and see that it is there
	remove(ctx context.Context, deviceID string) error
	// compare looks at what it holds. queued is what is on its way.
	compare(ctx context.Context, v *HubView, devices []store.Device, queued map[string]store.Outgoing) error
}

func (e *Engine) register(h store.Hub) (register, error) {
	if h.Notice != "" {
		return board{e, h}, nil
	}
	dir, err := e.directory(h)
	return directory{e, dir}, err
}

// directory is a hub's Thing directory.
type directory struct {
	e   *Engine
	dir *hub.Directory
}

func (r directory) remove(ctx context.Context, deviceID string) error {
	return r.dir.Delete(ctx, thing.ID(deviceID))
}

// put puts a device's thing into the directory and reads it back.
func (r directory) put(ctx context.Context, d store.Device) error {
	e, dir := r.e, r.dir
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
	if list := thing.Compare(td, back); len(list) > 0 {
		return fmt.Errorf("%w: what it holds differs from what was put, at %s", hub.ErrRefused, list[0].At)
	}
	return nil
}
