package cli

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"fado/internal/client"
	"fado/internal/wire"
)

func (a *app) brokerCommand() *cobra.Command {
	columns := []column[wire.Broker]{{"Name", func(b wire.Broker) string { return b.Name }}, {"Kind", func(b wire.Broker) string { return b.Kind }},
		{"Address", func(b wire.Broker) string { return fmt.Sprintf("%s:%d", b.Host, b.Port) }}, {"TLS", func(b wire.Broker) string { return yes(b.TLS) }},
		{"Stands", linkText}, {"Round trip", roundTrip}, {"Certificate until", func(b wire.Broker) string {
			if b.Link == nil || b.Link.Certificate == nil {
				return ""
			}
			return b.Link.Certificate.Until.Format(time.DateOnly)
		}}, {"Units sign in with", func(b wire.Broker) string { return b.Accounts }}}
	ls := &cobra.Command{Use: "list", Short: "List the brokers", Args: cobra.NoArgs, Example: "  fado broker list", RunE: func(c *cobra.Command, _ []string) error {
		out, err := client.Get[[]wire.Broker](c.Context(), a.client(), Path("brokers"))
		if err != nil {
			return err
		}
		return list(a, out, func(b wire.Broker) string { return b.Name }, columns...)
	}}
	var port int
	var pass, ca string
	flags := func(c *cobra.Command) {
		c.Flags().String("host", "", "address as units reach it")
		c.Flags().IntVar(&port, "port", 1883, "port as units reach it")
		c.Flags().Bool("tls", false, "units speak TLS with it")
		c.Flags().StringVar(&ca, "ca-file", "", "CA certificate for units, PEM")
		c.Flags().Bool("certificates", false, "units show a certificate of the broker's authority, too")
		c.Flags().String("user", "", "external only: the account that its units share")
		c.Flags().StringVar(&pass, "password-file", "", "external only: file with that account's password, or -")
	}
	body := func(c *cobra.Command) (wire.BrokerEdit, error) {
		e := wire.BrokerEdit{Host: changed(c, "host"), TLS: changedBool(c, "tls"), User: changed(c, "user"), Certificates: changedBool(c, "certificates")}
		if c.Flags().Changed("port") {
			e.Port = &port
		}
		if ca != "" {
			text, err := readFile(ca)
			if err != nil {
				return e, err
			}
			e.CA = &text
		}
		if pass != "" {
			text, err := a.secretFrom(pass, "Password")
			if err != nil {
				return e, err
			}
			e.Password = &text
		}
		return e, nil
	}
	add := &cobra.Command{Use: "add NAME", Short: "Add a broker", Args: cobra.ExactArgs(1), Example: "  fado broker add embedded --host 192.168.40.2 --port 1883"}
	edit := &cobra.Command{Use: "edit NAME", Short: "Change a broker", Args: cobra.ExactArgs(1), Example: "  fado broker edit embedded --host 192.168.40.2"}
	flags(add)
	flags(edit)
	add.RunE = func(c *cobra.Command, args []string) error {
		e, err := body(c)
		if err != nil {
			return err
		}
		e.Name = &args[0]
		b, err := client.Post[wire.Broker](c.Context(), a.client(), Path("brokers"), e)
		if err != nil {
			return err
		}
		return a.oneBroker(b)
	}
	edit.RunE = func(c *cobra.Command, args []string) error {
		e, err := body(c)
		if err != nil {
			return err
		}
		var b wire.Broker
		if err := a.client().Do(c.Context(), http.MethodPatch, Path("brokers", args[0]), e, &b); err != nil {
			return err
		}
		return a.oneBroker(b)
	}
	names := a.complete("brokers", "name")
	edit.ValidArgsFunction = names
	show := &cobra.Command{Use: "show NAME", Short: "A broker and how it stands", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado broker show embedded", RunE: func(c *cobra.Command, args []string) error {
		b, err := client.Get[wire.Broker](c.Context(), a.client(), Path("brokers", args[0]))
		if err != nil {
			return err
		}
		return a.oneBroker(b)
	}}
	return group("broker", "MQTT brokers", ls, show, add, edit)
}

func linkText(b wire.Broker) string {
	l := b.Link
	switch {
	case l == nil:
		return "not looked at yet"
	case l.Trouble != "":
		return l.Trouble
	}
	return "connected since " + when(l.Since)
}

func roundTrip(b wire.Broker) string {
	if b.Link == nil || b.Link.RoundTripMS == 0 {
		return ""
	}
	return fmt.Sprintf("%.2g ms", b.Link.RoundTripMS)
}

func (a *app) oneBroker(b wire.Broker) error {
	rows := [][2]string{{"Broker", b.Name}, {"Kind", b.Kind}, {"Address", fmt.Sprintf("%s:%d", b.Host, b.Port)}, {"TLS", yes(b.TLS)}, {"Units have", b.Accounts}, {"Stands", linkText(b)}, {"Round trip", roundTrip(b)}}
	if l := b.Link; l != nil {
		if l.Certificate != nil {
			rows = append(rows, [2]string{"Certificate", fmt.Sprintf("for %s, %s to %s", l.Certificate.Names, l.Certificate.From.Format(time.DateOnly), l.Certificate.Until.Format(time.DateOnly))})
		}
		rows = append(rows, [2]string{"Likely cause", l.Cause}, [2]string{"What to do", l.Next})
	}
	return a.one(b, b.Name, rows...)
}

func (a *app) caCommand() *cobra.Command {
	names := a.complete("brokers", "name")
	show := func(x wire.Authority) error {
		return a.one(x, x.Broker, [2]string{"Authority of", x.Broker}, [2]string{"Good until", x.Until.Format(time.DateOnly)}, [2]string{"Certificates", fmt.Sprint(x.Counting)},
			[2]string{"Due to be renewed", fmt.Sprint(x.Due)}, [2]string{"Revoked", fmt.Sprint(x.Revoked)})
	}
	mk := &cobra.Command{Use: "make BROKER", Short: "Make the certification authority of a broker", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado ca make embedded", RunE: func(c *cobra.Command, args []string) error {
		x, err := client.Post[wire.Authority](c.Context(), a.client(), Path("brokers", args[0], "authority"), nil)
		if err != nil {
			return err
		}
		return show(x)
	}}
	var to string
	pem := func(what, text string) error {
		if to == "" {
			_, err := fmt.Fprint(a.out, text)
			return err
		}
		if err := os.WriteFile(to, []byte(text), 0o644); err != nil {
			return fmt.Errorf("write %s: %w", what, err)
		}
		_, _ = fmt.Fprintf(a.errs, "%s was written to %s.\n", upper(what)[:len(upper(what))-1], to)
		return nil
	}
	one := &cobra.Command{Use: "show BROKER", Short: "The authority of a broker, or its certificate with --pem", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado ca show embedded\n  fado ca show embedded --pem --to ca.pem"}
	asPEM := one.Flags().Bool("pem", false, "print its certificate")
	one.Flags().StringVar(&to, "to", "", "write the certificate to this file")
	one.RunE = func(c *cobra.Command, args []string) error {
		x, err := client.Get[wire.Authority](c.Context(), a.client(), Path("brokers", args[0], "authority"))
		if err != nil {
			return err
		}
		if *asPEM || to != "" {
			return pem("the authority's certificate", x.Certificate)
		}
		return show(x)
	}
	server := &cobra.Command{Use: "server BROKER", Short: "Sign the certificate of a broker elsewhere, of a request made where its key is", Args: cobra.ExactArgs(1), ValidArgsFunction: names,
		Example: "  fado ca server mill --request broker.csr --name 192.168.40.2 --to broker.pem"}
	request := server.Flags().String("request", "", "file with the certificate request (PKCS #10, PEM)")
	hosts := server.Flags().StringSlice("name", nil, "name or address under which units reach it; several by commas")
	server.Flags().StringVar(&to, "to", "", "write the certificate to this file")
	_ = server.MarkFlagRequired("request")
	server.RunE = func(c *cobra.Command, args []string) error {
		text, err := readFile(*request)
		if err != nil {
			return err
		}
		x, err := client.Post[wire.Certificate](c.Context(), a.client(), Path("brokers", args[0], "authority", "server"), wire.CertificateRequest{Request: text, Names: *hosts})
		if err != nil {
			return err
		}
		return pem("the broker's certificate", x.PEM)
	}
	revoked := &cobra.Command{Use: "revoked BROKER", Short: "The list of revoked certificates, for a broker elsewhere; good for thirty days", Args: cobra.ExactArgs(1), ValidArgsFunction: names, Example: "  fado ca revoked embedded --to revoked.pem"}
	revoked.Flags().StringVar(&to, "to", "", "write the list to this file")
	revoked.RunE = func(c *cobra.Command, args []string) error {
		x, err := client.Get[wire.RevocationList](c.Context(), a.client(), Path("brokers", args[0], "authority", "revoked"))
		if err != nil {
			return err
		}
		return pem("the list of revoked certificates", x.List)
	}
	return group("ca", "Certification authorities of brokers", mk, one, server, revoked)
}

func (a *app) certificateCommand() *cobra.Command {
	state := func(x wire.Certificate) string {
		now := time.Now()
		switch {
		case x.RevokedAt != nil:
			return "revoked: " + x.Reason
		case now.After(x.Until):
			return "over"
		case now.After(x.RenewAt):
			return "due"
		case x.Kind == "unit" && x.SeenAt == nil:
			return "not used yet"
		}
		return "counts"
	}
	columns := []column[wire.Certificate]{{"Serial", func(x wire.Certificate) string { return x.Serial }}, {"Of", func(x wire.Certificate) string { return strings.TrimSpace(x.Device + " " + x.Names) }},
		{"Broker", func(x wire.Certificate) string { return x.Broker }}, {"Until", func(x wire.Certificate) string { return x.Until.Format(time.DateOnly) }}, {"Stands", state}}
	var query [4]string
	ls := &cobra.Command{Use: "list", Short: "The certificates that authorities signed", Args: cobra.NoArgs, Example: "  fado certificate list --device " + exampleDevice}
	ls.Flags().StringVar(&query[1], "broker", "", "only those of this broker")
	ls.Flags().StringVar(&query[3], "device", "", "only those of this device")
	ls.RunE = func(c *cobra.Command, _ []string) error {
		query[0], query[2] = "broker", "device"
		out, err := client.Get[[]wire.Certificate](c.Context(), a.client(), client.Query(Path("certificates"), query[:]...))
		if err != nil {
			return err
		}
		return list(a, out, func(x wire.Certificate) string { return x.Serial }, columns...)
	}
	show := func(x wire.Certificate) error {
		return a.one(x, x.Serial, [2]string{"Certificate", x.Serial}, [2]string{"Of", strings.TrimSpace(x.Device + " " + x.Names)}, [2]string{"Good", x.From.Format(time.DateOnly) + " to " + x.Until.Format(time.DateOnly)}, [2]string{"Stands", state(x)})
	}
	renew := &cobra.Command{Use: "renew DEVICE", Short: "Make another certificate for a device's unit, which «device apply» hands over", Args: cobra.ExactArgs(1), ValidArgsFunction: a.complete("devices", "hostname"), Example: "  fado certificate renew " + exampleDevice, RunE: func(c *cobra.Command, args []string) error {
		x, err := client.Post[wire.Certificate](c.Context(), a.client(), Path("devices", args[0], "certificate"), nil)
		if err != nil {
			return err
		}
		return show(x)
	}}
	revoke := &cobra.Command{Use: "revoke SERIAL", Short: "Revoke a certificate at once", Args: cobra.ExactArgs(1), Example: "  fado certificate revoke 6f3c… --reason \"The unit was stolen.\""}
	why := revoke.Flags().String("reason", "", "why; it stands in the record")
	revoke.RunE = func(c *cobra.Command, args []string) error {
		x, err := client.Post[wire.Certificate](c.Context(), a.client(), Path("certificates", args[0], "revoke"), wire.Revocation{Reason: *why})
		if err != nil {
			return err
		}
		return show(x)
	}
	return group("certificate", "Certificates of units and brokers", ls, renew, revoke)
}
