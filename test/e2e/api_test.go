package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/api"
	"fado/internal/cli"
	"fado/internal/client"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/wire"

	"github.com/spf13/cobra"
)

// refused sends a request and returns the problem that it was refused with.
func refused(t *testing.T, c *client.Client, method, path string, body any, headers ...string) wire.Problem {
	t.Helper()
	var e *client.Error
	err := c.Do(t.Context(), method, path, body, nil, headers...)
	if !errors.As(err, &e) {
		t.Errorf("%s %s with %+v was not refused: %v", method, path, body, err)
		return wire.Problem{}
	}
	if e.Title == "" || e.Status < 400 || strings.Contains(e.Title+e.Detail, "sqlite") || strings.Contains(e.Title, "constraint") {
		t.Errorf("%s %s: %+v", method, path, e.Problem)
	}
	return e.Problem
}

func snapshot(t *testing.T, d *demo.Demo) string {
	t.Helper()
	out := ""
	for _, path := range []string{"/api/v1/sites", "/api/v1/devices?limit=200", "/api/v1/brokers", "/api/v1/hubs", "/api/v1/models", "/api/v1/images"} {
		raw, err := client.Get[json.RawMessage](t.Context(), d.Client, path)
		if err != nil {
			t.Fatal(err)
		}
		out += string(raw)
	}
	return out
}

// TestBadInputIsRefusedWhole sends wrong input to every call that takes any:
// each is refused with a field, and nothing is changed.
func TestBadInputIsRefusedWhole(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		before := snapshot(t, d)
		for _, c := range []struct {
			method, path string
			body         any
			status       int
			field        string
			passes       bool
		}{
			{"POST", "/api/v1/sites", wire.SiteEdit{Key: new("Lagar Novo"), Name: new("Lagar Novo"), Zone: new("Europe/Lisbon")}, 422, "key", true},
			{"POST", "/api/v1/sites", wire.SiteEdit{Key: new("lagar"), Name: new("X"), Zone: new("Europe/Lisbon")}, 422, "key", true},
			{"POST", "/api/v1/sites", wire.SiteEdit{Key: new("x"), Name: new("X"), Zone: new("Lisboa")}, 422, "zone", true},
			{"PATCH", "/api/v1/sites/lagar", map[string]any{"reach": "by boat"}, 422, "reach", false},
			{"PATCH", "/api/v1/sites/lagar", map[string]any{"scheme": map[string]string{"hostname": "{rom}", "topic": "a/#", "label": "{name}"}}, 422, "scheme.hostname", true},
			{"PATCH", "/api/v1/sites/lagar", wire.SiteEdit{DownloadAddress: new("somewhere")}, 422, "download_address", true},
			{"PATCH", "/api/v1/sites/lagar", wire.SiteEdit{Broker: new("nowhere")}, 422, "broker", true},
			{"PATCH", "/api/v1/sites/lagar", map[string]any{"colour": "red"}, 422, "colour", false},
			{"POST", "/api/v1/sites/lagar/rooms", map[string]string{"name": "Adega"}, 422, "name", true},
			{"POST", "/api/v1/sites/lagar/networks", wire.NetworkEdit{SSID: new("x"), Passphrase: new("short")}, 422, "passphrase", false},
			{"POST", "/api/v1/sites/lagar/networks", wire.NetworkEdit{SSID: new(strings.Repeat("x", 33))}, 422, "ssid", true},
			{"POST", "/api/v1/brokers", wire.BrokerEdit{Name: new("b"), Host: new("bro ker"), Port: new(1883)}, 422, "host", true},
			{"POST", "/api/v1/brokers", wire.BrokerEdit{Name: new("b"), Host: new("h"), Kind: new("external"), User: new("u")}, 422, "kind", true},
			{"POST", "/api/v1/hubs", wire.HubEdit{Name: new("h"), Directory: new("nowhere")}, 422, "directory", true},
			{"POST", "/api/v1/hubs", wire.HubEdit{Name: new("h"), Directory: new("http://127.0.0.1:1"), Account: new("unit-1"), Password: new("0123456789abcdef")}, 422, "account", true},
			{"PUT", "/api/v1/models", wire.FileText{File: "model: X"}, 422, "model", true},
			{"PUT", "/api/v1/dialects", wire.FileText{File: "dialect: X"}, 422, "dialect:1:1", false},
			{"POST", "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("X"), Model: new("unknown")}, 422, "model", true},
			{"POST", "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("X"), Model: new("junco"), Room: new("Sótão")}, 422, "room", true},
			{"POST", "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("X"), Model: new("junco"), Hostname: new("terraco-relay-1")}, 422, "hostname", true},
			{"POST", "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("X"), Model: new("junco"), Topic: new("lagar/terraco/relay-1/below")}, 422, "topic", true},
			{"POST", "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("X"), Model: new("junco"), Topic: new("lagar/+")}, 422, "topic", true},
			{"POST", "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("X"), Model: new("junco"), HardwareID: new("02:5A:11:00:00:1B")}, 422, "hardware_id", false},
			{"POST", "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("X"), Model: new("junco"), HardwareID: new("zz")}, 422, "hardware_id", true},
			{"POST", "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("X"), Model: new("junco"), Tags: &[]string{"a,b"}}, 422, "tags", true},
			{"PATCH", "/api/v1/devices/terraco-relay-1/settings", map[string]any{"wifi.sid": "x"}, 422, "wifi.sid", true},
			{"PATCH", "/api/v1/devices/terraco-relay-1/settings", map[string]any{"report.interval_seconds": 1}, 422, "report.interval_seconds", true},
			{"PATCH", "/api/v1/devices/terraco-relay-1/settings", map[string]any{"report.interval_seconds": "soon"}, 422, "report.interval_seconds", false},
			{"PATCH", "/api/v1/devices/terraco-relay-1/settings", map[string]any{"topic": "x"}, 422, "topic", false},
			{"POST", "/api/v1/people", wire.Account{Name: "Ana", Password: "short"}, 422, "name", true},
			{"GET", "/api/v1/devices?after=xyz", nil, 422, "after", false},
			{"GET", "/api/v1/devices?limit=9999", nil, 422, "limit", false},
		} {
			p := refused(t, d.Client, c.method, c.path, c.body)
			found := false
			for _, f := range p.Fields {
				if f.Field == c.field {
					found = true
					if f.Rule == "" || c.passes && f.Passes == "" {
						t.Errorf("%s %s: %+v says no rule, or offers nothing that passes", c.method, c.path, f)
					}
				}
			}
			if p.Status != c.status || !found {
				t.Errorf("%s %s with %+v: status %d, fields %+v, want %d and the field %q", c.method, c.path, c.body, p.Status, p.Fields, c.status, c.field)
			}
		}
		for _, path := range []string{"/api/v1/sites/x", "/api/v1/devices/x", "/api/v1/tasks/x", "/api/v1/images/12345678", "/api/v1/models/x", "/api/v1/dialects/x", "/api/v1/nothing"} {
			if p := refused(t, d.Client, "GET", path, nil); p.Status != 404 {
				t.Errorf("%s: %+v", path, p)
			}
		}
		for _, c := range []struct{ path, says string }{
			{"/api/v1/devices/terraco-relay-1/update", "not in service"},
		} {
			if p := refused(t, d.Client, "POST", c.path, wire.Start{Image: firstImage(t, d)}); p.Status != 409 && p.Status != 422 || !strings.Contains(p.Title, c.says) && p.Status == 409 {
				t.Errorf("%s: %+v", c.path, p)
			}
		}
		for name, facts := range map[string]wire.ImageFacts{"no version": {Firmware: "x", Models: []string{"junco"}}, "no such model": {Firmware: "x", Version: "1", Models: []string{"x"}}, "another's manifest": {Firmware: "x", Version: "1", Models: []string{"junco"}, Manifest: "a.b.c"}} {
			var e *client.Error
			if _, err := d.Client.AddImage(t.Context(), strings.NewReader("some bytes"), facts); !errors.As(err, &e) || e.Status != 422 {
				t.Errorf("image with %s: %v", name, err)
			}
		}
		if after := snapshot(t, d); after != before {
			t.Error("something was changed by refused input")
		}
	})
}

// TestAUnitIsClaimedByADeviceThatCanBeIt: not by one of another dialect, nor by
// one that has a unit.
func TestAUnitIsClaimedByADeviceThatCanBeIt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		sighted(t, d, "02:5A:11:00:00:A0")
		const at = "fado-025a110000a0"
		for device, says := range map[string]string{"oficina-climate-1": "speaks coruja", "terraco-relay-1": "already", "nobody": "no device"} {
			if p := refused(t, d.Client, "POST", "/api/v1/sightings/claim", wire.Claim{Sighting: at, Device: device}); !strings.Contains(p.Title, says) {
				t.Errorf("%s: %+v", device, p)
			}
		}
		if err := d.Client.Do(t.Context(), "POST", "/api/v1/sites/lagar/devices", wire.DeviceEdit{Name: new("Rega da horta"), Room: new("Terraço"), Model: new("sobro-quatro")}, nil); err != nil {
			t.Fatal(err)
		}
		x, err := client.Post[wire.Device](t.Context(), d.Client, "/api/v1/sightings/claim", wire.Claim{Sighting: at, Device: "terraco-relay-2"})
		if err != nil || x.HardwareID != "02:5A:11:00:00:A0" {
			t.Errorf("%+v %v", x, err)
		}
		if err := d.Client.Do(t.Context(), "POST", "/api/v1/sightings/ignore", wire.Ignore{Sighting: at, Ignored: true}, nil); err != nil {
			t.Fatal(err)
		}
		list, err := client.Get[[]wire.Sighting](t.Context(), d.Client, "/api/v1/sightings")
		for _, s := range list {
			if s.Name == at {
				t.Errorf("an ignored unit is shown, %v", err)
			}
		}
	})
}

func firstImage(t *testing.T, d *demo.Demo) string {
	t.Helper()
	list, err := client.Get[[]wire.Image](t.Context(), d.Client, "/api/v1/images")
	if err != nil || len(list) == 0 {
		t.Fatal(err)
	}
	return list[0].SHA256
}

func TestNobodyGetsInWithoutSigningIn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		stranger := d.As("")
		for _, path := range []string{"/api/v1/sites", "/api/v1/devices", "/api/v1/events", "/api/v1/tasks", "/api/v1/attention", "/api/v1/info", "/api/v1/tokens", "/api/v1/stream"} {
			if p := refused(t, stranger, "GET", path, nil); p.Status != 401 || p.Next == "" {
				t.Errorf("%s: %+v", path, p)
			}
			if p := refused(t, d.As("fado_wrong-token-of-some-length"), "GET", path, nil); p.Status != 401 {
				t.Errorf("%s with a wrong token: %+v", path, p)
			}
		}
		if p := refused(t, stranger, "POST", "/api/v1/backup", map[string]string{"passphrase": "long enough it is"}); p.Status != 401 {
			t.Errorf("%+v", p)
		}
		if p := refused(t, stranger, "POST", "/api/v1/first-account", wire.FirstAccount{Link: "x", Name: "eve", Password: "a long password 1"}); p.Status != 403 {
			t.Errorf("%+v", p)
		}
		// Wrong passwords are slowed down, for a name that exists and one that does not.
		for _, name := range []string{d.Person, "nobody"} {
			statuses := []int{}
			for range 5 {
				statuses = append(statuses, refused(t, stranger, "POST", "/api/v1/session", wire.Account{Name: name, Password: "wrong password 1"}).Status)
			}
			if statuses[len(statuses)-1] != 429 {
				t.Errorf("%s: %v", name, statuses)
			}
		}
		// A page of another origin cannot use the session of a browser.
		req, err := http.NewRequestWithContext(t.Context(), "POST", d.URL+"/api/v1/sites", strings.NewReader("{}"))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Origin", "http://elsewhere.example")
		req.Header.Set("Sec-Fetch-Site", "cross-site")
		resp, err := d.HTTP().Do(req)
		if err != nil {
			t.Fatal(err)
		}
		_ = resp.Body.Close()
		if resp.StatusCode != 403 {
			t.Errorf("another origin: %s", resp.Status)
		}
	})
}

func TestEditsStartsAndTokens(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		// If-Match: the second of two edits of the same version is refused.
		x, err := client.Get[wire.Device](t.Context(), d.Client, "/api/v1/devices/terraco-relay-1")
		if err != nil {
			t.Fatal(err)
		}
		tag := fmt.Sprintf("%q", fmt.Sprint(x.Version))
		if err := d.Client.Do(t.Context(), "PATCH", "/api/v1/devices/terraco-relay-1", wire.DeviceEdit{Label: new("Rega")}, nil, "If-Match", tag); err != nil {
			t.Fatal(err)
		}
		if p := refused(t, d.Client, "PATCH", "/api/v1/devices/terraco-relay-1", wire.DeviceEdit{Label: new("Água")}, "If-Match", tag); p.Status != 412 {
			t.Errorf("%+v", p)
		}
		// The same Idempotency-Key starts one task.
		sighted(t, d, "02:5A:11:00:00:1B")
		var first, second wire.Task
		for _, to := range []*wire.Task{&first, &second} {
			if err := d.Client.Do(t.Context(), "POST", "/api/v1/devices/terraco-relay-1/commission", struct{}{}, to, "Idempotency-Key", "abc"); err != nil {
				t.Fatal(err)
			}
		}
		if first.ID != second.ID {
			t.Error("one key started two tasks")
		}
		if p := refused(t, d.Client, "POST", "/api/v1/devices/terraco-relay-1/commission", struct{}{}); p.Status != 409 {
			t.Errorf("a second commissioning beside the first: %+v", p)
		}
		waitFor(t, "the end of the task", func() bool {
			got, err := client.Get[wire.Task](t.Context(), d.Client, client.Path("tasks", first.ID))
			return err == nil && got.Status == task.Done
		})
		// In service, a new hostname is intended; the unit keeps its own until it is told.
		do(t, d, "PATCH", "/api/v1/devices/terraco-relay-1", wire.DeviceEdit{Hostname: new("outro")})
		if l := lines(t, d, "outro")["hostname"]; l.Intended != "outro" || l.Reported != "terraco-relay-1" || l.State != "not handed over" {
			t.Errorf("%+v", l)
		}
		do(t, d, "PATCH", "/api/v1/devices/outro", wire.DeviceEdit{Hostname: new("terraco-relay-1")})
		if p := refused(t, d.Client, "DELETE", "/api/v1/devices/terraco-relay-1", nil); p.Status != 409 {
			t.Errorf("%+v", p)
		}
		// Reset takes it out of the hub and revokes its account.
		if err := d.Client.Do(t.Context(), "POST", "/api/v1/devices/terraco-relay-1/reset", nil, nil); err != nil {
			t.Fatal(err)
		}
		waitFor(t, "the thing's leaving the hub", func() bool {
			resp, err := d.HTTP().Get(d.HubURL + "/view")
			if err != nil {
				t.Fatal(err)
			}
			defer resp.Body.Close()
			var things []json.RawMessage
			return decode(resp.Body, &things) == nil && len(things) == 0
		})
		// A revoked token is worth nothing.
		tok, err := client.Post[wire.Token](t.Context(), d.Client, "/api/v1/tokens", wire.NewToken{Name: "lent"})
		if err != nil {
			t.Fatal(err)
		}
		lent := d.As(tok.Text)
		if _, err := client.Get[[]wire.Site](t.Context(), lent, "/api/v1/sites"); err != nil {
			t.Fatal(err)
		}
		if err := d.Client.Do(t.Context(), "DELETE", client.Path("tokens", "lent"), nil, nil); err != nil {
			t.Fatal(err)
		}
		if p := refused(t, lent, "GET", "/api/v1/sites", nil); p.Status != 401 {
			t.Errorf("%+v", p)
		}
	})
}

func TestTheStreamResumes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
		defer stop()
		kinds := make(chan string, 100)
		go func() {
			_ = d.Client.Changes(ctx, func(c wire.Change) bool { kinds <- c.Kind; return true })
		}()
		if k := <-kinds; k != "" {
			t.Fatalf("the stream begins with %q", k)
		}
		if err := d.Client.Do(t.Context(), "POST", "/api/v1/sites/lagar/rooms", map[string]string{"name": "Sótão"}, nil); err != nil {
			t.Fatal(err)
		}
		seen := map[string]bool{}
		for !seen["site"] || !seen["event"] {
			select {
			case k := <-kinds:
				seen[k] = true
			case <-ctx.Done():
				t.Fatalf("only %v came", seen)
			}
		}
		for after, want := range map[string]string{"0": "event: hello", "999999": "event: reset", "nonsense": "event: reset"} {
			req, _ := http.NewRequestWithContext(ctx, "GET", d.URL+"/api/v1/stream", nil)
			req.Header.Set("Authorization", "Bearer "+d.Token)
			req.Header.Set("Last-Event-ID", after)
			resp, err := d.HTTP().Do(req)
			if err != nil {
				t.Fatal(err)
			}
			buf := make([]byte, 4096)
			n, _ := resp.Body.Read(buf)
			_ = resp.Body.Close()
			if !strings.Contains(string(buf[:n]), want) {
				t.Errorf("after %s: %q", after, buf[:n])
			}
		}
	})
}

// TestLinksServeOneUnit: a link is signed, known, and for one address only.
func TestLinksAreNothingToOthers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		for _, path := range []string{"/image/x/y", "/image/01a2077f-6cf5-7c1f-a0d0-d515c4489c66/AAAAAAAAAAAAAAAAAAAAAAAA"} {
			resp, err := d.HTTP().Get(d.URL + path)
			if err != nil {
				t.Fatal(err)
			}
			_ = resp.Body.Close()
			if resp.StatusCode != 403 {
				t.Errorf("%s: %s", path, resp.Status)
			}
		}
	})
}

func TestTheOpenAPIDocumentIsServed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		resp, err := d.HTTP().Get(d.URL + "/api/openapi.json")
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var served, kept map[string]any
		if err := decode(resp.Body, &served); err != nil || served["openapi"] != "3.1.0" {
			t.Fatal(served["openapi"], err)
		}
		b, err := api.Document("1")
		if err != nil {
			t.Fatal(err)
		}
		onDisk, err := os.ReadFile("../../internal/api/openapi.json")
		if err != nil || !bytes.Equal(bytes.TrimSpace(onDisk), bytes.TrimSpace(b)) {
			t.Error("internal/api/openapi.json is stale: run «make generate»", err)
		}
		if err := json.Unmarshal(b, &kept); err != nil || len(kept["paths"].(map[string]any)) < 30 {
			t.Error("the document is too small", err)
		}
		for path, want := range map[string]string{"/healthz": "alive", "/readyz": "ready", "/metrics": "fado_messages_taken_total"} {
			resp, err := d.HTTP().Get(d.URL + path)
			if err != nil {
				t.Fatal(err)
			}
			var body bytes.Buffer
			_, _ = body.ReadFrom(resp.Body)
			_ = resp.Body.Close()
			if resp.StatusCode != 200 || !strings.Contains(body.String(), want) {
				t.Errorf("%s: %s", path, resp.Status)
			}
		}
	})
}

// TestBackupThroughTheCommandLine makes a backup of the demo and opens it.
func TestBackupThroughTheCommandLine(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	dir := t.TempDir()
	file, into := filepath.Join(dir, "b.backup"), filepath.Join(dir, "restored")
	if code, out := fado(t, d, "quatro palavras 1\n", "backup", "--to", file, "--passphrase-file", "-"); code != 0 {
		t.Fatal(code, out)
	}
	if code, _ := fado(t, d, "another phrase 1\n", "restore", "--from", file, "--data", into, "--passphrase-file", "-"); code != 5 {
		t.Errorf("a wrong passphrase gives exit code %d", code)
	}
	if code, out := fado(t, d, "quatro palavras 1\n", "restore", "--from", file, "--data", into, "--passphrase-file", "-"); code != 0 {
		t.Fatal(code, out)
	}
	for _, name := range []string{"records.db", "telemetry.db", "seal.key"} {
		if _, err := os.Stat(filepath.Join(into, name)); err != nil {
			t.Error(err)
		}
	}
}

// fado runs a command line against a demo, with home and environment of its own.
func fado(t *testing.T, d *demo.Demo, stdin string, args ...string) (int, string) {
	t.Helper()
	t.Setenv("FADO_SERVER", d.URL)
	t.Setenv("FADO_TOKEN", d.Token)
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	var out bytes.Buffer
	code := cli.Run(t.Context(), "test", args, strings.NewReader(stdin), &out, &out)
	return code, out.String()
}

// arguments splits a line as a shell does that knows nothing but double quotes.
func arguments(line string) []string {
	var out []string
	for i, part := range strings.Split(line, `"`) {
		if i%2 == 1 {
			out = append(out, part)
			continue
		}
		out = append(out, strings.Fields(part)...)
	}
	return out
}

// TestEveryCommandIsExplained: each command has a short text and an example,
// and each example that only reads works on the demo.
func TestEveryCommandIsExplained(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	sighted(t, d, "02:5A:11:00:00:1B")
	run(t, d, "/api/v1/devices/terraco-relay-1/commission", struct{}{})
	for _, made := range [][]string{{"ca", "make", "embedded"}, {"notice", "add", "../../docs/examples/notice.yaml"}, {"rollout", "plan", "--behind", "--name", "sobro-quatro 1.4.0"}} { // which other examples show
		if code, out := fado(t, d, "", made...); code != 0 {
			t.Fatal(made, code, out)
		}
	}
	reads := map[string]bool{"list": true, "show": true, "settings": true, "preview": true, "messages": true, "thing": true, "fit": true, "keys": true, "schema": true, "attention": true, "scan": true, "openapi": true, "compare": true, "health": true, "report": true}
	tried := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Short == "" {
			t.Errorf("«%s» has no short text", c.CommandPath())
		}
		if !c.HasSubCommands() && c.Example == "" && c.Name() != "help" && c.Parent().Name() != "completion" {
			t.Errorf("«%s» has no example", c.CommandPath())
		}
		for line := range strings.SplitSeq(c.Example, "\n") {
			line = strings.TrimSpace(line)
			if !reads[c.Name()] || strings.Contains(line, ">") || strings.Contains(line, "--to") {
				continue
			}
			line = strings.ReplaceAll(line, " --watch", "") // which ends with its person
			if before, inner, ok := strings.Cut(line, "$("); ok {
				inner, _, _ = strings.Cut(inner, " | ")
				code, out := fado(t, d, "", strings.Fields(inner)[1:]...)
				if code != 0 || out == "" {
					t.Errorf("«%s» gives exit code %d: %s", inner, code, out)
					continue
				}
				line = before + strings.Fields(out)[0]
			}
			code, out := fado(t, d, "", arguments(line)[1:]...)
			if code != 0 || len(strings.TrimSpace(out)) == 0 {
				t.Errorf("«%s» gives exit code %d: %s", line, code, out)
			}
			tried++
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(cli.Root("test"))
	if tried < 20 {
		t.Errorf("only %d examples were tried", tried)
	}
}

// TestCommandLineForPrograms: outputs and exit codes that programs rely on.
func TestCommandLineForPrograms(t *testing.T) {
	long(t)
	d := startDemo(t, 8, "", nil)
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"device", "list", "-o", "json", "--limit", "3"}, 0, `"hostname"`},
		{[]string{"device", "list", "-o", "yaml", "--limit", "3"}, 0, "hostname:"},
		{[]string{"device", "list", "-o", "csv", "--limit", "3"}, 0, "name,room,site,hostname"},
		{[]string{"device", "list", "-q", "--search", "patio"}, 0, "terraco-relay-1\n"},
		{[]string{"device", "list", "-o", "xml"}, 2, "json"},
		{[]string{"device", "show", "nobody"}, 3, "There is no device"},
		{[]string{"device", "add", "X", "--site", "lagar", "--model", "junco", "--hostname", "A B"}, 2, "a-b"},
		{[]string{"device", "set", "x=1"}, 2, "--device"},
		{[]string{"frobnicate"}, 2, "fado help"},
		{[]string{"dialect", "check", "../../dialects/direct.yaml"}, 0, "is good"},
		{[]string{"device", "list", "--server", "http://127.0.0.1:1"}, 4, "No Fado answers"},
		{[]string{"config", "check"}, 0, "is good"},
		{[]string{"firmware", "intend", "9.9.9", "--site", "lagar", "--model", "junco"}, 0, "Intended"},
		{[]string{"device", "commission", "portaria-relay-1"}, 1, "maker's own cloud"},
		{[]string{"device", "apply", "lagar-lamp-1"}, 1, "not in service yet"},
		{[]string{"device", "preview", "portaria-relay-1"}, 0, "4 restarts in all"},
		{[]string{"drift", "list"}, 0, "None."},
		{[]string{"site", "names", "lagar", "--topic", "{site}/{kind}/{room}-{number}"}, 0, "lagar/terraco/relay-1 → lagar/relay/terraco-1"},
		{[]string{"device", "reveal", "portaria-relay-1", "--password-file", "/nothing"}, 2, "cannot be read"},
		{[]string{"dialect", "try", "coruja"}, 0, "The dialect works with this unit"},
		{[]string{"dialect", "try", "--file", "../../docs/examples/melro.yaml", "--model-file", "../../docs/examples/melro-model.yaml", "--unit", "../../docs/examples/melro-unit.yaml"}, 0, "Command bell"},
		{[]string{"dialect", "try", "--file", "../../docs/examples/melro.yaml"}, 2, "No model speaks melro"},
		{[]string{"dialect", "show", "pardal"}, 0, "Restarts"},
		{[]string{"model", "ports", "azinho"}, 0, "pin D9"},
		{[]string{"device", "edit", "terraco-relay-1", "--tag", "summer"}, 0, "summer"},
		{[]string{"room", "add", "lagar", "Sótão"}, 0, "Sótão"},
		{[]string{"site", "show", "lagar"}, 0, "Sótão"},
	} {
		if code, out := fado(t, d, "", c.args...); code != c.code || !strings.Contains(out, c.says) {
			t.Errorf("fado %s: exit code %d, want %d: %s", strings.Join(c.args, " "), code, c.code, out)
		}
	}
	list := filepath.Join(t.TempDir(), "lagar.csv")
	for _, c := range []struct {
		args []string
		in   string
		code int
		says string
	}{
		{[]string{"device", "export", "lagar", "--to", list}, "", 0, "The inventory of lagar is in"},
		{[]string{"device", "import", "lagar", "--file", list}, "", 0, "left as they were 26"},
		{[]string{"device", "import", "lagar", "--file", "-", "--dry-run"}, "name;model\nNora nova;azinho\nBomba;azinhoo\n", 2, "1 of 2 rows would be refused"},
		{[]string{"device", "import", "lagar", "--file", "-"}, "name;model\nBomba;azinhoo\n", 2, "line 2, model"},
		{[]string{"device", "import", "lagar", "--file", "/nothing"}, "", 2, "cannot be read"},
		{[]string{"device", "import", "nowhere", "--file", list}, "", 3, "There is no site"},
		{[]string{"bench", "start", "portaria-relay-1"}, "", 1, "maker's own cloud"},
		{[]string{"bench", "start", "adega-level-1", "lagar-relay-1", "--wait"}, "", 0, "All 2 are adopted and proven."},
		{[]string{"bench", "start", "nobody"}, "", 3, "There is no device"},
	} {
		if code, out := fado(t, d, c.in, c.args...); code != c.code || !strings.Contains(out, c.says) {
			t.Errorf("fado %s: exit code %d, want %d: %s", strings.Join(c.args, " "), code, c.code, out)
		}
	}
	fault(t, d, "02:5A:11:00:00:1E", "weak signal", -91)
	onAir(t, d, "02:5A:11:00:00:1E")
	if code, out := fado(t, d, "", "bench", "start", "casa-da-bomba-level-1", "--wait"); code != 6 || !strings.Contains(out, "could not find the network") || !strings.Contains(out, "1 of 1 were not adopted") {
		t.Errorf("%d %s", code, out)
	}
	if code, out := fado(t, d, "a long password 2\n", "person", "add", "rui", "--password-file", "-"); code != 0 || !strings.Contains(out, "rui can sign in") {
		t.Errorf("%d %s", code, out)
	}
	if code, out := fado(t, d, "a long password 2\n", "login", d.URL, "--name", "rui", "--password-file", "-"); code != 0 {
		t.Errorf("%d %s", code, out)
	}
	if code, out := fado(t, d, d.Password+"\n", "login", d.URL, "--name", d.Person, "--password-file", "-"); code != 0 || !strings.Contains(out, "Signed in") {
		t.Errorf("login: %d %s", code, out)
	}
	sighted(t, d, "02:5A:11:00:00:1B")
	if code, out := fado(t, d, "", "device", "commission", "terraco-relay-1", "--wait"); code != 0 || !strings.Contains(out, "is adopted and proven") {
		t.Errorf("%d %s", code, out)
	}
	fault(t, d, "02:5A:11:00:00:14", "unplugged", 0)
	if code, out := fado(t, d, "", "device", "commission", "adega-level-1", "--wait"); code != 6 || !strings.Contains(out, "What to do") {
		t.Errorf("%d %s", code, out)
	}
}
