package e2e

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"

	"golang.org/x/text/encoding/charmap"

	"fado/internal/client"
	"fado/internal/core/problem"
	"fado/internal/core/task"
	"fado/internal/demo"
	"fado/internal/wire"
)

func take(t *testing.T, d *demo.Demo, file string, dry bool) wire.Import {
	t.Helper()
	out, err := d.Client.Import(t.Context(), "lagar", []byte(file), dry)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func exported(t *testing.T, d *demo.Demo) string {
	t.Helper()
	b, err := d.Client.Raw(t.Context(), "/api/v1/sites/lagar/inventory")
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// TestAnInventoryGoesOutAndComesIn: round trips, real spreadsheets' files, and
// nothing half-done.
func TestAnInventoryGoesOutAndComesIn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := startDemo(t, bubble, "", nil)
		before := exported(t, d)
		if out := take(t, d, before, false); out.Same != 26 || out.Added+out.Changed+out.Refused != 0 {
			t.Fatalf("what was written is not taken back unchanged: %+v", out)
		}
		if strings.Contains(before, demo.SetUpCode("02:5A:11:00:00:1B")) {
			t.Error("a set-up code is in the file")
		}

		// A file as a spreadsheet with decimal commas writes it.
		sheet := "Name;Room;Model;Hardware ID;Tags;Set-up code;Report.interval_seconds;#Comprado\r\n" +
			"Nora do pátio;Terraço;sobro-quatro;025a11000701;rega; olival-azeite;60,0;sim, em maio\r\n" +
			"=SOMA(A1);Cozinha;azinho;;;;;\r\n" +
			";;;02-5A-11-00-00-1B;;" + demo.SetUpCode("02:5A:11:00:00:1B") + ";45;\r\n"
		sheet = strings.Replace(sheet, "Set-up code", "set_up_code", 1)
		file, err := charmap.Windows1252.NewEncoder().String(sheet)
		if err != nil {
			t.Fatal(err)
		}
		dry := take(t, d, file, true)
		if dry.Encoding != "Windows-1252" || dry.Separator != ";" || dry.Added != 2 || dry.Changed != 1 || dry.Refused != 0 {
			t.Fatalf("%+v", dry)
		}
		if exported(t, d) != before {
			t.Fatal("a dry run changed something")
		}
		done := take(t, d, file, false)
		if fmt.Sprint(done.Rows) != fmt.Sprint(dry.Rows) {
			t.Errorf("the dry run told\n%+v, and this came:\n%+v", dry.Rows, done.Rows)
		}
		nora := deviceOf(t, d, "terraco-relay-2")
		if nora.Name != "Nora do pátio" || nora.HardwareID != "02:5A:11:00:07:01" || nora.Topic != "lagar/terraco/relay-2" || lines(t, d, nora.Hostname)["report.interval_seconds"].Intended != 60.0 {
			t.Errorf("%+v", nora)
		}
		if got := lines(t, d, "terraco-relay-1")["report.interval_seconds"].Intended; got != 45.0 {
			t.Errorf("the interval of the changed row is %v", got)
		}
		if again := take(t, d, file, false); again.Same != 2 || again.Added != 1 {
			t.Errorf("a second time: %+v", again) // the row without a name of its own adds another
		}
		after := exported(t, d)
		if !strings.Contains(after, ",'=SOMA(A1),") {
			t.Errorf("a formula goes out as one:\n%s", after)
		}
		if out := take(t, d, after, false); out.Same != 29 || out.Added+out.Changed != 0 {
			t.Errorf("%+v", out)
		}

		// Every fault at once, and nothing done.
		rows := []string{
			"Outra,Sótão,azinho,,,,", "Outra,,azinhoo,,,,", ",,,,,,", "Outra,,azinho,2.5A,,,", "Outra,,azinho,2E+10,,,", "Outra,,azinho,,terraco-relay-1,relay/#,", "Outra,,azinho,,Não!,,",
			"Outra,,azinho,,,,1.000", "Outra,,azinho,,,,3", "A,,azinho,02:5A:11:00:07:09,um,,", "B,,azinho,02:5A:11:00:07:09,dois,,", "C,,azinho,,um,,", ",,azinho,,,,", "D,Sótão,azinhoo,2E+10,,,2", "E,Sótão,azinho,,,,2",
		}
		_, err = d.Client.Import(t.Context(), "lagar", []byte("name,room,model,hardware_id,hostname,topic,report.interval_seconds\n"+strings.Join(rows, "\n")), false)
		p := problem.As(err)
		if p == nil || p.Kind != problem.BadInput {
			t.Fatal(err)
		}
		said := ""
		for _, f := range p.Fields {
			said += f.Field + ": " + f.Rule + " | " + f.Passes + "\n"
		}
		for _, want := range []string{
			`line 2, room: Lagar da Ribeira has no room "Sótão"`, `line 3, model: there is no model "azinhoo"`, "| azinho\n", "line 5, hardware_id: ", "line 6, hardware_id: ", "rounded",
			"line 7, topic: ", "line 8, hostname: ", "line 9, report.interval_seconds: ", "1000 or 1", "line 10, report.interval_seconds: must be between 5 and 86400",
			"line 12: is A, as line 11 is", "line 13: is A, as line 11 is", "line 14, name: a new device needs it",
			"line 15, room: ", "line 15, model: ", "line 15, hardware_id: ", "line 15, report.interval_seconds: ", "line 16, room: ", "line 16, report.interval_seconds: ",
		} {
			if !strings.Contains(said, want) {
				t.Errorf("%q is not among the faults:\n%s", want, said)
			}
		}
		if exported(t, d) != after {
			t.Error("a file that was refused changed something")
		}
		if _, err := d.Client.Import(t.Context(), "lagar", bytes.Repeat([]byte("x"), 33<<20), true); err == nil {
			t.Error("a file of 33 MB was read")
		}
		// A device that a task holds is not changed under its hands.
		onAir(t, d, "02:5A:11:00:00:1B")
		x, err := client.Post[wire.Task](t.Context(), d.Client, "/api/v1/devices/terraco-relay-1/commission", wire.Commissioning{Prepared: true})
		if err != nil {
			t.Fatal(err)
		}
		if out := take(t, d, "hostname,topic\nterraco-relay-1,lagar/outro\n", true); out.Refused != 1 || !strings.Contains(out.Rows[0].Faults[0].Rule, "held by the task") {
			t.Errorf("%+v", out)
		}
		if x = run(t, d, client.Path("tasks", x.ID, "cancel"), nil); x.Status != task.Cancelled {
			t.Errorf("%+v", x)
		}
	})
}
