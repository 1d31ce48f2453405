package e2e

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/broker"
	"fado/internal/carrier"
	"fado/internal/carrier/carriertest"
	"fado/internal/client"
	"fado/internal/core/rollout"
	"fado/internal/core/secret"
	"fado/internal/demo"
	"fado/internal/wire"
)

// levels commissions the devices of the model junco and returns them.
func levels(t *testing.T, d *demo.Demo) []wire.Device {
	t.Helper()
	page, err := client.Get[wire.DevicePage](t.Context(), d.Client, "/api/v1/devices?model=junco&limit=50")
	if err != nil || len(page.Devices) < 4 {
		t.Fatal(len(page.Devices), err)
	}
	for _, x := range page.Devices {
		if x := commissioned(t, d, x.Hostname); x.Failure != nil {
			t.Fatalf("%+v\n%s", x.Failure, sheet(x))
		}
	}
	return page.Devices
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

// steer says something to a rollout; what is refused is returned.
func steer(t *testing.T, d *demo.Demo, id, verb string, s wire.Steering) error {
	t.Helper()
	return d.Client.Do(t.Context(), http.MethodPost, client.Path("rollouts", id, verb), s, nil)
}

func mustSteer(t *testing.T, d *demo.Demo, id, verb string, s wire.Steering) {
	t.Helper()
	if err := steer(t, d, id, verb, s); err != nil {
		t.Fatalf("%s: %v", verb, err)
	}
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
	for deadline := time.Now().Add(36 * time.Hour); ; time.Sleep(10 * time.Second) {
		if r = rolloutNow(t, d, id); r.Status == want {
			return r
		}
		if time.Now().After(deadline) || r.Status != rollout.Running {
			for _, u := range rolloutUnits(t, d, id, "") {
				t.Logf("%s: %s. %s", u.Device, u.Stands, u.Why)
			}
			t.Fatalf("%s (%s), want %s: %+v", r.Status, r.Reason, want, r.Waves)
		}
	}
}

// TestARollout: planned, shown, started; the trial first, then waves, each with its
// gate; in the end every unit runs what it was sent, by its own log. It is taken back
// the same way.
func TestARollout(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		list := levels(t, d)
		old := addBuild(t, d, "junco", "2.2.0", 380, nil)
		r := planned(t, d, wire.RolloutPlan{Image: old.SHA256, Rules: wire.RolloutRules{Waves: []string{"1"}, SoakMinutes: new(10), AtOnce: new(2)}})
		if r.Status != rollout.Draft || r.Name != "junco 2.2.0" || r.Devices != len(list) || r.Waves[0].Name != "the trial" || r.EndsAt == nil || len(r.Homes) != 2 || r.Homes[0].Bytes == 0 {
			t.Fatalf("%+v", r)
		}
		mustSteer(t, d, r.ID, "start", wire.Steering{})
		r = until(t, d, r.ID, rollout.Done)
		for _, w := range r.Waves {
			if w.Stands != "passed" || len(w.Gates) != 1 || w.Gates[0].Held || len(w.Gates[0].Conditions) != 9 {
				t.Errorf("%+v", w)
			}
		}
		runs := func(img wire.Image, writes int) {
			t.Helper()
			for _, x := range list {
				if own := unitReport(t, d, x.HardwareID); own.Digest != img.SHA256 || len(own.Writes) != writes {
					t.Errorf("%s runs %.8s after %d writes, want %.8s after %d", x.Name, own.Digest, len(own.Writes), img.SHA256, writes)
				}
			}
		}
		runs(old, 1)

		fresh := addBuild(t, d, "junco", "2.3.0", 380, nil)
		p := wire.RolloutRules{Trial: new(false), SoakMinutes: new(0), Health: new(false), Checks: new(false)}
		second := planned(t, d, wire.RolloutPlan{Image: fresh.SHA256, Name: "forth", Rules: p})
		mustSteer(t, d, second.ID, "start", wire.Steering{})
		until(t, d, second.ID, rollout.Done)
		runs(fresh, 2)

		// Back to what each had, where the site lets it go back.
		back := planned(t, d, wire.RolloutPlan{Reverts: "forth", Rules: p})
		if back.Devices != 0 || back.LeftOut != len(list) || !strings.Contains(rolloutUnits(t, d, back.ID, "left out")[0].Why, "does not allow going back") {
			t.Fatalf("%+v", back)
		}
		if err := steer(t, d, back.ID, "start", wire.Steering{}); err == nil || !strings.Contains(err.Error(), "has no devices") {
			t.Error(err)
		}
		for _, site := range []string{"lagar", "estaleiro"} {
			do(t, d, "PATCH", "/api/v1/sites/"+site, wire.SiteEdit{AllowDowngrade: new(true)})
		}
		do(t, d, "POST", client.Path("rollouts", back.ID, "replan"), nil)
		mustSteer(t, d, back.ID, "start", wire.Steering{})
		if back = until(t, d, back.ID, rollout.Done); back.Reverts != "forth" || back.Name != "Back from forth" {
			t.Errorf("%+v", back)
		}
		runs(old, 3)
	})
}

// webhook keeps what is posted to it, and fails the first times.
type webhook struct {
	mu    sync.Mutex
	fails int
	got   []*http.Request
	body  [][]byte
}

func (h *webhook) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.fails > 0 {
		h.fails--
		w.WriteHeader(http.StatusBadGateway)
		return
	}
	b, _ := io.ReadAll(r.Body)
	h.got, h.body = append(h.got, r), append(h.body, b)
	w.WriteHeader(http.StatusNoContent)
}

func (h *webhook) told(what string) (string, int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for i, b := range h.body {
		if strings.Contains(string(b), `"what":"`+what+`"`) {
			return string(b), i
		}
	}
	return "", -1
}

// serveOn runs a handler on a test's network, and returns its address.
func serveOn(t *testing.T, n carrier.Net, h http.Handler) string {
	t.Helper()
	l, err := n.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{Handler: h}
	done := make(chan struct{})
	go func() { defer close(done); _ = s.Serve(l) }()
	t.Cleanup(func() { _ = s.Shutdown(context.WithoutCancel(t.Context())); <-done })
	return "http://" + l.Addr().String()
}

// TestARolloutIsHeld: a unit that is lost holds it at once; whoever is to know is
// told, with a signature; nothing more begins until a person says why it may, and the
// report tells all of it.
func TestARolloutIsHeld(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := carriertest.New()
		d := startDemoOn(t, n, bubble, "", nil)
		hook := &webhook{fails: 3}
		address := serveOn(t, n, hook) + "/news?from=fado"
		const key = "a long word that both know"
		if err := d.Client.Do(t.Context(), "PUT", "/api/v1/alerts", wire.AlertsEdit{URL: address, Topic: "news/rollouts"}, nil); err == nil {
			t.Error("a webhook without a key was taken")
		}
		if err := d.Client.Do(t.Context(), "PUT", "/api/v1/alerts", wire.AlertsEdit{Topic: "lagar/adega/level-1/command/x"}, nil); err == nil || !strings.Contains(explained(err), "none of a device") {
			t.Errorf("news may go to a unit's topic: %v", err)
		}
		do(t, d, "PUT", "/api/v1/alerts", wire.AlertsEdit{URL: address, Topic: "news/rollouts", Key: new(key)})
		// A program that watches, with the account of a hub of its own.
		do(t, d, "POST", "/api/v1/hubs", wire.HubEdit{Name: new("Monitor"), Directory: new(d.HubURL), Token: new("any"), Account: new("monitor"), Password: new("0123456789abcdef")})
		brokers, err := client.Get[[]wire.Broker](t.Context(), d.Client, "/api/v1/brokers")
		if err != nil || len(brokers) != 1 {
			t.Fatal(brokers, err)
		}
		monitor, err := broker.Dial(broker.Address{Host: brokers[0].Host, Port: brokers[0].Port, User: "monitor", Password: secret.New("0123456789abcdef"), ClientID: "monitor", Net: n})
		if err != nil {
			t.Fatal(err)
		}
		defer monitor.Close()
		waitFor(t, "the monitor's session", monitor.Connected)
		news := make(chan string, 16)
		if err := monitor.Subscribe(t.Context(), "news/rollouts", func(m broker.Message) { news <- string(m.Payload) }); err != nil {
			t.Fatal(err)
		}
		raw, err := client.Get[json.RawMessage](t.Context(), d.Client, "/api/v1/alerts")
		if err != nil || bytes.Contains(raw, []byte(key)) {
			t.Errorf("%s %v", raw, err)
		}

		list := levels(t, d)
		img := addBuild(t, d, "junco", "2.2.0", 380, nil)
		r := planned(t, d, wire.RolloutPlan{Image: img.SHA256, Name: "=Spring", Trials: []string{list[0].Hostname}, Rules: wire.RolloutRules{Waves: []string{"1"}, SoakMinutes: new(5), Share: new(50), PerSite: new(1), AtOnce: new(1)}})
		units := rolloutUnits(t, d, r.ID, "")
		if units[0].DeviceID != list[0].ID || units[0].Wave != 0 || units[1].Wave != 1 {
			t.Fatalf("%+v", units)
		}
		hw := map[string]string{}
		for _, x := range list {
			hw[x.ID] = x.HardwareID
		}
		fault(t, d, hw[units[1].DeviceID], "dies after update", 0)
		mustSteer(t, d, r.ID, "start", wire.Steering{})
		r = until(t, d, r.ID, rollout.Held)
		if !strings.Contains(r.Reason, units[1].Device+" was lost") || r.Wave != 1 {
			t.Fatalf("%+v", r)
		}
		time.Sleep(30 * time.Minute)
		for _, u := range units[2:] {
			if own := unitReport(t, d, hw[u.DeviceID]); len(own.Writes) > 0 {
				t.Errorf("%s was updated though the rollout is held", u.Device)
			}
		}
		a, err := client.Get[wire.Attention](t.Context(), d.Client, "/api/v1/attention")
		if err != nil || len(a.Rollouts) != 1 || a.Rollouts[0].Status != rollout.Held {
			t.Errorf("%+v %v", a.Rollouts, err)
		}
		for _, what := range []string{"lost", "held"} {
			body, i := hook.told(what)
			if i < 0 || !strings.Contains(body, units[1].Device) {
				t.Fatalf("%s was not told: %s", what, body)
			}
			signed(t, hook.got[i], []byte(body), address, key)
		}

		for _, want := range []string{`"what":"lost"`, `"what":"held"`} {
			select {
			case got := <-news:
				if !strings.Contains(got, want) {
					t.Errorf("the broker brought %s, want %s", got, want)
				}
			case <-time.After(time.Minute):
				t.Errorf("the broker did not bring %s", want)
			}
		}
		if err := steer(t, d, r.ID, "go-on", wire.Steering{}); err == nil || !strings.Contains(err.Error(), "stays held") {
			t.Errorf("it went on without a reason: %v", err)
		}
		last := units[len(units)-1]
		mustSteer(t, d, r.ID, "exclude", wire.Steering{Devices: []string{last.DeviceID}, Reason: "the owner is away"})
		if err := steer(t, d, r.ID, "exclude", wire.Steering{Devices: []string{units[0].DeviceID}}); err == nil || !strings.Contains(err.Error(), "Nothing was changed") {
			t.Error(err)
		}
		mustSteer(t, d, r.ID, "go-on", wire.Steering{Reason: "it fell into the cistern"})
		r = until(t, d, r.ID, rollout.Done)
		if g := r.Waves[1].Gates; len(g) != 2 || !g[0].Early || g[0].By != d.Person || g[0].Reason != "it fell into the cistern" || g[1].Held {
			t.Errorf("%+v", r.Waves[1].Gates)
		}
		if own := unitReport(t, d, hw[last.DeviceID]); len(own.Writes) > 0 {
			t.Error("the excluded unit was updated")
		}
		if body, i := hook.told("done"); i < 0 || !strings.Contains(body, `"lost":1`) {
			t.Errorf("that it is done was not told: %s", body)
		}

		// The report, in every form.
		rep, err := client.Get[wire.RolloutReport](t.Context(), d.Client, client.Path("rollouts", r.ID, "report"))
		if err != nil || len(rep.Units) != len(list) || !slices.ContainsFunc(rep.Events, func(e wire.Event) bool {
			return e.Actor == d.Person && strings.Contains(e.Text, "it fell into the cistern")
		}) {
			t.Errorf("%+v %v", rep.Events, err)
		}
		rows := raws(t, d, client.Path("rollouts", r.ID, "report.csv"))
		all, err := csv.NewReader(bytes.NewReader(rows)).ReadAll()
		if err != nil || len(all) != len(list)+1 || !slices.Contains(all[2], "lost") {
			t.Errorf("%v %v", all, err)
		}
		page := string(raws(t, d, client.Path("rollouts", r.ID, "report.html")))
		for _, want := range []string{"<svg", "What went wrong", units[1].Device, "it fell into the cistern", "the owner is away", "held"} {
			if !strings.Contains(page, want) {
				t.Errorf("the report does not say %q", want)
			}
		}
		if svg := raws(t, d, client.Path("rollouts", r.ID, "progress.svg")); !bytes.Contains(svg, []byte("succeeded (3)")) && !bytes.Contains(svg, []byte("succeeded")) {
			t.Errorf("%.300s", svg)
		}
	})
}

func raws(t *testing.T, d *demo.Demo, path string) []byte {
	t.Helper()
	b, err := d.Client.Raw(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// signed checks a signature as whoever receives it would (RFC 9421, section 3.2).
func signed(t *testing.T, r *http.Request, body []byte, address, key string) {
	t.Helper()
	sum := sha256.Sum256(body)
	if want := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"; r.Header.Get("Content-Digest") != want {
		t.Errorf("the digest is %s, want %s", r.Header.Get("Content-Digest"), want)
	}
	params, ok := strings.CutPrefix(r.Header.Get("Signature-Input"), "fado=")
	if !ok || !strings.Contains(params, `"content-digest"`) {
		t.Fatalf("%q", params)
	}
	var base strings.Builder
	for _, c := range strings.Fields(params[1:strings.IndexByte(params, ')')]) {
		c = strings.Trim(c, `"`)
		v := map[string]string{"@method": r.Method, "@target-uri": address}[c]
		if v == "" {
			v = r.Header.Get(c)
		}
		fmt.Fprintf(&base, "%q: %s\n", c, v)
	}
	fmt.Fprintf(&base, "\"@signature-params\": %s", params)
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte(base.String()))
	if want := "fado=:" + base64.StdEncoding.EncodeToString(mac.Sum(nil)) + ":"; r.Header.Get("Signature") != want {
		t.Errorf("the signature is %s, want %s of\n%s", r.Header.Get("Signature"), want, base.String())
	}
}

// TestAPlanThatIsNoLongerTrue: what changed since it was planned is named, nothing
// begins, and it is planned again. A device is in one rollout at a time.
func TestAPlanThatIsNoLongerTrue(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		list := levels(t, d)
		img := addBuild(t, d, "junco", "2.2.0", 380, nil)
		for _, bad := range []struct {
			p    wire.RolloutPlan
			says string
		}{
			{wire.RolloutPlan{}, "one of an image"},
			{wire.RolloutPlan{Image: img.SHA256, Behind: true}, "one of an image"},
			{wire.RolloutPlan{Image: img.SHA256, Rules: wire.RolloutRules{Waves: []string{"ten"}}}, "neither a count nor a share"},
			{wire.RolloutPlan{Image: img.SHA256, Rules: wire.RolloutRules{Hours: "25:00-26:00"}}, "two times of day"},
			{wire.RolloutPlan{Image: img.SHA256, Rules: wire.RolloutRules{Days: []string{"sat"}}}, "two times of day"},
			{wire.RolloutPlan{Image: img.SHA256, Rules: wire.RolloutRules{Hours: "01:00-02:00", Days: []string{"lundi"}}}, "none of mon"},
			{wire.RolloutPlan{Image: img.SHA256, Rules: wire.RolloutRules{Share: new(101)}}, "a percentage"},
			{wire.RolloutPlan{Image: img.SHA256, Rules: wire.RolloutRules{AtOnce: new(0)}}, "from 1 to"},
			{wire.RolloutPlan{Image: img.SHA256, Model: "barco"}, "no model"},
			{wire.RolloutPlan{Image: "00000000"}, "no image"},
		} {
			err := d.Client.Do(t.Context(), "POST", "/api/v1/rollouts", bad.p, nil)
			if err == nil || !strings.Contains(explained(err), bad.says) {
				t.Errorf("%+v: %v, want %q", bad.p, explained(err), bad.says)
			}
		}
		r := planned(t, d, wire.RolloutPlan{Image: img.SHA256, Name: "One"})
		if x := updateTo(t, d, list[1].ID, img); x.Failure != nil {
			t.Fatalf("%+v", x.Failure)
		}
		err := steer(t, d, r.ID, "start", wire.Steering{})
		if err == nil || !strings.Contains(err.Error(), "no longer true") || !strings.Contains(err.Error(), list[1].Name+" would be left out") {
			t.Fatal(err)
		}
		do(t, d, "POST", client.Path("rollouts", r.ID, "replan"), nil)
		if left := rolloutUnits(t, d, r.ID, "left out"); len(left) != 1 || !strings.Contains(left[0].Why, "runs this very image") {
			t.Fatalf("%+v", left)
		}
		// Not in service, and of another model.
		odd := planned(t, d, wire.RolloutPlan{Image: img.SHA256, Devices: []string{"adega-lamp-1", "adega-climate-1", list[0].ID}, Exclude: []string{list[0].ID}})
		why := map[string]string{}
		for _, u := range rolloutUnits(t, d, odd.ID, "left out") {
			why[u.Hostname] = u.Why
		}
		if odd.Devices != 0 || !strings.Contains(why["adega-lamp-1"], "not in service") || !strings.Contains(why[list[0].Hostname], "Excluded") {
			t.Errorf("%v", why)
		}
		mustSteer(t, d, r.ID, "start", wire.Steering{})
		two := planned(t, d, wire.RolloutPlan{Image: img.SHA256, Name: "Two"})
		for _, u := range rolloutUnits(t, d, two.ID, "left out") {
			if !strings.Contains(u.Why, "in the rollout «One», which is running") && !strings.Contains(u.Why, "runs this very image") {
				t.Errorf("%+v", u)
			}
		}
		if two.Devices != 0 {
			t.Errorf("%d devices are in two rollouts", two.Devices)
		}
		if err := d.Client.Do(t.Context(), "POST", "/api/v1/rollouts", wire.RolloutPlan{Image: img.SHA256, Name: "One"}, nil); err == nil {
			t.Error("two rollouts have one name")
		}
		do(t, d, "DELETE", client.Path("rollouts", two.ID), nil)
		if err := d.Client.Do(t.Context(), "DELETE", client.Path("rollouts", r.ID), nil, nil); err == nil {
			t.Error("a rollout that was started was thrown away")
		}
		until(t, d, r.ID, rollout.Done)
	})
}

func explained(err error) string {
	if err == nil {
		return ""
	}
	var e *client.Error
	if errors.As(err, &e) {
		out := e.Title
		for _, f := range e.Fields {
			out += " " + f.Field + ": " + f.Rule
		}
		return out
	}
	return err.Error()
}

// TestHoursOfEachHome: two homes in two zones; nothing begins before the hours open
// by the clock of each. Paused, nothing begins even then; cancelled, the rest is left.
func TestHoursOfEachHome(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		list := levels(t, d)
		img := addBuild(t, d, "junco", "2.2.0", 380, nil)
		r := planned(t, d, wire.RolloutPlan{Image: img.SHA256, Rules: wire.RolloutRules{Trial: new(false), Waves: []string{"100%"}, Hours: "00:30-01:30", SoakMinutes: new(0), PerSite: new(1)}})
		mustSteer(t, d, r.ID, "start", wire.Steering{})
		if r = rolloutNow(t, d, r.ID); r.NextAt == nil || !strings.Contains(r.Next, "hours open") {
			t.Fatalf("%+v", r)
		}
		mustSteer(t, d, r.ID, "pause", wire.Steering{Reason: "guests"})
		time.Sleep(40 * time.Minute) // they have opened in one home
		if r = rolloutNow(t, d, r.ID); r.Counts["ahead"] != len(list) || r.Reason != "guests" {
			t.Fatalf("%+v", r)
		}
		mustSteer(t, d, r.ID, "go-on", wire.Steering{})
		until(t, d, r.ID, rollout.Done)
		for _, u := range rolloutUnits(t, d, r.ID, "succeeded") {
			zone, err := time.LoadLocation(map[string]string{"lagar": "Europe/Lisbon", "estaleiro": "Atlantic/Azores"}[u.Site])
			if err != nil {
				t.Fatal(err)
			}
			if at := u.Began.In(zone).Format("15:04"); at < "00:30" || at >= "01:30" {
				t.Errorf("%s began at %s", u.Device, at)
			}
		}

		again := addBuild(t, d, "junco", "2.3.0", 380, nil)
		r = planned(t, d, wire.RolloutPlan{Image: again.SHA256, Rules: wire.RolloutRules{Trial: new(false), AtOnce: new(1), SoakMinutes: new(0)}})
		mustSteer(t, d, r.ID, "start", wire.Steering{})
		waitFor(t, "the first unit", func() bool { return rolloutNow(t, d, r.ID).Counts["under way"] == 1 })
		mustSteer(t, d, r.ID, "cancel", wire.Steering{Reason: "another release comes"})
		waitFor(t, "the end of what is under way", func() bool { return rolloutNow(t, d, r.ID).Counts["under way"] == 0 })
		r = rolloutNow(t, d, r.ID)
		if r.Status != rollout.Cancelled || r.Counts["succeeded"] != 1 || r.Counts["skipped"] != len(list)-1 {
			t.Errorf("%+v", r)
		}
		if err := steer(t, d, r.ID, "retry", wire.Steering{}); err == nil {
			t.Error("a cancelled rollout was taken up")
		}
	})
}

// TestARestartLoopHoldsTheGate: a unit that succeeded and then comes back again and
// again in its soak is seen, however short that is.
func TestARestartLoopHoldsTheGate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		const name = "adega-level-1"
		if x := commissioned(t, d, name); x.Failure != nil {
			t.Fatalf("%+v", x.Failure)
		}
		dev, err := client.Get[wire.Device](t.Context(), d.Client, client.Path("devices", name))
		if err != nil {
			t.Fatal(err)
		}
		img := addBuild(t, d, "junco", "2.2.0", 380, nil)
		r := planned(t, d, wire.RolloutPlan{Image: img.SHA256, Rules: wire.RolloutRules{SoakMinutes: new(3)}})
		mustSteer(t, d, r.ID, "start", wire.Steering{})
		waitFor(t, "its soak", func() bool { return rolloutNow(t, d, r.ID).Phase == "soaking" })
		for range 3 {
			time.Sleep(20 * time.Second)
			blink(t, d, dev.HardwareID)
		}
		r = until(t, d, r.ID, rollout.Held)
		if !strings.Contains(r.Reason, "no restart loop: 0 of 1; not "+dev.Name+" (3 times)") {
			t.Errorf("%s", r.Reason)
		}
	})
}
