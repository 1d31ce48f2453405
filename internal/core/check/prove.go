package check

import (
	"fmt"
	"strings"
	"time"
)

// Sight is what was expected and seen of a unit in service while it was being
// checked. What is zero was not looked at, or could not be.
type Sight struct {
	Began, At time.Time // of looking

	Address      string   // as it said live, or as its network's names have it
	AddressBy    Evidence // where that is from
	FixedAddress string   // it was told to have this one
	Range        string   // of its site, for messages; InRange says whether Address lies in it
	InRange      bool

	Hostname  string
	NamesAt   string   // who was asked for it; "" when there is nobody to ask
	NamesDown string   // why nobody answered
	Resolved  []string // addresses

	Account    string // of its unit on the embedded broker; "" where there is none
	Connected  bool
	Sleeps     bool
	SignedInAt *time.Time // of a unit that sleeps
	KeepsWord  bool       // the family keeps its presence on the broker
	Kept       bool       // the broker has it

	Read        string // why the settings could not be read; "" when they were
	Equal       int
	Differ      []string // settings that are not as intended
	LiveVersion string   // as it said itself since Began
	Intended    string   // version; "" when none is
	VersionOK   bool

	Commands   bool // it can be commanded
	Commanded  string
	Trip       time.Duration // from the command to the state that followed; 0 when none did
	TripFailed string

	Measures bool          // it has something to read
	Due      time.Duration // how often a reading comes
	Waited   time.Duration // how long one was waited for
	ReadAt   *time.Time    // when a live one came

	Zone     string // intended; "" when none is
	ZoneSaid string
	TimeSaid *time.Time // by its own clock
	TimeAt   time.Time  // when it said so

	Hub       string // its name; "" when the site has none
	HubDown   string // why it could not be asked
	HubHas    bool
	HubTitle  string // under which it lists the thing
	Title     string // that was expected
	HubOnline *bool  // its account is connected; nil where that cannot be seen
}

// drift is how far a unit's clock may be off.
const drift = 5 * time.Second

// Judge makes the checks that what was seen allows, in the order of a sign-off.
// Doors, which are tried and not seen, are not among them.
func Judge(s Sight) []Result {
	out := []Result{s.address(), s.hostname()}
	if s.Account != "" {
		out = append(out, s.session())
	}
	if s.KeepsWord {
		out = append(out, decide(s.Kept, Presence, Keeping, s.At, "kept for whoever comes later", pick(s.Kept, "kept", "not kept")))
	}
	out = append(out, s.settings())
	if s.Intended != "" {
		out = append(out, s.version())
	}
	if s.Commands {
		out = append(out, s.trip())
	}
	if s.Measures {
		out = append(out, s.reading())
	}
	if s.Zone != "" {
		out = append(out, s.clock())
	}
	return append(out, s.hub()...)
}

func decide(ok bool, name Name, e Evidence, at time.Time, expected, seen string) Result {
	if ok {
		return Hold(name, e, at, expected, "%s", seen)
	}
	return Fail(name, e, at, expected, "%s", seen)
}

func pick(ok bool, yes, no string) string {
	if ok {
		return yes
	}
	return no
}

func (s Sight) address() Result {
	switch {
	case s.Address == "":
		return Skip(Address, s.At, pick(s.Range != "", "in "+s.Range, "an address of its network"), "its firmware does not say its address, and nothing on its network does")
	case s.FixedAddress != "":
		return decide(s.Address == s.FixedAddress, Address, s.AddressBy, s.At, s.FixedAddress+", as it was told", s.Address)
	case s.Range == "":
		return Skip(Address, s.At, "in the range of its site", s.Address+"; which range its site has is not on record")
	}
	return decide(s.InRange, Address, s.AddressBy, s.At, "in "+s.Range, s.Address)
}

func (s Sight) hostname() Result {
	expected := s.Hostname
	if s.Address != "" {
		expected += " is " + s.Address
	}
	switch {
	case s.Sleeps:
		return Skip(Hostname, s.At, expected, "it sleeps, and its network forgets it meanwhile")
	case s.NamesAt == "":
		return Skip(Hostname, s.At, expected, "nobody who knows the names of its network is on record")
	case s.NamesDown != "":
		return Skip(Hostname, s.At, expected, fmt.Sprintf("%s did not answer: %s", s.NamesAt, s.NamesDown))
	case len(s.Resolved) == 0:
		return Fail(Hostname, Names, s.At, expected, "%s does not know it", s.NamesAt)
	}
	ok := s.Address == ""
	for _, a := range s.Resolved {
		ok = ok || a == s.Address
	}
	return decide(ok, Hostname, Names, s.At, expected, strings.Join(s.Resolved, ", "))
}

func (s Sight) session() Result {
	switch {
	case s.Sleeps && s.SignedInAt != nil:
		return Hold(Session, OwnSession, s.At, s.Account, "%s signed in at its wake", s.Account)
	case s.Connected:
		return Hold(Session, OwnSession, s.At, s.Account, "%s is connected", s.Account)
	}
	return Fail(Session, OwnSession, s.At, s.Account, "no session")
}

func (s Sight) settings() Result {
	switch {
	case s.Read != "":
		return Fail(Settings, ReadBack, s.At, "all equal", "could not be read: %s", s.Read)
	case len(s.Differ) > 0:
		return Fail(Settings, ReadBack, s.At, "all equal", "%d equal; not as intended: %s", s.Equal, strings.Join(s.Differ, ", "))
	case s.Equal == 0:
		return Skip(Settings, s.At, "all equal", "its firmware tells none of its settings")
	}
	return Hold(Settings, ReadBack, s.At, "all equal", "%d equal", s.Equal)
}

func (s Sight) version() Result {
	if s.LiveVersion == "" {
		return Fail(Version, LiveMessage, s.At, s.Intended, "it did not say what it runs")
	}
	return decide(s.VersionOK, Version, LiveMessage, s.At, s.Intended, s.LiveVersion)
}

func (s Sight) trip() Result {
	if s.Trip == 0 {
		return Fail(Command, RoundTrip, s.At, "the state follows the command", "%s", s.TripFailed)
	}
	return Hold(Command, RoundTrip, s.At, "the state follows the command", "%s, after %.1f ms", s.Commanded, float64(s.Trip.Microseconds())/1000)
}

func (s Sight) reading() Result {
	expected := fmt.Sprintf("a live reading every %s", s.Due)
	if s.ReadAt == nil || s.ReadAt.Before(s.Began) {
		return Fail(Reading, LiveMessage, s.At, expected, "none within %s", s.Waited.Round(time.Second))
	}
	return Hold(Reading, LiveMessage, s.At, expected, "one after %s", s.ReadAt.Sub(s.Began).Round(100*time.Millisecond))
}

func (s Sight) clock() Result {
	expected := s.Zone
	if s.ZoneSaid != "" && s.ZoneSaid != s.Zone {
		return Fail(Clock, ReadBack, s.At, expected, "%s", s.ZoneSaid)
	}
	if s.TimeSaid == nil {
		if s.ZoneSaid == "" {
			return Skip(Clock, s.At, expected, "its firmware tells neither its zone nor its time")
		}
		return Hold(Clock, ReadBack, s.At, expected, "%s; its firmware does not tell its time", s.ZoneSaid)
	}
	off := s.TimeSaid.Sub(s.TimeAt).Abs()
	if off > drift {
		return Fail(Clock, LiveMessage, s.At, expected+", right to "+drift.String(), "%s off", off.Round(time.Second))
	}
	if zone, err := time.LoadLocation(s.Zone); err == nil {
		_, want := s.TimeSaid.In(zone).Zone()
		// A time in UTC says nothing of the zone.
		if _, got := s.TimeSaid.Zone(); got != want && s.TimeSaid.Location() != time.UTC {
			return Fail(Clock, LiveMessage, s.At, expected, "its clock shows %s", s.TimeSaid.Format("15:04 -07:00"))
		}
	}
	return Hold(Clock, LiveMessage, s.At, expected+", right to "+drift.String(), "right to %s", max(off.Round(100*time.Millisecond), 100*time.Millisecond))
}

func (s Sight) hub() []Result {
	if s.Hub == "" {
		return nil
	}
	var out []Result
	switch {
	case s.HubDown != "":
		out = append(out, Fail(HubThing, HubAnswer, s.At, s.Title, "%s did not answer: %s", s.Hub, s.HubDown))
	case !s.HubHas:
		out = append(out, Fail(HubThing, HubAnswer, s.At, s.Title, "%s does not list it", s.Hub))
	default:
		out = append(out, decide(s.HubTitle == s.Title, HubThing, HubAnswer, s.At, s.Title, s.HubTitle))
	}
	if s.HubOnline != nil {
		out = append(out, decide(*s.HubOnline, HubSwitch, OwnSession, s.At, s.Hub+" is connected", pick(*s.HubOnline, "connected", "no session")))
	}
	return out
}
