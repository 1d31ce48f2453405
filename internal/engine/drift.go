package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/store"
)

// Drift is one setting of one device that is not on its unit as intended.
type Drift struct {
	Device store.Device
	Line   Line
	Since  time.Time // when the difference began
	By     string    // who last changed what is intended
	At     time.Time
}

// driftAtOnce bounds how many devices are listed at a time.
const driftAtOnce = 500

// DriftList lists what differs, by device. total counts the devices that have a
// difference, whether or not they are listed.
func (e *Engine) DriftList(ctx context.Context, siteRef, deviceRef string) (list []Drift, total int64, err error) {
	where, args := "drift > 0", []any{}
	if siteRef != "" {
		site, err := e.FindSite(ctx, siteRef)
		if err != nil {
			return nil, 0, err
		}
		where, args = where+" AND site_id = ?", append(args, site.ID)
	}
	if deviceRef != "" {
		d, err := e.FindDevice(ctx, deviceRef)
		if err != nil {
			return nil, 0, err
		}
		where, args = where+" AND id = ?", append(args, d.ID)
	}
	tx := e.Store.Read(ctx)
	if total, err = store.Count[store.Device](tx, where, args...); err != nil {
		return nil, 0, err
	}
	devices, err := store.Some[store.Device](tx, driftAtOnce, "site_id, name", where, args...)
	if err != nil {
		return nil, 0, err
	}
	for _, d := range devices {
		lines, err := e.Lines(tx, d)
		if err != nil {
			return nil, 0, err
		}
		for _, l := range lines {
			if s := l.State(); s != settings.Differs && s != settings.NotHandedOver {
				continue
			}
			x := Drift{Device: d, Line: l}
			x.By, x.At = e.changedBy(tx, d, l)
			x.Since = x.At
			if l.Reported != nil && l.Reported.Since.After(x.Since) {
				x.Since = l.Reported.Since
			}
			list = append(list, x)
		}
	}
	return list, total, nil
}

// Differing lists the devices in service of a site, a model or a tag that have
// something to apply.
func (e *Engine) Differing(ctx context.Context, siteRef, model, tag string) ([]store.Device, error) {
	where, args := "drift > 0", []any{}
	if siteRef != "" {
		site, err := e.FindSite(ctx, siteRef)
		if err != nil {
			return nil, err
		}
		where, args = where+" AND site_id = ?", append(args, site.ID)
	}
	if model != "" {
		where, args = where+" AND model = ?", append(args, model)
	}
	if tag != "" {
		where, args = where+" AND instr(tags, ?) > 0", append(args, ","+tag+",")
	}
	return store.Some[store.Device](e.Store.Read(ctx), driftAtOnce, "site_id, name", where, args...)
}

// changedBy tells who last changed what is intended for a setting, and when.
func (e *Engine) changedBy(tx *store.Tx, d store.Device, l Line) (string, time.Time) {
	rows, err := store.All[store.Intended](tx, "revision DESC", "key = ? AND ((scope = 'device' AND scope_id = ?) OR (scope = 'model' AND scope_id = ?) OR (scope = 'site' AND scope_id = ?))",
		string(l.Key), d.ID, d.SiteID+"/"+d.Model, d.SiteID)
	if err == nil {
		for _, r := range rows {
			if r.Scope == l.Origin {
				return r.Actor, r.At
			}
		}
	}
	what := "device " + d.ID
	if l.Origin == "site" {
		site, err := store.One[store.Site](tx, "id = ?", d.SiteID)
		if err != nil {
			return "", time.Time{}
		}
		what = "site " + site.Key
		if (l.Key == settings.WifiSSID || l.Key == settings.WifiPassphrase) && site.NetworkID != nil {
			if n, err := store.One[store.Network](tx, "id = ?", *site.NetworkID); err == nil {
				what = "network " + n.SSID
			}
		}
	}
	revisions, err := store.Some[store.Revision](tx, 1, "id DESC", "what = ?", what)
	if err != nil || len(revisions) == 0 {
		return "", d.CreatedAt
	}
	return revisions[0].Actor, revisions[0].At
}

// ownNames are the settings that are a device's own names.
var ownNames = []settings.Key{settings.Hostname, settings.Topic, settings.Label}

// AcceptDrift makes what a unit reports the intended value, for some settings of
// one device. All or nothing.
func (e *Engine) AcceptDrift(ctx context.Context, actor, deviceRef string, keys []string) error {
	d, err := e.FindDevice(ctx, deviceRef)
	if err != nil {
		return err
	}
	lines, err := e.Lines(e.Store.Read(ctx), d)
	if err != nil {
		return err
	}
	var f problem.Fields
	changes := map[string]json.RawMessage{}
	var names DeviceEdit
	renamed := false
	for _, key := range keys {
		i := slices.IndexFunc(lines, func(l Line) bool { return string(l.Key) == key })
		switch {
		case i < 0:
			f.Add(key, "is not intended for this device", "")
			continue
		case lines[i].Reported == nil || lines[i].Reported.Value == nil:
			f.Add(key, "was not reported by the unit, so there is nothing to accept", "")
			continue
		}
		v := lines[i].Reported.Value
		if _, hidden := v.(secret.Secret); hidden {
			f.Add(key, "is a secret", "")
			continue
		}
		if slices.Contains(ownNames, lines[i].Key) {
			text := fmt.Sprint(v)
			renamed = true
			switch lines[i].Key {
			case settings.Hostname:
				names.Hostname = &text
			case settings.Topic:
				names.Topic = &text
			case settings.Label:
				names.Label = &text
			}
			continue
		}
		changes[key] = json.RawMessage(store.JSON(v))
	}
	if len(f) > 0 {
		return f.Err("Nothing was accepted.")
	}
	if len(changes) > 0 {
		if err := e.SetIntended(ctx, actor, "", "", d.ID, changes); err != nil {
			return err
		}
	}
	if renamed {
		if _, err := e.EditDevice(ctx, actor, d.ID, names); err != nil {
			return err
		}
	}
	return nil
}
