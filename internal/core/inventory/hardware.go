package inventory

import (
	"fmt"
	"strings"
)

// HardwareID is an EUI-48 address written as six upper-case pairs with colons,
// such as 02:5A:11:00:00:07. The zero value is no id.
type HardwareID string

// ParseHardwareID reads an EUI-48 in any of its usual spellings: pairs with
// colons, hyphens or dots, dotted groups of four, or twelve bare digits.
func ParseHardwareID(text string) (HardwareID, error) {
	digits := make([]byte, 0, 12)
	for _, r := range strings.TrimSpace(text) {
		switch {
		case r >= '0' && r <= '9' || r >= 'A' && r <= 'F':
			digits = append(digits, byte(r))
		case r >= 'a' && r <= 'f':
			digits = append(digits, byte(r)-'a'+'A')
		case r == ':' || r == '-' || r == '.':
		default:
			return "", fmt.Errorf("hardware id %q holds %q: want twelve hexadecimal digits, such as 02:5A:11:00:00:07", text, r)
		}
		if len(digits) > 12 {
			break
		}
	}
	if len(digits) != 12 {
		return "", fmt.Errorf("hardware id %q: want twelve hexadecimal digits, such as 02:5A:11:00:00:07", text)
	}
	if first := digits[1]; strings.IndexByte("13579BDF", first) >= 0 {
		return "", fmt.Errorf("hardware id %q is a group address: the second digit must be even", text)
	}
	var b strings.Builder
	for i := 0; i < 12; i += 2 {
		if i > 0 {
			b.WriteByte(':')
		}
		b.Write(digits[i : i+2])
	}
	return HardwareID(b.String()), nil
}

// Digits returns the id as twelve lower-case digits without colons.
func (h HardwareID) Digits() string {
	return strings.ToLower(strings.ReplaceAll(string(h), ":", ""))
}

// EndsWith reports whether the id's last digits are these, in any case. It is
// a hint that a partial match gives, never proof.
func (h HardwareID) EndsWith(digits string) bool {
	return digits != "" && strings.HasSuffix(h.Digits(), strings.ToLower(strings.ReplaceAll(digits, ":", "")))
}

// LocallyAdministered reports whether the id was not assigned by a maker
// (IEEE 802, the U/L bit).
func (h HardwareID) LocallyAdministered() bool {
	return len(h) > 1 && strings.IndexByte("2367ABEF", h[1]) >= 0
}
