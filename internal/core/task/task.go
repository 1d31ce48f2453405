// Package task holds the durable work on one device as pure reducers: Next
// takes a state and an event and gives the next state and the commands to carry
// out. It never carries anything out, reads no clock and keeps nothing; the
// shell in package engine stores state and commands in one transaction and then
// acts.
package task

import (
	"fmt"
	"slices"
	"time"

	"fado/internal/core/check"
	"fado/internal/core/inventory"
)

// Kind says what a task is for.
type Kind string

// The kinds of task.
const (
	Commission Kind = "commission"
	Apply      Kind = "apply" // changed settings, to a unit in service
	Update     Kind = "update"
	Check      Kind = "check" // that all is as it should be
)

// Status says how a task stands.
type Status string

// The statuses of a task.
const (
	Queued    Status = "queued"
	Running   Status = "running"
	Waiting   Status = "waiting"
	Done      Status = "done"
	Failed    Status = "failed"
	Cancelled Status = "cancelled"
)

// Over reports whether nothing more will happen by itself.
func (s Status) Over() bool { return s == Done || s == Failed || s == Cancelled }

// StepState says how a step stands.
type StepState string

// The states of a step.
const (
	StepAhead   StepState = "ahead"
	StepRunning StepState = "running"
	StepDone    StepState = "done"
	StepFailed  StepState = "failed"
)

// Step is a visible part of a task.
type Step struct {
	Name  string     `json:"name"`
	Title string     `json:"title"`
	State StepState  `json:"state"`
	Note  string     `json:"note,omitempty"`
	Began *time.Time `json:"began,omitempty"`
	Ended *time.Time `json:"ended,omitempty"`
}

// Wait says what a waiting task waits for.
type Wait struct {
	For     string    `json:"for" doc:"wake, restart, window or person"`
	What    string    `json:"what" doc:"In words"`
	Since   time.Time `json:"since"`
	Usually float64   `json:"usually_seconds" doc:"How long it usually takes"`
	Until   time.Time `json:"until" doc:"When Fado gives up"`
	Then    string    `json:"then" doc:"What happens when it runs out"`
}

// Failure is the named end of a task that did not succeed.
type Failure struct {
	Code  string    `json:"code"`
	What  string    `json:"what"`
	Cause string    `json:"cause"`
	Next  string    `json:"next"`
	At    time.Time `json:"at"`
}

// Repeat says what may be done with a command whose outcome is not known.
type Repeat string

// The repeat classes.
const (
	Repeatable  Repeat = "repeatable"   // doing it again is harmless
	LookFirst   Repeat = "look first"   // ask the other side before doing it again
	NeverRepeat Repeat = "never repeat" // the unit's own report decides
)

// Do names what a command does.
type Do string

// The commands.
const (
	DoContact   Do = "contact"     // join the access point, identify
	DoPrepare   Do = "prepare"     // mint the broker account, try it
	DoHandOver  Do = "hand over"   // write the settings and restart the unit
	DoLookBack  Do = "look back"   // is the access point there again, and why
	DoAsk       Do = "ask"         // ask the unit for a report over the broker
	DoRoundTrip Do = "round trip"  // command and state
	DoWrite     Do = "write"       // write changed settings to a unit in service
	DoBaseline  Do = "baseline"    // see that the unit gets to the intended firmware
	DoAdopt     Do = "adopt"       // put the thing into the hub's directory
	DoCheck     Do = "check"       // make the checks of a sign-off
	DoFit       Do = "fit"         // does the image suit the unit as it is now
	DoLink      Do = "make a link" // sign a download link
	DoOffer     Do = "offer"       // tell the unit to take the image
)

// Command is something for the shell to carry out and to answer with a Result.
type Command struct {
	ID     int    `json:"id"`
	Do     Do     `json:"do"`
	Repeat Repeat `json:"repeat"`
	Again  bool   `json:"again,omitempty"` // it may have been done before
	// Patient lets it look out for the unit for a while before it says that nothing
	// is there.
	Patient bool `json:"patient,omitempty"`
}

// EventKind says what happened.
type EventKind string

// The events.
const (
	Started  EventKind = "started"
	Resumed  EventKind = "resumed" // the service came back after a stop
	Retried  EventKind = "retried" // a person asked for another try
	Cancel   EventKind = "cancel"
	Tick     EventKind = "tick" // State.Due has come
	Result   EventKind = "result"
	Appeared EventKind = "appeared" // a live unit report on the device's topic
	Reported EventKind = "reported" // the unit's settings, compared
	Answered EventKind = "answered" // the unit's answer to an ask
	Progress EventKind = "progress" // of an update
	Woke     EventKind = "woke"     // a unit that sleeps is awake for a moment
	Noted    EventKind = "noted"    // a command under way says how far it is
	Turn     EventKind = "turn"     // a command waits for the radio, or is with the unit
)

// Event is something that happened. Which fields count depends on its kind.
type Event struct {
	Kind    EventKind
	Command int               // Result: which command
	Code    string            // Result: "" for success, else a failure's code
	Facts   map[string]string // what was found, by name
	Checks  []check.Result    // Result: what was checked
}

// State is all that is durable of a task.
type State struct {
	Kind    Kind            `json:"kind"`
	Status  Status          `json:"status"`
	Attempt int             `json:"attempt"`
	Phase   string          `json:"phase"`
	Steps   []Step          `json:"steps"`
	Wait    *Wait           `json:"wait,omitempty"`
	Failure *Failure        `json:"failure,omitempty"`
	Checks  []check.Result  `json:"checks,omitempty"`
	Stage   inventory.Stage `json:"stage,omitempty"` // how far the device has come by this task
	Pending []Command       `json:"pending,omitempty"`
	NextID  int             `json:"next_id"`
	Tries   int             `json:"tries"` // of the phase
	Due     time.Time       `json:"due"`
	Subject Subject         `json:"subject"`
	Seen    Seen            `json:"seen"`
	Update  *UpdateState    `json:"update,omitempty"`
}

// Subject is what the task was planned for; it does not change.
type Subject struct {
	Name       string  `json:"name"`
	HardwareID string  `json:"hardware_id"` // expected; "" takes the unit that answers
	Model      string  `json:"model"`
	BootUsual  float64 `json:"boot_usual"`           // seconds from restart to the first message
	SetUp      string  `json:"set_up"`               // how it gets into set-up mode
	Recover    string  `json:"recover"`              // how a dead unit is brought back
	Network    string  `json:"network"`              // the Wi-Fi network's name
	Reverts    bool    `json:"reverts"`              // the dialect's way of updating goes back by itself
	Sleeps     bool    `json:"sleeps,omitempty"`     // it is awake for moments only
	WakeUsual  float64 `json:"wake_usual,omitempty"` // seconds between two wakes
	Wake       string  `json:"wake,omitempty"`       // how a person wakes it
	Adopted    bool    `json:"adopted,omitempty"`    // the hub has it
	Baseline   bool    `json:"baseline,omitempty"`   // it is adopted on the intended firmware only
	ByHand     bool    `json:"by_hand,omitempty"`    // a person joins its access point
	Way        string  `json:"way,omitempty"`        // how it is brought to take an image
	Risky      bool    `json:"risky,omitempty"`      // an interrupted write leaves it dead
	Digests    bool    `json:"digests,omitempty"`    // it tells the digest of what it runs
}

// Seen is what the task has found out.
type Seen struct {
	HardwareID string     `json:"hardware_id,omitempty"`
	Version    string     `json:"version,omitempty"`
	Digest     string     `json:"digest,omitempty"`
	Live       bool       `json:"live,omitempty"` // seen on the broker since the hand-over
	Left       *time.Time `json:"left,omitempty"` // when it was sent to restart
	BootTook   float64    `json:"boot_took,omitempty"`
	Missed     int        `json:"missed,omitempty"`   // saves that it slept through
	Handed     bool       `json:"handed,omitempty"`   // it accepted the settings
	Repeated   bool       `json:"repeated,omitempty"` // the settings were handed over a second time
}

// UpdateState is what an update adds.
type UpdateState struct {
	Image        string  `json:"image"` // SHA-256, of the leg under way
	Version      string  `json:"version"`
	Wanted       string  `json:"wanted,omitempty"` // the version at the end of the route
	Legs         []Leg   `json:"legs,omitempty"`
	At           int     `json:"at,omitempty"`     // which leg is under way
	Before       string  `json:"before,omitempty"` // what it ran before this leg
	BeforeSum    string  `json:"before_digest,omitempty"`
	LostSettings string  `json:"lost_settings,omitempty"` // that the update reset
	From         string  `json:"from"`
	FromSum      string  `json:"from_digest,omitempty"`
	Outcome      Outcome `json:"outcome"`
	Done         int64   `json:"done_bytes"`
	Of           int64   `json:"of_bytes"`
	Offers       int     `json:"offers"`
	OfferID      int     `json:"offer_id"`        // the command of the last offer, which its answer names
	Since        int     `json:"since,omitempty"` // the last command before this leg
	Told         bool    `json:"told"`            // the unit accepted the offer
}

// Outcome says how an update stands or ended.
type Outcome string

// Over reports whether the update is at its end.
func (o Outcome) Over() bool {
	switch o {
	case Succeeded, FailedOut, Reverted, Skipped, Lost:
		return true
	}
	return false
}

// The outcomes of an update.
const (
	Planned   Outcome = "planned"
	Fetching  Outcome = "fetching"
	Writing   Outcome = "writing"
	Proving   Outcome = "proving"
	Succeeded Outcome = "succeeded"
	FailedOut Outcome = "failed"
	Reverted  Outcome = "reverted"
	Skipped   Outcome = "skipped"
	Lost      Outcome = "lost"
)

// Next is the reducer. It never changes the state that it is given. An event
// that does not concern the task's phase changes nothing.
func Next(s State, e Event, now time.Time) (State, []Command) {
	m := &machine{State: s.clone(), now: now}
	switch e.Kind {
	case Result:
		i := slices.IndexFunc(m.Pending, func(c Command) bool { return c.ID == e.Command })
		if i < 0 || m.Status.Over() {
			return m.State, nil
		}
		c := m.Pending[i]
		m.Pending = slices.Delete(m.Pending, i, i+1)
		for _, r := range e.Checks {
			m.Checks = check.Put(m.Checks, r)
		}
		m.result(c, e)
	case Cancel:
		m.cancel()
	case Retried:
		if m.Status == Failed || m.Status == Cancelled {
			m.retry()
		}
	default:
		if m.Status.Over() {
			return m.State, nil
		}
		switch e.Kind {
		case Started:
			switch {
			case m.Status == Queued && m.Attempt > 0:
				m.retry() // it waited for its turn to be tried again
			case m.Status == Queued:
				m.Status, m.Attempt = Running, 1
				m.begin()
			}
		case Resumed:
			m.resume()
		case Tick:
			if !m.Due.IsZero() && !now.Before(m.Due) {
				m.Due = time.Time{}
				m.tick()
			}
		default:
			m.message(e)
		}
	}
	return m.State, m.out
}

func (s State) clone() State {
	s.Steps, s.Checks, s.Pending = slices.Clone(s.Steps), slices.Clone(s.Checks), slices.Clone(s.Pending)
	if s.Wait != nil {
		w := *s.Wait
		s.Wait = &w
	}
	if s.Update != nil {
		u := *s.Update
		u.Legs = slices.Clone(u.Legs)
		s.Update = &u
	}
	return s
}

// machine is a state being worked on.
type machine struct {
	State
	now time.Time
	out []Command
}

func (m *machine) begin() { m.from(firstPhase(m.Kind, m.Subject)) }

func firstPhase(k Kind, s Subject) string {
	switch {
	case k == Update:
		return phaseFit
	case k == Check && !s.Sleeps:
		return phaseChecks
	case (k == Apply || k == Check) && s.Sleeps:
		return phaseWake
	case k == Apply:
		return phaseWrite
	}
	return phaseContact
}

// from begins at a phase.
func (m *machine) from(phase string) {
	switch m.Kind {
	case Update:
		m.updateEnter(phase)
	case Apply:
		m.applyEnter(phase)
	case Check:
		m.checkEnter(phase)
	default:
		m.commissionEnter(phase)
	}
}

func (m *machine) result(c Command, e Event) {
	switch m.Kind {
	case Update:
		m.updateResult(c, e)
	case Apply:
		m.applyResult(c, e)
	case Check:
		m.checkResult(c, e)
	default:
		m.commissionResult(c, e)
	}
}

func (m *machine) message(e Event) {
	if e.Kind == Noted {
		m.noted(e)
		return
	}
	switch m.Kind {
	case Update:
		m.updateMessage(e)
	case Apply:
		m.applyMessage(e)
	case Check:
		m.checkMessage(e)
	default:
		m.commissionMessage(e)
	}
}

// noted takes in how far a command under way is.
func (m *machine) noted(e Event) {
	if len(m.Pending) > 0 {
		m.note("%s", e.Facts["note"])
	}
}

func (m *machine) tick() {
	switch m.Kind {
	case Update:
		m.updateTick()
	case Apply:
		m.applyTick()
	case Check:
		m.checkTick()
	default:
		m.commissionTick()
	}
}

// resume takes the task up after the service was stopped. What may be repeated
// is repeated; for the rest the unit is asked first.
func (m *machine) resume() {
	pending := m.Pending
	m.Pending = nil
	if m.Kind == Update && m.updateResume(pending) {
		return
	}
	look := len(pending) == 0 && (m.Phase == phaseAwait || m.Phase == phaseReport || m.Phase == phaseProve || m.Phase == phaseTake || m.Phase == phaseWake)
	for _, c := range pending {
		if c.Repeat == Repeatable || c.Do == DoHandOver || c.Do == DoWrite {
			c.Again = true
			m.Pending = append(m.Pending, c)
			m.out = append(m.out, c)
			continue
		}
		look = true
	}
	if look {
		m.command(DoAsk, Repeatable)
		if m.Due.IsZero() {
			m.due(m.patience())
		}
	}
}

func (m *machine) cancel() {
	if m.Status.Over() || m.Kind == Update && m.Update.Told {
		return
	}
	m.end(Cancelled)
	m.endStep(StepFailed, "Cancelled.")
	if m.Kind == Update {
		m.Update.Outcome = Skipped
	}
}

func (m *machine) retry() {
	m.Status, m.Failure, m.Attempt = Running, nil, m.Attempt+1
	m.Seen.Handed, m.Seen.Repeated = false, false
	from := firstPhase(m.Kind, m.Subject)
	if m.Kind == Update {
		m.Update.Outcome, m.Update.LostSettings = Planned, ""
		m.leg(m.Update.At)
	} else if m.Kind == Commission && m.Seen.Live {
		from = phaseReport // the unit is in service; nothing has to be handed over again
	}
	ahead := false
	for i := range m.Steps {
		ahead = ahead || m.Steps[i].Name == from
		if ahead {
			m.Steps[i] = Step{Name: m.Steps[i].Name, Title: m.Steps[i].Title, State: StepAhead}
		}
	}
	m.from(from)
}

// enter begins a phase and its step.
func (m *machine) enter(phase string) {
	m.endStep(StepDone, "")
	m.Phase, m.Tries, m.Wait, m.Due = phase, 0, nil, time.Time{}
	m.Status = Running
	for i := range m.Steps {
		if m.Steps[i].Name == phase {
			at := m.now
			m.Steps[i].State, m.Steps[i].Began, m.Steps[i].Ended, m.Steps[i].Note = StepRunning, &at, nil, ""
		}
	}
}

func (m *machine) note(format string, args ...any) {
	for i := range m.Steps {
		if m.Steps[i].State == StepRunning {
			m.Steps[i].Note = fmt.Sprintf(format, args...)
		}
	}
}

func (m *machine) endStep(state StepState, note string) {
	for i := range m.Steps {
		if m.Steps[i].State != StepRunning {
			continue
		}
		at := m.now
		m.Steps[i].State, m.Steps[i].Ended = state, &at
		if note != "" {
			m.Steps[i].Note = note
		}
	}
}

func (m *machine) command(do Do, r Repeat) {
	m.NextID++
	c := Command{ID: m.NextID, Do: do, Repeat: r}
	m.Pending = append(m.Pending, c)
	m.out = append(m.out, c)
}

func (m *machine) pending(do Do) bool {
	return slices.ContainsFunc(m.Pending, func(c Command) bool { return c.Do == do })
}

func (m *machine) due(d time.Duration) { m.Due = m.now.Add(d) }

// What a task may wait for.
const (
	forRestart = "restart"
	ForWake    = "wake"
	forPerson  = "person"
	forTurn    = "turn"  // the radio, which is with another unit
	forUnit    = "unit"  // that writes, and is not to be touched
	forFirst   = "first" // another unit that tries the passphrase
)

// show says what is waited for, for a moment that has no usual length, until the
// command's result.
func (m *machine) show(reason, what, then string) {
	m.Wait = &Wait{For: reason, What: what, Since: m.now, Until: m.now, Then: then}
}

// brief reports whether what is waited for was only shown.
func (w *Wait) brief() bool { return w != nil && (w.For == forTurn || w.For == forUnit) }

func (m *machine) wait(reason, what string, usually, until time.Duration, then string) {
	m.Status = Waiting
	m.Wait = &Wait{For: reason, What: what, Since: m.now, Usually: usually.Seconds(), Until: m.now.Add(until), Then: then}
}

// asleep waits for the next wake of a unit that sleeps. It is false when that
// was waited for long enough.
func (m *machine) asleep(limit, look time.Duration) bool {
	if m.Wait == nil || m.Wait.For != ForWake {
		m.wait(ForWake, "Its next wake. "+m.Subject.Wake, m.wake(), limit, "The task ends and says so; nothing is lost, and it can be tried again.")
	}
	if !m.now.Before(m.Wait.Until) {
		return false
	}
	m.due(look)
	return true
}

func (m *machine) wake() time.Duration {
	return time.Duration(max(m.Subject.WakeUsual, 1) * float64(time.Second))
}

// wakeLimit is how long the wake of a unit is waited for: three times as long
// as it usually takes, and long enough for a person to come by.
func (m *machine) wakeLimit() time.Duration { return max(3*m.wake(), 15*time.Minute) }

// patience is how long a unit may take to answer an ask.
func (m *machine) patience() time.Duration { return 10 * time.Second }

func (m *machine) boot() time.Duration {
	return time.Duration(max(m.Subject.BootUsual, 1) * float64(time.Second))
}

func (m *machine) end(s Status) {
	m.Status, m.Wait, m.Due, m.Pending, m.out = s, nil, time.Time{}, nil, nil
}

func (m *machine) fail(code string, facts map[string]string) {
	f := explain(code, m.Subject, facts)
	f.At = m.now
	m.Failure = &f
	m.end(Failed)
	m.endStep(StepFailed, f.What)
}

func (m *machine) done() {
	m.endStep(StepDone, "")
	m.end(Done)
	m.Phase = "done"
}
