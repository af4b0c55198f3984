// Package remote reaches the container engine of another host over SSH: one connection, which
// is kept and comes back by itself, and a stream in it for each request. An engine that is
// reached so is an engine like another (package engine, Options.Dial).
package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/fault"
	"domicile/internal/sshline"
)

const (
	// dialLimit bounds how long it takes to reach a host, its SSH handshake included.
	dialLimit = 15 * time.Second
	// aliveEvery is how often it is looked whether the host still answers, aliveLimit how long
	// it has for that: a connection that is cut says nothing by itself.
	aliveEvery = 15 * time.Second
	aliveLimit = 10 * time.Second
)

// Line is the one connection to a host.
type Line struct {
	to    Address
	route []Hop // the hosts that lead there, the nearest first, and the host itself
	key   ssh.Signer
	// reached tells that the engine has answered once.
	reached atomic.Bool

	line sshline.Line[*ssh.Client]
	over atomic.Bool // it was closed, and dials no more
}

// NewLine makes a line to a host, by way of others where there are some, the nearest first.
// Nothing is dialled yet. Each host is known by its pinned key; without one nothing is dialled
// at all.
func NewLine(to Address, key ssh.Signer, pinned string, through ...Hop) *Line {
	l := &Line{to: to, route: append(slices.Clone(through), Hop{to, pinned}), key: key}
	l.line.Open = l.enter
	return l
}

// Install is the line that the host's user needs in ~/.ssh/authorized_keys: nothing but
// streams to sockets, and the few commands of an examination.
func Install(key ssh.PublicKey) string {
	return "no-pty,no-agent-forwarding,no-X11-forwarding,no-user-rc " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))) + " domicile"
}

// Dial opens a stream to the engine's socket.
func (l *Line) Dial(ctx context.Context) (net.Conn, error) {
	client, err := l.connected(ctx)
	if err != nil {
		return nil, err
	}
	conn, err := client.DialContext(ctx, "unix", l.to.Socket)
	var refused *ssh.OpenChannelError
	switch {
	case err == nil:
		l.reached.Store(true)
		return conn, nil
	case errors.As(err, &refused):
		closed := fault.Wrap(err, "engine-closed", fmt.Sprintf("on %s: apt-get install docker.io && usermod -aG docker %s; sshd must allow AllowStreamLocalForwarding", l.to.Host, l.to.User),
			"the user %s of %s cannot reach the engine's socket %s", l.to.User, l.to.Host, l.to.Socket)
		closed.Transient = l.reached.Load() // an engine that is being started again is refused in the same words
		return nil, closed
	}
	l.line.Drop(client)
	return nil, away(l.to, err)
}

// mostOutput bounds what is read of a command's output: a host may print for ever.
const mostOutput = 64 << 10

// Run runs a command on the host and gives what it printed, as far as that is read.
func (l *Line) Run(ctx context.Context, command string) (string, error) {
	client, err := l.connected(ctx)
	if err != nil {
		return "", err
	}
	session, err := client.NewSession()
	var refused *ssh.OpenChannelError
	if errors.As(err, &refused) { // and the connection is well
		return "", fmt.Errorf("run a command on %s: %w", l.to.Host, err)
	}
	if err != nil {
		l.line.Drop(client)
		return "", away(l.to, err)
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { session.Close() })
	defer stop()
	out, err := session.StdoutPipe()
	if err == nil {
		err = session.Start(command)
	}
	if err != nil {
		return "", fmt.Errorf("run a command on %s: %w", l.to.Host, err)
	}
	said, err := io.ReadAll(io.LimitReader(out, mostOutput))
	if err == nil && len(said) < mostOutput {
		err = session.Wait()
	}
	return strings.TrimSpace(string(said)), err
}

// Close ends the connection. Who still asks for it gets none.
func (l *Line) Close() {
	l.over.Store(true)
	l.line.Close()
}

// connected gives the connection, and makes it where there is none.
func (l *Line) connected(ctx context.Context) (*ssh.Client, error) {
	client, _, err := l.line.Conn(ctx)
	if l.over.Load() {
		l.line.Close() // it may have been made since
		return nil, fault.Transient(nil, "host-away", "", "the site of the host %s was changed or removed meanwhile", l.to.Host)
	}
	return client, err
}

// enter makes the connection.
func (l *Line) enter(ctx context.Context) (*ssh.Client, error) {
	if l.over.Load() {
		return nil, errors.New("it is closed")
	}
	client, err := enter(ctx, l.key, l.route)
	if err == nil {
		go l.watch(client)
	}
	return client, err
}

// watch drops a connection that does not answer any more, so that the next request makes
// another.
func (l *Line) watch(client *ssh.Client) {
	ended := make(chan struct{})
	go func() {
		_ = client.Wait() // whatever ended it
		close(ended)
	}()
	for {
		select {
		case <-ended:
			l.line.Drop(client)
			return
		case <-time.After(aliveEvery):
		}
		late := time.AfterFunc(aliveLimit, func() { client.Close() })
		_, _, _ = client.SendRequest("keepalive@openssh.com", true, nil) // refused is an answer as well
		late.Stop()
	}
}
