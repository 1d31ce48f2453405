package cli

import (
	"archive/zip"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"fado/internal/client"
	"fado/internal/core/problem"
	"fado/internal/wire"
)

func (a *app) feedCommand() *cobra.Command {
	names := a.complete("feeds", "name")
	columns := []column[wire.Feed]{{"Feed", func(f wire.Feed) string { return f.Name }}, {"Address", func(f wire.Feed) string { return f.URL }}, {"Every", func(f wire.Feed) string { return fmt.Sprintf("%d min", f.Minutes) }},
		{"Read", func(f wire.Feed) string { return whenPtr(f.ReadAt) }}, {"Trouble", func(f wire.Feed) string { return f.Trouble }}}
	ls := &cobra.Command{Use: "list", Short: "List the release feeds", Args: cobra.NoArgs, Example: "  fado feed list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Feed](c.Context(), a.client(), Path("feeds"))
		if err != nil {
			return err
		}
		return list(a, out, func(f wire.Feed) string { return f.Name }, columns...)
	}}
	show := func(f wire.Feed) error {
		return a.one(f, f.Name, [2]string{"Feed", f.Name}, [2]string{"Address", f.URL}, [2]string{"Every", fmt.Sprintf("%d minutes", f.Minutes)}, [2]string{"Read", whenPtr(f.ReadAt)}, [2]string{"Trouble", f.Trouble})
	}
	var every int
	add := &cobra.Command{Use: "add NAME URL", Short: "Add a release feed; it is read at once, and then now and then", Args: cobra.ExactArgs(2), Example: "  fado feed add \"Oficina do Sobreiro\" https://releases.example/feed.json"}
	add.Flags().IntVar(&every, "minutes", 360, "between two looks")
	add.RunE = func(c *cobra.Command, args []string) error {
		f, err := client.Post[wire.Feed](c.Context(), a.client(), Path("feeds"), wire.FeedEdit{Name: args[0], URL: args[1], Minutes: every})
		if err != nil {
			return err
		}
		return show(f)
	}
	poll := &cobra.Command{Use: "poll NAME", Short: "Read a feed now", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado feed poll \"Oficina do Sobreiro\"", RunE: func(c *cobra.Command, args []string) error {
		f, err := client.Post[wire.Feed](c.Context(), a.client(), Path("feeds", args[0], "poll"), nil)
		if err != nil {
			return err
		}
		return show(f)
	}}
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove a feed; what was taken from it stays", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado feed remove \"Oficina do Sobreiro\"", RunE: func(c *cobra.Command, args []string) error {
		if err := a.client().Do(c.Context(), http.MethodDelete, Path("feeds", args[0]), nil, nil); err != nil {
			return err
		}
		return a.done("The feed is removed.")
	}}
	return group("feed", "Where makers publish releases", ls, add, poll, remove)
}

func (a *app) releaseCommand() *cobra.Command {
	var all bool
	ls := &cobra.Command{Use: "list", Short: "What feeds offer and is not here yet", Args: cobra.NoArgs, Example: "  fado release list --all"}
	ls.Flags().BoolVar(&all, "all", false, "what was taken, is gone, or is for models that there are none of here, too")
	ls.RunE = func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Release](c.Context(), a.client(), client.Query(Path("releases"), "all", map[bool]string{true: "true"}[all]))
		if err != nil {
			return err
		}
		return list(a, out, func(r wire.Release) string { return r.SHA256 },
			column[wire.Release]{"Firmware", func(r wire.Release) string { return r.Firmware }}, column[wire.Release]{"Version", func(r wire.Release) string { return r.Version }},
			column[wire.Release]{"Channel", func(r wire.Release) string { return string(r.Channel) }}, column[wire.Release]{"Models", func(r wire.Release) string { return strings.Join(r.Models, ", ") }},
			column[wire.Release]{"Size", func(r wire.Release) string { return fmt.Sprintf("%d KiB", (r.Size+1023)/1024) }}, column[wire.Release]{"SHA-256", func(r wire.Release) string { return r.SHA256[:12] + "…" }},
			column[wire.Release]{"Seen", func(r wire.Release) string { return when(r.FirstSeen) }}, column[wire.Release]{"Stands", func(r wire.Release) string {
				switch {
				case r.Twin != "":
					return "another file of this version is offered, too"
				case r.Gone:
					return "offered no more"
				case r.Taken:
					return "taken"
				case len(r.Here) == 0:
					return "no such model here"
				}
				return "new"
			}}, column[wire.Release]{"Notes", func(r wire.Release) string { return r.Notes }})
	}
	take := &cobra.Command{Use: "take SHA-256", Short: "Fetch an image that a feed offers, and add it; nothing is rolled out by itself", Args: cobra.ExactArgs(1), Example: "  fado release take $(fado release list -q | head -1)", RunE: func(c *cobra.Command, args []string) error {
		i, err := client.Post[wire.Image](c.Context(), a.client(), Path("releases", args[0], "take"), nil)
		if err != nil {
			return err
		}
		return a.done("%s %s is here. «fado image fit %.12s» says which devices it suits.", i.Firmware, i.Version, i.SHA256)
	}}
	return group("release", "What feeds offer", ls, take)
}

func (a *app) imageImport() *cobra.Command {
	var f wire.ImageFacts
	var keep bool
	c := &cobra.Command{Use: "import ZIP|FOLDER", Short: "Look through an archive or a folder of builds, and with --keep add them", Args: cobra.ExactArgs(1),
		Example: "  fado image import builds.zip\n  fado image import ./builds --channel preview --keep"}
	c.Flags().StringSliceVar(&f.Models, "model", nil, "models that they are for (what an index or the files say)")
	c.Flags().StringVar(&f.Firmware, "firmware", "", "name of the firmware")
	c.Flags().StringVar(&f.Version, "version", "", "version")
	c.Flags().StringVar(&f.Channel, "channel", "stable", "stable, preview or nightly")
	c.Flags().BoolVar(&f.Unsigned, "unsigned", false, "do not sign them")
	c.Flags().BoolVar(&keep, "keep", false, "add them; nothing is added when one is refused")
	c.RunE = func(c *cobra.Command, args []string) error {
		from, err := opened(args[0])
		if err != nil {
			return err
		}
		defer from.Close()
		out, err := a.client().ImportArchive(c.Context(), from, f, keep)
		if err != nil {
			return err
		}
		err = list(a, out, func(x wire.Found) string { return x.SHA256 },
			column[wire.Found]{"File", func(x wire.Found) string { return x.Name }}, column[wire.Found]{"Form", func(x wire.Found) string { return x.Format }},
			column[wire.Found]{"Size", func(x wire.Found) string { return fmt.Sprintf("%d KiB", (x.Size+1023)/1024) }}, column[wire.Found]{"Firmware", func(x wire.Found) string { return x.Firmware }},
			column[wire.Found]{"Version", func(x wire.Found) string { return x.Version }}, column[wire.Found]{"Models", func(x wire.Found) string { return strings.Join(x.Models, ", ") }},
			column[wire.Found]{"Outcome", func(x wire.Found) string { return x.Outcome }}, column[wire.Found]{"Why", func(x wire.Found) string { return x.Why }})
		if err != nil || a.output != "table" || a.quiet {
			return err
		}
		counts := map[string]int{}
		for _, x := range out {
			counts[x.Outcome]++
		}
		switch {
		case keep && counts["refused"] > 0:
			return problem.New(problem.BadInput, fmt.Sprintf("Nothing was added: %d of %d files were refused.", counts["refused"], len(out)), "See the last column.", "Take them out of the archive, or say what they are, and try again.")
		case keep:
			return a.done("%d images were added, %d were here already.", counts["added"], counts["here"])
		}
		return a.done("Nothing was kept. «--keep» adds the %d that are new.", counts["new"])
	}
	return c
}

// opened opens a zip archive, or packs a folder into one on the way.
func opened(path string) (io.ReadCloser, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, problem.New(problem.BadInput, fmt.Sprintf("%s cannot be read.", path), "It is not there.", "Name an archive or a folder that exists.").Because(err)
	}
	if !info.IsDir() {
		return os.Open(path)
	}
	read, write := io.Pipe()
	go func() {
		z := zip.NewWriter(write)
		err := z.AddFS(os.DirFS(path))
		if err == nil {
			err = z.Close()
		}
		_ = write.CloseWithError(err)
	}()
	return read, nil
}
