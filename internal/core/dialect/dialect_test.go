package dialect

import (
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"mime/multipart"
	"net/url"
	"slices"
	"strings"
	"testing"

	"fado/dialects"
	"fado/internal/core/inventory"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
)

func shipped(t testing.TB, fsys fs.FS, name string) *Dialect {
	t.Helper()
	file, err := fs.ReadFile(fsys, name)
	if err != nil {
		t.Fatal(err)
	}
	d, faults := Parse(name, file)
	if len(faults) > 0 {
		t.Fatalf("%s: %v", name, faults)
	}
	return d
}

func TestShippedFilesAndDrafts(t *testing.T) {
	shipped(t, dialects.Files, "direct.yaml")
	for _, name := range []string{"andorinha", "pardal", "coruja"} {
		if d := shipped(t, dialects.Files, ""+name+".yaml"); d.Name != name {
			t.Errorf("%s calls itself %s", name, d.Name)
		}
	}
}

func TestFaultsNameThePlace(t *testing.T) {
	good, _ := fs.ReadFile(dialects.Files, "direct.yaml")
	cases := []struct{ from, to, what, suggest string }{
		{"read_back:", "read_bak:", `no key "read_bak"`, `"read_back"`},
		{`ssid: "{wifi.ssid}"`, `ssid: "{wifi.sid}"`, "{wifi.sid}", `"wifi.ssid"`},
		{"sets: [wifi.ssid,", "sets: [wifi.sid,", `no setting "wifi.sid"`, `"wifi.ssid"`},
		{"get: /unit", "get: http://elsewhere.example/unit", "no path on the unit", "/settings"},
		{"get: /unit", "get: //elsewhere.example/unit", "no path on the unit", "/settings"},
		{"get: /unit", "get: /unit\n  post: /unit", "has 2", "keep one"},
		{`topic: "{topic}/presence"`, `topic: "all/presence"`, "starts with {topic}", "{topic}"},
		{`topic: "{topic}/presence"`, `topic: "{topic}/+"`, "no wildcard", "{topic}"},
		{"hardware_id: /hardware_id\n    model: /model\n    firmware: /firmware/name\n    version: /firmware/version\n    digest: /firmware/digest\n    trouble", "trouble", "must read hardware_id", ""},
		{"{digits}", "{hardware}", "must carry", "fado-"},
		{"model: /model", "model: model", "JSON Pointer", "/model"},
		{"wifi.ssid: /wifi/ssid\n        wifi.fallback_ssid", "wifi.passphrase: /x\n        wifi.fallback_ssid", "is a secret", "leave it out"},
		{"grammar: 1", "grammar: 2", "value must be 1", ""},
		{"commit: {post", "commit: &a {post", "anchors", "write"},
		{"at: \"http://10.47.0.1\"", "at: \"ftp://10.47.0.1\"", "set-up pages", "http"},
		{"  at:", " at:", "", ""},
	}
	for _, c := range cases {
		broken := strings.Replace(string(good), c.from, c.to, 1)
		if broken == string(good) {
			t.Errorf("%q is not in the file", c.from)
			continue
		}
		d, faults := Parse("x.yaml", []byte(broken))
		if d != nil || len(faults) == 0 {
			t.Errorf("%s was accepted", c.to)
			continue
		}
		f := faults[0]
		if !strings.Contains(f.What, c.what) || !strings.Contains(f.Suggest, c.suggest) || f.Line < 1 || f.Column < 1 {
			t.Errorf("%s: %v", c.to, faults)
		}
		wanted := strings.Count(broken[:strings.Index(broken, c.to)], "\n") + 1
		if c.what != "" && c.to != "trouble" && (f.Line < wanted-2 || f.Line > wanted+2) {
			t.Errorf("%s: fault at line %d, the change is at line %d: %v", c.to, f.Line, wanted, f)
		}
	}
	for _, bad := range []string{"", "- a", "a: b", strings.Repeat("# x\n", MaxFile)} {
		if d, faults := Parse("x", []byte(bad)); d != nil || len(faults) == 0 {
			t.Errorf("%.10q was accepted", bad)
		}
	}
}

// TestFaultsOfTheFamilies: what the other files can get wrong, each with its
// place and what would pass.
func TestFaultsOfTheFamilies(t *testing.T) {
	for _, c := range []struct{ file, from, to, what, suggest string }{
		{"andorinha", "kind: basic", "kind: basik", "must be one of", ""},
		{"andorinha", "factory: {}}", "form: {post: /in}}", "has no form", "form"},
		{"pardal", "kind: digest", "kind: form", "needs its form", "form"},
		{"pardal", "kind: digest, user", "kind: token, form: {post: /in}, header: Host, value: x, user", "token", "Bearer"},
		{"pardal", "kind: digest, user", "kind: token, form: {post: /in, read_json: {token: /t}}, header: Host, value: \"{token}\", user", `header "Host"`, "X-"},
		{"andorinha", `at: "http://{address}"`, `at: "http://elsewhere.example"`, "own {address}", "http"},
		{"andorinha", `at: "http://{address}"`, `at: "http://{address}.example"`, "own {address}", "http"},
		{"coruja", "by: messages", "by: pages", "own {address}", ""},
		{"coruja", `publish: "{topic}/keep"`, "post: /keep", "a setting is published", "publish"},
		{"andorinha", `does_{port.pin}": "{port.function}"`, `does_{port.pin}": "{report.payload}"`, "", ""},
		{"andorinha", `does_{port.pin}"`, `does_{port.pin}_{report.pin}"`, "mixes items", "two parts"},
		{"andorinha", `(?<pin>\S+) does`, `(?<pim>\S+) does`, `no "pim"`, "pin"},
		{"andorinha", `^(?<pin>\S+) does (?<function>\S+)$`, `^does (?<function>\S+)$`, "which port", "label"},
		{"pardal", "name: pin,", "name: pinn,", `cannot be "pinn"`, "pin"},
		{"pardal", "power_up: {in: /begin", "powerup: {in: /begin", `no family of settings "powerup"`, "power_up"},
		{"andorinha", "pause: \"{report.interval_seconds}\"}\n    scale: {report.interval_seconds: 0.001}", "pause: \"{report.interval_seconds}\"}\n    scale: {report.interval_seconds: -1}", "more than 0", "0.1"},
		{"andorinha", "  get: /about\n  retries: 2", "  get: /about\n  retries: 2\n  until: {ready: yes}", "never read", "read_json"},
		{"andorinha", "  get: /about\n  retries: 2", "  get: /about\n  until: {version: x}", "needs retries and wait_ms", "retries: 5"},
		{"andorinha", "  retries: 2", "  retries: 1000", "maximum", ""},
		{"andorinha", "  retries: 2", "  retries: 2\n  wait_ms: 3600000", "maximum", ""},
		{"andorinha", "  retries: 2", "  retries: 2\n  headers: {Content-Length: \"9\"}", `header "Content-Length"`, "X-"},
		{"pardal", "backup: {get: /api/flash}", `backup: {publish: "{topic}/flash"}`, "not by a message", "get"},
		{"pardal", "read_json: {state.lamp: /lamp/on, state.level: /lamp/level}", "read_json: {value: /lamp/on}", "whose value", "{capability}"},
		{"coruja", "read_json: {hardware_id: /mac, version: /fw, awake_seconds", "read_json: {version: /fw, awake_seconds", "which unit woke", "hardware_id"},
		{"coruja", "{wifi.ssid: /w/0, wifi.fallback_ssid: /w/1, hostname: /h,", "{wifi.passphrase: /w/0, wifi.fallback_ssid: /w/1, hostname: /h,", "is a secret", "leave it out"},
		{"pardal", "{presence: /up}", "{presense: /up}", "presence", "online"},
	} {
		good, _ := fs.ReadFile(dialects.Files, c.file+".yaml")
		broken := strings.Replace(string(good), c.from, c.to, 1)
		if broken == string(good) {
			t.Errorf("%s: %q is not in the file", c.file, c.from)
			continue
		}
		_, faults := Parse(c.file, []byte(broken))
		if c.what == "" {
			continue
		}
		found := false
		for _, f := range faults {
			found = found || strings.Contains(f.What, c.what) && strings.Contains(f.Suggest, c.suggest) && f.Line > 1
		}
		if !found {
			t.Errorf("%s with %q: %v", c.file, c.to, faults)
		}
	}
	for _, c := range []struct{ file, suggest string }{
		{"dialect: x\ntitle: X\n", "add grammar"}, {"dialect: X!\ntitle: X\ngrammar: 1", "lower-case"}, {"dialect: x\ntitle: 7\ngrammar: 1", "a text"}, {"dialect: [x", "indented"},
	} {
		_, faults := Parse("x", []byte(c.file))
		found := false
		for _, f := range faults {
			found = found || strings.Contains(f.Suggest, c.suggest)
			if f.Suggest == "" {
				t.Errorf("%q: no suggestion for %v", c.file, f)
			}
		}
		if !found {
			t.Errorf("%q: %v", c.file, faults)
		}
	}
	if _, faults := Parse("x", []byte(strings.Repeat("a: b\n", 2<<20))); len(faults) != 1 || !strings.Contains(faults[0].What, "10485760 bytes long") {
		t.Errorf("a file of 10 MB: %v", faults)
	}
	if _, faults := Parse("x", []byte("dialect: &a x\ntitle: *a\n")); len(faults) != 1 || !strings.Contains(faults[0].What, "aliases") || faults[0].Line != 1 {
		t.Errorf("aliases: %v", faults)
	}
}

// TestScalesAndFamilies: numbers in the unit's own measure, one item a port, and
// both read back the same.
func TestScalesAndFamilies(t *testing.T) {
	m := inventory.Model{Ports: []inventory.Port{{Label: "K", Pin: "D5"}, {Label: "S", Pin: "D0"}}, Capabilities: []inventory.Capability{{Name: "relay", Kind: inventory.Switch}}}
	want := settings.Values{settings.ReportSeconds: int64(45), "port.K.function": "relay", "port.S.function": "button", "report.S.topic": "a/b", "report.S.payload": "x y", "power_up.relay.state": "last"}
	a := shipped(t, dialects.Files, "andorinha.yaml")
	form := url.Values{}
	for _, p := range a.Plan(want, none, Subject{Version: "3.0"}, AtService).Pages {
		r, err := p.Encode(Values{}.Merge(want, m))
		if err != nil {
			t.Fatal(err)
		}
		f, _ := url.ParseQuery(string(r.Body))
		for k, v := range f {
			form[k] = v
		}
	}
	for k, v := range map[string]string{"pause": "45000", "does_D5": "relay", "does_D0": "button", "say_D0": "a/b x y", "start_relay": "as it was"} {
		if form.Get(k) != v {
			t.Errorf("%s is %q, want %q", k, form.Get(k), v)
		}
	}
	got := settings.Values{}
	for i, reply := range []string{"pause 45000\r\n", "D5 does relay\nD0 does button\nrelay starts as it was\nD0 says a/b x y\n"} {
		for _, x := range a.Readers(Subject{Version: "3.0"}) {
			if (x.Get == "/pins") != (i == 1) || x.Get == "/door" || x.Get == "/link" {
				continue
			}
			f, err := x.Read([]byte(reply))
			if err != nil {
				t.Fatal(err)
			}
			for k, v := range SettingsIn(f, m) {
				got[k] = v
			}
		}
	}
	for k, v := range want {
		if got[k] != v {
			t.Errorf("%s came back as %v, want %v", k, got[k], v)
		}
	}
	p := shipped(t, dialects.Files, "pardal.yaml")
	for _, page := range p.Plan(want, none, Subject{}, AtService).Pages {
		r, err := page.Encode(Values{}.Merge(want, m))
		if err != nil {
			t.Fatal(err)
		}
		if page.Title == "lamp" && string(r.Body) != `{"begin":[{"as":"last","part":"relay"}],"pins":{"D0":"button","D5":"relay"}}` {
			t.Errorf("%s", r.Body)
		}
	}
	var lamp *Exchange
	for _, x := range p.Readers(Subject{}) {
		if x.Get == "/api/now/lamp" {
			lamp = x
		}
	}
	f, err := lamp.Read([]byte(`{"pins":{"D5":"relay","??":"x"},"begin":[{"part":"relay","as":"last"},7],"lamps":12,"field":{"from":"se"}}`))
	s := SettingsIn(f, m)
	if err != nil || s["port.K.function"] != "relay" || s["power_up.relay.state"] != "last" || s[settings.LoadCount] != int64(12) || s[settings.LoadCorner] != "bottom right" {
		t.Errorf("%v %v", s, err)
	}
}

func TestStatesComeInTheirKinds(t *testing.T) {
	m := inventory.Model{Capabilities: []inventory.Capability{{Name: "relay", Kind: inventory.Switch}, {Name: "power", Kind: inventory.Measure}, {Name: "lamp", Kind: inventory.Switch}, {Name: "level", Kind: inventory.Dimmer}}}
	for _, c := range []struct {
		dialect, topic, payload string
		want                    string
	}{
		{"andorinha", "t/relay", "closed", "map[relay:true]"},
		{"andorinha", "t/relay", "half open", "map[]"},
		{"andorinha", "t/power", "21.5", "map[power:21.5]"},
		{"andorinha", "t/power", "lots", "map[]"},
		{"pardal", "t/now", `{"lamp":{"on":true,"level":40}}`, "map[lamp:true level:40]"},
		{"pardal", "t/now", `{"lamp":{"on":"yes"}}`, "map[]"},
		{"direct", "t/state/relay", "false", "map[relay:false]"},
		{"direct", "t/state/other", "false", "map[]"},
	} {
		kind, f, ok := shipped(t, dialects.Files, c.dialect+".yaml").Decode("t", c.topic, []byte(c.payload))
		if got := fmt.Sprint(States(f, m)); !ok || kind != State || got != c.want {
			t.Errorf("%s %s %s: %s, want %s", c.dialect, c.topic, c.payload, got, c.want)
		}
	}
}

func TestDescribe(t *testing.T) {
	for name, says := range map[string][]string{
		"andorinha": {"stand open until Fado sets a login", "before version 2.0", "leaves it dead until a cable", "Restarts, and leaves set-up mode"},
		"pardal":    {"has one from the factory, which Fado replaces", "At the end one request makes it all true, and the unit restarts", "kept as it is"},
		"coruja":    {"It sleeps", "Replaces everything", "one that comes while it sleeps is lost"},
		"direct":    {"changed by messages on the broker", "taken back by itself"},
	} {
		text := fmt.Sprint(shipped(t, dialects.Files, name+".yaml").Describe())
		for _, s := range says {
			if !strings.Contains(text, s) {
				t.Errorf("%s: %q is not in %s", name, s, text)
			}
		}
	}
}

// BenchmarkEvaluate is one exchange: the largest document encoded from its
// values, and its reply read back.
func BenchmarkEvaluate(b *testing.B) {
	d := shipped(b, dialects.Files, "direct.yaml")
	m := inventory.Model{Ports: []inventory.Port{{Label: "K1", Pin: "P1"}, {Label: "K2", Pin: "P2"}}}
	values := settings.Values{settings.WifiSSID: nasty, settings.WifiPassphrase: secret.New("azeite virgem"), settings.Hostname: "a", settings.Label: "b", settings.BrokerHost: "10.0.0.1",
		settings.BrokerPort: int64(1883), settings.BrokerUser: "u", settings.BrokerPassword: secret.New("p"), settings.Topic: "a/b/c", settings.ClockZone: "Europe/Lisbon",
		"port.K1.function": "relay", "port.K2.function": "button"}
	page := d.Settings[0]
	may := Values{}.Merge(values, m)
	r, err := page.Encode(may)
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := page.Encode(may); err != nil {
			b.Fatal(err)
		}
		f, err := page.ReadBack.Read(r.Body)
		if err != nil || SettingsIn(f, m)[settings.WifiSSID] != nasty {
			b.Fatal(f, err)
		}
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "exchanges/s")
}

const nasty = `"Adega" & 100% 'x'; <b>=? {wifi.passphrase} 🫒 \ ` + "`"

func TestNastyValuesArriveAsTyped(t *testing.T) {
	values := Values{}.Merge(settings.Values{
		settings.WifiSSID: nasty, settings.WifiPassphrase: secret.New(nasty), settings.BrokerPort: int64(1883), settings.Hostname: "a",
	}, inventory.Model{})
	jsonPage := shipped(t, dialects.Files, "direct.yaml").Settings[0]
	r, err := jsonPage.Encode(values)
	if err != nil {
		t.Fatal(err)
	}
	var doc any
	if err := json.Unmarshal(r.Body, &doc); err != nil {
		t.Fatal(err)
	}
	for pointer, want := range map[string]any{"/wifi/ssid": nasty, "/wifi/passphrase": nasty, "/broker/port": 1883.0} {
		if got, _ := Point(doc, pointer); got != want {
			t.Errorf("%s: %v, want %v", pointer, got, want)
		}
	}
	if _, there := Point(doc, "/broker/host"); there {
		t.Error("a value that was not given was sent")
	}

	pages := shipped(t, dialects.Files, "andorinha.yaml").Settings
	formPage := pages[len(pages)-1]
	r, err = formPage.Encode(values)
	if err != nil {
		t.Fatal(err)
	}
	form, err := url.ParseQuery(string(r.Body))
	if err != nil || form.Get("net") != nasty || form.Get("key") != nasty {
		t.Errorf("form: %v, %v", form, err)
	}

	e := Exchange{Post: "/image/{hostname}", Multipart: map[string]string{"image": "{image}", "note": "{wifi.ssid}"}}
	values["image"], values["hostname"] = []byte{0, 1, 2, 255}, "a/../b?c"
	r, err = e.Encode(values)
	if err != nil || r.Path != "/image/a%2F..%2Fb%3Fc" {
		t.Fatalf("path %q, %v", r.Path, err)
	}
	_, params, _ := mime.ParseMediaType(r.ContentType)
	parts := multipart.NewReader(strings.NewReader(string(r.Body)), params["boundary"])
	for _, want := range []string{"\x00\x01\x02\xff", nasty} {
		p, err := parts.NextPart()
		if err != nil {
			t.Fatal(err)
		}
		if b, _ := io.ReadAll(p); string(b) != want {
			t.Errorf("part %s: %q", p.FormName(), b)
		}
	}
}

func TestPreviewMasks(t *testing.T) {
	page := shipped(t, dialects.Files, "direct.yaml").Settings[0]
	r, err := page.Preview(Values{}.Merge(settings.Values{settings.WifiPassphrase: secret.New("nao-mostrar"), settings.WifiSSID: "casa"}, inventory.Model{}))
	if err != nil || strings.Contains(string(r.Body), "nao-mostrar") || !strings.Contains(string(r.Body), secret.Mask) || !strings.Contains(string(r.Body), "casa") {
		t.Errorf("%s, %v", r.Body, err)
	}
}

func TestReadingReplies(t *testing.T) {
	d := shipped(t, dialects.Files, "andorinha.yaml")
	f, err := d.Identify.Read([]byte("hello\r\nunit 02:5A:11:00:00:07\r\nmade as azinho\r\nbuild 1.9.2\r\n"))
	if err != nil || f.Text("hardware_id") != "02:5A:11:00:00:07" || f.Text("version") != "1.9.2" || f.Text("model") != "azinho" {
		t.Errorf("%v, %v", f, err)
	}
	direct := shipped(t, dialects.Files, "direct.yaml")
	for _, bad := range []string{"", "{", "<html>", "{\"hardware_id\":", strings.Repeat(" ", MaxReply+1)} {
		if _, err := direct.Identify.Read([]byte(bad)); err == nil {
			t.Errorf("%.20q was read", bad)
		}
	}
	f, err = direct.Identify.Read([]byte(`{"hardware_id":7,"firmware":[]}`))
	if err != nil || f.Text("hardware_id") != "7" || f.Text("version") != "" {
		t.Errorf("wrong types: %v, %v", f, err)
	}
	list, err := direct.Networks.Read([]byte(`{"networks":[{"ssid":"casa","signal":-60},{"ssid":"mar"}]}`))
	if err != nil || len(list) != 2 || list[0].Text("ssid") != "casa" {
		t.Errorf("%v, %v", list, err)
	}
	if n, ok := list[0].Number("signal"); !ok || n != -60 {
		t.Error("signal", n, ok)
	}
	if _, err := direct.Networks.Read([]byte(`{"networks":{}}`)); err == nil {
		t.Error("a list that is none was read")
	}
}

func TestDecodeMessages(t *testing.T) {
	direct := shipped(t, dialects.Files, "direct.yaml")
	kind, f, ok := direct.Decode("casa/cave", "casa/cave/state/relay-1", []byte("true"))
	if !ok || kind != State || f["capability"] != "relay-1" || f["value"] != true {
		t.Errorf("%v %v %v", kind, f, ok)
	}
	if _, _, ok := direct.Decode("casa/cave", "casa/caveira/state/relay-1", []byte("true")); ok {
		t.Error("a neighbour's topic was taken")
	}
	if _, _, ok := direct.Decode("casa/cave", "casa/cave/state/a/b", []byte("true")); ok {
		t.Error("two levels were taken for one")
	}
	_, f, _ = direct.Decode("t", "t/state/x", []byte("not json"))
	if f.Text("unreadable") == "" {
		t.Error("an unreadable payload was not said to be one")
	}
	kind, f, _ = direct.Decode("t", "t/settings", []byte(`{"wifi":{"ssid":"casa"},"broker":{"port":1883}}`))
	if s := SettingsIn(f, inventory.Model{}); kind != Reported || s[settings.WifiSSID] != "casa" || s[settings.BrokerPort] != int64(1883) {
		t.Errorf("%v %v", kind, s)
	}
	a := shipped(t, dialects.Files, "andorinha.yaml")
	if kind, f, _ = a.Decode("t", "t/here", []byte("1")); kind != Presence || f["presence"] != "online" {
		t.Errorf("%v %v", kind, f)
	}
}

func TestCommandsInTheUnitsWords(t *testing.T) {
	a := shipped(t, dialects.Files, "andorinha.yaml")
	c, _ := a.Command("relay", Subject{})
	r, err := c.Encode(Values{"topic": "casa/x", "capability": "relay", "value": true})
	if err != nil || r.Topic != "casa/x/relay/do" || string(r.Body) != "close" {
		t.Errorf("%+v, %v", r, err)
	}
	p := shipped(t, dialects.Files, "pardal.yaml")
	limited := Dialect{Commands: []Exchange{{When: &Condition{Declares: "lamp"}, Publish: "{topic}/x"}}}
	if _, ok := limited.Command("lamp", Subject{}); ok {
		t.Error("a command for a capability that the model lacks")
	}
	c, ok := p.Command("lamp", Subject{Model: inventory.Model{Capabilities: []inventory.Capability{{Name: "lamp"}}}})
	if r, err = c.Encode(Values{"topic": "t", "capability": "lamp", "value": false, "ask_id": "k"}); !ok || err != nil || string(r.Body) != `{"order":"set","part":"lamp","tag":"k","to":false}` {
		t.Errorf("%s, %v", r.Body, err)
	}
	if _, err := c.Encode(Values{"topic": "a/#"}); err == nil {
		t.Error("a wildcard got into a topic")
	}
	if _, err := c.Encode(Values{}); err == nil {
		t.Error("a topic without its value was published to")
	}
}

func none(settings.Key) bool { return false }

func TestConditions(t *testing.T) {
	d := shipped(t, dialects.Files, "andorinha.yaml")
	want := settings.Values{settings.BrokerHost: "b", settings.BrokerPort: int64(1883), settings.Topic: "t", settings.UpdateKey: "k"}
	for v, server := range map[string]string{"1.9.9": "b", "2.0": "b:1883", "2.1.0": "b:1883"} {
		plan := d.Plan(want, none, Subject{Version: v}, AtService)
		if len(plan.Pages) != 1 || len(plan.Left) != 1 || plan.Left[0] != settings.UpdateKey {
			t.Fatalf("%s: %d pages, left %v", v, len(plan.Pages), plan.Left)
		}
		r, err := plan.Pages[0].Encode(Values{}.Merge(want, inventory.Model{}))
		form, _ := url.ParseQuery(string(r.Body))
		if err != nil || form.Get("server") != server {
			t.Errorf("%s: %s, %v", v, r.Body, err)
		}
	}
	if plan := d.Plan(want, none, Subject{Version: "b417"}, AtService); len(plan.Pages) != 0 || len(plan.Left) != 4 {
		t.Error("a version that cannot be ordered met a bound")
	}
	direct := shipped(t, dialects.Files, "direct.yaml")
	if !direct.ReadsBack(settings.Hostname, Subject{}) || direct.ReadsBack(settings.WifiPassphrase, Subject{}) || !d.ReadsBack(settings.AddressPrefix, Subject{}) || !d.ReadsBack("port.K1.function", Subject{}) {
		t.Error("ReadsBack is wrong")
	}
}

// TestPlansTakeFewRestarts: what the unit holds already is not written again,
// and the page that sends a unit out of set-up mode is the last.
func TestPlansTakeFewRestarts(t *testing.T) {
	all := settings.Values{settings.WifiSSID: "x", settings.Label: "y", settings.Topic: "t", settings.ClockZone: "Europe/Lisbon", settings.AccessUser: "u"}
	holds := func(keys ...settings.Key) func(settings.Key) bool {
		return func(k settings.Key) bool { return slices.Contains(keys, k) }
	}
	for _, c := range []struct {
		dialect  string
		held     []settings.Key
		at       Place
		restarts int
		last     string
	}{
		{"andorinha", nil, AtSetUp, 4, "link page"},
		{"andorinha", []settings.Key{settings.Label, settings.Topic}, AtSetUp, 3, "link page"},
		{"andorinha", all.Keys(), AtSetUp, 1, "link page"},
		{"andorinha", all.Keys(), AtService, 0, ""},
		{"andorinha", []settings.Key{settings.Label, settings.Topic, settings.WifiSSID, settings.AccessUser}, AtService, 1, "house page"},
		{"pardal", nil, AtSetUp, 1, "network"},
		{"pardal", all.Keys(), AtSetUp, 1, ""},
		{"pardal", all.Keys(), AtService, 0, ""},
		{"coruja", nil, AtService, 1, "everything, at its wake"},
		{"direct", nil, AtSetUp, 1, "settings document"},
		{"direct", nil, AtService, 1, "settings document"},
	} {
		plan := shipped(t, dialects.Files, c.dialect+".yaml").Plan(all, holds(c.held...), Subject{Version: "3.1"}, c.at)
		last := ""
		if n := len(plan.Pages); n > 0 {
			last = plan.Pages[n-1].Title
		}
		if plan.Restarts != c.restarts || last != c.last {
			t.Errorf("%s with %v at %s: %d restarts, last %q; want %d, %q", c.dialect, c.held, c.at, plan.Restarts, last, c.restarts, c.last)
		}
	}
	if !shipped(t, dialects.Files, "coruja.yaml").Plan(all, none, Subject{}, AtService).NeedsAll(settings.Topic) {
		t.Error("a document that replaces everything is taken for a part")
	}
}

func TestAccessPoints(t *testing.T) {
	direct, a := shipped(t, dialects.Files, "direct.yaml"), shipped(t, dialects.Files, "andorinha.yaml")
	if digits, ok := direct.MatchAccessPoint("fado-025A11000007"); !ok || digits != "025a11000007" {
		t.Error(digits, ok)
	}
	if digits, ok := a.MatchAccessPoint("andorinha-000007"); !ok || digits != "000007" {
		t.Error(digits, ok)
	}
	for _, other := range []string{"fado-", "fado-025a1100000", "xfado-025a11000007", "fado-025a11000007x", "casa"} {
		if _, ok := direct.MatchAccessPoint(other); ok {
			t.Errorf("%q matched", other)
		}
	}
}

func TestPointer(t *testing.T) {
	var doc any
	_ = json.Unmarshal([]byte(`{"a/b":{"~":[10,{"x":null}]}}`), &doc)
	if v, ok := Point(doc, "/a~1b/~0/0"); !ok || v != 10.0 {
		t.Error(v, ok)
	}
	for _, none := range []string{"a", "/a", "/a~1b/~0/2", "/a~1b/~0/-1", "/a~1b/~0/00", "/a~1b/~0/0/x"} {
		if v, ok := Point(doc, none); ok {
			t.Errorf("%s points at %v", none, v)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, name := range []string{"andorinha.yaml", "pardal.yaml", "coruja.yaml"} {
		b, _ := fs.ReadFile(dialects.Files, name)
		f.Add(b)
	}
	f.Add([]byte("a: &x [*x]"))
	f.Fuzz(func(t *testing.T, b []byte) {
		d, faults := Parse("fuzz.yaml", b)
		if (d == nil) == (len(faults) == 0) {
			t.Fatalf("dialect %v with faults %v", d, faults)
		}
		for _, f := range faults {
			if f.What == "" || f.Suggest == "" {
				t.Fatalf("a fault without its parts: %+v", f)
			}
		}
	})
}

func FuzzReadReply(f *testing.F) {
	d := shipped(f, dialects.Files, "direct.yaml")
	a := shipped(f, dialects.Files, "andorinha.yaml")
	f.Add([]byte(`{"hardware_id":"02:5A:11:00:00:07"}`))
	f.Add([]byte("unit 02:5A:11:00:00:07\nbuild 3"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, x := range []*Dialect{d, a} {
			if facts, err := x.Identify.Read(b); err == nil {
				_ = fmt.Sprint(facts.Text("version"), SettingsIn(facts, inventory.Model{}))
			}
		}
		_, _, _ = d.Decode("t", "t/update", b)
	})
}
