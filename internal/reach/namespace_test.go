package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/hashicorp/mdns"

	"fado/internal/core/dialect"
	"fado/internal/core/secret"
)

// The tests of this file run in network namespaces of their own: one is this
// machine's, the other holds a unit, with a cable between them. The test binary
// starts itself again in each; role says as what.
const role = "FADO_TEST_ROLE"

func TestMain(m *testing.M) {
	switch os.Getenv(role) {
	case "pages":
		pages()
	case "announcer":
		announce()
	default:
		os.Exit(m.Run())
	}
}

// apart runs a test of this file within namespaces. Within them it returns true.
func apart(t *testing.T, set string) bool {
	t.Helper()
	if os.Getenv(role) == t.Name() {
		run(t, "sh", "-ec", "mount -t tmpfs none /run && mkdir -p /run/netns && ip link set lo up && ip netns add unit && ip -n unit link set lo up && "+set)
		return true
	}
	c := exec.Command(os.Args[0], "-test.run=^"+t.Name()+"$", "-test.v", "-test.timeout=2m")
	c.Env = append(os.Environ(), role+"="+t.Name())
	c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET | syscall.CLONE_NEWNS, Pdeathsig: syscall.SIGKILL}
	if os.Getuid() != 0 {
		c.SysProcAttr.Cloneflags |= syscall.CLONE_NEWUSER
		c.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{HostID: os.Getuid(), Size: 1}}
		c.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{HostID: os.Getgid(), Size: 1}}
	}
	out, err := c.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "--- PASS: "+t.Name()) {
		t.Fatalf("in a namespace of its own: %v\n%s", err, out)
	}
	return false
}

func run(t *testing.T, name string, args ...string) {
	t.Helper()
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
}

// inUnit starts this binary where the unit is.
func inUnit(t *testing.T, as string) {
	t.Helper()
	c := exec.Command("ip", "netns", "exec", "unit", os.Args[0])
	c.Env = append(os.Environ(), role+"="+as)
	c.Stderr = os.Stderr
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := c.StdoutPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait()
	})
	ready := make([]byte, 5)
	if _, err := io.ReadFull(out, ready); err != nil || string(ready) != "ready" {
		t.Fatalf("%s: %q, %v", as, ready, err)
	}
}

// pages is a unit's set-up page.
func pages() {
	l, err := net.Listen("tcp", "10.47.0.1:80")
	if err != nil {
		log.Fatal(err)
	}
	fmt.Print("ready")
	log.Fatal(http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "hello %s", strings.Split(r.RemoteAddr, ":")[0])
	})))
}

// announce is a unit that announces itself with a responder that is not ours.
func announce() {
	for i, name := range []string{"junco-000007", "Junco um.dois"} {
		s, err := mdns.NewMDNSService(name, "_junco._tcp", "", fmt.Sprintf("unit-%d.local.", i), 80, []net.IP{net.IPv4(10, 47, 0, byte(1+i))}, []string{"id=02:5A:11:00:00:07", "version=1.2.0"})
		if err != nil {
			log.Fatal(err)
		}
		iface, err := net.InterfaceByName("u0")
		if err != nil {
			log.Fatal(err)
		}
		if _, err := mdns.NewServer(&mdns.Config{Zone: s, Iface: iface}); err != nil {
			log.Fatal(err)
		}
	}
	fmt.Print("ready")
	time.Sleep(time.Hour)
}

// TestMulticast: units that another program announces are found on the link, with
// name, address and text; a host is found by its name; and who stays silent is
// not.
func TestMulticast(t *testing.T) {
	if !apart(t, "ip link add e0 type veth peer name u0 netns unit && ip addr add 10.47.0.9/24 dev e0 && ip link set e0 up && ip -n unit addr add 10.47.0.1/24 dev u0 && ip -n unit link set u0 up && ip -n unit route add 224.0.0.0/4 dev u0") {
		return
	}
	inUnit(t, "announcer")
	for name, m := range map[string]Multicast{"any interface": {}, "that interface": {Interface: "e0"}} {
		list, err := m.Browse(t.Context(), []string{"_junco._tcp", "_nothing._tcp"})
		if err != nil || len(list) != 2 {
			t.Fatalf("%s: %+v, %v", name, list, err)
		}
		if x := list[1]; x.Instance != "junco-000007" || x.Service != "_junco._tcp" || x.Address.String() != "10.47.0.1" || x.Port != 80 || x.Host != "unit-0.local" || strings.Join(x.TXT, " ") != "id=02:5A:11:00:00:07 version=1.2.0" {
			t.Errorf("%s: %+v", name, x)
		}
		if x := list[0]; x.Instance != "Junco um.dois" {
			t.Errorf("%s: %+v", name, x)
		}
	}
	if a, err := (Multicast{}).Lookup(t.Context(), "unit-1"); err != nil || len(a) != 1 || a[0].String() != "10.47.0.2" {
		t.Errorf("%v, %v", a, err)
	}
	if a, err := (Multicast{}).Lookup(t.Context(), "nobody"); err != nil || len(a) != 0 {
		t.Errorf("%v, %v", a, err)
	}
	if _, err := (Multicast{Interface: "e7"}).Browse(t.Context(), []string{"_junco._tcp"}); err == nil || !strings.Contains(err.Error(), "e7") {
		t.Error("an interface that is not there was asked:", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if _, err := (Multicast{}).Browse(ctx, []string{"_junco._tcp"}); err == nil {
		t.Error("it was not interrupted")
	}
}

// TestNetworkManager: against a stand-in of the system's network service on a bus
// of its own, access points are listed and joined, the unit behind is reached over
// that interface alone, and what was joined is left.
func TestNetworkManager(t *testing.T) {
	if !apart(t, "ip link add wlan7 type veth peer name u0 netns unit && ip addr add 10.47.0.9/24 dev wlan7 && ip link set wlan7 up && ip -n unit addr add 10.47.0.1/24 dev u0 && ip -n unit link set u0 up") {
		return
	}
	inUnit(t, "pages")
	bus, dev := fakeNetworkManager(t)
	mock := bus.Object(nmBus, "/org/freedesktop/NetworkManager")
	call := func(o dbus.BusObject, method string, args ...any) {
		t.Helper()
		if err := o.Call(method, 0, args...).Err; err != nil {
			t.Fatalf("%s: %v", method, err)
		}
	}
	const psk = uint32(0x100)
	for _, p := range []struct {
		object, name, id string
		strength         byte
		security         uint32
	}{{"ap0", "fado-025a11000007", "02:5A:11:00:00:07", 70, psk}, {"ap1", "andorinha-000008", "02:5A:11:00:00:08", 100, 0}, {"ap2", "", "02:5A:11:00:00:09", 20, 0}} {
		call(mock, "org.freedesktop.DBus.Mock.AddAccessPoint", string(dev), p.object, p.name, p.id, uint32(2), uint32(2437), uint32(54000), p.strength, p.security)
	}
	radio, err := OpenNetworkManager("wlan7")
	if err != nil {
		t.Fatal(err)
	}
	defer radio.Close()
	list, err := radio.Scan(t.Context())
	if err != nil || len(list) != 2 || list[0] != (AccessPoint{"fado-025a11000007", "02:5A:11:00:00:07", -58, false}) || list[1] != (AccessPoint{"andorinha-000008", "02:5A:11:00:00:08", -40, true}) {
		t.Fatalf("%+v, %v", list, err)
	}

	for name, key := range map[string]string{"fado-025a11000007": "olival-07-azeite", "andorinha-000008": ""} {
		j, err := radio.Join(t.Context(), name, secret.New(key))
		if err != nil {
			t.Fatal(name, err)
		}
		body, err := j.Do(t.Context(), "http://10.47.0.1", dialect.Request{Method: http.MethodGet, Path: "/"})
		if err != nil || string(body) != "hello 10.47.0.9" {
			t.Errorf("%s: %q, %v", name, body, err)
		}
		if n := connections(t, bus); n != 1 {
			t.Errorf("%d connections while it is joined", n)
		}
		j.Leave()
		j.Leave()
		if n := connections(t, bus); n != 0 {
			t.Errorf("%d connections after it was left", n)
		}
	}
	for name, want := range map[string]error{"fado-025a11000099": ErrNotSeen, "fado-025a11000007": ErrKeyRefused} {
		if _, err := radio.Join(t.Context(), name, secret.Secret{}); err == nil || !strings.Contains(err.Error(), want.Error()) {
			t.Errorf("%s: %v", name, err)
		}
	}

	// What the service says of a join that fails: a wrong key, an access point that
	// went off the air, and anything else.
	call(mock, "org.freedesktop.DBus.Mock.AddObject", "/org/freedesktop/NetworkManager/ActiveConnection/9", nmActive, map[string]dbus.Variant{"State": dbus.MakeVariant(uint32(1))}, []struct{ A, B, C, D string }{})
	call(mock, "org.freedesktop.DBus.Mock.AddMethod", nmBus, "AddAndActivateConnection", "a{sa{sv}}oo", "oo",
		"ret = (dbus.ObjectPath('/org/freedesktop/NetworkManager/Settings/x'), dbus.ObjectPath('/org/freedesktop/NetworkManager/ActiveConnection/9'))")
	for reason, want := range map[uint32]error{7: ErrKeyRefused, 8: ErrKeyRefused, 53: ErrNotSeen, 1: ErrDown} {
		failed := make(chan error, 1)
		go func() {
			_, err := radio.Join(t.Context(), "fado-025a11000007", secret.New("not the key"))
			failed <- err
		}()
		var err error
		soon(t, func() error {
			select {
			case err = <-failed:
				return nil
			default:
				call(bus.Object(nmBus, dev), "org.freedesktop.DBus.Mock.EmitSignal", nmDevice, "StateChanged", "uuu", []any{dbus.MakeVariant(uint32(120)), dbus.MakeVariant(uint32(50)), dbus.MakeVariant(reason)})
				return errors.New("the join does not end")
			}
		})
		if !errors.Is(err, want) || strings.Contains(err.Error(), "not the key") {
			t.Errorf("reason %d: %v, want %v", reason, err, want)
		}
	}
	call(mock, "org.freedesktop.DBus.Mock.AddMethod", nmBus, "AddAndActivateConnection", "a{sa{sv}}oo", "oo", "ret = self.add_and_activate_connection(self, args[0], args[1], args[2])")

	// Whatever it is asked for, nothing else is reached: with the address of the
	// other side on another interface, the line stays on its own.
	run(t, "sh", "-ec", "ip link add e1 type veth peer name e2 && ip addr add 10.99.0.1/24 dev e1 && ip link set e1 up && ip link set e2 up")
	elsewhere := httptest.NewUnstartedServer(http.NotFoundHandler())
	l, err := net.Listen("tcp", "10.99.0.1:80")
	if err != nil {
		t.Fatal(err)
	}
	elsewhere.Listener = l
	elsewhere.Start()
	defer elsewhere.Close()
	if r, err := http.Get("http://10.99.0.1"); err != nil || r.Body.Close() != nil {
		t.Fatal("nothing is there to be reached:", err)
	}
	j, err := radio.Join(t.Context(), "andorinha-000008", secret.Secret{})
	if err != nil {
		t.Fatal(err)
	}
	short, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	var answered *StatusError
	if _, err = j.Do(short, "http://10.99.0.1", dialect.Request{Method: http.MethodGet, Path: "/"}); err == nil || errors.As(err, &answered) {
		t.Error("something beyond the interface was reached:", err)
	}
	j.Leave()

	// The interface of the default route is never joined with.
	run(t, "ip", "route", "add", "default", "via", "10.47.0.1", "dev", "wlan7")
	if _, err := radio.Join(t.Context(), "andorinha-000008", secret.Secret{}); err == nil || !strings.Contains(err.Error(), "default route") {
		t.Error("joined with the interface of the default route:", err)
	}
	run(t, "ip", "route", "del", "default")
	other, err := OpenNetworkManager("wlan8")
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if _, err := other.Scan(t.Context()); err == nil || !strings.Contains(err.Error(), "wlan8") {
		t.Error(err)
	}
}

// connections counts what the stand-in keeps joined.
func connections(t *testing.T, bus *dbus.Conn) int {
	t.Helper()
	v, err := read[[]dbus.ObjectPath](bus.Object(nmBus, "/org/freedesktop/NetworkManager"), t.Context(), nmBus, "ActiveConnections")
	if err != nil {
		t.Fatal(err)
	}
	return len(v)
}

// fakeNetworkManager runs Debian's stand-in of the system's network service on a
// private bus, with one Wi-Fi interface.
func fakeNetworkManager(t *testing.T) (*dbus.Conn, dbus.ObjectPath) {
	t.Helper()
	address := "unix:path=" + filepath.Join(t.TempDir(), "bus")
	start := func(name string, args ...string) {
		c := exec.Command(name, args...)
		c.Env = append(os.Environ(), "DBUS_SYSTEM_BUS_ADDRESS="+address)
		c.Stderr = os.Stderr
		c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			_ = c.Process.Kill()
			_ = c.Wait()
		})
	}
	start("dbus-daemon", "--session", "--nofork", "--nopidfile", "--address="+address)
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", address)
	var bus *dbus.Conn
	soon(t, func() (err error) {
		bus, err = dbus.ConnectSystemBus()
		return err
	})
	t.Cleanup(func() { _ = bus.Close() })
	start("/usr/bin/python3", "-m", "dbusmock", "--system", "--template", "networkmanager")
	mock := bus.Object(nmBus, "/org/freedesktop/NetworkManager")
	var dev string
	soon(t, func() error {
		return mock.Call("org.freedesktop.DBus.Mock.AddWiFiDevice", 0, "radio", "wlan7", int32(30)).Store(&dev)
	})
	return bus, dbus.ObjectPath(dev)
}

func soon(t *testing.T, f func() error) {
	t.Helper()
	var err error
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if err = f(); err == nil {
			return
		}
	}
	t.Fatal(err)
}
