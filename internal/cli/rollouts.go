package cli

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"fado/internal/client"
	"fado/internal/core/problem"
	"fado/internal/core/rollout"
	"fado/internal/wire"
)

func (a *app) rolloutCommand() *cobra.Command {
	names := a.complete("rollouts", "name")
	ls := &cobra.Command{Use: "list", Short: "List the rollouts, the newest first", Args: cobra.NoArgs, Example: "  fado rollout list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Rollout](c.Context(), a.client(), Path("rollouts"))
		if err != nil {
			return err
		}
		return list(a, out, func(r wire.Rollout) string { return r.ID },
			column[wire.Rollout]{"Rollout", func(r wire.Rollout) string { return r.Name }}, column[wire.Rollout]{"Stands", func(r wire.Rollout) string { return string(r.Status) }},
			column[wire.Rollout]{"Devices", func(r wire.Rollout) string { return fmt.Sprint(r.Devices) }}, column[wire.Rollout]{"Outcomes", func(r wire.Rollout) string { return counts(r.Counts) }},
			column[wire.Rollout]{"Next", func(r wire.Rollout) string { return r.Next }}, column[wire.Rollout]{"Planned by", func(r wire.Rollout) string { return r.Actor }})
	}}
	show := &cobra.Command{Use: "show ROLLOUT", Short: "Show a rollout: waves, gates, and each device", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado rollout show \"sobro-quatro 1.4.0\"", RunE: func(c *cobra.Command, args []string) error {
		r, err := client.Get[wire.Rollout](c.Context(), a.client(), Path("rollouts", args[0]))
		if err != nil {
			return err
		}
		return a.showRollout(c.Context(), r)
	}}
	var wait bool
	start := &cobra.Command{Use: "start ROLLOUT", Short: "Start a draft, if its plan still is true", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado rollout start \"sobro-quatro 1.4.0\" --watch", RunE: func(c *cobra.Command, args []string) error {
		r, err := client.Post[wire.Rollout](c.Context(), a.client(), Path("rollouts", args[0], "start"), nil)
		if err != nil {
			return err
		}
		if wait {
			return a.watchRollout(c.Context(), r.ID)
		}
		if a.output != "table" || a.quiet {
			return a.one(r, r.ID)
		}
		return a.done("«%s» is running. %s «fado rollout watch» shows it as it moves.", r.Name, r.Next)
	}}
	start.Flags().BoolVar(&wait, "watch", false, "show it as it moves, until it is over, held or paused")
	watch := &cobra.Command{Use: "watch ROLLOUT", Short: "Show a rollout as it moves, until it is over, held or paused", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado rollout watch \"sobro-quatro 1.4.0\"", RunE: func(c *cobra.Command, args []string) error {
		return a.watchRollout(c.Context(), args[0])
	}}
	again := &cobra.Command{Use: "replan ROLLOUT", Short: "Make the plan of a draft anew, from how things stand now", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado rollout replan \"sobro-quatro 1.4.0\"", RunE: func(c *cobra.Command, args []string) error {
		r, err := client.Post[wire.Rollout](c.Context(), a.client(), Path("rollouts", args[0], "replan"), nil)
		if err != nil {
			return err
		}
		return a.showRollout(c.Context(), r)
	}}
	remove := &cobra.Command{Use: "remove ROLLOUT", Short: "Throw a draft away", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado rollout remove \"sobro-quatro 1.4.0\"", RunE: func(c *cobra.Command, args []string) error {
		if err := a.client().Do(c.Context(), http.MethodDelete, Path("rollouts", args[0]), nil, nil); err != nil {
			return err
		}
		return a.done("The draft is gone.")
	}}
	subs := []*cobra.Command{a.rolloutPlan(), ls, show, start, watch, again, remove, a.rolloutRevert(names), a.rolloutReport(names)}
	for _, x := range []struct{ verb, path, short, done string }{
		{"pause", "pause", "Let nothing more begin, for now", "«%s» is paused. %s"},
		{"continue", "go-on", "Let a paused rollout go on, or one that is held, with --reason", "«%s» goes on. %s"},
		{"cancel", "cancel", "End a rollout; what is under way finishes, the rest is left", "«%s» is cancelled. %s"},
		{"retry", "retry", "Try what failed or was reverted again, or the devices of --device", "«%s» tries them again. %s"},
		{"exclude", "exclude", "Exclude a device whose turn has not come", "It is excluded from «%s». %s"},
	} {
		var body wire.Steering
		c := &cobra.Command{Use: x.verb + " ROLLOUT", Short: x.short, Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado rollout " + x.verb + " \"sobro-quatro 1.4.0\""}
		c.Flags().StringVar(&body.Reason, "reason", "", "why, for the record")
		if x.verb == "retry" || x.verb == "exclude" {
			c.Flags().StringSliceVar(&body.Devices, "device", nil, "this device")
			_ = c.RegisterFlagCompletionFunc("device", a.complete("devices", "hostname"))
			c.Example += " --device terraco-relay-1"
		}
		if x.verb == "continue" {
			c.Example += " --reason \"Seen on site: the access point was moved.\""
		}
		c.RunE = func(c *cobra.Command, args []string) error {
			r, err := client.Post[wire.Rollout](c.Context(), a.client(), Path("rollouts", args[0], x.path), body)
			if err != nil {
				return err
			}
			if a.output != "table" || a.quiet {
				return a.one(r, r.ID)
			}
			return a.done(x.done, r.Name, r.Next)
		}
		subs = append(subs, c)
	}
	return group("rollout", "Updates of many devices, in waves with gates", subs...)
}

// rolloutFlags are the flags by which a rollout is planned.
func (a *app) rolloutFlags(c *cobra.Command, p *wire.RolloutPlan) (read func()) {
	f := c.Flags()
	f.StringVar(&p.Name, "name", "", "its name (else made from firmware and version)")
	f.StringSliceVar(&p.Sites, "site", nil, "only at this site")
	f.StringVar(&p.Room, "room", "", "only in this room")
	f.StringVar(&p.Model, "model", "", "only of this model")
	f.StringVar(&p.Tag, "tag", "", "only with this tag")
	f.StringVar(&p.Version, "running", "", "only those that run this version")
	f.StringSliceVar(&p.Devices, "device", nil, "only these devices")
	f.StringSliceVar(&p.Exclude, "exclude", nil, "without this device")
	f.StringSliceVar(&p.Trials, "trial", nil, "this device goes first (else one of each model is suggested; those with the tag «cable» before others)")
	f.StringSliceVar(&p.Rules.Waves, "wave", []string{"10%"}, "size of a wave after the trial, a count or a share; what is left is the last")
	noTrial := f.Bool("no-trial", false, "without a trial")
	f.StringVar(&p.Rules.Hours, "hours", "", "in which updates begin, by each home's clock, such as 01:00-05:00")
	f.StringSliceVar(&p.Rules.Days, "day", nil, "on which the hours open: mon to sun")
	numbers := map[string]struct {
		to    **int
		value *int
	}{}
	for _, x := range []struct {
		name  string
		usual int
		to    **int
		says  string
	}{
		{"at-once", 8, &p.Rules.AtOnce, "updates under way at once"}, {"per-site", 2, &p.Rules.PerSite, "and at one site"}, {"share", 100, &p.Rules.Share, "gate: percent that must have succeeded"},
		{"soak", 15, &p.Rules.SoakMinutes, "gate: minutes that units are left alone before they are looked at"}, {"returns", 1, &p.Rules.Returns, "gate: how often each may come back online in that time"},
		{"patience", 60, &p.Rules.PatienceMinutes, "minutes that a wave waits for units that sleep"},
	} {
		v := f.Int(x.name, x.usual, x.says)
		numbers[x.name] = struct {
			to    **int
			value *int
		}{x.to, v}
	}
	noHealth := f.Bool("no-health", false, "gate: do not compare signal, memory and reading interval")
	noChecks := f.Bool("no-checks", false, "gate: do not ask for the checks")
	for flag, from := range map[string][2]string{"site": {"sites", "key"}, "model": {"models", "name"}, "device": {"devices", "hostname"}, "exclude": {"devices", "hostname"}, "trial": {"devices", "hostname"}} {
		_ = c.RegisterFlagCompletionFunc(flag, a.complete(from[0], from[1]))
	}
	return func() {
		for _, n := range numbers {
			*n.to = n.value
		}
		p.Rules.Trial, p.Rules.Health, p.Rules.Checks = new(!*noTrial), new(!*noHealth), new(!*noChecks)
	}
}

// plan plans a rollout and shows the draft.
func (a *app) plan(ctx context.Context, p *wire.RolloutPlan, read func()) error {
	read()
	r, err := client.Post[wire.Rollout](ctx, a.client(), Path("rollouts"), p)
	if err != nil {
		return err
	}
	return a.showRollout(ctx, r)
}

func (a *app) rolloutPlan() *cobra.Command {
	var p wire.RolloutPlan
	c := &cobra.Command{Use: "plan [IMAGE]", Short: "Plan a rollout of an image, or of all that is behind; nothing begins", Args: cobra.MaximumNArgs(1),
		Example: "  fado rollout plan 84cc089f --site lagar --wave 2 --wave 25% --hours 01:00-05:00\n  fado rollout plan --behind --tag irrigation"}
	read := a.rolloutFlags(c, &p)
	c.Flags().BoolVar(&p.Behind, "behind", false, "each device that is behind, to what is intended for it")
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) > 0 {
			p.Image = args[0]
		}
		return a.plan(c.Context(), &p, read)
	}
	return c
}

func (a *app) rolloutRevert(names cobra.CompletionFunc) *cobra.Command {
	var p wire.RolloutPlan
	c := &cobra.Command{Use: "revert ROLLOUT", Short: "Plan a rollout that takes another one back, where a route exists; nothing begins", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado rollout revert \"sobro-quatro 1.4.0\""}
	read := a.rolloutFlags(c, &p)
	c.RunE = func(c *cobra.Command, args []string) error {
		p.Reverts = args[0]
		return a.plan(c.Context(), &p, read)
	}
	return c
}

func (a *app) rolloutReport(names cobra.CompletionFunc) *cobra.Command {
	var file, format string
	c := &cobra.Command{Use: "report ROLLOUT", Short: "The report of a rollout, with its progress over time", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado rollout report \"sobro-quatro 1.4.0\" --to rollout.html\n  fado rollout report \"sobro-quatro 1.4.0\" --format csv --to rollout.csv"}
	c.Flags().StringVar(&file, "to", "", "where to write it; standard output when it is left out")
	c.Flags().StringVar(&format, "format", "html", "html, csv or json")
	c.RunE = func(c *cobra.Command, args []string) error {
		end, known := map[string]string{"html": "report.html", "csv": "report.csv", "json": "report"}[format]
		if !known {
			var f problem.Fields
			f.Add("--format", "html, csv or json", "html")
			return f.Err("No report was made.")
		}
		b, err := a.client().Raw(c.Context(), Path("rollouts", args[0], end))
		if err != nil {
			return err
		}
		if file == "" {
			_, err = a.out.Write(b)
			return err
		}
		if err := os.WriteFile(file, b, 0o644); err != nil {
			return problem.New(problem.BadInput, fmt.Sprintf("The report cannot be written to %s.", file), "The folder is not there, or belongs to somebody else.", "Name another file.").Because(err)
		}
		return a.done("The report is in %s.", file)
	}
	return c
}

// counts says how many are how, in an order that puts what is wrong first.
func counts(m map[string]int) string {
	var out []string
	said := map[string]bool{}
	for _, k := range append([]string{"lost", "failed", "reverted", "under way", "starting", "succeeded", "skipped", "ahead"}, slices.Sorted(maps.Keys(m))...) {
		if n := m[k]; n > 0 && !said[k] {
			out = append(out, fmt.Sprintf("%d %s", n, k))
			said[k] = true
		}
	}
	return strings.Join(out, ", ")
}

func mib(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }

// rolloutHead are the lines that say how a rollout stands.
func (a *app) rolloutHead(r wire.Rollout) []string {
	colour := map[rollout.Status]text.Color{rollout.Held: text.FgRed, rollout.Done: text.FgGreen, rollout.Paused: text.FgYellow}
	how := counts(r.Counts)
	if how != "" {
		how = " (" + how + ")"
	}
	out := []string{fmt.Sprintf("%s: %s, %d devices%s", r.Name, a.paint(colour[r.Status], string(r.Status)), r.Devices, how)}
	if r.Reason != "" {
		out = append(out, r.Reason)
	}
	line := "Next: " + r.Next
	if r.NextAt != nil {
		line += " At " + when(*r.NextAt) + "."
	}
	if r.EndsAt != nil {
		line += " All should be over by " + when(*r.EndsAt) + "."
	}
	return append(out, line)
}

// waveLine says how a wave stands.
func (a *app) waveLine(w wire.RolloutWave) string {
	mark := map[string]string{"passed": "✓", "held": "✗", "left": "–", "ahead": "·"}[w.Stands]
	if mark == "" {
		mark = "»"
	}
	line := fmt.Sprintf("%s %-9s  %-8s  %3d devices: %s", mark, w.Name, w.Stands, w.Devices, counts(w.Counts))
	if w.Begins != nil && w.Ends != nil {
		line += fmt.Sprintf(". From %s to %s", w.Begins.Local().Format("2 Jan 15:04"), w.Ends.Local().Format("2 Jan 15:04"))
	}
	colour := map[string]text.Color{"passed": text.FgGreen, "held": text.FgRed, "updating": text.FgYellow, "soaking": text.FgYellow, "looking": text.FgYellow}
	return a.paint(colour[w.Stands], line)
}

func (a *app) showRollout(ctx context.Context, r wire.Rollout) error {
	if a.quiet || a.output == "json" || a.output == "yaml" {
		return a.one(r, r.ID)
	}
	units, err := client.Get[wire.RolloutUnits](ctx, a.client(), client.Query(Path("rollouts", r.ID, "units"), "limit", "1000"))
	if err != nil {
		return err
	}
	columns := []column[wire.RolloutUnit]{{"Wave", func(u wire.RolloutUnit) string { return u.WaveName }}, {"Device", func(u wire.RolloutUnit) string { return u.Device }}, {"Site", func(u wire.RolloutUnit) string { return u.Site }},
		{"From", func(u wire.RolloutUnit) string { return u.From }}, {"To", func(u wire.RolloutUnit) string {
			if u.Legs > 1 {
				return u.Route
			}
			return u.To
		}}, {"Stands", func(u wire.RolloutUnit) string { return u.Stands }},
		{"Takes", func(u wire.RolloutUnit) string {
			if u.Began != nil && u.Ended != nil {
				return u.Ended.Sub(*u.Began).Round(time.Second).String()
			}
			return "about " + (time.Duration(u.UsualSeconds) * time.Second).String()
		}},
		{"What is to know", func(u wire.RolloutUnit) string {
			var out []string
			if u.Detail != "" {
				out = append(out, u.Detail)
			}
			if u.Why != "" {
				out = append(out, u.Why)
			}
			if u.Risky && u.Ended == nil {
				out = append(out, "an interruption would leave it dead")
			}
			if u.Sleeps && u.Ended == nil {
				out = append(out, "at its wake")
			}
			if u.Attempt > 1 {
				out = append(out, fmt.Sprintf("try %d", u.Attempt))
			}
			return strings.Join(out, "; ")
		}}}
	if a.output == "csv" {
		return list(a, units.Units, func(u wire.RolloutUnit) string { return u.DeviceID }, columns...)
	}
	for _, l := range a.rolloutHead(r) {
		_, _ = fmt.Fprintln(a.out, l)
	}
	for _, x := range r.Rules {
		_, _ = fmt.Fprintf(a.out, "  %-16s %s\n", x.Rule, x.Value)
	}
	for _, h := range r.Homes {
		_, _ = fmt.Fprintf(a.out, "  %-16s %d devices, %s through its uplink\n", h.Name, h.Devices, mib(h.Bytes))
	}
	_, _ = fmt.Fprintln(a.out)
	for _, w := range r.Waves {
		_, _ = fmt.Fprintln(a.out, a.waveLine(w))
		for _, g := range w.Gates {
			a.gateLines(g)
		}
	}
	_, _ = fmt.Fprintln(a.out)
	if err := list(a, units.Units, func(u wire.RolloutUnit) string { return u.DeviceID }, columns...); err != nil {
		return err
	}
	if units.Next > 0 {
		_, _ = fmt.Fprintf(a.out, "And %d more: «fado rollout report» has them all.\n", units.Total-len(units.Units))
	}
	if r.LeftOut > 0 {
		left, err := client.Get[wire.RolloutUnits](ctx, a.client(), client.Query(Path("rollouts", r.ID, "units"), "stands", "left out"))
		if err != nil {
			return err
		}
		_, _ = fmt.Fprintf(a.out, "\nLeft out: %d\n", left.Total)
		return list(a, left.Units, func(u wire.RolloutUnit) string { return u.DeviceID }, column[wire.RolloutUnit]{"Device", func(u wire.RolloutUnit) string { return u.Device }},
			column[wire.RolloutUnit]{"Site", func(u wire.RolloutUnit) string { return u.Site }}, column[wire.RolloutUnit]{"Runs", func(u wire.RolloutUnit) string { return u.From }}, column[wire.RolloutUnit]{"Why", func(u wire.RolloutUnit) string { return u.Why }})
	}
	return nil
}

func (a *app) gateLines(g wire.RolloutGate) {
	_, _ = fmt.Fprintf(a.out, "    %s %s\n", map[bool]string{true: "held", false: "gate, looked at"}[g.Early], when(g.At))
	for _, c := range g.Conditions {
		mark := a.paint(text.FgGreen, "✓")
		if !c.Holds {
			mark = a.paint(text.FgRed, "✗")
		}
		_, _ = fmt.Fprintf(a.out, "    %s %s: %s (expected: %s)\n", mark, c.Name, c.Seen, c.Expected)
	}
	if g.By != "" {
		_, _ = fmt.Fprintf(a.out, "    %s let it go on: %s\n", g.By, g.Reason)
	}
}

// watchRollout shows a rollout until it is over, held or paused: on a terminal drawn
// anew, else a line for each change.
func (a *app) watchRollout(ctx context.Context, ref string) error {
	f, _ := a.out.(*os.File)
	live := f != nil && term.IsTerminal(int(f.Fd())) && a.output == "table" && !a.quiet
	drawn, said := 0, ""
	for {
		r, err := client.Get[wire.Rollout](ctx, a.client(), Path("rollouts", ref))
		if err != nil {
			return err
		}
		lines := a.rolloutHead(r)
		for _, w := range r.Waves {
			lines = append(lines, a.waveLine(w))
		}
		under, err := client.Get[wire.RolloutUnits](ctx, a.client(), client.Query(Path("rollouts", r.ID, "units"), "stands", string(rollout.UnderWay), "limit", "20"))
		if err != nil {
			return err
		}
		for _, u := range under.Units {
			lines = append(lines, fmt.Sprintf("    %s, %s: %s", u.Device, u.Site, u.Detail))
		}
		switch {
		case live:
			width := max(a.width(), 60)
			var b strings.Builder
			if drawn > 0 {
				fmt.Fprintf(&b, "\x1b[%dA\x1b[J", drawn)
			}
			for _, l := range lines {
				fmt.Fprintln(&b, text.Trim(l, width-1))
			}
			drawn = len(lines)
			_, _ = fmt.Fprint(a.out, b.String())
		case a.output == "table" && !a.quiet:
			if line := fmt.Sprintf("%s, %s. %s", r.Status, counts(r.Counts), r.Next); line != said {
				said = line
				_, _ = fmt.Fprintln(a.out, line)
			}
		}
		if r.Status != rollout.Running && len(under.Units) == 0 {
			if a.output != "table" || a.quiet {
				return a.one(r, r.ID)
			}
			if r.Status == rollout.Held {
				for _, w := range r.Waves {
					if w.Stands == "held" && len(w.Gates) > 0 {
						a.gateLines(w.Gates[len(w.Gates)-1])
					}
				}
				_, _ = fmt.Fprintf(a.errs, "%s\nWhat to do: go on with «fado rollout continue --reason», try the failed again with «fado rollout retry», or end it with «fado rollout cancel».\n", r.Reason)
				return errTask
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

func (a *app) alertCommand() *cobra.Command {
	lines := func(x wire.Alerts) error {
		signed := ""
		if x.Keyed {
			signed = "yes (RFC 9421, hmac-sha256)"
		}
		if x.URL == "" && x.Topic == "" {
			return a.one(x, "", [2]string{"News of rollouts", "goes nowhere; «fado alert set» says where to"})
		}
		return a.one(x, x.URL, [2]string{"Webhook", x.URL}, [2]string{"Signed", signed}, [2]string{"Topic", x.Topic})
	}
	show := &cobra.Command{Use: "show", Short: "Where news of rollouts goes", Args: cobra.NoArgs, Example: "  fado alert show", RunE: func(c *cobra.Command, _ []string) error {
		x, err := client.Get[wire.Alerts](c.Context(), a.client(), Path("alerts"))
		if err != nil {
			return err
		}
		return lines(x)
	}}
	var e wire.AlertsEdit
	var keyFile string
	set := &cobra.Command{Use: "set", Short: "Say where news goes when a rollout is held or done, or a unit is lost", Args: cobra.NoArgs, Example: "  fado alert set --topic news/rollouts\n  fado alert set --url https://alerts.example/fado --key-file key.txt"}
	set.Flags().StringVar(&e.URL, "url", "", "a webhook; none when it is left out")
	set.Flags().StringVar(&e.Topic, "topic", "", "on the service's broker; none when it is left out")
	set.Flags().StringVar(&keyFile, "key-file", "", "file with the key that signs what is posted, or - for standard input")
	set.RunE = func(c *cobra.Command, _ []string) error {
		if keyFile != "" {
			k, err := a.secretFrom(keyFile, "Key")
			if err != nil {
				return err
			}
			e.Key = &k
		}
		var x wire.Alerts
		if err := a.client().Do(c.Context(), http.MethodPut, Path("alerts"), e, &x); err != nil {
			return err
		}
		return lines(x)
	}
	return group("alert", "News of rollouts", show, set)
}
