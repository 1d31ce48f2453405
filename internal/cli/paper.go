package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"fado/internal/client"
	"fado/internal/core/check"
	"fado/internal/core/problem"
	"fado/internal/wire"
)

// wrote puts a page into a file, or onto standard output.
func (a *app) wrote(b []byte, file, what string) error {
	if file == "" || file == "-" {
		_, err := a.out.Write(b)
		return err
	}
	if err := os.WriteFile(file, b, 0o644); err != nil {
		return problem.New(problem.BadInput, fmt.Sprintf("%s was not written.", what), err.Error(), "Name another file.").Because(err)
	}
	return a.done("%s is in %s.", what, file)
}

func (a *app) siteReport() *cobra.Command {
	c := &cobra.Command{Use: "report SITE", Short: "The hand-over report of a site: what is where, on which version, every check, who did what", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete("sites", "key"),
		Example: "  fado site report lagar\n  fado site report lagar --to lagar.html\n  fado site report lagar --output json",
		Long: `On a terminal it is a summary with what is still open. --to writes the page that
is printed for the owner; --output json and yaml write all of it. No secret is in it.`}
	to := c.Flags().String("to", "", "write the page to print to this file, or - for standard output")
	c.RunE = func(c *cobra.Command, args []string) error {
		if *to != "" {
			b, err := a.client().Raw(c.Context(), Path("sites", args[0], "report.html"))
			if err != nil {
				return err
			}
			return a.wrote(b, *to, "The report")
		}
		r, err := client.Get[wire.Report](c.Context(), a.client(), Path("sites", args[0], "report"))
		if err != nil {
			return err
		}
		if a.output == "json" || a.output == "yaml" {
			return a.encode(r)
		}
		if a.output == "table" && !a.quiet {
			_, _ = fmt.Fprintf(a.out, "%s, %s: %d devices, %d in service, %d signed off.\n", r.Site, when(r.At), r.Counts.Devices, r.Counts.InService, r.Counts.SignedOff)
		}
		err = list(a, r.Devices, func(d wire.ReportDevice) string { return d.ID },
			column[wire.ReportDevice]{"Room", func(d wire.ReportDevice) string { return d.Room }}, column[wire.ReportDevice]{"Device", func(d wire.ReportDevice) string { return d.Name }},
			column[wire.ReportDevice]{"Model", func(d wire.ReportDevice) string { return d.ModelTitle }}, column[wire.ReportDevice]{"Runs", func(d wire.ReportDevice) string { return d.Running }},
			column[wire.ReportDevice]{"Firmware", func(d wire.ReportDevice) string {
				return map[bool]string{false: d.Standing}[d.Running == ""]
			}},
			column[wire.ReportDevice]{"Stage", func(d wire.ReportDevice) string { return string(d.Stage) }}, column[wire.ReportDevice]{"Checks", checksOf})
		if err != nil || a.output != "table" || a.quiet || len(r.Open) == 0 {
			return err
		}
		_, err = fmt.Fprintf(a.out, "\nStill open:\n  %s\n", strings.Join(r.Open, "\n  "))
		return err
	}
	return c
}

// checksOf says how many of a device's checks hold.
func checksOf(d wire.ReportDevice) string {
	if len(d.Checks) == 0 {
		return string(d.SignOff)
	}
	n := 0
	for _, r := range d.Checks {
		if r.Verdict == check.Holds {
			n++
		}
	}
	return fmt.Sprintf("%s (%d of %d hold)", d.SignOff, n, len(d.Checks))
}

func (a *app) siteLabels() *cobra.Command {
	c := &cobra.Command{Use: "labels SITE", Short: "Labels for the devices of a site, as sheets of A4 to print", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete("sites", "key"),
		Example: "  fado site labels lagar --to labels.html\n  fado site labels lagar --to labels.html --room Adega --columns 2 --rows 7 --skip 3",
		Long: `The code on a label opens the device's page on this service. The page is for a
browser to print, at its full size and without margins of its own.`}
	to := c.Flags().String("to", "-", "the file, or - for standard output")
	room := c.Flags().String("room", "", "only the devices of this room")
	columns, rows := c.Flags().Int("columns", 3, "labels beside each other"), c.Flags().Int("rows", 8, "labels below each other")
	margin, skip := c.Flags().Float64("margin", 8, "of the sheet, mm"), c.Flags().Int("skip", 0, "labels of the first sheet that are used up")
	c.RunE = func(c *cobra.Command, args []string) error {
		b, err := a.client().Raw(c.Context(), client.Query(Path("sites", args[0], "labels.html"), "room", *room,
			"columns", fmt.Sprint(*columns), "rows", fmt.Sprint(*rows), "margin", fmt.Sprint(*margin), "skip", fmt.Sprint(*skip)))
		if err != nil {
			return err
		}
		return a.wrote(b, *to, "The sheet of labels")
	}
	return c
}
