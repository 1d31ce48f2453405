package e2e

import (
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/client"
	"fado/internal/core/check"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/wire"
)

// checked waits until the checks that were asked for have been made, and gives the
// device with their results.
func checked(t *testing.T, d *demo.Demo, ref string) wire.Device {
	t.Helper()
	for range 600 {
		list, err := client.Get[[]wire.Task](t.Context(), d.Client, client.Query(client.Path("tasks"), "device", ref, "limit", "1"))
		if err != nil {
			t.Fatal(err)
		}
		if len(list) > 0 && list[0].Kind == task.Check && list[0].Status.Over() {
			if list[0].Status != task.Done {
				t.Fatalf("%s: %+v\n%s", ref, list[0].Failure, sheet(list[0]))
			}
			return deviceOf(t, d, ref)
		}
		time.Sleep(5 * time.Second)
	}
	t.Fatalf("%s was not checked", ref)
	return wire.Device{}
}

func verdict(x wire.Device, name check.Name) check.Result {
	i := slices.IndexFunc(x.Checks, func(r check.Result) bool { return r.Name == name })
	if i < 0 {
		return check.Result{}
	}
	return x.Checks[i]
}

// TestChecksFollowCommissioning: a unit of each family is checked by itself once it
// is adopted, and every check that can be made of it holds, on live evidence. Only
// its version is another matter where an update waits.
func TestChecksFollowCommissioning(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		for device, leftOut := range map[string][]check.Name{"adega-level-1": nil, "terraco-relay-1": nil, "cozinha-plug-1": nil, "adega-lamp-1": nil, "adega-climate-1": {check.Hostname}} {
			if x := commissioned(t, d, device); x.Status != task.Done {
				t.Fatalf("%s: %+v", device, x.Failure)
			}
			x := checked(t, d, device)
			least := map[bool]int{true: 8, false: 10}[device == "adega-climate-1"]
			held := 0
			for _, r := range x.Checks {
				switch {
				case r.Verdict == check.Holds:
					held++
				case r.Name == check.Version && x.Standing == "behind" && r.Verdict == check.Fails:
				case r.Verdict == check.LeftOut && slices.Contains(leftOut, r.Name):
				default:
					t.Errorf("%s: %+v", device, r)
				}
			}
			if held < least {
				t.Errorf("%s: only %d checks hold: %+v", device, held, x.Checks)
			}
			if want := map[bool]check.Standing{true: check.Failing, false: check.SignedOff}[x.Standing == "behind"]; x.SignOff != want || x.Attention == "check" {
				t.Errorf("%s is %s and needs %q", device, x.SignOff, x.Attention)
			}
		}
	})
}

// TestChecksFindWhatIsWrong: what goes wrong after a unit was signed off is found
// when its checks are made again, for one, for a room or for a site, and is no
// longer said once it is mended.
func TestChecksFindWhatIsWrong(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		const relay, lamp = "02:5A:11:00:00:17", "02:5A:11:00:00:15" // an andorinha and a pardal
		for _, hw := range []string{relay, lamp} {
			if x := commissioned(t, d, hw); x.Status != task.Done {
				t.Fatalf("%+v", x.Failure)
			}
			if x := checked(t, d, hw); x.SignOff != check.SignedOff {
				t.Fatalf("%s: %+v", x.Name, x.Checks)
			}
		}
		again := func(in wire.CheckStart) []wire.Applied {
			t.Helper()
			out, err := client.Post[[]wire.Applied](t.Context(), d.Client, "/api/v1/checks", in)
			if err != nil {
				t.Fatal(err)
			}
			return out
		}
		if out := again(wire.CheckStart{Site: "lagar", Room: "Adega"}); len(out) != 1 || out[0].Device != "Luz da adega" || out[0].Task == nil {
			t.Errorf("%+v", out)
		}
		if x := checked(t, d, lamp); x.SignOff != check.SignedOff {
			t.Errorf("%+v", x.Checks)
		}
		fault(t, d, relay, "ignores commands", 0)
		if out := again(wire.CheckStart{Site: "lagar"}); len(out) != 2 {
			t.Errorf("%+v", out)
		}
		x := checked(t, d, relay)
		if r := verdict(x, check.Command); x.SignOff != check.Failing || x.Attention != "check" || r.Verdict != check.Fails || !strings.Contains(r.Seen, "no state followed") {
			t.Errorf("%s, needs %q: %+v", x.SignOff, x.Attention, x.Checks)
		}
		if r := verdict(x, check.Session); r.Verdict != check.Holds {
			t.Errorf("%+v", r)
		}
		checked(t, d, lamp)

		// Unplugged: every live check fails, and none is taken from the past.
		fault(t, d, relay, "unplugged", 0)
		time.Sleep(time.Minute)
		again(wire.CheckStart{Devices: []string{relay}})
		x = checked(t, d, relay)
		for _, name := range []check.Name{check.Session, check.Command, check.Settings} {
			if r := verdict(x, name); r.Verdict != check.Fails {
				t.Errorf("unplugged: %+v", r)
			}
		}
		fault(t, d, relay, "", 0)
		waitFor(t, "the relay to come back", func() bool { return deviceOf(t, d, relay).Presence == "online" })
		time.Sleep(30 * time.Second)
		again(wire.CheckStart{Devices: []string{relay}})
		if x = checked(t, d, relay); x.SignOff != check.SignedOff || x.Attention != "" {
			t.Errorf("mended: %s, needs %q: %+v", x.SignOff, x.Attention, x.Checks)
		}

		// Checks give way: other work begins at once, and the checks are made after
		// it.
		again(wire.CheckStart{Devices: []string{relay}})
		do(t, d, "PATCH", client.Path("devices", relay), wire.DeviceEdit{Label: new("Exaustor da cozinha")})
		if got := run(t, d, client.Path("devices", relay, "apply"), struct{}{}); got.Status != task.Done {
			t.Fatalf("%+v", got.Failure)
		}
		if x = checked(t, d, relay); x.SignOff != check.SignedOff {
			t.Errorf("%+v", x.Checks)
		}
		for what, in := range map[string]wire.CheckStart{"devices": {}, "site": {Room: "Adega"}} {
			if p := refused(t, d.Client, "POST", "/api/v1/checks", in); len(p.Fields) != 1 || p.Fields[0].Field != what {
				t.Errorf("%+v", p)
			}
		}
		if out := again(wire.CheckStart{Devices: []string{"press-x", "terraco-relay-1"}[1:]}); out[0].Task != nil || !strings.Contains(out[0].Problem, "not in service") {
			t.Errorf("%+v", out)
		}
	})
}

// TestWhatAPersonSees: a unit shows itself and the person beside it says what they
// see, once and soon; what is switched is put back.
func TestWhatAPersonSees(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		const lamp = "adega-lamp-1"
		if p := refused(t, d.Client, "POST", client.Path("devices", lamp, "witness"), wire.Witness{}); !strings.Contains(p.Title, "not in service") {
			t.Errorf("%+v", p)
		}
		commissioned(t, d, lamp)
		checked(t, d, lamp)
		say := func(capability string, yes bool) (check.Result, error) {
			return client.Post[check.Result](t.Context(), d.Client, client.Path("devices", lamp, "witness", "answer"), wire.Seen{Capability: capability, Yes: yes})
		}
		if _, err := say("", true); err == nil {
			t.Error("an answer was taken though nobody was asked")
		}
		ask := func(capability string) check.Result {
			t.Helper()
			r, err := client.Post[check.Result](t.Context(), d.Client, client.Path("devices", lamp, "witness"), wire.Witness{Capability: capability})
			if err != nil {
				t.Fatal(err)
			}
			return r
		}
		if r := ask(""); r.Verdict != check.Asked || deviceOf(t, d, lamp).SignOff != check.Open {
			t.Errorf("%+v", r)
		}
		if r, err := say("", true); err != nil || r.Verdict != check.Holds || r.Seen != "seen by marta" {
			t.Errorf("%+v, %v", r, err)
		}
		if _, err := say("", false); err == nil {
			t.Error("it was answered twice")
		}
		before := unitReport(t, d, deviceOf(t, d, lamp).HardwareID).State["lamp"]
		if r := ask("lamp"); r.Expected != "Lamp of Luz da adega went on for 3 seconds, then off again." {
			t.Errorf("%+v", r)
		}
		time.Sleep(2 * time.Second)
		if after := unitReport(t, d, deviceOf(t, d, lamp).HardwareID).State["lamp"]; after != before {
			t.Errorf("it was %v and is left %v", before, after)
		}
		if r, err := say("lamp", false); err != nil || r.Verdict != check.Fails {
			t.Errorf("%+v, %v", r, err)
		}
		if x := deviceOf(t, d, lamp); x.SignOff != check.Failing || x.Attention != "check" {
			t.Errorf("%s, needs %q", x.SignOff, x.Attention)
		}
		ask("lamp")
		time.Sleep(11 * time.Minute)
		if _, err := say("lamp", true); err == nil {
			t.Error("an answer was taken eleven minutes later")
		}
		ask("lamp")
		if r, err := say("lamp", true); err != nil || r.Verdict != check.Holds {
			t.Errorf("%+v, %v", r, err)
		}
		if p := refused(t, d.Client, "POST", client.Path("devices", lamp, "witness"), wire.Witness{Capability: "lamb"}); len(p.Fields) != 1 || p.Fields[0].Passes != "lamp" {
			t.Errorf("%+v", p)
		}
		// What people have seen outlives the checks that are made by themselves.
		if _, err := client.Post[[]wire.Applied](t.Context(), d.Client, "/api/v1/checks", wire.CheckStart{Devices: []string{lamp}}); err != nil {
			t.Fatal(err)
		}
		if x := checked(t, d, lamp); verdict(x, check.Blinks).Verdict != check.Holds || verdict(x, check.Follows("lamp")).Verdict != check.Holds {
			t.Errorf("%+v", x.Checks)
		}
	})
}

// TestAUnitIsReplaced: another unit takes the place of one; the device keeps its
// name, topic and place in the hub, and the old unit can no longer speak for it.
func TestAUnitIsReplaced(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		const device, fresh = "terraco-relay-1", "02:5A:11:00:00:A0"
		if p := refused(t, d.Client, "POST", client.Path("devices", device, "replace"), wire.Replace{HardwareID: fresh}); !strings.Contains(p.Title, "never in service") {
			t.Errorf("%+v", p)
		}
		commissioned(t, d, device)
		before := checked(t, d, device)
		for in, field := range map[string]string{before.HardwareID: "hardware_id", "02:5A:11:00:00:10": "hardware_id", "x": "hardware_id"} {
			if p := refused(t, d.Client, "POST", client.Path("devices", device, "replace"), wire.Replace{HardwareID: in}); len(p.Fields) != 1 || p.Fields[0].Field != field {
				t.Errorf("%s: %+v", in, p)
			}
		}
		if p := refused(t, d.Client, "PATCH", client.Path("devices", device), wire.DeviceEdit{HardwareID: new(fresh)}); len(p.Fields) != 1 || !strings.Contains(p.Fields[0].Rule, "replace") {
			t.Errorf("%+v", p)
		}
		old := before.HardwareID
		out, err := client.Post[wire.TakenOut](t.Context(), d.Client, client.Path("devices", device, "replace"), wire.Replace{HardwareID: fresh, SetUpCode: demo.SetUpCode(fresh), Reason: "dead after a storm"})
		if err != nil || out.Device.HardwareID != fresh || out.Device.Stage != "listed" || !strings.Contains(out.Unit, "forgotten") {
			t.Fatalf("%+v, %v", out, err)
		}
		if !hubHas(t, d, before.ID, before.Topic) {
			t.Error("the hub has lost it")
		}
		if left := keptBelow(t, d, before.Topic); len(left) > 0 {
			t.Errorf("left on the broker: %v", left)
		}
		time.Sleep(time.Minute)
		if r := unitReport(t, d, old); r.Mode != "set-up" || r.Topic != "" {
			t.Errorf("the old unit is %s and knows %q", r.Mode, r.Topic)
		}
		sighted(t, d, fresh)
		if x := commissioned(t, d, device); x.Status != task.Done {
			t.Fatalf("%+v\n%s", x.Failure, sheet(x))
		}
		x := checked(t, d, device)
		if x.ID != before.ID || x.Topic != before.Topic || x.Hostname != before.Hostname || x.Stage != "adopted" || len(x.Units) != 2 || x.Units[0].HardwareID != fresh || x.Units[1].Until == nil {
			t.Errorf("%+v", x)
		}
		if r := verdict(x, check.HubThing); r.Verdict != check.Holds {
			t.Errorf("%+v", r)
		}
		if r := verdict(x, check.Session); !strings.Contains(r.Seen, "a0") {
			t.Errorf("it speaks under the account of the old unit: %+v", r)
		}
	})
}

// TestADeviceIsRetired: it leaves the hub and the broker, its unit forgets, and its
// names are free, while the record stays. A unit that cannot be reached is told.
func TestADeviceIsRetired(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		const device, plug = "terraco-relay-1", "cozinha-plug-1"
		commissioned(t, d, device)
		before := checked(t, d, device)
		out, err := client.Post[wire.TakenOut](t.Context(), d.Client, client.Path("devices", device, "retire"), wire.Retire{Reason: "the garden is sold"})
		if err != nil || out.Device.Stage != "retired" || !strings.Contains(out.Unit, "forgotten") {
			t.Fatalf("%+v, %v", out, err)
		}
		waitFor(t, "the hub to let go of it", func() bool { return !hubHas(t, d, before.ID, before.Topic) })
		if left := keptBelow(t, d, before.Topic); len(left) > 0 {
			t.Errorf("left on the broker: %v", left)
		}
		waitFor(t, "its unit to be back in set-up mode", func() bool { return unitReport(t, d, before.HardwareID).Mode == "set-up" })
		page, err := client.Get[wire.DevicePage](t.Context(), d.Client, "/api/v1/devices?site=lagar&search=rega")
		if err != nil || slices.ContainsFunc(page.Devices, func(x wire.Device) bool { return x.ID == before.ID }) {
			t.Errorf("it is still listed: %v", err)
		}
		again, err := client.Post[wire.Device](t.Context(), d.Client, "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: &before.Name, Room: &before.Room, Model: &before.Model, HardwareID: &before.HardwareID, SetUpCode: new(demo.SetUpCode(before.HardwareID))})
		if err != nil || again.Hostname != before.Hostname || again.Topic != before.Topic {
			t.Errorf("its names are not free: %+v, %v", again, err)
		}
		if found := deviceOf(t, d, device); found.ID != again.ID {
			t.Errorf("%+v", found)
		}
		if x := deviceOf(t, d, before.ID); x.Stage != "retired" || len(x.Units) != 1 || x.Attention != "" {
			t.Errorf("%+v", x)
		}
		if p := refused(t, d.Client, "POST", client.Path("devices", before.ID, "retire"), wire.Retire{}); !strings.Contains(p.Title, "retired") {
			t.Errorf("%+v", p)
		}
		sighted(t, d, before.HardwareID)
		if x := commissioned(t, d, device); x.Status != task.Done {
			t.Errorf("%+v\n%s", x.Failure, sheet(x))
		}

		commissioned(t, d, plug)
		checked(t, d, plug)
		out, err = client.Post[wire.TakenOut](t.Context(), d.Client, client.Path("devices", plug, "retire"), wire.Retire{})
		if err != nil || !strings.Contains(out.Unit, "could not be told to forget") {
			t.Errorf("%+v, %v", out, err)
		}
	})
}
