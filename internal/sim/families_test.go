package sim

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"fado/internal/clock"
)

// The families are tried as a stranger would, from the prose of the docs: over
// their pages, with the requests that a browser or a script sends.

// unitOf starts a site with one unit of a family and joins its access point.
func unitOf(t *testing.T, family, version string) (s *Site, u *unit, call func(method, path, kind, body string, prepare ...func(*http.Request)) (int, string, http.Header)) {
	t.Helper()
	s = site(t, UnitSpec{Speaks: family, HardwareID: "02:5A:11:00:00:07", Model: "x", Firmware: "x", Version: version,
		SetUpCode: "printed-on-it", BootSeconds: 1, Capabilities: []CapabilitySpec{{Name: "relay", Kind: "switch"}, {Name: "temperature", Kind: "measure", Value: 21}}})
	u = s.units[0]
	call = func(method, path, kind, body string, prepare ...func(*http.Request)) (int, string, http.Header) {
		t.Helper()
		var joined string
		for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
			inSetUp(t, s)
			name, key, _ := u.onAir()
			status, answer := post(t, s.Address()+"/radio/join", fmt.Sprintf(`{"name":%q,"key":%q}`, name, key))
			if joined = answer; status == 200 {
				break
			}
			if time.Now().After(deadline) { // it may restart just now
				t.Fatalf("join %s: %d %s", name, status, answer)
			}
		}
		var at struct{ Gateway string }
		_ = json.Unmarshal([]byte(joined), &at)
		req, _ := http.NewRequest(method, "http://"+at.Gateway+path, strings.NewReader(body))
		if kind != "" {
			req.Header.Set("Content-Type", kind)
		}
		for _, p := range prepare {
			p(req)
		}
		resp, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(req)
		if err != nil {
			return 0, err.Error(), nil
		}
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(b), resp.Header
	}
	return s, u, call
}

func restarts(u *unit) int { return u.report().Restarts }

func waitRestart(t *testing.T, u *unit, from int) {
	t.Helper()
	for deadline := time.Now().Add(5 * time.Second); restarts(u) <= from; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("it does not restart")
		}
	}
}

const formType = "application/x-www-form-urlencoded"

func TestAndorinhaRestartsAtEachSave(t *testing.T) {
	_, u, call := unitOf(t, "andorinha", "2.1.0")
	_, about, head := call("GET", "/about", "", "")
	if !strings.Contains(about, "unit 02:5A:11:00:00:07\r\n") || !strings.Contains(about, "last try fine") || !strings.HasPrefix(head.Get("Content-Type"), "text/plain") {
		t.Errorf("%q", about)
	}
	n := restarts(u)
	if status, _, _ := call("POST", "/messages", formType, url.Values{"server": {"10.0.0.1:1883"}, "under": {"a/b"}, "word": {"s&cret"}}.Encode()); status != 200 {
		t.Fatal(status)
	}
	waitRestart(t, u, n)
	if _, page, _ := call("GET", "/messages", "", ""); page != "server 10.0.0.1:1883\r\nunder a/b\r\n" {
		t.Errorf("%q: what was not sent is there, or a secret", page)
	}
	n = restarts(u)
	call("POST", "/messages", formType, url.Values{"shown": {"Ä & 100%"}}.Encode())
	waitRestart(t, u, n)
	if _, page, _ := call("GET", "/messages", "", ""); !strings.Contains(page, "under a/b") || !strings.Contains(page, "shown Ä & 100%") {
		t.Errorf("%q: a second save took away what the first had set", page)
	}
	if status, why, _ := call("POST", "/messages", formType, "port=1883"); status != 422 || !strings.Contains(why, "no such field") {
		t.Errorf("the field of an old version: %d %s", status, why)
	}
	if status, _, _ := call("POST", "/link", formType, "colour=blue"); status != 422 {
		t.Errorf("an unknown field: %d", status)
	}
	n = restarts(u)
	call("POST", "/door", formType, url.Values{"who": {"eva"}, "word": {"shut-1"}, "air": {"own-key-1"}}.Encode())
	waitRestart(t, u, n)
	if status, _, head := call("GET", "/about", "", ""); status != 401 || head.Get("WWW-Authenticate") == "" {
		t.Errorf("the door is open: %d", status)
	}
	if status, _, _ := call("GET", "/about", "", "", func(r *http.Request) { r.SetBasicAuth("eva", "shut-1") }); status != 200 {
		t.Errorf("its own login is refused: %d", status)
	}
	if _, key, _ := u.onAir(); key != "own-key-1" {
		t.Errorf("the access point's key is %q", key)
	}
	n = restarts(u)
	u.setFault(PowerCutSave, 0) // a fault is set by taking the power away for a moment
	waitRestart(t, u, n)
	n = restarts(u)
	status, _, _ := call("POST", "/house", formType, url.Values{"zone": {"Europe/Lisbon"}, "time_from": {"ntp.lan"}}.Encode(), func(r *http.Request) { r.SetBasicAuth("eva", "shut-1") })
	waitRestart(t, u, n)
	if _, page, _ := call("GET", "/house", "", "", func(r *http.Request) { r.SetBasicAuth("eva", "shut-1") }); status != 0 || page != "time from ntp.lan\r\n" {
		t.Errorf("a save that lost its power was answered with %d, and kept %q", status, page)
	}
}

func TestAndorinhaOfOldVersions(t *testing.T) {
	_, u, call := unitOf(t, "andorinha", "1.9.2")
	if status, _, _ := call("POST", "/messages", formType, "server=10.0.0.1:1883"); status != 422 {
		t.Errorf("the joined field of newer versions: %d", status)
	}
	n := restarts(u)
	if status, _, _ := call("POST", "/messages", formType, "server=10.0.0.1&port=1884&under=t"); status != 200 {
		t.Error(status)
	}
	waitRestart(t, u, n)
	u.mu.Lock()
	defer u.mu.Unlock()
	if l := u.manner.link(); l.host != "10.0.0.1" || l.port != 1884 || l.topic != "t" || l.will != "t/here" {
		t.Errorf("%+v", l)
	}
}

func digest(user, pass string) func(*http.Request) {
	return func(r *http.Request) {
		resp, err := http.Get(r.URL.Scheme + "://" + r.URL.Host + "/api/me")
		if err != nil {
			return
		}
		defer resp.Body.Close()
		_, nonce, _ := strings.Cut(resp.Header.Get("WWW-Authenticate"), `nonce="`)
		nonce, _, _ = strings.Cut(nonce, `"`)
		sum := func(parts ...string) string {
			h := sha256.Sum256([]byte(strings.Join(parts, ":")))
			return hex.EncodeToString(h[:])
		}
		response := sum(sum(user, "pardal", pass), nonce, "00000001", "abc", "auth", sum(r.Method, r.URL.RequestURI()))
		r.Header.Set("Authorization", fmt.Sprintf(`Digest username="%s", realm="pardal", nonce="%s", uri="%s", qop=auth, nc=00000001, cnonce="abc", response="%s", algorithm=SHA-256`, user, nonce, r.URL.RequestURI(), response))
	}
}

func TestPardalKeepsSettingsPendingUntilTheCommit(t *testing.T) {
	_, u, call := unitOf(t, "pardal", "2026.3")
	if status, _, head := call("GET", "/api/me", "", ""); status != 401 || !strings.HasPrefix(head.Get("WWW-Authenticate"), "Digest ") {
		t.Fatalf("its pages stand open: %d", status)
	}
	if status, _, _ := call("GET", "/api/me", "", "", digest("owner", "wrong-one")); status != 401 {
		t.Errorf("a wrong password: %d", status)
	}
	in := digest("owner", "printed-on-it")
	for page, doc := range map[string]string{
		"net":  `{"host":"a","join":[{"name":"casa","pass":"azeite virgem"}]}`,
		"talk": `{"to":"127.0.0.1","port":1,"root":"a/b","as":"u","with":"geheim","called":"Ä"}`,
		"door": `{"name":"eva","secret":"shut-1"}`,
	} {
		if status, _, _ := call("PUT", "/api/pending/"+page, "application/json", doc, in); status != 200 {
			t.Fatalf("%s: %d", page, status)
		}
	}
	if status, _, _ := call("PUT", "/api/pending/other", "application/json", "{}", in); status != 404 {
		t.Errorf("an unknown page: %d", status)
	}
	if _, now, _ := call("GET", "/api/now/talk", "", "", in); strings.TrimSpace(now) != "{}" {
		t.Errorf("it is true before the commit: %s", now)
	}
	if _, me, _ := call("GET", "/api/me", "", "", in); !strings.Contains(me, `"pending":3`) {
		t.Errorf("%s", me)
	}
	n := restarts(u)
	u.setFault(PowerCutSave, 0) // a fault is set by taking the power away for a moment
	waitRestart(t, u, n)
	n = restarts(u)
	call("POST", "/api/commit", "", "", in) // the power fails
	waitRestart(t, u, n)
	if _, me, _ := call("GET", "/api/me", "", "", in); !strings.Contains(me, `"pending":0`) {
		t.Errorf("what was pending outlived the power: %s", me)
	}
	call("PUT", "/api/pending/talk", "application/json", `{"root":"a/b","with":"geheim"}`, in)
	call("PUT", "/api/pending/door", "application/json", `{"name":"eva","secret":"shut-1"}`, in)
	n = restarts(u)
	if status, _, _ := call("POST", "/api/commit", "", "", in); status != 200 {
		t.Fatal(status)
	}
	waitRestart(t, u, n)
	if status, _, _ := call("GET", "/api/me", "", "", in); status != 401 {
		t.Errorf("the factory's login outlives its change: %d", status)
	}
	_, now, _ := call("GET", "/api/now/talk", "", "", digest("eva", "shut-1"))
	if !strings.Contains(now, `"root":"a/b"`) || strings.Contains(now, "geheim") {
		t.Errorf("%s", now)
	}
	_, flash, _ := call("GET", "/api/flash", "", "", digest("eva", "shut-1"))
	if raw, err := hex.DecodeString(strings.TrimPrefix(flash, "PARDAL1\n")); err != nil || !bytes.Contains(raw, []byte("geheim")) {
		t.Errorf("its whole configuration is not whole: %v", err)
	}
}

func TestCorujaIsAwakeForMomentsOnly(t *testing.T) {
	s, u, call := unitOf(t, "coruja", "b417")
	if status, id, _ := call("GET", "/id.json", "", ""); status != 200 || !strings.Contains(id, `"mac":"02:5A:11:00:00:07"`) {
		t.Errorf("%d %s", status, id)
	}
	off := func() bool { _, _, on := u.onAir(); return !on }
	for deadline := time.Now().Add(10 * time.Second); !off(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("it never sleeps")
		}
	}
	// A test that is late finds it asleep again, as a person would, and wakes it.
	woken := func(body string) (status int) {
		for range 20 {
			if status, _ := post(t, s.Address()+"/units/02:5A:11:00:00:07/wake", ""); status != 204 {
				t.Error(status)
			}
			inSetUp(t, s)
			if status, _, _ = call("POST", "/keep.json", "application/json", body); status != http.StatusNotFound {
				break
			}
		}
		return status
	}
	if status := woken(`{"h":"x"}`); status != 422 {
		t.Errorf("half a document: %d", status)
	}
	n := restarts(u)
	if status := woken(`{"w":[["casa","azeite virgem"]],"m":{"h":"127.0.0.1","p":1,"t":"a/b","k":"geheim"},"a":"own-key-1","n":30,"l":"Ä"}`); status != 200 {
		t.Fatal(status)
	}
	waitRestart(t, u, n)
	u.mu.Lock()
	l, kept := u.manner.link(), fmt.Sprint(u.manner.open())
	u.mu.Unlock()
	if l.ssid != "casa" || l.pass != "azeite virgem" || l.topic != "a/b" || l.word != "geheim" || strings.Contains(kept, "geheim") || strings.Contains(kept, "azeite") || strings.Contains(kept, "own-key") {
		t.Errorf("%+v, %s", l, kept)
	}
	if awake, every := u.manner.sleeps(); awake != corujaAwake || every != 30*time.Second {
		t.Errorf("awake for %s every %s", awake, every)
	}
}

// TestTheProxyReachesUnitsInServiceOnly: the way into the home's network passes
// requests on to the unit that has the address, while it is there.
func TestTheProxyReachesUnitsInServiceOnly(t *testing.T) {
	s, u, _ := unitOf(t, "andorinha", "2.1.0")
	proxy, _ := url.Parse(s.Address())
	c := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(proxy), DisableKeepAlives: true}}
	get := func(at string) int {
		resp, err := c.Get(at)
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
		return resp.StatusCode
	}
	if status := get("http://" + u.address() + "/about"); status != 502 {
		t.Errorf("a unit that is not in service: %d", status)
	}
	u.setMode("online")
	if status := get("http://" + u.address() + "/about"); status != 200 {
		t.Errorf("a unit in service: %d", status)
	}
	if status := get("http://192.168.40.250/about"); status != 502 {
		t.Errorf("an address that nobody has: %d", status)
	}
}

func TestFamiliesThatAreNotThere(t *testing.T) {
	for family, want := range map[string]bool{"direct": true, "andorinha": true, "pardal": true, "coruja": true, "": false, "melro": false} {
		if Speaks(family) != want {
			t.Errorf("%q: %v", family, !want)
		}
	}
	if _, err := Start(Spec{Units: []UnitSpec{{Speaks: "melro", HardwareID: "02:00:00:00:00:01", Model: "x"}}}, "127.0.0.1:0", clock.Wall(), slog.New(slog.DiscardHandler)); err == nil {
		t.Error("a unit of a family that is not there was started")
	}
}
