package handlertest

import (
	"context"
	"io"
	"log"
	"net"
	"sync"
)

// listener takes connections in process: what is dialled is accepted, without a port.
type listener struct {
	dialled chan net.Conn
	closed  chan struct{}
	once    sync.Once
}

func newListener() *listener {
	return &listener{dialled: make(chan net.Conn), closed: make(chan struct{})}
}

// dial has the signature of a dialler; whatever the address, the handler is there.
func (l *listener) dial(ctx context.Context, _, _ string) (net.Conn, error) {
	ours, theirs := net.Pipe()
	select {
	case l.dialled <- theirs:
		return ours, nil
	case <-l.closed:
		return nil, net.ErrClosed
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Accept waits for the next connection.
func (l *listener) Accept() (net.Conn, error) {
	select {
	case c := <-l.dialled:
		return c, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

// Close ends taking connections.
func (l *listener) Close() error {
	l.once.Do(func() { close(l.closed) })
	return nil
}

// Addr is where the handler seems to be.
func (l *listener) Addr() net.Addr { return address{} }

type address struct{}

func (address) Network() string { return "pipe" }
func (address) String() string  { return "localhost" }

// quiet takes what the server has to say of panics, which are judged by their answers.
var quiet = log.New(io.Discard, "", 0)
