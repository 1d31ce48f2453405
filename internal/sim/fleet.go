package sim

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// FleetSpec describes many light units: each has one connection, says that it is
// there, and reports one state now and then. They have no set-up mode and no pages;
// they are for load.
type FleetSpec struct {
	Broker  string     `json:"broker"` // host:port
	Every   float64    `json:"every_seconds"`
	PerSec  int        `json:"connects_per_second"` // 0 for 500
	Sources int        `json:"sources"`             // loopback addresses to connect from: 127.0.0.1 and on; 0 for the system's choice
	Units   []LightOne `json:"units"`
}

// LightOne is one light unit.
type LightOne struct {
	Account    string `json:"account"`
	Password   string `json:"password"`
	Topic      string `json:"topic"`
	HardwareID string `json:"hardware_id"`
}

// Fleet is a running fleet.
type Fleet struct {
	spec     FleetSpec
	Online   atomic.Int64
	Sent     atomic.Int64 // reports that the broker has taken
	Refused  atomic.Int64 // connections that did not come about
	work     sync.WaitGroup
	cancel   context.CancelFunc
	finished chan struct{}
}

// StartFleet connects the units, some each second, and lets them report until Stop.
func StartFleet(ctx context.Context, spec FleetSpec) *Fleet {
	ctx, cancel := context.WithCancel(ctx)
	f := &Fleet{spec: spec, cancel: cancel, finished: make(chan struct{})}
	perSecond := spec.PerSec
	if perSecond <= 0 {
		perSecond = 500
	}
	go func() {
		defer close(f.finished)
		tick := time.NewTicker(time.Second / time.Duration(perSecond))
		defer tick.Stop()
		for i := range spec.Units {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			f.work.Go(func() { f.one(ctx, i) })
		}
	}()
	return f
}

// Stop ends the fleet and waits for it.
func (f *Fleet) Stop() {
	f.cancel()
	<-f.finished
	f.work.Wait()
}

// one is a unit's life: it connects again when it is thrown off.
func (f *Fleet) one(ctx context.Context, n int) {
	for ctx.Err() == nil {
		if err := f.session(ctx, n); err != nil && ctx.Err() == nil {
			f.Refused.Add(1)
		}
		select {
		case <-ctx.Done():
		case <-time.After(5 * time.Second):
		}
	}
}

const fleetKeepAlive = 120 // seconds

func (f *Fleet) session(ctx context.Context, n int) error {
	u := f.spec.Units[n]
	d := net.Dialer{Timeout: 10 * time.Second}
	if f.spec.Sources > 0 {
		d.LocalAddr = &net.TCPAddr{IP: net.IPv4(127, 0, 0, byte(1+n%f.spec.Sources))}
	}
	c, err := d.DialContext(ctx, "tcp", f.spec.Broker)
	if err != nil {
		return err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Now()) })
	defer stop()
	w := &packetWriter{to: c}
	// CONNECT (MQTT 3.1.1, section 3.1): clean session, will with QoS 1, kept.
	w.begin(0x10)
	w.text("MQTT")
	w.raw(4, 0x80|0x40|0x20|0x08|0x04|0x02, 0, fleetKeepAlive)
	for _, s := range []string{u.Account, u.Topic + "/presence", `"offline"`, u.Account, u.Password} {
		w.text(s)
	}
	if err := w.send(); err != nil {
		return err
	}
	r := bufio.NewReaderSize(c, 256)
	head, body, err := readPacket(r)
	if err != nil || head != 0x20 || len(body) < 2 || body[1] != 0 {
		return errors.Join(err, fmt.Errorf("the broker refused %s", u.Account))
	}
	w.publish(u.Topic+"/presence", `"online"`, true)
	w.publish(u.Topic+"/unit", fmt.Sprintf(`{"hardware_id":%q,"firmware":{"name":"sobro-quatro","version":"1.4.0"},"address":"192.168.40.9"}`, u.HardwareID), true)
	w.begin(0x82) // SUBSCRIBE (section 3.8)
	w.raw(0xff, 0xff)
	w.text(u.Topic + "/ask")
	w.raw(1)
	if err := w.send(); err != nil {
		return err
	}
	f.Online.Add(1)
	defer f.Online.Add(-1)
	gone := make(chan error, 1)
	f.work.Go(func() {
		for {
			head, body, err := readPacket(r)
			if err != nil {
				gone <- err
				return
			}
			switch head & 0xf0 {
			case 0x40: // PUBACK
				f.Sent.Add(1)
			case 0x30:
				if head&0x06 != 0 && len(body) > 2 { // QoS 1: acknowledge
					n := int(binary.BigEndian.Uint16(body))
					if len(body) >= n+4 {
						_, _ = c.Write([]byte{0x40, 2, body[n+2], body[n+3]})
					}
				}
			}
		}
	})
	every := time.Duration(f.spec.Every * float64(time.Second))
	// Reports are spread over the whole time.
	next := time.NewTimer(every * time.Duration(n%997) / 997)
	defer next.Stop()
	on := false
	for {
		select {
		case <-ctx.Done():
			_, _ = c.Write([]byte{0xe0, 0}) // DISCONNECT: no will is sent
			return nil
		case err := <-gone:
			return err
		case <-next.C:
			on = !on
			w.publish(u.Topic+"/state/relay-1", fmt.Sprint(on), false)
			if err := w.err; err != nil {
				return err
			}
			next.Reset(every)
		}
	}
}

// packetWriter writes MQTT 3.1.1 packets.
type packetWriter struct {
	to   net.Conn
	head byte
	body []byte
	id   uint16
	err  error
}

func (w *packetWriter) begin(head byte) { w.head, w.body = head, w.body[:0] }

func (w *packetWriter) raw(b ...byte) { w.body = append(w.body, b...) }

func (w *packetWriter) text(s string) {
	w.body = binary.BigEndian.AppendUint16(w.body, uint16(len(s)))
	w.body = append(w.body, s...)
}

func (w *packetWriter) send() error {
	packet := []byte{w.head}
	for n := len(w.body); ; {
		b := byte(n % 128)
		if n /= 128; n > 0 {
			b |= 0x80
		}
		packet = append(packet, b)
		if n == 0 {
			break
		}
	}
	if w.err == nil {
		_, w.err = w.to.Write(append(packet, w.body...))
	}
	return w.err
}

// publish sends with QoS 1.
func (w *packetWriter) publish(topic, payload string, retain bool) {
	head := byte(0x32)
	if retain {
		head |= 1
	}
	w.begin(head)
	w.text(topic)
	w.id = w.id%0xfff0 + 1
	w.body = binary.BigEndian.AppendUint16(w.body, w.id)
	w.body = append(w.body, payload...)
	_ = w.send()
}

// mostPacket is the longest packet that a light unit takes, in bytes.
const mostPacket = 64 << 10

func readPacket(r *bufio.Reader) (head byte, body []byte, err error) {
	if head, err = r.ReadByte(); err != nil {
		return 0, nil, err
	}
	length, shift := 0, 0
	for {
		b, err := r.ReadByte()
		if err != nil {
			return 0, nil, err
		}
		length |= int(b&0x7f) << shift
		if b&0x80 == 0 {
			break
		}
		if shift += 7; shift > 21 {
			return 0, nil, errors.New("the packet's length is malformed")
		}
	}
	if length > mostPacket {
		return 0, nil, errors.New("the packet is too long")
	}
	body = make([]byte, length)
	_, err = io.ReadFull(r, body)
	return head, body, err
}

// Flood sends messages of one light unit as fast as the broker takes them, with at
// most window of them unanswered, and returns when the broker has taken all.
func Flood(ctx context.Context, broker string, u LightOne, messages, window int) error {
	c, err := (&net.Dialer{}).DialContext(ctx, "tcp", broker)
	if err != nil {
		return err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Now()) })
	defer stop()
	w := &packetWriter{to: c}
	w.begin(0x10)
	w.text("MQTT")
	w.raw(4, 0x80|0x40|0x02, 0, fleetKeepAlive)
	for _, s := range []string{u.Account, u.Account, u.Password} {
		w.text(s)
	}
	if err := w.send(); err != nil {
		return err
	}
	r := bufio.NewReader(c)
	if head, body, err := readPacket(r); err != nil || head != 0x20 || len(body) < 2 || body[1] != 0 {
		return errors.Join(err, fmt.Errorf("the broker refused %s", u.Account))
	}
	room := make(chan struct{}, window)
	sent := make(chan error, 1)
	go func() {
		for i := range messages {
			select {
			case room <- struct{}{}:
			case <-ctx.Done():
				sent <- ctx.Err()
				return
			}
			w.publish(u.Topic+"/state/relay-1", fmt.Sprint(i%2 == 0), false)
		}
		sent <- w.err
	}()
	for taken := 0; taken < messages; {
		head, _, err := readPacket(r)
		if err != nil {
			return errors.Join(err, fmt.Errorf("after %d of %d messages", taken, messages))
		}
		if head&0xf0 == 0x40 {
			taken++
			<-room
		}
	}
	return <-sent
}
