package rollout

import (
	"cmp"
	"container/heap"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Rules are how a rollout goes about it.
type Rules struct {
	Trial    bool          // one device of each model and image goes first
	Waves    []Size        // then these; what is left is the last wave
	AtOnce   int           // updates under way at once, of units that do not sleep
	PerSite  int           // and of them at one site
	Hours    *Hours        // nil: at any time
	Patience time.Duration // how long a wave waits for units that sleep
	Gate     Gate
}

// Size is how many devices a wave has: a count, or a share of all in percent.
type Size struct {
	Count int
	Share int
}

// ParseSize reads «5» or «10%».
func ParseSize(s string) (Size, error) {
	text, share := strings.CutSuffix(strings.TrimSpace(s), "%")
	n, err := strconv.Atoi(strings.TrimSpace(text))
	if err != nil || n < 1 || share && n > 100 {
		return Size{}, fmt.Errorf("%q is neither a count nor a share: write 5 or 10%%", s)
	}
	if share {
		return Size{Share: n}, nil
	}
	return Size{Count: n}, nil
}

// String is the form that ParseSize reads.
func (s Size) String() string {
	if s.Share > 0 {
		return strconv.Itoa(s.Share) + "%"
	}
	return strconv.Itoa(s.Count)
}

// of is how many of a number of devices it means; at least one.
func (s Size) of(all int) int {
	if s.Share > 0 {
		return max(1, (all*s.Share+99)/100)
	}
	return s.Count
}

// Arrange puts units into waves, in the order in which they begin: the trial, of which
// those in trials are chosen and the others suggested, and then the waves, in which
// the sites take turns so that no home has all its units in one.
func Arrange(units []Unit, r Rules, trials []string) []Unit {
	out := make([]Unit, 0, len(units))
	left := slices.Clone(units)
	for i := range left {
		left[i].State, left[i].Wave = Ahead, 0
	}
	wave := 0
	if r.Trial && len(left) > 0 {
		type kind struct{ model, image string }
		best := map[kind]int{}
		for i, u := range left {
			k := kind{u.Model, u.Image}
			if at, has := best[k]; !has || rank(u, trials) > rank(left[at], trials) {
				best[k] = i
			}
		}
		first := map[int]bool{}
		for _, i := range best {
			first[i] = true
		}
		rest := left[:0:0]
		for i, u := range left {
			if first[i] || slices.Contains(trials, u.Device) {
				out = append(out, u)
			} else {
				rest = append(rest, u)
			}
		}
		left = rest
		wave = 1
	}
	// The n-th of each site, then the next of each.
	count, turn := map[string]int{}, make(map[string]int, len(left))
	for _, u := range left {
		turn[u.Device] = count[u.Site]
		count[u.Site]++
	}
	slices.SortStableFunc(left, func(a, b Unit) int { return cmp.Compare(turn[a.Device], turn[b.Device]) })
	for i := 0; len(left) > 0; i++ {
		n := len(left)
		if i < len(r.Waves) {
			n = min(n, r.Waves[i].of(len(units)))
		}
		for j := range n {
			left[j].Wave = wave
		}
		out = append(out, left[:n]...)
		left = left[n:]
		wave++
	}
	return out
}

// rank is how well a unit serves as a trial: one that a person chose, else one that is
// there, awake, not put at risk, and easy to reach by cable.
func rank(u Unit, trials []string) int {
	n := 0
	for i, yes := range []bool{u.Cable, !u.Risky, !u.Sleeps, u.Online, slices.Contains(trials, u.Device)} {
		if yes {
			n += 1 << i
		}
	}
	return n
}

// Forecast is when a wave should begin and end.
type Forecast struct {
	Wave   int
	Units  int
	Bytes  int64
	Begins time.Time
	Ends   time.Time // the end of its soak
}

// Expect tells when each wave should begin and end if each unit takes as long as it
// usually does and each gate holds: the schedule in which nothing waits without need.
// Waves that are over are left out.
func Expect(s State, now time.Time) []Forecast {
	var out []Forecast
	at := now
	for wave := s.Wave; wave < s.Waves; wave++ {
		f := Forecast{Wave: wave, Begins: at}
		ends := at
		places, sites := slots{}, map[string]*slots{}
		place := func(h *slots, most int) time.Time {
			if h.Len() < most {
				return at
			}
			return heap.Pop(h).(time.Time)
		}
		first := true
		for _, u := range s.Units {
			if u.Wave != wave && !(wave == s.Wave && u.Wave < wave) {
				continue
			}
			if u.Wave == wave {
				f.Units++
				f.Bytes += u.Bytes
			}
			if !u.open() {
				continue
			}
			begins, usual := at, u.Usual
			if u.moving() {
				usual = max(usual-now.Sub(later(u.Began, now.Add(-usual))), 0)
			}
			site := sites[u.Site]
			if site == nil {
				site = &slots{}
				sites[u.Site] = site
			}
			most := s.Rules.PerSite
			if u.Risky {
				most = 1
			}
			if !u.Sleeps {
				begins = later(place(&places, s.Rules.AtOnce), place(site, most))
			}
			if s.Rules.Hours != nil && !u.moving() {
				open, closes, next := s.Rules.Hours.At(begins, s.zone(u.Site))
				if !open || usual > closes.Sub(begins) && usual < s.Rules.Hours.length() {
					begins = next
				}
			}
			end := begins.Add(usual)
			if !u.Sleeps {
				heap.Push(&places, end)
				heap.Push(site, end)
			} else if late := at.Add(s.Rules.Patience); wave < s.Waves-1 && end.After(late) {
				end = late
			}
			if first || begins.Before(f.Begins) {
				f.Begins, first = begins, false
			}
			ends = later(ends, end)
		}
		if wave == s.Wave && s.Phase == Soaking {
			f.Ends = s.SoakUntil
		} else {
			f.Ends = ends.Add(s.Rules.Gate.Soak)
		}
		at = f.Ends
		out = append(out, f)
	}
	return out
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// slots is a heap of the times at which places become free.
type slots []time.Time

func (s slots) Len() int           { return len(s) }
func (s slots) Less(i, j int) bool { return s[i].Before(s[j]) }
func (s slots) Swap(i, j int)      { s[i], s[j] = s[j], s[i] }

// Push implements heap.Interface.
func (s *slots) Push(x any) { *s = append(*s, x.(time.Time)) }

// Pop implements heap.Interface.
func (s *slots) Pop() any {
	old := *s
	x := old[len(old)-1]
	*s = old[:len(old)-1]
	return x
}
