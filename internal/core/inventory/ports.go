package inventory

import (
	"fmt"
	"slices"
	"strings"

	"fado/internal/core/problem"
)

// Port is a terminal of a model, with the label that a person reads on the
// case and the pin of the chip behind it.
type Port struct {
	Label        string   `yaml:"label" json:"label" doc:"As printed on the case"`
	Pin          string   `yaml:"pin" json:"pin" doc:"Of the chip"`
	Can          []string `yaml:"can" json:"can,omitempty" doc:"The functions that it can have"`
	Capability   string   `yaml:"capability" json:"capability,omitempty" doc:"What it is wired to on the board"`
	InputOnly    bool     `yaml:"input_only" json:"input_only,omitempty"`
	UnsafeAtBoot bool     `yaml:"unsafe_at_boot" json:"unsafe_at_boot,omitempty" doc:"Its level at start decides how the chip starts: nothing may be wired to it that drives it"`
	SharedWith   string   `yaml:"shared_with" json:"shared_with,omitempty" doc:"Label of the port that cannot be used at the same time"`
	Cautions     []string `yaml:"cautions" json:"cautions,omitempty"`
}

// Unused is the function of a port that does nothing.
const Unused = "unused"

// Functions lists what a port can do, and whether it drives something: an
// output switches, an input only listens.
var Functions = map[string]bool{
	Unused: false, "relay": true, "dimmer": true, "strip": true, "lamp": true,
	"button": false, "contact": false, "probe": false, "meter": false,
}

// Drives reports whether a function is an output.
func Drives(function string) bool { return Functions[function] }

// Port finds a port by its printed label or by its chip pin.
func (m Model) Port(name string) (Port, bool) {
	i := slices.IndexFunc(m.Ports, func(p Port) bool { return p.Label == name })
	if i < 0 {
		i = slices.IndexFunc(m.Ports, func(p Port) bool { return p.Pin == name })
	}
	if i < 0 {
		return Port{}, false
	}
	return m.Ports[i], true
}

// PortNames lists the ports as a person may name them.
func (m Model) PortNames() []string {
	out := make([]string, len(m.Ports))
	for i, p := range m.Ports {
		out[i] = fmt.Sprintf("%s (%s)", p.Label, p.Pin)
	}
	return out
}

// MayDo says why a port cannot have a function; rule is "" when it can.
func (p Port) MayDo(function string) (rule, passes string) {
	switch {
	case function == Unused && p.Capability == "":
		return "", ""
	case !slices.Contains(p.Can, function):
		rule = fmt.Sprintf("port %s (%s) cannot be %q", p.Label, p.Pin, function)
		if len(p.Can) > 0 {
			return rule + "; it can be " + strings.Join(p.Can, ", "), p.Can[0]
		}
		return rule, Unused
	case p.InputOnly && Drives(function):
		return fmt.Sprintf("port %s (%s) is input only and cannot be a %s", p.Label, p.Pin, function), Unused
	case p.UnsafeAtBoot && Drives(function):
		return fmt.Sprintf("port %s (%s) is unsafe at boot: a %s on it can keep the chip from starting", p.Label, p.Pin, function), Unused
	}
	return "", ""
}

func checkPorts(m Model, capabilities map[string]bool, f *problem.Fields) {
	labels, pins := map[string]bool{}, map[string]bool{}
	for _, p := range m.Ports {
		labels[p.Label] = true
	}
	once := map[string]bool{}
	for i, p := range m.Ports {
		at := fmt.Sprintf("ports[%d]", i)
		if p.Label == "" || once[p.Label] || strings.ContainsAny(p.Label, " ./{}") {
			f.Add(at+".label", "the printed label, used once, without spaces, dots, slashes and braces", "S1")
		}
		if p.Pin == "" || pins[p.Pin] || strings.ContainsAny(p.Pin, " ./{}") {
			f.Add(at+".pin", "the chip's pin, used once, without spaces, dots, slashes and braces", "P4")
		}
		if p.Pin != p.Label && labels[p.Pin] {
			f.Add(at+".pin", fmt.Sprintf("%q is the label of another port, so that nobody could tell them apart", p.Pin), "P"+p.Pin)
		}
		if p.Capability != "" && !capabilities[p.Capability] {
			f.Add(at+".capability", "names a capability of this model", "")
		}
		if p.SharedWith != "" && (!labels[p.SharedWith] || p.SharedWith == p.Label) {
			f.Add(at+".shared_with", "names the label of another port", "")
		}
		for n, c := range p.Can {
			if _, ok := Functions[c]; !ok {
				f.Add(fmt.Sprintf("%s.can[%d]", at, n), fmt.Sprintf("%q is no function; there are %s", c, strings.Join(functionNames(), ", ")), "button")
			} else if p.InputOnly && Drives(c) {
				f.Add(fmt.Sprintf("%s.can[%d]", at, n), fmt.Sprintf("the port is input only, and a %s drives it", c), "button")
			}
		}
		once[p.Label], pins[p.Pin] = true, true
	}
}

func functionNames() []string {
	out := make([]string, 0, len(Functions))
	for k := range Functions {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
