package cli

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"fado/internal/client"
	"fado/internal/core/notice"
	"fado/internal/wire"
)

func (a *app) noticeCommand() *cobra.Command {
	names := a.complete("notices", "name")
	ls := &cobra.Command{Use: "list", Short: "List the notices", Args: cobra.NoArgs, Example: "  fado notice list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Notice](c.Context(), a.client(), Path("notices"))
		if err != nil {
			return err
		}
		return list(a, out, func(n wire.Notice) string { return n.Name },
			column[wire.Notice]{"Notice", func(n wire.Notice) string { return n.Name }}, column[wire.Notice]{"Title", func(n wire.Notice) string { return n.Title }},
			column[wire.Notice]{"The hub listens to", func(n wire.Notice) string { return strings.Join(n.Listens, ", ") }}, column[wire.Notice]{"Messages", func(n wire.Notice) string { return fmt.Sprint(n.Entries) }})
	}}
	add := &cobra.Command{Use: "add FILE", Short: "Add a notice by its file, or replace it", Args: cobra.ExactArgs(1), Example: "  fado notice add docs/examples/notice.yaml", RunE: func(c *cobra.Command, args []string) error {
		text, err := readFile(args[0])
		if err != nil {
			return err
		}
		var n wire.Notice
		if err := a.client().Do(c.Context(), http.MethodPut, Path("notices"), wire.FileText{File: text}, &n); err != nil {
			return err
		}
		return a.done("The notice %s (%s) is loaded. «fado hub edit HUB --notice %s» tells a hub by it.", n.Name, n.Title, n.Name)
	}}
	show := &cobra.Command{Use: "show NOTICE", Short: "Print a notice file", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado notice show casa", RunE: func(c *cobra.Command, args []string) error {
		n, err := client.Get[wire.Notice](c.Context(), a.client(), Path("notices", args[0]))
		if err != nil {
			return err
		}
		if a.output != "table" {
			return a.encode(n)
		}
		_, err = fmt.Fprint(a.out, n.File)
		return err
	}}
	try := &cobra.Command{Use: "try NOTICE DEVICE", Short: "Show what a hub would be told of a device, without telling it", Args: cobra.ExactArgs(2), ValidArgsFunction: names, Example: "  fado notice try casa terraco-relay-1", RunE: func(c *cobra.Command, args []string) error {
		out, err := client.Get[[]wire.Post](c.Context(), a.client(), client.Query(Path("devices", args[1], "notice"), "notice", args[0]))
		if err != nil {
			return err
		}
		return list(a, out, func(p wire.Post) string { return p.Topic }, column[wire.Post]{"Topic", func(p wire.Post) string { return p.Topic }}, column[wire.Post]{"Kept there", func(p wire.Post) string { return p.Body }})
	}}
	schema := &cobra.Command{Use: "schema", Short: "Print the JSON Schema of notice files", Args: cobra.NoArgs, Example: "  fado notice schema > notice.schema.json", RunE: func(*cobra.Command, []string) error {
		_, err := a.out.Write(append(notice.Schema, '\n'))
		return err
	}}
	return group("notice", "What hubs that listen on the broker are told", ls, add, show, try, schema)
}

func (a *app) hubCommand() *cobra.Command {
	ls := &cobra.Command{Use: "list", Short: "List the hubs", Args: cobra.NoArgs, Example: "  fado hub list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Hub](c.Context(), a.client(), Path("hubs"))
		if err != nil {
			return err
		}
		return list(a, out, func(h wire.Hub) string { return h.Name },
			column[wire.Hub]{"Name", func(h wire.Hub) string { return h.Name }}, column[wire.Hub]{"Directory", func(h wire.Hub) string {
				if h.Notice != "" {
					return "listens, told by " + h.Notice
				}
				return h.Directory
			}},
			column[wire.Hub]{"Account", func(h wire.Hub) string { return h.Account }}, column[wire.Hub]{"Waiting", func(h wire.Hub) string { return fmt.Sprint(h.Waiting) }},
			column[wire.Hub]{"Answered", func(h wire.Hub) string { return whenPtr(h.AnsweredAt) }}, column[wire.Hub]{"Trouble", func(h wire.Hub) string { return h.Trouble }})
	}}
	var token, pass string
	flags := func(c *cobra.Command) {
		c.Flags().String("directory", "", "base URL of its Thing directory")
		c.Flags().String("account", "", "its account on the broker")
		c.Flags().String("notice", "", "notice file by which it is told over the broker, instead of a directory; \"\" for none")
		c.Flags().StringVar(&token, "token-file", "", "file with the directory's bearer token")
		c.Flags().StringVar(&pass, "password-file", "", "file with the password of its broker account")
	}
	body := func(c *cobra.Command) (wire.HubEdit, error) {
		e := wire.HubEdit{Directory: changed(c, "directory"), Account: changed(c, "account"), Notice: changed(c, "notice")}
		for file, to := range map[string]**string{token: &e.Token, pass: &e.Password} {
			if file == "" {
				continue
			}
			text, err := a.secretFrom(file, "Secret")
			if err != nil {
				return e, err
			}
			*to = &text
		}
		return e, nil
	}
	show := func(h wire.Hub) error {
		trouble := h.Trouble
		if h.TroubleSince != nil {
			trouble += " Since " + whenPtr(h.TroubleSince) + "."
		}
		return a.one(h, h.Name, [2]string{"Hub", h.Name}, [2]string{"Directory", h.Directory}, [2]string{"Listens, told by", h.Notice}, [2]string{"Account", h.Account}, [2]string{"Answered", whenPtr(h.AnsweredAt)},
			[2]string{"Waiting", map[bool]string{false: fmt.Sprint(h.Waiting)}[h.Waiting == 0]}, [2]string{"Trouble", trouble})
	}
	add := &cobra.Command{Use: "add NAME", Short: "Add a hub", Args: cobra.ExactArgs(1), Example: "  fado hub add \"Lagar hub\" --directory http://192.168.40.3:8080 --token-file token.txt --account hub-lagar --password-file pass.txt"}
	edit := &cobra.Command{Use: "edit NAME", Short: "Change a hub", Args: cobra.ExactArgs(1), Example: "  fado hub edit \"Lagar hub\" --directory http://192.168.40.4:8080"}
	flags(add)
	flags(edit)
	add.RunE = func(c *cobra.Command, args []string) error {
		e, err := body(c)
		if err != nil {
			return err
		}
		e.Name = &args[0]
		h, err := client.Post[wire.Hub](c.Context(), a.client(), Path("hubs"), e)
		if err != nil {
			return err
		}
		return show(h)
	}
	edit.RunE = func(c *cobra.Command, args []string) error {
		e, err := body(c)
		if err != nil {
			return err
		}
		var h wire.Hub
		if err := a.client().Do(c.Context(), http.MethodPatch, Path("hubs", args[0]), e, &h); err != nil {
			return err
		}
		return show(h)
	}
	names := a.complete("hubs", "name")
	edit.ValidArgsFunction = names
	one := &cobra.Command{Use: "show NAME", Short: "A hub: whether it answers, and what waits for it", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado hub show \"Lagar hub\"", RunE: func(c *cobra.Command, args []string) error {
		h, err := client.Get[wire.Hub](c.Context(), a.client(), Path("hubs", args[0]))
		if err != nil {
			return err
		}
		return show(h)
	}}
	return group("hub", "Home-automation hubs", ls, one, add, edit, a.hubCompare(names), a.hubCatchUp(names))
}

// differs says where a hub holds something else, a place a line.
func differs(t wire.HubThing) string {
	var out []string
	for _, x := range t.Differences {
		switch {
		case x.At == "":
			out = append(out, x.Ours)
		case x.Theirs == "":
			out = append(out, fmt.Sprintf("%s is not there", x.At))
		case x.Ours == "":
			out = append(out, fmt.Sprintf("%s is %s and should not be there", x.At, x.Theirs))
		default:
			out = append(out, fmt.Sprintf("%s is %s instead of %s", x.At, x.Theirs, x.Ours))
		}
	}
	if t.Tries > 0 {
		out = append(out, fmt.Sprintf("sent %d times without success", t.Tries))
	}
	return strings.Join(out, "\n")
}

func (a *app) hubThings(v wire.HubView, all bool) error {
	things := v.Things
	if !all {
		things = nil
		for _, t := range v.Things {
			if t.Standing != "same" {
				things = append(things, t)
			}
		}
	}
	if a.output == "json" || a.output == "yaml" {
		v.Things = things
		return a.encode(v)
	}
	if a.output == "table" && !a.quiet {
		_, _ = fmt.Fprintf(a.out, "%s, asked %s: %s.\n", v.Hub.Name, when(v.At), v.Summary)
		if v.Strangers > 0 {
			_, _ = fmt.Fprintf(a.out, "It holds %d more that %s none of Fado's and left alone.\n", v.Strangers, map[bool]string{true: "is", false: "are"}[v.Strangers == 1])
		}
		if len(things) == 0 {
			return nil
		}
	}
	return list(a, things, func(t wire.HubThing) string { return t.ID },
		column[wire.HubThing]{"Device", func(t wire.HubThing) string { return t.Name }}, column[wire.HubThing]{"Room", func(t wire.HubThing) string { return t.Room }},
		column[wire.HubThing]{"Standing", func(t wire.HubThing) string { return t.Standing }}, column[wire.HubThing]{"Where", differs})
}

func (a *app) hubCompare(names cobra.CompletionFunc) *cobra.Command {
	c := &cobra.Command{Use: "compare NAME", Short: "Ask a hub what it holds, and compare that with what it should", Args: cobra.ExactArgs(1), ValidArgsFunction: names,
		Example: "  fado hub compare \"Lagar hub\"\n  fado hub compare \"Lagar hub\" --all --output json",
		Long: `Nothing is changed. A thing is «same», «differs» (and where), «missing», «extra» (it
has left the hub, but the hub still holds it), «waiting» (a change is on its way), or
«undescribed» (its dialect does not say what the hub needs).`}
	all := c.Flags().Bool("all", false, "show those, too, that are as they should be")
	c.RunE = func(c *cobra.Command, args []string) error {
		v, err := client.Get[wire.HubView](c.Context(), a.client(), Path("hubs", args[0], "things"))
		if err != nil {
			return err
		}
		return a.hubThings(v, *all)
	}
	return c
}

func (a *app) hubCatchUp(names cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "catch-up NAME", Short: "Bring a hub in step: put again what it lost or changed, remove what has left", Args: cobra.ExactArgs(1), ValidArgsFunction: names,
		Example: "  fado hub catch-up \"Lagar hub\"",
		Long:    "Fado does this by itself every ten minutes, and when a hub answers again.",
		RunE: func(c *cobra.Command, args []string) error {
			v, err := client.Post[wire.HubView](c.Context(), a.client(), Path("hubs", args[0], "catch-up"), nil)
			if err != nil {
				return err
			}
			if a.output == "table" && !a.quiet && v.Queued > 0 {
				defer func() {
					_, _ = fmt.Fprintf(a.out, "%d %s on the way; «fado hub compare» shows when all is in step.\n", v.Queued, map[bool]string{true: "thing is", false: "things are"}[v.Queued == 1])
				}()
			}
			return a.hubThings(v, false)
		}}
}
