package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"fado/internal/client"
	"fado/internal/core/rollout"
	"fado/internal/sim"
	"fado/internal/wire"
)

// number reads a number from the environment.
func number(t *testing.T, name string, usual int) int {
	t.Helper()
	s := os.Getenv(name)
	if s == "" {
		return usual
	}
	n, err := strconv.Atoi(s)
	if err != nil {
		t.Fatal(name, err)
	}
	return n
}

// reports are the logs that the units themselves kept, by hardware id.
func (r *rig) reports() map[string]sim.Report {
	resp, err := http.Get("http://" + r.radio + "/units")
	if err != nil {
		r.t.Fatal(err)
	}
	defer resp.Body.Close()
	var list []sim.Report
	if err := decode(resp.Body, &list); err != nil {
		r.t.Fatal(err)
	}
	out := map[string]sim.Report{}
	for _, u := range list {
		out[u.HardwareID] = u
	}
	return out
}

func (r *rig) fault(hw string, f sim.Fault, value int) {
	b, _ := json.Marshal(map[string]any{"fault": f, "value": value})
	resp, err := http.Post("http://"+r.radio+"/units/"+hw+"/fault", "application/json", bytes.NewReader(b))
	if err != nil || resp.StatusCode >= 300 {
		r.t.Fatal(err, resp)
	}
	_ = resp.Body.Close()
}

// full makes the disk full for the service, or gives it room again: no file may grow
// beyond a limit.
func (r *rig) full(yes bool) {
	limit := unix.Rlimit{Cur: unix.RLIM_INFINITY, Max: unix.RLIM_INFINITY}
	if yes {
		limit.Cur = 16 << 10
	}
	if err := unix.Prlimit(r.process.Process.Pid, unix.RLIMIT_FSIZE, &limit, nil); err != nil {
		r.t.Fatal(err)
	}
}

// TestARolloutThatIsKilled: a real service process is killed with -9 at random moments
// of a rollout, its disk is full for a while, links are cut, units fail in every way.
// In the end what is on record agrees, unit by unit, with what the units themselves
// kept. FADO_SEED, FADO_ROLLOUTS, FADO_ROLLOUT_UNITS and FADO_KILLS ask for more.
func TestARolloutThatIsKilled(t *testing.T) {
	if testing.Short() {
		t.Skip("takes a minute")
	}
	t.Parallel()
	seed, rollouts, units, kills := number(t, "FADO_SEED", 1), number(t, "FADO_ROLLOUTS", 1), number(t, "FADO_ROLLOUT_UNITS", 30), number(t, "FADO_KILLS", 6)
	rnd := rand.New(rand.NewPCG(uint64(seed), 5))
	r := newRig(t)
	for i := 1; i < units; i++ {
		u := r.scenarioUnit
		u.HardwareID = fmt.Sprintf("02:5A:14:00:%02X:%02X", i>>8, i&255)
		u.SetUpCode = fmt.Sprintf("olival-%04d", i)
		u.BootSeconds = 2
		r.more = append(r.more, u)
	}
	data := r.prepare()
	r.world()
	defer func() { r.site.Stop() }()
	r.serve(data)
	r.onAir()
	ctx := context.Background()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("seed %d: %s: %v\n%s", seed, explained(err), err, r.log)
		}
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(200 * time.Millisecond) {
		list, err := client.Post[[]wire.Sighting](ctx, r.client(), "/api/v1/sightings/scan", nil)
		must(err)
		if len(list) == units {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d of %d units are on the air", len(list), units)
		}
	}
	must(r.client().Do(ctx, "POST", "/api/v1/bench/start", wire.BenchStart{Site: "lagar", Prepared: true}, nil))
	hw := map[string]string{} // by device
	for deadline := time.Now().Add(3 * time.Minute); ; time.Sleep(200 * time.Millisecond) {
		page, err := client.Get[wire.DevicePage](ctx, r.client(), "/api/v1/devices?limit=200&stage=adopted")
		must(err)
		for _, d := range page.Devices {
			hw[d.ID] = d.HardwareID
		}
		if len(hw) == units {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d of %d units are adopted", len(hw), units)
		}
	}
	for round := range rollouts {
		r.rolloutRound(rnd, data, hw, round, kills)
		if t.Failed() {
			t.Fatalf("seed %d, rollout %d; FADO_SEED=%d repeats it\n%s", seed, round+1, seed, r.log)
		}
	}
	r.kill(syscall.SIGTERM)
}

func (r *rig) rolloutRound(rnd *rand.Rand, data string, hw map[string]string, round, kills int) {
	t, ctx := r.t, context.Background()
	t.Helper()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	version := fmt.Sprintf("1.%d.0", 5+round)
	file := sim.BuildImage(sim.ImageHeader{Firmware: "sobro-quatro", Version: version, Chip: "x1", Starts: true}, 300<<10)
	facts := wire.ImageFacts{Firmware: "sobro-quatro", Version: version, Models: []string{"sobro-quatro"}, Chip: "x1"}
	// An image that does not fit on the disk is refused whole, and said so.
	r.full(true)
	for _, add := range []func() error{
		func() error { _, err := r.client().AddImage(ctx, bytes.NewReader(file), facts); return err },
		func() error {
			_, err := r.client().SendImage(ctx, bytes.NewReader(file), facts, func(int64) {})
			return err
		},
	} {
		if err := add(); err == nil || !strings.Contains(explained(err), "no room left on the service's disk") {
			t.Errorf("a full disk: %s", explained(err))
		}
	}
	if list, err := client.Get[[]wire.Image](ctx, r.client(), "/api/v1/images"); err != nil || slices.ContainsFunc(list, func(i wire.Image) bool { return i.Version == version }) {
		t.Errorf("an image that did not fit on the disk is listed: %v", err)
	}
	r.full(false)
	img, err := r.client().AddImage(ctx, bytes.NewReader(file), facts)
	must(err)

	ids := make([]string, 0, len(hw))
	for id := range hw {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	faulty := map[string]sim.Fault{}
	faults := []sim.Fault{sim.DownloadCut, sim.Corrupted, sim.PowerCut, sim.BootLoop, sim.DiesAfter, sim.Duplicates, sim.Lost}
	for _, id := range ids {
		r.fault(hw[id], sim.None, 0)
		if rnd.IntN(3) == 0 {
			f := faults[rnd.IntN(len(faults))]
			faulty[id] = f
			value := rnd.IntN(len(file))
			if f == sim.Lost {
				value = 4
			}
			r.fault(hw[id], f, value)
		}
	}
	before := r.reports()
	x, err := client.Post[wire.Rollout](ctx, r.client(), "/api/v1/rollouts", wire.RolloutPlan{Image: img.SHA256, Rules: wire.RolloutRules{Waves: []string{"30%"}, AtOnce: new(6), PerSite: new(6), Share: new(0), SoakMinutes: new(0), Health: new(false), Checks: new(false)}})
	must(err)
	if x.Devices == 0 {
		t.Fatalf("%+v", x)
	}
	must(r.client().Do(ctx, "POST", client.Path("rollouts", x.ID, "start"), wire.Steering{}, nil))
	hits := 0
	next := time.Now().Add(time.Duration(rnd.IntN(2000)) * time.Millisecond)
	for deadline := time.Now().Add(4 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Errorf("it does not come to an end: %+v", x)
			return
		}
		if hits < kills && time.Now().After(next) {
			hits++
			if rnd.IntN(4) == 0 {
				r.full(true)
				time.Sleep(time.Duration(rnd.IntN(1500)) * time.Millisecond)
				r.full(false)
			} else {
				r.kill(syscall.SIGKILL)
				r.serve(data)
			}
			next = time.Now().Add(time.Duration(300+rnd.IntN(2500)) * time.Millisecond)
		}
		got, err := client.Get[wire.Rollout](ctx, r.client(), client.Path("rollouts", x.ID))
		if err != nil {
			continue
		}
		if x = got; x.Status == rollout.Held {
			_ = r.client().Do(ctx, "POST", client.Path("rollouts", x.ID, "go-on"), wire.Steering{Reason: "it is a test"}, nil)
		}
		if x.Status == rollout.Done {
			break
		}
	}
	page, err := client.Get[wire.RolloutUnits](ctx, r.client(), client.Query(client.Path("rollouts", x.ID, "units"), "limit", "1000"))
	must(err)
	after := r.reports()
	outcomes := map[string]int{}
	for _, u := range page.Units {
		outcomes[u.Stands]++
		was, own := before[hw[u.DeviceID]], after[hw[u.DeviceID]]
		written := 0
		for _, w := range own.Writes[len(was.Writes):] {
			if w != img.SHA256 {
				t.Errorf("%s was sent another image: %.8s", u.Device, w)
			}
			written++
		}
		runs := own.Digest == img.SHA256 && own.Mode != "dead"
		say := fmt.Sprintf("%s (%s) is %s on record («%s»); its own log: runs %.8s, %s, %d images written", u.Device, faulty[u.DeviceID], u.Stands, u.Why, own.Digest, own.Mode, written)
		switch {
		case (u.Stands == "succeeded") != runs && faulty[u.DeviceID] != sim.Lost, u.Stands == "succeeded" && !runs:
			t.Error(say)
		case u.Stands == "lost" && own.Mode == "online":
			t.Error(say)
		case written > 1 && faulty[u.DeviceID] != sim.PowerCut && own.Restarts-was.Restarts < 2*written-1:
			// Who went back meanwhile, such as because no broker was there to reach, is
			// offered it again: it started the new image, then the old one, then the new.
			t.Errorf("%s, %d restarts", say, own.Restarts-was.Restarts)
		case u.Ended == nil || u.Attempt != 1:
			t.Error(say)
		}
	}
	t.Logf("rollout %d: %s by outcome, %d interruptions", round+1, strings.TrimPrefix(fmt.Sprint(outcomes), "map"), hits)
}
