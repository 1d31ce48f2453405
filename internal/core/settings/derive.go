package settings

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"net/netip"
	"time"
)

// Derived gives the values that follow from others and that some units want
// instead of them: the mask of a prefix length, and a time zone as the rule of
// POSIX.1-2017, section 8.3.
func (v Values) Derived() map[string]string {
	out := map[string]string{}
	if n, ok := v[AddressPrefix].(int64); ok && n >= 0 && n <= 32 {
		var m [4]byte
		binary.BigEndian.PutUint32(m[:], uint32(math.MaxUint32<<(32-n)&math.MaxUint32))
		out["address.mask"] = netip.AddrFrom4(m).String()
	}
	if zone, ok := v[ClockZone].(string); ok {
		if rule := PosixZone(zone); rule != "" {
			out["clock.posix"] = rule
		}
	}
	return out
}

// PrefixOf is the prefix length of a mask in dotted form; ok is false for what
// is no mask.
func PrefixOf(mask string) (length int64, ok bool) {
	a, err := netip.ParseAddr(mask)
	if err != nil || !a.Is4() {
		return 0, false
	}
	b := a.As4()
	m := binary.BigEndian.Uint32(b[:])
	return int64(bits.OnesCount32(m)), bits.LeadingZeros32(^m) == bits.OnesCount32(m)
}

// posixYear is the year whose rules are written: zones change rarely, and a
// fixed year makes the rule the same every day.
const posixYear = 2026

// PosixZone writes an IANA zone as a POSIX rule, such as
// WET0WEST,M3.5.0/1,M10.5.0. It returns "" for an unknown zone, and the
// standard time alone where the clocks do not change twice in the year.
func PosixZone(name string) string {
	loc, err := time.LoadLocation(name)
	if err != nil || name == "" || name == "Local" {
		return ""
	}
	changes := zoneChanges(loc)
	first := time.Date(posixYear, 1, 1, 12, 0, 0, 0, loc)
	std, stdOffset := first.Zone()
	if len(changes) != 2 {
		return posixName(std, stdOffset) + posixOffset(-stdOffset)
	}
	on, off := changes[0], changes[1]
	if on.In(loc).IsDST() == off.In(loc).IsDST() {
		return posixName(std, stdOffset) + posixOffset(-stdOffset)
	}
	if !on.In(loc).IsDST() { // the southern half of the world begins its year in summer
		on, off = off, on
	}
	dst, dstOffset := on.In(loc).Zone()
	std, stdOffset = off.In(loc).Zone()
	rule := posixName(std, stdOffset) + posixOffset(-stdOffset) + posixName(dst, dstOffset)
	if dstOffset-stdOffset != 3600 {
		rule += posixOffset(-dstOffset)
	}
	return rule + "," + posixDay(on, stdOffset) + "," + posixDay(off, dstOffset)
}

// zoneChanges finds the moments of a year at which the offset changes.
func zoneChanges(loc *time.Location) []time.Time {
	var out []time.Time
	at := time.Date(posixYear, 1, 1, 0, 0, 0, 0, time.UTC)
	for at.Year() == posixYear {
		next := at.Add(24 * time.Hour)
		if offset(at, loc) != offset(next, loc) {
			low, high := at, next
			for high.Sub(low) > time.Second {
				mid := low.Add(high.Sub(low) / 2).Truncate(time.Second)
				if offset(mid, loc) == offset(at, loc) {
					low = mid
				} else {
					high = mid
				}
			}
			out = append(out, high)
		}
		at = next
	}
	return out
}

func offset(t time.Time, loc *time.Location) int {
	_, o := t.In(loc).Zone()
	return o
}

// posixName quotes what is no word of letters.
func posixName(name string, offset int) string {
	for _, r := range name {
		if (r < 'A' || r > 'Z') && (r < 'a' || r > 'z') {
			return fmt.Sprintf("<%+03d>", offset/3600)
		}
	}
	return name
}

func posixOffset(seconds int) string {
	sign := ""
	if seconds < 0 {
		sign, seconds = "-", -seconds
	}
	out := fmt.Sprintf("%s%d", sign, seconds/3600)
	if rest := seconds % 3600; rest != 0 {
		out += fmt.Sprintf(":%02d", rest/60)
	}
	return out
}

// posixDay writes a change as month, week, weekday and the hour of the clock
// that it ends, which is left out when it is two o'clock.
func posixDay(at time.Time, before int) string {
	t := at.In(time.FixedZone("", before))
	week := (t.Day()-1)/7 + 1
	if t.AddDate(0, 0, 7).Month() != t.Month() {
		week = 5
	}
	day := fmt.Sprintf("M%d.%d.%d", t.Month(), week, t.Weekday())
	if s := t.Hour()*3600 + t.Minute()*60; s != 7200 {
		day += "/" + posixOffset(s)
	}
	return day
}
