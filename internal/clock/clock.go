// Package clock passes time in. A Clock may run faster than the wall, which a
// simulation uses on both of its sides with one scale and one start. It knows
// nothing of the service or of the simulation.
package clock

import (
	"context"
	"time"
)

// Clock tells a time that runs Scale times as fast as the wall's from Start on.
type Clock struct {
	scale float64
	start time.Time
}

// Wall is the wall's own time.
func Wall() Clock { return Clock{scale: 1} }

// Scaled runs scale times as fast as the wall, from start on. A scale of zero
// or one is the wall's time.
func Scaled(scale float64, start time.Time) Clock {
	if scale <= 0 {
		scale = 1
	}
	return Clock{scale, start}
}

// Scale is how many times as fast as the wall the clock runs.
func (c Clock) Scale() float64 { return c.scale }

// Now is the clock's time, in UTC.
func (c Clock) Now() time.Time {
	now := time.Now()
	if c.scale == 1 || c.start.IsZero() {
		return now.UTC()
	}
	return c.start.Add(time.Duration(float64(now.Sub(c.start)) * c.scale)).UTC()
}

// Real turns a span of the clock's time into a span of the wall's.
func (c Clock) Real(d time.Duration) time.Duration { return time.Duration(float64(d) / c.scale) }

// Scaled turns a span of the wall's time into a span of the clock's.
func (c Clock) Scaled(d time.Duration) time.Duration {
	return time.Duration(float64(d) * c.scale)
}

// Sleep waits for a span of the clock's time, or until ctx ends, which it then
// reports.
func (c Clock) Sleep(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(c.Real(d))
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}
