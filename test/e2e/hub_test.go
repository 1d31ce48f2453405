package e2e

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/client"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/wire"
)

// hubFault lets the home's hub fail in a way, or not.
func hubFault(t *testing.T, d *demo.Demo, fault string) {
	t.Helper()
	resp, err := d.HTTP().PostForm(d.HubURL+"/fault", url.Values{"fault": {fault}})
	if err != nil || resp.StatusCode != http.StatusNoContent {
		t.Fatal(err, resp)
	}
	_ = resp.Body.Close()
}

// atHub speaks to the hub's directory as its owner would.
func atHub(t *testing.T, d *demo.Demo, method, path string, body any) (int, []byte) {
	t.Helper()
	b, err := json.Marshal(body)
	if err != nil {
		t.Fatal(err)
	}
	req, err := http.NewRequestWithContext(t.Context(), method, d.HubURL+path, bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+d.HubToken)
	req.Header.Set("Content-Type", "application/td+json")
	resp, err := d.HTTP().Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	out, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp.StatusCode, out
}

func hubView(t *testing.T, d *demo.Demo) wire.HubView {
	t.Helper()
	v, err := client.Get[wire.HubView](t.Context(), d.Client, client.Path("hubs", "Lagar hub", "things"))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// standings says how the things of a hub stand, by name.
func standings(v wire.HubView) string {
	var out []string
	for _, x := range v.Things {
		out = append(out, x.Name+": "+x.Standing)
	}
	return strings.Join(out, "; ")
}

// TestTheHubIsKeptInStep: what a hub lost, or holds in another form, is found and put
// again, by word and by itself; what was renamed, moved, retired or given to another
// hub follows; what is none of Fado's is left alone.
func TestTheHubIsKeptInStep(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		// More than one page of its list.
		devices := []string{"adega-level-1", "terraco-relay-1", "cozinha-plug-1", "adega-lamp-1", "adega-climate-1"}
		for _, x := range d.Scenario.Sites[0].Devices {
			if len(devices) < 12 && !strings.HasPrefix(x.Model, "urze") {
				if y := deviceOf(t, d, x.HardwareID); y.Stage == "listed" && !strings.Contains(strings.Join(devices, " "), y.Hostname) {
					devices = append(devices, y.Hostname)
				}
			}
		}
		for _, x := range devices {
			if got := commissioned(t, d, x); got.Status != task.Done {
				t.Fatalf("%s: %+v", x, got.Failure)
			}
		}
		same := func(n int) func() bool {
			return func() bool {
				v := hubView(t, d)
				return len(v.Things) == n && strings.Count(standings(v), ": same") == n
			}
		}
		waitFor := func(t *testing.T, what string, holds func() bool) {
			t.Helper()
			for deadline := time.Now().Add(2 * time.Minute); !holds(); time.Sleep(2 * time.Second) {
				if time.Now().After(deadline) {
					t.Fatalf("%s did not come: %s", what, standings(hubView(t, d)))
				}
			}
		}
		waitFor(t, "all to be in the hub", same(len(devices)))

		const strange = "urn:uuid:0190c6b0-0000-7000-8000-0000000000ff"
		stranger := func() {
			if status, b := atHub(t, d, "PUT", "/things/"+strange, map[string]any{"id": strange, "title": "Somebody else's", "securityDefinitions": map[string]any{}, "security": "x", "properties": map[string]any{}}); status >= 300 {
				t.Fatal(status, string(b))
			}
		}
		stranger()
		if v := hubView(t, d); v.Strangers != 1 || len(v.Things) != len(devices) {
			t.Errorf("%d strangers: %s", v.Strangers, standings(v))
		}

		// Half of it is forgotten, and one was changed by another program.
		hubFault(t, d, "forgets")
		stranger()
		kept := ""
		for _, x := range hubView(t, d).Things {
			if x.Standing == "same" {
				kept = x.ID
			}
		}
		var td map[string]any
		_, b := atHub(t, d, "GET", "/things/"+kept, nil)
		if err := json.Unmarshal(b, &td); err != nil {
			t.Fatal(err)
		}
		td["title"] = "Not its name"
		atHub(t, d, "PUT", "/things/"+kept, td)
		v := hubView(t, d)
		missing, differs := strings.Count(standings(v), ": missing"), strings.Count(standings(v), ": differs")
		if missing < 5 || differs != 1 {
			t.Fatal(standings(v))
		}
		for _, x := range v.Things {
			if x.Standing == "differs" && (len(x.Differences) != 1 || x.Differences[0].At != "/title" || x.Differences[0].Theirs != `"Not its name"`) {
				t.Errorf("%+v", x)
			}
		}
		caught, err := client.Post[wire.HubView](t.Context(), d.Client, client.Path("hubs", "Lagar hub", "catch-up"), nil)
		if err != nil || caught.Queued != missing+differs {
			t.Fatalf("%v: %d queued of %d", err, caught.Queued, missing+differs)
		}
		waitFor(t, "the hub to be in step again", same(len(devices)))

		// It finds that out by itself, too, and says so.
		hubFault(t, d, "forgets")
		time.Sleep(11 * time.Minute)
		if !same(len(devices))() {
			t.Errorf("nobody noticed: %s", standings(hubView(t, d)))
		}
		heard := func(what string) bool {
			p, err := client.Get[wire.EventPage](t.Context(), d.Client, "/api/v1/events?limit=200")
			if err != nil {
				t.Fatal(err)
			}
			for _, e := range p.Events {
				if e.Kind == "hub" && strings.Contains(e.Text, what) {
					return true
				}
			}
			return false
		}
		if !heard("was not in step and is brought so") {
			t.Error("nothing is on record of it")
		}

		// It is down while a device is renamed and moves to another room; the change
		// follows once it is there again.
		for fault, says := range map[string]string{"down": "cannot be reached", "slow": "does not answer in time", "refusing": "does not accept Fado's token", "nonsense": "does not answer as a Thing directory does"} {
			hubFault(t, d, fault)
			p := refused(t, d.Client, "GET", client.Path("hubs", "Lagar hub", "things"), nil)
			if !strings.Contains(p.Title, says) || p.Next == "" {
				t.Errorf("%s: %+v", fault, p)
			}
			name := "Nível " + fault
			do(t, d, "PATCH", client.Path("devices", "adega-level-1"), wire.DeviceEdit{Name: &name, Room: new("Cozinha")})
			time.Sleep(time.Minute)
			a, err := client.Get[wire.Attention](t.Context(), d.Client, "/api/v1/attention")
			if err != nil || !strings.Contains(strings.Join(a.Problems, " "), says) || !strings.Contains(strings.Join(a.Problems, " "), "1 thing waits for it") {
				t.Errorf("%s: %v %q", fault, err, a.Problems)
			}
			hubFault(t, d, "")
			waitFor(t, "the hub to be in step after "+fault, same(len(devices)))
			if !heard("answers again") {
				t.Errorf("%s: nothing is on record of its return", fault)
			}
		}
		var view []struct{ ID, Title, Room string }
		_, b = atHub(t, d, "GET", "/view", nil)
		if err := json.Unmarshal(b, &view); err != nil {
			t.Fatal(err)
		}
		level := deviceOf(t, d, "adega-level-1")
		shown := false
		for _, x := range view {
			shown = shown || strings.HasSuffix(x.ID, level.ID) && x.Room == "Cozinha" && x.Title == level.Label
		}
		if !shown {
			t.Errorf("the hub shows %+v", view)
		}

		// Another model file, and the name of the site, change what stands in things.
		do(t, d, "PATCH", client.Path("sites", "lagar"), wire.SiteEdit{Name: new("Lagar de Cima")})
		waitFor(t, "the hub to have the site's new name", func() bool {
			_, b := atHub(t, d, "GET", "/things/urn:uuid:"+level.ID, nil)
			return strings.Contains(string(b), "Lagar de Cima")
		})

		stranger()
		// The site leaves the hub: its things go, the stranger's stays.
		do(t, d, "PATCH", client.Path("sites", "lagar"), wire.SiteEdit{Hub: new("")})
		waitFor(t, "the hub to be empty of it", func() bool {
			v := hubView(t, d)
			return len(v.Things) == 0 && v.Strangers == 1
		})
		do(t, d, "PATCH", client.Path("sites", "lagar"), wire.SiteEdit{Hub: new("Lagar hub")})
		waitFor(t, "all to be back", same(len(devices)))
	})
}
