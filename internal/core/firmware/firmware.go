// Package firmware holds what is known of an image, its signed manifest, and
// the decision whether an image suits a unit. It never reads a file or sends
// anything.
package firmware

import (
	"fmt"

	"fado/internal/core/inventory"
)

// Channel says how ready an image is.
type Channel string

// The channels, from the most to the least ready.
const (
	Stable  Channel = "stable"
	Preview Channel = "preview"
	Nightly Channel = "nightly"
)

// Part is the area of flash that an image is for.
type Part string

// The parts.
const (
	Program  Part = "program"
	FileArea Part = "files"
)

// Image is one immutable firmware file with what is known of it.
type Image struct {
	SHA256     string // 64 lower-case hexadecimal digits
	Firmware   string
	Version    string
	Channel    Channel
	Part       Part
	Models     []string // the models it is for
	Chip       string   // "" when it does not say
	Size       int64    // bytes
	NeedsKiB   int      // flash it needs while being installed, KiB; 0: its size in each slot
	OldestFrom string   // oldest version it can be installed from; "" for any
	Notes      string
	Step       bool   // a small image that is only on the way to others
	Sequence   uint64 // of its manifest (RFC 9124, manifest sequence number)
	Signed     bool
	Withdrawn  string // the reason, when it was withdrawn
}

// Unit is what fit has to know of a unit.
type Unit struct {
	Model    inventory.Model
	Firmware string // as reported
	Version  string // as reported
	Digest   string // of the running image, when the unit tells
	Size     int64  // of the running image, bytes; 0 when it is not known
	Battery  *int   // percent, when the unit tells
	// Digests says that units of its family tell the digest of what they run.
	Digests bool
	// OnStep says that it runs a small image that is only on the way; its version
	// says nothing of what may follow.
	OnStep bool
}

// Policy is what a site allows.
type Policy struct {
	Downgrade     bool // an older version may go onto a unit
	Unsigned      bool // images without a signed manifest may
	RiskyDelivery bool // ways that can kill a unit when interrupted may
	LeastBattery  int  // percent under which a battery unit is left alone
}

// Verdict is the outcome of fit, with the sentence that explains it.
type Verdict struct {
	Fits     bool        `json:"fits"`
	Rule     string      `json:"rule,omitempty" doc:"The rule that was broken, in a word"`
	Sentence string      `json:"sentence" doc:"Why, in words"`
	Route    []RouteStep `json:"route,omitempty" doc:"The images that go onto the unit, in their order; the last is the one wanted"`
}

func no(rule, format string, args ...any) Verdict {
	return Verdict{Rule: rule, Sentence: fmt.Sprintf(format, args...)}
}
