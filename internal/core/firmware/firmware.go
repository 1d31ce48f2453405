// Package firmware holds what is known of an image, its signed manifest, and
// the decision whether an image suits a unit. It never reads a file or sends
// anything.
package firmware

import (
	"fmt"
	"slices"
	"strings"

	"fado/internal/core/inventory"
	"fado/internal/core/version"
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
	Battery  *int   // percent, when the unit tells
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
	Fits     bool   `json:"fits"`
	Rule     string `json:"rule,omitempty" doc:"The rule that was broken, in a word"`
	Sentence string `json:"sentence" doc:"Why, in words"`
}

func no(rule, format string, args ...any) Verdict {
	return Verdict{Rule: rule, Sentence: fmt.Sprintf(format, args...)}
}

// Fit decides whether the image suits the unit, before anything is sent. risky
// says that the dialect's only way of delivery can kill an interrupted unit.
func Fit(img Image, u Unit, p Policy, risky bool) Verdict {
	m := u.Model
	switch {
	case img.Withdrawn != "":
		return no("withdrawn", "%s %s was withdrawn: %s", img.Firmware, img.Version, img.Withdrawn)
	case !slices.Contains(img.Models, m.Name):
		return no("model", "%s %s is for %s; this unit is a %s.", img.Firmware, img.Version, strings.Join(img.Models, ", "), m.Name)
	case img.Chip != "" && img.Chip != m.Chip:
		return no("chip", "%s %s is built for the chip %s; a %s has a %s.", img.Firmware, img.Version, img.Chip, m.Name, m.Chip)
	case !img.Signed && !p.Unsigned:
		return no("signature", "%s %s has no signed manifest, and the site does not allow unsigned images.", img.Firmware, img.Version)
	}
	need := int64(img.NeedsKiB)
	if need == 0 {
		need = (img.Size + 1023) / 1024 * int64(m.Slots)
	}
	if need > int64(m.FlashKiB) {
		return no("flash", "%s %s needs %d KiB of flash; a %s has %d KiB.", img.Firmware, img.Version, need, m.Name, m.FlashKiB)
	}
	if u.Digest != "" && u.Digest == img.SHA256 {
		return no("running", "The unit runs this very image already.")
	}
	order := version.Unknown
	if u.Version != "" {
		order = version.Stand(u.Version, img.Version)
	}
	switch {
	case u.Version == "":
		return no("version", "The unit has not said which version it runs, so nobody can tell whether %s is newer.", img.Version)
	case order == version.Unknown:
		return no("version", "Version %s, which the unit runs, and version %s cannot be ordered.", u.Version, img.Version)
	case order == version.Ahead && !p.Downgrade:
		return no("downgrade", "The unit runs %s, which is newer than %s, and the site does not allow going back.", u.Version, img.Version)
	case img.OldestFrom != "" && version.Stand(u.Version, img.OldestFrom) != version.Current && version.Stand(u.Version, img.OldestFrom) != version.Ahead:
		return no("route", "%s %s can be installed from %s on; the unit runs %s and needs a version in between first.", img.Firmware, img.Version, img.OldestFrom, u.Version)
	case m.Power == inventory.Battery && u.Battery == nil:
		return no("battery", "The unit lives on a battery and has not said how full it is.")
	case m.Power == inventory.Battery && *u.Battery < p.LeastBattery:
		return no("battery", "The battery is at %d %%; the site asks for %d %%.", *u.Battery, p.LeastBattery)
	case risky && !p.RiskyDelivery:
		return no("consent", "An interrupted update would leave this unit dead until a cable reaches it, and the site has not consented to that.")
	}
	return Verdict{Fits: true, Sentence: fmt.Sprintf("%s goes from %s to %s: model, chip and flash suit it (%d of %d KiB).", m.Name, u.Version, img.Version, need, m.FlashKiB)}
}
