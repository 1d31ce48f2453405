package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"fado/internal/core/problem"
	"fado/internal/core/rollout"
	"fado/internal/core/secret"
	"fado/internal/core/sheet"
	"fado/internal/core/task"
	"fado/internal/engine"
	"fado/internal/paper"
	"fado/internal/store"
	"fado/internal/wire"
)

// The rules of a rollout that says nothing of them.
const (
	usualAtOnce  = 8
	usualPerSite = 2
	usualMinutes = 60
	usualSoak    = 15
)

var weekdays = map[string]time.Weekday{"sun": time.Sunday, "mon": time.Monday, "tue": time.Tuesday, "wed": time.Wednesday, "thu": time.Thursday, "fri": time.Friday, "sat": time.Saturday}

// rulesOf reads the rules of a plan.
func rulesOf(w wire.RolloutRules, f *problem.Fields) rollout.Rules {
	or := func(p *int, usual int) int {
		if p == nil {
			return usual
		}
		return *p
	}
	minutes := func(p *int, usual int) time.Duration { return time.Duration(or(p, usual)) * time.Minute }
	on := func(p *bool) bool { return p == nil || *p }
	r := rollout.Rules{Trial: on(w.Trial), AtOnce: or(w.AtOnce, usualAtOnce), PerSite: or(w.PerSite, usualPerSite), Patience: minutes(w.PatienceMinutes, usualMinutes),
		Gate: rollout.Gate{Share: or(w.Share, 100), Soak: minutes(w.SoakMinutes, usualSoak), Returns: or(w.Returns, 1), Health: on(w.Health), Checks: on(w.Checks)}}
	for _, text := range w.Waves {
		s, err := rollout.ParseSize(text)
		if err != nil {
			f.Add("waves", err.Error(), "10%")
			continue
		}
		r.Waves = append(r.Waves, s)
	}
	if w.Hours == "" && len(w.Days) == 0 {
		return r
	}
	h := &rollout.Hours{}
	from, to, ok := strings.Cut(w.Hours, "-")
	for text, into := range map[string]*int{from: &h.From, to: &h.To} {
		t, err := time.Parse("15:04", strings.TrimSpace(text))
		ok = ok && err == nil
		*into = t.Hour()*60 + t.Minute()
	}
	if !ok {
		f.Add("hours", "two times of day with a hyphen between; days need them, too", "01:00-05:00")
	}
	for _, d := range w.Days {
		day, ok := weekdays[strings.ToLower(strings.TrimSpace(d))]
		if !ok {
			f.Add("days", fmt.Sprintf("%q is none of mon, tue, wed, thu, fri, sat and sun", d), "sat")
		}
		h.Days = append(h.Days, day)
	}
	r.Hours = h
	return r
}

// askOf reads what a rollout is planned from.
func (s *server) askOf(ctx context.Context, p wire.RolloutPlan) (engine.RolloutAsk, error) {
	var f problem.Fields
	ask := engine.RolloutAsk{Name: strings.TrimSpace(p.Name), Behind: p.Behind, Room: p.Room, Model: p.Model, Tag: p.Tag, Version: p.Version, Rules: rulesOf(p.Rules, &f)}
	if err := f.Err("The rollout was not planned."); err != nil {
		return ask, err
	}
	if p.Image != "" {
		i, err := s.FindImage(ctx, p.Image)
		if err != nil {
			return ask, err
		}
		ask.Image = i.SHA256
	}
	if p.Reverts != "" {
		r, err := s.FindRollout(ctx, p.Reverts)
		if err != nil {
			return ask, err
		}
		ask.Reverts = r.ID
	}
	for _, ref := range p.Sites {
		x, err := s.FindSite(ctx, ref)
		if err != nil {
			return ask, err
		}
		ask.Sites = append(ask.Sites, x.ID)
	}
	for into, refs := range map[*[]string][]string{&ask.Devices: p.Devices, &ask.Exclude: p.Exclude, &ask.Trials: p.Trials} {
		for _, ref := range refs {
			d, err := s.FindDevice(ctx, ref)
			if err != nil {
				return ask, err
			}
			*into = append(*into, d.ID)
		}
	}
	if p.Model != "" {
		if _, ok := s.Model(p.Model); !ok {
			f.Add("model", fmt.Sprintf("there is no model %q", p.Model), "junco")
			return ask, f.Err("The rollout was not planned.")
		}
	}
	return ask, nil
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// stands is how a unit stands, in one word.
func stands(u rollout.Unit) string {
	if u.Outcome != "" {
		return string(u.Outcome)
	}
	return string(u.State)
}

// asRollout shows a rollout; homes with what it takes through each uplink.
func (s *server) asRollout(ctx context.Context, rec store.Rollout, homes bool) (wire.Rollout, error) {
	st, err := s.RolloutState(ctx, rec)
	if err != nil {
		return wire.Rollout{}, err
	}
	left, err := store.Count[store.RolloutUnit](s.Store.Read(ctx), "rollout_id = ? AND wave < 0", rec.ID)
	if err != nil {
		return wire.Rollout{}, err
	}
	now := s.Clock.Now()
	w := wire.Rollout{ID: rec.ID, Name: rec.Name, Status: st.Status, Actor: rec.Actor, Reason: st.Reason, Devices: len(st.Units), LeftOut: int(left), Counts: map[string]int{}, Wave: st.Wave, Phase: string(st.Phase),
		Waves: make([]wire.RolloutWave, st.Waves), Rules: inWords(st.Rules), CreatedAt: rec.CreatedAt, PlannedAt: rec.PlannedAt, StartedAt: rec.StartedAt, EndedAt: rec.EndedAt}
	if rec.Reverts != "" {
		if r, err := s.FindRollout(ctx, rec.Reverts); err == nil {
			w.Reverts = r.Name
		}
	}
	for i := range w.Waves {
		x := &w.Waves[i]
		*x = wire.RolloutWave{Wave: i, Name: rollout.WaveName(i, st.Rules), Counts: map[string]int{}, Stands: "ahead", Gates: []wire.RolloutGate{}}
		switch {
		case st.Status == rollout.Draft:
		case i < st.Wave || st.Status == rollout.Done:
			x.Stands = "passed"
		case i > st.Wave && st.Status == rollout.Cancelled:
			x.Stands = "left"
		case i > st.Wave:
		case st.Status == rollout.Cancelled:
			x.Stands = "left"
		case st.Status == rollout.Held:
			x.Stands = "held"
		default:
			x.Stands = string(st.Phase)
		}
	}
	at := map[string]int{}
	for _, u := range st.Units {
		w.Counts[stands(u)]++
		x := &w.Waves[u.Wave]
		x.Devices++
		x.Bytes += u.Bytes
		x.Counts[stands(u)]++
		if homes {
			i, known := at[u.Site]
			if !known {
				i = len(w.Homes)
				at[u.Site] = i
				h := wire.RolloutHome{}
				if site, err := s.FindSite(ctx, u.Site); err == nil {
					h.Site, h.Name = site.Key, site.Name
				}
				w.Homes = append(w.Homes, h)
			}
			w.Homes[i].Devices++
			w.Homes[i].Bytes += u.Bytes
		}
	}
	slices.SortFunc(w.Homes, func(a, b wire.RolloutHome) int { return strings.Compare(a.Site, b.Site) })
	for _, g := range st.Gates {
		x := &w.Waves[g.Wave]
		x.Gates = append(x.Gates, wire.RolloutGate{At: g.At, Held: g.Held, Early: g.Early, By: g.By, Reason: g.Reason, Conditions: g.Conditions})
	}
	if !st.Status.Over() && st.Status != rollout.Held {
		for _, f := range rollout.Expect(st, now) {
			x := &w.Waves[f.Wave]
			x.Ends, w.EndsAt = moment(f.Ends), moment(f.Ends)
			if f.Wave > st.Wave || st.Status == rollout.Draft {
				x.Begins = moment(f.Begins)
			}
		}
	}
	w.Next, w.NextAt = next(st)
	return w, nil
}

// next says what happens next, and when.
func next(s rollout.State) (string, *time.Time) {
	moving := 0
	for _, u := range s.Units {
		if u.State == rollout.UnderWay || u.State == rollout.Starting {
			moving++
		}
	}
	wave := rollout.WaveName(s.Wave, s.Rules)
	switch s.Status {
	case rollout.Draft:
		if len(s.Units) == 0 {
			return "Nothing: no device is part of it. Plan another one.", nil
		}
		return "It is started by a person.", nil
	case rollout.Held:
		return "A person decides: go on with a reason, try the failed again, or cancel.", nil
	case rollout.Paused:
		if moving > 0 {
			return fmt.Sprintf("%d under way finish; nothing else begins until a person lets it go on.", moving), nil
		}
		return "Nothing begins until a person lets it go on.", nil
	case rollout.Cancelled:
		if moving > 0 {
			return fmt.Sprintf("%d under way finish.", moving), nil
		}
		return "Nothing.", nil
	case rollout.Done:
		return "Nothing; it is done.", nil
	}
	switch s.Phase {
	case rollout.Soaking:
		return "The gate of " + wave + " is looked at when its soak ends.", moment(s.SoakUntil)
	case rollout.Looking:
		return "The gate of " + wave + " is being looked at.", nil
	}
	if moving > 0 {
		text := fmt.Sprintf("%d of %s are under way", moving, wave)
		if moving == 1 {
			text = "One of " + wave + " is under way"
		}
		if !s.Due.IsZero() {
			return text + "; then " + s.DueFor + ".", moment(s.Due)
		}
		return text + "; the gate follows when all have their outcome and have soaked.", nil
	}
	if !s.Due.IsZero() {
		return title(s.DueFor) + ".", moment(s.Due)
	}
	return "The next units begin.", nil
}

func title(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// inWords says rules in words, for people.
func inWords(r rollout.Rules) []wire.RolloutRule {
	first := "no trial"
	if r.Trial {
		first = "the trial (one of each model)"
	}
	waves := []string{first}
	for _, s := range r.Waves {
		waves = append(waves, s.String())
	}
	waves = append(waves, "the rest")
	hours := "at any time"
	if h := r.Hours; h != nil {
		hours = fmt.Sprintf("%02d:%02d to %02d:%02d by each home's clock", h.From/60, h.From%60, h.To/60, h.To%60)
		var days []string
		for _, d := range h.Days {
			days = append(days, d.String())
		}
		if len(days) > 0 {
			hours += ", on " + strings.Join(days, ", ")
		}
	}
	gate := fmt.Sprintf("%d %% succeeded, none lost, back and reporting %s after their update, each came back at most %s", r.Gate.Share, rollout.Span(r.Gate.Soak), rollout.Times(r.Gate.Returns))
	if r.Gate.Health {
		gate += ", signal, memory and interval no worse"
	}
	if r.Gate.Checks {
		gate += ", checks hold"
	}
	out := []wire.RolloutRule{{Rule: "Waves", Value: strings.Join(waves, "; then ")}, {Rule: "At once", Value: fmt.Sprintf("%d, %d at a site; one at a site where an interruption would leave a unit dead", r.AtOnce, r.PerSite)},
		{Rule: "Begins", Value: hours}, {Rule: "Gate", Value: gate}}
	return append(out, wire.RolloutRule{Rule: "Sleeping units", Value: "a wave waits " + rollout.Span(r.Patience) + " for them, the last one for all"})
}

// rolloutUnits is a page of a rollout's devices; stands "" takes all that are part of it.
func (s *server) rolloutUnits(ctx context.Context, ref string, wave int, only string, from, limit int) (wire.RolloutUnits, error) {
	out := wire.RolloutUnits{Units: []wire.RolloutUnit{}}
	rec, err := s.FindRollout(ctx, ref)
	if err != nil {
		return out, err
	}
	var all []wire.RolloutUnit
	if only == "left out" {
		list, err := s.LeftOut(ctx, rec)
		if err != nil {
			return out, err
		}
		for _, l := range list {
			all = append(all, wire.RolloutUnit{DeviceID: l.Device, Device: l.Name, Hostname: l.Hostname, Site: l.Site, Model: l.Model, Wave: -1, Stands: "left out", From: l.Running, Why: l.Why})
		}
	} else {
		st, err := s.RolloutState(ctx, rec)
		if err != nil {
			return out, err
		}
		n, err := s.names(ctx)
		if err != nil {
			return out, err
		}
		for _, u := range st.Units {
			if wave >= 0 && u.Wave != wave || only != "" && stands(u) != only {
				continue
			}
			all = append(all, wire.RolloutUnit{DeviceID: u.Device, Device: u.Name, Hostname: u.Hostname, Site: n.sites[u.Site], Model: u.Model, Wave: u.Wave, WaveName: rollout.WaveName(u.Wave, st.Rules),
				Stands: stands(u), Why: u.Why, From: u.From, To: u.To, Image: u.Image, Legs: u.Legs, Route: u.Route, Bytes: u.Bytes, UsualSeconds: u.Usual.Seconds(), Sleeps: u.Sleeps, Risky: u.Risky, Attempt: u.Attempt, TaskID: u.Task,
				Began: moment(u.Began), Ended: moment(u.Ended)})
		}
	}
	out.Total = len(all)
	if from > 0 {
		all = all[min(from, len(all)):]
	}
	if len(all) > limit {
		all, out.Next = all[:limit], from+limit
	}
	for i := range all {
		if all[i].Stands != string(rollout.UnderWay) || all[i].TaskID == "" {
			continue
		}
		if t, err := s.Task(ctx, all[i].TaskID); err == nil {
			all[i].Detail = detailOf(t)
		}
	}
	out.Units = append(out.Units, all...)
	return out, nil
}

// detailOf is what an update is at, in a few words.
func detailOf(rec store.Task) string {
	var t task.State
	if json.Unmarshal([]byte(rec.State), &t) != nil || t.Update == nil {
		return ""
	}
	switch {
	case t.Status == task.Queued:
		return "waits for its turn at the device"
	case t.Wait != nil && t.Wait.For == task.ForWake:
		return "waits for its wake"
	case t.Update.Outcome == task.Fetching && t.Update.Of > 0:
		return fmt.Sprintf("fetching, %d %%", t.Update.Done*100/t.Update.Of)
	}
	return string(t.Update.Outcome)
}

// mostInReport is how many devices a report lists.
const mostInReport = 200_000

func (s *server) rolloutReport(ctx context.Context, ref string) (wire.RolloutReport, error) {
	var r wire.RolloutReport
	rec, err := s.FindRollout(ctx, ref)
	if err != nil {
		return r, err
	}
	r.At = s.Clock.Now()
	r.Made = &r.At
	if r.Rollout, err = s.asRollout(ctx, rec, true); err != nil {
		return r, err
	}
	in, err := s.rolloutUnits(ctx, rec.ID, -1, "", 0, mostInReport)
	if err != nil {
		return r, err
	}
	left, err := s.rolloutUnits(ctx, rec.ID, -1, "left out", 0, mostInReport)
	if err != nil {
		return r, err
	}
	r.Units, r.LeftOut, r.Events = in.Units, left.Units, []wire.Event{}
	events, err := store.All[store.Event](s.Store.Read(ctx), "id", "kind = 'rollout' AND at >= ? AND substr(text, 1, length(?)) = ?", rec.CreatedAt, "Rollout "+rec.Name+":", "Rollout "+rec.Name+":")
	for _, e := range events {
		r.Events = append(r.Events, wire.Event{ID: e.ID, At: e.At, Actor: e.Actor, Kind: e.Kind, Text: title(strings.TrimSpace(strings.TrimPrefix(e.Text, "Rollout "+rec.Name+":")))})
	}
	return r, err
}

// rolloutCSV writes the devices of a rollout as CSV (RFC 4180).
func rolloutCSV(r wire.RolloutReport) ([]byte, error) {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	stamp := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	_ = w.Write([]string{"wave", "device", "hostname", "site", "model", "from", "to", "image", "outcome", "attempt", "began", "ended", "bytes", "why"})
	for _, u := range slices.Concat(r.Units, r.LeftOut) {
		row := []string{u.WaveName, u.Device, u.Hostname, u.Site, u.Model, u.From, u.To, u.Image, u.Stands, strconv.Itoa(u.Attempt), stamp(u.Began), stamp(u.Ended), strconv.FormatInt(u.Bytes, 10), u.Why}
		for i := range row {
			row[i] = sheet.Guarded(row[i])
		}
		_ = w.Write(row)
	}
	w.Flush()
	return b.Bytes(), w.Error()
}

func (s *server) rolloutRoutes(api huma.API) {
	answer := func(ctx context.Context, rec store.Rollout, err error) (*reply[wire.Rollout], error) {
		if err != nil {
			return nil, err
		}
		w, err := s.asRollout(ctx, rec, true)
		return &reply[wire.Rollout]{w}, err
	}
	handle(s, api, "GET", "/rollouts", "list-rollouts", "List the rollouts, the newest first", 200, func(ctx context.Context, in *struct {
		Limit int `query:"limit" default:"50" minimum:"1" maximum:"200"`
	}) (*reply[[]wire.Rollout], error) {
		list, err := store.Some[store.Rollout](s.Store.Read(ctx), in.Limit, "id DESC", "1 = 1")
		out := []wire.Rollout{}
		for _, r := range list {
			w, err := s.asRollout(ctx, r, false)
			if err != nil {
				return nil, err
			}
			out = append(out, w)
		}
		return &reply[[]wire.Rollout]{out}, err
	})
	handle(s, api, "POST", "/rollouts", "plan-rollout", "Plan a rollout; nothing begins", 201, func(ctx context.Context, in *withBody[wire.RolloutPlan]) (*reply[wire.Rollout], error) {
		ask, err := s.askOf(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		rec, err := s.PlanRollout(ctx, actor(ctx), ask)
		return answer(ctx, rec, err)
	})
	handle(s, api, "GET", "/rollouts/{id}", "get-rollout", "One rollout with its waves and gates", 200, func(ctx context.Context, in *path1) (*reply[wire.Rollout], error) {
		rec, err := s.FindRollout(ctx, in.ID)
		return answer(ctx, rec, err)
	})
	handle(s, api, "DELETE", "/rollouts/{id}", "remove-rollout", "Throw a draft away", 204, func(ctx context.Context, in *path1) (*none, error) {
		return &none{}, s.RemoveRollout(ctx, actor(ctx), in.ID)
	})
	handle(s, api, "GET", "/rollouts/{id}/units", "rollout-units", "The devices of a rollout, or those that were left out of it", 200, func(ctx context.Context, in *struct {
		ID     string `path:"id"`
		Wave   int    `query:"wave" default:"-1" doc:"Of one wave only, from 0"`
		Stands string `query:"stands" enum:"ahead,starting,under way,left out,succeeded,failed,reverted,skipped,lost" doc:"Only those that stand so"`
		From   int    `query:"from" minimum:"0"`
		Limit  int    `query:"limit" default:"200" minimum:"1" maximum:"1000"`
	}) (*reply[wire.RolloutUnits], error) {
		u, err := s.rolloutUnits(ctx, in.ID, in.Wave, in.Stands, in.From, in.Limit)
		return &reply[wire.RolloutUnits]{u}, err
	})
	handle(s, api, "POST", "/rollouts/{id}/replan", "replan-rollout", "Make the plan of a draft anew, from how things stand now", 200, func(ctx context.Context, in *path1) (*reply[wire.Rollout], error) {
		rec, err := s.Replan(ctx, actor(ctx), in.ID)
		return answer(ctx, rec, err)
	})
	handle(s, api, "POST", "/rollouts/{id}/start", "start-rollout", "Start a draft, if its plan still is true", 202, func(ctx context.Context, in *path1) (*reply[wire.Rollout], error) {
		rec, err := s.StartRollout(ctx, actor(ctx), in.ID)
		return answer(ctx, rec, err)
	})
	for _, x := range []struct {
		path, id, what string
		kind           rollout.EventKind
	}{
		{"pause", "pause-rollout", "Let nothing more begin, for now", rollout.Pause},
		{"go-on", "go-on-rollout", "Let a paused rollout go on, or one that is held, with a reason", rollout.GoOn},
		{"cancel", "cancel-rollout", "End a rollout; what is under way finishes, the rest is left", rollout.Cancel},
		{"retry", "retry-rollout", "Try what failed or was reverted again, or devices by name", rollout.Retry},
		{"exclude", "exclude-rollout", "Exclude a device whose turn has not come", rollout.Exclude},
	} {
		handle(s, api, "POST", "/rollouts/{id}/"+x.path, x.id, x.what, 202, func(ctx context.Context, in *pathBody[wire.Steering]) (*reply[wire.Rollout], error) {
			if x.kind == rollout.Exclude && len(in.Body.Devices) != 1 {
				var f problem.Fields
				f.Add("devices", "one device", `["terraco-relay-1"]`)
				return nil, f.Err("Nothing was excluded.")
			}
			rec, err := s.Steer(ctx, actor(ctx), in.ID, x.kind, in.Body.Devices, in.Body.Reason)
			return answer(ctx, rec, err)
		})
	}
	handle(s, api, "GET", "/rollouts/{id}/report", "rollout-report", "The report of a rollout", 200, func(ctx context.Context, in *path1) (*reply[wire.RolloutReport], error) {
		r, err := s.rolloutReport(ctx, in.ID)
		return &reply[wire.RolloutReport]{r}, err
	})
	handle(s, api, "GET", "/rollouts/{id}/report.html", "rollout-report-page", "The report of a rollout, to print", 200, func(ctx context.Context, in *path1) (*file, error) {
		r, err := s.rolloutReport(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return page(paper.RolloutReport(r))
	})
	handle(s, api, "GET", "/rollouts/{id}/report.csv", "rollout-report-csv", "The devices of a rollout with their outcomes, as CSV", 200, func(ctx context.Context, in *path1) (*file, error) {
		r, err := s.rolloutReport(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		b, err := rolloutCSV(r)
		return &file{"text/csv; charset=utf-8; header=present", b}, err
	})
	handle(s, api, "GET", "/rollouts/{id}/progress.svg", "rollout-progress", "How many devices of a rollout had their outcome, over time", 200, func(ctx context.Context, in *path1) (*file, error) {
		r, err := s.rolloutReport(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return drawn(paper.Progress(r.Rollout, r.Units, r.At, time.UTC))
	})
	handle(s, api, "GET", "/alerts", "get-alerts", "Where news of rollouts goes", 200, func(ctx context.Context, _ *none) (*reply[wire.Alerts], error) {
		a, err := s.AlertsTo(ctx)
		return &reply[wire.Alerts]{wire.Alerts{URL: a.URL, Topic: a.Topic, Keyed: a.Keyed}}, err
	})
	handle(s, api, "PUT", "/alerts", "set-alerts", "Say where news of rollouts goes", 200, func(ctx context.Context, in *withBody[wire.AlertsEdit]) (*reply[wire.Alerts], error) {
		var key secret.Secret
		if in.Body.Key != nil {
			key = secret.New(*in.Body.Key)
		}
		if err := s.SetAlertsTo(ctx, actor(ctx), in.Body.URL, in.Body.Topic, key); err != nil {
			return nil, err
		}
		a, err := s.AlertsTo(ctx)
		return &reply[wire.Alerts]{wire.Alerts{URL: a.URL, Topic: a.Topic, Keyed: a.Keyed}}, err
	})
}
