// Package demo runs Fado beside a simulated site and loads the demo scenario,
// through the API as a person would. It uses the service from outside only and
// reaches into neither side.
package demo

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/goccy/go-yaml"

	demodata "fado/demo"
	"fado/dialects"
	"fado/internal/carrier"
	"fado/internal/client"
	"fado/internal/clock"
	"fado/internal/core/inventory"
	"fado/internal/service"
	"fado/internal/sim"
	"fado/internal/wire"
)

// Options says how a demo is run.
type Options struct {
	Version                   string
	Listen, Broker, Site, Hub string // addresses; port 0 takes a free one
	Data                      string // "" makes a temporary folder and removes it
	Scale                     float64
	Console                   fs.FS
	Log                       *slog.Logger
	Net                       carrier.Net
}

// Demo is a running demo.
type Demo struct {
	URL, HubURL, SiteURL string
	HubToken             string // of its directory
	Person, Password     string
	Token                string
	Client               *client.Client
	Scenario             Scenario
	Net                  carrier.Net

	http    *http.Transport
	running *service.Running
	serve   func(context.Context) (*service.Running, error)
	site    *sim.Site
	remove  string
	once    sync.Once
}

// Scenario is the demo's data.
type Scenario struct {
	Sites []struct {
		Key, Name, Zone, Network string
		Rooms                    []string
		Devices                  []struct {
			Name, Room, Model string
			Tags              []string
			HardwareID        string `yaml:"hardware_id"`
		}
	}
	Spare []struct {
		Model      string
		HardwareID string `yaml:"hardware_id"`
	}
	Firmware []Firmware
	Feed     string // the name of their maker's feed
	Releases []Release
}

// Release is what the maker's feed offers.
type Release struct {
	Firmware, Version, Chip, Notes string
	Models                         []string
	SizeKiB                        int `yaml:"size_kib"`
	Step                           bool
}

// Firmware is what the units of a model run, and should.
type Firmware struct {
	Model    string
	OutOfBox string `yaml:"out_of_box"`
	BoxKiB   int    `yaml:"out_of_box_kib"` // size of the image that it comes with
	Intended string
	SizeKiB  int `yaml:"size_kib"`
	Notes    string
}

// Image builds the image of the intended version.
func (f Firmware) Image() []byte {
	return sim.BuildImage(sim.ImageHeader{Firmware: f.Model, Version: f.Intended, Chip: "x1", Starts: true}, f.SizeKiB<<10)
}

// SetUpCode is the key that is printed on a demo unit.
func SetUpCode(hardwareID string) string {
	return "olival-" + hardwareID[len(hardwareID)-2:] + "-azeite"
}

// Passphrase is that of a demo site's network.
func Passphrase(site string) string { return "azeite virgem " + site + " 1894" }

// Domain is where a demo site's router lists what is in its network (RFC 8375).
func Domain(site string) string { return site + ".home.arpa" }

// Load reads the scenario and the models that ship.
func Load() (Scenario, map[string]inventory.Model, error) {
	var s Scenario
	b, err := fs.ReadFile(demodata.Files, "scenario.yaml")
	if err != nil {
		return s, nil, err
	}
	if err := yaml.UnmarshalWithOptions(b, &s, yaml.Strict()); err != nil {
		return s, nil, fmt.Errorf("read the scenario: %w", err)
	}
	models := map[string]inventory.Model{}
	names, err := fs.Glob(demodata.Files, "models/*.yaml")
	if err != nil {
		return s, nil, err
	}
	for _, n := range names {
		b, err := fs.ReadFile(demodata.Files, n)
		if err != nil {
			return s, nil, err
		}
		m, err := inventory.ParseModel(b)
		if err != nil {
			return s, nil, fmt.Errorf("read %s: %w", n, err)
		}
		models[m.Name] = m
	}
	return s, models, nil
}

// Spec is the simulated site of a scenario: every unit is in set-up mode, fresh
// out of its box.
func Spec(s Scenario, models map[string]inventory.Model, hubs ...sim.HubSpec) sim.Spec {
	spec := sim.Spec{Hubs: hubs}
	versions, sizes := map[string]string{}, map[string]int{}
	for _, f := range s.Firmware {
		versions[f.Model], sizes[f.Model] = f.OutOfBox, f.BoxKiB
	}
	for _, r := range s.Releases {
		spec.Releases = append(spec.Releases, sim.ReleaseSpec{Firmware: r.Firmware, Version: r.Version, Models: r.Models, Chip: r.Chip, SizeKiB: r.SizeKiB, Step: r.Step, Notes: r.Notes})
	}
	add := func(model, hw string) {
		m := models[model]
		u := sim.UnitSpec{Speaks: m.Dialect, HardwareID: hw, Model: model, Firmware: m.Firmware, Version: versions[model], Chip: m.Chip, FlashKiB: m.FlashKiB, SizeKiB: sizes[model],
			SetUpCode: SetUpCode(hw), BootSeconds: float64(m.BootSeconds), Signal: -48 - len(spec.Units)*7%34}
		for i, c := range m.Capabilities {
			u.Capabilities = append(u.Capabilities, sim.CapabilitySpec{Name: c.Name, Kind: string(c.Kind), Value: float64((i*37 + 21) % 70), Swing: 2})
			if c.Kind == inventory.Switch {
				u.Capabilities[i].Value = 0
			}
		}
		spec.Units = append(spec.Units, u)
	}
	for _, site := range s.Sites {
		spec.Networks = append(spec.Networks, sim.Network{SSID: site.Network, Passphrase: Passphrase(site.Key), Signal: -55, Domain: Domain(site.Key)})
		for _, d := range site.Devices {
			add(d.Model, d.HardwareID)
		}
	}
	for _, x := range s.Spare {
		add(x.Model, x.HardwareID)
	}
	return spec
}

func free(addr string, n carrier.Net) (string, error) {
	host, port, err := net.SplitHostPort(addr)
	if err != nil || port != "0" {
		return addr, err
	}
	l, err := n.Listen(net.JoinHostPort(host, "0"))
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

func random(n int) string {
	b := make([]byte, n)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

// Start starts both sides and loads the scenario.
func Start(ctx context.Context, o Options) (d *Demo, err error) {
	d = &Demo{Net: o.Net, http: o.Net.Transport(), Person: "marta", Password: "lagar-" + random(4) + "-" + random(3)}
	defer func() {
		if err != nil {
			d.Stop()
		}
	}()
	if o.Data == "" {
		if o.Data, err = os.MkdirTemp("", "fado-demo-"); err != nil {
			return d, err
		}
		d.remove = o.Data
		o.Data = filepath.Join(o.Data, "data")
	}
	var models map[string]inventory.Model
	if d.Scenario, models, err = Load(); err != nil {
		return d, err
	}
	if o.Broker, err = free(o.Broker, o.Net); err != nil {
		return d, err
	}
	clk, begun := clock.Wall(), time.Now()
	if o.Scale > 1 {
		clk = clock.Scaled(o.Scale, begun)
	}
	hub := sim.HubSpec{Name: "Lagar hub", Listen: o.Hub, Token: random(16), Broker: o.Broker, Account: "hub-lagar", Password: random(16)}
	spec := Spec(d.Scenario, models, hub)
	spec.Net = o.Net
	if d.site, err = sim.Start(spec, o.Site, clk, o.Log.With("side", "simulated site")); err != nil {
		return d, err
	}
	d.SiteURL, d.HubURL, d.HubToken = d.site.Address(), d.site.HubAddress(0), hub.Token
	conf := service.Defaults()
	conf.Data, conf.Listen, conf.Broker.Listen = o.Data, o.Listen, o.Broker
	conf.LAN.Multicast = false // its homes are elsewhere
	conf.Radio = service.Radio{Kind: "stand-in", At: d.SiteURL}
	if o.Scale > 1 {
		conf.Time = service.Time{Scale: o.Scale, Start: begun.Format(time.RFC3339Nano)}
	}
	d.serve = func(ctx context.Context) (*service.Running, error) {
		return service.Start(ctx, conf, o.Version, o.Console, o.Net, o.Log)
	}
	if d.running, err = d.serve(ctx); err != nil {
		return d, err
	}
	d.URL = d.running.URL
	conf.Listen = strings.TrimPrefix(d.URL, "http://") // it comes back where it was
	if d.running.FirstLink == "" {
		return d, fmt.Errorf("the data folder %s is in use already; a demo wants a fresh one", o.Data)
	}
	anyone := d.As("")
	if err = anyone.Do(ctx, http.MethodPost, "/api/v1/first-account", wire.FirstAccount{Link: d.running.FirstLink, Name: d.Person, Password: d.Password}, nil); err != nil {
		return d, err
	}
	t, err := client.Post[wire.Token](ctx, anyone, "/api/v1/tokens", map[string]any{"name": "demo", "account": wire.Account{Name: d.Person, Password: d.Password}})
	if err != nil {
		return d, err
	}
	d.Token, d.Client = t.Text, d.As(t.Text)
	return d, d.fill(ctx, o.Broker, hub)
}

// HTTP reaches the demo's services.
func (d *Demo) HTTP() *http.Client { return &http.Client{Transport: d.http} }

// As is a client of the demo's service with a token, or with none.
func (d *Demo) As(token string) *client.Client { return client.Over(d.http, d.URL, token) }

// Stop ends both sides and removes what is temporary.
func (d *Demo) Stop() {
	d.once.Do(func() {
		if d.running != nil {
			d.running.Stop()
		}
		if d.site != nil {
			d.site.Stop()
		}
		if d.remove != "" {
			_ = os.RemoveAll(d.remove)
		}
	})
}

// Restart stops the service with its broker and starts it again; the simulated side
// goes on.
func (d *Demo) Restart(ctx context.Context) (err error) {
	d.running.Stop()
	d.running, err = d.serve(ctx)
	return err
}

// Say says something on the demo's broker as nobody in particular would.
func (d *Demo) Say(ctx context.Context, topic string, payload []byte, retain bool) error {
	return d.running.Say(ctx, topic, payload, retain)
}

// Overhear calls each for every message on the demo's broker from now on.
func (d *Demo) Overhear(ctx context.Context, each func(topic string, payload []byte)) error {
	return d.running.Overhear(ctx, each)
}

// Kept lists the topics below one for which the demo's broker keeps a message.
func (d *Demo) Kept(topic string) []string { return d.running.Kept(topic) }

// fill loads the scenario through the API.
func (d *Demo) fill(ctx context.Context, brokerAt string, hub sim.HubSpec) error {
	c := d.Client
	put := func(path, text string) error {
		return c.Do(ctx, http.MethodPut, path, wire.FileText{File: text}, nil)
	}
	spoken, err := fs.Glob(dialects.Files, "*.yaml")
	if err != nil {
		return err
	}
	for _, n := range spoken {
		b, err := fs.ReadFile(dialects.Files, n)
		if err != nil {
			return err
		}
		if err := put("/api/v1/dialects", string(b)); err != nil {
			return fmt.Errorf("load %s: %w", n, err)
		}
	}
	names, err := fs.Glob(demodata.Files, "models/*.yaml")
	if err != nil {
		return err
	}
	for _, n := range names {
		b, err := fs.ReadFile(demodata.Files, n)
		if err != nil {
			return err
		}
		if err := put("/api/v1/models", string(b)); err != nil {
			return fmt.Errorf("load %s: %w", n, err)
		}
	}
	host, port, err := net.SplitHostPort(brokerAt)
	if err != nil {
		return err
	}
	portNumber, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	post := func(path string, in any) error { return c.Do(ctx, http.MethodPost, path, in, nil) }
	if err := post("/api/v1/brokers", wire.BrokerEdit{Name: new("embedded"), Host: &host, Port: &portNumber}); err != nil {
		return fmt.Errorf("add the broker: %w", err)
	}
	if err := post("/api/v1/hubs", wire.HubEdit{Name: &hub.Name, Directory: &d.HubURL, Token: &hub.Token, Account: &hub.Account, Password: &hub.Password}); err != nil {
		return fmt.Errorf("add the hub: %w", err)
	}
	for _, s := range d.Scenario.Sites {
		if err := post("/api/v1/sites", wire.SiteEdit{Key: &s.Key, Name: &s.Name, Zone: &s.Zone, Broker: new("embedded"), Hub: &hub.Name, DownloadAddress: &d.URL, Proxy: &d.SiteURL,
			NameServer: new(d.site.Names()), Domain: new(Domain(s.Key)), Range: new("192.168.40.0/24"), Reserved: &[]string{"192.168.40.1-192.168.40.9"}}); err != nil {
			return fmt.Errorf("add the site %s: %w", s.Name, err)
		}
		if err := post(client.Path("sites", s.Key, "networks"), wire.NetworkEdit{SSID: &s.Network, Passphrase: new(Passphrase(s.Key))}); err != nil {
			return fmt.Errorf("add the network: %w", err)
		}
		if err := post(client.Path("sites", s.Key, "download-address", "proof"), nil); err != nil {
			return fmt.Errorf("confirm the download address: %w", err)
		}
		for _, r := range s.Rooms {
			if err := post(client.Path("sites", s.Key, "rooms"), map[string]string{"name": r}); err != nil {
				return fmt.Errorf("add the room %s: %w", r, err)
			}
		}
		for _, x := range s.Devices {
			if err := post(client.Path("sites", s.Key, "devices"), wire.DeviceEdit{Name: &x.Name, Room: &x.Room, Model: &x.Model, Tags: &x.Tags, HardwareID: &x.HardwareID, SetUpCode: new(SetUpCode(x.HardwareID))}); err != nil {
				return fmt.Errorf("add the device %s: %w", x.Name, err)
			}
		}
		for _, f := range d.Scenario.Firmware {
			if f.Intended == "" {
				continue
			}
			if err := c.Do(ctx, http.MethodPut, "/api/v1/goals", wire.Goal{Site: s.Key, Model: f.Model, Version: f.Intended}, nil); err != nil {
				return fmt.Errorf("intend firmware: %w", err)
			}
		}
	}
	for _, f := range d.Scenario.Firmware {
		if f.Intended == "" {
			continue
		}
		if _, err := c.AddImage(ctx, bytes.NewReader(f.Image()), wire.ImageFacts{Firmware: f.Model, Version: f.Intended, Models: []string{f.Model}, Chip: "x1", Notes: f.Notes}); err != nil {
			return fmt.Errorf("add the image %s %s: %w", f.Model, f.Intended, err)
		}
	}
	if err := post("/api/v1/feeds", wire.FeedEdit{Name: d.Scenario.Feed, URL: d.SiteURL + "/feed/feed.json"}); err != nil {
		return fmt.Errorf("add the feed: %w", err)
	}
	return post("/api/v1/sightings/scan", nil)
}
