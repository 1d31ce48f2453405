package reach

import (
	"context"
	"crypto/md5"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"fado/internal/carrier"
	"fado/internal/clock"
	"fado/internal/core/dialect"
	"fado/internal/core/secret"
)

// family is a dialect with this login and this way of identifying.
func family(t *testing.T, login, identify string) *dialect.Dialect {
	t.Helper()
	file := fmt.Sprintf("dialect: x\ntitle: X\ngrammar: 1\nset_up: {access_point: {name: \"x-{last6}\", open: true}, at: \"http://10.0.0.1\"%s}\nidentify: %s\n"+
		"settings: [{sets: [label], post: /label, form: {l: \"{label}\"}}]\nmessages: [{kind: presence, topic: \"{topic}/p\", read_text: {presence: '^(?<value>.*)$'}}]\n", login, identify)
	d, faults := dialect.Parse("x.yaml", []byte(file))
	if len(faults) > 0 {
		t.Fatalf("%v\n%s", faults, file)
	}
	return d
}

// unitAt is a line to a server on loopback, whatever address is asked for.
func unitAt(t *testing.T, h http.Handler) *Line {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return newLine(&http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, s.Listener.Addr().String())
	}})
}

const plainIdentify = `{get: /id, read_json: {hardware_id: /id}}`

func identify(t *testing.T, d *dialect.Dialect, l *Line, values dialect.Values) (dialect.Facts, *Talk, error) {
	t.Helper()
	talk := NewTalk(l, d.SetUp.At, d.SetUp.Login, values, clock.Scaled(100, time.Now()))
	f, err := talk.Do(t.Context(), &d.Identify, dialect.Values{})
	return f, talk, err
}

// TestBadReplies: each bad reply ends in an error that says what was wrong with
// it.
func TestBadReplies(t *testing.T) {
	said := func(h http.HandlerFunc) http.Handler { return h }
	for _, c := range []struct {
		name, identify string
		unit           http.Handler
		says           string
		readable       bool
	}{
		{"truncated", plainIdentify, said(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "400")
			_, _ = io.WriteString(w, `{"id":"02:5A`)
		}), "unexpected EOF", false},
		{"cut JSON", plainIdentify, said(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, `{"id":"02:5A`) }), "no JSON", false},
		{"wrong type", plainIdentify, said(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, `["a list"]`) }), "", true},
		{"huge", plainIdentify, said(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, strings.Repeat("x", 10<<20)) }), "longer than", false},
		{"unknown charset", plainIdentify, said(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json; charset=klingon")
			_, _ = io.WriteString(w, `{"id":"x"}`)
		}), `charset "klingon"`, false},
		{"redirect", plainIdentify, said(func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://198.51.100.7/elsewhere", http.StatusFound)
		}), "a redirect to http://198.51.100.7/elsewhere, which is not followed", false},
		{"status", plainIdentify, said(func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "out of\nmemory", 500) }), "status 500 out of memory", false},
		{"a pattern that matches nothing", `{get: /id, read_text: {hardware_id: '^unit (?<value>\S+)$'}}`, said(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "hello\n") }), "", true},
		{"a pointer into nothing", `{get: /id, read_json: {hardware_id: /a/0/b}}`, said(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, `{"a":{}}`) }), "", true},
		{"never ready", `{get: /id, read_json: {hardware_id: /id, busy: /busy}, until: {busy: "false"}, retries: 3, wait_ms: 500}`,
			said(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, `{"id":"x","busy":true}`) }), "not as far", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			f, _, err := identify(t, family(t, "", c.identify), unitAt(t, c.unit), nil)
			if c.readable {
				if err != nil || f.Text("hardware_id") != "" {
					t.Errorf("%v %v", f, err)
				}
				return
			}
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%v; want %q", err, c.says)
			}
		})
	}
}

func TestAnotherCharset(t *testing.T) {
	l := unitAt(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; charset=ISO-8859-1")
		_, _ = w.Write([]byte("unit Lagar \xe9\n"))
	}))
	f, _, err := identify(t, family(t, "", `{get: /id, read_text: {hardware_id: '^unit (?<value>.+)$'}}`), l, nil)
	if err != nil || f.Text("hardware_id") != "Lagar é" {
		t.Errorf("%q, %v", f.Text("hardware_id"), err)
	}
}

func TestASlowUnitIsGivenUp(t *testing.T) {
	l := unitAt(t, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }))
	l.client.Timeout = 200 * time.Millisecond
	began := time.Now()
	_, _, err := identify(t, family(t, "", `{get: /id, read_json: {hardware_id: /id}, retries: 2}`), l, nil)
	if err == nil || !strings.Contains(err.Error(), "Timeout") || time.Since(began) > 3*time.Second {
		t.Errorf("%v after %s", err, time.Since(began))
	}
}

func TestRetriesAndWaits(t *testing.T) {
	var asked atomic.Int32
	l := unitAt(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if n := asked.Add(1); n < 3 {
			panic(http.ErrAbortHandler)
		} else if n < 5 {
			_, _ = io.WriteString(w, `{"id":"x","state":"booting"}`)
			return
		}
		_, _ = io.WriteString(w, `{"id":"x","state":"ready"}`)
	}))
	d := family(t, "", `{get: /id, read_json: {hardware_id: /id, state: /state}, until: {state: ready}, retries: 5, wait_ms: 100}`)
	if f, _, err := identify(t, d, l, nil); err != nil || f.Text("state") != "ready" || asked.Load() != 5 {
		t.Errorf("%v %v after %d requests", f, err, asked.Load())
	}
}

func TestOnlyTheUnitIsReached(t *testing.T) {
	for _, a := range []string{"127.0.0.1", "198.51.100.7", "169.254.169.254", "0.0.0.0", "224.0.0.1", "::1", "fado.lan", ""} {
		if _, err := LAN(a, "", carrier.Net{}); !errors.Is(err, ErrAddress) {
			t.Errorf("%q: %v", a, err)
		}
	}
	if _, err := LAN("192.168.40.7", "http://127.0.0.1:1", carrier.Net{}); err != nil {
		t.Error(err)
	}
}

// own and factory are the values of a login that was set, and of one that is
// still the factory's.
var (
	own     = dialect.Values{"access.user": "fado", "access.password": secret.New(`p:"& ä`), "set_up_code": secret.New("printed-1")}
	factory = dialect.Values{"set_up_code": secret.New("printed-1")}
)

func digestResponse(r *http.Request, user, pass string) bool {
	f := map[string]string{}
	for part := range strings.SplitSeq(strings.TrimPrefix(r.Header.Get("Authorization"), "Digest "), ",") {
		k, v, _ := strings.Cut(strings.TrimSpace(part), "=")
		f[k] = strings.Trim(v, `"`)
	}
	sum := func(parts ...string) string {
		h := md5.Sum([]byte(strings.Join(parts, ":")))
		return hex.EncodeToString(h[:])
	}
	return f["response"] == sum(sum(user, "unit", pass), f["nonce"], f["nc"], f["cnonce"], f["qop"], sum(r.Method, f["uri"]))
}

// TestLogins: each kind signs in with Fado's own login, falls back to the
// factory's, and says so when both are refused.
func TestLogins(t *testing.T) {
	ok := func(w http.ResponseWriter) { _, _ = io.WriteString(w, `{"id":"02:5A:11:00:00:07"}`) }
	deny := func(w http.ResponseWriter, how string) {
		if how != "" {
			w.Header().Set("WWW-Authenticate", how)
		}
		http.Error(w, "sign in", http.StatusUnauthorized)
	}
	for _, c := range []struct {
		kind string
		more string
		unit func(user, pass string) http.Handler
	}{
		{"basic", "", func(user, pass string) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if u, p, _ := r.BasicAuth(); u != user || p != pass {
					deny(w, `Basic realm="unit"`)
					return
				}
				ok(w)
			})
		}},
		{"digest", "", func(user, pass string) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if !digestResponse(r, user, pass) {
					deny(w, `Digest realm="unit", qop="auth", nonce="abc", algorithm=MD5`)
					return
				}
				ok(w)
			})
		}},
		{"form", `, form: {post: /in, form: {u: "{login.user}", p: "{login.password}"}}`, func(user, pass string) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/in" {
					if r.FormValue("u") != user || r.FormValue("p") != pass {
						deny(w, "")
						return
					}
					http.SetCookie(w, &http.Cookie{Name: "s", Value: "open", Path: "/"})
					return
				}
				if k, err := r.Cookie("s"); err != nil || k.Value != "open" {
					deny(w, "")
					return
				}
				ok(w)
			})
		}},
		{"token", `, header: X-Pass, value: "t {token}", form: {post: /in, json: {u: "{login.user}", p: "{login.password}"}, read_json: {token: /t}}`, func(user, pass string) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path == "/in" {
					b, _ := io.ReadAll(r.Body)
					if !strings.Contains(string(b), `"u":"`+user+`"`) || !strings.Contains(string(b), strings.ReplaceAll(pass, `"`, `\"`)) {
						deny(w, "")
						return
					}
					_, _ = io.WriteString(w, `{"t":"abc"}`)
					return
				}
				if r.Header.Get("X-Pass") != "t abc" {
					deny(w, "")
					return
				}
				ok(w)
			})
		}},
	} {
		t.Run(c.kind, func(t *testing.T) {
			d := family(t, fmt.Sprintf(`, login: {kind: %s, user: "{access.user}", password: "{access.password}", factory: {user: owner, password: "{set_up_code}"}%s}`, c.kind, c.more), plainIdentify)
			for _, x := range []struct {
				name      string
				unit      http.Handler
				values    dialect.Values
				byFactory bool
				refused   bool
			}{
				{"own", c.unit("fado", `p:"& ä`), own, false, false},
				{"factory, nothing set yet", c.unit("owner", "printed-1"), factory, true, false},
				{"factory, after a reset", c.unit("owner", "printed-1"), own, true, false},
				{"somebody else's", c.unit("eve", "evil"), own, false, true},
			} {
				f, talk, err := identify(t, d, unitAt(t, x.unit), x.values)
				switch {
				case x.refused && !errors.Is(err, ErrLogin):
					t.Errorf("%s: %v", x.name, err)
				case !x.refused && (err != nil || f.Text("hardware_id") == "" || talk.ByFactory() != x.byFactory):
					t.Errorf("%s: %v, %v, by factory %v", x.name, f, err, talk.ByFactory())
				}
			}
			shut := NewTalk(unitAt(t, c.unit("fado", `p:"& ä`)), d.SetUp.At, d.SetUp.Login, own, clock.Wall())
			if !shut.Only(true) {
				t.Fatal("there is no factory login to try")
			}
			if _, err := shut.Do(t.Context(), &d.Identify, dialect.Values{}); !errors.Is(err, ErrLogin) {
				t.Errorf("the factory's login at a unit that has another: %v", err)
			}
		})
	}
}

// TestAUnitThatRepeatsSecrets: an error shows what the unit said, without the
// secrets that it was told.
func TestAUnitThatRepeatsSecrets(t *testing.T) {
	d := family(t, `, login: {kind: basic, user: owner, password: "{access.password}"}`, `{post: /id, form: {pass: "{wifi.passphrase}"}, read_json: {hardware_id: /id}}`)
	values := dialect.Values{"wifi.passphrase": secret.New("azeite & sal"), "access.password": secret.New("porta-fechada")}
	for _, unit := range []http.HandlerFunc{
		func(w http.ResponseWriter, r *http.Request) {
			_, door, _ := r.BasicAuth()
			http.Error(w, "«"+r.FormValue("pass")+"» is too short for "+door, http.StatusUnprocessableEntity)
		},
		func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "/again?pass="+url.QueryEscape(r.FormValue("pass")), http.StatusSeeOther)
		},
	} {
		talk := NewTalk(unitAt(t, unit), d.SetUp.At, d.SetUp.Login, values, clock.Wall())
		_, err := talk.Do(t.Context(), &d.Identify, dialect.Values{"wifi.passphrase": values["wifi.passphrase"]})
		if err == nil || !strings.Contains(err.Error(), secret.Mask) || strings.Contains(err.Error(), "azeite") || strings.Contains(err.Error(), "porta") {
			t.Errorf("%v", err)
		}
	}
}
