package cli

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"fado/internal/client"
	"fado/internal/core/check"
	"fado/internal/core/firmware"
	"fado/internal/core/problem"
	"fado/internal/wire"
)

// saysText says what a file says of itself, in a line.
func saysText(s *firmware.Says) string {
	if s == nil {
		return ""
	}
	out := []string{s.Format}
	if s.Inner != "" {
		out[0] += " of " + s.Inner
	}
	if s.Family != "" {
		out = append(out, "family "+s.Family)
	}
	for _, r := range s.Ranges[:min(3, len(s.Ranges))] {
		out = append(out, fmt.Sprintf("0x%08x to 0x%08x", r.Start, r.Start+r.Size-1))
	}
	for _, k := range []string{"product", "version", "chip", "size"} {
		if v := s.Fields[k]; v != "" {
			out = append(out, k+" "+v)
		}
	}
	return strings.Join(out, ", ")
}

func (a *app) firmwareCommand() *cobra.Command {
	var g wire.Goal
	intend := &cobra.Command{Use: "intend [VERSION]", Short: "Say which version, or whose newest, is intended for a site, a model at a site, or a device", Args: cobra.MaximumNArgs(1),
		Example: "  fado firmware intend 1.4.0 --site lagar --model sobro-quatro\n  fado firmware intend --channel stable --site lagar\n  fado firmware intend none --device " + exampleDevice}
	intend.Flags().StringVar(&g.Site, "site", "", "site")
	intend.Flags().StringVar(&g.Model, "model", "", "model at that site")
	intend.Flags().StringVar(&g.Device, "device", "", "one device")
	intend.Flags().StringVar(&g.Channel, "channel", "", "the newest of this channel: stable, preview or nightly")
	intend.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 && g.Channel == "" {
			var f problem.Fields
			f.Add("VERSION", "give a version, «none», or --channel", "1.4.0")
			return f.Err("The command was not understood.")
		}
		if len(args) == 1 && args[0] != "none" {
			g.Version = args[0]
		}
		if err := a.client().Do(c.Context(), http.MethodPut, Path("goals"), g, nil); err != nil {
			return err
		}
		return a.done("Intended. «fado device list --standing behind» shows what is behind, «fado firmware matrix» what runs where.")
	}
	matrix := &cobra.Command{Use: "matrix", Short: "Which version runs where", Args: cobra.NoArgs, Example: "  fado firmware matrix", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Cell](c.Context(), a.client(), Path("firmware", "matrix"))
		if err != nil {
			return err
		}
		return list(a, out, func(x wire.Cell) string { return x.Site + "/" + x.Model + "/" + x.Running },
			column[wire.Cell]{"Site", func(x wire.Cell) string { return x.Site }}, column[wire.Cell]{"Model", func(x wire.Cell) string { return x.Model }},
			column[wire.Cell]{"Runs", func(x wire.Cell) string {
				if x.Running == "" {
					return "not said"
				}
				return x.Running
			}}, column[wire.Cell]{"Devices", func(x wire.Cell) string { return fmt.Sprint(x.Devices) }},
			column[wire.Cell]{"Intended", func(x wire.Cell) string { return strings.Join(x.Intended, ", ") }}, column[wire.Cell]{"Standing", func(x wire.Cell) string { return x.Standing }})
	}}
	return group("firmware", "Which firmware is intended, and which runs", intend, matrix)
}

func (a *app) deviceBehind() *cobra.Command {
	return &cobra.Command{Use: "behind DEVICE", Short: "By what a device is behind, since when, and what changed in between", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete("devices", "hostname"), Example: "  fado device behind " + exampleDevice,
		RunE: func(c *cobra.Command, args []string) error {
			g, err := client.Get[wire.Gap](c.Context(), a.client(), Path("devices", args[0], "behind"))
			if err != nil {
				return err
			}
			rows := [][2]string{{"Runs", g.Running}, {"Intended", g.Intended}, {"Follows the channel", g.Channel}, {"Standing", g.Standing}, {"Since", whenPtr(g.Since)}}
			for _, r := range g.Releases {
				rows = append(rows, [2]string{r.Version, strings.TrimSpace(r.Notes + " ")})
			}
			return a.one(g, g.Standing, rows...)
		}}
}

func (a *app) deviceUpdates() *cobra.Command {
	return &cobra.Command{Use: "updates DEVICE", Short: "The updates of a device: from, to, by which route, and how they ended", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete("devices", "hostname"), Example: "  fado device updates " + exampleDevice,
		RunE: func(c *cobra.Command, args []string) error {
			out, err := client.Get[[]wire.Updated](c.Context(), a.client(), Path("devices", args[0], "updates"))
			if err != nil {
				return err
			}
			return list(a, out, func(u wire.Updated) string { return u.Task },
				column[wire.Updated]{"At", func(u wire.Updated) string { return when(u.At) }}, column[wire.Updated]{"By", func(u wire.Updated) string { return u.Actor }},
				column[wire.Updated]{"From", func(u wire.Updated) string { return u.From }}, column[wire.Updated]{"To", func(u wire.Updated) string {
					if len(u.Route) > 1 {
						return u.To + " by way of " + strings.Join(u.Route[:len(u.Route)-1], ", ")
					}
					return u.To
				}},
				column[wire.Updated]{"Outcome", func(u wire.Updated) string { return string(u.Outcome) }}, column[wire.Updated]{"Took", func(u wire.Updated) string {
					if u.Seconds == 0 {
						return ""
					}
					return fmt.Sprintf("%.0f s", u.Seconds)
				}},
				column[wire.Updated]{"Size", func(u wire.Updated) string { return fmt.Sprintf("%d KiB", (u.Bytes+1023)/1024) }}, column[wire.Updated]{"Tries", func(u wire.Updated) string { return fmt.Sprint(u.Attempts) }},
				column[wire.Updated]{"Seen", func(u wire.Updated) string {
					if i := slices.IndexFunc(u.Evidence, func(r check.Result) bool { return strings.Contains(string(r.Name), "version") }); i >= 0 {
						return u.Evidence[i].Seen
					}
					if u.Failure != nil {
						return u.Failure.What
					}
					return ""
				}},
				column[wire.Updated]{"Health, a day before and after", func(u wire.Updated) string {
					said := []string{}
					for _, h := range u.Health {
						line := fmt.Sprintf("%s %s → %s %s", h.What, number(h.Before), number(h.After), h.Unit)
						if h.Worse {
							line += ", worse"
						}
						said = append(said, line)
					}
					return strings.Join(said, "; ")
				}})
		}}
}

func (a *app) keyCommand() *cobra.Command {
	columns := []column[wire.Key]{{"Key", func(k wire.Key) string { return k.ID }}, {"Use", func(k wire.Key) string {
		switch {
		case k.Signs:
			return "signs"
		case k.Own:
			return "signed before; for units that were not told of the new one yet"
		}
		return "is trusted"
	}}, {"Since", func(k wire.Key) string { return when(k.CreatedAt) }}, {"Public part", func(k wire.Key) string { return k.Public }}}
	ls := &cobra.Command{Use: "list", Short: "The keys that sign manifests of images, or are trusted to have", Args: cobra.NoArgs, Example: "  fado key list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Key](c.Context(), a.client(), Path("keys"))
		if err != nil {
			return err
		}
		return list(a, out, func(k wire.Key) string { return k.ID }, columns...)
	}}
	mk := &cobra.Command{Use: "make", Short: "Make another signing key; what Fado signed is signed anew, and units are told when their settings are applied", Args: cobra.NoArgs, Example: "  fado key make", RunE: func(c *cobra.Command, _ []string) error {
		k, err := client.Post[wire.Key](c.Context(), a.client(), Path("keys"), nil)
		if err != nil {
			return err
		}
		return a.done("The key %s signs from now on. Units take images under the old one until «fado device apply» has told them of it.", k.ID)
	}}
	bring := &cobra.Command{Use: "bring FILE", Short: "Bring a key along: a private one signs from now on, a public one is trusted for manifests that come with images", Args: cobra.ExactArgs(1), Example: "  fado key bring maker.pem", RunE: func(c *cobra.Command, args []string) error {
		text, err := a.secretFrom(args[0], "Key")
		if err != nil {
			return err
		}
		var k wire.Key
		if err := a.client().Do(c.Context(), http.MethodPut, Path("keys"), wire.KeyText{Key: text}, &k); err != nil {
			return err
		}
		if k.Signs {
			return a.done("The key %s signs from now on.", k.ID)
		}
		return a.done("Manifests that are signed by %s are taken.", k.ID)
	}}
	return group("key", "Keys that sign images", ls, mk, bring)
}
