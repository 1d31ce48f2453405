package task

import (
	"strconv"
	"time"

	"fado/internal/core/check"
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

// NewUpdate plans an update to the image with this SHA-256 and version.
func NewUpdate(s Subject, image, version, from, fromDigest string, size int64) State {
	return State{Kind: Update, Status: Queued, Subject: s,
		Update: &UpdateState{Image: image, Version: version, From: from, FromSum: fromDigest, Outcome: Planned, Of: size},
		Seen:   Seen{HardwareID: s.HardwareID, Version: from, Digest: fromDigest},
		Steps: []Step{
			{Name: phaseFit, Title: "Does the image suit this unit?", State: StepAhead},
			{Name: phaseLink, Title: "Sign a download link for it", State: StepAhead},
			{Name: phaseOffer, Title: "Offer the image", State: StepAhead},
			{Name: phaseTake, Title: "It fetches and writes the image", State: StepAhead},
			{Name: phaseProve, Title: "It restarts and says what it runs", State: StepAhead},
			{Name: phaseAfter, Title: "Read the settings back", State: StepAhead},
			{Name: phaseTest, Title: "Command and state, there and back", State: StepAhead},
		}}
}

func (m *machine) updateEnter(phase string) {
	m.enter(phase)
	switch phase {
	case phaseFit:
		m.command(DoFit, Repeatable)
	case phaseLink:
		m.command(DoLink, Repeatable)
	case phaseOffer:
		m.offer()
	case phaseTake:
		m.Update.Outcome = Fetching
		m.due(stall)
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
	case phaseTest:
		m.command(DoRoundTrip, Repeatable)
	}
}

// returnLimit is how long a unit may stay away after it wrote an image: long
// enough to start the new one, give up, and go back to the old one.
func (m *machine) returnLimit() time.Duration { return max(m.boot()*8, 120*time.Second) }

func (m *machine) offer() {
	m.Update.Offers++
	m.command(DoOffer, LookFirst)
	m.Update.OfferID = m.NextID
	m.due(m.patience())
}

func (m *machine) updateResult(c Command, e Event) {
	switch c.Do {
	case DoFit:
		switch {
		case e.Code == "running":
			m.Update.Outcome = Skipped
			m.note("%s", e.Facts["sentence"])
			m.done()
		case e.Code != "":
			m.Update.Outcome = Skipped
			m.fail("unfit", e.Facts)
		default:
			m.note("%s", e.Facts["sentence"])
			m.updateEnter(phaseLink)
		}
	case DoLink:
		if e.Code != "" {
			m.Update.Outcome = FailedOut
			m.retryOr(e, 3)
			return
		}
		m.note("Valid until %s, for this unit alone.", e.Facts["until"])
		m.updateEnter(phaseOffer)
	case DoOffer, DoAsk:
		if e.Code != "" {
			m.note("The broker could not be reached; Fado tries again.")
		}
	case DoRoundTrip:
		if e.Code != "" {
			m.retryOr(e, 3)
			return
		}
		m.note("%s", e.Facts["seen"])
		m.Update.Outcome = Succeeded
		m.done()
	}
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
	case Reported:
		if m.Phase != phaseAfter {
			return
		}
		m.Pending = nil
		if e.Facts["differs"] != "" {
			m.Update.Outcome = Succeeded
			m.fail("settings_lost", e.Facts)
			return
		}
		m.note("%s settings read back equal.", e.Facts["equal"])
		m.updateEnter(phaseTest)
	}
}

func (m *machine) progress(e Event) {
	if m.Phase != phaseOffer && m.Phase != phaseTake {
		return
	}
	if m.Phase == phaseOffer {
		m.Pending, m.Update.Told = nil, true
		m.updateEnter(phaseTake)
	}
	if n, err := strconv.ParseInt(e.Facts["done"], 10, 64); err == nil {
		m.Update.Done = n
	}
	m.due(stall)
	switch e.Facts["phase"] {
	case "fetching":
		m.Update.Outcome = Fetching
	case "writing":
		m.Update.Outcome = Writing
	case "restarting":
		m.note("%d bytes fetched, digest and signature held.", m.Update.Done)
		m.updateEnter(phaseProve)
	case "refused", "failed":
		m.Update.Outcome = FailedOut
		m.fail("update_"+e.Facts["phase"], e.Facts)
	}
}

// updateAppeared judges what the unit itself says that it runs. Only version
// and digest together are proof.
func (m *machine) updateAppeared(e Event) {
	if e.Facts["hardware_id"] != m.Seen.HardwareID {
		return
	}
	digest := e.Facts["digest"]
	m.Seen.Version, m.Seen.Digest = e.Facts["version"], digest
	asked := e.Facts["reply_to"] != ""
	switch m.Phase {
	case phaseOffer, phaseTake, phaseProve:
	default:
		return
	}
	switch {
	case digest == m.Update.Image && e.Facts["confirmed"] != "false":
		m.Pending, m.Update.Told = nil, true
		if m.Phase != phaseProve {
			m.updateEnter(phaseProve)
		}
		if m.Seen.Left != nil {
			m.Seen.BootTook = m.now.Sub(*m.Seen.Left).Seconds()
		}
		m.Checks = check.Put(m.Checks, check.Hold(check.Version, check.LiveMessage, m.now, m.Update.Version, "%s, digest %.12s…", e.Facts["version"], digest))
		m.note("It runs %s, by its own report after %.1f s.", e.Facts["version"], m.Seen.BootTook)
		m.updateEnter(phaseAfter)
	case digest == m.Update.Image:
		// On trial; it confirms itself or goes back.
	case m.Phase == phaseProve:
		// Back on something else. A unit that goes back by itself says why.
		m.Checks = check.Put(m.Checks, check.Fail(check.Version, check.LiveMessage, m.now, m.Update.Version, "%s", e.Facts["version"]))
		m.Update.Outcome = FailedOut
		if m.Subject.Reverts || e.Facts["version"] == m.Update.From {
			m.Update.Outcome = Reverted
		}
		m.fail("reverted", e.Facts)
	case m.Phase == phaseTake && asked && m.Tries > 0 || m.Phase == phaseOffer && asked && !m.pending(DoOffer):
		// It was asked after a silence or a restart of the service, and runs
		// the old image: offer again; the unit resumes where it was.
		if m.Update.Offers >= 4 {
			m.Update.Outcome = FailedOut
			m.fail("stalled", nil)
			return
		}
		m.updateEnter(phaseOffer)
	}
}

func (m *machine) updateTick() {
	m.Tries++
	switch m.Phase {
	case phaseOffer:
		// It may have taken the offer and lost its answer: ask before another.
		if m.Tries > 3 {
			m.Update.Outcome = FailedOut
			m.fail("silent", nil)
			return
		}
		m.command(DoAsk, Repeatable)
		m.due(m.patience())
	case phaseTake:
		if m.Tries > 3 || m.Update.Offers >= 4 {
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
		if m.Tries > 3 {
			m.Update.Outcome = Succeeded
			m.fail("silent", nil)
			return
		}
		m.command(DoAsk, Repeatable)
		m.due(m.patience())
	default:
		m.again()
	}
}
