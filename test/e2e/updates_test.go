package e2e

import (
	"bytes"
	"fmt"
	"net/http"
	"slices"
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

// addBuild adds an image that simulated units can start.
func addBuild(t *testing.T, d *demo.Demo, model, version string, kib int, more func(*wire.ImageFacts)) wire.Image {
	t.Helper()
	facts := wire.ImageFacts{Firmware: model, Version: version, Models: []string{model}}
	if more != nil {
		more(&facts)
	}
	img, err := d.Client.AddImage(t.Context(), bytes.NewReader(sim.BuildImage(sim.ImageHeader{Firmware: model, Version: version, Starts: true}, kib<<10)), facts)
	if err != nil {
		t.Fatal(err)
	}
	return img
}

func updateTo(t *testing.T, d *demo.Demo, device string, img wire.Image) wire.Task {
	t.Helper()
	return run(t, d, client.Path("devices", device, "update"), wire.Start{Image: img.SHA256})
}

func fitOf(t *testing.T, d *demo.Demo, device string, img wire.Image) wire.Fit {
	t.Helper()
	list, err := client.Get[[]wire.Fit](t.Context(), d.Client, client.Query(client.Path("images", img.SHA256, "fit"), "device", device))
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	return list[0]
}

func cable(t *testing.T, d *demo.Demo, hw string, image []byte) {
	t.Helper()
	resp, err := d.HTTP().Post(d.SiteURL+"/units/"+hw+"/cable", "application/octet-stream", bytes.NewReader(image))
	if err != nil || resp.StatusCode != http.StatusNoContent {
		t.Fatal(err, resp)
	}
	_ = resp.Body.Close()
}

// TestUpdatesOfEveryFamily: each family takes an image in its own way, and its unit
// then says that it runs it; the unit's own log agrees.
func TestUpdatesOfEveryFamily(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		for _, c := range []struct{ device, model, version string }{
			{"cozinha-relay-1", "sobro-um", "2.2.0"}, {"adega-lamp-1", "alecrim-luz", "2026.4"}, {"adega-climate-1", "urze-ar", "b420"}, {"adega-level-1", "junco", "2.2.0"},
		} {
			part(t, c.model, func(t *testing.T) {
				if x := commissioned(t, d, c.device); x.Status != task.Done {
					t.Fatalf("%+v\n%s", x.Failure, sheet(x))
				}
				img := addBuild(t, d, c.model, c.version, 380, nil)
				if c.model == "sobro-um" {
					if f := fitOf(t, d, c.device, img); f.Fits || f.Rule != "consent" {
						t.Errorf("%+v", f)
					}
					if err := d.Client.Do(t.Context(), "POST", client.Path("devices", c.device, "update"), wire.Start{Image: img.SHA256}, nil); err == nil {
						t.Error("a unit was put at risk without the site's consent")
					}
					do(t, d, "PATCH", "/api/v1/sites/lagar", wire.SiteEdit{AllowRisky: new(true)})
				}
				x := updateTo(t, d, c.device, img)
				if x.Status != task.Done || x.Update.Outcome != task.Succeeded {
					t.Fatalf("%s %+v\n%s", x.Update.Outcome, x.Failure, sheet(x))
				}
				t.Logf("\n%s", sheet(x))
				dev, err := client.Get[wire.Device](t.Context(), d.Client, client.Path("devices", c.device))
				if err != nil || dev.Running != c.version || dev.Drift != 0 {
					t.Errorf("it runs %q, %d settings differ (%v)", dev.Running, dev.Drift, err)
				}
				if u := unitReport(t, d, dev.HardwareID); u.Digest != img.SHA256 || !slices.Equal(u.Writes, []string{img.SHA256}) {
					t.Errorf("the unit runs %.8s after %d writes", u.Digest, len(u.Writes))
				}
				// The same again is not sent.
				if f := fitOf(t, d, c.device, img); f.Fits || f.Rule != "running" {
					t.Errorf("%+v", f)
				}
			})
		}
	})
}

// TestASlowSite: where the site's rate is low, an image takes longer than a unit may be
// silent; it is the service that holds it back, and no unit is taken for stalled.
func TestASlowSite(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		do(t, d, "PATCH", "/api/v1/sites/lagar", wire.SiteEdit{DownloadKiB: new(4)})
		for _, c := range []struct{ device, model, version string }{{"adega-lamp-1", "alecrim-luz", "2026.4"}, {"adega-climate-1", "urze-ar", "b420"}, {"adega-level-1", "junco", "2.2.0"}} {
			part(t, c.model, func(t *testing.T) {
				if x := commissioned(t, d, c.device); x.Status != task.Done {
					t.Fatalf("%+v\n%s", x.Failure, sheet(x))
				}
				begun := time.Now()
				x := updateTo(t, d, c.device, addBuild(t, d, c.model, c.version, 380, nil))
				if x.Status != task.Done || x.Update.Outcome != task.Succeeded || x.Update.Offers > 1 {
					t.Errorf("%s after %d offers %+v\n%s", x.Update.Outcome, x.Update.Offers, x.Failure, sheet(x))
				}
				if x.Update.Done != 380<<10 {
					t.Errorf("%d bytes were said to be fetched", x.Update.Done)
				}
				if took := time.Since(begun); took < 90*time.Second {
					t.Errorf("380 KiB at 4 KiB/s took %v", took)
				}
			})
		}
	})
}

// TestHowItDidBeforeAndAfter: the record of an update compares how the unit did before
// with how it did after, as far as both were measured and no other update lies between.
func TestHowItDidBeforeAndAfter(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		const device = "adega-level-1"
		if x := commissioned(t, d, device); x.Status != task.Done {
			t.Fatalf("%+v", x.Failure)
		}
		record := func() []wire.Updated {
			list, err := client.Get[[]wire.Updated](t.Context(), d.Client, client.Path("devices", device, "updates"))
			if err != nil {
				t.Fatal(err)
			}
			return list
		}
		of := func(u wire.Updated, what string) wire.HealthChange {
			for _, h := range u.Health {
				if h.What == what {
					return h
				}
			}
			return wire.HealthChange{}
		}
		time.Sleep(25 * time.Minute)
		if x := updateTo(t, d, device, addBuild(t, d, "junco", "2.2.0", 380, nil)); x.Status != task.Done {
			t.Fatalf("%+v", x.Failure)
		}
		if u := record(); len(u) != 1 || len(u[0].Health) != 0 {
			t.Errorf("compared before anything was measured: %+v", u)
		}
		time.Sleep(15 * time.Minute)
		u := record()[0]
		if h := of(u, "signal"); h.Before >= 0 || h.After >= 0 || h.Unit != "dBm" || h.Worse {
			t.Errorf("%+v", u.Health)
		}
		if h := of(u, "free memory"); h.Before < 1000 || h.After < 1000 || h.Worse {
			t.Errorf("%+v", u.Health)
		}
		if h := of(u, "interval"); h.Before != h.After || h.Before == 0 {
			t.Errorf("%+v", u.Health)
		}
		// It loses its power again and again.
		for range 8 {
			fault(t, d, deviceOf(t, d, device).HardwareID, "unplugged", 0)
			time.Sleep(time.Minute)
			fault(t, d, deviceOf(t, d, device).HardwareID, "", 0)
			time.Sleep(time.Minute)
		}
		time.Sleep(6 * time.Minute)
		if h := of(record()[0], "returns"); !h.Worse || h.After <= h.Before || h.Unit != "times an hour" {
			t.Errorf("%+v", record()[0].Health)
		}
		// What comes after the next update is not this one's.
		if x := updateTo(t, d, device, addBuild(t, d, "junco", "2.3.0", 380, nil)); x.Status != task.Done {
			t.Fatalf("%+v", x.Failure)
		}
		was := of(record()[1], "returns")
		time.Sleep(20 * time.Minute)
		list := record()
		if now := of(list[1], "returns"); now != was || !now.Worse {
			t.Errorf("it was %+v and is %+v", was, now)
		}
		if h := of(list[0], "returns"); h.Worse || h.Before <= h.After {
			t.Errorf("%+v", list[0].Health)
		}
	})
}

// TestASmallUnitGoesByASmallImage: a unit of 1 MiB has no room for the full image; a
// small one goes first. Without one it is said which would help.
func TestASmallUnitGoesByASmallImage(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		do(t, d, "PATCH", "/api/v1/sites/lagar", wire.SiteEdit{AllowRisky: new(true)})
		const device = "cozinha-plug-1"
		if x := commissioned(t, d, device); x.Status != task.Done {
			t.Fatalf("%+v", x.Failure)
		}
		full := addBuild(t, d, "azinho", "3.0.0", 600, nil)
		if f := fitOf(t, d, device, full); f.Fits || f.Rule != "room" || !strings.Contains(f.Sentence, "A small image for it of at most 424 KiB") {
			t.Errorf("%+v", f)
		}
		small := addBuild(t, d, "azinho", "3.0.0-small", 280, func(f *wire.ImageFacts) { f.Step = true })
		if f := fitOf(t, d, device, full); !f.Fits || len(f.Route) != 2 || !strings.Contains(f.Sentence, "in 2 steps, by way of azinho 3.0.0-small") {
			t.Errorf("%+v", f)
		}
		x := updateTo(t, d, device, full)
		if x.Status != task.Done || x.Update.Outcome != task.Succeeded {
			t.Fatalf("%+v\n%s", x.Failure, sheet(x))
		}
		dev := deviceOf(t, d, "02:5A:11:00:00:16")
		if u := unitReport(t, d, dev.HardwareID); u.Digest != full.SHA256 || !slices.Equal(u.Writes, []string{small.SHA256, full.SHA256}) {
			t.Errorf("%.8s, %d writes", u.Digest, len(u.Writes))
		}
	})
}

// TestUpdatesThatGoWrong: what goes wrong in each family ends in the outcome that
// fits, with the way out; a unit that died comes back by its cable.
func TestUpdatesThatGoWrong(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		do(t, d, "PATCH", "/api/v1/sites/lagar", wire.SiteEdit{AllowRisky: new(true)})
		relay, lamp, climate := addBuild(t, d, "sobro-um", "2.2.0", 400, nil), addBuild(t, d, "alecrim-luz", "2026.4", 400, nil), addBuild(t, d, "urze-ar", "b420", 380, nil)
		for _, c := range []struct {
			device, hw, fault string
			value             int
			img               wire.Image
			code              string
			outcome           task.Outcome
			dies              bool
		}{
			{"cozinha-relay-1", "02:5A:11:00:00:17", "power cut while writing", 0, relay, "lost", task.Lost, true},
			{"cozinha-relay-1", "02:5A:11:00:00:17", "download cut at a byte", 200_000, relay, "lost", task.Lost, true},
			{"cozinha-relay-1", "02:5A:11:00:00:17", "dies after update", 0, relay, "lost", task.Lost, true},
			{"adega-lamp-1", "02:5A:11:00:00:15", "corrupted image", 0, lamp, "update_refused", task.FailedOut, false},
			{"adega-lamp-1", "02:5A:11:00:00:15", "boot loop after update", 0, lamp, "not_taken", task.FailedOut, false},
			{"adega-lamp-1", "02:5A:11:00:00:15", "power cut while writing", 0, lamp, "", task.Succeeded, false},
			{"adega-climate-1", "02:5A:11:00:00:13", "wake missed", 2, climate, "stalled", task.FailedOut, false},
			{"adega-climate-1", "02:5A:11:00:00:13", "download cut at a byte", 100_000, climate, "", task.Succeeded, false},
		} {
			part(t, c.device+", "+c.fault, func(t *testing.T) {
				if deviceOf(t, d, c.hw).Stage == "listed" {
					if x := commissioned(t, d, c.device); x.Status != task.Done {
						t.Fatalf("%+v", x.Failure)
					}
				}
				fault(t, d, c.hw, c.fault, c.value)
				time.Sleep(time.Minute)
				x := updateTo(t, d, c.device, c.img)
				if failure(x) != c.code || x.Update.Outcome != c.outcome {
					t.Errorf("%s %q %+v\n%s", x.Update.Outcome, failure(x), x.Failure, sheet(x))
				}
				if c.code == "lost" && !strings.Contains(x.Failure.Next, "cable") {
					t.Errorf("the way out is not said: %+v", x.Failure)
				}
				if c.dies {
					if m := unitReport(t, d, c.hw).Mode; m != "dead" {
						t.Errorf("the unit is %s", m)
					}
					cable(t, d, c.hw, sim.BuildImage(sim.ImageHeader{Firmware: "sobro-um", Version: "2.1.0", Starts: true}, 256<<10))
				}
				fault(t, d, c.hw, "", 0)
				waitFor(t, "the unit's return", func() bool { m := unitReport(t, d, c.hw).Mode; return m == "online" || m == "asleep" })
			})
		}
		// A battery that is low: nothing is sent.
		fault(t, d, "02:5A:11:00:00:13", "battery low", 12)
		newer := addBuild(t, d, "urze-ar", "b421", 380, nil)
		waitFor(t, "the refusal for its battery", func() bool {
			f := fitOf(t, d, "adega-climate-1", newer)
			return !f.Fits && f.Rule == "battery" && strings.Contains(f.Sentence, "12 %")
		})
	})
}

// TestOneAtATimeWhereItIsDangerous: two units of a site that an interruption would
// leave dead are written one after the other, and a stop of the service waits for it.
func TestOneAtATimeWhereItIsDangerous(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		do(t, d, "PATCH", "/api/v1/sites/lagar", wire.SiteEdit{AllowRisky: new(true)})
		img := addBuild(t, d, "sobro-um", "2.2.0", 400, nil)
		var tasks []string
		for _, device := range []string{"cozinha-relay-1", "portaria-relay-1"} {
			if x := commissioned(t, d, device); x.Status != task.Done {
				t.Fatalf("%+v", x.Failure)
			}
		}
		for _, device := range []string{"cozinha-relay-1", "portaria-relay-1"} {
			x, err := client.Post[wire.Task](t.Context(), d.Client, client.Path("devices", device, "update"), wire.Start{Image: img.SHA256})
			if err != nil {
				t.Fatal(err)
			}
			tasks = append(tasks, x.ID)
		}
		var done []wire.Task
		for _, id := range tasks {
			x := taskOf(t, d, id)
			for ; !x.Status.Over(); x = taskOf(t, d, id) {
				time.Sleep(100 * time.Millisecond)
			}
			if x.Status != task.Done {
				t.Fatalf("%+v\n%s", x.Failure, sheet(x))
			}
			done = append(done, x)
		}
		began, ended := func(x wire.Task) time.Time { return *step(x, "offer").Began }, func(x wire.Task) time.Time { return *step(x, "round trip").Ended }
		slices.SortFunc(done, func(a, b wire.Task) int { return began(a).Compare(began(b)) })
		if began(done[1]).Before(ended(done[0])) {
			t.Errorf("the second was begun at %s, before the first was over at %s", began(done[1]), ended(done[0]))
		}
		// Stopped in the middle: the write goes to its end first.
		again := addBuild(t, d, "sobro-um", "2.3.0", 400, nil)
		x, err := client.Post[wire.Task](t.Context(), d.Client, "/api/v1/devices/cozinha-relay-1/update", wire.Start{Image: again.SHA256})
		if err != nil {
			t.Fatal(err)
		}
		for ; step(x, "offer").State == task.StepAhead; x = taskOf(t, d, x.ID) {
			time.Sleep(time.Millisecond)
		}
		if err := d.Restart(t.Context()); err != nil {
			t.Fatal(err)
		}
		for x = taskOf(t, d, x.ID); !x.Status.Over(); x = taskOf(t, d, x.ID) {
			time.Sleep(time.Second)
		}
		if x.Status != task.Done || unitReport(t, d, "02:5A:11:00:00:17").Digest != again.SHA256 {
			t.Errorf("%+v\n%s", x.Failure, sheet(x))
		}
	})
}

func step(x wire.Task, name string) task.Step {
	for _, s := range x.Steps {
		if s.Name == name {
			return s
		}
	}
	return task.Step{}
}

// TestABaseline: a site that wants new units on the intended firmware first. Where no
// image leads there, commissioning says so and can be tried again; where one does, the
// update follows by itself, and the hub gets the unit when it has succeeded.
func TestABaseline(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		do(t, d, "PATCH", "/api/v1/sites/lagar", wire.SiteEdit{Baseline: new(true)})
		const name = "adega-level-1"
		dev, err := client.Get[wire.Device](t.Context(), d.Client, client.Path("devices", name))
		if err != nil {
			t.Fatal(err)
		}
		now := func() wire.Device {
			dev, err := client.Get[wire.Device](t.Context(), d.Client, client.Path("devices", name))
			if err != nil {
				t.Fatal(err)
			}
			return dev
		}
		do(t, d, "PUT", "/api/v1/goals", wire.Goal{Site: "lagar", Model: dev.Model, Version: "9.1.0"})
		x := commissioned(t, d, name)
		if x.Status != task.Failed || x.Failure.Code != "baseline" || !strings.Contains(x.Failure.What, "firmware 9.1.0 is intended") || !strings.Contains(x.Failure.What, "no image of that version") {
			t.Fatalf("%s %+v\n%s", x.Status, x.Failure, sheet(x))
		}
		if got := now(); got.Stage != "reporting" || got.Presence != "online" {
			t.Fatalf("%s %s", got.Stage, got.Presence)
		}
		addBuild(t, d, dev.Model, "9.1.0", 380, nil)
		if x = run(t, d, client.Path("tasks", x.ID, "retry"), nil); x.Status != task.Done {
			t.Fatalf("%+v\n%s", x.Failure, sheet(x))
		}
		waitFor(t, "its adoption after the update", func() bool { return now().Stage == "adopted" })
		if got := now(); got.Running != "9.1.0" || got.Standing != "current" {
			t.Errorf("%s %s", got.Running, got.Standing)
		}
		u := unitReport(t, d, dev.HardwareID)
		if len(u.Writes) != 1 {
			t.Errorf("%d images were written", len(u.Writes))
		}
	})
}

// TestPowerCutAtEveryStage: the power of a unit fails for a moment, at every stage of an
// update, in each design of slots. With two slots no unit is lost: it runs the old
// image or the new one, as the record says. With one it is dead just when it was cut
// while it wrote, and the record says so, with the way out.
func TestPowerCutAtEveryStage(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		do(t, d, "PATCH", "/api/v1/sites/lagar", wire.SiteEdit{AllowRisky: new(true), DownloadKiB: new(64)}) // six seconds for an image
		versions := map[string]func(int) string{
			"junco": func(n int) string { return fmt.Sprintf("3.%d.0", n) }, "alecrim-luz": func(n int) string { return fmt.Sprintf("2030.%d", n) }, "urze-ar": func(n int) string { return fmt.Sprintf("b%d", 500+n) },
		}
		seen := map[task.Outcome]int{}
		for _, c := range []struct{ device, model string }{{"adega-level-1", "junco"}, {"adega-lamp-1", "alecrim-luz"}, {"adega-climate-1", "urze-ar"}} {
			part(t, c.model, func(t *testing.T) {
				if x := commissioned(t, d, c.device); x.Status != task.Done {
					t.Fatalf("%+v", x.Failure)
				}
				dev, err := client.Get[wire.Device](t.Context(), d.Client, client.Path("devices", c.device))
				if err != nil {
					t.Fatal(err)
				}
				starts, tries := unitReport(t, d, dev.HardwareID).Restarts, 0
				for n, after := range []time.Duration{0, 300, 1000, 2500, 5000, 6200, 7500, 8500, 9500, 11000, 14000, 20000} {
					tries++
					img := addBuild(t, d, c.model, versions[c.model](n), 380, nil)
					x, err := client.Post[wire.Task](t.Context(), d.Client, client.Path("devices", c.device, "update"), wire.Start{Image: img.SHA256})
					if err != nil {
						t.Fatal(err)
					}
					waitFor(t, "the beginning", func() bool {
						x = taskOf(t, d, x.ID)
						return x.Status.Over() || x.Update.Told
					})
					time.Sleep(after * time.Millisecond)
					blink(t, d, dev.HardwareID)
					waitFor(t, "the end", func() bool { x = taskOf(t, d, x.ID); return x.Status.Over() })
					seen[x.Update.Outcome]++
					waitFor(t, "the unit's return", func() bool { m := unitReport(t, d, dev.HardwareID).Mode; return m == "online" || m == "asleep" })
					if own := unitReport(t, d, dev.HardwareID); x.Update.Outcome == task.Lost || (x.Update.Outcome == task.Succeeded) != (own.Digest == img.SHA256) {
						t.Errorf("cut after %s: %s, and it runs %.8s of %.8s\n%s", after*time.Millisecond, x.Update.Outcome, own.Digest, img.SHA256, sheet(x))
					}
				}
				// Each update restarts it once, and each cut once more, unless it came with that.
				if got := unitReport(t, d, dev.HardwareID).Restarts - starts; got < tries+4 {
					t.Errorf("%d restarts in %d updates with a cut each", got, tries)
				}
			})
		}
		part(t, "sobro-um", func(t *testing.T) {
			const device = "cozinha-relay-1"
			if x := commissioned(t, d, device); x.Status != task.Done {
				t.Fatalf("%+v", x.Failure)
			}
			dev, err := client.Get[wire.Device](t.Context(), d.Client, client.Path("devices", device))
			if err != nil {
				t.Fatal(err)
			}
			img := addBuild(t, d, "sobro-um", "2.2.0", 380, nil)
			for _, at := range []int{9, 4_096, 16_384, 100_000, 380<<10 - 1} {
				fault(t, d, dev.HardwareID, "download cut at a byte", at)
				time.Sleep(time.Minute)
				x := updateTo(t, d, device, img)
				seen[x.Update.Outcome]++
				if own := unitReport(t, d, dev.HardwareID); x.Update.Outcome != task.Lost || own.Mode != "dead" || !strings.Contains(x.Failure.Next, "cable") {
					t.Errorf("cut at byte %d: %s, and the unit is %s: %+v", at, x.Update.Outcome, own.Mode, x.Failure)
				}
				cable(t, d, dev.HardwareID, sim.BuildImage(sim.ImageHeader{Firmware: "sobro-um", Version: "2.1.0", Starts: true}, 256<<10))
				waitFor(t, "the unit's return", func() bool { return deviceOf(t, d, dev.HardwareID).Presence == "online" })
			}
			// Just before and just after the transfer nothing is lost.
			for _, after := range []time.Duration{0, time.Second, 30 * time.Second} {
				x, err := client.Post[wire.Task](t.Context(), d.Client, client.Path("devices", device, "update"), wire.Start{Image: img.SHA256})
				if err != nil { // it runs it by now
					break
				}
				time.Sleep(after)
				blink(t, d, dev.HardwareID)
				waitFor(t, "the end", func() bool { x = taskOf(t, d, x.ID); return x.Status.Over() })
				seen[x.Update.Outcome]++
				if own := unitReport(t, d, dev.HardwareID); own.Mode == "dead" || (x.Update.Outcome == task.Succeeded) != (own.Digest == img.SHA256) {
					t.Errorf("cut after %s: %s, and the unit is %s and runs %.8s", after, x.Update.Outcome, own.Mode, own.Digest)
				}
			}
		})
		t.Logf("%v", seen)
	})
}

// blink takes a unit's power away for a second.
func blink(t *testing.T, d *demo.Demo, hw string) {
	t.Helper()
	fault(t, d, hw, "unplugged", 0)
	time.Sleep(time.Second)
	fault(t, d, hw, "", 0)
}
