// Package e2e drives the real interfaces from outside: the service through its
// API and its command line, the console in Chromium, and service processes that
// are killed.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/carrier"
	"fado/internal/carrier/carriertest"
	"fado/internal/client"
	"fado/internal/core/secret"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/wire"
	"fado/web"
)

func decode(r io.Reader, v any) error { return json.NewDecoder(r).Decode(v) }

// buffer may be written to by several goroutines.
type buffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

// Write implements io.Writer.
func (b *buffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.Write(p)
}

// String gives what was written.
func (b *buffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.String()
}

// startDemo runs the demo inside the test.
func startDemo(t *testing.T, scale float64, data string, log io.Writer) *demo.Demo {
	t.Helper()
	var n carrier.Net
	if scale == bubble {
		n = carriertest.New()
	}
	return startDemoOn(t, n, scale, data, log)
}

// startDemoOn starts a demo on a network that the test may use, too.
func startDemoOn(t *testing.T, n carrier.Net, scale float64, data string, log io.Writer) *demo.Demo {
	t.Helper()
	if log == nil {
		log = io.Discard
	}
	d, err := demo.Start(context.Background(), demo.Options{Version: "test", Listen: "127.0.0.1:0", Broker: "127.0.0.1:0", Site: "127.0.0.1:0", Hub: "127.0.0.1:0", Data: data, Scale: scale, Net: n,
		Console: web.Console(), Log: slog.New(slog.NewTextHandler(log, &slog.HandlerOptions{Level: slog.LevelDebug}))})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		d.Stop()
		if scale == bubble {
			time.Sleep(time.Minute) // for what a client of a library still waits for
		}
	})
	return d
}

// bubble is the scale of a demo in a bubble of testing/synctest, where time goes
// on when all wait, and a slow machine is not a slow unit.
const bubble = 1

// patience is how long a test waits for what should come. Inside a bubble the
// hours that units take are nothing.
func patience(real time.Duration) time.Duration {
	if time.Now().Year() < 2020 { // a bubble begins in the year 2000
		return 6 * time.Hour
	}
	return real
}

// long leaves a test out of the run with the race detector, which would take it
// minutes and where others drive the same code. «make test» runs it without.
func long(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("left out of the short run")
	}
}

// pace is the time between two looks of a test that waits.
func pace() time.Duration {
	if patience(0) > 0 {
		return 250 * time.Millisecond
	}
	return 30 * time.Millisecond
}

// part names a part of a test in a bubble, which can have no subtests.
func part(t *testing.T, name string, f func(*testing.T)) {
	t.Helper()
	t.Log("part: " + name)
	f(t)
}

// TestTour runs the whole story, then searches everything that was kept,
// logged or answered for secrets.
func TestTour(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		data := filepath.Join(t.TempDir(), "data")
		var log, out buffer
		d := startDemo(t, bubble, data, &log)
		if err := d.Tour(t.Context(), &out); err != nil {
			t.Fatalf("%v\n%s", err, out.String())
		}
		secrets := []string{demo.Passphrase("lagar"), demo.Passphrase("estaleiro"), d.Password, d.Token}
		for _, x := range []string{"A0", "1E", "14"} {
			secrets = append(secrets, demo.SetUpCode("02:5A:11:00:00:"+x))
		}
		said := log.String() + out.String()
		for _, path := range []string{"/api/v1/sites", "/api/v1/sites/lagar/networks", "/api/v1/brokers", "/api/v1/hubs", "/api/v1/devices?limit=200", "/api/v1/devices/terraco-relay-2", "/api/v1/devices/terraco-relay-2/settings",
			"/api/v1/devices/terraco-relay-2/messages", "/api/v1/devices/terraco-relay-2/thing", "/api/v1/devices/terraco-relay-1/preview", "/api/v1/tasks", "/api/v1/events?limit=500", "/api/v1/tokens", "/api/v1/images", "/api/v1/attention"} {
			raw, err := client.Get[json.RawMessage](t.Context(), d.Client, path)
			if err != nil {
				t.Fatalf("%s: %v", path, err)
			}
			said += string(raw)
		}
		for _, s := range secrets {
			if strings.Contains(said, s) {
				t.Errorf("the secret %.4s… was said in a log or an answer", s)
			}
		}
		// A unit that says a secret in a message of its own: the message is shown
		// without it. Here, a name that it says becomes one.
		messages := func() string {
			raw, err := client.Get[json.RawMessage](t.Context(), d.Client, "/api/v1/devices/terraco-relay-2/messages")
			if err != nil {
				t.Fatal(err)
			}
			return string(raw)
		}
		if !strings.Contains(messages(), "terraco-relay-2") {
			t.Fatalf("the unit did not say its name: %s", messages())
		}
		if err := d.Client.Do(t.Context(), "PATCH", "/api/v1/devices/terraco-relay-2/settings", map[string]string{"access.point_key": "terraco-relay-2"}, nil); err != nil {
			t.Fatal(err)
		}
		if m := messages(); strings.Contains(m, "terraco-relay-2") || !strings.Contains(m, secret.Mask) {
			t.Errorf("a secret is shown in a message: %s", m)
		}
		searchFolder := func(when string) {
			err := filepath.WalkDir(data, func(path string, e fs.DirEntry, err error) error {
				if err != nil || e.IsDir() || e.Name() == "seal.key" {
					return err
				}
				b, err := os.ReadFile(path)
				for _, s := range secrets {
					if bytes.Contains(b, []byte(s)) {
						t.Errorf("%s: %s holds the secret %.4s… in plain text", when, e.Name(), s)
					}
				}
				return err
			})
			if err != nil {
				t.Fatal(err)
			}
		}
		searchFolder("running")
		began := time.Now()
		d.Stop()
		if took := time.Since(began); took > 2*time.Second {
			t.Errorf("stopping took %s", took)
		}
		searchFolder("stopped")
	})
}

// run starts a task on the demo and waits for its end.
func run(t *testing.T, d *demo.Demo, path string, body any) wire.Task {
	t.Helper()
	x, err := client.Post[wire.Task](t.Context(), d.Client, path, body)
	if err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(patience(90 * time.Second)); !x.Status.Over(); time.Sleep(pace()) {
		if time.Now().After(deadline) {
			t.Fatalf("the task does not end: %+v", x)
		}
		if x, err = client.Get[wire.Task](t.Context(), d.Client, client.Path("tasks", x.ID)); err != nil {
			t.Fatal(err)
		}
	}
	return x
}

func fault(t *testing.T, d *demo.Demo, hw, name string, value int) {
	t.Helper()
	b, _ := json.Marshal(map[string]any{"fault": name, "value": value})
	resp, err := d.HTTP().Post(d.SiteURL+"/units/"+hw+"/fault", "application/json", bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	_ = resp.Body.Close()
	if resp.StatusCode >= 300 {
		t.Fatalf("fault %q: %s", name, resp.Status)
	}
}

func waitFor(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for deadline := time.Now().Add(patience(30 * time.Second)); !holds(); time.Sleep(pace()) {
		if time.Now().After(deadline) {
			t.Fatalf("%s did not come", what)
		}
	}
}

func sighted(t *testing.T, d *demo.Demo, hw string) {
	t.Helper()
	waitFor(t, "the access point of "+hw, func() bool {
		list, err := client.Post[[]wire.Sighting](t.Context(), d.Client, "/api/v1/sightings/scan", nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range list {
			if s.HardwareID == hw {
				return true
			}
		}
		return false
	})
}

// TestFaultsEndInNamedOutcomes plants faults in units and expects each update
// or commissioning to end in the outcome that fits.
func TestFaultsEndInNamedOutcomes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		images := map[string]string{}
		list, err := client.Get[[]wire.Image](t.Context(), d.Client, "/api/v1/images")
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range list {
			images[i.Firmware] = i.SHA256
		}
		for _, c := range []struct {
			hw, model, during, fault string
			value                    int
			status                   task.Status
			code                     string
			outcome                  task.Outcome
		}{
			{"02:5A:11:00:00:10", "sobro-quatro", "commission", "slow boot", 3, task.Done, "", ""},
			{"02:5A:11:00:00:14", "junco", "commission", "save accepted and not kept", 0, task.Failed, "differs", ""},
			{"02:5A:11:00:00:19", "sobro-quatro", "commission", "ignores commands", 0, task.Failed, "no_state", ""},
			{"02:5A:11:00:00:60", "sobro-quatro", "commission", "duplicated messages", 0, task.Done, "", ""},
			{"02:5A:11:00:00:1A", "junco", "update", "download cut at a byte", 100_000, task.Done, "", task.Succeeded},
			{"02:5A:11:00:00:1B", "sobro-quatro", "update", "corrupted image", 0, task.Failed, "update_refused", task.FailedOut},
			{"02:5A:11:00:00:1D", "sobro-quatro", "update", "boot loop after update", 0, task.Failed, "reverted", task.Reverted},
			{"02:5A:11:00:00:1E", "junco", "update", "power cut while writing", 0, task.Done, "", task.Succeeded},
		} {
			part(t, c.during+" with "+c.fault, func(t *testing.T) {
				if c.during == "commission" {
					fault(t, d, c.hw, c.fault, c.value)
				}
				sighted(t, d, c.hw)
				x := run(t, d, client.Path("devices", c.hw, "commission"), struct{}{})
				if c.during == "update" {
					if x.Status != task.Done {
						t.Fatalf("commissioning: %+v", x.Failure)
					}
					fault(t, d, c.hw, c.fault, c.value)
					x = run(t, d, client.Path("devices", c.hw, "update"), wire.Start{Image: images[c.model]})
					if x.Update.Outcome != c.outcome {
						t.Errorf("outcome %s, want %s", x.Update.Outcome, c.outcome)
					}
				}
				if x.Status != c.status || c.code != "" && (x.Failure == nil || x.Failure.Code != c.code) {
					t.Errorf("%s with %+v, want %s with %q", x.Status, x.Failure, c.status, c.code)
				}
			})
		}
	})
}

// TestHubRefuses: a hub that refuses is named; afterwards it catches up.
func TestHubRefuses(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		const hw = "02:5A:11:00:00:14"
		refuse := func(how string) {
			resp, err := d.HTTP().PostForm(d.HubURL+"/fault", map[string][]string{"fault": {how}})
			if err != nil {
				t.Fatal(err)
			}
			_ = resp.Body.Close()
		}
		refuse("refusing")
		sighted(t, d, hw)
		x := run(t, d, client.Path("devices", hw, "commission"), struct{}{})
		if x.Status != task.Failed || x.Failure.Code != "hub_refused" {
			t.Fatalf("%s %+v", x.Status, x.Failure)
		}
		refuse("")
		x = run(t, d, client.Path("tasks", x.ID, "retry"), nil)
		if x.Status != task.Done || x.Attempt != 2 {
			t.Fatalf("%s %+v", x.Status, x.Failure)
		}
		waitFor(t, "an empty queue", func() bool {
			a, err := client.Get[wire.Attention](t.Context(), d.Client, "/api/v1/attention")
			if err != nil {
				t.Fatal(err)
			}
			return a.Queued == 0
		})
	})
}
