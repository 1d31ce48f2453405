// Package thing writes W3C Thing Descriptions 1.1 with MQTT forms for adopted
// devices. It never talks to a hub.
package thing

import (
	"fmt"
	"net/url"
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
	properties := map[string]any{}
	for _, c := range s.Model.Capabilities {
		p, err := property(s, c)
		if err != nil {
			return nil, fmt.Errorf("describe %s: %w", c.Name, err)
		}
		properties[c.Name] = p
	}
	if topic, retained, ok := s.Dialect.TopicOf(dialect.Presence, s.Topic, ""); ok {
		properties["presence"] = map[string]any{
			"title": "Presence", "type": "string", "enum": []any{"online", "offline"}, "readOnly": true, "observable": true,
			"forms": []any{s.form(topic, "subscribe", retained, "readproperty", "observeproperty", "unobserveproperty")},
		}
	}
	return map[string]any{
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
	}, nil
}

func property(s Subject, c inventory.Capability) (map[string]any, error) {
	topic, retained, ok := s.Dialect.TopicOf(dialect.State, s.Topic, c.Name)
	if !ok {
		return nil, fmt.Errorf("the dialect %s says no state", s.Dialect.Name)
	}
	p := map[string]any{"title": c.Title, "observable": true, "readOnly": !c.Kind.Commanded()}
	for k, v := range Schema(c) {
		p[k] = v
	}
	forms := []any{s.form(topic, "subscribe", retained, "readproperty", "observeproperty", "unobserveproperty")}
	if c.Kind.Commanded() {
		command, found := s.Dialect.Command(c.Name, dialect.Subject{Model: s.Model, Version: s.Version})
		if !found {
			return nil, fmt.Errorf("the dialect %s has no command", s.Dialect.Name)
		}
		r, err := command.Encode(dialect.Values{"topic": s.Topic, "capability": c.Name, "value": true, "ask_id": "hub"})
		if err != nil {
			return nil, err
		}
		forms = append(forms, s.form(r.Topic, "publish", false, "writeproperty"))
	}
	p["forms"] = forms
	return p, nil
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
// those it writes.
func Rights(s Subject) (read, write []string) {
	if t, _, ok := s.Dialect.TopicOf(dialect.Presence, s.Topic, ""); ok {
		read = append(read, t)
	}
	for _, c := range s.Model.Capabilities {
		if t, _, ok := s.Dialect.TopicOf(dialect.State, s.Topic, c.Name); ok {
			read = append(read, t)
		}
		if !c.Kind.Commanded() {
			continue
		}
		if command, ok := s.Dialect.Command(c.Name, dialect.Subject{Model: s.Model, Version: s.Version}); ok {
			if strings.HasPrefix(command.Publish, "{topic}") {
				if r, err := command.Encode(dialect.Values{"topic": s.Topic, "capability": c.Name, "value": true, "ask_id": "hub"}); err == nil {
					write = append(write, r.Topic)
				}
			}
		}
	}
	return read, write
}
