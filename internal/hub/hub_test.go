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

func TestList(t *testing.T) {
	pages := map[string]string{"": `[{"id":"urn:1"},{"id":"urn:2"}]`, "2": `[{"id":"urn:3"}]`}
	next, length := "", 0
	d := serve(t)
	d.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/.well-known/wot" {
			_ = json.NewEncoder(w).Encode(map[string]any{"properties": map[string]any{"things": map[string]any{"forms": []any{map[string]any{"href": "/list"}}}}})
			return
		}
		if link := strings.ReplaceAll(next, "HERE", d.URL); link != "" && (r.FormValue("page") == "" || strings.Contains(next, "endless")) {
			w.Header().Set("Link", link)
		}
		_, _ = io.WriteString(w, pages[r.FormValue("page")]+strings.Repeat(" ", length))
	})
	dir := Open(d.URL, secret.New("token"), carrier.Net{})
	list := func() (string, error) {
		things, err := dir.List(t.Context())
		var ids []string
		for _, td := range things {
			ids = append(ids, td["id"].(string))
		}
		return strings.Join(ids, " "), err
	}
	for link, want := range map[string]string{
		"": "urn:1 urn:2", `</list?page=2>; rel="next"`: "urn:1 urn:2 urn:3", `<https://other.example/>; rel=canonical, <HERE/list?page=2>; title="x"; rel=next`: "urn:1 urn:2 urn:3",
	} {
		next = link
		if got, err := list(); err != nil || got != want {
			t.Errorf("%s: %q %v", link, got, err)
		}
	}
	next = `<http://127.0.0.9:1/list?page=2>; rel="next"`
	if _, err := list(); !errors.Is(err, ErrRefused) || errors.Is(err, ErrNonsense) {
		t.Errorf("a page at another host: %v", err)
	}
	next = `</list?endless=1>; rel="next"`
	if _, err := list(); !errors.Is(err, ErrNonsense) {
		t.Errorf("a list without end: %v", err)
	}
	next, pages[""] = "", `{"things":[]}`
	if _, err := list(); !errors.Is(err, ErrNonsense) {
		t.Errorf("no list: %v", err)
	}
	length = mostBody
	if _, err := list(); !errors.Is(err, ErrNonsense) {
		t.Errorf("a list of more than %d bytes: %v", mostBody, err)
	}
}
