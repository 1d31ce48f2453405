package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fado/internal/core/problem"
)

func runLine(t *testing.T, stdin string, args ...string) (int, string, string) {
	t.Helper()
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("FADO_SERVER", "http://127.0.0.1:1")
	var out, errs bytes.Buffer
	code := Run(context.Background(), "1.2.3", args, strings.NewReader(stdin), &out, &errs)
	return code, out.String(), errs.String()
}

func TestProblemsBecomeThreeLinesAndACode(t *testing.T) {
	for kind, code := range map[problem.Kind]int{problem.BadInput: exitUsage, problem.NotFound: exitNotFound, problem.Conflict: exitFailed, problem.Unavailable: exitUnavailable,
		problem.SignedOut: exitDenied, problem.Denied: exitDenied, problem.TooMany: exitDenied, problem.Broken: exitFailed} {
		var errs bytes.Buffer
		a := &app{errs: &errs, out: &errs}
		p := problem.New(kind, "It broke.", "A cause.", "Mend it.")
		p.Fields = []problem.Field{{Field: "name", Rule: "must not be empty", Passes: "junco"}}
		if got := a.report(p); got != code {
			t.Errorf("%s: %d, want %d", kind, got, code)
		}
		if want := "It broke.\n  name: must not be empty; \"junco\" would pass\nLikely cause: A cause.\nWhat to do: Mend it.\n"; errs.String() != want {
			t.Errorf("%q", errs.String())
		}
	}
}

type row struct {
	Name string `json:"name"`
	N    int    `json:"n"`
}

func output(t *testing.T, form string, quiet bool, rows []row) string {
	t.Helper()
	var out bytes.Buffer
	a := &app{out: &out, output: form, quiet: quiet}
	err := list(a, rows, func(r row) string { return r.Name }, column[row]{"The name", func(r row) string { return r.Name }}, column[row]{"N", func(r row) string { return strings.Repeat("|", r.N) }})
	if err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestListsInEveryForm(t *testing.T) {
	rows := []row{{"Cisterna", 2}, {"=1+1", 1}, {"a,\"b\"\nc", 0}}
	records, err := csv.NewReader(strings.NewReader(output(t, "csv", false, rows))).ReadAll()
	if err != nil || len(records) != 4 || records[0][0] != "the_name" || records[2][0] != "'=1+1" || records[3][0] != "a,\"b\"\nc" {
		t.Errorf("%q %v", records, err)
	}
	var back []row
	if err := json.Unmarshal([]byte(output(t, "json", false, rows)), &back); err != nil || back[1].Name != "=1+1" {
		t.Errorf("%v %v", back, err)
	}
	if got := output(t, "yaml", false, rows[:1]); !strings.Contains(got, "name: Cisterna") {
		t.Errorf("%q", got)
	}
	if got := output(t, "table", true, rows[:1]); got != "Cisterna\n" {
		t.Errorf("%q", got)
	}
	if got := output(t, "table", false, nil); got != "None.\n" {
		t.Errorf("%q", got)
	}
	if got := output(t, "json", false, nil); strings.TrimSpace(got) != "null" && strings.TrimSpace(got) != "[]" {
		t.Errorf("%q", got)
	}
	if got := output(t, "table", false, rows[:1]); !strings.Contains(got, "The name") || strings.Contains(got, "\x1b") {
		t.Errorf("%q", got)
	}
}

func TestColumnsFitTheTerminal(t *testing.T) {
	for _, c := range []struct {
		widths []int
		room   int
		want   []int
	}{{[]int{5, 60, 20}, 100, []int{5, 60, 20}}, {[]int{5, 60, 20}, 60, []int{5, 35, 20}}, {[]int{30, 30}, 40, []int{20, 20}}, {[]int{30, 30}, 4, []int{12, 12}}} {
		if got := fit(slices.Clone(c.widths), c.room); !slices.Equal(got, c.want) {
			t.Errorf("%v into %d: %v, want %v", c.widths, c.room, got, c.want)
		}
	}
}

func TestShortAndFirmwareText(t *testing.T) {
	for in, want := range map[any]string{nil: "", "x": "x", 1883.0: "1883", true: "true", strings.Repeat("é", 60): strings.Repeat("é", 43) + "…"} {
		if got := short(in); got != want {
			t.Errorf("%v: %q", in, got)
		}
	}
}

func TestSecretsComeFromFileInputOrTerminal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "pass")
	if err := os.WriteFile(path, []byte("azeite virgem\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	a := &app{in: strings.NewReader("do teclado\r\n"), errs: &bytes.Buffer{}}
	if s, err := a.secretFrom(path, "Passphrase"); err != nil || s != "azeite virgem" {
		t.Errorf("%q %v", s, err)
	}
	if s, err := a.secretFrom("-", "Passphrase"); err != nil || s != "do teclado" {
		t.Errorf("%q %v", s, err)
	}
	if _, err := a.secretFrom("", "Passphrase"); problem.As(err) == nil {
		t.Errorf("without a terminal: %v", err)
	}
	if _, err := a.secretFrom("/nowhere", "Passphrase"); problem.As(err) == nil {
		t.Errorf("no such file: %v", err)
	}
}

func TestWhatNeedsNoService(t *testing.T) {
	broken := filepath.Join(t.TempDir(), "broken.yaml")
	if err := os.WriteFile(broken, []byte("dialect: x\ntitle: y\ngramar: 1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"--version"}, 0, "fado 1.2.3"},
		{[]string{"help"}, 0, "Exit codes"},
		{[]string{"device"}, 0, "Available Commands"},
		{[]string{"dialect", "schema"}, 0, "json-schema.org"},
		{[]string{"dialect", "check", broken}, 2, `did you mean "grammar"?`},
		{[]string{"dialect", "check", "/nowhere"}, 2, "cannot be read"},
		{[]string{"config", "keys"}, 0, "FADO_BROKER_LISTEN"},
		{[]string{"config", "check", "--config", "/nowhere"}, 2, "cannot be read"},
		{[]string{"openapi"}, 0, `"3.1.0"`},
		{[]string{"completion", "bash"}, 0, "complete"},
		{[]string{"site", "list"}, 4, "No Fado answers"},
		{[]string{"site", "list", "--server", "::nonsense::"}, 2, "no address of a service"},
		{[]string{"device", "update", "x"}, 2, "arg"},
		{[]string{"image", "add", "x"}, 2, "not set"},
		{[]string{"sim", "run", broken}, 2, "cannot be read"},
		{[]string{"logout"}, 0, "forgotten"},
	} {
		code, out, errs := runLine(t, "", c.args...)
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("fado %s: %d, want %d: %s%s", strings.Join(c.args, " "), code, c.code, out, errs)
		}
	}
}

func TestLoginKeepsOneTokenForOneServer(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", dir)
	t.Setenv("FADO_SERVER", "")
	t.Setenv("FADO_TOKEN", "")
	if err := os.MkdirAll(filepath.Join(dir, "fado"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "fado", "login.json"), []byte(`{"server":"http://a","token":"t"}`), 0o600); err != nil {
		t.Fatal(err)
	}
	if l := readLogin(); l.Server != "http://a" || l.Token != "t" {
		t.Errorf("%+v", l)
	}
	t.Setenv("FADO_SERVER", "http://b")
	if l := readLogin(); l.Server != "http://b" || l.Token != "" {
		t.Errorf("the token of one server goes to another: %+v", l)
	}
	t.Setenv("FADO_TOKEN", "u")
	if l := readLogin(); l.Token != "u" {
		t.Errorf("%+v", l)
	}
}
