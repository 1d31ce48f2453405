package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"fado/internal/api"
	"fado/internal/carrier"
	"fado/internal/clock"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/demo"
	"fado/internal/service"
	"fado/internal/sim"
	"fado/internal/store"
	"fado/web"
)

func (a *app) serveCommand() *cobra.Command {
	var file, format string
	c := &cobra.Command{Use: "serve", Short: "Run the service", Args: cobra.NoArgs, Example: "  fado serve --config fado.yaml"}
	c.Flags().StringVar(&file, "config", "", "configuration file (fado.yaml when it exists)")
	c.Flags().StringVar(&format, "log-format", "", "text or json, over the configuration")
	c.RunE = func(c *cobra.Command, _ []string) error {
		conf, err := service.Load(file, os.Getenv)
		if err != nil {
			return err
		}
		if format != "" {
			conf.Log.Format = format
		}
		log := service.Logger(conf.Log, os.Stderr)
		r, err := service.Start(c.Context(), conf, a.version, web.Console(), carrier.Net{}, log)
		if err != nil {
			return err
		}
		defer r.Stop()
		log.Info("serving", "url", r.URL, "broker", r.BrokerAt, "data", conf.Data)
		if r.FirstLink != "" {
			_, _ = fmt.Fprintf(a.out, "There is no account yet. Make the first one at\n\n  %s/first#%s\n\nThe link works once, and until the service is started again.\n", r.URL, r.FirstLink)
		}
		select {
		case <-c.Context().Done():
			log.Info("stopping")
			r.Stop()
			return nil
		case err := <-r.Done():
			return fmt.Errorf("serving ended: %w", err)
		}
	}
	return c
}

func (a *app) demoCommand() *cobra.Command {
	o := demo.Options{}
	var tour, verbose bool
	c := &cobra.Command{Use: "demo", Short: "Run the service with a simulated site on a fresh data folder", Args: cobra.NoArgs,
		Example: "  fado demo\n  fado demo --tour",
		Long:    "Starts a simulated site with its radio, units and hub, and the service with its\nembedded broker, all on loopback, loads the demo data through the API, and leaves\nit running until it is interrupted. With --tour it runs the whole story by itself\nand exits 0 only if each step was seen to work."}
	c.Flags().StringVar(&o.Listen, "listen", "127.0.0.1:8420", "address of console and API")
	c.Flags().StringVar(&o.Broker, "broker", "127.0.0.1:1883", "address of the embedded broker")
	c.Flags().StringVar(&o.Site, "site", "127.0.0.1:8430", "address of the simulated radio and its controls")
	c.Flags().StringVar(&o.Hub, "hub", "127.0.0.1:8440", "address of the simulated hub")
	c.Flags().StringVar(&o.Data, "data", "", "data folder (a new temporary one)")
	c.Flags().Float64Var(&o.Scale, "scale", 1, "how many times as fast as real time")
	c.Flags().BoolVar(&tour, "tour", false, "run the story without a person, then stop")
	c.Flags().BoolVar(&verbose, "verbose", false, "show the service's log")
	c.RunE = func(c *cobra.Command, _ []string) error {
		o.Version, o.Console, o.Log = a.version, web.Console(), slog.New(slog.DiscardHandler)
		if verbose {
			o.Log = slog.New(slog.NewTextHandler(a.errs, nil))
		}
		if tour {
			// Its own ports, so that it runs beside a demo.
			o.Listen, o.Broker, o.Site, o.Hub = "127.0.0.1:0", "127.0.0.1:0", "127.0.0.1:0", "127.0.0.1:0"
			if !c.Flags().Changed("scale") {
				o.Scale = 5
			}
		}
		_, _ = fmt.Fprintln(a.errs, "Starting the simulated site and the service, loading the demo data …")
		d, err := demo.Start(c.Context(), o)
		if err != nil {
			return err
		}
		defer d.Stop()
		if tour {
			err := d.Tour(c.Context(), a.out)
			if err != nil {
				return problem.New(problem.Broken, "The tour stopped: "+err.Error()+".", "A step was not seen to work.", "Run it with --verbose to read the service's log.").Because(err)
			}
			return nil
		}
		_, _ = fmt.Fprintf(a.out, `Fado is running with demo data.

  Console     %s
  Sign in as  %s
  Password    %s
  Hub         %s   (a stand-in for the home's hub)

For the command line, in another terminal:

  export FADO_SERVER=%s FADO_TOKEN=%s
  %s device list

Press Ctrl-C to stop.
`, d.URL, d.Person, d.Password, d.HubURL, d.URL, d.Token, os.Args[0])
		<-c.Context().Done()
		began := time.Now()
		d.Stop()
		_, _ = fmt.Fprintf(a.errs, "Stopped in %.1f s.\n", time.Since(began).Seconds())
		return nil
	}
	return c
}

func (a *app) simCommand() *cobra.Command {
	var listen, start string
	var scale float64
	run := &cobra.Command{Use: "run FILE", Short: "Run a simulated site described by a JSON file", Args: cobra.ExactArgs(1), Example: "  fado sim run site.json --listen 127.0.0.1:8430"}
	run.Flags().StringVar(&listen, "listen", "127.0.0.1:8430", "address of the radio and the controls")
	run.Flags().Float64Var(&scale, "scale", 1, "how many times as fast as real time")
	run.Flags().StringVar(&start, "start", "", "when scaled time started, RFC 3339")
	run.RunE = func(c *cobra.Command, args []string) error {
		body, err := readFile(args[0])
		if err != nil {
			return err
		}
		var spec sim.Spec
		d := json.NewDecoder(strings.NewReader(body))
		d.DisallowUnknownFields()
		if err := d.Decode(&spec); err != nil {
			return problem.New(problem.BadInput, "The site's description cannot be read: "+err.Error()+".", "A key is misspelt or has another type.", "Compare with docs/simulation.md.").Because(err)
		}
		clk := clock.Wall()
		if scale != 1 {
			at := time.Now()
			if start != "" {
				if at, err = time.Parse(time.RFC3339, start); err != nil {
					return err
				}
			}
			clk = clock.Scaled(scale, at)
		}
		s, err := sim.Start(spec, listen, clk, slog.New(slog.NewTextHandler(a.errs, nil)))
		if err != nil {
			return err
		}
		_, _ = fmt.Fprintf(a.out, "The simulated site is at %s; its homes' name server is at %s.\n", s.Address(), s.Names())
		<-c.Context().Done()
		s.Stop()
		return nil
	}
	return group("sim", "Run simulated sites, with real HTTP and MQTT on loopback", run)
}

func (a *app) configCommand() *cobra.Command {
	var file string
	check := &cobra.Command{Use: "check", Short: "Check the configuration and show what is in force", Args: cobra.NoArgs, Example: "  fado config check --config fado.yaml"}
	check.Flags().StringVar(&file, "config", "", "configuration file (fado.yaml when it exists)")
	check.RunE = func(*cobra.Command, []string) error {
		conf, err := service.Load(file, os.Getenv)
		if err != nil {
			return err
		}
		if a.output != "table" {
			return a.encode(conf)
		}
		return a.done("The configuration is good.\n\n  data    %s\n  listen  %s\n  broker  %s %s\n  radio   %s", conf.Data, conf.Listen, conf.Broker.Kind, conf.Broker.Listen, conf.Radio.Kind)
	}
	keys := &cobra.Command{Use: "keys", Short: "List every key with its meaning", Args: cobra.NoArgs, Example: "  fado config keys", RunE: func(*cobra.Command, []string) error {
		return list(a, service.Keys(), func(k service.Key) string { return k.Name },
			column[service.Key]{"Key", func(k service.Key) string { return k.Name }}, column[service.Key]{"Environment", func(k service.Key) string { return k.Env }},
			column[service.Key]{"Default", func(k service.Key) string { return k.Default }}, column[service.Key]{"Meaning", func(k service.Key) string { return k.Doc }})
	}}
	return group("config", "Check the configuration", check, keys)
}

func (a *app) openapiCommand() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the API's OpenAPI 3.1 document", Args: cobra.NoArgs, Example: "  fado openapi > openapi.json", RunE: func(*cobra.Command, []string) error {
		b, err := api.Document("1")
		if err != nil {
			return err
		}
		_, err = a.out.Write(append(b, '\n'))
		return err
	}}
}

func (a *app) backupCommand() *cobra.Command {
	var to, pass string
	c := &cobra.Command{Use: "backup", Short: "Write records, images and the sealing key into one sealed file", Args: cobra.NoArgs, Example: "  fado backup --to lagar.backup --passphrase-file pass.txt"}
	c.Flags().StringVar(&to, "to", "", "file to write (needed)")
	c.Flags().StringVar(&pass, "passphrase-file", "", "file with the passphrase, or - for standard input; asked for otherwise")
	_ = c.MarkFlagRequired("to")
	c.RunE = func(c *cobra.Command, _ []string) error {
		phrase, err := a.secretFrom(pass, "Passphrase for the backup")
		if err != nil {
			return err
		}
		f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return problem.New(problem.BadInput, fmt.Sprintf("The file %s cannot be written.", to), "It exists already, or the folder does not.", "Name a new file.").Because(err)
		}
		// Without an interval the bar has no goroutine of its own, which nobody
		// would wait for.
		bar := progressbar.NewOptions64(-1, progressbar.OptionSetSpinnerChangeInterval(0), progressbar.OptionSetWriter(a.errs), progressbar.OptionSetDescription("backing up"), progressbar.OptionShowBytes(true), progressbar.OptionSetVisibility(!a.quiet), progressbar.OptionClearOnFinish())
		_ = bar.RenderBlank() // sealing takes a moment before the first byte
		n, err := a.client().Backup(c.Context(), phrase, io.MultiWriter(f, bar))
		_ = bar.Finish()
		if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
			_ = os.Remove(to)
			return err
		}
		return a.done("The backup is in %s, %d KiB. It opens with its passphrase only; keep both, apart from each other.", to, (n+1023)/1024)
	}
	return c
}

func (a *app) restoreCommand() *cobra.Command {
	var from, data, pass string
	c := &cobra.Command{Use: "restore", Short: "Open a backup into a new data folder", Args: cobra.NoArgs, Example: "  fado restore --from lagar.backup --data ./restored --passphrase-file pass.txt"}
	c.Flags().StringVar(&from, "from", "", "the backup (needed)")
	c.Flags().StringVar(&data, "data", "", "data folder to make (needed)")
	c.Flags().StringVar(&pass, "passphrase-file", "", "file with the passphrase, or - for standard input; asked for otherwise")
	_ = c.MarkFlagRequired("from")
	_ = c.MarkFlagRequired("data")
	c.RunE = func(*cobra.Command, []string) error {
		phrase, err := a.secretFrom(pass, "Passphrase of the backup")
		if err != nil {
			return err
		}
		f, err := os.Open(from)
		if err != nil {
			return problem.New(problem.BadInput, fmt.Sprintf("The backup %s cannot be read.", from), "It is not there.", "Name a file that exists.").Because(err)
		}
		defer f.Close()
		if err := store.Restore(f, filepath.Clean(data), secret.New(phrase)); err != nil {
			return err
		}
		return a.done("Restored into %s. Start the service on it with «FADO_DATA=%s fado serve».", data, data)
	}
	return c
}
