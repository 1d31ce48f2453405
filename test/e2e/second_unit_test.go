package e2e

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
)

// secondUnit is another implementation of «direct», written from
// docs/protocol.md alone and sharing nothing with the simulated site: what the
// document says is enough, or this unit cannot be commissioned and updated.
type secondUnit struct {
	t     *testing.T
	hw    string
	model string
	code  string
	radio *httptest.Server
	pages *httptest.Server

	mu       sync.Mutex
	setUp    bool
	doc      map[string]any
	image    []byte // the running one
	version  string
	restarts int
	sequence float64
	relay    bool
	client   mqtt.Client
	versions map[string]string // digest to version, as the image itself would say
	refusals []string
}

func newSecondUnit(t *testing.T, hw, model, code string, image []byte, version string) *secondUnit {
	u := &secondUnit{t: t, hw: hw, model: model, code: code, setUp: true, doc: map[string]any{}, image: image, version: version, versions: map[string]string{}}
	u.pages = httptest.NewServer(u.setUpPages())
	m := http.NewServeMux()
	m.HandleFunc("GET /radio/access-points", func(w http.ResponseWriter, _ *http.Request) {
		list := []any{}
		u.mu.Lock()
		if u.setUp {
			list = append(list, map[string]any{"name": u.accessPoint(), "bssid": hw, "signal": -60})
		}
		u.mu.Unlock()
		_ = json.NewEncoder(w).Encode(map[string]any{"access_points": list})
	})
	m.HandleFunc("POST /radio/join", func(w http.ResponseWriter, r *http.Request) {
		var want struct{ Name, Key string }
		_ = json.NewDecoder(r.Body).Decode(&want)
		u.mu.Lock()
		defer u.mu.Unlock()
		switch {
		case !u.setUp || want.Name != u.accessPoint():
			w.WriteHeader(http.StatusNotFound)
		case want.Key != u.code:
			w.WriteHeader(http.StatusForbidden)
		default:
			_ = json.NewEncoder(w).Encode(map[string]string{"gateway": u.pages.Listener.Addr().String()})
		}
	})
	m.HandleFunc("POST /radio/leave", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	u.radio = httptest.NewServer(m)
	t.Cleanup(func() {
		u.mu.Lock()
		c := u.client
		u.mu.Unlock()
		if c != nil {
			c.Disconnect(10)
		}
		u.radio.Close()
		u.pages.Close()
	})
	return u
}

func (u *secondUnit) accessPoint() string {
	return "fado-" + strings.ToLower(strings.ReplaceAll(u.hw, ":", ""))
}

func sum(b []byte) string {
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:])
}

func (u *secondUnit) firmware() map[string]any {
	return map[string]any{"name": u.model, "version": u.version, "digest": sum(u.image)}
}

// open is the settings document without its secrets (section 3).
func (u *secondUnit) open() map[string]any {
	b, _ := json.Marshal(u.doc)
	var out map[string]any
	_ = json.Unmarshal(b, &out)
	for part, secret := range map[string]string{"wifi": "passphrase", "broker": "password"} {
		if m, ok := out[part].(map[string]any); ok {
			delete(m, secret)
		}
	}
	return out
}

// setUpPages is section 2.
func (u *secondUnit) setUpPages() http.Handler {
	m := http.NewServeMux()
	answer := func(w http.ResponseWriter, status int, v any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(v)
	}
	m.HandleFunc("GET /unit", func(w http.ResponseWriter, _ *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		answer(w, 200, map[string]any{"protocol": 1, "hardware_id": u.hw, "model": u.model, "firmware": u.firmware(), "slots": 2, "last_join": map[string]any{"outcome": "none", "network": ""}, "serial": 12345})
	})
	m.HandleFunc("GET /networks", func(w http.ResponseWriter, _ *http.Request) { answer(w, 200, map[string]any{"networks": []any{}}) })
	m.HandleFunc("GET /settings", func(w http.ResponseWriter, _ *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		answer(w, 200, u.open())
	})
	m.HandleFunc("PUT /settings", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Content-Type") != "application/json" {
			answer(w, 422, map[string]any{"accepted": false, "reason": "want JSON"})
			return
		}
		u.mu.Lock()
		defer u.mu.Unlock()
		if err := json.NewDecoder(r.Body).Decode(&u.doc); err != nil {
			answer(w, 422, map[string]any{"accepted": false, "reason": err.Error()})
			return
		}
		answer(w, 200, map[string]any{"accepted": true})
	})
	m.HandleFunc("POST /restart", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusAccepted)
		go u.restart()
	})
	return m
}

func (u *secondUnit) text(part, key string) string {
	if part == "" {
		s, _ := u.doc[key].(string)
		return s
	}
	m, _ := u.doc[part].(map[string]any)
	s, _ := m[key].(string)
	return s
}

// restart is sections 4 and 5: it joins, connects and tells what it is.
func (u *secondUnit) restart() {
	u.mu.Lock()
	u.setUp = false
	u.restarts++
	old := u.client
	user, pass, topic := u.text("broker", "user"), u.text("broker", "password"), u.text("", "topic")
	b, _ := u.doc["broker"].(map[string]any)
	address := "tcp://" + net.JoinHostPort(u.text("broker", "host"), fmt.Sprint(b["port"]))
	u.mu.Unlock()
	if old != nil {
		old.Disconnect(20)
	}
	time.Sleep(150 * time.Millisecond)
	c := mqtt.NewClient(mqtt.NewClientOptions().AddBroker(address).SetClientID(user).SetUsername(user).SetPassword(pass).SetCleanSession(false).SetAutoReconnect(false).
		SetWill(topic+"/presence", `"offline"`, 1, true))
	if tok := c.Connect(); !tok.WaitTimeout(5*time.Second) || tok.Error() != nil {
		u.t.Errorf("the second unit cannot connect: %v", tok.Error())
		return
	}
	u.mu.Lock()
	u.client = c
	u.mu.Unlock()
	c.Subscribe(topic+"/command/+", 1, func(_ mqtt.Client, m mqtt.Message) { go u.command(topic, m.Topic(), m.Payload()) }).Wait()
	c.Subscribe(topic+"/ask", 1, func(_ mqtt.Client, m mqtt.Message) { go u.ask(topic, m.Payload()) }).Wait()
	u.say(topic+"/presence", "online", true)
	u.report(topic, "")
}

func (u *secondUnit) say(topic string, v any, retain bool) {
	b, _ := json.Marshal(v)
	u.mu.Lock()
	c := u.client
	u.mu.Unlock()
	c.Publish(topic, 1, retain, b).WaitTimeout(3 * time.Second)
}

func (u *secondUnit) report(topic, ask string) {
	u.mu.Lock()
	f := u.firmware()
	f["confirmed"] = true
	about := map[string]any{"hardware_id": u.hw, "model": u.model, "firmware": f, "restarts": u.restarts, "restart_reason": "asked", "address": "192.168.40.9"}
	doc := u.open()
	relay := u.relay
	u.mu.Unlock()
	if ask != "" {
		about["ask"], doc["ask"] = ask, ask
	}
	u.say(topic+"/unit", about, true)
	u.say(topic+"/settings", doc, true)
	u.say(topic+"/state/relay-1", relay, true)
}

// command is section 6.
func (u *secondUnit) command(topic, at string, payload []byte) {
	name := at[strings.LastIndexByte(at, '/')+1:]
	var v any
	if json.Unmarshal(payload, &v) != nil {
		return
	}
	on, isBool := v.(bool)
	ok := isBool && name == "relay-1"
	u.mu.Lock()
	if ok {
		u.relay = on
	}
	now := u.relay
	u.mu.Unlock()
	u.say(topic+"/answer", map[string]any{"command": name, "accepted": ok}, false)
	if ok {
		u.say(topic+"/state/relay-1", now, true)
	}
}

// ask is section 7.
func (u *secondUnit) ask(topic string, payload []byte) {
	var a map[string]any
	if json.Unmarshal(payload, &a) != nil {
		return
	}
	id, _ := a["ask"].(string)
	yes := map[string]any{"ask": id, "accepted": true}
	switch a["do"] {
	case "report":
		u.say(topic+"/answer", yes, false)
		u.report(topic, id)
	case "update":
		m, err := u.verify(fmt.Sprint(a["manifest"]))
		if err != nil {
			u.mu.Lock()
			u.refusals = append(u.refusals, err.Error())
			u.mu.Unlock()
			u.say(topic+"/answer", map[string]any{"ask": id, "accepted": false, "reason": err.Error()}, false)
			return
		}
		u.say(topic+"/answer", yes, false)
		u.fetch(topic, id, fmt.Sprint(a["link"]), m)
	}
}

// verify is section 8, step 1.
func (u *secondUnit) verify(jws string) (map[string]any, error) {
	parts := strings.Split(jws, ".")
	if len(parts) != 3 {
		return nil, fmt.Errorf("no compact JWS")
	}
	u.mu.Lock()
	key, err := base64.RawURLEncoding.DecodeString(u.text("", "update_key"))
	sequence := u.sequence
	u.mu.Unlock()
	sig, err2 := base64.RawURLEncoding.DecodeString(parts[2])
	if err != nil || err2 != nil || len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, []byte(parts[0]+"."+parts[1]), sig) {
		return nil, fmt.Errorf("the signature does not hold")
	}
	payload, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return nil, err
	}
	var m map[string]any
	if err := json.Unmarshal(payload, &m); err != nil {
		return nil, err
	}
	class, _ := m["class"].([]any)
	switch {
	case m["manifest"] != 1.0, m["payload_format"] != "raw", m["component"] != "program":
		return nil, fmt.Errorf("structure, format or component")
	case !slices.Contains(class, any(u.model)):
		return nil, fmt.Errorf("class %v", class)
	case m["sequence"].(float64) < sequence:
		return nil, fmt.Errorf("sequence")
	}
	return m, nil
}

// fetch is section 8, steps 2 to 5, with one interruption in the middle.
func (u *secondUnit) fetch(topic, ask, link string, m map[string]any) {
	size := int(m["size"].(float64))
	progress := func(phase string, done int) {
		u.say(topic+"/update", map[string]any{"ask": ask, "phase": phase, "done_bytes": done, "of_bytes": size}, false)
	}
	progress("fetching", 0)
	var got []byte
	for len(got) < size {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		req, _ := http.NewRequestWithContext(ctx, "GET", link, nil)
		if len(got) > 0 {
			req.Header.Set("Range", fmt.Sprintf("bytes=%d-", len(got)))
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil || resp.StatusCode != map[bool]int{true: 206, false: 200}[len(got) > 0] {
			cancel()
			u.t.Errorf("download at %d: %v %v", len(got), resp, err)
			return
		}
		limit := int64(size)
		if len(got) == 0 {
			limit = int64(size) / 3 // the connection breaks off here
		}
		b, _ := io.ReadAll(io.LimitReader(resp.Body, limit))
		_ = resp.Body.Close()
		cancel()
		got = append(got, b...)
		progress("fetching", len(got))
	}
	digest, _ := m["digest"].(map[string]any)
	if sum(got) != digest["sha-256"] {
		u.t.Error("the image has another digest than its manifest says")
		return
	}
	progress("writing", size)
	u.mu.Lock()
	u.image, u.version, u.sequence = got, u.versions[sum(got)], m["sequence"].(float64)
	u.mu.Unlock()
	progress("restarting", size)
	go u.restart()
}
