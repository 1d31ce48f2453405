package api

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"fado/internal/core/check"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/task"
	"fado/internal/paper"
	"fado/internal/store"
	"fado/internal/wire"
)

// mostReported is how many events a report holds, the latest.
const mostReported = 1000

// report gathers what the owner of a site is handed.
func (s *server) report(ctx context.Context, ref string) (wire.Report, error) {
	site, err := s.FindSite(ctx, ref)
	if err != nil {
		return wire.Report{}, err
	}
	tx := s.Store.Read(ctx)
	r := wire.Report{Site: site.Name, Key: site.Key, Zone: site.Zone, At: s.Clock.Now(), By: actor(ctx), Fado: s.o.Version, Devices: []wire.ReportDevice{}, Events: []wire.Event{}}
	if site.NetworkID != nil {
		if n, err := store.One[store.Network](tx, "id = ?", *site.NetworkID); err == nil {
			r.Network = n.SSID
		}
	}
	if site.BrokerID != nil {
		if b, err := store.One[store.Broker](tx, "id = ?", *site.BrokerID); err == nil {
			r.Broker = fmt.Sprintf("%s, %s:%d", b.Name, b.Host, b.Port)
			if b.TLS {
				r.Broker += " by TLS"
			}
		}
	}
	if site.HubID != nil {
		if h, err := store.One[store.Hub](tx, "id = ?", *site.HubID); err == nil {
			r.Hub = h.Name
			if h.Trouble != "" {
				r.Open = append(r.Open, h.Trouble)
			}
		}
	}
	list, err := store.All[store.Device](tx, "name, id", "site_id = ?", site.ID)
	if err != nil {
		return r, err
	}
	n, err := s.names(ctx)
	if err != nil {
		return r, err
	}
	var notYet []string
	for _, d := range list {
		x, err := s.reported(ctx, tx, n, d)
		if err != nil {
			return r, err
		}
		r.Devices = append(r.Devices, x)
		r.Counts.Devices++
		if x.Stage.AtLeast(inventory.Joined) && x.Stage != inventory.Retired {
			r.Counts.InService++
			if x.SignOff == check.SignedOff {
				r.Counts.SignedOff++
			} else {
				r.Open = append(r.Open, openChecks(x))
			}
			if x.Standing == "behind" {
				r.Counts.Behind++
			}
		} else if x.Stage != inventory.Retired {
			notYet = append(notYet, x.Name)
		}
	}
	switch n := len(notYet); n {
	case 0:
	case 1:
		r.Open = append(r.Open, notYet[0]+" is not in service yet.")
	default:
		r.Open = append(r.Open, fmt.Sprintf("%d devices are not in service yet: %s.", n, strings.Join(notYet, ", ")))
	}
	slices.SortStableFunc(r.Devices, func(a, b wire.ReportDevice) int {
		if out := a.Stage == inventory.Retired; out != (b.Stage == inventory.Retired) {
			return map[bool]int{true: 1, false: -1}[out]
		}
		return strings.Compare(a.Room, b.Room)
	})
	const told = "site_id = ? AND kind <> 'presence'"
	events, err := store.Some[store.Event](tx, mostReported, "id DESC", told, site.ID)
	if err != nil {
		return r, err
	}
	all, err := store.Count[store.Event](tx, told, site.ID)
	if err != nil {
		return r, err
	}
	r.LeftOut = all - int64(len(events))
	for _, e := range slices.Backward(events) {
		r.Events = append(r.Events, wire.Event{ID: e.ID, At: e.At, Actor: e.Actor, Site: site.Key, DeviceID: e.DeviceID, TaskID: e.TaskID, Kind: e.Kind, Text: e.Text})
	}
	return r, nil
}

// openChecks says what a device's sign-off wants.
func openChecks(x wire.ReportDevice) string {
	var fails, asked []string
	for _, c := range x.Checks {
		switch c.Verdict {
		case check.Fails:
			fails = append(fails, string(c.Name))
		case check.Asked:
			asked = append(asked, string(c.Name))
		}
	}
	switch {
	case len(fails) > 0:
		return fmt.Sprintf("%s: «%s» %s.", x.Name, strings.Join(fails, "», «"), map[bool]string{true: "fails", false: "fail"}[len(fails) == 1])
	case len(asked) > 0:
		return fmt.Sprintf("%s: a person has yet to answer «%s».", x.Name, strings.Join(asked, "», «"))
	}
	return fmt.Sprintf("%s was not checked.", x.Name)
}

func (s *server) reported(ctx context.Context, tx *store.Tx, n names, d store.Device) (wire.ReportDevice, error) {
	w := n.device(d)
	x := wire.ReportDevice{ID: d.ID, Name: d.Name, Room: w.Room, Model: d.Model, ModelTitle: d.Model, Hostname: d.Hostname, Topic: d.TopicInUse(), Address: d.Address, HardwareID: d.HardwareID,
		Firmware: d.Firmware, Running: d.Running, Intended: w.Intended, Standing: d.Standing, Stage: w.Stage, Does: []string{}, Units: []wire.Tenure{}}
	if m, ok := s.Model(d.Model); ok {
		x.ModelTitle, x.Power = m.Title, string(m.Power)
		for _, c := range m.Capabilities {
			x.Does = append(x.Does, c.Title)
		}
	}
	var err error
	if x.Checks, err = s.ChecksOf(ctx, d.ID); err != nil {
		return x, err
	}
	x.SignOff = check.Stand(x.Checks)
	done, err := store.Some[store.Task](tx, 1, "ended_at DESC", "device_id = ? AND kind = ? AND status = ?", d.ID, string(task.Commission), string(task.Done))
	if err != nil {
		return x, err
	}
	if len(done) > 0 && x.Stage != inventory.Listed {
		x.Commissioned, x.By = done[0].EndedAt, done[0].Actor
	}
	x.Units, err = s.unitsOf(tx, d.ID)
	return x, err
}

// toLabel are the devices of a site whose labels are asked for.
func (s *server) toLabel(ctx context.Context, ref, room string) ([]paper.Label, error) {
	site, err := s.FindSite(ctx, ref)
	if err != nil {
		return nil, err
	}
	list, err := store.All[store.Device](s.Store.Read(ctx), "name, id", "site_id = ? AND stage <> ?", site.ID, string(inventory.Retired))
	if err != nil {
		return nil, err
	}
	n, err := s.names(ctx)
	if err != nil {
		return nil, err
	}
	if room != "" && !slices.ContainsFunc(list, func(d store.Device) bool { return n.device(d).Room == room }) {
		var f problem.Fields
		f.Add("room", fmt.Sprintf("no device of %s is in %q", site.Name, room), "")
		return nil, f.Err("There are no labels.")
	}
	out := []paper.Label{}
	for _, d := range list {
		if l := s.label(site, n, d); room == "" || l.Room == room {
			out = append(out, l)
		}
	}
	slices.SortStableFunc(out, func(a, b paper.Label) int { return strings.Compare(a.Room, b.Room) })
	return out, nil
}

func (s *server) label(site store.Site, n names, d store.Device) paper.Label {
	l := paper.Label{Link: s.o.URL + "/devices/" + d.ID, Name: d.Name, Room: n.device(d).Room, Site: site.Name, Hostname: d.Hostname, HardwareID: d.HardwareID, Model: d.Model}
	if m, ok := s.Model(d.Model); ok {
		l.Model = m.Title
	}
	return l
}

func page(b []byte, err error) (*file, error) { return &file{"text/html; charset=utf-8", b}, err }

func (s *server) paperRoutes(api huma.API) {
	handle(s, api, "GET", "/sites/{id}/report", "report", "The hand-over report of a site", 200, func(ctx context.Context, in *path1) (*reply[wire.Report], error) {
		r, err := s.report(ctx, in.ID)
		return &reply[wire.Report]{r}, err
	})
	handle(s, api, "GET", "/sites/{id}/report.html", "report-page", "The hand-over report of a site, to print", 200, func(ctx context.Context, in *path1) (*file, error) {
		r, err := s.report(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return page(paper.Report(r))
	})
	handle(s, api, "GET", "/sites/{id}/labels.html", "labels", "Labels for the devices of a site, as sheets to print", 200, func(ctx context.Context, in *struct {
		ID      string  `path:"id"`
		Room    string  `query:"room" doc:"Only the devices of this room"`
		Columns int     `query:"columns" minimum:"1" maximum:"6" default:"3" doc:"Labels beside each other on an A4 sheet"`
		Rows    int     `query:"rows" minimum:"1" maximum:"16" default:"8" doc:"Labels below each other"`
		Margin  float64 `query:"margin" minimum:"0" maximum:"40" default:"8" doc:"Of the sheet, mm"`
		Skip    int     `query:"skip" minimum:"0" maximum:"95" doc:"Labels of the first sheet that are used up"`
	}) (*file, error) {
		labels, err := s.toLabel(ctx, in.ID, in.Room)
		if err != nil {
			return nil, err
		}
		return page(paper.Sheet(labels, paper.Layout{Columns: in.Columns, Rows: in.Rows, MarginMM: in.Margin, Skip: in.Skip}))
	})
	handle(s, api, "GET", "/devices/{id}/label.svg", "label", "The label of a device, with a code that opens its page", 200, func(ctx context.Context, in *path1) (*file, error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		site, err := s.FindSite(ctx, d.SiteID)
		if err != nil {
			return nil, err
		}
		n, err := s.names(ctx)
		if err != nil {
			return nil, err
		}
		return drawn(s.label(site, n, d).SVG())
	})
}
