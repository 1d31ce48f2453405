package task

import (
	"strings"
	"testing"
	"time"

	"fado/internal/core/inventory"
)

// TestWhatDoesNotComeBackIsToldApart: by what was seen of it elsewhere, and only
// once it was waited for.
func TestWhatDoesNotComeBackIsToldApart(t *testing.T) {
	for code, facts := range map[string][]string{
		"refused_by_broker": {"refused", "its password is wrong", "address", "192.168.40.9", "where", "x"},
		"other_topic":       {"topic", "antiga/rega", "address", "192.168.40.9"},
		"no_broker":         {"address", "192.168.40.9"},
		"never_joined":      {},
	} {
		p := commission(t).toAwait()
		for n := 0; p.s.Status == Waiting; n++ {
			p.due().result("not_seen", facts...)
			if n == 0 && p.s.Status != Waiting {
				t.Errorf("%s: it was not waited for: %+v", code, p.s.Failure)
			}
		}
		p.failed(code)
		for i := 1; i < len(facts); i += 2 {
			if said := p.s.Failure.What; facts[i-1] != "where" && i == 1 && !strings.Contains(said, facts[i]) {
				t.Errorf("%s does not say %q: %s", code, facts[i], said)
			}
		}
	}
	commission(t).result("elsewhere", "where", "it is in the home's network at 192.168.40.9").failed("elsewhere")
	commission(t).result("others_unit", "hardware_id", hw, "holder", "Rega").failed("others_unit")
}

// TestAPersonIsGivenTime: to join an access point with their own means.
func TestAPersonIsGivenTime(t *testing.T) {
	s := subject()
	s.ByHand, s.SetUp = true, "Join its access point «x» with this machine."
	p := (&play{t: t, s: NewCommission(s), now: start}).event(Event{Kind: Started})
	for p.now.Sub(start) < 14*time.Minute {
		p.result("not_seen").phase(phaseContact)
		if p.s.Wait == nil || p.s.Wait.For != forPerson || !strings.Contains(p.s.Wait.What, "«x»") {
			t.Fatalf("%+v", p.s)
		}
		p.due()
	}
	p.toAwait()
	if !strings.Contains(p.s.Wait.What, "home's network again") {
		t.Errorf("%+v", p.s.Wait)
	}
}

func TestARetryMayWaitForItsTurn(t *testing.T) {
	p := commission(t).result("key_refused")
	p.s.Status, p.s.Failure = Queued, nil // as it is kept while the bench is full
	p.event(Event{Kind: Started}).phase(phaseContact)
	if p.s.Attempt != 2 || p.s.Status != Running || len(p.s.Pending) != 1 {
		t.Errorf("%+v", p.s)
	}
}

func checks(t *testing.T, s Subject) *play {
	return (&play{t: t, s: NewCheck(s), now: start}).event(Event{Kind: Started})
}

func TestChecksAreMadeOnce(t *testing.T) {
	p := checks(t, subject()).phase(phaseChecks).result("", "note", "11 checks hold.")
	if p.s.Status != Done || p.s.Steps[0].Note != "11 checks hold." {
		t.Errorf("%+v", p.s)
	}
	p = checks(t, subject()).result("internal").due().result("internal").due().result("", "note", "x")
	if p.s.Status != Done {
		t.Errorf("%+v", p.s)
	}
	if p = checks(t, subject()).event(Event{Kind: Cancel}); p.s.Status != Cancelled || len(p.s.Pending) > 0 {
		t.Errorf("%+v", p.s)
	}
	p = checks(t, subject())
	p.out = nil
	if p.event(Event{Kind: Resumed}); len(p.s.Pending) != 1 || p.s.Pending[0].Do != DoCheck {
		t.Errorf("after a stop of the service: %+v", p.s)
	}
}

func TestAUnitThatSleepsIsCheckedAtItsWake(t *testing.T) {
	s := subject()
	s.Sleeps, s.WakeUsual, s.Wake = true, 300, "Press its button."
	p := checks(t, s).phase(phaseWake)
	if p.s.Status != Waiting || p.s.Wait.For != ForWake || len(p.s.Pending) > 0 {
		t.Fatalf("%+v", p.s)
	}
	p.event(Event{Kind: Woke}).phase(phaseChecks).result("asleep").phase(phaseWake) // it slept in again
	p.event(Event{Kind: Resumed}).result("").phase(phaseWake)                       // an ask after a stop of the service
	if p.event(Event{Kind: Woke}).result("", "note", "8 checks hold."); p.s.Status != Done {
		t.Errorf("%+v", p.s)
	}
	checks(t, s).due().failed("never_woke")
}

// TestASessionIsAJoin: a unit that is connected under its own account has joined,
// even when what it said first was lost.
func TestASessionIsAJoin(t *testing.T) {
	p := commission(t).toAwait().due().result("joined", "account", "unit-1").phase(phaseReport)
	if !p.s.Seen.Live || p.s.Stage != inventory.Joined {
		t.Errorf("%+v", p.s)
	}
}

func TestAUnitWithoutReadingsIsNamed(t *testing.T) {
	s := subject()
	s.Sleeps, s.WakeUsual, s.Wake = true, 300, "Press its button."
	p := (&play{t: t, s: NewCommission(s), now: start}).event(Event{Kind: Started}).toAwait()
	p.event(Event{Kind: Appeared, Facts: pairs([]string{"hardware_id", hw})}).event(Event{Kind: Reported, Facts: pairs([]string{"equal", "9"})}).phase(phaseTrip)
	for n := 0; p.s.Status != Failed; n++ {
		if p.result("asleep"); p.s.Status != Failed {
			p.due()
		}
		if n > 9 {
			t.Fatal("it is waited for without end")
		}
	}
	p.failed("no_reading")
}
