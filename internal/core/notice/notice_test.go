package notice

import (
	"encoding/json"
	"io/fs"
	"os"
	"strings"
	"testing"

	demodata "fado/demo"
	"fado/dialects"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/thing"
)

func example(t *testing.T) []byte {
	t.Helper()
	b, err := os.ReadFile("../../../docs/examples/notice.yaml")
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func subject(t *testing.T, model string) Subject {
	t.Helper()
	b, err := fs.ReadFile(demodata.Files, "models/"+model+".yaml")
	if err != nil {
		t.Fatal(err)
	}
	m, err := inventory.ParseModel(b)
	if err != nil {
		t.Fatal(err)
	}
	if b, err = fs.ReadFile(dialects.Files, m.Dialect+".yaml"); err != nil {
		t.Fatal(err)
	}
	d, faults := dialect.Parse(m.Dialect, b)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return Subject{thing.Subject{DeviceID: "0198c2f1-0000-7000-8000-000000000001", Label: "Rega", Site: "Lagar da Ribeira", Room: "Terraço", Topic: "lagar/terraco/relay-1", Version: "9.0.0", Model: m, Dialect: d}, "terraco-relay-1"}
}

// TestEachFamily: what each family really says and takes stands in its notices.
func TestEachFamily(t *testing.T) {
	n, faults := Parse("casa", example(t))
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	for model, want := range map[string][]string{
		"sobro-quatro": {`"on":"true"`, `"at":"lagar/terraco/relay-1/command/relay-1"`, `"yes":"\"online\""`, `"is":"toggle"`},
		"azinho":       {`"on":"closed"`, `"on":"close"`, `"yes":"1"`, `"at":"lagar/terraco/relay-1/here"`},
		"alecrim-luz":  {`"in":"/lamp/on"`, `"on":"{\"order\":\"set\",\"part\":\"lamp\",\"tag\":\"hub\",\"to\":true}"`, `"after":"}"`, `"in":"/up"`, `"is":"level"`},
		"urze-ar":      {`"in":"/t"`, `"unit":"Cel"`},
	} {
		list, err := n.Write(subject(t, model))
		if err != nil {
			t.Fatal(model, err)
		}
		all := ""
		for _, m := range list {
			if !json.Valid(m.Body) || !strings.HasPrefix(m.Topic, "casa/0198c2f1") {
				t.Errorf("%s: %s %s", model, m.Topic, m.Body)
			}
			all += m.Topic + " " + string(m.Body) + "\n"
		}
		for _, w := range want {
			if !strings.Contains(all, w) {
				t.Errorf("%s: no %s in\n%s", model, w, all)
			}
		}
		if strings.Contains(all, "{") && strings.Contains(all, "_topic}") {
			t.Errorf("%s: a placeholder is left:\n%s", model, all)
		}
	}
}

func TestFaultsHaveTheirPlace(t *testing.T) {
	good := string(example(t))
	for _, c := range []struct{ from, to, what string }{
		{`listens: ["casa/#"]`, `listens: ["#"]`, "first level is fixed"},
		{`listens: ["casa/#"]`, `listens: ["casa/#/x"]`, "no topic filter"},
		{`listens: ["casa/#"]`, `listens: ["other/#"]`, "does not listen"},
		{`topic: "casa/{device_id}"`, `topic: "casa/{hostname}"`, "would share this topic"},
		{`topic: "casa/{device_id}"`, `topic: "casa/+/{device_id}"`, "as a topic it"},
		{`"{label}"`, `"{lable}"`, "no placeholder {lable}"},
		{`"{room}"`, `"{state_topic}"`, "no placeholder {state_topic}"},
		{`kinds: [switch]`, `kinds: [swich]`, `no kind of capability "swich"`},
		{`notice: casa`, `notice: Casa!`, "does not match"},
		{`grammar: 1`, "grammar: 1\nextra: 2", `no key "extra"`},
		{`topic: "casa/{device_id}"`, "text: both\n    topic: \"casa/{device_id}\"", "one body"},
		{`values: {kind:`, `values: {kinb:`, `no placeholder "kinb"`},
	} {
		bad := strings.Replace(good, c.from, c.to, 1)
		if bad == good {
			t.Fatalf("%q is not there", c.from)
		}
		n, faults := Parse("casa", []byte(bad))
		if n != nil || len(faults) == 0 || !strings.Contains(faults[0].What, c.what) || faults[0].Line < 2 || faults[0].Suggest == "" {
			t.Errorf("%s: %+v", c.to, faults)
		}
	}
}

func TestWithin(t *testing.T) {
	for _, c := range []struct {
		filter, topic string
		in            bool
	}{{"casa/#", "casa/x", true}, {"casa/#", "casa", true}, {"casa/+", "casa/x", true}, {"casa/+", "casa/x/y", false}, {"casa/+/y", "casa/x/y", true}, {"casa", "casas", false}, {"a/#", "b/x", false}} {
		if Within(c.filter, c.topic) != c.in {
			t.Errorf("%s %s", c.filter, c.topic)
		}
	}
}

func FuzzParse(f *testing.F) {
	b, err := os.ReadFile("../../../docs/examples/notice.yaml")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(string(b))
	f.Add("notice: a")
	f.Fuzz(func(t *testing.T, s string) {
		if n, faults := Parse("fuzz", []byte(s)); (n == nil) == (len(faults) == 0) {
			t.Fatal("neither a notice nor a fault")
		}
	})
}
