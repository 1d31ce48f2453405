package health

import (
	"math/rand/v2"
	"testing"
)

func rolled(v ...float64) Roll {
	var r Roll
	for _, x := range v {
		r.Add(x)
	}
	return r
}

func TestCompare(t *testing.T) {
	for _, c := range []struct {
		what          What
		before, after Roll
		worse         bool
	}{
		{Signal, rolled(-60, -62), rolled(-64, -68), false}, {Signal, rolled(-60), rolled(-66), true}, {Signal, rolled(-80), rolled(-50), false},
		{Memory, rolled(80_000), rolled(64_000), false}, {Memory, rolled(80_000), rolled(63_999), true},
		{Battery, rolled(90), rolled(81), false}, {Battery, rolled(90), rolled(80), true},
		{Interval, rolled(60), rolled(90), false}, {Interval, rolled(60), rolled(91), true}, {Interval, rolled(60), rolled(10), false},
		{Returns, rolled(), rolled(1), false}, {Returns, rolled(), rolled(1, 1), true}, {Returns, rolled(1, 1, 1, 1), rolled(1, 1), false},
	} {
		got := Compare(Window{map[What]Roll{c.what: c.before}, 2}, Window{map[What]Roll{c.what: c.after}, 1})
		if len(got) != 1 || got[0].What != c.what || got[0].Worse != c.worse {
			t.Errorf("%s from %v to %v: %+v", c.what, c.before, c.after, got)
		}
	}
	if got := Compare(Window{map[What]Roll{Returns: rolled(1, 1)}, 4}, Window{map[What]Roll{Returns: rolled(1)}, 1}); got[0].Before != 0.5 || got[0].After != 1 {
		t.Errorf("an hour: %+v", got)
	}
	// What was measured on one side only says nothing, and so does a window without time.
	if got := Compare(Window{map[What]Roll{Signal: rolled(-60)}, 1}, Window{map[What]Roll{Memory: rolled(1)}, 1}); len(got) != 0 {
		t.Errorf("%+v", got)
	}
	if got := Compare(Window{map[What]Roll{Signal: rolled(-60)}, 1}, Window{map[What]Roll{Signal: rolled(-90)}, 0}); got != nil {
		t.Errorf("%+v", got)
	}
}

func TestMergeIsWhatOneRollWouldBe(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	for range 200 {
		var whole, first, second Roll
		cut, n := r.IntN(20), 20
		for i := range n {
			v := float64(r.IntN(1000) - 500)
			whole.Add(v)
			if i < cut {
				first.Add(v)
			} else {
				second.Add(v)
			}
		}
		if got := first.Merge(second); got != whole {
			t.Fatalf("%+v, want %+v", got, whole)
		}
	}
}
