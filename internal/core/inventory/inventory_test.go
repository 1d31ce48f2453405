package inventory

import (
	"strings"
	"testing"

	"fado/internal/core/problem"
)

func TestParseHardwareID(t *testing.T) {
	for _, text := range []string{"02:5A:11:00:00:07", "02-5a-11-00-00-07", "025a.1100.0007", " 025A11000007 "} {
		h, err := ParseHardwareID(text)
		if err != nil || h != "02:5A:11:00:00:07" {
			t.Errorf("%q: %q, %v", text, h, err)
		}
	}
	for _, text := range []string{"", "02:5A:11:00:00", "02:5A:11:00:00:07:08", "zz:5A:11:00:00:07", "03:5A:11:00:00:07"} {
		if h, err := ParseHardwareID(text); err == nil {
			t.Errorf("%q was read as %q", text, h)
		}
	}
	h := HardwareID("02:5A:11:00:00:07")
	if !h.EndsWith("000007") || !h.EndsWith("00:07") || h.EndsWith("08") || h.EndsWith("") {
		t.Error("EndsWith is wrong")
	}
	if !h.LocallyAdministered() || HardwareID("00:5A:11:00:00:07").LocallyAdministered() {
		t.Error("LocallyAdministered is wrong")
	}
}

func FuzzHardwareID(f *testing.F) {
	f.Add("02:5A:11:00:00:07")
	f.Fuzz(func(t *testing.T, text string) {
		h, err := ParseHardwareID(text)
		if err != nil {
			return
		}
		if again, err := ParseHardwareID(string(h)); err != nil || again != h {
			t.Fatalf("%q became %q, which becomes %q, %v", text, h, again, err)
		}
	})
}

const junco = `
model: junco
title: Junco cistern level
kind: level
dialect: direct
firmware: junco
chip: x1
flash_kib: 4096
slots: 2
power: mains
boot_seconds: 6
set_up: Hold the button.
capabilities:
  - {name: level, title: Level, kind: measure, unit: "%", low: 0, high: 100}
ports:
  - {label: S1, pin: P4, capability: level}
`

func TestParseModel(t *testing.T) {
	m, err := ParseModel([]byte(junco))
	if err != nil {
		t.Fatal(err)
	}
	if c, ok := m.Capability("level"); !ok || c.Unit != "%" || *c.High != 100 {
		t.Errorf("capability: %+v", c)
	}
	broken := strings.NewReplacer("slots: 2", "slots: 5", "flash_kib: 4096", "flash_kib: 1", "capability: level", "capability: pump").Replace(junco)
	_, err = ParseModel([]byte(broken))
	p := problem.As(err)
	if p == nil || len(p.Fields) != 3 {
		t.Fatalf("want three fields at once, got %v", err)
	}
	for _, bad := range []string{"colour: red\n" + junco, "model: [", strings.Repeat("#", MaxModelFile+1)} {
		if _, err := ParseModel([]byte(bad)); problem.As(err) == nil {
			t.Errorf("%.20q: %v", bad, err)
		}
	}
}

func FuzzParseModel(f *testing.F) {
	f.Add([]byte(junco))
	f.Fuzz(func(t *testing.T, b []byte) {
		if m, err := ParseModel(b); err == nil && m.Check() != nil {
			t.Fatal("accepted a model that breaks its own rules")
		}
	})
}

func TestStageOrder(t *testing.T) {
	if !Adopted.AtLeast(Joined) || Joined.AtLeast(Adopted) || Retired.AtLeast(Joined) || !Retired.AtLeast(Retired) {
		t.Error("stages are out of order")
	}
}
