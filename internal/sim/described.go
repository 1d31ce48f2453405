package sim

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
	"github.com/goccy/go-yaml"
)

// Described is a unit that a file describes, for rehearsing a dialect without
// hardware: what it keeps in its slots, the pages that fill and show them, and
// what it says and hears on the broker. docs/dialects.md is its reference.
type Described struct {
	Unit        string  `yaml:"unit" json:"unit"`
	Model       string  `yaml:"model" json:"model"`
	Version     string  `yaml:"version" json:"version"`
	Boot        float64 `yaml:"boot_seconds" json:"boot_seconds"`
	AccessPoint struct {
		Name string `yaml:"name" json:"name"`
		Key  string `yaml:"key" json:"key"`
	} `yaml:"access_point" json:"access_point"`
	Login *struct {
		User     string `yaml:"user" json:"user"`
		Password string `yaml:"password" json:"password"`
	} `yaml:"login" json:"login,omitempty"`
	Slots map[string]string `yaml:"slots" json:"slots"` // name to first value
	Joins struct {
		SSID       string `yaml:"ssid" json:"ssid"`
		Passphrase string `yaml:"passphrase" json:"passphrase"`
		Host       string `yaml:"host" json:"host"`
		Port       string `yaml:"port" json:"port"`
		User       string `yaml:"user" json:"user"`
		Password   string `yaml:"password" json:"password"`
		Topic      string `yaml:"topic" json:"topic"`
	} `yaml:"joins" json:"joins"`
	Pages []DescribedPage    `yaml:"pages" json:"pages"`
	Will  *DescribedMessage  `yaml:"will" json:"will,omitempty"`
	Says  []DescribedMessage `yaml:"says" json:"says"`
	Hears []struct {
		Topic string             `yaml:"topic" json:"topic"`
		Keeps map[string]string  `yaml:"keeps" json:"keeps"` // slot to JSON Pointer, or "" for the whole text
		Words map[string]string  `yaml:"words" json:"words"` // what is heard to what is kept
		Says  []DescribedMessage `yaml:"says" json:"says"`
	} `yaml:"hears" json:"hears"`
}

// DescribedPage is a page of a described unit.
type DescribedPage struct {
	Get      string            `yaml:"get" json:"get,omitempty"`
	Post     string            `yaml:"post" json:"post,omitempty"`
	Put      string            `yaml:"put" json:"put,omitempty"`
	Keeps    map[string]string `yaml:"keeps" json:"keeps,omitempty"` // slot to field of the form, or JSON Pointer
	Text     string            `yaml:"text" json:"text,omitempty"`
	JSON     any               `yaml:"json" json:"json,omitempty"`
	Restarts bool              `yaml:"restarts" json:"restarts,omitempty"`
}

// DescribedMessage is something that a described unit says.
type DescribedMessage struct {
	Topic    string `yaml:"topic" json:"topic"`
	Text     string `yaml:"text" json:"text,omitempty"`
	JSON     any    `yaml:"json" json:"json,omitempty"`
	Retained bool   `yaml:"retained" json:"retained,omitempty"`
}

// ParseDescribed reads a unit's file. Errors name line and column.
func ParseDescribed(file []byte) (Described, error) {
	var d Described
	if len(file) > 256<<10 {
		return d, fmt.Errorf("the unit's file is %d bytes long; at most %d are read", len(file), 256<<10)
	}
	if err := yaml.UnmarshalWithOptions(file, &d, yaml.Strict()); err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		return d, fmt.Errorf("the unit's file cannot be read: %s", first)
	}
	switch {
	case d.Unit == "":
		return d, fmt.Errorf("the unit's file needs a name under «unit»")
	case d.AccessPoint.Name == "":
		return d, fmt.Errorf("the unit's file needs «access_point» with a name, such as %s-{last6}", d.Unit)
	case len(d.Pages) == 0:
		return d, fmt.Errorf("the unit's file needs «pages»")
	}
	known := slices.Concat([]string{"hardware_id", "digits", "last6", "version", "model", "address", "set_up_code", "topic"}, slices.Collect(maps.Keys(d.Slots)))
	for _, p := range d.Pages {
		if verbs := slices.DeleteFunc([]string{p.Get, p.Post, p.Put}, func(v string) bool { return v == "" }); len(verbs) != 1 || !strings.HasPrefix(verbs[0], "/") || strings.ContainsAny(verbs[0], " {}") {
			return d, fmt.Errorf("a page of the unit's file needs one of get, post and put, with a path such as /about")
		}
		for slot := range p.Keeps {
			if _, ok := d.Slots[slot]; !ok {
				return d, fmt.Errorf("a page keeps %q, which is no slot; there are %s", slot, strings.Join(slices.Sorted(maps.Keys(d.Slots)), ", "))
			}
		}
		for _, m := range placeholders.FindAllStringSubmatch(p.Text, -1) {
			if !slices.Contains(known, m[1]) {
				return d, fmt.Errorf("a page says {%s}, which is no slot; there are %s", m[1], strings.Join(known, ", "))
			}
		}
	}
	return d, nil
}

var placeholders = regexp.MustCompile(`\{([a-z0-9_]+)\}`)

type described struct {
	u     *unit
	d     Described
	slots map[string]string

	said sync.Mutex // what it says stays in order
}

func newDescribed(u *unit, d Described) (manner, error) {
	m := &described{u: u, d: d}
	m.forget()
	return m, nil
}

func (m *described) forget() {
	m.slots = maps.Clone(m.d.Slots)
	if m.slots == nil {
		m.slots = map[string]string{}
	}
}

// value is what a placeholder stands for. The unit's lock is held.
func (m *described) value(name string) string {
	digits := m.u.digits()
	switch name {
	case "hardware_id":
		return m.u.spec.HardwareID
	case "digits":
		return strings.ToLower(digits)
	case "last6":
		return strings.ToLower(digits[len(digits)-6:])
	case "version":
		return m.u.version()
	case "model":
		return m.u.spec.Model
	case "address":
		return m.u.address()
	case "set_up_code":
		return m.u.spec.SetUpCode
	case "topic":
		return m.slots[m.d.Joins.Topic]
	}
	return m.slots[name]
}

func (m *described) fill(text string) string {
	return placeholders.ReplaceAllStringFunc(text, func(p string) string { return m.value(p[1 : len(p)-1]) })
}

func (m *described) fillJSON(node any) any {
	switch n := node.(type) {
	case string:
		return m.fill(n)
	case map[string]any:
		out := map[string]any{}
		for k, v := range n {
			out[k] = m.fillJSON(v)
		}
		return out
	case []any:
		out := make([]any, len(n))
		for i, v := range n {
			out[i] = m.fillJSON(v)
		}
		return out
	}
	return node
}

func (m *described) accessPoint() (name, key string) {
	return m.fill(m.d.AccessPoint.Name), m.fill(m.d.AccessPoint.Key)
}

func (m *described) link() link {
	j := m.d.Joins
	port, _ := strconv.Atoi(m.slots[j.Port])
	l := link{ssid: m.slots[j.SSID], pass: m.slots[j.Passphrase], host: m.slots[j.Host], port: port, user: m.slots[j.User], word: m.slots[j.Password], topic: m.slots[j.Topic], every: 10}
	if m.d.Will != nil {
		l.will, l.farewell = m.fill(m.d.Will.Topic), m.fill(m.d.Will.Text)
	}
	return l
}

func (m *described) sleeps() (awake, every time.Duration) { return 0, 0 }

func (m *described) settled() string { return "" }

func (m *described) goBack() bool { return false }

func (m *described) open() any {
	out := maps.Clone(m.slots)
	delete(out, m.d.Joins.Passphrase)
	delete(out, m.d.Joins.Password)
	return out
}

func (m *described) hello(_ context.Context, c mqtt.Client) {
	for _, h := range m.d.Hears {
		m.u.mu.Lock()
		topic := m.fill(h.Topic)
		m.u.mu.Unlock()
		c.Subscribe(topic, 1, func(_ mqtt.Client, msg mqtt.Message) {
			m.u.mu.Lock()
			for slot, pointer := range h.Keeps {
				v, ok := heardValue(msg.Payload(), pointer)
				if word, known := h.Words[v]; known {
					v = word
				}
				if ok {
					m.slots[slot] = v
				}
			}
			m.u.mu.Unlock()
			m.say(h.Says)
		}).Wait()
	}
	m.say(m.d.Says)
}

func heardValue(payload []byte, pointer string) (string, bool) {
	if pointer == "" {
		return string(payload), true
	}
	var doc any
	if json.Unmarshal(payload, &doc) != nil {
		return "", false
	}
	return pointed(doc, pointer)
}

// pointed follows a JSON Pointer (RFC 6901) to a value and writes it as text.
func pointed(doc any, pointer string) (string, bool) {
	for level := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		switch n := doc.(type) {
		case map[string]any:
			doc = n[level]
		case []any:
			i, err := strconv.Atoi(level)
			if err != nil || i < 0 || i >= len(n) {
				return "", false
			}
			doc = n[i]
		}
	}
	switch v := doc.(type) {
	case nil:
		return "", false
	case string:
		return v, true
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), true
	}
	return fmt.Sprint(doc), true
}

func (m *described) say(list []DescribedMessage) {
	m.said.Lock()
	defer m.said.Unlock()
	for _, s := range list {
		m.u.mu.Lock()
		topic, text := m.fill(s.Topic), m.fill(s.Text)
		if s.JSON != nil {
			b, _ := json.Marshal(m.fillJSON(s.JSON))
			text = string(b)
		}
		m.u.mu.Unlock()
		m.u.say(topic, text, s.Retained)
	}
}

func (m *described) tick() { m.say(m.d.Says) }

func (m *described) pages() http.Handler {
	mux := http.NewServeMux()
	for _, p := range m.d.Pages {
		verb, path := "GET", p.Get
		switch {
		case p.Post != "":
			verb, path = "POST", p.Post
		case p.Put != "":
			verb, path = "PUT", p.Put
		}
		mux.HandleFunc(verb+" "+path, func(w http.ResponseWriter, r *http.Request) { m.page(w, r, p) })
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if l := m.d.Login; l != nil {
			m.u.mu.Lock()
			user, pass := m.fill(l.User), m.fill(l.Password)
			m.u.mu.Unlock()
			u, p, _ := r.BasicAuth()
			if pass != "" && (u != user || subtle.ConstantTimeCompare([]byte(p), []byte(pass)) != 1) {
				w.Header().Set("WWW-Authenticate", `Basic realm="unit"`)
				http.Error(w, "sign in", http.StatusUnauthorized)
				return
			}
		}
		mux.ServeHTTP(w, r)
	})
}

func (m *described) page(w http.ResponseWriter, r *http.Request, p DescribedPage) {
	if len(p.Keeps) > 0 {
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<10))
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		kept, err := m.taken(r, body, p.Keeps)
		if err != nil {
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
			return
		}
		m.u.mu.Lock()
		maps.Copy(m.slots, kept)
		if m.u.mode == "set-up" {
			m.u.proven = false
		}
		m.u.mu.Unlock()
	}
	m.u.mu.Lock()
	text, doc := m.fill(p.Text), m.fillJSON(p.JSON)
	m.u.mu.Unlock()
	if p.JSON != nil {
		reply(w, http.StatusOK, doc)
	} else {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = io.WriteString(w, text)
	}
	if p.Restarts {
		m.u.poke("restart")
	}
}

func (m *described) taken(r *http.Request, body []byte, keeps map[string]string) (map[string]string, error) {
	out := map[string]string{}
	if strings.HasPrefix(r.Header.Get("Content-Type"), "application/json") {
		var doc any
		if err := json.Unmarshal(body, &doc); err != nil {
			return nil, fmt.Errorf("that is no JSON")
		}
		for slot, pointer := range keeps {
			if v, ok := pointed(doc, pointer); ok {
				out[slot] = v
			}
		}
		return out, nil
	}
	r.Body = io.NopCloser(strings.NewReader(string(body)))
	if err := r.ParseForm(); err != nil {
		return nil, fmt.Errorf("that is no form")
	}
	for slot, field := range keeps {
		if r.PostForm.Has(field) {
			out[slot] = r.PostForm.Get(field)
		}
	}
	return out, nil
}
