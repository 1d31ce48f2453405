package sim

import (
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"

	"fado/internal/carrier"
)

// HubSpec describes a home's automation hub: a Thing directory (W3C WoT
// Discovery), an account on the broker, and a page.
type HubSpec struct {
	Name     string `json:"name"`
	Listen   string `json:"listen"`
	Token    string `json:"token"`
	Broker   string `json:"broker"` // host:port
	Account  string `json:"account"`
	Password string `json:"password"`
}

type hub struct {
	spec   HubSpec
	client mqtt.Client

	mu      sync.Mutex
	address string
	things  map[string]map[string]any
	values  map[string][]byte // topic to payload
	topics  map[string]bool
	heard   map[string]bool // filters that it has subscribed to since it connected
	fault   string
}

func (s *Site) addHub(spec HubSpec) error {
	l, err := s.net.Listen(spec.Listen)
	if err != nil {
		return fmt.Errorf("listen for the hub %s: %w", spec.Name, err)
	}
	h := &hub{spec: spec, address: "http://" + l.Addr().String(), things: map[string]map[string]any{}, values: map[string][]byte{}, topics: map[string]bool{}, heard: map[string]bool{}}
	o := mqtt.NewClientOptions().AddBroker("tcp://" + spec.Broker).SetClientID(spec.Account).SetUsername(spec.Account).SetPassword(spec.Password).
		SetConnectRetry(true).SetConnectRetryInterval(500 * time.Millisecond).SetAutoReconnect(true).SetMaxReconnectInterval(time.Second).
		SetCleanSession(true).SetOnConnectHandler(func(mqtt.Client) { h.subscribeAnew() })
	o.SetCustomOpenConnectionFn(func(at *url.URL, o mqtt.ClientOptions) (net.Conn, error) { return carrier.MQTT(s.net, at, o.TLSConfig) })
	h.client = mqtt.NewClient(o)
	h.client.Connect()
	s.mu.Lock()
	s.hubs = append(s.hubs, h)
	s.mu.Unlock()
	s.serve(l, h.routes())
	return nil
}

// pageOfThings is how many things the directory lists at once.
const pageOfThings = 10

func (h *hub) close() { h.client.Disconnect(20) }

// HubAddress is the base URL of the n-th hub.
func (s *Site) HubAddress(n int) string { return s.hubs[n].address }

func (h *hub) routes() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /.well-known/wot", h.faulty(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/td+json")
		_ = json.NewEncoder(w).Encode(h.directory())
	}))
	m.HandleFunc("GET /things", h.guard(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		defer h.mu.Unlock()
		list, ids := []map[string]any{}, h.ids()
		for _, id := range ids {
			if id <= r.FormValue("after") {
				continue
			}
			if len(list) == pageOfThings {
				last := text(list[len(list)-1]["id"])
				w.Header().Set("Link", `</things?after=`+url.QueryEscape(last)+`>; rel="next"`)
				break
			}
			list = append(list, h.things[id])
		}
		w.Header().Set("Content-Type", "application/ld+json")
		_ = json.NewEncoder(w).Encode(list)
	}))
	m.HandleFunc("GET /things/{id}", h.guard(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		defer h.mu.Unlock()
		td, ok := h.things[r.PathValue("id")]
		if !ok {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "application/td+json")
		_ = json.NewEncoder(w).Encode(td)
	}))
	m.HandleFunc("PUT /things/{id}", h.guard(h.put))
	m.HandleFunc("DELETE /things/{id}", h.guard(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		defer h.mu.Unlock()
		if _, ok := h.things[r.PathValue("id")]; !ok {
			http.NotFound(w, r)
			return
		}
		delete(h.things, r.PathValue("id"))
		w.WriteHeader(http.StatusNoContent)
	}))
	m.HandleFunc("POST /fault", func(w http.ResponseWriter, r *http.Request) {
		fault := r.FormValue("fault")
		if !slices.Contains(hubFaults, fault) {
			http.Error(w, "a fault of the hub is one of "+strings.Join(hubFaults[1:], ", ")+", or none", http.StatusUnprocessableEntity)
			return
		}
		h.mu.Lock()
		defer h.mu.Unlock()
		if fault == "forgets" { // at once, and once
			for i, id := range h.ids() {
				if i%2 == 0 {
					delete(h.things, id)
				}
			}
			fault = ""
		}
		h.fault = fault
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("GET /listening", func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		out := map[string][]string{}
		for id, td := range h.things {
			forms(td, "observeproperty", func(_ string, f map[string]any) { out[id] = append(out[id], text(f["mqv:filter"])) })
		}
		h.mu.Unlock()
		reply(w, http.StatusOK, out)
	})
	m.HandleFunc("GET /view", func(w http.ResponseWriter, r *http.Request) { reply(w, http.StatusOK, h.view()) })
	m.HandleFunc("POST /switch", func(w http.ResponseWriter, r *http.Request) {
		if err := h.switchThing(r.FormValue("thing"), r.FormValue("property"), r.FormValue("value")); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		if strings.Contains(r.Header.Get("Accept"), "text/html") {
			http.Redirect(w, r, "/", http.StatusSeeOther)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = hubPage.Execute(w, map[string]any{"Name": h.spec.Name, "Things": h.view()})
	})
	return m
}

// hubFaults are the ways in which a hub can be asked to fail.
var hubFaults = []string{"", "down", "slow", "refusing", "nonsense", "forgets"}

// slow is longer than anybody waits for a directory, in seconds of the wall.
const slow = 15 * time.Second

// faulty lets the directory fail as it was asked to.
func (h *hub) faulty(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		fault := h.fault
		h.mu.Unlock()
		switch fault {
		case "down":
			w.WriteHeader(http.StatusBadGateway)
		case "slow":
			select {
			case <-time.After(slow):
			case <-r.Context().Done():
			}
			next(w, r)
		case "nonsense":
			w.Header().Set("Content-Type", "text/html")
			_, _ = io.WriteString(w, "<!doctype html><title>Welcome</title><p>Sign in to go on.")
		default:
			next(w, r)
		}
	}
}

func (h *hub) guard(next http.HandlerFunc) http.HandlerFunc {
	return h.faulty(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		refuse := h.fault == "refusing"
		h.mu.Unlock()
		if refuse || r.Header.Get("Authorization") != "Bearer "+h.spec.Token {
			w.Header().Set("WWW-Authenticate", "Bearer")
			http.Error(w, "not allowed", http.StatusUnauthorized)
			return
		}
		next(w, r)
	})
}

// directory is the directory's own description (WoT Discovery, section 7.3.2.1).
func (h *hub) directory() map[string]any {
	one := map[string]any{"id": map[string]any{"@type": "ThingID", "type": "string", "format": "iri-reference"}}
	form := func(method, href, media string) []any {
		return []any{map[string]any{"href": href, "htv:methodName": method, "contentType": media}}
	}
	return map[string]any{
		"@context": []any{"https://www.w3.org/2022/wot/td/v1.1", "https://www.w3.org/2022/wot/discovery"},
		"@type":    "ThingDirectory", "id": "urn:hub:" + strings.ToLower(strings.ReplaceAll(h.spec.Name, " ", "-")), "title": h.spec.Name, "base": h.address,
		"securityDefinitions": map[string]any{"bearer": map[string]any{"scheme": "bearer"}}, "security": []any{"bearer"},
		"properties": map[string]any{"things": map[string]any{"type": "array", "forms": form("GET", "/things", "application/ld+json")}},
		"actions": map[string]any{
			"createThing":   map[string]any{"uriVariables": one, "forms": form("PUT", "/things/{id}", "application/td+json")},
			"retrieveThing": map[string]any{"uriVariables": one, "safe": true, "forms": form("GET", "/things/{id}", "application/td+json")},
			"updateThing":   map[string]any{"uriVariables": one, "forms": form("PUT", "/things/{id}", "application/td+json")},
			"deleteThing":   map[string]any{"uriVariables": one, "forms": form("DELETE", "/things/{id}", "")},
		},
	}
}

func (h *hub) put(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("Content-Type") != "application/td+json" {
		http.Error(w, "want application/td+json", http.StatusUnsupportedMediaType)
		return
	}
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 256<<10))
	var td map[string]any
	if err == nil {
		err = json.Unmarshal(b, &td)
	}
	if err != nil || td["id"] != r.PathValue("id") || td["title"] == nil || td["securityDefinitions"] == nil || td["security"] == nil || td["properties"] == nil {
		reply(w, http.StatusBadRequest, map[string]any{"title": "not a valid Thing Description", "status": 400})
		return
	}
	h.mu.Lock()
	_, had := h.things[r.PathValue("id")]
	td["registration"] = map[string]any{"modified": time.Now().UTC().Format(time.RFC3339)} // WoT Discovery, section 6.2.2.1
	h.things[r.PathValue("id")] = td
	h.mu.Unlock()
	h.subscribeAll()
	if had {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	w.WriteHeader(http.StatusCreated)
}

// forms lists a property's forms for an operation.
func forms(td map[string]any, op string, each func(property string, form map[string]any)) {
	props, _ := td["properties"].(map[string]any)
	for name, p := range props {
		pm, _ := p.(map[string]any)
		list, _ := pm["forms"].([]any)
		for _, f := range list {
			fm, _ := f.(map[string]any)
			ops, _ := fm["op"].([]any)
			if slices.Contains(ops, any(op)) {
				each(name, fm)
			}
		}
	}
}

// subscribeAnew subscribes to everything: the broker may have forgotten.
func (h *hub) subscribeAnew() {
	h.mu.Lock()
	clear(h.heard)
	h.mu.Unlock()
	h.subscribeAll()
}

// subscribeAll subscribes to what it has not subscribed to yet.
func (h *hub) subscribeAll() {
	connected := h.client.IsConnectionOpen()
	h.mu.Lock()
	filters := map[string]byte{}
	for _, td := range h.things {
		forms(td, "observeproperty", func(_ string, f map[string]any) {
			if t, ok := f["mqv:filter"].(string); ok && connected && !h.heard[t] {
				filters[t], h.heard[t] = 1, true
			}
		})
	}
	h.mu.Unlock()
	if len(filters) == 0 {
		return
	}
	h.client.SubscribeMultiple(filters, func(_ mqtt.Client, m mqtt.Message) {
		h.mu.Lock()
		h.values[m.Topic()] = m.Payload()
		h.mu.Unlock()
	})
}

func (h *hub) switchThing(id, property, value string) error {
	h.mu.Lock()
	td := h.things[id]
	h.mu.Unlock()
	topic, payload := "", value
	forms(td, "writeproperty", func(name string, f map[string]any) {
		if name == property {
			topic, _ = f["mqv:topic"].(string)
		}
	})
	if action := inner(inner(td, "actions"), "set-"+property); topic == "" && action != nil {
		list, _ := action["forms"].([]any)
		for _, f := range list {
			form, _ := f.(map[string]any)
			topic = text(form["mqv:topic"])
			body := fill(inner(action, "input"), value)
			if strings.HasPrefix(text(form["contentType"]), "text/plain") {
				payload = fmt.Sprint(body)
				continue
			}
			b, err := json.Marshal(body)
			if err != nil {
				return err
			}
			payload = string(b)
		}
	}
	if topic == "" {
		return fmt.Errorf("the thing %s has no property %s to write", id, property)
	}
	t := h.client.Publish(topic, 1, false, payload)
	if !t.WaitTimeout(3 * time.Second) {
		return fmt.Errorf("the broker did not take the command")
	}
	return t.Error()
}

// fill makes an instance of a data schema with the value in its one open place.
func fill(schema map[string]any, value string) any {
	if c, fixed := schema["const"]; fixed {
		return c
	}
	if list, _ := schema["oneOf"].([]any); len(list) > 0 {
		for _, x := range list {
			one, _ := x.(map[string]any)
			if (one["title"] == "on") == (value == "true") {
				return one["const"]
			}
		}
	}
	if schema["type"] == "object" {
		out := map[string]any{}
		for k := range inner(schema, "properties") {
			out[k] = fill(inner(inner(schema, "properties"), k), value)
		}
		return out
	}
	var v any
	if json.Unmarshal([]byte(value), &v) != nil {
		return value
	}
	return v
}

// shown reads a payload by its data schema: the one value in an object, and what
// a word means.
func shown(schema map[string]any, form map[string]any, payload []byte) any {
	var v any = string(payload)
	if !strings.HasPrefix(text(form["contentType"]), "text/plain") && json.Unmarshal(payload, &v) != nil {
		return nil
	}
	for schema["type"] == "object" {
		object, _ := v.(map[string]any)
		for k := range inner(schema, "properties") {
			v = object[k]
			schema = inner(inner(schema, "properties"), k)
			break
		}
	}
	list, _ := schema["oneOf"].([]any)
	for _, x := range list {
		one, _ := x.(map[string]any)
		if one["const"] == v {
			switch one["title"] {
			case "on":
				return true
			case "off":
				return false
			}
			return one["title"]
		}
	}
	return v
}

// ThingView is what the hub shows of a thing.
type ThingView struct {
	ID     string              `json:"id"`
	Title  string              `json:"title"`
	Room   string              `json:"room"`
	Values map[string]any      `json:"values"`
	Write  map[string]struct{} `json:"writable"`
}

func (h *hub) ids() []string {
	ids := make([]string, 0, len(h.things))
	for id := range h.things {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

func (h *hub) view() []ThingView {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := []ThingView{}
	for _, id := range h.ids() {
		td := h.things[id]
		v := ThingView{ID: id, Title: fmt.Sprint(td["title"]), Values: map[string]any{}, Write: map[string]struct{}{}}
		v.Room, _ = td["schema:containedInPlace"].(string)
		forms(td, "observeproperty", func(name string, f map[string]any) {
			if t, ok := f["mqv:filter"].(string); ok {
				if x, seen := h.values[t]; seen {
					v.Values[name] = shown(inner(inner(td, "properties"), name), f, x)
				}
			}
		})
		forms(td, "writeproperty", func(name string, _ map[string]any) { v.Write[name] = struct{}{} })
		for name := range inner(td, "actions") {
			v.Write[strings.TrimPrefix(name, "set-")] = struct{}{}
		}
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b ThingView) int { return strings.Compare(a.Room+a.Title, b.Room+b.Title) })
	return out
}

var hubPage = template.Must(template.New("hub").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<meta http-equiv="refresh" content="3"><title>{{.Name}}</title>
<style>body{font:16px/1.5 system-ui,sans-serif;max-width:50rem;margin:2rem auto;padding:0 1rem}td,th{text-align:left;padding:.3rem .8rem .3rem 0;border-bottom:1px solid #ccc}button{font:inherit}</style>
<h1>{{.Name}}</h1><p>A stand-in for the home's hub. It knows what was put into its directory, and nothing else.</p>
{{if not .Things}}<p>No things yet.</p>{{else}}<table><tr><th>Room<th>Thing<th>State<th></tr>
{{range $t := .Things}}<tr><td>{{$t.Room}}<td>{{$t.Title}}<td>{{range $k, $v := $t.Values}}{{$k}}: <b>{{$v}}</b> {{end}}<td>{{range $k, $_ := $t.Write}}<form method="post" action="/switch" style="display:inline"><input type="hidden" name="thing" value="{{$t.ID}}"><input type="hidden" name="property" value="{{$k}}"><button name="value" value="true">{{$k}} on</button> <button name="value" value="false">off</button></form> {{end}}</tr>
{{end}}</table>{{end}}</html>`))
