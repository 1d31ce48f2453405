package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/client"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/sim"
	"fado/internal/wire"
)

// One device of each family, with the port of its own that is set.
var families = []struct{ device, hw, family string }{
	{"terraco-relay-1", "02:5A:11:00:00:1B", "direct"},
	{"portaria-relay-1", "02:5A:11:00:00:1F", "andorinha"},
	{"cozinha-plug-1", "02:5A:11:00:00:16", "andorinha"},
	{"cozinha-strip-1", "02:5A:11:00:00:18", "pardal"},
	{"adega-climate-1", "02:5A:11:00:00:13", "coruja"},
}

// unitReport is what a simulated unit says of itself, behind Fado's back.
func unitReport(t *testing.T, d *demo.Demo, hw string) sim.Report {
	t.Helper()
	list, err := client.Get[[]sim.Report](t.Context(), client.Over(d.HTTP().Transport, d.SiteURL, ""), "/units")
	if err != nil {
		t.Fatal(err)
	}
	for _, u := range list {
		if u.HardwareID == hw {
			return u
		}
	}
	t.Fatalf("there is no unit %s", hw)
	return sim.Report{}
}

func commissioned(t *testing.T, d *demo.Demo, device string) wire.Task {
	t.Helper()
	return run(t, d, client.Path("devices", device, "commission"), wire.Commissioning{Prepared: true})
}

func TestEveryFamilyIsCommissioned(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		for _, f := range families {
			part(t, f.device, func(t *testing.T) {
				began := time.Now()
				x := commissioned(t, d, f.device)
				if x.Status != task.Done {
					t.Fatalf("%s: %+v\n%s", x.Status, x.Failure, sheet(x))
				}
				t.Logf("%s after %s\n%s", f.family, time.Since(began).Round(100*time.Millisecond), sheet(x))
			})
		}
	})
}

// sheet writes a task's steps and checks, for the record of a failed test.
func sheet(x wire.Task) (out string) {
	for _, s := range x.Steps {
		out += fmt.Sprintf("  %-45s %-8s %s\n", s.Title, s.State, s.Note)
	}
	for _, c := range x.Checks {
		out += fmt.Sprintf("  check %-40s %v %s (%s)\n", c.Name, c.Verdict, c.Seen, c.Evidence)
	}
	return out
}

// lines are a device's settings by key.
func lines(t *testing.T, d *demo.Demo, device string) map[string]wire.Setting {
	t.Helper()
	list, err := client.Get[[]wire.Setting](t.Context(), d.Client, client.Path("devices", device, "settings"))
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]wire.Setting{}
	for _, x := range list {
		out[x.Key] = x
	}
	return out
}

func do(t *testing.T, d *demo.Demo, method, path string, body any) {
	t.Helper()
	if err := d.Client.Do(t.Context(), method, path, body, nil); err != nil {
		t.Fatalf("%s %s: %v", method, path, err)
	}
}

func preview(t *testing.T, d *demo.Demo, device string) wire.Preview {
	t.Helper()
	p, err := client.Get[wire.Preview](t.Context(), d.Client, client.Path("devices", device, "preview"))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// wake presses a sleeping unit's button once.
func wake(t *testing.T, d *demo.Demo, hw string) {
	t.Helper()
	resp, err := d.HTTP().Post(d.SiteURL+"/units/"+hw+"/wake", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	_ = resp.Body.Close()
}

// TestChangesAreCollectedAndApplied: edits of a unit in service are collected,
// shown, written in the fewest restarts of its family, and proven; then it is
// renamed, and nothing of its old name is left.
func TestChangesAreCollectedAndApplied(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		for _, f := range []struct {
			device, hw     string
			port, function string
			restarts       int
		}{
			{"terraco-relay-1", "02:5A:11:00:00:1B", "port.P34.function", "contact", 1}, // by its chip pin
			{"portaria-relay-1", "02:5A:11:00:00:1F", "port.S2.function", "contact", 2},
			{"cozinha-strip-1", "02:5A:11:00:00:18", "port.AUX.function", "button", 1},
			{"adega-climate-1", "02:5A:11:00:00:13", "", "", 1},
		} {
			part(t, f.device, func(t *testing.T) {
				if x := commissioned(t, d, f.device); x.Status != task.Done {
					t.Fatalf("%+v\n%s", x.Failure, sheet(x))
				}
				if p := preview(t, d, f.device); len(p.Differences) != 0 || len(p.Exchanges) != 0 {
					t.Fatalf("something is left to send right after commissioning: %+v", p)
				}
				before := unitReport(t, d, f.hw)
				path := client.Path("devices", f.device, "settings")
				do(t, d, "PATCH", path, map[string]any{"report.interval_seconds": 45})
				if f.port != "" {
					do(t, d, "PATCH", path, map[string]any{f.port: f.function})
				}
				label, topic := "Nova «"+f.device+"» & 100%", "lagar/novo/"+f.device
				do(t, d, "PATCH", client.Path("devices", f.device), wire.DeviceEdit{Label: &label, Topic: &topic})
				p := preview(t, d, f.device)
				if p.At != "service" || p.Restarts != f.restarts || len(p.Differences) < 3 {
					t.Fatalf("%d restarts, differences %+v", p.Restarts, p.Differences)
				}
				if len(p.Listeners) != 1 || p.Listeners[0] != "hub-lagar (the hub, which is told)" {
					t.Errorf("who listens on the old topic: %v", p.Listeners)
				}
				if r := unitReport(t, d, f.hw); r.Topic == topic || r.Restarts != before.Restarts && f.hw != "02:5A:11:00:00:13" {
					t.Fatal("something was sent before it was applied")
				}
				x := run(t, d, client.Path("devices", f.device, "apply"), struct{}{})
				if x.Status != task.Done {
					t.Fatalf("%+v\n%s", x.Failure, sheet(x))
				}
				after := unitReport(t, d, f.hw)
				if after.Topic != topic {
					t.Errorf("the unit's topic is %q", after.Topic)
				}
				now := lines(t, d, f.device)
				for key, want := range map[string]any{"topic": topic, "label": label, "report.interval_seconds": 45.0} {
					if x := now[key]; x.State != "equal" || x.Reported != want {
						t.Errorf("%s: %+v", key, x)
					}
				}
				if x, ok := now["port.S1.function"]; f.port == "port.P34.function" && (!ok || x.Reported != "contact") {
					t.Errorf("a port named by its pin: %+v", x)
				}
				got, err := client.Get[wire.Device](t.Context(), d.Client, client.Path("devices", f.device))
				if err != nil || got.LiveTopic != "" || got.Drift != 0 || got.Topic != topic {
					t.Errorf("%v: live topic %q, drift %d, attention %q", err, got.LiveTopic, got.Drift, got.Attention)
				}
				// The hub sees it under its new topic, and nothing is kept under the old one.
				waitFor(t, "the hub has the new topic", func() bool {
					td, err := client.Get[map[string]any](t.Context(), d.Client, client.Path("devices", f.device, "thing"))
					return err == nil && strings.Contains(fmt.Sprint(td), topic) && hubHas(t, d, got.ID, topic)
				})
				waitFor(t, "nothing is kept under the old topic", func() bool { return len(keptBelow(t, d, before.Topic)) == 0 })
				t.Logf("applied:\n%s", sheet(x))
			})
		}
	})
}

// hubHas reports whether what the hub shows of a thing comes from a topic.
func hubHas(t *testing.T, d *demo.Demo, id, topic string) bool {
	t.Helper()
	resp, err := d.HTTP().Get(d.HubURL + "/listening")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	var out map[string][]string
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
		t.Fatal(err)
	}
	for _, f := range out["urn:uuid:"+id] {
		if !strings.HasPrefix(f, topic+"/") {
			return false
		}
	}
	return len(out["urn:uuid:"+id]) > 0
}

// keptBelow lists what the broker keeps below a topic.
func keptBelow(t *testing.T, d *demo.Demo, topic string) []string {
	t.Helper()
	return d.Kept(topic)
}
