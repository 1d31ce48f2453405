package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"fado/internal/core/problem"
	"fado/internal/wire"
)

func service(t *testing.T, h http.HandlerFunc) *Client {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return New(s.URL+"/", "the-token")
}

func TestProblemsKeepTheirThreeParts(t *testing.T) {
	c := service(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer the-token" {
			t.Error("no token was sent")
		}
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusConflict)
		_ = json.NewEncoder(w).Encode(wire.Problem{Type: "urn:fado:problem:conflict", Title: "It is held.", Status: 409, Detail: "A task.", Next: "Wait.", Fields: []problem.Field{{Field: "a", Rule: "b"}}})
	})
	_, err := Get[wire.Site](t.Context(), c, "/api/v1/sites/x")
	var e *Error
	p := problem.As(err)
	if !errors.As(err, &e) || e.Status != 409 || p == nil || p.Kind != problem.Conflict || p.What != "It is held." || p.Cause != "A task." || p.Next != "Wait." || len(p.Fields) != 1 {
		t.Errorf("%+v %+v", e, p)
	}
}

func TestAnswersThatAreNone(t *testing.T) {
	c := service(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/half" {
			_, _ = io.WriteString(w, `{"id":`)
			return
		}
		w.WriteHeader(http.StatusBadGateway)
		_, _ = io.WriteString(w, "<html>a proxy's page</html>")
	})
	if _, err := Get[wire.Site](t.Context(), c, "/half"); err == nil {
		t.Error("half an answer was read")
	}
	var e *Error
	if _, err := Get[wire.Site](t.Context(), c, "/x"); !errors.As(err, &e) || e.Status != 502 || strings.Contains(e.Title, "html") {
		t.Errorf("%v", err)
	}
	if _, err := Get[wire.Site](t.Context(), New("http://127.0.0.1:1", ""), "/x"); problem.As(err) == nil || problem.As(err).Kind != problem.Unavailable {
		t.Errorf("%v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Get[wire.Site](ctx, c, "/x"); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}

func TestPathsAndQueriesAreEscaped(t *testing.T) {
	if got := Path("devices", "lagar/terraço 1"); got != "/api/v1/devices/lagar%2Fterra%C3%A7o%201" {
		t.Error(got)
	}
	if got := Query("/x", "a", "", "b", "c&d"); got != "/x?b=c%26d" {
		t.Error(got)
	}
}

// TestTheStreamComesBack: after an interruption it resumes where it was, and a
// reset is told as an empty change.
func TestTheStreamComesBack(t *testing.T) {
	var calls atomic.Int32
	c := service(t, func(w http.ResponseWriter, r *http.Request) {
		switch calls.Add(1) {
		case 1:
			_, _ = fmt.Fprint(w, "id: 7\nevent: hello\ndata: {}\n\nid: 8\nevent: change\ndata: {\"kind\":\"task\",\"id\":\"a\"}\n\n")
		case 2:
			w.WriteHeader(http.StatusServiceUnavailable)
		default:
			if r.Header.Get("Last-Event-ID") != "8" {
				t.Errorf("resumed after %q", r.Header.Get("Last-Event-ID"))
			}
			_, _ = fmt.Fprint(w, ": still here\n\nid: 20\nevent: reset\ndata: {}\n\n")
		}
	})
	var seen []string
	err := c.Changes(t.Context(), func(x wire.Change) bool {
		seen = append(seen, x.Kind+x.ID)
		return len(seen) < 3
	})
	if err != nil || strings.Join(seen, ",") != ",taska," {
		t.Errorf("%q %v", seen, err)
	}
	denied := service(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) })
	if err := denied.Changes(t.Context(), func(wire.Change) bool { return true }); err == nil {
		t.Error("a stream that is refused was waited for")
	}
}

func TestAnUploadThatIsRefusedEarlyEnds(t *testing.T) {
	c := service(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnprocessableEntity) })
	endless := io.LimitReader(zeros{}, 1<<30)
	if _, err := c.AddImage(t.Context(), endless, wire.ImageFacts{}); err == nil {
		t.Error("no error")
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }
