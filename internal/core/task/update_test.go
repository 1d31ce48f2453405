package task

import (
	"testing"
)

func pushed(t *testing.T, legs ...Leg) *play {
	t.Helper()
	about := subject()
	about.Way, about.Risky, about.Reverts = ByPush, true, false
	if len(legs) == 0 {
		legs = []Leg{{"new", "2.1.0", 1000}}
	}
	return (&play{t: t, s: NewUpdate(about, legs, "2.0.1", ""), now: start}).event(Event{Kind: Started})
}

// says is a unit of a family that tells no digest.
func says(version string) Event {
	return Event{Kind: Appeared, Facts: pairs([]string{"hardware_id", hw, "version", version})}
}

func TestAPushIsProvenByTheUnitsOwnWord(t *testing.T) {
	p := pushed(t).offered()
	if c := p.out[0]; c.Do != DoOffer || c.Repeat != NeverRepeat || !p.s.Update.Told || p.s.Wait == nil {
		t.Fatalf("%+v %+v", c, p.s.Update)
	}
	if p.event(Event{Kind: Cancel}); p.s.Status == Cancelled {
		t.Error("a write that kills the unit when it is cut short was cancelled")
	}
	p.result("").phase(phaseProve)
	p.due().due().event(says("2.1.0")).phase(phaseAfter)
	p.event(Event{Kind: Reported, Facts: pairs([]string{"equal", "9"})}).phase(phaseTest).result("", "seen", "x")
	if p.s.Status != Done || p.s.Update.Outcome != Succeeded {
		t.Errorf("%+v", p.s)
	}
}

func TestWhatAPushCanEndIn(t *testing.T) {
	for name, c := range map[string]struct {
		play    func(p *play) *play
		code    string
		outcome Outcome
	}{
		"it says no": {func(p *play) *play { return p.result("not_accepted", "detail", "no room") }, "refused", FailedOut},
		"nobody there, three times": {func(p *play) *play {
			return p.result("unreachable", "detail", "x").due().result("unreachable", "detail", "x").due().result("unreachable", "detail", "x")
		}, "unreachable", FailedOut},
		"another unit there": {func(p *play) *play { return p.result("other_unit", "hardware_id", "02:00:00:00:00:01") }, "other_unit", FailedOut},
		"cut short, and it lives": {func(p *play) *play {
			return p.result("cut_short", "sent", "1", "detail", "x").due().due().event(says("2.0.1"))
		}, "not_taken", FailedOut},
		"another version came back": {func(p *play) *play { return p.result("").due().due().event(says("9.9.9")) }, "something_else", FailedOut},
		"another model came back": {func(p *play) *play {
			e := says("2.1.0")
			e.Facts["model"] = "sobro-um"
			return p.result("").due().event(e)
		}, "became_other", FailedOut},
		"it settles in without a word": {func(p *play) *play {
			p.result("cut_short", "sent", "1", "detail", "x")
			for p.s.Status == Waiting {
				p.due()
				if len(p.s.Pending) > 0 {
					p.result("")
				}
			}
			return p
		}, "lost", Lost},
		"stopped in the middle, old": {func(p *play) *play {
			return p.event(Event{Kind: Resumed}).phase(phaseProve).result("").due().due().event(says("2.0.1"))
		}, "not_taken", FailedOut},
	} {
		t.Run(name, func(t *testing.T) {
			p := c.play(pushed(t).offered())
			p.failed(c.code)
			if p.s.Update.Outcome != c.outcome {
				t.Errorf("%s, want %s", p.s.Update.Outcome, c.outcome)
			}
		})
	}
	p := pushed(t).offered().event(Event{Kind: Resumed})
	for _, c := range p.out {
		if c.Do == DoOffer {
			t.Error("an image was sent again after a stop")
		}
	}
	p.result("").event(says("2.1.0")).phase(phaseAfter)
}

func TestARouteIsWalkedLegByLeg(t *testing.T) {
	p := pushed(t, Leg{"small", "2.1.0-small", 300}, Leg{"new", "2.1.0", 1000}).offered()
	p.result("").due().event(says("2.1.0-small")).phase(phaseFit)
	if p.s.Update.At != 1 || p.s.Update.Image != "new" || p.s.Update.Told || p.s.Update.Before != "2.1.0-small" {
		t.Fatalf("%+v", p.s.Update)
	}
	p.offered().result("").due().event(says("2.1.0")).phase(phaseAfter)
	// A failure on the way is taken up where it stands.
	p = pushed(t, Leg{"small", "2.1.0-small", 300}, Leg{"new", "2.1.0", 1000}).offered().result("").due().event(says("2.1.0-small")).offered()
	p.result("not_accepted", "detail", "x").failed("refused")
	if p.event(Event{Kind: Retried}).phase(phaseFit); p.s.Update.At != 1 || p.s.Update.Image != "new" {
		t.Fatalf("%+v", p.s.Update)
	}
}

func TestASleepingUnitTakesItAtItsWake(t *testing.T) {
	about := subject()
	about.Way, about.Sleeps, about.WakeUsual, about.Wake, about.Reverts = ByOrder, true, 60, "Press the button.", false
	fresh := func() *play {
		p := (&play{t: t, s: NewUpdate(about, []Leg{{"new", "2.1.0", 1000}}, "2.0.1", ""), now: start}).event(Event{Kind: Started}).offered()
		if len(p.out) != 0 || p.s.Wait == nil || p.s.Wait.For != ForWake {
			t.Fatalf("it was offered to a unit that sleeps: %+v", p.out)
		}
		return p
	}
	p := fresh().event(Event{Kind: Woke})
	if len(p.out) != 1 || p.out[0].Do != DoOffer {
		t.Fatalf("%+v", p.out)
	}
	p.result("").phase(phaseTake).event(says("2.1.0")).phase(phaseAfter)
	p = fresh().event(Event{Kind: Woke}).result("asleep").phase(phaseOffer).event(Event{Kind: Woke}).result("").phase(phaseTake)
	p.event(says("2.0.1")).phase(phaseTake) // said in the same wake
	p.now = p.now.Add(61 * 1e9)
	if p.event(says("2.0.1")).phase(phaseOffer); len(p.out) != 1 || p.out[0].Do != DoOffer {
		t.Fatalf("slept through, and not told again: %+v", p.out)
	}
	fresh().due().failed("never_woke")
	// That it is being sent the image says that it took the offer, and nothing of its wake.
	served := Event{Kind: Progress, Facts: pairs([]string{"phase", "served", "done", "500"})}
	p = fresh().event(Event{Kind: Woke}).event(served).phase(phaseTake)
	before := p.s.Due
	if p.now = p.now.Add(30 * 1e9); p.event(served).s.Due != before || p.s.Update.Done != 500 {
		t.Errorf("due %v, was %v; %d bytes", p.s.Due, before, p.s.Update.Done)
	}
	about.Sleeps = false // awake, it is not taken for silent
	p = (&play{t: t, s: NewUpdate(about, []Leg{{"new", "2.1.0", 1000}}, "2.0.1", ""), now: start}).event(Event{Kind: Started}).offered()
	p.event(served).phase(phaseTake)
	for range 10 {
		p.now = p.now.Add(50 * 1e9)
		if p.event(served).event(Event{Kind: Tick}); len(p.out) != 0 {
			t.Errorf("it was asked in the middle of its download: %+v", p.out)
		}
	}
}
