package reach

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/carrier"
	"fado/internal/clock"
	"fado/internal/core/dialect"
	"fado/internal/core/secret"
)

// air plays a radio whose one access point leads to the given pages.
func air(t *testing.T, pages http.Handler) (*StandIn, *httptest.Server) {
	t.Helper()
	unit := httptest.NewServer(pages)
	t.Cleanup(unit.Close)
	m := http.NewServeMux()
	m.HandleFunc("GET /radio/access-points", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, `{"access_points":[{"name":"fado-025a11000007","bssid":"02:5A:11:00:00:07","signal":-50,"open":false}]}`)
	})
	m.HandleFunc("POST /radio/join", func(w http.ResponseWriter, r *http.Request) {
		var want struct{ Name, Key string }
		_ = json.NewDecoder(r.Body).Decode(&want)
		switch {
		case want.Name != "fado-025a11000007":
			w.WriteHeader(http.StatusNotFound)
		case want.Key != "olival":
			w.WriteHeader(http.StatusForbidden)
		default:
			_ = json.NewEncoder(w).Encode(map[string]string{"gateway": unit.Listener.Addr().String()})
		}
	})
	m.HandleFunc("POST /radio/leave", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	radio := httptest.NewServer(m)
	t.Cleanup(radio.Close)
	return NewStandIn(radio.URL+"/", carrier.Net{}), unit
}

func join(t *testing.T, r *StandIn) *Joined {
	t.Helper()
	j, err := r.Join(t.Context(), "fado-025a11000007", secret.New("olival"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(j.Leave)
	return j
}

func get(path string) dialect.Request { return dialect.Request{Method: "GET", Path: path} }

func TestJoiningFailsByName(t *testing.T) {
	r, _ := air(t, http.NotFoundHandler())
	if _, err := r.Join(t.Context(), "fado-other", secret.New("olival")); !errors.Is(err, ErrNotSeen) {
		t.Error(err)
	}
	if _, err := r.Join(t.Context(), "fado-025a11000007", secret.New("wrong")); !errors.Is(err, ErrKeyRefused) {
		t.Error(err)
	}
	gone := NewStandIn("http://127.0.0.1:1", carrier.Net{})
	if _, err := gone.Scan(t.Context()); !errors.Is(err, ErrDown) {
		t.Error(err)
	}
	if _, err := gone.Join(t.Context(), "x", secret.Secret{}); !errors.Is(err, ErrDown) {
		t.Error(err)
	}
	if list, err := r.Scan(t.Context()); err != nil || len(list) != 1 || list[0].Signal != -50 {
		t.Error(list, err)
	}
}

func TestOneAccessPointAtATime(t *testing.T) {
	r, _ := air(t, http.NotFoundHandler())
	turns := Share(r, clock.Wall())
	take := func(ctx context.Context) (*Joined, error) {
		return turns.Join(ctx, 0, "fado-025a11000007", secret.New("wrong"), secret.New("olival"))
	}
	late := func() {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
		defer cancel()
		if _, err := take(ctx); !errors.Is(err, context.DeadlineExceeded) {
			t.Fatal("two access points were joined at once:", err)
		}
	}
	first, err := take(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	late()
	first.Leave()
	first.Leave() // leaving twice frees one turn only
	second, err := take(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	late()
	second.Leave()
	// One that could not be joined frees the turn, too.
	if _, err := turns.Join(t.Context(), 0, "fado-025a11000007", secret.New("wrong")); !errors.Is(err, ErrKeyRefused) {
		t.Fatal(err)
	}
	if _, err := turns.Join(t.Context(), 0, "another", secret.New("olival"), secret.New("olival")); !errors.Is(err, ErrNotSeen) {
		t.Fatal(err)
	}
	if third, err := take(t.Context()); err != nil {
		t.Fatal(err)
	} else {
		third.Leave()
	}
}

// TestTurnsByUrgency: the most urgent is next, then who has waited longest; who
// gives up is passed over.
func TestTurnsByUrgency(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		turns := Share(nil, clock.Wall())
		if err := turns.take(t.Context(), 0); err != nil {
			t.Fatal(err)
		}
		var mu sync.Mutex
		var order []string
		gone, leave := context.WithCancel(t.Context())
		for _, w := range []struct {
			name    string
			urgency int
			ctx     context.Context
		}{{"a", 1, t.Context()}, {"b", 5, t.Context()}, {"c", 1, t.Context()}, {"gone", 9, gone}, {"d", 5, t.Context()}, {"e", 0, t.Context()}} {
			go func() {
				err := turns.take(w.ctx, w.urgency)
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					order = append(order, w.name)
				}
			}()
			synctest.Wait()
		}
		leave()
		for range 5 {
			synctest.Wait()
			turns.pass()
		}
		synctest.Wait()
		if got := strings.Join(order, ""); got != "bdace" {
			t.Errorf("the order was %s", got)
		}
		turns.pass()
		if err := turns.take(t.Context(), 0); err != nil {
			t.Error(err)
		}
	})
}

func TestASetUpClientReachesNothingElse(t *testing.T) {
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { t.Error("another host was reached") }))
	defer elsewhere.Close()
	r, _ := air(t, http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		switch req.URL.Path {
		case "/away":
			http.Redirect(w, req, elsewhere.URL, http.StatusFound)
		case "/host":
			_, _ = io.WriteString(w, req.Host)
		}
	}))
	j := join(t, r)
	var status *StatusError
	if _, err := j.Do(t.Context(), "http://10.47.0.1", get("/away")); !errors.As(err, &status) || status.Status != http.StatusFound {
		t.Errorf("a redirect was followed, or not told: %v", err)
	}
	// Whatever the address says, the joined access point answers.
	if b, err := j.Do(t.Context(), elsewhere.URL, get("/host")); err != nil || !strings.Contains(elsewhere.URL, string(b)) {
		t.Errorf("%q %v", b, err)
	}
}

func TestRepliesAreBounded(t *testing.T) {
	r, _ := air(t, http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		switch req.URL.Path {
		case "/huge":
			_, _ = w.Write(make([]byte, dialect.MaxReply+10))
		case "/cut":
			w.Header().Set("Content-Length", "100")
			_, _ = io.WriteString(w, "short")
		case "/refuses":
			w.WriteHeader(http.StatusUnprocessableEntity)
			_, _ = io.WriteString(w, `{"reason":  "no   room"}`)
		case "/odd":
			w.WriteHeader(http.StatusTeapot)
		case "/hangs":
			<-req.Context().Done()
		}
	}))
	j := join(t, r)
	for path, want := range map[string]string{"/huge": "longer than", "/cut": "unexpected EOF", "/refuses": `status 422 {"reason": "no room"}`} {
		if _, err := j.Do(t.Context(), "http://10.47.0.1", get(path)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", path, err)
		}
	}
	odd := get("/odd")
	odd.Expect = []int{http.StatusTeapot}
	if _, err := j.Do(t.Context(), "http://10.47.0.1", odd); err != nil {
		t.Errorf("a status that the dialect expects: %v", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if _, err := j.Do(ctx, "http://10.47.0.1", get("/hangs")); err == nil {
		t.Error("a hanging unit was waited for")
	}
}
