package task

import "strconv"

// The phases of applying changed settings that commissioning does not have.
const (
	phaseWake  = "wake"
	phaseWrite = "write"
)

// NewApply plans to bring a unit in service to what is intended.
func NewApply(s Subject) State {
	var steps []Step
	add := func(name, title string) { steps = append(steps, Step{Name: name, Title: title, State: StepAhead}) }
	if s.Sleeps {
		add(phaseWake, "Wait for its wake")
	}
	add(phaseWrite, "Write what differs")
	add(phaseAwait, "Wait for its restart")
	add(phaseReport, "Read the settings back")
	add(phaseTrip, "Command and state, there and back")
	if s.Adopted {
		add(phaseAdopt, "Bring the hub up to date")
	}
	return State{Kind: Apply, Status: Queued, Subject: s, Steps: steps}
}

func (m *machine) applyEnter(phase string) {
	m.enter(phase)
	switch phase {
	case phaseWake:
		m.asleep(m.wakeLimit(), m.wakeLimit())
	case phaseWrite:
		m.command(DoWrite, LookFirst)
	case phaseAwait:
		left := m.now
		m.Seen.Left, m.Seen.Live = &left, false
		if m.Subject.Sleeps {
			// A save that it slept through shows at its next wake.
			m.wait(forRestart, "Its restart, or its next wake.", m.boot(), m.wakeLimit(), "The task ends and says so.")
			m.due(m.wakeLimit())
			return
		}
		m.wait(forRestart, "Its restart, and its first message on the broker.", m.boot(), m.joinLimit(), "Fado asks it over the broker and says how it stands.")
		m.due(m.boot() * 3)
	case phaseReport:
		m.askAgain()
	case phaseTrip:
		m.command(DoRoundTrip, Repeatable)
	case phaseAdopt:
		m.command(DoAdopt, Repeatable)
	}
}

func (m *machine) applyResult(c Command, e Event) {
	switch c.Do {
	case DoWrite:
		m.written(e)
	case DoAsk:
		// The answer comes as a message, not as the result of sending.
	case DoRoundTrip:
		switch {
		case !m.tripped(e):
		case m.Subject.Adopted:
			m.applyEnter(phaseAdopt)
		default:
			m.done()
		}
	case DoAdopt:
		if m.adopted(e) {
			m.done()
		}
	}
}

func (m *machine) written(e Event) {
	restarts, _ := strconv.Atoi(e.Facts["restarts"])
	switch {
	case e.Code == "asleep" && m.Subject.Sleeps:
		m.applyEnter(phaseWake)
	case e.Code != "":
		m.retryOr(e, 3)
	case e.Facts["count"] == "0":
		m.note("It holds everything as intended; nothing was sent.")
		m.skip(phaseAwait)
		m.applyEnter(phaseReport)
	case restarts > 0:
		m.note("%s settings sent; it accepted them.", e.Facts["count"])
		m.applyEnter(phaseAwait)
	default:
		m.note("%s settings sent; it accepted them.", e.Facts["count"])
		m.skip(phaseAwait)
		m.applyEnter(phaseReport)
	}
}

// skip marks a step that is not needed as done.
func (m *machine) skip(name string) {
	for i := range m.Steps {
		if m.Steps[i].Name == name {
			at := m.now
			m.Steps[i].State, m.Steps[i].Began, m.Steps[i].Ended, m.Steps[i].Note = StepDone, &at, &at, "Not needed."
		}
	}
}

func (m *machine) applyMessage(e Event) {
	switch e.Kind {
	case Appeared:
		if m.Subject.HardwareID != "" && e.Facts["hardware_id"] != m.Subject.HardwareID {
			return
		}
		m.seen(e)
		if m.Phase != phaseAwait {
			return
		}
		if t := e.Facts["trouble"]; t != "" && t != "none" {
			m.fail("went_back", e.Facts)
			return
		}
		m.Seen.Live = true
		if m.Seen.Left != nil && m.Tries == 0 {
			m.Seen.BootTook = m.now.Sub(*m.Seen.Left).Seconds()
		}
		m.note("Back on the broker after %.1f s.", m.now.Sub(*m.Seen.Left).Seconds())
		m.Pending = nil
		m.applyEnter(phaseReport)
	case Woke:
		if m.Phase == phaseWake {
			m.note("It woke.")
			m.applyEnter(phaseWrite)
			return
		}
		m.tripAtWake()
	case Answered:
		if e.Facts["accepted"] == "false" && (m.Phase == phaseAwait || m.Phase == phaseWrite) {
			m.fail("not_accepted", map[string]string{"detail": e.Facts["reason"]})
		}
	case Reported:
		if m.Phase != phaseReport {
			return
		}
		if e.Facts["differs"] != "" {
			if m.Subject.Sleeps && m.Seen.Missed < 3 {
				m.Seen.Missed++
				// It slept through what was sent; the next wake takes it.
				m.note("It still says %s; it slept through what was sent.", e.Facts["differs"])
				m.Pending = nil
				m.applyEnter(phaseWrite) // it is awake now
				return
			}
			m.fail("differs", e.Facts)
			return
		}
		m.note("%s settings read back equal.", e.Facts["equal"])
		m.Pending = nil
		m.applyEnter(phaseTrip)
	}
}

func (m *machine) applyTick() {
	switch m.Phase {
	case phaseWake:
		m.fail("never_woke", nil)
	case phaseAwait:
		if !m.now.Before(m.Wait.Until) {
			m.fail("never_back", nil)
			return
		}
		m.Tries++
		if !m.pending(DoAsk) {
			m.command(DoAsk, Repeatable)
		}
		m.due(m.boot() * 2)
	case phaseReport:
		m.Tries++
		if m.Tries > 3 || m.Subject.Sleeps {
			m.fail("silent", nil)
			return
		}
		m.askAgain()
	default:
		m.again()
	}
}
