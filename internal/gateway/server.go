// Package gateway is the service's SSH server. It knows who a person is by the key, which
// workspace is meant by the user name, opens an SSH connection to that workspace's agent,
// and splices channels and requests both ways without understanding them.
package gateway

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"domicile/internal/fault"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agentlink"
	"domicile/internal/connection"
	"domicile/internal/hostkeys"
	"domicile/internal/listen"
	"domicile/internal/records"
	"domicile/internal/visible"
)

// handshakeLimit bounds the time until a person has proved who it is.
const handshakeLimit = 30 * time.Second

// Directory is what the gateway asks about people and workspaces.
type Directory interface {
	KeyByFingerprint(ctx context.Context, fingerprint string) (records.Key, error)
	WorkspaceByName(ctx context.Context, account int64, name string) (records.Workspace, error)
	Workspaces(ctx context.Context, account int64) ([]records.Workspace, error)
	Touch(ctx context.Context, id int64) error
	// Ended returns those credentials that no longer count.
	Ended(ctx context.Context, credentials []records.Credential) ([]records.Credential, error)
	// InvitationTo finds an account's invitation into a workspace of somebody else.
	InvitationTo(ctx context.Context, account int64, workspace, owner string) (records.Invitation, error)
	Workspace(ctx context.Context, id int64) (records.Workspace, error)
	// GuestCame notes that a guest has come in, and from where.
	GuestCame(ctx context.Context, workspace, account int64, from string) error
	// Over tells which visits have no invitation any more.
	Over(ctx context.Context, visits []records.Visit) ([]records.Visit, error)
	// Typists says who else than the owner may type in workspaces.
	Typists(ctx context.Context, workspaces []int64) ([]records.Typists, error)
}

// Reacher opens connections to agents.
type Reacher interface {
	Reach(ctx context.Context, w records.Workspace) (*agentlink.Link, error)
	// ReachAs opens one whose programs run as another user of the container; "": as the person.
	ReachAs(ctx context.Context, w records.Workspace, user string) (*agentlink.Link, error)
}

// Server is the gateway.
type Server struct {
	Directory Directory
	Reacher   Reacher
	HostKeys  func() hostkeys.Set
	Log       *slog.Logger
	// Attached is called when somebody connects to a workspace; nil: nothing is.
	Attached func(w records.Workspace)

	mu       sync.Mutex
	open     connections
	visits   map[records.Visit]map[*func()]bool // how the connections of guests are ended
	unproven listen.Newcomers
	outward  outward
}

// Serve serves connections until ctx ends.
func (s *Server) Serve(ctx context.Context, listener net.Listener) error {
	ctx, cancel := context.WithCancel(ctx)
	s.unproven.Total, s.unproven.ByPrefix, s.unproven.ByTrusted = maxNewcomers, maxNewcomersByPrefix, maxNewcomersByTrusted
	context.AfterFunc(ctx, func() { listener.Close() })
	var open sync.WaitGroup
	defer open.Wait()
	defer cancel() // before the wait
	open.Go(func() { s.watch(ctx) })
	for {
		conn, err := listener.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("accept an SSH connection: %w", err)
		}
		proven, ok := s.unproven.Admit(conn)
		if !ok {
			conn.Close()
			continue
		}
		open.Go(func() {
			defer proven()
			s.serveKey(ctx, conn, proven)
		})
	}
}

const accountExtension = "account@domicile"

// serveKey serves a connection whose person proves itself by a key.
func (s *Server) serveKey(ctx context.Context, conn net.Conn, proven func()) {
	config, early := s.config(), &early{}
	config.PreAuthConnCallback = early.is
	config.PublicKeyCallback = func(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		fingerprint := ssh.FingerprintSHA256(key)
		known, err := s.Directory.KeyByFingerprint(ctx, fingerprint)
		if err != nil {
			if !errors.Is(err, records.ErrNotFound) {
				s.Log.Warn("look for a key", "error", err)
			} else if !s.unproven.Trusts(meta.RemoteAddr()) { // who has several keys knows which one counts
				early.say("The key " + fingerprint + " is not known here. To add it: domicile keys add, or the page You of the console.")
			}
			return nil, errors.New("no account has this key")
		}
		return &ssh.Permissions{Extensions: map[string]string{accountExtension: strconv.FormatInt(known.Account, 10)}}, nil
	}
	var found Visit
	var wrong error
	config.VerifiedPublicKeyCallback = func(meta ssh.ConnMetadata, key ssh.PublicKey, permissions *ssh.Permissions, _ string) (*ssh.Permissions, error) {
		account, err := strconv.ParseInt(permissions.Extensions[accountExtension], 10, 64)
		if err != nil {
			return nil, err
		}
		s.unproven.Trust(meta.RemoteAddr())
		if found, wrong = s.destination(ctx, account, meta.User()); wrong != nil && meta.User() == onwardUser {
			wrong = errOnward
		} else if wrong != nil {
			early.say(explain(wrong))
		}
		found.By = records.Credential{Account: account, Key: ssh.FingerprintSHA256(key)}
		return permissions, nil
	}
	s.serve(ctx, conn, config, early, func() (Visit, error) {
		proven()
		return found, wrong
	})
}

// ServeTunnel serves an SSH connection on a stream of which it is known already who comes where. The
// client may give any user name and no proof.
func (s *Server) ServeTunnel(ctx context.Context, conn net.Conn, v Visit) {
	config, early := s.config(), &early{}
	config.PreAuthConnCallback = early.is
	config.NoClientAuth = true
	config.NoClientAuthCallback = func(ssh.ConnMetadata) (*ssh.Permissions, error) {
		if err := usable(v.Workspace); err != nil {
			early.say(explain(err))
		}
		return &ssh.Permissions{}, nil
	}
	s.serve(ctx, conn, config, early, func() (Visit, error) { return v, usable(v.Workspace) })
}

// early is a connection that has not proved itself yet. OpenSSH's client shows what is said
// to it then, also where it opens no session and would learn it no other way.
type early struct {
	conn ssh.ServerPreAuthConn
	told bool
}

func (e *early) is(conn ssh.ServerPreAuthConn) { e.conn = conn }

// openSSHs is how OpenSSH's clients greet.
const openSSHs = "SSH-2.0-OpenSSH_"

// say says a sentence, once. Other clients show it to nobody.
func (e *early) say(text string) {
	if e.told || e.conn == nil || !strings.HasPrefix(string(e.conn.ClientVersion()), openSSHs) {
		return
	}
	e.told = e.conn.SendAuthBanner(text+"\r\n") == nil
}

func (s *Server) config() *ssh.ServerConfig { return &ssh.ServerConfig{} }

func (s *Server) serve(ctx context.Context, conn net.Conn, config *ssh.ServerConfig, early *early, find func() (Visit, error)) {
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	_ = conn.SetDeadline(time.Now().Add(handshakeLimit))
	greeted, client, kinds, err := begin(conn, config)
	if err != nil {
		s.Log.Debug("ssh greeting", "from", conn.RemoteAddr(), "error", err)
		return
	}
	keys := s.HostKeys()
	openSSH := strings.HasPrefix(client, openSSHs)
	config.AddHostKey(keys.Present)
	if openSSH { // others may take a certificate and know nothing of authorities
		config.AddHostKey(keys.Certified)
	}
	// Who knows the service by its Ed25519 key must not be shown another kind because it prefers that.
	if len(kinds) > 0 && !slices.Contains(kinds, ssh.KeyAlgoED25519) && !slices.Contains(kinds, ssh.CertAlgoED25519v01) {
		for _, other := range keys.Others {
			config.AddHostKey(other.Plain)
			if openSSH {
				config.AddHostKey(other.Certified)
			}
		}
	}
	c, channels, requests, err := ssh.NewServerConn(greeted, config)
	if err != nil {
		s.Log.Debug("ssh handshake", "from", conn.RemoteAddr(), "error", err)
		return
	}
	defer c.Close()
	_ = conn.SetDeadline(time.Time{})
	person := connection.OverSSH(c, channels, requests)
	person.Requests = proving(c, keys, person.Requests)
	if openSSH {
		announceKeys(c, keys.Announced())
	}
	w, err := find()
	if errors.Is(err, errOnward) {
		s.serveOnward(ctx, w.By, c, person)
		return
	}
	var link *agentlink.Link
	if err == nil {
		link, err = s.Reacher.ReachAs(ctx, w.Workspace, w.User)
	}
	if err != nil {
		opened := make(chan struct{})
		go refuse(person.Channels, person.Requests, explain(err), sync.OnceFunc(func() { close(opened) }))
		patience := farewellLimit
		if early.told { // one that opens nothing has only forwards, and knows why by now
			patience = silentLimit
		}
		farewell(c, opened, patience)
		return
	}
	defer link.Close()
	link.From(conn.RemoteAddr().String(), conn.LocalAddr().String())
	if err := s.Directory.Touch(ctx, w.ID); err != nil {
		s.Log.Warn("note the use of a workspace", "error", err)
	}
	leave, err := s.Arrive(ctx, w, conn.RemoteAddr().String(), func() { c.Close() })
	if err != nil {
		s.Log.Warn("let somebody in", "workspace", w.Name, "error", err)
		go refuse(person.Channels, person.Requests, explain(err), func() {})
		farewell(c, make(chan struct{}), silentLimit)
		return
	}
	defer leave()
	s.Log.Info("connected", "workspace", w.Name, "user", w.User, "guest", w.Guest(), "from", conn.RemoteAddr().String())
	person.Channels = s.onward(ctx, w.By, c, person.Channels)
	if w.Guest() {
		person = s.asGuest(person)
	} else {
		link.Channels = s.beforeGuests(ctx, w.Workspace, link.Channels)
	}
	couple(person, link.Peer)
}

// destination finds what a user name stands for.
func (s *Server) destination(ctx context.Context, account int64, name string) (v Visit, err error) {
	name, user, err := SplitUser(name)
	if err != nil {
		return v, err
	}
	if _, _, guest := SplitOwner(name); guest {
		return s.invited(ctx, records.Credential{Account: account}, name, user)
	}
	w, err := s.find(ctx, account, name)
	return Visit{Workspace: w, User: user}, err
}

// find finds the person's workspace and tells why it cannot be used.
func (s *Server) find(ctx context.Context, account int64, name string) (records.Workspace, error) {
	w, err := s.Directory.WorkspaceByName(ctx, account, name)
	if err == nil && w.Hidden() { // nobody gets into it
		err = records.ErrNotFound
	}
	if !errors.Is(err, records.ErrNotFound) {
		if err == nil {
			err = usable(w)
		}
		return w, err
	}
	if of, part, dotted := strings.Cut(name, "."); dotted {
		if _, err := s.Directory.WorkspaceByName(ctx, account, of); err == nil {
			return w, sentence("%s is not a helper of %s. A service of the workspace is reached by its ports: domicile forward %s %s:PORT; what it prints: domicile services %s log %s", part, of, of, part, of, part)
		}
	}
	list, err := s.Directory.Workspaces(ctx, account)
	if err != nil {
		return w, err
	}
	names := make([]string, len(list))
	for i, other := range list {
		names[i] = other.Name
	}
	yours := "You have none yet."
	if len(names) > 0 {
		yours = "Yours: " + strings.Join(names, ", ") + "."
	}
	return w, sentence("You have no workspace %q. %s To make one: domicile provision -name %s SOURCE", name, yours, name)
}

// usable tells why a workspace cannot be connected to, and what to do.
func usable(w records.Workspace) error {
	switch w.State {
	case records.Ready:
		return nil
	case records.Stopped:
		return sentence("The workspace %s is stopped. To start it: domicile start %s", w.Name, w.Name)
	case records.Failed:
		return sentence("The workspace %s could not be made or started: %s\r\nWhat it printed: domicile log %s", w.Name, w.Reason, w.Name)
	case records.Lost:
		return sentence("The workspace %s cannot be reached: %s", w.Name, w.Reason)
	}
	return sentence("The workspace %s is %s. To watch it: domicile follow %s", w.Name, w.State, w.Name)
}

// refusal is an error that is meant for the person.
type refusal struct{ text string }

func (r refusal) Error() string { return r.text }

func sentence(format string, args ...any) error {
	return refusal{visible.Text(fmt.Sprintf(format, args...))} // reasons have the words of definitions in them
}

func explain(err error) string {
	var r refusal
	text, is := told(err)
	switch {
	case errors.As(err, &r):
		return r.text
	case is:
		return text
	case records.Unavailable(err):
		return "Domicile's database does not answer just now. Try again in a moment."
	}
	text = "The workspace cannot be reached: " + visible.Text(err.Error())
	if remedy := fault.Remedy(err); remedy != "" {
		text += ". " + visible.Text(fault.ToDo(remedy))
	}
	return text
}

const (
	// farewellLimit is how long a client that was refused may stay.
	farewellLimit = 10 * time.Second
	// silentLimit is how long one may that was told and opens nothing.
	silentLimit = time.Second
)

// farewell lets the client read the reason and go by itself.
func farewell(c *ssh.ServerConn, opened <-chan struct{}, patience time.Duration) {
	gone := make(chan struct{})
	go func() {
		_ = c.Wait()
		close(gone)
	}()
	select {
	case <-gone:
		return
	case <-time.After(patience):
		return
	case <-opened:
	}
	select {
	case <-gone:
	case <-time.After(farewellLimit):
	}
}

// refuse tells the reason to whatever the client opens, until the connection ends. A session
// is told too where it was said before: who asked for quiet has not seen that.
func refuse(channels iter.Seq[connection.NewChannel], requests connection.Requests, text string, opened func()) {
	go connection.Discard(requests)
	for c := range channels {
		opened()
		if c.ChannelType() == "session" {
			go tell(c, text)
		} else {
			_ = c.Reject(ssh.ConnectionFailed, text)
		}
	}
}

// tell answers a session's shell, command or subsystem with a sentence and exit status 255,
// as SSH clients do where there is no connection.
func tell(c connection.NewChannel, text string) {
	channel, requests, err := c.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	for r := range requests {
		begins := r.Type == "shell" || r.Type == "exec" || r.Type == "subsystem"
		if r.WantReply {
			_ = r.Reply(true, nil)
		}
		if begins {
			fmt.Fprintf(channel.Stderr(), "%s\r\n", text)
			_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{255}))
			return
		}
	}
}
