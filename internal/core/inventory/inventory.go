// Package inventory holds the words for what stands in a home: hardware ids,
// stages, presence, and models with their ports and capabilities. It reads
// model files. It never stores anything and knows no firmware's habits; those
// are in package dialect.
package inventory

// Stage says how far a device has come on its way into service.
type Stage string

// The stages, in their order.
const (
	Listed     Stage = "listed"     // known by name, no unit seen
	Contacted  Stage = "contacted"  // its unit identified itself
	Joined     Stage = "joined"     // seen on the site's network
	Configured Stage = "configured" // settings read back equal
	Reporting  Stage = "reporting"  // commands and states make the round trip
	Adopted    Stage = "adopted"    // the hub shows it
	Retired    Stage = "retired"
)

// Stages lists every stage in order.
var Stages = []Stage{Listed, Contacted, Joined, Configured, Reporting, Adopted, Retired}

// AtLeast reports whether s is stage t or a later one. A retired device is at
// no stage but Retired.
func (s Stage) AtLeast(t Stage) bool {
	if s == Retired || t == Retired {
		return s == t
	}
	return rank(s) >= rank(t)
}

func rank(s Stage) int {
	for i, t := range Stages {
		if s == t {
			return i
		}
	}
	return -1
}

// Presence says whether a device's unit can be talked to now.
type Presence string

// The presences.
const (
	Online  Presence = "online"
	Asleep  Presence = "asleep"
	Offline Presence = "offline"
	Unseen  Presence = "unseen"
)
