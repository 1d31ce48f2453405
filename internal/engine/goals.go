package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"fado/internal/core/firmware"
	"fado/internal/core/health"
	"fado/internal/core/problem"
	"fado/internal/core/task"
	"fado/internal/core/version"
	"fado/internal/store"
)

// Goals are the intended versions of many devices, read once.
type Goals struct {
	byScope map[string]store.Goal
	newest  map[string]string // by model and channel
}

// Goals reads what is intended for all devices.
func (e *Engine) Goals(tx *store.Tx) (Goals, error) {
	g := Goals{map[string]store.Goal{}, map[string]string{}}
	list, err := store.All[store.Goal](tx, "scope_id", "1 = 1")
	if err != nil {
		return g, fmt.Errorf("read the intended versions: %w", err)
	}
	channels := false
	for _, x := range list {
		g.byScope[x.Scope+"/"+x.ScopeID] = x
		channels = channels || x.Channel != ""
	}
	if !channels {
		return g, nil
	}
	images, err := store.All[store.Image](tx, "sequence", "withdrawn = '' AND step = 0 AND part = ?", string(firmware.Program))
	if err != nil {
		return g, fmt.Errorf("read the channels: %w", err)
	}
	for _, i := range images {
		for _, m := range SplitList(i.Models) {
			k := m + "/" + i.Channel
			if was, has := g.newest[k]; !has || version.CompareText(was, i.Version) == version.Less {
				g.newest[k] = i.Version
			}
		}
	}
	return g, nil
}

// Of is the goal of a device: its own, or that of its model at the site, or the
// site's. Where a channel is followed, its version is the newest there.
func (g Goals) Of(d store.Device) store.Goal {
	for _, k := range []string{"device/" + d.ID, "model/" + d.SiteID + "/" + d.Model, "site/" + d.SiteID} {
		x, ok := g.byScope[k]
		if !ok {
			continue
		}
		if x.Channel != "" {
			x.Version = g.newest[d.Model+"/"+x.Channel]
		}
		return x
	}
	return store.Goal{}
}

// goal is the intended firmware of a device.
func (e *Engine) goal(tx *store.Tx, d store.Device) (store.Goal, error) {
	g, err := e.Goals(tx)
	return g.Of(d), err
}

// Want is which firmware is intended, and for what: a device, a model at a site, or a
// site.
type Want struct {
	Site, Model, Device string
	Version, Channel    string // one of them; neither takes the goal away
}

// SetGoal says which firmware version is intended, or whose newest version.
func (e *Engine) SetGoal(ctx context.Context, actor string, w Want) error {
	scope, scopeID, what, siteID, deviceID := "", "", "", "", ""
	var f problem.Fields
	switch firmware.Channel(w.Channel) {
	case "", firmware.Stable, firmware.Preview, firmware.Nightly:
	default:
		f.Add("channel", "stable, preview or nightly", "stable")
	}
	if w.Channel != "" && w.Version != "" {
		f.Add("version", "is left out where a channel is followed", "")
	}
	if w.Device == "" && w.Site == "" {
		f.Add("device", "name a device, or a site, and a model at it where only that is meant", "terraco-relay-1")
	}
	if err := f.Err("Nothing was intended."); err != nil {
		return err
	}
	where, args := "id = ?", []any{}
	if w.Device != "" {
		d, err := e.FindDevice(ctx, w.Device)
		if err != nil {
			return err
		}
		scope, scopeID, what, siteID, deviceID = "device", d.ID, d.Name, d.SiteID, d.ID
		args = append(args, d.ID)
	} else {
		site, err := e.FindSite(ctx, w.Site)
		if err != nil {
			return err
		}
		siteID = site.ID
		if w.Model == "" {
			scope, scopeID, what, where, args = "site", site.ID, site.Name, "site_id = ?", append(args, site.ID)
		} else {
			if _, ok := e.Model(w.Model); !ok {
				return notFound("model", w.Model)
			}
			scope, scopeID, what = "model", site.ID+"/"+w.Model, fmt.Sprintf("%s at %s", w.Model, site.Name)
			where, args = "site_id = ? AND model = ?", append(args, site.ID, w.Model)
		}
	}
	if scope == "site" && w.Version != "" {
		f.Add("version", "a site has units of several models; follow a channel, or name the model", "--channel stable")
		return f.Err("Nothing was intended.")
	}
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		rev, err := store.NextRevision(tx, e.Clock.Now(), actor, "firmware of "+what)
		if err != nil {
			return err
		}
		text := fmt.Sprintf("Firmware %s is intended for %s.", w.Version, what)
		switch {
		case w.Channel != "":
			text = fmt.Sprintf("The newest firmware of the channel %s is intended for %s.", w.Channel, what)
			fallthrough
		case w.Version != "":
			err = store.Save(tx, &store.Goal{Scope: scope, ScopeID: scopeID, Version: w.Version, Channel: w.Channel, Actor: actor, At: e.Clock.Now(), Revision: rev})
		default:
			text = fmt.Sprintf("No firmware is intended for %s any more.", what)
			_, err = store.Delete[store.Goal](tx, "scope = ? AND scope_id = ?", scope, scopeID)
		}
		if err != nil {
			return err
		}
		if err := e.refreshAll(tx, where, args...); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, SiteID: siteID, DeviceID: deviceID, Kind: "firmware", Text: text})
	})
}

func (e *Engine) refreshAll(tx *store.Tx, where string, args ...any) error {
	list, err := store.All[store.Device](tx, "id", where, args...)
	if err != nil {
		return err
	}
	for _, d := range list {
		if err := e.refresh(tx, d.ID); err != nil {
			return err
		}
	}
	return nil
}

// followChannels judges anew the devices of models for which a channel is followed.
func (e *Engine) followChannels(tx *store.Tx, models []string) error {
	n, err := store.Count[store.Goal](tx, "channel <> ''")
	if err != nil || n == 0 {
		return err
	}
	return e.refreshAll(tx, "model IN ? AND stage <> 'retired'", models)
}

// Cell is how many devices of a model at a site run a version.
type Cell struct {
	Site, Model, Running, Standing string
	Devices                        int64
	Intended                       []string // of those devices
}

// Matrix tells which version runs where.
func (e *Engine) Matrix(ctx context.Context) ([]Cell, error) {
	tx := e.Store.Read(ctx)
	counts, err := store.VersionCounts(tx)
	if err != nil {
		return nil, fmt.Errorf("count versions: %w", err)
	}
	g, err := e.Goals(tx)
	if err != nil {
		return nil, err
	}
	sites, err := store.All[store.Site](tx, "id", "1 = 1")
	if err != nil {
		return nil, err
	}
	name := map[string]string{}
	for _, s := range sites {
		name[s.ID] = s.Key
	}
	out := []Cell{}
	for _, c := range counts {
		x := Cell{Site: name[c.SiteID], Model: c.Model, Running: c.Running, Standing: c.Standing, Devices: c.N}
		if v := g.Of(store.Device{SiteID: c.SiteID, Model: c.Model}).Version; v != "" {
			x.Intended = []string{v}
		}
		out = append(out, x)
	}
	slices.SortStableFunc(out, func(a, b Cell) int {
		newer := map[version.Order]int{version.Greater: -1, version.Less: 1}[version.CompareText(a.Running, b.Running)]
		return cmp.Or(cmp.Compare(a.Site, b.Site), cmp.Compare(a.Model, b.Model), newer, cmp.Compare(a.Running, b.Running))
	})
	return out, nil
}

// Gap is what lies between what a unit runs and what is intended.
type Gap struct {
	Running, Intended, Standing, Channel string
	Since                                *time.Time // when it fell behind
	Releases                             []store.Image
}

// GapOf tells by how much a device is behind: the versions in between, the newest
// first.
func (e *Engine) GapOf(ctx context.Context, d store.Device) (Gap, error) {
	tx := e.Store.Read(ctx)
	goal, err := e.goal(tx, d)
	if err != nil {
		return Gap{}, err
	}
	g := Gap{Running: d.Running, Intended: goal.Version, Channel: goal.Channel, Standing: string(version.Stand(d.Running, goal.Version)), Releases: []store.Image{}}
	if g.Standing != string(version.Behind) {
		return g, nil
	}
	list, err := store.All[store.Image](tx, "added_at", "instr(models, ?) > 0 AND step = 0 AND withdrawn = '' AND part = ?", ","+d.Model+",", string(firmware.Program))
	if err != nil {
		return g, err
	}
	for _, i := range list {
		s := version.Stand(i.Version, goal.Version)
		if version.CompareText(d.Running, i.Version) != version.Less || s != version.Current && s != version.Behind {
			continue
		}
		g.Releases = append(g.Releases, i)
	}
	slices.SortStableFunc(g.Releases, func(a, b store.Image) int {
		return map[version.Order]int{version.Greater: -1, version.Less: 1}[version.CompareText(a.Version, b.Version)]
	})
	// It is behind since a newer version was both here and intended.
	at := goal.At
	if goal.Channel != "" && len(g.Releases) > 0 {
		at = later(goal.At, g.Releases[len(g.Releases)-1].AddedAt)
	}
	g.Since = &at
	return g, nil
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// Updated is one update of a device, for its record.
type Updated struct {
	Task   store.Task
	State  task.State
	Health []health.Change // what changed from before it to after it
}

// UpdatesOf lists the updates of a device, the newest first.
func (e *Engine) UpdatesOf(ctx context.Context, d store.Device) ([]Updated, error) {
	list, err := store.Some[store.Task](e.Store.Read(ctx), 200, "id DESC", "device_id = ? AND kind = ?", d.ID, string(task.Update))
	if err != nil {
		return nil, err
	}
	out := make([]Updated, 0, len(list))
	for _, rec := range list {
		u := Updated{Task: rec}
		if err := json.Unmarshal([]byte(rec.State), &u.State); err != nil {
			return nil, fmt.Errorf("read the state of task %s: %w", rec.ID, err)
		}
		out = append(out, u)
	}
	for i := range out {
		if u := &out[i]; u.Task.EndedAt != nil {
			var since, until time.Time // no further than the updates beside it
			if i+1 < len(out) && out[i+1].Task.EndedAt != nil {
				since = *out[i+1].Task.EndedAt
			}
			if i > 0 {
				until = out[i-1].Task.CreatedAt
			}
			if u.Health, err = e.healthAround(ctx, d.ID, since, u.Task.CreatedAt, *u.Task.EndedAt, until); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}
