// Package health keeps how a unit does in bounded space: what it says of itself is
// rolled up over spans of five minutes and of an hour. It judges nothing and keeps
// nothing itself.
package health

import (
	"math"
	"time"

	"fado/internal/core/dialect"
)

// What is measured.
type What string

// What is measured of a unit.
const (
	Signal   What = "signal"      // dBm
	Memory   What = "free memory" // bytes
	Battery  What = "battery"     // percent
	Interval What = "interval"    // seconds between two readings
	Returns  What = "returns"     // how often it came online: it restarted, or had lost the network
)

// All lists what is measured, in the order in which it is shown.
var All = []What{Signal, Memory, Battery, Interval, Returns}

// Unit is the unit of what is measured.
func (w What) Unit() string {
	return map[What]string{Signal: "dBm", Memory: "bytes", Battery: "%", Interval: "s", Returns: "times"}[w]
}

// The spans over which readings are rolled up, and how long they are kept.
const (
	Fine       = 5 * time.Minute
	Coarse     = time.Hour
	FineKept   = 3 * 24 * time.Hour
	CoarseKept = 90 * 24 * time.Hour
)

// Start is the beginning of the span that a moment lies in.
func Start(t time.Time, span time.Duration) time.Time { return t.UTC().Truncate(span) }

// Roll is what was measured in one span.
type Roll struct {
	Count               int64
	Low, High, Sum, End float64 // End is the last reading
}

// Add takes in a reading.
func (r *Roll) Add(v float64) {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return
	}
	if r.Count == 0 || v < r.Low {
		r.Low = v
	}
	if r.Count == 0 || v > r.High {
		r.High = v
	}
	r.Count++
	r.Sum += v
	r.End = v
}

// Mean is the mean of the readings; 0 when there are none.
func (r Roll) Mean() float64 {
	if r.Count == 0 {
		return 0
	}
	return r.Sum / float64(r.Count)
}

// Last remembers when a unit last gave a reading and when it last came online.
type Last struct{ reading, came time.Time }

// A unit says several things at once, and a broker may deliver a message twice; what
// comes within together belongs to one reading, or one return, and what comes after
// longest is a unit that had been away.
const (
	together = time.Second
	longest  = 24 * time.Hour
)

// Read takes out of a live message what it says of how its unit does.
func (l *Last) Read(kind dialect.MessageKind, f dialect.Facts, at time.Time) map[What]float64 {
	out := map[What]float64{}
	for what, fact := range map[What]string{Signal: "signal", Memory: "free_memory", Battery: "battery"} {
		if v, ok := f.Number(fact); ok {
			out[what] = v
		}
	}
	switch kind {
	case dialect.State:
		since := at.Sub(l.reading)
		if !l.reading.IsZero() && since >= together && since <= longest {
			out[Interval] = since.Seconds()
		}
		if since >= together {
			l.reading = at
		}
	case dialect.Presence:
		if f.Text("presence") == "online" {
			if l.came.IsZero() || at.Sub(l.came) >= together {
				out[Returns] = 1
			}
			l.came = at
		}
	}
	return out
}
