package dialect

import (
	"fmt"
	"slices"
	"strings"

	"fado/internal/core/settings"
)

// Section is a part of a dialect as a person reads it.
type Section struct {
	Title string   `json:"title"`
	Lines []string `json:"lines"`
}

// Describe says in words what a dialect can do: how its units are set up and
// told apart, what they can be told and at the price of which restarts, how they
// speak in service, and how they are updated.
func (d *Dialect) Describe() []Section {
	var out []Section
	add := func(title string, lines ...string) {
		if len(lines) > 0 {
			out = append(out, Section{title, lines})
		}
	}
	add("Set-up", d.describeSetUp()...)
	var pages []string
	for _, p := range d.Settings {
		pages = append(pages, p.describe())
	}
	if d.Commit != nil {
		pages = append(pages, "At the end one request makes it all true"+restarts(d.Commit.Restarts)+".")
	}
	add("Settings", pages...)
	var silent []string
	for _, p := range d.Settings {
		for _, k := range p.Sets {
			if !d.readsBackAny(k) && !slices.Contains(silent, title(k)) {
				silent = append(silent, title(k))
			}
		}
	}
	if len(silent) > 0 {
		add("Cannot be read back", strings.Join(silent, ", ")+".")
	}
	var left []string
	for _, s := range settings.Specs {
		if !slices.ContainsFunc(d.Settings, func(p Page) bool { return p.sets(s.Key) }) {
			left = append(left, s.Title)
		}
	}
	for _, f := range settings.Families {
		if !slices.ContainsFunc(d.Settings, func(p Page) bool { return slices.Contains(p.Sets, settings.Key(f.Name)) }) {
			left = append(left, f.Title)
		}
	}
	if len(left) > 0 {
		add("Cannot be told", strings.Join(left, ", ")+".")
	}
	add("In service", d.describeService()...)
	var updates []string
	for _, u := range d.Updates {
		updates = append(updates, u.Describe())
	}
	add("Updates", updates...)
	return out
}

func restarts(yes bool) string {
	if yes {
		return ", and the unit restarts"
	}
	return ""
}

func title(k settings.Key) string {
	if s, ok := settings.Lookup(k); ok {
		return s.Title
	}
	for _, f := range settings.Families {
		if f.Name == string(k) {
			return f.Title
		}
	}
	return string(k)
}

func (d *Dialect) readsBackAny(k settings.Key) bool {
	if settings.IsFamily(string(k)) {
		for _, f := range settings.Families {
			if f.Name == string(k) {
				k = settings.ItemKey(f.Name, "X", f.Fields[0].Name)
			}
		}
	}
	for _, p := range d.Settings {
		if p.ReadBack != nil && p.ReadBack.reads(string(k)) {
			return true
		}
	}
	return d.ReadsBack(k, Subject{})
}

func (d *Dialect) describeSetUp() []string {
	ap := d.SetUp.AccessPoint
	key := "open when it is new"
	if !ap.Open {
		key = "with the key that is printed on the unit"
	}
	part := "all twelve digits"
	if strings.Contains(ap.Name, "{last6}") {
		part = "the last six digits, which are a hint only,"
	}
	lines := []string{
		fmt.Sprintf("Its access point is called %s, %s. The name carries %s of the hardware id.", ap.Name, key, part),
		fmt.Sprintf("Its pages are at %s.", d.SetUp.At),
	}
	if l := d.SetUp.Login; l != nil {
		line := fmt.Sprintf("They want a login (%s).", l.Kind)
		switch {
		case l.Factory != nil && l.Factory.User == "" && l.Factory.Password == "":
			line = fmt.Sprintf("They stand open until Fado sets a login (%s).", l.Kind)
		case l.Factory != nil:
			line = fmt.Sprintf("They want a login (%s); a new unit has one from the factory, which Fado replaces.", l.Kind)
		}
		lines = append(lines, line)
	}
	if d.Networks != nil {
		lines = append(lines, "It tells which networks it hears.")
	}
	if d.Sleeps() {
		lines = append(lines, "It sleeps: it can be reached for moments only, after a press of its button and at each wake.")
	}
	if d.Backup != nil {
		lines = append(lines, "Its whole configuration can be kept as it is.")
	}
	return lines
}

func (p Page) describe() string {
	var names []string
	for _, k := range p.Sets {
		names = append(names, title(k))
	}
	s := p.Title
	if p.When != nil {
		s += p.When.describe()
	}
	s += ": " + strings.Join(names, ", ") + "."
	switch {
	case p.Leaves && p.Restarts:
		s += " Restarts, and leaves set-up mode."
	case p.Restarts:
		s += " Restarts."
	}
	if p.Whole {
		s += " Replaces everything."
	}
	return s
}

func (c *Condition) describe() string {
	var out []string
	if len(c.Models) > 0 {
		out = append(out, "for "+strings.Join(c.Models, ", "))
	}
	if c.From != "" {
		out = append(out, "from version "+c.From)
	}
	if c.Before != "" {
		out = append(out, "before version "+c.Before)
	}
	if c.Declares != "" {
		out = append(out, "for units with "+c.Declares)
	}
	return " (" + strings.Join(out, ", ") + ")"
}

func (d *Dialect) describeService() []string {
	var lines []string
	switch s := d.Service; {
	case s == nil:
		lines = append(lines, "Its settings can be changed in set-up mode only.")
	case s.By == ByPages:
		lines = append(lines, fmt.Sprintf("Its settings are changed over its pages at %s.", s.At))
	case s.AtWake:
		lines = append(lines, "Its settings are changed by a message at its wake; one that comes while it sleeps is lost.")
	default:
		lines = append(lines, "Its settings are changed by messages on the broker.")
	}
	for _, m := range d.Messages {
		kept := ""
		if m.Retained {
			kept = ", kept by the broker"
		}
		lines = append(lines, fmt.Sprintf("%s: %s%s.", m.Kind, m.Topic, kept))
	}
	for _, c := range d.Commands {
		lines = append(lines, fmt.Sprintf("command: %s.", c.Publish))
	}
	return lines
}

// Describe says in a sentence how an image goes onto a unit.
func (u Delivery) Describe() string {
	s := map[string]string{"pull": "The unit fetches the image by a link", "push": "The image is sent to the unit", "maker": "The unit is told where to fetch the image"}[u.Way]
	if u.Start.When != nil {
		s += u.Start.When.describe()
	}
	if u.AtWake {
		s += ", at its wake"
	}
	if u.Risky() {
		s += "; an interruption leaves it dead until a cable reaches it"
	} else {
		s += "; an interruption does no harm"
	}
	if u.Reverts {
		s += "; a version that does not start is taken back by itself"
	}
	return s + "."
}
