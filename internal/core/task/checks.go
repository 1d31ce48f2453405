package task

// phaseChecks is the phase in which all checks of a sign-off are made.
const phaseChecks = "checks"

// NewCheck plans the checks of a unit in service. They change nothing, and give way
// to whatever else is to be done with the unit.
func NewCheck(s Subject) State {
	var steps []Step
	if s.Sleeps {
		steps = append(steps, Step{Name: phaseWake, Title: "Wait for its wake", State: StepAhead})
	}
	return State{Kind: Check, Status: Queued, Subject: s, Seen: Seen{HardwareID: s.HardwareID},
		Steps: append(steps, Step{Name: phaseChecks, Title: "Make the checks of a sign-off", State: StepAhead})}
}

func (m *machine) checkEnter(phase string) {
	m.enter(phase)
	if phase == phaseWake {
		m.asleep(m.wakeLimit(), m.wakeLimit())
		return
	}
	m.command(DoCheck, Repeatable)
}

func (m *machine) checkResult(c Command, e Event) {
	switch {
	case c.Do != DoCheck: // an ask after a restart of the service; it answers by waking
	case e.Code == "asleep" && m.Subject.Sleeps:
		m.checkEnter(phaseWake)
	case e.Code != "":
		m.retryOr(e, 3)
	default:
		m.note("%s", e.Facts["note"])
		m.done()
	}
}

func (m *machine) checkMessage(e Event) {
	if e.Kind == Woke && m.Phase == phaseWake {
		m.note("It woke.")
		m.checkEnter(phaseChecks)
	}
}

func (m *machine) checkTick() {
	if m.Phase == phaseWake {
		m.fail("never_woke", nil)
		return
	}
	m.again()
}
