package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"fado/internal/core/problem"
	"fado/internal/wire"
)

func (a *app) deviceImport() *cobra.Command {
	c := &cobra.Command{Use: "import SITE --file FILE", Short: "Take an inventory in from a spreadsheet's CSV", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete("sites", "key"),
		Example: "  fado device export lagar --to lagar.csv\n  fado device import lagar --file lagar.csv --dry-run\n  fado device import lagar --file lagar.csv",
		Long: `The first row names the columns: id, name, room, model, hardware_id, hostname, topic,
label, tags, set_up_code, and any setting by its key, such as report.interval_seconds.
A heading that begins with # is passed over. Commas, semicolons and tabulators, UTF-8,
UTF-16 and Windows-1252, and decimal commas are understood.

A row is a device that is there when its id, its hardware id or its hostname says so;
else it adds one, with names by the site's scheme. An empty cell changes nothing.
All rows are taken in, or none; --dry-run tells what would become of each.`}
	file := c.Flags().String("file", "", "the CSV file, or - for standard input")
	dry := c.Flags().Bool("dry-run", false, "tell what would happen to each row and change nothing")
	_ = c.MarkFlagRequired("file")
	c.RunE = func(c *cobra.Command, args []string) error {
		var b []byte
		var err error
		if *file == "-" {
			b, err = io.ReadAll(io.LimitReader(a.in, 32<<20))
		} else {
			b, err = os.ReadFile(*file)
		}
		if err != nil {
			return problem.New(problem.BadInput, fmt.Sprintf("%s cannot be read.", *file), err.Error(), "Name a file that is there, or - for standard input.")
		}
		out, err := a.client().Import(c.Context(), args[0], b, *dry)
		if err != nil {
			return err
		}
		return a.imported(out)
	}
	return c
}

func (a *app) imported(out wire.Import) error {
	rows := out.Rows
	if a.output == "table" && !a.quiet {
		// Rows that stay as they are need nobody to read them.
		rows = nil
		for _, r := range out.Rows {
			if r.Outcome != "same" {
				rows = append(rows, r)
			}
		}
	}
	if a.output == "json" || a.output == "yaml" {
		if err := a.encode(out); err != nil {
			return err
		}
	} else if err := list(a, rows, func(r wire.ImportRow) string { return r.Device }, column[wire.ImportRow]{"Line", func(r wire.ImportRow) string { return fmt.Sprint(r.Line) }},
		column[wire.ImportRow]{"Outcome", func(r wire.ImportRow) string { return r.Outcome }}, column[wire.ImportRow]{"Name", func(r wire.ImportRow) string { return r.Name }},
		column[wire.ImportRow]{"Hostname", func(r wire.ImportRow) string { return r.Device }}, column[wire.ImportRow]{"What", what}); err != nil {
		return err
	}
	said := "Devices added %d, changed %d, left as they were %d"
	if out.DryRun {
		said = "Nothing was changed. Devices that would be added %d, changed %d, left as they are %d"
	}
	if err := a.done(said+". The file is %s with %s.", out.Added, out.Changed, out.Same, out.Encoding, separatorName(out.Separator)); err != nil {
		return err
	}
	if out.Refused > 0 {
		return problem.New(problem.BadInput, fmt.Sprintf("%d of %d rows would be refused.", out.Refused, len(out.Rows)), "Their cells break the rules named above.", "Correct them in the spreadsheet, then rehearse it again with --dry-run.")
	}
	return nil
}

func separatorName(s string) string {
	return map[string]string{",": "commas", ";": "semicolons", "\t": "tabulators"}[s]
}

func what(r wire.ImportRow) string {
	said := r.Changes
	for _, f := range r.Faults {
		line := strings.TrimPrefix(f.Field+": "+f.Rule, ": ")
		if f.Passes != "" {
			line += fmt.Sprintf(" (%q would pass)", f.Passes)
		}
		said = append(said, line)
	}
	return strings.Join(said, "\n")
}

func (a *app) deviceExport() *cobra.Command {
	c := &cobra.Command{Use: "export SITE", Short: "Write a site's inventory as CSV for a spreadsheet", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete("sites", "key"),
		Example: "  fado device export lagar --to lagar.csv",
		Long:    "The file can be changed in a spreadsheet and taken in again with «fado device import».\nSet-up codes and other secrets are not in it. Cells that a spreadsheet would carry out\nas a formula begin with an apostrophe, which is taken away again on the way in."}
	to := c.Flags().String("to", "-", "the file, or - for standard output")
	c.RunE = func(c *cobra.Command, args []string) error {
		b, err := a.client().Raw(c.Context(), Path("sites", args[0], "inventory"))
		if err != nil {
			return err
		}
		if *to == "-" {
			_, err = a.out.Write(b)
			return err
		}
		if err := os.WriteFile(*to, b, 0o644); err != nil {
			return problem.New(problem.BadInput, fmt.Sprintf("%s cannot be written.", *to), err.Error(), "Name a file in a folder that is there.")
		}
		return a.done("The inventory of %s is in %s.", args[0], *to)
	}
	return c
}
