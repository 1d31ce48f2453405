package e2e

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"fado/internal/client"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/wire"
)

func said(t *testing.T, d *demo.Demo, pairs ...string) wire.SaidPage {
	t.Helper()
	p, err := client.Get[wire.SaidPage](t.Context(), d.Client, client.Query("/api/v1/messages", pairs...))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// TestWhatIsSaidIsShown: what units of each family say is there with its meaning, can
// be narrowed and read on, outlives a restart and is gone after an hour; what they are
// told is not shown.
func TestWhatIsSaidIsShown(t *testing.T) {
	long(t)
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		devices := map[string][]string{ // and kinds that they must be heard with
			"adega-level-1": {"presence", "unit", "settings", "state", "health"}, "terraco-relay-1": {"presence", "state", "health", "command"},
			"adega-lamp-1": {"presence", "unit", "state", "command"}, "adega-climate-1": {"wake", "settings", "state"},
		}
		for x := range devices {
			if got := commissioned(t, d, x); got.Status != task.Done {
				t.Fatalf("%s: %+v", x, got.Failure)
			}
		}
		do(t, d, "PATCH", client.Path("devices", "adega-level-1", "settings"), map[string]any{"report.interval_seconds": 30})
		if got := run(t, d, client.Path("devices", "adega-level-1", "apply"), struct{}{}); got.Status != task.Done {
			t.Fatalf("%+v", got.Failure)
		}
		time.Sleep(2 * time.Minute)
		for x, kinds := range devices {
			p := said(t, d, "device", x, "limit", "2000")
			seen := map[string]int{}
			for i, m := range p.Messages {
				seen[m.Kind]++
				if i > 0 && m.Seq <= p.Messages[i-1].Seq {
					t.Errorf("%s: out of order: %+v", x, m)
				}
				if m.Hidden && m.Payload != "" || m.Kind == "" && m.From != "" && !strings.HasPrefix(m.From, "unit-") {
					t.Errorf("%s: %+v", x, m)
				}
			}
			for _, k := range kinds {
				if seen[k] == 0 {
					t.Errorf("%s was never heard with %s: %v", x, k, seen)
				}
			}
		}
		// A state is shown with what it means, and the words in which it was said.
		p := said(t, d, "device", "terraco-relay-1", "kind", "state", "limit", "1")
		if len(p.Messages) != 1 || p.LeftOut == 0 || len(p.Messages[0].Says) == 0 || p.Messages[0].Means == "" || p.Messages[0].Payload == "" || p.Messages[0].Device != "Rega do pátio" || p.Messages[0].Room != "Terraço" {
			t.Errorf("%+v", p)
		}
		// What it was told is on record without its words.
		told := said(t, d, "device", "adega-level-1", "kind", "command", "limit", "2000").Messages
		if len(told) == 0 || !told[len(told)-1].Hidden || told[len(told)-1].Size == 0 || told[len(told)-1].From != "fado" {
			t.Errorf("%+v", told)
		}
		for _, m := range said(t, d, "limit", "2000").Messages {
			if strings.Contains(m.Payload, demo.Passphrase("lagar")) {
				t.Errorf("a passphrase is shown: %+v", m)
			}
		}
		if n := len(said(t, d, "site", "lagar", "room", "Adega", "contains", "LEVEL", "limit", "2000").Messages); n == 0 || n == len(said(t, d, "site", "lagar", "limit", "2000").Messages) {
			t.Errorf("%d messages of the level in the cellar", n)
		}
		if n := len(said(t, d, "site", "estaleiro").Messages); n != 0 {
			t.Errorf("%d messages of a site without units", n)
		}
		// Read on: each once.
		first := said(t, d, "limit", "2000")
		time.Sleep(3 * time.Minute)
		next := said(t, d, "limit", "2000", "after", fmt.Sprint(first.Next))
		if len(next.Messages) == 0 || next.Messages[0].Seq <= first.Messages[len(first.Messages)-1].Seq {
			t.Errorf("%d more, from %+v", len(next.Messages), next.Messages)
		}
		if err := d.Restart(t.Context()); err != nil {
			t.Fatal(err)
		}
		if again := said(t, d, "limit", "2000"); len(again.Messages) < len(first.Messages) || again.Messages[0].Seq != first.Messages[0].Seq {
			t.Errorf("%d are left of %d after a restart", len(again.Messages), len(first.Messages))
		}
		for path, field := range map[string]string{"?kind=gossip": "kind", "?room=Adega": "site", "?limit=5000": "limit"} {
			if p := refused(t, d.Client, "GET", "/api/v1/messages"+path, nil); len(p.Fields) != 1 || p.Fields[0].Field != field {
				t.Errorf("%s: %+v", path, p)
			}
		}
		// What a spreadsheet would carry out is defused.
		payload := `=HYPERLINK("http://x")`
		if err := d.Say(t.Context(), deviceOf(t, d, "terraco-relay-1").Topic+"/state/relay-1", []byte(payload), false); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Second)
		b, err := d.Client.Raw(t.Context(), "/api/v1/messages.csv?contains="+url.QueryEscape("hyperlink"))
		if err != nil || strings.Contains(string(b), `,"=HYP`) || !strings.Contains(string(b), `,"'=HYP`) {
			t.Errorf("%v: %s", err, b)
		}
		// A unit that repeats what it was told.
		if err := d.Say(t.Context(), deviceOf(t, d, "terraco-relay-1").Topic+"/state/relay-2", []byte("my key is "+demo.Passphrase("lagar")), false); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Second)
		if p := said(t, d, "contains", "my key is"); len(p.Messages) != 1 || p.Messages[0].Payload != "my key is •••" || len(p.Messages[0].Says) != 0 {
			t.Errorf("%+v", p.Messages)
		}
		time.Sleep(70 * time.Minute)
		if p := said(t, d, "limit", "2000"); p.Since == nil || time.Since(*p.Since) > 62*time.Minute {
			t.Errorf("kept since %v", p.Since)
		}
		resp, err := d.HTTP().Get(d.URL + "/api/v1/messages")
		if err != nil || resp.StatusCode != http.StatusUnauthorized {
			t.Error("whoever comes may read along", err)
		}
		_ = resp.Body.Close()
	})
}

// TestHealthIsRolledUp: what a unit says of how it does is kept by spans, also what was
// said right before the service went down; a weaker signal shows.
func TestHealthIsRolledUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		const hw = "02:5A:11:00:00:1E" // Cisterna, a direct one
		level := deviceOf(t, d, hw).Hostname
		for _, x := range []string{level, "adega-climate-1", "terraco-relay-1"} {
			if got := commissioned(t, d, x); got.Status != task.Done {
				t.Fatalf("%s: %+v", x, got.Failure)
			}
		}
		time.Sleep(20 * time.Minute)
		series := func(device string) map[string][]wire.HealthSpan {
			h, err := client.Get[wire.Health](t.Context(), d.Client, client.Path("devices", device, "health"))
			if err != nil || h.SpanSeconds != 300 {
				t.Fatal(err, h.SpanSeconds)
			}
			out := map[string][]wire.HealthSpan{}
			for _, s := range h.Series {
				for i, x := range s.Spans {
					if x.Count < 1 || x.Low > x.Mean+1e-9 || x.High < x.Mean-1e-9 || x.Last < x.Low || x.Last > x.High || i > 0 && !x.At.After(s.Spans[i-1].At) || x.At.Unix()%300 != 0 {
						t.Errorf("%s, %s: %+v", device, s.What, x)
					}
				}
				out[s.What] = s.Spans
			}
			return out
		}
		first := series(level)
		for _, what := range []string{"signal", "free memory", "interval", "returns"} {
			if len(first[what]) == 0 || what != "returns" && len(first[what]) < 3 {
				t.Errorf("%s in %d spans", what, len(first[what]))
			}
		}
		if x := first["interval"][1]; x.Mean < 20 || x.Mean > 80 {
			t.Errorf("a reading every %+v", x)
		}
		if got := series("adega-climate-1")["battery"]; len(got) == 0 || got[0].Last != 87 {
			t.Errorf("battery %+v", got)
		}
		readings := func(list []wire.HealthSpan) (n int64) {
			for _, x := range list {
				n += x.Count
			}
			return n
		}
		if got := series("terraco-relay-1")["signal"]; len(got) == 0 || got[0].High >= 0 {
			t.Errorf("signal %+v", got)
		}
		before := readings(first["signal"])
		fault(t, d, hw, "weak signal", -82)
		time.Sleep(7 * time.Minute)
		if err := d.Restart(t.Context()); err != nil {
			t.Fatal(err)
		}
		time.Sleep(3 * time.Minute)
		after := series(level)["signal"]
		if readings(after) < before+7 || after[len(after)-1].Low > -80 {
			t.Errorf("%d readings before, now %+v", before, after)
		}
		time.Sleep(150 * time.Minute)
		h, err := client.Get[wire.Health](t.Context(), d.Client, client.Path("devices", level, "health")+"?hours=120")
		if err != nil || h.SpanSeconds != 3600 || len(h.Series) == 0 || len(h.Series[0].Spans) < 3 || h.Series[0].Spans[0].At.Unix()%3600 != 0 {
			t.Errorf("%v: %d s, %d spans", err, h.SpanSeconds, len(h.Series[0].Spans))
		}
		fine := series(level)["signal"]
		if len(fine) < 32 || len(fine) > 39 {
			t.Errorf("%d spans of five minutes", len(fine))
		}
	})
}
