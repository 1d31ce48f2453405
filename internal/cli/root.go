// Package cli is the command line: Cobra commands over the API. It reaches a
// service through its client only; serving, the demo and restoring are the
// exceptions, which run one. It makes no decisions of its own.
package cli

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"fado/internal/client"
	"fado/internal/core/problem"
	"fado/internal/core/sheet"
)

// The exit codes.
const (
	exitOK          = 0
	exitFailed      = 1 // something went wrong
	exitUsage       = 2 // the command was not understood, or its input was refused
	exitNotFound    = 3
	exitUnavailable = 4 // no service, or a part that it needs, answers
	exitDenied      = 5 // not signed in, or not allowed
	exitTask        = 6 // a task that was waited for failed
	exitInterrupted = 130
)

// app is what all commands share.
type app struct {
	version string
	out     io.Writer
	errs    io.Writer
	in      io.Reader
	server  string
	output  string
	quiet   bool
}

// Run carries out a command line and returns the exit code.
func Run(ctx context.Context, version string, args []string, in io.Reader, out, errs io.Writer) int {
	a := &app{version: version, out: out, errs: errs, in: in}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitOK
	}
	if ctx.Err() != nil {
		_, _ = fmt.Fprintln(errs, "Interrupted. What was started on the service goes on there.")
		return exitInterrupted
	}
	return a.report(err)
}

// Root returns the tree of commands, for those who read it.
func Root(version string) *cobra.Command { return (&app{version: version}).root() }

// errTask ends a command whose task failed; the task has been shown.
var errTask = errors.New("the task failed")

func (a *app) report(err error) int {
	if errors.Is(err, errTask) {
		return exitTask
	}
	p := problem.As(err)
	if p == nil {
		_, _ = fmt.Fprintf(a.errs, "%s\nRun «fado help» to see the commands.\n", upper(err.Error()))
		return exitUsage
	}
	_, _ = fmt.Fprintln(a.errs, a.paint(text.FgRed, p.What))
	for _, f := range p.Fields {
		line := "  " + f.Field + ": " + f.Rule
		if f.Passes != "" {
			line += fmt.Sprintf("; %q would pass", f.Passes)
		}
		_, _ = fmt.Fprintln(a.errs, line)
	}
	if p.Cause != "" {
		_, _ = fmt.Fprintln(a.errs, "Likely cause: "+p.Cause)
	}
	if p.Next != "" {
		_, _ = fmt.Fprintln(a.errs, "What to do: "+p.Next)
	}
	switch p.Kind {
	case problem.NotFound:
		return exitNotFound
	case problem.BadInput:
		return exitUsage
	case problem.Unavailable:
		return exitUnavailable
	case problem.SignedOut, problem.Denied, problem.TooMany:
		return exitDenied
	}
	return exitFailed
}

func upper(s string) string {
	if s == "" {
		return s
	}
	s = strings.ToUpper(s[:1]) + s[1:]
	if !strings.HasSuffix(s, ".") {
		s += "."
	}
	return s
}

func (a *app) root() *cobra.Command {
	c := &cobra.Command{
		Use: "fado", Short: "Commission, adopt and update the devices of many homes",
		Long: `Fado keeps the inventory of a home-automation integrator: it hands each unit its
Wi-Fi, broker, topic and hostname, proves that it works, adopts it into the
home's hub, and brings new firmware to it.

Exit codes: 0 done · 1 failed · 2 refused input · 3 no such thing ·
4 no service answers · 5 not signed in · 6 the task failed · 130 interrupted`,
		SilenceUsage: true, SilenceErrors: true, Version: a.version,
	}
	c.SetVersionTemplate("fado {{.Version}}\n")
	c.PersistentFlags().StringVar(&a.server, "server", "", "address of the service (else FADO_SERVER, else what «fado login» kept)")
	c.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "table, json, yaml or csv")
	c.PersistentFlags().BoolVarP(&a.quiet, "quiet", "q", false, "print ids only")
	_ = c.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "yaml", "csv"}, cobra.ShellCompDirectiveNoFileComp))
	c.PersistentPreRunE = func(*cobra.Command, []string) error {
		switch a.output {
		case "table", "json", "yaml", "csv":
			return nil
		}
		var f problem.Fields
		f.Add("--output", "table, json, yaml or csv", "json")
		return f.Err("The command was not understood.")
	}
	c.AddCommand(a.serveCommand(), a.demoCommand(), a.simCommand(), a.configCommand(), a.openapiCommand(), a.backupCommand(), a.restoreCommand())
	c.AddCommand(a.loginCommand(), a.logoutCommand(), a.tokenCommand(), a.personCommand())
	c.AddCommand(a.siteCommand(), a.roomCommand(), a.networkCommand(), a.brokerCommand(), a.caCommand(), a.certificateCommand(), a.hubCommand(), a.noticeCommand(), a.messageCommand(), a.modelCommand(), a.dialectCommand())
	c.AddCommand(a.deviceCommand(), a.benchCommand(), a.taskCommand(), a.checkCommand(), a.imageCommand(), a.firmwareCommand(), a.keyCommand(), a.feedCommand(), a.releaseCommand(), a.eventCommand(), a.attentionCommand(), a.driftCommand(), a.rolloutCommand(), a.alertCommand())
	return c
}

func group(use, short string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	c.AddCommand(subs...)
	return c
}

// login is what «fado login» keeps.
type login struct {
	Server string `json:"server"`
	Token  string `json:"token"`
}

func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "fado", "login.json"), nil
}

func readLogin() login {
	var l login
	if path, err := loginFile(); err == nil {
		if b, err := os.ReadFile(path); err == nil {
			_ = json.Unmarshal(b, &l)
		}
	}
	if s := os.Getenv("FADO_SERVER"); s != "" {
		if s != l.Server {
			l.Token = ""
		}
		l.Server = s
	}
	if t := os.Getenv("FADO_TOKEN"); t != "" {
		l.Token = t
	}
	return l
}

// client is the client of the service that is spoken to.
func (a *app) client() *client.Client {
	l := readLogin()
	if a.server != "" {
		if a.server != l.Server && os.Getenv("FADO_TOKEN") == "" {
			l.Token = ""
		}
		l.Server = a.server
	}
	if l.Server == "" {
		l.Server = "http://127.0.0.1:8420"
	}
	return client.New(l.Server, l.Token)
}

func (a *app) paint(c text.Color, s string) string {
	f, isFile := a.out.(*os.File)
	if os.Getenv("NO_COLOR") != "" || !isFile || !term.IsTerminal(int(f.Fd())) {
		return s
	}
	return text.Colors{c}.Sprint(s)
}

// column is one column of a list.
type column[T any] struct {
	title string
	value func(T) string
}

// list prints a list as a table, or in the form that was asked for.
func list[T any](a *app, items []T, id func(T) string, columns ...column[T]) error {
	if a.quiet {
		for _, x := range items {
			_, _ = fmt.Fprintln(a.out, id(x))
		}
		return nil
	}
	switch a.output {
	case "json", "yaml":
		return a.encode(items)
	case "csv":
		w := csv.NewWriter(a.out)
		head := make([]string, len(columns))
		for i, c := range columns {
			head[i] = strings.ToLower(strings.ReplaceAll(c.title, " ", "_"))
		}
		_ = w.Write(head)
		for _, x := range items {
			row := make([]string, len(columns))
			for i, c := range columns {
				row[i] = sheet.Guarded(c.value(x))
			}
			_ = w.Write(row)
		}
		w.Flush()
		return w.Error()
	}
	if len(items) == 0 {
		_, _ = fmt.Fprintln(a.out, "None.")
		return nil
	}
	t := table.NewWriter()
	t.SetOutputMirror(a.out)
	style := table.StyleLight
	style.Options.DrawBorder, style.Options.SeparateColumns = false, false
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	head := make(table.Row, len(columns))
	for i, c := range columns {
		head[i] = c.title
	}
	t.AppendHeader(head)
	widths := make([]int, len(columns))
	for i, c := range columns {
		widths[i] = text.StringWidthWithoutEscSequences(c.title)
	}
	for _, x := range items {
		row := make(table.Row, len(columns))
		for i, c := range columns {
			v := c.value(x)
			row[i], widths[i] = v, max(widths[i], text.StringWidthWithoutEscSequences(v))
		}
		t.AppendRow(row)
	}
	if room := a.width(); room > 0 {
		var fits []table.ColumnConfig
		for i, w := range fit(widths, room-2*len(columns)) {
			fits = append(fits, table.ColumnConfig{Number: i + 1, WidthMax: w, WidthMaxEnforcer: text.WrapSoft})
		}
		t.SetColumnConfigs(fits)
	}
	t.Render()
	return nil
}

// width is how many characters fit on a line; 0 when nobody looks.
func (a *app) width() int {
	f, isFile := a.out.(*os.File)
	if !isFile {
		return 0
	}
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return w
}

// fit takes from the widest column until all fit into the room; no column
// becomes narrower than twelve characters.
func fit(widths []int, room int) []int {
	sum := 0
	for _, w := range widths {
		sum += w
	}
	for ; sum > room; sum-- {
		widest := 0
		for i, w := range widths {
			if w > widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= 12 {
			break
		}
		widths[widest]--
	}
	return widths
}

func (a *app) encode(v any) error {
	if a.output == "yaml" {
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		y, err := yaml.JSONToYAML(b)
		if err != nil {
			return err
		}
		_, err = a.out.Write(y)
		return err
	}
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// one prints one object: as a sheet of lines, or encoded.
func (a *app) one(v any, id string, lines ...[2]string) error {
	if a.quiet {
		_, _ = fmt.Fprintln(a.out, id)
		return nil
	}
	if a.output != "table" {
		return a.encode(v)
	}
	width := 0
	for _, l := range lines {
		width = max(width, len([]rune(l[0])))
	}
	for _, l := range lines {
		if l[1] == "" {
			continue
		}
		_, _ = fmt.Fprintf(a.out, "%s%s  %s\n", l[0], strings.Repeat(" ", width-len([]rune(l[0]))), strings.ReplaceAll(l[1], "\n", "\n"+strings.Repeat(" ", width+2)))
	}
	return nil
}

// done says in a word what was done, unless a program listens.
func (a *app) done(format string, args ...any) error {
	if !a.quiet && a.output == "table" {
		_, _ = fmt.Fprintf(a.out, format+"\n", args...)
	}
	return nil
}

func when(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04:05")
}

func whenPtr(t *time.Time) string {
	if t == nil {
		return ""
	}
	return when(*t)
}

// secretFrom reads a secret from a file, from standard input for "-", or asks
// for it without showing it.
func (a *app) secretFrom(file, prompt string) (string, error) {
	switch {
	case file == "-":
		b, err := io.ReadAll(io.LimitReader(a.in, 64<<10))
		return strings.TrimRight(string(b), "\r\n"), err
	case file != "":
		b, err := os.ReadFile(file)
		if err != nil {
			return "", problem.New(problem.BadInput, fmt.Sprintf("The file %s cannot be read.", file), "It is not there, or belongs to somebody else.", "Name another file, or leave it out to be asked.").Because(err)
		}
		return strings.TrimRight(string(b), "\r\n"), nil
	}
	f, isFile := a.in.(*os.File)
	if !isFile || !term.IsTerminal(int(f.Fd())) {
		var bad problem.Fields
		bad.Add(prompt, "is read from a file or from standard input (-) when there is no terminal", "-")
		return "", bad.Err("A secret is needed.")
	}
	_, _ = fmt.Fprintf(a.errs, "%s: ", prompt)
	b, err := term.ReadPassword(int(f.Fd()))
	_, _ = fmt.Fprintln(a.errs)
	return string(b), err
}

// readFile reads a file that a person names.
func readFile(path string) (string, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return "", problem.New(problem.BadInput, fmt.Sprintf("The file %s cannot be read.", path), "It is not there, or belongs to somebody else.", "Name a file that exists.").Because(err)
	}
	return string(b), nil
}

// changed returns a pointer to a flag's value when it was given.
func changed(c *cobra.Command, name string) *string {
	if !c.Flags().Changed(name) {
		return nil
	}
	v, err := c.Flags().GetString(name)
	if err != nil {
		return nil
	}
	return &v
}

func changedBool(c *cobra.Command, name string) *bool {
	if !c.Flags().Changed(name) {
		return nil
	}
	v, err := c.Flags().GetBool(name)
	if err != nil {
		return nil
	}
	return &v
}
