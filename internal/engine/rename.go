package engine

import (
	"context"
	"fmt"
	"strings"

	"fado/internal/broker"
	"fado/internal/core/inventory"
	"fado/internal/store"
)

// A device in service that is given another topic keeps speaking under the old
// one until its unit was told. Meanwhile its account may use both; once the unit
// was heard under the new one, settle ends the old one.

// settle notes that a unit speaks under the intended topic, and takes away what
// belonged to the old one: rights, kept messages, the hub's view.
func (e *Engine) settle(tx *store.Tx, d *store.Device) error {
	old := d.LiveTopic
	if _, err := store.Change[store.Device](tx, map[string]any{"live_topic": ""}, "id = ?", d.ID); err != nil {
		return err
	}
	d.LiveTopic = ""
	if d.Stage == string(inventory.Adopted) {
		if err := e.enqueueThing(tx, *d); err != nil {
			return err
		}
	}
	now := *d
	tx.After(func() {
		e.ingest.put(now)
		e.work.Go(func() { e.afterMove(e.ctx, now, old) })
	})
	return e.event(tx, store.Event{Actor: "fado", SiteID: d.SiteID, DeviceID: d.ID, Kind: "rename", Text: fmt.Sprintf("%s speaks under %s now; %s is given up.", d.Name, d.Topic, old)})
}

// afterMove brings the broker's rights in line with a move and clears what it
// kept below the old topic.
func (e *Engine) afterMove(ctx context.Context, d store.Device, old string) {
	if err := e.grantUnit(e.Store.Read(ctx), d); err != nil {
		e.Log.Error("narrow the rights of a unit that moved", "device", d.ID, "error", err)
	}
	if err := e.loadHubRights(ctx, d); err != nil {
		e.Log.Error("bring the hub's rights up to date", "device", d.ID, "error", err)
	}
	e.clearRetained(ctx, d, old, false)
}

// grantUnit gives a device's live accounts the rights to its topic, and to the
// one that it still uses.
func (e *Engine) grantUnit(tx *store.Tx, d store.Device) error {
	if !e.ownAccounts() {
		return nil
	}
	list, err := store.All[store.Account](tx, "name", "device_id = ? AND revoked_at IS NULL", d.ID)
	if err != nil {
		return fmt.Errorf("list the accounts of %s: %w", d.Name, err)
	}
	for _, a := range list {
		if err := e.setAccount(e.ctx, a, unitRights(d)); err != nil {
			return err
		}
	}
	return nil
}

func unitRights(d store.Device) broker.Rights {
	r := broker.Rights{Own: d.Topic}
	if d.LiveTopic != "" {
		r.Also = d.LiveTopic
	}
	return r
}

// loadHubRights works out again what the hub of a device's site may do.
func (e *Engine) loadHubRights(ctx context.Context, d store.Device) error {
	if !e.ownAccounts() {
		return nil
	}
	tx := e.Store.Read(ctx)
	h, err := store.One[store.Hub](tx, "id = (SELECT hub_id FROM sites WHERE id = ?)", d.SiteID)
	if isNone(err) {
		return nil
	}
	if err != nil {
		return err
	}
	a, err := store.One[store.Account](tx, "name = ? AND revoked_at IS NULL", h.Account)
	if err != nil {
		return fmt.Errorf("find the hub's account: %w", err)
	}
	rights, err := e.hubRights(tx, h.ID)
	if err != nil {
		return err
	}
	return e.setAccount(ctx, a, rights)
}

// Listeners names who else has subscribed to something below the topic that a
// device uses: they lose it when the topic changes.
func (e *Engine) Listeners(ctx context.Context, d store.Device) []string {
	if e.embedded == nil {
		return nil
	}
	except := ""
	if a, ok := e.account(e.Store.Read(ctx), d); ok {
		except = a.Name
	}
	list := e.embedded.Listeners(d.TopicInUse(), except)
	for i, name := range list {
		if a, err := store.One[store.Account](e.Store.Read(ctx), "name = ?", name); err == nil && a.Kind == "hub" {
			list[i] = name + " (the hub, which is told)"
		}
	}
	return list
}

// moveNames notes a change of the names of a device in service: what its unit
// uses stays on record until the unit was told.
func moveNames(before store.Device, d *store.Device) {
	if !inventory.Stage(before.Stage).AtLeast(inventory.Joined) || before.Topic == d.Topic {
		return
	}
	d.LiveTopic = before.TopicInUse()
	if d.LiveTopic == d.Topic {
		d.LiveTopic = "" // back to what the unit never left
	}
}

// clearRetained takes away what the broker kept below a topic of a device. all
// forgets the device's last messages, too.
func (e *Engine) clearRetained(ctx context.Context, d store.Device, topic string, all bool) {
	var below []string
	err := e.Store.Telemetry(ctx, func(tx *store.Tx) error {
		list, err := store.All[store.Latest](tx, "topic", "device_id = ?", d.ID)
		for _, l := range list {
			below = append(below, l.Topic)
		}
		if err == nil && all {
			_, err = store.Delete[store.Latest](tx, "device_id = ?", d.ID)
		}
		return err
	})
	if err != nil {
		e.Log.Warn("list what a device said", "device", d.ID, "error", err)
	}
	topics := e.kept(topic)
	for _, b := range below {
		topics = append(topics, topic+b)
	}
	seen := map[string]bool{}
	for _, t := range topics {
		if seen[t] || !strings.HasPrefix(t, topic+"/") {
			continue
		}
		seen[t] = true
		if err := e.bus.Publish(ctx, t, nil, true); err != nil {
			e.Log.Warn("a kept message could not be cleared", "topic", t, "error", err)
		}
	}
}

// kept lists what the embedded broker keeps below a topic.
func (e *Engine) kept(topic string) []string {
	if e.embedded == nil {
		return nil
	}
	return e.embedded.KeptBelow(topic)
}
