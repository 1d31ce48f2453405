package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"fado/internal/client"
	"fado/internal/core/check"
	"fado/internal/core/problem"
	"fado/internal/core/rollout"
	"fado/internal/core/task"
	"fado/internal/wire"
)

func (a *app) deviceCommand() *cobra.Command {
	c := group("device", "Jobs to be done at a site, and the units that fill them",
		a.deviceList(), a.deviceShow(), a.deviceAdd(), a.deviceEdit(), a.deviceSettings(), a.deviceSet(), a.devicePreview(), a.deviceApply(), a.deviceCommission(), a.deviceUpdate(), a.deviceBehind(), a.deviceUpdates(), a.deviceMessages(), a.deviceHealth(), a.deviceReveal(), a.deviceCopies(), a.deviceImport(), a.deviceExport(), a.deviceReplace(), a.deviceRetire(),
		a.drawing("ports DEVICE", "Draw its ports with their intended functions, as SVG", "  fado device ports "+exampleDevice+" > ports.svg", "devices", func(d string) string { return Path("devices", d, "ports.svg") }),
		a.drawing("label DEVICE", "Draw its label, with a code that opens its page, as SVG", "  fado device label "+exampleDevice+" > label.svg", "devices", func(d string) string { return Path("devices", d, "label.svg") }),
		a.drawing("strip DEVICE", "Draw the order of its strip's lamps, as SVG", "  fado device strip cozinha-strip-1 > strip.svg", "devices", func(d string) string { return Path("devices", d, "strip.svg") }))
	simple := func(use, short, method string, path func(string) string, said string) *cobra.Command {
		return &cobra.Command{Use: use + " DEVICE", Short: short, Args: cobra.ExactArgs(1), Example: "  fado device " + use + " " + exampleDevice, ValidArgsFunction: a.complete("devices", "hostname"),
			RunE: func(c *cobra.Command, args []string) error {
				if err := a.client().Do(c.Context(), method, path(args[0]), nil, nil); err != nil {
					return err
				}
				return a.done(said, args[0])
			}}
	}
	c.AddCommand(
		simple("remove", "Remove a device that was never in service", http.MethodDelete, func(d string) string { return Path("devices", d) }, "%s is removed from the list."),
		simple("reset", "Take a device back to «listed»: out of the hub, accounts revoked", http.MethodPost, func(d string) string { return Path("devices", d, "reset") }, "%s is listed again, as if it had never been commissioned."),
		simple("blink", "Ask the unit to show itself", http.MethodPost, func(d string) string { return Path("devices", d, "blink") }, "%s was asked to blink."),
		&cobra.Command{Use: "thing DEVICE", Short: "Print its W3C Thing Description", Args: cobra.ExactArgs(1), Example: "  fado device thing " + exampleDevice, ValidArgsFunction: a.complete("devices", "hostname"), RunE: func(c *cobra.Command, args []string) error {
			td, err := client.Get[map[string]any](c.Context(), a.client(), Path("devices", args[0], "thing"))
			if err != nil {
				return err
			}
			return a.encode(td)
		}})
	return c
}

const exampleDevice = "terraco-relay-1"

func (a *app) deviceList() *cobra.Command {
	c := &cobra.Command{Use: "list", Short: "List devices", Args: cobra.NoArgs, Example: "  fado device list --site lagar --search rega\n  fado device list --attention"}
	for _, f := range [][2]string{{"site", "site"}, {"room", "room"}, {"model", "model"}, {"stage", "listed, contacted, joined, configured, reporting, adopted or retired"}, {"presence", "online, asleep, offline or unseen"},
		{"standing", "firmware: current, behind, ahead or unknown"}, {"tag", "tag"}, {"search", "words in name, room, label, hostname, topic, tags or hardware id"}, {"after", "cursor of the next page"}} {
		c.Flags().String(f[0], "", f[1])
	}
	c.Flags().Bool("attention", false, "only those that need a person")
	c.Flags().Bool("all", false, "every page")
	c.Flags().Int("limit", 50, "devices a page, at most 200")
	c.RunE = func(c *cobra.Command, _ []string) error {
		get := func(name string) string { return c.Flag(name).Value.String() }
		attention := ""
		if on, _ := c.Flags().GetBool("attention"); on {
			attention = "true"
		}
		all, _ := c.Flags().GetBool("all")
		after, devices := get("after"), []wire.Device{}
		var p wire.DevicePage
		for {
			var err error
			p, err = client.Get[wire.DevicePage](c.Context(), a.client(), client.Query(Path("devices"), "site", get("site"), "room", get("room"), "model", get("model"), "stage", get("stage"), "presence", get("presence"),
				"standing", get("standing"), "tag", get("tag"), "search", get("search"), "attention", attention, "limit", get("limit"), "after", after))
			if err != nil {
				return err
			}
			devices = append(devices, p.Devices...)
			if after = p.Next; !all || after == "" {
				break
			}
		}
		err := list(a, devices, func(d wire.Device) string { return d.Hostname },
			column[wire.Device]{"Name", func(d wire.Device) string { return d.Name }}, column[wire.Device]{"Room", func(d wire.Device) string { return d.Room }},
			column[wire.Device]{"Site", func(d wire.Device) string { return d.Site }}, column[wire.Device]{"Hostname", func(d wire.Device) string { return d.Hostname }},
			column[wire.Device]{"Model", func(d wire.Device) string { return d.Model }}, column[wire.Device]{"Stage", func(d wire.Device) string { return string(d.Stage) }},
			column[wire.Device]{"Presence", func(d wire.Device) string { return string(d.Presence) }}, column[wire.Device]{"Firmware", firmwareText},
			column[wire.Device]{"Attention", func(d wire.Device) string { return d.Attention }})
		if err == nil && a.output == "table" && !a.quiet && int64(len(devices)) < p.Total {
			_, _ = fmt.Fprintf(a.out, "%d of %d.", len(devices), p.Total)
			if p.Next != "" {
				_, _ = fmt.Fprintf(a.out, " More: --after %s", p.Next)
			}
			_, _ = fmt.Fprintln(a.out)
		}
		return err
	}
	return c
}

func firmwareText(d wire.Device) string {
	switch {
	case d.Running == "" && d.Intended == "":
		return ""
	case d.Running == "":
		return "? of " + d.Intended
	case d.Standing == "behind" || d.Standing == "ahead":
		return fmt.Sprintf("%s (%s %s)", d.Running, d.Standing, d.Intended)
	}
	return d.Running
}

func (a *app) deviceShow() *cobra.Command {
	return &cobra.Command{Use: "show DEVICE", Short: "Show a device: by hostname, topic, hardware id or id", Args: cobra.ExactArgs(1), Example: "  fado device show " + exampleDevice, ValidArgsFunction: a.complete("devices", "hostname"), RunE: func(c *cobra.Command, args []string) error {
		d, err := client.Get[wire.Device](c.Context(), a.client(), Path("devices", args[0]))
		if err != nil {
			return err
		}
		return a.showDevice(d)
	}}
}

func (a *app) showDevice(d wire.Device) error {
	lines := [][2]string{{"Device", d.Name}, {"Room", strings.Trim(d.Room+", "+d.Site, ", ")}, {"Model", d.Model}, {"Hardware id", cmp.Or(d.HardwareID, ending(d.Ending))}, {"Hostname", d.Hostname}, {"Topic", d.Topic}, {"Label", d.Label},
		{"Tags", strings.Join(d.Tags, ", ")}, {"Stage", string(d.Stage)}, {"Presence", string(d.Presence)}, {"Firmware", strings.TrimSpace(d.Firmware + " " + firmwareText(d))}, {"Attention", d.Attention}}
	for name, v := range d.State {
		text := fmt.Sprintf("%v, %s", v.Value, when(v.At))
		if !v.Live {
			text += " (kept by the broker, not live)"
		}
		lines = append(lines, [2]string{name, text})
	}
	for _, x := range d.Checks {
		lines = append(lines, [2]string{"Check", checkLine(x)})
	}
	if t := d.Task; t != nil {
		lines = append(lines, [2]string{"Last task", fmt.Sprintf("%s, %s (%s)", t.Kind, t.Status, t.ID)})
		if t.Failure != nil {
			lines = append(lines, [2]string{"", t.Failure.What}, [2]string{"", "Likely cause: " + t.Failure.Cause}, [2]string{"", "What to do: " + t.Failure.Next})
		}
	}
	return a.one(d, d.Hostname, lines...)
}

func checkLine(x check.Result) string {
	switch x.Verdict {
	case check.Holds:
		return fmt.Sprintf("holds: %s — %s, %s", x.Name, x.Seen, when(x.At))
	case check.Asked, check.LeftOut:
		return fmt.Sprintf("%s: %s — %s, %s", x.Verdict, x.Name, x.Seen, when(x.At))
	}
	return fmt.Sprintf("FAILS: %s — expected %s, seen %s, %s", x.Name, x.Expected, x.Seen, when(x.At))
}

func (a *app) deviceFlags(c *cobra.Command) {
	for _, f := range [][2]string{{"room", "room"}, {"model", "model"}, {"hardware-id", "hardware id, as printed on the unit"}, {"hostname", "hostname, instead of the scheme's"}, {"topic", "topic, instead of the scheme's"},
		{"label", "label, instead of the scheme's"}, {"set-up-code-file", "file with the key printed on the unit, or - for standard input"}} {
		c.Flags().String(f[0], "", f[1])
	}
	c.Flags().StringSlice("tag", nil, "tag; several with commas")
	_ = c.RegisterFlagCompletionFunc("model", func(c *cobra.Command, _ []string, s string) ([]string, cobra.ShellCompDirective) {
		return a.complete("models", "name")(c, nil, s)
	})
}

func (a *app) deviceBody(c *cobra.Command) (wire.DeviceEdit, error) {
	e := wire.DeviceEdit{Room: changed(c, "room"), Model: changed(c, "model"), HardwareID: changed(c, "hardware-id"), Hostname: changed(c, "hostname"), Topic: changed(c, "topic"), Label: changed(c, "label")}
	if c.Flags().Changed("tag") {
		tags, err := c.Flags().GetStringSlice("tag")
		if err != nil {
			return e, err
		}
		e.Tags = &tags
	}
	if f := changed(c, "set-up-code-file"); f != nil {
		code, err := a.secretFrom(*f, "Set-up code")
		if err != nil {
			return e, err
		}
		e.SetUpCode = &code
	}
	return e, nil
}

func (a *app) deviceAdd() *cobra.Command {
	var site string
	c := &cobra.Command{Use: "add NAME", Short: "Add a device; hostname and topic come from the site's scheme", Args: cobra.ExactArgs(1),
		Example: "  fado device add \"Rega da horta\" --site lagar --room Terraço --model sobro-quatro --hardware-id 02:5A:11:00:00:99 --set-up-code-file -"}
	c.Flags().StringVar(&site, "site", "", "site (needed)")
	_ = c.MarkFlagRequired("site")
	a.deviceFlags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		e, err := a.deviceBody(c)
		if err != nil {
			return err
		}
		e.Name = &args[0]
		d, err := client.Post[wire.Device](c.Context(), a.client(), Path("sites", site, "devices"), e)
		if err != nil {
			return err
		}
		return a.showDevice(d)
	}
	return c
}

func (a *app) deviceEdit() *cobra.Command {
	c := &cobra.Command{Use: "edit DEVICE", Short: "Change a device", Args: cobra.ExactArgs(1), Example: "  fado device edit " + exampleDevice + " --tag irrigation,summer", ValidArgsFunction: a.complete("devices", "hostname")}
	c.Flags().String("name", "", "name")
	a.deviceFlags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		e, err := a.deviceBody(c)
		if err != nil {
			return err
		}
		e.Name = changed(c, "name")
		now, err := client.Get[wire.Device](c.Context(), a.client(), Path("devices", args[0]))
		if err != nil {
			return err
		}
		var d wire.Device
		if err := a.client().Do(c.Context(), http.MethodPatch, Path("devices", now.ID), e, &d, "If-Match", fmt.Sprintf("%q", fmt.Sprint(now.Version))); err != nil {
			return err
		}
		return a.showDevice(d)
	}
	return c
}

func (a *app) deviceSettings() *cobra.Command {
	return &cobra.Command{Use: "settings DEVICE", Short: "Show intended against reported settings", Args: cobra.ExactArgs(1), Example: "  fado device settings " + exampleDevice, ValidArgsFunction: a.complete("devices", "hostname"), RunE: func(c *cobra.Command, args []string) error {
		out, err := client.Get[[]wire.Setting](c.Context(), a.client(), Path("devices", args[0], "settings"))
		if err != nil {
			return err
		}
		return list(a, out, func(s wire.Setting) string { return s.Key },
			column[wire.Setting]{"Setting", func(s wire.Setting) string { return s.Key }}, column[wire.Setting]{"Intended", func(s wire.Setting) string { return short(s.Intended) }},
			column[wire.Setting]{"From", func(s wire.Setting) string { return s.Origin }}, column[wire.Setting]{"Reported", func(s wire.Setting) string { return short(s.Reported) }},
			column[wire.Setting]{"State", func(s wire.Setting) string { return s.State }}, column[wire.Setting]{"Proof", func(s wire.Setting) string { return s.Proof }})
	}}
}

func short(v any) string {
	if v == nil {
		return ""
	}
	s := fmt.Sprint(v)
	if f, ok := v.(float64); ok {
		s = strconv.FormatFloat(f, 'f', -1, 64)
	}
	if r := []rune(s); len(r) > 44 {
		s = string(r[:43]) + "…"
	}
	return s
}

func (a *app) deviceSet() *cobra.Command {
	var site, model, device string
	c := &cobra.Command{Use: "set KEY=VALUE...", Short: "Change intended settings of a device, of a model at a site, or of a site", Args: cobra.MinimumNArgs(1),
		Example: "  fado device set --device " + exampleDevice + " report.interval_seconds=30\n  fado device set --site lagar --model junco clock.server=ntp.lagar.lan",
		Long:    "A value of «null» takes a setting away again. Values of settings that are secrets\nare read from standard input with KEY=-."}
	c.Flags().StringVar(&device, "device", "", "this device")
	c.Flags().StringVar(&site, "site", "", "the devices of this site")
	c.Flags().StringVar(&model, "model", "", "with --site: only those of this model")
	c.RunE = func(c *cobra.Command, args []string) error {
		if (device == "") == (site == "") {
			var f problem.Fields
			f.Add("--device", "give either --device or --site", "--device "+exampleDevice)
			return f.Err("The command was not understood.")
		}
		body := map[string]any{}
		for _, arg := range args {
			k, v, ok := strings.Cut(arg, "=")
			if !ok {
				var f problem.Fields
				f.Add(arg, "must be KEY=VALUE", "report.interval_seconds=30")
				return f.Err("The command was not understood.")
			}
			if v == "-" {
				text, err := a.secretFrom("-", k)
				if err != nil {
					return err
				}
				body[k] = text
				continue
			}
			var x any
			if json.Unmarshal([]byte(v), &x) != nil {
				x = v
			}
			body[k] = x
		}
		path := Path("devices", device, "settings")
		if site != "" {
			path = client.Query(Path("sites", site, "settings"), "model", model)
		}
		if err := a.client().Do(c.Context(), http.MethodPatch, path, body, nil); err != nil {
			return err
		}
		return a.done("Intended. Units in service are told by «fado device apply»; «fado device preview» shows what would be sent.")
	}
	return c
}

func (a *app) deviceCommission() *cobra.Command {
	var wait, prepared bool
	c := &cobra.Command{Use: "commission DEVICE", Short: "Take its unit from set-up mode into proven, adopted service", Args: cobra.ExactArgs(1), Example: "  fado device commission " + exampleDevice + " --wait", ValidArgsFunction: a.complete("devices", "hostname")}
	c.Flags().BoolVar(&wait, "wait", false, "show the steps until it ends")
	c.Flags().BoolVar(&prepared, "prepared", false, "what the model wants done before was done")
	c.RunE = func(c *cobra.Command, args []string) error {
		var t wire.Task
		if err := a.client().Do(c.Context(), http.MethodPost, Path("devices", args[0], "commission"), wire.Commissioning{Prepared: prepared}, &t); err != nil {
			return err
		}
		return a.started(c.Context(), t, wait)
	}
	return c
}

func (a *app) deviceUpdate() *cobra.Command {
	var wait bool
	c := &cobra.Command{Use: "update DEVICE IMAGE", Short: "Bring an image onto its unit", Args: cobra.ExactArgs(2), Example: "  fado device update " + exampleDevice + " $(fado image list --model sobro-quatro -q | head -1) --wait", ValidArgsFunction: a.complete("devices", "hostname")}
	c.Flags().BoolVar(&wait, "wait", false, "show the steps until it ends")
	c.RunE = func(c *cobra.Command, args []string) error {
		var t wire.Task
		if err := a.client().Do(c.Context(), http.MethodPost, Path("devices", args[0], "update"), wire.Start{Image: args[1]}, &t); err != nil {
			return err
		}
		return a.started(c.Context(), t, wait)
	}
	return c
}

func (a *app) started(ctx context.Context, t wire.Task, wait bool) error {
	if wait {
		return a.watch(ctx, t.ID)
	}
	if a.output != "table" || a.quiet {
		return a.one(t, t.ID)
	}
	return a.done("The %s of %s is %s. Follow it with «fado task watch %s».", t.Kind, t.Device, t.Status, t.ID)
}

// watch shows a task's steps as they come, until it ends.
func (a *app) watch(ctx context.Context, id string) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	poke := make(chan struct{}, 1)
	ended := make(chan error, 1)
	go func() {
		ended <- a.client().Changes(ctx, func(c wire.Change) bool {
			if c.Kind == "" || c.Kind == "task" && c.ID == id {
				select {
				case poke <- struct{}{}:
				default:
				}
			}
			return true
		})
	}()
	said := map[string]string{}
	say := func(key, line string) {
		if said[key] != line && a.output == "table" && !a.quiet {
			_, _ = fmt.Fprintln(a.out, line)
			said[key] = line
		}
	}
	for {
		t, err := client.Get[wire.Task](ctx, a.client(), Path("tasks", id))
		if err != nil {
			return err
		}
		for _, s := range t.Steps {
			switch key := fmt.Sprintf("%s %d", s.Name, t.Attempt); s.State {
			case task.StepAhead:
			case task.StepRunning:
				note := s.Note
				s.Note = ""
				say(key, a.stepLine(s))
				if note != "" {
					say(key+" note", "    "+note)
				}
			default:
				say(key, a.stepLine(s))
			}
		}
		if t.Wait != nil {
			line := "    waiting: " + t.Wait.What
			if t.Wait.Usually > 0 {
				line += fmt.Sprintf(" Usually %.0f s; until %s.", t.Wait.Usually, t.Wait.Until.Local().Format("15:04:05"))
			}
			say("wait", line)
		}
		if u := t.Update; u != nil && u.Of > 0 && (u.Outcome == task.Fetching || u.Outcome == task.Writing) {
			say("bytes", fmt.Sprintf("    %s: %d of %d KiB", u.Outcome, u.Done/1024, u.Of/1024))
		}
		if t.Status.Over() {
			if a.output != "table" || a.quiet {
				err = a.one(t, t.ID)
			}
			return a.ended(t, err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-poke:
		case <-time.After(3 * time.Second):
		case err := <-ended:
			if err != nil {
				return err
			}
		}
	}
}

func (a *app) ended(t wire.Task, err error) error {
	if err != nil {
		return err
	}
	if t.Failure != nil {
		_, _ = fmt.Fprintln(a.errs, a.paint(text.FgRed, t.Failure.What))
		_, _ = fmt.Fprintln(a.errs, "Likely cause: "+t.Failure.Cause)
		_, _ = fmt.Fprintln(a.errs, "What to do: "+t.Failure.Next)
		_, _ = fmt.Fprintf(a.errs, "Then: fado task retry %s --wait\n", t.ID)
		return errTask
	}
	switch {
	case t.Status == task.Cancelled:
		return a.done("The task was cancelled.")
	case t.Kind == task.Apply:
		return a.done("%s holds its settings as intended.", t.Device)
	case t.Kind == task.Commission:
		return a.done("%s is adopted and proven.", t.Device)
	case t.Update != nil && t.Update.Outcome == task.Succeeded:
		return a.done("%s runs %s now, by its own report.", t.Device, t.Update.Version)
	}
	return nil
}

func (a *app) stepLine(s task.Step) string {
	mark, colour := "…", text.FgYellow
	switch s.State {
	case task.StepDone:
		mark, colour = "✓", text.FgGreen
	case task.StepFailed:
		mark, colour = "✗", text.FgRed
	}
	line := a.paint(colour, mark) + " " + s.Title
	if s.Began != nil && s.Ended != nil {
		line += fmt.Sprintf(" (%.1f s)", s.Ended.Sub(*s.Began).Seconds())
	}
	if s.Note != "" && s.State != task.StepFailed {
		line += "\n    " + s.Note
	}
	return line
}

func (a *app) deviceMessages() *cobra.Command {
	return &cobra.Command{Use: "messages DEVICE", Short: "Show the last message of each topic", Args: cobra.ExactArgs(1), Example: "  fado device messages " + exampleDevice, ValidArgsFunction: a.complete("devices", "hostname"), RunE: func(c *cobra.Command, args []string) error {
		out, err := client.Get[[]wire.Message](c.Context(), a.client(), Path("devices", args[0], "messages"))
		if err != nil {
			return err
		}
		return list(a, out, func(m wire.Message) string { return m.Topic },
			column[wire.Message]{"Topic", func(m wire.Message) string { return m.Topic }}, column[wire.Message]{"At", func(m wire.Message) string { return when(m.At) }},
			column[wire.Message]{"Live", func(m wire.Message) string { return yes(!m.Retained) }}, column[wire.Message]{"Payload", func(m wire.Message) string {
				if a.output == "table" {
					return short(m.Payload)
				}
				return m.Payload
			}})
	}}
}

func (a *app) benchCommand() *cobra.Command {
	columns := []column[wire.Sighting]{{"Seen as", func(s wire.Sighting) string { return s.Name }}, {"Where", func(s wire.Sighting) string {
		switch {
		case s.Source == "radio":
			return fmt.Sprintf("on the air, %d dBm", s.Signal)
		case s.Address != "":
			return fmt.Sprintf("%s, at %s", sourceWord[s.Source], s.Address)
		}
		return sourceWord[s.Source]
	}}, {"Dialect", func(s wire.Sighting) string { return s.Dialect }},
		{"Hardware id", func(s wire.Sighting) string {
			if s.HardwareID == "" && s.Ending != "" {
				return "…" + s.Ending
			}
			return s.HardwareID
		}},
		{"Device", func(s wire.Sighting) string {
			switch {
			case s.Ignored:
				return "(ignored)"
			case s.Twice:
				return strings.TrimSpace(s.Device + " (held: two units with this id)")
			case s.Device == "":
				return "unclaimed"
			}
			return s.Device
		}}, {"Last seen", func(s wire.Sighting) string { return when(s.LastSeen) }}}
	id := func(s wire.Sighting) string { return s.Name }
	var all bool
	ls := &cobra.Command{Use: "list", Short: "List units in set-up mode, and others that were seen and match nothing", Args: cobra.NoArgs, Example: "  fado bench list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Sighting](c.Context(), a.client(), client.Query(Path("sightings"), "all", map[bool]string{true: "true"}[all]))
		if err != nil {
			return err
		}
		return list(a, out, id, columns...)
	}}
	ls.Flags().BoolVar(&all, "all", false, "those that are gone or ignored, too")
	scan := &cobra.Command{Use: "scan", Short: "Let the radio list access points now", Args: cobra.NoArgs, Example: "  fado bench scan", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Post[[]wire.Sighting](c.Context(), a.client(), Path("sightings", "scan"), nil)
		if err != nil {
			return err
		}
		return list(a, out, id, columns...)
	}}
	find := &cobra.Command{Use: "find", Short: "Ask the homes' networks for units now", Args: cobra.NoArgs, Example: "  fado bench find", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Post[[]wire.Sighting](c.Context(), a.client(), Path("sightings", "find"), nil)
		if err != nil {
			return err
		}
		return list(a, out, id, columns...)
	}}
	var again bool
	ignore := &cobra.Command{Use: "ignore ACCESS-POINT", Short: "Hide a unit that is not yours, or show it again", Args: cobra.ExactArgs(1), Example: "  fado bench ignore fado-025a11000099", RunE: func(c *cobra.Command, args []string) error {
		if err := a.client().Do(c.Context(), http.MethodPost, Path("sightings", "ignore"), wire.Ignore{Sighting: args[0], Ignored: !again}, nil); err != nil {
			return err
		}
		return a.done("%s is %s.", args[0], map[bool]string{true: "shown again", false: "hidden"}[again])
	}}
	ignore.Flags().BoolVar(&again, "undo", false, "show it again")
	return group("bench", "Units that wait to be commissioned", ls, scan, find, a.benchNote(), a.benchStart(), a.benchClaim(), ignore)
}

func (a *app) taskCommand() *cobra.Command {
	var device, status string
	ls := &cobra.Command{Use: "list", Short: "List tasks, the newest first", Args: cobra.NoArgs, Example: "  fado task list --status running,waiting"}
	ls.Flags().StringVar(&device, "device", "", "of this device")
	ls.Flags().StringVar(&status, "status", "", "queued, running, waiting, done, failed or cancelled; several with commas")
	ls.RunE = func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Task](c.Context(), a.client(), client.Query(Path("tasks"), "device", device, "status", status))
		if err != nil {
			return err
		}
		return list(a, out, func(t wire.Task) string { return t.ID },
			column[wire.Task]{"Device", func(t wire.Task) string { return t.Device }}, column[wire.Task]{"Task", func(t wire.Task) string { return string(t.Kind) }},
			column[wire.Task]{"Status", func(t wire.Task) string {
				if t.Update != nil {
					return fmt.Sprintf("%s, %s", t.Status, t.Update.Outcome)
				}
				return string(t.Status)
			}},
			column[wire.Task]{"Step", func(t wire.Task) string { return stepNow(t) }}, column[wire.Task]{"Started", func(t wire.Task) string { return when(t.CreatedAt) }}, column[wire.Task]{"Id", func(t wire.Task) string { return t.ID }})
	}
	show := &cobra.Command{Use: "show TASK", Short: "Show a task with its steps", Args: cobra.ExactArgs(1), Example: "  fado task show $(fado task list -q | head -1)", RunE: func(c *cobra.Command, args []string) error {
		t, err := client.Get[wire.Task](c.Context(), a.client(), Path("tasks", args[0]))
		if err != nil {
			return err
		}
		if a.output != "table" || a.quiet {
			return a.one(t, t.ID)
		}
		_, _ = fmt.Fprintf(a.out, "%s of %s: %s, attempt %d, started by %s at %s\n", upper(string(t.Kind))[:len(t.Kind)], t.Device, t.Status, t.Attempt, t.Actor, when(t.CreatedAt))
		for _, s := range t.Steps {
			if s.State == task.StepAhead {
				_, _ = fmt.Fprintln(a.out, "· "+s.Title)
				continue
			}
			_, _ = fmt.Fprintln(a.out, a.stepLine(s))
		}
		for _, x := range t.Checks {
			_, _ = fmt.Fprintln(a.out, "  "+checkLine(x))
		}
		if t.Failure != nil {
			_, _ = fmt.Fprintf(a.out, "%s\nLikely cause: %s\nWhat to do: %s\n", t.Failure.What, t.Failure.Cause, t.Failure.Next)
		}
		return nil
	}}
	watch := &cobra.Command{Use: "watch TASK", Short: "Show a task's steps until it ends", Args: cobra.ExactArgs(1), Example: "  fado task watch $(fado task list -q | head -1)", RunE: func(c *cobra.Command, args []string) error { return a.watch(c.Context(), args[0]) }}
	var wait bool
	retry := &cobra.Command{Use: "retry TASK", Short: "Try a failed task again, with what is intended now", Args: cobra.ExactArgs(1), Example: "  fado task retry $(fado task list --status failed -q | head -1) --wait", RunE: func(c *cobra.Command, args []string) error {
		t, err := client.Post[wire.Task](c.Context(), a.client(), Path("tasks", args[0], "retry"), nil)
		if err != nil {
			return err
		}
		return a.started(c.Context(), t, wait)
	}}
	retry.Flags().BoolVar(&wait, "wait", false, "show the steps until it ends")
	cancel := &cobra.Command{Use: "cancel TASK", Short: "Cancel a task that has not come too far", Args: cobra.ExactArgs(1), Example: "  fado task cancel $(fado task list --status running,waiting -q | head -1)", RunE: func(c *cobra.Command, args []string) error {
		if _, err := client.Post[wire.Task](c.Context(), a.client(), Path("tasks", args[0], "cancel"), nil); err != nil {
			return err
		}
		return a.done("The task is cancelled.")
	}}
	return group("task", "Durable work on one device", ls, show, watch, retry, cancel)
}

func stepNow(t wire.Task) string {
	for i, s := range t.Steps {
		if s.State == task.StepRunning || s.State == task.StepFailed {
			return fmt.Sprintf("%d of %d: %s", i+1, len(t.Steps), s.Name)
		}
	}
	return ""
}

func (a *app) imageCommand() *cobra.Command {
	var model string
	columns := []column[wire.Image]{{"Firmware", func(i wire.Image) string { return i.Firmware }}, {"Version", func(i wire.Image) string { return i.Version }}, {"Channel", func(i wire.Image) string { return string(i.Channel) }},
		{"Models", func(i wire.Image) string { return strings.Join(i.Models, ", ") }}, {"Size", func(i wire.Image) string { return fmt.Sprintf("%d KiB", (i.Size+1023)/1024) }},
		{"Signed", func(i wire.Image) string {
			if i.SignedBy == "" {
				return "no"
			}
			return "by " + i.SignedBy
		}}, {"SHA-256", func(i wire.Image) string { return i.SHA256[:12] + "…" }}, {"Withdrawn", func(i wire.Image) string { return i.Withdrawn }}}
	ls := &cobra.Command{Use: "list", Short: "List the images", Args: cobra.NoArgs, Example: "  fado image list --model sobro-quatro", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Image](c.Context(), a.client(), client.Query(Path("images"), "model", model))
		if err != nil {
			return err
		}
		return list(a, out, func(i wire.Image) string { return i.SHA256 }, columns...)
	}}
	ls.Flags().StringVar(&model, "model", "", "for this model")
	showOne := func(i wire.Image) error {
		signed := "no"
		if i.SignedBy != "" {
			signed = fmt.Sprintf("by key %s, sequence %d", i.SignedBy, i.Sequence)
		}
		return a.one(i, i.SHA256, [2]string{"Image", i.Firmware + " " + i.Version}, [2]string{"Channel", string(i.Channel)}, [2]string{"Part", string(i.Part)}, [2]string{"Models", strings.Join(i.Models, ", ")}, [2]string{"Chip", i.Chip},
			[2]string{"Size", fmt.Sprintf("%d bytes", i.Size)}, [2]string{"SHA-256", i.SHA256}, [2]string{"Says of itself", saysText(i.Says)}, [2]string{"Signed", signed}, [2]string{"Installs from", i.OldestFrom}, [2]string{"Notes", i.Notes},
			[2]string{"Withdrawn", i.Withdrawn}, [2]string{"Added", when(i.AddedAt) + " by " + i.AddedBy})
	}
	show := &cobra.Command{Use: "show IMAGE", Short: "Show an image, by the first digits of its SHA-256", Args: cobra.ExactArgs(1), Example: "  fado image show $(fado image list -q | head -1)", RunE: func(c *cobra.Command, args []string) error {
		i, err := client.Get[wire.Image](c.Context(), a.client(), Path("images", args[0]))
		if err != nil {
			return err
		}
		return showOne(i)
	}}
	var f wire.ImageFacts
	var manifest, notes string
	add := &cobra.Command{Use: "add FILE", Short: "Add an image; Fado signs its manifest", Args: cobra.ExactArgs(1), Example: "  fado image add junco-1.5.0.bin --firmware junco --version 1.5.0 --model junco"}
	add.Flags().StringVar(&f.Firmware, "firmware", "", "name of the firmware (what the file says, else the model's)")
	add.Flags().StringVar(&f.Version, "version", "", "its version (what the file says)")
	add.Flags().StringSliceVar(&f.Models, "model", nil, "models that it is for (needed)")
	add.Flags().StringVar(&f.Channel, "channel", "stable", "stable, preview or nightly")
	add.Flags().StringVar(&f.Part, "part", "program", "program or files")
	add.Flags().StringVar(&f.Chip, "chip", "", "chip that it is built for")
	add.Flags().IntVar(&f.NeedsKiB, "needs-kib", 0, "flash that it needs while being installed (its size in each slot)")
	add.Flags().StringVar(&f.OldestFrom, "oldest-from", "", "oldest version that it can be installed from")
	add.Flags().BoolVar(&f.Step, "step", false, "a small image that is only on the way to others")
	add.Flags().StringVar(&notes, "notes-file", "", "file with notes")
	add.Flags().StringVar(&manifest, "manifest-file", "", "a signed manifest that came with the file")
	add.Flags().BoolVar(&f.Unsigned, "unsigned", false, "do not sign it")
	_ = add.MarkFlagRequired("model")
	add.RunE = func(c *cobra.Command, args []string) error {
		for path, to := range map[string]*string{notes: &f.Notes, manifest: &f.Manifest} {
			if path == "" {
				continue
			}
			t, err := readFile(path)
			if err != nil {
				return err
			}
			*to = strings.TrimSpace(t)
		}
		file, err := os.Open(args[0])
		if err != nil {
			return problem.New(problem.BadInput, fmt.Sprintf("The file %s cannot be read.", args[0]), "It is not there.", "Name a file that exists.").Because(err)
		}
		defer file.Close()
		var said func(int64)
		if info, err := file.Stat(); err == nil && info.Size() > 4<<20 && !a.quiet {
			bar := progressbar.NewOptions64(info.Size(), progressbar.OptionSetWriter(a.errs), progressbar.OptionSetDescription("uploading"), progressbar.OptionShowBytes(true), progressbar.OptionClearOnFinish())
			said = func(n int64) { _ = bar.Set64(n) }
		}
		i, err := a.client().SendImage(c.Context(), file, f, said)
		if err != nil {
			return err
		}
		return showOne(i)
	}
	var reason string
	withdraw := &cobra.Command{Use: "withdraw IMAGE", Short: "Take an image out of use; it stays for the record", Args: cobra.ExactArgs(1), Example: "  fado image withdraw $(fado image list -q | head -1) --reason \"Loses its clock after a day.\""}
	withdraw.Flags().StringVar(&reason, "reason", "", "why (needed)")
	_ = withdraw.MarkFlagRequired("reason")
	withdraw.RunE = func(c *cobra.Command, args []string) error {
		i, err := client.Post[wire.Image](c.Context(), a.client(), Path("images", args[0], "withdraw"), wire.Reason{Reason: reason})
		if err != nil {
			return err
		}
		return a.done("%s %s is withdrawn: %s", i.Firmware, i.Version, i.Withdrawn)
	}
	var device string
	fit := &cobra.Command{Use: "fit [IMAGE]", Short: "Say which devices an image suits, by which route, and why not; with --device alone, which images suit it", Args: cobra.MaximumNArgs(1),
		Example: "  fado image fit $(fado image list --model junco -q | head -1)\n  fado image fit --device " + exampleDevice}
	fit.Flags().StringVar(&device, "device", "", "this device only")
	fit.RunE = func(c *cobra.Command, args []string) error {
		first := column[wire.Fit]{"Device", func(f wire.Fit) string { return f.Device }}
		path := ""
		switch {
		case len(args) == 1:
			path = client.Query(Path("images", args[0], "fit"), "device", device)
		case device != "":
			path, first = Path("devices", device, "fit"), column[wire.Fit]{"Version", func(f wire.Fit) string { return f.Version }}
		default:
			var f problem.Fields
			f.Add("IMAGE", "name an image, or a device with --device", "--device "+exampleDevice)
			return f.Err("The command was not understood.")
		}
		out, err := client.Get[[]wire.Fit](c.Context(), a.client(), path)
		if err != nil {
			return err
		}
		return list(a, out, func(f wire.Fit) string {
			if len(args) == 0 {
				return f.Image
			}
			return f.Hostname
		}, first, column[wire.Fit]{"Fits", func(f wire.Fit) string { return yes(f.Fits) }}, column[wire.Fit]{"Steps", func(f wire.Fit) string {
			if len(f.Route) == 0 {
				return ""
			}
			return fmt.Sprint(len(f.Route))
		}}, column[wire.Fit]{"Why", func(f wire.Fit) string { return f.Sentence }})
	}
	del := &cobra.Command{Use: "delete IMAGE", Short: "Delete an image that no unit ever took", Args: cobra.ExactArgs(1), Example: "  fado image delete 4f1c09aa", RunE: func(c *cobra.Command, args []string) error {
		if err := a.client().Do(c.Context(), http.MethodDelete, Path("images", args[0]), nil, nil); err != nil {
			return err
		}
		return a.done("The image is deleted.")
	}}
	return group("image", "Firmware images", ls, show, add, a.imageImport(), withdraw, del, fit)
}

func (a *app) eventCommand() *cobra.Command {
	var device, site, id string
	var limit int
	var follow bool
	ls := &cobra.Command{Use: "list", Short: "The record of what happened, the newest first", Args: cobra.NoArgs, Example: "  fado event list --device " + exampleDevice}
	ls.Flags().StringVar(&device, "device", "", "of this device")
	ls.Flags().StringVar(&site, "site", "", "of this site")
	ls.Flags().StringVar(&id, "task", "", "of this task")
	ls.Flags().IntVar(&limit, "limit", 50, "at most so many, up to 500")
	ls.Flags().BoolVar(&follow, "watch", false, "go on showing what happens, until interrupted")
	columns := []column[wire.Event]{{"At", func(e wire.Event) string { return when(e.At) }}, {"Who", func(e wire.Event) string { return e.Actor }}, {"Site", func(e wire.Event) string { return e.Site }}, {"What", func(e wire.Event) string { return e.Text }}}
	ls.RunE = func(c *cobra.Command, _ []string) error {
		read := func() ([]wire.Event, error) {
			p, err := client.Get[wire.EventPage](c.Context(), a.client(), client.Query(Path("events"), "device", device, "site", site, "task", id, "limit", strconv.Itoa(limit)))
			return p.Events, err
		}
		out, err := read()
		if err != nil {
			return err
		}
		if err := list(a, out, func(e wire.Event) string { return strconv.FormatInt(e.ID, 10) }, columns...); err != nil || !follow {
			return err
		}
		var last int64
		if len(out) > 0 {
			last = out[0].ID
		}
		return a.client().Changes(c.Context(), func(x wire.Change) bool {
			if x.Kind != "event" && x.Kind != "" {
				return true
			}
			fresh, err := read()
			if err != nil {
				return false
			}
			for i := len(fresh) - 1; i >= 0; i-- {
				if e := fresh[i]; e.ID > last {
					last = e.ID
					_, _ = fmt.Fprintf(a.out, "%s  %s  %s\n", when(e.At), e.Actor, e.Text)
				}
			}
			return true
		})
	}
	return group("event", "The record of what happened, by whom", ls)
}

func (a *app) attentionCommand() *cobra.Command {
	var site string
	c := &cobra.Command{Use: "attention", Short: "What needs a person first", Args: cobra.NoArgs, Example: "  fado attention --site lagar"}
	c.Flags().StringVar(&site, "site", "", "of this site")
	c.RunE = func(c *cobra.Command, _ []string) error {
		x, err := client.Get[wire.Attention](c.Context(), a.client(), client.Query(Path("attention"), "site", site))
		if err != nil {
			return err
		}
		if a.output != "table" || a.quiet {
			return a.encode(x)
		}
		ready := slices.DeleteFunc(slices.Clone(x.Sighted), func(s wire.Sighting) bool { return s.Source != "radio" })
		_, _ = fmt.Fprintf(a.out, "%d devices, %d adopted, %d online, %d behind; %d units in set-up mode, %d tasks under way.\n", x.Counts.Devices, x.Counts.Adopted, x.Counts.Online, x.Counts.Behind, len(ready), len(x.Tasks))
		for _, p := range x.Problems {
			_, _ = fmt.Fprintln(a.out, a.paint(text.FgRed, p))
		}
		for _, r := range x.Rollouts {
			line := fmt.Sprintf("The rollout «%s» is %s (%s). %s", r.Name, r.Status, counts(r.Counts), r.Next)
			if r.Status == rollout.Held {
				line = a.paint(text.FgRed, strings.TrimSpace(line+" "+r.Reason))
			}
			_, _ = fmt.Fprintln(a.out, line)
		}
		if x.Total == 0 {
			_, _ = fmt.Fprintln(a.out, "No device needs you.")
			return nil
		}
		return list(a, x.Devices, func(d wire.Device) string { return d.Hostname },
			column[wire.Device]{"Why", func(d wire.Device) string { return d.Attention }}, column[wire.Device]{"Device", func(d wire.Device) string { return d.Name }},
			column[wire.Device]{"Room", func(d wire.Device) string { return strings.Trim(d.Room+", "+d.Site, ", ") }}, column[wire.Device]{"Hostname", func(d wire.Device) string { return d.Hostname }},
			column[wire.Device]{"What to do", func(d wire.Device) string {
				switch {
				case d.Task != nil && d.Task.Failure != nil:
					return d.Task.Failure.Next
				case d.Attention == "behind":
					return fmt.Sprintf("update from %s to %s", d.Running, d.Intended)
				case d.Attention == "drift":
					return "compare: fado device settings " + d.Hostname
				case d.Attention == "offline":
					return "see that it has power"
				}
				return "look: fado device show " + d.Hostname
			}})
	}
	return c
}
