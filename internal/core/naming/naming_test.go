package naming

import (
	"strings"
	"testing"

	"fado/internal/core/problem"
)

// overlap is the rule that a topic is taken when it is the same as another or
// one lies below the other; the service asks its records by the same rule.
func overlap(a, b string) bool {
	return a == b || strings.HasPrefix(a, b+"/") || strings.HasPrefix(b, a+"/")
}

func takenNames(hosts, topics []string) Taken {
	return Taken{
		Hostname: func(h string) bool {
			for _, x := range hosts {
				if x == h {
					return true
				}
			}
			return false
		},
		Topic: func(s string) bool {
			for _, x := range topics {
				if overlap(x, s) {
					return true
				}
			}
			return false
		},
	}
}

func TestFold(t *testing.T) {
	cases := map[string]string{
		"Casa das Máquinas":                 "casa-das-maquinas",
		"  Pátio  (norte) ":                 "patio-norte",
		"Größe Ø Łódź":                      "grosse-o-lodz",
		"ﬁx":                                "fix",
		"日本":                                "",
		strings.Repeat("a", 62) + "-b":      strings.Repeat("a", 62),
		"Ação & Reação":                     "acao-reacao",
		"combining: e\u0301":                "combining-e",
		"Quarto nº 3":                       "quarto-no-3",
		strings.Repeat("longa palavra ", 9): "longa-palavra-longa-palavra-longa-palavra-longa-palavra-longa-p",
	}
	for in, want := range cases {
		if got := Fold(in); got != want {
			t.Errorf("Fold(%q) = %q, want %q", in, got, want)
		}
	}
}

func TestProposeNumbers(t *testing.T) {
	facts := Facts{Site: "Lagar da Ribeira", Room: "Cozinha", Kind: "relay", Name: "Bancada"}
	got, err := Propose(Default, facts, takenNames(nil, nil))
	if err != nil || got != (Names{"cozinha-relay-1", "lagar-da-ribeira/cozinha/relay-1", "Bancada"}) {
		t.Fatalf("%+v, %v", got, err)
	}
	got, err = Propose(Default, facts, takenNames([]string{"cozinha-relay-1"}, []string{"lagar-da-ribeira/cozinha/relay-2"}))
	if err != nil || got.Hostname != "cozinha-relay-3" || got.Topic != "lagar-da-ribeira/cozinha/relay-3" {
		t.Fatalf("%+v, %v", got, err)
	}
}

func TestProposeWithoutNumber(t *testing.T) {
	s := Scheme{Hostname: "{name}", Topic: "{room}/{name}", Label: "{room} {name}"}
	got, err := Propose(s, Facts{Name: "Nora"}, takenNames([]string{"nora"}, nil))
	if err != nil || got != (Names{"nora-2", "nora-2", "Nora"}) {
		t.Fatalf("%+v, %v", got, err)
	}
	if _, err := Propose(s, Facts{Name: "日本"}, takenNames(nil, nil)); err == nil {
		t.Fatal("a name that folds to nothing was proposed")
	}
}

func TestSchemeCheck(t *testing.T) {
	if err := Default.Check(); err != nil {
		t.Fatal(err)
	}
	bad := Scheme{Hostname: "{rom}-{number}", Topic: "a/#", Label: "{name"}
	p := problem.As(bad.Check())
	if p == nil || len(p.Fields) != 3 {
		t.Fatalf("%v", bad.Check())
	}
}

func TestRulesOfferWhatPasses(t *testing.T) {
	for _, bad := range []string{"", "Cave 1", "-x", strings.Repeat("y", 70), "ação", "日本", "a_b"} {
		rule, passes := CheckHostname(bad)
		if rule == "" {
			t.Errorf("hostname %q passed", bad)
		}
		if again, _ := CheckHostname(passes); again != "" {
			t.Errorf("hostname %q: offered %q, which %s", bad, passes, again)
		}
	}
	for _, bad := range []string{"", "a/#", "a/+/b", "$SYS/x", "/a", "a//b", "a b", "a\x00", strings.Repeat("z/", 80) + "z", "{topic}"} {
		rule, passes := CheckTopic(bad)
		if rule == "" {
			t.Errorf("topic %q passed", bad)
		}
		if again, _ := CheckTopic(passes); again != "" {
			t.Errorf("topic %q: offered %q, which %s", bad, passes, again)
		}
	}
	for _, bad := range []string{"", " x ", "a\tb", strings.Repeat("ü", 65)} {
		rule, passes := CheckLabel(bad)
		if rule == "" {
			t.Errorf("label %q passed", bad)
		}
		if again, _ := CheckLabel(passes); again != "" {
			t.Errorf("label %q: offered %q, which %s", bad, passes, again)
		}
	}
}

func TestFreeTopicEndsBelowATakenOne(t *testing.T) {
	taken := takenNames(nil, []string{"casa/cave", "casa-sala"}).Topic
	for base, want := range map[string]string{"casa/sala": "casa/sala", "casa/cave": "casa/cave-2", "casa/cave/below/it": "casa/cave-below-it", "casa-sala": "casa-sala-2"} {
		if got := FreeTopic(base, taken); got != want {
			t.Errorf("%s: %s, want %s", base, got, want)
		}
	}
}

func FuzzFold(f *testing.F) {
	f.Add("Casa das Máquinas")
	f.Fuzz(func(t *testing.T, s string) {
		got := Fold(s)
		if got == "" {
			return
		}
		if rule, _ := CheckHostname(got); rule != "" {
			t.Fatalf("Fold(%q) = %q, which %s", s, got, rule)
		}
		if Fold(got) != got {
			t.Fatalf("folding %q again gives %q", got, Fold(got))
		}
	})
}

func FuzzCheckTopic(f *testing.F) {
	f.Add("a/b")
	f.Fuzz(func(t *testing.T, s string) {
		if _, passes := CheckTopic(s); passes != "" {
			if rule, _ := CheckTopic(passes); rule != "" {
				t.Fatalf("offered %q for %q, which %s", passes, s, rule)
			}
		}
	})
}
