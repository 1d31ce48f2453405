package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"fado/internal/core/firmware"
	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/core/rollout"
	"fado/internal/core/task"
	"fado/internal/core/version"
	"fado/internal/store"
)

// RolloutAsk is what a rollout is planned from: which devices, to which firmware, and
// by which rules.
type RolloutAsk struct {
	Name    string
	Image   string // SHA-256; "" with Behind or Reverts
	Behind  bool   // each device that is behind, to what is intended for it
	Reverts string // id of a rollout: each device that it updated, back to what it had
	// The devices: all that match each of these that is given.
	Sites, Devices            []string // ids
	Room, Model, Tag, Version string
	Trials, Exclude           []string // ids of devices
	Rules                     rollout.Rules
}

// LeftOut is a device that was selected and is no part of a plan.
type LeftOut struct {
	Device, Name, Hostname, Site, Model, Running string
	Why                                          string
}

// CableTag is the tag of devices that are easy to reach by cable, which serve best as
// a trial.
const CableTag = "cable"

// How long an update takes before one of its model was seen: reading it over the air,
// and writing it.
const (
	usualRate = 32 << 10 // bytes a second
	usualRest = 30 * time.Second
)

// arrange makes the plan of a rollout from how things stand now.
func (e *Engine) arrange(ctx context.Context, ask RolloutAsk, self string) ([]rollout.Unit, []LeftOut, error) {
	tx := e.Store.Read(ctx)
	where, args := []string{"stage <> 'retired'"}, []any{}
	add := func(clause string, v ...any) { where, args = append(where, clause), append(args, v...) }
	if len(ask.Sites) > 0 {
		add("site_id IN ?", ask.Sites)
	}
	if len(ask.Devices) > 0 {
		add("id IN ?", ask.Devices)
	}
	if ask.Model != "" {
		add("model = ?", ask.Model)
	}
	if ask.Tag != "" {
		add("instr(tags, ?) > 0", ","+ask.Tag+",")
	}
	if ask.Version != "" {
		add("running = ?", ask.Version)
	}
	if ask.Room != "" {
		add("room_id IN (SELECT id FROM rooms WHERE id = ? OR name = ?)", ask.Room, ask.Room)
	}
	lib, err := e.library(tx)
	if err != nil {
		return nil, nil, err
	}
	var goals Goals
	before := map[string]rollout.Unit{} // by device, of the rollout that is taken back
	switch {
	case ask.Reverts != "":
		rows, err := store.All[store.RolloutUnit](tx, "place", "rollout_id = ? AND wave >= 0 AND task_id <> ''", ask.Reverts)
		if err != nil {
			return nil, nil, err
		}
		for _, row := range rows {
			var u rollout.Unit
			if err := json.Unmarshal([]byte(row.Unit), &u); err != nil {
				return nil, nil, fmt.Errorf("read a unit of the rollout: %w", err)
			}
			before[u.Device] = u
		}
		add("id IN (SELECT device_id FROM rollout_units WHERE rollout_id = ? AND task_id <> '')", ask.Reverts)
	case ask.Behind:
		if goals, err = e.Goals(tx); err != nil {
			return nil, nil, err
		}
		add("standing = 'behind'")
	default:
		img, ok := lib.bySum[ask.Image]
		if !ok {
			return nil, nil, notFound("image", ask.Image)
		}
		if len(ask.Devices) == 0 {
			add("model IN ?", img.Models)
		}
	}
	devices, err := store.SlimDevices(tx, strings.Join(where, " AND "), args...)
	if err != nil {
		return nil, nil, err
	}
	all, err := store.All[store.Site](tx, "id", "1 = 1")
	if err != nil {
		return nil, nil, err
	}
	sites := map[string]store.Site{}
	for _, s := range all {
		sites[s.ID] = s
	}
	elsewhere, err := e.inRollouts(tx, self)
	if err != nil {
		return nil, nil, err
	}
	p := planner{e: e, tx: tx, lib: lib, sites: sites, fits: map[fitKind]firmware.Verdict{}, models: map[string]modelUse{}}
	var units []rollout.Unit
	out := []LeftOut{}
	leave := func(d store.Device, why string) {
		out = append(out, LeftOut{d.ID, d.Name, d.Hostname, sites[d.SiteID].Key, d.Model, d.Running, why})
	}
	for _, d := range devices {
		switch {
		case slices.Contains(ask.Exclude, d.ID):
			leave(d, "Excluded when it was planned.")
			continue
		case !inventory.Stage(d.Stage).AtLeast(inventory.Joined):
			leave(d, "It is not in service.")
			continue
		case elsewhere[d.ID] != "":
			leave(d, elsewhere[d.ID])
			continue
		}
		img, why := p.target(d, ask, goals, before)
		if why != "" {
			leave(d, why)
			continue
		}
		v, err := p.fit(d, img)
		if err != nil {
			return nil, nil, err
		}
		if !v.Fits {
			leave(d, v.Sentence)
			continue
		}
		u, err := p.unit(d, img, v)
		if err != nil {
			return nil, nil, err
		}
		units = append(units, u)
	}
	return rollout.Arrange(units, ask.Rules, ask.Trials), out, nil
}

// inRollouts says of devices that another rollout has not done with yet which it is.
func (e *Engine) inRollouts(tx *store.Tx, self string) (map[string]string, error) {
	list, err := store.All[store.Rollout](tx, "id", "id <> ? AND status IN ('running','paused','held','cancelled')", self)
	if err != nil {
		return nil, fmt.Errorf("list the other rollouts: %w", err)
	}
	out := map[string]string{}
	for _, r := range list {
		rows, err := store.All[store.RolloutUnit](tx, "place", "rollout_id = ? AND standing IN ('ahead','starting','under way')", r.ID)
		if err != nil {
			return nil, err
		}
		for _, u := range rows {
			out[u.DeviceID] = fmt.Sprintf("It is in the rollout «%s», which is %s.", r.Name, r.Status)
		}
	}
	return out, nil
}

// planner judges many devices; those that are alike are judged once.
type planner struct {
	e      *Engine
	tx     *store.Tx
	lib    library
	sites  map[string]store.Site
	fits   map[fitKind]firmware.Verdict
	models map[string]modelUse
}

type fitKind struct {
	image, site, model, running, digest, firmware string
	battery                                       int
}

// modelUse is what a plan has to know of a model.
type modelUse struct {
	boot, usual  time.Duration // usual is 0 before one was seen
	sleeps, risk bool
	wake         time.Duration
}

// target is the image that a device is to go to, or why there is none.
func (p *planner) target(d store.Device, ask RolloutAsk, goals Goals, before map[string]rollout.Unit) (firmware.Image, string) {
	switch {
	case ask.Reverts != "":
		u := before[d.ID]
		switch {
		case d.Digest != "" && d.Digest != u.Image || d.Digest == "" && d.Running != u.To:
			return firmware.Image{}, fmt.Sprintf("It runs %s and not what that rollout brought.", d.Running)
		case u.Was != "":
			if img, ok := p.lib.bySum[u.Was]; ok {
				return img, ""
			}
		}
		for _, img := range p.lib.byModel[d.Model] {
			if u.Was == "" && img.Version == u.From && !img.Step && img.Withdrawn == "" {
				return img, ""
			}
		}
		return firmware.Image{}, fmt.Sprintf("The library does not have the image of %s that it ran before.", u.From)
	case ask.Behind:
		want := goals.Of(d).Version
		var found firmware.Image
		why := fmt.Sprintf("%s is intended, and the library has no image of it for a %s.", want, d.Model)
		for _, img := range p.lib.byModel[d.Model] {
			if img.Step || img.Withdrawn != "" || version.Stand(img.Version, want) != version.Current {
				continue
			}
			v, err := p.fit(d, img)
			switch {
			case err != nil:
				why = err.Error()
			case v.Fits:
				found, why = img, "" // the one added last
			case found.SHA256 == "":
				why = v.Sentence
			}
		}
		return found, why
	}
	img := p.lib.bySum[ask.Image]
	if !slices.Contains(img.Models, d.Model) {
		return img, fmt.Sprintf("The image is for %s, and this is a %s.", strings.Join(img.Models, ", "), d.Model)
	}
	return img, ""
}

func (p *planner) fit(d store.Device, img firmware.Image) (firmware.Verdict, error) {
	k := fitKind{img.SHA256, d.SiteID, d.Model, d.Running, d.Digest, d.Firmware, -1}
	if d.Battery != nil {
		k.battery = *d.Battery
	}
	if v, known := p.fits[k]; known {
		return v, nil
	}
	v, err := p.e.fitIn(p.lib, d, p.sites[d.SiteID], img)
	if err != nil {
		x := problem.As(err)
		if x == nil {
			return v, err
		}
		v = firmware.Verdict{Rule: "dialect", Sentence: x.What}
	}
	p.fits[k] = v
	return v, nil
}

func (p *planner) unit(d store.Device, img firmware.Image, v firmware.Verdict) (rollout.Unit, error) {
	m, known := p.models[d.Model]
	if !known {
		model, dl, err := p.e.speaker(d)
		if err != nil {
			return rollout.Unit{}, err
		}
		m.boot = time.Duration(p.e.bootUsual(p.tx, model) * float64(time.Second))
		m.sleeps = dl.Sleeps()
		if way, ok := dl.Delivery(deviceSubject(model, d)); ok {
			m.risk = way.Risky()
		}
		if l, err := store.One[store.Learnt](p.tx, "model = ? AND what = 'update'", d.Model); err == nil && l.Count > 0 {
			m.usual = time.Duration(l.Seconds * float64(time.Second))
		}
		if m.sleeps {
			m.wake = p.e.wakeUsual(p.tx, d)
		}
		p.models[d.Model] = m
	}
	u := rollout.Unit{Device: d.ID, Name: d.Name, Hostname: d.Hostname, Site: d.SiteID, Model: d.Model, Image: img.SHA256, From: d.Running, To: img.Version, Was: d.Digest,
		Legs: len(v.Route), Sleeps: m.sleeps, Risky: m.risk, Cable: strings.Contains(d.Tags, ","+CableTag+","), Online: d.Presence == string(inventory.Online)}
	for i, l := range v.Route {
		u.Bytes += l.Size
		if i > 0 {
			u.Route += ", then "
		}
		u.Route += l.Version
	}
	u.Usual = m.usual
	if u.Usual == 0 {
		rate := int64(usualRate)
		if kib := p.sites[d.SiteID].DownloadKiB; kib > 0 {
			rate = min(rate, int64(kib)<<10)
		}
		u.Usual = time.Duration(len(v.Route))*(m.boot+usualRest) + time.Duration(u.Bytes)*time.Second/time.Duration(rate) + m.wake
	}
	return u, nil
}

// The bounds of rules.
const (
	mostAtOnce = 1000
	mostSoak   = 7 * 24 * time.Hour
)

func checkRules(r rollout.Rules, f *problem.Fields) {
	if r.AtOnce < 1 || r.AtOnce > mostAtOnce {
		f.Add("at_once", fmt.Sprintf("from 1 to %d", mostAtOnce), "8")
	}
	if r.PerSite < 1 || r.PerSite > mostAtOnce {
		f.Add("per_site", fmt.Sprintf("from 1 to %d", mostAtOnce), "2")
	}
	if g := r.Gate; g.Share < 0 || g.Share > 100 {
		f.Add("share", "a percentage, from 0 to 100", "95")
	}
	if g := r.Gate; g.Soak < 0 || g.Soak > mostSoak {
		f.Add("soak_minutes", "from 0 minutes to 7 days", "15")
	}
	if r.Gate.Returns < 0 || r.Gate.Returns > 100 {
		f.Add("returns", "how often a unit may come back in the soak, from 0 to 100", "1")
	}
	if r.Patience < 0 || r.Patience > mostSoak {
		f.Add("patience_minutes", "from 0 minutes to 7 days", "60")
	}
	if h := r.Hours; h != nil && (h.From < 0 || h.From >= 24*60 || h.To < 0 || h.To >= 24*60 || h.From == h.To) {
		f.Add("hours", "two different times of day", "01:00-05:00")
	}
}

// PlanRollout plans a rollout and keeps the draft.
func (e *Engine) PlanRollout(ctx context.Context, actor string, ask RolloutAsk) (store.Rollout, error) {
	var f problem.Fields
	checkRules(ask.Rules, &f)
	n := 0
	for _, given := range []bool{ask.Image != "", ask.Behind, ask.Reverts != ""} {
		if given {
			n++
		}
	}
	if n != 1 {
		f.Add("image", "one of an image, all that is behind, and a rollout to take back", "84cc089f")
	}
	if len(ask.Name) > 80 {
		f.Add("name", "80 characters at most", "Spring 2027")
	}
	if ask.Tag != "" && naming.Fold(ask.Tag) == "" {
		f.Add("tag", "a word", "irrigation")
	}
	if err := f.Err("The rollout was not planned."); err != nil {
		return store.Rollout{}, err
	}
	if ask.Name == "" {
		ask.Name = e.rolloutName(ctx, ask)
	}
	now := e.Clock.Now()
	rec := store.Rollout{ID: store.NewID(), Name: ask.Name, Status: string(rollout.Draft), Actor: actor, Ask: store.JSON(ask), CreatedAt: now, Reverts: ask.Reverts}
	return e.keepPlan(ctx, actor, rec, ask)
}

// rolloutName makes up a name from what goes where.
func (e *Engine) rolloutName(ctx context.Context, ask RolloutAsk) string {
	base := "What is behind"
	tx := e.Store.Read(ctx)
	switch {
	case ask.Reverts != "":
		if r, err := store.One[store.Rollout](tx, "id = ?", ask.Reverts); err == nil {
			base = "Back from " + r.Name
		}
	case ask.Image != "":
		if i, err := store.One[store.Image](tx, "sha256 = ?", ask.Image); err == nil {
			base = i.Firmware + " " + i.Version
		}
	}
	name := base
	for i := 2; ; i++ {
		if n, err := store.Count[store.Rollout](tx, "name = ?", name); err != nil || n == 0 {
			return name
		}
		name = fmt.Sprintf("%s (%d)", base, i)
	}
}

// keepPlan makes the plan of a draft from how things stand now, and keeps it.
func (e *Engine) keepPlan(ctx context.Context, actor string, rec store.Rollout, ask RolloutAsk) (store.Rollout, error) {
	units, left, err := e.arrange(ctx, ask, rec.ID)
	if err != nil {
		return rec, err
	}
	rec.PlannedAt = e.Clock.Now()
	rec.State = store.JSON(rollout.New(ask.Rules, nil, units))
	rows := make([]store.RolloutUnit, 0, len(units)+len(left))
	for i, u := range units {
		rows = append(rows, unitRow(rec.ID, i, u))
	}
	for i, l := range left {
		rows = append(rows, store.RolloutUnit{RolloutID: rec.ID, DeviceID: l.Device, Place: len(units) + i, Wave: -1, Standing: "left out", Unit: store.JSON(l)})
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := store.Delete[store.RolloutUnit](tx, "rollout_id = ?", rec.ID); err != nil {
			return err
		}
		if err := store.Save(tx, &rec); err != nil {
			return err
		}
		if err := store.SaveAll(tx, rows); err != nil {
			return err
		}
		e.mark(tx, "rollout", rec.ID)
		return e.event(tx, store.Event{Actor: actor, Kind: "rollout", Text: fmt.Sprintf("Rollout %s: planned for %d devices; %d are left out.", rec.Name, len(units), len(left))})
	})
	if store.Taken(err) {
		return rec, problem.New(problem.Conflict, fmt.Sprintf("There is a rollout «%s» already.", rec.Name), "Names of rollouts are used once.", "Give it another name.")
	}
	return rec, err
}

// FindRollout finds a rollout by id, by the beginning of an id, or by name.
func (e *Engine) FindRollout(ctx context.Context, ref string) (store.Rollout, error) {
	list, err := store.Some[store.Rollout](e.Store.Read(ctx), 2, "id", "id = ? OR name = ?", ref, ref)
	if err == nil && len(list) == 0 && len(ref) >= 6 {
		list, err = store.Some[store.Rollout](e.Store.Read(ctx), 2, "id", "substr(id, -length(?)) = ?", ref, ref)
	}
	if err != nil {
		return store.Rollout{}, err
	}
	if len(list) != 1 {
		return store.Rollout{}, notFound("rollout", ref)
	}
	return list[0], nil
}

// RolloutState is a rollout's state with its units.
func (e *Engine) RolloutState(ctx context.Context, rec store.Rollout) (rollout.State, error) {
	return e.rolloutState(e.Store.Read(ctx), rec)
}

// LeftOut lists the devices that were selected for a rollout and are no part of it.
func (e *Engine) LeftOut(ctx context.Context, rec store.Rollout) ([]LeftOut, error) {
	rows, err := store.All[store.RolloutUnit](e.Store.Read(ctx), "place", "rollout_id = ? AND wave < 0", rec.ID)
	out := []LeftOut{}
	for _, r := range rows {
		var l LeftOut
		if err := json.Unmarshal([]byte(r.Unit), &l); err != nil {
			return nil, fmt.Errorf("read what was left out of %s: %w", rec.Name, err)
		}
		out = append(out, l)
	}
	return out, err
}

// Replan makes the plan of a draft anew.
func (e *Engine) Replan(ctx context.Context, actor, ref string) (store.Rollout, error) {
	rec, ask, err := e.draft(ctx, ref)
	if err != nil {
		return rec, err
	}
	return e.keepPlan(ctx, actor, rec, ask)
}

func (e *Engine) draft(ctx context.Context, ref string) (store.Rollout, RolloutAsk, error) {
	var ask RolloutAsk
	rec, err := e.FindRollout(ctx, ref)
	if err != nil {
		return rec, ask, err
	}
	if rec.Status != string(rollout.Draft) {
		return rec, ask, problem.New(problem.Conflict, fmt.Sprintf("The rollout «%s» is %s.", rec.Name, rec.Status), "It was started already.", "Plan another one.")
	}
	if err := json.Unmarshal([]byte(rec.Ask), &ask); err != nil {
		return rec, ask, fmt.Errorf("read what rollout %s was planned from: %w", rec.Name, err)
	}
	return rec, ask, nil
}

// RemoveRollout throws a draft away.
func (e *Engine) RemoveRollout(ctx context.Context, actor, ref string) error {
	rec, _, err := e.draft(ctx, ref)
	if err != nil {
		return err
	}
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := store.Delete[store.RolloutUnit](tx, "rollout_id = ?", rec.ID); err != nil {
			return err
		}
		if _, err := store.Delete[store.Rollout](tx, "id = ? AND status = ?", rec.ID, string(rollout.Draft)); err != nil {
			return err
		}
		e.mark(tx, "rollout", rec.ID)
		return e.event(tx, store.Event{Actor: actor, Kind: "rollout", Text: "Rollout " + rec.Name + ": the draft was thrown away."})
	})
}

// StartRollout starts a draft, if its plan still is what would be planned now.
func (e *Engine) StartRollout(ctx context.Context, actor, ref string) (store.Rollout, error) {
	e.rollouts.opening.Lock()
	defer e.rollouts.opening.Unlock()
	rec, ask, err := e.draft(ctx, ref)
	if err != nil {
		return rec, err
	}
	s, err := e.RolloutState(ctx, rec)
	if err != nil {
		return rec, err
	}
	if len(s.Units) == 0 {
		return rec, problem.New(problem.Conflict, fmt.Sprintf("The rollout «%s» has no devices.", rec.Name), "All that were selected were left out, or none was selected.", "See why with «fado rollout show»; plan another one.")
	}
	now, _, err := e.arrange(ctx, ask, rec.ID)
	if err != nil {
		return rec, err
	}
	if diff := planDiffers(s.Units, now); len(diff) > 0 {
		more := ""
		if len(diff) > 5 {
			more = fmt.Sprintf(" And %d more.", len(diff)-5)
			diff = diff[:5]
		}
		return rec, problem.New(problem.Conflict, fmt.Sprintf("The rollout «%s» was not started: its plan is no longer true. %s%s", rec.Name, strings.Join(diff, " "), more), "Things changed since it was planned.",
			"Plan it again with «fado rollout replan», look at it, and start it then.")
	}
	return e.steer(ctx, rec.ID, rollout.Event{Kind: rollout.Start, Actor: actor})
}

// planDiffers says what is different in a plan that would be made now.
func planDiffers(was, is []rollout.Unit) (out []string) {
	by := map[string]rollout.Unit{}
	for _, u := range is {
		by[u.Device] = u
	}
	for _, u := range was {
		n, still := by[u.Device]
		delete(by, u.Device)
		switch {
		case !still:
			out = append(out, u.Name+" would be left out.")
		case n.Image != u.Image:
			out = append(out, fmt.Sprintf("%s would go to %s instead of %s.", u.Name, n.To, u.To))
		case n.From != u.From || n.Was != u.Was:
			out = append(out, fmt.Sprintf("%s runs %s now, not %s.", u.Name, n.From, u.From))
		case n.Route != u.Route || n.Risky != u.Risky:
			out = append(out, u.Name+" would take another way.")
		}
	}
	added := make([]rollout.Unit, 0, len(by))
	for _, u := range by {
		added = append(added, u)
	}
	slices.SortFunc(added, func(a, b rollout.Unit) int { return cmp.Compare(a.Name, b.Name) })
	for _, u := range added {
		out = append(out, u.Name+" would be part of it.")
	}
	return out
}

// steer gives an event to a rollout and returns how it stands then.
func (e *Engine) steer(ctx context.Context, id string, ev rollout.Event) (store.Rollout, error) {
	if err := e.rollouts.tell(ctx, id, ev); err != nil {
		return store.Rollout{}, err
	}
	return e.FindRollout(ctx, id)
}

// Steer lets a person pause a rollout, let it go on, cancel it, try what failed again,
// or exclude a device.
func (e *Engine) Steer(ctx context.Context, actor, ref string, kind rollout.EventKind, devices []string, reason string) (store.Rollout, error) {
	rec, err := e.FindRollout(ctx, ref)
	if err != nil {
		return rec, err
	}
	s, err := e.RolloutState(ctx, rec)
	if err != nil {
		return rec, err
	}
	no := func(why, next string) (store.Rollout, error) {
		return rec, problem.New(problem.Conflict, fmt.Sprintf("Nothing was changed: the rollout «%s» is %s.", rec.Name, rec.Status), why, next)
	}
	ev := rollout.Event{Kind: kind, Actor: actor, Why: strings.TrimSpace(reason)}
	status := rollout.Status(rec.Status)
	for _, ref := range devices {
		d, err := e.FindDevice(ctx, ref)
		if err != nil {
			return rec, err
		}
		ev.Devices, ev.Device = append(ev.Devices, d.ID), d.ID
	}
	switch kind {
	case rollout.Pause:
		if status != rollout.Running {
			return no("Only one that is running can be paused.", "Nothing begins in it now.")
		}
	case rollout.GoOn:
		if status != rollout.Paused && status != rollout.Held {
			return no("Only one that is paused or held can go on.", "See how it stands with «fado rollout show».")
		}
		if status == rollout.Held && ev.Why == "" {
			var f problem.Fields
			f.Add("reason", "why it may go on although it was held", "Seen on site; the access point was moved.")
			return rec, f.Err("The rollout stays held.")
		}
	case rollout.Cancel:
		if status == rollout.Draft {
			return no("A draft is thrown away instead.", "Use «fado rollout remove».")
		}
		if status.Over() {
			return no("It is over already.", "There is nothing to cancel.")
		}
	case rollout.Retry:
		if status == rollout.Draft || status == rollout.Cancelled {
			return no("Only a rollout that was started and not cancelled can try again.", "Plan another one for what is left.")
		}
		if !slices.ContainsFunc(s.Units, func(u rollout.Unit) bool {
			named := slices.Contains(ev.Devices, u.Device)
			return u.State == rollout.Over && (named && u.Outcome != task.Succeeded || len(ev.Devices) == 0 && (u.Outcome == task.FailedOut || u.Outcome == task.Reverted))
		}) {
			return no("No device in it has failed or was reverted; one that is lost, or was skipped, is tried again by its name.", "See the devices with «fado rollout show».")
		}
	case rollout.Exclude:
		i := slices.IndexFunc(s.Units, func(u rollout.Unit) bool { return u.Device == ev.Device })
		switch {
		case i < 0:
			return no("The device is no part of it.", "See the devices with «fado rollout show».")
		case s.Units[i].State != rollout.Ahead:
			return no(fmt.Sprintf("The update of %s is %s.", s.Units[i].Name, cmp.Or(string(s.Units[i].Outcome), string(s.Units[i].State))), "What has begun runs to its end.")
		case status == rollout.Draft:
			return no("A draft is planned again without the device.", "Plan it with «--exclude».")
		}
		ev.Devices, ev.Why = nil, strings.TrimSpace(fmt.Sprintf("%s: %s", actor, ev.Why))
	}
	return e.steer(ctx, rec.ID, ev)
}
