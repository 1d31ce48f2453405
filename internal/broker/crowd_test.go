package broker

import (
	"io"
	"net"
	"testing"
	"time"
)

// TestStoppingWaitsForNobodyAtTheDoor: a connection that has not signed in when
// the broker stops is closed with the others.
func TestStoppingWaitsForNobodyAtTheDoor(t *testing.T) {
	e := listen(t, "127.0.0.1:0", &memory{data: map[string][]byte{}})
	c, err := net.Dial("tcp", e.Address())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.Write([]byte{0x10}); err != nil { // CONNECT, and not a byte more
		t.Fatal(err)
	}
	time.Sleep(50 * time.Millisecond) // the broker has begun to read
	done := make(chan struct{})
	go func() {
		e.Close()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(3 * time.Second):
		t.Fatal("the broker waits for one that has not signed in")
	}
	_ = c.SetReadDeadline(time.Now().Add(3 * time.Second))
	if _, err := c.Read(make([]byte, 1)); err != io.EOF {
		t.Errorf("the connection was not closed: %v", err)
	}
	if _, err := net.Dial("tcp", e.Address()); err == nil {
		t.Error("the broker still listens")
	}
}
