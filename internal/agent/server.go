package agent

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"domicile/internal/listen"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
)

// Server is the agent.
type Server struct {
	version string
	log     *slog.Logger
	spawner *spawner
	service ssh.PublicKey     // the service's
	ssh     *ssh.ServerConfig // for the service, where it speaks SSH
	guests  *ssh.ServerConfig // for who comes from the workspace's own network

	mu        sync.Mutex
	person    *person
	terminals map[string]*terminal
	tasks     map[string]*task
	over      []string // the keys of tasks that have ended, the oldest first

	ending atomic.Bool // it ends, and with it all that it started

	doors    doors
	holdings holdings
	use      use
	memory   memory
	keys     atomic.Bool // an usher has offered the person's SSH agent
}

// New makes an agent that knows the service by its public key, as in an authorized_keys
// line: access to the agent's socket alone opens nothing. Its own host key is made anew at
// each start: the stream that it serves is private to the host's root, which is who could
// read a stored key too.
func New(version, serviceKey string, log *slog.Logger) (*Server, error) {
	service, _, _, _, err := ssh.ParseAuthorizedKey([]byte(serviceKey))
	if err != nil {
		return nil, fmt.Errorf("read the service's key: %w", err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader) // the quickest to begin with
	if err != nil {
		return nil, fmt.Errorf("make host key: %w", err)
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return nil, fmt.Errorf("make host key: %w", err)
	}
	s := &Server{version: version, log: log, service: service, spawner: newSpawner(), terminals: map[string]*terminal{}, tasks: map[string]*task{}}
	s.ssh = knowing(signer, func() ssh.PublicKey { return service })
	s.guests = knowing(signer, s.guestKey)
	return s, nil
}

var errUnknownKey = errors.New("this key is not known here")

// knowing lets in who has one key.
func knowing(own ssh.Signer, known func() ssh.PublicKey) *ssh.ServerConfig {
	config := &ssh.ServerConfig{ServerVersion: "SSH-2.0-domicile-agent", PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if k := known(); k == nil || !bytes.Equal(k.Marshal(), key.Marshal()) {
			return nil, errUnknownKey
		}
		return &ssh.Permissions{}, nil
	}}
	config.Ciphers = []string{ssh.CipherAES128GCM}
	config.AddHostKey(own)
	return config
}

// guestKey is whom the service has named as the guest, or nil.
func (s *Server) guestKey() ssh.PublicKey {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.person == nil {
		return nil
	}
	return s.person.guest
}

// Listen opens the socket that only root may enter. A socket that an earlier agent left
// behind is replaced.
func Listen(path string) (net.Listener, error) {
	folder := filepath.Dir(path)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("make the socket's folder: %w", err)
	}
	if err := os.Chmod(folder, 0o700); err != nil {
		return nil, fmt.Errorf("close the socket's folder to others: %w", err)
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("remove the earlier socket: %w", err)
	}
	before := syscall.Umask(0o177)
	defer syscall.Umask(before)
	return net.Listen("unix", path)
}

// Serve serves connections until ctx ends; then it asks all that runs to end, waits a
// little, and returns.
func (s *Server) Serve(ctx context.Context, listener net.Listener) error {
	go s.closeIdleTerminals(ctx)
	go s.use.sample(ctx)
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
	accepting := listen.Patient(listener)
	for {
		conn, err := accepting.Accept()
		if ctx.Err() != nil {
			s.end()
			return nil
		}
		if err != nil {
			return fmt.Errorf("accept: %w", err)
		}
		go s.serveConn(ctx, conn)
	}
}

// end asks all programs to end. As the first process of a container it ends them all with it.
func (s *Server) end() {
	if s.ending.Load() {
		return // the service has asked them already, and those that are left are to be killed
	}
	if names := s.endPrograms(endGrace, os.Getpid() == 1 && self() == wire.AgentPath); len(names) > 0 {
		s.log.Warn("programs did not end on SIGTERM", "programs", strings.Join(names, "; "))
	}
}

func (s *Server) serveConn(ctx context.Context, conn net.Conn) {
	defer conn.Close()
	c, alone, err := s.greet(conn)
	if err != nil {
		s.log.Debug("handshake", "error", err)
		return
	}
	s.memory.changed()
	defer s.memory.changed()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if alone != nil {
		s.alone(ctx, alone)
		return
	}
	v := &visitor{Conn: c.Conn}
	rights := func() (*person, error) {
		p, _, err := v.who(s)
		return p, err
	}
	forwards := &forwards{conn: c.Conn, use: &s.use, person: rights, open: map[string]net.Listener{}}
	defer forwards.closeAll()
	defer s.doors.leave(c.Conn)
	go s.requests(ctx, c.Requests, forwards, v)
	for channel := range c.Channels {
		go s.channel(ctx, v, s.use.watched(channel))
	}
}

// greet finds out who comes. It does so in a passing goroutine, for cryptography takes a large stack, and
// the one that stays is mostly idle.
func (s *Server) greet(conn net.Conn) (c connection.Peer, alone *connection.Alone, err error) {
	_ = conn.SetDeadline(time.Now().Add(proofLimit))
	var met sync.WaitGroup
	met.Go(func() { c, alone, err = connection.Accept(conn, s.ssh, s.service) })
	met.Wait()
	_ = conn.SetDeadline(time.Time{})
	return c, alone, err
}

func (s *Server) channel(ctx context.Context, v *visitor, channel connection.NewChannel) {
	switch channel.ChannelType() {
	case "session":
		s.session(ctx, v, channel)
	case "direct-tcpip":
		s.directTCP(ctx, channel)
	case "direct-streamlocal@openssh.com":
		s.directUnix(v, channel)
	case wire.Task:
		s.task(channel)
	case wire.Listening:
		s.listening(ctx, channel)
	case wire.Unpack:
		s.unpack(channel)
	case wire.Look:
		s.look(ctx, channel)
	default:
		_ = channel.Reject(ssh.UnknownChannelType, "the agent knows no channel of type "+channel.ChannelType())
	}
}

func (s *Server) requests(ctx context.Context, requests connection.Requests, forwards *forwards, v *visitor) {
	for r := range requests {
		switch r.Type {
		case wire.Hello:
			s.hello(r)
		case wire.Configure:
			var c wire.Session
			if err := json.Unmarshal(r.Payload, &c); err != nil {
				reply(r, wire.SessionReply{Error: "cannot read the request: " + err.Error()})
				continue
			}
			p, answer := s.configure(ctx, c)
			if p != nil {
				s.mu.Lock()
				s.person = p
				s.mu.Unlock()
			}
			reply(r, answer)
		case wire.As:
			var q wire.AsRequest
			answer := wire.AsReply{}
			err := json.Unmarshal(r.Payload, &q)
			if err == nil {
				err = v.comesAs(ctx, s, q.User)
			}
			if err != nil {
				answer.Error = err.Error()
			}
			reply(r, answer)
		case wire.From:
			v.comesFrom(r.Payload)
		case wire.Used:
			s.use.now()
		case wire.Terminals:
			reply(r, s.listTerminals())
		case wire.Activity:
			reply(r, s.activity())
		case wire.NoteFiles, wire.RestoreFiles:
			var q wire.FilesRequest
			if err := json.Unmarshal(r.Payload, &q); err != nil {
				_ = r.Reply(false, nil)
				break
			}
			carry := s.noteOnRequest
			if r.Type == wire.RestoreFiles {
				carry = s.restoreOnRequest
			}
			go func() { reply(r, carry(q)) }() // others are served meanwhile
		case wire.End:
			var q wire.EndRequest
			if err := json.Unmarshal(r.Payload, &q); err != nil {
				_ = r.Reply(false, nil)
				break
			}
			go func() { reply(r, s.endOnRequest(q)) }() // others are served meanwhile
		case wire.Tell:
			var m wire.Message
			if err := json.Unmarshal(r.Payload, &m); err == nil {
				s.tell(m.Text)
			}
			reply(r, struct{}{})
		case wire.Helpers:
			var q wire.HelpersRequest
			answer := wire.HelpersReply{}
			err := json.Unmarshal(r.Payload, &q)
			if err == nil {
				err = s.knowHelpers(q)
			}
			if err != nil {
				answer.Error = err.Error()
			}
			reply(r, answer)
		case wire.Door:
			var q wire.DoorRequest
			answer := wire.DoorReply{}
			err := json.Unmarshal(r.Payload, &q)
			if err == nil {
				err = s.doors.hold(v.Conn, door{socket: q.Socket, visit: wire.Visit})
			}
			if err != nil {
				answer.Error = err.Error()
			}
			reply(r, answer)
		case wire.Lend:
			var q wire.LendRequest
			answer := wire.LendReply{}
			err := json.Unmarshal(r.Payload, &q)
			if err == nil {
				err = s.lend(v.Conn, q)
			}
			if err != nil {
				answer.Error = err.Error()
			}
			reply(r, answer)
		case "tcpip-forward", "cancel-tcpip-forward", "streamlocal-forward@openssh.com", "cancel-streamlocal-forward@openssh.com":
			forwards.request(r)
		default:
			_ = r.Reply(false, nil)
		}
	}
}

func (s *Server) hello(r *connection.Request) {
	s.mu.Lock()
	configured := s.person != nil
	s.mu.Unlock()
	answer := wire.HelloReply{Version: s.version, Environment: environment(os.Environ()), Configured: configured}
	if a, err := lookupAccount(""); err == nil {
		answer.User = a.name
	}
	reply(r, answer)
}

func reply(r *connection.Request, answer any) {
	b, err := json.Marshal(answer)
	_ = r.Reply(err == nil, b)
}

// current is how programs run now. Before the service has configured the agent, it is
// the container's own user.
func (s *Server) current() (*person, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.person != nil {
		return s.person, nil
	}
	return nil, errors.New("the workspace is being started; try again in a moment")
}
