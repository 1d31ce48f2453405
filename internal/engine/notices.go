package engine

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/notice"
	"fado/internal/core/problem"
	"fado/internal/core/thing"
	"fado/internal/fail"
	"fado/internal/hub"
	"fado/internal/store"
)

// Notice finds a notice.
func (e *Engine) Notice(name string) (*notice.Notice, bool) {
	e.catalog.mu.RLock()
	defer e.catalog.mu.RUnlock()
	n, ok := e.catalog.notices[name]
	return n, ok
}

// Notices lists the notices by name.
func (e *Engine) Notices() []*notice.Notice {
	e.catalog.mu.RLock()
	defer e.catalog.mu.RUnlock()
	out := make([]*notice.Notice, 0, len(e.catalog.notices))
	for _, n := range e.catalog.notices {
		out = append(out, n)
	}
	slices.SortFunc(out, func(a, b *notice.Notice) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// PutNotice adds a notice or replaces the one of the same name. The hubs that are
// told by it are told anew.
func (e *Engine) PutNotice(ctx context.Context, actor string, file []byte) (*notice.Notice, error) {
	n, faults := notice.Parse("notice", file)
	if len(faults) > 0 {
		p := problem.As(dialect.Refuse("notice", faults))
		p.What = strings.Replace(p.What, "dialect file", "notice file", 1)
		return nil, p
	}
	hubs, err := store.All[store.Hub](e.Store.Read(ctx), "id", "notice = ?", n.Name)
	if err != nil {
		return nil, err
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if err := store.Save(tx, &store.File{Kind: "notice", Name: n.Name, Body: string(file), UpdatedAt: e.Clock.Now()}); err != nil {
			return err
		}
		for _, h := range hubs {
			list, err := members(tx, h.ID)
			if err != nil {
				return err
			}
			for _, d := range list {
				if err := e.enqueueThing(tx, d); err != nil {
					return err
				}
			}
		}
		return e.event(tx, store.Event{Actor: actor, Kind: "notice", Text: fmt.Sprintf("The notice %s was loaded.", n.Name)})
	})
	if err != nil {
		return nil, err
	}
	e.catalog.mu.Lock()
	e.catalog.notices[n.Name] = n
	e.catalog.mu.Unlock()
	return n, e.loadAccounts() // what its hubs may hear
}

// checkNotice judges the notice of a hub that listens: what it may hear is none of
// the units' own topics.
func (e *Engine) checkNotice(tx *store.Tx, h store.Hub, f *problem.Fields) {
	n, ok := e.Notice(h.Notice)
	if !ok {
		f.Add("notice", fmt.Sprintf("there is no notice %q", h.Notice), "fado notice add FILE")
		return
	}
	list, err := store.All[store.Device](tx, "topic", "stage <> ?", string(inventory.Retired))
	if err != nil {
		return // the transaction ends with it
	}
	for _, d := range list {
		for _, l := range n.Listens {
			if notice.Within(l, d.TopicInUse()+"/x") {
				f.Add("notice", fmt.Sprintf("it lets the hub hear %s, below which the unit of %s speaks", l, d.Name), "a first level that no topic of a unit has")
				return
			}
		}
	}
}

// Posts are the messages by which a device is told to a hub that listens.
func (e *Engine) Posts(ctx context.Context, d store.Device, name string) ([]notice.Message, error) {
	n, ok := e.Notice(name)
	if !ok {
		return nil, notFound("notice", name)
	}
	s, err := e.thingSubject(e.Store.Read(ctx), d)
	if err != nil {
		return nil, err
	}
	return n.Write(notice.Subject{Subject: s, Hostname: d.Hostname})
}

// unpost has what the broker keeps for a hub taken away with the next that is sent.
func (e *Engine) unpost(tx *store.Tx, hubID string) error {
	list, err := store.All[store.Posted](tx, "topic", "hub_id = ?", hubID)
	if err != nil || len(list) == 0 {
		return err
	}
	tx.After(func() {
		for _, p := range list {
			if err := e.bus.Publish(e.ctx, p.Topic, nil, true); err != nil {
				e.Log.Warn("take away what a hub was told", "topic", p.Topic, "error", err)
			}
		}
	})
	_, err = store.Delete[store.Posted](tx, "hub_id = ?", hubID)
	return err
}

// board is what the broker keeps for a hub that listens.
type board struct {
	e *Engine
	h store.Hub
}

// posted lists the topics that the broker keeps for the hub, of one device or of all.
func (b board) posted(ctx context.Context, deviceID string) ([]store.Posted, error) {
	if deviceID == "" {
		return store.All[store.Posted](b.e.Store.Read(ctx), "device_id, topic", "hub_id = ?", b.h.ID)
	}
	return store.All[store.Posted](b.e.Store.Read(ctx), "topic", "hub_id = ? AND device_id = ?", b.h.ID, deviceID)
}

func (b board) put(ctx context.Context, d store.Device) error {
	list, err := b.e.Posts(ctx, d, b.h.Notice)
	if err != nil {
		return fmt.Errorf("%w: %w", hub.ErrRefused, err)
	}
	old, err := b.posted(ctx, d.ID)
	if err != nil {
		return err
	}
	want := map[string][]byte{}
	topics := make([]string, 0, len(list))
	for _, m := range list {
		want[m.Topic] = m.Body
		topics = append(topics, m.Topic)
	}
	// The record comes first: what was posted is known, whenever the service stops.
	if err := b.e.Store.Write(ctx, func(tx *store.Tx) error {
		for _, m := range list {
			if err := store.Save(tx, &store.Posted{HubID: b.h.ID, DeviceID: d.ID, Topic: m.Topic}); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	fail.Point("before notice")
	for _, m := range list {
		if err := b.say(ctx, m.Topic, m.Body); err != nil {
			return err
		}
	}
	fail.Point("after notice")
	for _, p := range old {
		if _, stays := want[p.Topic]; !stays {
			if err := b.take(ctx, p); err != nil {
				return err
			}
		}
	}
	held, err := b.e.bus.Retained(ctx, topics)
	if err != nil {
		return fmt.Errorf("%w: %w", hub.ErrDown, err)
	}
	for _, m := range list {
		if !bytes.Equal(held[m.Topic], m.Body) {
			return fmt.Errorf("%w: the broker does not keep what was posted under %s", hub.ErrRefused, m.Topic)
		}
	}
	return nil
}

func (b board) say(ctx context.Context, topic string, body []byte) error {
	if err := b.e.bus.Publish(ctx, topic, body, true); err != nil {
		return fmt.Errorf("%w: %w", hub.ErrDown, err)
	}
	return nil
}

// take takes away what the broker keeps under a topic: an empty retained message
// (MQTT 3.1.1, section 3.3.1.3).
func (b board) take(ctx context.Context, p store.Posted) error {
	if err := b.say(ctx, p.Topic, nil); err != nil {
		return err
	}
	return b.e.Store.Write(ctx, func(tx *store.Tx) error {
		_, err := store.Delete[store.Posted](tx, "hub_id = ? AND device_id = ? AND topic = ?", p.HubID, p.DeviceID, p.Topic)
		return err
	})
}

func (b board) remove(ctx context.Context, deviceID string) error {
	list, err := b.posted(ctx, deviceID)
	if err != nil {
		return err
	}
	for _, p := range list {
		if err := b.take(ctx, p); err != nil {
			return err
		}
	}
	return nil
}

func (b board) compare(ctx context.Context, v *HubView, devices []store.Device, queued map[string]store.Outgoing) error {
	posted, err := b.posted(ctx, "")
	if err != nil {
		return err
	}
	topics := map[string]bool{}
	for _, p := range posted {
		topics[p.Topic] = true
	}
	want := map[string][]notice.Message{}
	broken := map[string]error{}
	for _, d := range devices {
		list, err := b.e.Posts(ctx, d, b.h.Notice)
		if err != nil {
			broken[d.ID] = err
		}
		want[d.ID] = list
		for _, m := range list {
			topics[m.Topic] = true
		}
	}
	ask := make([]string, 0, len(topics))
	for t := range topics {
		ask = append(ask, t)
	}
	slices.Sort(ask)
	held, err := b.e.bus.Retained(ctx, ask)
	if err != nil {
		return fmt.Errorf("%w: %w", hub.ErrDown, err)
	}
	for _, d := range devices {
		t := HubThing{ID: thing.ID(d.ID), Device: d, Title: d.Label, Standing: HubSame}
		missing := 0
		for _, m := range want[d.ID] {
			switch has, ok := held[m.Topic]; {
			case !ok:
				missing++
				t.Differences = append(t.Differences, thing.Difference{At: m.Topic, Ours: string(m.Body)})
			case !bytes.Equal(has, m.Body):
				t.Differences = append(t.Differences, thing.Difference{At: m.Topic, Ours: string(m.Body), Theirs: string(has)})
			}
			delete(topics, m.Topic)
		}
		switch {
		case broken[d.ID] != nil:
			t.Standing, t.Differences = HubUndescribed, []thing.Difference{{Ours: reason(broken[d.ID])}}
		case missing > 0 && missing == len(want[d.ID]):
			t.Standing, t.Differences = HubMissing, nil
		case len(t.Differences) > 0:
			t.Standing = HubDiffers
		}
		if o, waits := queued[d.ID]; waits && (t.Standing == HubMissing || t.Standing == HubDiffers) {
			t.Standing, t.Tries = HubWaiting, o.Tries
		}
		v.Things = append(v.Things, t)
	}
	extra := map[string]bool{}
	for _, p := range posted {
		if _, has := held[p.Topic]; !has || !topics[p.Topic] || extra[p.DeviceID] {
			continue
		}
		extra[p.DeviceID] = true
		t := HubThing{ID: thing.ID(p.DeviceID), Device: store.Device{ID: p.DeviceID}, Standing: HubExtra}
		if d, err := store.One[store.Device](b.e.Store.Read(ctx), "id = ?", p.DeviceID); err == nil {
			t.Device, t.Title = d, d.Label
		}
		if slices.ContainsFunc(devices, func(d store.Device) bool { return d.ID == p.DeviceID }) {
			t.Standing = HubDiffers // something old of one that is there
		}
		if o, waits := queued[p.DeviceID]; waits {
			t.Standing, t.Tries = HubWaiting, o.Tries
		}
		v.Things = append(v.Things, t)
	}
	return nil
}
