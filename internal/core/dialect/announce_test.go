package dialect

import (
	"os"
	"strings"
	"testing"
)

func family(t *testing.T, name string) *Dialect {
	t.Helper()
	b, err := os.ReadFile("../../../dialects/" + name + ".yaml")
	if err != nil {
		t.Fatal(err)
	}
	d, faults := Parse(name, b)
	if len(faults) > 0 {
		t.Fatal(faults)
	}
	return d
}

func TestAnnouncementsTellWhichUnitItIs(t *testing.T) {
	direct, andorinha, pardal := family(t, "direct"), family(t, "andorinha"), family(t, "pardal")
	for _, c := range []struct {
		d        *Dialect
		instance string
		txt      []string
		digits   string
		version  string
		ok       bool
	}{
		{direct, "whatever it is called", []string{"id=02:5A:11:00:00:07", "version=1.4.0"}, "025a11000007", "1.4.0", true},
		{direct, "x", []string{"ID=02-5a-11-00-00-07", "id=02:5A:11:00:00:99"}, "025a11000007", "", true}, // the first of a name counts, in any case
		{direct, "x", []string{"id=02:5A"}, "", "", false},
		{direct, "x", nil, "", "", false},
		{andorinha, "andorinha-0000A3", []string{"build=2.1.0", "flag"}, "0000a3", "2.1.0", true},
		{andorinha, "andorinha-0000A3 (2)", nil, "", "", false},
		{andorinha, "gaivota-0000A3", nil, "", "", false},
		{pardal, "Pardal 0000A2", []string{"me=02:5A:11:00:00:A2"}, "025a110000a2", "", true},
		{pardal, "Pardal 0000A2", nil, "0000a2", "", true},
		{family(t, "coruja"), "coruja", []string{"id=02:5A:11:00:00:07"}, "", "", false},
	} {
		digits, f, ok := c.d.MatchAnnouncement(c.instance, c.txt)
		if digits != c.digits || ok != c.ok || f.Text("version") != c.version && ok {
			t.Errorf("%s %q %q: %q, %v, %v", c.d.Name, c.instance, c.txt, digits, f, ok)
		}
	}
}

func TestAnnouncementsAreJudged(t *testing.T) {
	b, err := os.ReadFile("../../../dialects/andorinha.yaml")
	if err != nil {
		t.Fatal(err)
	}
	const good = `announces: {service: _andorinha._tcp, name: "andorinha-{last6}", read_txt: {version: build}}`
	if !strings.Contains(string(b), good) {
		t.Fatal("the dialect announces itself otherwise")
	}
	for bad, says := range map[string]string{
		`announces: {service: andorinha, name: "andorinha-{last6}"}`:                                                    "_junco._tcp",
		`announces: {service: _andorinha._tcp, name: "andorinha"}`:                                                      "once, or be left out",
		`announces: {service: _andorinha._tcp}`:                                                                         "which unit it is",
		`announces: {service: _andorinha._tcp, name: "a-{last6}", read_txt: {wifi.passphrase: key}}`:                    "secret",
		`announces: {service: _andorinha._tcp, name: "a-{last6}", port: 80}`:                                            "port",
		`announces: {service: _andorinha-with-a-long-name._tcp, name: "andorinha-{last6}", read_txt: {version: build}}`: "_junco._tcp",
	} {
		_, faults := Parse("x", []byte(strings.Replace(string(b), good, bad, 1)))
		if len(faults) != 1 || !strings.Contains(faults[0].String(), says) || faults[0].Line < 100 {
			t.Errorf("%s: %v", bad, faults)
		}
	}
}

func TestAUnitIsOverheardUnderAnyTopic(t *testing.T) {
	direct, coruja := family(t, "direct"), family(t, "coruja")
	base, f, ok := direct.Overhear("antiga/casa/rega/unit", []byte(`{"hardware_id":"02:5A:11:00:00:07","address":"192.168.40.9"}`))
	if !ok || base != "antiga/casa/rega" || f.Text("hardware_id") != "02:5A:11:00:00:07" {
		t.Errorf("%q %v %v", base, f, ok)
	}
	for topic, payload := range map[string]string{"unit": `{"hardware_id":"02:5A:11:00:00:07"}`, "a/unit": `{"name":"x"}`, "a/other": `{"hardware_id":"02:5A:11:00:00:07"}`, "a/unit/x": `{"hardware_id":"02:5A:11:00:00:07"}`, "a/state/unit": "true"} {
		if base, _, ok := direct.Overhear(topic, []byte(payload)); ok {
			t.Errorf("%s: somebody is overheard under %q", topic, base)
		}
	}
	if _, _, ok := coruja.Overhear("antiga/unit", []byte(`{"hardware_id":"02:5A:11:00:00:07"}`)); ok {
		t.Error("another family's message is taken for its own")
	}
}
