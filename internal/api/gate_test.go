package api

import (
	"strings"
	"testing"
	"time"

	"fado/internal/core/problem"
)

func guard() *gate { return &gate{failures: map[string]attempts{}, hashing: make(chan struct{}, 2)} }

func TestPasswordsAreHashedSlowlyAndApart(t *testing.T) {
	g := guard()
	a, b := g.hash("quatro palavras 1"), g.hash("quatro palavras 1")
	if a == b || strings.Contains(a, "palavras") || !strings.HasPrefix(a, "argon2id$") {
		t.Errorf("%s %s", a, b)
	}
	if !g.fits("quatro palavras 1", a) || !g.fits("quatro palavras 1", b) {
		t.Error("the right password does not fit")
	}
	for _, wrong := range []string{"", "quatro palavras 2", "quatro palavras 1 "} {
		if g.fits(wrong, a) {
			t.Errorf("%q fits", wrong)
		}
	}
	for _, kept := range []string{"", "argon2id$x", "argon2id$!!$!!", "plain$a$b", "argon2id$$"} {
		if g.fits("", kept) {
			t.Errorf("nothing fits %q", kept)
		}
	}
	began := time.Now()
	g.fits("x", "")
	if time.Since(began) < time.Millisecond {
		t.Error("an unknown name is answered faster than a known one")
	}
}

func TestFailuresSlowDownAndSuccessForgives(t *testing.T) {
	g := guard()
	for range 3 {
		if err := g.slowDown("name ana", "from 1"); err != nil {
			t.Fatal("slowed down before the third failure:", err)
		}
		g.note(false, "name ana", "from 1")
	}
	p := problem.As(g.slowDown("name ana", "from 2"))
	if p == nil || p.Kind != problem.TooMany || !strings.Contains(p.What, "possible in") {
		t.Fatalf("%v", p)
	}
	if g.slowDown("name rui", "from 1") == nil {
		t.Error("another name from the same address is not slowed down")
	}
	if err := g.slowDown("name rui", "from 3"); err != nil {
		t.Error(err)
	}
	for range 30 {
		g.note(false, "name ana")
	}
	if wait := time.Until(g.failures["name ana"].until); wait > 5*time.Minute || wait < 4*time.Minute {
		t.Errorf("the pause is %s", wait)
	}
	g.note(true, "name ana", "from 1")
	if err := g.slowDown("name ana", "from 1"); err != nil {
		t.Error(err)
	}
}

func TestAccountRules(t *testing.T) {
	for _, c := range []struct {
		name, password string
		fields         int
	}{{"marta", "quatro palavras 1", 0}, {"Marta", "quatro palavras 1", 1}, {"marta", "curta", 1}, {"marta", "a marta gosta de azeite", 1}, {"", "", 2}, {strings.Repeat("m", 40), "quatro palavras 1", 1}} {
		err := checkAccount(c.name, c.password)
		p := problem.As(err)
		if c.fields == 0 && err != nil || c.fields > 0 && (p == nil || len(p.Fields) != c.fields) {
			t.Errorf("%q %q: %v", c.name, c.password, err)
		}
	}
}

func TestIfMatch(t *testing.T) {
	for header, want := range map[string]int64{"": 0, "*": 0, `"7"`: 7, `W/"7"`: 7} {
		if got, err := ifMatch(header); err != nil || got != want {
			t.Errorf("%q: %d %v", header, got, err)
		}
	}
	if _, err := ifMatch("seven"); problem.As(err) == nil {
		t.Error(err)
	}
	if etag(7) != `"7"` {
		t.Error(etag(7))
	}
}
