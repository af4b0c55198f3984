// Package listen accepts connections for servers that strangers reach. Patient waits out a shortage
// instead of ending the server; Newcomers bounds the connections of which nobody knows yet whose they are.
package listen

import (
	"errors"
	"net"
	"slices"
	"sync"
	"syscall"
	"time"
)

const (
	firstPause = 5 * time.Millisecond
	maxPause   = time.Second
)

// Listener is a net.Listener whose Accept fails only when the listener is closed or broken for good.
// While the host is short of something, such as file descriptors, Accept pauses and tries again, as the
// server of net/http does.
type Listener struct {
	net.Listener
	closed chan struct{}
	once   sync.Once
	mu     sync.Mutex
	err    error // why nothing is accepted now
}

// Patient wraps a listener. Closing the result closes l and ends a pause.
func Patient(l net.Listener) *Listener {
	return &Listener{Listener: l, closed: make(chan struct{})}
}

// Accept waits for the next connection.
func (l *Listener) Accept() (net.Conn, error) {
	for pause := firstPause; ; pause = min(2*pause, maxPause) {
		conn, err := l.Listener.Accept()
		l.note(err)
		if err == nil || !isShortage(err) {
			return conn, err
		}
		select {
		case <-time.After(pause):
		case <-l.closed:
			return nil, net.ErrClosed
		}
	}
}

// Close closes the listener.
func (l *Listener) Close() error {
	l.once.Do(func() { close(l.closed) })
	return l.Listener.Close()
}

// Err reports why connections are not accepted at this moment; nil if the last Accept succeeded.
func (l *Listener) Err() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.err
}

func (l *Listener) note(err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.err = err
}

// isShortage reports whether an error of accept(2) may pass by itself.
func isShortage(err error) bool {
	var no syscall.Errno
	return errors.As(err, &no) && (no.Temporary() || slices.Contains(passing, no))
}

// passing are errors of one connection, of a firewall, and of memory (accept(2), "Error handling").
var passing = []syscall.Errno{syscall.ECONNABORTED, syscall.ECONNRESET, syscall.EPERM, syscall.EPROTO, syscall.ENOBUFS, syscall.ENOMEM}
