package rollout

import (
	"strings"
	"testing"
	"time"

	"fado/internal/core/health"
	"fado/internal/core/task"
)

var began = time.Date(2026, 6, 1, 8, 0, 0, 0, time.UTC)

func rules() Rules {
	return Rules{Trial: true, Waves: []Size{{Share: 20}}, AtOnce: 2, PerSite: 1, Patience: time.Hour, Gate: Gate{Share: 90, Soak: 10 * time.Minute, Returns: 1, Health: true, Checks: true}}
}

func fleet(sites, each int) (out []Unit) {
	for i := range each {
		for s := range sites {
			id := string(rune('a'+s)) + string(rune('0'+i))
			out = append(out, Unit{Device: id, Name: "Unit " + id, Site: string(rune('a' + s)), Model: "junco", Image: "new", From: "1", To: "2", Legs: 1, Bytes: 100, Usual: time.Minute, Online: true})
		}
	}
	return out
}

// play drives a rollout by hand.
type play struct {
	t   *testing.T
	s   State
	now time.Time
	out []Command
}

func begin(t *testing.T, r Rules, units []Unit) *play {
	p := &play{t: t, s: New(r, nil, Arrange(units, r, nil)), now: began}
	return p.event(Event{Kind: Start})
}

func (p *play) event(e Event) *play {
	p.s, p.out = Next(p.s, e, p.now)
	return p
}

// answer lets all that was started begin, and end with an outcome.
func (p *play) answer(o task.Outcome) *play {
	p.t.Helper()
	var next []Command
	for _, c := range p.out {
		if c.Do == Begin {
			next = append(next, p.event(Event{Kind: Begun, Device: c.Device, Attempt: c.Attempt, Task: "t"}).out...)
			p.now = p.now.Add(time.Minute)
			next = append(next, p.event(Event{Kind: Ended, Device: c.Device, Attempt: c.Attempt, Task: "t", Outcome: o, Why: "so"}).out...)
		}
	}
	p.out = next
	return p
}

// soak passes the soak and looks at the gate.
func (p *play) soak(sights map[string]Sight) *play {
	p.t.Helper()
	if p.s.Phase != Soaking {
		p.t.Fatalf("phase %s, want the soak; %s", p.s.Phase, p.s.Reason)
	}
	p.now = p.s.Due
	p.event(Event{Kind: Tick})
	if len(p.out) != 1 || p.out[0].Do != Look {
		p.t.Fatalf("%+v", p.out)
	}
	if sights == nil {
		sights = map[string]Sight{}
		for _, u := range p.s.Units {
			sights[u.Device] = Sight{Online: true}
		}
	}
	return p.event(Event{Kind: Looked, Command: p.out[0].ID, Sights: sights})
}

func (p *play) status(want Status, wave int) *play {
	p.t.Helper()
	if p.s.Status != want || p.s.Wave != wave {
		p.t.Fatalf("%s in wave %d, want %s in %d: %s", p.s.Status, p.s.Wave, want, wave, p.s.Reason)
	}
	return p
}

func TestARolloutWaveByWave(t *testing.T) {
	p := begin(t, rules(), fleet(2, 5)).status(Running, 0)
	if len(p.out) != 1 || p.s.Waves != 3 {
		t.Fatalf("%+v of %d waves", p.out, p.s.Waves)
	}
	p.answer(task.Succeeded).soak(nil).status(Running, 1)
	if len(p.out) != 2 {
		t.Fatalf("%d begin at once, want one a site: %+v", len(p.out), p.out)
	}
	p.answer(task.Succeeded).soak(nil).status(Running, 2)
	for p.s.Phase == Updating {
		if len(p.out) == 0 {
			t.Fatal("nothing begins")
		}
		p.answer(task.Succeeded)
	}
	p.soak(nil).status(Done, 2)
	for _, u := range p.s.Units {
		if u.Outcome != task.Succeeded || u.Attempt != 1 {
			t.Errorf("%+v", u)
		}
	}
	if len(p.s.Gates) != 3 || p.s.Gates[2].Held {
		t.Errorf("%+v", p.s.Gates)
	}
}

// TestGateConditions: each condition that does not hold holds the rollout, and says
// what was expected and what was seen.
func TestGateConditions(t *testing.T) {
	worse := func(w health.What) []health.Change {
		return []health.Change{{What: w, Before: -50, After: -70, Worse: true}}
	}
	for _, c := range []struct {
		name    string
		outcome task.Outcome
		sight   Sight
		says    string
	}{
		{"back", task.Succeeded, Sight{}, "back and reporting: 0 of 1; not Unit a0"},
		{"loop", task.Succeeded, Sight{Online: true, Returns: 2}, "no restart loop: 0 of 1; not Unit a0 (2 times)"},
		{"signal", task.Succeeded, Sight{Online: true, Changes: worse(health.Signal)}, "signal: Unit a0 (-50 to -70 dBm); 1 of 1 measured before and after"},
		{"memory", task.Succeeded, Sight{Online: true, Changes: worse(health.Memory)}, "free memory: Unit a0 (-50"},
		{"interval", task.Succeeded, Sight{Online: true, Changes: worse(health.Interval)}, "interval: Unit a0 (-50"},
		{"checks", task.Succeeded, Sight{Online: true, Failing: []string{"the hub lists it"}}, "checks: 0 of 1; not Unit a0 (the hub lists it)"},
		{"failed", task.FailedOut, Sight{Online: true}, "1 of 1 of the trial went wrong (Unit a0)"},
		{"lost", task.Lost, Sight{}, "Unit a0 was lost."},
		{"skipped", task.Skipped, Sight{Online: true}, "tried: 0 tried, 1 left out"},
	} {
		p := begin(t, rules(), fleet(2, 3)).answer(c.outcome)
		if p.s.Status == Running {
			p.soak(map[string]Sight{"a0": c.sight})
		}
		if p.s.Status != Held || !strings.Contains(p.s.Reason, c.says) {
			t.Errorf("%s: %s, %q, want %q", c.name, p.s.Status, p.s.Reason, c.says)
		}
		if len(p.out) > 0 {
			t.Errorf("%s: something begins: %+v", c.name, p.out)
		}
		if p.event(Event{Kind: GoOn}); p.s.Status != Held {
			t.Errorf("%s: it goes on without a reason", c.name)
		}
		p.event(Event{Kind: GoOn, Why: "seen on site", Actor: "marta"})
		if p.s.Status != Running {
			t.Errorf("%s: it does not go on: %s", c.name, p.s.Status)
		}
	}
}

func TestSteering(t *testing.T) {
	p := begin(t, rules(), fleet(2, 5)).answer(task.Succeeded).soak(nil).status(Running, 1)
	first := p.out[0]
	p.event(Event{Kind: Pause, Why: "guests"}).status(Paused, 1)
	if May(p.s, first.Device, first.Attempt, p.now) {
		t.Error("something may begin while it is paused")
	}
	p.event(Event{Kind: Refused, Command: first.ID, Device: first.Device, Attempt: first.Attempt, Code: NotNow})
	if len(p.out) > 0 {
		t.Errorf("%+v", p.out)
	}
	p.event(Event{Kind: GoOn})
	if len(p.out) != 1 || p.out[0].Device != first.Device || p.out[0].Attempt != 1 || !May(p.s, first.Device, 1, p.now) {
		t.Fatalf("%+v", p.out)
	}
	last := p.s.Units[len(p.s.Units)-1]
	p.event(Event{Kind: Exclude, Device: last.Device, Why: "marta: the owner is away"})
	if u := p.s.Units[len(p.s.Units)-1]; u.Outcome != task.Skipped || !strings.Contains(u.Why, "owner is away") {
		t.Errorf("%+v", u)
	}
	p.event(Event{Kind: Begun, Device: first.Device, Attempt: 1, Task: "t"})
	p.event(Event{Kind: Cancel, Why: "enough"})
	begunOne := 0
	for _, u := range p.s.Units {
		if u.State == Ahead || u.State == Over && u.Outcome == "" {
			t.Errorf("%+v", u)
		}
		if u.moving() {
			begunOne++
		}
	}
	if begunOne != 2 {
		t.Errorf("%d are still under way", begunOne)
	}
	p.event(Event{Kind: Ended, Device: first.Device, Attempt: 1, Task: "t", Outcome: task.Reverted})
	if u := p.s.Units[1]; u.Outcome != task.Reverted {
		t.Errorf("%+v", u)
	}
	if p.event(Event{Kind: Retry}); p.s.Status != Cancelled {
		t.Error("a cancelled rollout was taken up")
	}
}

func TestRetryTheFailed(t *testing.T) {
	p := begin(t, rules(), fleet(2, 3)).answer(task.FailedOut).status(Held, 0)
	p.event(Event{Kind: Retry}).status(Running, 0)
	if len(p.out) != 1 || p.out[0].Attempt != 2 {
		t.Fatalf("%+v", p.out)
	}
	again := p.out
	p.event(Event{Kind: Ended, Device: "a0", Attempt: 1, Outcome: task.Succeeded}) // of the first try, late
	if p.s.Units[0].State != Starting {
		t.Error("an old answer counts")
	}
	p.out = again
	p.answer(task.Succeeded).soak(nil).status(Running, 1)
}

// TestSleepersDoNotHoldUpTheWave: a wave waits for them as long as the plan says; the
// last one waits for all.
func TestSleepersDoNotHoldUpTheWave(t *testing.T) {
	r := rules()
	r.Trial, r.Waves = false, []Size{{Count: 2}}
	units := fleet(2, 2)
	units[0].Sleeps = true
	p := begin(t, r, units)
	if len(p.out) != 2 {
		t.Fatalf("%+v", p.out)
	}
	for _, c := range p.out {
		p.event(Event{Kind: Begun, Device: c.Device, Attempt: 1, Task: "t"})
	}
	p.now = p.now.Add(time.Minute)
	p.event(Event{Kind: Ended, Device: "b0", Attempt: 1, Outcome: task.Succeeded})
	if p.s.Phase != Updating || !p.s.Due.Equal(began.Add(time.Hour)) {
		t.Fatalf("%s until %s", p.s.Phase, p.s.Due)
	}
	p.now = p.s.Due
	p.event(Event{Kind: Tick}).soak(nil).status(Running, 1)
	if len(p.out) != 2 {
		t.Fatalf("%+v", p.out)
	}
	p.answer(task.Succeeded)
	if p.s.Phase != Updating {
		t.Fatal("it does not wait for the last unit")
	}
	p.event(Event{Kind: Ended, Device: "a0", Attempt: 1, Outcome: task.Lost}).status(Held, 1)
	p.event(Event{Kind: GoOn, Why: "it lies in the lake"}).soak(nil).status(Done, 1)
}

func TestHours(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	at := func(s string) time.Time {
		x, err := time.Parse(time.RFC3339, s)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	const min = 1
	hm := func(h, m int) int { return h*60 + m*min }
	for _, c := range []struct {
		from, to     int
		days         []time.Weekday
		now          string
		open         bool
		closes, next string
	}{
		{hm(9, 0), hm(17, 0), nil, "2026-06-01T08:00:00Z", true, "2026-06-01T16:00:00Z", "2026-06-02T08:00:00Z"},
		{hm(9, 0), hm(17, 0), nil, "2026-06-01T07:59:59Z", false, "", "2026-06-01T08:00:00Z"},
		{hm(9, 0), hm(17, 0), nil, "2026-06-01T16:00:00Z", false, "", "2026-06-02T08:00:00Z"},
		{hm(22, 0), hm(5, 0), nil, "2026-06-02T03:59:59Z", true, "2026-06-02T04:00:00Z", "2026-06-02T21:00:00Z"},
		{hm(22, 0), hm(5, 0), []time.Weekday{time.Saturday}, "2026-06-07T02:00:00Z", true, "2026-06-07T04:00:00Z", "2026-06-13T21:00:00Z"}, // Saturday's night, on Sunday
		{hm(22, 0), hm(5, 0), []time.Weekday{time.Saturday}, "2026-06-08T02:00:00Z", false, "", "2026-06-13T21:00:00Z"},
		// 29 March 2026: 01:00 is followed by 02:00, at 01:00 UTC.
		{hm(1, 30), hm(4, 0), nil, "2026-03-29T00:59:59Z", false, "", "2026-03-29T01:00:00Z"},
		{hm(1, 30), hm(4, 0), nil, "2026-03-29T01:00:00Z", true, "2026-03-29T03:00:00Z", "2026-03-30T00:30:00Z"},
		{hm(0, 30), hm(1, 30), nil, "2026-03-29T00:45:00Z", true, "2026-03-29T01:00:00Z", "2026-03-29T23:30:00Z"},
		// 25 October 2026: 01:00 to 02:00 comes twice, the second time from 01:00 UTC.
		{hm(0, 30), hm(1, 30), nil, "2026-10-25T00:15:00Z", true, "2026-10-25T00:30:00Z", "2026-10-26T00:30:00Z"},
		{hm(0, 30), hm(1, 30), nil, "2026-10-25T01:15:00Z", false, "", "2026-10-26T00:30:00Z"}, // 01:15 again
		{hm(1, 30), hm(5, 0), nil, "2026-10-25T00:45:00Z", true, "2026-10-25T01:00:00Z", "2026-10-25T01:30:00Z"},
		{hm(1, 30), hm(5, 0), nil, "2026-10-25T01:10:00Z", false, "", "2026-10-25T01:30:00Z"}, // 01:10 again
		{hm(1, 30), hm(5, 0), nil, "2026-10-25T01:30:00Z", true, "2026-10-25T05:00:00Z", "2026-10-26T01:30:00Z"},
		{hm(22, 0), hm(5, 0), nil, "2026-10-25T01:10:00Z", true, "2026-10-25T05:00:00Z", "2026-10-25T22:00:00Z"},
	} {
		h := &Hours{From: c.from, To: c.to, Days: c.days}
		open, closes, next := h.At(at(c.now), lisbon)
		if open != c.open || open && !closes.Equal(at(c.closes)) || !next.Equal(at(c.next)) {
			t.Errorf("%02d:%02d to %02d:%02d at %s: %v until %s, next %s", c.from/60, c.from%60, c.to/60, c.to%60, c.now, open, closes.UTC(), next.UTC())
		}
	}
	var always *Hours
	if open, closes, _ := always.At(began, lisbon); !open || !closes.IsZero() {
		t.Error("without hours it is not always open")
	}
}

// TestHoursOfEveryMinute: over both changes of a year, no minute is open whose clock
// shows a time outside the hours, and what is said of the next opening is true.
func TestHoursOfEveryMinute(t *testing.T) {
	for _, zone := range []string{"Europe/Lisbon", "Atlantic/Azores", "Australia/Lord_Howe", "America/St_Johns", "UTC"} {
		loc, err := time.LoadLocation(zone)
		if err != nil {
			t.Fatal(err)
		}
		for _, start := range []time.Time{time.Date(2026, 3, 28, 0, 0, 0, 0, time.UTC), time.Date(2026, 4, 4, 0, 0, 0, 0, time.UTC), time.Date(2026, 10, 3, 0, 0, 0, 0, time.UTC), time.Date(2026, 10, 24, 0, 0, 0, 0, time.UTC)} {
			for _, h := range []*Hours{{From: 30, To: 90}, {From: 90, To: 300}, {From: 22 * 60, To: 105}, {From: 115, To: 125}, {From: 60, To: 120}} {
				var promised time.Time
				for t0 := start; t0.Before(start.Add(60 * time.Hour)); t0 = t0.Add(time.Minute) {
					open, closes, next := h.At(t0, loc)
					l := t0.In(loc)
					m := l.Hour()*60 + l.Minute()
					within := m >= h.From && m < h.To
					if h.To < h.From {
						within = m >= h.From || m < h.To
					}
					switch {
					case open && !within:
						t.Fatalf("%s: open at %s", zone, l)
					case open && !closes.After(t0), !open && !next.After(t0):
						t.Fatalf("%s at %s: closes %s, next %s", zone, l, closes, next)
					case !promised.IsZero() && open && t0.Before(promised):
						t.Fatalf("%s: open at %s before %s, which was said", zone, l, promised.In(loc))
					case !promised.IsZero() && !t0.Before(promised) && t0.Sub(promised) < time.Minute && !open:
						t.Fatalf("%s: not open at %s, as was said", zone, l)
					}
					promised = time.Time{}
					if !open {
						promised = next
					}
				}
			}
		}
	}
}

func TestArrange(t *testing.T) {
	units := fleet(3, 4)
	units[5].Cable, units[7].Model = true, "urze-ar"
	r := rules()
	r.Waves = []Size{{Share: 25}, {Count: 2}}
	out := Arrange(units, r, nil)
	var sizes [5]int
	for _, u := range out {
		sizes[u.Wave]++
	}
	if sizes != [5]int{2, 3, 2, 5} || out[0].Device != units[5].Device && out[1].Device != units[5].Device {
		t.Errorf("%v, the trial is %s and %s", sizes, out[0].Device, out[1].Device)
	}
	if w := out[2:5]; w[0].Site == w[1].Site || w[1].Site == w[2].Site {
		t.Errorf("one home has several of the first wave: %s %s %s", w[0].Site, w[1].Site, w[2].Site)
	}
	out = Arrange(units, r, []string{"a3"})
	if out[0].Device != "a3" && out[1].Device != "a3" {
		t.Error("the chosen trial is not the trial")
	}
	for _, bad := range []string{"", "0", "-1", "0%", "101%", "x", "5 units"} {
		if _, err := ParseSize(bad); err == nil {
			t.Errorf("%q is a size", bad)
		}
	}
	if s, err := ParseSize(" 10 % "); err != nil || s.String() != "10%" || s.of(25) != 3 {
		t.Error(s, err)
	}
}

// TestExpect: the forecast of a rollout is how long it then takes when each unit takes
// as long as it usually does.
func TestExpect(t *testing.T) {
	r := rules()
	r.AtOnce, r.PerSite = 3, 2
	p := begin(t, r, fleet(2, 6))
	f := Expect(New(r, p.s.Zones, p.s.Units), began)
	ends := map[string]time.Time{}
	for p.s.Status == Running {
		for _, c := range p.out {
			if c.Do == Begin {
				ends[c.Device] = p.now.Add(time.Minute)
				p.s, _ = Next(p.s, Event{Kind: Begun, Device: c.Device, Attempt: 1, Task: "t"}, p.now)
			}
		}
		var first string
		for d, at := range ends {
			if first == "" || at.Before(ends[first]) {
				first = d
			}
		}
		if first == "" {
			p.soak(nil)
			continue
		}
		p.now = ends[first]
		delete(ends, first)
		p.event(Event{Kind: Ended, Device: first, Attempt: 1, Outcome: task.Succeeded})
	}
	// Which of two that end together is seen first may cost one unit's time.
	if last := f[len(f)-1].Ends; len(f) != 3 || last.Sub(p.now).Abs() > time.Minute || p.s.Status != Done {
		t.Errorf("it ends at %s, %s was expected: %+v", p.now, last, f)
	}
}

// TestTwoAreLost: what goes wrong after a rollout was held is named, too.
func TestTwoAreLost(t *testing.T) {
	r := rules()
	r.Trial = false
	p := begin(t, r, fleet(2, 3))
	for _, c := range p.out {
		p.event(Event{Kind: Begun, Device: c.Device, Attempt: 1, Task: "t"})
	}
	p.event(Event{Kind: Ended, Device: "a0", Attempt: 1, Outcome: task.Lost}).status(Held, 0)
	p.event(Event{Kind: Ended, Device: "b0", Attempt: 1, Outcome: task.Lost}).status(Held, 0)
	if p.s.Reason != "Unit a0, Unit b0 were lost." || len(p.s.Gates) != 1 || p.s.Gates[0].Conditions[0].Seen != p.s.Reason {
		t.Errorf("%q: %+v", p.s.Reason, p.s.Gates)
	}
}
