package task

import (
	"cmp"
	"maps"
	"time"

	"fado/internal/core/inventory"
)

// The phases of commissioning; each is a visible step of the same name.
const (
	phaseContact  = "contact"
	phasePrepare  = "prepare"
	phaseHandOver = "hand over"
	phaseAwait    = "await"
	phaseReport   = "read back"
	phaseTrip     = "round trip"
	phaseBaseline = "baseline"
	phaseAdopt    = "adopt"
)

// NewCommission plans commissioning.
func NewCommission(s Subject) State {
	steps := []Step{
		{Name: phaseContact, Title: "Join its access point and identify it", State: StepAhead},
		{Name: phasePrepare, Title: "Make its broker account and try it", State: StepAhead},
		{Name: phaseHandOver, Title: "Hand over the settings", State: StepAhead},
		{Name: phaseAwait, Title: "Wait for its restart and see it on the broker", State: StepAhead},
		{Name: phaseReport, Title: "Read the settings back", State: StepAhead},
		{Name: phaseTrip, Title: "Command and state, there and back", State: StepAhead},
	}
	if s.Baseline {
		steps = append(steps, Step{Name: phaseBaseline, Title: "Is it on the intended firmware?", State: StepAhead})
	}
	steps = append(steps, Step{Name: phaseAdopt, Title: "Adopt it into the hub", State: StepAhead})
	return State{Kind: Commission, Status: Queued, Subject: s, Stage: inventory.Listed, Steps: steps}
}

func (m *machine) commissionEnter(phase string) {
	m.enter(phase)
	switch phase {
	case phaseContact:
		m.command(DoContact, Repeatable)
	case phasePrepare:
		m.command(DoPrepare, Repeatable)
	case phaseHandOver:
		m.command(DoHandOver, LookFirst)
	case phaseAwait:
		left := m.now
		m.Seen.Left, m.Seen.Live = &left, false
		what := "Its restart, and its first message on the broker."
		if m.Subject.ByHand {
			what += " Join the home's network again with this machine, if the broker is not reached without."
		}
		m.wait(forRestart, what, m.boot(), m.joinLimit(),
			"Fado looks whether its access point is back and asks it why.")
		m.due(m.boot() * 3 / 2)
	case phaseReport:
		m.askAgain()
	case phaseTrip:
		m.command(DoRoundTrip, Repeatable)
	case phaseBaseline:
		m.command(DoBaseline, Repeatable)
	case phaseAdopt:
		m.command(DoAdopt, Repeatable)
	}
}

// byHandTime is how long a person may take to join an access point.
const byHandTime = 15 * time.Minute

// starting waits for the access point of a unit that may have been given its
// power just now. It is false when that was waited for long enough.
func (m *machine) starting() bool {
	if m.Wait == nil || m.Wait.For != forPerson {
		until := max(3*m.boot(), 45*time.Second)
		if m.Subject.ByHand {
			until = byHandTime
		}
		m.wait(forPerson, "Its access point. "+m.Subject.SetUp, m.boot(), until, "The task ends and says so; it can be tried again once the unit is in set-up mode.")
	}
	if !m.now.Before(m.Wait.Until) {
		m.Tries = 3 // it was looked for often enough
		return false
	}
	m.due(2 * time.Second)
	return true
}

// askAgain asks for a report. A unit that sleeps gives it at its wake.
func (m *machine) askAgain() {
	m.command(DoAsk, Repeatable)
	if m.Subject.Sleeps {
		if !m.asleep(m.wakeLimit(), m.wakeLimit()) {
			m.fail("never_woke", nil)
		}
		return
	}
	m.due(m.patience())
}

// joinLimit is how long a unit may stay away after the hand-over: long enough
// for one that tries a wrong passphrase several times to come back and say so.
func (m *machine) joinLimit() time.Duration { return max(m.boot()*6, 90*time.Second) }

func (m *machine) commissionResult(c Command, e Event) {
	if m.Wait.brief() || m.Wait != nil && m.Wait.For == forFirst {
		m.Status, m.Wait = Running, nil
	}
	switch c.Do {
	case DoContact:
		switch {
		case e.Code == "joined":
			// It was given up, and joined by itself with what it had been handed.
			m.Seen.HardwareID, m.Seen.Version, m.Seen.Digest, m.Seen.Live = e.Facts["hardware_id"], e.Facts["version"], e.Facts["digest"], true
			m.stage(inventory.Joined)
			m.note("Its access point is gone: it has joined by itself meanwhile.")
			m.commissionEnter(phaseReport)
		case e.Code == "not_seen" && m.Subject.Sleeps && m.asleep(m.wakeLimit(), 2*time.Second):
		case e.Code == "not_seen" && !m.Subject.Sleeps && m.starting():
		case e.Code != "":
			m.retryOr(e, 3)
		case m.Subject.HardwareID != "" && e.Facts["hardware_id"] != m.Subject.HardwareID:
			m.fail("other_unit", e.Facts)
		case e.Facts["model"] != "" && e.Facts["model"] != m.Subject.Model:
			m.fail("other_model", e.Facts)
		default:
			m.Seen.HardwareID, m.Seen.Version, m.Seen.Digest = e.Facts["hardware_id"], e.Facts["version"], e.Facts["digest"]
			m.stage(inventory.Contacted)
			m.note("%s, firmware %s. %s", m.Seen.HardwareID, m.Seen.Version, e.Facts["hears"])
			m.commissionEnter(phasePrepare)
		}
	case DoPrepare:
		if e.Code != "" {
			m.retryOr(e, 3)
			return
		}
		m.note("Account %s is live and was tried.", e.Facts["account"])
		m.commissionEnter(phaseHandOver)
	case DoHandOver:
		switch {
		case e.Code == "not_seen" && c.Again:
			// Its access point is gone: it may have left with the settings
			// just before the service stopped.
			m.note("Its access point is gone; it may have left with the settings.")
			m.commissionEnter(phaseAwait)
		case e.Code == "not_seen" && m.Subject.Sleeps && m.asleep(m.wakeLimit(), 2*time.Second):
		case e.Code == "network_untried":
			m.wait(forFirst, e.Facts["by"]+" tries the passphrase of «"+m.Subject.Network+"» first.", m.boot(), m.joinLimit(),
				"It is handed its settings once the passphrase has proven right; if it is wrong, it does not leave with it.")
			m.due(2 * time.Second)
		case e.Code != "":
			m.retryOr(e, 2)
		default:
			again := ""
			if m.Seen.Repeated {
				again = " once more, because it had not kept them"
			}
			m.Seen.Handed = true
			m.note("%s settings sent%s; it accepted them.", e.Facts["count"], again)
			m.commissionEnter(phaseAwait)
		}
	case DoLookBack:
		m.lookedBack(e)
	case DoAsk:
		// The answer comes as a message, not as the result of sending.
	case DoRoundTrip:
		if m.tripped(e) {
			m.stage(inventory.Reporting)
			next := phaseAdopt
			if m.Subject.Baseline {
				next = phaseBaseline
			}
			m.commissionEnter(next)
		}
	case DoBaseline:
		switch e.Code {
		case "":
			m.note("%s", e.Facts["seen"])
			m.commissionEnter(phaseAdopt)
		case "follows": // an update that adopts it when it has succeeded
			m.note("%s", e.Facts["seen"])
			m.Steps[len(m.Steps)-1].Note = "Once the update has succeeded."
			m.done()
		default:
			m.retryOr(e, 3)
		}
	case DoAdopt:
		if m.adopted(e) {
			m.stage(inventory.Adopted)
			m.done()
		}
	}
}

// tripAtWake makes the round trip that a unit which sleeps was waited for with.
func (m *machine) tripAtWake() {
	if m.Phase == phaseTrip && !m.pending(DoRoundTrip) {
		m.command(DoRoundTrip, Repeatable)
	}
}

// tripped takes in a round trip and reports whether it was made.
func (m *machine) tripped(e Event) bool {
	if e.Code == "asleep" {
		if !m.asleep(m.wakeLimit(), m.wakeLimit()) {
			m.fail("no_reading", e.Facts)
		}
		return false
	}
	if e.Code != "" {
		m.retryOr(e, 3)
		return false
	}
	m.note("%s", e.Facts["seen"])
	return true
}

// adopted takes in what the hub said and reports whether it has the thing.
func (m *machine) adopted(e Event) bool {
	if e.Code != "" {
		m.retryOr(e, 4)
		return false
	}
	m.note("%s", e.Facts["seen"])
	return true
}

func (m *machine) lookedBack(e Event) {
	if m.Phase != phaseAwait {
		return
	}
	switch {
	case e.Code == "joined":
		m.Seen.Live = true
		m.stage(inventory.Joined)
		m.note("It is on the broker as %s, though nothing was heard of it yet.", e.Facts["account"])
		m.commissionEnter(phaseReport)
	case e.Code == "" && e.Facts["trouble"] != "" && e.Facts["trouble"] != "none":
		facts := maps.Clone(e.Facts)
		facts["heard"] = cmp.Or(facts["hears"], "Its firmware does not tell which networks it hears.")
		m.fail("came_back_"+facts["trouble"], facts)
	case e.Code == "" && m.Tries >= 2 && m.Seen.Repeated:
		m.fail("stayed", e.Facts)
	case e.Code == "" && m.Tries >= 2:
		// It did not keep them: its power failed, or it hung. Or they never reached it,
		// when the service stopped just then, and it was asleep when that came back.
		m.Seen.Repeated = m.Seen.Handed
		m.commissionEnter(phaseHandOver)
	case !m.now.Before(m.Wait.Until) && e.Facts["refused"] != "":
		m.fail("refused_by_broker", e.Facts)
	case !m.now.Before(m.Wait.Until) && e.Facts["topic"] != "":
		m.fail("other_topic", e.Facts)
	case !m.now.Before(m.Wait.Until) && e.Facts["address"] != "":
		m.fail("no_broker", e.Facts)
	case !m.now.Before(m.Wait.Until):
		m.fail("never_joined", e.Facts)
	default:
		if e.Code == "" {
			m.Tries++
		}
		m.due(m.boot())
	}
}

func (m *machine) commissionMessage(e Event) {
	switch e.Kind {
	case Appeared:
		if e.Facts["hardware_id"] != m.Seen.HardwareID {
			return
		}
		m.seen(e)
		if m.Phase != phaseAwait {
			return
		}
		m.Seen.Live = true
		if m.Seen.Left != nil {
			m.Seen.BootTook = m.now.Sub(*m.Seen.Left).Seconds()
		}
		m.stage(inventory.Joined)
		m.note("Seen on the broker after %.1f s.", m.Seen.BootTook)
		m.Pending = nil
		m.commissionEnter(phaseReport)
	case Woke:
		m.tripAtWake()
	case Turn:
		// The wake of a unit that sleeps is waited for through all of this.
		switch {
		case m.Subject.Sleeps || m.Phase != phaseContact && m.Phase != phaseHandOver || len(m.Pending) == 0:
		case e.Facts["with"] == "unit" && m.Phase == phaseHandOver:
			m.Status = Running
			m.show(forUnit, "Do not touch it, and leave its power on: it is being handed its settings.", "It restarts, and Fado waits for it on the broker.")
		case e.Facts["with"] == "radio" && (m.Wait == nil || m.Wait.For == forFirst):
			m.Status = Waiting
			m.show(forTurn, "The radio, which joins one access point at a time.", "It is joined.")
		}
	case Reported:
		if m.Phase != phaseReport {
			return
		}
		if e.Facts["differs"] != "" {
			m.fail("differs", e.Facts)
			return
		}
		m.stage(inventory.Configured)
		m.note("%s settings read back equal.", e.Facts["equal"])
		m.Pending = nil
		m.commissionEnter(phaseTrip)
	}
}

func (m *machine) commissionTick() {
	switch m.Phase {
	case phaseAwait:
		if !m.pending(DoLookBack) {
			m.command(DoLookBack, Repeatable)
		}
	case phaseReport:
		m.Tries++
		if m.Tries > 3 {
			m.fail("silent", nil)
			return
		}
		m.askAgain()
	default:
		m.again()
	}
}

// seen takes in what a unit says of itself. Families that say it in several
// messages leave the rest as it was.
func (m *machine) seen(e Event) {
	if v := e.Facts["version"]; v != "" {
		m.Seen.Version = v
	}
	if v := e.Facts["digest"]; v != "" {
		m.Seen.Digest = v
	}
}

func (m *machine) stage(s inventory.Stage) {
	if s.AtLeast(m.Stage) {
		m.Stage = s
	}
}

// retryOr tries a command again after a pause that doubles, or fails when it
// was tried often enough or trying again cannot help.
func (m *machine) retryOr(e Event, tries int) {
	m.Tries++
	if m.Tries >= tries || hopeless[e.Code] {
		m.fail(e.Code, e.Facts)
		return
	}
	m.note("Try %d did not work; another one follows.", m.Tries)
	m.due(time.Second << m.Tries)
}

// patiently marks the last command as one that may look out for a while.
func (m *machine) patiently(on bool) {
	m.Pending[len(m.Pending)-1].Patient, m.out[len(m.out)-1].Patient = on, on
}

// again repeats the command of the phase after the pause of retryOr.
func (m *machine) again() {
	if len(m.Pending) > 0 {
		return
	}
	switch m.Phase {
	case phaseContact:
		m.command(DoContact, Repeatable)
		m.patiently(m.Wait != nil)
	case phasePrepare:
		m.command(DoPrepare, Repeatable)
	case phaseHandOver:
		m.command(DoHandOver, LookFirst)
		m.patiently(m.Wait != nil && m.Wait.For == ForWake)
		again := m.Wait == nil // after a wait for its wake nothing was sent yet
		m.Pending[len(m.Pending)-1].Again, m.out[len(m.out)-1].Again = again, again
	case phaseWrite:
		m.command(DoWrite, LookFirst)
	case phaseTrip:
		m.command(DoRoundTrip, Repeatable)
	case phaseBaseline:
		m.command(DoBaseline, Repeatable)
	case phaseAdopt:
		m.command(DoAdopt, Repeatable)
	case phaseLink:
		m.command(DoLink, Repeatable)
	case phaseChecks:
		m.command(DoCheck, Repeatable)
	}
}
