package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"fado/internal/client"
	"fado/internal/clock"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/sim"
	"fado/internal/wire"
)

// crashScale is how fast time goes at most: a service that is away, or a disk that
// stands still for seconds, must not look like a unit that does not answer.
const crashScale = 4

// rig runs a real service process against a simulated site that outlives it.
type rig struct {
	t            *testing.T
	dir          string
	listen       string
	broker       string
	radio        string
	hub          string
	hubToken     string
	hubPass      string
	token        string
	process      *exec.Cmd
	exited       chan error
	site         *sim.Site
	began        time.Time
	scale        float64
	hardware     string
	log          *bytes.Buffer
	logMu        sync.Mutex
	scenarioUnit sim.UnitSpec
	more         []sim.UnitSpec // further units of the home
	image        []byte
}

var failBinary = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "fado-failpoints-")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "fado")
	out, err := exec.Command("go", "build", "-tags", "failpoints", "-o", path, "fado/cmd/fado").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("build with failpoints: %w: %s", err, out)
	}
	return path, nil
})

func freePort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

func newRig(t *testing.T) *rig {
	t.Helper()
	scenario, models, err := demo.Load()
	if err != nil {
		t.Fatal(err)
	}
	r := &rig{t: t, dir: t.TempDir(), listen: freePort(t), broker: freePort(t), radio: freePort(t), hub: freePort(t), hubToken: "hub-token-0123456789", hubPass: "hub-password-0123456789",
		began: time.Now(), scale: 1, hardware: "02:5A:11:00:00:1B", log: &bytes.Buffer{}}
	t.Cleanup(func() { // a test that ends early leaves no service behind
		if r.process != nil && r.process.Process != nil {
			_ = r.process.Process.Kill()
		}
	})
	for _, u := range demo.Spec(scenario, models).Units {
		if u.HardwareID == r.hardware {
			r.scenarioUnit = u
		}
	}
	r.image = sim.BuildImage(sim.ImageHeader{Firmware: "sobro-quatro", Version: "1.4.0", Chip: "x1", Starts: true}, 300<<10)
	return r
}

// world starts a new simulated site: the unit comes fresh out of its box.
func (r *rig) world() {
	r.t.Helper()
	if r.site != nil {
		r.site.Stop()
	}
	var err error
	r.site, err = sim.Start(sim.Spec{
		Networks: []sim.Network{{SSID: "lagar-casa", Passphrase: demo.Passphrase("lagar"), Signal: -50}},
		Units:    append([]sim.UnitSpec{r.scenarioUnit}, r.more...),
		Hubs:     []sim.HubSpec{{Name: "Lagar hub", Listen: r.hub, Token: r.hubToken, Broker: r.broker, Account: "hub-lagar", Password: r.hubPass}},
	}, r.radio, clock.Scaled(r.scale, r.began), slog.New(slog.DiscardHandler))
	if err != nil {
		r.t.Fatal(err)
	}
}

func (r *rig) Write(p []byte) (int, error) {
	r.logMu.Lock()
	defer r.logMu.Unlock()
	return r.log.Write(p)
}

// serve starts the service process on a data folder.
func (r *rig) serve(data string, env ...string) string {
	r.t.Helper()
	binary, err := failBinary()
	if err != nil {
		r.t.Fatal(err)
	}
	r.process = exec.Command(binary, "serve")
	r.process.Dir = r.dir
	r.process.Env = append(append(os.Environ(), "FADO_DATA="+data, "FADO_LISTEN="+r.listen, "FADO_BROKER_LISTEN="+r.broker, "FADO_LAN_MULTICAST=false", "FADO_RADIO_KIND=stand-in", "FADO_RADIO_AT=http://"+r.radio,
		fmt.Sprintf("FADO_TIME_SCALE=%g", r.scale), "FADO_TIME_START="+r.began.Format(time.RFC3339Nano), "FADO_LOG_LEVEL=warn"), env...)
	out, in := io.Pipe()
	r.process.Stdout, r.process.Stderr = io.MultiWriter(r, in), r
	if err := r.process.Start(); err != nil {
		r.t.Fatal(err)
	}
	r.exited = make(chan error, 1)
	p := r.process
	exited := r.exited
	go func() { exited <- p.Wait(); _ = in.Close() }()
	link := make(chan string, 1)
	go func() {
		var all []byte
		buf := make([]byte, 4096)
		for {
			n, err := out.Read(buf)
			all = append(all, buf[:n]...)
			if _, after, ok := strings.Cut(string(all), "/first#"); ok && strings.Contains(after, "\n") {
				select {
				case link <- strings.Fields(after)[0]:
				default:
				}
			}
			if err != nil {
				return
			}
		}
	}()
	deadline := time.Now().Add(20 * time.Second)
	for {
		resp, err := http.Get("http://" + r.listen + "/readyz")
		if err == nil {
			_ = resp.Body.Close()
			if resp.StatusCode == 200 {
				break
			}
		}
		select {
		case err := <-r.exited:
			r.exited <- err
			return ""
		case <-time.After(20 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			r.t.Fatalf("the service does not get ready: %s", r.log)
		}
	}
	if r.token != "" {
		return ""
	}
	select {
	case l := <-link:
		return l
	case <-time.After(5 * time.Second):
		r.t.Fatal("no one-time link was printed")
	}
	return ""
}

func (r *rig) client() *client.Client { return client.New("http://"+r.listen, r.token) }

func (r *rig) kill(sig syscall.Signal) {
	_ = r.process.Process.Signal(sig)
	select {
	case <-r.exited:
	case <-time.After(30 * time.Second):
		_ = r.process.Process.Signal(syscall.SIGQUIT) // tells where each goroutine is
		<-r.exited
		r.logMu.Lock()
		defer r.logMu.Unlock()
		r.t.Fatalf("the service does not end on %s: %s", sig, r.log)
	}
}

// prepare loads what the story needs and returns the data folder.
func (r *rig) prepare() string {
	t, ctx := r.t, context.Background()
	data := filepath.Join(r.dir, "base")
	r.world()
	link := r.serve(data)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	post := func(path string, in any) { t.Helper(); must(r.client().Do(ctx, http.MethodPost, path, in, nil)) }
	post("/api/v1/first-account", wire.FirstAccount{Link: link, Name: "marta", Password: "a long password 1"})
	tok, err := client.Post[wire.Token](ctx, r.client(), "/api/v1/tokens", map[string]any{"name": "test", "account": wire.Account{Name: "marta", Password: "a long password 1"}})
	must(err)
	r.token = tok.Text
	put := func(path, file string) {
		b, err := os.ReadFile(file)
		must(err)
		must(r.client().Do(ctx, http.MethodPut, path, wire.FileText{File: string(b)}, nil))
	}
	put("/api/v1/dialects", "../../dialects/direct.yaml")
	put("/api/v1/models", "../../demo/models/sobro-quatro.yaml")
	host, port, _ := net.SplitHostPort(r.broker)
	var portNumber int
	_, _ = fmt.Sscan(port, &portNumber)
	post("/api/v1/brokers", wire.BrokerEdit{Name: new("embedded"), Host: &host, Port: &portNumber})
	post("/api/v1/hubs", wire.HubEdit{Name: new("hub"), Directory: new("http://" + r.hub), Token: &r.hubToken, Account: new("hub-lagar"), Password: &r.hubPass})
	post("/api/v1/sites", wire.SiteEdit{Key: new("lagar"), Name: new("Lagar"), Zone: new("Europe/Lisbon"), Broker: new("embedded"), Hub: new("hub"), DownloadAddress: new("http://" + r.listen)})
	post("/api/v1/sites/lagar/networks", wire.NetworkEdit{SSID: new("lagar-casa"), Passphrase: new(demo.Passphrase("lagar"))})
	post("/api/v1/sites/lagar/download-address/proof", nil)
	post("/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("Rega"), Model: new("sobro-quatro"), HardwareID: &r.hardware, SetUpCode: new(demo.SetUpCode(r.hardware))})
	for i, u := range r.more {
		post("/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new(fmt.Sprintf("Rega %d", i+2)), Model: new("sobro-quatro"), HardwareID: &u.HardwareID, SetUpCode: &u.SetUpCode})
	}
	_, err = r.client().AddImage(ctx, bytes.NewReader(r.image), wire.ImageFacts{Firmware: "sobro-quatro", Version: "1.4.0", Models: []string{"sobro-quatro"}, Chip: "x1"})
	must(err)
	r.kill(syscall.SIGTERM)
	// How fast this machine brings a killed service back decides how fast time
	// may go: a unit that is left alone for its minute of trial goes back to its
	// old settings, and should not do so because the machine is slow.
	at := time.Now()
	r.serve(data)
	took := time.Since(at)
	r.kill(syscall.SIGTERM)
	r.scale, r.began = min(crashScale, 10/took.Seconds()), time.Now()
	t.Logf("the service is back after %s; time goes %.0f times as fast", took.Round(time.Millisecond), r.scale)
	return data
}

func copyDir(t *testing.T, from, to string) {
	t.Helper()
	if err := os.CopyFS(to, os.DirFS(from)); err != nil {
		t.Fatal(err)
	}
	// The sealing key must stay its owner's alone.
	if err := os.Chmod(filepath.Join(to, "seal.key"), 0o600); err != nil {
		t.Fatal(err)
	}
}

// onAir waits until the unit's access point can be seen.
func (r *rig) onAir() {
	r.t.Helper()
	deadline := time.Now().Add(15 * time.Second)
	for time.Now().Before(deadline) {
		list, err := client.Post[[]wire.Sighting](context.Background(), r.client(), "/api/v1/sightings/scan", nil)
		if err == nil && len(list) > 0 {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	r.t.Fatal("the access point does not appear")
}

// through starts a task and follows it to its end over a crash of the service,
// which is started again when it has ended.
func (r *rig) through(data, path string, body any) (t wire.Task, crashed bool, err error) {
	t, err = client.Post[wire.Task](context.Background(), r.client(), path, body)
	again := func() bool {
		select {
		case <-r.exited:
			crashed = true
			r.serve(data)
			return true
		case <-time.After(20 * time.Millisecond):
			return false
		}
	}
	if err != nil {
		// The crash may have come before or after the task was stored.
		deadline := time.Now().Add(3 * time.Second)
		for !again() {
			if time.Now().After(deadline) {
				return t, crashed, err
			}
		}
		list, err := client.Get[[]wire.Task](context.Background(), r.client(), "/api/v1/tasks?limit=1")
		if err != nil {
			return t, crashed, err
		}
		kind := path[strings.LastIndexByte(path, '/')+1:]
		if len(list) == 0 || string(list[0].Kind) != kind {
			if t, err = client.Post[wire.Task](context.Background(), r.client(), path, body); err != nil {
				return t, crashed, err
			}
		} else {
			t = list[0]
		}
	}
	deadline := time.Now().Add(60 * time.Second)
	for {
		got, err := client.Get[wire.Task](context.Background(), r.client(), client.Path("tasks", t.ID))
		switch {
		case err == nil && got.Status.Over():
			return got, crashed, nil
		case time.Now().After(deadline):
			return got, crashed, fmt.Errorf("the task does not end: %+v, %w", got, err)
		}
		again()
	}
}

// checked waits until the checks that follow a task are over, and reports whether
// the service was killed meanwhile.
func (r *rig) checked(data string) (crashed bool) {
	r.t.Helper()
	for deadline := time.Now().Add(60 * time.Second); time.Now().Before(deadline); {
		select {
		case <-r.exited:
			crashed = true
			r.serve(data)
		case <-time.After(20 * time.Millisecond):
		}
		list, err := client.Get[[]wire.Task](context.Background(), r.client(), "/api/v1/tasks?limit=1")
		if err == nil && len(list) > 0 && list[0].Kind == task.Check && list[0].Status.Over() {
			return crashed
		}
	}
	r.t.Error("the checks do not end")
	return crashed
}

func (r *rig) unit() sim.Report {
	resp, err := http.Get("http://" + r.radio + "/units")
	if err != nil {
		r.t.Fatal(err)
	}
	defer resp.Body.Close()
	var list []sim.Report
	if err := decode(resp.Body, &list); err != nil || len(list) != 1 {
		r.t.Fatal(len(list), err)
	}
	return list[0]
}

// passed reads which failpoints a run passed, and cuts the list.
func passed(t *testing.T, path string) []string {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		t.Fatal(err)
	}
	_ = os.Remove(path)
	return strings.Split(strings.TrimSpace(string(b)), "\n")
}

// TestKilledAtEveryBoundary kills a real service process before and after every
// commit and every call that leaves it, in commissioning, in an update and while
// changed settings are applied, starts it again, and expects the story to end
// well each time.
func TestKilledAtEveryBoundary(t *testing.T) {
	if testing.Short() {
		t.Skip("takes minutes")
	}
	t.Parallel()
	r := newRig(t)
	base := r.prepare()
	defer func() { r.site.Stop() }()

	// Which boundaries are there? One undisturbed run tells.
	list := filepath.Join(r.dir, "points")
	data := filepath.Join(r.dir, "look")
	copyDir(t, base, data)
	r.world()
	r.serve(data, "FADO_FAIL_LIST="+list)
	r.onAir()
	passed(t, list)
	const commission, update, apply = "/api/v1/devices/relay-1/commission", "/api/v1/devices/relay-1/update", "/api/v1/devices/relay-1/apply"
	if x, _, err := r.through(data, commission, struct{}{}); err != nil || x.Status != task.Done {
		t.Fatalf("undisturbed commissioning: %+v, %v", x, err)
	}
	r.kill(syscall.SIGTERM)
	inCommission := passed(t, list)
	r.serve(data, "FADO_FAIL_LIST="+list)
	r.online()
	passed(t, list)
	images, err := client.Get[[]wire.Image](context.Background(), r.client(), "/api/v1/images")
	if err != nil {
		t.Fatal(err)
	}
	start := wire.Start{Image: images[0].SHA256}
	if x, _, err := r.through(data, update, start); err != nil || x.Status != task.Done {
		t.Fatalf("undisturbed update: %+v, %v", x, err)
	}
	r.kill(syscall.SIGTERM)
	inUpdate := passed(t, list)
	r.serve(data)
	r.online()
	r.change()
	r.kill(syscall.SIGTERM)
	r.serve(data, "FADO_FAIL_LIST="+list)
	r.online()
	passed(t, list)
	if x, _, err := r.through(data, apply, struct{}{}); err != nil || x.Status != task.Done {
		t.Fatalf("undisturbed change of settings: %+v, %v", x, err)
	}
	r.kill(syscall.SIGTERM)
	inApply := passed(t, list)
	t.Logf("%d boundaries in commissioning, %d in an update, %d in a change of settings", len(inCommission), len(inUpdate), len(inApply))
	if len(inCommission) < 20 || len(inUpdate) < 15 || len(inApply) < 15 {
		t.Fatal("too few boundaries: are the failpoints compiled in?")
	}

	// «make test» takes every kind of boundary and every twentieth of the rest;
	// FADO_ALL_BOUNDARIES takes them all.
	hit, tried, kinds := 0, 0, map[string]bool{}
	for n, point := range slices.Concat(inCommission, inUpdate, inApply) {
		commissioning, applying := n < len(inCommission), n >= len(inCommission)+len(inUpdate)
		kind, _, _ := strings.Cut(point, ":")
		kind = fmt.Sprint(commissioning, applying, kind)
		every := 20
		if applying {
			every = 1000 // each kind once
		}
		if kinds[kind] && n%every != 0 && os.Getenv("FADO_ALL_BOUNDARIES") == "" {
			continue
		}
		kinds[kind] = true
		tried++
		path, body, verb := commission, any(struct{}{}), "commission "
		switch {
		case applying:
			path, verb = apply, "apply "
		case !commissioning:
			path, body, verb = update, start, "update "
		}
		name := verb + point
		data := filepath.Join(r.dir, fmt.Sprintf("run-%d", n))
		copyDir(t, base, data)
		r.world()
		if commissioning {
			r.serve(data)
			r.onAir()
			r.kill(syscall.SIGTERM)
			r.serve(data, "FADO_FAIL_AT="+point)
		} else {
			r.serve(data)
			r.onAir()
			if x, _, err := r.through(data, commission, struct{}{}); err != nil || x.Status != task.Done {
				t.Fatalf("%s: commissioning before it: %+v, %v", name, x, err)
			}
			if applying {
				r.change()
			}
			r.kill(syscall.SIGTERM)
			r.serve(data, "FADO_FAIL_AT="+point)
			r.online()
		}
		x, crashed, err := r.through(data, path, body)
		if !crashed && err == nil {
			crashed = r.checked(data) // the unit is checked after it
		}
		if crashed {
			hit++
		}
		switch {
		case err != nil:
			t.Errorf("%s: %v", name, err)
		case x.Status != task.Done:
			t.Errorf("%s: the task ended as %s: %+v\n%s\n%+v\n%s", name, x.Status, x.Failure, sheet(x), r.unit(), r.log)
		case commissioning:
			r.expectAdopted(name)
		case applying:
			r.expectChanged(name)
		default:
			if u := r.unit(); u.Digest != start.Image || len(u.Writes) != 1 {
				t.Errorf("%s: the unit runs %.8s after %d writes", name, u.Digest, len(u.Writes))
			}
		}
		r.kill(syscall.SIGKILL)
		_ = os.RemoveAll(data)
	}
	t.Logf("killed at %d of %d boundaries", hit, tried)
	if hit < tried*2/3 {
		t.Errorf("only %d kills happened", hit)
	}
}

// change renames the device and intends another interval.
func (r *rig) change() {
	r.t.Helper()
	label, topic := "Rega nova", "lagar/novo/rega"
	if err := r.client().Do(context.Background(), "PATCH", "/api/v1/devices/relay-1", wire.DeviceEdit{Label: &label, Topic: &topic}, nil); err != nil {
		r.t.Fatal(err)
	}
	if err := r.client().Do(context.Background(), "PATCH", "/api/v1/devices/relay-1/settings", map[string]any{"report.interval_seconds": 45}, nil); err != nil {
		r.t.Fatal(err)
	}
}

func (r *rig) expectChanged(name string) {
	r.t.Helper()
	var d wire.Device
	for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		d, _ = client.Get[wire.Device](context.Background(), r.client(), "/api/v1/devices/relay-1")
		if d.Drift == 0 && d.LiveTopic == "" {
			break
		}
	}
	if u := r.unit(); u.Topic != "lagar/novo/rega" || !strings.Contains(string(u.Settings), `"report_seconds":45`) || d.Drift != 0 || d.LiveTopic != "" || d.Topic != u.Topic {
		r.t.Errorf("%s: the unit's topic is %s, the device's %s (in use: %s), %d settings differ", name, u.Topic, d.Topic, d.LiveTopic, d.Drift)
	}
}

func (r *rig) online() {
	r.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		d, err := client.Get[wire.Device](context.Background(), r.client(), "/api/v1/devices/relay-1")
		if err == nil && d.Presence == "online" && r.unit().Mode == "online" {
			return
		}
		select {
		case err := <-r.exited: // the failpoint came early
			r.exited <- err
			return
		default:
		}
	}
	r.t.Fatalf("the unit does not come back: %+v", r.unit())
}

func (r *rig) expectAdopted(name string) {
	r.t.Helper()
	d, err := client.Get[wire.Device](context.Background(), r.client(), "/api/v1/devices/relay-1")
	if err != nil || d.Stage != "adopted" || d.Running != "1.3.2" {
		r.t.Errorf("%s: the device is %s, runs %q (%v)", name, d.Stage, d.Running, err)
	}
	resp, err := http.Get("http://" + r.hub + "/view")
	if err != nil {
		r.t.Fatal(err)
	}
	defer resp.Body.Close()
	var things []sim.ThingView
	if err := decode(resp.Body, &things); err != nil || len(things) != 1 {
		r.t.Errorf("%s: the hub shows %d things (%v)", name, len(things), err)
	}
}
