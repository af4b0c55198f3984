package main

import (
	"bytes"
	"io"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// line is one connection's end.
type line struct {
	mu     sync.Mutex
	got    bytes.Buffer
	broken bool
	closed chan struct{}
}

func (l *line) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.broken {
		return 0, io.ErrClosedPipe
	}
	return l.got.Write(p)
}

func (l *line) Close() error { close(l.closed); return nil }

// No key is lost when a connection breaks and another one takes its place: not the one that is typed next, and not
// what was read for the connection that broke.
func TestNoKeyIsLostBetweenConnections(t *testing.T) {
	in, typist := io.Pipe()
	k := &keyboard{from: in}
	first, done := &line{closed: make(chan struct{})}, make(chan struct{})
	over := make(chan struct{})
	go func() { k.send(first, done); close(over) }()
	_, err := io.WriteString(typist, "abc")
	require.NoError(t, err)
	require.Eventually(t, func() bool { first.mu.Lock(); defer first.mu.Unlock(); return first.got.String() == "abc" }, 1e10, 1e6)
	close(done)
	<-over
	go func() { _, _ = io.WriteString(typist, "d") }()

	broken, done := &line{broken: true, closed: make(chan struct{})}, make(chan struct{})
	k.send(broken, done) // takes d, and cannot send it
	third, done := &line{closed: make(chan struct{})}, make(chan struct{})
	go k.send(third, done)
	_, err = io.WriteString(typist, "efgh")
	require.NoError(t, err)
	typist.Close()
	<-third.closed
	assert.Equal(t, "defgh", third.got.String())
}
