// Package naming makes hostnames, topics and labels from a site's scheme and
// judges those that people write. It knows the rules of host names (RFC 1123
// section 2.1) and of MQTT topics; it never looks anything up: what is taken
// is passed in.
package naming

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"fado/internal/core/problem"
)

// Scheme is a site's three patterns. A pattern is text with placeholders:
// {site}, {room}, {kind}, {name}, {number}, {hardware_id}.
type Scheme struct {
	Hostname string `json:"hostname" doc:"Pattern for host names" example:"{room}-{kind}-{number}"`
	Topic    string `json:"topic" doc:"Pattern for topics" example:"{site}/{room}/{kind}-{number}"`
	Label    string `json:"label" doc:"Pattern for labels, kept as people write" example:"{name}"`
}

// Default is the scheme of a site that says nothing else.
var Default = Scheme{Hostname: "{room}-{kind}-{number}", Topic: "{site}/{room}/{kind}-{number}", Label: "{name}"}

// Facts is what a device brings to a scheme.
type Facts struct {
	Site, Room, Kind, Name, HardwareID string
}

// Names is what a device is called, to machines and to people.
type Names struct {
	Hostname string `json:"hostname"`
	Topic    string `json:"topic"`
	Label    string `json:"label"`
}

// Taken tells which names are in use: host names at the site, topics on the
// broker. A topic is also taken when it lies above or below one in use, since
// a unit owns all that lies below its topic.
type Taken struct {
	Hostname func(string) bool
	Topic    func(string) bool
	// Given remembers, where many are named in a row, the number that was given
	// last to names which begin alike; nil begins at 1 each time.
	Given map[Names]int
}

// MaxNumber is the highest {number}.
const MaxNumber = 9999

// MaxTopic is the longest topic a device may have, in bytes; what units append
// to it must still fit into small buffers.
const MaxTopic = 120

// MaxLabel is the longest label, in characters.
const MaxLabel = 64

var (
	placeholder = regexp.MustCompile(`\{([^{}]*)\}`)
	known       = map[string]bool{"site": true, "room": true, "kind": true, "name": true, "number": true, "hardware_id": true}
	special     = strings.NewReplacer("ß", "ss", "ẞ", "SS", "ø", "o", "Ø", "O", "ł", "l", "Ł", "L",
		"æ", "ae", "Æ", "AE", "œ", "oe", "Œ", "OE", "đ", "d", "Đ", "D", "ð", "d", "Ð", "D", "þ", "th", "Þ", "Th", "ı", "i")
)

// Fold turns what people write into what machines accept: accents dropped
// (NFKD without its marks, and a small table for letters that have no
// decomposition), lower case, every other run of characters one hyphen, at
// most 63 octets. It may return "", when nothing is left.
func Fold(text string) string {
	var b strings.Builder
	gap := false
	for _, r := range norm.NFKD.String(special.Replace(text)) {
		if unicode.Is(unicode.Mn, r) {
			continue
		}
		r = unicode.ToLower(r)
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			if gap && b.Len() > 0 {
				b.WriteByte('-')
			}
			gap = false
			b.WriteRune(r)
			continue
		}
		gap = true
	}
	return strings.TrimRight(cut(b.String(), 63), "-")
}

// FoldSearch drops accents and case and keeps everything else, so that people
// find what they type with or without them.
func FoldSearch(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return unicode.ToLower(r)
	}, norm.NFKD.String(special.Replace(text)))
}

func cut(s string, n int) string {
	if len(s) > n {
		return s[:n]
	}
	return s
}

// Check judges the patterns of a scheme.
func (s Scheme) Check() error {
	var f problem.Fields
	for _, p := range []struct{ field, pattern, passes string }{
		{"hostname", s.Hostname, Default.Hostname}, {"topic", s.Topic, Default.Topic}, {"label", s.Label, Default.Label},
	} {
		if p.pattern == "" {
			f.Add(p.field, "must not be empty", p.passes)
		}
		rest := placeholder.ReplaceAllStringFunc(p.pattern, func(m string) string {
			if !known[m[1:len(m)-1]] {
				f.Add(p.field, fmt.Sprintf("there is no placeholder %s; there are {site}, {room}, {kind}, {name}, {number} and {hardware_id}", m), p.passes)
			}
			return "x"
		})
		if strings.ContainsAny(rest, "{}") {
			f.Add(p.field, "has a brace without its partner", p.passes)
		} else if p.field == "topic" {
			if rule, _ := CheckTopic(rest); rule != "" {
				f.Add("topic", rule, p.passes)
			}
		} else if p.field == "hostname" {
			if rule, _ := CheckHostname(rest); rule != "" {
				f.Add("hostname", rule, p.passes)
			}
		}
	}
	return f.Err("The naming scheme cannot be used.")
}

// Propose makes names by the scheme that are free. {number} takes the lowest
// number from 1 that frees both hostname and topic; a pattern without it gets
// a number appended from 2 on when it must.
func Propose(s Scheme, facts Facts, taken Taken) (Names, error) {
	var first Names
	for n := 1; n <= MaxNumber; n++ {
		names := Names{
			Hostname: expand(s.Hostname, facts, n, Fold),
			Topic:    expandTopic(s.Topic, facts, n),
			Label:    cutRunes(strings.TrimSpace(expand(s.Label, facts, n, plain)), MaxLabel),
		}
		if n > 1 && !strings.Contains(s.Hostname, "{number}") {
			names.Hostname = numbered(names.Hostname, n)
		}
		if n > 1 && !strings.Contains(s.Topic, "{number}") {
			names.Topic += "-" + strconv.Itoa(n)
		}
		names.Hostname = Fold(names.Hostname)
		if rule, _ := CheckHostname(names.Hostname); rule != "" {
			return names, fmt.Errorf("the scheme makes the hostname %q, which %s", names.Hostname, rule)
		}
		if rule, _ := CheckTopic(names.Topic); rule != "" {
			return names, fmt.Errorf("the scheme makes the topic %q, which %s", names.Topic, rule)
		}
		if !taken.Hostname(names.Hostname) && !taken.Topic(names.Topic) {
			if taken.Given != nil && n > 1 {
				taken.Given[first] = n
			}
			return names, nil
		}
		if n == 1 {
			first = Names{Hostname: names.Hostname, Topic: names.Topic} // labels may tell devices apart that are numbered together
			n = max(n, taken.Given[first])
		}
	}
	return Names{}, fmt.Errorf("no free name up to %d for %q in %q", MaxNumber, facts.Kind, facts.Room)
}

func plain(s string) string { return s }

func numbered(base string, n int) string {
	suffix := "-" + strconv.Itoa(n)
	return cut(base, 63-len(suffix)) + suffix
}

func expand(pattern string, f Facts, n int, fold func(string) string) string {
	return placeholder.ReplaceAllStringFunc(pattern, func(m string) string {
		switch m {
		case "{site}":
			return fold(f.Site)
		case "{room}":
			return fold(f.Room)
		case "{kind}":
			return fold(f.Kind)
		case "{name}":
			return fold(f.Name)
		case "{number}":
			return strconv.Itoa(n)
		case "{hardware_id}":
			return fold(strings.ReplaceAll(f.HardwareID, ":", ""))
		}
		return ""
	})
}

// expandTopic drops levels that came out empty, as for a device in no room.
func expandTopic(pattern string, f Facts, n int) string {
	var levels []string
	for level := range strings.SplitSeq(pattern, "/") {
		if l := strings.Trim(expand(level, f, n, Fold), "-"); l != "" {
			levels = append(levels, l)
		}
	}
	return strings.Join(levels, "/")
}

func cutRunes(s string, n int) string {
	for i := range s {
		if n == 0 {
			return s[:i]
		}
		n--
	}
	return s
}

// CheckHostname judges a host name label by RFC 1123: letters, digits and
// hyphens, no hyphen at either end, 1 to 63 octets. It returns the broken rule
// and a name that would pass, or two empty strings.
func CheckHostname(name string) (rule, passes string) {
	passes = Fold(name)
	if passes == "" {
		passes = "device-1"
	}
	switch {
	case name == "":
		return "must not be empty", passes
	case len(name) > 63:
		return "is longer than 63 octets", passes
	case strings.HasPrefix(name, "-") || strings.HasSuffix(name, "-"):
		return "starts or ends with a hyphen", passes
	}
	for _, r := range name {
		if !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-') {
			return fmt.Sprintf("holds %q; lower-case letters, digits and hyphens are allowed", r), passes
		}
	}
	return "", ""
}

// CheckTopic judges a device's topic: MQTT 5 section 4.7 (no wildcard, no
// NUL), and Fado's own: no empty level, no leading $, no space, at most
// MaxTopic bytes. It returns the broken rule and a topic that would pass.
func CheckTopic(topic string) (rule, passes string) {
	var levels []string
	for level := range strings.SplitSeq(topic, "/") {
		if l := Fold(level); l != "" {
			levels = append(levels, l)
		}
	}
	passes = strings.Trim(cut(strings.Join(levels, "/"), MaxTopic), "/-")
	if passes == "" {
		passes = "house/device-1"
	}
	switch {
	case topic == "":
		return "must not be empty", passes
	case len(topic) > MaxTopic:
		return fmt.Sprintf("is longer than %d bytes", MaxTopic), passes
	case !utf8.ValidString(topic):
		return "is not valid UTF-8", passes
	case strings.ContainsAny(topic, "+#"):
		return "holds a wildcard (+ or #)", passes
	case strings.HasPrefix(topic, "$"):
		return "starts with $, which is the broker's own", passes
	case strings.HasPrefix(topic, "/") || strings.HasSuffix(topic, "/") || strings.Contains(topic, "//"):
		return "has an empty level", passes
	}
	for _, r := range topic {
		if r <= ' ' || r == 0x7f || unicode.IsControl(r) || unicode.IsSpace(r) || r == '{' || r == '}' {
			return fmt.Sprintf("holds %q", r), passes
		}
	}
	return "", ""
}

// CheckLabel judges a label: 1 to MaxLabel printable characters.
func CheckLabel(label string) (rule, passes string) {
	clean := strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return -1
	}, label))
	if clean == "" {
		clean = "Lamp"
	}
	clean = cutRunes(clean, MaxLabel)
	switch {
	case strings.TrimSpace(label) == "":
		return "must not be empty", clean
	case utf8.RuneCountInString(label) > MaxLabel:
		return fmt.Sprintf("is longer than %d characters", MaxLabel), clean
	case label != clean:
		return "holds characters that cannot be printed, or spaces at an end", clean
	}
	return "", ""
}

// Free returns the first of base, base-2, base-3, … that is not taken.
func Free(base string, taken func(string) bool) string {
	name := base
	for n := 2; taken(name); n++ {
		name = numbered(base, n)
	}
	return name
}

// FreeTopic returns a topic like base that is not taken. Below a topic that is
// taken nothing is free, so levels are joined from the right when numbers alone
// do not help.
func FreeTopic(base string, taken func(string) bool) string {
	for {
		at := strings.LastIndexByte(base, '/')
		if at < 0 {
			return Free(base, taken)
		}
		for n := 1; n <= 50; n++ {
			topic := base
			if n > 1 {
				topic += "-" + strconv.Itoa(n)
			}
			if !taken(topic) {
				return topic
			}
		}
		base = base[:at] + "-" + base[at+1:]
	}
}

// TopicsMeet reports whether two topics are the same, or one lies above the
// other: whoever may use the one could then speak for the other.
func TopicsMeet(a, b string) bool {
	return a == b || strings.HasPrefix(a, b+"/") || strings.HasPrefix(b, a+"/")
}
