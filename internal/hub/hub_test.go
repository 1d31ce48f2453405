package hub

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"fado/internal/carrier"
	"fado/internal/core/secret"
)

// directory plays a hub. Its description can be changed by the test.
type directory struct {
	*httptest.Server
	describe func(base string) any
	things   map[string]string
	status   int
	tokens   []string
}

func serve(t *testing.T) *directory {
	t.Helper()
	d := &directory{things: map[string]string{}}
	d.describe = func(base string) any {
		action := func(method string) any {
			return map[string]any{"forms": []any{map[string]any{"href": "td/{id}", "htv:methodName": method}}}
		}
		return map[string]any{"base": base + "/wot/", "actions": map[string]any{"createThing": action("PUT"), "retrieveThing": action("GET"), "deleteThing": action("DELETE")}}
	}
	d.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		d.tokens = append(d.tokens, r.Header.Get("Authorization"))
		if r.URL.Path == "/.well-known/wot" {
			_ = json.NewEncoder(w).Encode(d.describe(d.URL))
			return
		}
		if d.status != 0 {
			w.WriteHeader(d.status)
			_, _ = io.WriteString(w, "because")
			return
		}
		id, ok := strings.CutPrefix(r.URL.Path, "/wot/td/")
		if !ok {
			t.Errorf("asked for %s", r.URL.Path)
		}
		switch r.Method {
		case "PUT":
			if r.Header.Get("Content-Type") != "application/td+json" {
				t.Errorf("content type %q", r.Header.Get("Content-Type"))
			}
			b, _ := io.ReadAll(r.Body)
			d.things[id] = string(b)
		case "DELETE":
			if _, there := d.things[id]; !there {
				w.WriteHeader(http.StatusNotFound)
			}
			delete(d.things, id)
		default:
			if _, there := d.things[id]; !there {
				w.WriteHeader(http.StatusNotFound)
				return
			}
			_, _ = io.WriteString(w, d.things[id])
		}
	}))
	t.Cleanup(d.Close)
	return d
}

const id = "urn:uuid:0190c6b0-0000-7000-8000-000000000001"

func TestPutGetDelete(t *testing.T) {
	d := serve(t)
	dir := Open(d.URL+"/", secret.New("token"), carrier.Net{})
	if _, err := dir.Get(t.Context(), id); !errors.Is(err, ErrNone) {
		t.Fatal(err)
	}
	if err := dir.Put(t.Context(), map[string]any{"id": id, "title": "Rega do pátio"}); err != nil {
		t.Fatal(err)
	}
	td, err := dir.Get(t.Context(), id)
	if err != nil || td["title"] != "Rega do pátio" {
		t.Fatal(td, err)
	}
	for range 2 { // deleting what is gone is no error
		if err := dir.Delete(t.Context(), id); err != nil {
			t.Fatal(err)
		}
	}
	for _, tok := range d.tokens {
		if tok != "Bearer token" {
			t.Errorf("authorization %q", tok)
		}
	}
}

func TestTheTokenGoesToItsHubAlone(t *testing.T) {
	thief := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		t.Errorf("another host was asked, with %q", r.Header.Get("Authorization"))
	}))
	defer thief.Close()
	d := serve(t)
	for name, describe := range map[string]func(string) any{
		"an absolute form": func(base string) any {
			return map[string]any{"base": base, "actions": map[string]any{"createThing": map[string]any{"forms": []any{map[string]any{"href": thief.URL + "/{id}"}}}}}
		},
		"another base": func(string) any {
			return map[string]any{"base": thief.URL, "actions": map[string]any{"createThing": map[string]any{"forms": []any{map[string]any{"href": "/{id}"}}}}}
		},
	} {
		d.describe = describe
		if err := Open(d.URL, secret.New("token"), carrier.Net{}).Put(t.Context(), map[string]any{"id": id}); !errors.Is(err, ErrRefused) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestNonsenseIsTold(t *testing.T) {
	d := serve(t)
	for name, describe := range map[string]func(string) any{
		"no actions": func(base string) any { return map[string]any{"base": base} },
		"no forms": func(base string) any {
			return map[string]any{"actions": map[string]any{"createThing": map[string]any{}}}
		},
		"a bad form": func(base string) any {
			return map[string]any{"actions": map[string]any{"createThing": map[string]any{"forms": []any{map[string]any{"href": "{id"}}}}}
		},
		"a bad base": func(base string) any {
			return map[string]any{"base": "http://%zz", "actions": map[string]any{"createThing": map[string]any{"forms": []any{map[string]any{"href": "x"}}}}}
		},
		"not a thing": func(base string) any { return "a text" },
	} {
		d.describe = describe
		if err := Open(d.URL, secret.Secret{}, carrier.Net{}).Put(t.Context(), map[string]any{"id": id}); !errors.Is(err, ErrRefused) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestDownAndRefusedAreToldApart(t *testing.T) {
	d := serve(t)
	dir := Open(d.URL, secret.Secret{}, carrier.Net{})
	for status, want := range map[int]error{401: ErrRefused, 400: ErrRefused, 302: ErrRefused, 500: ErrDown, 503: ErrDown} {
		d.status = status
		if err := dir.Put(t.Context(), map[string]any{"id": id}); !errors.Is(err, want) {
			t.Errorf("%d: %v", status, err)
		}
	}
	if err := Open("http://127.0.0.1:1", secret.Secret{}, carrier.Net{}).Put(t.Context(), map[string]any{"id": id}); !errors.Is(err, ErrDown) {
		t.Error(err)
	}
}
