package broker

import (
	"net"
	"sync"
)

// crowd is a listener that closes the connections it took when it is closed. The
// broker's package closes the clients that it knows, and then waits for all; one
// that is signing in at that moment is not known yet and would be waited for as
// long as its unit stays connected.
type crowd struct {
	net.Listener
	mu     sync.Mutex
	closed bool
	inside map[*guest]bool
}

func gather(l net.Listener) *crowd { return &crowd{Listener: l, inside: map[*guest]bool{}} }

// Accept implements net.Listener.
func (c *crowd) Accept() (net.Conn, error) {
	conn, err := c.Listener.Accept()
	if err != nil {
		return nil, err
	}
	g := &guest{Conn: conn, of: c}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		_ = conn.Close()
		return nil, net.ErrClosed
	}
	c.inside[g] = true
	return g, nil
}

// Close implements net.Listener.
func (c *crowd) Close() error {
	err := c.Listener.Close()
	c.mu.Lock()
	c.closed = true
	inside := c.inside
	c.inside = map[*guest]bool{}
	c.mu.Unlock()
	for g := range inside {
		_ = g.Conn.Close()
	}
	return err
}

type guest struct {
	net.Conn
	of *crowd
}

// Close implements net.Conn.
func (g *guest) Close() error {
	g.of.mu.Lock()
	delete(g.of.inside, g)
	g.of.mu.Unlock()
	return g.Conn.Close()
}
