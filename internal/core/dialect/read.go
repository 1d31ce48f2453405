package dialect

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"fado/internal/core/settings"
)

// MaxReply is the longest reply or message that is read, in bytes.
const MaxReply = 256 << 10

// Read takes the facts out of a reply. A fact whose pointer or pattern finds
// nothing is left out; a reply that cannot be read at all is an error.
func (e *Exchange) Read(body []byte) (Facts, error) {
	return read(body, e.ReadJSON, e.patterns, e.Values)
}

// Read takes the list out of a reply, one set of facts an element.
func (l *Listing) Read(body []byte) ([]Facts, error) {
	doc, err := parseJSON(body)
	if err != nil {
		return nil, err
	}
	list, ok := Point(doc, l.Each)
	items, isList := list.([]any)
	if !ok || !isList {
		return nil, fmt.Errorf("the reply has no list at %q", l.Each)
	}
	out := make([]Facts, 0, len(items))
	for _, item := range items {
		f := Facts{}
		point(item, l.ReadJSON, l.Values, f)
		out = append(out, f)
	}
	return out, nil
}

// Decode reads a message that came in on a topic below the device's own. The
// placeholders of the dialect's topic, such as {capability}, become facts.
func (d *Dialect) Decode(deviceTopic, topic string, payload []byte) (MessageKind, Facts, bool) {
	rest, ok := strings.CutPrefix(topic, deviceTopic)
	if !ok {
		return "", nil, false
	}
	for i := range d.Messages {
		m := &d.Messages[i]
		sub := m.topic.FindStringSubmatch(rest)
		if sub == nil {
			continue
		}
		facts, err := read(payload, m.ReadJSON, m.patterns, m.Values)
		if err != nil {
			facts = Facts{"unreadable": err.Error()}
		}
		for i, name := range m.topic.SubexpNames() {
			if name != "" {
				facts[name] = sub[i]
			}
		}
		return m.Kind, facts, true
	}
	return "", nil, false
}

// TopicOf returns the topic of a kind of message for a device, with capability
// filled in, and whether it is kept by the broker.
func (d *Dialect) TopicOf(kind MessageKind, deviceTopic, capability string) (topic string, retained, ok bool) {
	for _, m := range d.Messages {
		if m.Kind == kind {
			t := strings.NewReplacer("{topic}", deviceTopic, "{capability}", capability).Replace(m.Topic)
			return t, m.Retained, true
		}
	}
	return "", false, false
}

// SettingsIn picks the settings out of the facts, in their own kinds.
func SettingsIn(f Facts) settings.Values {
	out := settings.Values{}
	for name, v := range f {
		if n := settings.Normal(settings.Key(name), v); n != nil {
			out[settings.Key(name)] = n
		}
	}
	return out
}

func read(body []byte, pointers map[string]string, patterns map[string]*regexp.Regexp, words map[string]map[string]string) (Facts, error) {
	f := Facts{}
	if len(body) > MaxReply {
		return f, fmt.Errorf("the reply is %d bytes long; at most %d are read", len(body), MaxReply)
	}
	if len(pointers) > 0 {
		doc, err := parseJSON(body)
		if err != nil {
			return f, err
		}
		point(doc, pointers, words, f)
	}
	if len(patterns) > 0 {
		page := strings.ReplaceAll(strings.ToValidUTF8(string(body), "\uFFFD"), "\r\n", "\n")
		for fact, p := range patterns {
			if m := p.FindStringSubmatch(page); m != nil {
				f[fact] = word(words[fact], m[p.SubexpIndex("value")])
			}
		}
	}
	return f, nil
}

func parseJSON(body []byte) (any, error) {
	var doc any
	if len(body) > MaxReply {
		return nil, fmt.Errorf("the reply is %d bytes long; at most %d are read", len(body), MaxReply)
	}
	if err := json.Unmarshal(body, &doc); err != nil {
		return nil, fmt.Errorf("the reply is no JSON: %w", err)
	}
	return doc, nil
}

func point(doc any, pointers map[string]string, words map[string]map[string]string, f Facts) {
	for fact, pointer := range pointers {
		if v, ok := Point(doc, pointer); ok && v != nil {
			f[fact] = word(words[fact], v)
		}
	}
}

func word(words map[string]string, v any) any {
	if ours, ok := words[plainText(v)]; ok {
		return ours
	}
	return v
}

// Point follows a JSON Pointer (RFC 6901) into a decoded document.
func Point(doc any, pointer string) (any, bool) {
	if pointer == "" {
		return doc, true
	}
	if !strings.HasPrefix(pointer, "/") {
		return nil, false
	}
	for token := range strings.SplitSeq(pointer[1:], "/") {
		token = strings.ReplaceAll(strings.ReplaceAll(token, "~1", "/"), "~0", "~")
		switch n := doc.(type) {
		case map[string]any:
			v, ok := n[token]
			if !ok {
				return nil, false
			}
			doc = v
		case []any:
			i, err := strconv.Atoi(token)
			if err != nil || i < 0 || i >= len(n) || token != strconv.Itoa(i) {
				return nil, false
			}
			doc = n[i]
		default:
			return nil, false
		}
	}
	return doc, true
}
