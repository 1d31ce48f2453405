package e2e

import (
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fado/internal/carrier"
	"fado/internal/client"
	"fado/internal/core/rollout"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/service"
	"fado/internal/sim"
	"fado/internal/wire"
	"fado/test/browser"
	"fado/web"
)

const axe = "../../web/node_modules/axe-core/axe.min.js"

// openConsole opens the console on a demo and signs in.
func openConsole(t *testing.T, d *demo.Demo) *browser.Browser {
	t.Helper()
	if web.Console() == nil {
		t.Fatal("this test is for a program with its console: run it with -tags console, as «make test» does")
	}
	b, err := browser.Open(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	steps(t, b,
		func() error { return b.Go(d.URL + "/") },
		func() error { return b.Type("textbox", "Name", d.Person) },
		func() error { return b.Type("textbox", "Password", d.Password) },
		func() error { return b.Press("button", "Sign in") },
		func() error { return b.Has("heading", "What needs you") },
	)
	return b
}

func steps(t *testing.T, b *browser.Browser, list ...func() error) {
	t.Helper()
	for n, f := range list {
		if err := f(); err != nil {
			_ = b.Picture(filepath.Join(t.TempDir(), "failed.png"), false)
			t.Fatalf("step %d: %v", n+1, err)
		}
	}
	if p := b.Problems(); len(p) > 0 {
		t.Fatalf("the page wrote errors to its console: %s", strings.Join(p, "\n"))
	}
}

// TestConsoleStory adds a device, commissions it from the bench and updates it,
// all by pressing what a person sees.
func TestConsoleStory(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	const hw = "02:5A:11:00:00:A0"
	sighted(t, d, hw)
	b := openConsole(t, d)
	steps(t, b,
		func() error { return b.Press("link", "Bench") },
		func() error { return b.See("fado-025a110000a0") },
		func() error { return b.Press("link", "Add a device for fado-025a110000a0") },
		func() error { return b.Has("dialog", "Add a device") },
		func() error { return b.Type("textbox", "Name", "Rega da horta") },
		func() error { return b.Choose("Site", "Lagar da Ribeira") },
		func() error { return b.Choose("Room", "Terraço") },
		func() error { return b.Choose("Model", "Sobro Quatro, four relays with metering") },
		func() error { return b.Type("textbox", "Set-up code, as printed on the unit", demo.SetUpCode(hw)) },
		func() error { return b.Press("button", "Add") },
		func() error { return b.Has("heading", "Rega da horta") },
		func() error { return b.See("terraco-relay-2") },
		func() error { return b.Press("button", "Commission") },
		func() error { return b.See("Make its broker account and try it") },
		func() error { return b.See("adopted") },
		func() error { return b.See("proven by effect") },
		func() error { return b.Press("button", "Update to 1.4.0") },
		func() error { return b.See("It fetches and writes the image") },
		func() error { return b.See("Rega da horta now runs 1.4.0, by its own report.") },
		// The one search field finds it again, by keyboard alone and without its accent.
		func() error { return b.Type("combobox", "Find a device or do something", "rega da hor") },
		func() error { return b.See("terraco-relay-2 adopted") },
		func() error { return b.Key("\r") },
		func() error { return b.Has("heading", "Rega da horta") },
	)
}

// TestTheFirstAccountIsMadeByItsLink: a fresh service lets in who has the link
// that it printed, once.
func TestTheFirstAccountIsMadeByItsLink(t *testing.T) {
	long(t)
	conf := service.Defaults()
	conf.LAN.Multicast = false
	conf.Data, conf.Listen, conf.Broker.Listen = filepath.Join(t.TempDir(), "data"), "127.0.0.1:0", "127.0.0.1:0"
	r, err := service.Start(t.Context(), conf, "test", web.Console(), carrier.Net{}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Stop)
	b, err := browser.Open(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	steps(t, b,
		func() error { return b.Go(r.URL + "/") },
		func() error { return b.See("There is no account yet.") },
		func() error { return b.Go(r.URL + "/first#" + r.FirstLink) },
		func() error { return b.Has("heading", "Make the first account") },
		func() error { return b.Type("textbox", "Name", "marta") },
		func() error { return b.Type("textbox", "Password", "short") },
		func() error { return b.Press("button", "Make the account") },
		func() error { return b.See("12 to 256 characters") },
		func() error { b.Forgive(); return nil }, // the browser notes the refused request
		func() error { return b.Type("textbox", "Password", " but longer 1") },
		func() error { return b.Press("button", "Make the account") },
		func() error { return b.Has("heading", "What needs you") },
		func() error { return b.See("No radio is set up") },
	)
	var e *client.Error
	err = client.New(r.URL, "").Do(t.Context(), "POST", "/api/v1/first-account", wire.FirstAccount{Link: r.FirstLink, Name: "eve", Password: "a long password 1"}, nil)
	if !errors.As(err, &e) || e.Status != 403 {
		t.Errorf("the link works twice: %v", err)
	}
}

// TestConsoleRefusals: what the service refuses is told at the form, with a
// value that would pass.
func TestConsoleRefusals(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	b := openConsole(t, d)
	steps(t, b,
		func() error { return b.Press("link", "Devices") },
		func() error { return b.Press("button", "Add a device") },
		func() error { return b.Type("textbox", "Name", "Poço") },
		func() error { return b.Choose("Site", "Lagar da Ribeira") },
		func() error { return b.Choose("Model", "Junco, cistern level") },
		func() error { return b.Type("textbox", "Hostname", "Poço 1") },
		func() error { return b.Press("button", "Add") },
		func() error { return b.See("poco-1 would pass") },
		func() error { b.Forgive(); return nil }, // the browser notes the refused request
	)
}

// TestConsoleInventory: a spreadsheet's file is rehearsed as soon as it is
// chosen, refused with all its faults, and taken in once it is right.
func TestConsoleInventory(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	b := openConsole(t, d)
	file := func(rows string) func() error {
		return func() error {
			name := filepath.Join(t.TempDir(), "bancada.csv")
			if err := os.WriteFile(name, []byte("name;room;model;hardware_id\n"+rows), 0o600); err != nil {
				return err
			}
			return b.Upload(name)
		}
	}
	steps(t, b,
		func() error { return b.Press("link", "Devices") },
		func() error { return b.Choose("Site to show", "Lagar da Ribeira") },
		func() error { return b.Press("link", "Inventory") },
		file("Nora nova;Terra\xe7o;sobro-quatro;025a11000701\nBomba;Sot\xe3o;azinho;2E+10\n"),
		func() error { return b.See("1 added, 0 changed, 0 as they are, 1 refused; Windows-1252, semicolons") },
		func() error { return b.See("has no room \"Sotão\"") },
		func() error { return b.See("took the hardware id for a number and rounded it") },
		func() error { return b.See("Correct the refused rows in the spreadsheet") },
		file("Nora nova;Terra\xe7o;sobro-quatro;025a11000701\n"),
		func() error { return b.Press("button", "Take in 1 row") },
		func() error { return b.See("Taken in.") },
		func() error { return b.Press("link", "terraco-relay-2") },
		func() error { return b.See("02:5A:11:00:07:01") },
	)
}

// TestAWrongPassphraseIsCorrectedWhereItIsFound: the failed device's page takes
// the right passphrase and goes on.
func TestAWrongPassphraseIsCorrectedWhereItIsFound(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	networks, err := client.Get[[]wire.Network](t.Context(), d.Client, "/api/v1/sites/lagar/networks")
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Client.Do(t.Context(), "PATCH", client.Path("networks", networks[0].ID), wire.NetworkEdit{Passphrase: new("not the passphrase")}, nil); err != nil {
		t.Fatal(err)
	}
	sighted(t, d, "02:5A:11:00:00:1B")
	run(t, d, "/api/v1/devices/terraco-relay-1/commission", struct{}{})
	b := openConsole(t, d)
	steps(t, b,
		func() error { return b.Press("link", "Rega do pátio") },
		func() error { return b.See("the access point refused the passphrase") },
		func() error { return b.Type("textbox", "Passphrase of lagar-casa", demo.Passphrase("lagar")) },
		func() error { return b.Press("button", "Correct it and try again") },
		func() error { return b.See("Rega do pátio is adopted and proven.") },
		func() error { return b.See("proven by effect") },
	)
}

// TestConsoleSignOff checks a site, answers for a lamp from a phone, has another
// unit take the place of one, and retires a device.
func TestConsoleSignOff(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	const fresh = "02:5A:11:00:00:A6"
	unpack(t, d, "pardal", "alecrim-luz", fresh, "set up by somebody else")
	sighted(t, d, "02:5A:11:00:00:14")
	for _, device := range []string{"adega-lamp-1", "adega-level-1"} {
		if x := run(t, d, client.Path("devices", device, "commission"), wire.Commissioning{Prepared: true}); x.Status != task.Done {
			t.Fatalf("%s: %+v", device, x.Failure)
		}
	}
	b := openConsole(t, d)
	steps(t, b,
		func() error { return b.Choose("Site to show", "Lagar da Ribeira") },
		func() error { return b.Press("link", "Sign-off") },
		func() error { return b.See("1 of 2") },
		func() error { return b.See("2.0.1 instead of 2.1.0") },
		func() error { return b.Choose("Room", "Adega") },
		func() error { return b.Press("button", "Check this room") },
		func() error { return b.See("1 of 2") },
		func() error { return b.Size(390, 800) },
		func() error { return b.Press("link", "I am beside Luz da adega") },
		func() error { return b.Press("button", "Let it blink") },
		func() error { return b.See("The unit beside you blinks: it is Luz da adega.") },
		func() error { return b.Press("button", "Yes") },
		func() error { return b.See("seen by marta") },
		func() error { return b.Press("button", "Switch lamp over and back") },
		func() error { return b.See("Lamp of Luz da adega went on for 3 seconds, then off again.") },
		func() error { return b.Press("button", "No") },
		func() error { return b.See("not so, says marta") },
		func() error { return b.Size(1280, 800) },
		func() error { return b.Press("link", "To its page") },
		func() error { return b.See("lamp follows, as a person sees") },
		func() error { return b.Press("button", "Replace its unit") },
		func() error { return b.Type("textbox", "Hardware id of the new unit", "02:5A:11:00:00:10") },
		func() error { return b.Press("button", "Replace it") },
		func() error { return b.See("is the hardware id of Prensa e moinho") },
		func() error { b.Forgive(); return nil },
		func() error { return b.Choose("A unit that was seen", "Pardal 0000A6 ("+fresh+")") },
		func() error { return b.Press("button", "Replace it") },
		func() error { return b.See("is to be filled by") },
		func() error { return b.Press("button", "Done") },
		func() error { return b.See("Unit before") },
		func() error { return b.Press("button", "Retire") },
		func() error { return b.Press("button", "Retire it") },
		func() error { return b.See("is retired.") },
	)
	if x := deviceOf(t, d, "02:5A:11:00:00:A6"); x.Stage != "retired" {
		t.Errorf("%+v", x)
	}
}

// TestConsoleChanges collects changes of a unit in service, looks at what would
// be sent, applies them, and sees its login.
func TestConsoleChanges(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	onAir(t, d, "02:5A:11:00:00:1F")
	id := deviceOf(t, d, "portaria-relay-1").ID
	b := openConsole(t, d)
	steps(t, b,
		func() error { return b.Go(d.URL + "/devices/" + id) },
		func() error { return b.See("Before: Take it out of the maker's own cloud") },
		func() error { return b.Press("button", "Commission") },
		func() error { return b.Has("dialog", "Before Portão is commissioned") },
		func() error { return b.Press("button", "This is done, commission it") },
		func() error { return b.See("messages page, is saved; the unit restarts") },
		func() error { return b.See("Portão is adopted and proven.") },
		func() error { return b.Choose("Setting to change", "Port S2, function") },
		func() error { return b.Choose("New value of Port S2, function", "contact") },
		func() error { return b.Press("button", "Intend") },
		func() error { return b.See("1 setting not on the unit as intended") },
		func() error { return b.Choose("Setting to change", "Restart every so many days") },
		func() error { return b.Type("spinbutton", "New value of Restart every so many days", "14") },
		func() error { return b.Press("button", "Intend") },
		func() error { return b.See("2 settings not on the unit as intended") },
		func() error { return b.See("2 restarts in all.") },
		func() error { return b.Press("link", "Drift") },
		func() error { return b.See("2 settings on 1 device") },
		func() error { return b.Press("checkbox", "All") },
		func() error { return b.Press("button", "Correct 1 unit") },
		func() error { return b.See("Every unit that has reported holds what is intended.") },
		func() error { return b.Go(d.URL + "/devices/" + id) },
		func() error { return b.See("Portão holds its settings as intended.") },
		func() error { return b.Press("button", "Show its login") },
		func() error { return b.Type("textbox", "Your password", d.Password) },
		func() error { return b.Press("button", "Show it") },
		func() error { return b.See("Key of its access point") },
	)
}

// TestConsoleDialects edits a dialect that is checked as one types, tries it
// against a described unit, and keeps it; and looks at what a scheme would rename.
func TestConsoleDialects(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	read := func(name string) string {
		file, err := os.ReadFile("../../docs/examples/" + name)
		if err != nil {
			t.Fatal(err)
		}
		return string(file)
	}
	do(t, d, "PUT", "/api/v1/models", wire.FileText{File: read("melro-model.yaml")})
	b := openConsole(t, d)
	file := read("melro.yaml")
	steps(t, b,
		func() error { return b.Press("link", "Dialects") },
		func() error { return b.See("sleep, and wake for moments") },
		func() error { return b.Press("link", "New dialect") },
		func() error { return b.See("no fault") },
		func() error { return b.Fill("Dialect file", strings.Replace(file, "{wifi.ssid}", "{wifi.sid}", 1)) },
		func() error { return b.See("there is no placeholder {wifi.sid} — did you mean \"wifi.ssid\"?") },
		func() error { return b.Fill("Dialect file", file) },
		func() error { return b.See("no fault") },
		func() error { return b.Press("DisclosureTriangle", "The simulated unit, described by a file") },
		func() error { return b.Fill("Unit file", read("melro-unit.yaml")) },
		func() error { return b.Press("button", "Try it against a simulated unit") },
		func() error { return b.See("The dialect works with this unit.") },
		func() error { return b.Press("button", "Save") },
		func() error { return b.Has("heading", "Melro bell relays") },
		func() error { return b.See("spoken by melro") },
		func() error { return b.Go(d.URL + "/sites/lagar/names") },
		func() error { return b.See("Every device has the name that this scheme makes.") },
		func() error { return b.Fill("Topics", "{site}/{kind}/{room}-{number}") },
		func() error { return b.See("26 devices, 0 of them in service") },
		func() error { return b.See("was lagar/terraco/relay-1") },
		func() error { return b.Fill("Topics", "{site}/#") },
		func() error { return b.See("would pass") },
		func() error { b.Forgive(); return nil }, // the browser notes the refused request
	)
}

// TestConsoleFirmware: which version runs where; a release is taken, seen to suit a
// device, and brought to it. What a maker wrote of it is shown, and nothing more.
func TestConsoleFirmware(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	const device = "adega-level-1"
	if x := commissioned(t, d, device); x.Status != task.Done {
		t.Fatalf("%+v", x.Failure)
	}
	do(t, d, "PUT", "/api/v1/goals", wire.Goal{Site: "lagar", Model: "junco"})
	do(t, d, "PUT", "/api/v1/goals", wire.Goal{Site: "lagar", Channel: "stable"})
	publish(t, d, sim.ReleaseSpec{Firmware: "junco", Version: "2.2.0", Models: []string{"junco"}, Chip: "x1", SizeKiB: 384,
		Notes: "**Readings** twice as often. <b>Bold</b> ![a picture](http://maker.example/seen.png)\n\n* See [the list](http://maker.example/list)"})
	b := openConsole(t, d)
	steps(t, b,
		func() error { return b.Press("link", "Firmware") },
		func() error { return b.Has("link", "1 device, junco at lagar, version 2.0.1") },
		func() error { return b.Press("button", "Read "+d.Scenario.Feed+" now") },
		func() error { return b.See("Readings twice as often.") },
		func() error { return b.See("the list (http://maker.example/list)") },
		func() error { return b.Press("button", "Take junco 2.2.0") },
		func() error { return b.Has("button", "Withdraw junco 2.2.0") },
	)
	if list, err := client.Get[[]wire.Image](t.Context(), d.Client, "/api/v1/images?model=junco"); err != nil || !slices.ContainsFunc(list, func(i wire.Image) bool { return i.Version == "2.2.0" && i.SignedBy != "" }) {
		t.Errorf("%+v %v", list, err)
	}
	steps(t, b,
		func() error { return b.Go(d.URL + "/devices/" + deviceOf(t, d, device).ID) },
		func() error { return b.See("by 2 versions") },
		func() error { return b.Press("button", "Which images suit it?") },
		func() error { return b.See("junco goes from 2.0.1 to 2.2.0") },
		func() error { return b.Press("button", "Update to 2.2.0") },
		func() error { return b.See("2.0.1 → 2.2.0") },
		func() error { return b.See("succeeded") },
	)
}

// TestConsoleHubAndMessages: a hub that forgot is brought in step from its page; what is
// said is narrowed and paused; how a unit does is drawn; report and label open.
func TestConsoleHubAndMessages(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	for _, x := range []string{"adega-level-1", "adega-lamp-1"} {
		if got := commissioned(t, d, x); got.Status != task.Done {
			t.Fatalf("%+v", got.Failure)
		}
	}
	b := openConsole(t, d)
	hubFault(t, d, "forgets")
	steps(t, b,
		func() error { return b.Press("link", "Hubs") },
		func() error { return b.See("The hub has lost it.") },
		func() error { return b.Press("button", "Bring it in step") },
		func() error { return b.See("2 as they should be") },
		func() error { return b.Press("link", "Messages") },
		func() error { return b.See("Lamp off, Brightness") },
		func() error { return b.Choose("Kind", "health") },
		func() error { return b.See("free_memory") },
		func() error { return b.Press("button", "Pause") },
		func() error { return b.See("Paused; nothing is lost meanwhile.") },
		func() error { return b.Type("searchbox", "Text in topic or payload", "no such text") },
		func() error { return b.See("Nothing was said in the last hour that fits.") },
		func() error { return b.Go(d.URL + "/devices/" + deviceOf(t, d, "adega-level-1").ID) },
		func() error { return b.See("Between two readings") }, // within a minute, which is seconds here
		func() error { return b.Press("link", "as they come") },
		func() error { return b.See("Only Nível da talha") },
		func() error { return b.Go(d.URL + "/api/v1/sites/lagar/report.html") },
		func() error { return b.See("24 devices are not in service yet") },
		func() error { return b.Go(d.URL + "/api/v1/sites/lagar/labels.html") },
		func() error { return b.See("adega-level-1") },
	)
}

// TestConsoleRollouts: planned in a form, seen, started, held by a unit that refuses its
// image, let go on with a reason, and done; then a plan to take it back.
func TestConsoleRollouts(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	for _, x := range []string{"adega-level-1", "casa-da-bomba-level-1"} {
		if got := commissioned(t, d, x); got.Status != task.Done {
			t.Fatalf("%+v", got.Failure)
		}
	}
	fault(t, d, deviceOf(t, d, "adega-level-1").HardwareID, "corrupted image", 0)
	b := openConsole(t, d)
	steps(t, b,
		func() error { return b.Press("link", "Rollouts") },
		func() error { return b.See("No rollout was planned yet.") },
		func() error { return b.Fill("Name", "Winter") },
		func() error { return b.Fill("Trial (else one a model is suggested)", "casa-da-bomba-level-1") },
		func() error { return b.Fill("Gate: soak, minutes", "1") },
		func() error { return b.Press("button", "Show the plan") },
		func() error { return b.Has("heading", "Winter draft") },
		func() error { return b.See("It is started by a person.") },
		func() error { return b.See("Nível da talha") },
		func() error { return b.Press("button", "Start it") },
		func() error { return b.See("Gate: all 9 hold") },
		func() error { return b.Has("heading", "Winter held") },
		func() error { return b.See("refused the image: the image's digest is not the one that was said") },
		func() error { return b.Press("link", "Attention") },
		func() error { return b.Press("link", "Winter") },
		func() error { return b.Type("textbox", "Why it may go on", "The reading is fetched by hand.") },
		func() error { return b.Press("button", "Go on all the same") },
		func() error { return b.Has("heading", "Winter done") },
		func() error { return b.See("marta let it go on: The reading is fetched by hand.") },
		func() error { return b.Press("button", "Try Nível da talha again") },
		func() error { return b.See("2 succeeded") },
		func() error { return b.Press("button", "Plan to take it back") },
		func() error { return b.Has("heading", "Back from Winter draft") },
		func() error { return b.Press("button", "left out") },
		func() error { return b.See("The library does not have the image of 2.0.1 that it ran before.") },
	)
}

// TestConsoleIsAccessible runs axe on every page in both themes and at both
// widths, and fails on any console error.
func TestConsoleIsAccessible(t *testing.T) {
	long(t)
	t.Parallel()
	d := startDemo(t, 8, "", nil)
	sighted(t, d, "02:5A:11:00:00:A0")
	run(t, d, client.Path("devices", "adega-level-1", "commission"), struct{}{})
	fault(t, d, "02:5A:11:00:00:1A", "unplugged", 0)
	run(t, d, client.Path("devices", "lavandaria-level-1", "commission"), struct{}{})
	do(t, d, "PATCH", "/api/v1/devices/adega-level-1/settings", map[string]any{"report.interval_seconds": 60})
	do(t, d, "PATCH", "/api/v1/devices/adega-level-1", wire.DeviceEdit{Label: new("Talha grande")})
	id := func(ref string) string {
		x, err := client.Get[wire.Device](t.Context(), d.Client, client.Path("devices", ref))
		if err != nil {
			t.Fatal(err)
		}
		return x.ID
	}
	images, err := client.Get[[]wire.Image](t.Context(), d.Client, "/api/v1/images?model=junco")
	if err != nil {
		t.Fatal(err)
	}
	fault(t, d, deviceOf(t, d, "adega-level-1").HardwareID, "corrupted image", 0)
	rolling := planned(t, d, wire.RolloutPlan{Image: images[0].SHA256})
	mustSteer(t, d, rolling.ID, "start", wire.Steering{})
	waitFor(t, "the rollout that is held", func() bool { return rolloutNow(t, d, rolling.ID).Status == rollout.Held })
	b := openConsole(t, d)
	for _, p := range []struct{ path, see string }{
		{"/rollouts", "Show the plan"}, {"/rollouts/" + rolling.ID, "Nothing more begins."},
		{"/", "What needs you"}, {"/devices", "35 devices"}, {"/devices/" + id("adega-level-1"), "proven by effect"}, {"/devices/" + id("lavandaria-level-1"), "Likely cause"},
		{"/bench", "fado-"}, {"/sign-off", "Nível da talha"}, {"/devices/" + id("adega-level-1") + "/beside", "Let it blink"}, {"/drift", "2 settings on 1 device"}, {"/hubs", "1 as it should be"}, {"/messages", "Water level"}, {"/dialects", "Coruja"}, {"/dialects/andorinha", "no fault"}, {"/sites/lagar/names", "Would be renamed"}, {"/sites/lagar/inventory", "CSV file"}, {"/firmware", "1.4.0"}, {"/activity", "marta"}, {"/devices?add=1", "Set-up code"}, {"/nowhere", "no such page"},
	} {
		for _, theme := range []string{"light", "dark"} {
			for _, width := range []int64{1280, 390} {
				if theme == "dark" && width == 390 {
					continue // themes differ in colours, widths in layout
				}
				steps(t, b,
					func() error { return b.Size(width, 800) },
					func() error { return b.Go(d.URL + p.path) },
					func() error { return b.Theme(theme) },
					func() error { return b.See(p.see) },
				)
				found, err := b.Axe(axe)
				if err != nil {
					t.Fatal(err)
				}
				for _, f := range found {
					t.Errorf("%s, %s, %d wide: %s", p.path, theme, width, f)
				}
			}
		}
	}
}

// TestConsoleSaysWhenTheServiceIsGone: nobody looks at an old page unknowingly.
func TestConsoleSaysWhenTheServiceIsGone(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	b := openConsole(t, d)
	d.Stop()
	if err := b.Press("link", "Firmware"); err != nil {
		t.Fatal(err)
	}
	if err := b.See("Fado does not answer"); err != nil {
		t.Fatal(err)
	}
}
