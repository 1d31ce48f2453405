package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"fado/internal/core/health"
	"fado/internal/engine"
	"fado/internal/store"
	"fado/internal/wire"
)

func asKey(k store.SigningKey) wire.Key {
	return wire.Key{ID: k.ID, Public: k.Public, Own: len(k.Private) > 0, Signs: len(k.Private) > 0 && k.RetiredAt == nil, CreatedAt: k.CreatedAt, RetiredAt: k.RetiredAt}
}

func asUpdated(u engine.Updated) wire.Updated {
	x := u.State.Update
	w := wire.Updated{Task: u.Task.ID, From: x.From, To: x.Wanted, Outcome: x.Outcome, Actor: u.Task.Actor, At: u.Task.CreatedAt, Attempts: u.State.Attempt, Evidence: u.State.Checks, Failure: u.State.Failure}
	for i, l := range x.Legs {
		if len(x.Legs) > 1 {
			w.Route = append(w.Route, l.Version)
		}
		if i < x.At || i == x.At && x.Outcome.Over() {
			w.Bytes += l.Size
		}
	}
	if w.Bytes == 0 {
		w.Bytes = x.Done
	}
	if u.Task.EndedAt != nil {
		w.Seconds = u.Task.EndedAt.Sub(u.Task.CreatedAt).Seconds()
	}
	for _, c := range u.Health {
		unit := c.What.Unit()
		if c.What == health.Returns {
			unit = "times an hour"
		}
		w.Health = append(w.Health, wire.HealthChange{What: string(c.What), Unit: unit, Before: c.Before, After: c.After, Worse: c.Worse})
	}
	return w
}

func (s *server) firmwareRoutes(api huma.API) {
	handle(s, api, "DELETE", "/images/{id}", "delete-image", "Delete an image to which nothing refers", 204, func(ctx context.Context, in *path1) (*none, error) {
		return &none{}, s.DeleteImage(ctx, actor(ctx), in.ID)
	})
	handle(s, api, "PUT", "/goals", "set-goal", "Say which firmware version, or whose newest, is intended", 204, func(ctx context.Context, in *withBody[wire.Goal]) (*none, error) {
		return &none{}, s.SetGoal(ctx, actor(ctx), engine.Want{Site: in.Body.Site, Model: in.Body.Model, Device: in.Body.Device, Version: in.Body.Version, Channel: in.Body.Channel})
	})
	handle(s, api, "GET", "/firmware/matrix", "firmware-matrix", "Which version runs where", 200, func(ctx context.Context, _ *none) (*reply[[]wire.Cell], error) {
		list, err := s.Matrix(ctx)
		out := []wire.Cell{}
		for _, c := range list {
			out = append(out, wire.Cell(c))
		}
		return &reply[[]wire.Cell]{out}, err
	})
	handle(s, api, "GET", "/devices/{id}/behind", "device-behind", "By what a device is behind, since when, and what lies between", 200, func(ctx context.Context, in *path1) (*reply[wire.Gap], error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		g, err := s.GapOf(ctx, d)
		w := wire.Gap{Running: g.Running, Intended: g.Intended, Channel: g.Channel, Standing: g.Standing, Since: g.Since, Releases: []wire.Image{}}
		for _, i := range g.Releases {
			w.Releases = append(w.Releases, asImage(i))
		}
		return &reply[wire.Gap]{w}, err
	})
	handle(s, api, "GET", "/devices/{id}/updates", "device-updates", "The updates of a device, the newest first", 200, func(ctx context.Context, in *path1) (*reply[[]wire.Updated], error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		list, err := s.UpdatesOf(ctx, d)
		out := []wire.Updated{}
		for _, u := range list {
			out = append(out, asUpdated(u))
		}
		return &reply[[]wire.Updated]{out}, err
	})
	handle(s, api, "GET", "/keys", "list-keys", "The keys that sign manifests, or are trusted to have", 200, func(ctx context.Context, _ *none) (*reply[[]wire.Key], error) {
		list, err := s.Keys(ctx)
		out := []wire.Key{}
		for _, k := range list {
			out = append(out, asKey(k))
		}
		return &reply[[]wire.Key]{out}, err
	})
	handle(s, api, "POST", "/keys", "make-key", "Make another signing key, used from now on", 201, func(ctx context.Context, _ *none) (*reply[wire.Key], error) {
		k, err := s.RotateKey(ctx, actor(ctx))
		return &reply[wire.Key]{asKey(k)}, err
	})
	handle(s, api, "PUT", "/keys", "bring-key", "Bring a key along: a private one signs from now on, a public one is trusted", 200, func(ctx context.Context, in *withBody[wire.KeyText]) (*reply[wire.Key], error) {
		k, err := s.BringKey(ctx, actor(ctx), in.Body.Key)
		return &reply[wire.Key]{asKey(k)}, err
	})
}
