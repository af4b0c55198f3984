// Package sshline keeps an SSH connection that is opened when it is first needed, and dials through
// it.
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

// Line keeps one SSH connection to a workspace, opened when it is first needed, and makes it anew
// when it broke.
type Line struct {
	// Open opens the connection.
	Open func(context.Context) (*ssh.Client, error)

	mu   sync.Mutex
	open *ssh.Client
}

// Ready opens the connection where there is none.
func (l *Line) Ready(ctx context.Context) error {
	_, _, err := l.conn(ctx)
	return err
}

// conn gives the connection; fresh tells that it was opened just now.
func (l *Line) conn(ctx context.Context) (c *ssh.Client, fresh bool, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open != nil {
		return l.open, false, nil
	}
	if c, err = l.Open(ctx); err != nil {
		return nil, false, err
	}
	l.open = c
	go func() {
		_ = c.Wait()
		l.forget(c)
	}()
	return c, true, nil
}

func (l *Line) forget(c *ssh.Client) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open == c {
		l.open = nil
	}
	c.Close()
}

// Close ends the connection, and all that goes through it.
func (l *Line) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open != nil {
		l.open.Close()
		l.open = nil
	}
}

// Dial connects to host:port as seen from inside.
func (l *Line) Dial(ctx context.Context, target string) (net.Conn, error) {
	for {
		c, fresh, err := l.conn(ctx)
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
		l.forget(c)
		if fresh {
			return nil, fmt.Errorf("reach %s: %w", target, err)
		}
	}
}

// Join joins a connection of this machine to host:port as seen from inside, until both have ended.
func (l *Line) Join(ctx context.Context, near net.Conn, target string) error {
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
