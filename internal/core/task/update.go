package task

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"fado/internal/core/check"
	"fado/internal/core/inventory"
)

// The phases of an update; each is a visible step of the same name.
const (
	phaseFit   = "fit"
	phaseLink  = "link"
	phaseOffer = "offer"
	phaseTake  = "take"
	phaseProve = "prove"
	phaseAfter = "read back"
	phaseTest  = "round trip"
)

// stall is how long a unit may be silent while it takes an image.
const stall = 60 * time.Second

// How a unit is brought to take an image.
const (
	ByOffer = "offer" // it is told by a message, and says whether it accepts
	ByOrder = "order" // it is told, and does not answer
	ByPush  = "push"  // the image is sent to it
)

// Leg is one image on the way to the one that is wanted.
type Leg struct {
	Image   string `json:"image"` // SHA-256
	Version string `json:"version"`
	Size    int64  `json:"size"`
}

// NewUpdate plans an update over the legs of a route, the last of which is the image
// that is wanted.
func NewUpdate(s Subject, legs []Leg, from, fromDigest string) State {
	titles := map[string]string{ByPush: "Send the image", ByOrder: "Tell it to take the image"}
	offer := titles[s.Way]
	if offer == "" {
		offer = "Offer the image"
	}
	if s.Sleeps {
		offer += ", at its wake"
	}
	m := &machine{State: State{Kind: Update, Status: Queued, Subject: s,
		Update: &UpdateState{Legs: legs, From: from, FromSum: fromDigest, Outcome: Planned, Wanted: legs[len(legs)-1].Version},
		Seen:   Seen{HardwareID: s.HardwareID, Version: from, Digest: fromDigest},
		Steps: []Step{
			{Name: phaseFit, Title: "Does the image suit this unit?", State: StepAhead},
			{Name: phaseLink, Title: "Sign a download link for it", State: StepAhead},
			{Name: phaseOffer, Title: offer, State: StepAhead},
			{Name: phaseTake, Title: "It fetches and writes the image", State: StepAhead},
			{Name: phaseProve, Title: "It restarts and says what it runs", State: StepAhead},
			{Name: phaseAfter, Title: "Read the settings back", State: StepAhead},
			{Name: phaseTest, Title: "Command and state, there and back", State: StepAhead},
		}}}
	if s.Baseline && !s.Adopted {
		m.Steps = append(m.Steps, Step{Name: phaseAdopt, Title: "Adopt it into the hub", State: StepAhead})
	}
	if s.Way == ByPush {
		m.Steps[3].Title = "It writes the image"
		m.Steps[1].Title = "Have the image ready, and the site to itself"
	}
	m.leg(0)
	return m.State
}

// leg takes up one leg of the route.
func (m *machine) leg(n int) {
	u, l := m.Update, m.Update.Legs[n]
	u.At, u.Image, u.Version, u.Of, u.Done = n, l.Image, l.Version, l.Size, 0
	u.Told, u.Offers, u.OfferID, u.Since = false, 0, 0, m.NextID
	u.Before, u.BeforeSum = m.Seen.Version, m.Seen.Digest
}

// legText names the leg where there are several.
func (m *machine) legText() string {
	if n := len(m.Update.Legs); n > 1 {
		return fmt.Sprintf("Step %d of %d, %s. ", m.Update.At+1, n, m.Update.Version)
	}
	return ""
}

func (m *machine) updateEnter(phase string) {
	m.enter(phase)
	switch phase {
	case phaseFit:
		m.command(DoFit, Repeatable)
	case phaseLink:
		m.command(DoLink, Repeatable)
	case phaseOffer:
		if m.Subject.Sleeps {
			m.asleep(m.wakeLimit(), m.wakeLimit())
			return
		}
		m.offer()
	case phaseTake:
		m.Update.Outcome = Fetching
		m.due(stall)
		if m.Subject.Sleeps { // it says nothing until its next wake
			m.wait(ForWake, "It fetches the image, restarts, and says what it runs at its next wake.", m.wake(), m.wakeLimit(), "It is offered once more, or given up.")
			m.due(m.wakeLimit())
		}
	case phaseProve:
		m.Update.Outcome = Proving
		left := m.now
		m.Seen.Left = &left
		m.wait(forRestart, "Its restart, and its own word on what it runs.", m.boot(), m.returnLimit(),
			"Fado asks it on the broker; if it stays silent, it is recorded as lost.")
		m.due(m.boot() * 2)
	case phaseAfter:
		m.command(DoAsk, Repeatable)
		m.due(m.patience())
		if m.Subject.Sleeps {
			m.asleep(m.wakeLimit(), m.wakeLimit())
		}
	case phaseTest:
		m.command(DoRoundTrip, Repeatable)
	case phaseAdopt:
		m.command(DoAdopt, Repeatable)
	}
}

// returnLimit is how long a unit may stay away after it wrote an image: long
// enough to start the new one, give up, and go back to the old one.
func (m *machine) returnLimit() time.Duration {
	if m.Subject.Sleeps {
		return m.wakeLimit()
	}
	return max(m.boot()*8, 120*time.Second)
}

// offer has the unit take the image. What would kill it when it is cut short is
// never repeated: from here on its own report decides.
func (m *machine) offer() {
	m.Update.Offers++
	class := LookFirst
	if m.Subject.Risky {
		class, m.Update.Told, m.Update.Outcome = NeverRepeat, true, Writing
		m.Status = Running
		m.show(forUnit, "Do not touch it, and leave its power on: the image is being written, and an interruption would leave it dead.", "It restarts and says what it runs.")
	}
	m.command(DoOffer, class)
	m.Update.OfferID = m.NextID
	m.due(m.patience())
	if m.Subject.Way == ByPush {
		m.Due = time.Time{} // the result tells
	}
}

func (m *machine) updateResult(c Command, e Event) {
	switch c.Do {
	case DoFit:
		switch {
		case e.Code == "running":
			m.note("%s", e.Facts["sentence"])
			m.Update.Outcome = Skipped
			if m.Update.At > 0 {
				m.Update.Outcome = Succeeded
			}
			m.finish()
		case e.Code != "":
			m.Update.Outcome = Skipped
			if m.Update.At > 0 {
				m.Update.Outcome = FailedOut // a part of the route was gone
			}
			m.fail("unfit", e.Facts)
		default:
			m.note("%s%s", m.legText(), e.Facts["sentence"])
			m.updateEnter(phaseLink)
		}
	case DoLink:
		if e.Code != "" {
			m.Update.Outcome = FailedOut
			m.retryOr(e, 3)
			return
		}
		m.Update.Outcome = Planned
		if m.Subject.Way == ByPush {
			m.note("%d KiB are ready; no other unit of the site is being written.", (m.Update.Of+1023)/1024)
		} else {
			m.note("Valid until %s, for this unit alone.", e.Facts["until"])
		}
		m.updateEnter(phaseOffer)
	case DoOffer:
		m.offered(e)
	case DoAsk:
		if e.Code != "" && m.Phase == phaseAfter {
			m.note("It could not be asked; Fado tries again.")
		}
	case DoRoundTrip:
		if m.tripped(e) {
			m.nextLeg()
		}
	case DoAdopt:
		if m.adopted(e) {
			m.stage(inventory.Adopted)
			m.done()
		}
	}
}

// finish ends an update whose image runs. A unit whose adoption waited for it is
// adopted first.
func (m *machine) finish() {
	if m.Subject.Baseline && !m.Subject.Adopted {
		m.updateEnter(phaseAdopt)
		return
	}
	m.done()
}

// offered takes in how telling, or sending, went.
func (m *machine) offered(e Event) {
	if m.Phase != phaseOffer {
		return
	}
	switch {
	case e.Code == "asleep" && m.Subject.Sleeps:
		m.asleep(m.wakeLimit(), m.wakeLimit())
	case e.Code == "not_accepted" || e.Code == "other_unit" || e.Code == "login_refused" || e.Code == "not_reachable" || e.Code == "other_model":
		// The unit, or the way to it, said no before anything was written.
		m.Update.Outcome, m.Update.Told = FailedOut, false
		code := e.Code
		if code == "not_accepted" {
			code = "refused"
			e.Facts["reason"], e.Facts["from"] = e.Facts["detail"], m.Update.Before
		}
		m.fail(code, e.Facts)
	case e.Code == "unreachable" && e.Facts["sent"] == "":
		// Nobody answered, so nothing went out: it may be tried again.
		m.Update.Told, m.Update.Outcome = false, FailedOut
		m.Tries++
		if m.Tries >= 3 {
			m.fail("unreachable", e.Facts)
			return
		}
		m.note("It did not answer; nothing was sent. Another try follows.")
		m.due(time.Second << m.Tries)
	case m.Subject.Risky:
		// Sent in full, or cut short: what it says after its restart decides.
		if e.Code == "" {
			m.Update.Done = m.Update.Of
			m.note("%d bytes were sent.", m.Update.Of)
		} else {
			m.note("The transfer was cut short: %s. What it runs now, it has to say itself.", e.Facts["detail"])
		}
		m.updateEnter(phaseTake)
		m.updateEnter(phaseProve)
	case e.Code != "":
		m.note("The broker could not be reached; Fado tries again.")
	case m.Subject.Way == ByOrder || m.Subject.Way == ByPush:
		m.Update.Told = true
		m.note("It was told.")
		m.Pending = nil
		m.updateEnter(phaseTake)
	}
}

// nextLeg goes on with the next image of the route, or ends.
func (m *machine) nextLeg() {
	if m.Update.At+1 < len(m.Update.Legs) {
		m.onward()
		return
	}
	m.Update.Outcome = Succeeded
	m.finish()
}

func (m *machine) onward() {
	m.endStep(StepDone, "")
	m.leg(m.Update.At + 1)
	m.Update.Outcome = Planned
	for i := range m.Steps {
		m.Steps[i] = Step{Name: m.Steps[i].Name, Title: m.Steps[i].Title, State: StepAhead}
	}
	m.updateEnter(phaseFit)
}

func (m *machine) updateMessage(e Event) {
	switch e.Kind {
	case Answered:
		if m.Phase != phaseOffer || e.Facts["command"] != strconv.Itoa(m.Update.OfferID) {
			return
		}
		m.Pending = nil
		if e.Facts["accepted"] == "false" {
			m.Update.Outcome = FailedOut
			m.fail("refused", e.Facts)
			return
		}
		m.Update.Told = true
		m.note("It accepted the offer.")
		m.updateEnter(phaseTake)
	case Progress:
		m.progress(e)
	case Appeared:
		m.updateAppeared(e)
	case Woke:
		switch {
		case m.Phase == phaseOffer && !m.pending(DoOffer):
			m.note("It woke.")
			m.offer()
		case m.Phase == phaseTest:
			if !m.pending(DoRoundTrip) {
				m.command(DoRoundTrip, Repeatable)
			}
		}
	case Reported:
		if m.Phase != phaseAfter {
			return
		}
		m.Pending = nil
		if e.Facts["differs"] != "" {
			m.Update.LostSettings = e.Facts["differs"]
			m.note("It lost settings: %s. They are put back after this.", e.Facts["differs"])
		} else {
			m.note("%s settings read back equal.", e.Facts["equal"])
		}
		if m.Update.LostSettings != "" && m.Update.At+1 == len(m.Update.Legs) {
			m.Update.Outcome = Succeeded
			m.fail("settings_lost", e.Facts)
			return
		}
		m.updateEnter(phaseTest)
	}
}

func (m *machine) progress(e Event) {
	if m.Phase != phaseOffer && m.Phase != phaseTake {
		return
	}
	if n, err := strconv.Atoi(e.Facts["command"]); err == nil && n <= m.Update.Since {
		return // late word of an image before this one
	}
	if m.Phase == phaseOffer {
		m.Pending, m.Update.Told = nil, true
		m.updateEnter(phaseTake)
	}
	if n, err := strconv.ParseInt(e.Facts["done"], 10, 64); err == nil {
		m.Update.Done = n
	}
	if e.Facts["phase"] == "served" && m.Subject.Sleeps {
		return // that it is being sent the image says nothing of its next wake
	}
	m.due(stall)
	switch e.Facts["phase"] {
	case "fetching":
		m.Update.Outcome = Fetching
	case "writing":
		m.Update.Outcome = Writing
	case "restarting":
		m.note("%d bytes fetched, digest and signature held.", m.Update.Done)
		if m.Update.Done == 0 {
			m.note("It fetched the image.")
		}
		m.updateEnter(phaseProve)
	case "refused", "failed":
		m.Update.Outcome = FailedOut
		m.fail("update_"+e.Facts["phase"], e.Facts)
	}
}

// ours reports whether what a unit says proves that it runs the image: version and
// digest where its family tells a digest; else its version, which was another before.
func (m *machine) ours(version, digest string) bool {
	if m.Subject.Digests || digest != "" {
		return digest == m.Update.Image
	}
	return version == m.Update.Version && version != m.Update.Before
}

// updateAppeared judges what the unit itself says that it runs.
func (m *machine) updateAppeared(e Event) {
	if e.Facts["hardware_id"] != m.Seen.HardwareID {
		return
	}
	version, digest := e.Facts["version"], e.Facts["digest"]
	if version == "" {
		return // one of several messages; the rest follows
	}
	m.Seen.Version, m.Seen.Digest = version, digest
	asked := e.Facts["reply_to"] != ""
	switch m.Phase {
	case phaseOffer, phaseTake, phaseProve:
	default:
		return
	}
	switch {
	case e.Facts["model"] != "" && e.Facts["model"] != m.Subject.Model && m.Update.Told:
		m.Checks = check.Put(m.Checks, check.Fail(check.Version, check.LiveMessage, m.now, m.Subject.Model, "%s", e.Facts["model"]))
		m.Update.Outcome = FailedOut
		m.fail("became_other", e.Facts)
	case m.ours(version, digest) && e.Facts["confirmed"] != "false":
		m.Pending, m.Update.Told = nil, true
		if m.Phase != phaseProve {
			m.updateEnter(phaseProve)
		}
		if m.Seen.Left != nil {
			m.Seen.BootTook = m.now.Sub(*m.Seen.Left).Seconds()
		}
		if digest != "" {
			m.Checks = check.Put(m.Checks, check.Hold(check.Version, check.LiveMessage, m.now, m.Update.Version, "%s, digest %.12s…", version, digest))
		} else {
			m.Checks = check.Put(m.Checks, check.Hold(check.Version, check.LiveMessage, m.now, m.Update.Version, "%s; it was %s before", version, m.Update.Before))
		}
		m.note("%sIt runs %s, by its own report after %.1f s.", m.legText(), version, m.Seen.BootTook)
		if m.Update.At+1 < len(m.Update.Legs) {
			m.onward() // settings and round trip are judged at the end
			return
		}
		m.updateEnter(phaseAfter)
	case m.ours(version, digest):
		// On trial; it confirms itself or goes back.
	case m.Phase == phaseProve && m.Subject.Risky && version == m.Update.Before && e.Facts["command"] == "" && m.now.Sub(*m.Seen.Left) < m.boot()/2 && !m.Subject.Sleeps:
		// A message from before its restart.
	case m.Phase == phaseProve:
		m.notTaken(version, digest, e)
	case m.Phase == phaseTake && m.Subject.Sleeps && !m.now.Before(m.Wait.Since.Add(m.wake()/2)):
		m.offerAgain()
	case m.Phase == phaseTake && asked && m.Tries > 0 || m.Phase == phaseOffer && asked && !m.pending(DoOffer) && !m.Subject.Sleeps:
		// It was asked after a silence or a restart of the service, and runs
		// the old image: offer again; the unit resumes where it was.
		m.offerAgain()
	}
}

// notTaken ends an update after which the unit runs something else.
func (m *machine) notTaken(version, digest string, e Event) {
	m.Checks = check.Put(m.Checks, check.Fail(check.Version, check.LiveMessage, m.now, m.Update.Version, "%s", version))
	m.Update.Outcome = FailedOut
	before := version == m.Update.Before && (digest == "" || digest == m.Update.BeforeSum)
	switch {
	case version == m.Update.Version:
		m.fail("says_so", e.Facts) // the version, and not the image
	case m.Subject.Reverts:
		m.Update.Outcome = Reverted
		m.fail("reverted", e.Facts)
	case before:
		m.fail("not_taken", e.Facts)
	default:
		m.fail("something_else", e.Facts)
	}
}

func (m *machine) offerAgain() {
	if m.Subject.Risky {
		m.notTaken(m.Seen.Version, m.Seen.Digest, Event{Facts: map[string]string{"version": m.Seen.Version}})
		return
	}
	if m.Update.Offers >= 4 {
		m.Update.Outcome = FailedOut
		m.fail("stalled", nil)
		return
	}
	if m.Subject.Sleeps { // it is awake now
		m.enter(phaseOffer)
		m.offer()
		return
	}
	m.updateEnter(phaseOffer)
}

func (m *machine) updateTick() {
	m.Tries++
	switch m.Phase {
	case phaseOffer:
		switch {
		case m.Subject.Sleeps && !m.pending(DoOffer) && m.Wait != nil && m.Wait.For == ForWake:
			m.Update.Outcome = FailedOut
			m.fail("never_woke", nil)
		case !m.Update.Told && m.Subject.Way == ByPush && len(m.Pending) == 0:
			m.Tries-- // counted where it failed
			tries := m.Tries
			m.offer()
			m.Tries = tries
		case m.Tries > 3:
			// It may have taken the offer and lost its answer: ask before another.
			m.Update.Outcome = FailedOut
			m.fail("silent", nil)
		default:
			m.command(DoAsk, Repeatable)
			m.due(m.patience())
		}
	case phaseTake:
		if m.Tries > 3 || m.Update.Offers >= 4 || m.Subject.Sleeps {
			m.Update.Outcome = FailedOut
			m.fail("stalled", nil)
			return
		}
		m.command(DoAsk, Repeatable)
		m.due(m.patience())
	case phaseProve:
		if !m.now.Before(m.Wait.Until) {
			m.Update.Outcome = Lost
			m.fail("lost", nil)
			return
		}
		if !m.pending(DoAsk) {
			m.command(DoAsk, Repeatable)
		}
		m.due(m.boot())
	case phaseAfter:
		if m.Tries > 3 || m.Subject.Sleeps {
			m.Update.Outcome = Succeeded
			m.fail("silent", nil)
			return
		}
		m.command(DoAsk, Repeatable)
		m.due(m.patience())
	case phaseTest:
		if m.Subject.Sleeps && m.Wait != nil {
			m.Update.Outcome = Succeeded
			m.fail("no_reading", nil)
			return
		}
		m.again()
	default:
		m.again()
	}
}

// updateResume takes an update up after a stop. A write that must not be repeated
// may have been made: the unit's own report decides.
func (m *machine) updateResume(pending []Command) bool {
	if !slices.ContainsFunc(pending, func(c Command) bool { return c.Repeat == NeverRepeat }) {
		return false
	}
	m.Update.Told = true
	m.note("The service stopped while it was being written; what it runs now, it has to say itself.")
	m.updateEnter(phaseTake)
	m.updateEnter(phaseProve)
	m.command(DoAsk, Repeatable)
	return true
}
