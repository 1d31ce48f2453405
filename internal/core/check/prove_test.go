package check

import (
	"strings"
	"testing"
	"time"
	_ "time/tzdata"
)

var noon = time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)

// whole is a unit of which everything could be seen and is right.
func whole() Sight {
	at, online := noon.Add(3*time.Second), true
	lisbon, _ := time.LoadLocation("Europe/Lisbon")
	said := noon.Add(time.Second).In(lisbon)
	return Sight{Began: noon, At: noon.Add(4 * time.Second), Address: "192.168.40.23", AddressBy: LiveMessage, Range: "192.168.40.0/24", InRange: true,
		Hostname: "adega-level-1", NamesAt: "192.168.40.1", Resolved: []string{"192.168.40.23"}, Account: "unit-1", Connected: true, KeepsWord: true, Kept: true,
		Equal: 20, LiveVersion: "1.4.0", Intended: "1.4.0", VersionOK: true, Commands: true, Commanded: "relay stayed true", Trip: 12 * time.Millisecond,
		Measures: true, Due: 30 * time.Second, ReadAt: &at, Zone: "Europe/Lisbon", ZoneSaid: "Europe/Lisbon", TimeSaid: &said, TimeAt: noon.Add(time.Second),
		Hub: "Lagar hub", HubHas: true, HubTitle: "Adega", Title: "Adega", HubOnline: &online}
}

func TestAUnitOfWhichAllIsRightIsSignedOff(t *testing.T) {
	all := Judge(whole())
	if len(all) != 11 || Stand(all) != SignedOff {
		t.Errorf("%d checks, %s: %+v", len(all), Stand(all), all)
	}
	for _, r := range all {
		if r.Verdict != Holds || r.Evidence == "" || r.Expected == "" || r.Seen == "" || r.At.IsZero() {
			t.Errorf("%+v", r)
		}
	}
}

// TestEachFaultIsItsOwnCheck: one thing that is wrong, or could not be seen, is
// said by one check and no other.
func TestEachFaultIsItsOwnCheck(t *testing.T) {
	off, azores := false, noon.Add(time.Second).In(time.FixedZone("", 0))
	early, wrong := noon.Add(-time.Second), noon.Add(time.Minute)
	for _, c := range []struct {
		do      func(*Sight)
		name    Name
		verdict Verdict
		says    string
	}{
		{func(s *Sight) { s.InRange = false }, Address, Fails, "192.168.40.23"},
		{func(s *Sight) { s.Range = "" }, Address, LeftOut, "not on record"},
		{func(s *Sight) { s.Address, s.Resolved = "", nil; s.NamesAt = "" }, Address, LeftOut, "does not say"},
		{func(s *Sight) { s.FixedAddress = "192.168.40.60" }, Address, Fails, "192.168.40.23"},
		{func(s *Sight) { s.Resolved = nil }, Hostname, Fails, "does not know it"},
		{func(s *Sight) { s.Resolved = []string{"192.168.40.99"} }, Hostname, Fails, "192.168.40.99"},
		{func(s *Sight) { s.NamesAt = "" }, Hostname, LeftOut, "on record"},
		{func(s *Sight) { s.NamesDown = "refused" }, Hostname, LeftOut, "refused"},
		{func(s *Sight) { s.Connected = false }, Session, Fails, "no session"},
		{func(s *Sight) { s.Kept = false }, Presence, Fails, "not kept"},
		{func(s *Sight) { s.Differ = []string{"hostname"} }, Settings, Fails, "hostname"},
		{func(s *Sight) { s.Read = "no route" }, Settings, Fails, "no route"},
		{func(s *Sight) { s.Equal = 0 }, Settings, LeftOut, "none"},
		{func(s *Sight) { s.VersionOK, s.LiveVersion = false, "1.3.0" }, Version, Fails, "1.3.0"},
		{func(s *Sight) { s.LiveVersion = "" }, Version, Fails, "did not say"},
		{func(s *Sight) { s.Trip, s.TripFailed = 0, "no state" }, Command, Fails, "no state"},
		{func(s *Sight) { s.ReadAt = nil }, Reading, Fails, "none within"},
		{func(s *Sight) { s.ReadAt = &early }, Reading, Fails, "none within"},
		{func(s *Sight) { s.ZoneSaid = "Atlantic/Azores" }, Clock, Fails, "Azores"},
		{func(s *Sight) { s.TimeSaid = &wrong }, Clock, Fails, "59s off"},
		{func(s *Sight) { s.TimeSaid = &azores }, Clock, Fails, "+00:00"},
		{func(s *Sight) { s.TimeSaid = nil }, Clock, Holds, "does not tell"},
		{func(s *Sight) { s.TimeSaid, s.ZoneSaid = nil, "" }, Clock, LeftOut, "neither"},
		{func(s *Sight) { s.HubHas = false }, HubThing, Fails, "does not list it"},
		{func(s *Sight) { s.HubTitle = "Old" }, HubThing, Fails, "Old"},
		{func(s *Sight) { s.HubDown = "no answer" }, HubThing, Fails, "no answer"},
		{func(s *Sight) { s.HubOnline = &off }, HubSwitch, Fails, "no session"},
	} {
		s := whole()
		c.do(&s)
		found := false
		for _, r := range Judge(s) {
			switch {
			case r.Name == c.name:
				found = true
				if r.Verdict != c.verdict || !strings.Contains(r.Seen, c.says) {
					t.Errorf("%s: %s, %q; want %s, %q", r.Name, r.Verdict, r.Seen, c.verdict, c.says)
				}
			case r.Verdict == Fails:
				t.Errorf("%s fails, too: %+v", r.Name, r)
			}
		}
		if !found {
			t.Errorf("%s is not among the checks", c.name)
		}
	}
}

func TestTheStandingIsThatOfTheWorstCheck(t *testing.T) {
	at := noon
	joined := Hold(Address, LiveMessage, at, "a", "a")
	held, left := Hold(Session, OwnSession, at, "a", "a"), Skip(Hostname, at, "b", "why")
	asked, failed := Result{Name: Blinks, Verdict: Asked}, Fail(Command, RoundTrip, at, "c", "d")
	for _, c := range []struct {
		all  []Result
		want Standing
	}{{nil, Unchecked}, {[]Result{left}, Unchecked}, {[]Result{held, left}, Unchecked}, {[]Result{held, left, joined}, SignedOff}, {[]Result{held, asked}, Open}, {[]Result{held, asked, failed}, Failing}} {
		if got := Stand(c.all); got != c.want {
			t.Errorf("%v is %s, want %s", c.all, got, c.want)
		}
	}
}
