// Package service puts the parts of Fado together and runs them: store,
// broker, engine and API, by one configuration. It holds no rules of its own.
package service

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"fado/internal/core/problem"
)

// Config is the one configuration file. Each key can be overridden by an
// environment variable: FADO_ and the key in capitals, with an underscore for
// each dot.
type Config struct {
	Data   string `yaml:"data" doc:"Folder for records, images and the sealing key"`
	Listen string `yaml:"listen" doc:"Address of console, API and image downloads"`
	URL    string `yaml:"url" doc:"How people reach the console; made from listen when empty. With https://, cookies are sent over HTTPS only"`
	Broker Broker `yaml:"broker"`
	Radio  Radio  `yaml:"radio"`
	LAN    LAN    `yaml:"lan"`
	Bench  Bench  `yaml:"bench"`
	Log    Log    `yaml:"log"`
	Time   Time   `yaml:"time"`
}

// Broker says which broker the service speaks on.
type Broker struct {
	Kind     string `yaml:"kind" doc:"embedded; external, whose units share one account; or managed: elsewhere, and Fado keeps its accounts by its dynamic security plugin"`
	Listen   string `yaml:"listen" doc:"embedded: address for units"`
	Cert     string `yaml:"cert" doc:"embedded: file with its certificate, PEM; when empty and tls is on, Fado makes one by an authority of its own"`
	Key      string `yaml:"key" doc:"embedded: file with the certificate's key, PEM"`
	Host     string `yaml:"host" doc:"external, managed: its host"`
	Port     int    `yaml:"port" doc:"external, managed: its port"`
	TLS      bool   `yaml:"tls" doc:"Speak TLS"`
	CA       string `yaml:"ca" doc:"external, managed: file with its CA certificate, PEM"`
	User     string `yaml:"user" doc:"external, managed: the service's own account; where accounts are managed, one that may"`
	Password string `yaml:"password" doc:"external, managed: file with the account's password"`
}

// Radio says which radio lists and joins access points.
type Radio struct {
	Kind      string `yaml:"kind" doc:"none, network-manager (the operating system's own Wi-Fi service), by-hand (a person joins, Fado notices) or stand-in (a simulated site)"`
	At        string `yaml:"at" doc:"stand-in: its base URL"`
	Interface string `yaml:"interface" doc:"network-manager: the Wi-Fi interface to join with, never the one of the default route; the first that may be when empty"`
}

// LAN says how units are found in the network where the service stands.
type LAN struct {
	Multicast bool   `yaml:"multicast" doc:"Ask everybody on the link for units (multicast DNS)"`
	Interface string `yaml:"interface" doc:"The interface to ask over; all when empty"`
}

// Bench says how units are worked on.
type Bench struct {
	AtOnce int `yaml:"at_once" doc:"How many units are commissioned at once, 1 to 200"`
}

// Log says how the service logs.
type Log struct {
	Level  string `yaml:"level" doc:"debug, info, warn or error"`
	Format string `yaml:"format" doc:"text or json"`
}

// Time lets time run faster, for a simulation.
type Time struct {
	Scale float64 `yaml:"scale" doc:"How many times as fast as the wall; 1 outside simulations"`
	Start string  `yaml:"start" doc:"When scaled time started, RFC 3339; the same on both sides of a simulation"`
}

// Defaults is the configuration of a service that is told nothing.
func Defaults() Config {
	return Config{Data: "data", Listen: "127.0.0.1:8420", Broker: Broker{Kind: "embedded", Listen: "127.0.0.1:1883"}, Radio: Radio{Kind: "none"}, LAN: LAN{Multicast: true}, Bench: Bench{AtOnce: 32},
		Log: Log{Level: "info", Format: "text"}, Time: Time{Scale: 1}}
}

// Key is one key of the configuration with its meaning.
type Key struct {
	Name, Env, Doc, Default string
}

// Keys lists every key.
func Keys() []Key {
	d := Defaults()
	var out []Key
	each(reflect.ValueOf(&d).Elem(), "", func(name, doc string, v reflect.Value) {
		out = append(out, Key{name, envOf(name), doc, fmt.Sprint(v.Interface())})
	})
	return out
}

func envOf(name string) string { return "FADO_" + strings.ToUpper(strings.ReplaceAll(name, ".", "_")) }

func each(v reflect.Value, prefix string, f func(name, doc string, v reflect.Value)) {
	t := v.Type()
	for i := range t.NumField() {
		name := prefix + t.Field(i).Tag.Get("yaml")
		if t.Field(i).Type.Kind() == reflect.Struct {
			each(v.Field(i), name+".", f)
			continue
		}
		f(name, t.Field(i).Tag.Get("doc"), v.Field(i))
	}
}

// Load reads a configuration file, when there is one, and the environment. An
// empty path takes fado.yaml if it exists. All faults come at once.
func Load(path string, env func(string) string) (Config, error) {
	c := Defaults()
	named := path != ""
	if !named {
		path = "fado.yaml"
	}
	b, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && !named:
	case err != nil:
		return c, problem.New(problem.BadInput, fmt.Sprintf("The configuration file %s cannot be read.", path), err.Error(), "Name a file that exists with --config.").Because(err)
	default:
		if err := yaml.UnmarshalWithOptions(b, &c, yaml.Strict()); err != nil {
			line, _, _ := strings.Cut(err.Error(), "\n")
			return c, problem.New(problem.BadInput, fmt.Sprintf("The configuration file %s has a fault: %s", path, line), "A key is misspelt or has a value of another type.", "«fado config keys» lists every key.").Because(err)
		}
	}
	var f problem.Fields
	each(reflect.ValueOf(&c).Elem(), "", func(name, _ string, v reflect.Value) {
		text := env(envOf(name))
		if text == "" {
			return
		}
		var err error
		switch v.Kind() {
		case reflect.String:
			v.SetString(text)
		case reflect.Int:
			var n int
			n, err = strconv.Atoi(text)
			v.SetInt(int64(n))
		case reflect.Bool:
			var on bool
			on, err = strconv.ParseBool(text)
			v.SetBool(on)
		case reflect.Float64:
			var x float64
			x, err = strconv.ParseFloat(text, 64)
			v.SetFloat(x)
		}
		if err != nil {
			f.Add(envOf(name), "is not a "+v.Kind().String(), "")
		}
	})
	f = append(f, c.faults()...)
	return c, f.Err("The configuration cannot be used.")
}

func (c Config) faults() problem.Fields {
	var f problem.Fields
	address := func(name, v, passes string) {
		if _, _, err := net.SplitHostPort(v); err != nil {
			f.Add(name, "must be host:port", passes)
		}
	}
	word := func(name, v string, words ...string) {
		for _, w := range words {
			if v == w {
				return
			}
		}
		f.Add(name, "must be "+strings.Join(words, " or "), words[0])
	}
	if c.Data == "" {
		f.Add("data", "must not be empty", "data")
	}
	address("listen", c.Listen, "127.0.0.1:8420")
	if c.URL != "" {
		if u, err := url.Parse(c.URL); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			f.Add("url", "must be http:// or https:// and a host", "http://127.0.0.1:8420")
		}
	}
	word("broker.kind", c.Broker.Kind, "embedded", "external", "managed")
	if c.Broker.Kind == "embedded" {
		address("broker.listen", c.Broker.Listen, "127.0.0.1:1883")
		if (c.Broker.Cert == "") != (c.Broker.Key == "") {
			f.Add("broker.cert", "certificate and key come together", "")
		}
	} else if c.Broker.Host == "" || c.Broker.Port < 1 || c.Broker.Port > 65535 {
		f.Add("broker.host", "an external broker needs host and port", "broker.lan")
	}
	word("radio.kind", c.Radio.Kind, "none", "network-manager", "by-hand", "stand-in")
	if c.Radio.Kind == "stand-in" {
		if u, err := url.Parse(c.Radio.At); err != nil || u.Host == "" {
			f.Add("radio.at", "must be the base URL of a simulated site", "http://127.0.0.1:8430")
		}
	}
	if c.Bench.AtOnce < 1 || c.Bench.AtOnce > 200 {
		f.Add("bench.at_once", "must be between 1 and 200", "32")
	}
	word("log.level", c.Log.Level, "info", "debug", "warn", "error")
	word("log.format", c.Log.Format, "text", "json")
	if c.Time.Scale < 1 || c.Time.Scale > 10_000 {
		f.Add("time.scale", "must be between 1 and 10000", "1")
	}
	if c.Time.Start != "" {
		if _, err := time.Parse(time.RFC3339, c.Time.Start); err != nil {
			f.Add("time.start", "must be a time as RFC 3339 writes it", "2026-03-01T10:00:00Z")
		}
	}
	return f
}
