package firmware

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"fado/internal/core/inventory"
	"fado/internal/core/version"
)

func build(n int, v string, kib int64) Image {
	return Image{SHA256: fmt.Sprintf("%064x", n), Firmware: "azinho", Version: v, Models: []string{"azinho"}, Part: Program, Size: kib << 10, Signed: true}
}

func plug(v string, running int64) Unit {
	return Unit{Model: inventory.Model{Name: "azinho", FlashKiB: 1024, Slots: 1, Power: inventory.Mains}, Version: v, Size: running << 10}
}

func legs(v Verdict) string {
	var out []string
	for _, l := range v.Route {
		out = append(out, l.Version)
	}
	return strings.Join(out, " ")
}

func TestRoutes(t *testing.T) {
	full, small := build(1, "3.0.0", 600), build(2, "3.0.0-small", 280)
	small.Step = true
	mid := build(3, "2.5.0", 590)
	needsMid := build(4, "3.1.0", 600)
	needsMid.OldestFrom = "2.5.0"
	odd := build(5, "nightly", 200)
	odd.Step = true
	withdrawn := small
	withdrawn.SHA256, withdrawn.Withdrawn = strings.Repeat("9", 64), "bricks"
	for _, c := range []struct {
		name       string
		goal       Image
		unit       Unit
		others     []Image
		want, rule string
		says       string
	}{
		{"there is room", build(1, "3.0.0", 400), plug("1.9.2", 500), nil, "3.0.0", "", "400 KiB beside the running 500"},
		{"a small one goes first", full, plug("1.9.2", 500), []Image{small}, "3.0.0-small 3.0.0", "", "is small (280 KiB) and makes room"},
		{"no small one", full, plug("1.9.2", 500), nil, "", "room", "at most 424 KiB"},
		{"size not known", full, plug("1.9.2", 0), nil, "", "room", "beside what it runs now"},
		{"the small one was withdrawn", full, plug("1.9.2", 500), []Image{withdrawn}, "", "room", ""},
		{"in between, and room for neither", needsMid, plug("1.9.2", 500), []Image{mid, small}, "3.0.0-small 3.1.0", "", ""},
		{"in between by a small one of no order", needsMid, plug("1.9.2", 500), []Image{mid, odd}, "nightly 2.5.0 nightly 3.1.0", "route", ""},
		{"a small one as the goal", small, plug("1.9.2", 500), nil, "", "step", "only on the way"},
		{"nothing in between", needsMid, plug("1.9.2", 100), nil, "", "route", "A version from 2.5.0 on"},
		{"in between", needsMid, plug("1.9.2", 100), []Image{mid, build(7, "2.6.0", 300)}, "2.6.0 3.1.0", "", "2.6.0, which installs from 1.9.2"},
	} {
		v := Fit(c.goal, c.unit, Policy{}, false, c.others...)
		if c.rule == "" && legs(v) != c.want || v.Rule != c.rule || !strings.Contains(v.Sentence, c.says) {
			t.Errorf("%s: %q %+v", c.name, legs(v), v)
		}
	}
}

// TestRoutesAreSafe: whatever images there are, each leg of a route has room, may
// follow what is there, suits the unit, and goes no version back but onto a small one;
// and when a single leg would do, it is taken.
func TestRoutesAreSafe(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	found := 0
	for range 20_000 {
		var list []Image
		for n := range 1 + r.IntN(7) {
			x := build(n+1, fmt.Sprintf("%d.%d.0", 1+r.IntN(3), r.IntN(4)), int64(100+r.IntN(600)))
			x.Step = r.IntN(3) == 0
			if r.IntN(3) == 0 {
				x.OldestFrom = fmt.Sprintf("%d.%d.0", 1+r.IntN(2), r.IntN(4))
			}
			if r.IntN(8) == 0 {
				x.Models = []string{"other"}
			}
			list = append(list, x)
		}
		u := plug(fmt.Sprintf("%d.%d.0", 1+r.IntN(2), r.IntN(4)), int64(r.IntN(700)))
		u.Model.Slots = 1 + r.IntN(2)
		list[0].Step = false
		goal := list[0]
		v := Fit(goal, u, Policy{}, false, list[1:]...)
		if v.Sentence == "" || v.Fits != (len(v.Route) > 0) {
			t.Fatalf("%+v", v)
		}
		if !v.Fits {
			continue
		}
		found++
		at, base := here{u.Version, u.Size}, u.Version
		if len(v.Route) > 1 && room(goal, at, u.Model) && (read{}).from(goal, at) {
			t.Fatalf("a detour: %s for %+v from %+v", legs(v), goal, u)
		}
		for i, l := range v.Route {
			x := list[0]
			for _, y := range list {
				if y.SHA256 == l.SHA256 {
					x = y
				}
			}
			if !suits(x, u, Policy{}).Fits || !room(x, at, u.Model) || !(read{}).from(x, at) {
				t.Fatalf("leg %d of %s: %+v at %+v", i, legs(v), x, at)
			}
			if last := i == len(v.Route)-1; !x.Step || last {
				if s := version.Stand(base, x.Version); s != version.Behind && !(last && s == version.Current) {
					t.Fatalf("leg %d of %s goes from %s to %s", i, legs(v), base, x.Version)
				}
				base = x.Version
			}
			at = here{x.Version, x.Size}
		}
	}
	if found < 1000 {
		t.Errorf("only %d routes were found", found)
	}
}

func BenchmarkFit(b *testing.B) {
	full, small := build(1, "3.0.0", 600), build(2, "3.0.0-small", 280)
	small.Step = true
	others := []Image{small}
	for n := range 40 {
		others = append(others, build(10+n, fmt.Sprintf("2.%d.0", n), 590))
	}
	u := plug("1.9.2", 500)
	for b.Loop() {
		if v := Fit(full, u, Policy{}, false, others...); !v.Fits {
			b.Fatal(v.Sentence)
		}
	}
}
