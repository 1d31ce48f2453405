package engine

import (
	"strings"
	"testing"
	"time"

	"fado/internal/broker"
	"fado/internal/core/problem"
	"fado/internal/store"
	"fado/internal/wire"
)

// TestAUnitUnderAForeignTopicIsOverheard: it is matched by its id; what is kept of
// the past, Fado's own words and nonsense are not taken for a unit.
func TestAUnitUnderAForeignTopicIsOverheard(t *testing.T) {
	e := bench(t)
	a := device(t, e, "A", "sobro-quatro", "02:5A:11:00:09:01")
	in := newIngest(e)
	if err := in.load(); err != nil {
		t.Fatal(err)
	}
	who := func(id string) []byte {
		return []byte(`{"hardware_id":"` + id + `","address":"192.168.40.44","firmware":{"version":"1.3.2"}}`)
	}
	for _, m := range []broker.Message{
		{Topic: "antiga/rega/unit", Payload: who("02:5A:11:00:09:01"), From: "x"}, {Topic: "outra/unit", Payload: who("02:5A:11:00:09:99"), From: "x"},
		{Topic: "kept/unit", Payload: who("02:5A:11:00:09:98"), Replayed: true}, {Topic: "own/unit", Payload: who("02:5A:11:00:09:97"), From: "inline"},
		{Topic: "odd/unit", Payload: who("03:00:00:00:00:00"), From: "x"}, {Topic: "empty/unit", From: "x"}, {Topic: a.Topic + "/unit", Payload: who("02:5A:11:00:09:01"), From: "x"},
	} {
		in.one(m)
	}
	in.flush()
	list, err := e.Sightings(t.Context(), true)
	if err != nil || len(list) != 2 {
		t.Fatalf("%+v, %v", list, err)
	}
	for _, s := range list {
		want := map[string]string{"antiga/rega": a.ID, "outra": ""}
		if owner, known := want[s.Name]; !known || s.DeviceID != owner || s.Source != "broker" || s.Address != "192.168.40.44" || s.Version != "1.3.2" {
			t.Errorf("%+v", s)
		}
	}
}

// TestAUnitThatMovedIsFoundByItsID: an answer with its id and another address moves
// the device of a unit in service; two with one id move nothing.
func TestAUnitThatMovedIsFoundByItsID(t *testing.T) {
	e := bench(t)
	d := device(t, e, "A", "sobro-quatro", "02:5A:11:00:09:01")
	change := func(columns map[string]any) {
		t.Helper()
		if err := e.Store.Write(t.Context(), func(tx *store.Tx) error {
			_, err := store.Change[store.Device](tx, columns, "id = ?", d.ID)
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	seen := func(address string, twice bool) string {
		t.Helper()
		s := store.Sighting{ID: "lan/lagar/direct/025a11000901", Source: "lan", Name: "fado-025a11000901", SiteID: d.SiteID, Dialect: "direct", Digits: "025a11000901", HardwareID: d.HardwareID, Address: address, Twice: twice}
		if err := e.Store.Write(t.Context(), func(tx *store.Tx) error { return e.keepSighting(tx, s) }); err != nil {
			t.Fatal(err)
		}
		now, err := e.FindDevice(t.Context(), d.ID)
		if err != nil {
			t.Fatal(err)
		}
		return now.Address
	}
	if got := seen("192.168.40.20", false); got != "" {
		t.Errorf("a listed device has the address %s", got)
	}
	change(map[string]any{"stage": "adopted", "address": "192.168.40.20"})
	if got := seen("192.168.40.57", false); got != "192.168.40.57" {
		t.Errorf("it is thought to be at %s", got)
	}
	if got := seen("192.168.40.99", true); got != "192.168.40.57" {
		t.Errorf("two say so, and it is thought to be at %s", got)
	}
	events, err := store.All[store.Event](e.Store.Read(t.Context()), "id", "device_id = ? AND kind = 'sighting'", d.ID)
	if err != nil || len(events) != 2 || !strings.Contains(events[0].Text, "from 192.168.40.20 to 192.168.40.57") || !strings.Contains(events[1].Text, "Two units") {
		t.Errorf("%+v, %v", events, err)
	}
}

// TestWhatIsKnownOfANetworkIsJudged: all faults of a site's network at once, and
// its reserved addresses are kept to.
func TestWhatIsKnownOfANetworkIsJudged(t *testing.T) {
	e := bench(t)
	d := device(t, e, "A", "sobro-quatro", "02:5A:11:00:09:01")
	site, err := e.FindSite(t.Context(), d.SiteID)
	if err != nil {
		t.Fatal(err)
	}
	_, err = e.SaveSite(t.Context(), "test", site.Key, 0, wire.SiteEdit{NameServer: new("http://x/"), Domain: new("a..b"), Range: new("192.168.40.1/24"), Reserved: &[]string{"192.168.40.9-192.168.40.1"}})
	p := problem.As(err)
	if p == nil || len(p.Fields) != 4 {
		t.Fatalf("%+v", p)
	}
	if site, err = e.SaveSite(t.Context(), "test", site.Key, 0, wire.SiteEdit{NameServer: new("192.168.40.1"), Domain: new("lagar.home.arpa."), Range: new("192.168.40.0/24"), Reserved: &[]string{"192.168.40.1-192.168.40.9", "192.168.40.250"}}); err != nil {
		t.Fatal(err)
	}
	if site.NameServer != "192.168.40.1:53" || site.Domain != "lagar.home.arpa" {
		t.Errorf("%+v", site)
	}
	for ip, want := range map[string]string{"192.168.40.250": "reserved", "192.168.40.5": "reserved", "192.168.41.20": "outside 192.168.40.0/24", "192.168.40.20": ""} {
		p := problem.As(e.SetIntended(t.Context(), "test", "", "", d.ID, fixedAt(ip)))
		if got := p != nil && len(p.Fields) == 1 && strings.Contains(p.Fields[0].Rule, want); want != "" && !got || want == "" && p != nil {
			t.Errorf("%s: %+v", ip, p)
		}
	}
}

// TestWhatBecameOfAnOldUnitIsHistory: a device whose unit was lost, and taken out
// since, needs nobody any more.
func TestWhatBecameOfAnOldUnitIsHistory(t *testing.T) {
	e := bench(t)
	d := device(t, e, "A", "sobro-quatro", "02:5A:11:00:09:01")
	at := e.Clock.Now()
	attention := func(until *time.Time) string {
		t.Helper()
		if err := e.Store.Write(t.Context(), func(tx *store.Tx) error {
			if err := store.Save(tx, &store.Task{ID: "t", DeviceID: d.ID, Kind: "update", Status: "failed", Outcome: "lost", State: "{}", CreatedAt: at}); err != nil {
				return err
			}
			if err := store.Save(tx, &store.Tenure{ID: 1, DeviceID: d.ID, UnitID: "u", Since: at.Add(-time.Hour), Until: until}); err != nil {
				return err
			}
			return e.refresh(tx, d.ID)
		}); err != nil {
			t.Fatal(err)
		}
		now, err := e.FindDevice(t.Context(), d.ID)
		if err != nil {
			t.Fatal(err)
		}
		return now.Attention
	}
	if got := attention(nil); got != "lost" {
		t.Errorf("it needs %q", got)
	}
	if got := attention(new(at.Add(-time.Minute))); got != "lost" {
		t.Errorf("the unit of long ago hides it: %q", got)
	}
	if got := attention(new(at.Add(time.Minute))); got != "" {
		t.Errorf("it still needs %q", got)
	}
}

// TestNoNetworkThatCanBeAsked: that nobody can be asked, or nobody answers, is said.
func TestNoNetworkThatCanBeAsked(t *testing.T) {
	e := bench(t)
	d := device(t, e, "A", "sobro-quatro", "02:5A:11:00:09:01")
	if p := problem.As(e.FindAll(t.Context())); p == nil || !strings.Contains(p.Next, "--name-server") {
		t.Errorf("%+v", p)
	}
	if _, err := e.SaveSite(t.Context(), "test", d.SiteID, 0, wire.SiteEdit{NameServer: new("127.0.0.1:1"), Domain: new("lagar.home.arpa")}); err != nil {
		t.Fatal(err)
	}
	if p := problem.As(e.FindAll(t.Context())); p == nil || !strings.Contains(p.What, "connection refused") {
		t.Errorf("%+v", p)
	}
}
