package dialect

import (
	"slices"

	"fado/internal/core/settings"
)

// Place is where a unit is reached.
type Place string

// The places.
const (
	AtSetUp   Place = "set-up"
	AtService Place = "service"
)

// Plan is what has to be sent to bring a unit from what it holds to what is
// intended, in order.
type Plan struct {
	Pages    []Page
	Commit   *Exchange
	Left     []settings.Key // intended, but this firmware cannot be told
	Restarts int
}

// Writes lists the settings that a page of the plan sends.
func (p Page) Writes(want settings.Values) []settings.Key {
	var out []settings.Key
	for _, k := range want.Keys() {
		if p.sets(k) {
			out = append(out, k)
		}
	}
	return out
}

// Plan chooses the pages to write. A page is needed when one of the settings
// that it writes is not known to be on the unit; a setting that an earlier page
// of the file has written needs no second one. In set-up mode the page that
// sends the unit away comes last, whether or not anything on it is new.
func (d *Dialect) Plan(want settings.Values, held func(settings.Key) bool, s Subject, at Place) Plan {
	pages, commit := d.Settings, d.Commit
	if at == AtService && d.Service != nil && d.Service.By == ByMessages {
		pages, commit = d.Service.Settings, d.Service.Commit
	}
	var plan Plan
	var last []Page
	written := map[settings.Key]bool{}
	for _, p := range pages {
		if !p.When.Holds(s) {
			continue
		}
		needed := p.Leaves && at == AtSetUp
		for _, k := range p.Writes(want) {
			if !written[k] && !held(k) {
				needed = true
			}
		}
		if !needed {
			continue
		}
		for _, k := range p.Writes(want) {
			written[k] = true
		}
		if p.Leaves {
			last = append(last, p)
		} else {
			plan.Pages = append(plan.Pages, p)
		}
	}
	plan.Pages = append(plan.Pages, last...)
	if commit != nil && (len(plan.Pages) > 0 || at == AtSetUp) {
		plan.Commit = commit
		if commit.Restarts {
			plan.Restarts++
		}
	}
	for _, p := range plan.Pages {
		if p.Restarts {
			plan.Restarts++
		}
	}
	for _, k := range want.Keys() {
		if want[k] == false {
			continue // what a firmware does not know is off
		}
		if !pagesSet(pages, k, s) {
			plan.Left = append(plan.Left, k)
		}
	}
	return plan
}

// MostRestarts is how many restarts a full hand-over takes, of the pages that
// hold for one version at a time.
func (d *Dialect) MostRestarts() int {
	n, seen := 0, map[string]bool{}
	for _, p := range d.Settings {
		key := p.Title
		if p.Restarts && !seen[key] {
			n++
		}
		seen[key] = true
	}
	if d.Commit != nil && d.Commit.Restarts {
		n++
	}
	return n
}

// Readers returns the exchanges that read settings back over the unit's pages,
// each once.
func (d *Dialect) Readers(s Subject) []*Exchange {
	var out []*Exchange
	for i := range d.Settings {
		p := &d.Settings[i]
		if p.When.Holds(s) && p.ReadBack != nil && !slices.ContainsFunc(out, func(e *Exchange) bool { return e.Get == p.ReadBack.Get && e.Get != "" && sameReaders(e, p.ReadBack) }) {
			out = append(out, p.ReadBack)
		}
	}
	return out
}

func sameReaders(a, b *Exchange) bool {
	for k, v := range b.ReadJSON {
		if a.ReadJSON[k] != v {
			return false
		}
	}
	for k, v := range b.ReadText {
		if a.ReadText[k] != v {
			return false
		}
	}
	return len(b.ReadEach) == 0
}

// NeedsAll reports whether a plan rewrites something as a whole, so that a value
// which is no longer known would be lost on the unit.
func (p Plan) NeedsAll(key settings.Key) bool {
	return slices.ContainsFunc(p.Pages, func(x Page) bool { return x.Whole && x.sets(key) })
}
