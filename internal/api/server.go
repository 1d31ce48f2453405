// Package api serves Fado over HTTP: the JSON API with its OpenAPI document,
// the live stream, image downloads and the console's files. It translates
// between the wire and package engine and decides nothing itself.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"syscall"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"fado/internal/core/firmware"
	"fado/internal/core/problem"
	"fado/internal/engine"
	"fado/internal/wire"
)

// Options is what a server is made from.
type Options struct {
	Engine     *engine.Engine
	Version    string
	URL        string // under which people reach the console
	BrokerName string
	Console    fs.FS // the built console; nil serves a page that says how to build it
	Log        *slog.Logger
	Secure     bool // cookies over HTTPS only
}

type server struct {
	*engine.Engine
	o        Options
	gate     *gate
	registry *prometheus.Registry
	stage    chan struct{} // of rehearsals, one at a time
}

// New returns the handler of the whole service.
func New(o Options) http.Handler {
	s := &server{Engine: o.Engine, o: o, stage: make(chan struct{}, 1)}
	s.gate = newGate(s)
	s.metrics()
	r := chi.NewRouter()
	r.Use(s.recovered)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, map[string]string{"service": "fado", "status": "alive"})
	})
	r.Get("/readyz", s.ready)
	r.Get("/metrics", s.guardMetrics(promhttp.HandlerFor(s.registry, promhttp.HandlerOpts{})))
	// Downloads stay outside every wrapper, so that files go out the fast way.
	r.Get("/image/{link}/{mac}", s.download)
	r.Head("/image/{link}/{mac}", s.download)
	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler)
		r.Use(limitBody)
		r.Use(s.gate.who)
		r.Get("/api/v1/stream", s.stream)
		r.Post("/api/v1/backup", s.backup)
		s.routes(humachi.New(r, Config(o.Version)))
	})
	r.NotFound(s.console)
	return r
}

// Config is the API's own description.
func Config(version string) huma.Config {
	c := huma.DefaultConfig("Fado", version)
	c.OpenAPIPath, c.DocsPath, c.SchemasPath = "/api/openapi", "", ""
	c.CreateHooks = nil
	c.Info.Description = "The service of a home-automation integrator: inventory, commissioning and firmware of the devices of many homes."
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"session": {Type: "apiKey", In: "cookie", Name: cookieName},
	}
	c.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	return c
}

// Document writes the OpenAPI 3.1 document without running a service.
func Document(version string) ([]byte, error) {
	s := &server{o: Options{Version: version}}
	api := humachi.New(chi.NewRouter(), Config(version))
	s.gate = &gate{s: s}
	s.routes(api)
	return json.MarshalIndent(api.OpenAPI(), "", " ")
}

// ProblemDetails is an error on its way out; it makes huma answer with Fado's own
// problem details.
type ProblemDetails struct{ wire.Problem }

// Error gives the problem's title.
func (f *ProblemDetails) Error() string { return f.Title }

// GetStatus is the HTTP status.
func (f *ProblemDetails) GetStatus() int { return f.Status }

// ContentType is that of RFC 9457.
func (f *ProblemDetails) ContentType(string) string { return "application/problem+json" }

var statuses = map[problem.Kind]int{
	problem.BadInput: 422, problem.NotFound: 404, problem.Conflict: 409, problem.Stale: 412, problem.Denied: 403,
	problem.SignedOut: 401, problem.TooMany: 429, problem.Unavailable: 503, problem.Broken: 500,
}

func init() {
	huma.DefaultArrayNullable = false // a list that is empty is [], never null
	// huma makes its own errors, for input that does not match the schema,
	// through this variable; there is no other way to give them our form.
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		f := &ProblemDetails{wire.Problem{Type: "urn:fado:problem:" + string(problem.BadInput), Title: upper(message), Status: status}}
		for _, err := range errs {
			var d *huma.ErrorDetail
			if errors.As(err, &d) {
				field := strings.TrimPrefix(strings.TrimPrefix(d.Location, "body."), "query.")
				if full(d.Message) {
					return noRoom()
				}
				f.Fields = append(f.Fields, problem.Field{Field: field, Rule: d.Message})
			} else if err != nil {
				f.Detail = err.Error()
			}
		}
		if len(f.Fields) > 0 {
			f.Title, f.Next = "The request does not have the form that is asked for.", "Correct the fields named; nothing was changed."
		}
		return f
	}
}

func upper(s string) string {
	if s == "" {
		return "Something went wrong."
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// full reports whether an error says that a disk is full: by the words of the system
// where a package has kept no more than those, and by those of the database.
func full(said string) bool {
	for _, words := range []string{syscall.ENOSPC.Error(), syscall.EFBIG.Error(), syscall.EDQUOT.Error(), "database or disk is full"} {
		if strings.Contains(said, words) {
			return true
		}
	}
	return false
}

func noRoom() *ProblemDetails {
	return &ProblemDetails{wire.Problem{Type: "urn:fado:problem:" + string(problem.Unavailable), Title: "There is no room left on the service's disk, and nothing was kept of this.", Status: http.StatusInsufficientStorage,
		Detail: "The disk of the data folder, or that of the temporary files, is full.", Next: "Make room, then try again. What is under way waits meanwhile, and goes on by itself."}}
}

// failure turns an error into what goes out.
func (s *server) failure(ctx context.Context, err error) error {
	if full(err.Error()) {
		s.o.Log.Error("the disk is full", "error", err)
		return noRoom()
	}
	if p := problem.As(err); p != nil {
		if p.Err != nil {
			s.o.Log.Info("a request ended in a problem", "what", p.What, "error", p.Err)
		}
		return &ProblemDetails{wire.Problem{Type: "urn:fado:problem:" + string(p.Kind), Title: p.What, Status: statuses[p.Kind], Detail: p.Cause, Next: p.Next, Fields: p.Fields}}
	}
	if errors.Is(err, context.Canceled) || ctx.Err() != nil {
		return &ProblemDetails{wire.Problem{Type: "urn:fado:problem:cancelled", Title: "The request was given up.", Status: 499}}
	}
	s.o.Log.Error("a request failed", "error", err)
	return &ProblemDetails{wire.Problem{Type: "urn:fado:problem:" + string(problem.Broken), Title: "Fado could not do this.", Status: 500,
		Detail: "Something inside the service failed; it is in its log.", Next: "Try again. If it stays, look into the log."}}
}

func (s *server) answerProblem(w http.ResponseWriter, r *http.Request, err error) {
	var f *ProblemDetails
	if !errors.As(err, &f) {
		_ = errors.As(s.failure(r.Context(), err), &f)
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(f.Status)
	_ = json.NewEncoder(w).Encode(f.Problem)
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func (s *server) ready(w http.ResponseWriter, r *http.Request) {
	if err := s.Ready(r.Context()); err != nil {
		writeJSON(w, http.StatusServiceUnavailable, map[string]string{"status": "not ready", "why": err.Error()})
		return
	}
	writeJSON(w, http.StatusOK, map[string]string{"status": "ready"})
}

func limitBody(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		limit := int64(1 << 20)
		switch {
		case r.URL.Path == "/api/v1/images":
			limit = firmware.MaxImage + 1<<20
		case strings.HasPrefix(r.URL.Path, "/api/v1/uploads/"):
			limit = 8 << 20
		case r.URL.Path == "/api/v1/images/archive":
			limit = firmware.MaxArchive + 1<<20
		case strings.HasPrefix(r.URL.Path, "/api/v1/sites/") && strings.HasSuffix(r.URL.Path, "/inventory"):
			limit = 32 << 20
		}
		r.Body = http.MaxBytesReader(w, r.Body, limit)
		next.ServeHTTP(w, r)
	})
}

func (s *server) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if p := recover(); p != nil {
				if p == http.ErrAbortHandler { //nolint:errorlint // it is panicked with as it is
					panic(p)
				}
				s.o.Log.Error("a request made the service panic", "path", r.URL.Path, "panic", fmt.Sprint(p))
				w.WriteHeader(http.StatusInternalServerError)
			}
		}()
		next.ServeHTTP(w, r)
	})
}

// guardMetrics shows metrics on the machine itself; elsewhere they need a
// token.
func (s *server) guardMetrics(next http.Handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.RemoteAddr)
		local := err == nil && net.ParseIP(host).IsLoopback()
		if !local && s.gate.byToken(r) == "" {
			s.answerProblem(w, r, signedOut())
			return
		}
		next.ServeHTTP(w, r)
	}
}

func (s *server) metrics() {
	s.registry = prometheus.NewRegistry()
	gauge := func(name, help string, f func() float64) {
		s.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Namespace: "fado", Name: name, Help: help}, f))
	}
	gauge("broker_sessions", "Clients connected to the embedded broker.", func() float64 { return float64(s.Sessions()) })
	gauge("outgoing_waiting", "Things that have not reached their hub yet.", func() float64 {
		n, err := s.Waiting(context.Background())
		if err != nil {
			return -1
		}
		return float64(n)
	})
	s.registry.MustRegister(
		prometheus.NewCounterFunc(prometheus.CounterOpts{Namespace: "fado", Name: "messages_taken_total", Help: "Messages taken in from the broker."}, func() float64 {
			taken, _ := s.Taken()
			return float64(taken)
		}),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Namespace: "fado", Name: "messages_kept_total", Help: "Messages written to the telemetry file."}, func() float64 {
			_, kept := s.Taken()
			return float64(kept)
		}))
}

// stream is the live stream: server-sent events with the objects that changed.
// A resume point that is too old is answered with «reset».
func (s *server) stream(w http.ResponseWriter, r *http.Request) {
	if actor(r.Context()) == "" {
		s.answerProblem(w, r, signedOut())
		return
	}
	flusher := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	poke, end := s.Changes.Listen()
	defer end()
	_, last, _ := s.Changes.Since(0)
	resume := r.Header.Get("Last-Event-ID")
	if resume == "" {
		resume = r.URL.Query().Get("after")
	}
	if resume != "" {
		var from uint64
		_, err := fmt.Sscan(resume, &from)
		if _, _, ok := s.Changes.Since(from); err == nil && ok {
			last = from
		} else {
			_, _ = fmt.Fprintf(w, "id: %d\nevent: reset\ndata: {}\n\n", last)
		}
	}
	_, _ = fmt.Fprintf(w, "id: %d\nevent: hello\ndata: {}\n\n", last)
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		if err := flusher.Flush(); err != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-beat.C:
			if _, err := fmt.Fprint(w, ": still here\n\n"); err != nil {
				return
			}
		case <-poke:
			list, to, ok := s.Changes.Since(last)
			if !ok {
				_, _ = fmt.Fprintf(w, "id: %d\nevent: reset\ndata: {}\n\n", to)
			}
			for i, c := range list {
				b, err := json.Marshal(wire.Change{Kind: c.Kind, ID: c.ID})
				if err != nil {
					return
				}
				if _, err := fmt.Fprintf(w, "id: %d\nevent: change\ndata: %s\n\n", last+uint64(i)+1, b); err != nil {
					return
				}
			}
			last = to
		}
	}
}

// download serves an image to the one unit that its link is for.
func (s *server) download(w http.ResponseWriter, r *http.Request) {
	d, err := s.OpenDownload(r.Context(), chi.URLParam(r, "link"), chi.URLParam(r, "mac"), r.RemoteAddr)
	if err != nil {
		s.answerProblem(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("ETag", `"`+d.Image.SHA256+`"`)
	w.Header().Set("Cache-Control", "private, no-store")
	http.ServeContent(w, r, "", time.Time{}, d.Body(r.Context()))
	at, err := d.File.Seek(0, 1)
	if err != nil {
		at = 0
	}
	d.Close(at)
}

const noConsole = `<!doctype html><html lang="en"><meta charset="utf-8"><title>Fado</title>
<body style="font:16px/1.5 system-ui,sans-serif;max-width:40rem;margin:3rem auto;padding:0 1rem">
<h1>Fado runs, without its console</h1>
<p>This program was built without the console. To build it with the console, run</p><pre>make build</pre>
<p>which needs Node 20.19 or later. The command line and the API at <code>/api/openapi.json</code> work as they are.</p></body></html>`

// console serves the built console; every path that is no file is a page of it.
func (s *server) console(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/api/") {
		s.answerProblem(w, r, problem.New(problem.NotFound, "There is nothing at "+r.URL.Path+".", "The path is misspelt.", "/api/openapi.json lists what there is."))
		return
	}
	h := w.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	if s.o.Console == nil {
		h.Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write([]byte(noConsole))
		return
	}
	name := strings.TrimPrefix(r.URL.Path, "/")
	if _, err := fs.Stat(s.o.Console, name); err != nil || name == "" {
		name = "index.html"
	}
	if strings.HasPrefix(name, "assets/") {
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		h.Set("Cache-Control", "no-cache")
	}
	http.ServeFileFS(w, r, s.o.Console, name)
}
