package rollout

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"fado/internal/core/task"
)

// shape bounds a simulated run. A failing one is shrunk: the bounds are drawn in as
// long as it still fails.
type shape struct {
	units, sites                   int
	crashes, persons, faults, hour bool
}

func (s shape) String() string {
	return fmt.Sprintf("units=%d,sites=%d,crashes=%v,persons=%v,faults=%v,hours=%v", s.units, s.sites, s.crashes, s.persons, s.faults, s.hour)
}

func parseShape(text string) shape {
	s := shape{25, 4, true, true, true, true}
	for part := range strings.SplitSeq(text, ",") {
		k, v, _ := strings.Cut(part, "=")
		n, _ := strconv.Atoi(v)
		switch on := v == "true"; k {
		case "units":
			s.units = n
		case "sites":
			s.sites = n
		case "crashes":
			s.crashes = on
		case "persons":
			s.persons = on
		case "faults":
			s.faults = on
		case "hours":
			s.hour = on
		}
	}
	return s
}

// TestSimulation drives the reducer through random fleets, outcomes, persons and stops
// of the service between any two steps, and checks after each step what must always
// hold. FADO_SEED, FADO_STEPS and FADO_SHAPE choose another run; a failing seed is
// shrunk and printed as these.
func TestSimulation(t *testing.T) {
	seed, steps := uint64(1), 1_000_000
	if v, err := strconv.ParseUint(os.Getenv("FADO_SEED"), 10, 64); err == nil {
		seed = v
	}
	if v, err := strconv.Atoi(os.Getenv("FADO_STEPS")); err == nil {
		steps = v
	}
	if raceEnabled {
		steps /= 20
	}
	full := parseShape(os.Getenv("FADO_SHAPE"))
	ends := map[string]int{}
	for n := 0; n < steps; seed++ {
		w := newWorld(seed, full)
		n += w.run()
		if w.wrong != "" {
			small := shrink(seed, full)
			t.Fatalf("seed %d: %s\nFADO_SEED=%d FADO_STEPS=1 FADO_SHAPE=%s go test ./internal/core/rollout -run TestSimulation\n%s", seed, w.wrong, seed, small.shape, strings.Join(small.trace, "\n"))
		}
		for k, c := range w.ends {
			ends[k] += c
		}
	}
	for _, want := range []string{"done", "cancelled", "held", "paused", "succeeded", "failed", "reverted", "skipped", "lost", "retried", "excluded", "crashed", "late"} {
		if ends[want] == 0 {
			t.Errorf("nothing was «%s»: %v", want, ends)
		}
	}
}

// shrink draws in the bounds of a failing run as long as it fails.
func shrink(seed uint64, s shape) *world {
	best := newWorld(seed, s)
	best.run()
	for again := true; again; {
		again = false
		for _, try := range []func(shape) shape{
			func(s shape) shape { s.units = (s.units + 1) / 2; return s }, func(s shape) shape { s.units--; return s }, func(s shape) shape { s.sites = 1; return s },
			func(s shape) shape { s.crashes = false; return s }, func(s shape) shape { s.persons = false; return s }, func(s shape) shape { s.faults = false; return s }, func(s shape) shape { s.hour = false; return s },
		} {
			n := try(best.shape)
			if n == best.shape || n.units < 1 {
				continue
			}
			if w := newWorld(seed, n); w.run() >= 0 && w.wrong != "" {
				best, again = w, true
			}
		}
	}
	return best
}

// homes are the zones of simulated homes.
var homes = func() (out []*time.Location) {
	for _, name := range []string{"Europe/Lisbon", "Atlantic/Azores", "Australia/Lord_Howe", "UTC"} {
		if l, err := time.LoadLocation(name); err == nil {
			out = append(out, l)
		}
	}
	return out
}()

// update is one that is under way in the simulated homes.
type update struct {
	device  string
	attempt int
	id      string
	began   time.Time
	until   time.Time
	outcome task.Outcome
	over    bool
}

// world is the shell, the homes and the persons around the reducer.
type world struct {
	shape
	r       *rand.Rand
	now     time.Time
	s       State // as it is stored
	queue   []Event
	carry   []Command // to be carried out
	updates []update
	runs    map[string]string // the image that each unit runs
	unfit   map[string]bool
	refused map[string]bool // as unfit, since its last retry
	ends    map[string]int
	past    []Event // that may be said once more, late
	bad     string  // a unit of the wave was seen to do badly, by the last look
	wrong   string
	trace   []string
}

func newWorld(seed uint64, sh shape) *world {
	r := rand.New(rand.NewPCG(seed, 11))
	w := &world{shape: sh, r: r, runs: map[string]string{}, unfit: map[string]bool{}, refused: map[string]bool{}, ends: map[string]int{}}
	w.now = []time.Time{time.Date(2026, 3, 28, 12, 0, 0, 0, time.UTC), time.Date(2026, 10, 24, 12, 0, 0, 0, time.UTC), time.Date(2026, 7, 3, 9, 0, 0, 0, time.UTC)}[r.IntN(3)].Add(time.Duration(r.IntN(24*60)) * time.Minute)
	rules := Rules{Trial: r.IntN(2) == 0, AtOnce: 1 + r.IntN(6), PerSite: 1 + r.IntN(3), Patience: time.Duration(r.IntN(120)) * time.Minute,
		Gate: Gate{Share: []int{0, 50, 90, 100}[r.IntN(4)], Soak: time.Duration(r.IntN(30)) * time.Minute, Returns: r.IntN(3), Health: true, Checks: r.IntN(2) == 0}}
	for range r.IntN(4) {
		if r.IntN(2) == 0 {
			rules.Waves = append(rules.Waves, Size{Count: 1 + r.IntN(5)})
		} else {
			rules.Waves = append(rules.Waves, Size{Share: 1 + r.IntN(60)})
		}
	}
	if r.IntN(2) == 0 && sh.hour {
		rules.Hours = &Hours{From: r.IntN(24 * 60), To: r.IntN(24 * 60)}
		if r.IntN(3) == 0 {
			rules.Hours.Days = []time.Weekday{time.Saturday, time.Sunday}
		}
	}
	zones := map[string]*time.Location{}
	units := make([]Unit, 1+r.IntN(25))
	if len(units) > sh.units {
		units = units[:sh.units]
	}
	for i := range units {
		id := fmt.Sprint("d", i)
		site := fmt.Sprint("s", r.IntN(4)%sh.sites)
		zones[site] = homes[len(site)+int(site[1]-'0')-2]
		units[i] = Unit{Device: id, Name: id, Site: site, Model: []string{"junco", "urze-ar"}[r.IntN(2)], Image: "new", From: "1", To: "2", Usual: time.Duration(1+r.IntN(20)) * time.Minute,
			Sleeps: r.IntN(5) == 0, Risky: r.IntN(5) == 0, Online: r.IntN(3) > 0}
		w.runs[id] = "old"
		if sh.faults && r.IntN(15) == 0 {
			w.runs[id] = "new"
		}
		w.unfit[id] = sh.faults && r.IntN(15) == 0
	}
	w.s = New(rules, zones, Arrange(units, rules, nil))
	return w
}

func (w *world) fail(format string, args ...any) {
	if w.wrong == "" {
		w.wrong = fmt.Sprintf("at %s, %s in wave %d, %s: %s", w.now.Format(time.RFC3339), w.s.Status, w.s.Wave, w.s.Phase, fmt.Sprintf(format, args...))
	}
}

func (w *world) note(format string, args ...any) {
	w.trace = append(w.trace, w.now.Format("2006-01-02 15:04:05 ")+fmt.Sprintf(format, args...))
	if len(w.trace) > 40 {
		w.trace = w.trace[1:]
	}
}

func (w *world) active(device string) *update {
	for i := range w.updates {
		if u := &w.updates[i]; u.device == device && !u.over {
			return u
		}
	}
	return nil
}

// do carries out a command as the shell does: looked for first, and begun only if the
// rollout as it is stored still lets it.
func (w *world) do(c Command) {
	if c.Do == Look {
		sights := map[string]Sight{}
		w.bad = ""
		for _, u := range w.s.Units {
			s := Sight{Online: !w.faults || w.r.IntN(60) > 0, Returns: w.r.IntN(2)}
			sights[u.Device] = s
			if u.Wave == w.s.Wave && u.Outcome == task.Succeeded && (!s.Online || s.Returns > w.s.Rules.Gate.Returns) {
				w.bad = u.Device
			}
		}
		w.queue = append(w.queue, Event{Kind: Looked, Command: c.ID, Sights: sights})
		return
	}
	answer := Event{Command: c.ID, Device: c.Device, Attempt: c.Attempt}
	for _, u := range w.updates {
		if u.device == c.Device && u.attempt == c.Attempt {
			answer.Kind, answer.Task = Begun, u.id
			w.queue = append(w.queue, answer)
			if u.over {
				w.queue = append(w.queue, Event{Kind: Ended, Device: u.device, Attempt: u.attempt, Task: u.id, Outcome: u.outcome})
			}
			return
		}
	}
	answer.Kind, answer.Why = Refused, "so"
	switch {
	case !May(w.s, c.Device, c.Attempt, w.now):
		answer.Code = NotNow
	case w.runs[c.Device] == "new":
		answer.Code = AlreadyOn
	case w.unfit[c.Device]:
		answer.Code = Unfit
		w.refused[c.Device] = true
	default:
		w.start(c)
		answer.Kind, answer.Task = Begun, w.updates[len(w.updates)-1].id
	}
	w.note("%s %s: %s %s", c.Do, c.Device, answer.Kind, answer.Code)
	w.queue = append(w.queue, answer)
}

// start begins an update in the home, and checks what must hold then.
func (w *world) start(c Command) {
	var unit Unit
	for _, u := range w.s.Units {
		if u.Device == c.Device {
			unit = u
		}
	}
	if w.s.Status != Running {
		w.fail("%s begins while the rollout is %s", c.Device, w.s.Status)
	}
	if w.active(c.Device) != nil {
		w.fail("%s is updated twice at once", c.Device)
	}
	if w.runs[c.Device] == unit.Image {
		w.fail("%s is sent the image that it runs", c.Device)
	}
	if !w.open(unit.Site) {
		w.fail("%s begins outside the hours", c.Device)
	}
	for wave := range unit.Wave {
		i := slices.IndexFunc(w.s.Gates, func(g GateRecord) bool { return g.Wave == wave && !g.Early && (!g.Held || g.By != "") })
		if i < 0 {
			w.fail("%s of wave %d begins before the gate of wave %d was passed", c.Device, unit.Wave, wave)
		}
	}
	for _, u := range w.s.Units {
		if u.Outcome == task.Lost && !u.Accepted {
			w.fail("%s begins though %s was lost and nobody has accepted that", c.Device, u.Device)
		}
	}
	if unit.Outcome != "" {
		w.fail("%s begins and has the outcome %s", c.Device, unit.Outcome)
	}
	u := update{device: c.Device, attempt: c.Attempt, id: fmt.Sprint("t", len(w.updates)), began: w.now, outcome: task.Succeeded}
	u.until = w.now.Add(time.Duration(1+w.r.IntN(40*60)) * time.Second)
	if unit.Sleeps {
		u.until = w.now.Add(time.Duration(1+w.r.IntN(300)) * time.Minute)
	}
	if w.faults && w.r.IntN(6) == 0 {
		u.outcome = []task.Outcome{task.FailedOut, task.Reverted, task.Lost, task.Skipped}[w.r.IntN(4)]
	}
	w.updates = append(w.updates, u)
	// The limits, counted in the homes themselves.
	total, bySite, risky := 0, map[string]int{}, map[string]int{}
	for _, x := range w.s.Units {
		if w.active(x.Device) == nil {
			continue
		}
		if !x.Sleeps {
			total++
			bySite[x.Site]++
		}
		if x.Risky {
			risky[x.Site]++
		}
	}
	if total > w.s.Rules.AtOnce || bySite[unit.Site] > w.s.Rules.PerSite || risky[unit.Site] > 1 {
		w.fail("%d at once of %d, %d of %d at %s, %d of them at risk", total, w.s.Rules.AtOnce, bySite[unit.Site], w.s.Rules.PerSite, unit.Site, risky[unit.Site])
	}
}

// open judges the hours in another way than the rules do: by the clock on the wall.
func (w *world) open(site string) bool {
	h := w.s.Rules.Hours
	if h == nil || h.From == h.To {
		return true
	}
	loc := w.s.Zones[site]
	clock := w.now.In(loc).Format("15:04")
	from, to := fmt.Sprintf("%02d:%02d", h.From/60, h.From%60), fmt.Sprintf("%02d:%02d", h.To/60, h.To%60)
	day := w.now.In(loc)
	if from > to && clock < to {
		day = day.AddDate(0, 0, -1)
	}
	if len(h.Days) > 0 && !slices.Contains(h.Days, day.Weekday()) {
		return false
	}
	if from < to {
		return clock >= from && clock < to
	}
	return clock >= from || clock < to
}

// finish ends updates whose time has come.
func (w *world) finish() {
	for i := range w.updates {
		u := &w.updates[i]
		if u.over || w.now.Before(u.until) {
			continue
		}
		u.over = true
		if u.outcome == task.Succeeded {
			w.runs[u.device] = "new"
		}
		w.queue = append(w.queue, Event{Kind: Ended, Device: u.device, Attempt: u.attempt, Task: u.id, Outcome: u.outcome, Why: "so"})
	}
}

// crash loses all that is not stored; after it the shell asks how each update stands.
func (w *world) crash() {
	w.ends["crashed"]++
	head, err := json.Marshal(w.s)
	if err != nil {
		w.fail("%v", err)
	}
	again := State{Units: slices.Clone(w.s.Units), Zones: w.s.Zones}
	if err := json.Unmarshal(head, &again); err != nil {
		w.fail("%v", err)
	}
	before := w.s
	w.s, w.queue, w.carry = again, nil, nil
	next, out := Next(w.s, Event{Kind: Resumed}, w.now)
	quiet := next
	for i := range quiet.Pending {
		quiet.Pending[i].Again = false
	}
	began := next.NextID != before.NextID // what became possible meanwhile begins
	if !began && (next.Status != before.Status || next.Phase != before.Phase || next.Wave != before.Wave || !reflect.DeepEqual(next.Units, before.Units)) {
		w.fail("a restart changed something: %+v, before %+v", next, before)
	}
	w.s, w.carry = next, out
	for _, u := range w.updates {
		for _, x := range w.s.Units {
			if x.Device == u.device && x.State == UnderWay && x.Attempt == u.attempt && u.over {
				w.queue = append(w.queue, Event{Kind: Ended, Device: u.device, Attempt: u.attempt, Task: u.id, Outcome: u.outcome, Why: "so"})
			}
		}
	}
	if w.s.Status == Draft { // the person sees that it was not started
		w.queue = append(w.queue, Event{Kind: Start})
	}
	w.note("the service was killed and came back")
}

// person does something at random; patient ones only let a held rollout go on.
func (w *world) person(patient bool) {
	any := w.s.Units[w.r.IntN(len(w.s.Units))].Device
	e := Event{Kind: GoOn, Why: "I have seen it", Actor: "marta"}
	if !patient {
		e = []Event{e, {Kind: Pause, Why: "guests"}, {Kind: Cancel, Why: "enough"}, {Kind: Retry}, {Kind: Retry, Devices: []string{any}}, {Kind: Exclude, Device: any, Why: "away"}}[w.r.IntN(6)]
		if e.Kind == Cancel && w.r.IntN(4) > 0 {
			return
		}
	}
	w.queue = append(w.queue, e)
}

func (w *world) run() int {
	w.queue = append(w.queue, Event{Kind: Start})
	patience := 0
	for step := 1; ; step++ {
		if step > 6000 {
			w.fail("it does not come to an end")
			return step
		}
		w.now = w.now.Add(time.Duration(w.r.IntN(1500)) * time.Millisecond)
		w.finish()
		switch {
		case w.crashes && w.r.IntN(50) == 0:
			w.crash()
		case w.persons && step < 3000 && w.r.IntN(80) == 0:
			w.person(false)
		case len(w.carry) > 0 && w.r.IntN(3) > 0:
			i := w.r.IntN(len(w.carry))
			c := w.carry[i]
			w.carry = slices.Delete(slices.Clone(w.carry), i, i+1)
			w.do(c)
		}
		if len(w.queue) > 0 && w.r.IntN(20) == 0 {
			w.queue = append(w.queue, w.queue[0]) // said twice
		}
		e := Event{Kind: Tick}
		switch {
		case len(w.queue) > 0:
			e, w.queue = w.queue[0], w.queue[1:]
		case len(w.carry) == 0:
			if !w.wait() {
				if w.s.Status.Over() {
					w.close()
					return step
				}
				if patience++; w.s.Status != Held && w.s.Status != Paused {
					w.fail("it is stuck: nothing is under way, nothing is waited for")
				}
				w.person(true)
			}
		}
		if e.Kind == Ended || e.Kind == Begun || e.Kind == Refused {
			w.past = append(w.past, e)
		} else if n := len(w.past); n > 0 && w.r.IntN(60) == 0 {
			w.queue = append(w.queue, w.past[w.r.IntN(n)])
		}
		before := w.s
		next, out := Next(w.s, e, w.now)
		w.s, w.carry = next, append(w.carry, out...)
		if e.Kind != Tick {
			w.note("%s %s%s %s → %s, wave %d, %s", e.Kind, e.Device, e.Code, e.Outcome, next.Status, next.Wave, next.Phase)
		}
		w.check(before, e, out)
		if w.wrong != "" {
			return step
		}
	}
}

// wait lets time pass until something happens by itself.
func (w *world) wait() bool {
	var at time.Time
	for _, u := range w.updates {
		if !u.over && (at.IsZero() || u.until.Before(at)) {
			at = u.until
		}
	}
	if d := w.s.Due; !d.IsZero() && (at.IsZero() || d.Before(at)) {
		at = d
	}
	if at.IsZero() {
		return false
	}
	if late := w.s.WaveBegan.Add(w.s.Rules.Patience); w.s.Status == Running && w.s.Phase == Updating && w.s.Wave < w.s.Waves-1 && at.After(late.Add(time.Minute)) {
		asleep, others := 0, 0
		for _, u := range w.s.Units {
			switch {
			case u.Wave > w.s.Wave || !u.open():
			case u.Sleeps && u.State == UnderWay:
				asleep++
			default:
				others++
			}
		}
		if asleep > 0 && others == 0 {
			w.fail("it waits until %s for units that sleep, and should until %s", at.Format(time.RFC3339), late.Format(time.RFC3339))
		}
	}
	w.now = later(w.now, at)
	w.finish()
	return true
}

// check holds a step to what must always hold.
func (w *world) check(before State, e Event, out []Command) {
	s := w.s
	for i, u := range s.Units {
		was := before.Units[i]
		if was.State == Over && (u.State != Over || u.Outcome != was.Outcome) && e.Kind != Retry {
			w.fail("the outcome of %s changed from %s to %s on %s", u.Device, was.Outcome, u.Outcome, e.Kind)
		}
		if was.Outcome == task.Succeeded && u.Outcome != task.Succeeded {
			w.fail("%s was put back though it had succeeded", u.Device)
		}
		if (u.State == Over) != (u.Outcome != "") {
			w.fail("%s is %s with the outcome %q", u.Device, u.State, u.Outcome)
		}
		if u.Wave != was.Wave {
			w.fail("%s changed its wave", u.Device)
		}
		if e.Kind == Retry && was.State == Over && u.State == Ahead || e.Kind == Retry && was.State == Over && u.State == Starting {
			w.refused[u.Device] = false
			w.ends["retried"]++
		}
		if e.Kind == Exclude && was.State == Ahead && u.State == Over {
			w.ends["excluded"]++
		}
	}
	for _, c := range out {
		if c.Do == Begin && s.Status != Running {
			w.fail("%s is begun by a rollout that is %s", c.Device, s.Status)
		}
		if c.Do == Begin && w.refused[c.Device] {
			w.fail("%s is begun though the image does not suit it", c.Device)
		}
	}
	if s.Status == Done {
		for _, u := range s.Units {
			if u.State != Over {
				w.fail("it is done, and %s is %s", u.Device, u.State)
			}
		}
	}
	if e.Kind == Looked && before.Phase == Looking && s.Phase != Looking && w.bad != "" && (s.Status != Held || s.Wave != before.Wave) {
		w.fail("the gate let %s pass, which does badly", w.bad)
	}
	if s.Status == Held && s.Reason == "" {
		w.fail("it is held and does not say why")
	}
	if before.Status != Held && before.Status != Draft && s.Status == Running && s.Wave > before.Wave {
		for _, u := range s.Units {
			if u.Wave == before.Wave && !u.Sleeps && u.open() {
				w.fail("the next wave begins and %s of this one has no outcome", u.Device)
			}
			if u.Wave <= before.Wave && u.Sleeps && u.open() {
				w.ends["late"]++
			}
		}
	}
	if before.Status != s.Status && (s.Status == Held || s.Status == Paused) {
		w.ends[string(s.Status)]++
	}
}

// close compares what is on record with what happened in the homes.
func (w *world) close() {
	w.ends[string(w.s.Status)]++
	for _, u := range w.s.Units {
		if u.State != Over {
			w.fail("the rollout is over, and %s is %s", u.Device, u.State)
		}
		w.ends[string(u.Outcome)]++
		last := -1
		for i, x := range w.updates {
			if x.device == u.Device {
				last = i
			}
		}
		switch {
		case u.Outcome == task.Succeeded && w.runs[u.Device] != "new":
			w.fail("%s succeeded on record, and runs %s", u.Device, w.runs[u.Device])
		case u.Attempt > 0 && !u.Began.IsZero() && last >= 0 && w.updates[last].attempt == u.Attempt && w.updates[last].outcome != u.Outcome:
			w.fail("%s ended as %s, on record as %s", u.Device, w.updates[last].outcome, u.Outcome)
		case last >= 0 && w.updates[last].outcome == task.Succeeded && u.Outcome != task.Succeeded && !u.Already && w.updates[last].attempt == u.Attempt:
			w.fail("%s succeeded in the home, on record it is %s", u.Device, u.Outcome)
		}
	}
}
