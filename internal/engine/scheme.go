package engine

import (
	"context"
	"fmt"
	"slices"

	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/store"
)

// Rename is what a naming scheme would call a device, and what it is called now.
type Rename struct {
	Device    store.Device
	From, To  naming.Names
	InService bool
	Listeners []string
}

// PreviewScheme tells which devices of a site a scheme would rename. only limits
// it to some of them; nil takes all.
func (e *Engine) PreviewScheme(ctx context.Context, siteRef string, scheme naming.Scheme, only []string) ([]Rename, error) {
	site, err := e.FindSite(ctx, siteRef)
	if err != nil {
		return nil, err
	}
	if err := scheme.Check(); err != nil {
		return nil, err
	}
	chosen := map[string]bool{}
	for _, ref := range only {
		d, err := e.FindDevice(ctx, ref)
		if err != nil {
			return nil, err
		}
		chosen[d.ID] = true
	}
	list, err := e.renames(e.Store.Read(ctx), site, scheme, chosen)
	for i := range list {
		if list[i].InService && list[i].From.Topic != list[i].To.Topic {
			list[i].Listeners = e.Listeners(ctx, list[i].Device)
		}
	}
	return list, err
}

// renames proposes names in the order in which the devices were added, as they
// got their first ones, so that numbers stay where they are.
func (e *Engine) renames(tx *store.Tx, site store.Site, scheme naming.Scheme, chosen map[string]bool) ([]Rename, error) {
	devices, err := store.All[store.Device](tx, "id", "site_id = ? AND stage <> ?", site.ID, string(inventory.Retired))
	if err != nil {
		return nil, err
	}
	rooms, err := store.All[store.Room](tx, "id", "site_id = ?", site.ID)
	if err != nil {
		return nil, err
	}
	roomName := map[string]string{}
	for _, r := range rooms {
		roomName[r.ID] = r.Name
	}
	in := func(d store.Device) bool { return len(chosen) == 0 || chosen[d.ID] }
	hostnames, topics := map[string]bool{}, []string{}
	for _, d := range devices {
		if !in(d) {
			hostnames[d.Hostname] = true
			topics = append(topics, d.Topic)
		}
	}
	var elsewhere func(string) bool
	if site.BrokerID != nil {
		elsewhere = func(t string) bool {
			n, _ := store.Count[store.Device](tx, "broker_id = ? AND site_id <> ? AND topic = ? AND stage <> 'retired'", *site.BrokerID, site.ID, t)
			return n > 0
		}
	}
	taken := naming.Taken{
		Hostname: func(h string) bool { return hostnames[h] },
		Topic: func(t string) bool {
			return slices.ContainsFunc(topics, func(x string) bool { return naming.TopicsMeet(x, t) }) || elsewhere != nil && elsewhere(t)
		},
	}
	var out []Rename
	for _, d := range devices {
		if !in(d) {
			continue
		}
		m, _ := e.Model(d.Model)
		names, err := naming.Propose(scheme, naming.Facts{Site: site.Key, Room: roomName[deref(d.RoomID)], Kind: m.Kind, Name: d.Name, HardwareID: d.HardwareID}, taken)
		if err != nil {
			return nil, fmt.Errorf("name %s: %w", d.Name, err)
		}
		hostnames[names.Hostname] = true
		topics = append(topics, names.Topic)
		from := naming.Names{Hostname: d.Hostname, Topic: d.Topic, Label: d.Label}
		if from != names {
			out = append(out, Rename{Device: d, From: from, To: names, InService: inventory.Stage(d.Stage).AtLeast(inventory.Joined)})
		}
	}
	return out, nil
}

// RenameByScheme gives devices of a site the names that a scheme makes. It is a
// change of what is intended: units in service keep their names until they are
// told by a task. All or nothing.
func (e *Engine) RenameByScheme(ctx context.Context, actor, siteRef string, scheme naming.Scheme, only []string) ([]Rename, error) {
	list, err := e.PreviewScheme(ctx, siteRef, scheme, only)
	if err != nil || len(list) == 0 {
		return list, err
	}
	for _, r := range list {
		if err := e.tasks.clear(ctx, r.Device.ID); err != nil {
			return list, err
		}
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		// First out of each other's way: one may get the name that another has.
		for _, r := range list {
			if holder := holder(tx, r.Device.ID); holder != "" {
				return held(r.Device.Name, holder)
			}
			if _, err := store.Change[store.Device](tx, map[string]any{"hostname": "~" + r.Device.ID, "topic": "~" + r.Device.ID}, "id = ?", r.Device.ID); err != nil {
				return err
			}
		}
		for i, r := range list {
			d, err := store.One[store.Device](tx, "id = ?", r.Device.ID)
			if err != nil {
				return err
			}
			if d.Version != r.Device.Version {
				return stale("device", d.Name)
			}
			if holder := e.topicHolder(tx, d.BrokerID, r.To.Topic, d.ID); holder != "" {
				return problem.New(problem.Conflict, fmt.Sprintf("%s cannot have the topic %q: %s uses it, or one above or below it.", d.Name, r.To.Topic, holder),
					"A unit still speaks under its old topic.", "Apply the earlier rename first, then try again.")
			}
			before := r.Device
			d.Hostname, d.Topic, d.Label, d.Version, d.UpdatedAt = r.To.Hostname, r.To.Topic, r.To.Label, d.Version+1, e.Clock.Now()
			moveNames(before, &d)
			room := ""
			if d.RoomID != nil {
				if x, err := store.One[store.Room](tx, "id = ?", *d.RoomID); err == nil {
					room = x.Name
				}
			}
			d.Search = search(d, room)
			if err := store.Save(tx, &d); err != nil {
				return err
			}
			if _, err := store.NextRevision(tx, e.Clock.Now(), actor, "device "+d.ID); err != nil {
				return err
			}
			if d.Stage == string(inventory.Adopted) && d.Label != before.Label {
				if err := e.enqueueThing(tx, d); err != nil {
					return err
				}
			}
			if err := e.refresh(tx, d.ID); err != nil {
				return err
			}
			list[i].Device = d
			now := d
			tx.After(func() {
				e.ingest.put(now)
				if err := e.grantUnit(e.Store.Read(e.ctx), now); err != nil {
					e.Log.Error("bring the rights of a device up to date", "device", now.ID, "error", err)
				}
			})
			e.mark(tx, "device", d.ID)
			if err := e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "device", Text: fmt.Sprintf("%s was changed: %s.", d.Name, changed(before, d))}); err != nil {
				return err
			}
		}
		return nil
	})
	return list, err
}
