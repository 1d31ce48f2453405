package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"fado/internal/core/check"
	"fado/internal/core/problem"
	"fado/internal/core/task"
	"fado/internal/engine"
	"fado/internal/store"
	"fado/internal/wire"
)

func (s *server) checkRoutes(api huma.API) {
	handle(s, api, "POST", "/checks", "start-checks", "Check units in service: devices, a room or a site", 202, func(ctx context.Context, in *struct {
		Key  string `header:"Idempotency-Key" maxLength:"100"`
		Body wire.CheckStart
	}) (*reply[[]wire.Applied], error) {
		return startMany(ctx, s, in.Key, "checks", in.Body, s.toCheck, func(d store.Device) (store.Task, error) { return s.Check(ctx, actor(ctx), d) })
	})
	handle(s, api, "GET", "/sites/{id}/sign-off", "sign-off", "How the devices of a site, or of a room in it, stand by their checks", 200, func(ctx context.Context, in *struct {
		ID   string `path:"id"`
		Room string `query:"room"`
	}) (*reply[[]wire.SignOff], error) {
		list, err := s.Checkable(ctx, in.ID, in.Room)
		if err != nil {
			return nil, err
		}
		out := []wire.SignOff{}
		n, err := s.names(ctx)
		if err != nil {
			return nil, err
		}
		for _, d := range list {
			x, err := s.signOff(ctx, d, n)
			if err != nil {
				return nil, err
			}
			out = append(out, x)
		}
		return &reply[[]wire.SignOff]{out}, nil
	})
	handle(s, api, "GET", "/devices/{id}/sign-off", "device-sign-off", "How a device stands by its checks", 200, func(ctx context.Context, in *path1) (*reply[wire.SignOff], error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		n, err := s.names(ctx)
		if err != nil {
			return nil, err
		}
		x, err := s.signOff(ctx, d, n)
		return &reply[wire.SignOff]{x}, err
	})
	handle(s, api, "POST", "/devices/{id}/witness", "ask-witness", "Let a unit show itself, and ask the person beside it what they see", 200, func(ctx context.Context, in *pathBody[wire.Witness]) (*reply[check.Result], error) {
		r, err := s.Ask(ctx, actor(ctx), in.ID, in.Body.Capability)
		return &reply[check.Result]{r}, err
	})
	handle(s, api, "POST", "/devices/{id}/witness/answer", "answer-witness", "Say what was seen", 200, func(ctx context.Context, in *pathBody[wire.Seen]) (*reply[check.Result], error) {
		r, err := s.Answer(ctx, actor(ctx), in.ID, in.Body.Capability, in.Body.Yes)
		return &reply[check.Result]{r}, err
	})
}

// toCheck finds the devices that are to be checked.
func (s *server) toCheck(ctx context.Context, in wire.CheckStart) ([]store.Device, error) {
	out, err := s.named(ctx, in.Devices)
	if err != nil {
		return nil, err
	}
	if in.Site != "" {
		list, err := s.Checkable(ctx, in.Site, in.Room)
		return append(out, list...), err
	}
	var f problem.Fields
	if in.Room != "" {
		f.Add("site", "a room is one of a site", "lagar")
	} else if len(out) == 0 {
		f.Add("devices", "name devices, or a site", "terraco-relay-1")
	}
	return out, f.Err("Nothing was checked.")
}

func (s *server) signOff(ctx context.Context, d store.Device, n names) (wire.SignOff, error) {
	w := n.device(d)
	x := wire.SignOff{DeviceID: d.ID, Device: d.Name, Hostname: d.Hostname, Room: w.Room, Model: d.Model, Stage: w.Stage, Shows: s.shows(d)}
	var err error
	if x.Checks, err = s.ChecksOf(ctx, d.ID); err != nil {
		return x, err
	}
	x.Standing = check.Stand(x.Checks)
	for i, r := range x.Checks {
		if x.At == nil || r.At.Before(*x.At) {
			x.At = &x.Checks[i].At
		}
	}
	open, err := store.Some[store.Task](s.Store.Read(ctx), 1, "id DESC", "device_id = ? AND kind = ? AND status IN ('queued','running','waiting')", d.ID, string(task.Check))
	if err != nil || len(open) == 0 {
		return x, err
	}
	t, err := s.asTask(ctx, open[0])
	x.Task = &t
	return x, err
}

// shows lists what a person beside a unit can be asked to see.
func (s *server) shows(d store.Device) []string {
	out := []string{}
	m, ok := s.Model(d.Model)
	dl, known := s.Dialect(m.Dialect)
	if !ok || !known || dl.Sleeps() {
		return out
	}
	if dl.Asks.Blink != nil {
		out = append(out, engine.ToBlink)
	}
	for _, c := range m.Capabilities {
		if c.Kind.Commanded() {
			out = append(out, c.Name)
		}
	}
	return out
}
