package servertest

import (
	"io"
	"net"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// A Cutter stands between a program and a server, and cuts at a message of the connection that it is told to: before that goes on to the server, or
// instead of what the server answers to it.
type Cutter struct {
	listener net.Listener
	to       string
	left     atomic.Int64 // messages until it cuts; below 0 it does not
	Answers  bool         // it counts, and cuts, answers
	seen     atomic.Int64
	shut     atomic.Bool // nobody gets through
	armed    bool
}

// NewCutter stands before a server, and cuts nothing yet.
func NewCutter(t *testing.T, to string) *Cutter {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &Cutter{listener: listener, to: to}
	c.left.Store(-1)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			go c.serve(client)
		}
	}()
	return c
}

func (c *Cutter) serve(client net.Conn) {
	defer client.Close()
	if c.shut.Load() {
		return
	}
	server, err := net.Dial("tcp", c.to)
	if err != nil {
		return
	}
	defer server.Close()
	pass := func(to, from net.Conn, counts bool) {
		buffer := make([]byte, 1<<16)
		for {
			n, err := from.Read(buffer)
			if n > 0 {
				if counts && c.seen.Add(1) > 0 && c.left.Load() >= 0 && c.left.Add(-1) < 0 {
					break
				}
				if _, err := to.Write(buffer[:n]); err != nil {
					break
				}
			}
			if err != nil {
				break
			}
		}
		client.Close()
		if tcp, is := server.(*net.TCPConn); is {
			_ = tcp.CloseWrite()
		}
		_, _ = io.Copy(io.Discard, server)
	}
	done := make(chan bool, 2)
	go func() { pass(server, client, !c.Answers); done <- true }()
	go func() { pass(client, server, c.Answers); done <- true }()
	<-done
	<-done
}

// Points are some of so many messages at which to cut, evenly, and the last, with which a change ends.
func Points(messages int64, some int) (points []int64) {
	for at := range messages {
		if at%max(1, messages/int64(some)) == 0 || at >= messages-4 {
			points = append(points, at)
		}
	}
	return points
}

// Port is where it listens, on 127.0.0.1.
func (c *Cutter) Port() string {
	_, port, _ := net.SplitHostPort(c.listener.Addr().String())
	return port
}

// CutAt has it cut at a message, counted from now; below 0 it does not.
func (c *Cutter) CutAt(message int64) {
	c.seen.Store(0)
	c.left.Store(message)
	c.armed = message >= 0
}

// Done has it cut no more, and tells whether it has, and how many messages it has seen.
func (c *Cutter) Done() (cut bool, seen int64) {
	cut = c.armed && c.left.Load() < 0
	c.left.Store(-1)
	return cut, c.seen.Load()
}

// Shut lets nobody through any more.
func (c *Cutter) Shut() {
	c.shut.Store(true)
	_ = c.listener.Close()
}
