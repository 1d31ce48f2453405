package settings

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
)

// Family is a group of settings of which a model has one an item: one function
// a port, one state at power-up an output. Its keys are family.item.field, such
// as port.K1.function; a port is named by its printed label, and its chip pin
// is understood too.
type Family struct {
	Name   string
	Title  string
	Item   string // what its items are: port or output
	Fields []Field
}

// Field is one value of an item.
type Field struct {
	Name  string
	Title string
	Rule  func(value any) (rule, passes string)
}

// Families lists the families there are. All their values are text.
var Families = []Family{
	{"port", "Port", "port", []Field{{"function", "function", line(1, 24)}}},
	{"report", "Report of", "port", []Field{{"topic", "topic below the device's own", topicBelow}, {"payload", "payload", line(1, 128)}}},
	{"power_up", "At power-up", "output", []Field{{"state", "state", oneOf("off", "on", "last")}}},
}

// Split takes a family's key apart. ok is false for every other key.
func Split(key Key) (f Family, item, field string, ok bool) {
	head, rest, _ := strings.Cut(string(key), ".")
	i := slices.IndexFunc(Families, func(f Family) bool { return f.Name == head })
	dot := strings.LastIndexByte(rest, '.')
	if i < 0 || dot < 1 || dot == len(rest)-1 {
		return Family{}, "", "", false
	}
	f, item, field = Families[i], rest[:dot], rest[dot+1:]
	if strings.ContainsAny(item, " /{}") || !slices.ContainsFunc(f.Fields, func(x Field) bool { return x.Name == field }) {
		return Family{}, "", "", false
	}
	return f, item, field, true
}

// IsFamily reports whether a name is that of a family.
func IsFamily(name string) bool {
	return slices.ContainsFunc(Families, func(f Family) bool { return f.Name == name })
}

// ItemKey puts a family's key together.
func ItemKey(family, item, field string) Key { return Key(family + "." + item + "." + field) }

func familySpec(key Key) (Spec, bool) {
	f, item, field, ok := Split(key)
	if !ok {
		return Spec{}, false
	}
	i := slices.IndexFunc(f.Fields, func(x Field) bool { return x.Name == field })
	return Spec{key, fmt.Sprintf("%s %s, %s", f.Title, item, f.Fields[i].Title), Text, f.Fields[i].Rule, nil}, true
}

// Order sorts keys as a sheet shows them: the fixed ones first, then the
// families by item.
func Order(a, b Key) int {
	place := func(k Key) int {
		if i := slices.IndexFunc(Specs, func(s Spec) bool { return s.Key == k }); i >= 0 {
			return i
		}
		f, _, _, _ := Split(k)
		return len(Specs) + slices.IndexFunc(Families, func(x Family) bool { return x.Name == f.Name })
	}
	if d := place(a) - place(b); d != 0 {
		return d
	}
	return strings.Compare(string(a), string(b))
}

// Keys lists the keys of values in order.
func (v Values) Keys() []Key {
	out := make([]Key, 0, len(v))
	for k := range v {
		out = append(out, k)
	}
	slices.SortFunc(out, Order)
	return out
}

// Canonical brings a key to its usual form on a model: a port that was named by
// its chip pin gets its printed label.
func Canonical(key Key, m inventory.Model) Key {
	f, item, field, ok := Split(key)
	if !ok || f.Item != "port" {
		return key
	}
	if p, found := m.Port(item); found {
		return ItemKey(f.Name, p.Label, field)
	}
	return key
}

// CheckFor applies every rule, those of Check and those that depend on the
// model: the ports it has, what they can do, what its output drives.
func CheckFor(values Values, m inventory.Model) problem.Fields {
	f := Check(values)
	uses := map[string]Key{}
	for _, key := range values.Keys() {
		fam, item, field, ok := Split(key)
		if !ok {
			continue
		}
		if fam.Item == "output" {
			if c, found := m.Capability(item); !found || !c.Kind.Commanded() {
				f.Add(string(key), fmt.Sprintf("%s has no output %q", m.Name, item), firstOutput(m))
			}
			continue
		}
		p, found := m.Port(item)
		if !found {
			f.Add(string(key), fmt.Sprintf("%s has no port %q; its ports are %s", m.Name, item, strings.Join(m.PortNames(), ", ")), firstPort(m, fam.Name, field))
			continue
		}
		if fam.Name != "port" {
			continue
		}
		function := text(values[key])
		if other, taken := uses[p.Label]; taken {
			f.Add(string(key), fmt.Sprintf("port %s (%s) is set by %s already", p.Label, p.Pin, other), "")
			continue
		}
		uses[p.Label] = key
		if rule, passes := p.MayDo(function); rule != "" {
			f.Add(string(key), rule, passes)
			continue
		}
		if function == inventory.Unused || p.SharedWith == "" {
			continue
		}
		if q, _ := m.Port(p.SharedWith); q.Label != "" {
			if x, set := values[ItemKey("port", q.Label, "function")]; set && x != inventory.Unused || !set && q.Capability != "" {
				f.Add(string(key), fmt.Sprintf("port %s (%s) shares its pin with %s, which is in use", p.Label, p.Pin, q.Label), inventory.Unused)
			}
		}
	}
	checkLoad(values, m, &f)
	return f
}

func firstOutput(m inventory.Model) string {
	for _, c := range m.Capabilities {
		if c.Kind.Commanded() {
			return string(ItemKey("power_up", c.Name, "state"))
		}
	}
	return ""
}

func firstPort(m inventory.Model, family, field string) string {
	if len(m.Ports) == 0 {
		return ""
	}
	return string(ItemKey(family, m.Ports[0].Label, field))
}

// checkLoad holds a strip's count against its width and height.
func checkLoad(values Values, m inventory.Model, f *problem.Fields) {
	for _, key := range []Key{LoadCount, LoadWidth, LoadHeight, LoadCorner, LoadDirection, LoadBackForth} {
		if _, set := values[key]; set && m.Load != inventory.Strip {
			f.Add(string(key), fmt.Sprintf("%s drives no strip", m.Name), "")
		}
	}
	width, w := values[LoadWidth].(int64)
	height, h := values[LoadHeight].(int64)
	count, c := values[LoadCount].(int64)
	switch {
	case w != h:
		missing := LoadWidth
		if w {
			missing = LoadHeight
		}
		f.Add(string(missing), "a field of lamps needs a width and a height", "1")
	case w && c && width*height != count:
		f.Add(string(LoadCount), fmt.Sprintf("is %d, but the field is %d x %d = %d lamps", count, width, height, width*height), strconv.FormatInt(width*height, 10))
	}
}

// topicBelow: the levels of a topic below the device's own.
func topicBelow(v any) (rule, passes string) {
	if rule, passes := naming.CheckTopic(text(v)); rule != "" {
		return rule, passes
	}
	return "", ""
}
