// Command screenshots makes every picture of docs/screenshots from the demo
// data: console pages in Chromium, and command output in a real terminal.
package main

import (
	"bufio"
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"time"

	"fado/internal/client"
	"fado/internal/core/check"
	"fado/internal/core/rollout"
	"fado/internal/demo"
	"fado/internal/wire"
	"fado/test/browser"
	"fado/web"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	dir := "docs/screenshots"
	if len(os.Args) > 1 {
		dir = os.Args[1]
	}
	if err := run(ctx, dir); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(ctx context.Context, dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	d, err := demo.Start(ctx, demo.Options{Version: "demo", Listen: "127.0.0.1:0", Broker: "127.0.0.1:0", Site: "127.0.0.1:0", Hub: "127.0.0.1:0", Scale: 8, Console: web.Console(), Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer d.Stop()
	if err := stage(ctx, d); err != nil {
		return fmt.Errorf("set the scene: %w", err)
	}
	if err := pages(ctx, d, dir); err != nil {
		return err
	}
	if err := terminals(ctx, d, dir, []terminal{
		{"terminal-firmware", "fado firmware matrix; echo; fado image fit --device quarto-da-oliveira-plug-1; echo; fado device update quarto-da-oliveira-plug-1 $(fado image list --model azinho -q | head -1) --wait; echo; fado device updates cozinha-plug-1", "8", "178x60+0+0"},
		{"terminal-bench", "fado bench start --site lagar --prepared --wait", "10", "156x44+0+0"},
		{"terminal-dialect", "fado dialect try coruja 2>/dev/null", "10", "150x48+0+0"},
		{"terminal-hub", "fado hub compare \"Lagar hub\"; echo; fado message list --site lagar --limit 8; echo; fado device health casa-da-bomba-level-1; echo; fado check list adega-lamp-1", "8", "178x52+0+0"},
	}); err != nil {
		return err
	}
	name, err := rolled(ctx, d)
	if err != nil {
		return fmt.Errorf("roll out: %w", err)
	}
	if err := rolloutPage(ctx, d, name, dir); err != nil {
		return err
	}
	return terminals(ctx, d, dir, []terminal{{"terminal-rollout", fmt.Sprintf("fado rollout show %q", name), "8", "178x60+0+0"}})
}

// rolled brings a rollout so far that it is held.
func rolled(ctx context.Context, d *demo.Demo) (string, error) {
	const name = "Autumn"
	x, err := client.Get[wire.Device](ctx, d.Client, "/api/v1/devices/terraco-lamp-1")
	if err != nil {
		return "", err
	}
	releases, err := client.Get[[]wire.Release](ctx, d.Client, "/api/v1/releases")
	if err != nil {
		return "", err
	}
	for _, r := range releases {
		if err := d.Client.Do(ctx, "POST", client.Path("releases", r.SHA256, "take"), nil, nil); err != nil {
			return "", err
		}
	}
	resp, err := http.Post(d.SiteURL+"/units/"+x.HardwareID+"/fault", "application/json", strings.NewReader(`{"fault":"corrupted image"}`))
	if err != nil {
		return "", err
	}
	_ = resp.Body.Close()
	r, err := client.Post[wire.Rollout](ctx, d.Client, "/api/v1/rollouts", wire.RolloutPlan{Name: name, Behind: true, Sites: []string{"lagar"}, Exclude: []string{"lagar-lamp-1"}, Rules: wire.RolloutRules{Waves: []string{"3", "50%"}, SoakMinutes: new(1), Checks: new(false)}})
	if err != nil {
		return "", err
	}
	if err := d.Client.Do(ctx, "POST", client.Path("rollouts", r.ID, "start"), nil, nil); err != nil {
		return "", err
	}
	for deadline := time.Now().Add(2 * time.Minute); r.Status != rollout.Held || r.Counts["under way"] > 0; time.Sleep(300 * time.Millisecond) {
		if r, err = client.Get[wire.Rollout](ctx, d.Client, client.Path("rollouts", r.ID)); err != nil {
			return "", err
		}
		if time.Now().After(deadline) {
			return "", fmt.Errorf("it is not held, but %s: %s", r.Status, r.Next)
		}
	}
	return name, nil
}

func rolloutPage(ctx context.Context, d *demo.Demo, name, dir string) error {
	b, err := signedIn(ctx, d)
	if err != nil {
		return err
	}
	defer b.Close()
	for _, step := range []func() error{
		func() error { return b.Go(d.URL + "/rollouts") },
		func() error { return b.Press("link", name) },
		func() error { return b.See("Nothing more begins.") },
		func() error { return b.See("refused the image") },
		func() error { return b.Picture(filepath.Join(dir, "rollout.png"), false) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// stage brings the demo into a state worth looking at: several devices adopted,
// one that failed, one updated.
func stage(ctx context.Context, d *demo.Demo) error {
	task := func(path string, body any) (wire.Task, error) {
		t, err := client.Post[wire.Task](ctx, d.Client, path, body)
		for err == nil && !t.Status.Over() {
			time.Sleep(100 * time.Millisecond)
			t, err = client.Get[wire.Task](ctx, d.Client, client.Path("tasks", t.ID))
		}
		return t, err
	}
	deadline := time.Now().Add(20 * time.Second)
	for {
		list, err := client.Post[[]wire.Sighting](ctx, d.Client, "/api/v1/sightings/scan", nil)
		if err != nil {
			return err
		}
		if len(list) >= 10 || time.Now().After(deadline) {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	for _, host := range []string{"terraco-relay-1", "casa-da-bomba-relay-1", "lagar-relay-1", "casa-da-bomba-level-1", "portaria-relay-1", "cozinha-strip-1", "adega-climate-1", "adega-lamp-1"} {
		if _, err := task(client.Path("devices", host, "commission"), wire.Commissioning{Prepared: true}); err != nil {
			return err
		}
	}
	// One that somebody else has set up.
	unit := `{"speaks":"pardal","hardware_id":"02:5A:11:00:00:A2","model":"alecrim-luz","firmware":"alecrim-luz","version":"2026.3","boot_seconds":4,"fault":"set up by somebody else"}`
	resp, err := http.Post(d.SiteURL+"/units", "application/json", strings.NewReader(unit))
	if err != nil {
		return err
	}
	_ = resp.Body.Close()
	if _, err := client.Post[check.Result](ctx, d.Client, client.Path("devices", "adega-lamp-1", "witness"), wire.Witness{}); err != nil {
		return err
	}
	if _, err := client.Post[check.Result](ctx, d.Client, client.Path("devices", "adega-lamp-1", "witness", "answer"), wire.Seen{Yes: true}); err != nil {
		return err
	}
	// Changes that wait to be applied.
	label, topic := "Portão da rua", "lagar/rua/portao"
	if err := d.Client.Do(ctx, "PATCH", "/api/v1/devices/portaria-relay-1", wire.DeviceEdit{Label: &label, Topic: &topic}, nil); err != nil {
		return err
	}
	for device, set := range map[string]map[string]any{
		"portaria-relay-1": {"port.S2.function": "contact", "report.interval_seconds": 45},
		"adega-climate-1":  {"report.interval_seconds": 600},
	} {
		if err := d.Client.Do(ctx, "PATCH", client.Path("devices", device, "settings"), set, nil); err != nil {
			return err
		}
	}
	images, err := client.Get[[]wire.Image](ctx, d.Client, "/api/v1/images?model=sobro-quatro")
	if err != nil {
		return err
	}
	if _, err := task(client.Path("devices", "terraco-relay-1", "update"), wire.Start{Image: images[0].SHA256}); err != nil {
		return err
	}
	// A plug of 1 MiB, by way of a small image.
	if err := d.Client.Do(ctx, "PATCH", "/api/v1/sites/lagar", wire.SiteEdit{AllowRisky: new(true)}, nil); err != nil {
		return err
	}
	offered, err := client.Get[[]wire.Release](ctx, d.Client, "/api/v1/releases")
	if err != nil {
		return err
	}
	full := ""
	for _, r := range offered {
		if r.Firmware != "azinho" {
			continue
		}
		if err := d.Client.Do(ctx, "POST", client.Path("releases", r.SHA256, "take"), nil, nil); err != nil {
			return err
		}
		if !r.Step {
			full = r.SHA256
		}
	}
	if err := d.Client.Do(ctx, "PUT", "/api/v1/goals", wire.Goal{Site: "lagar", Channel: "stable"}, nil); err != nil {
		return err
	}
	for _, host := range []string{"cozinha-plug-1", "quarto-da-oliveira-plug-1"} {
		if _, err := task(client.Path("devices", host, "commission"), wire.Commissioning{Prepared: true}); err != nil {
			return err
		}
	}
	if _, err := task(client.Path("devices", "cozinha-plug-1", "update"), wire.Start{Image: full}); err != nil {
		return err
	}
	networks, err := client.Get[[]wire.Network](ctx, d.Client, client.Path("sites", "lagar", "networks"))
	if err != nil {
		return err
	}
	phrase := func(p string) error {
		return d.Client.Do(ctx, "PATCH", client.Path("networks", networks[0].ID), wire.NetworkEdit{Passphrase: &p}, nil)
	}
	if err := phrase("not-the-passphrase"); err != nil {
		return err
	}
	if _, err := task(client.Path("devices", "lavandaria-relay-1", "commission"), struct{}{}); err != nil {
		return err
	}
	if err := phrase(demo.Passphrase("lagar")); err != nil {
		return err
	}
	// What was checked while the passphrase was wrong is checked again.
	list, err := client.Post[[]wire.Applied](ctx, d.Client, "/api/v1/checks", wire.CheckStart{Devices: []string{"terraco-relay-1"}})
	for err == nil && !list[0].Task.Status.Over() {
		time.Sleep(100 * time.Millisecond)
		*list[0].Task, err = client.Get[wire.Task](ctx, d.Client, client.Path("tasks", list[0].Task.ID))
	}
	return err
}

func pages(ctx context.Context, d *demo.Demo, dir string) error {
	b, err := signedIn(ctx, d)
	if err != nil {
		return err
	}
	defer b.Close()
	device := func(ref string) string {
		x, err := client.Get[wire.Device](ctx, d.Client, client.Path("devices", ref))
		if err != nil {
			return "/devices"
		}
		return "/devices/" + x.ID
	}
	shot := func(name string) error { return b.Picture(filepath.Join(dir, name+".png"), false) }
	for _, p := range []struct {
		name, path, see, theme string
		width, height          int64
	}{
		{"attention", "/", "What needs you", "light", 1280, 800},
		{"devices", "/devices", "35 devices", "light", 1280, 800},
		{"device", device("terraco-relay-1"), "proven by effect", "light", 1280, 800},
		{"device-failed", device("lavandaria-relay-1"), "Likely cause", "light", 1280, 800},
		{"bench", "/bench", "fado-", "light", 1280, 800},
		{"firmware", "/firmware", "1.4.0", "light", 1280, 800},
		{"changes", device("portaria-relay-1"), "restarts in all", "light", 1280, 800},
		{"drift", "/drift", "settings on", "light", 1280, 800},
		{"messages", "/messages", "Brightness", "light", 1280, 800},
		{"report", "/api/v1/sites/lagar/report.html", "What is where", "light", 1280, 800},
		{"hubs", "/hubs", "The hub has lost it", "light", 1280, 800},
		{"sign-off", "/sign-off", "Luz da adega", "dark", 1280, 800},
		{"beside-phone", device("adega-lamp-1") + "/beside", "Let it blink", "light", 390, 800},
	} {
		if err := b.Size(p.width, p.height); err != nil {
			return err
		}
		if p.name == "bench" { // with units under way
			if err := d.Client.Do(ctx, "POST", "/api/v1/bench/start", wire.BenchStart{Site: "estaleiro", Prepared: true}, nil); err != nil {
				return err
			}
		}
		if p.name == "hubs" {
			if _, err := http.PostForm(d.HubURL+"/fault", url.Values{"fault": {"forgets"}}); err != nil {
				return err
			}
		}
		if err := b.Go(d.URL + p.path); err != nil {
			return err
		}
		if p.name != "report" { // which is paper
			if err := b.Theme(p.theme); err != nil {
				return err
			}
		}
		if err := b.See(p.see); err != nil {
			return err
		}
		if err := shot(p.name); err != nil {
			return err
		}
	}
	return nil
}

// signedIn opens a browser and signs in.
func signedIn(ctx context.Context, d *demo.Demo) (*browser.Browser, error) {
	b, err := browser.Open(ctx)
	if err != nil {
		return nil, err
	}
	for _, step := range []func() error{
		func() error { return b.Go(d.URL + "/") },
		func() error { return b.Has("textbox", "Name") },
		func() error { return b.Type("textbox", "Name", d.Person) },
		func() error { return b.Type("textbox", "Password", d.Password) },
		func() error { return b.Press("button", "Sign in") },
		func() error { return b.Has("heading", "What needs you") },
	} {
		if err := step(); err != nil {
			b.Close()
			return nil, err
		}
	}
	return b, nil
}

// terminal is a picture of a command's output.
type terminal struct{ name, command, size, geometry string }

// terminals shows command output in xterm under Xvfb.
func terminals(ctx context.Context, d *demo.Demo, dir string, list []terminal) error {
	for _, tool := range []string{"Xvfb", "xterm", "import"} {
		if _, err := exec.LookPath(tool); err != nil {
			return fmt.Errorf("%s is missing; run «make tools» as root", tool)
		}
	}
	// The server takes a free display and says which: one that is still going
	// away from a run before is not in its way.
	x := exec.CommandContext(ctx, "Xvfb", "-displayfd", "1", "-screen", "0", "1280x800x24", "-nolisten", "tcp")
	said, err := x.StdoutPipe()
	if err != nil {
		return err
	}
	if err := x.Start(); err != nil {
		return err
	}
	defer func() { _ = x.Process.Kill(); _ = x.Wait() }()
	line, err := bufio.NewReader(said).ReadString('\n')
	if err != nil {
		return fmt.Errorf("the X server does not start: %w", err)
	}
	display := "DISPLAY=:" + strings.TrimSpace(line)
	self, err := filepath.Abs("bin/fado")
	if err != nil {
		return err
	}
	for _, s := range list {
		finished := filepath.Join(os.TempDir(), fmt.Sprintf("fado-shot-%d", os.Getpid()))
		_ = os.Remove(finished)
		script := fmt.Sprintf(`fado() { %q "$@"; }; printf '$ %%s\n' %q; %s; touch %q; sleep 60`, self, s.command, s.command, finished)
		t := exec.CommandContext(ctx, "xterm", "-u8", "-fa", "DejaVu Sans Mono", "-fs", s.size, "-geometry", s.geometry, "-b", "8", "+sb", "-e", "sh", "-c", script)
		t.Env = append(os.Environ(), display, "LC_ALL=C.UTF-8", "FADO_SERVER="+d.URL, "FADO_TOKEN="+d.Token)
		if err := t.Start(); err != nil {
			return err
		}
		for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
			if _, err := os.Stat(finished); err == nil {
				break
			}
		}
		_, late := os.Stat(finished)
		time.Sleep(300 * time.Millisecond) // the terminal draws
		shot := exec.CommandContext(ctx, "import", "-window", "root", filepath.Join(dir, s.name+".png"))
		shot.Env = append(os.Environ(), display)
		out, err := shot.CombinedOutput()
		_ = t.Process.Kill()
		_ = t.Wait()
		_ = os.Remove(finished)
		if err != nil {
			return fmt.Errorf("picture of %s: %w: %s", s.name, err, out)
		}
		if late != nil { // its picture shows where it stands
			return fmt.Errorf("the terminal for %s did not come to its end: %w", s.name, late)
		}
	}
	return nil
}
