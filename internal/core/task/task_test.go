package task

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

	"fado/internal/core/inventory"
)

var start = time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)

const hw = "02:5A:11:00:00:07"

func subject() Subject {
	return Subject{Name: "Cisterna", HardwareID: hw, Model: "junco", BootUsual: 4, SetUp: "Hold the button.", Recover: "Take its power away.", Network: "casa", Reverts: true}
}

// play feeds events to a state, one a second, and returns the commands of the
// last one.
type play struct {
	t   *testing.T
	s   State
	now time.Time
	out []Command
}

func (p *play) event(e Event) *play {
	p.t.Helper()
	p.now = p.now.Add(time.Second)
	before, _ := json.Marshal(p.s)
	next, out := Next(p.s, e, p.now)
	if after, _ := json.Marshal(p.s); string(before) != string(after) {
		p.t.Fatalf("Next changed the state it was given, on %s", e.Kind)
	}
	p.s, p.out = next, out
	return p
}

func (p *play) result(code string, facts ...string) *play {
	p.t.Helper()
	if len(p.s.Pending) == 0 {
		p.t.Fatalf("nothing is pending in phase %s, status %s, failure %+v", p.s.Phase, p.s.Status, p.s.Failure)
	}
	e := Event{Kind: Result, Command: p.s.Pending[0].ID, Code: code, Facts: pairs(facts)}
	return p.event(e)
}

// due lets the time come that the state waits for.
func (p *play) due() *play {
	p.t.Helper()
	if p.s.Due.IsZero() {
		p.t.Fatalf("phase %s waits for no time", p.s.Phase)
	}
	p.now = p.s.Due
	return p.event(Event{Kind: Tick})
}

func pairs(list []string) map[string]string {
	m := map[string]string{}
	for i := 0; i+1 < len(list); i += 2 {
		m[list[i]] = list[i+1]
	}
	return m
}

func (p *play) phase(want string) *play {
	p.t.Helper()
	if p.s.Phase != want {
		p.t.Fatalf("phase %q, want %q (failure %+v)", p.s.Phase, want, p.s.Failure)
	}
	return p
}

func (p *play) failed(code string) {
	p.t.Helper()
	if p.s.Status != Failed || p.s.Failure == nil || p.s.Failure.Code != code {
		p.t.Fatalf("status %s, failure %+v, want %s", p.s.Status, p.s.Failure, code)
	}
	f := p.s.Failure
	for _, text := range []string{f.What, f.Cause, f.Next} {
		if text == "" || strings.Contains(text, "{") || strings.Contains(text, "(no ") {
			p.t.Errorf("a part of the failure is empty or unfinished: %+v", f)
		}
	}
	if len(p.s.Pending) > 0 || !p.s.Due.IsZero() || p.s.Wait != nil {
		p.t.Error("a failed task still waits for something")
	}
}

func commission(t *testing.T) *play {
	return (&play{t: t, s: NewCommission(subject()), now: start}).event(Event{Kind: Started})
}

func (p *play) toAwait() *play {
	return p.phase(phaseContact).result("", "hardware_id", hw, "model", "junco", "version", "2.0.1", "digest", "old").
		phase(phasePrepare).result("", "account", "unit-1").phase(phaseHandOver).result("", "count", "12").phase(phaseAwait)
}

func TestCommissionGoesThrough(t *testing.T) {
	p := commission(t).toAwait()
	if p.s.Status != Waiting || p.s.Wait == nil || p.s.Wait.Usually != 4 || p.s.Stage != inventory.Contacted {
		t.Fatalf("%+v", p.s)
	}
	p.event(Event{Kind: Appeared, Facts: pairs([]string{"hardware_id", "02:00:00:00:00:01"})}).phase(phaseAwait)
	p.event(Event{Kind: Appeared, Facts: pairs([]string{"hardware_id", hw, "version", "2.0.1"})}).phase(phaseReport)
	p.event(Event{Kind: Reported, Facts: pairs([]string{"equal", "9"})}).phase(phaseTrip)
	p.result("", "seen", "relay").phase(phaseAdopt)
	p.result("", "seen", "thing")
	if p.s.Status != Done || p.s.Stage != inventory.Adopted {
		t.Fatalf("%+v", p.s)
	}
	for _, s := range p.s.Steps {
		if s.State != StepDone || s.Began == nil || s.Ended == nil {
			t.Errorf("step %+v", s)
		}
	}
}

func TestCommissionFailuresAreNamed(t *testing.T) {
	for _, code := range []string{"no_radio", "key_refused", "no_key", "twice", "not_as_dialect"} {
		commission(t).result(code, "detail", "x").failed(code)
	}
	for p := commission(t); ; p.due() {
		if p.result("not_seen"); p.s.Status.Over() {
			p.failed("not_seen")
			if late := p.now.Sub(start); late < 45*time.Second || late > 50*time.Second {
				t.Errorf("a unit that may be starting was waited for %s", late)
			}
			break
		}
		if p.s.Wait == nil || p.s.Wait.For != "person" {
			t.Fatalf("%+v", p.s)
		}
	}
	commission(t).result("", "hardware_id", "02:00:00:00:00:01", "model", "junco").failed("other_unit")
	commission(t).result("", "hardware_id", hw, "model", "azinho", "model_seen", "azinho").failed("other_model")
	for _, trouble := range []string{"wifi_refused", "wifi_not_found", "broker_unreachable", "broker_refused"} {
		commission(t).toAwait().due().result("", "trouble", trouble).failed("came_back_" + trouble)
	}
	// One that did not keep its settings is handed them once more, and no more.
	forgot := func(p *play) *play {
		return p.due().result("", "trouble", "none").due().result("", "trouble", "none").due().result("", "trouble", "none")
	}
	p := forgot(commission(t).toAwait()).phase(phaseHandOver).result("", "count", "12").phase(phaseAwait)
	forgot(p).failed("stayed")
	forgot(p.event(Event{Kind: Retried}).toAwait()).phase(phaseHandOver)

	// The service stopped before it had sent anything, and found the unit asleep when
	// it came back: what is sent then is sent for the first time.
	p = commission(t).result("", "hardware_id", hw, "model", "junco").phase(phasePrepare).result("", "account", "unit-1").phase(phaseHandOver)
	p = forgot(p.event(Event{Kind: Resumed}).result("not_seen").phase(phaseAwait)).phase(phaseHandOver).result("", "count", "12").phase(phaseAwait)
	forgot(forgot(p).phase(phaseHandOver).result("", "count", "12").phase(phaseAwait)).failed("stayed")

	// Another unit tries the passphrase first; nothing is sent meanwhile.
	p = commission(t).result("", "hardware_id", hw, "model", "junco").phase(phasePrepare).result("", "account", "unit-1").phase(phaseHandOver)
	for range 40 {
		p.result("network_untried", "by", "Rega").phase(phaseHandOver)
		if p.s.Status != Waiting || p.s.Wait.For != "first" || !strings.Contains(p.s.Wait.What, "Rega") {
			t.Fatalf("%+v", p.s)
		}
		p.due()
	}
	p.result("network_refused", "by", "Rega").failed("network_refused")

	// Its turn at the radio, and the moment in which nobody may touch it.
	turn := func(with string) Event { return Event{Kind: Turn, Facts: pairs([]string{"with", with})} }
	p = commission(t).event(turn("radio"))
	if p.s.Wait == nil || p.s.Wait.For != "turn" {
		t.Fatalf("%+v", p.s)
	}
	p.result("", "hardware_id", hw, "model", "junco").phase(phasePrepare).result("", "account", "unit-1").phase(phaseHandOver)
	p.result("network_untried", "by", "Rega").due().event(turn("radio")).event(turn("unit"))
	if p.s.Status != Running || p.s.Wait == nil || !strings.Contains(p.s.Wait.What, "Do not touch") {
		t.Fatalf("%+v", p.s)
	}
	p.result("half_way", "page", "x", "detail", "x").due()
	if c := p.s.Pending; len(c) != 1 || !c[0].Again {
		t.Errorf("what may have been sent is not asked for: %+v", c)
	}

	p = commission(t).toAwait()
	for p.s.Status == Waiting {
		p.due().result("not_seen")
	}
	p.failed("never_joined")

	p = commission(t).toAwait().event(Event{Kind: Appeared, Facts: pairs([]string{"hardware_id", hw})})
	p.event(Event{Kind: Reported, Facts: pairs([]string{"differs", "label is x instead of y"})}).failed("differs")
	p = commission(t).toAwait().event(Event{Kind: Appeared, Facts: pairs([]string{"hardware_id", hw})})
	p.due().due().due().due().failed("silent")
}

func TestRetryGoesOnWhereItHelps(t *testing.T) {
	p := commission(t).toAwait().due().result("", "trouble", "wifi_refused")
	p.event(Event{Kind: Retried}).phase(phaseContact)
	if p.s.Attempt != 2 || p.s.Failure != nil || p.s.Status != Running || len(p.s.Pending) != 1 {
		t.Fatalf("%+v", p.s)
	}
	p = commission(t).toAwait().event(Event{Kind: Appeared, Facts: pairs([]string{"hardware_id", hw})}).event(Event{Kind: Reported, Facts: pairs([]string{"equal", "9"})})
	p.result("", "seen", "x").phase(phaseAdopt).result("hub_refused", "detail", "401").failed("hub_refused")
	p.event(Event{Kind: Retried}).phase(phaseReport) // the unit is in service; nothing is handed over again
}

func update(t *testing.T) *play {
	return (&play{t: t, s: NewUpdate(subject(), []Leg{{"new", "2.1.0", 1000}}, "2.0.1", "old"), now: start}).event(Event{Kind: Started})
}

func (p *play) offered() *play {
	p.phase(phaseFit).result("", "sentence", "fits").phase(phaseLink).result("", "until", "noon").phase(phaseOffer)
	return p
}

func (p *play) told() *play {
	return p.offered().event(Event{Kind: Answered, Facts: pairs([]string{"command", strconv.Itoa(p.s.Update.OfferID), "accepted", "true"})}).phase(phaseTake)
}

func appeared(version, digest string) Event {
	return Event{Kind: Appeared, Facts: pairs([]string{"hardware_id", hw, "version", version, "digest", digest, "confirmed", "true"})}
}

func TestUpdateGoesThrough(t *testing.T) {
	p := update(t).told()
	p.event(Event{Kind: Progress, Facts: pairs([]string{"phase", "fetching", "done", "500"})})
	if p.s.Update.Outcome != Fetching || p.s.Update.Done != 500 {
		t.Fatalf("%+v", p.s.Update)
	}
	p.event(Event{Kind: Progress, Facts: pairs([]string{"phase", "writing", "done", "1000"})})
	p.event(Event{Kind: Progress, Facts: pairs([]string{"phase", "restarting", "done", "1000"})}).phase(phaseProve)
	e := appeared("2.1.0", "new")
	e.Facts["confirmed"] = "false"
	p.event(e).phase(phaseProve) // on trial: not yet proven
	p.event(appeared("2.1.0", "new")).phase(phaseAfter)
	p.event(Event{Kind: Reported, Facts: pairs([]string{"equal", "9"})}).phase(phaseTest)
	p.result("", "seen", "x")
	if p.s.Status != Done || p.s.Update.Outcome != Succeeded {
		t.Fatalf("%+v", p.s)
	}
}

func TestUpdateOutcomesAreToldApart(t *testing.T) {
	outcome := func(p *play, code string, want Outcome) {
		t.Helper()
		p.failed(code)
		if p.s.Update.Outcome != want {
			t.Errorf("%s: outcome %s, want %s", code, p.s.Update.Outcome, want)
		}
	}
	outcome(update(t).result("unfit", "sentence", "too large"), "unfit", Skipped)
	p := update(t).offered()
	outcome(p.event(Event{Kind: Answered, Facts: pairs([]string{"command", strconv.Itoa(p.s.Update.OfferID), "accepted", "false", "reason", "no room", "from", "2.0.1"})}), "refused", FailedOut)
	outcome(update(t).offered().due().due().due().due(), "silent", FailedOut)
	outcome(update(t).told().event(Event{Kind: Progress, Facts: pairs([]string{"phase", "refused", "reason", "digest"})}), "update_refused", FailedOut)
	restarting := Event{Kind: Progress, Facts: pairs([]string{"phase", "restarting"})}
	outcome(update(t).told().event(restarting).event(appeared("2.0.1", "old")), "reverted", Reverted)
	p = update(t).told().event(restarting)
	for p.s.Status == Waiting {
		p.due()
		if len(p.s.Pending) > 0 {
			p.result("")
		}
	}
	outcome(p, "lost", Lost)
	p = update(t).told().event(restarting).event(appeared("2.1.0", "new"))
	outcome(p.event(Event{Kind: Reported, Facts: pairs([]string{"differs", "label"})}), "settings_lost", Succeeded)
	p = update(t).result("running", "sentence", "It runs it already.")
	if p.s.Status != Done || p.s.Update.Outcome != Skipped {
		t.Errorf("%+v", p.s)
	}
}

func TestAnswersToOtherAsksAreNoAcceptance(t *testing.T) {
	p := update(t).offered()
	p.event(Event{Kind: Answered, Facts: pairs([]string{"command", "999", "accepted", "true"})}).phase(phaseOffer)
}

func TestAVersionAloneIsNoProof(t *testing.T) {
	p := update(t).told().event(Event{Kind: Progress, Facts: pairs([]string{"phase", "restarting"})})
	p.event(appeared("2.1.0", "something else"))
	if p.s.Update.Outcome == Succeeded || p.s.Status != Failed {
		t.Fatalf("%+v", p.s)
	}
}

func TestCancelOnlyBeforeTheUnitWasTold(t *testing.T) {
	if p := update(t).offered().event(Event{Kind: Cancel}); p.s.Status != Cancelled || len(p.out) != 0 {
		t.Errorf("%+v", p.s)
	}
	if p := update(t).told().event(Event{Kind: Cancel}); p.s.Status == Cancelled {
		t.Error("an update that the unit was told of was cancelled")
	}
}

func TestResumeRepeatsOnlyWhatMayBe(t *testing.T) {
	p := commission(t).event(Event{Kind: Resumed})
	if len(p.out) != 1 || p.out[0].Do != DoContact || !p.out[0].Again {
		t.Errorf("%+v", p.out)
	}
	p = update(t).offered().event(Event{Kind: Resumed})
	if len(p.out) != 1 || p.out[0].Do != DoAsk {
		t.Errorf("an offer was repeated without asking the unit first: %+v", p.out)
	}
	p.result("") // the ask is sent
	reply := appeared("2.0.1", "old")
	reply.Facts["reply_to"] = "ask"
	if p.event(reply); len(p.out) != 1 || p.out[0].Do != DoOffer {
		t.Errorf("the unit runs the old image, and was not offered the new one: %+v", p.out)
	}
	p = update(t).offered().event(Event{Kind: Resumed})
	reply = appeared("2.1.0", "new")
	reply.Facts["reply_to"] = "ask"
	if p.event(reply).phase(phaseAfter); len(p.out) != 1 || p.out[0].Do != DoAsk {
		t.Errorf("the unit runs the new image already: %+v", p.out)
	}
	p = commission(t).toAwait().event(Event{Kind: Resumed})
	if len(p.out) != 1 || p.out[0].Do != DoAsk {
		t.Errorf("%+v", p.out)
	}
	p = commission(t).result("", "hardware_id", hw, "model", "junco").result("").phase(phaseHandOver).event(Event{Kind: Resumed})
	if p.result("not_seen").phase(phaseAwait); p.s.Status != Waiting {
		t.Error("a unit that left with its settings just before a stop was given up")
	}
}

func apply(t *testing.T, sleeps bool) *play {
	s := subject()
	s.Adopted = true
	if sleeps {
		s.Sleeps, s.WakeUsual, s.Wake = true, 60, "Press the button."
	}
	return (&play{t: t, s: NewApply(s), now: start}).event(Event{Kind: Started})
}

func reported(differs string) Event {
	return Event{Kind: Reported, Facts: pairs([]string{"reply_to", "x", "equal", "9", "differs", differs})}
}

func TestApplyGoesThrough(t *testing.T) {
	p := apply(t, false).phase(phaseWrite).result("", "count", "3", "restarts", "2").phase(phaseAwait)
	p.event(appeared("2.0.1", "old")).phase(phaseReport).event(reported("")).phase(phaseTrip).result("", "seen", "x").phase(phaseAdopt).result("", "seen", "y")
	if p.s.Status != Done {
		t.Fatalf("%+v", p.s)
	}
	apply(t, false).result("", "count", "0").phase(phaseReport) // nothing to write: it is only proven
	if p = apply(t, false).result("", "count", "2", "restarts", "0"); p.s.Phase != phaseReport {
		t.Errorf("no restart, and yet it waits in %s", p.s.Phase)
	}
}

func TestApplyOutcomesAreToldApart(t *testing.T) {
	apply(t, false).result("not_accepted", "detail", "no").failed("not_accepted")
	apply(t, false).result("unreachable", "detail", "no").due().result("unreachable", "detail", "no").due().result("unreachable", "detail", "no").failed("unreachable")
	apply(t, false).result("", "count", "1").event(reported("label is cut")).failed("differs")
	e := appeared("2.0.1", "old")
	e.Facts["trouble"] = "wifi_refused"
	apply(t, false).result("", "count", "1", "restarts", "1").event(e).failed("went_back")
	p := apply(t, false).result("", "count", "1", "restarts", "1")
	for p.s.Status == Waiting {
		p.due()
		if len(p.s.Pending) > 0 {
			p.result("")
		}
	}
	p.failed("never_back")
	apply(t, true).due().failed("never_woke")
}

func TestApplyWaitsForTheWake(t *testing.T) {
	p := apply(t, true).phase(phaseWake)
	if p.s.Wait == nil || p.s.Wait.For != "wake" || !strings.Contains(p.s.Wait.What, "Press the button") {
		t.Fatalf("%+v", p.s.Wait)
	}
	p.event(Event{Kind: Woke}).phase(phaseWrite).result("asleep").phase(phaseWake) // it fell asleep before
	p.event(Event{Kind: Woke}).result("", "count", "1", "restarts", "1").phase(phaseAwait)
	p.event(appeared("2.0.1", "old")).event(reported("label is old")).phase(phaseWrite) // slept through: sent again at once
	p.result("", "count", "1", "restarts", "1").event(appeared("2.0.1", "old")).event(reported("")).phase(phaseTrip)
	p.result("asleep").phase(phaseTrip)
	if len(p.s.Pending) != 0 || p.s.Wait == nil {
		t.Fatalf("%+v", p.s)
	}
	p.event(Event{Kind: Woke}).result("", "seen", "x").phase(phaseAdopt)
	p = apply(t, true)
	for range 4 {
		if p.s.Phase == phaseWake {
			p.event(Event{Kind: Woke})
		}
		p.result("", "count", "1", "restarts", "1").event(appeared("2.0.1", "old")).event(reported("label is old"))
	}
	p.failed("differs") // it does not go on for ever
}

// world is a unit, the radio and the hub as the simulation plays them, with
// faults that come and go. It is no copy of the reducer: it knows only what a
// unit does.
type world struct {
	ready   bool // it was found on the intended firmware
	r       *rand.Rand
	now     time.Time
	inSetUp bool
	has     bool // settings
	joined  bool
	badPass bool
	runs    string
	backAt  time.Time
	dead    bool
	taking  bool
	writes  map[string]int
	awake   time.Time // of a unit that sleeps: until then
	kept    bool      // it holds what is applied
	mute    bool      // it does not tell the digest of what it runs
	pushed  map[string]int
	cut     bool // a transfer was cut short: nothing may be sent before somebody looks
}

// versions are what the images of the simulation say that they are.
var versions = map[string]string{"old": "2.0.1", "mid": "2.0.5", "new": "2.1.0"}

// runsNow is what the unit says that it runs.
func (w *world) runsNow() Event {
	if w.mute {
		return appeared(versions[w.runs], "")
	}
	return appeared(versions[w.runs], w.runs)
}

// push is a unit with one slot that is sent an image: an interruption leaves it dead.
func (w *world) push(s State, online bool, res func(string, ...string) []Event) []Event {
	if !online || w.chance(10) {
		return res("unreachable", "detail", "x")
	}
	if w.chance(5) {
		return res("not_accepted", "detail", "no room")
	}
	w.pushed[s.Update.Image]++
	w.backAt = w.now.Add(time.Duration(2+w.r.IntN(10)) * time.Second)
	switch w.r.IntN(10) {
	case 0:
		w.dead, w.cut = true, true
		return res("cut_short", "sent", "1", "detail", "x")
	case 1:
		w.cut = true
		return res("cut_short", "sent", "1", "detail", "x") // nothing of it was written
	}
	w.runs = s.Update.Image
	return res("")
}

// said is what the unit says of itself when it is asked, or wakes.
func (w *world) said(s State) []Event {
	e := w.runsNow()
	e.Facts["reply_to"] = "x"
	r := Event{Kind: Reported, Facts: pairs([]string{"reply_to", "x", "equal", "9"})}
	if s.Kind == Apply && !w.kept {
		r.Facts["differs"] = "label is old"
	}
	return []Event{e, r}
}

// write is a unit in service that is told settings.
func (w *world) write(s State, online bool, res func(string, ...string) []Event) []Event {
	switch {
	case s.Subject.Sleeps && !w.now.Before(w.awake):
		return res("asleep")
	case !online || w.chance(5):
		return res("unreachable", "detail", "x")
	case w.kept:
		return res("", "count", "0", "restarts", "0")
	case w.chance(3):
		return res("not_accepted", "detail", "x")
	case w.chance(15): // accepted and not kept, or slept through
		return res("", "count", "9", "restarts", "1")
	}
	w.kept = true
	w.backAt = w.now.Add(time.Duration(1+w.r.IntN(6)) * time.Second)
	return res("", "count", "9", "restarts", strconv.Itoa(w.r.IntN(2)))
}

func (w *world) chance(percent int) bool { return w.r.IntN(100) < percent }

// do carries out a command and returns the events that follow.
func (w *world) do(c Command, s State) []Event {
	res := func(code string, facts ...string) []Event {
		return []Event{{Kind: Result, Command: c.ID, Code: code, Facts: pairs(facts)}}
	}
	online := w.joined && !w.dead && w.now.After(w.backAt)
	switch c.Do {
	case DoContact, DoLookBack:
		if !w.inSetUp || w.dead || w.chance(5) {
			return res("not_seen")
		}
		trouble := "none"
		if w.has && w.badPass {
			trouble = "wifi_refused"
		}
		return res("", "hardware_id", hw, "model", "junco", "version", w.runs, "digest", w.runs, "trouble", trouble)
	case DoPrepare, DoAdopt, DoRoundTrip, DoFit, DoLink:
		if c.Do == DoRoundTrip && s.Subject.Sleeps && w.chance(30) {
			return res("asleep")
		}
		if w.chance(8) {
			return res("hub_down", "detail", "x", "sentence", "x")
		}
		return res("", "seen", "x", "account", "a", "sentence", "x", "until", "x")
	case DoBaseline:
		code := []string{"", "", "follows", "baseline", "internal"}[w.r.IntN(5)]
		w.ready = w.ready || code == ""
		return res(code, "seen", "x", "detail", "x")
	case DoHandOver:
		if w.chance(15) {
			return res("network_untried", "by", "another")
		}
		if w.chance(2) {
			return res("network_refused", "by", "another")
		}
		if !w.inSetUp || w.dead {
			return res("not_seen")
		}
		w.has, w.badPass = true, w.chance(15)
		w.backAt = w.now.Add(time.Duration(2+w.r.IntN(8)) * time.Second)
		if !w.badPass {
			w.inSetUp, w.joined = false, true
		}
		return res("", "count", "9")
	case DoWrite:
		return w.write(s, online, res)
	case DoAsk:
		out := res("")
		if online && !s.Subject.Sleeps && !w.chance(15) {
			out = append(out, w.said(s)...)
		}
		return out
	case DoOffer:
		if s.Subject.Way == ByPush {
			return w.push(s, online, res)
		}
		if s.Subject.Sleeps && !w.now.Before(w.awake) {
			return res("asleep")
		}
		out := res("")
		if !online || w.chance(10) {
			return out
		}
		if w.runs == s.Update.Image {
			// It took an earlier offer meanwhile: it fetches nothing and says so.
			return append(out, Event{Kind: Answered, Facts: pairs([]string{"command", strconv.Itoa(c.ID), "accepted", "true"})}, w.runsNow())
		}
		w.taking = true
		if s.Subject.Way == ByOrder {
			return out // it does not answer
		}
		return append(out, Event{Kind: Answered, Facts: pairs([]string{"command", strconv.Itoa(c.ID), "accepted", "true"})})
	}
	return res("internal")
}

// live lets the unit do something by itself.
func (w *world) live(s State) []Event {
	switch {
	case w.dead:
		return nil
	case w.taking:
		w.taking = false
		switch w.r.IntN(12) {
		case 0:
			return []Event{{Kind: Progress, Facts: pairs([]string{"phase", "failed", "reason", "x"})}}
		case 1:
			return nil // it stalls
		case 2:
			w.dead = true
		case 3:
			w.writes[s.Update.Image]++ // writes, does not start, goes back
		default:
			w.writes[s.Update.Image]++
			w.runs = s.Update.Image
		}
		w.backAt = w.now.Add(time.Duration(2+w.r.IntN(30)) * time.Second)
		if s.Subject.Way == ByOrder {
			return nil // it says nothing before it is back
		}
		return []Event{{Kind: Progress, Facts: pairs([]string{"phase", "fetching", "done", "10"})}, {Kind: Progress, Facts: pairs([]string{"phase", "restarting"})}}
	case w.joined && w.now.After(w.backAt) && s.Subject.Sleeps:
		if !w.chance(30) {
			return nil
		}
		w.awake = w.now.Add(4 * time.Second)
		said := w.said(s)
		return []Event{said[0], {Kind: Woke}, said[1]}
	case w.joined && w.now.After(w.backAt) && w.chance(50):
		return []Event{w.runsNow()}
	}
	return nil
}

// TestSimulation drives the reducers through random units, faults, operators
// and stops of the service between any two steps, and checks after each step
// what must always hold. FADO_SEED and FADO_STEPS choose another run.
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
	outcomes := map[string]int{}
	for n := 0; n < steps; seed++ {
		n += simulate(t, seed, outcomes)
		if t.Failed() {
			return
		}
	}
	for _, want := range []string{"commission done", "commission failed", "commission cancelled", "update succeeded", "update reverted", "update lost", "update failed", "apply done", "apply failed", "apply cancelled"} {
		if outcomes[want] == 0 {
			t.Errorf("no run ended as «%s»: %v", want, outcomes)
		}
	}
}

func simulate(t *testing.T, seed uint64, outcomes map[string]int) int {
	r := rand.New(rand.NewPCG(seed, 3))
	w := &world{r: r, now: start, inSetUp: true, runs: "old", writes: map[string]int{}, pushed: map[string]int{}, dead: r.IntN(20) == 0}
	about := subject()
	if r.IntN(3) == 0 {
		about.Sleeps, about.WakeUsual, about.Wake = true, 60, "Press the button."
	}
	about.Baseline = r.IntN(3) == 0
	s := NewCommission(about)
	switch r.IntN(3) {
	case 0:
		about.Adopted = r.IntN(2) == 0
		s = NewApply(about)
		w.inSetUp, w.joined, w.has = false, true, true
	case 1:
		about := about
		about.Digests, about.Way = true, ByOffer
		switch r.IntN(4) {
		case 0:
			about.Sleeps, about.Way, about.Risky, about.Digests, about.Reverts = false, ByPush, true, false, false
		case 1:
			about.Way, about.Digests = ByOrder, false
		case 2:
			about.Sleeps = false
		}
		if about.Sleeps {
			about.Way, about.Digests = ByOrder, false
		}
		w.mute = !about.Digests
		legs := []Leg{{"new", "2.1.0", 10}}
		if r.IntN(3) == 0 {
			legs = append([]Leg{{"mid", "2.0.5", 5}}, legs...)
		}
		s = NewUpdate(about, legs, "2.0.1", "old")
		w.inSetUp, w.joined, w.has = false, true, true
	}
	fail := func(format string, args ...any) {
		t.Errorf("seed %d, phase %s, status %s: %s", seed, s.Phase, s.Status, fmt.Sprintf(format, args...))
	}
	queue := []Event{{Kind: Started}}
	var pending []Command
	for step := 0; ; step++ {
		if step > 4000 {
			fail("the task does not come to an end")
			return step
		}
		w.now = w.now.Add(time.Duration(r.IntN(900)) * time.Millisecond)
		switch {
		case r.IntN(40) == 0: // the service is stopped: commands and queue are lost, the stored state is not
			b, _ := json.Marshal(s)
			var again State
			if err := json.Unmarshal(b, &again); err != nil {
				fail("the state cannot be read again: %v", err)
			}
			s, pending, queue = again, nil, []Event{{Kind: Resumed}}
		case r.IntN(400) == 0:
			queue = append(queue, Event{Kind: Cancel})
		case len(pending) > 0 && r.IntN(3) > 0:
			i := r.IntN(len(pending))
			for _, with := range []string{"radio", "unit"} {
				if r.IntN(4) == 0 {
					queue = append(queue, Event{Kind: Turn, Facts: pairs([]string{"with", with})})
				}
			}
			queue = append(queue, w.do(pending[i], s)...)
			pending = append(pending[:i], pending[i+1:]...)
		case r.IntN(4) == 0:
			queue = append(queue, w.live(s)...)
		}
		if len(queue) > 0 && r.IntN(10) == 0 {
			queue = append(queue, queue[0]) // a message comes twice
		}
		if n := len(queue); n > 1 && r.IntN(10) == 0 { // messages on two topics overtake one another
			i := r.IntN(n - 1)
			queue[i], queue[i+1] = queue[i+1], queue[i]
		}
		e := Event{Kind: Tick}
		if len(queue) > 0 {
			e, queue = queue[0], queue[1:]
		} else if len(pending) == 0 && !s.Due.IsZero() && s.Due.After(w.now) {
			w.now = s.Due
		}
		before := s
		var out []Command
		s, out = Next(s, e, w.now)
		pending = append(pending, out...)

		// What must always hold.
		for _, c := range out {
			if c.Do == DoOffer && s.Subject.Risky && (w.cut || w.runs == s.Update.Image) {
				fail("an image is sent again to a unit of which nobody knows what it runs")
			}
			if c.Do == DoOffer && s.Subject.Risky && c.Repeat != NeverRepeat {
				fail("a write that may kill the unit may be repeated")
			}
			if c.Do == DoOffer && s.Update.Told && s.Phase != phaseOffer {
				fail("an offer while the unit is taking the image")
			}
		}
		if before.Status.Over() && e.Kind != Retried && !reflect.DeepEqual(before, s) {
			fail("an ended task changed on %s", e.Kind)
		}
		if s.Status.Over() && (len(s.Pending) > 0 || len(out) > 0) {
			fail("an ended task has commands")
		}
		if !s.Status.Over() && len(s.Pending) == 0 && s.Due.IsZero() && s.Status != Queued {
			fail("nothing is pending and no time is waited for: it is stuck")
		}
		if s.Stage != "" && !s.Stage.AtLeast(before.Stage) {
			fail("the stage went back from %s to %s", before.Stage, s.Stage)
		}
		for image, n := range w.pushed {
			if n > 1 {
				fail("%s was sent %d times", image, n)
			}
		}
		if slices.ContainsFunc(out, func(c Command) bool { return c.Do == DoOffer }) && s.Seen.Digest == s.Update.Image {
			fail("a unit is offered the image that it is known to run")
		}
		if s.Stage == inventory.Adopted && s.Subject.Baseline && !w.ready && (s.Update == nil || s.Update.Outcome != Succeeded && s.Update.Outcome != Skipped) {
			fail("adopted, and not on the intended firmware")
		}
		if s.Kind == Apply && s.Status == Done && !w.kept {
			fail("applied, but the unit does not hold it")
		}
		if s.Update != nil && s.Update.Outcome == Succeeded && w.runs != "new" {
			fail("succeeded, but the unit runs %s", w.runs)
		}
		if t.Failed() {
			return step
		}
		if s.Status.Over() {
			word := string(s.Kind) + " " + string(s.Status)
			if s.Update != nil {
				word = "update " + string(s.Update.Outcome)
			}
			outcomes[word]++
			return step + 1
		}
	}
}
