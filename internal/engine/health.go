package engine

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"fado/internal/core/dialect"
	"fado/internal/core/health"
	"fado/internal/store"
)

// measured is how units do, rolled up in memory until it is written. The ingest owns
// it.
type measured struct {
	rolls   map[roll]*health.Roll
	last    map[string]*health.Last
	due     time.Time
	writing bool
}

type roll struct {
	device string
	what   health.What
	span   time.Duration
	start  time.Time
}

// How often what was measured is written: seldom where there is much of it. What was not when the service
// dies is measured again from the messages that were kept.
const (
	healthRound = time.Minute
	healthMany  = 5000 // rows
)

func newMeasured() measured {
	return measured{rolls: map[roll]*health.Roll{}, last: map[string]*health.Last{}}
}

// take measures a live message of a unit.
func (m *measured) take(device string, kind dialect.MessageKind, facts dialect.Facts, at time.Time) {
	l := m.last[device]
	if l == nil {
		l = &health.Last{}
		m.last[device] = l
	}
	for what, v := range l.Read(kind, facts, at) {
		for _, span := range []time.Duration{health.Fine, health.Coarse} {
			k := roll{device, what, span, health.Start(at, span)}
			r := m.rolls[k]
			if r == nil {
				r = &health.Roll{}
				m.rolls[k] = r
			}
			r.Add(v)
		}
	}
}

// written lets go of what has been written.
func (m *measured) written() {
	if m.writing {
		clear(m.rolls)
		m.writing = false
	}
}

const healthUntil = "health until"

// keepHealth writes what was measured, when it is time, with the number of the last
// message that is in it.
func (in *ingest) keepHealth(tx *store.Tx, ending bool) error {
	m := &in.health
	m.writing = false
	now := in.e.Clock.Now()
	if len(m.rolls) == 0 || !ending && now.Before(m.due) {
		return nil
	}
	rows := make([]store.Sample, 0, len(m.rolls))
	for k, r := range m.rolls {
		if r.Count > 0 {
			rows = append(rows, store.Sample{DeviceID: k.device, Span: int64(k.span / time.Second), What: string(k.what), Start: k.start.Unix(), Count: r.Count, Low: r.Low, High: r.High, Sum: r.Sum, Latest: r.End})
		}
	}
	if err := store.AddSamples(tx, rows); err != nil {
		return fmt.Errorf("write how units do: %w", err)
	}
	for span, kept := range map[time.Duration]time.Duration{health.Fine: health.FineKept, health.Coarse: health.CoarseKept} {
		if _, err := store.Delete[store.Sample](tx, "span = ? AND start < ?", int64(span/time.Second), now.Add(-kept).Unix()); err != nil {
			return fmt.Errorf("let go of how units did: %w", err)
		}
	}
	m.due, m.writing = now.Add(healthRound), true
	if len(rows) > healthMany {
		m.due = now.Add(health.Fine)
	}
	return store.Save(tx, &store.Meta{Name: healthUntil, Value: strconv.FormatInt(in.said.next-1, 10)})
}

// catchUpHealth measures again what was said but not written before the service went
// down.
func (in *ingest) catchUpHealth() error {
	in.health.due = in.e.Clock.Now().Add(healthRound)
	var until int64
	err := in.e.Store.Telemetry(in.e.ctx, func(tx *store.Tx) error {
		m, err := store.One[store.Meta](tx, "name = ?", healthUntil)
		if isNone(err) {
			return nil
		}
		if err == nil {
			until, err = strconv.ParseInt(m.Value, 10, 64)
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("read how far health was written: %w", err)
	}
	for _, batch := range in.said.batches {
		for _, s := range batch {
			if s.Seq <= until || s.Retained || s.From == "fado" {
				continue
			}
			if h := in.understand(s); h.Facts != nil {
				in.health.take(s.Device, h.Kind, h.Facts, s.At)
			}
		}
	}
	return nil
}

// Health is how a unit did, span by span, the oldest first.
type Health struct {
	Span  time.Duration
	Spans map[health.What][]HealthSpan
}

// HealthSpan is what was measured in one span.
type HealthSpan struct {
	Start time.Time
	health.Roll
}

// healthAround compares how a device's unit did in the day before something began
// with the day after it ended, within bounds; a zero bound is none. Only whole spans
// count, so that neither side has what happened between.
func (e *Engine) healthAround(ctx context.Context, device string, since, began, ended, until time.Time) ([]health.Change, error) {
	const day = 24 * time.Hour
	if since.Before(began.Add(-day)) {
		since = began.Add(-day)
	}
	if until.IsZero() || until.After(ended.Add(day)) {
		until = ended.Add(day)
	}
	span := health.Fine
	if e.Clock.Now().Sub(since) > health.FineKept {
		span = health.Coarse
	}
	var sides [2]health.Window
	err := e.Store.Telemetry(ctx, func(tx *store.Tx) error {
		list, err := store.All[store.Sample](tx, "start, what", "device_id = ? AND span = ? AND start >= ? AND start < ?", device, int64(span/time.Second), since.Unix(), until.Unix())
		last := [2]int64{}
		for _, x := range list {
			start := time.Unix(x.Start, 0)
			n := 0
			switch {
			case !start.Add(span).After(began):
			case !start.Before(ended) && !start.Add(span).After(until):
				n = 1
			default:
				continue
			}
			w := &sides[n]
			if w.Rolls == nil {
				w.Rolls = map[health.What]health.Roll{}
			}
			if last[n] != x.Start {
				last[n] = x.Start
				w.Hours += span.Hours()
			}
			what := health.What(x.What)
			w.Rolls[what] = w.Rolls[what].Merge(health.Roll{Count: x.Count, Low: x.Low, High: x.High, Sum: x.Sum, End: x.Latest})
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("compare how it did: %w", err)
	}
	return health.Compare(sides[0], sides[1]), nil
}

// HealthOf tells how a device's unit did since a moment: by five minutes while those
// are kept, else by hours.
func (e *Engine) HealthOf(ctx context.Context, device string, since time.Time) (Health, error) {
	out := Health{Span: health.Fine, Spans: map[health.What][]HealthSpan{}}
	if e.Clock.Now().Sub(since) > 2*24*time.Hour {
		out.Span = health.Coarse
	}
	err := e.Store.Telemetry(ctx, func(tx *store.Tx) error {
		list, err := store.All[store.Sample](tx, "what, start", "device_id = ? AND span = ? AND start >= ?", device, int64(out.Span/time.Second), health.Start(since, out.Span).Unix())
		for _, x := range list {
			w := health.What(x.What)
			out.Spans[w] = append(out.Spans[w], HealthSpan{time.Unix(x.Start, 0).UTC(), health.Roll{Count: x.Count, Low: x.Low, High: x.High, Sum: x.Sum, End: x.Latest}})
		}
		return err
	})
	return out, err
}
