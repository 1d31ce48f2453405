package sim

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
)

// ReleaseSpec is a release that the simulated feed publishes; its image is built when
// it is.
type ReleaseSpec struct {
	Firmware   string   `json:"firmware"`
	Version    string   `json:"version"`
	Channel    string   `json:"channel,omitempty"`
	Notes      string   `json:"notes,omitempty"`
	Models     []string `json:"models"`
	Chip       string   `json:"chip,omitempty"`
	SizeKiB    int      `json:"size_kib"`
	OldestFrom string   `json:"oldest_from,omitempty"`
	Step       bool     `json:"step,omitempty"`
}

// feed is a place where a maker publishes releases: one page of JSON, and the files.
type feed struct {
	mu       sync.Mutex
	releases []any
	files    map[string][]byte
	raw      []byte // instead of the page, by hand
	asked    int
	same     int // times that it said that nothing changed
}

// publish adds a release.
func (f *feed) publish(r ReleaseSpec) {
	b := BuildImage(ImageHeader{r.Firmware, r.Version, r.Chip, true}, r.SizeKiB<<10)
	name := fmt.Sprintf("%s-%s.bin", r.Firmware, r.Version)
	image := map[string]any{"url": "files/" + name, "sha256": digestOf(b), "size": len(b), "models": r.Models}
	for k, v := range map[string]string{"chip": r.Chip, "oldest_from": r.OldestFrom} {
		if v != "" {
			image[k] = v
		}
	}
	if r.Step {
		image["step"] = true
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.files == nil {
		f.files = map[string][]byte{}
	}
	f.files[name] = b
	release := map[string]any{"firmware": r.Firmware, "version": r.Version, "notes": r.Notes, "images": []any{image}}
	if r.Channel != "" {
		release["channel"] = r.Channel
	}
	f.releases = append(f.releases, release)
}

func (f *feed) routes(m *http.ServeMux) {
	m.HandleFunc("GET /feed/feed.json", func(w http.ResponseWriter, r *http.Request) {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.asked++
		page := f.raw
		if page == nil {
			page, _ = json.Marshal(map[string]any{"feed": 1, "publisher": "Oficina do Sobreiro", "releases": f.releases})
		}
		tag := `"` + digestOf(page)[:16] + `"`
		w.Header().Set("ETag", tag)
		if r.Header.Get("If-None-Match") == tag {
			f.same++
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(page)
	})
	m.HandleFunc("PUT /feed/feed.json", func(w http.ResponseWriter, r *http.Request) {
		b, err := io.ReadAll(io.LimitReader(r.Body, 64<<20))
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		f.mu.Lock()
		f.raw = b
		if len(b) == 0 {
			f.raw = nil
		}
		f.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("GET /feed/asked", func(w http.ResponseWriter, r *http.Request) {
		f.mu.Lock()
		defer f.mu.Unlock()
		reply(w, http.StatusOK, map[string]int{"asked": f.asked, "same": f.same})
	})
	m.HandleFunc("GET /feed/files/{name}", func(w http.ResponseWriter, r *http.Request) {
		f.mu.Lock()
		b, ok := f.files[r.PathValue("name")]
		f.mu.Unlock()
		if !ok {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		_, _ = w.Write(b)
	})
	m.HandleFunc("PUT /feed/files/{name}", func(w http.ResponseWriter, r *http.Request) {
		b, err := io.ReadAll(io.LimitReader(r.Body, 64<<20))
		if err != nil || strings.Contains(r.PathValue("name"), "/") {
			http.Error(w, "no such name", http.StatusBadRequest)
			return
		}
		f.mu.Lock()
		if f.files == nil {
			f.files = map[string][]byte{}
		}
		f.files[r.PathValue("name")] = b
		f.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("DELETE /feed/releases", func(w http.ResponseWriter, r *http.Request) {
		f.mu.Lock()
		f.releases, f.files, f.asked, f.same = nil, nil, 0, 0
		f.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("POST /feed/releases", func(w http.ResponseWriter, r *http.Request) {
		var spec ReleaseSpec
		if err := json.NewDecoder(r.Body).Decode(&spec); err != nil || spec.Firmware == "" || spec.Version == "" {
			http.Error(w, "firmware and version are needed", http.StatusBadRequest)
			return
		}
		f.publish(spec)
		w.WriteHeader(http.StatusCreated)
	})
}
