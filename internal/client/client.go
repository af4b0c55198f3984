// Package client is the typed client of the service's HTTP interface. Requests and
// answers are generated from api/openapi.yaml; here stand errors that a person can read,
// the stream of events, and connections into workspaces.
package client

import (
	"bufio"
	"context"
	"crypto/rand"
	"domicile/internal/visible"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gorilla/websocket"
	"golang.org/x/crypto/ssh"

	"domicile/internal/fault"
	"domicile/internal/longstream"
	"domicile/internal/wsconn"
)

// Service is a service that a person is signed in to.
type Service struct {
	*Client
	URL   string // such as http://127.0.0.1:4380
	token string
}

// Open makes a client. Nothing is asked yet.
func Open(server, token string) (*Service, error) {
	u, err := url.Parse(server)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
		return nil, fault.New("bad-server", "give it as http://host:port or https://host", "%q is no service's address", server)
	}
	server = strings.TrimRight(server, "/")
	c, err := NewClient(server+"/api/v1", WithHTTPClient(&http.Client{CheckRedirect: neverFollow}), WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		return nil
	}))
	return &Service{Client: c, URL: server, token: token}, err
}

// neverFollow keeps credentials from going where an answer says: the service redirects nobody.
func neverFollow(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// IsPrivate reports whether what is sent to a service cannot be read on the way: over TLS, or to this machine.
func IsPrivate(server string) bool {
	u, err := url.Parse(server)
	if err != nil {
		return false
	}
	ip, err := netip.ParseAddr(u.Hostname())
	local := u.Hostname() == "localhost" || strings.HasSuffix(u.Hostname(), ".localhost") || err == nil && ip.Unmap().IsLoopback()
	return u.Scheme == "https" || local
}

// Answer reads an answer, or the problem that came instead of it, as a *fault.Fault.
func Answer[T any](r *http.Response, err error) (T, error) {
	var v T
	if err != nil {
		return v, unreachable(err)
	}
	defer r.Body.Close()
	if r.StatusCode >= 300 && r.StatusCode < 400 {
		return v, fault.New("redirected", "sign in there if you trust it: domicile login -server ADDRESS", "the service at %s sends its clients to %s, and credentials go nowhere else", r.Request.URL.Host, visible.Line(r.Header.Get("Location"), 200))
	}
	if r.StatusCode >= 300 {
		return v, problem(r)
	}
	if r.StatusCode == http.StatusNoContent {
		return v, nil
	}
	if err := json.NewDecoder(r.Body).Decode(&v); err != nil {
		return v, fmt.Errorf("read the service's answer: %w", err)
	}
	return v, nil
}

func unreachable(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	var u *url.Error
	where := ""
	if errors.As(err, &u) {
		if at, parseErr := url.Parse(u.URL); parseErr == nil {
			where = " at " + at.Scheme + "://" + at.Host
		}
		err = u.Err
	}
	return fault.Transient(err, "service-unreachable", "start it (domicile serve), or sign in to another one: domicile login -server URL", "the service%s does not answer", where)
}

func problem(r *http.Response) error {
	var p Problem
	if json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&p) != nil || p.Title == "" {
		return fault.New("bad-answer", "is it a Domicile service?", "%s answered %s", r.Request.URL.Host, r.Status)
	}
	f := fault.New(p.Code, deref(p.Remedy), "%s", p.Title)
	if p.Detail != nil {
		f.Err = errors.New(*p.Detail)
	}
	f.Transient = p.Status == http.StatusServiceUnavailable
	return f
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// Event is a change that the service tells of.
type Event struct {
	Type      string `json:"-"`
	Workspace string `json:"workspace"`
	Run       int64  `json:"run"`
	State     string `json:"state"`
}

// silence is how long a stream of events may say nothing: the service says every 15 s that it is
// still there. A laptop that slept has connections of which nobody else knows any more.
const silence = 40 * time.Second

// Events calls f for each change until ctx ends or the connection breaks. withPorts asks for what
// listens in running workspaces too.
func (s *Service) Events(ctx context.Context, withPorts bool, f func(Event)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	quiet := time.AfterFunc(silence, cancel)
	defer quiet.Stop()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL+"/api/v1/events?ports="+strconv.FormatBool(withPorts), nil)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+s.token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return unreachable(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return problem(answer)
	}
	var e Event
	for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
		quiet.Reset(silence)
		name, value, _ := strings.Cut(lines.Text(), ": ")
		switch name {
		case "event":
			e = Event{Type: value}
		case "data":
			if json.Unmarshal([]byte(value), &e) == nil {
				f(e)
			}
		}
	}
	return unreachable(io.ErrUnexpectedEOF)
}

// socket opens a WebSocket of a workspace.
func (s *Service) socket(ctx context.Context, workspace, what string) (*websocket.Conn, error) {
	address := "ws" + strings.TrimPrefix(s.URL, "http") + "/api/v1/workspaces/" + url.PathEscape(workspace) + "/" + what
	dialer := websocket.Dialer{ReadBufferSize: 32 << 10, WriteBufferSize: 32 << 10, Proxy: http.ProxyFromEnvironment}
	socket, answer, err := dialer.DialContext(ctx, address, http.Header{"Authorization": {"Bearer " + s.token}})
	if err != nil {
		if answer != nil && answer.StatusCode != http.StatusSwitchingProtocols {
			defer answer.Body.Close()
			return nil, problem(answer)
		}
		return nil, unreachable(err)
	}
	return socket, nil
}

// Screen opens a stream of the RFB protocol to a workspace's screen.
func (s *Service) Screen(ctx context.Context, workspace string) (net.Conn, error) {
	socket, err := s.socket(ctx, workspace, "screen")
	if err != nil {
		return nil, err
	}
	return wsconn.New(socket), nil
}

// stream opens a stream to SSH in a workspace, whose person is known by the token.
func (s *Service) stream(ctx context.Context, workspace string) (net.Conn, error) {
	socket, err := s.socket(ctx, workspace, "ssh")
	if err != nil {
		return nil, err
	}
	return wsconn.New(socket), nil
}

// LongStream opens a stream to SSH in a workspace that goes on after its connection broke, as long as
// another one can be made within two minutes.
func (s *Service) LongStream(ctx context.Context, workspace string) (io.ReadWriteCloser, error) {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // never fails
	what := "ssh?stream=" + hex.EncodeToString(b)
	again := ""
	return longstream.Dial(ctx, func(ctx context.Context) (net.Conn, error) {
		socket, err := s.socket(ctx, workspace, what+again)
		if err != nil {
			return nil, err
		}
		again = "&again=true"
		return wsconn.New(socket), nil
	}, func(err error) bool { return !fault.IsTransient(err) })
}

// sshLimit is how long an SSH connection may take to stand: what is between may have died meanwhile,
// and says nothing.
const sshLimit = 30 * time.Second

// SSH opens an SSH connection to a workspace through the service's HTTP address.
func (s *Service) SSH(ctx context.Context, workspace string) (*ssh.Client, error) {
	return s.sshOver(ctx, workspace, s.stream)
}

// LongSSH is SSH on a stream that outlives its connections (LongStream), for what stays open for long.
func (s *Service) LongSSH(ctx context.Context, workspace string) (*ssh.Client, error) {
	return s.sshOver(ctx, workspace, func(ctx context.Context, workspace string) (net.Conn, error) {
		stream, err := s.LongStream(context.WithoutCancel(ctx), workspace)
		if err != nil {
			return nil, err
		}
		return streamConn{stream}, nil
	})
}

// streamConn is a long stream as a connection. It has no deadlines: the stream gives up by itself.
type streamConn struct{ io.ReadWriteCloser }

// LocalAddr and RemoteAddr name no place: the connections below change.
func (streamConn) LocalAddr() net.Addr              { return &net.TCPAddr{} }
func (streamConn) RemoteAddr() net.Addr             { return &net.TCPAddr{} }
func (streamConn) SetDeadline(time.Time) error      { return nil }
func (streamConn) SetReadDeadline(time.Time) error  { return nil }
func (streamConn) SetWriteDeadline(time.Time) error { return nil }

func (s *Service) sshOver(ctx context.Context, workspace string, open func(context.Context, string) (net.Conn, error)) (*ssh.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, sshLimit)
	defer cancel()
	version, err := Answer[Version](s.GetVersion(ctx))
	if err != nil {
		return nil, err
	}
	hostKey, _, _, _, err := ssh.ParseAuthorizedKey([]byte(version.HostKey))
	if err != nil {
		return nil, fmt.Errorf("read the service's host key: %w", err)
	}
	stream, err := open(ctx, workspace)
	if err != nil {
		return nil, err
	}
	defer context.AfterFunc(ctx, func() { stream.Close() })()
	config := &ssh.ClientConfig{User: workspace, HostKeyCallback: ssh.FixedHostKey(hostKey), HostKeyAlgorithms: []string{hostKey.Type()}}
	config.Ciphers = []string{ssh.CipherAES128GCM}
	conn, channels, requests, err := ssh.NewClientConn(stream, s.URL, config)
	if err != nil {
		stream.Close()
		return nil, fmt.Errorf("open SSH to %s: %w", workspace, err)
	}
	return ssh.NewClient(conn, channels, requests), nil
}
