package dialect

import (
	"regexp"
	"strings"
)

// Announcement says how units of a family in service announce themselves on the
// home's network by DNS-SD (RFC 6763).
type Announcement struct {
	Service string            `yaml:"service"`  // such as _junco._tcp (section 4.1.2)
	Name    string            `yaml:"name"`     // pattern of the instance, with {digits} or {last6}; may be left out
	ReadTXT map[string]string `yaml:"read_txt"` // fact to the key of its TXT record (section 6.4)

	instance *regexp.Regexp
}

// carrying compiles a name that carries {digits} or {last6} of a hardware id.
func carrying(name string) *regexp.Regexp {
	pattern := regexp.QuoteMeta(name)
	pattern = strings.Replace(pattern, regexp.QuoteMeta("{digits}"), "([0-9A-Fa-f]{12})", 1)
	pattern = strings.Replace(pattern, regexp.QuoteMeta("{last6}"), "([0-9A-Fa-f]{6})", 1)
	return regexp.MustCompile("^" + pattern + "$")
}

func (c *compiler) announces(path []string, a *Announcement) {
	if a == nil {
		return
	}
	carried := strings.Count(a.Name, "{digits}") + strings.Count(a.Name, "{last6}")
	switch {
	case a.Name != "" && carried != 1:
		c.fault(below(path, "name"), `"junco-{last6}", for example`, "the name must carry {digits} or {last6} of the hardware id, once, or be left out")
	case a.Name == "" && a.ReadTXT["hardware_id"] == "":
		c.fault(path, "read_txt: {hardware_id: id}, for example", "nothing in an announcement says which unit it is")
	case a.Name != "":
		a.instance = carrying(a.Name)
	}
	for fact := range a.ReadTXT {
		c.open(below(path, "read_txt", fact), fact)
	}
}

// AccessPointName is what the access point of the unit with these twelve digits
// is called.
func (d *Dialect) AccessPointName(digits string) string {
	name := strings.Replace(d.SetUp.AccessPoint.Name, "{digits}", digits, 1)
	if len(digits) == 12 {
		name = strings.Replace(name, "{last6}", digits[6:], 1)
	}
	return name
}

// MatchAnnouncement reads a DNS-SD answer for the family's service: the name of
// the instance and the strings of its TXT record. digits are those of the
// hardware id that it carries, all twelve or the last six, which are a hint and no
// proof; ok is false when it is none of this family.
func (d *Dialect) MatchAnnouncement(instance string, txt []string) (digits string, f Facts, ok bool) {
	a := d.Announces
	if a == nil {
		return "", nil, false
	}
	said := map[string]string{}
	for _, s := range txt {
		// Keys are compared without regard to case, and the first of a name
		// counts (RFC 6763, section 6.4).
		k, v, _ := strings.Cut(s, "=")
		if _, twice := said[strings.ToLower(k)]; !twice {
			said[strings.ToLower(k)] = v
		}
	}
	f = Facts{}
	for fact, key := range a.ReadTXT {
		if v := said[strings.ToLower(key)]; v != "" {
			f[fact] = v
		}
	}
	if id := strings.ToLower(strings.NewReplacer(":", "", "-", "", ".", "").Replace(f.Text("hardware_id"))); len(id) == 12 {
		return id, f, true
	}
	if a.instance != nil {
		if m := a.instance.FindStringSubmatch(instance); m != nil {
			return strings.ToLower(m[1]), f, true
		}
	}
	return "", nil, false
}

// Overhear reads a message on a topic that is no known device's: which unit of
// the family says who it is, and the topic that it speaks under.
func (d *Dialect) Overhear(topic string, payload []byte) (base string, f Facts, ok bool) {
	for at := strings.LastIndexByte(topic, '/'); at > 0; at = strings.LastIndexByte(topic[:at], '/') {
		kind, facts, match := d.Decode(topic[:at], topic, payload)
		if match && (kind == Identity || kind == Wake) && facts.Text("hardware_id") != "" {
			return topic[:at], facts, true
		}
	}
	return "", nil, false
}
