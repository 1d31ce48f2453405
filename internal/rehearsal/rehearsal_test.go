package rehearsal

import (
	"fmt"
	"io/fs"
	"os"
	"strings"
	"testing"
	"testing/synctest"

	demodata "fado/demo"
	"fado/dialects"
	"fado/internal/carrier/carriertest"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/sim"
)

func job(t testing.TB, model string) Job {
	t.Helper()
	b, err := fs.ReadFile(demodata.Files, "models/"+model+".yaml")
	if err != nil {
		t.Fatal(err)
	}
	m, err := inventory.ParseModel(b)
	if err != nil {
		t.Fatal(err)
	}
	if b, err = fs.ReadFile(dialects.Files, m.Dialect+".yaml"); err != nil {
		t.Fatal(err)
	}
	d, faults := dialect.Parse(m.Dialect, b)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return Job{Dialect: d, Model: m, Unit: Spec(m)}
}

func told(o Outcome) string {
	var b strings.Builder
	for _, s := range o.Steps {
		fmt.Fprintf(&b, "%v %s: %s\n", s.Works, s.Title, s.Note)
		for _, x := range s.Exchanges {
			fmt.Fprintf(&b, "    %s %s -> %s %s\n", x.Request, x.Body, x.Reply, x.Error)
		}
	}
	return b.String()
}

const nasty = `"Ä" & 1%=? {topic} 🫒 \`

// TestNastyValuesThroughEveryFamily: every setting that a family can be told
// arrives at its simulated unit as it was typed, and is read back the same.
func TestNastyValuesThroughEveryFamily(t *testing.T) {
	values := settings.Values{
		settings.WifiSSID: nasty, settings.WifiPassphrase: secret.New(`p&s=w "x" %20 {y}`), settings.WifiFallbackSSID: "<b>&amp; +", settings.WifiFallbackPass: secret.New(`+%2B&"'{}`),
		settings.Label: `L «ä» & 100% "q" {label}`, settings.AccessPassword: secret.New(`: & % " {a} 🫒`), settings.AccessPointKey: secret.New(`k&=% "x" +`),
		settings.UpkeepDays: int64(30), settings.ClockServer: "time.lan", settings.AddressMode: "fixed", settings.AddressIP: "192.168.40.77", settings.AddressPrefix: int64(23),
		settings.AddressGateway: "192.168.41.1", settings.AddressDNS: "192.168.41.2", settings.BrokerTLS: false,
	}
	for model, more := range map[string]settings.Values{
		"sobro-quatro": {"port.S1.function": "button", "report.S1.topic": "pressed/s1", "report.S1.payload": `{"&": "100% ä"}`, "power_up.relay-1.state": "on"},
		"sobro-um":     {"port.S2.function": "button", "report.S2.topic": "pressed", "report.S2.payload": `"on" & 100% = ä`, "power_up.relay.state": "off"},
		"alecrim-fita": {"port.AUX.function": "button", settings.LoadCount: int64(12), settings.LoadWidth: int64(4), settings.LoadHeight: int64(3), settings.LoadCorner: "bottom right",
			settings.LoadDirection: "columns", settings.LoadBackForth: true, settings.LoadLimit: int64(60)},
		"urze-ar": {},
	} {
		t.Run(model, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				j := job(t, model)
				j.Net = carriertest.New()
				j.Values = settings.Values{}
				for _, m := range []settings.Values{values, more} {
					for k, v := range m {
						j.Values[k] = v
					}
				}
				o, err := Run(t.Context(), j)
				if err != nil || !o.Works {
					t.Fatalf("%v\n%s", err, told(o))
				}
				subject := dialect.Subject{Model: j.Model, Version: "3.0.0"}
				equal := 0
				for k, v := range o.Want {
					if !j.Dialect.Supports(k, subject) || !j.Dialect.ReadsBack(k, subject) {
						continue
					}
					if o.Got[k] != v {
						t.Errorf("%s went in as %q and came back as %q", k, v, o.Got[k])
					}
					equal++
				}
				if equal < 12 {
					t.Errorf("only %d settings were compared", equal)
				}
				if all := told(o); strings.Contains(all, "p&s=w") || strings.Contains(all, "palco") {
					t.Errorf("a secret is in the record:\n%s", all)
				}
			})
		})
	}
}

// TestTheTutorialsUnit: the fifth firmware of docs/dialects.md, with its dialect,
// its model and its unit from files alone.
func TestTheTutorialsUnit(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		read := func(name string) []byte {
			b, err := os.ReadFile("../../docs/examples/" + name)
			if err != nil {
				t.Fatal(err)
			}
			return b
		}
		d, faults := dialect.Parse("melro.yaml", read("melro.yaml"))
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		m, err := inventory.ParseModel(read("melro-model.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		u, err := sim.ParseDescribed(read("melro-unit.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		o, err := Run(t.Context(), Job{Dialect: d, Model: m, Unit: DescribedSpec(u, m), Net: carriertest.New(), Values: settings.Values{settings.WifiSSID: nasty, settings.Label: "«&»"}})
		if err != nil || !o.Works || o.Got[settings.WifiSSID] != nasty || o.Got[settings.BrokerPort] != o.Want[settings.BrokerPort] {
			t.Fatalf("%v %v\n%s", err, o.Got, told(o))
		}
		// Mistakes that a beginner makes end in the step that shows them.
		for _, c := range []struct{ from, to, step, says string }{
			{`"melro {digits}"`, `"merlo {digits}"`, "Join its access point", "melro 025a110e00a1"},
			{"get: /who", "get: /whom", "Join its access point", "404"},
			{"read_json: {hardware_id: /id, version: /sw, address: /lan}\n\nsettings", "read_json: {hardware_id: /no/such/0, version: /sw}\n\nsettings", "Join its access point", `hardware id is ""`},
			{"read_json: {hardware_id: /id, version: /sw, address: /lan}\n\nsettings", "read_text: {hardware_id: '^never (?<value>.+)$'}\n\nsettings", "Join its access point", `hardware id is ""`},
			{"{hardware_id: /id, version: /sw, address: /lan}}\n  - kind", "{hardware_id: /ident, version: /sw, address: /lan}}\n  - kind", "See it on the broker", "hardware id"},
			{"address: /lan}}\n  - kind", "address: /ip}}\n  - kind", "Read its settings", "address"},
			{"label: /shown", "label: /called", "", ""},
			{"wifi.ssid: /net, hostname", "wifi.ssid: /host, hostname", "Read its settings", "wifi.ssid is ensaio-1"},
			{"{ring: \"true\"", "{rign: \"true\"", "Command bell", "reads as true"},
			{"post: /software", "post: /soft", "", ""},
		} {
			file := strings.Replace(string(read("melro.yaml")), c.from, c.to, 1)
			if file == string(read("melro.yaml")) {
				t.Errorf("%q is not in the file", c.from)
				continue
			}
			d, faults := dialect.Parse("melro.yaml", []byte(file))
			if len(faults) > 0 {
				t.Fatal(c.to, faults)
			}
			o, err := Run(t.Context(), Job{Dialect: d, Model: m, Unit: DescribedSpec(u, m), Net: carriertest.New()})
			if err != nil {
				t.Fatal(err)
			}
			last := o.Steps[len(o.Steps)-1]
			if o.Works != (c.step == "") || c.step != "" && (!strings.HasPrefix(last.Title, c.step) || !strings.Contains(last.Note, c.says)) {
				t.Errorf("%s: works %v, last step %q: %s", c.to, o.Works, last.Title, last.Note)
			}
		}
	})
}

func TestDescribedUnitsAreCheckedWhole(t *testing.T) {
	for file, says := range map[string]string{
		"": "name", "unit: x": "access_point", "unit: x\naccess_point: {name: a}": "pages", "unti: x": "unti",
		"unit: x\naccess_point: {name: a}\npages: [{get: /a, put: /b}]":                             "one of get",
		"unit: x\naccess_point: {name: a}\npages: [{get: a}]":                                       "path",
		"unit: x\naccess_point: {name: a}\npages: [{put: /a, keeps: {net: n}}]":                     "no slot",
		"unit: x\naccess_point: {name: a}\nslots: {net: \"\"}\npages: [{get: /a, text: \"{nte}\"}]": "{nte}",
		strings.Repeat("#", 300<<10):                                                                "at most",
	} {
		if _, err := sim.ParseDescribed([]byte(file)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%.60q: %v", file, err)
		}
	}
}
