package api

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"fado/internal/core/check"
	"fado/internal/core/dialect"
	"fado/internal/core/firmware"
	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/engine"
	"fado/internal/store"
	"fado/internal/wire"
)

func randomText() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

func (s *server) site(ctx context.Context, x store.Site) (wire.Site, error) {
	tx := s.Store.Read(ctx)
	w := wire.Site{ID: x.ID, Key: x.Key, Name: x.Name, Zone: x.Zone, Reach: x.Reach, Scheme: naming.Scheme{Hostname: x.SchemeHostname, Topic: x.SchemeTopic, Label: x.SchemeLabel},
		DownloadAddress: x.DownloadAddress, DownloadProof: x.DownloadProof, DownloadKiB: x.DownloadKiB, AllowUnsigned: x.AllowUnsigned, AllowDowngrade: x.AllowDowngrade, AllowRisky: x.AllowRisky, Baseline: x.Baseline, Proxy: x.Proxy,
		NameServer: x.NameServer, Domain: x.Domain, Range: x.Range, Reserved: engine.SplitList(x.Reserved),
		Version: x.Version, Rooms: []wire.Room{}}
	rooms, err := store.All[store.Room](tx, "name", "site_id = ?", x.ID)
	if err != nil {
		return w, err
	}
	for _, r := range rooms {
		w.Rooms = append(w.Rooms, wire.Room{ID: r.ID, Name: r.Name})
	}
	if x.NetworkID != nil {
		n, err := store.One[store.Network](tx, "id = ?", *x.NetworkID)
		if err != nil {
			return w, err
		}
		w.NetworkID, w.Network = n.ID, n.SSID
	}
	if x.BrokerID != nil {
		b, err := store.One[store.Broker](tx, "id = ?", *x.BrokerID)
		if err != nil {
			return w, err
		}
		w.BrokerID, w.Broker = b.ID, b.Name
	}
	if x.HubID != nil {
		h, err := store.One[store.Hub](tx, "id = ?", *x.HubID)
		if err != nil {
			return w, err
		}
		w.HubID, w.Hub = h.ID, h.Name
	}
	w.Devices, err = store.Count[store.Device](tx, "site_id = ? AND stage <> 'retired'", x.ID)
	return w, err
}

// names looks up what lists of devices repeat, once a page.
type names struct {
	sites, rooms map[string]string
	goals        engine.Goals
}

func (s *server) names(ctx context.Context) (names, error) {
	tx := s.Store.Read(ctx)
	n := names{sites: map[string]string{}, rooms: map[string]string{}}
	sites, err := store.All[store.Site](tx, "id", "1 = 1")
	if err != nil {
		return n, err
	}
	for _, x := range sites {
		n.sites[x.ID] = x.Key
	}
	rooms, err := store.All[store.Room](tx, "id", "1 = 1")
	if err != nil {
		return n, err
	}
	for _, x := range rooms {
		n.rooms[x.ID] = x.Name
	}
	n.goals, err = s.Goals(tx)
	return n, err
}

func (n names) device(d store.Device) wire.Device {
	w := wire.Device{ID: d.ID, SiteID: d.SiteID, Site: n.sites[d.SiteID], Name: d.Name, Model: d.Model, Tags: engine.SplitList(d.Tags), HardwareID: d.HardwareID, Ending: strings.ToUpper(d.Ending),
		Hostname: d.Hostname, Topic: d.Topic, Label: d.Label, HasCode: len(d.SetUpCode) > 0, Stage: inventory.Stage(d.Stage), Presence: inventory.Presence(d.Presence),
		Firmware: d.Firmware, Running: d.Running, Digest: d.Digest, Standing: d.Standing, Attention: d.Attention, Drift: d.Drift, Address: d.Address, LiveTopic: d.LiveTopic, AwakeUntil: d.AwakeUntil, Version: d.Version, UpdatedAt: d.UpdatedAt}
	if d.RoomID != nil {
		w.Room = n.rooms[*d.RoomID]
	}
	w.Intended = n.goals.Of(d).Version
	return w
}

func (s *server) devicePage(ctx context.Context, in *deviceQuery) (wire.DevicePage, error) {
	f := store.DeviceFilter{Model: in.Model, Stage: in.Stage, Presence: in.Presence, Standing: in.Standing, Tag: in.Tag, Attention: in.Attention,
		Search: naming.FoldSearch(in.Search)}
	p := wire.DevicePage{Devices: []wire.Device{}}
	if in.Site != "" {
		site, err := s.FindSite(ctx, in.Site)
		if err != nil {
			return p, err
		}
		f.SiteID = site.ID
	}
	if in.Room != "" {
		r, err := store.One[store.Room](s.Store.Read(ctx), "(id = ? OR name = ?) AND (? = '' OR site_id = ?)", in.Room, in.Room, f.SiteID, f.SiteID)
		if err != nil {
			return p, problem.New(problem.NotFound, fmt.Sprintf("There is no room %q.", in.Room), "It was misspelt.", "«fado site show» lists a site's rooms.")
		}
		f.RoomID = r.ID
	}
	var afterName, afterID string
	if in.After != "" {
		b, err := base64.RawURLEncoding.DecodeString(in.After)
		name, id, ok := strings.Cut(string(b), "\x00")
		if err != nil || !ok {
			var bad problem.Fields
			bad.Add("after", "the cursor that the page before gave as next", "")
			return p, bad.Err("The page cannot be found.")
		}
		afterName, afterID = name, id
	}
	list, total, err := store.Devices(s.Store.Read(ctx), f, afterName, afterID, in.Limit)
	if err != nil {
		return p, err
	}
	n, err := s.names(ctx)
	if err != nil {
		return p, err
	}
	p.Total = total
	for _, d := range list {
		p.Devices = append(p.Devices, n.device(d))
	}
	if len(list) == in.Limit {
		last := list[len(list)-1]
		p.Next = base64.RawURLEncoding.EncodeToString([]byte(last.Name + "\x00" + last.ID))
	}
	return p, nil
}

// deviceWhole is a device with all that its page shows.
func (s *server) deviceWhole(ctx context.Context, d store.Device) (wire.Device, error) {
	tx := s.Store.Read(ctx)
	d, err := store.One[store.Device](tx, "id = ?", d.ID)
	if err != nil {
		return wire.Device{}, err
	}
	n, err := s.names(ctx)
	if err != nil {
		return wire.Device{}, err
	}
	w := n.device(d)
	model, known := s.Model(d.Model)
	if known {
		w.ModelDetail = &model
	}
	if w.Checks, err = s.ChecksOf(ctx, d.ID); err != nil {
		return w, err
	}
	w.SignOff = check.Stand(w.Checks)
	if w.Units, err = s.unitsOf(tx, d.ID); err != nil {
		return w, err
	}
	// Checks that are over have their own place.
	last, err := store.Some[store.Task](tx, 1, "status IN ('queued','running','waiting') DESC, id DESC", "device_id = ? AND (kind <> ? OR status IN ('queued','running','waiting'))", d.ID, string(task.Check))
	if err != nil {
		return w, err
	}
	if len(last) > 0 {
		t, err := s.asTask(ctx, last[0])
		if err != nil {
			return w, err
		}
		w.Task = &t
	}
	w.BootSeconds = s.BootUsual(ctx, model)
	if dl, ok := s.Dialect(model.Dialect); ok {
		messages, err := s.Messages(ctx, d.ID)
		if err != nil {
			return w, err
		}
		w.State = map[string]wire.Reported{}
		for _, m := range messages {
			kind, facts, ok := dl.Decode(d.TopicInUse(), d.TopicInUse()+m.Topic, m.Payload)
			if !ok || kind != dialect.State {
				continue
			}
			for name, v := range dialect.States(facts, model) {
				w.State[name] = wire.Reported{Value: v, At: m.At, Live: !m.Retained}
			}
		}
	}
	return w, nil
}

func show(v any) any {
	if s, ok := v.(secret.Secret); ok {
		if s.IsZero() {
			return secret.Mask // handed over and proven; no longer kept
		}
		return s.String()
	}
	return v
}

func asSettings(lines []engine.Line) []wire.Setting {
	out := []wire.Setting{}
	for _, l := range lines {
		spec, _ := settings.Lookup(l.Key)
		w := wire.Setting{Key: string(l.Key), Title: spec.Title, State: string(l.State()), Intended: show(l.Intended), Origin: l.Origin}
		if l.HandedOver != nil {
			w.HandedOver = &l.HandedOver.At
		}
		if l.Reported != nil {
			w.Reported, w.ReportedAt = l.Reported.Value, &l.Reported.At
			if !l.Reported.Since.IsZero() {
				w.Since = &l.Reported.Since
			}
		}
		if l.Proof != nil {
			w.Proof, w.ProofAt = l.Proof.By, &l.Proof.At
		}
		out = append(out, w)
	}
	return out
}

func (s *server) asTask(ctx context.Context, rec store.Task) (wire.Task, error) {
	list, err := s.asTasks(ctx, []store.Task{rec})
	if err != nil {
		return wire.Task{}, err
	}
	return list[0], nil
}

func (s *server) asTasks(ctx context.Context, recs []store.Task) ([]wire.Task, error) {
	out := []wire.Task{}
	devices := map[string]store.Device{}
	for _, rec := range recs {
		d, seen := devices[rec.DeviceID]
		if !seen {
			var err error
			if d, err = store.One[store.Device](s.Store.Read(ctx), "id = ?", rec.DeviceID); err != nil {
				d = store.Device{Name: "(removed)"}
			}
			devices[rec.DeviceID] = d
		}
		var st task.State
		if err := json.Unmarshal([]byte(rec.State), &st); err != nil {
			return nil, fmt.Errorf("read the task %s: %w", rec.ID, err)
		}
		out = append(out, wire.Task{ID: rec.ID, DeviceID: rec.DeviceID, Device: d.Name, Hostname: d.Hostname, Kind: st.Kind, Status: st.Status, Actor: rec.Actor, Attempt: st.Attempt,
			Steps: st.Steps, Wait: st.Wait, Failure: st.Failure, Checks: st.Checks, Update: st.Update, Revision: rec.Revision,
			CreatedAt: rec.CreatedAt, UpdatedAt: rec.UpdatedAt, EndedAt: rec.EndedAt})
	}
	return out, nil
}

func (s *server) asSightings(ctx context.Context, list []store.Sighting) []wire.Sighting {
	out := []wire.Sighting{}
	for _, x := range list {
		w := wire.Sighting{ID: x.ID, Source: x.Source, Name: x.Name, Dialect: x.Dialect, HardwareID: x.HardwareID, Signal: x.Signal, Twice: x.Twice, DeviceID: x.DeviceID, Address: x.Address, Version: x.Version,
			Ignored: x.Ignored, Gone: x.Gone, FirstSeen: x.FirstSeen, LastSeen: x.LastSeen}
		if d, err := store.One[store.Device](s.Store.Read(ctx), "id = ?", x.DeviceID); err == nil {
			w.Device, w.Model, w.Stage = d.Name, d.Model, d.Stage
			if site, err := s.FindSite(ctx, d.SiteID); err == nil {
				w.Site = site.Key
			}
		}
		if site, err := s.FindSite(ctx, x.SiteID); err == nil && w.Site == "" {
			w.Site = site.Key
		}
		if x.HardwareID == "" {
			w.Ending = strings.ToUpper(x.Digits)
		}
		out = append(out, w)
	}
	return out
}

func asImage(i store.Image) wire.Image {
	return wire.Image{SHA256: i.SHA256, Firmware: i.Firmware, Version: i.Version, Channel: firmware.Channel(i.Channel), Part: firmware.Part(i.Part), Models: engine.SplitList(i.Models),
		Chip: i.Chip, Size: i.Size, NeedsKiB: i.NeedsKiB, OldestFrom: i.OldestFrom, Step: i.Step, Says: says(i), Brought: i.Brought, Notes: i.Notes, Sequence: i.Sequence, SignedBy: i.SignedBy,
		Withdrawn: i.Withdrawn, AddedAt: i.AddedAt, AddedBy: i.AddedBy}
}

func says(i store.Image) *firmware.Says {
	var x firmware.Says
	if i.Says == "" || json.Unmarshal([]byte(i.Says), &x) != nil {
		return nil
	}
	return &x
}

func (s *server) fits(ctx context.Context, ref, device string) ([]wire.Fit, error) {
	img, err := s.FindImage(ctx, ref)
	if err != nil {
		return nil, err
	}
	var list []store.Device
	if device != "" {
		d, err := s.FindDevice(ctx, device)
		if err != nil {
			return nil, err
		}
		list = append(list, d)
	} else if list, err = store.SlimDevices(s.Store.Read(ctx), "model IN ? AND stage <> 'retired'", engine.SplitList(img.Models)); err != nil {
		return nil, err
	}
	out := []wire.Fit{}
	verdicts, err := s.FitMany(ctx, list, img)
	for i, v := range verdicts {
		out = append(out, wire.Fit{Device: list[i].Name, Hostname: list[i].Hostname, Image: img.SHA256, Version: img.Version, Verdict: v})
	}
	return out, err
}

// fitsDevice judges all images of a device's model, the newest first.
func (s *server) fitsDevice(ctx context.Context, ref string) ([]wire.Fit, error) {
	d, err := s.FindDevice(ctx, ref)
	if err != nil {
		return nil, err
	}
	list, err := store.All[store.Image](s.Store.Read(ctx), "sequence DESC", "instr(models, ?) > 0", ","+d.Model+",")
	if err != nil {
		return nil, err
	}
	out := []wire.Fit{}
	for _, img := range list {
		v, err := s.FitMany(ctx, []store.Device{d}, img)
		if err != nil {
			return nil, err
		}
		out = append(out, wire.Fit{Device: d.Name, Hostname: d.Hostname, Image: img.SHA256, Version: img.Version, Verdict: v[0]})
	}
	return out, nil
}

func (s *server) events(ctx context.Context, deviceRef, siteRef, taskID string, before int64, limit int) (wire.EventPage, error) {
	p := wire.EventPage{Events: []wire.Event{}}
	device, site := "", ""
	if deviceRef != "" {
		d, err := s.FindDevice(ctx, deviceRef)
		if err != nil {
			return p, err
		}
		device = d.ID
	}
	if siteRef != "" {
		x, err := s.FindSite(ctx, siteRef)
		if err != nil {
			return p, err
		}
		site = x.ID
	}
	where, args := "1 = 1", []any{}
	for column, v := range map[string]string{"device_id": device, "site_id": site, "task_id": taskID} {
		if v != "" {
			where += " AND " + column + " = ?"
			args = append(args, v)
		}
	}
	if before > 0 {
		where += " AND id < ?"
		args = append(args, before)
	}
	list, err := store.Some[store.Event](s.Store.Read(ctx), limit, "id DESC", where, args...)
	if err != nil {
		return p, err
	}
	n, err := s.names(ctx)
	if err != nil {
		return p, err
	}
	for _, e := range list {
		p.Events = append(p.Events, wire.Event{ID: e.ID, At: e.At, Actor: e.Actor, Site: n.sites[e.SiteID], DeviceID: e.DeviceID, TaskID: e.TaskID, Kind: e.Kind, Text: e.Text})
	}
	if len(list) == limit {
		p.Next = list[len(list)-1].ID
	}
	return p, nil
}

// attention gathers what a person should look at first.
func (s *server) attention(ctx context.Context, siteRef string) (wire.Attention, error) {
	a := wire.Attention{Devices: []wire.Device{}, Tasks: []wire.Task{}, Sighted: []wire.Sighting{}, Rollouts: []wire.Rollout{}, Problems: []string{}, Counts: wire.Counts{ByStage: map[string]int64{}}}
	tx := s.Store.Read(ctx)
	siteID := ""
	if siteRef != "" {
		x, err := s.FindSite(ctx, siteRef)
		if err != nil {
			return a, err
		}
		siteID = x.ID
	}
	const here = "(? = '' OR site_id = ?)"
	list, err := store.Some[store.Device](tx, 50,
		"CASE attention WHEN 'lost' THEN 0 WHEN 'failed' THEN 1 WHEN 'check' THEN 2 WHEN 'offline' THEN 3 WHEN 'drift' THEN 4 ELSE 5 END, name", "attention <> '' AND "+here, siteID, siteID)
	if err != nil {
		return a, err
	}
	n, err := s.names(ctx)
	if err != nil {
		return a, err
	}
	for _, d := range list {
		w := n.device(d)
		if d.Attention == "failed" || d.Attention == "lost" {
			if last, err := store.Some[store.Task](tx, 1, "id DESC", "device_id = ? AND kind <> ?", d.ID, string(task.Check)); err == nil && len(last) > 0 {
				if t, err := s.asTask(ctx, last[0]); err == nil {
					w.Task = &t
				}
			}
		}
		if d.Attention == "check" {
			all, err := s.ChecksOf(ctx, d.ID)
			if err != nil {
				return a, err
			}
			w.Checks = slices.DeleteFunc(all, func(r check.Result) bool { return r.Verdict != check.Fails })
		}
		a.Devices = append(a.Devices, w)
	}
	if a.Total, err = store.Count[store.Device](tx, "attention <> '' AND "+here, siteID, siteID); err != nil {
		return a, err
	}
	tasks, err := store.Some[store.Task](tx, 50, "id DESC", "status IN ('queued','running','waiting') AND (? = '' OR device_id IN (SELECT id FROM devices WHERE site_id = ?))", siteID, siteID)
	if err != nil {
		return a, err
	}
	if a.Tasks, err = s.asTasks(ctx, tasks); err != nil {
		return a, err
	}
	rollouts, err := store.Some[store.Rollout](tx, 20, "CASE status WHEN 'held' THEN 0 ELSE 1 END, id DESC", "status IN ('running','paused','held') AND (? = '' OR id IN (SELECT u.rollout_id FROM rollout_units u JOIN devices d ON d.id = u.device_id WHERE u.wave >= 0 AND d.site_id = ?))", siteID, siteID)
	if err != nil {
		return a, err
	}
	for _, r := range rollouts {
		w, err := s.asRollout(ctx, r, false)
		if err != nil {
			return a, err
		}
		a.Rollouts = append(a.Rollouts, w)
	}
	sighted, err := s.Sightings(ctx, false)
	if err != nil {
		return a, err
	}
	a.Sighted = s.asSightings(ctx, sighted)
	if a.Queued, err = s.Waiting(ctx); err != nil {
		return a, err
	}
	for _, stage := range inventory.Stages {
		c, err := store.Count[store.Device](tx, "stage = ? AND "+here, string(stage), siteID, siteID)
		if err != nil {
			return a, err
		}
		if c > 0 {
			a.Counts.ByStage[string(stage)] = c
		}
		if stage != inventory.Retired {
			a.Counts.Devices += c
		}
	}
	a.Counts.Adopted = a.Counts.ByStage[string(inventory.Adopted)]
	for where, to := range map[string]*int64{"presence = 'online'": &a.Counts.Online, "standing = 'behind'": &a.Counts.Behind} {
		if *to, err = store.Count[store.Device](tx, where+" AND "+here, siteID, siteID); err != nil {
			return a, err
		}
	}
	if p := s.Link().Trouble(time.Now()); p != nil {
		a.Problems = append(a.Problems, strings.TrimSpace(p.What+" "+p.Next))
	}
	if !s.HasRadio() {
		a.Problems = append(a.Problems, "No radio is set up: units in set-up mode cannot be seen or joined.")
	}
	hubs, err := store.All[store.Hub](tx, "name", "trouble <> '' AND (? = '' OR id IN (SELECT hub_id FROM sites WHERE id = ?))", siteID, siteID)
	if err != nil {
		return a, err
	}
	for _, h := range hubs {
		w := s.hub(ctx, h)
		text := h.Trouble
		if w.Waiting > 0 {
			text += fmt.Sprintf(" %d %s for it.", w.Waiting, map[bool]string{true: "thing waits", false: "things wait"}[w.Waiting == 1])
		}
		a.Problems = append(a.Problems, text)
	}
	if err := s.Ready(ctx); err != nil {
		a.Problems = append(a.Problems, upper(err.Error())+".")
	}
	return a, nil
}

// unitsOf lists the units that filled a device, the latest first.
func (s *server) unitsOf(tx *store.Tx, device string) ([]wire.Tenure, error) {
	tenures, err := store.All[store.Tenure](tx, "since DESC", "device_id = ?", device)
	if err != nil {
		return nil, err
	}
	out := []wire.Tenure{}
	for _, t := range tenures {
		u, err := store.One[store.Unit](tx, "id = ?", t.UnitID)
		if err != nil {
			return nil, err
		}
		out = append(out, wire.Tenure{HardwareID: u.HardwareID, Since: t.Since, Until: t.Until})
	}
	return out, nil
}
