package sim

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"fado/internal/clock"
)

func site(t *testing.T, units ...UnitSpec) *Site {
	t.Helper()
	s, err := Start(Spec{Networks: []Network{{SSID: "casa", Passphrase: "azeite virgem"}}, Units: units}, "127.0.0.1:0", clock.Scaled(50, time.Now()), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}

func spec() UnitSpec {
	return UnitSpec{HardwareID: "02:5A:11:00:00:07", Model: "junco", Firmware: "junco", Version: "1.0.0", Chip: "x1", SetUpCode: "olival", BootSeconds: 1}
}

func post(t *testing.T, url, body string) (int, string) {
	t.Helper()
	resp, err := http.Post(url, "application/json", strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(b)
}

func inSetUp(t *testing.T, s *Site) {
	t.Helper()
	for deadline := time.Now().Add(5 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if _, _, on := s.units[0].onAir(); on {
			return
		}
		if time.Now().After(deadline) {
			t.Fatal("no access point")
		}
	}
}

func TestTheRadioJoinsWithTheKeyOnly(t *testing.T) {
	s := site(t, spec())
	inSetUp(t, s)
	for body, want := range map[string]int{`{"name":"fado-025a11000007","key":"wrong"}`: 403, `{"name":"fado-other","key":"olival"}`: 404, `nonsense`: 400} {
		if status, _ := post(t, s.Address()+"/radio/join", body); status != want {
			t.Errorf("%s: %d, want %d", body, status, want)
		}
	}
	status, body := post(t, s.Address()+"/radio/join", `{"name":"fado-025a11000007","key":"olival"}`)
	var joined struct{ Gateway string }
	if err := json.Unmarshal([]byte(body), &joined); status != 200 || err != nil {
		t.Fatal(status, body)
	}
	resp, err := http.Get("http://" + joined.Gateway + "/unit")
	if err != nil {
		t.Fatal(err)
	}
	b, _ := io.ReadAll(resp.Body)
	_ = resp.Body.Close()
	if !strings.Contains(string(b), `"02:5A:11:00:00:07"`) {
		t.Errorf("%s", b)
	}
	post(t, s.Address()+"/radio/leave", "")
	if resp, err := http.Get("http://" + joined.Gateway + "/unit"); err == nil {
		_ = resp.Body.Close()
		t.Error("the unit is reached after its access point was left")
	}
}

func TestFaultsAndUnitsByName(t *testing.T) {
	s := site(t, spec())
	if status, _ := post(t, s.Address()+"/units/02:5a:11:00:00:07/fault", `{"fault":"weak signal","value":-88}`); status != 204 {
		t.Error(status)
	}
	if got := s.units[0].signal(); got != -88 {
		t.Error(got)
	}
	for path, body := range map[string]string{"/units/02:5A:11:00:00:07/fault": `{"fault":"bad mood"}`, "/units/02:00:00:00:00:00/fault": `{"fault":""}`} {
		if status, _ := post(t, s.Address()+path, body); status != 404 {
			t.Errorf("%s %s: %d", path, body, status)
		}
	}
	if status, _ := post(t, s.Address()+"/units", `{"model":"junco"}`); status != 400 {
		t.Error("a unit without a hardware id was taken")
	}
	if status, _ := post(t, s.Address()+"/units", `{"model":"junco","hardware_id":"02:5A:11:00:00:08"}`); status != 201 {
		t.Error(status)
	}
}

func TestSettingsAreTakenWholeOrNotAtAll(t *testing.T) {
	s := site(t, spec())
	inSetUp(t, s)
	_, body := post(t, s.Address()+"/radio/join", `{"name":"fado-025a11000007","key":"olival"}`)
	var joined struct{ Gateway string }
	_ = json.Unmarshal([]byte(body), &joined)
	put := func(doc string) int {
		req, _ := http.NewRequest("PUT", "http://"+joined.Gateway+"/settings", strings.NewReader(doc))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
		return resp.StatusCode
	}
	if got := put(`{"wifi":{"ssid":"casa"}}`); got != 422 {
		t.Errorf("half a document: %d", got)
	}
	if s.units[0].manner.(*direct).settings.Wifi.SSID != "" {
		t.Error("a refused document left something behind")
	}
	if got := put(`{"wifi":{"ssid":"casa","passphrase":"azeite virgem"},"broker":{"host":"127.0.0.1","port":1},"topic":"t"}`); got != 200 {
		t.Error(got)
	}
	resp, err := http.Get("http://" + joined.Gateway + "/settings")
	if err != nil {
		t.Fatal(err)
	}
	b, _ := io.ReadAll(resp.Body)
	_ = resp.Body.Close()
	if strings.Contains(string(b), "azeite") {
		t.Errorf("a secret is read back: %s", b)
	}
}

// TestTheUnitChecksItsManifest: the honest other side refuses what the protocol
// says it must.
func TestTheUnitChecksItsManifest(t *testing.T) {
	s := site(t, spec())
	u := s.units[0]
	u.sequence = 5
	pub, key, _ := ed25519.GenerateKey(nil)
	_, other, _ := ed25519.GenerateKey(nil)
	text := base64.RawURLEncoding.EncodeToString
	sign := func(k ed25519.PrivateKey, header, payload string) string {
		in := text([]byte(header)) + "." + text([]byte(payload))
		return in + "." + text(ed25519.Sign(k, []byte(in)))
	}
	good := fmt.Sprintf(`{"manifest":1,"sequence":6,"class":["junco"],"component":"program","size":100,"chip":"x1","digest":{"sha-256":%q}}`, strings.Repeat("a", 64))
	if _, err := u.checkManifest(sign(key, `{"alg":"EdDSA"}`, good), text(pub)); err != nil {
		t.Fatal(err)
	}
	for name, jws := range map[string]string{
		"another key":  sign(other, `{"alg":"EdDSA"}`, good),
		"no signature": sign(key, `{"alg":"none"}`, good),
		"not a JWS":    "abc",
		"class":        sign(key, `{"alg":"EdDSA"}`, strings.Replace(good, "junco", "azinho", 1)),
		"chip":         sign(key, `{"alg":"EdDSA"}`, strings.Replace(good, "x1", "x2", 1)),
		"sequence":     sign(key, `{"alg":"EdDSA"}`, strings.Replace(good, `"sequence":6`, `"sequence":4`, 1)),
		"size":         sign(key, `{"alg":"EdDSA"}`, strings.Replace(good, `"size":100`, `"size":99999999`, 1)),
		"structure":    sign(key, `{"alg":"EdDSA"}`, strings.Replace(good, `"manifest":1`, `"manifest":2`, 1)),
		"payload":      sign(key, `{"alg":"EdDSA"}`, "nonsense"),
	} {
		if _, err := u.checkManifest(jws, text(pub)); err == nil {
			t.Errorf("%s: accepted", name)
		}
	}
	if _, err := u.checkManifest(sign(key, `{"alg":"EdDSA"}`, good), ""); err == nil {
		t.Error("accepted without a key")
	}
}

func TestImagesSayWhatTheyAre(t *testing.T) {
	a := BuildImage(ImageHeader{"junco", "1.0.0", "x1", true}, 4096)
	if len(a) != 4096 || digestOf(a) != digestOf(BuildImage(ImageHeader{"junco", "1.0.0", "x1", true}, 4096)) {
		t.Error("the same header gives another image")
	}
	if h, err := readImage(a); err != nil || h.Version != "1.0.0" || !h.Starts {
		t.Error(h, err)
	}
	for _, bad := range [][]byte{nil, []byte("x"), a[:len(imageMagic)+5]} {
		if _, err := readImage(bad); err == nil {
			t.Errorf("%q was read", bad)
		}
	}
}

func TestTheHubWantsItsToken(t *testing.T) {
	s, err := Start(Spec{Hubs: []HubSpec{{Name: "hub", Listen: "127.0.0.1:0", Token: "t", Broker: "127.0.0.1:1", Account: "hub", Password: "x"}}}, "127.0.0.1:0", clock.Wall(), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	put := func(token, media, body string) int {
		req, _ := http.NewRequest("PUT", s.HubAddress(0)+"/things/urn:x", strings.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", media)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
		return resp.StatusCode
	}
	td := `{"id":"urn:x","title":"x","securityDefinitions":{},"security":[],"properties":{}}`
	for _, c := range []struct {
		token, media, body string
		want               int
	}{{"wrong", "application/td+json", td, 401}, {"t", "application/json", td, 415}, {"t", "application/td+json", `{"id":"urn:y"}`, 400}, {"t", "application/td+json", td, 201}, {"t", "application/td+json", td, 204}} {
		if got := put(c.token, c.media, c.body); got != c.want {
			t.Errorf("%+v: %d", c, got)
		}
	}
}
