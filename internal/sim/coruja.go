package sim

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
)

// coruja is a battery sensor. It is awake for seconds after a press of its
// button and at each wake; what is sent while it sleeps is lost. It keeps one
// document and replaces it as a whole.
type coruja struct {
	u   *unit
	doc map[string]any
}

// The spans of a coruja.
const (
	corujaAwake = 12 * time.Second
	corujaInBox = 60 * time.Second // between two wakes before it has settings
)

func (c *coruja) accessPoint() (name, key string) {
	return "CORUJA_" + strings.ToUpper(c.u.digits()), text(c.doc["a"])
}

func (c *coruja) link() link {
	m := inner(c.doc, "m")
	l := link{host: text(m["h"]), port: whole(m["p"]), tls: m["s"] == "1", ca: text(m["ca"]), user: text(m["u"]), word: text(m["k"]), id: text(m["i"]), topic: text(m["t"]), every: 3600}
	if w, _ := c.doc["w"].([]any); len(w) > 0 {
		first, _ := w[0].([]any)
		if len(first) > 0 {
			l.ssid = text(first[0])
		}
		if len(first) > 1 {
			l.pass = text(first[1])
		}
	}
	return l
}

func (c *coruja) sleeps() (awake, every time.Duration) {
	c.u.mu.Lock()
	defer c.u.mu.Unlock()
	if n := whole(c.doc["n"]); n > 0 {
		return corujaAwake, time.Duration(n) * time.Second
	}
	return corujaAwake, corujaInBox
}

func (c *coruja) settled() string { return "" }

func (c *coruja) goBack() bool { return false }

func (c *coruja) forget() { c.doc = nil }

// open turns the pairs of networks into their names.
func (c *coruja) open() any {
	out := map[string]any{}
	for k, v := range c.doc {
		switch k {
		case "a":
		case "w":
			var names []any
			list, _ := v.([]any)
			for _, pair := range list {
				if p, _ := pair.([]any); len(p) > 0 {
					names = append(names, p[0])
				}
			}
			out[k] = names
		case "m":
			m := map[string]any{}
			for k, v := range inner(c.doc, "m") {
				if k != "k" && k != "ca" {
					m[k] = v
				}
			}
			out[k] = m
		default:
			out[k] = v
		}
	}
	return out
}

// keep replaces the document.
func (c *coruja) keep(doc []byte) bool {
	var d map[string]any
	if json.Unmarshal(doc, &d) != nil || d["w"] == nil || d["m"] == nil {
		return false
	}
	c.u.mu.Lock()
	defer c.u.mu.Unlock()
	switch c.u.fault {
	case NotKept:
		delete(d, "l")
	case PowerCutSave:
		c.u.fault = None
		c.u.poke("restart")
		return true
	}
	c.doc, c.u.trouble = d, ""
	if c.u.mode == "set-up" {
		c.u.proven = false
	}
	return true
}

func (c *coruja) hello(_ context.Context, client mqtt.Client) {
	c.u.mu.Lock()
	t := text(inner(c.doc, "m")["t"])
	kept := c.open()
	up := map[string]any{"mac": c.u.spec.HardwareID, "fw": c.u.version(), "for": int(corujaAwake / time.Second), "cell": c.u.cell(), "ip": c.u.address()}
	c.u.mu.Unlock()
	client.Subscribe(t+"/keep", 1, func(_ mqtt.Client, m mqtt.Message) {
		if n, missed := c.u.has(WakeMissed); missed && n > 0 {
			return // it fell asleep before the message came
		}
		c.u.touch()
		if c.keep(m.Payload()) {
			c.u.poke("restart")
		}
	}).Wait()
	client.Subscribe(t+"/next", 1, func(_ mqtt.Client, m mqtt.Message) {
		var next struct {
			Get, Sum string
			Bytes    int64
		}
		if n, missed := c.u.has(WakeMissed); missed && n > 0 || json.Unmarshal(m.Payload(), &next) != nil || next.Get == "" {
			return
		}
		c.u.touch()
		c.next(next.Get, next.Sum, next.Bytes)
	}).Wait()
	client.Subscribe(t+"/wink", 1, func(mqtt.Client, mqtt.Message) { c.u.touch() }).Wait()
	c.u.publish(t+"/up", up, false)
	c.u.publish(t+"/kept", kept, false)
	v := c.u.values()
	seen := map[string]any{}
	for name, short := range map[string]string{"temperature": "t", "humidity": "rh", "open": "open"} {
		if x, has := v[name]; has {
			seen[short] = x
		}
	}
	c.u.publish(t+"/seen", seen, true)
}

// next fetches an image while the unit stays awake. It says nothing before it is back.
func (c *coruja) next(get, sum string, bytes int64) {
	c.u.mu.Lock()
	defer c.u.mu.Unlock()
	if c.u.update != nil || c.u.cell() < corujaLeast || digestOf(c.u.slots[c.u.active]) == sum {
		return
	}
	d := &download{link: get}
	d.m.Digest.SHA256, d.m.Size = sum, bytes
	c.u.begin(c.u.life, d)
}

// corujaLeast is the battery level, in percent, under which it takes no image.
const corujaLeast = 30

func (c *coruja) tick() {}

func (c *coruja) pages() http.Handler {
	u := c.u
	m := http.NewServeMux()
	m.HandleFunc("GET /id.json", func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		last := map[string]int{"": 0, "wifi_refused": 1, "wifi_not_found": 2, "broker_unreachable": 3, "broker_refused": 4}[u.trouble]
		reply(w, http.StatusOK, map[string]any{"mac": u.spec.HardwareID, "type": u.spec.Model, "fw": u.version(), "cell": u.cell(), "last": last})
	})
	m.HandleFunc("GET /kept.json", func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		reply(w, http.StatusOK, c.open())
	})
	m.HandleFunc("POST /keep.json", func(w http.ResponseWriter, r *http.Request) {
		doc, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<10))
		if err != nil || !c.keep(doc) {
			http.Error(w, "w and m are needed", http.StatusUnprocessableEntity)
			return
		}
		reply(w, http.StatusOK, map[string]any{"ok": 1})
		u.poke("restart")
	})
	return u.inSetUpOnly(m)
}
