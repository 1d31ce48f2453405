package engine

import (
	"encoding/json"
	"strings"
	"testing"

	"fado/internal/core/problem"
)

// TestAFixedAddressIsNobodyElses: not another device's, intended or said, nor the
// broker's; one that is free is offered.
func TestAFixedAddressIsNobodyElses(t *testing.T) {
	e := bench(t)
	a, b := device(t, e, "A", "sobro-quatro", "02:5A:11:00:09:01"), device(t, e, "B", "sobro-quatro", "02:5A:11:00:09:02")
	if err := e.SetIntended(t.Context(), "test", "", "", a.ID, fixedAt("192.168.40.60")); err != nil {
		t.Fatal(err)
	}
	if err := e.SetIntended(t.Context(), "test", "", "", a.ID, fixedAt("192.168.40.60")); err != nil {
		t.Error("a device's own address is refused:", err)
	}
	for ip, want := range map[string]string{"192.168.40.60": "is the address of A", "192.168.40.3": "is the address of the name server"} {
		p := problem.As(e.SetIntended(t.Context(), "test", "", "", b.ID, fixedAt(ip)))
		if p == nil || len(p.Fields) != 1 || !strings.Contains(p.Fields[0].Rule, want) || p.Fields[0].Passes == "" || p.Fields[0].Passes == ip {
			t.Errorf("%s: %+v", ip, p)
		}
	}
	p := problem.As(e.SetIntended(t.Context(), "test", "", "", b.ID, fixedAt("192.168.40.60")))
	if p == nil || p.Fields[0].Passes != "192.168.40.61" {
		t.Fatalf("%+v", p)
	}
	if err := e.SetIntended(t.Context(), "test", "", "", b.ID, fixedAt(p.Fields[0].Passes)); err != nil {
		t.Error("what would pass does not:", err)
	}
	// The same through a spreadsheet, within one file, too.
	file := "name,model,address.mode,address.ip,address.prefix,address.gateway\n" +
		"C,sobro-quatro,fixed,192.168.40.61,24,192.168.40.1\nD,sobro-quatro,fixed,192.168.40.70,24,192.168.40.1\nE,sobro-quatro,fixed,192.168.40.70,24,192.168.40.1\n"
	out, err := e.Import(t.Context(), "test", "lagar", []byte(file), true)
	if err != nil || out.Refused != 2 || !strings.Contains(out.Rows[0].Faults[0].Rule, "of B") || !strings.Contains(out.Rows[2].Faults[0].Rule, "of D in the same file") {
		t.Errorf("%+v %v", out.Rows, err)
	}
	file = "name,hostname,model,address.mode,address.ip,address.prefix,address.gateway\nC,,sobro-quatro,fixed,192.168.40.70,24,192.168.40.1\n," + a.Hostname + ",,fixed,192.168.40.70,24,192.168.40.1\n"
	if out, err = e.Import(t.Context(), "test", "lagar", []byte(file), true); err != nil || out.Refused != 1 || !strings.Contains(out.Rows[1].Faults[0].Rule, "of C in the same file") {
		t.Errorf("%+v %v", out.Rows, err)
	}
}

func fixedAt(ip string) map[string]json.RawMessage {
	return map[string]json.RawMessage{"address.mode": json.RawMessage(`"fixed"`), "address.ip": json.RawMessage(`"` + ip + `"`), "address.prefix": json.RawMessage("22"),
		"address.gateway": json.RawMessage(`"192.168.40.1"`), "address.dns": json.RawMessage(`"192.168.40.3"`)}
}
