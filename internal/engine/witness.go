package engine

import (
	"context"
	"fmt"
	"time"

	"fado/internal/core/check"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/store"
)

// answerWithin is how long a person may take to say what they see: what was seen
// later may be something else. A pulse is how long a switched output stays.
const (
	answerWithin = 10 * time.Minute
	pulse        = 3 * time.Second
)

// witnessed is the check that a person is asked for: "" for blinking, or the name
// of a capability.
func witnessed(capability string) check.Name {
	if capability == "" {
		return check.Blinks
	}
	return check.Follows(capability)
}

// Ask has a unit do something that only a person beside it can see, and notes that
// they are asked: it blinks, or with a capability switches that over and back.
func (e *Engine) Ask(ctx context.Context, actor, ref, capability string) (check.Result, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return check.Result{}, err
	}
	model, dl, err := e.speaker(d)
	if err != nil {
		return check.Result{}, err
	}
	if !inventory.Stage(d.Stage).AtLeast(inventory.Joined) {
		return check.Result{}, notInService(d)
	}
	if dl.Sleeps() {
		return check.Result{}, problem.New(problem.Conflict, d.Name+" sleeps, so it cannot be asked to show itself now.", "It is awake for moments only.", "Look at its readings instead.")
	}
	if capability == "" {
		if err := e.Blink(ctx, actor, d.ID); err != nil {
			return check.Result{}, err
		}
		return e.asked(ctx, actor, d, check.Blinks, fmt.Sprintf("The unit beside you blinks: it is %s.", d.Name))
	}
	c, ok := model.Capability(capability)
	x, can := dl.Command(capability, deviceSubject(model, d))
	if !ok || !can || !c.Kind.Commanded() {
		var names []string
		for _, c := range model.Capabilities {
			if c.Kind.Commanded() {
				names = append(names, c.Name)
			}
		}
		var f problem.Fields
		f.Add("capability", fmt.Sprintf("a %s cannot be told its %q", model.Title, capability), nearestOf(capability, names))
		return check.Result{}, f.Err("Nothing was switched.")
	}
	w := &worker{e: e, r: &runner{t: e.tasks, id: "ask", device: d.ID, ctx: ctx}, d: d, model: model, dl: dl, askID: "see-" + store.NewID()}
	state, err := w.states(ctx)
	if err != nil {
		return check.Result{}, err
	}
	was, known := state[capability]
	if !known {
		return check.Result{}, problem.New(problem.Conflict, fmt.Sprintf("%s has not said how its %s stands, so that it could not be put back.", d.Name, capability), "It was not heard since it joined.", "Run its checks first with «fado check run "+d.Hostname+"».")
	}
	for i, v := range []any{opposite(c, was), was} {
		if ev := w.publish(ctx, &x, dialect.Values{"capability": capability, "value": v}); ev.Code != "" {
			return check.Result{}, problem.New(problem.Unavailable, fmt.Sprintf("%s could not be told to switch.", d.Name), ev.Facts["detail"], "See that the broker runs, then ask again.")
		}
		if i == 0 {
			// It is put back even when whoever asked has hung up.
			if err := e.Clock.Sleep(e.ctx, pulse); err != nil {
				return check.Result{}, err
			}
			ctx = context.WithoutCancel(ctx)
		}
	}
	if err := e.Record(ctx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "check", Text: fmt.Sprintf("The %s of %s was switched to %v and back to %v, to be seen.", capability, d.Name, opposite(c, was), was)}); err != nil {
		return check.Result{}, err
	}
	return e.asked(ctx, actor, d, check.Follows(capability), fmt.Sprintf("%s of %s went %s for %.0f seconds, then %s again.", c.Title, d.Name, spoken(opposite(c, was)), pulse.Seconds(), spoken(was)))
}

// spoken is a capability's value as people say it.
func spoken(v any) string {
	switch v {
	case true:
		return "on"
	case false:
		return "off"
	}
	return fmt.Sprintf("to %v", v)
}

// opposite is a value of a capability that can be told from another one by eye.
func opposite(c inventory.Capability, v any) any {
	if on, ok := v.(bool); ok {
		return !on
	}
	low, high := 0.0, 100.0
	if c.Low != nil {
		low = *c.Low
	}
	if c.High != nil {
		high = *c.High
	}
	if n, ok := v.(float64); ok && n > (low+high)/2 {
		return low
	}
	return high
}

// asked notes that a person was asked.
func (e *Engine) asked(ctx context.Context, actor string, d store.Device, name check.Name, expected string) (check.Result, error) {
	r := check.Result{Name: name, Verdict: check.Asked, Expected: expected, Seen: actor + " is asked", Evidence: check.Witness, At: e.Clock.Now()}
	return r, e.Store.Write(ctx, func(tx *store.Tx) error {
		e.mark(tx, "device", d.ID)
		return keepCheck(tx, d.ID, r)
	})
}

// Answer takes in what a person has seen.
func (e *Engine) Answer(ctx context.Context, actor, ref, capability string, yes bool) (check.Result, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return check.Result{}, err
	}
	var r check.Result
	return r, e.Store.Write(ctx, func(tx *store.Tx) error {
		name := witnessed(capability)
		row, err := store.One[store.Check](tx, "device_id = ? AND name = ?", d.ID, string(name))
		if err != nil && !isNone(err) {
			return err
		}
		now := e.Clock.Now()
		if isNone(err) || row.Verdict != string(check.Asked) || now.Sub(row.At) > answerWithin {
			return problem.New(problem.Conflict, fmt.Sprintf("Nobody was asked lately whether %s shows itself.", d.Name), "An answer counts within ten minutes of what is to be seen, and once.", "Ask again, look, then answer.")
		}
		r = check.Fail(name, check.Witness, now, row.Expected, "not so, says %s", actor)
		if yes {
			r = check.Hold(name, check.Witness, now, row.Expected, "seen by %s", actor)
		}
		if err := keepCheck(tx, d.ID, r); err != nil {
			return err
		}
		e.mark(tx, "device", d.ID)
		if err := e.refresh(tx, d.ID); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "check", Text: fmt.Sprintf("%s: %s: %s.", d.Name, r.Name, r.Seen)})
	})
}

// ToBlink is what a unit that can show itself does.
const ToBlink = "blink"
