package agent

import (
	"context"
	"domicile/internal/agent/listening"
	"domicile/internal/listen"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"

	"domicile/internal/connection"
	"domicile/internal/splice"

	"golang.org/x/crypto/ssh"
)

// The payloads of RFC 4254, sections 7.1 and 7.2, and of OpenSSH's PROTOCOL, 2.4.
type (
	tcpTarget struct {
		Host       string
		Port       uint32
		OriginHost string
		OriginPort uint32
	}
	unixTarget struct {
		Path     string
		Reserved string
		Unused   uint32
	}
	tcpBind struct {
		Host string
		Port uint32
	}
	unixBind struct{ Path string }
)

// address is what the request dials, from inside the instance, so that a program that listens only on
// loopback is reached. The message is what is wrong with it.
func (t *tcpTarget) address(extra []byte) (address, wrong string) {
	if ssh.Unmarshal(extra, t) != nil || t.Port > 65535 {
		return "", "the request names no host and port"
	}
	return net.JoinHostPort(t.Host, strconv.Itoa(int(t.Port))), ""
}

func (s *Server) directTCP(ctx context.Context, new connection.NewChannel) {
	var t tcpTarget
	address, wrong := t.address(new.ExtraData())
	if wrong != "" {
		_ = new.Reject(ssh.ConnectionFailed, wrong)
		return
	}
	conn, err := dialInside(ctx, address)
	s.joined(new, conn, err, address)
}

// dialInside dials an address from inside. A port of the loopback at which nothing answers is looked for where a
// program listens: some bind the container's own address, or another one of the loopback.
func dialInside(ctx context.Context, address string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err == nil || !errors.Is(err, syscall.ECONNREFUSED) {
		return conn, err
	}
	host, port, splitErr := net.SplitHostPort(address)
	ip, ipErr := netip.ParseAddr(host)
	if splitErr != nil || host != "localhost" && (ipErr != nil || !ip.Unmap().IsLoopback()) {
		return nil, err
	}
	sockets, lookErr := listening.Sockets(listening.TCP)
	if lookErr != nil {
		return nil, err
	}
	for _, s := range sockets {
		if strconv.Itoa(int(s.Address.Port())) != port || s.Address.Addr().IsUnspecified() {
			continue
		}
		if conn, dialErr := (&net.Dialer{}).DialContext(ctx, "tcp", s.Address.String()); dialErr == nil {
			return conn, nil
		}
	}
	return nil, err
}

func (s *Server) directUnix(v *visitor, new connection.NewChannel) {
	var t unixTarget
	if ssh.Unmarshal(new.ExtraData(), &t) != nil {
		_ = new.Reject(ssh.ConnectionFailed, "the request names no socket")
		return
	}
	person, _, err := v.who(s)
	if err != nil {
		_ = new.Reject(ssh.ResourceShortage, err.Error())
		return
	}
	conn, err := dialUnixAs(person.account, t.Path)
	s.joined(new, conn, err, t.Path)
}

// joined joins a channel to what was dialled for it.
func (s *Server) joined(new connection.NewChannel, conn net.Conn, err error, address string) {
	if err != nil {
		_ = new.Reject(ssh.ConnectionFailed, nothingAnswers(address, err))
		return
	}
	channel, requests, err := new.Accept()
	if err != nil {
		conn.Close()
		return
	}
	go connection.Discard(requests)
	join(channel, conn)
}

func nothingAnswers(address string, err error) string {
	return fmt.Sprintf("nothing answers at %s inside the workspace: %v", address, err)
}

// halfCloser is a stream whose two directions end apart.
type halfCloser interface {
	io.ReadWriteCloser
	CloseWrite() error
}

// join copies both ways. The end of one direction is passed on while the other goes on.
func join(channel connection.Channel, conn net.Conn) {
	defer channel.Close()
	defer conn.Close()
	var both sync.WaitGroup
	both.Go(func() { oneWay(channel, conn) })
	both.Go(func() {
		if half, ok := conn.(halfCloser); ok {
			oneWay(half, channel)
		}
	})
	both.Wait()
}

func oneWay(to halfCloser, from io.Reader) {
	_ = splice.Copy(to, from)
	_ = to.CloseWrite()
}

// forwards are the listeners that one connection has asked for.
type forwards struct {
	conn connection.Conn
	use  *use // nil: what goes through does not count
	// person is with whose rights sockets are made.
	person func() (*person, error)
	mu     sync.Mutex
	open   map[string]net.Listener
}

func (f *forwards) request(r *connection.Request) {
	var tcp tcpBind
	var unix unixBind
	switch r.Type {
	case "tcpip-forward":
		if ssh.Unmarshal(r.Payload, &tcp) == nil {
			f.listenTCP(r, tcp)
			return
		}
	case "cancel-tcpip-forward":
		if ssh.Unmarshal(r.Payload, &tcp) == nil {
			_ = r.Reply(f.close(net.JoinHostPort(tcp.Host, strconv.Itoa(int(tcp.Port)))), nil)
			return
		}
	case "streamlocal-forward@openssh.com":
		if ssh.Unmarshal(r.Payload, &unix) == nil {
			f.listenUnix(r, unix)
			return
		}
	case "cancel-streamlocal-forward@openssh.com":
		if ssh.Unmarshal(r.Payload, &unix) == nil {
			_ = r.Reply(f.close(unix.Path), nil)
			return
		}
	}
	_ = r.Reply(false, nil)
}

// listenTCP listens on loopback: what comes from the person's machine is for the person's
// own programs inside, not for the network the workspace is on.
func (f *forwards) listenTCP(r *connection.Request, bind tcpBind) {
	listener, err := listenLoopback(bind)
	if err != nil {
		_ = r.Reply(false, nil)
		return
	}
	port := uint32(listener.Addr().(*net.TCPAddr).Port)
	f.keep(net.JoinHostPort(bind.Host, strconv.Itoa(int(port))), listener)
	var answer []byte
	if bind.Port == 0 {
		answer = ssh.Marshal(struct{ Port uint32 }{port})
	}
	_ = r.Reply(true, answer)
	go f.accept(listener, "forwarded-tcpip", func(conn net.Conn) []byte {
		origin, _ := conn.RemoteAddr().(*net.TCPAddr)
		return ssh.Marshal(tcpTarget{bind.Host, port, origin.IP.String(), uint32(origin.Port)})
	})
}

// listenLoopback listens where the client asks: on 127.0.0.1, on ::1, or on both, where it
// says localhost or all.
func listenLoopback(bind tcpBind) (net.Listener, error) {
	port := strconv.Itoa(int(bind.Port))
	switch bind.Host {
	case "127.0.0.1", "0.0.0.0":
		return net.Listen("tcp", net.JoinHostPort("127.0.0.1", port))
	case "::1", "::":
		return net.Listen("tcp", net.JoinHostPort("::1", port))
	}
	first, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", port))
	if err != nil {
		return nil, err
	}
	_, port, _ = net.SplitHostPort(first.Addr().String())
	second, err := net.Listen("tcp", net.JoinHostPort("::1", port))
	if err != nil {
		return first, nil // a workspace without it, or a program that has it: the other one answers
	}
	return &twoListeners{Listener: first, second: second}, nil
}

// twoListeners are one listener on two addresses.
type twoListeners struct {
	net.Listener
	second net.Listener
	once   sync.Once
	conns  chan accepted
}

type accepted struct {
	conn net.Conn
	err  error
}

// Accept gives the next connection of either.
func (l *twoListeners) Accept() (net.Conn, error) {
	l.once.Do(func() {
		l.conns = make(chan accepted)
		for _, from := range []net.Listener{listen.Patient(l.Listener), listen.Patient(l.second)} {
			go func() {
				for {
					conn, err := from.Accept()
					l.conns <- accepted{conn, err}
					if err != nil {
						return
					}
				}
			}()
		}
	})
	a := <-l.conns
	if a.err != nil {
		go func() { // the other one ends with it
			for a := range l.conns {
				if a.err != nil {
					return
				}
				a.conn.Close()
			}
		}()
	}
	return a.conn, a.err
}

// Close closes both.
func (l *twoListeners) Close() error { return errors.Join(l.Listener.Close(), l.second.Close()) }

func (f *forwards) listenUnix(r *connection.Request, bind unixBind) {
	person, err := f.person()
	if err != nil {
		_ = r.Reply(false, nil)
		return
	}
	listener, err := listenUnixAs(person.account, bind.Path)
	if err != nil {
		_ = r.Reply(false, nil)
		return
	}
	f.keep(bind.Path, listener)
	_ = r.Reply(true, nil)
	go f.accept(listener, "forwarded-streamlocal@openssh.com", func(net.Conn) []byte {
		return ssh.Marshal(struct{ Path, Reserved string }{bind.Path, ""})
	})
}

func (f *forwards) accept(listener net.Listener, channelType string, extra func(net.Conn) []byte) {
	listener = listen.Patient(listener)
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		go func() {
			channel, requests, err := f.conn.OpenChannel(channelType, extra(conn))
			if err != nil {
				conn.Close()
				return
			}
			go connection.Discard(requests)
			join(f.use.counted(channel), conn)
		}()
	}
}

func (f *forwards) keep(key string, listener net.Listener) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.open[key] = listener
}

func (f *forwards) close(key string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	listener, ok := f.open[key]
	if ok {
		listener.Close()
		delete(f.open, key)
	}
	return ok
}

func (f *forwards) closeAll() {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, listener := range f.open {
		listener.Close()
	}
}

// ownFolder makes a folder for a while with a user's rights, for that user alone. It is gone with ctx.
func ownFolder(ctx context.Context, owner *account, prefix string) (string, error) {
	folder, err := asUser(owner, func() (string, error) { return os.MkdirTemp("", prefix) })
	if err == nil {
		context.AfterFunc(ctx, func() {
			_, _ = asUser(owner, func() (struct{}, error) { return struct{}{}, os.RemoveAll(folder) }) // it may be gone
		})
	}
	return folder, err
}

// forwardAgent makes a socket inside through which the person's own key agent answers.
// It is gone with ctx.
func forwardAgent(ctx context.Context, conn connection.Conn, owner *account) (string, error) {
	folder, err := ownFolder(ctx, owner, "domicile-ssh-")
	if err != nil {
		return "", err
	}
	path := filepath.Join(folder, "agent")
	listener, err := listenUnixAs(owner, path)
	if err != nil {
		return "", err
	}
	context.AfterFunc(ctx, func() { listener.Close() })
	f := &forwards{conn: conn} // a key that is asked for is no use by itself
	go f.accept(listener, "auth-agent@openssh.com", func(net.Conn) []byte { return nil })
	return path, nil
}

func dialUnix(path string) (*net.UnixConn, error) {
	return net.DialUnix("unix", nil, &net.UnixAddr{Name: path, Net: "unix"})
}
