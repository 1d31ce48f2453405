package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"fado/internal/core/health"
	"fado/internal/core/sheet"
	"fado/internal/engine"
	"fado/internal/store"
	"fado/internal/wire"
)

type whichMessages struct {
	Site     string `query:"site"`
	Room     string `query:"room"`
	Device   string `query:"device"`
	Kind     string `query:"kind" enum:"presence,unit,settings,state,health,answer,update,wake,command" doc:"command is what is sent to a unit"`
	Contains string `query:"contains" maxLength:"200" doc:"In topic or payload, whatever the case"`
	After    int64  `query:"after" doc:"Messages with higher numbers only"`
	Limit    int    `query:"limit" minimum:"1" maximum:"2000" default:"200" doc:"The latest so many"`
}

func (s *server) said(ctx context.Context, in whichMessages) (wire.SaidPage, error) {
	p, err := s.Heard(ctx, engine.MessageFilter{Site: in.Site, Room: in.Room, Device: in.Device, Kind: in.Kind, Contains: in.Contains, After: in.After, Limit: in.Limit})
	if err != nil {
		return wire.SaidPage{}, err
	}
	out := wire.SaidPage{Messages: make([]wire.Said, 0, len(p.Messages)), Next: p.Next, LeftOut: p.LeftOut}
	if !p.Since.IsZero() {
		out.Since = &p.Since
	}
	if len(p.Messages) == 0 {
		return out, nil
	}
	n, err := s.names(ctx)
	if err != nil {
		return out, err
	}
	type speaker struct {
		wire.Device
		hide func(string) string // what it was told, if it repeats that
	}
	devices := map[string]speaker{}
	for _, m := range p.Messages {
		d, known := devices[m.Device]
		if !known {
			d.hide = func(said string) string { return said }
			if rec, err := store.One[store.Device](s.Store.Read(ctx), "id = ?", m.Device); err == nil {
				d.Device = n.device(rec)
				if d.hide, err = s.Hider(ctx, rec); err != nil {
					return out, err
				}
			}
			devices[m.Device] = d
		}
		w := wire.Said{Seq: m.Seq, At: m.At, DeviceID: m.Device, Device: d.Name, Site: d.Site, Room: d.Room, Topic: m.Topic, Below: strings.TrimPrefix(strings.TrimPrefix(m.Topic, m.Base), "/"),
			Kind: string(m.Kind), Says: m.Facts, Means: m.Means, Size: m.Size, Hidden: m.Hidden, Kept: m.Retained, From: m.From}
		if w.Payload = string(m.Payload); !utf8.Valid(m.Payload) {
			w.Payload, w.Hex = hex.EncodeToString(m.Payload), true
		} else if hidden := d.hide(w.Payload); hidden != w.Payload {
			w.Payload, w.Says, w.Means = hidden, nil, ""
		}
		out.Messages = append(out.Messages, w)
	}
	return out, nil
}

func (s *server) messageRoutes(api huma.API) {
	handle(s, api, "GET", "/messages", "messages", "What devices said and were told on the broker in the last hour", 200, func(ctx context.Context, in *whichMessages) (*reply[wire.SaidPage], error) {
		p, err := s.said(ctx, *in)
		return &reply[wire.SaidPage]{p}, err
	})
	handle(s, api, "GET", "/devices/{id}/health", "device-health", "How a device's unit did: signal, memory, battery, readings and returns", 200, func(ctx context.Context, in *struct {
		ID    string `path:"id"`
		Hours int    `query:"hours" minimum:"1" maximum:"2160" default:"24" doc:"How far back"`
	}) (*reply[wire.Health], error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		h, err := s.HealthOf(ctx, d.ID, s.Clock.Now().Add(-time.Duration(in.Hours)*time.Hour))
		if err != nil {
			return nil, err
		}
		out := wire.Health{DeviceID: d.ID, Device: d.Name, SpanSeconds: int(h.Span / time.Second), Series: []wire.HealthSeries{}}
		for _, w := range health.All {
			series := wire.HealthSeries{What: string(w), Unit: w.Unit(), Spans: []wire.HealthSpan{}}
			for _, x := range h.Spans[w] {
				series.Spans = append(series.Spans, wire.HealthSpan{At: x.Start, Count: x.Count, Low: x.Low, High: x.High, Mean: x.Mean(), Sum: x.Sum, Last: x.End})
			}
			if len(series.Spans) > 0 {
				out.Series = append(out.Series, series)
			}
		}
		return &reply[wire.Health]{out}, nil
	})
	handle(s, api, "GET", "/messages.csv", "messages-csv", "The same for a spreadsheet", 200, func(ctx context.Context, in *whichMessages) (*file, error) {
		p, err := s.said(ctx, *in)
		if err != nil {
			return nil, err
		}
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		_ = w.Write([]string{"at", "site", "room", "device", "topic", "kind", "means", "says", "payload", "bytes", "hidden", "kept", "from"})
		for _, m := range p.Messages {
			says := ""
			if len(m.Says) > 0 {
				x, err := json.Marshal(m.Says)
				if err != nil {
					return nil, fmt.Errorf("write what a message says: %w", err)
				}
				says = string(x)
			}
			row := []string{m.At.Format(time.RFC3339Nano), m.Site, m.Room, m.Device, m.Topic, m.Kind, m.Means, says, m.Payload, strconv.Itoa(m.Size), strconv.FormatBool(m.Hidden), strconv.FormatBool(m.Kept), m.From}
			for i := range row {
				row[i] = sheet.Guarded(row[i])
			}
			_ = w.Write(row)
		}
		w.Flush()
		return &file{"text/csv; charset=utf-8", b.Bytes()}, w.Error()
	})
}
