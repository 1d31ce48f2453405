package e2e

import (
	"fmt"
	"testing"
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
	list, err := client.Get[[]sim.Report](t.Context(), client.New(d.SiteURL, ""), "/units")
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
	d := startDemo(t, 20, "", nil)
	for _, f := range families {
		t.Run(f.device, func(t *testing.T) {
			began := time.Now()
			x := commissioned(t, d, f.device)
			if x.Status != task.Done {
				t.Fatalf("%s: %+v\n%s", x.Status, x.Failure, steps2(x))
			}
			t.Logf("%s after %s\n%s", f.family, time.Since(began).Round(100*time.Millisecond), steps2(x))
		})
	}
}

func steps2(x wire.Task) (out string) {
	for _, s := range x.Steps {
		out += fmt.Sprintf("  %-45s %-8s %s\n", s.Title, s.State, s.Note)
	}
	for _, c := range x.Checks {
		out += fmt.Sprintf("  check %-40s %v %s (%s)\n", c.Name, c.Holds, c.Seen, c.Evidence)
	}
	return out
}
