package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"fado/internal/client"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/wire"
)

// selectFlags adds the flags that select many devices.
func selectFlags(c *cobra.Command) func(args []string) wire.Selection {
	site := c.Flags().String("site", "", "those of this site that have something to apply")
	model := c.Flags().String("model", "", "those of this model")
	tag := c.Flags().String("tag", "", "those with this tag")
	return func(args []string) wire.Selection {
		return wire.Selection{Devices: args, Site: *site, Model: *model, Tag: *tag}
	}
}

func (a *app) devicePreview() *cobra.Command {
	c := &cobra.Command{Use: "preview [DEVICE...]", Short: "Show what would be sent, in order, secrets masked",
		Example:           "  fado device preview " + exampleDevice + "\n  fado device preview --site lagar",
		Long:              "For a device that is not in service: what commissioning would send. For one in\nservice: what would be applied, with each difference. Nothing is sent.",
		ValidArgsFunction: a.complete("devices", "hostname")}
	chosen := selectFlags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		out, err := client.Post[[]wire.Preview](c.Context(), a.client(), Path("preview"), chosen(args))
		if err != nil {
			return err
		}
		return a.previews(out)
	}
	return c
}

func (a *app) previews(out []wire.Preview) error {
	if a.output != "table" || a.quiet {
		return a.encode(out)
	}
	if len(out) == 0 {
		return a.done("Nothing is to be sent: everything is on the units as intended.")
	}
	for i, p := range out {
		if i > 0 {
			_, _ = fmt.Fprintln(a.out)
		}
		a.preview(p)
	}
	return nil
}

func (a *app) preview(p wire.Preview) {
	say := func(format string, args ...any) { _, _ = fmt.Fprintf(a.out, format+"\n", args...) }
	say("%s (%s), reached in %s", p.Device, p.Hostname, map[string]string{"set-up": "set-up mode", "service": "service"}[p.At])
	if p.Problem != "" {
		say("  %s", a.paint(text.FgRed, p.Problem))
		return
	}
	if p.At == "service" {
		for _, d := range p.Differences {
			say("  %s: from %s to %s (%s)", d.Key, a.said(d.Reported), short(d.Intended), d.Origin)
		}
	}
	for i, x := range p.Exchanges {
		restart := ""
		if x.Restarts {
			restart = "   (restarts the unit)"
		}
		say("  %d. %s: %s%s", i+1, x.Title, x.Request, restart)
		if x.Body != "" {
			say("     %s", strings.ReplaceAll(pretty(x.Body), "\n", "\n     "))
		}
	}
	switch {
	case len(p.Exchanges) == 0:
		say("  Nothing is to be sent.")
	case p.Restarts == 1:
		say("  One restart in all.")
	default:
		say("  %d restarts in all.", p.Restarts)
	}
	if p.Assumed {
		say("  Its version is not known yet; this is what the newest takes.")
	}
	if p.AtWake {
		say("  It sleeps: this is sent at its next wake.")
	}
	if len(p.Unreadable) > 0 {
		say("  Cannot be read back: %s.", strings.Join(p.Unreadable, ", "))
	}
	if len(p.Unsupported) > 0 {
		say("  This firmware cannot be told: %s.", strings.Join(p.Unsupported, ", "))
	}
	if len(p.Listeners) > 0 {
		say("  %s", a.paint(text.FgYellow, "Listening on the topic that would be given up: "+strings.Join(p.Listeners, ", ")+"."))
	}
}

func (a *app) said(v any) string {
	if v == nil {
		return "what nobody knows"
	}
	return short(v)
}

func pretty(body string) string {
	var doc any
	if json.Unmarshal([]byte(body), &doc) != nil {
		return body
	}
	b, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		return body
	}
	return string(b)
}

func (a *app) deviceApply() *cobra.Command {
	var wait bool
	c := &cobra.Command{Use: "apply [DEVICE...]", Short: "Bring units in service to what is intended", Example: "  fado device apply " + exampleDevice + " --wait\n  fado device apply --site lagar --model sobro-quatro",
		Long: "Writes what differs, in as few restarts as the firmware allows, and proves it.\n«fado device preview» shows before what would be sent.", ValidArgsFunction: a.complete("devices", "hostname")}
	chosen := selectFlags(c)
	c.Flags().BoolVar(&wait, "wait", false, "show the steps until all have ended")
	c.RunE = func(c *cobra.Command, args []string) error { return a.apply(c.Context(), chosen(args), wait) }
	return c
}

func (a *app) apply(ctx context.Context, s wire.Selection, wait bool) error {
	out, err := client.Post[[]wire.Applied](ctx, a.client(), Path("apply"), s)
	if err != nil {
		return err
	}
	if !wait {
		return a.startedMany(out)
	}
	var failed error
	for _, x := range out {
		if x.Task == nil {
			failed = cmp.Or(failed, notStarted(x))
			continue
		}
		_ = a.done("%s", x.Device)
		if err := a.watch(ctx, x.Task.ID); err != nil {
			failed = err
		}
	}
	return failed
}

func (a *app) deviceReveal() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "reveal DEVICE", Short: "Show the login of a unit's own pages; it is recorded", Args: cobra.ExactArgs(1), Example: "  fado device reveal portaria-relay-1 --password-file -",
		Long: "Asks for your own password again. Who saw the login, and when, is an event.", ValidArgsFunction: a.complete("devices", "hostname")}
	c.Flags().StringVar(&file, "password-file", "", "file with your password; - for standard input")
	c.RunE = func(c *cobra.Command, args []string) error {
		pass, err := a.secretFrom(file, "your password")
		if err != nil {
			return err
		}
		r, err := client.Post[wire.Revealed](c.Context(), a.client(), Path("devices", args[0], "reveal"), wire.Reveal{Password: pass})
		if err != nil {
			return err
		}
		return a.one(r, r.Password, [2]string{"User", r.User}, [2]string{"Password", r.Password}, [2]string{"Key of its access point", r.PointKey})
	}
	return c
}

func (a *app) deviceCopies() *cobra.Command {
	return &cobra.Command{Use: "copies DEVICE", Short: "List the sealed copies of its unit's whole configuration", Args: cobra.ExactArgs(1), Example: "  fado device copies lagar-lamp-1", ValidArgsFunction: a.complete("devices", "hostname"), RunE: func(c *cobra.Command, args []string) error {
		out, err := client.Get[[]wire.SealedCopy](c.Context(), a.client(), Path("devices", args[0], "copies"))
		if err != nil {
			return err
		}
		return list(a, out, func(x wire.SealedCopy) string { return x.ID }, column[wire.SealedCopy]{"Kept", func(x wire.SealedCopy) string { return when(x.At) }},
			column[wire.SealedCopy]{"Bytes", func(x wire.SealedCopy) string { return fmt.Sprint(x.Size) }}, column[wire.SealedCopy]{"Why", func(x wire.SealedCopy) string { return x.Why }})
	}}
}

// drawing prints an SVG.
func (a *app) drawing(use, short, example string, what string, path func(string) string) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), Example: example, ValidArgsFunction: a.complete(what, map[string]string{"devices": "hostname", "models": "name"}[what]), RunE: func(c *cobra.Command, args []string) error {
		b, err := a.client().Raw(c.Context(), path(args[0]))
		if err != nil {
			return err
		}
		_, err = a.out.Write(append(b, '\n'))
		return err
	}}
}

func (a *app) driftCommand() *cobra.Command {
	ls := &cobra.Command{Use: "list", Short: "List what is not on the units as intended", Args: cobra.NoArgs, Example: "  fado drift list --site lagar"}
	site := ls.Flags().String("site", "", "only this site")
	device := ls.Flags().String("device", "", "only this device")
	ls.RunE = func(c *cobra.Command, _ []string) error {
		p, err := client.Get[wire.DriftPage](c.Context(), a.client(), client.Query(Path("drift"), "site", *site, "device", *device))
		if err != nil {
			return err
		}
		return list(a, p.Drift, func(x wire.Drift) string { return x.Hostname + " " + x.Key },
			column[wire.Drift]{"Device", func(x wire.Drift) string { return x.Hostname }}, column[wire.Drift]{"Setting", func(x wire.Drift) string { return x.Key }},
			column[wire.Drift]{"Intended", func(x wire.Drift) string { return short(x.Intended) }}, column[wire.Drift]{"Reported", func(x wire.Drift) string { return short(x.Reported) }},
			column[wire.Drift]{"Since", func(x wire.Drift) string { return when(x.Since) }},
			column[wire.Drift]{"Intended by", func(x wire.Drift) string { return strings.TrimSpace(x.ChangedBy + " " + whenPtr(x.ChangedAt)) }})
	}
	accept := &cobra.Command{Use: "accept DEVICE SETTING...", Short: "Make what the unit reports the intended value", Args: cobra.MinimumNArgs(2), Example: "  fado drift accept " + exampleDevice + " label", ValidArgsFunction: a.complete("devices", "hostname"), RunE: func(c *cobra.Command, args []string) error {
		if err := a.client().Do(c.Context(), http.MethodPost, Path("drift", "accept"), wire.DriftAccept{Device: args[0], Settings: args[1:]}, nil); err != nil {
			return err
		}
		return a.done("Accepted. What the unit reports is intended now.")
	}}
	correct := &cobra.Command{Use: "correct [DEVICE...]", Short: "Bring the units back to what is intended", Example: "  fado drift correct " + exampleDevice + " --wait\n  fado drift correct --site lagar", ValidArgsFunction: a.complete("devices", "hostname")}
	chosen := selectFlags(correct)
	wait := correct.Flags().Bool("wait", false, "show the steps until all have ended")
	correct.RunE = func(c *cobra.Command, args []string) error { return a.apply(c.Context(), chosen(args), *wait) }
	return group("drift", "What differs between intended and reported", ls, accept, correct)
}

// siteNames shows what a naming scheme would rename, and renames.
func (a *app) siteNames() *cobra.Command {
	var rename bool
	c := &cobra.Command{Use: "names SITE [DEVICE...]", Short: "Show what a naming scheme would rename", Args: cobra.MinimumNArgs(1), Example: "  fado site names lagar --topic '{site}/{kind}/{room}-{number}'",
		Long: "A part of the scheme that is not given is the site's own. With --rename the\ndevices get the names; units in service are told by «fado device apply».", ValidArgsFunction: a.complete("sites", "key")}
	hostname := c.Flags().String("hostname", "", "pattern of hostnames")
	topic := c.Flags().String("topic", "", "pattern of topics")
	label := c.Flags().String("label", "", "pattern of labels")
	c.Flags().BoolVar(&rename, "rename", false, "give the devices these names")
	c.RunE = func(c *cobra.Command, args []string) error {
		s, err := client.Get[wire.Site](c.Context(), a.client(), Path("sites", args[0]))
		if err != nil {
			return err
		}
		q := wire.SchemeQuestion{Scheme: s.Scheme, Devices: args[1:]}
		for _, p := range []struct{ to, from *string }{{&q.Scheme.Hostname, hostname}, {&q.Scheme.Topic, topic}, {&q.Scheme.Label, label}} {
			if *p.from != "" {
				*p.to = *p.from
			}
		}
		verb := "preview"
		if rename {
			verb = "rename"
		}
		out, err := client.Post[[]wire.Rename](c.Context(), a.client(), Path("sites", args[0], "scheme", verb), q)
		if err != nil {
			return err
		}
		change := func(pick func(naming.Names) string) func(wire.Rename) string {
			return func(r wire.Rename) string {
				if pick(r.From) == pick(r.To) {
					return pick(r.To)
				}
				return pick(r.From) + " → " + pick(r.To)
			}
		}
		err = list(a, out, func(r wire.Rename) string { return r.DeviceID }, column[wire.Rename]{"Device", func(r wire.Rename) string { return r.Device }},
			column[wire.Rename]{"Hostname", change(func(n naming.Names) string { return n.Hostname })}, column[wire.Rename]{"Topic", change(func(n naming.Names) string { return n.Topic })},
			column[wire.Rename]{"Unit has to be told", func(r wire.Rename) string { return yes(r.InService) }},
			column[wire.Rename]{"Listening on the old topic", func(r wire.Rename) string { return strings.Join(r.Listeners, ", ") }})
		if err != nil || !rename {
			return err
		}
		return a.done("%d devices renamed. Units in service are told by «fado device apply --site %s».", len(out), args[0])
	}
	return c
}

func (a *app) dialectTry() *cobra.Command {
	c := &cobra.Command{Use: "try [DIALECT]", Short: "Run a dialect against a simulated unit, from set-up to a command", Args: cobra.MaximumNArgs(1),
		Example: "  fado dialect try direct\n  fado dialect try --file docs/examples/melro.yaml --model-file docs/examples/melro-model.yaml --unit docs/examples/melro-unit.yaml",
		Long:    "Plays the whole set-up on loopback against a unit that ships with Fado, or\nagainst one that a file describes. Nothing is kept, and no device is touched.", ValidArgsFunction: a.complete("dialects", "name")}
	file := c.Flags().String("file", "", "dialect file that is not loaded")
	unit := c.Flags().String("unit", "", "file that describes the simulated unit")
	model := c.Flags().String("model", "", "model that the unit is")
	modelFile := c.Flags().String("model-file", "", "model file that is not loaded")
	c.RunE = func(c *cobra.Command, args []string) error {
		in := wire.Trial{Model: *model}
		if len(args) > 0 {
			in.Dialect = args[0]
		}
		for _, f := range []struct {
			to   *string
			path string
		}{{&in.File, *file}, {&in.Unit, *unit}, {&in.Hardware, *modelFile}} {
			if f.path == "" {
				continue
			}
			text, err := readFile(f.path)
			if err != nil {
				return err
			}
			*f.to = text
		}
		if in.Dialect == "" && in.File == "" {
			var f problem.Fields
			f.Add("DIALECT", "name a dialect that is loaded, or a file with --file", "--file my.yaml")
			return f.Err("The command was not understood.")
		}
		if a.output == "table" && !a.quiet {
			_, _ = fmt.Fprintln(a.errs, "Playing the set-up against a simulated unit; this takes up to a minute …")
		}
		out, err := client.Post[wire.Trialed](c.Context(), a.client(), Path("dialects", "try"), in)
		if err != nil {
			return err
		}
		return a.trialed(out)
	}
	return c
}

func (a *app) trialed(out wire.Trialed) error {
	if a.output != "table" || a.quiet {
		if err := a.encode(out); err != nil || out.Works {
			return err
		}
		return errTask
	}
	say := func(format string, args ...any) { _, _ = fmt.Fprintf(a.out, format+"\n", args...) }
	for _, s := range out.Steps {
		mark := a.paint(text.FgGreen, "✓")
		if !s.Works {
			mark = a.paint(text.FgRed, "✗")
		}
		say("%s %s", mark, s.Title)
		if s.Note != "" {
			say("    %s", strings.TrimSpace(s.Note))
		}
		for _, x := range s.Exchanges {
			say("    %s", x.Request)
			if x.Body != "" {
				say("      sent   %s", strings.ReplaceAll(strings.TrimSpace(x.Body), "\n", "\n             "))
			}
			if x.Reply != "" {
				say("      reply  %s", strings.ReplaceAll(strings.TrimSpace(x.Reply), "\n", "\n             "))
			}
			if x.Error != "" {
				say("      %s", a.paint(text.FgRed, x.Error))
			}
		}
	}
	if out.Works {
		return a.done("The dialect works with this unit, a %s.", out.Model)
	}
	_, _ = fmt.Fprintln(a.errs, a.paint(text.FgRed, "The dialect does not work with this unit yet; the last step says why."))
	return errTask
}

func (a *app) dialectRehearse() *cobra.Command {
	return &cobra.Command{Use: "rehearse DEVICE", Short: "Show the exchanges of a device's dialect, masked, without sending them", Args: cobra.ExactArgs(1), Example: "  fado dialect rehearse portaria-relay-1", ValidArgsFunction: a.complete("devices", "hostname"), RunE: func(c *cobra.Command, args []string) error {
		out, err := client.Post[[]wire.Preview](c.Context(), a.client(), Path("preview"), wire.Selection{Devices: args})
		if err != nil {
			return err
		}
		if err := a.previews(out); err != nil || a.output != "table" || a.quiet {
			return err
		}
		for _, p := range out {
			if x := p.Update; x != nil {
				_, _ = fmt.Fprintf(a.out, "\nAn update, not sent either. %s\n  %s\n     %s\n", x.Title, x.Request, strings.ReplaceAll(pretty(x.Body), "\n", "\n     "))
			}
		}
		return nil
	}}
}
