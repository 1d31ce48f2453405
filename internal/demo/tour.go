package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"fado/internal/client"
	"fado/internal/core/check"
	"fado/internal/core/task"
	"fado/internal/sim"
	"fado/internal/wire"
)

// Tour runs the story from a fresh unit to a proven update, and ends with an
// error at the first step that was not seen to work.
func (d *Demo) Tour(ctx context.Context, out io.Writer) error {
	t := &tour{Demo: d, ctx: ctx, out: out}
	steps := []struct {
		title string
		run   func() error
	}{
		{"Sites, rooms, networks, models and the dialect are there", t.setUp},
		{"A device is added; its names come from the scheme", t.add},
		{"The radio lists units in set-up mode", t.sight},
		{"A wrong Wi-Fi passphrase is named, corrected, tried again", t.wrongPassphrase},
		{"An unplugged unit is named", t.unplugged},
		{"Commissioning takes the unit into proven, adopted service", t.commission},
		{"The hub shows it in its room, and switches it", t.hub},
		{"Its firmware is behind what is intended", t.behind},
		{"One update is offered, fetched, installed and proven", t.update},
		{"A unit that never returns after its update is recorded as lost", t.lost},
		{"Every step is an event, and nothing secret is in it", t.events},
	}
	for i, s := range steps {
		began := time.Now()
		if err := s.run(); err != nil {
			_, _ = fmt.Fprintf(out, "%2d. %s\n    ✗ %v\n", i+1, s.title, err)
			return fmt.Errorf("step %d, «%s»: %w", i+1, s.title, err)
		}
		_, _ = fmt.Fprintf(out, "%2d. %s\n    ✓ %s (%.1f s)\n", i+1, s.title, t.seen, time.Since(began).Seconds())
	}
	_, _ = fmt.Fprintln(out, "Each step was seen to work.")
	return nil
}

type tour struct {
	*Demo
	ctx    context.Context
	out    io.Writer
	seen   string
	device wire.Device
}

const tourID = "02:5A:11:00:00:A0"

func (t *tour) setUp() error {
	sites, err := client.Get[[]wire.Site](t.ctx, t.Client, "/api/v1/sites")
	if err != nil {
		return err
	}
	devices := int64(0)
	rooms := 0
	for _, s := range sites {
		devices += s.Devices
		rooms += len(s.Rooms)
	}
	if len(sites) != 2 || devices != 35 {
		return fmt.Errorf("%d sites with %d devices instead of 2 with 35", len(sites), devices)
	}
	raw, err := client.Get[json.RawMessage](t.ctx, t.Client, client.Path("sites", "lagar", "networks"))
	if err != nil {
		return err
	}
	if strings.Contains(string(raw), Passphrase("lagar")) {
		return errors.New("the API shows a passphrase")
	}
	t.seen = fmt.Sprintf("%d sites, %d rooms, %d devices; the passphrase is not shown", len(sites), rooms, devices)
	return nil
}

func (t *tour) add() error {
	edit := wire.DeviceEdit{Name: new("Rega da horta"), Room: new("Terraço"), Model: new("sobro-quatro"), Tags: &[]string{"irrigation"}, HardwareID: new(tourID), SetUpCode: new(SetUpCode(tourID))}
	bad := edit
	bad.Hostname = new("Rega da horta")
	var refused *client.Error
	if _, err := client.Post[wire.Device](t.ctx, t.Client, client.Path("sites", "lagar", "devices"), bad); !errors.As(err, &refused) || len(refused.Fields) == 0 || refused.Fields[0].Passes == "" {
		return fmt.Errorf("a hostname with spaces was not refused with one that passes: %w", err)
	}
	var err error
	if t.device, err = client.Post[wire.Device](t.ctx, t.Client, client.Path("sites", "lagar", "devices"), edit); err != nil {
		return err
	}
	if t.device.Hostname != "terraco-relay-2" || t.device.Topic != "lagar/terraco/relay-2" {
		return fmt.Errorf("it is called %s with topic %s", t.device.Hostname, t.device.Topic)
	}
	t.seen = fmt.Sprintf("%s, topic %s; «Rega da horta» as a hostname was refused, %q offered", t.device.Hostname, t.device.Topic, refused.Fields[0].Passes)
	return nil
}

func (t *tour) sight() error {
	matched := ""
	if err := t.until("the device's access point", 30*time.Second, func() (bool, error) {
		list, err := client.Post[[]wire.Sighting](t.ctx, t.Client, "/api/v1/sightings/scan", nil)
		for _, s := range list {
			if s.DeviceID == t.device.ID {
				matched = s.Name
			}
		}
		return matched != "", err
	}); err != nil {
		return err
	}
	stranger := sim.UnitSpec{HardwareID: "02:5A:11:00:00:EE", Model: "junco", Firmware: "junco", Version: "2.0.1", SetUpCode: "not-in-the-list"}
	if err := t.post(t.SiteURL+"/units", stranger); err != nil {
		return err
	}
	return t.until("the stranger's access point", 30*time.Second, func() (bool, error) {
		list, err := client.Post[[]wire.Sighting](t.ctx, t.Client, "/api/v1/sightings/scan", nil)
		for _, s := range list {
			if s.HardwareID == "02:5A:11:00:00:EE" && s.DeviceID == "" {
				t.seen = fmt.Sprintf("%s is matched to %s; %s is shown as unclaimed", matched, t.device.Name, s.Name)
				return true, nil
			}
		}
		return false, err
	})
}

func (t *tour) post(at string, body any) error {
	b, err := json.Marshal(body)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(t.ctx, http.MethodPost, at, strings.NewReader(string(b)))
	if err != nil {
		return err
	}
	resp, err := t.HTTP().Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 300 {
		return fmt.Errorf("%s answered %s", at, resp.Status)
	}
	return nil
}

// fault asks the simulated site for a fault of a unit.
func (t *tour) fault(hw, name string) error {
	return t.post(t.SiteURL+"/units/"+hw+"/fault", map[string]any{"fault": name})
}

func (t *tour) passphrase(text string) error {
	list, err := client.Get[[]wire.Network](t.ctx, t.Client, client.Path("sites", "lagar", "networks"))
	if err != nil {
		return err
	}
	return t.Client.Do(t.ctx, http.MethodPatch, client.Path("networks", list[0].ID), wire.NetworkEdit{Passphrase: &text}, nil)
}

// run starts a task and waits for its end.
func (t *tour) run(path string, body any) (wire.Task, error) {
	x, err := client.Post[wire.Task](t.ctx, t.Client, path, body)
	if err != nil {
		return x, err
	}
	return x, t.until("the end of the task", 3*time.Minute, func() (bool, error) {
		x, err = client.Get[wire.Task](t.ctx, t.Client, client.Path("tasks", x.ID))
		return x.Status.Over(), err
	})
}

func (t *tour) until(what string, limit time.Duration, holds func() (bool, error)) error {
	deadline := time.Now().Add(limit)
	for {
		ok, err := holds()
		if err != nil || ok {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("%s did not come within %s", what, limit)
		}
		select {
		case <-t.ctx.Done():
			return t.ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func expect(x wire.Task, code string) error {
	if x.Status != task.Failed || x.Failure == nil || x.Failure.Code != code || x.Failure.Cause == "" || x.Failure.Next == "" {
		return fmt.Errorf("the task is %s with %+v instead of failed with %s", x.Status, x.Failure, code)
	}
	return nil
}

func (t *tour) wrongPassphrase() error {
	if err := t.passphrase("azeite-errado"); err != nil {
		return err
	}
	x, err := t.run(client.Path("devices", t.device.ID, "commission"), struct{}{})
	if err != nil {
		return err
	}
	if err := expect(x, "came_back_wifi_refused"); err != nil {
		return err
	}
	t.seen = fmt.Sprintf("«%s» %s", x.Failure.What, x.Failure.Cause)
	return t.passphrase(Passphrase("lagar"))
}

func (t *tour) unplugged() error {
	const hw = "02:5A:11:00:00:14" // Nível da talha
	if err := t.fault(hw, "unplugged"); err != nil {
		return err
	}
	x, err := t.run(client.Path("devices", hw, "commission"), struct{}{})
	if err != nil {
		return err
	}
	if err := expect(x, "not_seen"); err != nil {
		return err
	}
	t.seen = fmt.Sprintf("«%s» %s", x.Failure.What, x.Failure.Cause)
	return t.fault(hw, "")
}

func (t *tour) commission() error {
	list, err := client.Get[[]wire.Task](t.ctx, t.Client, client.Query("/api/v1/tasks", "device", t.device.ID))
	if err != nil || len(list) == 0 {
		return fmt.Errorf("the failed task is gone: %w", err)
	}
	x, err := t.run(client.Path("tasks", list[0].ID, "retry"), nil)
	if err != nil {
		return err
	}
	if x.Status != task.Done {
		return fmt.Errorf("commissioning ended as %s: %+v", x.Status, x.Failure)
	}
	if t.device, err = client.Get[wire.Device](t.ctx, t.Client, client.Path("devices", t.device.ID)); err != nil {
		return err
	}
	if t.device.Stage != "adopted" {
		return fmt.Errorf("the device is %s", t.device.Stage)
	}
	for _, c := range t.device.Checks {
		if c.Verdict == check.Fails {
			return fmt.Errorf("a check fails: %+v", c)
		}
	}
	t.seen = fmt.Sprintf("attempt %d, %d steps, %d checks hold", x.Attempt, len(x.Steps), len(t.device.Checks))
	return nil
}

func (t *tour) things() ([]sim.ThingView, error) {
	req, err := http.NewRequestWithContext(t.ctx, http.MethodGet, t.HubURL+"/view", nil)
	if err != nil {
		return nil, err
	}
	resp, err := t.HTTP().Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	var out []sim.ThingView
	return out, json.NewDecoder(resp.Body).Decode(&out)
}

func (t *tour) unit(hw string) (sim.Report, error) {
	req, err := http.NewRequestWithContext(t.ctx, http.MethodGet, t.SiteURL+"/units", nil)
	if err != nil {
		return sim.Report{}, err
	}
	resp, err := t.HTTP().Do(req)
	if err != nil {
		return sim.Report{}, err
	}
	defer resp.Body.Close()
	var list []sim.Report
	if err := json.NewDecoder(resp.Body).Decode(&list); err != nil {
		return sim.Report{}, err
	}
	for _, u := range list {
		if u.HardwareID == hw {
			return u, nil
		}
	}
	return sim.Report{}, fmt.Errorf("the simulated site has no unit %s", hw)
}

func (t *tour) hub() error {
	id := "urn:uuid:" + t.device.ID
	show := func() (sim.ThingView, error) {
		list, err := t.things()
		for _, x := range list {
			if x.ID == id {
				return x, err
			}
		}
		return sim.ThingView{}, err
	}
	if err := t.until("the thing with its state in the hub", 10*time.Second, func() (bool, error) {
		x, err := show()
		return x.Room == "Terraço" && x.Values["relay-1"] == false && x.Values["presence"] == "online", err
	}); err != nil {
		return err
	}
	resp, err := t.HTTP().PostForm(t.HubURL+"/switch", url.Values{"thing": {id}, "property": {"relay-1"}, "value": {"true"}})
	if err != nil {
		return err
	}
	_ = resp.Body.Close()
	if err := t.until("the switched relay", 10*time.Second, func() (bool, error) {
		x, err := show()
		if err != nil {
			return false, err
		}
		u, err := t.unit(tourID)
		return x.Values["relay-1"] == true && u.State["relay-1"] == true, err
	}); err != nil {
		return err
	}
	t.seen = "«" + t.device.Label + "» in Terraço; switched on in the hub, and the unit's relay closed"
	return nil
}

func (t *tour) behind() error {
	return t.until("the standing «behind»", 10*time.Second, func() (bool, error) {
		d, err := client.Get[wire.Device](t.ctx, t.Client, client.Path("devices", t.device.ID))
		t.seen = fmt.Sprintf("it reports %s; %s is intended", d.Running, d.Intended)
		return d.Standing == "behind", err
	})
}

func (t *tour) image(model string) (wire.Image, error) {
	list, err := client.Get[[]wire.Image](t.ctx, t.Client, client.Query("/api/v1/images", "model", model))
	if err != nil || len(list) == 0 {
		return wire.Image{}, fmt.Errorf("there is no image for %s: %w", model, err)
	}
	return list[0], nil
}

func (t *tour) update() error {
	img, err := t.image("sobro-quatro")
	if err != nil {
		return err
	}
	x, err := t.run(client.Path("devices", t.device.ID, "update"), wire.Start{Image: img.SHA256})
	if err != nil {
		return err
	}
	if x.Status != task.Done || x.Update.Outcome != task.Succeeded {
		return fmt.Errorf("the update ended as %s, %s: %+v", x.Status, x.Update.Outcome, x.Failure)
	}
	u, err := t.unit(tourID)
	if err != nil {
		return err
	}
	if u.Digest != img.SHA256 || len(u.Writes) != 1 {
		return fmt.Errorf("the unit itself says %s after %d writes", u.Version, len(u.Writes))
	}
	t.seen = fmt.Sprintf("from %s to %s, %d KiB fetched, one write, by the unit's own log too", x.Update.From, u.Version, u.Fetched>>10)
	return nil
}

func (t *tour) lost() error {
	const hw = "02:5A:11:00:00:1E" // Cisterna
	x, err := t.run(client.Path("devices", hw, "commission"), struct{}{})
	if err != nil {
		return err
	}
	if x.Status != task.Done {
		return fmt.Errorf("commissioning ended as %s: %+v", x.Status, x.Failure)
	}
	if err := t.fault(hw, "dies after update"); err != nil {
		return err
	}
	img, err := t.image("junco")
	if err != nil {
		return err
	}
	if x, err = t.run(client.Path("devices", hw, "update"), wire.Start{Image: img.SHA256}); err != nil {
		return err
	}
	if err := expect(x, "lost"); err != nil {
		return err
	}
	if x.Update.Outcome != task.Lost {
		return fmt.Errorf("its outcome is %s", x.Update.Outcome)
	}
	t.seen = fmt.Sprintf("«%s» What to do: %s", x.Failure.What, x.Failure.Next)
	return nil
}

func (t *tour) events() error {
	p, err := client.Get[wire.EventPage](t.ctx, t.Client, "/api/v1/events?limit=500")
	if err != nil {
		return err
	}
	text := ""
	for _, e := range p.Events {
		if e.Actor == "" || e.At.IsZero() {
			return fmt.Errorf("an event has no actor or time: %+v", e)
		}
		text += e.Text + "\n"
	}
	for _, s := range []string{Passphrase("lagar"), Passphrase("estaleiro"), SetUpCode(tourID), t.Password, t.Token} {
		if strings.Contains(text, s) {
			return errors.New("an event holds a secret")
		}
	}
	t.seen = fmt.Sprintf("%d events, each with time and actor", len(p.Events))
	return nil
}
