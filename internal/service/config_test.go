package service

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fado/internal/core/problem"
)

func file(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "fado.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func env(pairs ...string) func(string) string {
	return func(k string) string {
		for i := 0; i+1 < len(pairs); i += 2 {
			if pairs[i] == k {
				return pairs[i+1]
			}
		}
		return ""
	}
}

func TestFileAndEnvironment(t *testing.T) {
	path := file(t, "data: /srv/fado\nbroker:\n  listen: 0.0.0.0:1883\n")
	c, err := Load(path, env("FADO_LISTEN", "192.168.40.2:8420", "FADO_TIME_SCALE", "5", "FADO_BROKER_TLS", "true"))
	if err != nil {
		t.Fatal(err)
	}
	if c.Data != "/srv/fado" || c.Broker.Listen != "0.0.0.0:1883" || c.Listen != "192.168.40.2:8420" || c.Time.Scale != 5 || !c.Broker.TLS || c.Log.Level != "info" {
		t.Errorf("%+v", c)
	}
	c, err = Load(path, env("FADO_DATA", "/elsewhere"))
	if err != nil || c.Data != "/elsewhere" {
		t.Error("the environment does not win", c.Data, err)
	}
}

func TestFaultsComeTogether(t *testing.T) {
	_, err := Load(file(t, "listen: nowhere\nradio: {kind: magic}\nlog: {level: loud}\ntime: {scale: 0}\nbroker: {kind: embedded, cert: a.pem}\n"), env("FADO_TIME_START", "noon"))
	p := problem.As(err)
	if p == nil || len(p.Fields) != 6 {
		t.Fatalf("%v", err)
	}
	for _, f := range p.Fields {
		if f.Rule == "" {
			t.Errorf("%+v", f)
		}
	}
}

func TestWhatCannotBeRead(t *testing.T) {
	for name, c := range map[string]struct {
		path string
		env  func(string) string
		says string
	}{
		"a misspelt key":      {file(t, "listn: x\n"), env(), "listn"},
		"no such file":        {"/nowhere/fado.yaml", env(), "cannot be read"},
		"not YAML":            {file(t, "a: [\n"), env(), "fault"},
		"a number that is no": {file(t, ""), env("FADO_BROKER_PORT", "many"), "cannot be used"},
		"external, no host":   {file(t, "broker: {kind: external}\n"), env(), "cannot be used"},
	} {
		_, err := Load(c.path, c.env)
		if p := problem.As(err); p == nil || !strings.Contains(p.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestEveryKeyIsDocumented(t *testing.T) {
	keys := Keys()
	if len(keys) < 15 {
		t.Fatalf("%d keys", len(keys))
	}
	for _, k := range keys {
		if k.Doc == "" || !strings.HasPrefix(k.Env, "FADO_") || strings.ContainsAny(k.Env, ".-") {
			t.Errorf("%+v", k)
		}
	}
}
