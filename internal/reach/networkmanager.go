package reach

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/google/uuid"

	"fado/internal/carrier"
	"fado/internal/core/secret"
)

// NetworkManager is the radio of a Linux machine, by way of the D-Bus interface of
// the service of that name. It joins with one Wi-Fi interface and never with the
// one that carries the default route, since joining would cut off whoever uses
// that.
type NetworkManager struct {
	bus   *dbus.Conn
	iface string
}

// The names of its public interface.
const (
	nmBus        = "org.freedesktop.NetworkManager"
	nmDevice     = nmBus + ".Device"
	nmWireless   = nmBus + ".Device.Wireless"
	nmPoint      = nmBus + ".AccessPoint"
	nmActive     = nmBus + ".Connection.Active"
	nmConnection = nmBus + ".Settings.Connection"
)

// Numbers of its public interface.
const (
	nmWifi        = 2 // a device's type
	nmActivated   = 2 // of an active connection
	nmDeactivated = 4
	nmFailed      = 120 // a device's state
	nmNeedsAuth   = 60
	nmPrivacy     = 1 // a flag of an access point
)

// nmRefused are the reasons for which a device fails when the key is wrong, and
// nmGone is the one when the access point is gone.
var nmRefused = map[uint32]bool{7: true, 8: true, 9: true, 10: true}

const nmGone = 53

// How long a list of access points and a join may take. They are matters of the
// radio and never scaled.
const (
	nmScanTime = 8 * time.Second
	nmJoinTime = 30 * time.Second
	nmLook     = 200 * time.Millisecond
)

// OpenNetworkManager connects to it over the system's bus. iface is the Wi-Fi
// interface to join with; "" takes the first that does not carry the default
// route.
func OpenNetworkManager(iface string) (*NetworkManager, error) {
	bus, err := dbus.ConnectSystemBus()
	if err != nil {
		return nil, fmt.Errorf("connect to the system's bus: %w", err)
	}
	return &NetworkManager{bus: bus, iface: iface}, nil
}

// Close ends the connection, and with it whatever was joined.
func (n *NetworkManager) Close() { _ = n.bus.Close() }

func (n *NetworkManager) object(path dbus.ObjectPath) dbus.BusObject {
	return n.bus.Object(nmBus, path)
}

// read gives a property.
func read[T any](o dbus.BusObject, ctx context.Context, iface, name string) (v T, err error) {
	var raw dbus.Variant
	if err := o.CallWithContext(ctx, "org.freedesktop.DBus.Properties.Get", 0, iface, name).Store(&raw); err != nil {
		return v, err
	}
	v, ok := raw.Value().(T)
	if !ok {
		return v, fmt.Errorf("%s.%s is a %T", iface, name, raw.Value())
	}
	return v, nil
}

// device finds the Wi-Fi device to join with.
func (n *NetworkManager) device(ctx context.Context) (dbus.BusObject, string, error) {
	var paths []dbus.ObjectPath
	if err := n.object("/org/freedesktop/NetworkManager").CallWithContext(ctx, nmBus+".GetDevices", 0).Store(&paths); err != nil {
		return nil, "", fmt.Errorf("%w: the system's network service does not answer: %w", ErrDown, err)
	}
	carries, err := defaultRoutes()
	if err != nil {
		return nil, "", fmt.Errorf("%w: %w", ErrDown, err)
	}
	refused := ""
	for _, p := range paths {
		o := n.object(p)
		kind, err := read[uint32](o, ctx, nmDevice, "DeviceType")
		if err != nil || kind != nmWifi {
			continue
		}
		name, err := read[string](o, ctx, nmDevice, "Interface")
		if err != nil || n.iface != "" && name != n.iface {
			continue
		}
		if carries[name] {
			refused = name
			continue
		}
		return o, name, nil
	}
	switch {
	case refused != "":
		return nil, "", fmt.Errorf("%w: %s carries the default route, and joining with it would cut this machine off; use a second Wi-Fi interface", ErrDown, refused)
	case n.iface != "":
		return nil, "", fmt.Errorf("%w: there is no Wi-Fi interface %q", ErrDown, n.iface)
	}
	return nil, "", fmt.Errorf("%w: there is no Wi-Fi interface", ErrDown)
}

// defaultRoutes are the interfaces that carry a default route.
func defaultRoutes() (map[string]bool, error) {
	out := map[string]bool{}
	for file, at := range map[string]struct{ zero, iface int }{"/proc/net/route": {1, 0}, "/proc/net/ipv6_route": {0, 9}} {
		f, err := os.Open(file)
		if errors.Is(err, os.ErrNotExist) {
			continue // a kernel without this family
		}
		if err != nil {
			return nil, fmt.Errorf("read the routes: %w", err)
		}
		defer f.Close()
		for s := bufio.NewScanner(f); s.Scan(); {
			fields := strings.Fields(s.Text())
			if len(fields) < 10 && at.iface == 9 || len(fields) < 8 || strings.Trim(fields[at.zero], "0") != "" {
				continue
			}
			mask := fields[1]
			if at.iface == 0 {
				mask = fields[7]
			}
			if name := fields[at.iface]; strings.Trim(mask, "0") == "" && name != "lo" {
				out[name] = true
			}
		}
	}
	return out, nil
}

// Scan implements Radio.
func (n *NetworkManager) Scan(ctx context.Context) ([]AccessPoint, error) {
	dev, _, err := n.device(ctx)
	if err != nil {
		return nil, err
	}
	before, known := read[int64](dev, ctx, nmWireless, "LastScan")
	// It may refuse because it scans now, or did a moment ago; its list is good
	// then.
	if dev.CallWithContext(ctx, nmWireless+".RequestScan", 0, map[string]dbus.Variant{}).Err == nil && known == nil {
		for end := time.Now().Add(nmScanTime); time.Now().Before(end); {
			if now, err := read[int64](dev, ctx, nmWireless, "LastScan"); err != nil || now != before || pause(ctx, nmLook) != nil {
				break
			}
		}
	}
	heard, err := n.heard(ctx, dev)
	if err != nil {
		return nil, err
	}
	out := make([]AccessPoint, 0, len(heard))
	for _, h := range heard {
		out = append(out, h.AccessPoint)
	}
	return out, nil
}

type nmHeard struct {
	AccessPoint
	path dbus.ObjectPath
}

func (n *NetworkManager) heard(ctx context.Context, dev dbus.BusObject) ([]nmHeard, error) {
	var paths []dbus.ObjectPath
	if err := dev.CallWithContext(ctx, nmWireless+".GetAllAccessPoints", 0).Store(&paths); err != nil {
		return nil, fmt.Errorf("%w: list the access points: %w", ErrDown, err)
	}
	var out []nmHeard
	for _, p := range paths {
		var all map[string]dbus.Variant
		if err := n.object(p).CallWithContext(ctx, "org.freedesktop.DBus.Properties.GetAll", 0, nmPoint).Store(&all); err != nil {
			continue // it went off the air just now
		}
		ssid, _ := all["Ssid"].Value().([]byte)
		if len(ssid) == 0 {
			continue // it hides its name
		}
		h := nmHeard{AccessPoint{Name: strings.ToValidUTF8(string(ssid), "\uFFFD")}, p}
		h.BSSID, _ = all["HwAddress"].Value().(string)
		strength, _ := all["Strength"].Value().(byte)
		// 100 % is -40 dBm and better, 0 % is -100 dBm.
		h.Signal = -40 - (100-int(min(strength, 100)))*60/100
		flags, _ := all["Flags"].Value().(uint32)
		wpa, _ := all["WpaFlags"].Value().(uint32)
		rsn, _ := all["RsnFlags"].Value().(uint32)
		h.Open = flags&nmPrivacy == 0 && wpa == 0 && rsn == 0
		out = append(out, h)
	}
	return out, nil
}

// Join implements Radio.
func (n *NetworkManager) Join(ctx context.Context, name string, key secret.Secret) (*Joined, error) {
	ctx, cancel := context.WithTimeout(ctx, nmJoinTime)
	defer cancel()
	dev, iface, err := n.device(ctx)
	if err != nil {
		return nil, err
	}
	list, err := n.heard(ctx, dev)
	if err != nil {
		return nil, err
	}
	var best *nmHeard
	for i, h := range list {
		if h.Name == name && (best == nil || h.Signal > best.Signal) {
			best = &list[i]
		}
	}
	switch {
	case best == nil:
		return nil, ErrNotSeen
	case !best.Open && key.IsZero():
		return nil, ErrKeyRefused
	}
	states := make(chan *dbus.Signal, 64)
	n.bus.Signal(states)
	defer n.bus.RemoveSignal(states)
	match := []dbus.MatchOption{dbus.WithMatchObjectPath(dev.Path()), dbus.WithMatchInterface(nmDevice), dbus.WithMatchMember("StateChanged")}
	if err := n.bus.AddMatchSignalContext(ctx, match...); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDown, err)
	}
	defer func() { _ = n.bus.RemoveMatchSignal(match...) }()
	connection, active, err := n.activate(ctx, dev, iface, *best, key)
	if err != nil {
		return nil, err
	}
	leave := sync.OnceFunc(func() { n.leave(connection, active) })
	if err := n.await(ctx, active, states); err != nil {
		leave()
		return nil, err
	}
	return NewJoined(newLine(boundTo(iface).Transport()), leave), nil
}

// activate makes a connection that lasts as long as it is needed, and starts it.
func (n *NetworkManager) activate(ctx context.Context, dev dbus.BusObject, iface string, to nmHeard, key secret.Secret) (connection, active dbus.ObjectPath, err error) {
	v := dbus.MakeVariant
	settings := map[string]map[string]dbus.Variant{
		"connection":      {"id": v("Fado set-up " + to.Name), "uuid": v(uuid.NewString()), "type": v("802-11-wireless"), "autoconnect": v(false), "interface-name": v(iface)},
		"802-11-wireless": {"ssid": v([]byte(to.Name)), "mode": v("infrastructure")},
		"ipv4":            {"method": v("auto"), "never-default": v(true), "ignore-auto-dns": v(true)},
		"ipv6":            {"method": v("ignore")},
	}
	if !to.Open {
		settings["802-11-wireless-security"] = map[string]dbus.Variant{"key-mgmt": v("wpa-psk"), "psk": v(key.Expose())}
	}
	manager := n.object("/org/freedesktop/NetworkManager")
	// Kept in memory only, and gone with this program.
	options := map[string]dbus.Variant{"persist": v("volatile"), "bind-activation": v("dbus-client")}
	var rest map[string]dbus.Variant
	err = manager.CallWithContext(ctx, nmBus+".AddAndActivateConnection2", 0, settings, dev.Path(), to.path, options).Store(&connection, &active, &rest)
	var said dbus.Error
	if errors.As(err, &said) && said.Name == "org.freedesktop.DBus.Error.UnknownMethod" {
		// Before version 1.16 it has only this.
		err = manager.CallWithContext(ctx, nmBus+".AddAndActivateConnection", 0, settings, dev.Path(), to.path).Store(&connection, &active)
	}
	if err != nil {
		// What it says may repeat the key.
		return "", "", fmt.Errorf("%w: it refused to join %s: %s", ErrDown, to.Name, secret.Hide(err.Error(), func(yield func(any) bool) { yield(key) }))
	}
	return connection, active, nil
}

// await waits until a connection is up, or tells why it is not.
func (n *NetworkManager) await(ctx context.Context, active dbus.ObjectPath, states <-chan *dbus.Signal) error {
	var why uint32
	for {
		state, err := read[uint32](n.object(active), ctx, nmActive, "State")
		for len(states) > 0 {
			var now, before, reason uint32
			if s := <-states; s != nil && dbus.Store(s.Body, &now, &before, &reason) == nil && (now == nmFailed || now == nmNeedsAuth && nmRefused[reason]) {
				why = reason
			}
		}
		switch {
		case ctx.Err() != nil:
			return fmt.Errorf("%w: joining took more than %s", ErrDown, nmJoinTime)
		case err == nil && state == nmActivated:
			return nil
		case nmRefused[why]:
			return ErrKeyRefused
		case why == nmGone:
			return ErrNotSeen
		case why != 0:
			return fmt.Errorf("%w: joining failed with reason %d", ErrDown, why)
		case err != nil || state == nmDeactivated:
			return fmt.Errorf("%w: joining was broken off", ErrDown)
		}
		_ = pause(ctx, nmLook)
	}
}

func (n *NetworkManager) leave(connection, active dbus.ObjectPath) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	_ = n.object("/org/freedesktop/NetworkManager").CallWithContext(ctx, nmBus+".DeactivateConnection", 0, active).Err
	_ = n.object(connection).CallWithContext(ctx, nmConnection+".Delete", 0).Err // where it was not volatile
}

// boundTo is the network behind one interface: no packet leaves over another.
func boundTo(iface string) carrier.Net {
	d := net.Dialer{Control: func(_, _ string, c syscall.RawConn) error {
		var err error
		if failed := c.Control(func(fd uintptr) { err = syscall.BindToDevice(int(fd), iface) }); failed != nil {
			return failed
		}
		return err
	}}
	return carrier.New(d.DialContext, nil)
}

func pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
