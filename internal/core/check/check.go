// Package check holds the tests of single facts: what was expected, what was
// seen, when, and on what evidence. It judges; it never asks a unit.
package check

import (
	"fmt"
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
	Witness     Evidence = "a person"
	Tried       Evidence = "tried at the unit"
	Air         Evidence = "heard by the radio"
)

// Name names a check.
type Name string

// The checks of commissioning and update.
const (
	Session   Name = "broker session under its own account"
	Presence  Name = "presence is kept by the broker"
	Settings  Name = "settings read back equal"
	Command   Name = "command and state make the round trip"
	Reading   Name = "a reading came in"
	Version   Name = "version as intended"
	Factory   Name = "factory login is gone"
	Point     Name = "its own access point is closed"
	Before    Name = "what had to be done before"
	HubThing  Name = "the hub lists it"
	HubSwitch Name = "the hub's account reaches it"
)

// Result is one check with its finding.
type Result struct {
	Name     Name      `json:"name"`
	Holds    bool      `json:"holds"`
	Expected string    `json:"expected"`
	Seen     string    `json:"seen"`
	Evidence Evidence  `json:"evidence"`
	At       time.Time `json:"at"`
}

// Hold writes a check that holds.
func Hold(name Name, e Evidence, at time.Time, expected, seen string, args ...any) Result {
	return Result{name, true, expected, fmt.Sprintf(seen, args...), e, at}
}

// Fail writes a check that does not hold.
func Fail(name Name, e Evidence, at time.Time, expected, seen string, args ...any) Result {
	return Result{name, false, expected, fmt.Sprintf(seen, args...), e, at}
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
