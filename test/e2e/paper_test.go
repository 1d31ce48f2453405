package e2e

import (
	"bytes"
	"strings"
	"testing"
	"testing/synctest"

	"fado/internal/client"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/wire"
)

// TestTheReportHoldsNoSecret: the owner of a site is handed what is where, with each
// check and who did what; no passphrase, password, key or code is in any form of it,
// nor on a label.
func TestTheReportHoldsNoSecret(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		for _, x := range []string{"adega-level-1", "adega-lamp-1"} {
			if got := commissioned(t, d, x); got.Status != task.Done {
				t.Fatalf("%s: %+v", x, got.Failure)
			}
		}
		for _, x := range []string{"adega-level-1", "adega-lamp-1"} {
			checked(t, d, x)
		}
		login, err := client.Post[wire.Revealed](t.Context(), d.Client, client.Path("devices", "adega-lamp-1", "reveal"), wire.Reveal{Password: d.Password})
		if err != nil || login.Password == "" {
			t.Fatal(err)
		}
		r, err := client.Get[wire.Report](t.Context(), d.Client, client.Path("sites", "lagar", "report"))
		if err != nil {
			t.Fatal(err)
		}
		if r.Counts.Devices != 26 || r.Counts.InService != 2 || len(r.Devices) != 26 || len(r.Events) < 10 || r.Network != "lagar-casa" || r.By != d.Person {
			t.Errorf("%+v", r.Counts)
		}
		for _, x := range r.Devices {
			if in := x.Hostname == "adega-level-1" || x.Hostname == "adega-lamp-1"; in != (x.Commissioned != nil) || in && (x.By != d.Person || len(x.Checks) < 8 || x.Running == "" || len(x.Units) != 1) {
				t.Errorf("%+v", x)
			}
		}
		if open := strings.Join(r.Open, " "); !strings.Contains(open, "24 devices are not in service yet") || !strings.Contains(open, "«version as intended» fails") {
			t.Errorf("open: %q", r.Open)
		}
		secrets := []string{demo.Passphrase("lagar"), login.Password, d.Password, d.Token, d.HubToken}
		for _, x := range d.Scenario.Sites[0].Devices {
			secrets = append(secrets, demo.SetUpCode(x.HardwareID))
		}
		for _, path := range []string{"/api/v1/sites/lagar/report", "/api/v1/sites/lagar/report.html", "/api/v1/sites/lagar/labels.html", client.Path("devices", "adega-lamp-1", "label.svg")} {
			b, err := d.Client.Raw(t.Context(), path)
			if err != nil || !bytes.Contains(b, []byte("adega-lamp-1")) {
				t.Fatalf("%s: %v", path, err)
			}
			for _, s := range secrets {
				if bytes.Contains(b, []byte(s)) {
					t.Errorf("%s holds a secret", path)
				}
			}
		}
		if p := refused(t, d.Client, "GET", "/api/v1/sites/lagar/labels.html?room=Attic", nil); len(p.Fields) != 1 || p.Fields[0].Field != "room" {
			t.Errorf("%+v", p)
		}
		if p := refused(t, d.Client, "GET", "/api/v1/sites/lagar/labels.html?columns=0", nil); len(p.Fields) != 1 {
			t.Errorf("%+v", p)
		}
	})
}
