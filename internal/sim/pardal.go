package sim

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
)

// pardal is a lamp or a lamp strip. What it is told is pending until one commit
// makes it true and restarts the unit; its pages stand behind a digest login
// (RFC 7616) that is the printed code until it is changed.
type pardal struct {
	u       *unit
	kept    map[string]map[string]any // door, talk, lamp, house, net
	pending map[string]map[string]any
	nonces  map[string]bool
}

var pardalPages = []string{"door", "talk", "lamp", "house", "net"}

func newPardal(u *unit) *pardal {
	p := &pardal{u: u, nonces: map[string]bool{}}
	p.forget()
	return p
}

func (p *pardal) forget() {
	p.kept, p.pending = map[string]map[string]any{}, map[string]map[string]any{}
	for _, n := range pardalPages {
		p.kept[n] = map[string]any{}
	}
}

func (p *pardal) accessPoint() (name, key string) {
	d := p.u.digits()
	return "Pardal " + d[len(d)-6:], cmp.Or(text(p.kept["door"]["air"]), p.u.spec.SetUpCode)
}

func text(v any) string { s, _ := v.(string); return s }

func whole(v any) int { f, _ := v.(float64); return int(f) }

func inner(m map[string]any, name string) map[string]any { x, _ := m[name].(map[string]any); return x }

func (p *pardal) link() link {
	net, talk := p.kept["net"], p.kept["talk"]
	secure := inner(talk, "secure")
	l := link{host: text(talk["to"]), port: whole(talk["port"]), user: text(talk["as"]), word: text(talk["with"]), id: text(talk["id"]), topic: text(talk["root"]),
		ca: text(secure["ca"]), cert: text(secure["mine"]), certKey: text(secure["key"]), farewell: `{"up":false}`, every: max(whole(talk["every"]), 5)}
	l.tls, _ = secure["on"].(bool)
	l.will = l.topic + "/alive"
	if list, _ := net["join"].([]any); len(list) > 0 {
		first, _ := list[0].(map[string]any)
		l.ssid, l.pass = text(first["name"]), text(first["pass"])
		if len(list) > 1 {
			second, _ := list[1].(map[string]any)
			l.ssid2, l.pass2 = text(second["name"]), text(second["pass"])
		}
	}
	return l
}

func (p *pardal) sleeps() (awake, every time.Duration) { return 0, 0 }

func (p *pardal) settled() string { return "" }

func (p *pardal) goBack() bool { return false }

// bare is a copy without what is secret.
func bare(v any) any {
	switch n := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for k, x := range n {
			if !slices.Contains([]string{"pass", "with", "secret", "air", "key"}, k) {
				out[k] = bare(x)
			}
		}
		return out
	case []any:
		out := make([]any, len(n))
		for i, x := range n {
			out[i] = bare(x)
		}
		return out
	}
	return v
}

func (p *pardal) open() any {
	out := map[string]any{}
	for k, v := range p.kept {
		out[k] = bare(v)
	}
	return out
}

func (p *pardal) topic() string {
	p.u.mu.Lock()
	defer p.u.mu.Unlock()
	return text(p.kept["talk"]["root"])
}

func (p *pardal) hello(_ context.Context, c mqtt.Client) {
	t := p.topic()
	c.Subscribe(t+"/order", 1, func(_ mqtt.Client, m mqtt.Message) { p.order(t, m.Payload()) }).Wait()
	p.u.publish(t+"/alive", map[string]any{"up": true}, true)
	p.me(t, "")
	p.tick()
}

func (p *pardal) me(t, tag string) {
	p.u.mu.Lock()
	me := map[string]any{"id": p.u.spec.HardwareID, "kind": p.u.spec.Model, "sw": p.u.version(), "ip": p.u.address()}
	p.u.mu.Unlock()
	me["db"] = p.u.signal()
	if tag != "" {
		me["tag"] = tag
	}
	p.u.publish(t+"/me", me, true)
}

func (p *pardal) tick() {
	v := p.u.values()
	p.u.publish(p.topic()+"/now", map[string]any{"lamp": map[string]any{"on": v["lamp"], "level": v["level"]}}, true)
}

func (p *pardal) order(t string, payload []byte) {
	var o struct {
		Order, Part, Tag string
		To               any
		From, Sum        string
	}
	if json.Unmarshal(payload, &o) != nil {
		return
	}
	done := map[string]any{"tag": o.Tag, "order": o.Order, "part": o.Part, "ok": true}
	switch o.Order {
	case "set":
		_, _, ok := p.u.set(o.Part, o.To)
		done["ok"] = ok
		if !ok {
			done["why"] = "no such part, or not such a value"
		}
	case "tell":
		p.me(t, o.Tag)
	case "wink":
	case "load":
		done["ok"], done["why"] = p.load(t, o.From, o.Sum, o.Tag)
		if done["ok"] == true {
			delete(done, "why")
		}
	case "again":
		p.u.poke("restart")
	default:
		done["ok"], done["why"] = false, "no such order"
	}
	if _, silent := p.u.has(SilentCommand); silent && o.Order == "set" {
		return
	}
	p.u.publish(t+"/done", done, false)
	p.tick()
}

// load fetches an image into the spare slot and says how far it is.
func (p *pardal) load(t, from, sum, tag string) (ok bool, why string) {
	u := p.u
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.update != nil {
		if u.update.m.Digest.SHA256 != sum {
			return false, "another one is being loaded"
		}
		u.update.link, u.update.ask = from, tag
		return true, ""
	}
	if digestOf(u.slots[u.active]) == sum {
		return true, "" // it runs it already, and says so
	}
	d := &download{ask: tag, link: from}
	d.m.Digest.SHA256 = sum
	words := map[string]string{"fetching": "load", "writing": "burn", "restarting": "ready"}
	d.tell = func(d *download, phase, reason string) {
		u.mu.Lock()
		tag := d.ask
		u.mu.Unlock()
		say := map[string]any{"tag": tag, "step": cmp.Or(words[phase], phase), "got": len(d.got), "all": d.m.Size}
		if reason != "" {
			say["why"] = reason
		}
		u.publish(t+"/load", say, false)
	}
	u.begin(u.life, d)
	return true, ""
}

func (p *pardal) pages() http.Handler {
	u := p.u
	m := http.NewServeMux()
	m.HandleFunc("GET /api/me", func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		join := map[string]string{"": "fine", "wifi_refused": "key", "wifi_not_found": "air", "broker_unreachable": "silence", "broker_refused": "turned away"}[u.trouble]
		reply(w, http.StatusOK, map[string]any{"id": u.spec.HardwareID, "kind": u.spec.Model, "sw": u.version(), "ip": u.address(), "pending": len(p.pending), "join": join})
	})
	m.HandleFunc("GET /api/air", func(w http.ResponseWriter, r *http.Request) {
		var list []map[string]any
		for _, n := range u.heard() {
			list = append(list, map[string]any{"name": n.SSID, "db": n.Signal})
		}
		reply(w, http.StatusOK, map[string]any{"heard": list})
	})
	m.HandleFunc("GET /api/now/{page}", func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		page, ok := p.kept[r.PathValue("page")]
		if !ok {
			http.NotFound(w, r)
			return
		}
		reply(w, http.StatusOK, bare(page))
	})
	m.HandleFunc("PUT /api/pending/{page}", func(w http.ResponseWriter, r *http.Request) {
		page := r.PathValue("page")
		if !slices.Contains(pardalPages, page) {
			http.NotFound(w, r)
			return
		}
		var doc map[string]any
		if err := json.NewDecoder(io.LimitReader(r.Body, 64<<10)).Decode(&doc); err != nil {
			reply(w, http.StatusBadRequest, map[string]any{"why": "no JSON"})
			return
		}
		u.mu.Lock()
		p.pending[page] = doc
		n := len(p.pending)
		u.mu.Unlock()
		reply(w, http.StatusOK, map[string]any{"pending": n})
	})
	m.HandleFunc("POST /api/commit", func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		if u.fault == PowerCutSave {
			// What was pending is lost with the power; what was true stays.
			u.fault, p.pending = None, map[string]map[string]any{}
			u.mu.Unlock()
			u.poke("restart")
			panic(http.ErrAbortHandler)
		}
		for page, doc := range p.pending {
			now := maps.Clone(p.kept[page])
			maps.Copy(now, doc)
			if u.fault == NotKept {
				delete(now, "called")
			}
			p.kept[page] = now
		}
		p.pending = map[string]map[string]any{}
		if u.mode == "set-up" {
			u.proven = false
		}
		u.mu.Unlock()
		reply(w, http.StatusOK, map[string]any{"ok": true})
		u.poke("restart")
	})
	m.HandleFunc("GET /api/flash", func(w http.ResponseWriter, r *http.Request) {
		u.mu.Lock()
		defer u.mu.Unlock()
		b, _ := json.Marshal(p.kept)
		w.Header().Set("Content-Type", "application/octet-stream")
		_, _ = w.Write([]byte("PARDAL1\n" + hex.EncodeToString(b)))
	})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if p.allowed(r) {
			m.ServeHTTP(w, r)
			return
		}
		nonce := fmt.Sprintf("%08x", u.rand.Uint64())
		u.mu.Lock()
		p.nonces[nonce] = true
		u.mu.Unlock()
		w.Header().Set("WWW-Authenticate", fmt.Sprintf(`Digest realm="pardal", qop="auth", algorithm=SHA-256, nonce="%s"`, nonce))
		reply(w, http.StatusUnauthorized, map[string]any{"why": "sign in"})
	})
}

// allowed checks a digest (RFC 7616, section 3.4).
func (p *pardal) allowed(r *http.Request) bool {
	head, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Digest ")
	if !ok {
		return false
	}
	f := map[string]string{}
	for part := range strings.SplitSeq(head, ",") {
		k, v, _ := strings.Cut(strings.TrimSpace(part), "=")
		f[k] = strings.Trim(v, `"`)
	}
	p.u.mu.Lock()
	defer p.u.mu.Unlock()
	user, pass := "owner", p.u.spec.SetUpCode
	if own := text(p.kept["door"]["secret"]); own != "" {
		user, pass = text(p.kept["door"]["name"]), own
	}
	sum := func(parts ...string) string {
		h := sha256.Sum256([]byte(strings.Join(parts, ":")))
		return hex.EncodeToString(h[:])
	}
	answers := func(user, pass string) bool {
		want := sum(sum(user, "pardal", pass), f["nonce"], f["nc"], f["cnonce"], f["qop"], sum(r.Method, f["uri"]))
		return f["username"] == user && f["response"] == want && f["uri"] == r.URL.RequestURI()
	}
	return p.nonces[f["nonce"]] && (answers(user, pass) || p.u.fault == DoorStaysOpen && answers("owner", p.u.spec.SetUpCode))
}
