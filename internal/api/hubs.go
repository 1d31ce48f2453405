package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"fado/internal/core/notice"
	"fado/internal/engine"
	"fado/internal/store"
	"fado/internal/wire"
)

func (s *server) hub(ctx context.Context, h store.Hub) wire.Hub {
	n, _ := store.Count[store.Outgoing](s.Store.Read(ctx), "hub_id = ?", h.ID)
	return wire.Hub{ID: h.ID, Name: h.Name, Directory: h.Directory, Account: h.Account, Notice: h.Notice, Waiting: n, AnsweredAt: h.AnsweredAt, Trouble: h.Trouble, TroubleSince: h.TroubleSince}
}

func (s *server) hubView(ctx context.Context, v engine.HubView) (wire.HubView, error) {
	h, err := s.FindHub(ctx, v.Hub.ID) // how it answered just now is on record
	if err != nil {
		return wire.HubView{}, err
	}
	n, err := s.names(ctx)
	if err != nil {
		return wire.HubView{}, err
	}
	out := wire.HubView{Hub: s.hub(ctx, h), At: v.At, Summary: v.Summary(), Things: []wire.HubThing{}, Strangers: v.Strangers}
	for _, t := range v.Things {
		w := wire.HubThing{ID: t.ID, Name: t.Title, Standing: t.Standing, Tries: t.Tries}
		if t.Device.Name != "" {
			d := n.device(t.Device)
			w.Device, w.Name, w.Site, w.Room = d.ID, d.Name, d.Site, d.Room
		}
		for _, x := range t.Differences {
			w.Differences = append(w.Differences, wire.HubDifference{At: x.At, Ours: x.Ours, Theirs: x.Theirs})
		}
		out.Things = append(out.Things, w)
	}
	return out, nil
}

func (s *server) notice(n *notice.Notice) wire.Notice {
	return wire.Notice{Name: n.Name, Title: n.Title, Listens: n.Listens, Entries: len(n.Entries)}
}

type noticeQuery struct {
	ID     string `path:"id"`
	Notice string `query:"notice" doc:"Name of the notice; that of the site's hub when left out"`
}

func (s *server) noticeRoutes(api huma.API) {
	handle(s, api, "GET", "/notices", "list-notices", "List the notices", 200, func(context.Context, *none) (*reply[[]wire.Notice], error) {
		out := []wire.Notice{}
		for _, n := range s.Notices() {
			out = append(out, s.notice(n))
		}
		return &reply[[]wire.Notice]{out}, nil
	})
	handle(s, api, "GET", "/notices/{id}", "get-notice", "One notice with its file", 200, func(ctx context.Context, in *path1) (*reply[wire.Notice], error) {
		f, err := s.File(ctx, "notice", in.ID)
		if err != nil {
			return nil, err
		}
		w := wire.Notice{Name: in.ID, File: f.Body}
		if n, ok := s.Notice(in.ID); ok {
			w = s.notice(n)
			w.File = f.Body
		}
		return &reply[wire.Notice]{w}, nil
	})
	handle(s, api, "PUT", "/notices", "put-notice", "Add a notice by its file, or replace it", 200, func(ctx context.Context, in *withBody[wire.FileText]) (*reply[wire.Notice], error) {
		n, err := s.PutNotice(ctx, actor(ctx), []byte(in.Body.File))
		if err != nil {
			return nil, err
		}
		return &reply[wire.Notice]{s.notice(n)}, nil
	})
	handle(s, api, "GET", "/devices/{id}/notice", "try-notice", "What a hub that listens would be told of a device", 200, func(ctx context.Context, in *noticeQuery) (*reply[[]wire.Post], error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if in.Notice == "" {
			if h, err := store.One[store.Hub](s.Store.Read(ctx), "id = (SELECT hub_id FROM sites WHERE id = ?)", d.SiteID); err == nil {
				in.Notice = h.Notice
			}
		}
		list, err := s.Posts(ctx, d, in.Notice)
		out := []wire.Post{}
		for _, m := range list {
			out = append(out, wire.Post{Topic: m.Topic, Body: string(m.Body)})
		}
		return &reply[[]wire.Post]{out}, err
	})
}

func (s *server) hubRoutes(api huma.API) {
	s.noticeRoutes(api)
	handle(s, api, "GET", "/hubs", "list-hubs", "List the hubs", 200, func(ctx context.Context, _ *none) (*reply[[]wire.Hub], error) {
		list, err := store.All[store.Hub](s.Store.Read(ctx), "name", "1 = 1")
		out := []wire.Hub{}
		for _, h := range list {
			out = append(out, s.hub(ctx, h))
		}
		return &reply[[]wire.Hub]{out}, err
	})
	handle(s, api, "POST", "/hubs", "add-hub", "Add a hub", 201, func(ctx context.Context, in *withBody[wire.HubEdit]) (*reply[wire.Hub], error) {
		h, err := s.SaveHub(ctx, actor(ctx), "", in.Body)
		return &reply[wire.Hub]{s.hub(ctx, h)}, err
	})
	handle(s, api, "PATCH", "/hubs/{id}", "edit-hub", "Change a hub", 200, func(ctx context.Context, in *pathBody[wire.HubEdit]) (*reply[wire.Hub], error) {
		h, err := s.SaveHub(ctx, actor(ctx), in.ID, in.Body)
		return &reply[wire.Hub]{s.hub(ctx, h)}, err
	})
	handle(s, api, "GET", "/hubs/{id}", "show-hub", "A hub, by id or name", 200, func(ctx context.Context, in *path1) (*reply[wire.Hub], error) {
		h, err := s.FindHub(ctx, in.ID)
		return &reply[wire.Hub]{s.hub(ctx, h)}, err
	})
	handle(s, api, "GET", "/hubs/{id}/things", "compare-hub", "What a hub holds, asked now, compared with what it should", 200, func(ctx context.Context, in *path1) (*reply[wire.HubView], error) {
		v, err := s.CompareHub(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		out, err := s.hubView(ctx, v)
		return &reply[wire.HubView]{out}, err
	})
	handle(s, api, "POST", "/hubs/{id}/catch-up", "catch-up-hub", "Bring a hub in step: put again what it lost or changed, remove what has left", 202, func(ctx context.Context, in *path1) (*reply[wire.HubView], error) {
		v, queued, err := s.CatchUpHub(ctx, actor(ctx), in.ID)
		if err != nil {
			return nil, err
		}
		out, err := s.hubView(ctx, v)
		out.Queued = queued
		return &reply[wire.HubView]{out}, err
	})
}
