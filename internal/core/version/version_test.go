package version

import "testing"

func TestCompare(t *testing.T) {
	cases := []struct {
		a, b string
		want Order
	}{
		{"1.2.3", "1.2.3", Equal},
		{"1.2.3", "1.2.4", Less},
		{"1.10.0", "1.9.9", Greater},
		{"v1.2.3", "1.2.3", Equal},
		{"1.2", "1.2.0", Equal},
		{"1.2.3", "1.2.3.1", Less},
		{"1.2.3-rc.1", "1.2.3", Less},
		{"1.2.3-rc.2", "1.2.3-rc.10", Less},
		{"1.2.3-alpha", "1.2.3-1", Greater},
		{"1.2.3+a", "1.2.3+b", Equal},
		{"1.2.3-01", "1.2.3", Incomparable},
		{"2.0.0", "18446744073709551617.0.0", Less},
		{"2026-03-01", "20260302", Less},
		{"2026-03-01.2", "2026-03-01", Greater},
		{"2026-03-01", "1.2.3", Incomparable},
		{"b417", "b99", Greater},
		{"b417", "B417", Equal},
		{"b417", "r417", Incomparable},
		{"417", "b417", Incomparable},
		{"417", "98", Greater},
		{"20261399", "20261398", Greater}, // no such month: a counter
		{"velho", "novo", Incomparable},
		{"velho", "velho", Equal},
		{"", "", Incomparable},
		{"", "1.0", Incomparable},
	}
	for _, c := range cases {
		if got := CompareText(c.a, c.b); got != c.want {
			t.Errorf("compare %q with %q: %v, want %v", c.a, c.b, got, c.want)
		}
		back := map[Order]Order{Less: Greater, Greater: Less, Equal: Equal, Incomparable: Incomparable}[c.want]
		if got := CompareText(c.b, c.a); got != back {
			t.Errorf("compare %q with %q: %v, want %v", c.b, c.a, got, back)
		}
	}
}

func TestStand(t *testing.T) {
	cases := []struct {
		reported, intended string
		want               Standing
	}{
		{"1.0.0", "1.1.0", Behind}, {"1.1.0", "1.1.0", Current}, {"1.2.0", "1.1.0", Ahead},
		{"", "1.1.0", Unknown}, {"1.0.0", "", Unknown}, {"b3", "1.1.0", Unknown},
	}
	for _, c := range cases {
		if got := Stand(c.reported, c.intended); got != c.want {
			t.Errorf("%q against %q: %s, want %s", c.reported, c.intended, got, c.want)
		}
	}
}

// FuzzPreorder checks the laws on any three strings: reflexive, antisymmetric
// in its outcome, and transitive.
func FuzzPreorder(f *testing.F) {
	f.Add("1.2.3", "1.2", "1.2.3-rc.1")
	f.Add("2026-03-01", "20260301.1", "b417")
	f.Add("1.0.0-0", "1.0.0-a.0", "1.0")
	f.Fuzz(func(t *testing.T, a, b, c string) {
		x, y, z := Parse(a), Parse(b), Parse(c)
		if !x.IsZero() && Compare(x, x) != Equal {
			t.Fatalf("%q is not equal to itself", a)
		}
		if (Compare(x, y) == Less) != (Compare(y, x) == Greater) {
			t.Fatalf("%q and %q: %v and %v", a, b, Compare(x, y), Compare(y, x))
		}
		atMost := func(p, q Version) bool { o := Compare(p, q); return o == Less || o == Equal }
		if atMost(x, y) && atMost(y, z) && !atMost(x, z) {
			t.Fatalf("not transitive: %q, %q, %q", a, b, c)
		}
	})
}
