package cli

import (
	"bufio"
	"fmt"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"fado/internal/client"
	"fado/internal/core/check"
	"fado/internal/core/problem"
	"fado/internal/wire"
)

func (a *app) checkCommand() *cobra.Command {
	return group("check", "Checks of units in service, and sign-off", a.checkRun(), a.checkList(), a.checkAsk(), a.checkAnswer())
}

func (a *app) checkRun() *cobra.Command {
	c := &cobra.Command{Use: "run [DEVICE...]", Short: "Make the checks of a sign-off now: for devices, a room or a site", ValidArgsFunction: a.complete("devices", "hostname"),
		Example: "  fado check run " + exampleDevice + " --wait\n  fado check run --site lagar --room Adega",
		Long: `Nothing in the home moves: a unit is commanded to stay as it is. Units that sleep
are checked at their next wake. Each unit is checked by itself after commissioning,
after an update and after changed settings, too.`}
	site := c.Flags().String("site", "", "all in service of this site")
	room := c.Flags().String("room", "", "all in service of this room of it")
	wait := c.Flags().Bool("wait", false, "show all of them until each has ended, then the results")
	c.RunE = func(c *cobra.Command, args []string) error {
		out, err := client.Post[[]wire.Applied](c.Context(), a.client(), Path("checks"), wire.CheckStart{Devices: args, Site: *site, Room: *room})
		if err != nil {
			return err
		}
		if len(out) == 0 {
			return a.done("No unit there is in service.")
		}
		if !*wait {
			return a.startedMany(out)
		}
		if a.output == "table" {
			if err := a.watchMany(c.Context(), out, watching{"checked", "All %d were checked.", "%d of %d could not be checked. Do what is said of each, then run the checks again."}); err != nil {
				return err
			}
		} else if err := a.untilOver(c.Context(), out); err != nil {
			return err
		}
		var list []wire.SignOff
		for _, x := range out {
			s, err := client.Get[wire.SignOff](c.Context(), a.client(), Path("devices", x.DeviceID, "sign-off"))
			if err != nil {
				return err
			}
			list = append(list, s)
		}
		return a.signOffs(list, len(list) == 1)
	}
	return c
}

func (a *app) checkList() *cobra.Command {
	c := &cobra.Command{Use: "list [DEVICE]", Short: "Show how devices stand by their checks", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.complete("devices", "hostname"),
		Example: "  fado check list --site lagar\n  fado check list " + exampleDevice}
	site := c.Flags().String("site", "", "all in service of this site")
	room := c.Flags().String("room", "", "all in service of this room of it")
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 1 {
			x, err := client.Get[wire.SignOff](c.Context(), a.client(), Path("devices", args[0], "sign-off"))
			if err != nil {
				return err
			}
			return a.signOffs([]wire.SignOff{x}, true)
		}
		if *site == "" {
			return problem.New(problem.BadInput, "Nothing was named.", "The checks of a device, a room or a site can be listed.", "Name a device, or a site with --site.")
		}
		out, err := client.Get[[]wire.SignOff](c.Context(), a.client(), client.Query(Path("sites", *site, "sign-off"), "room", *room))
		if err != nil {
			return err
		}
		return a.signOffs(out, false)
	}
	return c
}

// signOffs prints how devices stand; whole prints every check of each.
func (a *app) signOffs(out []wire.SignOff, whole bool) error {
	colour := map[string]text.Color{string(check.SignedOff): text.FgGreen, string(check.Holds): text.FgGreen, string(check.Failing): text.FgRed, string(check.Open): text.FgYellow, string(check.Asked): text.FgYellow}
	if whole && a.output == "table" && !a.quiet {
		for _, x := range out {
			if err := a.done("%s is %s.", x.Device, standing(x)); err != nil {
				return err
			}
			if err := list(a, x.Checks, func(r check.Result) string { return string(r.Name) },
				column[check.Result]{"Check", func(r check.Result) string { return string(r.Name) }},
				column[check.Result]{"", func(r check.Result) string { return a.paint(colour[string(r.Verdict)], string(r.Verdict)) }},
				column[check.Result]{"Expected", func(r check.Result) string { return short(r.Expected) }}, column[check.Result]{"Seen", func(r check.Result) string { return short(r.Seen) }},
				column[check.Result]{"Evidence", func(r check.Result) string { return string(r.Evidence) }}, column[check.Result]{"When", func(r check.Result) string { return when(r.At) }}); err != nil {
				return err
			}
		}
		return nil
	}
	return list(a, out, func(x wire.SignOff) string { return x.Hostname },
		column[wire.SignOff]{"Device", func(x wire.SignOff) string { return x.Device }}, column[wire.SignOff]{"Room", func(x wire.SignOff) string { return x.Room }},
		column[wire.SignOff]{"Stands", func(x wire.SignOff) string { return a.paint(colour[string(x.Standing)], standing(x)) }},
		column[wire.SignOff]{"Holds", func(x wire.SignOff) string { return fmt.Sprint(count(x, check.Holds)) }},
		column[wire.SignOff]{"Not as it should be, or asked", func(x wire.SignOff) string {
			var names []string
			for _, r := range x.Checks {
				if r.Verdict == check.Fails || r.Verdict == check.Asked {
					names = append(names, fmt.Sprintf("%s: %s", r.Name, r.Seen))
				}
			}
			return strings.Join(names, "; ")
		}},
		column[wire.SignOff]{"Since", func(x wire.SignOff) string {
			if x.At == nil {
				return ""
			}
			return when(*x.At)
		}})
}

func standing(x wire.SignOff) string {
	word := map[check.Standing]string{check.Failing: "not as it should be", check.Open: "waiting for a person"}[x.Standing]
	if word == "" {
		word = string(x.Standing)
	}
	if x.Task != nil {
		word += ", is being checked"
	}
	return word
}

func count(x wire.SignOff, v check.Verdict) (n int) {
	for _, r := range x.Checks {
		if r.Verdict == v {
			n++
		}
	}
	return n
}

func (a *app) checkAsk() *cobra.Command {
	c := &cobra.Command{Use: "ask DEVICE [CAPABILITY]", Short: "Let a unit show itself, and say whether you saw it", Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.complete("devices", "hostname"),
		Example: "  fado check ask " + exampleDevice + "\n  fado check ask adega-lamp-1 lamp",
		Long: `Without a capability the unit blinks. With one, that is switched over for three
seconds and back. On a terminal you are asked what you saw; else answer with
«fado check answer».`}
	c.RunE = func(c *cobra.Command, args []string) error {
		w := wire.Witness{}
		if len(args) == 2 {
			w.Capability = args[1]
		}
		r, err := client.Post[check.Result](c.Context(), a.client(), Path("devices", args[0], "witness"), w)
		if err != nil {
			return err
		}
		if f, ok := a.in.(*os.File); !ok || !term.IsTerminal(int(f.Fd())) || a.output != "table" || a.quiet {
			return a.one(r, string(r.Verdict), [2]string{"To be seen", r.Expected}, [2]string{"Answer with", strings.TrimSpace(fmt.Sprintf("fado check answer %s yes %s", args[0], w.Capability))})
		}
		_, _ = fmt.Fprintf(a.out, "%s\nDid you see that? [y/n] ", r.Expected)
		line, err := bufio.NewReader(a.in).ReadString('\n')
		if err != nil {
			return err
		}
		return a.answer(c, args[0], w.Capability, strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "y"))
	}
	return c
}

func (a *app) checkAnswer() *cobra.Command {
	return &cobra.Command{Use: "answer DEVICE yes|no [CAPABILITY]", Short: "Say what you saw, after «fado check ask»", Args: cobra.RangeArgs(2, 3), ValidArgsFunction: a.complete("devices", "hostname"),
		Example: "  fado check answer " + exampleDevice + " yes\n  fado check answer adega-lamp-1 no lamp", RunE: func(c *cobra.Command, args []string) error {
			if args[1] != "yes" && args[1] != "no" {
				return problem.New(problem.BadInput, fmt.Sprintf("%q is neither yes nor no.", args[1]), "The answer stands before the capability.", "Write yes or no.")
			}
			capability := ""
			if len(args) == 3 {
				capability = args[2]
			}
			return a.answer(c, args[0], capability, args[1] == "yes")
		}}
}

func (a *app) answer(c *cobra.Command, device, capability string, yes bool) error {
	r, err := client.Post[check.Result](c.Context(), a.client(), Path("devices", device, "witness", "answer"), wire.Seen{Capability: capability, Yes: yes})
	if err != nil {
		return err
	}
	return a.one(r, string(r.Verdict), [2]string{"Check", string(r.Name)}, [2]string{"Outcome", string(r.Verdict)}, [2]string{"Seen", r.Seen}, [2]string{"At", when(r.At)})
}
