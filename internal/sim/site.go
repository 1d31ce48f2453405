// Package sim is the simulated site that ships with Fado: units, the air
// between them, and a hub. It imports nothing of the service: it is written
// from docs/protocol.md and the open standards, so that it is an honest other
// side. Everything is real HTTP and MQTT on loopback; only Wi-Fi is played.
package sim

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"fado/internal/carrier"
	"fado/internal/clock"
)

// Network is a Wi-Fi network on the air.
type Network struct {
	SSID       string `json:"ssid"`
	Passphrase string `json:"passphrase"`
	Signal     int    `json:"signal"`
	Domain     string `json:"domain,omitempty"` // under which its router lists what is in it
}

// Spec describes a site.
type Spec struct {
	Networks []Network     `json:"networks"`
	Units    []UnitSpec    `json:"units"`
	Hubs     []HubSpec     `json:"hubs"`
	Releases []ReleaseSpec `json:"releases"` // that its feed publishes
	Net      carrier.Net   `json:"-"`        // the zero value is the operating system's
}

// Site is a running simulated site.
type Site struct {
	feed  feed
	net   carrier.Net
	clock clock.Clock
	log   *slog.Logger
	ctx   context.Context
	stop  context.CancelFunc
	work  sync.WaitGroup

	mu       sync.Mutex
	networks []Network
	units    []*unit
	joins    int           // of the radio
	busy     time.Duration // of the radio
	joined   *joined
	hubs     []*hub
	servers  []*http.Server
	address  string
	names    string
	listed   zone // what the names are, looked up lately
}

type joined struct {
	unit   *unit
	server *http.Server
	at     string
	since  time.Time
}

// Start runs a site. Its radio and controls listen on addr; Address tells where.
func Start(spec Spec, addr string, c clock.Clock, log *slog.Logger) (*Site, error) {
	ctx, cancel := context.WithCancel(context.Background())
	s := &Site{net: spec.Net, clock: c, log: log, ctx: ctx, stop: cancel, networks: spec.Networks}
	for i, u := range spec.Units {
		if err := s.addUnit(u, uint64(i)); err != nil {
			cancel()
			return nil, err
		}
	}
	for _, r := range spec.Releases {
		s.feed.publish(r)
	}
	for _, h := range spec.Hubs {
		if err := s.addHub(h); err != nil {
			s.Stop()
			return nil, err
		}
	}
	l, err := s.net.Listen(addr)
	if err != nil {
		s.Stop()
		return nil, fmt.Errorf("listen for the radio: %w", err)
	}
	s.address = "http://" + l.Addr().String()
	s.serve(l, s.routes())
	names, err := s.net.Listen("127.0.0.1:0")
	if err != nil {
		s.Stop()
		return nil, fmt.Errorf("listen for questions about names: %w", err)
	}
	s.names = names.Addr().String()
	s.answerNames(names)
	return s, nil
}

func (s *Site) addUnit(spec UnitSpec, seed uint64) error {
	u, err := newUnit(s, spec, seed)
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.units = append(s.units, u)
	s.mu.Unlock()
	ctx, end := context.WithCancel(s.ctx)
	u.end = end
	s.work.Go(func() { u.run(ctx) })
	return nil
}

// remove takes the unit with an id away, the last one that came when there are
// several.
func (s *Site) remove(id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, u := range slices.Backward(s.units) {
		if strings.EqualFold(u.spec.HardwareID, id) {
			s.units = slices.Delete(s.units, i, i+1)
			u.end()
			return true
		}
	}
	return false
}

// Address is the base URL of the radio and the controls.
func (s *Site) Address() string { return s.address }

// Names is the address of the DNS server that answers for the homes' routers.
func (s *Site) Names() string { return s.names }

// Stop ends everything and waits for it.
func (s *Site) Stop() {
	s.leave()
	s.stop()
	s.mu.Lock()
	servers, hubs := s.servers, s.hubs
	s.mu.Unlock()
	for _, srv := range servers {
		_ = srv.Close()
	}
	for _, h := range hubs {
		h.close()
	}
	s.work.Wait()
}

func (s *Site) serve(l net.Listener, h http.Handler) *http.Server {
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 5 * time.Second}
	s.mu.Lock()
	s.servers = append(s.servers, srv)
	s.mu.Unlock()
	s.work.Go(func() { _ = srv.Serve(l) })
	return srv
}

// Use is how much the radio was used.
type Use struct {
	Joins   int     `json:"joins"`
	Seconds float64 `json:"seconds"` // joining, and joined
}

// AccessPoint is one line of what the radio hears.
type AccessPoint struct {
	Name   string `json:"name"`
	BSSID  string `json:"bssid"`
	Signal int    `json:"signal"`
	Open   bool   `json:"open"`
}

func (s *Site) routes() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /radio/access-points", func(w http.ResponseWriter, r *http.Request) {
		list := []AccessPoint{}
		s.mu.Lock()
		units, networks := slices.Clone(s.units), slices.Clone(s.networks)
		s.mu.Unlock()
		for _, u := range units {
			if name, key, on := u.onAir(); on {
				list = append(list, AccessPoint{Name: name, BSSID: u.spec.HardwareID, Signal: u.signal(), Open: key == ""})
			}
		}
		for i, n := range networks {
			list = append(list, AccessPoint{Name: n.SSID, BSSID: fmt.Sprintf("02:EE:00:00:00:%02X", i), Signal: n.Signal})
		}
		reply(w, http.StatusOK, map[string]any{"access_points": list})
	})
	m.HandleFunc("POST /radio/join", s.handleJoin)
	m.HandleFunc("GET /radio/use", func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		reply(w, http.StatusOK, Use{Joins: s.joins, Seconds: s.busy.Seconds()})
	})
	m.HandleFunc("POST /radio/leave", func(w http.ResponseWriter, r *http.Request) {
		s.leave()
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("GET /units", func(w http.ResponseWriter, r *http.Request) {
		out := []Report{}
		for _, u := range s.all() {
			out = append(out, u.report())
		}
		reply(w, http.StatusOK, out)
	})
	m.HandleFunc("POST /units", func(w http.ResponseWriter, r *http.Request) {
		var spec UnitSpec
		if err := json.NewDecoder(r.Body).Decode(&spec); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		if err := s.addUnit(spec, uint64(len(s.all()))); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		w.WriteHeader(http.StatusCreated)
	})
	m.HandleFunc("DELETE /units/{id}", func(w http.ResponseWriter, r *http.Request) {
		if !s.remove(r.PathValue("id")) {
			http.Error(w, "no such unit", http.StatusNotFound)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("POST /units/{id}/fault", func(w http.ResponseWriter, r *http.Request) {
		var f struct {
			Fault string `json:"fault"`
			Value int    `json:"value"`
		}
		if err := json.NewDecoder(r.Body).Decode(&f); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		u := s.unit(r.PathValue("id"))
		if u == nil || !u.setFault(Fault(f.Fault), f.Value) {
			http.Error(w, "no such unit or fault", http.StatusNotFound)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("POST /units/{id}/press", func(w http.ResponseWriter, r *http.Request) {
		u := s.unit(r.PathValue("id"))
		if u == nil {
			http.Error(w, "no such unit", http.StatusNotFound)
			return
		}
		u.press()
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("POST /units/{id}/cable", func(w http.ResponseWriter, r *http.Request) {
		image, err := io.ReadAll(io.LimitReader(r.Body, 64<<20))
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		u := s.unit(r.PathValue("id"))
		if _, bad := readImage(image); u == nil || bad != nil {
			http.Error(w, "no such unit, or no image of one", http.StatusUnprocessableEntity)
			return
		}
		u.cable(image)
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("POST /units/{id}/wake", func(w http.ResponseWriter, r *http.Request) {
		u := s.unit(r.PathValue("id"))
		if u == nil {
			http.Error(w, "no such unit", http.StatusNotFound)
			return
		}
		u.poke("wake")
		w.WriteHeader(http.StatusNoContent)
	})
	s.feed.routes(m)
	m.HandleFunc("PUT /networks", func(w http.ResponseWriter, r *http.Request) {
		var n []Network
		if err := json.NewDecoder(r.Body).Decode(&n); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		s.mu.Lock()
		s.networks = n
		s.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.IsAbs() {
			s.proxy(w, r)
			return
		}
		m.ServeHTTP(w, r)
	})
}

// proxy is the HTTP proxy (RFC 9110, section 7.7) that stands in for the home's
// network: it passes a request on to the unit that has the address.
func (s *Site) proxy(w http.ResponseWriter, r *http.Request) {
	for _, u := range s.all() {
		u.mu.Lock()
		there := u.mode == "online" && u.address() == r.URL.Hostname()
		u.mu.Unlock()
		if there {
			r.RequestURI = r.URL.RequestURI()
			u.guard(u.manner.pages()).ServeHTTP(w, r)
			return
		}
	}
	http.Error(w, "nothing answers at "+r.URL.Hostname(), http.StatusBadGateway)
}

func (s *Site) all() []*unit {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.units)
}

func (s *Site) unit(id string) *unit {
	for _, u := range s.all() {
		if strings.EqualFold(u.spec.HardwareID, id) {
			return u
		}
	}
	return nil
}

func (s *Site) handleJoin(w http.ResponseWriter, r *http.Request) {
	var want struct{ Name, Key string }
	if err := json.NewDecoder(r.Body).Decode(&want); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	s.leave()
	for _, u := range s.all() {
		name, key, on := u.onAir()
		if !on || name != want.Name {
			continue
		}
		u.touch()
		if key != want.Key {
			reply(w, http.StatusForbidden, map[string]string{"error": "key refused"})
			return
		}
		l, err := s.net.Listen("127.0.0.1:0")
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		j := &joined{unit: u, at: l.Addr().String(), since: s.clock.Now(), server: s.serve(l, u.guard(u.manner.pages()))}
		s.mu.Lock()
		s.joined = j
		s.joins++
		s.mu.Unlock()
		_ = s.clock.Sleep(r.Context(), time.Second)
		reply(w, http.StatusOK, map[string]string{"gateway": j.at})
		return
	}
	reply(w, http.StatusNotFound, map[string]string{"error": "not on the air"})
}

func (s *Site) leave() {
	s.mu.Lock()
	j := s.joined
	s.joined = nil
	if j != nil {
		s.busy += s.clock.Now().Sub(j.since)
		s.servers = slices.DeleteFunc(s.servers, func(x *http.Server) bool { return x == j.server })
	}
	s.mu.Unlock()
	if j != nil {
		_ = j.server.Close()
	}
}

// associate plays a station that joins a network.
func (s *Site) associate(ssid, passphrase string) (trouble string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, n := range s.networks {
		if n.SSID == ssid {
			if n.Passphrase != passphrase {
				return "wifi_refused"
			}
			return ""
		}
	}
	return "wifi_not_found"
}

func reply(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}
