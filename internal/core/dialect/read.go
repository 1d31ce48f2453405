package dialect

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"fado/internal/core/inventory"
	"fado/internal/core/settings"
)

// ErrUnreadable says that a reply is not what its dialect expects.
var ErrUnreadable = errors.New("the reply cannot be read")

// MaxReply is the longest reply or message that is read, in bytes.
const MaxReply = 256 << 10

// Read takes the facts out of a reply. A fact whose pointer or pattern finds
// nothing is left out; a reply that cannot be read at all is an error.
func (e *Exchange) Read(body []byte) (Facts, error) {
	return read(body, reader{e.ReadJSON, e.patterns, e.ReadEach, e.each, e.Values, e.Scale})
}

// Satisfied reports whether the facts are those that the exchange waits for.
func (e *Exchange) Satisfied(f Facts) bool {
	for fact, want := range e.Until {
		if f.Text(fact) != want {
			return false
		}
	}
	return true
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
		reader{pointers: l.ReadJSON, words: l.Values, scale: l.Scale}.point(item, f)
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
		facts, err := read(payload, reader{m.ReadJSON, m.patterns, m.ReadEach, m.each, m.Values, m.Scale})
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

// SettingsIn picks the settings out of the facts, in their own kinds. Items of
// families are named as the model names them.
func SettingsIn(f Facts, m inventory.Model) settings.Values {
	out := settings.Values{}
	for name, v := range f {
		if list, ok := v.([]Facts); ok {
			for _, item := range list {
				itemSettings(name, item, m, out)
			}
			continue
		}
		if bits, ok := settings.PrefixOf(plainText(v)); ok && name == "address.mask" {
			out[settings.AddressPrefix] = bits
		}
		if n := settings.Normal(settings.Key(name), v); n != nil {
			out[settings.Key(name)] = n
		}
	}
	return out
}

func itemSettings(family string, item Facts, m inventory.Model, out settings.Values) {
	name := item.Text("label")
	if name == "" {
		name = item.Text("pin")
	}
	if name == "" {
		name = item.Text("capability")
	}
	for field, v := range item {
		key := settings.Canonical(settings.ItemKey(family, name, field), m)
		if n := settings.Normal(key, v); n != nil {
			out[key] = n
		}
	}
}

// StateForm is where and how the state of a capability is said.
type StateForm struct {
	Topic    string
	Retained bool
	Text     bool              // the payload is plain text, else JSON
	Pointer  string            // JSON Pointer to the value within the payload
	Words    map[string]string // the unit's word to ours
}

// StateForm tells where and how units of the family say the state of a
// capability.
func (d *Dialect) StateForm(deviceTopic, capability string) (StateForm, bool) {
	for _, m := range d.Messages {
		if m.Kind != State {
			continue
		}
		for _, fact := range []string{"state." + capability, "value"} {
			pointer, inJSON := m.ReadJSON[fact]
			_, inText := m.ReadText[fact]
			if !inJSON && !inText {
				continue
			}
			topic := strings.NewReplacer("{topic}", deviceTopic, "{capability}", capability).Replace(m.Topic)
			return StateForm{Topic: topic, Retained: m.Retained, Text: inText, Pointer: pointer, Words: m.Values[fact]}, true
		}
	}
	return StateForm{}, false
}

// PresenceForm tells where and how units of the family say that they are there.
func (d *Dialect) PresenceForm(deviceTopic string) (StateForm, bool) {
	for _, m := range d.Messages {
		if m.Kind == Presence {
			_, inText := m.ReadText["presence"]
			return StateForm{Topic: strings.ReplaceAll(m.Topic, "{topic}", deviceTopic), Retained: m.Retained, Text: inText, Pointer: m.ReadJSON["presence"], Words: m.Values["presence"]}, true
		}
	}
	return StateForm{}, false
}

// States picks the states of capabilities out of a state message: the one that
// its topic names, or those that its body holds. Values come in the kinds of
// the model's capabilities; what fits none is left out.
func States(f Facts, m inventory.Model) map[string]any {
	out := map[string]any{}
	for _, c := range m.Capabilities {
		v, ok := f["state."+c.Name]
		if !ok && f.Text("capability") == c.Name {
			v, ok = f["value"]
		}
		if ok {
			if n := stateValue(c, v); n != nil {
				out[c.Name] = n
			}
		}
	}
	return out
}

func stateValue(c inventory.Capability, v any) any {
	switch c.Kind {
	case inventory.Switch, inventory.Contact:
		switch plainText(v) {
		case "true", "1":
			return true
		case "false", "0":
			return false
		}
		return nil
	}
	if n, ok := number(v); ok {
		return n
	}
	return nil
}

// reader is how facts are taken out of a reply.
type reader struct {
	pointers map[string]string
	patterns map[string]*regexp.Regexp
	each     map[string]Each
	lines    map[string]*regexp.Regexp // of each
	words    map[string]map[string]string
	scale    map[string]float64
}

func read(body []byte, r reader) (Facts, error) {
	f := Facts{}
	if len(body) > MaxReply {
		return f, fmt.Errorf("%w: it is %d bytes long; at most %d are read", ErrUnreadable, len(body), MaxReply)
	}
	inJSON := len(r.pointers) > 0
	for _, e := range r.each {
		inJSON = inJSON || len(e.ReadJSON) > 0
	}
	if inJSON {
		doc, err := parseJSON(body)
		if err != nil {
			return f, err
		}
		r.point(doc, f)
		for family, e := range r.each {
			if list := e.items(doc, r); list != nil {
				f[family] = list
			}
		}
	}
	if len(r.patterns)+len(r.lines) == 0 {
		return f, nil
	}
	page := strings.ReplaceAll(strings.ToValidUTF8(string(body), "\uFFFD"), "\r\n", "\n")
	for fact, p := range r.patterns {
		if m := p.FindStringSubmatch(page); m != nil {
			f[fact] = r.ours(fact, m[p.SubexpIndex("value")])
		}
	}
	for family, p := range r.lines {
		var list []Facts
		for _, m := range p.FindAllStringSubmatch(page, maxItems) {
			item := Facts{}
			for i, name := range p.SubexpNames() {
				if name != "" {
					item[name] = r.ours(family+"."+name, m[i])
				}
			}
			list = append(list, item)
		}
		if list != nil {
			f[family] = list
		}
	}
	return f, nil
}

// maxItems bounds how many items of a family are read.
const maxItems = 256

func (e Each) items(doc any, r reader) []Facts {
	found, ok := Point(doc, e.In)
	if !ok || len(e.ReadJSON) == 0 {
		return nil
	}
	out := []Facts{}
	one := func(name string, v any) {
		item := Facts{}
		if e.Name != "" {
			item[e.Name] = name
		}
		for field, pointer := range e.ReadJSON {
			if x, ok := Point(v, pointer); ok && x != nil {
				item[field] = r.ours(field, x)
			}
		}
		out = append(out, item)
	}
	switch n := found.(type) {
	case []any:
		for _, v := range n[:min(len(n), maxItems)] {
			one("", v)
		}
	case map[string]any:
		for k, v := range n {
			if len(out) < maxItems {
				one(k, v)
			}
		}
	default:
		return nil
	}
	return out
}

func parseJSON(body []byte) (any, error) {
	var doc any
	if len(body) > MaxReply {
		return nil, fmt.Errorf("%w: it is %d bytes long; at most %d are read", ErrUnreadable, len(body), MaxReply)
	}
	if err := json.Unmarshal(body, &doc); err != nil {
		return nil, fmt.Errorf("%w: it is no JSON (%w)", ErrUnreadable, err)
	}
	return doc, nil
}

func (r reader) point(doc any, f Facts) {
	for fact, pointer := range r.pointers {
		if v, ok := Point(doc, pointer); ok && v != nil {
			f[fact] = r.ours(fact, v)
		}
	}
}

// ours puts what a unit said into our own word, or our own unit of numbers.
func (r reader) ours(fact string, v any) any {
	if ours, ok := r.words[fact][plainText(v)]; ok {
		return ours
	}
	if scale := r.scale[fact]; scale != 0 {
		if n, ok := number(v); ok {
			return whole(n * scale)
		}
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
