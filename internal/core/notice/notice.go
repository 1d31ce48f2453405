// Package notice writes what a hub is told of devices that listens on the broker
// instead of keeping a Thing directory: retained messages whose topics and bodies a
// person describes in a file, by the rules of dialect files. It never sends anything.
package notice

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/thing"
)

// Schema is the published JSON Schema of notice files.
//
//go:embed notice.schema.json
var Schema []byte

// Notice is a parsed and validated notice file.
type Notice struct {
	Name    string   `yaml:"notice"`
	Title   string   `yaml:"title"`
	Grammar int      `yaml:"grammar"`
	Listens []string `yaml:"listens"` // topic filters to which the hub subscribes
	Entries []Entry  `yaml:"entries"`
}

// Entry is one message: for each device, or for each of its capabilities.
type Entry struct {
	For       string                       `yaml:"for"`
	Kinds     []string                     `yaml:"kinds"`     // capabilities of these kinds only
	Commanded *bool                        `yaml:"commanded"` // only those that can, or cannot, be switched
	Topic     string                       `yaml:"topic"`
	JSON      any                          `yaml:"json"`
	Text      string                       `yaml:"text"`
	Values    map[string]map[string]string `yaml:"values"` // placeholder to (the hub's word to ours)
}

// What an entry is for.
const (
	ForDevice     = "device"
	ForCapability = "capability"
)

// deviceNames are the placeholders of each entry, capabilityNames those that entries
// for capabilities have besides.
var (
	deviceNames = map[string]string{
		"device_id": "the device's own id, which a replaced unit keeps", "label": "its label", "room": "the room's name", "site": "the site's name", "hostname": "its hostname",
		"model": "the model's name", "model_title": "the model's title", "version": "the firmware's version", "topic": "the topic that its unit uses",
		"presence_topic": "where it says that it is there", "presence_online": "what it says when it is", "presence_offline": "what it says when it is not", "presence_pointer": "where in a JSON payload it says so (JSON Pointer)",
	}
	capabilityNames = map[string]string{
		"capability": "the capability's name", "capability_title": "its title", "kind": "its kind", "unit": "its unit of measure", "low": "the lowest value", "high": "the highest value",
		"state_topic": "where its state is said", "state_pointer": "where in a JSON payload it stands (JSON Pointer)", "state_true": "the unit's word for on", "state_false": "the unit's word for off",
		"command_topic": "where it is commanded", "command_true": "the whole payload that turns it on", "command_false": "the whole payload that turns it off",
		"command_before": "what stands before the value in a command", "command_after": "what stands after it",
	}
)

// Placeholders lists the placeholders with their meaning, for the documentation.
func Placeholders() (device, capability map[string]string) {
	return maps.Clone(deviceNames), maps.Clone(capabilityNames)
}

// Parse reads and validates a file. When it is refused, all its faults are returned.
func Parse(name string, file []byte) (*Notice, []dialect.Fault) {
	n := &Notice{}
	at, faults := dialect.Document(name, file, Schema, n)
	if len(faults) > 0 {
		return nil, faults
	}
	fault := func(path []string, suggest, format string, args ...any) {
		line, column := at(path)
		faults = append(faults, dialect.Fault{Line: line, Column: column, Where: "/" + strings.Join(path, "/"), What: fmt.Sprintf(format, args...), Suggest: suggest})
	}
	for i, f := range n.Listens {
		path := []string{"listens", fmt.Sprint(i)}
		first, _, _ := strings.Cut(f, "/")
		if first == "" || strings.ContainsAny(first, "+#$") || !validFilter(f) {
			fault(path, `"home/#", for example`, "%q is no topic filter whose first level is fixed", f)
		}
	}
	for i, e := range n.Entries {
		path := []string{"entries", fmt.Sprint(i)}
		known := maps.Clone(deviceNames)
		if e.For == ForCapability {
			maps.Copy(known, capabilityNames)
		} else if len(e.Kinds) > 0 || e.Commanded != nil {
			fault(path, "for: capability", "kinds and commanded choose capabilities; this entry is for the device")
		}
		for j, k := range e.Kinds {
			if !slices.Contains(inventory.Kinds(), inventory.CapabilityKind(k)) {
				fault(append(path, "kinds", fmt.Sprint(j)), dialect.Nearest(k, kindNames()), "there is no kind of capability %q", k)
			}
		}
		check := func(path []string, text string) {
			for _, p := range dialect.PlaceholdersIn(text) {
				if _, ok := known[p]; ok {
					continue
				}
				suggest := "docs/handover.md lists them"
				if near := dialect.Nearest(p, slices.Sorted(maps.Keys(known))); near != "" {
					suggest = fmt.Sprintf("did you mean {%s}?", near)
				}
				fault(path, suggest, "there is no placeholder {%s} here", p)
			}
		}
		check(append(slices.Clone(path), "topic"), e.Topic)
		unique := "{device_id}"
		if e.For == ForCapability && !strings.Contains(e.Topic, "{capability}") || !strings.Contains(e.Topic, unique) {
			fault(append(slices.Clone(path), "topic"), `"home/{device_id}/{capability}", for example`, "two %ss would share this topic: it needs {device_id}, and {capability} when it is for one", e.For)
		}
		if rule, _ := naming.CheckTopic(plain(e.Topic)); rule != "" {
			fault(append(slices.Clone(path), "topic"), `"home/{device_id}", for example`, "as a topic it %s", rule)
		}
		if !slices.ContainsFunc(n.Listens, func(f string) bool { return Within(f, plain(e.Topic)) }) {
			fault(append(slices.Clone(path), "topic"), "add a filter to listens", "the hub does not listen to it")
		}
		if (e.JSON == nil) == (e.Text == "") {
			fault(path, "keep one of json and text", "a message has one body")
		}
		check(append(slices.Clone(path), "text"), e.Text)
		for _, t := range dialect.TextsIn(e.JSON) {
			check(append(slices.Clone(path), "json"), t)
		}
		for name := range e.Values {
			if _, ok := known[name]; !ok {
				fault(append(slices.Clone(path), "values", name), "docs/handover.md lists them", "there is no placeholder %q here", name)
			}
		}
	}
	if len(faults) > 0 {
		return nil, faults
	}
	return n, nil
}

func kindNames() (out []string) {
	for _, k := range inventory.Kinds() {
		out = append(out, string(k))
	}
	return out
}

// plain puts something harmless in the place of each placeholder.
func plain(topic string) string {
	for _, p := range dialect.PlaceholdersIn(topic) {
		topic = strings.ReplaceAll(topic, "{"+p+"}", "x")
	}
	return topic
}

func validFilter(f string) bool {
	levels := strings.Split(f, "/")
	for i, l := range levels {
		if l == "" || l == "#" && i != len(levels)-1 || l != "#" && l != "+" && strings.ContainsAny(l, "#+ \x00") {
			return false
		}
	}
	return len(f) <= naming.MaxTopic
}

// Within reports whether a topic is taken in by a filter (MQTT 3.1.1, section 4.7).
func Within(filter, topic string) bool {
	f, t := strings.Split(filter, "/"), strings.Split(topic, "/")
	for i, level := range f {
		if level == "#" {
			return true
		}
		if i >= len(t) || level != "+" && level != t[i] {
			return false
		}
	}
	return len(f) == len(t)
}

// Subject is the device that a notice is written for.
type Subject struct {
	thing.Subject
	Hostname string
}

// Message is one retained message.
type Message struct {
	Topic string
	Body  []byte
}

// Write writes the messages for a device, in the order of the file.
func (n *Notice) Write(s Subject) ([]Message, error) {
	var out []Message
	device := dialect.Values{"device_id": s.DeviceID, "label": s.Label, "site": s.Site, "hostname": s.Hostname, "model": s.Model.Name, "model_title": s.Model.Title, "topic": s.Topic}
	for k, v := range map[string]string{"room": s.Room, "version": s.Version} {
		if v != "" {
			device[k] = v
		}
	}
	if f, ok := s.Dialect.PresenceForm(s.Topic); ok {
		device["presence_topic"], device["presence_online"], device["presence_offline"] = f.Topic, word(f, "online"), word(f, "offline")
		if f.Pointer != "" {
			device["presence_pointer"] = f.Pointer
		}
	}
	for _, e := range n.Entries {
		if e.For == ForDevice {
			m, err := e.write(device)
			if err != nil {
				return nil, err
			}
			out = append(out, m)
			continue
		}
		for _, c := range s.Model.Capabilities {
			if len(e.Kinds) > 0 && !slices.Contains(e.Kinds, string(c.Kind)) || e.Commanded != nil && *e.Commanded != c.Kind.Commanded() {
				continue
			}
			v, err := capability(s, c)
			if err != nil {
				return nil, err
			}
			maps.Copy(v, device)
			m, err := e.write(v)
			if err != nil {
				return nil, fmt.Errorf("write the notice of %s: %w", c.Name, err)
			}
			out = append(out, m)
		}
	}
	return out, nil
}

// word is the unit's word for one of ours; a payload that is JSON stands as JSON.
func word(f dialect.StateForm, ours string) string {
	for theirs, meaning := range f.Words {
		if meaning == ours {
			return theirs
		}
	}
	if !f.Text && f.Pointer == "" && ours != "true" && ours != "false" {
		b, _ := json.Marshal(ours)
		return string(b)
	}
	return ours
}

// sentinel stands for the value in a command, to see where it goes.
const sentinel = 987654321

func capability(s Subject, c inventory.Capability) (dialect.Values, error) {
	v := dialect.Values{"capability": c.Name, "capability_title": c.Title, "kind": string(c.Kind)}
	if c.Unit != "" {
		v["unit"] = c.Unit
	}
	if c.Low != nil {
		v["low"] = *c.Low
	}
	if c.High != nil {
		v["high"] = *c.High
	}
	onOff := c.Kind == inventory.Switch || c.Kind == inventory.Contact
	if f, ok := s.Dialect.StateForm(s.Topic, c.Name); ok {
		v["state_topic"] = f.Topic
		if f.Pointer != "" {
			v["state_pointer"] = f.Pointer
		}
		if onOff {
			v["state_true"], v["state_false"] = word(f, "true"), word(f, "false")
		}
	}
	if !c.Kind.Commanded() {
		return v, nil
	}
	x, ok := s.Dialect.Command(c.Name, dialect.Subject{Model: s.Model, Version: s.Version})
	if !ok {
		return v, nil
	}
	encode := func(value any) (dialect.Request, error) {
		return x.Encode(dialect.Values{"topic": s.Topic, "capability": c.Name, "value": value, "ask_id": "hub"})
	}
	if onOff {
		for name, value := range map[string]bool{"command_true": true, "command_false": false} {
			r, err := encode(value)
			if err != nil {
				return nil, err
			}
			v[name], v["command_topic"] = string(r.Body), r.Topic
		}
		return v, nil
	}
	r, err := encode(int64(sentinel))
	if err != nil {
		return nil, err
	}
	before, after, _ := strings.Cut(string(r.Body), fmt.Sprint(sentinel))
	v["command_topic"], v["command_before"], v["command_after"] = r.Topic, before, after
	return v, nil
}

func (e Entry) write(v dialect.Values) (Message, error) {
	x := dialect.Exchange{Publish: e.Topic, JSON: e.JSON, Text: e.Text, Values: e.Values}
	r, err := x.Encode(v)
	if err != nil {
		return Message{}, err
	}
	return Message{Topic: r.Topic, Body: r.Body}, nil
}
