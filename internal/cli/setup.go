package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"fado/internal/client"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/wire"
)

func (a *app) loginCommand() *cobra.Command {
	var name, pass, token string
	c := &cobra.Command{Use: "login [SERVER]", Short: "Sign in and keep a token for this machine", Args: cobra.MaximumNArgs(1), Example: "  fado login http://127.0.0.1:8420 --name marta"}
	c.Flags().StringVar(&name, "name", "", "your account (needed)")
	c.Flags().StringVar(&pass, "password-file", "", "file with the password, or - for standard input; asked for otherwise")
	c.Flags().StringVar(&token, "token-name", "", "what the token is called (this machine's name)")
	_ = c.MarkFlagRequired("name")
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) > 0 {
			a.server = args[0]
		}
		password, err := a.secretFrom(pass, "Password of "+name)
		if err != nil {
			return err
		}
		if token == "" {
			if token, err = os.Hostname(); err != nil {
				token = "command line"
			}
		}
		cl := a.client()
		t, err := client.Post[wire.Token](c.Context(), cl, "/api/v1/tokens", map[string]any{"name": token, "account": wire.Account{Name: name, Password: password}})
		if err != nil {
			return err
		}
		path, err := loginFile()
		if err != nil {
			return err
		}
		b, err := json.Marshal(login{cl.Base(), t.Text})
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(path, b, 0o600); err != nil {
			return err
		}
		return a.done("Signed in to %s as %s. The token «%s» is kept in %s.", cl.Base(), name, token, path)
	}
	return c
}

func (a *app) logoutCommand() *cobra.Command {
	return &cobra.Command{Use: "logout", Short: "Forget the token that this machine keeps", Args: cobra.NoArgs, Example: "  fado logout", RunE: func(*cobra.Command, []string) error {
		path, err := loginFile()
		if err != nil {
			return err
		}
		if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
			return err
		}
		return a.done("The token is forgotten here. Revoke it with «fado token revoke», if others may have seen it.")
	}}
}

func (a *app) tokenCommand() *cobra.Command {
	ls := &cobra.Command{Use: "list", Short: "List your tokens", Args: cobra.NoArgs, Example: "  fado token list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Token](c.Context(), a.client(), Path("tokens"))
		if err != nil {
			return err
		}
		return list(a, out, func(t wire.Token) string { return t.ID },
			column[wire.Token]{"Name", func(t wire.Token) string { return t.Name }}, column[wire.Token]{"Made", func(t wire.Token) string { return when(t.CreatedAt) }},
			column[wire.Token]{"Used", func(t wire.Token) string { return whenPtr(t.UsedAt) }}, column[wire.Token]{"Id", func(t wire.Token) string { return t.ID }})
	}}
	add := &cobra.Command{Use: "add NAME", Short: "Make a token; its text is shown once", Args: cobra.ExactArgs(1), Example: "  fado token add \"workshop laptop\"", RunE: func(c *cobra.Command, args []string) error {
		t, err := client.Post[wire.Token](c.Context(), a.client(), Path("tokens"), wire.NewToken{Name: args[0]})
		if err != nil {
			return err
		}
		return a.one(t, t.Text, [2]string{"Name", t.Name}, [2]string{"Token", t.Text}, [2]string{"", "It is shown this once."})
	}}
	revoke := &cobra.Command{Use: "revoke NAME", Short: "Revoke a token by name or id", Args: cobra.ExactArgs(1), Example: "  fado token revoke \"workshop laptop\"", RunE: func(c *cobra.Command, args []string) error {
		if err := a.client().Do(c.Context(), http.MethodDelete, Path("tokens", args[0]), nil, nil); err != nil {
			return err
		}
		return a.done("The token «%s» is revoked.", args[0])
	}}
	return group("token", "Tokens that let programs in", ls, add, revoke)
}

func (a *app) personCommand() *cobra.Command {
	var pass string
	add := &cobra.Command{Use: "add NAME", Short: "Make an account for another person", Args: cobra.ExactArgs(1), Example: "  fado person add rui --password-file pass.txt", RunE: func(c *cobra.Command, args []string) error {
		password, err := a.secretFrom(pass, "Password for "+args[0])
		if err != nil {
			return err
		}
		me, err := client.Post[wire.Me](c.Context(), a.client(), Path("people"), wire.Account{Name: args[0], Password: password})
		if err != nil {
			return err
		}
		return a.done("%s can sign in now.", me.Name)
	}}
	add.Flags().StringVar(&pass, "password-file", "", "file with the password, or - for standard input; asked for otherwise")
	return group("person", "Who may sign in", add)
}

// Path is client.Path, which commands use a lot.
func Path(parts ...string) string { return client.Path(parts...) }

func (a *app) siteCommand() *cobra.Command {
	ls := &cobra.Command{Use: "list", Short: "List the sites", Args: cobra.NoArgs, Example: "  fado site list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Site](c.Context(), a.client(), Path("sites"))
		if err != nil {
			return err
		}
		return list(a, out, func(s wire.Site) string { return s.Key },
			column[wire.Site]{"Key", func(s wire.Site) string { return s.Key }}, column[wire.Site]{"Name", func(s wire.Site) string { return s.Name }},
			column[wire.Site]{"Devices", func(s wire.Site) string { return fmt.Sprint(s.Devices) }}, column[wire.Site]{"Network", func(s wire.Site) string { return s.Network }},
			column[wire.Site]{"Broker", func(s wire.Site) string { return s.Broker }}, column[wire.Site]{"Hub", func(s wire.Site) string { return s.Hub }},
			column[wire.Site]{"Zone", func(s wire.Site) string { return s.Zone }})
	}}
	show := &cobra.Command{Use: "show SITE", Short: "Show a site", Args: cobra.ExactArgs(1), Example: "  fado site show lagar", ValidArgsFunction: a.complete("sites", "key"), RunE: func(c *cobra.Command, args []string) error {
		s, err := client.Get[wire.Site](c.Context(), a.client(), Path("sites", args[0]))
		if err != nil {
			return err
		}
		return a.showSite(s)
	}}
	edit := func(c *cobra.Command) {
		for _, f := range [][2]string{{"name", "what people call it"}, {"zone", "IANA time zone, such as Europe/Lisbon"}, {"reach", "on premises, routed or broker only"}, {"network", "Wi-Fi network for its units"},
			{"broker", "its broker"}, {"hub", "its hub"}, {"download-address", "base URL under which its units reach this service"}, {"proxy", "HTTP proxy through which its network is reached"},
			{"name-server", "DNS server that is asked for its units, host or host:port"}, {"domain", "domain under which it lists them"}, {"range", "in which the addresses of its units lie, such as 192.168.40.0/24"},
			{"scheme-hostname", "pattern for hostnames"}, {"scheme-topic", "pattern for topics"}, {"scheme-label", "pattern for labels"}} {
			c.Flags().String(f[0], "", f[1])
		}
		c.Flags().StringSlice("reserved", nil, "addresses and ranges that no unit is given; several with commas")
		c.Flags().Int("download-kib", 0, "KiB a second for the image downloads of all its units together; 0 for no limit")
		c.Flags().Bool("allow-unsigned", false, "allow images without a signed manifest")
		c.Flags().Bool("allow-downgrade", false, "allow going back to an older version")
		c.Flags().Bool("allow-risky", false, "consent to ways of updating that can kill an interrupted unit")
		c.Flags().Bool("baseline", false, "bring units to the intended firmware before they are adopted")
	}
	body := func(c *cobra.Command, now naming.Scheme) wire.SiteEdit {
		e := wire.SiteEdit{Name: changed(c, "name"), Zone: changed(c, "zone"), Reach: changed(c, "reach"), Network: changed(c, "network"), Broker: changed(c, "broker"), Hub: changed(c, "hub"),
			DownloadAddress: changed(c, "download-address"), Proxy: changed(c, "proxy"), NameServer: changed(c, "name-server"), Domain: changed(c, "domain"), Range: changed(c, "range"), AllowUnsigned: changedBool(c, "allow-unsigned"), AllowDowngrade: changedBool(c, "allow-downgrade"), AllowRisky: changedBool(c, "allow-risky"), Baseline: changedBool(c, "baseline")}
		if c.Flags().Changed("download-kib") {
			n, _ := c.Flags().GetInt("download-kib") // the flag is there
			e.DownloadKiB = &n
		}
		if c.Flags().Changed("reserved") {
			list, _ := c.Flags().GetStringSlice("reserved") // the flag is there
			e.Reserved = &list
		}
		h, t, l := changed(c, "scheme-hostname"), changed(c, "scheme-topic"), changed(c, "scheme-label")
		if h != nil || t != nil || l != nil {
			for to, from := range map[*string]*string{&now.Hostname: h, &now.Topic: t, &now.Label: l} {
				if from != nil {
					*to = *from
				}
			}
			e.Scheme = &now
		}
		return e
	}
	add := &cobra.Command{Use: "add KEY", Short: "Add a site", Args: cobra.ExactArgs(1), Example: "  fado site add moinho --name \"Moinho do Vale\" --zone Europe/Lisbon"}
	edit(add)
	add.RunE = func(c *cobra.Command, args []string) error {
		e := body(c, naming.Default)
		e.Key = &args[0]
		s, err := client.Post[wire.Site](c.Context(), a.client(), Path("sites"), e)
		if err != nil {
			return err
		}
		return a.showSite(s)
	}
	change := &cobra.Command{Use: "edit SITE", Short: "Change a site", Args: cobra.ExactArgs(1), Example: "  fado site edit lagar --allow-downgrade", ValidArgsFunction: a.complete("sites", "key")}
	edit(change)
	change.RunE = func(c *cobra.Command, args []string) error {
		now, err := client.Get[wire.Site](c.Context(), a.client(), Path("sites", args[0]))
		if err != nil {
			return err
		}
		var s wire.Site
		if err := a.client().Do(c.Context(), http.MethodPatch, Path("sites", args[0]), body(c, now.Scheme), &s, "If-Match", fmt.Sprintf("%q", fmt.Sprint(now.Version))); err != nil {
			return err
		}
		return a.showSite(s)
	}
	prove := &cobra.Command{Use: "confirm-download SITE", Short: "Confirm that units reach this service at the site's download address", Args: cobra.ExactArgs(1), Example: "  fado site confirm-download lagar", ValidArgsFunction: a.complete("sites", "key"), RunE: func(c *cobra.Command, args []string) error {
		s, err := client.Post[wire.Site](c.Context(), a.client(), Path("sites", args[0], "download-address", "proof"), nil)
		if err != nil {
			return err
		}
		return a.done("%s: %s.", s.DownloadAddress, s.DownloadProof)
	}}
	return group("site", "Homes and premises", ls, show, add, change, prove, a.siteNames(), a.siteReport(), a.siteLabels())
}

func (a *app) showSite(s wire.Site) error {
	rooms := []string{}
	for _, r := range s.Rooms {
		rooms = append(rooms, r.Name)
	}
	proof := s.DownloadProof
	if proof == "" {
		proof = "not proven: «fado site confirm-download " + s.Key + "»"
	}
	if s.DownloadAddress == "" {
		proof = ""
	}
	pace := ""
	if s.DownloadKiB > 0 {
		pace = fmt.Sprintf("%d KiB a second, all units together", s.DownloadKiB)
	}
	allow := []string{}
	for what, on := range map[string]bool{"unsigned images": s.AllowUnsigned, "going back to older versions": s.AllowDowngrade, "risky ways of updating": s.AllowRisky} {
		if on {
			allow = append(allow, what)
		}
	}
	before := ""
	if s.Baseline {
		before = "the intended firmware is reached"
	}
	return a.one(s, s.Key, [2]string{"Site", s.Name}, [2]string{"Key", s.Key}, [2]string{"Zone", s.Zone}, [2]string{"Reached", s.Reach}, [2]string{"Devices", fmt.Sprint(s.Devices)},
		[2]string{"Rooms", strings.Join(rooms, ", ")}, [2]string{"Network", s.Network}, [2]string{"Broker", s.Broker}, [2]string{"Hub", s.Hub},
		[2]string{"Hostnames", s.Scheme.Hostname}, [2]string{"Topics", s.Scheme.Topic}, [2]string{"Labels", s.Scheme.Label},
		[2]string{"Downloads at", s.DownloadAddress}, [2]string{"", proof}, [2]string{"Download rate", pace}, [2]string{"Proxy", s.Proxy}, [2]string{"Name server", strings.TrimSpace(s.NameServer + " " + s.Domain)}, [2]string{"Addresses", s.Range}, [2]string{"Reserved", strings.Join(s.Reserved, ", ")}, [2]string{"Allows", strings.Join(allow, ", ")}, [2]string{"Before adoption", before})
}

func (a *app) roomCommand() *cobra.Command {
	add := &cobra.Command{Use: "add SITE NAME", Short: "Add a room", Args: cobra.ExactArgs(2), Example: "  fado room add lagar Adega", ValidArgsFunction: a.complete("sites", "key"), RunE: func(c *cobra.Command, args []string) error {
		r, err := client.Post[wire.Room](c.Context(), a.client(), Path("sites", args[0], "rooms"), map[string]string{"name": args[1]})
		if err != nil {
			return err
		}
		return a.one(r, r.ID, [2]string{"Room", r.Name})
	}}
	return group("room", "Places in a site", add)
}

func (a *app) networkCommand() *cobra.Command {
	columns := []column[wire.Network]{{"Network", func(n wire.Network) string { return n.SSID }}, {"Passphrase", func(n wire.Network) string {
		if n.HasPassphrase {
			return "•••"
		}
		return "none"
	}}, {"Id", func(n wire.Network) string { return n.ID }}}
	ls := &cobra.Command{Use: "list SITE", Short: "List a site's Wi-Fi networks", Args: cobra.ExactArgs(1), Example: "  fado network list lagar", ValidArgsFunction: a.complete("sites", "key"), RunE: func(c *cobra.Command, args []string) error {
		out, err := client.Get[[]wire.Network](c.Context(), a.client(), Path("sites", args[0], "networks"))
		if err != nil {
			return err
		}
		return list(a, out, func(n wire.Network) string { return n.ID }, columns...)
	}}
	var pass string
	save := func(c *cobra.Command, site, ssid string) error {
		phrase, err := a.secretFrom(pass, "Passphrase of "+ssid)
		if err != nil {
			return err
		}
		list, err := client.Get[[]wire.Network](c.Context(), a.client(), Path("sites", site, "networks"))
		if err != nil {
			return err
		}
		edit := wire.NetworkEdit{SSID: &ssid, Passphrase: &phrase}
		var n wire.Network
		for _, x := range list {
			if x.SSID == ssid {
				if err := a.client().Do(c.Context(), http.MethodPatch, Path("networks", x.ID), edit, &n); err != nil {
					return err
				}
				return a.done("The network %s has its new passphrase. It goes to units with their next hand-over.", ssid)
			}
		}
		if n, err = client.Post[wire.Network](c.Context(), a.client(), Path("sites", site, "networks"), edit); err != nil {
			return err
		}
		return a.one(n, n.ID, [2]string{"Network", n.SSID}, [2]string{"Passphrase", "•••"})
	}
	set := &cobra.Command{Use: "set SITE SSID", Short: "Add a Wi-Fi network, or give it another passphrase", Args: cobra.ExactArgs(2), Example: "  fado network set lagar lagar-casa --passphrase-file pass.txt", RunE: func(c *cobra.Command, args []string) error { return save(c, args[0], args[1]) }}
	set.Flags().StringVar(&pass, "passphrase-file", "", "file with the passphrase, or - for standard input; asked for otherwise")
	return group("network", "Wi-Fi networks", ls, set)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (a *app) modelCommand() *cobra.Command {
	ls := &cobra.Command{Use: "list", Short: "List the models", Args: cobra.NoArgs, Example: "  fado model list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]inventory.Model](c.Context(), a.client(), Path("models"))
		if err != nil {
			return err
		}
		return list(a, out, func(m inventory.Model) string { return m.Name },
			column[inventory.Model]{"Model", func(m inventory.Model) string { return m.Name }}, column[inventory.Model]{"Title", func(m inventory.Model) string { return m.Title }},
			column[inventory.Model]{"Dialect", func(m inventory.Model) string { return m.Dialect }}, column[inventory.Model]{"Chip", func(m inventory.Model) string { return m.Chip }},
			column[inventory.Model]{"Flash", func(m inventory.Model) string { return fmt.Sprintf("%d KiB, %s", m.FlashKiB, slots(m)) }}, column[inventory.Model]{"Power", func(m inventory.Model) string { return string(m.Power) }})
	}}
	show := &cobra.Command{Use: "show MODEL", Short: "Show a model", Args: cobra.ExactArgs(1), Example: "  fado model show sobro-quatro", ValidArgsFunction: a.complete("models", "name"), RunE: func(c *cobra.Command, args []string) error {
		m, err := client.Get[inventory.Model](c.Context(), a.client(), Path("models", args[0]))
		if err != nil {
			return err
		}
		lines := [][2]string{{"Model", m.Title}, {"Dialect", m.Dialect}, {"Hardware", fmt.Sprintf("%s, %d KiB flash, %s, %s", m.Chip, m.FlashKiB, slots(m), m.Power)},
			{"Before", strings.Join(m.Before, "\n")}, {"Set-up mode", m.SetUp}, {"Wake", m.Wake}, {"If it is dead", m.Recover}, {"Cautions", strings.Join(m.Cautions, "\n")}}
		for _, x := range m.Capabilities {
			lines = append(lines, [2]string{"Capability", strings.TrimSpace(fmt.Sprintf("%s: %s, %s %s", x.Name, x.Title, x.Kind, x.Unit))})
		}
		for _, p := range m.Ports {
			text := fmt.Sprintf("%s is pin %s: %s", p.Label, p.Pin, strings.Join(p.Can, ", "))
			for _, c := range []struct {
				holds bool
				text  string
			}{{p.InputOnly, "input only"}, {p.UnsafeAtBoot, "unsafe at boot"}, {p.SharedWith != "", "shared with " + p.SharedWith}} {
				if c.holds {
					text += " — " + c.text
				}
			}
			if len(p.Cautions) > 0 {
				text += " — caution: " + strings.Join(p.Cautions, ", ")
			}
			lines = append(lines, [2]string{"Port", text})
		}
		return a.one(m, m.Name, lines...)
	}}
	add := &cobra.Command{Use: "add FILE", Short: "Add a model by its file, or replace it", Args: cobra.ExactArgs(1), Example: "  fado model add demo/models/junco.yaml", RunE: func(c *cobra.Command, args []string) error {
		text, err := readFile(args[0])
		if err != nil {
			return err
		}
		var m inventory.Model
		if err := a.client().Do(c.Context(), http.MethodPut, Path("models"), wire.FileText{File: text}, &m); err != nil {
			return err
		}
		return a.done("The model %s (%s) is loaded.", m.Name, m.Title)
	}}
	return group("model", "Kinds of hardware", ls, show, add,
		a.drawing("ports MODEL", "Draw its ports, as SVG", "  fado model ports sobro-quatro > ports.svg", "models", func(m string) string { return Path("models", m, "ports.svg") }))
}

func (a *app) dialectCommand() *cobra.Command {
	ls := &cobra.Command{Use: "list", Short: "List the dialects", Args: cobra.NoArgs, Example: "  fado dialect list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Dialect](c.Context(), a.client(), Path("dialects"))
		if err != nil {
			return err
		}
		return list(a, out, func(d wire.Dialect) string { return d.Name },
			column[wire.Dialect]{"Dialect", func(d wire.Dialect) string { return d.Name }}, column[wire.Dialect]{"Title", func(d wire.Dialect) string { return d.Title }},
			column[wire.Dialect]{"Settings", func(d wire.Dialect) string { return fmt.Sprint(len(d.Settings)) }}, column[wire.Dialect]{"Restarts", func(d wire.Dialect) string { return fmt.Sprint(d.Restarts) }},
			column[wire.Dialect]{"Sleeps", func(d wire.Dialect) string { return yes(d.Sleeps) }}, column[wire.Dialect]{"Models", func(d wire.Dialect) string { return strings.Join(d.Models, ", ") }})
	}}
	show := &cobra.Command{Use: "show DIALECT", Short: "Show what a dialect can say", Args: cobra.ExactArgs(1), Example: "  fado dialect show direct", ValidArgsFunction: a.complete("dialects", "name"), RunE: func(c *cobra.Command, args []string) error {
		d, err := client.Get[wire.Dialect](c.Context(), a.client(), Path("dialects", args[0]))
		if err != nil {
			return err
		}
		lines := [][2]string{{"Dialect", d.Title}, {"Models", strings.Join(d.Models, ", ")}, {"Restarts", fmt.Sprintf("%d for a full hand-over", d.Restarts)}}
		for _, s := range d.Sheet {
			lines = append(lines, [2]string{s.Title, strings.Join(s.Lines, "\n")})
		}
		return a.one(d, d.Name, lines...)
	}}
	check := &cobra.Command{Use: "check FILE...", Short: "Check dialect files, with line and column; needs no service", Args: cobra.MinimumNArgs(1), Example: "  fado dialect check dialects/direct.yaml", RunE: func(_ *cobra.Command, args []string) error {
		for _, path := range args {
			text, err := readFile(path)
			if err != nil {
				return err
			}
			d, faults := dialect.Parse(path, []byte(text))
			if len(faults) > 0 {
				return dialect.Refuse(path, faults)
			}
			if err := a.done("%s is good: %s, %d pages of settings, %d kinds of message.", path, d.Title, len(d.Settings), len(d.Messages)); err != nil {
				return err
			}
		}
		return nil
	}}
	add := &cobra.Command{Use: "add FILE", Short: "Add a dialect by its file, or replace it", Args: cobra.ExactArgs(1), Example: "  fado dialect add dialects/direct.yaml", RunE: func(c *cobra.Command, args []string) error {
		text, err := readFile(args[0])
		if err != nil {
			return err
		}
		var d wire.Dialect
		if err := a.client().Do(c.Context(), http.MethodPut, Path("dialects"), wire.FileText{File: text}, &d); err != nil {
			return err
		}
		return a.done("The dialect %s (%s) is loaded.", d.Name, d.Title)
	}}
	schema := &cobra.Command{Use: "schema", Short: "Print the JSON Schema of dialect files", Args: cobra.NoArgs, Example: "  fado dialect schema > dialect.schema.json", RunE: func(*cobra.Command, []string) error {
		_, err := a.out.Write(append(dialect.Schema, '\n'))
		return err
	}}
	return group("dialect", "How firmware families are spoken to", ls, show, check, add, a.dialectRehearse(), a.dialectTry(), schema)
}

// complete completes live names from a list of the API.
func (a *app) complete(what, field string) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		path := Path(what)
		if what == "devices" {
			path = client.Query(path, "limit", "200", "search", start)
		}
		raw, err := client.Get[json.RawMessage](c.Context(), a.client(), path)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		var page struct{ Devices []map[string]any }
		var items []map[string]any
		if what == "devices" {
			if json.Unmarshal(raw, &page) == nil {
				items = page.Devices
			}
		} else if json.Unmarshal(raw, &items) != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		var out []string
		for _, x := range items {
			if s, ok := x[field].(string); ok && strings.HasPrefix(s, start) {
				out = append(out, s)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

func slots(m inventory.Model) string {
	if m.Slots == 1 {
		return "one slot"
	}
	return fmt.Sprintf("%d slots", m.Slots)
}
