package api

import (
	"context"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"fado/internal/core/dialect"
	"fado/internal/core/drawing"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/settings"
	"fado/internal/engine"
	"fado/internal/store"
	"fado/internal/wire"
)

// file is an answer that is no JSON.
type file struct {
	Type string `header:"Content-Type"`
	Body []byte
}

func drawn(b []byte, err error) (*file, error) { return &file{"image/svg+xml", b}, err }

// settingRoutes are those of settings as a whole: what would be sent, what
// differs, what is applied.
func (s *server) settingRoutes(api huma.API) {
	handle(s, api, "GET", "/devices/{id}/preview", "preview", "What commissioning would send, or what would be applied in service, with secrets masked", 200, func(ctx context.Context, in *path1) (*reply[wire.Preview], error) {
		p, err := s.PreviewDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return &reply[wire.Preview]{asPreview(p)}, nil
	})
	handle(s, api, "POST", "/preview", "preview-many", "What would be sent to many devices", 200, func(ctx context.Context, in *withBody[wire.Selection]) (*reply[[]wire.Preview], error) {
		list, err := s.selected(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		out := []wire.Preview{}
		for _, d := range list {
			p, err := s.PreviewDevice(ctx, d.ID)
			if err != nil {
				p = engine.Preview{Device: d, At: dialect.AtService}
			}
			w := asPreview(p)
			w.Problem = sentence(err)
			out = append(out, w)
		}
		return &reply[[]wire.Preview]{out}, nil
	})
	handle(s, api, "POST", "/devices/{id}/apply", "apply", "Start to bring a unit in service to what is intended", 202, func(ctx context.Context, in *startBody[none]) (*reply[wire.Task], error) {
		return once(ctx, s, in.Key, "apply "+in.ID, none{}, func() (*reply[wire.Task], error) {
			rec, err := s.Apply(ctx, actor(ctx), in.ID)
			if err != nil {
				return nil, err
			}
			t, err := s.asTask(ctx, rec)
			return &reply[wire.Task]{t}, err
		})
	})
	handle(s, api, "POST", "/apply", "apply-many", "Start to bring many units to what is intended", 202, func(ctx context.Context, in *struct {
		Key  string `header:"Idempotency-Key" maxLength:"100" doc:"The same key gives the same answer, and starts nothing twice"`
		Body wire.Selection
	}) (*reply[[]wire.Applied], error) {
		return startMany(ctx, s, in.Key, "apply many", in.Body, s.selected, func(d store.Device) (store.Task, error) { return s.Apply(ctx, actor(ctx), d.ID) })
	})
	handle(s, api, "POST", "/bench/start", "start-bench", "Commission what is ready on the bench, many at once", 202, func(ctx context.Context, in *struct {
		Key  string `header:"Idempotency-Key" maxLength:"100" doc:"The same key gives the same answer, and starts nothing twice"`
		Body wire.BenchStart
	}) (*reply[[]wire.Applied], error) {
		return startMany(ctx, s, in.Key, "start bench", in.Body, s.onBench, func(d store.Device) (store.Task, error) {
			return s.CommissionOrRetry(ctx, actor(ctx), d, in.Body.Prepared)
		})
	})
	handle(s, api, "GET", "/drift", "list-drift", "What is not on the units as intended", 200, func(ctx context.Context, in *struct {
		Site   string `query:"site"`
		Device string `query:"device"`
	}) (*reply[wire.DriftPage], error) {
		list, total, err := s.DriftList(ctx, in.Site, in.Device)
		if err != nil {
			return nil, err
		}
		n, err := s.names(ctx)
		page := wire.DriftPage{Drift: []wire.Drift{}, Devices: total}
		for _, x := range list {
			page.Drift = append(page.Drift, asDrift(x, n.sites[x.Device.SiteID]))
		}
		return &reply[wire.DriftPage]{page}, err
	})
	handle(s, api, "GET", "/devices/{id}/settable", "settable", "What a device can be told", 200, func(ctx context.Context, in *path1) (*reply[[]wire.Settable], error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		list, err := s.Settable(d)
		out := []wire.Settable{}
		for _, x := range list {
			out = append(out, wire.Settable{Key: string(x.Key), Title: x.Title, Kind: x.Kind, Choices: append([]string{}, x.Choices...)})
		}
		return &reply[[]wire.Settable]{out}, err
	})
	handle(s, api, "POST", "/drift/accept", "accept-drift", "Make what a unit reports the intended value", 204, func(ctx context.Context, in *withBody[wire.DriftAccept]) (*none, error) {
		return &none{}, s.AcceptDrift(ctx, actor(ctx), in.Body.Device, in.Body.Settings)
	})
	handle(s, api, "POST", "/devices/{id}/reveal", "reveal-login", "Show the login of a unit's own pages; asks for the password again and is an event", 200, func(ctx context.Context, in *pathBody[wire.Reveal]) (*reply[wire.Revealed], error) {
		if _, err := s.gate.check(ctx, wire.Account{Name: actor(ctx), Password: in.Body.Password}); err != nil {
			if p := problem.As(err); p == nil || p.Kind != problem.SignedOut {
				return nil, err // such as too many attempts
			}
			return nil, problem.New(problem.Denied, "The login is not shown.", "The password is not yours.", "Type your own password again.")
		}
		r, err := s.Reveal(ctx, actor(ctx), in.ID)
		return &reply[wire.Revealed]{wire.Revealed(r)}, err
	})
	handle(s, api, "GET", "/devices/{id}/copies", "list-copies", "The sealed copies of a unit's whole configuration", 200, func(ctx context.Context, in *path1) (*reply[[]wire.SealedCopy], error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		list, err := s.Copies(ctx, d)
		out := []wire.SealedCopy{}
		for _, c := range list {
			out = append(out, wire.SealedCopy{ID: c.ID, At: c.At, Why: c.Why, Size: c.Size})
		}
		return &reply[[]wire.SealedCopy]{out}, err
	})
	handle(s, api, "POST", "/sites/{id}/scheme/preview", "preview-scheme", "What a naming scheme would rename", 200, func(ctx context.Context, in *pathBody[wire.SchemeQuestion]) (*reply[[]wire.Rename], error) {
		list, err := s.PreviewScheme(ctx, in.ID, in.Body.Scheme, in.Body.Devices)
		return &reply[[]wire.Rename]{asRenames(list)}, err
	})
	handle(s, api, "POST", "/sites/{id}/scheme/rename", "rename-by-scheme", "Give devices the names that a scheme makes; units in service are told by applying", 200, func(ctx context.Context, in *pathBody[wire.SchemeQuestion]) (*reply[[]wire.Rename], error) {
		list, err := s.RenameByScheme(ctx, actor(ctx), in.ID, in.Body.Scheme, in.Body.Devices)
		return &reply[[]wire.Rename]{asRenames(list)}, err
	})
	handle(s, api, "GET", "/models/{id}/ports.svg", "port-map", "The ports of a model, drawn", 200, func(ctx context.Context, in *path1) (*file, error) {
		m, ok := s.Model(in.ID)
		if !ok {
			_, err := s.File(ctx, "model", in.ID)
			return nil, err
		}
		return drawn(drawing.Ports(m, nil))
	})
	handle(s, api, "GET", "/devices/{id}/ports.svg", "device-port-map", "The ports of a device with the functions that are intended, drawn", 200, func(ctx context.Context, in *path1) (*file, error) {
		m, values, err := s.drawable(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return drawn(drawing.Ports(m, values))
	})
	handle(s, api, "GET", "/devices/{id}/strip.svg", "device-strip", "The order of the lamps of a device's strip, drawn", 200, func(ctx context.Context, in *path1) (*file, error) {
		_, values, err := s.drawable(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		strip, ok := settings.StripOf(values)
		if !ok {
			return nil, problem.New(problem.NotFound, "There is no strip to draw.", "Neither a count of lamps nor a width and a height is intended for this device.", "Set load.count, or load.width and load.height.")
		}
		return drawn(drawing.Strip(strip))
	})
	handle(s, api, "POST", "/dialects/try", "try-dialect", "Rehearse a dialect against a simulated unit, from set-up to a command", 200, func(ctx context.Context, in *withBody[wire.Trial]) (*reply[wire.Trialed], error) {
		w, err := s.tryDialect(ctx, in.Body)
		return &reply[wire.Trialed]{w}, err
	})
	handle(s, api, "GET", "/schemas/dialect.json", "dialect-schema", "The JSON Schema of dialect files", 200, func(context.Context, *none) (*struct {
		Type string `header:"Content-Type"`
		Body []byte
	}, error) {
		return &struct {
			Type string `header:"Content-Type"`
			Body []byte
		}{"application/schema+json", dialect.Schema}, nil
	})
}

func (s *server) drawable(ctx context.Context, ref string) (inventory.Model, settings.Values, error) {
	d, err := s.FindDevice(ctx, ref)
	if err != nil {
		return inventory.Model{}, nil, err
	}
	m, _ := s.Model(d.Model)
	lines, err := s.Lines(s.Store.Read(ctx), d)
	values := settings.Values{}
	for _, l := range lines {
		values[l.Key] = l.Intended
	}
	return m, values, err
}

// named finds devices that a request names.
func (s *server) named(ctx context.Context, refs []string) ([]store.Device, error) {
	var out []store.Device
	for _, ref := range refs {
		d, err := s.FindDevice(ctx, ref)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}

// selected finds the devices of a selection. Those that are named must be there;
// of a site, a model or a tag, those in service that differ are taken.
func (s *server) selected(ctx context.Context, in wire.Selection) ([]store.Device, error) {
	out, err := s.named(ctx, in.Devices)
	if err != nil {
		return nil, err
	}
	if in.Site == "" && in.Model == "" && in.Tag == "" {
		if len(out) == 0 {
			var f problem.Fields
			f.Add("devices", "name devices, or a site, a model or a tag", "terraco-relay-1")
			return nil, f.Err("Nothing was selected.")
		}
		return out, nil
	}
	list, err := s.Differing(ctx, in.Site, in.Model, in.Tag)
	return append(out, list...), err
}

// onBench lists the devices that a start of the bench means.
func (s *server) onBench(ctx context.Context, in wire.BenchStart) ([]store.Device, error) {
	out, err := s.named(ctx, in.Devices)
	if err != nil {
		return nil, err
	}
	if len(out) > 0 {
		return out, nil
	}
	return s.OnBench(ctx, in.Site)
}

// startMany starts something for the devices that a request means, once for each
// key, and tells of each what became of it.
func startMany[B any](ctx context.Context, s *server, key, what string, body B, pick func(context.Context, B) ([]store.Device, error), start func(store.Device) (store.Task, error)) (*reply[[]wire.Applied], error) {
	return once(ctx, s, key, what, body, func() (*reply[[]wire.Applied], error) {
		list, err := pick(ctx, body)
		if err != nil {
			return nil, err
		}
		out := []wire.Applied{}
		for _, d := range list {
			a := wire.Applied{DeviceID: d.ID, Device: d.Name, Hostname: d.Hostname}
			rec, err := start(d)
			if err == nil {
				var t wire.Task
				if t, err = s.asTask(ctx, rec); err == nil {
					a.Task = &t
				}
			}
			a.Problem = sentence(err)
			out = append(out, a)
		}
		return &reply[[]wire.Applied]{out}, nil
	})
}

func sentence(err error) string {
	if err == nil {
		return ""
	}
	p := problem.As(err)
	if p == nil {
		return err.Error()
	}
	parts := []string{p.What}
	for _, f := range p.Fields {
		parts = append(parts, fmt.Sprintf("%s %s.", f.Field, f.Rule))
	}
	return strings.Join(append(parts, p.Next), " ")
}

func asPreview(p engine.Preview) wire.Preview {
	w := wire.Preview{DeviceID: p.Device.ID, Device: p.Device.Name, Hostname: p.Device.Hostname, At: string(p.At), Restarts: p.Restarts, AtWake: p.AtWake, Assumed: p.Assumed,
		Exchanges: []wire.Exchange{}, Differences: asSettings(p.Differs), Unsupported: []string{}, Unreadable: []string{}, Listeners: []string{}}
	for _, x := range p.Exchanges {
		w.Exchanges = append(w.Exchanges, wire.Exchange(x))
	}
	if p.Update != nil {
		x := wire.Exchange(*p.Update)
		w.Update = &x
	}
	for _, k := range p.Left {
		w.Unsupported = append(w.Unsupported, string(k))
	}
	for _, k := range p.Unread {
		w.Unreadable = append(w.Unreadable, string(k))
	}
	w.Listeners = append(w.Listeners, p.Listeners...)
	return w
}

func asDrift(x engine.Drift, site string) wire.Drift {
	line := asSettings([]engine.Line{x.Line})[0]
	w := wire.Drift{DeviceID: x.Device.ID, Device: x.Device.Name, Hostname: x.Device.Hostname, Site: site, Key: line.Key, Title: line.Title, State: line.State,
		Intended: line.Intended, Origin: line.Origin, Reported: line.Reported, Since: x.Since, ChangedBy: x.By}
	if x.By != "" {
		w.ChangedAt = &x.At
	}
	return w
}

func asRenames(list []engine.Rename) []wire.Rename {
	out := []wire.Rename{}
	for _, r := range list {
		w := wire.Rename{DeviceID: r.Device.ID, Device: r.Device.Name, From: r.From, To: r.To, InService: r.InService, Listeners: []string{}}
		w.Listeners = append(w.Listeners, r.Listeners...)
		out = append(out, w)
	}
	return out
}

func (s *server) asDialect(d *dialect.Dialect, file string) wire.Dialect {
	w := wire.Dialect{Name: d.Name, Title: d.Title, Settings: []string{}, Restarts: d.MostRestarts(), Sleeps: d.Sleeps(), Models: []string{}, Sheet: d.Describe(), File: file}
	for _, p := range d.Settings {
		for _, k := range p.Sets {
			w.Settings = append(w.Settings, string(k))
		}
	}
	for _, m := range s.Models() {
		if m.Dialect == d.Name {
			w.Models = append(w.Models, m.Name)
		}
	}
	return w
}
