package engine

import (
	"bytes"
	"cmp"
	"context"
	"encoding/gob"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"fado/internal/broker"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/store"
)

// How much is kept of what was said: an hour, and no more than this. Where more is
// said, the hour becomes shorter, and the view says how far it reaches back.
const (
	keptFor    = time.Hour
	keptBytes  = 64 << 20
	ofOne      = 96 // what a kept message takes besides its topic and payload
	longestHit = 200_000
)

// Said is one message under a device's topic.
type Said struct {
	Seq      int64 // counts up, over restarts too
	At       time.Time
	Device   string // id
	Base     string // the device's topic when it was said
	Topic    string // whole
	Payload  []byte // nil when it is hidden
	Size     int
	Retained bool   // it is a kept message of the past
	From     string // account that sent it, "" where the broker does not tell
	Hidden   bool   // it may hold a secret: it is no message that a unit sends
}

// said keeps what was said for an hour. One goroutine adds, any may read: batches are
// never changed once they are there.
type said struct {
	mu      sync.RWMutex
	batches [][]Said
	bytes   int
	next    int64

	fresh []Said // owned by the ingest
}

func sizeOf(batch []Said) (n int) {
	for i := range batch {
		n += ofOne + len(batch[i].Topic) + len(batch[i].Base) + len(batch[i].Payload)
	}
	return n
}

// loadSaid reads what was kept before a restart.
func (in *ingest) loadSaid() error {
	since := in.e.Clock.Now().Add(-keptFor)
	var rows []store.Heard
	err := in.e.Store.Telemetry(in.e.ctx, func(tx *store.Tx) (err error) {
		if _, err := store.Delete[store.Heard](tx, "until < ?", since); err != nil {
			return err
		}
		rows, err = store.All[store.Heard](tx, "id", "1 = 1")
		return err
	})
	if err != nil {
		return fmt.Errorf("load what was said in the last hour: %w", err)
	}
	in.said.next = 1
	for _, row := range rows {
		var batch []Said
		if err := gob.NewDecoder(bytes.NewReader(row.Body)).Decode(&batch); err != nil || len(batch) == 0 {
			in.e.Log.Warn("messages that were kept cannot be read", "id", row.ID, "error", err)
			continue
		}
		in.said.batches = append(in.said.batches, batch)
		in.said.bytes += sizeOf(batch)
		in.said.next = batch[len(batch)-1].Seq + 1
	}
	return in.catchUpHealth()
}

// hear notes a message of a device. What no unit sends, and is no command to switch
// something, may hold a secret and is kept without its payload.
func (in *ingest) hear(l *listened, base string, m broker.Message, known bool, at time.Time) {
	s := Said{Seq: in.said.next, At: at, Device: l.id, Base: base, Topic: m.Topic, Payload: m.Payload, Size: len(m.Payload), Retained: m.Replayed, From: m.From}
	if !known && len(m.Payload) > 0 && !l.commands(m.Topic, m.Payload) && (m.From == "" || m.From == "inline" || !strings.HasPrefix(m.From, "unit-")) {
		s.Payload, s.Hidden = nil, true
	}
	if s.From == "inline" {
		s.From = "fado"
	}
	in.said.next++
	in.said.fresh = append(in.said.fresh, s)
}

// keepSaid puts what was heard since the last time where it can be read, and writes it.
func (in *ingest) keepSaid(tx *store.Tx) error {
	batch := in.said.fresh
	if len(batch) == 0 {
		return nil
	}
	var b bytes.Buffer
	if err := gob.NewEncoder(&b).Encode(batch); err != nil {
		return err
	}
	if err := store.Save(tx, &store.Heard{ID: batch[0].Seq, At: batch[0].At, Until: batch[len(batch)-1].At, Body: b.Bytes()}); err != nil {
		return err
	}
	gone := in.said.add(batch, in.e.Clock.Now())
	in.said.fresh = make([]Said, 0, len(batch)) // as many come again, as likely as not
	if gone > 0 {
		_, err := store.Delete[store.Heard](tx, "id <= ?", gone)
		return err
	}
	return nil
}

// add appends a batch and lets go of what is too old or too much. gone is the number
// of the last message that was let go of, 0 for none.
func (s *said) add(batch []Said, now time.Time) (gone int64) {
	if len(batch) == 0 {
		return 0
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.batches = append(s.batches, batch)
	s.bytes += sizeOf(batch)
	n := 0
	for n < len(s.batches)-1 && (s.bytes > keptBytes || now.Sub(s.batches[n][len(s.batches[n])-1].At) > keptFor) {
		s.bytes -= sizeOf(s.batches[n])
		gone = s.batches[n][len(s.batches[n])-1].Seq
		n++
	}
	if n > 0 {
		s.batches = append([][]Said(nil), s.batches[n:]...)
	}
	return gone
}

// MessageFilter says which messages are asked for.
type MessageFilter struct {
	Site, Room, Device string // refs, "" for all
	Kind               string // "" for all; command is what is sent to a unit
	Contains           string // in topic or payload, whatever the case
	After              int64  // messages with higher numbers only
	Limit              int    // the latest so many
}

// Heard is a message with what it means.
type Heard struct {
	Said
	Kind  dialect.MessageKind // "" for what its dialect does not know
	Facts dialect.Facts
	Means string // of a state: what is in which state, in words
}

// MessagePage is a part of what was said, the oldest first.
type MessagePage struct {
	Messages []Heard
	Next     int64     // give it as After to read on
	LeftOut  int       // that fit, but are older than the first of these
	Since    time.Time // how far back anything is kept; zero for nothing
}

// Command is the kind under which messages to a unit are shown.
const Command dialect.MessageKind = "command"

// Heard finds messages of the last hour.
func (e *Engine) Heard(ctx context.Context, f MessageFilter) (MessagePage, error) {
	var out MessagePage
	only, err := e.whose(ctx, f)
	if err != nil {
		return out, err
	}
	e.ingest.said.mu.RLock()
	batches := e.ingest.said.batches
	e.ingest.said.mu.RUnlock()
	out.Next = f.After
	if len(batches) == 0 {
		return out, nil
	}
	last := batches[len(batches)-1]
	out.Since, out.Next = batches[0][0].At, last[len(last)-1].Seq
	if f.After > out.Next {
		f.After = 0 // a number of another data folder
	}
	needle := strings.ToLower(f.Contains)
	looked := 0
	for _, batch := range slices.Backward(batches) {
		if batch[len(batch)-1].Seq <= f.After || ctx.Err() != nil {
			break
		}
		for i := len(batch) - 1; i >= 0; i-- {
			s := &batch[i]
			if s.Seq <= f.After {
				break
			}
			if only != nil && !only[s.Device] || needle != "" && !strings.Contains(strings.ToLower(s.Topic), needle) && !bytes.Contains(bytes.ToLower(s.Payload), []byte(needle)) {
				continue
			}
			if looked++; looked > longestHit {
				return ordered(out), nil // nobody reads that far; the rest is a matter of the filter
			}
			if f.Kind == "" && len(out.Messages) >= f.Limit {
				out.LeftOut++
				continue
			}
			h := e.ingest.understand(*s)
			if f.Kind != "" && string(h.Kind) != f.Kind {
				continue
			}
			if len(out.Messages) >= f.Limit {
				out.LeftOut++
				continue
			}
			out.Messages = append(out.Messages, h)
		}
	}
	return ordered(out), nil
}

func ordered(p MessagePage) MessagePage {
	slices.Reverse(p.Messages)
	return p
}

// saidSince is what a unit itself has said live since a moment and is still kept, the
// oldest first.
func (in *ingest) saidSince(device string, since time.Time) (out []Heard) {
	in.said.mu.RLock()
	batches := in.said.batches
	in.said.mu.RUnlock()
	for _, batch := range batches {
		if batch[len(batch)-1].At.Before(since) {
			continue
		}
		for _, s := range batch {
			if s.Device == device && s.At.After(since) && !s.Retained && s.From != "fado" {
				if h := in.understand(s); h.Facts != nil {
					out = append(out, h)
				}
			}
		}
	}
	return out
}

// understand decodes a message through its device's dialect.
func (in *ingest) understand(s Said) Heard {
	h := Heard{Said: s}
	in.mu.RLock()
	l := in.byID[s.Device]
	in.mu.RUnlock()
	if l == nil || l.dialect == nil || s.Hidden {
		if s.Hidden {
			h.Kind = Command
		}
		return h
	}
	if kind, facts, ok := l.dialect.Decode(s.Base, s.Topic, s.Payload); ok {
		h.Kind = kind
		if len(s.Payload) > 0 {
			h.Facts = facts
		}
		if kind == dialect.State {
			h.Means = inWords(dialect.States(facts, l.model), l.model)
		}
	} else if l.commands(s.Topic, s.Payload) {
		h.Kind = Command
	}
	return h
}

// signs are the signs of units whose code is another word.
var signs = map[string]string{"Cel": "°C"}

// inWords says states as a person would.
func inWords(states map[string]any, m inventory.Model) string {
	var out []string
	for _, c := range m.Capabilities {
		switch v := states[c.Name].(type) {
		case nil:
		case bool:
			word := map[bool]string{true: "on", false: "off"}[v]
			if c.Kind == inventory.Contact {
				word = map[bool]string{true: "open", false: "closed"}[v]
			}
			out = append(out, c.Title+" "+word)
		default:
			out = append(out, strings.TrimSpace(fmt.Sprintf("%s %v %s", c.Title, v, cmp.Or(signs[c.Unit], c.Unit))))
		}
	}
	return strings.Join(out, ", ")
}

// whose are the devices that a filter asks for; nil for all.
func (e *Engine) whose(ctx context.Context, f MessageFilter) (map[string]bool, error) {
	if f.Device != "" {
		d, err := e.FindDevice(ctx, f.Device)
		return map[string]bool{d.ID: true}, err
	}
	if f.Site == "" {
		if f.Room == "" {
			return nil, nil
		}
		var p problem.Fields
		p.Add("site", "a room is one of a site", "lagar")
		return nil, p.Err("The messages were not read.")
	}
	site, err := e.FindSite(ctx, f.Site)
	if err != nil {
		return nil, err
	}
	where, args := "site_id = ?", []any{site.ID}
	if f.Room != "" {
		r, err := store.One[store.Room](e.Store.Read(ctx), "site_id = ? AND (name = ? OR id = ?)", site.ID, f.Room, f.Room)
		if isNone(err) {
			return nil, notFound("room", f.Room)
		}
		if err != nil {
			return nil, err
		}
		where, args = where+" AND room_id = ?", append(args, r.ID)
	}
	list, err := store.All[store.Device](e.Store.Read(ctx), "id", where, args...)
	only := make(map[string]bool, len(list))
	for _, d := range list {
		only[d.ID] = true
	}
	return only, err
}

// commands reports whether a payload switches something of a device, and nothing
// else.
func (l *listened) commands(topic string, payload []byte) bool {
	for _, c := range l.told()[topic] {
		if c.exchange.Commands(c.capability, payload) {
			return true
		}
	}
	return false
}

// switching is how a capability is switched.
type switching struct {
	capability string
	exchange   *dialect.Exchange
}

// ordersOf are the topics on which a device is told to switch something.
func ordersOf(version string, l *listened) map[string][]switching {
	out := map[string][]switching{}
	if l.dialect == nil {
		return out
	}
	for _, c := range l.model.Capabilities {
		x, ok := l.dialect.Command(c.Name, dialect.Subject{Model: l.model, Version: version})
		if !c.Kind.Commanded() || !ok {
			continue
		}
		one := switching{c.Name, &x}
		for _, topic := range []string{l.topic, l.inUse} {
			r, err := x.Encode(dialect.Values{"topic": topic, "capability": c.Name, "value": true, "ask_id": "x"})
			if err == nil && !slices.Contains(out[r.Topic], one) {
				out[r.Topic] = append(out[r.Topic], one)
			}
		}
	}
	return out
}
