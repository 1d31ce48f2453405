package check

import (
	"testing"
	"time"
)

func TestPutReplacesTheResultOfTheSameName(t *testing.T) {
	at := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	all := Put(nil, Fail(Session, OwnSession, at, "a", "%d", 3))
	all = Put(all, Hold(Command, RoundTrip, at, "on", "on"))
	if len(all) != 2 || all[0].Verdict == Holds || all[0].Seen != "3" || all[1].Verdict != Holds {
		t.Errorf("%+v", all)
	}
	all = Put(all, Hold(Session, OwnSession, at, "a", "a"))
	if len(all) != 2 || all[0].Verdict != Holds || all[0].Seen != "a" {
		t.Errorf("%+v", all)
	}
}
