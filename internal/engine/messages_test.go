package engine

import (
	"bytes"
	"fmt"
	"testing"
	"time"

	"fado/internal/broker"
	"fado/internal/core/health"
	"fado/internal/store"
)

// hearing is an ingest beside the one that runs, so that a test says when it writes.
func hearing(t *testing.T, e *Engine) *ingest {
	t.Helper()
	in := newIngest(e)
	if err := in.load(); err != nil {
		t.Fatal(err)
	}
	if err := in.loadSaid(); err != nil {
		t.Fatal(err)
	}
	return in
}

// TestACrashCostsNoHealth: what was said but not yet rolled up on disk when the service
// dies is measured once, and only once.
func TestACrashCostsNoHealth(t *testing.T) {
	e := bench(t)
	d := device(t, e, "Nora", "sobro-quatro", "02:5A:11:00:09:01")
	say := func(in *ingest, signal int, retained bool) {
		in.one(broker.Message{Topic: d.Topic + "/health", Payload: fmt.Appendf(nil, `{"signal":%d}`, signal), From: "unit-025a11000901-1", Replayed: retained})
	}
	measured := func(in *ingest) (n int64) {
		for k, r := range in.health.rolls {
			if k.span == health.Fine && k.what == health.Signal {
				n += r.Count
			}
		}
		return n
	}
	first := hearing(t, e)
	for i := range 5 {
		say(first, -60-i, false)
	}
	say(first, -10, true) // kept by the broker: history
	first.flush()
	if measured(first) != 5 {
		t.Fatalf("%d readings before the crash", measured(first))
	}
	second := hearing(t, e)
	if measured(second) != 5 {
		t.Fatalf("%d readings after the crash", measured(second))
	}
	say(second, -70, false)
	second.health.due = time.Time{}
	second.flush()
	third := hearing(t, e)
	if measured(third) != 0 || third.said.next != 8 {
		t.Errorf("%d readings are measured twice; the next message is the %dth", measured(third), third.said.next)
	}
	say(third, -80, false)
	third.write(true)
	h, err := e.HealthOf(t.Context(), d.ID, time.Now().Add(-time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	n, low, sum := int64(0), 0.0, 0.0
	for _, x := range h.Spans[health.Signal] {
		n, low, sum = n+x.Count, min(low, x.Low), sum+x.Sum
	}
	if n != 7 || low != -80 || sum != -60-61-62-63-64-70-80 {
		t.Errorf("%d readings, the lowest %v, together %v", n, low, sum)
	}
}

// TestWhatComesTwiceOrLate: QoS 1 may deliver a message twice, and two topics may
// overtake one another. A return is counted once, a reading is measured once, and a
// unit that goes on speaking after an old will is there.
func TestWhatComesTwiceOrLate(t *testing.T) {
	e := bench(t)
	d := device(t, e, "Nora", "sobro-quatro", "02:5A:11:00:09:01")
	in, at := hearing(t, e), time.Now()
	say := func(topic, payload string) {
		for range 2 {
			in.oneAt(broker.Message{Topic: d.Topic + "/" + topic, Payload: []byte(payload), From: "unit-025a11000901-1"}, at)
		}
	}
	presence := func(want string) {
		t.Helper()
		in.flush()
		got, err := store.One[store.Device](e.Store.Read(t.Context()), "id = ?", d.ID)
		if err != nil || got.Presence != want {
			t.Errorf("%s, want %s; %v", got.Presence, want, err)
		}
	}
	say("presence", `"online"`)
	say("state/relay-1", "true")
	presence("online")
	at = at.Add(30 * time.Second)
	say("state/relay-1", "true")
	say("presence", `"offline"`)
	presence("offline")
	at = at.Add(overtaken / 2)
	say("state/relay-1", "true") // from before its end
	presence("offline")
	at = at.Add(10 * time.Second)
	say("presence", `"online"`)
	say("presence", `"offline"`) // the will of the session before
	at = at.Add(30 * time.Second)
	presence("offline")
	say("state/relay-1", "true")
	presence("online")
	for what, want := range map[health.What]int64{health.Returns: 2, health.Interval: 3} {
		n := int64(0)
		for k, r := range in.health.rolls {
			if k.span == health.Coarse && k.what == what {
				n += r.Count
			}
		}
		if n != want {
			t.Errorf("%s: %d times, want %d", what, n, want)
		}
	}
}

// TestWhatIsKeptIsBounded: by time and by size, the oldest first.
func TestWhatIsKeptIsBounded(t *testing.T) {
	at := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	s := said{next: 1}
	batch := func(size int) []Said {
		b := []Said{{Seq: s.next, At: at, Topic: "a/b", Payload: make([]byte, size)}}
		s.next++
		return b
	}
	for i := range 10 {
		if gone := s.add(batch(100), at); gone != 0 || len(s.batches) != i+1 {
			t.Fatalf("%d gone of %d", gone, i)
		}
	}
	at = at.Add(keptFor + time.Second)
	if gone := s.add(batch(100), at); gone != 10 || len(s.batches) != 1 {
		t.Errorf("%d gone after an hour, %d left", gone, len(s.batches))
	}
	for range 100 {
		s.add(batch(1<<20), at)
	}
	total := 0
	for _, b := range s.batches {
		total += sizeOf(b)
	}
	if total != s.bytes || s.bytes > keptBytes || s.bytes < keptBytes-2<<20 {
		t.Errorf("%d bytes are kept, %d are counted", total, s.bytes)
	}
	if gone := s.add(nil, at); gone != 0 {
		t.Errorf("nothing was added, and %d is gone", gone)
	}
}

// TestWhatAUnitIsToldIsNotKept: neither in memory nor on disk.
func TestWhatAUnitIsToldIsNotKept(t *testing.T) {
	e := bench(t)
	d := device(t, e, "Nora", "sobro-quatro", "02:5A:11:00:09:01")
	in := hearing(t, e)
	const secret = "azeite virgem 1894"
	for _, from := range []string{"inline", "", "hub-lagar"} {
		in.one(broker.Message{Topic: d.Topic + "/ask", Payload: []byte(`{"ask":"settings","wifi":{"passphrase":"` + secret + `"}}`), From: from})
		in.one(broker.Message{Topic: d.Topic + "/command/relay-1", Payload: []byte(`"` + secret + `"`), From: from})
	}
	in.one(broker.Message{Topic: d.Topic + "/command/relay-1", Payload: []byte("true"), From: "inline"})
	in.flush()
	var rows []store.Heard
	if err := e.Store.Telemetry(t.Context(), func(tx *store.Tx) (err error) {
		rows, err = store.All[store.Heard](tx, "id", "1 = 1")
		return err
	}); err != nil || len(rows) != 1 {
		t.Fatal(err, len(rows))
	}
	if bytes.Contains(rows[0].Body, []byte(secret)) {
		t.Error("a secret is on disk")
	}
	shown := 0
	for _, s := range in.said.batches[0] {
		if !s.Hidden {
			shown++
		}
		if bytes.Contains(s.Payload, []byte(secret)) || s.Hidden != (string(s.Payload) != "true") || s.Size == 0 {
			t.Errorf("%+v", s)
		}
	}
	if shown != 1 {
		t.Errorf("%d of 7 are shown", shown)
	}
}
