// Package thing writes W3C Thing Descriptions 1.1 with MQTT forms for adopted
// devices. It never talks to a hub.
package thing

import (
	"fmt"
	"maps"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
)

// Subject is what a description is made from.
type Subject struct {
	DeviceID string // a UUID; the thing's id is its URN, so that a replaced unit keeps it
	Label    string
	Site     string
	Room     string
	Topic    string
	Version  string // of the firmware, for the dialect's conditions
	Model    inventory.Model
	Dialect  *dialect.Dialect
	Broker   Broker
}

// Broker is where the thing's topics are found.
type Broker struct {
	Host string
	Port int
	TLS  bool
}

// ID is the thing's id.
func ID(deviceID string) string { return "urn:uuid:" + deviceID }

// MediaType is the media type of Thing Descriptions.
const MediaType = "application/td+json"

// Describe writes the description as a JSON object.
func Describe(s Subject) (map[string]any, error) {
	properties, actions := map[string]any{}, map[string]any{}
	for _, c := range s.Model.Capabilities {
		p, action, err := property(s, c)
		if err != nil {
			return nil, fmt.Errorf("describe %s: %w", c.Name, err)
		}
		properties[c.Name] = p
		if action != nil {
			actions[Action(c.Name)] = action
		}
	}
	if p := presence(s); p != nil {
		properties["presence"] = p
	}
	td := map[string]any{
		"@context": []any{"https://www.w3.org/2022/wot/td/v1.1",
			map[string]any{"mqv": "http://www.example.org/mqtt-binding#", "schema": "https://schema.org/"}},
		"@type":                   "Thing",
		"id":                      ID(s.DeviceID),
		"title":                   s.Label,
		"description":             fmt.Sprintf("%s, %s", s.Model.Title, s.Site),
		"schema:containedInPlace": s.Room,
		"schema:model":            s.Model.Name,
		"securityDefinitions":     map[string]any{"account": map[string]any{"scheme": "basic", "description": "The hub's own account on the broker"}},
		"security":                []any{"account"},
		"properties":              properties,
	}
	if len(actions) > 0 {
		td["actions"] = actions
	}
	return td, nil
}

// presence describes how a unit says that it is there; nil for families that do
// not.
func presence(s Subject) map[string]any {
	f, ok := s.Dialect.PresenceForm(s.Topic)
	if !ok {
		return nil
	}
	schema := map[string]any{"type": "string", "enum": []any{"online", "offline"}}
	if len(f.Words) > 0 {
		var list []any
		for _, theirs := range slices.Sorted(maps.Keys(f.Words)) {
			list = append(list, map[string]any{"const": typed(f, theirs), "title": f.Words[theirs]})
		}
		schema = map[string]any{"oneOf": list}
	}
	if !f.Text && f.Pointer != "" {
		schema = map[string]any{"type": "object", "properties": map[string]any{f.Pointer[1:]: schema}}
	}
	p := map[string]any{"title": "Presence", "readOnly": true, "observable": true}
	maps.Copy(p, schema)
	form := s.form(f.Topic, "subscribe", f.Retained, "readproperty", "observeproperty", "unobserveproperty")
	if f.Text {
		form["contentType"] = plain
	}
	p["forms"] = []any{form}
	return p
}

// typed is a unit's word as it stands in JSON.
func typed(f dialect.StateForm, word string) any {
	if !f.Text && (word == "true" || word == "false") {
		return word == "true"
	}
	return word
}

// property describes a capability by what its unit really says. Where a command
// has the same form as the state it writes the property; else it is an action of
// its own.
func property(s Subject, c inventory.Capability) (p, action map[string]any, err error) {
	state, ok := s.Dialect.StateForm(s.Topic, c.Name)
	if !ok {
		return nil, nil, fmt.Errorf("the dialect %s says no state of it", s.Dialect.Name)
	}
	schema := payload(state, c)
	p = map[string]any{"title": c.Title, "observable": true, "readOnly": true}
	maps.Copy(p, schema)
	read := s.form(state.Topic, "subscribe", state.Retained, "readproperty", "observeproperty", "unobserveproperty")
	if state.Text {
		read["contentType"] = plain
	}
	forms := []any{read}
	if c.Kind.Commanded() {
		command, found := s.Dialect.Command(c.Name, dialect.Subject{Model: s.Model, Version: s.Version})
		if !found {
			return nil, nil, fmt.Errorf("the dialect %s has no command", s.Dialect.Name)
		}
		r, err := command.Encode(commandValues(s, c))
		if err != nil {
			return nil, nil, err
		}
		input, isText := input(command, c)
		if !isText && !state.Text && reflect.DeepEqual(input, schema) {
			p["readOnly"] = false
			forms = append(forms, s.form(r.Topic, "publish", false, "writeproperty"))
		} else {
			invoke := s.form(r.Topic, "publish", false, "invokeaction")
			if isText {
				invoke["contentType"] = plain
			}
			action = map[string]any{"title": "Set " + c.Title, "input": input, "forms": []any{invoke}}
		}
	}
	p["forms"] = forms
	return p, action, nil
}

const plain = "text/plain; charset=utf-8"

func commandValues(s Subject, c inventory.Capability) dialect.Values {
	return dialect.Values{"topic": s.Topic, "capability": c.Name, "value": true, "ask_id": "hub"}
}

// Action names the action that sets a capability.
func Action(capability string) string { return "set-" + capability }

// payload is the data schema of what a unit says of a capability.
func payload(f dialect.StateForm, c inventory.Capability) map[string]any {
	out := worded(f.Words, c)
	if f.Text || f.Pointer == "" {
		return out
	}
	levels := strings.Split(f.Pointer[1:], "/")
	slices.Reverse(levels)
	for _, name := range levels {
		out = map[string]any{"type": "object", "properties": map[string]any{name: out}}
	}
	return out
}

// worded is the schema of a value that a unit says in words of its own. Each
// word's title says what it means.
func worded(words map[string]string, c inventory.Capability) map[string]any {
	if len(words) == 0 || c.Kind != inventory.Switch && c.Kind != inventory.Contact {
		return Schema(c)
	}
	var list []any
	for _, theirs := range slices.Sorted(maps.Keys(words)) {
		meaning := "on"
		if words[theirs] == "false" {
			meaning = "off"
		}
		list = append(list, map[string]any{"const": theirs, "title": meaning})
	}
	return map[string]any{"type": "string", "oneOf": list}
}

// input is the data schema of a command's payload.
func input(x dialect.Exchange, c inventory.Capability) (schema map[string]any, isText bool) {
	if x.Text != "" {
		return worded(x.Values["value"], c), true
	}
	schema, _ = inputOf(x.JSON, x.Values["value"], c)
	return schema, false
}

func inputOf(node any, words map[string]string, c inventory.Capability) (map[string]any, bool) {
	switch n := node.(type) {
	case string:
		switch n {
		case "{value}":
			return worded(words, c), true
		case "{capability}":
			return map[string]any{"const": c.Name}, true
		}
		if strings.Contains(n, "{") {
			return nil, false // a name for the answer, which the hub needs not
		}
		return map[string]any{"const": n}, true
	case map[string]any:
		properties, required := map[string]any{}, []any{}
		for _, k := range slices.Sorted(maps.Keys(n)) {
			if p, ok := inputOf(n[k], words, c); ok {
				properties[k] = p
				required = append(required, k)
			}
		}
		return map[string]any{"type": "object", "properties": properties, "required": required}, true
	}
	return map[string]any{"const": node}, true
}

// Schema is the data schema of a capability's values.
func Schema(c inventory.Capability) map[string]any {
	switch c.Kind {
	case inventory.Switch, inventory.Contact:
		return map[string]any{"type": "boolean"}
	}
	out := map[string]any{"type": "number"}
	if c.Unit != "" {
		out["unit"] = c.Unit
	}
	if c.Low != nil {
		out["minimum"] = *c.Low
	}
	if c.High != nil {
		out["maximum"] = *c.High
	}
	return out
}

func (s Subject) form(topic, packet string, retain bool, ops ...string) map[string]any {
	scheme := "mqtt"
	if s.Broker.TLS {
		scheme = "mqtts"
	}
	host := s.Broker.Host
	if strings.Contains(host, ":") { // an IPv6 address (RFC 3986, section 3.2.2)
		host = "[" + host + "]"
	}
	href := url.URL{Scheme: scheme, Host: host + ":" + strconv.Itoa(s.Broker.Port), Path: "/" + topic}
	list := make([]any, len(ops))
	for i, o := range ops {
		list[i] = o
	}
	f := map[string]any{
		"href": href.String(), "op": list, "contentType": "application/json",
		"mqv:controlPacket": packet, "mqv:qos": "1", "mqv:retain": retain,
	}
	if packet == "publish" {
		f["mqv:topic"] = topic
	} else {
		f["mqv:filter"] = topic
	}
	return f
}

// Rights lists the topics that a hub needs for a device: those it reads and
// those it writes, each once.
func Rights(s Subject) (read, write []string) {
	if f, ok := s.Dialect.PresenceForm(s.Topic); ok {
		read = append(read, f.Topic)
	}
	for _, c := range s.Model.Capabilities {
		if f, ok := s.Dialect.StateForm(s.Topic, c.Name); ok {
			read = append(read, f.Topic)
		}
		if !c.Kind.Commanded() {
			continue
		}
		if command, ok := s.Dialect.Command(c.Name, dialect.Subject{Model: s.Model, Version: s.Version}); ok {
			if r, err := command.Encode(commandValues(s, c)); err == nil {
				write = append(write, r.Topic)
			}
		}
	}
	slices.Sort(read)
	slices.Sort(write)
	return slices.Compact(read), slices.Compact(write)
}
