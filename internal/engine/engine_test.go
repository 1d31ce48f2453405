package engine

import (
	"bytes"
	"context"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"fado/dialects"
	"fado/internal/broker"
	"fado/internal/clock"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/store"
	"fado/internal/wire"
)

// bench is an engine without radio, hub or units.
func bench(t testing.TB) *Engine {
	t.Helper()
	s, err := store.Open(filepath.Join(t.TempDir(), "data"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	if err := EnsureKey(t.Context(), s, time.Now()); err != nil {
		t.Fatal(err)
	}
	b, err := broker.Listen(broker.Config{Listen: "127.0.0.1:0", Hash: s.Hash, Log: slog.New(slog.DiscardHandler),
		Load: func() (map[string][]byte, error) { return nil, nil }, Save: func(map[string][]byte) error { return nil }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	e, err := Start(Parts{Store: s, Clock: clock.Wall(), Log: slog.New(slog.DiscardHandler), Bus: b, Embedded: b})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(e.Stop)
	direct, err := fs.ReadFile(dialects.Files, "direct.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := e.PutDialect(t.Context(), "test", direct); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"junco", "sobro-quatro", "sobro-um"} {
		model, err := os.ReadFile("../../demo/models/" + name + ".yaml")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := e.PutModel(t.Context(), "test", model); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := e.SaveBroker(t.Context(), "test", "", wire.BrokerEdit{Name: new("embedded"), Host: new("127.0.0.1"), Port: new(1883)}); err != nil {
		t.Fatal(err)
	}
	if _, err := e.SaveSite(t.Context(), "test", "", 0, wire.SiteEdit{Key: new("lagar"), Name: new("Lagar"), Zone: new("Europe/Lisbon"), Broker: new("embedded")}); err != nil {
		t.Fatal(err)
	}
	return e
}

func device(t *testing.T, e *Engine, name, model, hw string) store.Device {
	t.Helper()
	d, err := e.CreateDevice(t.Context(), "test", "lagar", DeviceEdit{Name: &name, Model: &model, HardwareID: &hw, SetUpCode: new(secret.New("olival-azeite"))})
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func TestChangesAreCoalescedAndResumed(t *testing.T) {
	c := NewChanges()
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { c.run(ctx); close(done) }()
	poke, end := c.Listen()
	defer end()
	for range 10_000 {
		c.Mark("device", "a")
		c.Mark("device", "b")
	}
	<-poke
	list, last, ok := c.Since(0)
	if !ok || len(list) > 4 || last != uint64(len(list)) {
		t.Fatalf("%d changes for two objects, last %d, ok %v", len(list), last, ok)
	}
	if more, _, ok := c.Since(last); !ok || len(more) != 0 {
		t.Errorf("%v %v", more, ok)
	}
	if _, _, ok := c.Since(last + 1); ok {
		t.Error("a number of the future was taken")
	}
	for range 3 {
		for i := range ringSize {
			c.Mark("device", strings.Repeat("x", i%7)+string(rune('a'+i%26))+time.Duration(i).String())
		}
		<-poke
	}
	if _, _, ok := c.Since(1); ok {
		t.Error("a number that is too old was taken")
	}
	stop()
	<-done
}

// TestTenThousandChangesASecond: they are coalesced to the latest of each object, at
// most four times a second, and whoever follows keeps up.
func TestTenThousandChangesASecond(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c := NewChanges()
		ctx, stop := context.WithCancel(t.Context())
		defer func() { stop(); synctest.Wait() }()
		go c.run(ctx)
		poke, end := c.Listen()
		defer end()
		const objects, seconds = 200, 5
		go func() {
			for i := range 10_000 * seconds {
				c.Mark("task", strconv.Itoa(i%objects))
				if i%100 == 99 {
					time.Sleep(10 * time.Millisecond)
				}
			}
		}()
		heard, last := map[Change]int{}, uint64(0)
		for until := time.Now().Add((seconds + 1) * time.Second); time.Now().Before(until); {
			select {
			case <-poke:
			case <-time.After(100 * time.Millisecond):
			}
			list, now, ok := c.Since(last)
			if !ok {
				t.Fatal("whoever follows fell behind")
			}
			last = now
			for _, x := range list {
				heard[x]++
			}
		}
		if len(heard) != objects {
			t.Errorf("%d of %d objects were heard of", len(heard), objects)
		}
		for x, n := range heard {
			if n > 4*seconds+1 || n < 3*seconds {
				t.Errorf("%s changed %d times in %d seconds", x.ID, n, seconds)
			}
		}
	})
}

// BenchmarkChanges marks a change of one of a thousand objects: at ten thousand a
// second that must cost next to nothing.
func BenchmarkChanges(b *testing.B) {
	c := NewChanges()
	ctx, stop := context.WithCancel(b.Context())
	done := make(chan struct{})
	go func() { c.run(ctx); close(done) }()
	ids := make([]string, 1000)
	for i := range ids {
		ids[i] = strconv.Itoa(i)
	}
	i := 0
	for b.Loop() {
		c.Mark("task", ids[i%len(ids)])
		i++
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)*10_000/1e9*100, "%core_at_10000/s")
	stop()
	<-done
}

func TestCommissioningIsRefusedWithEverythingThatIsMissing(t *testing.T) {
	e := bench(t)
	d, err := e.CreateDevice(t.Context(), "test", "lagar", DeviceEdit{Name: new("Cisterna"), Model: new("junco")})
	if err != nil {
		t.Fatal(err)
	}
	_, err = e.Commission(t.Context(), "test", d.ID, false)
	p := problem.As(err)
	if p == nil {
		t.Fatal(err)
	}
	missing := map[string]bool{}
	for _, f := range p.Fields {
		missing[f.Field] = true
	}
	for _, want := range []string{"network", "hub", "hardware_id", "set_up_code"} {
		if !missing[want] {
			t.Errorf("%s is not named: %+v", want, p.Fields)
		}
	}
}

func TestAPartialHardwareIDIsAHintForOneDeviceOnly(t *testing.T) {
	e := bench(t)
	one := device(t, e, "Um", "junco", "02:5A:11:00:00:07")
	if got := e.ownerOf(e.Store.Read(t.Context()), "025a11000007", ""); got != one.ID {
		t.Errorf("%q", got)
	}
	if got := e.ownerOf(e.Store.Read(t.Context()), "000007", ""); got != one.ID {
		t.Errorf("%q", got)
	}
	device(t, e, "Dois", "junco", "02:5A:12:00:00:07")
	if got := e.ownerOf(e.Store.Read(t.Context()), "000007", ""); got != "" {
		t.Error("six digits of two devices were taken for one of them")
	}
	if got := e.ownerOf(e.Store.Read(t.Context()), "ffffff", ""); got != "" {
		t.Errorf("%q", got)
	}
}

func TestAnAccountIsMadeOnceUntilItWasSeen(t *testing.T) {
	e := bench(t)
	d := device(t, e, "Um", "junco", "02:5A:11:00:00:07")
	if err := e.Store.Write(t.Context(), func(tx *store.Tx) error { return e.fill(tx, &d, d.HardwareID, time.Now()) }); err != nil {
		t.Fatal(err)
	}
	first, err := e.prepareAccount(t.Context(), d)
	if err != nil {
		t.Fatal(err)
	}
	again, err := e.prepareAccount(t.Context(), d)
	if err != nil || again.Name != first.Name || !bytes.Equal(again.Sealed, first.Sealed) {
		t.Fatalf("a retry made another account: %s, %s, %v", first.Name, again.Name, err)
	}
	if err := e.Store.Write(t.Context(), func(tx *store.Tx) error { return e.accountSeen(tx, d, first.Name) }); err != nil {
		t.Fatal(err)
	}
	next, err := e.prepareAccount(t.Context(), d)
	if err != nil || next.Name == first.Name || next.Generation != 2 {
		t.Fatalf("%+v %v", next, err)
	}
	live, err := store.Count[store.Account](e.Store.Read(t.Context()), "device_id = ? AND revoked_at IS NULL", d.ID)
	if err != nil || live != 2 {
		t.Fatalf("%d accounts live while the new one is on its way, %v", live, err)
	}
	if err := e.Store.Write(t.Context(), func(tx *store.Tx) error { return e.accountSeen(tx, d, next.Name) }); err != nil {
		t.Fatal(err)
	}
	list, err := store.All[store.Account](e.Store.Read(t.Context()), "name", "device_id = ?", d.ID)
	if err != nil || len(list) != 2 || list[0].RevokedAt == nil || list[1].RevokedAt != nil || len(list[0].Sealed)+len(list[1].Sealed) != 0 {
		t.Fatalf("%+v %v", list, err)
	}
}

func TestAUnitThatMovesLeavesItsHistory(t *testing.T) {
	e := bench(t)
	a, b := device(t, e, "Um", "junco", "02:5A:11:00:00:07"), device(t, e, "Dois", "junco", "02:5A:11:00:00:08")
	fill := func(d *store.Device, hw string) {
		t.Helper()
		if err := e.Store.Write(t.Context(), func(tx *store.Tx) error { return e.fill(tx, d, hw, time.Now()) }); err != nil {
			t.Fatal(err)
		}
	}
	fill(&a, "02:5A:11:00:00:07")
	fill(&a, "02:5A:11:00:00:07") // the same unit again is no new tenure
	fill(&b, "02:5A:11:00:00:07")
	list, err := store.All[store.Tenure](e.Store.Read(t.Context()), "id", "1 = 1")
	if err != nil || len(list) != 2 || list[0].Until == nil || list[1].Until != nil || list[1].DeviceID != b.ID {
		t.Fatalf("%+v %v", list, err)
	}
}

func TestBootTimesAreLearnt(t *testing.T) {
	e := bench(t)
	d := device(t, e, "Um", "junco", "02:5A:11:00:00:07")
	usual := func() float64 {
		s, err := e.subject(e.Store.Read(t.Context()), d)
		if err != nil {
			t.Fatal(err)
		}
		return s.BootUsual
	}
	if got := usual(); got != 3 {
		t.Fatalf("the model says 3 s, got %v", got)
	}
	for _, s := range []float64{8, 10, 12} {
		if err := e.Store.Write(t.Context(), func(tx *store.Tx) error { return learn(tx, "junco", "boot", s) }); err != nil {
			t.Fatal(err)
		}
	}
	if got := usual(); got != 10 {
		t.Errorf("the mean of 8, 10 and 12 is %v", got)
	}
}

func TestGoalsAndStandings(t *testing.T) {
	e := bench(t)
	d := device(t, e, "Um", "junco", "02:5A:11:00:00:07")
	set := func(columns map[string]any) {
		t.Helper()
		if err := e.Store.Write(t.Context(), func(tx *store.Tx) error {
			if _, err := store.Change[store.Device](tx, columns, "id = ?", d.ID); err != nil {
				return err
			}
			return e.refresh(tx, d.ID)
		}); err != nil {
			t.Fatal(err)
		}
	}
	standing := func() string {
		t.Helper()
		x, err := e.FindDevice(t.Context(), d.ID)
		if err != nil {
			t.Fatal(err)
		}
		return x.Standing
	}
	set(map[string]any{"running": "2.0.1", "stage": string(inventory.Adopted)})
	goal := func(site, model, device, version string) {
		t.Helper()
		if err := e.SetGoal(t.Context(), "test", Want{Site: site, Model: model, Device: device, Version: version}); err != nil {
			t.Fatal(err)
		}
	}
	if standing() != "unknown" {
		t.Error(standing())
	}
	goal("lagar", "junco", "", "2.1.0")
	if standing() != "behind" {
		t.Error(standing())
	}
	goal("", "", d.ID, "2.0.1") // the nearest goal wins
	if standing() != "current" {
		t.Error(standing())
	}
	goal("", "", d.ID, "")
	goal("lagar", "junco", "", "1.9.0")
	if standing() != "ahead" {
		t.Error(standing())
	}
	if err := e.SetGoal(t.Context(), "test", Want{Site: "lagar", Model: "nothing", Version: "1"}); problem.As(err) == nil {
		t.Error(err)
	}
}

func TestWhoSpeaksUnderATopicIsNotWhoItSaysItIs(t *testing.T) {
	e := bench(t)
	d := device(t, e, "Um", "junco", "02:5A:11:00:00:07")
	say := func(topic, payload string, replayed bool) {
		e.ingest.take(broker.Message{Topic: d.Topic + topic, Payload: []byte(payload), From: "unit", Replayed: replayed})
	}
	running := func() string {
		x, err := e.FindDevice(t.Context(), d.ID)
		if err != nil {
			t.Fatal(err)
		}
		return x.Running + x.Presence
	}
	say("/unit", `{"hardware_id":"02:00:00:00:00:01","firmware":{"version":"9.9.9"}}`, false)
	say("/unit", `{"hardware_id":"02:5A:11:00:00:07","firmware":{"version":"9.9.9"}}`, true) // history
	say("/presence", `"online"`, true)
	say("/unit", `not json`, false)
	say("/unit/below", `{"hardware_id":"02:5A:11:00:00:07","firmware":{"version":"9.9.9"}}`, false)
	time.Sleep(600 * time.Millisecond) // two rounds of writing
	if got := running(); got != "unseen" {
		t.Fatalf("taken for proof: %s", got)
	}
	say("/unit", `{"hardware_id":"02-5a-11-00-00-07","firmware":{"version":"2.0.1"}}`, false)
	for deadline := time.Now().Add(5 * time.Second); running() != "2.0.1online"; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal(running())
		}
	}
	taken, kept := e.Taken()
	if taken < 6 || kept > taken {
		t.Errorf("%d taken, %d kept", taken, kept)
	}
}

func TestAModelWithoutItsDialectIsExplained(t *testing.T) {
	e := bench(t)
	d := device(t, e, "Exaustor", "sobro-um", "02:5A:11:00:00:09")
	if _, err := e.Commission(t.Context(), "test", d.ID, true); err == nil || !strings.Contains(err.Error(), "andorinha") {
		t.Error(err)
	}
	if lines, err := e.Lines(e.Store.Read(t.Context()), d); err != nil || len(lines) == 0 || lines[0].Supported {
		t.Errorf("%v %v", lines, err)
	}
}
