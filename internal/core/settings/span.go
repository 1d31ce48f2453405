package settings

import (
	"net/netip"
	"strings"
)

// Span reads a run of IPv4 addresses: one address, two with a hyphen between, or a
// network as CIDR writes it (RFC 4632).
func Span(text string) (from, to netip.Addr, ok bool) {
	text = strings.TrimSpace(text)
	if p, err := netip.ParsePrefix(text); err == nil && p.Addr().Is4() {
		from, to = p.Masked().Addr(), p.Masked().Addr()
		b := to.As4()
		for i := p.Bits(); i < 32; i++ {
			b[i/8] |= 1 << (7 - i%8)
		}
		return from, netip.AddrFrom4(b), true
	}
	low, high, two := strings.Cut(text, "-")
	from, err := netip.ParseAddr(strings.TrimSpace(low))
	if to = from; err == nil && two {
		to, err = netip.ParseAddr(strings.TrimSpace(high))
	}
	return from, to, err == nil && from.Is4() && to.Is4() && !to.Less(from)
}

// Within reports which of some spans an address lies in, or "".
func Within(address string, spans []string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return ""
	}
	for _, s := range spans {
		if from, to, ok := Span(s); ok && !a.Less(from) && !to.Less(a) {
			return s
		}
	}
	return ""
}
