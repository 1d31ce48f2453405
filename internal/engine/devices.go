package engine

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fado/internal/core/check"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/task"
	"fado/internal/core/version"
	"fado/internal/store"
)

// DeviceEdit is what a person says of a device. A nil field is not changed; on
// creation it is made by the site's scheme, or empty.
type DeviceEdit struct {
	Name, Room, Model, HardwareID *string
	Hostname, Topic, Label        *string
	Tags                          *[]string
	SetUpCode                     *secret.Secret
	IfVersion                     int64 // 0: any
}

var tagRule = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N} _.-]{0,31}$`)

// FindDevice finds a device by id, or by hostname or hardware id when that is
// unambiguous.
func (e *Engine) FindDevice(ctx context.Context, ref string) (store.Device, error) {
	tx := e.Store.Read(ctx)
	d, err := store.One[store.Device](tx, "id = ?", ref)
	if err == nil {
		return d, nil
	}
	hw := ref
	if h, err := inventory.ParseHardwareID(ref); err == nil {
		hw = string(h)
	}
	list, err := store.Some[store.Device](tx, 2, "stage = 'retired', id", "hostname = ? OR hardware_id = ? OR topic = ?", ref, hw, ref)
	if err != nil {
		return d, err
	}
	switch {
	case len(list) == 0:
		return d, notFound("device", ref)
	case len(list) == 1 || list[1].Stage == string(inventory.Retired):
		return list[0], nil // what is retired has given its names back
	}
	return d, problem.New(problem.Conflict, fmt.Sprintf("%q names several devices.", ref), "Hostnames are unique within a site, not between sites.", "Use the device's id or topic.")
}

// around is what an edit is judged against: the site's rooms, and the names and
// units of other devices. A holder is the name of the device that has it, or "".
type around struct {
	hostname func(h, except string) bool
	topic    func(t, except string) (holder string)
	hardware func(h, except string) (holder string)
	given    map[naming.Names]int // see naming.Taken
	rooms    func() ([]store.Room, error)
}

// around asks the records each time.
func (e *Engine) around(tx *store.Tx, site store.Site) around {
	return around{
		hostname: func(h, except string) bool {
			n, _ := store.Count[store.Device](tx, "site_id = ? AND hostname = ? AND id <> ? AND stage <> 'retired'", site.ID, h, except)
			return n > 0
		},
		topic: func(t, except string) string { return e.topicHolder(tx, deref(site.BrokerID), t, except) },
		hardware: func(h, except string) string {
			other, _ := store.One[store.Device](tx, "hardware_id = ? AND id <> ? AND stage <> 'retired'", h, except)
			return other.Name
		},
		rooms: func() ([]store.Room, error) { return store.All[store.Room](tx, "name", "site_id = ?", site.ID) },
	}
}

func (a around) taken(except string) naming.Taken {
	return naming.Taken{
		Hostname: func(h string) bool { return a.hostname(h, except) },
		Topic:    func(t string) bool { return a.topic(t, except) != "" },
		Given:    a.given,
	}
}

// ProposeNames returns what the site's scheme calls a new device.
func (e *Engine) ProposeNames(tx *store.Tx, site store.Site, facts naming.Facts) (naming.Names, error) {
	return propose(site, facts, e.around(tx, site).taken(""))
}

func propose(site store.Site, facts naming.Facts, taken naming.Taken) (naming.Names, error) {
	facts.Site = site.Key
	return naming.Propose(naming.Scheme{Hostname: site.SchemeHostname, Topic: site.SchemeTopic, Label: site.SchemeLabel}, facts, taken)
}

// topicHolder names the device whose topic is t, or lies above or below it.
func (e *Engine) topicHolder(tx *store.Tx, brokerID, t, except string) string {
	candidates := []string{t}
	for i, r := range t {
		if r == '/' {
			candidates = append(candidates, t[:i])
		}
	}
	d, err := store.One[store.Device](tx, "broker_id = ? AND id <> ? AND stage <> 'retired' AND (topic IN ? OR (topic > ? AND topic < ?) OR live_topic IN ? OR (live_topic > ? AND live_topic < ?))",
		brokerID, except, candidates, t+"/", t+"0", candidates, t+"/", t+"0")
	if err != nil {
		return ""
	}
	return d.Name
}

// CreateDevice adds a device. Names that are not given come from the site's
// scheme; those that are given are judged, and refused with one that passes.
func (e *Engine) CreateDevice(ctx context.Context, actor, siteRef string, edit DeviceEdit) (d store.Device, err error) {
	return d, e.Store.Write(ctx, func(tx *store.Tx) error {
		site, err := findSite(tx, siteRef)
		if err != nil {
			return err
		}
		if d, err = e.create(tx, actor, site, e.around(tx, site), edit); err != nil {
			return err
		}
		_, err = store.NextRevision(tx, d.CreatedAt, actor, "device "+d.ID)
		return err
	})
}

func (e *Engine) create(tx *store.Tx, actor string, site store.Site, around around, edit DeviceEdit) (store.Device, error) {
	d, ev, err := e.judged(tx, actor, site, around, edit)
	if err != nil {
		return d, err
	}
	if err := store.Create(tx, &d); err != nil {
		return d, err
	}
	if err := e.refresh(tx, d.ID); err != nil {
		return d, err
	}
	e.tell(tx, d)
	return d, e.event(tx, ev)
}

// judged makes a new device and the event of its addition, and writes neither.
func (e *Engine) judged(tx *store.Tx, actor string, site store.Site, around around, edit DeviceEdit) (store.Device, store.Event, error) {
	d := store.Device{ID: store.NewID(), SiteID: site.ID, Stage: string(inventory.Listed), Presence: string(inventory.Unseen),
		Standing: string(version.Unknown), Tags: ",", CreatedAt: e.Clock.Now()}
	if site.BrokerID != nil {
		d.BrokerID = *site.BrokerID
	}
	err := e.applyEdit(tx, site, around, &d, edit)
	return d, store.Event{At: d.CreatedAt, Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "device", Text: fmt.Sprintf("%s was added as %s, topic %s.", d.Name, d.Hostname, d.Topic)}, err
}

// tell lets those who follow devices know of a new or changed one.
func (e *Engine) tell(tx *store.Tx, d store.Device) {
	tx.After(func() { e.ingest.put(d) })
	e.mark(tx, "device", d.ID)
}

// EditDevice changes a device. The unit of a device in service keeps its topic,
// hostname and label until a task hands it the new ones.
func (e *Engine) EditDevice(ctx context.Context, actor, ref string, edit DeviceEdit) (store.Device, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return d, err
	}
	if err := e.tasks.clear(ctx, d.ID); err != nil {
		return d, err
	}
	return d, e.Store.Write(ctx, func(tx *store.Tx) error {
		if d, err = store.One[store.Device](tx, "id = ?", d.ID); err != nil {
			return notFound("device", ref)
		}
		site, err := findSite(tx, d.SiteID)
		if err != nil {
			return err
		}
		if d, err = e.change(tx, actor, site, e.around(tx, site), d, edit); err != nil {
			return err
		}
		_, err = store.NextRevision(tx, e.Clock.Now(), actor, "device "+d.ID)
		return err
	})
}

func (e *Engine) change(tx *store.Tx, actor string, site store.Site, around around, d store.Device, edit DeviceEdit) (store.Device, error) {
	if edit.IfVersion != 0 && edit.IfVersion != d.Version {
		return d, stale("device", d.Name)
	}
	if holder := holder(tx, d.ID); holder != "" && (edit.Topic != nil || edit.HardwareID != nil || edit.Model != nil || edit.SetUpCode != nil) {
		return d, held(d.Name, holder)
	}
	before := d
	if err := e.applyEdit(tx, site, around, &d, edit); err != nil {
		return d, err
	}
	moveNames(before, &d)
	if err := store.Save(tx, &d); err != nil {
		return d, err
	}
	if d.Stage == string(inventory.Adopted) && (d.Label != before.Label || d.Name != before.Name || deref(d.RoomID) != deref(before.RoomID)) {
		if err := e.enqueueThing(tx, d); err != nil {
			return d, err
		}
	}
	if d.Stage != string(inventory.Listed) { // nothing of a listed one depends on what it is called
		if err := e.refresh(tx, d.ID); err != nil {
			return d, err
		}
		now := d
		tx.After(func() {
			if err := e.grantUnit(e.Store.Read(e.ctx), now); err != nil {
				e.Log.Error("bring the rights of a device up to date", "device", now.ID, "error", err)
			}
		})
	}
	e.tell(tx, d)
	return d, e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "device", Text: fmt.Sprintf("%s was changed: %s.", before.Name, changed(before, d))})
}

func changed(a, b store.Device) string {
	var out []string
	for _, c := range []struct{ what, from, to string }{
		{"name", a.Name, b.Name}, {"model", a.Model, b.Model}, {"hardware id", a.HardwareID, b.HardwareID}, {"hostname", a.Hostname, b.Hostname},
		{"topic", a.Topic, b.Topic}, {"label", a.Label, b.Label}, {"tags", a.Tags, b.Tags},
	} {
		if c.from != c.to {
			out = append(out, fmt.Sprintf("%s from «%s» to «%s»", c.what, strings.Trim(c.from, ","), strings.Trim(c.to, ",")))
		}
	}
	if a.RoomID == nil && b.RoomID != nil || a.RoomID != nil && b.RoomID != nil && *a.RoomID != *b.RoomID {
		out = append(out, "room")
	}
	if string(a.SetUpCode) != string(b.SetUpCode) {
		out = append(out, "set-up code")
	}
	if len(out) == 0 {
		return "nothing"
	}
	return strings.Join(out, ", ")
}

// applyEdit judges an edit as a whole; nothing is changed unless all of it
// holds.
func (e *Engine) applyEdit(tx *store.Tx, site store.Site, around around, d *store.Device, edit DeviceEdit) error {
	var f problem.Fields
	next := *d
	room := ""
	if edit.Name != nil {
		next.Name = strings.TrimSpace(*edit.Name)
	}
	if rule, passes := naming.CheckLabel(next.Name); rule != "" {
		f.Add("name", rule, passes)
	}
	if edit.Model != nil {
		next.Model = *edit.Model
	}
	model, known := e.Model(next.Model)
	if !known {
		names := []string{}
		for _, m := range e.Models() {
			names = append(names, m.Name)
		}
		f.Add("model", fmt.Sprintf("there is no model %q; there are %s", next.Model, strings.Join(names, ", ")), nearestOf(next.Model, names))
	}
	if edit.Room != nil && *edit.Room != "" {
		rooms, err := around.rooms()
		if err != nil {
			return err
		}
		i := slices.IndexFunc(rooms, func(r store.Room) bool { return r.ID == *edit.Room || r.Name == *edit.Room })
		if i < 0 {
			names := []string{}
			for _, x := range rooms {
				names = append(names, x.Name)
			}
			f.Add("room", fmt.Sprintf("%s has no room %q; its rooms are %s", site.Name, *edit.Room, strings.Join(names, ", ")), nearestOf(*edit.Room, names))
		} else {
			next.RoomID, room = &rooms[i].ID, rooms[i].Name
		}
	} else if edit.Room != nil {
		next.RoomID = nil
	} else if next.RoomID != nil {
		if r, err := store.One[store.Room](tx, "id = ?", *next.RoomID); err == nil {
			room = r.Name
		}
	}
	if edit.HardwareID != nil {
		next.HardwareID = ""
		if *edit.HardwareID != "" {
			h, err := inventory.ParseHardwareID(*edit.HardwareID)
			if err != nil {
				f.Add("hardware_id", err.Error(), "02:5A:11:00:00:07")
			} else if other := around.hardware(string(h), d.ID); other != "" {
				f.Add("hardware_id", fmt.Sprintf("%s is the hardware id of %s", h, other), "")
			} else if d.UnitID != nil && d.HardwareID != "" && string(h) != d.HardwareID && inventory.Stage(d.Stage).AtLeast(inventory.Joined) {
				f.Add("hardware_id", fmt.Sprintf("it is filled by %s, which is in service; another unit takes its place by «fado device replace»", d.HardwareID), d.HardwareID)
			} else {
				next.HardwareID, next.Ending = string(h), ""
			}
		}
	}
	if edit.Tags != nil {
		next.Tags = ","
		for _, t := range *edit.Tags {
			if !tagRule.MatchString(t) {
				f.Add("tags", fmt.Sprintf("%q: letters, digits, space, dot, hyphen and underscore, at most 32", t), "irrigation")
			}
			next.Tags += t + ","
		}
	}
	taken := around.taken(d.ID)
	if known && next.Hostname == "" {
		proposed, err := propose(site, naming.Facts{Room: room, Kind: model.Kind, Name: next.Name, HardwareID: next.HardwareID}, taken)
		if err != nil && (edit.Hostname == nil || edit.Topic == nil) {
			f.Add("name", err.Error(), "")
		}
		next.Hostname, next.Topic, next.Label = proposed.Hostname, proposed.Topic, proposed.Label
	}
	if edit.Hostname != nil && *edit.Hostname != "" {
		next.Hostname = *edit.Hostname
		if rule, passes := naming.CheckHostname(next.Hostname); rule != "" {
			f.Add("hostname", rule, naming.Free(passes, taken.Hostname))
		} else if taken.Hostname(next.Hostname) {
			f.Add("hostname", fmt.Sprintf("%q is taken at %s", next.Hostname, site.Name), naming.Free(next.Hostname, taken.Hostname))
		}
	}
	if edit.Topic != nil && *edit.Topic != "" {
		next.Topic = *edit.Topic
		if rule, passes := naming.CheckTopic(next.Topic); rule != "" {
			f.Add("topic", rule, naming.FreeTopic(passes, taken.Topic))
		} else if holder := around.topic(next.Topic, d.ID); holder != "" {
			f.Add("topic", fmt.Sprintf("%q is the topic of %s, or lies above or below it", next.Topic, holder), naming.FreeTopic(next.Topic, taken.Topic))
		}
	}
	if edit.Label != nil && *edit.Label != "" {
		next.Label = *edit.Label
		if rule, passes := naming.CheckLabel(next.Label); rule != "" {
			f.Add("label", rule, passes)
		}
	}
	if edit.SetUpCode != nil {
		checkCode(&f, *edit.SetUpCode)
		next.SetUpCode = e.seal("set-up code", d.ID, *edit.SetUpCode)
	}
	if len(f) > 0 {
		return f.Err("The device was not saved.")
	}
	next.Search = search(next, room)
	next.Version++
	next.UpdatedAt = e.Clock.Now()
	*d = next
	return nil
}

// checkCode judges the key that is printed on a unit; none is one, too.
func checkCode(f *problem.Fields, code secret.Secret) {
	if n := len(code.Expose()); n != 0 && (n < 8 || n > 63) {
		f.Add("set_up_code", "8 to 63 characters, as printed on the unit", "")
	}
}

func search(d store.Device, room string) string {
	return strings.ReplaceAll(naming.FoldSearch(strings.Join([]string{d.Name, room, d.Label, d.Hostname, d.Topic, d.Model, strings.ReplaceAll(d.Tags, ",", " "), d.HardwareID, strings.ReplaceAll(d.HardwareID, ":", "")}, " ")), "\n", " ")
}

// nearestOf is the name that was probably meant, or else the first.
func nearestOf(name string, all []string) string {
	if near := dialect.Nearest(name, all); near != "" || len(all) == 0 {
		return near
	}
	return all[0]
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func stale(what, name string) error {
	return problem.New(problem.Stale, fmt.Sprintf("The %s %s was changed by somebody else in the meantime.", what, name), "Two people edited it at once.", "Read it again, then repeat the change.")
}

// holder is the task that holds a device, or "". Checks give way, so they hold
// nothing.
func holder(tx *store.Tx, deviceID string) string {
	lease, err := store.One[store.Lease](tx, "device_id = ? AND task_id NOT IN (SELECT id FROM tasks WHERE kind = 'check')", deviceID)
	if err != nil {
		return ""
	}
	return lease.TaskID
}

func held(name, task string) error {
	return problem.New(problem.Conflict, fmt.Sprintf("%s is held by the task %s.", name, task), "A task is under way on this device.", "Wait for it, or cancel it with «fado task cancel "+task+"».")
}

func findSite(tx *store.Tx, ref string) (store.Site, error) {
	s, err := store.One[store.Site](tx, "id = ? OR key = ?", ref, ref)
	if errors.Is(err, store.ErrNone) {
		return s, notFound("site", ref)
	}
	return s, err
}

// FindSite finds a site by id or key.
func (e *Engine) FindSite(ctx context.Context, ref string) (store.Site, error) {
	return findSite(e.Store.Read(ctx), ref)
}

// RemoveDevice removes a device that was never in service.
func (e *Engine) RemoveDevice(ctx context.Context, actor, ref string) error {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return err
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if d, err = store.One[store.Device](tx, "id = ?", d.ID); err != nil {
			return notFound("device", ref)
		}
		if holder := holder(tx, d.ID); holder != "" {
			return held(d.Name, holder)
		}
		if d.Stage != string(inventory.Listed) {
			return problem.New(problem.Conflict, fmt.Sprintf("%s has been in service and is not removed.", d.Name), "Its history and its place in the hub hang on it.",
				"Reset it to «listed» with «fado device reset» first, if it really is to go.")
		}
		if d.KeepsPlace {
			if err := e.enqueueThing(tx, d); err != nil {
				return err
			}
		}
		if _, err := store.Delete[store.Device](tx, "id = ?", d.ID); err != nil {
			return err
		}
		e.mark(tx, "device", d.ID)
		return e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "device", Text: fmt.Sprintf("%s was removed from the list.", d.Name)})
	})
	if err == nil {
		e.ingest.remove(d.ID)
	}
	return err
}

// ResetDevice takes a device back to «listed»: its thing leaves the hub, its
// accounts are revoked and what it left on the broker is cleared.
func (e *Engine) ResetDevice(ctx context.Context, actor, ref string) (store.Device, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return d, err
	}
	if err := e.tasks.clear(ctx, d.ID); err != nil {
		return d, err
	}
	was := ""
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if d, err = store.One[store.Device](tx, "id = ?", d.ID); err != nil {
			return notFound("device", ref)
		}
		if holder := holder(tx, d.ID); holder != "" {
			return held(d.Name, holder)
		}
		at := e.Clock.Now()
		if d.Stage == string(inventory.Adopted) || d.KeepsPlace {
			if err := e.enqueueThing(tx, d); err != nil {
				return err
			}
		}
		d.KeepsPlace = false
		if d.UnitID != nil {
			if _, err := store.Change[store.Tenure](tx, map[string]any{"until": at}, "device_id = ? AND until IS NULL", d.ID); err != nil {
				return err
			}
		}
		if _, err := store.Change[store.Account](tx, map[string]any{"revoked_at": at, "sealed": nil}, "device_id = ? AND revoked_at IS NULL", d.ID); err != nil {
			return err
		}
		for _, del := range []func() (int64, error){
			func() (int64, error) { return store.Delete[store.Fact](tx, "device_id = ?", d.ID) },
			func() (int64, error) { return store.Delete[store.Check](tx, "device_id = ?", d.ID) },
		} {
			if _, err := del(); err != nil {
				return err
			}
		}
		was = d.TopicInUse()
		d.LiveTopic, d.Address, d.WokeAt, d.AwakeUntil = "", "", nil, nil
		d.Stage, d.Presence, d.UnitID, d.Running, d.Digest, d.Firmware, d.Version = string(inventory.Listed), string(inventory.Unseen), nil, "", "", "", d.Version+1
		if err := store.Save(tx, &d); err != nil {
			return err
		}
		if err := e.refresh(tx, d.ID); err != nil {
			return err
		}
		e.mark(tx, "device", d.ID)
		return e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "device", Text: fmt.Sprintf("%s was reset to «listed»: accounts revoked, out of the hub.", d.Name)})
	})
	if err != nil {
		return d, err
	}
	if err := e.loadAccounts(); err != nil {
		return d, err
	}
	e.clearRetained(ctx, d, was, true)
	e.ingest.put(d)
	return d, nil
}

// refresh works out again how a device's firmware stands and whether it needs a
// person.
func (e *Engine) refresh(tx *store.Tx, id string) error {
	d, err := store.One[store.Device](tx, "id = ?", id)
	if err != nil {
		return err
	}
	goal, err := e.goal(tx, d)
	if err != nil {
		return err
	}
	standing := string(version.Stand(d.Running, goal.Version))
	attention := ""
	last, err := store.Some[store.Task](tx, 1, "id DESC", "device_id = ? AND kind <> ?", d.ID, string(task.Check))
	if err != nil {
		return err
	}
	if len(last) > 0 {
		gone, err := store.Count[store.Tenure](tx, "device_id = ? AND until >= ?", d.ID, last[0].CreatedAt)
		if err != nil {
			return err
		}
		if gone > 0 {
			last = nil // it was of a unit that was taken out since
		}
	}
	drift, err := e.driftCount(tx, d)
	if err != nil {
		return err
	}
	failedChecks, err := store.Count[store.Check](tx, "device_id = ? AND holds = 0 AND name <> ?", d.ID, string(check.Version))
	if err != nil {
		return err
	}
	switch {
	case len(last) > 0 && last[0].Status == "failed":
		attention = "failed"
		if last[0].Outcome == "lost" {
			attention = "lost"
		}
	case failedChecks > 0:
		attention = "check"
	case d.Presence == string(inventory.Offline) && inventory.Stage(d.Stage).AtLeast(inventory.Joined):
		attention = "offline"
	case drift > 0:
		attention = "drift"
	case standing == string(version.Behind):
		attention = "behind"
	}
	if standing == d.Standing && attention == d.Attention && drift == d.Drift {
		return nil
	}
	_, err = store.Change[store.Device](tx, map[string]any{"standing": standing, "attention": attention, "drift": drift}, "id = ?", d.ID)
	e.mark(tx, "device", d.ID)
	return err
}
