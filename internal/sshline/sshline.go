// Package sshline keeps an SSH connection, or one to an agent, that is opened when it is first needed,
// and dials through it.
package sshline

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/fault"
	"domicile/internal/splice"
)

// dialLimit is how long an answer from inside is waited for before the connection counts as dead: a
// machine that slept has connections that nobody else knows of any more.
const dialLimit = 10 * time.Second

// Client is a connection through which can be dialled: an *ssh.Client, or a link to an agent.
type Client interface {
	comparable
	DialContext(ctx context.Context, network, address string) (net.Conn, error)
	Wait() error
	Close() error
}

// Line keeps one connection, opened when it is first needed, and makes it anew when it broke.
type Line[C Client] struct {
	// Open opens the connection.
	Open func(context.Context) (C, error)

	mu      sync.Mutex
	is      bool // open is one
	open    C
	opening chan struct{} // closed when who opens it now is done; nil: nobody does
	turn    int           // counts how often it was closed
}

// Conn gives the connection, and opens it where there is none; fresh tells that. Those who ask while
// one is opened wait for that.
func (l *Line[C]) Conn(ctx context.Context) (c C, fresh bool, err error) {
	for {
		l.mu.Lock()
		if l.is {
			defer l.mu.Unlock()
			return l.open, false, nil
		}
		if l.opening == nil {
			l.opening = make(chan struct{})
			turn := l.turn
			l.mu.Unlock()
			c, err := l.make(ctx, turn)
			return c, true, err
		}
		others := l.opening
		l.mu.Unlock()
		select {
		case <-others:
		case <-ctx.Done():
			return c, false, ctx.Err()
		}
	}
}

// Now gives the connection where there is one.
func (l *Line[C]) Now() (c C, there bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.open, l.is
}

// errClosed is that the line was closed while a connection was opened.
var errClosed = errors.New("the connection was closed while it was opened")

func (l *Line[C]) make(ctx context.Context, turn int) (C, error) {
	c, err := l.Open(ctx)
	l.mu.Lock()
	defer l.mu.Unlock()
	close(l.opening)
	l.opening = nil
	if err != nil {
		return c, err
	}
	if l.turn != turn {
		c.Close()
		return c, errClosed
	}
	l.open, l.is = c, true
	go func() {
		_ = c.Wait() // whatever ended it
		l.Drop(c)
	}()
	return c, nil
}

// Drop ends a connection that does not answer any more, so that the next request makes another.
func (l *Line[C]) Drop(c C) {
	c.Close()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.is && l.open == c {
		l.none()
	}
}

// Close ends the connection, and all that goes through it.
func (l *Line[C]) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.turn++
	if l.is {
		go l.open.Close() // it says farewell, which may take its time
		l.none()
	}
}

func (l *Line[C]) none() {
	var nothing C
	l.open, l.is = nothing, false
}

// Dial connects to host:port as seen from inside.
func (l *Line[C]) Dial(ctx context.Context, target string) (net.Conn, error) {
	for {
		c, fresh, err := l.Conn(ctx)
		if err != nil {
			return nil, err
		}
		limited, cancel := context.WithTimeout(ctx, dialLimit)
		conn, err := c.DialContext(limited, "tcp", target)
		cancel()
		var refused *ssh.OpenChannelError
		switch {
		case err == nil:
			return conn, nil
		case errors.As(err, &refused):
			return nil, fault.New("nobody-listens", "", "%s", refused.Message)
		case ctx.Err() != nil:
			return nil, ctx.Err()
		}
		l.Drop(c)
		if fresh {
			return nil, fmt.Errorf("reach %s: %w", target, err)
		}
	}
}

// Join joins a connection of this machine to host:port as seen from inside, until both have ended.
func (l *Line[C]) Join(ctx context.Context, near net.Conn, target string) error {
	defer near.Close()
	far, err := l.Dial(ctx, target)
	if err != nil {
		return err
	}
	defer far.Close()
	stop := context.AfterFunc(ctx, func() {
		near.Close()
		far.Close()
	})
	defer stop()
	splice.Both(near, far)
	return nil
}
