package cli

import (
	"github.com/spf13/cobra"

	"fado/internal/client"
	"fado/internal/wire"
)

// sourceWord says how a unit was seen.
var sourceWord = map[string]string{"radio": "on the air", "lan": "in the network", "broker": "on the broker", "hand": "by a person"}

func (a *app) benchClaim() *cobra.Command {
	c := &cobra.Command{Use: "claim SEEN-AS [DEVICE]", Short: "Match a unit that was seen to a device, or make a new one of it", Args: cobra.RangeArgs(1, 2),
		Example: "  fado bench claim fado-025a11000099 " + exampleDevice + "\n  fado bench claim fado-025a11000099 --site lagar --model sobro-quatro --name \"Rega da horta\"",
		Long: `Where the unit shows only a part of its hardware id, the device keeps that part; the
unit says the rest when it is commissioned.`}
	site, name := c.Flags().String("site", "", "for a new device: its site"), c.Flags().String("name", "", "for a new device: its name")
	room, model := c.Flags().String("room", "", "for a new device: its room"), c.Flags().String("model", "", "for a new device: its model")
	c.RunE = func(c *cobra.Command, args []string) error {
		in := wire.Claim{Sighting: args[0]}
		if len(args) == 2 {
			in.Device = args[1]
		} else {
			in.New = &wire.NewDevice{Site: *site, Name: *name, Room: *room, Model: *model}
		}
		d, err := client.Post[wire.Device](c.Context(), a.client(), Path("sightings", "claim"), in)
		if err != nil {
			return err
		}
		if d.HardwareID == "" {
			return a.done("%s (%s) takes the unit; which it is, it says itself when it is commissioned.", d.Name, d.Hostname)
		}
		return a.done("%s (%s) takes the unit %s.", d.Name, d.Hostname, d.HardwareID)
	}
	return c
}

func (a *app) benchNote() *cobra.Command {
	c := &cobra.Command{Use: "note HARDWARE-ID", Short: "Note a unit that you have in front of you", Args: cobra.ExactArgs(1), Example: "  fado bench note 02:5A:11:00:00:A4 --dialect direct --site lagar"}
	dialect, site := c.Flags().String("dialect", "", "what its firmware speaks"), c.Flags().String("site", "", "where it is")
	address := c.Flags().String("address", "", "in the home's network, when it is there already")
	c.RunE = func(c *cobra.Command, args []string) error {
		s, err := client.Post[wire.Sighting](c.Context(), a.client(), Path("sightings"), wire.SeenByHand{HardwareID: args[0], Dialect: *dialect, Site: *site, Address: *address})
		if err != nil {
			return err
		}
		if s.Device != "" {
			return a.done("%s is the unit of %s.", s.HardwareID, s.Device)
		}
		return a.done("%s is noted. Match it with «fado bench claim %s DEVICE».", s.HardwareID, s.ID)
	}
	_ = c.RegisterFlagCompletionFunc("dialect", func(c *cobra.Command, _ []string, s string) ([]string, cobra.ShellCompDirective) {
		return a.complete("dialects", "name")(c, nil, s)
	})
	return c
}

func (a *app) deviceReplace() *cobra.Command {
	c := &cobra.Command{Use: "replace DEVICE", Short: "Have another unit fill a device, which keeps its name, topic, history and place in the hub", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete("devices", "hostname"),
		Example: "  fado device replace " + exampleDevice + " --hardware-id 02:5A:11:00:00:A0 --reason \"dead after a storm\"",
		Long: `The account and the login of the old unit end at once; if it still answers, it is
told to forget what it knows. The new unit is commissioned like any other.`}
	id, code, reason := c.Flags().String("hardware-id", "", "of the new unit"), c.Flags().String("set-up-code-file", "", "file with the key printed on it, or - for standard input"), c.Flags().String("reason", "", "why, for the record")
	_ = c.MarkFlagRequired("hardware-id")
	c.RunE = func(c *cobra.Command, args []string) error {
		in := wire.Replace{HardwareID: *id, Reason: *reason}
		if *code != "" {
			var err error
			if in.SetUpCode, err = a.secretFrom(*code, "Set-up code"); err != nil {
				return err
			}
		}
		out, err := client.Post[wire.TakenOut](c.Context(), a.client(), Path("devices", args[0], "replace"), in)
		if err != nil {
			return err
		}
		if err := a.one(out, out.Device.HardwareID, [2]string{"Device", out.Device.Name}, [2]string{"Unit", out.Device.HardwareID}, [2]string{"Old unit", out.Unit}); err != nil || a.output != "table" {
			return err
		}
		return a.done("Bring the new unit into set-up mode, then: fado device commission %s --wait", out.Device.Hostname)
	}
	return c
}

func (a *app) deviceRetire() *cobra.Command {
	c := &cobra.Command{Use: "retire DEVICE", Short: "Take a device out of service for good; its history stays", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete("devices", "hostname"),
		Example: "  fado device retire " + exampleDevice + " --reason \"the pump is gone\"",
		Long: `It leaves the hub, its account on the broker ends, what it left there is cleared,
and its unit forgets what it knew, if it can be reached. Its names are free again.`}
	reason, keep := c.Flags().String("reason", "", "why, for the record"), c.Flags().Bool("keep-unit", false, "do not tell its unit to forget what it knows")
	c.RunE = func(c *cobra.Command, args []string) error {
		out, err := client.Post[wire.TakenOut](c.Context(), a.client(), Path("devices", args[0], "retire"), wire.Retire{Reason: *reason, KeepUnit: *keep})
		if err != nil {
			return err
		}
		return a.one(out, out.Device.ID, [2]string{"Device", out.Device.Name + ", retired"}, [2]string{"Unit", out.Unit})
	}
	return c
}

// ending shows a hardware id of which only the last digits are known.
func ending(digits string) string {
	if digits == "" {
		return ""
	}
	return "…" + digits
}
