package thing

import (
	"encoding/json"
	"io/fs"
	"net/url"
	"slices"
	"strings"
	"testing"

	"fado/dialects"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
)

func subject(t *testing.T) Subject {
	t.Helper()
	file, err := fs.ReadFile(dialects.Files, "direct.yaml")
	if err != nil {
		t.Fatal(err)
	}
	d, faults := dialect.Parse("direct.yaml", file)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	low, high := 0.0, 100.0
	return Subject{
		DeviceID: "0190c6b0-0000-7000-8000-000000000001", Label: "Rega do pátio", Site: "Lagar", Room: "Terraço", Topic: "lagar/terraco/relay-1",
		Model: inventory.Model{Name: "sobro-quatro", Title: "Sobro Quatro", Capabilities: []inventory.Capability{
			{Name: "valve-1", Title: "Valve 1", Kind: inventory.Switch}, {Name: "flow", Title: "Flow", Kind: inventory.Measure, Unit: "L/min", Low: &low, High: &high}}},
		Dialect: d, Broker: Broker{Host: "127.0.0.1", Port: 1883},
	}
}

func TestDescribe(t *testing.T) {
	td, err := Describe(subject(t))
	if err != nil {
		t.Fatal(err)
	}
	b, err := json.Marshal(td)
	if err != nil {
		t.Fatal(err)
	}
	var doc any
	_ = json.Unmarshal(b, &doc)
	for pointer, want := range map[string]any{
		"/id":                                        "urn:uuid:0190c6b0-0000-7000-8000-000000000001",
		"/title":                                     "Rega do pátio",
		"/schema:containedInPlace":                   "Terraço",
		"/security/0":                                "account",
		"/securityDefinitions/account/scheme":        "basic",
		"/properties/valve-1/type":                   "boolean",
		"/properties/valve-1/forms/0/mqv:filter":     "lagar/terraco/relay-1/state/valve-1",
		"/properties/valve-1/forms/0/mqv:retain":     true,
		"/properties/valve-1/forms/1/mqv:topic":      "lagar/terraco/relay-1/command/valve-1",
		"/properties/valve-1/forms/1/op/0":           "writeproperty",
		"/properties/valve-1/forms/1/mqv:qos":        "1",
		"/properties/flow/readOnly":                  true,
		"/properties/flow/maximum":                   100.0,
		"/properties/presence/forms/0/mqv:filter":    "lagar/terraco/relay-1/presence",
		"/properties/flow/forms/0/mqv:controlPacket": "subscribe",
	} {
		if got, ok := dialect.Point(doc, pointer); !ok || got != want {
			t.Errorf("%s: %v, want %v", pointer, got, want)
		}
	}
	href, _ := dialect.Point(doc, "/properties/valve-1/forms/1/href")
	if u, err := url.Parse(href.(string)); err != nil || u.Scheme != "mqtt" || u.Host != "127.0.0.1:1883" || u.Path != "/lagar/terraco/relay-1/command/valve-1" {
		t.Errorf("href %v, %v", href, err)
	}
	if _, writable := dialect.Point(doc, "/properties/flow/forms/1"); writable {
		t.Error("a reading can be written")
	}
}

func TestRights(t *testing.T) {
	read, write := Rights(subject(t))
	if !slices.Equal(write, []string{"lagar/terraco/relay-1/command/valve-1"}) {
		t.Errorf("write %v", write)
	}
	if len(read) != 3 || slices.ContainsFunc(read, func(s string) bool { return strings.ContainsAny(s, "+#") }) {
		t.Errorf("read %v", read)
	}
}
