// Package rollout brings updates to many devices in waves, each followed by a gate
// that must hold before the next. It is a pure reducer, with the plan that it begins
// with and the hours in which a home may be updated. It creates updates and never
// talks to a unit, and it keeps no time of its own.
package rollout

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fado/internal/core/task"
)

// Status says how a rollout stands.
type Status string

// The statuses of a rollout.
const (
	Draft     Status = "draft"
	Running   Status = "running"
	Paused    Status = "paused"
	Held      Status = "held" // a gate did not hold, or a unit was lost
	Done      Status = "done"
	Cancelled Status = "cancelled"
)

// Over reports whether nothing more will begin.
func (s Status) Over() bool { return s == Done || s == Cancelled }

// Standing says how a unit stands in its rollout.
type Standing string

// How a unit stands.
const (
	Ahead    Standing = "ahead"     // its turn has not come
	Starting Standing = "starting"  // its update is being started
	UnderWay Standing = "under way" // its update is under way
	Over     Standing = "over"      // it has its outcome
)

// Unit is one device in a rollout. What it was planned with does not change; the
// rest says how it stands.
type Unit struct {
	Device   string // id
	Name     string
	Hostname string
	Site     string // id
	Model    string
	Image    string // SHA-256 of the image that is wanted
	From, To string // versions
	Was      string // digest of what it ran, where it tells
	Legs     int    // images on its route
	Route    string // the versions on its route, in their order
	Bytes    int64  // that its route takes through the uplink
	Usual    time.Duration
	Sleeps   bool // it takes an image at its wake, and takes no place until then
	Risky    bool // an interruption would leave it dead
	Cable    bool // it is easy to reach by cable
	Online   bool

	Wave     int
	State    Standing
	Outcome  task.Outcome // "" until it is over
	Why      string       // of the outcome
	Attempt  int          // counts its starts
	Task     string       // of the last attempt
	Began    time.Time
	Ended    time.Time
	Accepted bool // that it went wrong was accepted by a person
	Already  bool // it ran the image before its turn came
}

// wrong reports whether a unit's update went wrong and nobody has accepted that.
func (u Unit) wrong() bool {
	return !u.Accepted && (u.Outcome == task.FailedOut || u.Outcome == task.Reverted || u.Outcome == task.Lost)
}

// open reports whether a unit has no outcome yet.
func (u Unit) open() bool { return u.State != Over }

// moving reports whether an update of the unit was begun and is not over.
func (u Unit) moving() bool { return u.State == Starting || u.State == UnderWay }

// Phase says what a running rollout is at.
type Phase string

// The phases of a wave.
const (
	Updating Phase = "updating"
	Soaking  Phase = "soaking" // all are over; are they still well after a while
	Looking  Phase = "looking" // the gate is being looked at
	Judged   Phase = "judged"  // the gate did not hold
)

// GateRecord is how a gate was passed, or not.
type GateRecord struct {
	Wave       int         `json:"wave"`
	At         time.Time   `json:"at"`
	Conditions []Condition `json:"conditions"`
	Held       bool        `json:"held"`             // it did not hold
	Early      bool        `json:"early,omitempty"`  // before the wave was over: what went wrong was enough
	By         string      `json:"by,omitempty"`     // the person who let the rollout go on all the same
	Reason     string      `json:"reason,omitempty"` // why
}

// State is all that is durable of a rollout. Units and the zones of sites are kept
// beside it.
type State struct {
	Status    Status                    `json:"status"`
	Rules     Rules                     `json:"rules"`
	Waves     int                       `json:"waves"`
	Wave      int                       `json:"wave"` // under way, from 0
	Phase     Phase                     `json:"phase"`
	WaveBegan time.Time                 `json:"wave_began"`
	SoakUntil time.Time                 `json:"soak_until"`
	Reason    string                    `json:"reason,omitempty"` // why it is paused, held or cancelled
	Gates     []GateRecord              `json:"gates,omitempty"`
	Pending   []Command                 `json:"pending,omitempty"`
	NextID    int                       `json:"next_id"`
	Due       time.Time                 `json:"due"` // zero: no time is waited for
	DueFor    string                    `json:"due_for,omitempty"`
	Units     []Unit                    `json:"-"`
	Zones     map[string]*time.Location `json:"-"` // of each site; UTC where it is missing
}

// Do names what a command does.
type Do string

// The commands. Begin is looked for before it is repeated: the update may have been
// started just before a stop. Look may be repeated.
const (
	Begin Do = "begin" // start the update of a unit
	Look  Do = "look"  // see how the units of a wave do
)

// Command is something for the shell to carry out and to answer.
type Command struct {
	ID      int    `json:"id"`
	Do      Do     `json:"do"`
	Device  string `json:"device,omitempty"`
	Attempt int    `json:"attempt,omitempty"`
	Again   bool   `json:"again,omitempty"` // it may have been done before
}

// EventKind says what happened.
type EventKind string

// The events.
const (
	Start   EventKind = "start"
	Resumed EventKind = "resumed" // the service came back
	Tick    EventKind = "tick"    // State.Due has come
	Begun   EventKind = "begun"   // an update was started: Device, Attempt, Task
	Refused EventKind = "refused" // it was not: Command, Code and Why
	Ended   EventKind = "ended"   // an update ended: Outcome and Why
	Looked  EventKind = "looked"  // Sights of the wave
	Pause   EventKind = "pause"
	GoOn    EventKind = "go on" // after a pause, or after a hold with a reason
	Cancel  EventKind = "cancel"
	Retry   EventKind = "retry" // what failed; or Devices
	Exclude EventKind = "exclude"
)

// Why a unit's update was not begun.
const (
	NotNow    = "not now" // the rollout was paused, held or cancelled meanwhile, or the hours are over
	AlreadyOn = "running" // it runs the image already
	Unfit     = "unfit"
)

// Event is something that happened. Which fields count depends on its kind.
type Event struct {
	Kind    EventKind
	Command int
	Device  string
	Attempt int
	Task    string
	Code    string
	Why     string // also a person's reason
	Outcome task.Outcome
	Sights  map[string]Sight
	Devices []string
	Actor   string
}

// New makes the draft of a rollout. Its units are arranged in waves already.
func New(r Rules, zones map[string]*time.Location, units []Unit) State {
	s := State{Status: Draft, Rules: r, Zones: zones, Units: units}
	for _, u := range units {
		s.Waves = max(s.Waves, u.Wave+1)
	}
	return s
}

// Next is the reducer. It never changes the state that it is given. An event that
// does not concern the rollout as it stands changes nothing.
func Next(s State, e Event, now time.Time) (State, []Command) {
	m := &machine{State: s, now: now}
	m.Units, m.Pending, m.Gates = slices.Clone(s.Units), slices.Clone(s.Pending), slices.Clone(s.Gates)
	m.take(e)
	m.advance()
	return m.State, m.out
}

// May reports whether a unit's update may begin now: whoever starts it asks in the
// same transaction, so that nothing begins once a rollout was stopped.
func May(s State, device string, attempt int, now time.Time) bool {
	if s.Status != Running {
		return false
	}
	i := slices.IndexFunc(s.Units, func(u Unit) bool { return u.Device == device })
	if i < 0 || s.Units[i].State != Starting || s.Units[i].Attempt != attempt {
		return false
	}
	open, _, _ := s.Rules.Hours.At(now, s.zone(s.Units[i].Site))
	return open
}

func (s State) zone(site string) *time.Location {
	if l := s.Zones[site]; l != nil {
		return l
	}
	return time.UTC
}

type machine struct {
	State
	now time.Time
	out []Command
}

func (m *machine) unit(device string) *Unit {
	if i := slices.IndexFunc(m.Units, func(u Unit) bool { return u.Device == device }); i >= 0 {
		return &m.Units[i]
	}
	return nil
}

func (m *machine) take(e Event) {
	switch e.Kind {
	case Start:
		if m.Status == Draft {
			m.Status, m.Phase, m.WaveBegan = Running, Updating, m.now
		}
	case Resumed:
		m.out = slices.Clone(m.Pending)
		for i := range m.out {
			m.out[i].Again, m.Pending[i].Again = true, true
		}
	case Begun, Refused, Ended:
		m.moved(e)
	case Looked:
		m.looked(e)
	case Pause:
		if m.Status == Running {
			m.Status, m.Reason = Paused, e.Why
			m.due(time.Time{}, "")
		}
	case GoOn:
		m.goOn(e)
	case Cancel:
		m.cancel(e)
	case Retry:
		m.retry(e)
	case Exclude:
		if u := m.unit(e.Device); u != nil && u.State == Ahead {
			m.over(u, task.Skipped, "Excluded. "+e.Why)
		}
	}
}

// moved takes in how the update of a unit goes.
func (m *machine) moved(e Event) {
	u := m.unit(e.Device)
	if u == nil || e.Attempt != u.Attempt || !u.moving() {
		return
	}
	if e.Kind == Refused && !slices.ContainsFunc(m.Pending, func(c Command) bool { return c.ID == e.Command && c.Device == e.Device }) {
		return // of an earlier command
	}
	m.drop(e.Device)
	switch {
	case e.Kind == Begun:
		if u.State == Starting {
			u.State, u.Task, u.Began = UnderWay, e.Task, m.now
		}
	case e.Kind == Ended:
		if u.Began.IsZero() {
			u.Began = m.now
		}
		u.Task = e.Task
		m.over(u, e.Outcome, e.Why)
	case e.Code == NotNow && !m.Status.Over():
		u.State = Ahead
		u.Attempt-- // it was not tried
	case e.Code == NotNow:
		m.over(u, task.Skipped, "The rollout was cancelled before its turn.")
	default:
		m.over(u, task.Skipped, e.Why)
		u.Already = e.Code == AlreadyOn
	}
}

// drop forgets the command by which a unit is started.
func (m *machine) drop(device string) {
	m.Pending = slices.DeleteFunc(m.Pending, func(c Command) bool { return c.Do == Begin && c.Device == device })
}

func (m *machine) over(u *Unit, o task.Outcome, why string) {
	u.State, u.Outcome, u.Why, u.Ended, u.Accepted = Over, o, why, m.now, false
}

func (m *machine) hold(reason string) {
	m.Status, m.Reason = Held, reason
	m.due(time.Time{}, "")
}

func (m *machine) due(at time.Time, why string) { m.Due, m.DueFor = at, why }

// goOn takes a paused rollout up, or lets one that is held go on by a person's word.
func (m *machine) goOn(e Event) {
	switch m.Status {
	case Paused:
		m.Status, m.Reason = Running, ""
	case Held:
		if e.Why == "" {
			return
		}
		m.Status, m.Reason = Running, ""
		for i := range m.Units {
			if m.Units[i].wrong() {
				m.Units[i].Accepted = true
			}
		}
		if n := len(m.Gates); n > 0 && m.Gates[n-1].Held {
			m.Gates[n-1].By, m.Gates[n-1].Reason = e.Actor, e.Why
		}
		if m.Phase == Judged {
			m.nextWave()
		}
	}
}

// cancel leaves what has not begun. What is under way finishes.
func (m *machine) cancel(e Event) {
	if m.Status == Draft || m.Status.Over() {
		return
	}
	m.Status, m.Reason = Cancelled, e.Why
	// What is being started may have begun; its answer tells.
	m.Pending = slices.DeleteFunc(m.Pending, func(c Command) bool { return c.Do == Look })
	m.due(time.Time{}, "")
	for i := range m.Units {
		if m.Units[i].State == Ahead {
			m.over(&m.Units[i], task.Skipped, "The rollout was cancelled before its turn.")
		}
	}
}

// retry puts units back whose update failed or was reverted, or those that are named.
func (m *machine) retry(e Event) {
	if m.Status == Draft || m.Status == Cancelled {
		return
	}
	again := false
	for i := range m.Units {
		u := &m.Units[i]
		named := slices.Contains(e.Devices, u.Device)
		failed := u.Outcome == task.FailedOut || u.Outcome == task.Reverted
		if u.State != Over || !(named && u.Outcome != task.Succeeded || len(e.Devices) == 0 && failed) {
			continue
		}
		u.State, u.Outcome, u.Why, u.Accepted, u.Already, u.Ended, u.Began = Ahead, "", "", false, false, time.Time{}, time.Time{}
		again = true
	}
	if !again {
		return
	}
	if m.Status == Held || m.Status == Done {
		m.Status, m.Reason = Running, ""
	}
	if m.Phase != Updating {
		m.Phase, m.WaveBegan = Updating, m.now
		m.Pending = slices.DeleteFunc(m.Pending, func(c Command) bool { return c.Do == Look })
	}
}

// advance does what the state calls for.
func (m *machine) advance() {
	if n := len(m.Gates); m.Status == Held && n > 0 && m.Gates[n-1].Early && m.Gates[n-1].By == "" {
		// More may go wrong while what was under way finishes.
		if c := m.broken(); c.Name != "" && c.Seen != m.Reason {
			m.Gates[n-1].Conditions, m.Reason = []Condition{c}, c.Seen
		}
	}
	if m.Status != Running {
		return
	}
	m.due(time.Time{}, "")
	if c := m.broken(); c.Name != "" {
		m.Gates = append(m.Gates, GateRecord{Wave: m.Wave, At: m.now, Conditions: []Condition{c}, Held: true, Early: true})
		m.hold(c.Seen)
		return
	}
	switch m.Phase {
	case Updating:
		m.begin()
		if m.waveOver() {
			m.Phase, m.SoakUntil = Soaking, m.now.Add(m.Rules.Gate.Soak)
			m.soak()
		}
	case Soaking:
		m.soak()
	}
}

func (m *machine) soak() {
	if m.now.Before(m.SoakUntil) {
		m.due(m.SoakUntil, "the soak of "+WaveName(m.Wave, m.Rules)+" ends")
		return
	}
	m.Phase = Looking
	m.command(Command{Do: Look})
}

func (m *machine) command(c Command) {
	m.NextID++
	c.ID = m.NextID
	m.Pending, m.out = append(m.Pending, c), append(m.out, c)
}

// broken is the condition by which nothing more may begin before the wave is over: a
// unit was lost, or the share that has to succeed cannot be reached any more.
func (m *machine) broken() (c Condition) {
	var lost, wrong []string
	tried := 0
	for _, u := range m.Units {
		if u.wrong() && u.Outcome == task.Lost {
			lost = append(lost, u.Name)
		}
		if u.Wave != m.Wave || u.Outcome == task.Skipped || u.Accepted {
			continue
		}
		tried++
		if u.wrong() {
			wrong = append(wrong, u.Name)
		}
	}
	if len(lost) > 0 {
		return Condition{Name: "lost", Expected: "none", Seen: fmt.Sprintf("%s %s lost.", names(lost), map[bool]string{true: "was", false: "were"}[len(lost) == 1])}
	}
	if tried > 0 && (tried-len(wrong))*100 < m.Rules.Gate.Share*tried {
		return Condition{Name: "succeeded", Expected: fmt.Sprintf("at least %d %%", m.Rules.Gate.Share),
			Seen: fmt.Sprintf("%d of %d of %s went wrong (%s); even if all others succeed, fewer than %d %% do.", len(wrong), tried, WaveName(m.Wave, m.Rules), names(wrong), m.Rules.Gate.Share)}
	}
	return c
}

// begin starts as many units of the waves so far as the limits and the hours allow.
func (m *machine) begin() {
	total, bySite, risky := 0, map[string]int{}, map[string]bool{}
	for _, u := range m.Units {
		if !u.moving() {
			continue
		}
		if !u.Sleeps {
			total++
			bySite[u.Site]++
		}
		risky[u.Site] = risky[u.Site] || u.Risky
	}
	var next time.Time
	opens := map[string]window{}
	for i := range m.Units {
		u := &m.Units[i]
		if u.State != Ahead || u.Wave > m.Wave {
			continue
		}
		if !u.Sleeps && (total >= m.Rules.AtOnce || bySite[u.Site] >= m.Rules.PerSite) || u.Risky && risky[u.Site] {
			continue
		}
		w, known := opens[u.Site]
		if !known {
			w.open, w.closes, w.next = m.Rules.Hours.At(m.now, m.zone(u.Site))
			opens[u.Site] = w
		}
		// What usually takes longer than is left of the hours waits for the next, unless
		// it is longer than any.
		if !w.open || !w.closes.IsZero() && u.Usual > w.closes.Sub(m.now) && u.Usual < m.Rules.Hours.length() {
			if next.IsZero() || w.next.Before(next) {
				next = w.next
			}
			continue
		}
		u.State = Starting
		u.Attempt++
		m.command(Command{Do: Begin, Device: u.Device, Attempt: u.Attempt})
		if !u.Sleeps {
			total++
			bySite[u.Site]++
		}
		risky[u.Site] = risky[u.Site] || u.Risky
	}
	if !next.IsZero() {
		m.due(next, "the next hours open")
	}
	if late := m.WaveBegan.Add(m.Rules.Patience); m.Wave < m.Waves-1 && m.now.Before(late) && (m.Due.IsZero() || late.Before(m.Due)) {
		for _, u := range m.Units {
			if u.Wave <= m.Wave && u.Sleeps && u.open() {
				m.due(late, WaveName(m.Wave, m.Rules)+" waits no longer for units that sleep")
				break
			}
		}
	}
}

// waveOver reports whether all units of the waves so far have their outcome. The last
// wave waits for all; another one waits for those that sleep only so long.
func (m *machine) waveOver() bool {
	late := m.Wave < m.Waves-1 && !m.now.Before(m.WaveBegan.Add(m.Rules.Patience))
	for _, u := range m.Units {
		if u.Wave > m.Wave || !u.open() {
			continue
		}
		// One of an earlier wave was waited for long enough.
		if u.Sleeps && u.State != Ahead && m.Wave < m.Waves-1 && (late || u.Wave < m.Wave) {
			continue
		}
		return false
	}
	return true
}

// looked judges the gate of the wave.
func (m *machine) looked(e Event) {
	i := slices.IndexFunc(m.Pending, func(c Command) bool { return c.ID == e.Command && c.Do == Look })
	if i < 0 {
		return
	}
	m.Pending = slices.Delete(m.Pending, i, i+1)
	if m.Phase != Looking || m.Status.Over() {
		return
	}
	var wave []Unit
	for _, u := range m.Units {
		if u.Wave == m.Wave {
			wave = append(wave, u)
		}
	}
	g := GateRecord{Wave: m.Wave, At: m.now, Conditions: m.Rules.Gate.Judge(wave, e.Sights)}
	var not []string
	for _, c := range g.Conditions {
		if !c.Holds {
			not = append(not, c.Name+": "+c.Seen)
		}
	}
	g.Held = len(not) > 0
	m.Gates = append(m.Gates, g)
	if !g.Held {
		m.nextWave()
		return
	}
	m.Phase = Judged
	before := ""
	if m.Status == Held {
		before = m.Reason + " "
	}
	m.hold(before + fmt.Sprintf("The gate of %s does not hold. %s.", WaveName(m.Wave, m.Rules), strings.Join(not, "; ")))
}

// nextWave goes on behind a gate. A paused rollout stays paused.
func (m *machine) nextWave() {
	if m.Wave < m.Waves-1 {
		m.Wave++
		m.Phase, m.WaveBegan = Updating, m.now
		return
	}
	m.Phase = Updating // the last wave waited for all
	m.Status, m.Reason = Done, ""
	m.due(time.Time{}, "")
}

// WaveName names a wave: the trial, or its number.
func WaveName(wave int, r Rules) string {
	if !r.Trial {
		wave++
	}
	if wave == 0 {
		return "the trial"
	}
	return fmt.Sprintf("wave %d", wave)
}

// names lists names, the first few of many.
func names(list []string) string {
	const most = 4
	if len(list) > most {
		return strings.Join(list[:most], ", ") + fmt.Sprintf(" and %d more", len(list)-most)
	}
	return strings.Join(list, ", ")
}
