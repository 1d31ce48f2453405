package firmware

import (
	"fmt"
	"slices"
	"strings"

	"fado/internal/core/inventory"
	"fado/internal/core/version"
)

// RouteStep is one image on the way.
type RouteStep struct {
	SHA256   string `json:"sha256"`
	Firmware string `json:"firmware"`
	Version  string `json:"version"`
	Size     int64  `json:"size"`
	Why      string `json:"why,omitempty" doc:"Why it is needed on the way"`
}

// mostLegs is the longest route that is looked for.
const mostLegs = 6

// Fit decides whether the image suits the unit, before anything is sent, and by which
// route it gets there: over smaller images that make room, and over versions in
// between. risky says that the dialect's way of delivery can kill an interrupted unit.
// others are the images that may lie on the way.
func Fit(img Image, u Unit, p Policy, risky bool, others ...Image) Verdict {
	if v := suits(img, u, p); !v.Fits {
		return v
	}
	switch m := u.Model; {
	case img.Step:
		return no("step", "%s %s is small and only on the way to others; no unit stays with it.", img.Firmware, img.Version)
	case u.Digest != "" && u.Digest == img.SHA256:
		return no("running", "The unit runs this very image already.")
	case u.Version == "":
		return no("version", "The unit has not said which version it runs, so nobody can tell whether %s is newer.", img.Version)
	case !u.Digests && u.Version == img.Version && !u.OnStep:
		return no("running", "The unit says that it runs %s, and its family does not tell which build; nothing would prove that this one took its place.", u.Version)
	case !u.OnStep && version.Stand(u.Version, img.Version) == version.Unknown:
		return no("version", "Version %s, which the unit runs, and version %s cannot be ordered.", u.Version, img.Version)
	case !u.OnStep && version.Stand(u.Version, img.Version) == version.Ahead && !p.Downgrade:
		return no("downgrade", "The unit runs %s, which is newer than %s, and the site does not allow going back.", u.Version, img.Version)
	case m.Power == inventory.Battery && u.Battery == nil:
		return no("battery", "The unit lives on a battery and has not said how full it is.")
	case m.Power == inventory.Battery && *u.Battery < p.LeastBattery:
		return no("battery", "The battery is at %d %%; the site asks for %d %%.", *u.Battery, p.LeastBattery)
	case risky && !p.RiskyDelivery:
		return no("consent", "An interrupted update would leave this unit dead until a cable reaches it, and the site has not consented to that.")
	}
	route := findRoute(img, u, p, others)
	if route == nil {
		return noWay(img, u)
	}
	from := here{u.Version, u.Size}
	legs := make([]RouteStep, len(route))
	for i, x := range route {
		legs[i] = RouteStep{SHA256: x.SHA256, Firmware: x.Firmware, Version: x.Version, Size: x.Size}
		if i < len(route)-1 {
			legs[i].Why = "installs from " + from.version + ", and " + img.Version + " installs from it"
			if x.Step {
				legs[i].Why = fmt.Sprintf("is small (%d KiB) and makes room", kib(x.Size))
			}
		}
		from = here{x.Version, x.Size}
	}
	v := Verdict{Fits: true, Route: legs}
	v.Sentence = fmt.Sprintf("%s goes from %s to %s: model and chip suit it, and it has room (%s).", u.Model.Name, u.Version, img.Version, roomIn(route[len(route)-1], lastBefore(route, u), u.Model))
	if len(route) > 1 {
		var by []string
		for _, l := range legs[:len(legs)-1] {
			by = append(by, fmt.Sprintf("%s %s, which %s", l.Firmware, l.Version, l.Why))
		}
		v.Sentence = fmt.Sprintf("%s goes from %s to %s in %d steps, by way of %s.", u.Model.Name, u.Version, img.Version, len(route), strings.Join(by, "; then "))
	}
	return v
}

// suits judges what does not depend on what the unit runs.
func suits(img Image, u Unit, p Policy) Verdict {
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
	case kib(img.Size) > int64(m.FlashKiB)/int64(max(m.Slots, 1)) || int64(img.NeedsKiB) > int64(m.FlashKiB):
		need := max(kib(img.Size)*int64(max(m.Slots, 1)), int64(img.NeedsKiB))
		return no("flash", "%s %s needs %d KiB of flash; a %s has %d KiB.", img.Firmware, img.Version, need, m.Name, m.FlashKiB)
	}
	return Verdict{Fits: true}
}

func kib(bytes int64) int64 { return (bytes + 1023) / 1024 }

// here is what a unit runs at a point of a route.
type here struct {
	version string
	size    int64 // 0 when it is not known
}

func lastBefore(route []Image, u Unit) here {
	if len(route) > 1 {
		x := route[len(route)-2]
		return here{x.Version, x.Size}
	}
	return here{u.Version, u.Size}
}

// room tells whether an image can be written while the unit runs what it runs. With
// two slots each has a half; with one the new image is put beside the running one,
// which is taken to be as large as the new one when its size is not known.
func room(img Image, at here, m inventory.Model) bool {
	if img.NeedsKiB > 0 {
		return img.NeedsKiB <= m.FlashKiB
	}
	if m.Slots >= 2 {
		return kib(img.Size) <= int64(m.FlashKiB)/2
	}
	running := at.size
	if running == 0 {
		running = img.Size
	}
	return kib(img.Size)+kib(running) <= int64(m.FlashKiB)
}

func roomIn(img Image, at here, m inventory.Model) string {
	switch {
	case img.NeedsKiB > 0:
		return fmt.Sprintf("it needs %d of %d KiB", img.NeedsKiB, m.FlashKiB)
	case m.Slots >= 2:
		return fmt.Sprintf("%d of %d KiB a slot", kib(img.Size), m.FlashKiB/2)
	case at.size == 0:
		return fmt.Sprintf("%d KiB beside as much again, of %d KiB", kib(img.Size), m.FlashKiB)
	}
	return fmt.Sprintf("%d KiB beside the running %d, of %d KiB", kib(img.Size), kib(at.size), m.FlashKiB)
}

// read keeps versions that were parsed: a route compares the same few again and again.
type read map[string]version.Version

func (r read) stand(a, b string) version.Standing { return version.StandOf(r.of(a), r.of(b)) }

func (r read) of(text string) version.Version {
	v, known := r[text]
	if !known {
		v = version.Parse(text)
		r[text] = v
	}
	return v
}

// from tells whether an image may follow a version, for the image's own sake.
func (r read) from(img Image, at here) bool {
	if img.OldestFrom == "" {
		return true
	}
	s := r.stand(at.version, img.OldestFrom)
	return s == version.Current || s == version.Ahead
}

// findRoute is the shortest way to an image, of at most six legs; nil when there is
// none. On the way no version goes back, except onto a small image that makes room.
func findRoute(goal Image, u Unit, p Policy, others []Image) []Image {
	type node struct {
		at   here
		base string // the newest version so far that is not a small image
		path []Image
	}
	seen, r := map[string]bool{}, read{}
	usable := make([]Image, 0, len(others))
	for _, x := range others {
		if x.SHA256 != goal.SHA256 && x.SHA256 != u.Digest && suits(x, u, p).Fits {
			usable = append(usable, x)
		}
	}
	base := u.Version
	if u.OnStep {
		base = ""
	}
	queue := []node{{at: here{u.Version, u.Size}, base: base}}
	for len(queue) > 0 {
		n := queue[0]
		queue = queue[1:]
		if room(goal, n.at, u.Model) && r.from(goal, n.at) {
			return append(slices.Clone(n.path), goal)
		}
		if len(n.path) == mostLegs-1 {
			continue
		}
		for _, x := range usable {
			if seen[x.SHA256] || !room(x, n.at, u.Model) || !r.from(x, n.at) {
				continue
			}
			base := n.base
			if !x.Step {
				// It lies between: newer than what was there, not newer than the goal.
				if n.base != "" && r.stand(n.base, x.Version) != version.Behind || r.stand(x.Version, goal.Version) != version.Behind {
					continue
				}
				base = x.Version
			}
			seen[x.SHA256] = true
			queue = append(queue, node{here{x.Version, x.Size}, base, append(slices.Clone(n.path), x)})
		}
	}
	return nil
}

// noWay says why there is no route, and which image would make one.
func noWay(img Image, u Unit) Verdict {
	at := here{u.Version, u.Size}
	if !(read{}).from(img, at) {
		return no("route", "%s %s can be installed from %s on; the unit runs %s, and no image here leads from one to the other. A version from %s on, older than %s, that installs from %s would make a way.",
			img.Firmware, img.Version, img.OldestFrom, u.Version, img.OldestFrom, img.Version, u.Version)
	}
	least := int64(u.Model.FlashKiB) - kib(img.Size)
	running := kib(u.Size)
	beside := fmt.Sprintf("the running %d KiB", running)
	if running == 0 {
		running, beside = kib(img.Size), "what it runs now"
	}
	small := min(least, int64(u.Model.FlashKiB)-running)
	return no("room", "%s %s (%d KiB) has no room beside %s in the %d KiB of a %s. A small image for it of at most %d KiB, which goes first, would make a way.",
		img.Firmware, img.Version, kib(img.Size), beside, u.Model.FlashKiB, u.Model.Name, max(small, 0))
}
