package dialect

import (
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"mime/multipart"
	"net/url"
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
		if d := shipped(t, dialects.Drafts, "drafts/"+name+".yaml"); d.Name != name {
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
		{"wifi.ssid: /wifi/ssid\n        hostname", "wifi.passphrase: /x\n        hostname", "is a secret", "leave it out"},
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

const nasty = `"Adega" & 100% 'x'; <b>=? {wifi.passphrase} 🫒 \ ` + "`"

func TestNastyValuesArriveAsTyped(t *testing.T) {
	values := Values{}.Merge(settings.Values{
		settings.WifiSSID: nasty, settings.WifiPassphrase: secret.New(nasty), settings.BrokerPort: int64(1883), settings.Hostname: "a",
	})
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

	formPage := shipped(t, dialects.Drafts, "drafts/andorinha.yaml").Settings[0]
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
	r, err := page.Preview(Values{}.Merge(settings.Values{settings.WifiPassphrase: secret.New("nao-mostrar"), settings.WifiSSID: "casa"}))
	if err != nil || strings.Contains(string(r.Body), "nao-mostrar") || !strings.Contains(string(r.Body), secret.Mask) || !strings.Contains(string(r.Body), "casa") {
		t.Errorf("%s, %v", r.Body, err)
	}
}

func TestReadingReplies(t *testing.T) {
	d := shipped(t, dialects.Drafts, "drafts/andorinha.yaml")
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
	if s := SettingsIn(f); kind != Reported || s[settings.WifiSSID] != "casa" || s[settings.BrokerPort] != int64(1883) {
		t.Errorf("%v %v", kind, s)
	}
	a := shipped(t, dialects.Drafts, "drafts/andorinha.yaml")
	if kind, f, _ = a.Decode("t", "t/here", []byte("1")); kind != Presence || f["presence"] != "online" {
		t.Errorf("%v %v", kind, f)
	}
}

func TestCommandsInTheUnitsWords(t *testing.T) {
	a := shipped(t, dialects.Drafts, "drafts/andorinha.yaml")
	c, _ := a.Command("relay", Subject{})
	r, err := c.Encode(Values{"topic": "casa/x", "capability": "relay", "value": true})
	if err != nil || r.Topic != "casa/x/relay/do" || string(r.Body) != "close" {
		t.Errorf("%+v, %v", r, err)
	}
	p := shipped(t, dialects.Drafts, "drafts/pardal.yaml")
	if _, ok := p.Command("lamp", Subject{}); ok {
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

func TestConditions(t *testing.T) {
	d := shipped(t, dialects.Drafts, "drafts/andorinha.yaml")
	want := settings.Values{settings.BrokerHost: "b", settings.Topic: "t", settings.ClockZone: "Europe/Lisbon"}
	for v, title := range map[string]string{"1.9.9": "messages page", "2.0": "messages page since 2.0", "2.1.0": "messages page since 2.0"} {
		pages, left := d.PagesFor(want, Subject{Version: v})
		if len(pages) != 1 || pages[0].Title != title || len(left) != 1 || left[0] != settings.ClockZone {
			t.Errorf("%s: %d pages, left %v", v, len(pages), left)
		}
	}
	if pages, _ := d.PagesFor(want, Subject{Version: "b417"}); len(pages) != 0 {
		t.Error("a version that cannot be ordered met a bound")
	}
	all := settings.Values{settings.WifiSSID: "x", settings.Label: "y", settings.Topic: "t"}
	pages, _ := d.PagesFor(all, Subject{Version: "1.0"})
	if n := d.Restarts(pages); n != 3 {
		t.Errorf("%d restarts, want one a page", n)
	}
	direct := shipped(t, dialects.Files, "direct.yaml")
	pages, _ = direct.PagesFor(all, Subject{})
	if n := direct.Restarts(pages); n != 1 {
		t.Errorf("%d restarts, want one for all", n)
	}
	if !direct.ReadsBack(settings.Hostname, Subject{}) || direct.ReadsBack(settings.WifiPassphrase, Subject{}) {
		t.Error("ReadsBack is wrong")
	}
}

func TestAccessPoints(t *testing.T) {
	direct, a := shipped(t, dialects.Files, "direct.yaml"), shipped(t, dialects.Drafts, "drafts/andorinha.yaml")
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
	for _, name := range []string{"drafts/andorinha.yaml", "drafts/pardal.yaml", "drafts/coruja.yaml"} {
		b, _ := fs.ReadFile(dialects.Drafts, name)
		f.Add(b)
	}
	f.Add([]byte("a: &x [*x]"))
	f.Fuzz(func(t *testing.T, b []byte) {
		d, faults := Parse("fuzz.yaml", b)
		if (d == nil) == (len(faults) == 0) {
			t.Fatalf("dialect %v with faults %v", d, faults)
		}
	})
}

func FuzzReadReply(f *testing.F) {
	d := shipped(f, dialects.Files, "direct.yaml")
	a := shipped(f, dialects.Drafts, "drafts/andorinha.yaml")
	f.Add([]byte(`{"hardware_id":"02:5A:11:00:00:07"}`))
	f.Add([]byte("unit 02:5A:11:00:00:07\nbuild 3"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, x := range []*Dialect{d, a} {
			if facts, err := x.Identify.Read(b); err == nil {
				_ = fmt.Sprint(facts.Text("version"), SettingsIn(facts))
			}
		}
		_, _, _ = d.Decode("t", "t/update", b)
	})
}
