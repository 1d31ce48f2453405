// Command load measures the service under many messages and many units, each figure
// against a plain baseline on the same machine in the same run. It is for «make
// bench»; nothing of it ships.
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	demodata "fado/demo"
	"fado/dialects"
	"fado/internal/broker"
	"fado/internal/core/inventory"
	"fado/internal/sim"
	"fado/internal/store"
)

func main() {
	what := flag.String("what", "intake", "intake, fleet, download, or bare (the baseline's own process)")
	fado := flag.String("fado", "bin/fado", "the program to measure")
	units := flag.Int("units", 19000, "fleet: how many units")
	lasts := flag.Duration("for", 90*time.Second, "fleet: how long it is measured once all are there")
	messages := flag.Int("messages", 240_000, "intake: how many messages")
	data := flag.String("data", "", "bare: the data folder")
	at := flag.String("at", "", "bare: the broker's address")
	flag.Parse()
	var err error
	switch *what {
	case "intake":
		err = intake(*fado, *messages)
	case "fleet":
		err = fleet(*fado, *units, *lasts)
	case "bare":
		err = bare(*data, *at)
	case "download":
		err = download(*fado)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func account(n int) sim.LightOne {
	hw := fmt.Sprintf("02:5A:20:%02X:%02X:%02X", n>>16&0xff, n>>8&0xff, n&0xff)
	return sim.LightOne{Account: fmt.Sprintf("unit-%s-1", inventory.HardwareID(hw).Digits()), Password: fmt.Sprintf("made for unit %d", n), Topic: fmt.Sprintf("lagar/terraco/relay-%d", n), HardwareID: hw}
}

// prepare makes a data folder with devices in service and their accounts.
func prepare(dir string, units int, kind string) error {
	s, err := store.Open(dir)
	if err != nil {
		return err
	}
	defer s.Close()
	file := func(name string, read func(string) ([]byte, error)) string {
		b, err := read(name)
		if err != nil {
			panic(err)
		}
		return string(b)
	}
	now := time.Now().UTC()
	return s.Write(context.Background(), func(tx *store.Tx) error {
		b := store.Broker{ID: store.NewID(), Name: "broker", Kind: kind, Host: "127.0.0.1", Port: 1883}
		site := store.Site{ID: store.NewID(), Key: "lagar", Name: "Lagar", Zone: "Europe/Lisbon", BrokerID: &b.ID}
		for _, err := range []error{
			store.Save(tx, &store.File{Kind: "dialect", Name: "direct", Body: file("direct.yaml", dialects.Files.ReadFile), UpdatedAt: now}),
			store.Save(tx, &store.File{Kind: "model", Name: "sobro-quatro", Body: file("models/sobro-quatro.yaml", demodata.Files.ReadFile), UpdatedAt: now}),
			store.Create(tx, &b), store.Create(tx, &site),
		} {
			if err != nil {
				return err
			}
		}
		var list []store.Unit
		var devices []store.Device
		var accounts []store.Account
		for n := range units {
			u := account(n)
			unit := store.Unit{ID: store.NewID(), HardwareID: u.HardwareID, Model: "sobro-quatro", FirstSeen: now}
			d := store.Device{ID: store.NewID(), SiteID: site.ID, Name: fmt.Sprintf("Relay %d", n), Model: "sobro-quatro", HardwareID: u.HardwareID, Hostname: fmt.Sprintf("relay-%d", n), BrokerID: b.ID, Topic: u.Topic,
				Label: fmt.Sprintf("Relay %d", n), Stage: string(inventory.Adopted), Presence: string(inventory.Offline), UnitID: &unit.ID, CreatedAt: now, UpdatedAt: now, Tags: ","}
			list, devices = append(list, unit), append(devices, d)
			accounts = append(accounts, store.Account{Name: u.Account, Kind: "unit", UnitID: unit.ID, DeviceID: d.ID, Hash: s.Hash(u.Password), Generation: 1, SeenAt: &now})
		}
		return errors.Join(store.SaveAll(tx, list), store.SaveAll(tx, devices), store.SaveAll(tx, accounts))
	})
}

func free() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// running is a process that is measured.
type running struct {
	cmd *exec.Cmd
	url string
}

func (r *running) stop() {
	_ = r.cmd.Process.Signal(syscall.SIGTERM)
	_ = r.cmd.Wait()
}

// metric reads a number from the process's metrics.
func (r *running) metric(name string) float64 {
	resp, err := http.Get(r.url + "/metrics")
	if err != nil {
		return -1
	}
	defer resp.Body.Close()
	for sc := bufio.NewScanner(resp.Body); sc.Scan(); {
		if v, ok := strings.CutPrefix(sc.Text(), name+" "); ok {
			f, _ := strconv.ParseFloat(v, 64)
			return f
		}
	}
	return -1
}

// used tells how much processor time and memory a process has taken.
func (r *running) used() (cpu time.Duration, rssMiB float64) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", r.cmd.Process.Pid))
	if err != nil {
		return 0, 0
	}
	_, rest, _ := strings.Cut(string(b), ") ")
	f := strings.Fields(rest)
	user, _ := strconv.Atoi(f[11])
	system, _ := strconv.Atoi(f[12])
	pages, _ := strconv.Atoi(f[21])
	return time.Duration(user+system) * 10 * time.Millisecond, float64(pages*os.Getpagesize()) / (1 << 20)
}

func service(fado, dir, brokerAt string, env ...string) (*running, error) {
	r := &running{cmd: exec.Command(fado, "serve"), url: "http://" + free()}
	r.cmd.Env = append(append(os.Environ(), "FADO_DATA="+dir, "FADO_LISTEN="+strings.TrimPrefix(r.url, "http://"), "FADO_BROKER_LISTEN="+brokerAt, "FADO_LAN_MULTICAST=false", "FADO_LOG_LEVEL=error"), env...)
	r.cmd.Stderr = os.Stderr
	return r, r.start(r.url + "/healthz")
}

func (r *running) start(ready string) error {
	if err := r.cmd.Start(); err != nil {
		return err
	}
	began := time.Now()
	for time.Since(began) < time.Minute {
		if resp, err := http.Get(ready); err == nil {
			_ = resp.Body.Close()
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("%s does not get ready", r.cmd.Path)
}

// bare is the baseline: the same broker with the same accounts and one subscriber
// that drops what it gets. With an address it subscribes to a broker elsewhere.
func bare(dir, at string) error {
	var count atomic.Int64
	take := func(broker.Message) { count.Add(1) }
	where, web, _ := strings.Cut(at, ",")
	if dir != "" {
		s, err := store.Open(dir)
		if err != nil {
			return err
		}
		accounts, err := store.All[store.Account](s.Read(context.Background()), "name", "1 = 1")
		if err != nil {
			return err
		}
		e, err := broker.Listen(broker.Config{Listen: where, Hash: s.Hash, Log: slog.New(slog.DiscardHandler), Load: func() (map[string][]byte, error) { return nil, nil }, Save: func(map[string][]byte) error { return nil }})
		if err != nil {
			return err
		}
		for _, a := range accounts {
			d, err := store.One[store.Device](s.Read(context.Background()), "id = ?", a.DeviceID)
			if err != nil {
				return err
			}
			e.SetAccount(broker.Account{Name: a.Name, Hash: a.Hash, Rights: broker.Rights{Own: d.Topic}})
		}
		if err := e.Subscribe(context.Background(), "#", take); err != nil {
			return err
		}
	} else {
		host, port, _ := net.SplitHostPort(where)
		n, _ := strconv.Atoi(port)
		x, err := broker.Dial(broker.Address{Host: host, Port: n, User: "bare", ClientID: "bare"})
		if err != nil {
			return err
		}
		for !x.Connected() {
			time.Sleep(10 * time.Millisecond)
		}
		if err := x.Subscribe(context.Background(), "#", take); err != nil {
			return err
		}
	}
	http.HandleFunc("/healthz", func(http.ResponseWriter, *http.Request) {})
	http.HandleFunc("/metrics", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = fmt.Fprintf(w, "fado_messages_kept_total %d\n", count.Load())
	})
	return http.ListenAndServe(web, nil)
}

const senders = 8

// flood sends messages and waits until all are counted by the process.
func flood(r *running, brokerAt string, messages int) (perSecond float64, lost int, err error) {
	before := r.metric("fado_messages_kept_total")
	began := time.Now()
	var wg sync.WaitGroup
	errs := make([]error, senders)
	for n := range senders {
		wg.Go(func() { errs[n] = sim.Flood(context.Background(), brokerAt, account(n), messages/senders, 48) })
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return 0, 0, err
	}
	sent := float64(messages / senders * senders)
	for wait := time.Now(); time.Since(wait) < 20*time.Second; time.Sleep(5 * time.Millisecond) {
		if got := r.metric("fado_messages_kept_total") - before; got >= sent {
			return sent / time.Since(began).Seconds(), 0, nil
		}
	}
	got := r.metric("fado_messages_kept_total") - before
	return got / time.Since(began).Seconds(), int(sent - got), nil
}

func self(what string, args ...string) *exec.Cmd {
	exe, err := os.Executable()
	if err != nil {
		panic(err)
	}
	c := exec.Command(exe, append([]string{"-what", what}, args...)...)
	c.Stderr = os.Stderr
	return c
}

func intake(fado string, messages int) error {
	dir, err := os.MkdirTemp("", "fado-load-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	const rounds = 3 // the machine's mood changes; each side is taken in turns
	compare := func(name string, plain, whole func() (*running, string, func(), error)) error {
		var base, ours []float64
		for range rounds {
			for _, side := range []struct {
				start func() (*running, string, func(), error)
				into  *[]float64
			}{{plain, &base}, {whole, &ours}} {
				r, at, stop, err := side.start()
				if err != nil {
					return err
				}
				rate, lost, err := flood(r, at, messages)
				stop()
				if err != nil {
					return err
				}
				if lost > 0 {
					return fmt.Errorf("%s: %d messages were lost", name, lost)
				}
				*side.into = append(*side.into, rate)
			}
		}
		b, o := middle(base), middle(ours)
		fmt.Printf("messages in and kept, %s: %.0f a second; a bare subscriber that drops them: %.0f; ratio %.2f (wanted 0.70), none lost of %d\n", name, o, b, o/b, messages)
		return nil
	}
	n := 0
	folder := func(kind string) (string, error) {
		n++
		d := filepath.Join(dir, strconv.Itoa(n))
		return d, prepare(d, senders, kind)
	}
	if err := compare("embedded broker", func() (*running, string, func(), error) {
		d, err := folder("embedded")
		if err != nil {
			return nil, "", nil, err
		}
		at, web := free(), free()
		r := &running{cmd: self("bare", "-data", d, "-at", at+","+web), url: "http://" + web}
		return r, at, r.stop, r.start(r.url + "/healthz")
	}, func() (*running, string, func(), error) {
		d, err := folder("embedded")
		if err != nil {
			return nil, "", nil, err
		}
		at := free()
		r, err := service(fado, d, at)
		return r, at, r.stop, err
	}); err != nil {
		return err
	}
	if _, err := exec.LookPath("mosquitto"); err != nil {
		fmt.Println("Debian's broker is not installed; that comparison is left out.")
		return nil
	}
	real := func() (string, func(), error) {
		at := free()
		_, port, _ := net.SplitHostPort(at)
		conf := filepath.Join(dir, "broker-"+port+".conf")
		if err := os.WriteFile(conf, []byte("listener "+port+" 127.0.0.1\nallow_anonymous true\nmax_queued_messages 0\nmax_inflight_messages 100\n"), 0o600); err != nil {
			return "", nil, err
		}
		c := exec.Command("mosquitto", "-c", conf)
		if err := c.Start(); err != nil {
			return "", nil, err
		}
		for {
			if x, err := net.Dial("tcp", at); err == nil {
				_ = x.Close()
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
		return at, func() { _ = c.Process.Kill(); _ = c.Wait() }, nil
	}
	return compare("Debian's broker", func() (*running, string, func(), error) {
		at, stop, err := real()
		if err != nil {
			return nil, "", nil, err
		}
		web := free()
		r := &running{cmd: self("bare", "-at", at+","+web), url: "http://" + web}
		return r, at, func() { r.stop(); stop() }, r.start(r.url + "/healthz")
	}, func() (*running, string, func(), error) {
		at, stop, err := real()
		if err != nil {
			return nil, "", nil, err
		}
		d, err := folder("external")
		if err != nil {
			return nil, "", nil, err
		}
		host, port, _ := net.SplitHostPort(at)
		r, err := service(fado, d, "", "FADO_BROKER_KIND=external", "FADO_BROKER_HOST="+host, "FADO_BROKER_PORT="+port, "FADO_BROKER_USER=fado")
		for wait := time.Now(); err == nil && r.metric("fado_messages_taken_total") < 0 && time.Since(wait) < 10*time.Second; {
			time.Sleep(10 * time.Millisecond)
		}
		time.Sleep(time.Second) // it subscribes once it is connected
		return r, at, func() { r.stop(); stop() }, err
	})
}

func middle(list []float64) float64 {
	low, high, sum := list[0], list[0], 0.0
	for _, x := range list {
		low, high, sum = min(low, x), max(high, x), sum+x
	}
	return (sum - low - high) / float64(len(list)-2)
}

func fleet(fado string, units int, lasts time.Duration) error {
	dir, err := os.MkdirTemp("", "fado-fleet-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	data := filepath.Join(dir, "data")
	if err := prepare(data, units, "embedded"); err != nil {
		return err
	}
	at := free()
	began := time.Now()
	r, err := service(fado, data, at)
	if err != nil {
		return err
	}
	defer r.stop()
	fmt.Printf("%d devices: serving after %.2f s\n", units, time.Since(began).Seconds())
	spec := sim.FleetSpec{Broker: at, Every: 60, PerSec: 1000, Sources: 8}
	for n := range units {
		spec.Units = append(spec.Units, account(n))
	}
	f := sim.StartFleet(context.Background(), spec)
	defer f.Stop()
	began = time.Now()
	for f.Online.Load() < int64(units) {
		if time.Since(began) > 5*time.Minute {
			return fmt.Errorf("only %d of %d units are connected, %d were refused", f.Online.Load(), units, f.Refused.Load())
		}
		time.Sleep(100 * time.Millisecond)
	}
	fmt.Printf("%d units connected within %.0f s\n", units, time.Since(began).Seconds())
	time.Sleep(20 * time.Second)
	cpu, _ := r.used()
	sent, kept := f.Sent.Load(), r.metric("fado_messages_kept_total")
	time.Sleep(lasts)
	after, rss := r.used()
	time.Sleep(time.Second) // what was sent is written within a quarter second
	fmt.Printf("%d units, each reporting once a minute: %.0f reports a second, service with embedded broker %.0f MiB (wanted under 500) and %.1f %% of a core (wanted under 25)\n",
		units, float64(f.Sent.Load()-sent)/lasts.Seconds(), rss, 100*(after-cpu).Seconds()/lasts.Seconds())
	if got := r.metric("fado_messages_kept_total") - kept; got < float64(f.Sent.Load()-sent)-float64(units)/30 {
		return fmt.Errorf("%d were sent and %.0f kept", f.Sent.Load()-sent, got)
	}
	if f.Refused.Load() > 0 {
		return fmt.Errorf("%d connections did not come about", f.Refused.Load())
	}
	return nil
}
