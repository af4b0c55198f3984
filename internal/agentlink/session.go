package agentlink

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/credential"
	"domicile/internal/handed"
)

const (
	// handOverLimit bounds how long what is typed waits for a terminal to be handed over.
	handOverLimit = 2 * time.Second
	// handOverAgain is after how long one is asked for again.
	handOverAgain = 5 * time.Second
	never         = 100 * 365 * 24 * time.Hour
	// idleTerminal is after how long without a key and a word a terminal is given back.
	idleTerminal = time.Minute
	// stalledAfter is how long a person's connection may take nothing before the program goes on without it.
	stalledAfter = 10 * time.Second
)

// sessions is a connection whose sessions may get the terminal itself from an agent on this machine.
type sessions struct {
	connection.Conn
	link *Link
}

// OpenChannel opens a channel.
func (s sessions) OpenChannel(kind string, extra []byte) (connection.Channel, connection.Requests, error) {
	channel, requests, err := s.Conn.OpenChannel(kind, extra)
	if err != nil || kind != "session" || s.link.together.Load() {
		return channel, requests, err
	}
	own := &session{Channel: channel, link: s.link}
	own.moved.L = &own.out
	return own, requests, nil
}

// session is a session's channel. Once a person types in a terminal, the service has that itself: a key,
// and what it brings about, do not go through the agent then.
type session struct {
	connection.Channel
	link *Link

	asked sync.Mutex // held while a request is on its way
	isPty bool       // a terminal was asked for
	word  string     // by which the agent knows the session; "": there is no terminal yet

	in       sync.Mutex // held while something is typed
	typed    uint64     // bytes, through the channel
	terminal *handed.Terminal
	next     time.Time // when it may be asked for again
	named    bool      // the agent was told the word

	out   sync.Mutex // held while something is printed
	to    io.Writer  // who prints it; nil: nobody yet
	shown uint64     // bytes, through the channel
	moved sync.Cond  // shown has changed, or ended has
	ended bool       // nothing more is printed
}

// SendRequest asks something of the session.
func (s *session) SendRequest(name string, wantReply bool, payload []byte) (bool, error) {
	ok, err := s.Channel.SendRequest(name, wantReply, payload)
	if ok && err == nil {
		s.granted(name)
	}
	return ok, err
}

// granted notes what kind of session it is.
func (s *session) granted(request string) {
	s.asked.Lock()
	defer s.asked.Unlock()
	switch request {
	case "pty-req":
		s.isPty = true
	case "shell", "exec":
		if s.isPty {
			s.word = credential.NewToken()
		}
	}
}

// name is the word for the session; "": it has no terminal.
func (s *session) name() string {
	s.asked.Lock()
	defer s.asked.Unlock()
	return s.word
}

// Write types.
func (s *session) Write(p []byte) (n int, err error) {
	s.in.Lock()
	defer s.in.Unlock()
	if s.terminal != nil {
		if n, err = s.terminal.Write(p); err == nil {
			s.link.use()
			return n, nil
		}
		s.terminal = nil // it is being given back: the rest takes the other way
	}
	m, err := s.Channel.Write(p[n:])
	s.typed += uint64(m)
	if err == nil && time.Now().After(s.next) && !s.link.together.Load() {
		if word := s.name(); word != "" {
			s.next = time.Now().Add(handOverAgain)
			go s.ask(word)
		}
	}
	return n + m, err
}

// ask asks for the terminal. What is typed meanwhile waits.
func (s *session) ask(word string) {
	s.out.Lock()
	ready := s.to != nil && !s.ended
	s.out.Unlock()
	s.in.Lock()
	if !ready {
		s.next = time.Time{}
		s.in.Unlock()
		return
	}
	t, stream, from, err := s.handOver(word)
	if err == nil {
		s.terminal = t
	}
	var refused *ssh.OpenChannelError
	if errors.As(err, &refused) && refused.Reason == ssh.UnknownChannelType {
		s.next = time.Now().Add(never) // the agent is of an earlier version
	}
	s.in.Unlock()
	if err == nil {
		s.show(t, stream, from)
	}
}

// handOver gets the terminal, with how many bytes go through the channel before what it prints.
func (s *session) handOver(word string) (t *handed.Terminal, stream *net.UnixConn, from uint64, err error) {
	if !s.named {
		s.named = true
		if _, err := s.Channel.SendRequest(wire.HandOver, false, []byte(word)); err != nil {
			return nil, nil, 0, err
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), handOverLimit)
	defer cancel()
	g, err := s.link.obtain(ctx, wire.HandOver, ssh.Marshal(wire.HandOverRequest{Word: word, Typed: s.typed}), 2)
	if err != nil {
		return nil, nil, 0, err
	}
	if t, err = g.place.Terminal(g.fds); err != nil {
		g.stream.Close()
		return nil, nil, 0, err
	}
	var b [8]byte
	_ = g.stream.SetReadDeadline(time.Now().Add(handOverLimit))
	if _, err := io.ReadFull(g.stream, b[:]); err != nil {
		t.GiveBack(g.stream)
		return nil, nil, 0, fmt.Errorf("read how much was printed before: %w", err)
	}
	_ = g.stream.SetReadDeadline(time.Time{})
	return t, g.stream, binary.BigEndian.Uint64(b[:]), nil
}

// show prints what the terminal says until it is given back.
func (s *session) show(t *handed.Terminal, stream *net.UnixConn, from uint64) {
	back := sync.OnceFunc(func() {
		t.Interrupt()
		s.in.Lock()
		if s.terminal == t {
			s.terminal = nil
		}
		s.in.Unlock()
		t.GiveBack(stream)
	})
	defer back()
	go func() { // the agent says nothing more, and ends its side where it wants the terminal
		_, _ = stream.Read(make([]byte, 1))
		t.Interrupt()
		s.out.Lock()
		defer s.out.Unlock()
		s.moved.Broadcast()
	}()
	if !s.hasShown(from, t) {
		return
	}
	k := keeper{settle: func() { _ = t.Settle(stream) }, stalled: back}
	b := make([]byte, handed.Longest)
	t.Idle(idleTerminal)
	for {
		printed, err := t.Read(b)
		if errors.Is(err, os.ErrDeadlineExceeded) && t.Idle(idleTerminal) {
			continue
		}
		if err != nil {
			s.judge(err)
			return
		}
		k.begin()
		err = s.print(printed)
		k.end()
		if err == nil && t.Full() {
			err = t.Settle(stream)
		}
		if err != nil {
			return
		}
	}
}

// judge has the terminal not be asked for again where it was not at its end, nor wanted back: a kernel may not
// be able to do what is needed, and who handed it over may do too much.
func (s *session) judge(end error) {
	for _, proper := range []error{os.ErrDeadlineExceeded, os.ErrClosed, io.EOF, unix.EIO} {
		if errors.Is(end, proper) {
			return
		}
	}
	s.in.Lock()
	defer s.in.Unlock()
	s.next = time.Now().Add(never)
}

// print prints what the terminal says, unless the end was printed already.
func (s *session) print(b []byte) error {
	s.out.Lock()
	defer s.out.Unlock()
	if s.ended {
		return io.EOF
	}
	_, err := s.to.Write(b)
	return err
}

// hasShown waits until so many bytes have gone through the channel.
func (s *session) hasShown(from uint64, t *handed.Terminal) bool {
	late := time.AfterFunc(handOverLimit, func() {
		t.Interrupt()
		s.out.Lock()
		defer s.out.Unlock()
		s.moved.Broadcast()
	})
	defer late.Stop()
	s.out.Lock()
	defer s.out.Unlock()
	for s.shown < from && !s.ended && !t.Interrupted() {
		s.moved.Wait()
	}
	return s.shown == from && !s.ended
}

// WriteTo prints all that comes, from wherever, to the end.
func (s *session) WriteTo(w io.Writer) (int64, error) {
	s.out.Lock()
	s.to = w
	s.out.Unlock()
	n, err := io.Copy(throughChannel{s}, s.Channel)
	s.end()
	return n, err
}

// end ends what is printed: nothing is after it.
func (s *session) end() {
	s.out.Lock()
	s.ended = true
	s.moved.Broadcast()
	s.out.Unlock()
	go func() { // what is being typed may wait
		s.in.Lock()
		defer s.in.Unlock()
		if s.terminal != nil {
			s.terminal.Interrupt()
		}
	}()
}

// Close ends the session.
func (s *session) Close() error {
	go s.end()
	return s.Channel.Close()
}

// throughChannel prints what comes through the channel.
type throughChannel struct{ *session }

// Write prints.
func (t throughChannel) Write(p []byte) (int, error) {
	t.out.Lock()
	defer t.out.Unlock()
	n, err := t.to.Write(p)
	t.shown += uint64(n)
	t.moved.Broadcast()
	return n, err
}
