package sim

import (
	"cmp"
	"context"
	"crypto/subtle"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"
)

// andorinha is a relay or plug with form pages. It keeps fields as text, under
// the names of its pages; every save restarts it; its replies are lines.
type andorinha struct {
	u     *unit
	kept  map[string]string
	pins  map[string]string // pin to function
	start map[string]string // capability to state at power-up
	says  map[string]string // pin to topic and payload
}

func newAndorinha(u *unit) *andorinha {
	return &andorinha{u: u, kept: map[string]string{}, pins: map[string]string{}, start: map[string]string{}, says: map[string]string{}}
}

func (a *andorinha) accessPoint() (name, key string) {
	d := a.u.digits()
	return "andorinha-" + d[len(d)-6:], a.kept["air"]
}

func (a *andorinha) link() link {
	k := a.kept
	host, port := k["server"], k["port"]
	if h, p, joined := strings.Cut(k["server"], ":"); joined {
		host, port = h, p
	}
	number, _ := strconv.Atoi(port)
	pause, _ := strconv.Atoi(k["pause"])
	return link{ssid: k["net"], pass: k["key"], ssid2: k["net2"], pass2: k["key2"], host: host, port: number, user: k["name"], word: k["word"], id: k["as"],
		topic: k["under"], will: k["under"] + "/here", farewell: "0", every: max(pause/1000, 5)}
}

func (a *andorinha) sleeps() (awake, every time.Duration) { return 0, 0 }

func (a *andorinha) settled() string { return "" }

func (a *andorinha) goBack() bool { return false }

func (a *andorinha) forget() {
	a.kept, a.pins, a.start, a.says = map[string]string{}, map[string]string{}, map[string]string{}, map[string]string{}
}

func (a *andorinha) open() any {
	out := maps.Clone(a.kept)
	for _, secret := range []string{"key", "key2", "word", "air", "door"} {
		delete(out, secret)
	}
	return map[string]any{"fields": out, "pins": a.pins, "start": a.start, "says": a.says}
}

func (a *andorinha) topic() string {
	a.u.mu.Lock()
	defer a.u.mu.Unlock()
	return a.kept["under"]
}

func (a *andorinha) hello(_ context.Context, c mqtt.Client) {
	t := a.topic()
	c.Subscribe(t+"/+/do", 1, func(_ mqtt.Client, m mqtt.Message) {
		parts := strings.Split(m.Topic(), "/")
		name := parts[len(parts)-2]
		word := string(m.Payload())
		if word != "close" && word != "open" {
			return
		}
		if now, known, _ := a.u.set(name, word == "close"); known {
			a.u.say(t+"/"+name, a.word(now), true)
		}
	}).Wait()
	c.Subscribe(t+"/say", 1, func(_ mqtt.Client, m mqtt.Message) {
		if string(m.Payload()) == "all" {
			a.tell(t)
		}
	}).Wait()
	a.u.say(t+"/here", "1", true)
	a.tell(t)
}

func (a *andorinha) word(v any) string {
	switch x := v.(type) {
	case bool:
		if x {
			return "closed"
		}
		return "open"
	case float64:
		return strconv.FormatFloat(x, 'f', 1, 64)
	}
	return fmt.Sprint(v)
}

func (a *andorinha) tell(t string) {
	a.u.mu.Lock()
	version, address := a.u.version(), a.u.address()
	a.u.mu.Unlock()
	a.u.say(t+"/unit", a.u.spec.HardwareID, true)
	a.u.say(t+"/build", version, true)
	a.u.say(t+"/at", address, true)
	a.tick()
}

func (a *andorinha) tick() {
	t := a.topic()
	for k, v := range a.u.values() {
		a.u.say(t+"/"+k, a.word(v), true)
	}
	a.u.say(t+"/air", strconv.Itoa(a.u.signal()), false)
}

// pages serves the form pages. Once a door is set, all of them want it.
func (a *andorinha) pages() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /about", func(w http.ResponseWriter, r *http.Request) {
		u := a.u
		u.mu.Lock()
		defer u.mu.Unlock()
		last := map[string]string{"": "fine", "wifi_refused": "key refused", "wifi_not_found": "network not heard", "broker_unreachable": "server silent", "broker_refused": "server refused"}[u.trouble]
		lines(w, "andorinha", "unit "+u.spec.HardwareID, "made as "+u.spec.Model, "build "+u.version(), "at "+u.address(), "last try "+last)
	})
	fields := map[string][]string{
		"/messages": {"server", "port", "name", "word", "as", "under", "shown", "pause"},
		"/house":    {"zone", "rule", "time_from", "fresh_start"},
		"/door":     {"who", "door", "air"},
		"/link":     {"net", "key", "net2", "key2", "host", "how", "ip", "mask", "gate", "names"},
	}
	said := map[string]string{"time_from": "time from", "fresh_start": "fresh start every"}
	hidden := []string{"key", "key2", "word", "air", "door"}
	for path, names := range fields {
		m.HandleFunc("GET "+path, func(w http.ResponseWriter, r *http.Request) {
			a.u.mu.Lock()
			defer a.u.mu.Unlock()
			var out []string
			for _, n := range names {
				if v, set := a.kept[n]; set && !slices.Contains(hidden, n) {
					out = append(out, cmp.Or(said[n], n)+" "+v)
				}
			}
			lines(w, out...)
		})
		m.HandleFunc("POST "+path, func(w http.ResponseWriter, r *http.Request) {
			a.save(w, r, func(form map[string]string) string {
				if path == "/messages" {
					_, joined := form["port"]
					if major, _, _ := strings.Cut(a.u.version(), "."); (major != "0" && major != "1") == joined {
						return "no such field in build " + a.u.version()
					}
				}
				for k, v := range form {
					if path == "/door" && k == "word" {
						k = "door"
					}
					if !slices.Contains(names, k) {
						return "no field " + k
					}
					if a.u.fault == NotKept && k == "shown" {
						v = ""
					}
					a.kept[k] = v
				}
				return ""
			})
		})
	}
	m.HandleFunc("GET /pins", func(w http.ResponseWriter, r *http.Request) {
		a.u.mu.Lock()
		defer a.u.mu.Unlock()
		var out []string
		for k, v := range a.pins {
			out = append(out, k+" does "+v)
		}
		for k, v := range a.start {
			out = append(out, k+" starts "+v)
		}
		for k, v := range a.says {
			out = append(out, k+" says "+v)
		}
		slices.Sort(out)
		lines(w, out...)
	})
	m.HandleFunc("POST /pins", func(w http.ResponseWriter, r *http.Request) {
		a.save(w, r, func(form map[string]string) string {
			for k, v := range form {
				verb, what, _ := strings.Cut(k, "_")
				switch verb {
				case "does":
					a.pins[what] = v
				case "start":
					a.start[what] = v
				case "say":
					a.says[what] = v
				default:
					return "no field " + k
				}
			}
			return ""
		})
	})
	m.HandleFunc("POST /image", a.image)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a.u.mu.Lock()
		who, door := a.kept["who"], a.kept["door"]
		if a.u.fault == DoorStaysOpen {
			door = ""
		}
		if a.u.fault == LoginChanged {
			door = elsewhere
		}
		a.u.mu.Unlock()
		name, word, _ := r.BasicAuth()
		if door != "" && (name != who || subtle.ConstantTimeCompare([]byte(word), []byte(door)) != 1) {
			w.Header().Set("WWW-Authenticate", `Basic realm="andorinha"`)
			http.Error(w, "the door is shut", http.StatusUnauthorized)
			return
		}
		m.ServeHTTP(w, r)
	})
}

// image takes an image: sent as a part of a form, or fetched from the address in it.
// Either is written as it comes.
func (a *andorinha) image(w http.ResponseWriter, r *http.Request) {
	parts, err := r.MultipartReader()
	if err != nil {
		from := r.PostFormValue("from")
		if from == "" {
			http.Error(w, "no image and no address", http.StatusBadRequest)
			return
		}
		lines(w, "fetching")
		a.u.tasks.Go(func() { a.fetch(from) })
		return
	}
	for {
		part, err := parts.NextPart()
		if err != nil {
			http.Error(w, "no image in it", http.StatusBadRequest)
			return
		}
		if part.FormName() != "image" {
			continue
		}
		// A form does not say how long a part is; what frames it is short.
		if room := a.u.room(); r.ContentLength-512 > room {
			http.Error(w, fmt.Sprintf("no room: %d bytes came, and %d are free", r.ContentLength, room), http.StatusInsufficientStorage)
			return
		}
		refused, err := a.u.burn(part)
		switch {
		case refused != "":
			http.Error(w, refused, http.StatusUnprocessableEntity)
		case err != nil:
			panic(http.ErrAbortHandler)
		default:
			lines(w, "taken", "starting again")
			a.u.poke("restart")
		}
		return
	}
}

// fetch takes an image from an address, as it is told.
func (a *andorinha) fetch(from string) {
	resp, err := (&http.Client{Transport: a.u.site.net.Transport(), Timeout: time.Minute}).Get(from)
	if err != nil {
		return
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK || resp.ContentLength > a.u.room() {
		return
	}
	if refused, err := a.u.burn(resp.Body); refused == "" && err == nil {
		a.u.poke("restart")
	}
}

// save keeps a form and restarts. When the power fails in the middle, a part of
// the fields is kept and no answer goes out.
func (a *andorinha) save(w http.ResponseWriter, r *http.Request, keep func(map[string]string) string) {
	if err := r.ParseForm(); err != nil {
		http.Error(w, "that is no form", http.StatusBadRequest)
		return
	}
	names := slices.Sorted(maps.Keys(r.PostForm))
	_, cut := a.u.once(PowerCutSave)
	if cut {
		names = names[:len(names)/2]
	}
	form := map[string]string{}
	for _, n := range names {
		form[n] = r.PostForm.Get(n)
	}
	a.u.mu.Lock()
	why := keep(form)
	if why == "" && a.u.mode == "set-up" {
		a.u.proven = false
	}
	a.u.mu.Unlock()
	if why != "" {
		http.Error(w, why, http.StatusUnprocessableEntity)
		return
	}
	a.u.poke("restart")
	if cut {
		panic(http.ErrAbortHandler)
	}
	lines(w, "saved", "starting again")
}

func lines(w http.ResponseWriter, list ...string) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = fmt.Fprint(w, strings.Join(list, "\r\n")+"\r\n")
}
