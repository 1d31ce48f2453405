package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"fado/internal/client"
	"fado/internal/core/problem"
	"fado/internal/core/task"
	"fado/internal/wire"
)

func (a *app) benchStart() *cobra.Command {
	c := &cobra.Command{Use: "start [DEVICE...]", Short: "Commission what is ready on the bench, many at once", ValidArgsFunction: a.complete("devices", "hostname"),
		Example: "  fado bench start --site lagar --wait\n  fado bench start terraco-relay-1 adega-level-1",
		Long: `Without devices it takes all units that are in set-up mode here, are matched to a
device, and are not in service. What failed before is tried again. While a Wi-Fi
passphrase has not proven itself, one unit tries it and the others wait.`}
	site := c.Flags().String("site", "", "only those of this site")
	prepared := c.Flags().Bool("prepared", false, "what the models want done before was done")
	wait := c.Flags().Bool("wait", false, "show all of them until each has ended")
	c.RunE = func(c *cobra.Command, args []string) error {
		out, err := client.Post[[]wire.Applied](c.Context(), a.client(), Path("bench", "start"), wire.BenchStart{Site: *site, Devices: args, Prepared: *prepared})
		if err != nil {
			return err
		}
		if len(out) == 0 {
			return a.done("Nothing is ready: no unit in set-up mode is matched to a device that is not in service. «fado bench list» shows what is heard.")
		}
		if !*wait {
			return a.startedMany(out)
		}
		return a.watchMany(c.Context(), out, watching{"adopted", "All %d are adopted and proven.", "%d of %d were not adopted. Do what is said of each, then run «fado bench start» again: it takes up what failed."})
	}
	return c
}

// startedMany lists what was started, and what was not.
func (a *app) startedMany(out []wire.Applied) error {
	if err := list(a, out, func(x wire.Applied) string { return x.DeviceID }, column[wire.Applied]{"Device", func(x wire.Applied) string { return x.Device }},
		column[wire.Applied]{"Task", func(x wire.Applied) string {
			if x.Task == nil {
				return "not started"
			}
			return string(x.Task.Status) + " " + x.Task.ID
		}}, column[wire.Applied]{"Why not", func(x wire.Applied) string { return x.Problem }}); err != nil {
		return err
	}
	for _, x := range out {
		if x.Problem != "" {
			return notStarted(x)
		}
	}
	return nil
}

func notStarted(x wire.Applied) error {
	return problem.New(problem.Conflict, fmt.Sprintf("%s was not started.", x.Device), x.Problem, "Correct what is named, then try again; the others are under way.")
}

// benchLine is a line of the bench: a device, how far it is, and what it waits for.
type benchLine struct{ device, state, step, says string }

func (a *app) benchRow(x wire.Applied, t *wire.Task, now time.Time) benchLine {
	if t == nil {
		return benchLine{x.Device, "not started", "", x.Problem}
	}
	r := benchLine{device: x.Device, state: string(t.Status)}
	for i, s := range t.Steps {
		if s.State == task.StepRunning {
			r.step, r.says = fmt.Sprintf("%d of %d: %s", i+1, len(t.Steps), s.Title), s.Note
		}
	}
	switch {
	case t.Failure != nil:
		r.says = t.Failure.What + " " + t.Failure.Next
	case t.Status == task.Done:
		r.step = fmt.Sprintf("all %d", len(t.Steps))
	case t.Status == task.Queued:
		r.says = "Waits for a place on the bench."
	case t.Wait != nil:
		r.says = t.Wait.What
		if t.Wait.Usually > 0 {
			left := t.Wait.Until.Sub(now).Round(time.Second)
			r.says = fmt.Sprintf("%s left, usually %.0f s: %s", max(left, 0), t.Wait.Usually, t.Wait.What)
		}
	}
	return r
}

// watching is what is said of many tasks: of one that has ended well, of all when
// they have, and of those that have not.
type watching struct{ done, all, some string }

// untilOver waits until many tasks have ended.
func (a *app) untilOver(ctx context.Context, out []wire.Applied) error {
	for i := range out {
		for out[i].Task != nil && !out[i].Task.Status.Over() {
			t, err := client.Get[wire.Task](ctx, a.client(), Path("tasks", out[i].Task.ID))
			if err != nil {
				return err
			}
			if out[i].Task = &t; t.Status.Over() {
				break
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(time.Second):
			}
		}
	}
	return nil
}

// watchMany shows many tasks until all have ended: on a terminal as a table that
// is drawn anew, else a line for each change.
func (a *app) watchMany(ctx context.Context, out []wire.Applied, w watching) error {
	f, _ := a.out.(*os.File)
	live := f != nil && term.IsTerminal(int(f.Fd())) && a.output == "table" && !a.quiet
	said := make([]string, len(out))
	drawn := 0
	for {
		open, failed := 0, 0
		rows := make([]benchLine, len(out))
		for i := range out {
			x := &out[i]
			if x.Task != nil && !x.Task.Status.Over() {
				t, err := client.Get[wire.Task](ctx, a.client(), Path("tasks", x.Task.ID))
				if err != nil {
					return err
				}
				x.Task = &t
			}
			switch {
			case x.Task != nil && !x.Task.Status.Over():
				open++
			case x.Task == nil || x.Task.Status != task.Done:
				failed++
			}
			rows[i] = a.benchRow(*x, x.Task, time.Now())
		}
		switch {
		case live:
			drawn = a.redraw(rows, drawn, len(out)-open-failed, failed, w.done)
		case a.output == "table" && !a.quiet:
			for i, r := range rows {
				line := strings.TrimSpace(strings.Join([]string{r.state, r.step}, " "))
				if said[i] != line {
					said[i] = line
					_, _ = fmt.Fprintf(a.out, "%s: %s\n", r.device, strings.TrimSpace(line+". "+r.says))
				}
			}
		}
		if open == 0 {
			if a.output != "table" || a.quiet {
				if err := list(a, out, func(x wire.Applied) string { return x.DeviceID }, column[wire.Applied]{"Device", func(x wire.Applied) string { return x.Device }}); err != nil {
					return err
				}
			}
			if failed > 0 {
				for _, x := range out {
					a.why(x)
				}
				_, _ = fmt.Fprintf(a.errs, w.some+"\n", failed, len(out))
				return errTask
			}
			return a.done(w.all, len(out))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// why tells in full why a device was not adopted.
func (a *app) why(x wire.Applied) {
	switch {
	case x.Task == nil:
		_, _ = fmt.Fprintf(a.errs, "%s\n  %s\n", a.paint(text.FgRed, x.Device), x.Problem)
	case x.Task.Failure != nil:
		f := x.Task.Failure
		_, _ = fmt.Fprintf(a.errs, "%s\n  Likely cause: %s\n  What to do: %s\n", a.paint(text.FgRed, f.What), f.Cause, f.Next)
	case x.Task.Status != task.Done:
		_, _ = fmt.Fprintf(a.errs, "%s\n  Its task was %s.\n", a.paint(text.FgRed, x.Device), x.Task.Status)
	}
}

// redraw draws the table over the last one and returns how many lines it took.
func (a *app) redraw(rows []benchLine, drawn, done, failed int, word string) int {
	width := max(a.width(), 60)
	var b strings.Builder
	if drawn > 0 {
		fmt.Fprintf(&b, "\x1b[%dA\x1b[J", drawn)
	}
	name, step := 6, 4
	for _, r := range rows {
		name, step = max(name, text.StringWidthWithoutEscSequences(r.device)), max(step, text.StringWidthWithoutEscSequences(r.step))
	}
	step = min(step, 48)
	colour := map[string]text.Color{"done": text.FgGreen, "failed": text.FgRed, "waiting": text.FgYellow, "not started": text.FgRed, "cancelled": text.FgRed}
	for _, r := range rows {
		line := text.Pad(r.device, name, ' ') + "  " + a.paint(colour[r.state], text.Pad(r.state, 11, ' ')) + "  " + text.Pad(text.Trim(r.step, step), step, ' ') + "  "
		room := width - 1 - name - 11 - step - 6
		fmt.Fprintln(&b, line+text.Trim(r.says, max(room, 0)))
	}
	fmt.Fprintf(&b, "%d of %d %s, %d failed, %d under way. Ctrl-C stops watching, not the work.\n", done, len(rows), word, failed, len(rows)-done-failed)
	_, _ = fmt.Fprint(a.out, b.String())
	return len(rows) + 1
}
