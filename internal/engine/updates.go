package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"sync"
	"time"

	"fado/internal/core/dialect"
	"fado/internal/core/firmware"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/task"
	"fado/internal/core/version"
	"fado/internal/fail"
	"fado/internal/store"
)

// wayOf is how units of a family are brought to take an image.
func wayOf(dl *dialect.Dialect, way dialect.Delivery) string {
	switch {
	case way.Way == "push":
		return task.ByPush
	case way.Start.Publish != "" && dl.AnswersAsks():
		return task.ByOffer
	}
	return task.ByOrder
}

// Update starts an update of one device to an image, by the route that leads there.
func (e *Engine) Update(ctx context.Context, actor, ref, image string) (store.Task, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return store.Task{}, err
	}
	img, err := e.FindImage(ctx, image)
	if err != nil {
		return store.Task{}, err
	}
	if !inventory.Stage(d.Stage).AtLeast(inventory.Joined) {
		return store.Task{}, notInService(d)
	}
	return e.update(ctx, d, img, store.Task{Actor: actor})
}

// unfit says that an image does not suit a device, by a rule of core/firmware.
type unfit struct {
	*problem.Problem
	rule string
}

// Unwrap gives the problem.
func (u unfit) Unwrap() error { return u.Problem }

// update starts an update of a device in service. rec says who wants it, and for which
// rollout.
func (e *Engine) update(ctx context.Context, d store.Device, img store.Image, rec store.Task) (store.Task, error) {
	verdict, _, err := e.Fit(ctx, d, img)
	if err != nil {
		return store.Task{}, err
	}
	if !verdict.Fits {
		return store.Task{}, unfit{problem.New(problem.Conflict, fmt.Sprintf("The image does not suit %s: %s", d.Name, verdict.Sentence), "Fit is decided before anything is sent.", "Choose another image; «fado image list» shows what there is."), verdict.Rule}
	}
	rec.DeviceID, rec.Image = d.ID, img.SHA256
	subject, err := e.subject(e.Store.Read(ctx), d)
	if err != nil {
		return store.Task{}, err
	}
	goal, err := e.goal(e.Store.Read(ctx), d)
	if err != nil {
		return store.Task{}, err
	}
	subject.Baseline = subject.Baseline && inventory.Stage(d.Stage) == inventory.Reporting && version.Stand(img.Version, goal.Version) == version.Current
	legs := make([]task.Leg, len(verdict.Route))
	for i, l := range verdict.Route {
		legs[i] = task.Leg{Image: l.SHA256, Version: l.Version, Size: l.Size}
	}
	return e.tasks.start(ctx, rec, task.NewUpdate(subject, legs, d.Running, d.Digest), nil)
}

// library is what fit has to know of images, read once for many devices.
type library struct {
	byModel map[string][]firmware.Image
	bySum   map[string]firmware.Image
}

func (e *Engine) library(tx *store.Tx) (library, error) {
	l := library{map[string][]firmware.Image{}, map[string]firmware.Image{}}
	list, err := store.All[store.Image](tx, "firmware, sequence", "part = ?", string(firmware.Program))
	if err != nil {
		return l, fmt.Errorf("list the images: %w", err)
	}
	for _, i := range list {
		x := coreImage(i)
		l.bySum[x.SHA256] = x
		for _, m := range x.Models {
			l.byModel[m] = append(l.byModel[m], x)
		}
	}
	return l, nil
}

// running is the image that a unit runs, as far as it says so: by its digest, else by
// its version where only one image has it.
func (l library) running(d store.Device) (firmware.Image, bool) {
	if x, ok := l.bySum[d.Digest]; ok {
		return x, true
	}
	var found []firmware.Image
	for _, x := range l.byModel[d.Model] {
		if x.Version == d.Running && d.Digest == "" {
			found = append(found, x)
		}
	}
	if len(found) != 1 {
		return firmware.Image{}, false
	}
	return found[0], true
}

// Fit decides whether an image suits a device's unit now, and by which route.
func (e *Engine) Fit(ctx context.Context, d store.Device, img store.Image) (firmware.Verdict, store.Site, error) {
	site, err := e.FindSite(ctx, d.SiteID)
	if err != nil {
		return firmware.Verdict{}, site, err
	}
	l, err := e.library(e.Store.Read(ctx))
	if err != nil {
		return firmware.Verdict{}, site, err
	}
	v, err := e.fitIn(l, d, site, coreImage(img))
	return v, site, err
}

// FitMany judges an image for many devices, in their order.
func (e *Engine) FitMany(ctx context.Context, devices []store.Device, img store.Image) ([]firmware.Verdict, error) {
	tx := e.Store.Read(ctx)
	l, err := e.library(tx)
	if err != nil {
		return nil, err
	}
	all, err := store.All[store.Site](tx, "id", "1 = 1")
	if err != nil {
		return nil, err
	}
	sites := map[string]store.Site{}
	for _, s := range all {
		sites[s.ID] = s
	}
	x := coreImage(img)
	// Many devices are alike; each kind is judged once.
	type kind struct {
		site, model, running, digest, firmware string
		battery                                int
	}
	known := map[kind]firmware.Verdict{}
	out := make([]firmware.Verdict, 0, len(devices))
	for _, d := range devices {
		k := kind{d.SiteID, d.Model, d.Running, d.Digest, d.Firmware, -1}
		if d.Battery != nil {
			k.battery = *d.Battery
		}
		v, has := known[k]
		if !has {
			if v, err = e.fitIn(l, d, sites[d.SiteID], x); err != nil {
				p := problem.As(err)
				if p == nil {
					return nil, err
				}
				v = firmware.Verdict{Rule: "dialect", Sentence: p.What}
			}
			known[k] = v
		}
		out = append(out, v)
	}
	return out, nil
}

func (e *Engine) fitIn(l library, d store.Device, site store.Site, img firmware.Image) (firmware.Verdict, error) {
	model, dl, err := e.speaker(d)
	if err != nil {
		return firmware.Verdict{}, err
	}
	way, ok := dl.Delivery(deviceSubject(model, d))
	switch {
	case !ok:
		return firmware.Verdict{Rule: "delivery", Sentence: fmt.Sprintf("The dialect %s knows no way of updating a %s.", dl.Name, model.Name)}, nil
	case way.Start.Publish == "" && site.Reach == "broker only":
		return firmware.Verdict{Rule: "delivery", Sentence: fmt.Sprintf("A %s is updated over its own pages, and %s is reached by its broker only.", model.Name, site.Name)}, nil
	case img.Part != firmware.Program:
		return firmware.Verdict{Rule: "part", Sentence: fmt.Sprintf("The dialect %s says how a program is updated, not the file area that this image is for.", dl.Name)}, nil
	}
	unit := firmware.Unit{Model: model, Firmware: d.Firmware, Version: d.Running, Digest: d.Digest, Battery: d.Battery, Digests: dl.TellsDigest()}
	if x, known := l.running(d); known {
		unit.Size, unit.OnStep = x.Size, x.Step
	}
	policy := firmware.Policy{Downgrade: site.AllowDowngrade, Unsigned: site.AllowUnsigned, RiskyDelivery: site.AllowRisky, LeastBattery: site.LeastBattery}
	return firmware.Fit(img, unit, policy, way.Risky(), l.byModel[d.Model]...), nil
}

// legOf is the image that an update is at.
func legOf(rec store.Task) (string, error) {
	var s task.State
	if err := json.Unmarshal([]byte(rec.State), &s); err != nil {
		return "", fmt.Errorf("read the state of task %s: %w", rec.ID, err)
	}
	if s.Update == nil {
		return "", fmt.Errorf("the task %s is no update", rec.ID)
	}
	return s.Update.Image, nil
}

// fit decides once more, on what the unit reports now, whether the leg under way still
// leads to the image that is wanted.
func (w *worker) fit(ctx context.Context) task.Event {
	rec, err := w.e.Task(ctx, w.r.id)
	if err != nil {
		return failed("internal", err)
	}
	leg, err := legOf(rec)
	if err != nil {
		return failed("internal", err)
	}
	img, err := w.e.FindImage(ctx, rec.Image)
	if err != nil {
		return task.Event{Code: "unfit", Facts: map[string]string{"sentence": "The image is gone."}}
	}
	v, _, err := w.e.Fit(ctx, w.d, img)
	switch {
	case err != nil:
		return failed("internal", err)
	case v.Rule == "running":
		return task.Event{Code: "running", Facts: map[string]string{"sentence": v.Sentence}}
	case !v.Fits:
		return task.Event{Code: "unfit", Facts: map[string]string{"sentence": v.Sentence}}
	case v.Route[0].SHA256 != leg:
		return task.Event{Code: "unfit", Facts: map[string]string{"sentence": fmt.Sprintf("The way there is another one than when it was planned; now it begins with %s.", v.Route[0].Version)}}
	}
	return task.Event{Facts: map[string]string{"sentence": v.Sentence}}
}

// baseline sees that a unit runs the intended firmware before it is adopted. Where it
// does not, an update is queued behind this task, and adopts it in the end.
func (w *worker) baseline(ctx context.Context) task.Event {
	tx := w.e.Store.Read(ctx)
	goal, err := w.e.goal(tx, w.d)
	if err != nil {
		return failed("internal", err)
	}
	says := func(code, format string, args ...any) task.Event {
		return task.Event{Code: code, Facts: map[string]string{"seen": fmt.Sprintf(format, args...)}}
	}
	switch version.Stand(w.d.Running, goal.Version) {
	case version.Current:
		return says("", "It runs %s, as intended.", w.d.Running)
	case version.Ahead:
		return says("", "It runs %s, which is newer than the intended %s.", w.d.Running, goal.Version)
	}
	if goal.Version == "" {
		return says("", "No firmware is intended for it.")
	}
	// One that was queued before a stop of the service counts.
	if n, err := store.Count[store.Task](tx, "device_id = ? AND kind = ? AND status = 'queued'", w.d.ID, string(task.Update)); err != nil || n > 0 {
		if err != nil {
			return failed("internal", err)
		}
		return says("follows", "It runs %s. The update to %s follows, and its adoption after that.", w.d.Running, goal.Version)
	}
	list, err := store.All[store.Image](tx, "sequence DESC", "instr(models, ?) > 0 AND step = 0 AND withdrawn = '' AND part = ?", ","+w.d.Model+",", string(firmware.Program))
	if err != nil {
		return failed("internal", err)
	}
	sentence := "The library has no image of that version for its model."
	for _, img := range list {
		if version.Stand(img.Version, goal.Version) != version.Current {
			continue
		}
		v, _, err := w.e.Fit(ctx, w.d, img)
		if err != nil {
			return failed("internal", err)
		}
		if !v.Fits {
			sentence = v.Sentence
			continue
		}
		if _, err := w.e.Update(ctx, "fado", w.d.ID, img.SHA256); err != nil {
			return failed("internal", err)
		}
		return says("follows", "It runs %s. The update to %s follows, and its adoption after that.", w.d.Running, goal.Version)
	}
	return task.Event{Code: "baseline", Facts: map[string]string{"wanted": goal.Version, "version": w.d.Running, "sentence": sentence}}
}

// dangers lets one update a site go at a time, where an interruption leaves a unit
// dead.
type dangers struct {
	mu     sync.Mutex
	holder map[string]string // site to task
	closed bool              // nothing such begins any more
	freed  chan struct{}     // closed, and made anew, when one is over
}

func newDangers() *dangers {
	return &dangers{holder: map[string]string{}, freed: make(chan struct{})}
}

// enter waits until no other such update of the site is under way.
func (d *dangers) enter(ctx context.Context, site, taskID string) error {
	for {
		d.mu.Lock()
		if h := d.holder[site]; !d.closed && (h == "" || h == taskID) {
			d.holder[site] = taskID
			d.mu.Unlock()
			return nil
		}
		freed := d.freed
		d.mu.Unlock()
		select {
		case <-freed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// leave is called when a task is over.
func (d *dangers) leave(taskID string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for site, h := range d.holder {
		if h == taskID {
			delete(d.holder, site)
			close(d.freed)
			d.freed = make(chan struct{})
		}
	}
}

// link makes the download link of this update, and has the site to itself where an
// interruption would leave the unit dead.
func (w *worker) link(ctx context.Context) task.Event {
	way, ok := w.dl.Delivery(deviceSubject(w.model, w.d))
	if !ok {
		return failed("internal", fmt.Errorf("no way of updating"))
	}
	if way.Risky() {
		if err := w.e.dangers.enter(ctx, w.d.SiteID, w.r.id); err != nil {
			return failed("internal", err)
		}
	}
	if wayOf(w.dl, way) == task.ByPush {
		img, ev := w.leg(ctx)
		if ev != nil {
			return *ev
		}
		if _, err := w.e.VerifyImage(ctx, img); err != nil {
			return failed("no_link", err)
		}
		return task.Event{}
	}
	until, err := w.e.makeLink(ctx, w.r.id, w.d)
	if err != nil {
		return failed("no_link", err)
	}
	return task.Event{Facts: map[string]string{"until": until.Format(time.RFC3339)}}
}

// leg is the image that the update is at.
func (w *worker) leg(ctx context.Context) (store.Image, *task.Event) {
	rec, err := w.e.Task(ctx, w.r.id)
	if err == nil {
		var sum string
		if sum, err = legOf(rec); err == nil {
			var img store.Image
			if img, err = w.e.FindImage(ctx, sum); err == nil {
				return img, nil
			}
		}
	}
	ev := failed("internal", err)
	return store.Image{}, &ev
}

// writeTime is how long sending an image to a unit, and its writing it, may take. It
// is never scaled.
const writeTime = 5 * time.Minute

// offer has the unit take the image: tells it by a message or over its pages, or
// sends it.
func (w *worker) offer(ctx context.Context) task.Event {
	way, ok := w.dl.Delivery(deviceSubject(w.model, w.d))
	if !ok {
		return failed("internal", fmt.Errorf("no way of updating"))
	}
	img, ev := w.leg(ctx)
	if ev != nil {
		return *ev
	}
	values := dialect.Values{"size": img.Size, "sha256": img.SHA256, "version": img.Version}
	manifest, err := w.e.manifestFor(ctx, w.d, img)
	if err != nil {
		return failed("internal", err)
	}
	if manifest != "" {
		values["manifest"] = manifest
	}
	if way.Way == "push" {
		b, err := os.ReadFile(w.e.Store.ImagePath(img.SHA256))
		if err != nil {
			return failed("internal", err)
		}
		values["image"] = b
	} else {
		link, err := w.e.linkAddress(ctx, w.r.id, w.d)
		if err != nil {
			return failed("no_link", err)
		}
		values["link"] = link
	}
	if way.Start.Publish != "" {
		return w.publish(ctx, &way.Start, values)
	}
	return w.write1(ctx, way, values)
}

// write1 starts an update over the unit's own pages. What was begun is not cut short
// by a stop of the service.
func (w *worker) write1(ctx context.Context, way dialect.Delivery, more dialect.Values) task.Event {
	values := w.values()
	talk, ev := w.meet(ctx, values)
	if ev != nil {
		if ev.Code == "no_answer" || ev.Code == "not_as_dialect" {
			ev.Code = "unreachable"
		}
		return *ev
	}
	w.keepCopy(ctx, talk, values, "before it was updated")
	for k, v := range more {
		values[k] = v
	}
	talk.Patiently(writeTime)
	whole, cancel := context.WithTimeout(context.WithoutCancel(ctx), writeTime)
	defer cancel()
	fail.Point("before image write")
	_, err := talk.Do(whole, &way.Start, values)
	fail.Point("after image write")
	if err == nil {
		return task.Event{}
	}
	code := failureCode(err, "not_accepted", "unreachable")
	out := failed(code, err)
	if code == "unreachable" && talk.Sent() > 0 {
		out.Code, out.Facts["sent"] = "cut_short", fmt.Sprint(talk.Sent())
	}
	return out
}

// Quiet waits until no unit is written that an interruption would leave dead, as
// long as ctx lasts. Nothing such begins meanwhile.
func (e *Engine) Quiet(ctx context.Context) {
	e.dangers.mu.Lock()
	e.dangers.closed = true
	e.dangers.mu.Unlock()
	for e.tasks.writing() {
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return
		}
	}
}

// writing reports whether a unit is written that an interruption would leave dead.
func (t *tasks) writing() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, r := range t.live {
		if r.writing.Load() {
			return true
		}
	}
	return false
}
