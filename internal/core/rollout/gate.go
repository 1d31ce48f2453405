package rollout

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"fado/internal/core/health"
	"fado/internal/core/task"
)

// Gate is what must hold after a wave before the next begins.
type Gate struct {
	Share   int           // percent of the units tried that must have succeeded
	Soak    time.Duration // how long they are left alone before they are looked at
	Returns int           // how often each may come back online in that time
	Health  bool          // signal, memory and reading interval are no worse than before
	Checks  bool          // the checks of commissioning hold
}

// Sight is how a unit is seen to do after its soak.
type Sight struct {
	Online  bool            // and reporting; of one that sleeps: it has not missed its wakes
	Returns int             // how often it came back since its update ended
	Changes []health.Change // from before its update to after it
	Failing []string        // checks that do not hold
}

// Condition is one thing that a gate asks for.
type Condition struct {
	Name     string `json:"name"`
	Expected string `json:"expected"`
	Seen     string `json:"seen"`
	Holds    bool   `json:"holds"`
}

// Judge says of each condition what is expected and what was seen. That units went
// wrong which a person has accepted does not count.
func (g Gate) Judge(wave []Unit, sights map[string]Sight) []Condition {
	var ok, wrong, lost []string
	on, skipped, forgiven := 0, 0, 0
	for _, u := range wave {
		switch {
		case u.open():
		case u.Accepted:
			forgiven++
		case u.Outcome == task.Succeeded:
			ok = append(ok, u.Device)
		case u.Already:
			on++
		case u.Outcome == task.Skipped:
			skipped++
		case u.Outcome == task.Lost:
			lost = append(lost, u.Name)
			fallthrough
		default:
			wrong = append(wrong, u.Name)
		}
	}
	tried := len(ok) + len(wrong)
	out := []Condition{{"tried", "at least one unit", fmt.Sprintf("%d tried, %d left out", tried, skipped+on), tried > 0 || on > 0 || len(wave) == 0 || accepted(wave)}}
	share := Condition{"succeeded", fmt.Sprintf("at least %d %%", g.Share), fmt.Sprintf("%d of %d", len(ok), tried), len(ok)*100 >= g.Share*tried}
	if len(wrong) > 0 {
		share.Seen += "; not " + names(wrong)
	}
	if forgiven > 0 {
		share.Seen += fmt.Sprintf("; without %d that a person accepted", forgiven)
	}
	out = append(out, share)
	seen := "none"
	if len(lost) > 0 {
		seen = names(lost)
	}
	out = append(out, Condition{"lost", "none", seen, len(lost) == 0})

	name := map[string]string{}
	for _, u := range wave {
		name[u.Device] = u.Name
	}
	judge := func(what, expected string, bad func(Sight) string) {
		var list []string
		for _, d := range ok {
			if s := bad(sights[d]); s != "" {
				list = append(list, strings.TrimSpace(name[d]+" "+s))
			}
		}
		c := Condition{what, expected, fmt.Sprintf("%d of %d", len(ok)-len(list), len(ok)), len(list) == 0}
		if len(list) > 0 {
			c.Seen += "; not " + names(list)
		}
		out = append(out, c)
	}
	judge("back and reporting", fmt.Sprintf("all, %s after their update", Span(g.Soak)), func(s Sight) string {
		if s.Online {
			return ""
		}
		return " "
	})
	judge("no restart loop", fmt.Sprintf("each came back at most %s since", Times(g.Returns)), func(s Sight) string {
		if s.Returns <= g.Returns {
			return ""
		}
		return "(" + Times(s.Returns) + ")"
	})
	if g.Health {
		for _, w := range []health.What{health.Signal, health.Memory, health.Interval} {
			measured := 0
			for _, d := range ok {
				if slices.ContainsFunc(sights[d].Changes, func(c health.Change) bool { return c.What == w }) {
					measured++
				}
			}
			judge(string(w), "no worse than before", func(s Sight) string {
				for _, c := range s.Changes {
					if c.What == w && c.Worse {
						return fmt.Sprintf("(%.4g to %.4g %s)", c.Before, c.After, w.Unit())
					}
				}
				return ""
			})
			c := &out[len(out)-1]
			if c.Holds {
				c.Seen = "none worse"
			} else {
				_, c.Seen, _ = strings.Cut(c.Seen, "; not ")
			}
			c.Seen += fmt.Sprintf("; %d of %d measured before and after", measured, len(ok))
		}
	}
	if g.Checks {
		judge("checks", "all hold", func(s Sight) string {
			if len(s.Failing) == 0 {
				return ""
			}
			return "(" + names(s.Failing) + ")"
		})
	}
	return out
}

func accepted(wave []Unit) bool {
	return slices.ContainsFunc(wave, func(u Unit) bool { return u.Accepted })
}

// Times says how often.
func Times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// Span says a length of time in words.
func Span(d time.Duration) string {
	switch {
	case d == 0:
		return "right"
	case d%time.Hour == 0:
		return fmt.Sprintf("%d h", d/time.Hour)
	case d%time.Minute == 0:
		return fmt.Sprintf("%d min", d/time.Minute)
	}
	return fmt.Sprintf("%.0f s", d.Seconds())
}
