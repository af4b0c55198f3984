package gateway

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"net"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"domicile/internal/connection"
	"domicile/internal/records"
	"domicile/internal/splice"
)

// Through the gateway one goes on to another workspace, helper or service by an address: a
// connection that asks for NAME.domicile is not led into the workspace that it was made to, where
// nobody knows that name. At port 22 there is SSH in the workspace itself (ssh -J, ssh -W), at
// others what listens inside. The person has proved already who it is.
const addresses = ".domicile"

// onwardUser is who only goes on: "ssh -J domicile@SERVICE NAME.domicile".
const onwardUser = "domicile"

// errOnward is that somebody comes who only goes on.
var errOnward = errors.New("only goes on")

// sshPort is where an SSH client expects a server.
const sshPort = 22

// mostOnward is how many connections may go on through one.
const mostOnward = 64

// direct is the target of a direct-tcpip channel (RFC 4254, section 7.2).
type direct struct {
	Host       string
	Port       uint32
	OriginHost string
	OriginPort uint32
}

// onward takes those channels that go on to another of the account's workspaces; others come out of
// what it returns.
func (s *Server) onward(ctx context.Context, by records.Credential, c ssh.Conn, channels iter.Seq[connection.NewChannel]) iter.Seq[connection.NewChannel] {
	room := make(chan struct{}, mostOnward)
	return func(yield func(connection.NewChannel) bool) {
		for n := range channels {
			var to direct
			if n.ChannelType() != "direct-tcpip" || ssh.Unmarshal(n.ExtraData(), &to) != nil || !strings.HasSuffix(to.Host, addresses) {
				if !yield(n) {
					return
				}
				continue
			}
			select {
			case room <- struct{}{}:
				go func() {
					defer func() { <-room }()
					s.goOn(ctx, by, c, n, to)
				}()
			default:
				_ = n.Reject(ssh.ResourceShortage, fmt.Sprintf("%d connections go on through this one already", mostOnward))
			}
		}
	}
}

// goOn joins a channel to where it goes.
func (s *Server) goOn(ctx context.Context, by records.Credential, c ssh.Conn, n connection.NewChannel, to direct) {
	name, user, err := SplitUser(strings.TrimSuffix(to.Host, addresses))
	var v Visit
	var service string
	if err == nil {
		v, service, err = s.addressed(ctx, by, name, user)
	}
	if err != nil {
		_ = n.Reject(ssh.ConnectionFailed, explain(err))
		return
	}
	if to.Port != sshPort || service != "" {
		if err := s.goInto(ctx, v, n, c.RemoteAddr().String(), service, to.Port); err != nil {
			_ = n.Reject(ssh.ConnectionFailed, explain(err))
		}
		return
	}
	channel, requests, err := n.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	go connection.Discard(requests)
	near, far := net.Pipe() // which has deadlines
	defer far.Close()
	go func() {
		splice.Both(far, channel)
		far.Close()
		channel.Close()
	}()
	s.ServeTunnel(ctx, through{near, c}, v)
}

// through is a stream inside a connection, and comes from where that does.
type through struct {
	net.Conn
	outer ssh.Conn
}

// LocalAddr and RemoteAddr are those of the connection around it.
func (t through) LocalAddr() net.Addr  { return t.outer.LocalAddr() }
func (t through) RemoteAddr() net.Addr { return t.outer.RemoteAddr() }

// addressed finds what an address means: a workspace, a helper as "mate.fares", or another service
// of a workspace as "db.fares"; or, for a guest, "fares~skipper" and "db.fares~skipper".
func (s *Server) addressed(ctx context.Context, by records.Credential, name, user string) (v Visit, service string, err error) {
	if workspace, owner, guest := SplitOwner(name); guest {
		if part, of, dotted := strings.Cut(workspace, "."); dotted {
			service, workspace = part, of
		}
		v, err = s.invited(ctx, by, workspace+ofOwner+owner, user)
		return v, service, err
	}
	w, service, err := s.addressedOwn(ctx, by.Account, name)
	return Visit{Workspace: w, By: by, User: user}, service, err
}

func (s *Server) addressedOwn(ctx context.Context, account int64, name string) (w records.Workspace, service string, err error) {
	part, of, dotted := strings.Cut(name, ".")
	if !dotted {
		w, err = s.find(ctx, account, name)
		return w, "", err
	}
	w, err = s.Directory.WorkspaceByName(ctx, account, of+"."+part)
	if err == nil && !w.Hidden() {
		return w, "", usable(w)
	}
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return w, "", err
	}
	w, err = s.find(ctx, account, of)
	return w, part, err
}

// goInto joins a channel to a port inside a workspace, or of a service beside it.
func (s *Server) goInto(ctx context.Context, v Visit, n connection.NewChannel, from, service string, port uint32) error {
	if err := usable(v.Workspace); err != nil {
		return err
	}
	link, err := s.Reacher.Reach(ctx, v.Workspace)
	if err != nil {
		return err
	}
	defer link.Close()
	link.Quiet()
	host := service
	if host == "" {
		host = "localhost"
	}
	far, farRequests, err := link.Conn.OpenChannel("direct-tcpip", ssh.Marshal(direct{Host: host, Port: port, OriginHost: "127.0.0.1"}))
	var refused *ssh.OpenChannelError
	if errors.As(err, &refused) {
		return sentence("%s", refused.Message)
	}
	if err != nil {
		return fmt.Errorf("reach %s: %w", net.JoinHostPort(host, strconv.Itoa(int(port))), err)
	}
	defer far.Close()
	go connection.Discard(farRequests)
	near, requests, err := n.Accept()
	if err != nil {
		return nil // the person is gone
	}
	defer near.Close()
	go connection.Discard(requests)
	leave, err := s.Arrive(ctx, v, from, func() { near.Close() })
	if err != nil {
		return nil // it is over, and the channel is open already
	}
	defer leave()
	splice.Both(near, far)
	return nil
}

// serveOnward serves a connection that only goes on.
func (s *Server) serveOnward(ctx context.Context, by records.Credential, c *ssh.ServerConn, person connection.Peer) {
	closed, err := s.Opened(by, func() { c.Close() })
	if err != nil {
		return
	}
	defer closed()
	go refuse(s.onward(ctx, by, c, person.Channels), person.Requests, "Here one only goes on: ssh -J "+onwardUser+"@… NAME"+addresses+", where NAME is one of your workspaces.", func() {})
	_ = c.Wait()
}
