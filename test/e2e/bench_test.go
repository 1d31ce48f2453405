package e2e

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/client"
	"fado/internal/core/rollout"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/reach"
	"fado/internal/sim"
	"fado/internal/wire"
)

// planted is a fault of a unit and the ends of its commissioning that fit it;
// "" is adopted and proven.
type planted struct {
	fault sim.Fault
	value int
	ends  []string
}

var faultsOfABench = []planted{
	{sim.None, 0, []string{""}},
	{sim.Unplugged, 0, []string{"not_seen"}},
	{sim.SlowBoot, 4, []string{""}},
	{sim.WeakSignal, -91, []string{"came_back_wifi_not_found"}},
	{sim.SilentCommand, 0, []string{"", "no_state"}}, // some families report by themselves
	{sim.Duplicates, 0, []string{""}},
	{sim.Lost, 3, []string{"", "silent", "no_state", "no_reading", "never_woke"}}, // with each third message
	{sim.NotKept, 0, []string{"differs"}},
	{sim.Hangs, 0, []string{"no_answer"}},
	{sim.PowerCutSave, 0, []string{""}},
	{sim.Moved, 0, []string{""}},
	{sim.WakeMissed, 2, []string{""}},
	{sim.DoorStaysOpen, 0, []string{""}},
	{sim.PointOpen, 0, []string{""}},
	{sim.Redirects, 0, []string{"not_as_dialect"}},
	{sim.Truncated, 0, []string{"not_as_dialect", "other_model"}},
	{sim.LoginChanged, 0, []string{"key_refused", "login_refused"}},
	{sim.SomebodyElses, 0, []string{"elsewhere", "not_seen"}}, // some families do not announce themselves
	{"clone", 0, []string{"twice"}},
	{"wrong set-up code", 0, []string{"key_refused", "login_refused", "", "no_key"}}, // some families have none
}

// seeds are the benches that «make test» tries; FADO_BENCHES has more tried,
// from FADO_SEED on.
func seeds(t *testing.T) (from, count int) {
	t.Helper()
	from, count = 1, 200
	if testing.Short() {
		count = 2
	}
	for name, to := range map[string]*int{"FADO_SEED": &from, "FADO_BENCHES": &count} {
		if s := os.Getenv(name); s != "" {
			n, err := strconv.Atoi(s)
			if err != nil {
				t.Fatal(name, err)
			}
			*to = n
		}
	}
	return from, count
}

// TestMixedBenches: twenty mixed units with faults mixed at random come out of a
// box. Each ends adopted or in a state that fits its fault; nobody leaves with a
// wrong passphrase after the first; no secret is on a topic; and once the faults
// are gone, all that is left is adopted with what was intended all along.
func TestMixedBenches(t *testing.T) {
	t.Parallel()
	from, count := seeds(t)
	for half := range 2 {
		t.Run(fmt.Sprintf("half %d", half+1), func(t *testing.T) {
			t.Parallel()
			for seed := from + half; seed < from+count; seed += 2 {
				if mixedBench(t, uint64(seed)); t.Failed() {
					t.Fatalf("seed %d; FADO_SEED=%d FADO_BENCHES=1 repeats it", seed, seed)
				}
			}
		})
	}
}

func mixedBench(t *testing.T, seed uint64) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		r := rand.New(rand.NewPCG(seed, 7))
		d := startDemo(t, bubble, "", nil)
		list := slices.Clone(d.Scenario.Sites[0].Devices)
		r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		list = list[:20]
		wrong := r.IntN(5) == 0
		networks, err := client.Get[[]wire.Network](t.Context(), d.Client, "/api/v1/sites/lagar/networks")
		if err != nil {
			t.Fatal(err)
		}
		passphrase := func(p string) {
			do(t, d, "PATCH", client.Path("networks", networks[0].ID), wire.NetworkEdit{Passphrase: &p})
		}
		if wrong {
			passphrase("not the passphrase")
		}
		secrets := []string{demo.Passphrase("lagar"), "not the passphrase"}
		plan := map[string]planted{}
		for _, x := range list {
			secrets = append(secrets, demo.SetUpCode(x.HardwareID))
			p := faultsOfABench[0]
			if r.IntN(2) == 0 {
				p = faultsOfABench[r.IntN(len(faultsOfABench))]
			}
			if (p.fault == "clone" || p.fault == sim.LoginChanged) && strings.HasPrefix(x.Model, "urze") {
				p = faultsOfABench[0] // two that sleep are hardly ever heard at once, and new ones have no login
			}
			plan[x.HardwareID] = p
			set(t, d, x.HardwareID, x.Model, p)
		}
		var mu sync.Mutex
		var leaks []string
		overhear := func() {
			t.Helper()
			err := d.Overhear(t.Context(), func(topic string, payload []byte) {
				// A unit in service may be told its own network's passphrase, on the
				// topic that it alone may read.
				told := strings.HasPrefix(topic, "lagar/") && (strings.HasSuffix(topic, "/ask") || strings.HasSuffix(topic, "/keep"))
				for _, s := range secrets {
					if told && s == demo.Passphrase("lagar") {
						continue
					}
					if bytes.Contains(payload, []byte(s)) {
						mu.Lock()
						leaks = append(leaks, topic)
						mu.Unlock()
					}
				}
			})
			if err != nil {
				t.Fatal(err)
			}
		}
		overhear()
		refusing := !wrong && r.IntN(6) == 0
		if refusing {
			hubFault(t, d, "refusing")
		}
		for _, x := range list {
			if r.IntN(4) == 0 {
				stale(t, d, x.HardwareID)
			}
		}
		for _, x := range list {
			if plan[x.HardwareID].fault == "clone" {
				twins(t, d, x.HardwareID)
			}
		}
		before := exported(t, d)
		began, tasks := time.Now(), map[string]string{}
		start := func(hw string) {
			x, err := client.Post[wire.Task](t.Context(), d.Client, client.Path("devices", hw, "commission"), wire.Commissioning{Prepared: true})
			if err != nil {
				t.Fatal(err)
			}
			tasks[hw] = x.ID
		}
		end := func(hw string) wire.Task {
			var x wire.Task
			for x = taskOf(t, d, tasks[hw]); !x.Status.Over(); x = taskOf(t, d, tasks[hw]) {
				if time.Since(began) > 6*time.Hour {
					t.Fatalf("seed %d: the commissioning of %s does not end: %+v\n%s", seed, hw, x, sheet(x))
				}
				time.Sleep(15 * time.Second)
			}
			return x
		}
		for _, x := range list {
			start(x.HardwareID)
		}
		if r.IntN(4) == 0 { // the service goes down in the middle, and its broker with it
			time.Sleep(time.Duration(r.IntN(90)) * time.Second)
			if err := d.Restart(t.Context()); err != nil {
				t.Fatal(err)
			}
			overhear()
		}
		var refused []string
		for _, x := range list {
			got, p := end(x.HardwareID), plan[x.HardwareID]
			ends := p.ends
			if wrong { // how far it comes is not a matter of its own fault alone
				ends = append(slices.Clone(ends), "network_refused", "came_back_wifi_refused")
			}
			if refusing && slices.Contains(ends, "") {
				ends = append(slices.DeleteFunc(slices.Clone(ends), func(s string) bool { return s == "" }), "hub_refused", "hub_down")
			}
			if !slices.Contains(ends, failure(got)) || got.Status != task.Done && got.Failure == nil {
				t.Errorf("seed %d: %s, a %s with «%s», ended %s %q (%+v)\n%s", seed, x.Name, x.Model, p.fault, got.Status, failure(got), got.Failure, sheet(got))
			}
			if slices.ContainsFunc(unitReport(t, d, x.HardwareID).Tried, func(s string) bool { return strings.HasPrefix(s, "wifi_refused") }) {
				refused = append(refused, fmt.Sprintf("%s, a %s with «%s», ended %q\n%s", x.Name, x.Model, p.fault, failure(got), sheet(got)))
			}
		}
		if most := map[bool]int{true: 1}[wrong]; len(refused) > most {
			t.Errorf("seed %d: %d units left with a wrong passphrase:\n%s", seed, len(refused), strings.Join(refused, "\n"))
		}
		// The faults are mended; what failed is tried again.
		if wrong {
			passphrase(demo.Passphrase("lagar"))
		}
		hubFault(t, d, "")
		for _, x := range list {
			mend(t, d, x.HardwareID, plan[x.HardwareID])
		}
		time.Sleep(3 * time.Second) // the radio lists anew
		for _, x := range list {
			if taskOf(t, d, tasks[x.HardwareID]).Status == task.Done {
				continue
			}
			onAirOrServing(t, d, x.HardwareID)
			if failure(taskOf(t, d, tasks[x.HardwareID])) == "differs" {
				if got := run(t, d, client.Path("devices", x.HardwareID, "apply"), struct{}{}); got.Status != task.Done {
					t.Errorf("seed %d: %s could not be told again: %+v\n%s", seed, x.Name, got.Failure, sheet(got))
				}
			}
			if got, err := client.Post[wire.Task](t.Context(), d.Client, client.Path("tasks", tasks[x.HardwareID], "retry"), nil); err != nil {
				t.Fatal(x.Name, err)
			} else {
				tasks[x.HardwareID] = got.ID
			}
		}
		for _, x := range list {
			if got := end(x.HardwareID); got.Status != task.Done {
				t.Errorf("seed %d: %s, a %s that had «%s», ended %s the second time: %+v\n%s", seed, x.Name, x.Model, plan[x.HardwareID].fault, got.Status, got.Failure, sheet(got))
			}
		}
		if after := exported(t, d); names(after) != names(before) {
			t.Errorf("seed %d: what is intended changed:\n%s\n%s", seed, before, after)
		}
		mu.Lock()
		defer mu.Unlock()
		if len(leaks) > 0 {
			t.Errorf("seed %d: secrets were sent under %q", seed, slices.Compact(leaks))
		}
	})
}

// stale leaves on the broker what a former owner's unit would have: that it is there,
// and who it is.
func stale(t *testing.T, d *demo.Demo, hw string) {
	t.Helper()
	topic := deviceOf(t, d, hw).Topic
	for below, payload := range map[string]string{
		"presence": `"online"`, "unit": `{"hardware_id":"` + hw + `","firmware":{"version":"0.0.1"},"address":"192.168.99.9"}`, "settings": `{"hostname":"antigo"}`, // direct
		"alive": `{"up":true}`, "me": `{"id":"` + hw + `","sw":"0.0.1","ip":"192.168.99.9"}`, "here": "1", "build": "0.0.1",
	} {
		if err := d.Say(t.Context(), topic+"/"+below, []byte(payload), true); err != nil {
			t.Fatal(err)
		}
	}
}

func set(t *testing.T, d *demo.Demo, hw, model string, p planted) {
	t.Helper()
	switch p.fault {
	case "clone":
		speaks := map[string]string{"sobro-quatro": "direct", "junco": "direct", "sobro-um": "andorinha", "azinho": "andorinha", "alecrim-luz": "pardal", "alecrim-fita": "pardal", "urze-ar": "coruja", "urze-janela": "coruja"}[model]
		body := fmt.Sprintf(`{"speaks":%q,"hardware_id":%q,"model":%q,"firmware":"copy","version":"1.0.0","set_up_code":%q,"boot_seconds":2}`, speaks, hw, model, demo.SetUpCode(hw))
		resp, err := d.HTTP().Post(d.SiteURL+"/units", "application/json", strings.NewReader(body))
		if err != nil || resp.StatusCode != http.StatusCreated {
			t.Fatal(err, resp)
		}
		_ = resp.Body.Close()
	case "wrong set-up code":
		do(t, d, "PATCH", client.Path("devices", hw), wire.DeviceEdit{SetUpCode: new("not the printed one")})
	default:
		fault(t, d, hw, string(p.fault), p.value)
	}
}

func mend(t *testing.T, d *demo.Demo, hw string, p planted) {
	t.Helper()
	switch p.fault {
	case "clone":
		req, err := http.NewRequestWithContext(t.Context(), http.MethodDelete, d.SiteURL+"/units/"+hw, nil)
		if err != nil {
			t.Fatal(err)
		}
		resp, err := d.HTTP().Do(req)
		if err != nil || resp.StatusCode != http.StatusNoContent {
			t.Fatal(err, resp)
		}
		_ = resp.Body.Close()
	case "wrong set-up code":
		do(t, d, "PATCH", client.Path("devices", hw), wire.DeviceEdit{SetUpCode: new(demo.SetUpCode(hw))})
	default:
		fault(t, d, hw, "", 0)
	}
}

// twins waits until both units with one id are in set-up mode.
func twins(t *testing.T, d *demo.Demo, hw string) {
	t.Helper()
	waitFor(t, "two units with the id "+hw, func() bool {
		list, err := reach.NewStandIn(d.SiteURL, d.Net).Scan(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, ap := range list {
			if ap.BSSID == hw {
				n++
			}
		}
		return n == 2
	})
}

// onAirOrServing waits until a mended unit is back in set-up mode or in service.
func onAirOrServing(t *testing.T, d *demo.Demo, hw string) {
	t.Helper()
	for {
		if m := unitReport(t, d, hw).Mode; m == "set-up" || m == "online" || m == "asleep" {
			return
		}
		time.Sleep(10 * time.Second)
	}
}

// names are the columns of an inventory that commissioning never changes.
func names(file string) string {
	var out strings.Builder
	for line := range strings.Lines(file) {
		cells := strings.Split(line, ",")
		fmt.Fprintln(&out, strings.Join(cells[:min(8, len(cells))], ","))
	}
	return out.String()
}

// TestManyAtOnce: units of one kind, 32 at once, with one radio. They end within
// a tenth of what the ideal schedule of their own times would take, in which the
// radio goes from one to the next without a pause and the last one's restart ends
// it. FADO_UNITS says how many; «make bench» takes 500.
func TestManyAtOnce(t *testing.T) {
	units := 60
	if s := os.Getenv("FADO_UNITS"); s != "" {
		var err error
		if units, err = strconv.Atoi(s); err != nil {
			t.Fatal(err)
		}
	}
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		var rows strings.Builder
		rows.WriteString("name,room,model,hardware_id,set_up_code\n")
		ids := make([]string, units+1)
		for i := range ids {
			ids[i] = fmt.Sprintf("02:5A:11:10:%02X:%02X", i/256, i%256)
			fmt.Fprintf(&rows, "Rega %d,Terraço,sobro-quatro,%s,olival-azeite\n", i, ids[i])
			body := fmt.Sprintf(`{"speaks":"direct","hardware_id":%q,"model":"sobro-quatro","firmware":"sobro-quatro","version":"1.3.2","set_up_code":"olival-azeite","boot_seconds":5,"capabilities":[{"name":"relay-1","kind":"switch"}]}`, ids[i])
			resp, err := d.HTTP().Post(d.SiteURL+"/units", "application/json", strings.NewReader(body))
			if err != nil || resp.StatusCode != http.StatusCreated {
				t.Fatal(err, resp)
			}
			_ = resp.Body.Close()
		}
		take(t, d, rows.String(), false)
		time.Sleep(time.Minute) // all have started
		use := func() sim.Use {
			u, err := client.Get[sim.Use](t.Context(), client.Over(d.HTTP().Transport, d.SiteURL, ""), "/radio/use")
			if err != nil {
				t.Fatal(err)
			}
			return u
		}
		all := func(ids []string) time.Duration {
			began := time.Now()
			tasks := map[string]bool{}
			for _, id := range ids {
				x, err := client.Post[wire.Task](t.Context(), d.Client, client.Path("devices", id, "commission"), wire.Commissioning{Prepared: true})
				if err != nil {
					t.Fatal(err)
				}
				tasks[x.ID] = true
			}
			for len(tasks) > 0 {
				time.Sleep(500 * time.Millisecond)
				for id := range tasks {
					x := taskOf(t, d, id)
					if !x.Status.Over() {
						break // one that is not over is enough to know for this round
					}
					if x.Status != task.Done {
						t.Fatalf("%+v\n%s", x.Failure, sheet(x))
					}
					delete(tasks, id)
				}
			}
			return time.Since(began)
		}
		alone := all(ids[:1])
		one := use()
		took := all(ids[1:])
		radio := time.Duration(one.Seconds * float64(time.Second))
		ideal := time.Duration(units)*radio + alone - radio
		t.Logf("%d units: one alone takes %s, of which the radio %s in %d join; ideal %s, taken %s, %.1f %% more; the radio was used %.0f s in %d joins",
			units, alone.Round(100*time.Millisecond), radio.Round(time.Millisecond), one.Joins, ideal.Round(time.Second), took.Round(time.Second), 100*(float64(took)/float64(ideal)-1), use().Seconds-one.Seconds, use().Joins-one.Joins)
		if took > ideal*11/10 {
			t.Errorf("%s is more than a tenth over %s", took, ideal)
		}
		rolloutOfMany(t, d, ids)
	})
}

// rolloutOfMany brings an image to all of them, and compares how long that takes with
// the schedule in which each unit takes as long as it took and nothing else does.
func rolloutOfMany(t *testing.T, d *demo.Demo, ids []string) {
	t.Helper()
	const atOnce, soak = 16, 5
	img := addBuild(t, d, "sobro-quatro", "1.5.0", 600, func(f *wire.ImageFacts) { f.Chip = "x1" })
	r := planned(t, d, wire.RolloutPlan{Image: img.SHA256, Devices: ids, Rules: wire.RolloutRules{Waves: []string{"10%"}, AtOnce: new(atOnce), PerSite: new(atOnce), SoakMinutes: new(soak), Checks: new(false)}}) // these units have one relay and nothing that their model measures
	if r.Devices != len(ids) {
		t.Fatalf("%d of %d devices are part of it", r.Devices, len(ids))
	}
	began := time.Now()
	mustSteer(t, d, r.ID, "start", wire.Steering{})
	r = until(t, d, r.ID, rollout.Done)
	took := r.EndedAt.Sub(began)
	waves := make([][]time.Duration, len(r.Waves))
	units, err := client.Get[wire.RolloutUnits](t.Context(), d.Client, client.Query(client.Path("rollouts", r.ID, "units"), "limit", "1000"))
	if err != nil {
		t.Fatal(err)
	}
	for _, u := range units.Units {
		if u.Stands != "succeeded" {
			t.Errorf("%+v", u)
			continue
		}
		waves[u.Wave] = append(waves[u.Wave], u.Ended.Sub(*u.Began))
	}
	var ideal time.Duration
	for _, w := range waves {
		free := make([]time.Duration, atOnce)
		for _, x := range w {
			slices.Sort(free)
			free[0] += x
		}
		ideal += slices.Max(free) + soak*time.Minute
	}
	over := 100 * (float64(took)/float64(ideal) - 1)
	t.Logf("%d units: a rollout in %d waves, %d at once; ideal %s, taken %s, %.1f %% more", len(ids), len(waves), atOnce, ideal.Round(time.Second), took.Round(time.Second), over)
	if over > 5 {
		t.Errorf("%s is more than 5 %% over %s", took, ideal)
	}
}

// TestTheBenchIsStartedAtOnce: what is ready is started with one word, what
// failed is taken up by the same word again, and each that could not is told why.
func TestTheBenchIsStartedAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		const weak = "02:5A:11:00:00:1E"
		fault(t, d, weak, "weak signal", -91)
		time.Sleep(time.Minute)
		begin := func(in wire.BenchStart) []wire.Applied {
			out, err := client.Post[[]wire.Applied](t.Context(), d.Client, "/api/v1/bench/start", in)
			if err != nil {
				t.Fatal(err)
			}
			return out
		}
		ended := func(list []wire.Applied) (done, failed int) {
			for _, x := range list {
				if x.Task == nil {
					continue
				}
				task0 := taskOf(t, d, x.Task.ID)
				for ; !task0.Status.Over(); task0 = taskOf(t, d, x.Task.ID) {
					time.Sleep(2 * time.Second)
				}
				if task0.Status == task.Done {
					done++
				} else {
					failed++
				}
			}
			return done, failed
		}
		const copied = "02:5A:11:00:00:60"
		set(t, d, copied, "sobro-quatro", planted{fault: "clone"})
		twins(t, d, copied)
		time.Sleep(2 * time.Second)
		sightings, err := client.Post[[]wire.Sighting](t.Context(), d.Client, "/api/v1/sightings/scan", nil)
		if err != nil {
			t.Fatal(err)
		}
		held := 0
		for _, s := range sightings {
			if s.Twice {
				held++
			}
		}
		list := begin(wire.BenchStart{Site: "estaleiro"})
		for _, x := range list {
			if strings.Contains(x.Problem, "Two units are on the air") {
				held++
			}
		}
		if held != 2 {
			t.Errorf("two units with one id were not held: %+v", sightings)
		}
		mend(t, d, copied, planted{fault: "clone"})
		do(t, d, "POST", "/api/v1/sightings/scan", nil)
		if again := begin(wire.BenchStart{Devices: []string{copied}}); again[0].Task == nil {
			t.Errorf("the one that is left is still held: %+v", again)
		}
		refused := 0
		for _, x := range list {
			if x.Task == nil && strings.Contains(x.Problem, "maker's own cloud") {
				refused++
			}
		}
		if refused != 1 || len(list) < 6 {
			t.Errorf("%d of %d were refused for want of what the model wants done before", refused, len(list))
		}
		list = begin(wire.BenchStart{Site: "lagar", Prepared: true})
		if len(list) < 16 {
			t.Fatalf("only %d were ready", len(list))
		}
		if again := begin(wire.BenchStart{Site: "lagar", Prepared: true}); len(again) != 0 {
			t.Errorf("what is under way was started again: %+v", again)
		}
		done, failed := ended(list)
		if failed != 1 || done != len(list)-1 {
			t.Errorf("%d done, %d failed of %d", done, failed, len(list))
		}
		// Commissioning that waits behind another task of its device begins when
		// that has ended, though that had no place on the bench.
		images, err := client.Get[[]wire.Image](t.Context(), d.Client, "/api/v1/images?model=sobro-quatro")
		if err != nil || len(images) == 0 {
			t.Fatal(err)
		}
		update, err := client.Post[wire.Task](t.Context(), d.Client, "/api/v1/devices/terraco-relay-1/update", wire.Start{Image: images[0].SHA256})
		if err != nil {
			t.Fatal(err)
		}
		behind := run(t, d, "/api/v1/devices/terraco-relay-1/commission", struct{}{})
		if u := taskOf(t, d, update.ID); u.Status != task.Done || behind.Status != task.Done || behind.Steps[0].Began.Before(*u.EndedAt) {
			t.Errorf("update %s, commissioning behind it %s %+v", u.Status, behind.Status, behind.Failure)
		}
		fault(t, d, weak, "", 0)
		onAirOrServing(t, d, weak)
		time.Sleep(20 * time.Second)
		list = begin(wire.BenchStart{Devices: []string{weak}})
		if len(list) != 1 || list[0].Task == nil || list[0].Task.Attempt != 2 {
			t.Fatalf("%+v", list)
		}
		if done, _ := ended(list); done != 1 {
			t.Errorf("%+v", taskOf(t, d, list[0].Task.ID).Failure)
		}
	})
}
