package engine

import (
	"encoding/json"
	"io/fs"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"fado/dialects"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/store"
	"fado/internal/wire"
)

// speaking is an engine that has all dialects and models that ship, a site with
// its network, and no units.
func speaking(t *testing.T) *Engine {
	t.Helper()
	e := bench(t)
	names, _ := fs.Glob(dialects.Files, "*.yaml")
	for _, n := range names {
		b, err := fs.ReadFile(dialects.Files, n)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := e.PutDialect(t.Context(), "test", b); err != nil {
			t.Fatal(err)
		}
	}
	files, _ := os.ReadDir("../../demo/models")
	for _, f := range files {
		b, err := os.ReadFile("../../demo/models/" + f.Name())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := e.PutModel(t.Context(), "test", b); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := e.SaveNetwork(t.Context(), "test", "lagar", "", wire.NetworkEdit{SSID: new("casa"), Passphrase: new("azeite virgem")}); err != nil {
		t.Fatal(err)
	}
	if _, err := e.SaveHub(t.Context(), "test", "", wire.HubEdit{Name: new("hub"), Directory: new("http://127.0.0.1:1"), Token: new("token-0123456789"), Account: new("hub-lagar"), Password: new("password-0123456789")}); err != nil {
		t.Fatal(err)
	}
	if _, err := e.SaveSite(t.Context(), "test", "lagar", 0, wire.SiteEdit{Hub: new("hub")}); err != nil {
		t.Fatal(err)
	}
	return e
}

// served puts a device into service, as its tasks would have left it.
func served(t *testing.T, e *Engine, name, model, hw string) store.Device {
	t.Helper()
	d := device(t, e, name, model, hw)
	err := e.Store.Write(t.Context(), func(tx *store.Tx) error {
		if err := e.fill(tx, &d, hw, e.Clock.Now()); err != nil {
			return err
		}
		_, err := store.Change[store.Device](tx, map[string]any{"stage": string(inventory.Reporting), "running": "3.0.0", "address": "192.168.40.7"}, "id = ?", d.ID)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	d, err = e.FindDevice(t.Context(), d.ID)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// report lets a unit say its settings, and compares.
func report(t *testing.T, e *Engine, d store.Device, said settings.Values) {
	t.Helper()
	err := e.Store.Write(t.Context(), func(tx *store.Tx) error {
		if err := saveReported(tx, d, said, e.Clock.Now()); err != nil {
			return err
		}
		return e.refresh(tx, d.ID)
	})
	if err != nil {
		t.Fatal(err)
	}
}

func intend(t *testing.T, e *Engine, device string, changes map[string]any) error {
	t.Helper()
	raw := map[string]json.RawMessage{}
	for k, v := range changes {
		raw[k] = json.RawMessage(store.JSON(v))
	}
	return e.SetIntended(t.Context(), "marta", "", "", device, raw)
}

func TestAPreviewSaysWhatDependsOnTheVersion(t *testing.T) {
	e := speaking(t)
	d := device(t, e, "Portão", "sobro-um", "02:5A:11:00:00:1F")
	p, err := e.PreviewDevice(t.Context(), d.ID)
	if err != nil || p.At != dialect.AtSetUp || !p.Assumed || p.Restarts != 4 || len(p.Exchanges) != 5 {
		t.Fatalf("%+v %v", p, err)
	}
	for _, x := range p.Exchanges {
		if strings.Contains(x.Body, "azeite") {
			t.Errorf("a secret is shown: %s", x.Body)
		}
	}
	if !strings.Contains(p.Exchanges[1].Body, "server = 127.0.0.1:") || !strings.Contains(p.Exchanges[1].Body, "word = "+secret.Mask) {
		t.Errorf("%s", p.Exchanges[1].Body)
	}
	if slices.Contains(p.Left, settings.BrokerTLS) || !slices.Contains(p.Left, settings.UpdateKey) || !slices.Contains(p.Unread, settings.WifiPassphrase) {
		t.Errorf("left %v, unread %v", p.Left, p.Unread)
	}
	// The site's broker may want what the firmware cannot do.
	if err := intend(t, e, d.ID, map[string]any{"broker.tls": true}); err != nil {
		t.Fatal(err)
	}
	if _, err := e.PreviewDevice(t.Context(), d.ID); err == nil || !strings.Contains(problem.As(err).Fields[0].Rule, "cannot speak") {
		t.Errorf("a firmware without TLS: %v", err)
	}
}

func TestLoginsAreMadeOnce(t *testing.T) {
	e := speaking(t)
	d := device(t, e, "Portão", "sobro-um", "02:5A:11:00:00:1F")
	if _, err := e.Reveal(t.Context(), "marta", d.ID); err == nil {
		t.Error("a login that was never made was shown")
	}
	var first Revealed
	for n := range 2 {
		if err := e.ensureAccess(t.Context(), "marta", d); err != nil {
			t.Fatal(err)
		}
		r, err := e.Reveal(t.Context(), "marta", d.ID)
		if err != nil || r.User != accessUser || len(r.Password) != 23 || r.Password == r.PointKey {
			t.Fatalf("%+v %v", r, err)
		}
		if n == 0 {
			first = r
		} else if r != first {
			t.Error("a second login was made")
		}
	}
	other := device(t, e, "Exaustor", "sobro-um", "02:5A:11:00:00:17")
	if err := e.ensureAccess(t.Context(), "marta", other); err != nil {
		t.Fatal(err)
	}
	if r, _ := e.Reveal(t.Context(), "marta", other.ID); r.Password == first.Password || r.PointKey == first.PointKey {
		t.Error("two units have the same login")
	}
	n, err := store.Count[store.Event](e.Store.Read(t.Context()), "kind = 'reveal' AND device_id = ?", d.ID)
	if err != nil || n != 2 {
		t.Errorf("%d reveals on record, %v", n, err)
	}
	// What a person intended is kept.
	own := device(t, e, "Bomba", "sobro-um", "02:5A:11:00:00:18")
	if err := intend(t, e, own.ID, map[string]any{"access.user": "rui", "access.password": "chosen-by-rui"}); err != nil {
		t.Fatal(err)
	}
	if err := e.ensureAccess(t.Context(), "marta", own); err != nil {
		t.Fatal(err)
	}
	if r, _ := e.Reveal(t.Context(), "marta", own.ID); r.User != "rui" || r.Password != "chosen-by-rui" || len(r.PointKey) != 23 {
		t.Errorf("%+v", r)
	}
}

func TestARenameKeepsTheOldTopicUntilTheUnitWasHeard(t *testing.T) {
	e := speaking(t)
	d := served(t, e, "Rega", "sobro-quatro", "02:5A:11:00:00:1B")
	if _, err := e.prepareAccount(t.Context(), d); err != nil {
		t.Fatal(err)
	}
	old := d.Topic
	d, err := e.EditDevice(t.Context(), "marta", d.ID, DeviceEdit{Topic: new("lagar/novo/rega")})
	if err != nil || d.LiveTopic != old || d.TopicInUse() != old {
		t.Fatalf("%+v %v", d, err)
	}
	// Nobody else gets a topic that is still in use, nor one above or below it.
	for _, taken := range []string{old, old + "/x", "lagar/novo/rega/x"} {
		_, err := e.CreateDevice(t.Context(), "marta", "lagar", DeviceEdit{Name: new("X"), Model: new("junco"), Topic: new(taken)})
		if p := problem.As(err); p == nil || p.Fields[0].Field != "topic" || p.Fields[0].Passes == "" {
			t.Errorf("%s: %v", taken, err)
		}
	}
	if r := unitRights(d); r.Own != "lagar/novo/rega" || r.Also != old {
		t.Errorf("%+v", r)
	}
	// Back to what the unit never left: nothing is to be moved.
	if d, err = e.EditDevice(t.Context(), "marta", d.ID, DeviceEdit{Topic: &old}); err != nil || d.LiveTopic != "" {
		t.Errorf("%+v %v", d, err)
	}
	if d, err = e.EditDevice(t.Context(), "marta", d.ID, DeviceEdit{Topic: new("lagar/novo/rega")}); err != nil {
		t.Fatal(err)
	}
	if err := e.bus.Publish(t.Context(), old+"/presence", []byte(`"online"`), true); err != nil {
		t.Fatal(err)
	}
	if err := e.Store.Write(t.Context(), func(tx *store.Tx) error { return e.settle(tx, &d) }); err != nil {
		t.Fatal(err)
	}
	deadline := time.Now().Add(5 * time.Second)
	for len(e.kept(old)) > 0 && time.Now().Before(deadline) {
		time.Sleep(10 * time.Millisecond)
	}
	if kept := e.kept(old); len(kept) != 0 {
		t.Errorf("kept below the old topic: %v", kept)
	}
	if d, err = e.FindDevice(t.Context(), d.ID); err != nil || d.LiveTopic != "" {
		t.Errorf("%+v %v", d, err)
	}
}

func TestASchemeMaySwapNames(t *testing.T) {
	e := speaking(t)
	one := device(t, e, "Um", "sobro-quatro", "02:5A:11:00:00:01")
	two := device(t, e, "Dois", "sobro-quatro", "02:5A:11:00:00:02")
	for _, x := range [][3]string{{one.ID, "x", "t/x"}, {two.ID, "relay-1", "lagar/relay-1"}, {one.ID, "relay-2", "lagar/relay-2"}} {
		if _, err := e.EditDevice(t.Context(), "marta", x[0], DeviceEdit{Hostname: &x[1], Topic: &x[2]}); err != nil {
			t.Fatal(err)
		}
	}
	scheme := naming.Scheme{Hostname: "{kind}-{number}", Topic: "{site}/{kind}-{number}", Label: "{name}"}
	list, err := e.RenameByScheme(t.Context(), "marta", "lagar", scheme, nil)
	if err != nil || len(list) != 2 {
		t.Fatalf("%+v %v", list, err)
	}
	for id, want := range map[string]string{one.ID: "relay-1", two.ID: "relay-2"} {
		d, err := e.FindDevice(t.Context(), id)
		if err != nil || d.Hostname != want || d.Topic != "lagar/"+want {
			t.Errorf("%s is %s, %s (%v)", d.Name, d.Hostname, d.Topic, err)
		}
		if found, err := e.FindDevice(t.Context(), want); err != nil || found.ID != id {
			t.Errorf("%s finds %s: %v", want, found.Name, err)
		}
	}
	if list, err = e.PreviewScheme(t.Context(), "lagar", scheme, nil); err != nil || len(list) != 0 {
		t.Errorf("a second time: %+v %v", list, err)
	}
	only, err := e.PreviewScheme(t.Context(), "lagar", naming.Scheme{Hostname: "n-{number}", Topic: "n/{number}", Label: "{name}"}, []string{two.ID})
	if err != nil || len(only) != 1 || only[0].To.Hostname != "n-1" {
		t.Errorf("%+v %v", only, err)
	}
}

func TestDriftHasTwoValuesAndAHistory(t *testing.T) {
	e := speaking(t)
	d := served(t, e, "Rega", "sobro-quatro", "02:5A:11:00:00:1B")
	if err := intend(t, e, d.ID, map[string]any{"report.interval_seconds": 30, "port.P34.function": "button"}); err != nil {
		t.Fatal(err)
	}
	said := settings.Values{settings.Hostname: d.Hostname, settings.Topic: d.Topic, settings.Label: d.Label, settings.ReportSeconds: int64(90), "port.S1.function": "button", settings.WifiSSID: "casa",
		settings.ClockZone: "Europe/Lisbon"}
	report(t, e, d, said)
	find := func(key settings.Key) (Drift, bool) {
		list, _, err := e.DriftList(t.Context(), "lagar", "")
		if err != nil {
			t.Fatal(err)
		}
		i := slices.IndexFunc(list, func(x Drift) bool { return x.Line.Key == key })
		if i < 0 {
			return Drift{}, false
		}
		return list[i], true
	}
	x, ok := find(settings.ReportSeconds)
	if !ok || x.Line.Intended != int64(30) || x.Line.Reported.Value != int64(90) || x.By != "marta" || x.Since.Before(x.At) {
		t.Errorf("%+v %v", x, ok)
	}
	since := x.Since
	report(t, e, d, said) // it says the same again: the difference is as old as before
	if x, _ = find(settings.ReportSeconds); !x.Since.Equal(since) {
		t.Errorf("since %s, before %s", x.Since, since)
	}
	if _, ok := find("port.S1.function"); ok {
		t.Error("a port that was named by its pin is taken for another")
	}
	if err := e.AcceptDrift(t.Context(), "rui", d.ID, []string{"report.interval_seconds"}); err != nil {
		t.Fatal(err)
	}
	if _, ok := find(settings.ReportSeconds); ok {
		t.Error("accepted, and still listed")
	}
	said[settings.Label] = "Mudado"
	report(t, e, d, said)
	if x, ok = find(settings.Label); !ok || x.By != "test" {
		t.Errorf("%+v %v", x, ok)
	}
	for _, bad := range []string{"wifi.passphrase", "broker.password", "no.such", "clock.server"} {
		if err := e.AcceptDrift(t.Context(), "rui", d.ID, []string{"label", bad}); err == nil {
			t.Errorf("%s was accepted", bad)
		}
	}
	if got, _ := e.FindDevice(t.Context(), d.ID); got.Label == "Mudado" {
		t.Error("a refused acceptance changed something")
	}
	if list, err := e.Differing(t.Context(), "lagar", "sobro-quatro", ""); err != nil || len(list) != 1 {
		t.Errorf("%d %v", len(list), err)
	}
	if list, err := e.Differing(t.Context(), "lagar", "junco", ""); err != nil || len(list) != 0 {
		t.Errorf("%d %v", len(list), err)
	}
}

func TestWhatADeviceCanBeTold(t *testing.T) {
	e := speaking(t)
	for model, c := range map[string]struct{ has, hasNot []string }{
		"sobro-quatro": {[]string{"port.S1.function", "report.S1.topic", "power_up.relay-1.state", "upkeep.restart_days"}, []string{"hostname", "wifi.ssid", "load.count", "access.password", "power_up.power.state", "report.K1.topic"}},
		"alecrim-fita": {[]string{"load.count", "load.first_corner", "access.password", "port.AUX.function"}, []string{"update.key", "report.AUX.topic"}},
		"urze-ar":      {[]string{"address.mode", "report.interval_seconds"}, []string{"access.password", "upkeep.restart_days", "port.I2C.function"}},
	} {
		list, err := e.Settable(device(t, e, model, model, ""))
		if err != nil {
			t.Fatal(err)
		}
		keys := map[string][]string{}
		for _, x := range list {
			keys[string(x.Key)] = x.Choices
		}
		for _, k := range c.has {
			if _, ok := keys[k]; !ok {
				t.Errorf("%s cannot be told %s", model, k)
			}
		}
		for _, k := range c.hasNot {
			if _, ok := keys[k]; ok {
				t.Errorf("%s can be told %s", model, k)
			}
		}
		if model == "sobro-quatro" && (!slices.Equal(keys["port.X.function"], []string{"button", "unused"}) || !slices.Equal(keys["power_up.relay-1.state"], []string{"off", "on", "last"})) {
			t.Errorf("choices: %v, %v", keys["port.X.function"], keys["power_up.relay-1.state"])
		}
	}
}

func TestFamiliesAreForModelsNotForSites(t *testing.T) {
	e := speaking(t)
	d := device(t, e, "Rega", "sobro-quatro", "02:5A:11:00:00:1B")
	raw := map[string]json.RawMessage{"port.S1.function": json.RawMessage(`"button"`)}
	if err := e.SetIntended(t.Context(), "marta", "lagar", "", "", raw); err == nil {
		t.Error("a port of a whole site was set")
	}
	if err := e.SetIntended(t.Context(), "marta", "lagar", "sobro-quatro", "", raw); err != nil {
		t.Fatal(err)
	}
	values, origin, err := e.intended(e.Store.Read(t.Context()), d)
	if err != nil || values["port.S1.function"] != "button" || origin["port.S1.function"] != "model" {
		t.Errorf("%v from %s, %v", values["port.S1.function"], origin["port.S1.function"], err)
	}
	if err := intend(t, e, d.ID, map[string]any{"port.P34.function": "contact"}); err != nil {
		t.Fatal(err)
	}
	if values, origin, _ = e.intended(e.Store.Read(t.Context()), d); values["port.S1.function"] != "contact" || origin["port.S1.function"] != "device" {
		t.Errorf("%v from %s", values["port.S1.function"], origin["port.S1.function"])
	}
	if err := intend(t, e, d.ID, map[string]any{"port.S1.function": nil}); err != nil {
		t.Fatal(err)
	}
	if values, _, _ = e.intended(e.Store.Read(t.Context()), d); values["port.S1.function"] != "button" {
		t.Errorf("taken away, it is %v", values["port.S1.function"])
	}
}

func TestApplyIsRefusedWhereNothingLeadsToTheUnit(t *testing.T) {
	e := speaking(t)
	listed := device(t, e, "Novo", "sobro-um", "02:5A:11:00:00:21")
	if _, err := e.Apply(t.Context(), "marta", listed.ID); err == nil || !strings.Contains(err.Error(), "not in service") {
		t.Error(err)
	}
	d := served(t, e, "Portão", "sobro-um", "02:5A:11:00:00:1F")
	if err := e.Store.Write(t.Context(), func(tx *store.Tx) error {
		_, err := store.Change[store.Device](tx, map[string]any{"address": ""}, "id = ?", d.ID)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := e.Apply(t.Context(), "marta", d.ID); err == nil || problem.As(err).Fields[0].Field != "address" {
		t.Error(err)
	}
	if _, err := e.SaveSite(t.Context(), "marta", "lagar", 0, wire.SiteEdit{Reach: new("broker only")}); err != nil {
		t.Fatal(err)
	}
	if _, err := e.Apply(t.Context(), "marta", d.ID); err == nil || problem.As(err).Fields[0].Field != "reach" {
		t.Error(err)
	}
	if _, err := e.SaveSite(t.Context(), "marta", "lagar", 0, wire.SiteEdit{Proxy: new("ftp://x/y")}); err == nil || problem.As(err).Fields[0].Field != "proxy" {
		t.Error(err)
	}
}

// TestAUnitThatRepeatsSecrets: what a unit says of settings that it refuses goes
// into the task's record without the secrets that it was told.
func TestAUnitThatRepeatsSecrets(t *testing.T) {
	e := speaking(t)
	d := served(t, e, "Adega", "alecrim-luz", "02:5A:11:00:00:81")
	r := &runner{t: e.tasks, id: "t1", device: d.ID, ctx: t.Context(), events: make(chan task.Event, 1),
		pinned: settings.Values{settings.AccessPassword: secret.New(`lagar "novo"`)}}
	e.tasks.mu.Lock()
	e.tasks.live[d.ID] = r
	e.tasks.mu.Unlock()
	e.tasks.deliver(d.ID, task.Event{Kind: task.Answered, Facts: map[string]string{"reply_to": "t1.3", "accepted": "false",
		"reason": `«azeite virgem» is too long, and {"door": "lagar \"novo\""} too weak`}})
	got := <-r.events
	if want := `«•••» is too long, and {"door": "•••"} too weak`; got.Facts["reason"] != want {
		t.Errorf("%s; want %s", got.Facts["reason"], want)
	}
	e.tasks.mu.Lock()
	delete(e.tasks.live, d.ID)
	e.tasks.mu.Unlock()
}
