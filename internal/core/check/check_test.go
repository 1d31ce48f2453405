package check

import (
	"testing"
	"time"
)

func TestPutAndAllHold(t *testing.T) {
	at := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	if AllHold(nil) {
		t.Error("no checks at all were taken for proof")
	}
	all := Put(nil, Fail(Session, OwnSession, at, "a", "%d", 3))
	all = Put(all, Hold(Command, RoundTrip, at, "on", "on"))
	if AllHold(all) || all[0].Seen != "3" {
		t.Errorf("%+v", all)
	}
	all = Put(all, Hold(Session, OwnSession, at, "a", "a"))
	if !AllHold(all) || len(all) != 2 {
		t.Errorf("%+v", all)
	}
}
