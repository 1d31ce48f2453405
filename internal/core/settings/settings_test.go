package settings

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"fado/internal/core/inventory"
	"fado/internal/core/secret"
)

func TestEveryRuleRefusesAndOffers(t *testing.T) {
	bad := Values{
		WifiSSID: strings.Repeat("x", 33), WifiPassphrase: secret.New("short"), AddressMode: "static",
		Hostname: "Cave 1", Label: "", BrokerHost: "bro ker", BrokerPort: int64(0), Topic: "a/#",
		ClockZone: "Lisboa", UpdateKey: "abc", BrokerCA: "no certificate", UpkeepDays: int64(91),
	}
	fields := Check(bad)
	if len(fields) != len(bad) {
		t.Fatalf("%d rules broken, want %d: %v", len(fields), len(bad), fields)
	}
	for _, f := range fields {
		if f.Passes == "" {
			continue
		}
		spec, _ := Lookup(Key(f.Field))
		var v any = f.Passes
		if spec.Kind == Number {
			var n int64
			_, _ = fmt.Sscan(f.Passes, &n)
			v = n
		}
		if rule, _ := spec.Rule(v); rule != "" {
			t.Errorf("%s: offered %q, which %s", f.Field, f.Passes, rule)
		}
	}
	for _, f := range fields {
		if strings.Contains(f.Rule+f.Passes, "short") {
			t.Errorf("a rule repeats a secret: %+v", f)
		}
	}
}

func TestNastyTextPasses(t *testing.T) {
	for _, ssid := range []string{`"Adega" & 100% <b>'; --`, "adega 🫒", "{wifi.passphrase}", " "} {
		if f := Check(Values{WifiSSID: ssid}); len(f) != 0 {
			t.Errorf("%q: %v", ssid, f)
		}
	}
}

func TestFixedAddress(t *testing.T) {
	base := func(ip string) Values {
		return Values{AddressMode: "fixed", AddressIP: ip, AddressGateway: "10.1.2.1", AddressPrefix: int64(24)}
	}
	for ip, want := range map[string]int{"10.1.2.40": 0, "10.1.3.40": 1, "10.1.2.1": 1, "10.1.2.0": 1} {
		if got := Check(base(ip)); len(got) != want {
			t.Errorf("%s: %v", ip, got)
		}
	}
	if got := Check(Values{AddressMode: "fixed"}); len(got) != 3 {
		t.Errorf("a fixed address without its parts: %v", got)
	}
}

func TestLineState(t *testing.T) {
	at := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	sent := &HandedOver{Unit: "u", At: at, Hash: "h"}
	cases := []struct {
		name string
		line Line
		want State
	}{
		{"unsupported", Line{Intended: "a"}, Unsupported},
		{"new", Line{Intended: "a", Hash: "h", Supported: true}, NotHandedOver},
		{"changed since", Line{Intended: "a", Hash: "h2", HandedOver: sent, Supported: true, ReadBack: true, Reported: &Reported{Value: "b", At: at}}, NotHandedOver},
		{"drift", Line{Intended: "a", Hash: "h", HandedOver: sent, Supported: true, ReadBack: true, Reported: &Reported{Value: "b", At: at}}, Differs},
		{"equal", Line{Intended: "a", Hash: "h", HandedOver: sent, Supported: true, ReadBack: true, Reported: &Reported{Value: "a", At: at}}, Equal},
		{"sent blind", Line{Intended: "a", Hash: "h", HandedOver: sent, Supported: true}, Unreadable},
		{"proven", Line{Intended: "a", Hash: "h", HandedOver: sent, Supported: true, Proof: &Proof{"joined", at}}, Proven},
		{"proof is older", Line{Intended: "a", Hash: "h", HandedOver: sent, Supported: true, Proof: &Proof{"joined", at.Add(-1)}}, Unreadable},
	}
	for _, c := range cases {
		if got := c.line.State(); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

func TestResolveNearestWins(t *testing.T) {
	v, origin := Resolve(
		Layer{"site", Values{ClockZone: "Europe/Lisbon", UpkeepDays: int64(7)}},
		Layer{"model", Values{UpkeepDays: int64(30), ReportSeconds: int64(60)}},
		Layer{"device", Values{ReportSeconds: nil, ClockZone: "Atlantic/Azores"}},
	)
	if v[ClockZone] != "Atlantic/Azores" || origin[ClockZone] != "device" || v[UpkeepDays] != int64(30) || origin[UpkeepDays] != "model" {
		t.Errorf("%v %v", v, origin)
	}
	if _, ok := v[ReportSeconds]; ok {
		t.Error("a key taken away is still there")
	}
}

func TestReadAndNormal(t *testing.T) {
	if v, err := Read(BrokerPort, json.RawMessage("1883")); err != nil || v != int64(1883) {
		t.Error(v, err)
	}
	if _, err := Read(BrokerPort, json.RawMessage(`"1883"`)); err == nil {
		t.Error("text was read as a number")
	}
	if v, _ := Read(WifiPassphrase, json.RawMessage(`"abcdefgh"`)); fmt.Sprint(v) != secret.Mask {
		t.Errorf("a passphrase prints as %v", v)
	}
	if _, err := Read("wifi.colour", json.RawMessage(`1`)); err == nil {
		t.Error("an unknown setting was read")
	}
	for _, c := range []struct {
		key  Key
		in   any
		want any
	}{{BrokerPort, "1883", int64(1883)}, {BrokerPort, 1883.0, int64(1883)}, {BrokerPort, 1.5, nil}, {BrokerTLS, "1", true}, {BrokerTLS, "maybe", nil}, {Hostname, "a", "a"}} {
		if got := Normal(c.key, c.in); got != c.want {
			t.Errorf("%s %v: %v, want %v", c.key, c.in, got, c.want)
		}
	}
}

func TestPosixZones(t *testing.T) {
	for zone, want := range map[string]string{
		"Europe/Lisbon": "WET0WEST,M3.5.0/1,M10.5.0", "Atlantic/Azores": "<-01>1<+00>,M3.5.0/0,M10.5.0/1", "Europe/Berlin": "CET-1CEST,M3.5.0,M10.5.0/3",
		"America/New_York": "EST5EDT,M3.2.0,M11.1.0", "Asia/Tokyo": "JST-9", "Asia/Kolkata": "IST-5:30", "Australia/Sydney": "AEST-10AEDT,M10.1.0,M4.1.0/3", "UTC": "UTC0", "No/Where": "", "Local": "",
	} {
		if got := PosixZone(zone); got != want {
			t.Errorf("%s: %q, want %q", zone, got, want)
		}
	}
}

func TestMasks(t *testing.T) {
	for bits, mask := range map[int64]string{24: "255.255.255.0", 16: "255.255.0.0", 23: "255.255.254.0", 30: "255.255.255.252", 1: "128.0.0.0"} {
		if got := (Values{AddressPrefix: bits}).Derived()["address.mask"]; got != mask {
			t.Errorf("/%d: %s, want %s", bits, got, mask)
		}
		if n, ok := PrefixOf(mask); !ok || n != bits {
			t.Errorf("%s: %d, %v", mask, n, ok)
		}
	}
	for _, bad := range []string{"255.0.255.0", "x", "::1", ""} {
		if _, ok := PrefixOf(bad); ok {
			t.Errorf("%q is taken for a mask", bad)
		}
	}
}

func TestFamilyKeys(t *testing.T) {
	m := inventory.Model{Ports: []inventory.Port{{Label: "K1", Pin: "P4"}}}
	if k := Canonical("port.P4.function", m); k != "port.K1.function" {
		t.Error(k)
	}
	if s, ok := Lookup("report.S.1.payload"); !ok || s.Title != "Report of S.1, payload" {
		t.Errorf("%+v %v", s, ok)
	}
	for _, bad := range []Key{"port", "port.K1", "port.K1.", "port..function", "port.K1.colour", "ports.K1.function", "port.K 1.function", "port.{x}.function"} {
		if _, ok := Lookup(bad); ok {
			t.Errorf("%q is taken for a setting", bad)
		}
	}
	keys := Values{"report.S.topic": "a", "port.K.function": "b", WifiSSID: "c", "port.A.function": "d"}.Keys()
	if fmt.Sprint(keys) != "[wifi.ssid port.A.function port.K.function report.S.topic]" {
		t.Error(keys)
	}
}

// BenchmarkCompare resolves what is intended for each of 100,000 devices from
// three layers, and judges it against what their units reported.
func BenchmarkCompare(b *testing.B) {
	const devices = 100_000
	at := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	site, model := Values{}, Values{ReportSeconds: int64(60), UpkeepDays: int64(30)}
	for _, spec := range Specs {
		if spec.Kind == Text && len(site) < 12 {
			site[spec.Key] = "the site's " + string(spec.Key)
		}
	}
	reported := make([]Values, devices)
	for n := range reported {
		reported[n] = Values{Hostname: "relay", Topic: "a/b", Label: "c", ReportSeconds: int64(60), UpkeepDays: int64(30)}
		for k, v := range site {
			if _, own := reported[n][k]; !own {
				reported[n][k] = v
			}
		}
		if n%10 == 0 {
			reported[n][Label] = "changed by hand"
		}
	}
	sent := &HandedOver{Unit: "u", At: at, Hash: "h"}
	for b.Loop() {
		drift := 0
		for n := range devices {
			intended, _ := Resolve(Layer{"site", site}, Layer{"model", model}, Layer{"device", Values{Hostname: "relay", Topic: "a/b", Label: "c"}})
			for k, v := range intended {
				l := Line{Key: k, Intended: v, Hash: "h", HandedOver: sent, Supported: true, ReadBack: true, Reported: &Reported{Value: reported[n][k], At: at}}
				if l.State() == Differs {
					drift++
				}
			}
		}
		if drift != devices/10 {
			b.Fatal(drift)
		}
	}
}

func TestRedact(t *testing.T) {
	out := Values{WifiPassphrase: secret.New("secreto-longo"), WifiSSID: "x"}.Redact()
	if out["wifi.passphrase"] != secret.Mask || out["wifi.ssid"] != "x" {
		t.Errorf("%v", out)
	}
	if m := (Values{WifiPassphrase: secret.Secret{}, WifiSSID: "x"}).Missing(WifiSSID, WifiPassphrase, Topic); len(m) != 2 {
		t.Errorf("%v", m)
	}
}

// FuzzRead: whatever a person or a unit says of a setting, it becomes a value of
// the setting's kind or is refused, and a rule that refuses it never panics.
func FuzzRead(f *testing.F) {
	f.Add("broker.port", "1883")
	f.Add("wifi.ssid", `"casa"`)
	f.Add("address.ip", `"10.0.0.1"`)
	f.Add("clock.zone", `"../../etc"`)
	f.Fuzz(func(t *testing.T, name, raw string) {
		key := Key(name)
		v, err := Read(key, json.RawMessage(raw))
		if err == nil {
			spec, known := Lookup(key)
			if !known {
				t.Fatalf("%q was read", name)
			}
			switch v.(type) {
			case string, int64, bool, secret.Secret:
			default:
				t.Fatalf("%s became %T", name, v)
			}
			if spec.Rule != nil {
				spec.Rule(v)
			}
			_ = Check(Values{key: v, AddressMode: "fixed"})
			if n := Normal(key, v); spec.Kind != Hidden && n != v {
				t.Fatalf("%v is not normal: %v", v, n)
			}
		}
		_ = Normal(key, raw)
	})
}
