package inventory

import (
	"strings"
	"testing"

	"fado/internal/core/problem"
)

func board() Model {
	return Model{Ports: []Port{
		{Label: "K1", Pin: "P12", Can: []string{"relay"}, Capability: "relay-1"},
		{Label: "S1", Pin: "P34", Can: []string{"button", "contact"}, InputOnly: true},
		{Label: "X", Pin: "P2", Can: []string{"relay", "button"}, UnsafeAtBoot: true},
	}}
}

func TestPortsAreNamedByLabelOrPin(t *testing.T) {
	m := board()
	for name, label := range map[string]string{"K1": "K1", "P12": "K1", "S1": "S1", "P34": "S1"} {
		if p, ok := m.Port(name); !ok || p.Label != label {
			t.Errorf("%s is %s, %v", name, p.Label, ok)
		}
	}
	for _, none := range []string{"", "k1", "P1", "K2"} {
		if p, ok := m.Port(none); ok {
			t.Errorf("%q is %s", none, p.Label)
		}
	}
}

func TestWhatAPortMayDo(t *testing.T) {
	m := board()
	for _, c := range []struct{ port, function, rule, passes string }{
		{"S1", "button", "", ""}, {"S1", "unused", "", ""}, {"X", "button", "", ""},
		{"S1", "relay", `cannot be "relay"; it can be button, contact`, "button"},
		{"X", "relay", "unsafe at boot", "unused"},
		{"K1", "unused", "cannot be", "relay"}, // it is wired on the board
		{"K1", "laser", "cannot be", "relay"},
	} {
		p, _ := m.Port(c.port)
		rule, passes := p.MayDo(c.function)
		if (rule == "") != (c.rule == "") || !strings.Contains(rule, c.rule) || passes != c.passes {
			t.Errorf("%s as %s: %q, %q", c.port, c.function, rule, passes)
		}
	}
	input := Port{Label: "A", Pin: "P1", Can: []string{"relay"}, InputOnly: true}
	if rule, passes := input.MayDo("relay"); !strings.Contains(rule, "input only") || passes != Unused {
		t.Errorf("%q %q", rule, passes)
	}
}

const modelFile = `model: x
title: X
kind: relay
dialect: direct
firmware: x
chip: x1
flash_kib: 1024
slots: 1
power: battery
wake: Press it.
boot_seconds: 3
set_up: Hold it.
capabilities: [{name: relay, title: Relay, kind: switch}]
ports: [{label: K, pin: P1, can: [relay], capability: relay}, {label: S, pin: P2, can: [button], input_only: true, shared_with: K}]
`

func TestModelFilesAreJudgedWhole(t *testing.T) {
	if m, err := ParseModel([]byte(modelFile)); err != nil || len(m.Ports) != 2 {
		t.Fatal(m, err)
	}
	for _, c := range []struct{ from, to, field string }{
		{"wake: Press it.\n", "", "wake"},
		{"slots: 1", "slots: 1\nwake_seconds: -1", "wake_seconds"},
		{"slots: 1", "slots: 1\nload: heater", "load"},
		{"slots: 1", "slots: 1\nbefore: [\" \"]", "before[0]"},
		{"label: S,", "label: K,", "ports[1].label"},
		{"label: S,", "label: \"S 1\",", "ports[1].label"},
		{"pin: P2", "pin: P1", "ports[1].pin"},
		{"pin: P2", "pin: K", "ports[1].pin"}, // nobody could tell a pin from a label
		{"can: [button]", "can: [lever]", "ports[1].can[0]"},
		{"can: [button]", "can: [relay]", "ports[1].can[0]"}, // an output on an input
		{"shared_with: K", "shared_with: Z", "ports[1].shared_with"},
		{"capability: relay}", "capability: lamp}", "ports[0].capability"},
	} {
		file := strings.Replace(modelFile, c.from, c.to, 1)
		if file == modelFile {
			t.Errorf("%q is not in the file", c.from)
			continue
		}
		_, err := ParseModel([]byte(file))
		p := problem.As(err)
		if p == nil {
			t.Errorf("%s: %v", c.to, err)
			continue
		}
		found := false
		for _, f := range p.Fields {
			found = found || f.Field == c.field
		}
		if !found {
			t.Errorf("%s: %+v, want %s", c.to, p.Fields, c.field)
		}
	}
}
