package health

// Window is how a unit did over some time: what was measured, and over how many hours.
type Window struct {
	Rolls map[What]Roll
	Hours float64
}

// Change is how one thing was before and after something that was done to a unit: the
// mean of its readings, or, of Returns, how often in an hour.
type Change struct {
	What          What
	Before, After float64
	Worse         bool // by more than it changes by itself
}

// Merge adds the readings of another span.
func (r Roll) Merge(o Roll) Roll {
	switch {
	case r.Count == 0:
		return o
	case o.Count == 0:
		return r
	}
	return Roll{Count: r.Count + o.Count, Low: min(r.Low, o.Low), High: max(r.High, o.High), Sum: r.Sum + o.Sum, End: o.End}
}

// Compare tells what changed from one window to another, of all that was measured in
// both. A signal that is weaker by 6 dB, a fifth less of free memory, a battery that is
// lower by 10 points, readings half as rare again, and coming back twice or more, twice
// as often as before, are worse.
func Compare(before, after Window) []Change {
	if before.Hours <= 0 || after.Hours <= 0 {
		return nil
	}
	var out []Change
	for _, w := range All {
		b, a := before.Rolls[w], after.Rolls[w]
		c := Change{What: w, Before: b.Mean(), After: a.Mean()}
		switch {
		case w == Returns:
			if b.Count == 0 && a.Count == 0 {
				continue
			}
			c.Before, c.After = b.Sum/before.Hours, a.Sum/after.Hours
			c.Worse = a.Sum >= 2 && c.After > 2*c.Before
		case b.Count == 0 || a.Count == 0:
			continue
		case w == Signal:
			c.Worse = c.After <= c.Before-6
		case w == Memory:
			c.Worse = c.After < 0.8*c.Before
		case w == Battery:
			c.Worse = c.After <= c.Before-10
		case w == Interval:
			c.Worse = c.After > 1.5*c.Before
		}
		out = append(out, c)
	}
	return out
}
