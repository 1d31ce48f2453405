// Package check holds the tests of single facts: what was expected, what was
// seen, when, and on what evidence. It judges; it never asks a unit.
package check

import (
	"fmt"
	"slices"
	"time"
)

// Evidence says what a check's finding rests on.
type Evidence string

// The kinds of evidence. A retained message is history and never evidence.
const (
	LiveMessage Evidence = "live message"
	OwnSession  Evidence = "session under its own account"
	ReadBack    Evidence = "read back"
	RoundTrip   Evidence = "command and state"
	HubAnswer   Evidence = "the hub's own answer"
	Names       Evidence = "the network's own names"
	Keeping     Evidence = "what the broker keeps"
	Witness     Evidence = "a person"
	Tried       Evidence = "tried at the unit"
	Air         Evidence = "heard by the radio"
)

// Name names a check.
type Name string

// The checks of commissioning and update.
const (
	Address   Name = "joined, with an address of its network"
	Hostname  Name = "its hostname resolves"
	Session   Name = "broker session under its own account"
	Presence  Name = "presence is kept by the broker"
	Settings  Name = "settings read back equal"
	Command   Name = "command and state make the round trip"
	Reading   Name = "a reading came in"
	Version   Name = "version as intended"
	Clock     Name = "clock and zone are right"
	Factory   Name = "factory login is gone"
	Point     Name = "its own access point is closed"
	Before    Name = "what had to be done before"
	HubThing  Name = "the hub lists it"
	HubSwitch Name = "the hub is on the broker"
	Blinks    Name = "it is the one that blinks"
)

// Follows is the check that what a capability drives follows a command, which
// only a person can see.
func Follows(capability string) Name { return Name(capability + " follows, as a person sees") }

// Verdict says how a check stands.
type Verdict string

// The verdicts.
const (
	Holds   Verdict = "holds"
	Fails   Verdict = "fails"
	Asked   Verdict = "asked"    // a person was asked and has not answered
	LeftOut Verdict = "left out" // it could not be made; what was seen says why
)

// Result is one check with its finding.
type Result struct {
	Name     Name      `json:"name"`
	Verdict  Verdict   `json:"verdict" enum:"holds,fails,asked,left out"`
	Expected string    `json:"expected"`
	Seen     string    `json:"seen"`
	Evidence Evidence  `json:"evidence"`
	At       time.Time `json:"at"`
}

// Hold writes a check that holds.
func Hold(name Name, e Evidence, at time.Time, expected, seen string, args ...any) Result {
	return Result{name, Holds, expected, fmt.Sprintf(seen, args...), e, at}
}

// Fail writes a check that does not hold.
func Fail(name Name, e Evidence, at time.Time, expected, seen string, args ...any) Result {
	return Result{name, Fails, expected, fmt.Sprintf(seen, args...), e, at}
}

// Skip writes a check that could not be made, and why.
func Skip(name Name, at time.Time, expected, why string) Result {
	return Result{name, LeftOut, expected, why, "", at}
}

// Standing says how a device stands by its checks.
type Standing string

// The standings.
const (
	Unchecked Standing = "unchecked"
	Failing   Standing = "fails"      // at least one check fails
	Open      Standing = "open"       // a person has not answered yet
	SignedOff Standing = "signed off" // all that could be made hold
)

// Stand sums the checks of a device up. Those that a task makes on its way are no
// sign-off.
func Stand(all []Result) Standing {
	count, whole := map[Verdict]int{}, false
	for _, r := range all {
		count[r.Verdict]++
		whole = whole || r.Name == Address // it is made with all others only
	}
	switch {
	case count[Fails] > 0:
		return Failing
	case count[Asked] > 0:
		return Open
	case count[Holds] > 0 && whole:
		return SignedOff
	}
	return Unchecked
}

// order is that of a sign-off: from joining to the hub, what a person has seen last.
var order = []Name{Before, Address, Hostname, Session, Presence, Settings, Version, Command, Reading, Clock, Factory, Point, HubThing, HubSwitch}

// Sort puts results into the order of a sign-off.
func Sort(all []Result) {
	slices.SortStableFunc(all, func(a, b Result) int { return place(a.Name) - place(b.Name) })
}

func place(n Name) int {
	if i := slices.Index(order, n); i >= 0 {
		return i
	}
	return len(order)
}

// Put replaces the result of the same name, or appends it.
func Put(all []Result, r Result) []Result {
	for i := range all {
		if all[i].Name == r.Name {
			all[i] = r
			return all
		}
	}
	return append(all, r)
}
