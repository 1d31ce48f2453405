package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"fado/internal/client"
	"fado/internal/wire"
)

// says puts what a message means in one line.
func says(m wire.Said) string {
	if m.Means != "" {
		return printable(m.Means)
	}
	var out []string
	for _, k := range slices.Sorted(maps.Keys(m.Says)) {
		v := m.Says[k]
		if s, isText := v.(string); isText {
			out = append(out, k+" "+s)
			continue
		}
		b, err := json.Marshal(v)
		if err == nil {
			out = append(out, k+" "+string(b))
		}
	}
	return printable(strings.Join(out, ", "))
}

// raw is a message's payload as a terminal may show it.
func raw(m wire.Said) string {
	switch {
	case m.Hidden:
		return fmt.Sprintf("••• %d bytes to the unit", m.Size)
	case m.Size == 0:
		return "(empty: what was kept is taken away)"
	case m.Hex:
		return "hex " + m.Payload
	}
	return printable(m.Payload)
}

// printable takes away what a terminal would obey.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}, s)
}

func kindOf(m wire.Said) string {
	if m.Kept {
		return strings.TrimSpace(m.Kind + " (kept)")
	}
	return m.Kind
}

func (a *app) messageCommand() *cobra.Command {
	c := &cobra.Command{Use: "list", Short: "What devices said and were told on the broker in the last hour", Args: cobra.NoArgs,
		Example: "  fado message list --device " + exampleDevice + "\n  fado message list --site lagar --room Adega --watch\n  fado message list --site lagar --kind state --output csv > said.csv",
		Long: `Each message with what it means, by its device's dialect, beside what was really
sent. --watch goes on until it is interrupted; with --output json it writes a message
a line. What a unit is told is not shown, since it may hold a secret; commands that
switch something are.`}
	site, room := c.Flags().String("site", "", "only this site"), c.Flags().String("room", "", "only this room of the site")
	device, kind := c.Flags().String("device", "", "only this device"), c.Flags().String("kind", "", "presence, unit, settings, state, health, answer, update, wake or command")
	contains, limit := c.Flags().String("contains", "", "only with this text in topic or payload"), c.Flags().Int("limit", 50, "the latest so many, at most 2000")
	watch := c.Flags().Bool("watch", false, "go on with what comes")
	_ = c.RegisterFlagCompletionFunc("device", func(c *cobra.Command, _ []string, s string) ([]string, cobra.ShellCompDirective) {
		return a.complete("devices", "hostname")(c, nil, s)
	})
	c.RunE = func(c *cobra.Command, _ []string) error {
		which := func(name string, after int64, limit int) string {
			return client.Query(Path(name), "site", *site, "room", *room, "device", *device, "kind", *kind, "contains", *contains, "limit", fmt.Sprint(limit), "after", fmt.Sprint(after))
		}
		if a.output == "csv" && !*watch {
			b, err := a.client().Raw(c.Context(), which("messages.csv", 0, *limit))
			if err == nil {
				_, err = a.out.Write(b)
			}
			return err
		}
		p, err := client.Get[wire.SaidPage](c.Context(), a.client(), which("messages", 0, *limit))
		if err != nil {
			return err
		}
		if !*watch {
			err := list(a, p.Messages, func(m wire.Said) string { return fmt.Sprint(m.Seq) },
				column[wire.Said]{"When", func(m wire.Said) string { return m.At.Local().Format("15:04:05.000") }}, column[wire.Said]{"Device", func(m wire.Said) string { return m.Device }},
				column[wire.Said]{"Topic", func(m wire.Said) string { return printable(m.Below) }}, column[wire.Said]{"Kind", kindOf},
				column[wire.Said]{"Says", func(m wire.Said) string { return text.WrapSoft(says(m), 44) }}, column[wire.Said]{"Sent", func(m wire.Said) string { return text.WrapHard(raw(m), 44) }})
			if err == nil && p.LeftOut > 0 && a.output == "table" && !a.quiet {
				_, err = fmt.Fprintf(a.out, "%d older ones are left out; --limit shows more.\n", p.LeftOut)
			}
			return err
		}
		p.LeftOut = 0 // of what was said before
		for {
			for _, m := range p.Messages {
				if err := a.follow(m); err != nil {
					return err
				}
			}
			if p.LeftOut > 0 {
				_, _ = fmt.Fprintf(c.ErrOrStderr(), "… %d more came in between; narrow it with --device, --kind or --contains\n", p.LeftOut)
			}
			select {
			case <-c.Context().Done():
				return nil
			case <-time.After(time.Second):
			}
			next, err := client.Get[wire.SaidPage](c.Context(), a.client(), which("messages", p.Next, 500))
			if c.Context().Err() != nil {
				return nil
			}
			if err != nil {
				return err
			}
			if next.Next < p.Next { // another data folder
				next.Next = 0
			}
			p = next
		}
	}
	return group("message", "What is said on the broker", c)
}

// follow writes one message as a line.
func (a *app) follow(m wire.Said) error {
	if a.output == "json" {
		b, err := json.Marshal(m)
		if err == nil {
			_, err = fmt.Fprintln(a.out, string(b))
		}
		return err
	}
	means := says(m)
	if means != "" {
		means += "  "
	}
	_, err := fmt.Fprintf(a.out, "%s  %s  %s  %s  %s%s\n", m.At.Local().Format("15:04:05.000"), m.Device, printable(m.Below), kindOf(m), means, raw(m))
	return err
}

func (a *app) deviceHealth() *cobra.Command {
	c := &cobra.Command{Use: "health DEVICE", Short: "How its unit did: signal, memory, battery, readings and returns", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete("devices", "hostname"),
		Example: "  fado device health " + exampleDevice + "\n  fado device health " + exampleDevice + " --hours 720 --output json",
		Long: `Five minutes are rolled up for three days, hours for ninety. The interval is that
between two readings; a unit returns when it comes online, after a restart or after it
had lost the network.`}
	hours := c.Flags().Int("hours", 24, "how far back, at most 2160")
	c.RunE = func(c *cobra.Command, args []string) error {
		h, err := client.Get[wire.Health](c.Context(), a.client(), client.Query(Path("devices", args[0], "health"), "hours", fmt.Sprint(*hours)))
		if err != nil {
			return err
		}
		if a.output == "json" || a.output == "yaml" {
			return a.encode(h)
		}
		over := func(of func(wire.HealthSpan) float64, better func(a, b float64) bool) func(wire.HealthSeries) string {
			return func(s wire.HealthSeries) string {
				if s.What == "returns" {
					return ""
				}
				best := of(s.Spans[0])
				for _, x := range s.Spans {
					if better(of(x), best) {
						best = of(x)
					}
				}
				return number(best)
			}
		}
		return list(a, h.Series, func(s wire.HealthSeries) string { return s.What },
			column[wire.HealthSeries]{"What", func(s wire.HealthSeries) string { return s.What }},
			column[wire.HealthSeries]{"Last", func(s wire.HealthSeries) string {
				if s.What == "returns" {
					n := 0.0
					for _, x := range s.Spans {
						n += x.Sum
					}
					return number(n)
				}
				return number(s.Spans[len(s.Spans)-1].Last)
			}},
			column[wire.HealthSeries]{"Lowest", over(func(x wire.HealthSpan) float64 { return x.Low }, func(a, b float64) bool { return a < b })},
			column[wire.HealthSeries]{"Highest", over(func(x wire.HealthSpan) float64 { return x.High }, func(a, b float64) bool { return a > b })},
			column[wire.HealthSeries]{"Mean", func(s wire.HealthSeries) string {
				if s.What == "returns" {
					return ""
				}
				sum, n := 0.0, int64(0)
				for _, x := range s.Spans {
					sum, n = sum+x.Sum, n+x.Count
				}
				return number(sum / float64(n))
			}},
			column[wire.HealthSeries]{"Unit", func(s wire.HealthSeries) string { return s.Unit }},
			column[wire.HealthSeries]{"Since", func(s wire.HealthSeries) string { return when(s.Spans[0].At) }})
	}
	return c
}

// number prints a measured value to a tenth.
func number(x float64) string { return strconv.FormatFloat(math.Round(x*10)/10, 'f', -1, 64) }
