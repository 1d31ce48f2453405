package settings

import (
	"time"

	"fado/internal/core/secret"
)

// HandedOver records that a value was sent to a unit and accepted. Hash is a
// keyed hash of the value, so that a secret can be compared without being kept.
type HandedOver struct {
	Unit string    `json:"unit"`
	At   time.Time `json:"at"`
	Hash string    `json:"hash"`
}

// Reported is what the unit itself said, and when.
type Reported struct {
	Value any       `json:"value"`
	At    time.Time `json:"at"`
	Since time.Time `json:"since"` // when it first said this value
}

// Proof is an effect that only the intended value can have had.
type Proof struct {
	By string    `json:"by"`
	At time.Time `json:"at"`
}

// State says how one setting stands.
type State string

// The states of a setting.
const (
	Equal         State = "equal"           // reported as intended
	Differs       State = "differs"         // reported otherwise: drift
	NotHandedOver State = "not handed over" // intended, not yet sent to this unit
	Unreadable    State = "cannot be read back"
	Proven        State = "proven by effect"
	Unsupported   State = "not supported" // this dialect cannot say it
)

// Line is one setting of one device with its three values.
type Line struct {
	Key        Key
	Intended   any
	Hash       string // keyed hash of Intended
	HandedOver *HandedOver
	Reported   *Reported
	Proof      *Proof
	Supported  bool
	ReadBack   bool // the dialect can read it back
}

// State judges the line.
func (l Line) State() State {
	switch {
	case !l.Supported:
		return Unsupported
	case l.ReadBack && l.Reported != nil:
		if l.Reported.Value == l.Intended {
			return Equal
		}
		if l.HandedOver == nil || l.HandedOver.Hash != l.Hash {
			return NotHandedOver
		}
		return Differs
	case l.HandedOver == nil || l.HandedOver.Hash != l.Hash:
		return NotHandedOver
	case l.Proof != nil && !l.Proof.At.Before(l.HandedOver.At):
		return Proven
	}
	return Unreadable
}

// Layer is one level of intended values: the site's, a model's at the site, or
// the device's own.
type Layer struct {
	Origin string
	Values Values
}

// Resolve lays the layers over one another, the later winning, and tells where
// each value came from. A nil value in a layer takes the key away.
func Resolve(layers ...Layer) (Values, map[Key]string) {
	n := 0
	for _, l := range layers {
		n += len(l.Values)
	}
	values, origin := make(Values, n), make(map[Key]string, n)
	for _, l := range layers {
		for k, v := range l.Values {
			if v == nil {
				delete(values, k)
				delete(origin, k)
				continue
			}
			values[k], origin[k] = v, l.Origin
		}
	}
	return values, origin
}

// Redact returns a copy that can be shown: secrets become their mask.
func (v Values) Redact() map[string]any {
	out := make(map[string]any, len(v))
	for k, x := range v {
		if s, ok := x.(secret.Secret); ok {
			out[string(k)] = s.String()
			continue
		}
		out[string(k)] = x
	}
	return out
}

// Missing lists the keys of want that values lacks.
func (v Values) Missing(want ...Key) []Key {
	var out []Key
	for _, k := range want {
		if x, ok := v[k]; !ok || x == "" {
			out = append(out, k)
		} else if s, ok := x.(secret.Secret); ok && s.IsZero() {
			out = append(out, k)
		}
	}
	return out
}
