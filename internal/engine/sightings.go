package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/task"
	"fado/internal/reach"
	"fado/internal/store"
	"fado/internal/wire"
)

// scanEvery is how often the radio lists access points by itself.
const scanEvery = 10 * time.Second

func (e *Engine) scanLoop(ctx context.Context) {
	if e.radio == nil {
		return
	}
	for {
		if _, err := e.Scan(ctx); err != nil && ctx.Err() == nil {
			e.Log.Debug("scan", "error", err)
		}
		if e.Clock.Sleep(ctx, scanEvery) != nil {
			return
		}
	}
}

// Scan lists the access points that the radio hears and keeps those of known
// dialects as sightings. It returns what is on the air now.
func (e *Engine) Scan(ctx context.Context) ([]store.Sighting, error) {
	if e.radio == nil {
		return nil, problem.New(problem.Unavailable, "No radio is set up, so no access points can be listed.", "The service runs without a radio.", "Set «radio» in the configuration file and start the service again.")
	}
	list, err := e.radio.Scan(ctx)
	if err != nil {
		return nil, problem.New(problem.Unavailable, "The radio did not answer.", "It is switched off or busy.", "See that the radio works, then scan again.").Because(err)
	}
	now := e.Clock.Now()
	on := []store.Sighting{}
	units := map[string]int{} // on the air, by the name that carries their id
	for _, ap := range list {
		units[ap.Name]++
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		seen := map[string]bool{}
		for _, ap := range list {
			d, digits, ok := e.recognise(ap)
			if !ok {
				continue
			}
			id := "radio/" + ap.Name
			if seen[id] {
				continue
			}
			seen[id] = true
			s, err := store.One[store.Sighting](tx, "id = ?", id)
			fresh := isNone(err)
			if err != nil && !fresh {
				return err
			}
			if fresh {
				s = store.Sighting{ID: id, Source: "radio", Name: ap.Name, FirstSeen: now}
			}
			back, alone := s.Gone, !s.Twice
			s.Twice = units[ap.Name] > 1
			s.Dialect, s.Digits, s.Signal, s.LastSeen, s.Gone = d.Name, digits, ap.Signal, now, false
			if len(digits) == 12 {
				if h, err := inventory.ParseHardwareID(digits); err == nil {
					s.HardwareID = string(h)
				}
			}
			owner := s.DeviceID
			s.DeviceID = e.ownerOf(tx, digits, "")
			if err := store.Save(tx, &s); err != nil {
				return err
			}
			on = append(on, s)
			if fresh || back || owner != s.DeviceID || alone == s.Twice {
				e.mark(tx, "sighting", s.ID)
			}
			if alone && s.Twice {
				if err := e.event(tx, store.Event{Actor: "radio", DeviceID: s.DeviceID, Kind: "sighting", Text: fmt.Sprintf("Two units are on the air as %s. Both are held until one of them is unplugged.", s.Name)}); err != nil {
					return err
				}
			}
			if fresh {
				if err := e.event(tx, store.Event{Actor: "radio", DeviceID: s.DeviceID, Kind: "sighting", Text: fmt.Sprintf("The access point %s is on the air (%d dBm).", s.Name, s.Signal)}); err != nil {
					return err
				}
			}
		}
		old, err := store.All[store.Sighting](tx, "id", "source = 'radio' AND gone = 0")
		if err != nil {
			return err
		}
		for _, s := range old {
			if seen[s.ID] {
				continue
			}
			if _, err := store.Change[store.Sighting](tx, map[string]any{"gone": true}, "id = ?", s.ID); err != nil {
				return err
			}
			e.mark(tx, "sighting", s.ID)
		}
		return nil
	})
	return on, err
}

// recognise finds the dialect whose access points are named like this one.
func (e *Engine) recognise(ap reach.AccessPoint) (*dialect.Dialect, string, bool) {
	for _, d := range e.Dialects() {
		if digits, ok := d.MatchAccessPoint(ap.Name); ok {
			return d, digits, true
		}
	}
	return nil, "", false
}

// ownerOf finds the one device whose hardware id ends with these digits, at a site
// or at any.
func (e *Engine) ownerOf(tx *store.Tx, digits, siteID string) string {
	if h, err := inventory.ParseHardwareID(digits); err == nil {
		d, _ := store.One[store.Device](tx, "hardware_id = ? AND stage <> 'retired'", string(h))
		return d.ID
	}
	pairs := make([]string, 0, 6)
	for i := 0; i+1 < len(digits); i += 2 {
		pairs = append(pairs, strings.ToUpper(digits[i:i+2]))
	}
	list, err := store.Some[store.Device](tx, 2, "id", "(hardware_id LIKE ? OR hardware_id = '' AND ending = ?) AND stage <> 'retired' AND (? = '' OR site_id = ?)", "%"+strings.Join(pairs, ":"), digits, siteID, siteID)
	if err != nil || len(list) != 1 {
		return ""
	}
	return list[0].ID
}

// Sightings lists what was seen, the newest first.
func (e *Engine) Sightings(ctx context.Context, all bool) ([]store.Sighting, error) {
	where := "gone = 0 AND ignored = 0 AND (source = 'radio' OR device_id = '' OR source = 'broker' OR device_id IN (SELECT id FROM devices WHERE stage IN ('listed','contacted')))"
	if all {
		where = "1 = 1"
	}
	return store.Some[store.Sighting](e.Store.Read(ctx), 500, "gone, ignored, name", where)
}

// OnBench lists the devices whose units are in set-up mode here, that are not in
// service, and that no task works on.
func (e *Engine) OnBench(ctx context.Context, siteRef string) ([]store.Device, error) {
	tx := e.Store.Read(ctx)
	siteID := ""
	if siteRef != "" {
		site, err := findSite(tx, siteRef)
		if err != nil {
			return nil, err
		}
		siteID = site.ID
	}
	return store.All[store.Device](tx, "name", `(? = '' OR site_id = ?) AND stage NOT IN ('adopted','retired')
		AND id IN (SELECT device_id FROM sightings WHERE source = 'radio' AND gone = 0 AND ignored = 0) AND id NOT IN (SELECT device_id FROM tasks WHERE status IN ('queued','running','waiting'))`, siteID, siteID)
}

// CommissionOrRetry takes up the device's last commissioning when that failed or
// was cancelled, else it starts one.
func (e *Engine) CommissionOrRetry(ctx context.Context, actor string, d store.Device, prepared bool) (store.Task, error) {
	if n, err := store.Count[store.Sighting](e.Store.Read(ctx), "device_id = ? AND source = 'radio' AND gone = 0 AND twice = 1", d.ID); err != nil || n > 0 {
		return store.Task{}, cmp.Or(err, error(problem.New(problem.Conflict, fmt.Sprintf("Two units are on the air with the hardware id of %s, so both are held.", d.Name), "One of them is a copy, or two labels were mixed up.",
			"Unplug the one that is not meant, then start again.")))
	}
	list, err := store.Some[store.Task](e.Store.Read(ctx), 1, "id DESC", "device_id = ? AND kind = ?", d.ID, string(task.Commission))
	if err != nil {
		return store.Task{}, err
	}
	if len(list) > 0 && (list[0].Status == string(task.Failed) || list[0].Status == string(task.Cancelled)) {
		return e.Retry(ctx, actor, list[0].ID)
	}
	return e.Commission(ctx, actor, d.ID, prepared)
}

// Claim matches a sighting to a device, or to a new one that is made of it. The
// device takes the hardware id that was seen; of an id that was seen in part it
// keeps that part, until its unit identifies itself.
func (e *Engine) Claim(ctx context.Context, actor string, in wire.Claim) (store.Device, error) {
	s, err := store.One[store.Sighting](e.Store.Read(ctx), "id = ? OR name = ?", in.Sighting, in.Sighting)
	if err != nil {
		return store.Device{}, notFound("sighting", in.Sighting)
	}
	if (in.New == nil) == (in.Device == "") {
		var f problem.Fields
		f.Add("device", "a device that is listed, or what a new one is to be", "")
		return store.Device{}, f.Err("The sighting was not matched.")
	}
	if s.DeviceID != "" {
		if d, err := store.One[store.Device](e.Store.Read(ctx), "id = ?", s.DeviceID); err == nil && d.ID != in.Device {
			return d, problem.New(problem.Conflict, fmt.Sprintf("%s is the unit of %s already.", s.Name, d.Name), "It was matched before.", "If it is to fill another device, take its hardware id off this one first with «fado device edit "+d.Hostname+" --hardware-id \"\"».")
		}
	}
	if in.New != nil {
		return e.claimNew(ctx, actor, s, *in.New)
	}
	d, err := e.FindDevice(ctx, in.Device)
	if err != nil {
		return d, err
	}
	if m, ok := e.Model(d.Model); ok && m.Dialect != s.Dialect {
		return d, problem.New(problem.Conflict, fmt.Sprintf("%s is a %s, which speaks %s; the unit behind %s speaks %s.", d.Name, d.Model, m.Dialect, s.Name, s.Dialect), "Another unit was meant.",
			"Choose a device whose model speaks "+s.Dialect+", or correct the device's model.")
	}
	if d.HardwareID != "" && d.HardwareID != s.HardwareID && !inventory.HardwareID(d.HardwareID).EndsWith(s.Digits) {
		return d, problem.New(problem.Conflict, fmt.Sprintf("%s is recorded with the unit %s already.", d.Name, d.HardwareID), "Another unit was meant, or the old one was swapped.",
			"If the unit was swapped, say so with «fado device replace "+d.Hostname+"».")
	}
	if s.HardwareID == "" {
		return e.claimEnding(ctx, actor, s, d)
	}
	if d, err = e.EditDevice(ctx, actor, d.ID, DeviceEdit{HardwareID: &s.HardwareID}); err != nil {
		return d, err
	}
	return d, e.match(ctx, s, d)
}

func (e *Engine) claimNew(ctx context.Context, actor string, s store.Sighting, n wire.NewDevice) (store.Device, error) {
	if m, ok := e.Model(n.Model); ok && m.Dialect != s.Dialect {
		var f problem.Fields
		f.Add("model", fmt.Sprintf("a %s speaks %s; this unit speaks %s", n.Model, m.Dialect, s.Dialect), "")
		return store.Device{}, f.Err("No device was made of the sighting.")
	}
	edit := DeviceEdit{Name: &n.Name, Model: &n.Model}
	if n.Room != "" {
		edit.Room = &n.Room
	}
	if s.HardwareID != "" {
		edit.HardwareID = &s.HardwareID
	}
	d, err := e.CreateDevice(ctx, actor, n.Site, edit)
	if err != nil {
		return d, err
	}
	if s.HardwareID == "" {
		return e.claimEnding(ctx, actor, s, d)
	}
	return d, e.match(ctx, s, d)
}

// claimEnding notes the part of a hardware id that was seen.
func (e *Engine) claimEnding(ctx context.Context, actor string, s store.Sighting, d store.Device) (store.Device, error) {
	if d.HardwareID != "" {
		return d, e.match(ctx, s, d) // it ends like that
	}
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		if other, err := store.One[store.Device](tx, "ending = ? AND hardware_id = '' AND id <> ? AND stage <> 'retired'", s.Digits, d.ID); err == nil {
			return problem.New(problem.Conflict, fmt.Sprintf("…%s is matched to %s already.", strings.ToUpper(s.Digits), other.Name), "It was matched before.", "Read the whole hardware id on the unit and set it with «fado device edit».")
		}
		if _, err := store.Change[store.Device](tx, map[string]any{"ending": s.Digits}, "id = ?", d.ID); err != nil {
			return err
		}
		d.Ending = s.Digits
		e.mark(tx, "device", d.ID)
		return e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "device", Text: fmt.Sprintf("%s is to be filled by the unit …%s; which it is, it says itself when it is commissioned.", d.Name, strings.ToUpper(s.Digits))})
	})
	if err != nil {
		return d, err
	}
	return d, e.match(ctx, s, d)
}

// match notes at a sighting whose unit it is.
func (e *Engine) match(ctx context.Context, s store.Sighting, d store.Device) error {
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		_, err := store.Change[store.Sighting](tx, map[string]any{"device_id": d.ID}, "id = ?", s.ID)
		e.mark(tx, "sighting", s.ID)
		return err
	})
}

// holderOf is the other device that is recorded with a unit, or "".
func (e *Engine) holderOf(ctx context.Context, d store.Device, hardwareID string) string {
	other, err := store.One[store.Device](e.Store.Read(ctx), "hardware_id = ? AND id <> ? AND stage <> 'retired'", hardwareID, d.ID)
	if err != nil {
		return ""
	}
	return other.Name
}

// pointName is what the access point of a device's unit is called.
func (e *Engine) pointName(d store.Device, dl *dialect.Dialect) string {
	if d.HardwareID == "" {
		return strings.NewReplacer("{last6}", d.Ending, "{digits}", "…"+d.Ending).Replace(dl.SetUp.AccessPoint.Name)
	}
	return dl.AccessPointName(inventory.HardwareID(d.HardwareID).Digits())
}

// fills reports whether a unit that shows these digits of its hardware id may be
// the one that a device is recorded with.
func fills(d store.Device, digits string) bool {
	if d.HardwareID == "" {
		return d.Ending != "" && strings.HasSuffix(digits, d.Ending)
	}
	return inventory.HardwareID(d.HardwareID).EndsWith(digits)
}

// Ignore hides a sighting, or shows it again.
func (e *Engine) Ignore(ctx context.Context, actor, sighting string, hide bool) error {
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		n, err := store.Change[store.Sighting](tx, map[string]any{"ignored": hide}, "id = ? OR name = ?", sighting, sighting)
		if err != nil {
			return err
		}
		if n == 0 {
			return notFound("sighting", sighting)
		}
		e.mark(tx, "sighting", sighting)
		return e.event(tx, store.Event{Actor: actor, Kind: "sighting", Text: fmt.Sprintf("%s: ignored %v.", sighting, hide)})
	})
}

// accessPoint finds the access point of a device's unit on the air, and its
// dialect.
func (e *Engine) accessPoint(ctx context.Context, d store.Device, dl *dialect.Dialect) (reach.AccessPoint, string, map[string]string) {
	if e.radio == nil {
		return reach.AccessPoint{}, "no_radio", nil
	}
	list, err := e.radio.Recent(ctx)
	if err != nil {
		return reach.AccessPoint{}, "radio_down", map[string]string{"detail": reason(err)}
	}
	var found []reach.AccessPoint
	for _, ap := range list {
		if digits, ok := dl.MatchAccessPoint(ap.Name); ok && fills(d, digits) {
			found = append(found, ap)
		}
	}
	switch len(found) {
	case 0:
		return reach.AccessPoint{}, "not_seen", nil
	case 1:
		return found[0], "", nil
	}
	return reach.AccessPoint{}, "twice", nil
}

// lookOut is how long an access point is looked out for before its task is told
// that it is not there.
const lookOut = 15 * time.Second

// awaitAccessPoint is accessPoint, and when nothing is on the air looks out for a
// while.
func (e *Engine) awaitAccessPoint(ctx context.Context, d store.Device, dl *dialect.Dialect) (reach.AccessPoint, string, map[string]string) {
	until := e.Clock.Now().Add(lookOut)
	for {
		ap, code, facts := e.accessPoint(ctx, d, dl)
		if code != "not_seen" || !e.Clock.Now().Before(until) || e.Clock.Sleep(ctx, 2*time.Second) != nil {
			return ap, code, facts
		}
	}
}

// reason is the last part of an error, for a sentence.
func reason(err error) string {
	var status *reach.StatusError
	if errors.As(err, &status) {
		return status.Error()
	}
	s := err.Error()
	if i := strings.LastIndex(s, ": "); i >= 0 {
		return s[i+2:]
	}
	return s
}
