package e2e

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/client"
	"fado/internal/core/rollout"
	"fado/internal/demo"
	"fado/internal/sim"
	"fado/internal/wire"
)

// fleetOf commissions devices of the demo, each waited for.
func fleetOf(t *testing.T, d *demo.Demo, devices ...string) {
	t.Helper()
	for _, name := range devices {
		if x := commissioned(t, d, name); x.Failure != nil {
			t.Fatalf("%s: %+v\n%s", name, x.Failure, sheet(x))
		}
	}
}

func planned(t *testing.T, d *demo.Demo, p wire.RolloutPlan) wire.Rollout {
	t.Helper()
	r, err := client.Post[wire.Rollout](t.Context(), d.Client, "/api/v1/rollouts", p)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func rolloutNow(t *testing.T, d *demo.Demo, id string) wire.Rollout {
	t.Helper()
	r, err := client.Get[wire.Rollout](t.Context(), d.Client, client.Path("rollouts", id))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func rolloutUnits(t *testing.T, d *demo.Demo, id, stands string) []wire.RolloutUnit {
	t.Helper()
	u, err := client.Get[wire.RolloutUnits](t.Context(), d.Client, client.Query(client.Path("rollouts", id, "units"), "stands", stands))
	if err != nil {
		t.Fatal(err)
	}
	return u.Units
}

// until waits until a rollout stands so.
func until(t *testing.T, d *demo.Demo, id string, want rollout.Status) wire.Rollout {
	t.Helper()
	var r wire.Rollout
	for deadline := time.Now().Add(12 * time.Hour); ; time.Sleep(10 * time.Second) {
		if r = rolloutNow(t, d, id); r.Status == want {
			return r
		}
		if time.Now().After(deadline) || r.Status != rollout.Running {
			t.Fatalf("%s (%s), want %s: %+v", r.Status, r.Reason, want, r.Waves)
		}
	}
}

var threeLevels = []string{"adega-level-1", "patio-level-1", "casa-da-bomba-level-1"}

// TestARollout: planned, shown, started; the trial first, then a wave, each with its
// gate; in the end every unit runs what it was sent, by its own log.
func TestARollout(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		list, err := client.Get[wire.DevicePage](t.Context(), d.Client, "/api/v1/devices?model=junco&limit=50")
		if err != nil || len(list.Devices) < 3 {
			t.Fatal(len(list.Devices), err)
		}
		var names []string
		for _, x := range list.Devices {
			names = append(names, x.Hostname)
		}
		fleetOf(t, d, names...)
		img := addBuild(t, d, "junco", "2.2.0", 380, nil)
		r := planned(t, d, wire.RolloutPlan{Image: img.SHA256, Rules: wire.RolloutRules{Waves: []string{"1"}, SoakMinutes: new(10), AtOnce: new(2)}})
		if r.Status != rollout.Draft || r.Devices != len(names) || r.Waves[0].Name != "the trial" || r.EndsAt == nil || len(r.Homes) == 0 {
			t.Fatalf("%+v", r)
		}
		if _, err := client.Post[wire.Rollout](t.Context(), d.Client, client.Path("rollouts", r.ID, "start"), nil); err != nil {
			t.Fatal(err)
		}
		r = until(t, d, r.ID, rollout.Done)
		for _, w := range r.Waves {
			if w.Stands != "passed" || len(w.Gates) != 1 || w.Gates[0].Held {
				t.Errorf("%+v", w)
			}
			for _, c := range w.Gates[0].Conditions {
				t.Logf("%s: %s — expected %s, seen %s", w.Name, c.Name, c.Expected, c.Seen)
			}
		}
		for _, u := range rolloutUnits(t, d, r.ID, "") {
			if u.Stands != "succeeded" || u.TaskID == "" {
				t.Errorf("%+v", u)
			}
			dev, err := client.Get[wire.Device](t.Context(), d.Client, client.Path("devices", u.DeviceID))
			if err != nil {
				t.Fatal(err)
			}
			if own := unitReport(t, d, dev.HardwareID); own.Digest != img.SHA256 || len(own.Writes) != 1 {
				t.Errorf("%s runs %.8s after %d writes", u.Device, own.Digest, len(own.Writes))
			}
		}
		_ = strings.Join
		_ = sim.None
	})
}
