package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/carrier"
	"fado/internal/client"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/service"
	"fado/internal/sim"
	"fado/internal/wire"
)

// unpack puts one more unit on the simulated site.
func unpack(t *testing.T, d *demo.Demo, speaks, model, hw, fault string) {
	t.Helper()
	body := fmt.Sprintf(`{"speaks":%q,"hardware_id":%q,"model":%q,"firmware":%q,"version":"2.1.0","set_up_code":%q,"boot_seconds":4,"fault":%q,"capabilities":[{"name":"relay","kind":"switch"}]}`,
		speaks, hw, model, model, demo.SetUpCode(hw), fault)
	resp, err := d.HTTP().Post(d.SiteURL+"/units", "application/json", strings.NewReader(body))
	if err != nil || resp.StatusCode != http.StatusCreated {
		t.Fatal(err, resp)
	}
	_ = resp.Body.Close()
}

func press(t *testing.T, d *demo.Demo, hw string) {
	t.Helper()
	resp, err := d.HTTP().Post(d.SiteURL+"/units/"+hw+"/press", "application/json", nil)
	if err != nil || resp.StatusCode != http.StatusNoContent {
		t.Fatal(err, resp)
	}
	_ = resp.Body.Close()
}

// seen waits for a sighting that fits.
func seen(t *testing.T, d *demo.Demo, fits func(wire.Sighting) bool) wire.Sighting {
	t.Helper()
	var list []wire.Sighting
	for range 60 {
		var err error
		if list, err = client.Get[[]wire.Sighting](t.Context(), d.Client, "/api/v1/sightings?all=true"); err != nil {
			t.Fatal(err)
		}
		if i := slices.IndexFunc(list, fits); i >= 0 {
			return list[i]
		}
		time.Sleep(5 * time.Second)
	}
	for _, s := range list {
		t.Logf("%s %s %s, gone %v, device %q", s.ID, s.HardwareID, s.Address, s.Gone, s.Device)
	}
	t.Fatal("it was not seen")
	return wire.Sighting{}
}

// TestUnitsThatStandInTheNetwork: a unit that somebody else has set up is found in
// the home's network, matched, and told apart from one that is unplugged; brought
// into set-up mode it is taken through. One that moves is found by its id.
func TestUnitsThatStandInTheNetwork(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		const hw, partly = "02:5A:11:00:00:A2", "02:5A:11:00:00:A3"
		unpack(t, d, "pardal", "alecrim-luz", hw, "set up by somebody else")
		unpack(t, d, "andorinha", "sobro-um", partly, "set up by somebody else")

		s := seen(t, d, func(s wire.Sighting) bool { return s.Source == "lan" && s.HardwareID == hw })
		if s.Name != "Pardal 0000A2" || s.Address == "" || s.Site != "lagar" || s.Device != "" || s.Version == "" || s.Dialect != "pardal" {
			t.Errorf("%+v", s)
		}
		p := refused(t, d.Client, "POST", "/api/v1/sightings/claim", wire.Claim{Sighting: s.ID, New: &wire.NewDevice{Site: "lagar", Name: "Luz nova", Model: "sobro-um"}})
		if len(p.Fields) != 1 || p.Fields[0].Field != "model" {
			t.Errorf("%+v", p)
		}
		x, err := client.Post[wire.Device](t.Context(), d.Client, "/api/v1/sightings/claim", wire.Claim{Sighting: s.ID, New: &wire.NewDevice{Site: "lagar", Name: "Luz nova", Room: "Adega", Model: "alecrim-luz"}})
		if err != nil || x.HardwareID != hw || x.Room != "Adega" {
			t.Fatalf("%+v, %v", x, err)
		}
		do(t, d, "PATCH", client.Path("devices", x.ID), wire.DeviceEdit{SetUpCode: new(demo.SetUpCode(hw))})
		got := run(t, d, client.Path("devices", x.ID, "commission"), wire.Commissioning{Prepared: true})
		if failure(got) != "elsewhere" || !strings.Contains(got.Failure.What, s.Address) || !strings.Contains(got.Failure.What, "Pardal 0000A2") {
			t.Fatalf("%+v\n%s", got.Failure, sheet(got))
		}
		press(t, d, hw)
		sighted(t, d, hw)
		if got := run(t, d, client.Path("tasks", got.ID, "retry"), nil); got.Status != task.Done {
			t.Fatalf("%+v\n%s", got.Failure, sheet(got))
		}

		// A family that shows six digits: the person says which device it is, and
		// the unit says the rest.
		s = seen(t, d, func(s wire.Sighting) bool { return s.Source == "lan" && s.Ending == "0000A3" })
		y, err := client.Post[wire.Device](t.Context(), d.Client, "/api/v1/sightings/claim", wire.Claim{Sighting: s.ID, New: &wire.NewDevice{Site: "lagar", Name: "Rele novo", Model: "sobro-um"}})
		if err != nil || y.HardwareID != "" || y.Ending != "0000A3" {
			t.Fatalf("%+v, %v", y, err)
		}
		press(t, d, partly)
		seen(t, d, func(s wire.Sighting) bool { return s.Source == "radio" && s.DeviceID == y.ID && !s.Gone })
		if got := run(t, d, client.Path("devices", y.ID, "commission"), wire.Commissioning{Prepared: true}); got.Status != task.Done {
			t.Fatalf("%+v\n%s", got.Failure, sheet(got))
		}
		if y = deviceOf(t, d, y.ID); y.HardwareID != partly || y.Ending != "" || y.Stage != "adopted" {
			t.Errorf("%+v", y)
		}
		if found := deviceOf(t, d, partly); found.ID != y.ID {
			t.Errorf("%+v", found)
		}

		// While it is told something it restarts and gets another address, where it
		// is found.
		before := deviceOf(t, d, x.ID).Address
		fault(t, d, hw, "address change", 0)
		do(t, d, "PATCH", client.Path("devices", x.ID), wire.DeviceEdit{Label: new("Luz nova da adega")})
		if got := run(t, d, client.Path("devices", x.ID, "apply"), struct{}{}); got.Status != task.Done {
			t.Fatalf("%+v\n%s", got.Failure, sheet(got))
		}
		seen(t, d, func(s wire.Sighting) bool { return s.Source == "lan" && s.HardwareID == hw && s.Address != before })
		if after := deviceOf(t, d, x.ID).Address; after == before || after == "" {
			t.Errorf("it is still thought to be at %s", after)
		}
	})
}

// TestSightingsByHand: a unit in front of a person is noted, and bad input is
// refused whole.
func TestSightingsByHand(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		p := refused(t, d.Client, "POST", "/api/v1/sightings", wire.SeenByHand{HardwareID: "03:00", Dialect: "pardel", Address: "8.8.8.8"})
		if len(p.Fields) != 3 || p.Fields[1].Passes != "pardal" {
			t.Errorf("%+v", p.Fields)
		}
		s, err := client.Post[wire.Sighting](t.Context(), d.Client, "/api/v1/sightings", wire.SeenByHand{HardwareID: "02-5a-11-00-00-a4", Dialect: "direct", Site: "lagar"})
		if err != nil || s.Source != "hand" || s.Name != "seen by marta" || s.HardwareID != "02:5A:11:00:00:A4" {
			t.Errorf("%+v, %v", s, err)
		}
		x, err := client.Post[wire.Device](t.Context(), d.Client, "/api/v1/sightings/claim", wire.Claim{Sighting: s.ID, New: &wire.NewDevice{Site: "lagar", Name: "Da caixa", Model: "junco"}})
		if err != nil || x.HardwareID != s.HardwareID {
			t.Errorf("%+v, %v", x, err)
		}
	})
}

// TestAPersonJoins: where a person joins access points, the task says which one it
// waits for, goes on when its unit answers at the set-up address, and does not take
// another for it.
func TestAPersonJoins(t *testing.T) {
	long(t)
	s, began := oneUnit(t, 8, sim.None)
	var gateway atomic.Value // of the access point that the person has joined
	gateway.Store("")
	n := carrier.New(func(ctx context.Context, network, address string) (net.Conn, error) {
		if address == "10.47.0.1:80" {
			if address = gateway.Load().(string); address == "" {
				return nil, syscall.EHOSTUNREACH
			}
		}
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}, nil)
	h := startHome(t, homeOptions{scale: 8, began: began, hubURL: s.HubAddress(0), hub: sim.HubSpec{Token: "t"}, net: n, configure: func(c *service.Config) { c.Radio = service.Radio{Kind: "by-hand"} }})
	h.add(unitID, "olival-azeite")
	stranger := "02:5A:11:00:00:79"
	body := fmt.Sprintf(`{"speaks":"direct","hardware_id":%q,"model":"sobro-quatro","firmware":"sobro-quatro","version":"1.3.2","set_up_code":"other","boot_seconds":2}`, stranger)
	if resp, err := http.Post(s.Address()+"/units", "application/json", strings.NewReader(body)); err != nil || resp.Body.Close() != nil {
		t.Fatal(err)
	}
	// join is what the person does with their machine's own means.
	join := func(name, key string) {
		t.Helper()
		waitFor(t, "the access point "+name, func() bool {
			b, _ := json.Marshal(map[string]string{"name": name, "key": key})
			resp, err := http.Post(s.Address()+"/radio/join", "application/json", bytes.NewReader(b))
			if err != nil {
				t.Fatal(err)
			}
			defer resp.Body.Close()
			var at struct{ Gateway string }
			if resp.StatusCode != http.StatusOK || json.NewDecoder(resp.Body).Decode(&at) != nil {
				return false
			}
			gateway.Store(at.Gateway)
			return true
		})
	}
	x, err := client.Post[wire.Task](t.Context(), h.Client, "/api/v1/devices/relay-1/commission", struct{}{})
	if err != nil {
		t.Fatal(err)
	}
	now := func() wire.Task {
		t.Helper()
		if x, err = client.Get[wire.Task](t.Context(), h.Client, client.Path("tasks", x.ID)); err != nil {
			t.Fatal(err)
		}
		return x
	}
	waitFor(t, "the task to ask for a person", func() bool {
		return now().Wait != nil && x.Wait.For == "person" && strings.Contains(x.Wait.What, "«fado-025a11000078»")
	})
	join("fado-025a11000079", "other")
	waitFor(t, "the stranger to be seen", func() bool {
		list, err := client.Post[[]wire.Sighting](t.Context(), h.Client, "/api/v1/sightings/scan", nil)
		return err == nil && len(list) == 1 && list[0].HardwareID == stranger && list[0].DeviceID == ""
	})
	if now(); x.Status != task.Waiting || x.Wait.For != "person" {
		t.Errorf("with another unit it is %s: %+v", x.Status, x.Failure)
	}
	join("fado-025a11000078", "olival-azeite")
	waitFor(t, "the end of the task", func() bool { return now().Status.Over() })
	if x.Status != task.Done {
		t.Errorf("%+v", x.Failure)
	}
	for _, u := range units(t, s) {
		if want := map[string]string{unitID: "lagar/relay-1", stranger: ""}[u.HardwareID]; u.Topic != want {
			t.Errorf("%s was told the topic %q", u.HardwareID, u.Topic)
		}
	}
}

func units(t *testing.T, s *sim.Site) (list []sim.Report) {
	t.Helper()
	resp, err := http.Get(s.Address() + "/units")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(&list); err != nil {
		t.Fatal(err)
	}
	return list
}
