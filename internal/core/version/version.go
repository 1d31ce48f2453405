// Package version orders the version strings of firmware.
//
// It knows four classes: numbered versions (SemVer 2.0.0 precedence, section
// 11, and dotted numbers of any length), calendar versions, counters such as
// b417, and everything else. Versions of different classes cannot be ordered:
// they are Incomparable, and nothing is ever updated on such a comparison.
// The package never guesses.
package version

import (
	"regexp"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"
)

// Order is the outcome of a comparison.
type Order int

// The outcomes. Equal means that neither precedes the other, which is not the
// same as being the same string: 1.2 and 1.2.0 are Equal.
const (
	Incomparable Order = iota
	Less
	Equal
	Greater
)

// String names the order.
func (o Order) String() string {
	return [...]string{"incomparable", "less", "equal", "greater"}[o]
}

type class int

const (
	opaque class = iota
	numbered
	calendar
	counter
)

// Version is a parsed version string. The zero value compares with nothing.
type Version struct {
	text    string
	class   class
	numbers []string // decimal digits without leading zeros
	pre     string   // SemVer pre-release
	prefix  string   // of a counter
}

var (
	dotted  = regexp.MustCompile(`^[vV]?(\d+(?:\.\d+)+)(?:-([0-9A-Za-z.-]+))?(?:\+[0-9A-Za-z.-]+)?$`)
	dated   = regexp.MustCompile(`^(\d{4})-?(\d{2})-?(\d{2})(?:[.-](\d+))?$`)
	counted = regexp.MustCompile(`^([A-Za-z]*)-?(\d+)$`)
)

// MaxLength is the length in bytes beyond which a string is not taken apart.
const MaxLength = 128

// Parse reads a version string. It never fails: what it cannot order is kept
// as it is and is Incomparable with everything but itself.
func Parse(text string) Version {
	text = strings.TrimSpace(text)
	v := Version{text: text}
	if len(text) == 0 || len(text) > MaxLength {
		return v
	}
	if m := dotted.FindStringSubmatch(text); m != nil {
		if m[2] != "" && !validPre(m[2]) {
			return v
		}
		v.class, v.pre, v.numbers = numbered, m[2], trimZeros(split(m[1]))
		return v
	}
	if m := dated.FindStringSubmatch(text); m != nil {
		if _, err := time.Parse("20060102", m[1]+m[2]+m[3]); err == nil {
			v.class = calendar
			v.numbers = []string{bare(m[1]), bare(m[2]), bare(m[3]), "0"}
			if m[4] != "" {
				v.numbers[3] = bare(m[4])
			}
			return v
		}
	}
	if m := counted.FindStringSubmatch(text); m != nil {
		v.class, v.prefix, v.numbers = counter, strings.ToLower(m[1]), []string{bare(m[2])}
	}
	return v
}

// IsZero reports whether there is no version.
func (v Version) IsZero() bool { return v.text == "" }

// Compare orders a against b. The relation "less or equal" is a preorder:
// reflexive and transitive.
func Compare(a, b Version) Order {
	if a.class == opaque || b.class == opaque || a.class != b.class || a.prefix != b.prefix {
		if a.text != "" && a.text == b.text {
			return Equal
		}
		return Incomparable
	}
	if o := compareNumbers(a.numbers, b.numbers); o != Equal {
		return o
	}
	return comparePre(a.pre, b.pre)
}

// CompareText parses and compares.
func CompareText(a, b string) Order { return Compare(Parse(a), Parse(b)) }

func split(s string) []string {
	parts := strings.Split(s, ".")
	for i, p := range parts {
		parts[i] = bare(p)
	}
	return parts
}

// bare drops leading zeros, so that numbers of any length compare by length
// and then by digits.
func bare(digits string) string {
	if s := strings.TrimLeft(digits, "0"); s != "" {
		return s
	}
	return "0"
}

func trimZeros(n []string) []string {
	for len(n) > 1 && n[len(n)-1] == "0" {
		n = n[:len(n)-1]
	}
	return n
}

func compareNumbers(a, b []string) Order {
	for i := 0; i < len(a) || i < len(b); i++ {
		x, y := "0", "0"
		if i < len(a) {
			x = a[i]
		}
		if i < len(b) {
			y = b[i]
		}
		if len(x) != len(y) {
			return order(len(x) - len(y))
		}
		if c := strings.Compare(x, y); c != 0 {
			return order(c)
		}
	}
	return Equal
}

// comparePre applies SemVer section 11.3 and 11.4 through the SemVer package.
func comparePre(a, b string) Order {
	if a == b {
		return Equal
	}
	x, errX := semver.StrictNewVersion("0.0.0-" + a)
	y, errY := semver.StrictNewVersion("0.0.0-" + b)
	switch {
	case a == "":
		return Greater
	case b == "":
		return Less
	case errX != nil || errY != nil:
		return Incomparable
	}
	return order(x.Compare(y))
}

func validPre(pre string) bool {
	_, err := semver.StrictNewVersion("0.0.0-" + pre)
	return err == nil
}

func order(c int) Order {
	switch {
	case c < 0:
		return Less
	case c > 0:
		return Greater
	}
	return Equal
}

// Standing says how a reported version stands against the intended one.
type Standing string

// The standings of firmware against what is intended.
const (
	Current Standing = "current"
	Behind  Standing = "behind"
	Ahead   Standing = "ahead"
	Unknown Standing = "unknown"
)

// Stand compares what a unit reported with what is intended. It is Unknown
// when either is missing or the two cannot be ordered.
func Stand(reported, intended string) Standing {
	return StandOf(Parse(reported), Parse(intended))
}

// StandOf is Stand for versions that were parsed before.
func StandOf(reported, intended Version) Standing {
	if reported.text == "" || intended.text == "" {
		return Unknown
	}
	switch Compare(reported, intended) {
	case Less:
		return Behind
	case Equal:
		return Current
	case Greater:
		return Ahead
	}
	return Unknown
}
