package rollout

import (
	"slices"
	"time"
)

// Hours are the hours of a home's own day in which updates may begin. Nil is always.
type Hours struct {
	From, To int            // minutes after midnight, by the home's clock; To may be on the next day
	Days     []time.Weekday // on which they open; none is each day
}

type window struct {
	open         bool
	closes, next time.Time
}

func (h *Hours) length() time.Duration {
	return time.Duration((h.To-h.From+24*60)%(24*60)) * time.Minute
}

// At tells whether updates may begin at a moment, until when, and when they may begin
// next if not. Nothing begins while a clock in the home shows a time outside the
// hours: where a time of day comes twice, the hours end at the first time that they
// end, and are interrupted while the clock goes through what lies before them again;
// where a time of day is left out, they begin or end at the moment of the change.
func (h *Hours) At(now time.Time, zone *time.Location) (open bool, closes, next time.Time) {
	if h == nil || h.From == h.To {
		return true, time.Time{}, time.Time{}
	}
	local := now.In(zone)
	for day := -1; day <= 8; day++ {
		date := time.Date(local.Year(), local.Month(), local.Day()+day, 12, 0, 0, 0, zone)
		if len(h.Days) > 0 && !slices.Contains(h.Days, date.Weekday()) {
			continue
		}
		opens := wallTime(date, h.From, zone)
		end := date
		if h.To < h.From {
			end = date.AddDate(0, 0, 1)
		}
		ends := wallTime(end, h.To, zone)
		switch {
		case !opens.Before(ends): // all of them are left out on this day
		case !now.Before(ends):
		case now.Before(opens):
			return false, time.Time{}, opens
		case h.shown(local):
			closes = h.until(now, ends, zone)
			return true, closes, h.after(closes, zone)
		default:
			// The clock went back behind the beginning: it begins once more.
			return false, time.Time{}, h.resumes(now, ends, zone)
		}
	}
	return false, time.Time{}, now.AddDate(0, 0, 7)
}

// after is when the hours begin that follow those which close.
func (h *Hours) after(closes time.Time, zone *time.Location) time.Time {
	open, _, next := h.At(closes, zone)
	if open {
		return closes // the hours of two days touch
	}
	return next
}

// shown reports whether a clock that shows this time is within the hours.
func (h *Hours) shown(local time.Time) bool {
	m := local.Hour()*60 + local.Minute()
	if h.To > h.From {
		return m >= h.From && m < h.To
	}
	return m >= h.From || m < h.To
}

// until is when the hours that are open now end, or are interrupted.
func (h *Hours) until(now, ends time.Time, zone *time.Location) time.Time {
	if at, changes := change(now, ends, zone); changes && !h.shown(at.In(zone)) {
		return at
	}
	return ends
}

// resumes is when hours that are interrupted go on.
func (h *Hours) resumes(now, ends time.Time, zone *time.Location) time.Time {
	for t := now.Truncate(time.Minute).Add(time.Minute); t.Before(ends); t = t.Add(time.Minute) {
		if h.shown(t.In(zone)) {
			return t
		}
	}
	return ends
}

// wallTime is the first moment of a day at which its clock shows a time, or the moment
// of the change where that time is left out.
func wallTime(date time.Time, minutes int, zone *time.Location) time.Time {
	y, mo, d := date.Date()
	utc := time.Date(y, mo, d, 0, minutes, 0, 0, time.UTC)
	_, before := utc.Add(-26 * time.Hour).In(zone).Zone()
	_, after := utc.Add(26 * time.Hour).In(zone).Zone()
	early, late := utc.Add(-time.Duration(max(before, after))*time.Second), utc.Add(-time.Duration(min(before, after))*time.Second)
	shows := func(t time.Time) bool {
		l := t.In(zone)
		return l.Hour()*60+l.Minute() == minutes%(24*60) && l.Day() == utc.Day()
	}
	switch {
	case shows(early):
		return early
	case shows(late):
		return late
	}
	at, _ := change(early, late, zone)
	return at
}

// change finds the moment between two at which a zone's offset changes.
func change(from, to time.Time, zone *time.Location) (time.Time, bool) {
	_, a := from.In(zone).Zone()
	_, b := to.In(zone).Zone()
	if a == b {
		return to, false
	}
	lo, hi := from.Unix(), to.Unix()
	for hi-lo > 1 {
		mid := lo + (hi-lo)/2
		if _, o := time.Unix(mid, 0).In(zone).Zone(); o == a {
			lo = mid
		} else {
			hi = mid
		}
	}
	return time.Unix(hi, 0).UTC(), true
}
