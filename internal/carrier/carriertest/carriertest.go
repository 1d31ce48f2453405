// Package carriertest is a network within the process, for tests in a bubble of
// testing/synctest: whoever waits on one of its connections is durably blocked,
// so that time goes on by itself and never faster than the work is done.
package carriertest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"sync"
	"syscall"
	"time"

	"fado/internal/carrier"
)

// window is how much may be under way on a connection in one direction, bytes.
const window = 64 << 10

// New makes an empty network.
func New() carrier.Net {
	n := &network{listening: map[string]*listener{}, next: 40000}
	return carrier.New(n.dial, n.listen)
}

type network struct {
	mu        sync.Mutex
	listening map[string]*listener
	next      int
}

type address string

func (address) Network() string  { return "tcp" }
func (a address) String() string { return string(a) }

func (n *network) listen(_, at string) (net.Listener, error) {
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return nil, err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if port == "0" {
		n.next++
		port = strconv.Itoa(n.next)
	}
	at = net.JoinHostPort(host, port)
	if n.listening[at] != nil {
		return nil, fmt.Errorf("listen on %s: %w", at, syscall.EADDRINUSE)
	}
	l := &listener{net: n, at: address(at), calls: make(chan net.Conn), done: make(chan struct{})}
	n.listening[at] = l
	return l, nil
}

func (n *network) dial(ctx context.Context, _, at string) (net.Conn, error) {
	n.mu.Lock()
	l := n.listening[at]
	n.next++
	from := address("127.0.0.1:" + strconv.Itoa(n.next))
	n.mu.Unlock()
	if l == nil {
		return nil, fmt.Errorf("dial %s: %w", at, syscall.ECONNREFUSED)
	}
	up, down := newPipe(), newPipe()
	select {
	case l.calls <- &conn{in: up, out: down, here: l.at, there: from}:
		return &conn{in: down, out: up, here: from, there: l.at}, nil
	case <-l.done:
		return nil, fmt.Errorf("dial %s: %w", at, syscall.ECONNREFUSED)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

type listener struct {
	net   *network
	at    address
	calls chan net.Conn
	once  sync.Once
	done  chan struct{}
}

func (l *listener) Accept() (net.Conn, error) {
	select {
	case c := <-l.calls:
		return c, nil
	case <-l.done:
		return nil, net.ErrClosed
	}
}

func (l *listener) Addr() net.Addr { return l.at }

func (l *listener) Close() error {
	l.once.Do(func() {
		l.net.mu.Lock()
		delete(l.net.listening, string(l.at))
		l.net.mu.Unlock()
		close(l.done)
	})
	return nil
}

// pipe is one direction of a connection.
type pipe struct {
	mu     sync.Mutex
	moved  sync.Cond
	held   []byte
	closed error // what a reader gets once all is read; a writer at once
	limit  [2]deadline
}

// deadline of a reader or a writer.
type deadline struct {
	at    time.Time
	timer *time.Timer
}

const reading, writing = 0, 1

func newPipe() *pipe {
	p := &pipe{}
	p.moved.L = &p.mu
	return p
}

func (p *pipe) late(side int) bool {
	at := p.limit[side].at
	return !at.IsZero() && !time.Now().Before(at)
}

func (p *pipe) read(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(p.held) == 0 || len(b) == 0 {
		switch {
		case p.late(reading):
			return 0, os.ErrDeadlineExceeded
		case p.closed != nil:
			return 0, p.closed
		case len(b) == 0:
			return 0, nil
		}
		p.moved.Wait()
	}
	n := copy(b, p.held)
	p.held = p.held[n:]
	p.moved.Broadcast()
	return n, nil
}

func (p *pipe) write(b []byte) (n int, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for len(b) > 0 {
		switch free := window - len(p.held); {
		case p.closed != nil:
			return n, syscall.EPIPE
		case p.late(writing):
			return n, os.ErrDeadlineExceeded
		case free > 0:
			took := min(free, len(b))
			p.held = append(p.held, b[:took]...)
			n, b = n+took, b[took:]
			p.moved.Broadcast()
		default:
			p.moved.Wait()
		}
	}
	return n, nil
}

func (p *pipe) close(why error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed == nil {
		p.closed = why
	}
	for i := range p.limit {
		if p.limit[i].timer != nil {
			p.limit[i].timer.Stop()
		}
	}
	p.moved.Broadcast()
}

func (p *pipe) set(side int, at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	d := &p.limit[side]
	if d.timer != nil {
		d.timer.Stop()
		d.timer = nil
	}
	d.at = at
	if !at.IsZero() && p.closed == nil {
		d.timer = time.AfterFunc(time.Until(at), func() {
			p.mu.Lock()
			defer p.mu.Unlock()
			p.moved.Broadcast()
		})
	}
	p.moved.Broadcast()
}

type conn struct {
	in, out     *pipe
	here, there address
}

func (c *conn) Read(b []byte) (int, error)  { return c.in.read(b) }
func (c *conn) Write(b []byte) (int, error) { return c.out.write(b) }
func (c *conn) LocalAddr() net.Addr         { return c.here }
func (c *conn) RemoteAddr() net.Addr        { return c.there }

func (c *conn) Close() error {
	c.out.close(io.EOF)
	c.in.close(net.ErrClosed)
	return nil
}

func (c *conn) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

func (c *conn) SetReadDeadline(t time.Time) error {
	c.in.set(reading, t)
	return nil
}

func (c *conn) SetWriteDeadline(t time.Time) error {
	c.out.set(writing, t)
	return nil
}
